"""Logs of recorded use in files: JSON Lines, or Parquet with the same columns; read in batches, or collected."""

import json
from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

from msgspec.json import decode, encode

from enthesis.cleaning.usage import Summing, Usage
from enthesis.files.atomic_files import fresh_file
from enthesis.model.addresses import account_of
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.model.extras import extra
from enthesis.ports import Connected, RecordsUse, Reporter
from enthesis.proposals.wanted import holders
from enthesis.text.times import time_text

VERSION = 1
NOT_ASKED = "https://localhost"  # of a cluster of which only a log is read
PARQUET = ".parquet"
BATCH = 1_000_000  # rows
MAX_LINE = 1_000_000  # bytes
COLUMNS = ("time", "caller", "identity", "verb", "target", "outcome", "at", "onto", "origin", "through", "network",
           "mfa", "reference", "session_age", "refused_at", "statement")  # fmt: skip
NESTED = ("origin", "through", "refused_at")  # written as JSON into columns
TAKEN = b"taken"  # the key in a file's metadata under which it says when it was taken


def read_usage(paths: Iterable[Path], estate: Estate, now: datetime, *, chains: bool = False) -> Usage:
    """Logs summed up for an estate; with `chains` also how each chain began and what it passed, and what each keyed
    credential did. InvalidInput where a file is not one, or a library for it is missing."""
    summing = Summing(estate, now)
    for path in paths:
        if not path.is_file():
            raise InvalidInput(f"{path} cannot be read: no such file", code="file-unreadable")
        if path.suffix == PARQUET:
            _read_parquet(path, summing, chains=chains)
        else:
            with path.open("rb") as lines:
                for line in lines:
                    if line.strip():
                        summing.add_row(_parsed(line))
    return summing.usage


def _parsed(line: bytes) -> Any:
    try:
        return decode(line) if len(line) <= MAX_LINE else None
    except (ValueError, RecursionError):
        return None


def _read_parquet(path: Path, summing: Summing, *, chains: bool) -> None:
    """Batch after batch, each grouped by what is alike."""
    pyarrow, parquet = _pyarrow()
    wanted = ["time", "identity", "verb", "target", "outcome"]
    try:
        file = parquet.ParquetFile(path)
        missing = [name for name in wanted if name not in file.schema_arrow.names]
        if missing:
            raise InvalidInput(f"{path} has no column {', '.join(missing)}", code="usage-invalid")
        more = [name for name in ("onto", "origin", "through") if chains and name in file.schema_arrow.names]
        wanted += more
        summing.taken((file.schema_arrow.metadata or {}).get(TAKEN, b"").decode("utf-8", "replace"))
        for batch in file.iter_batches(batch_size=BATCH, columns=wanted):
            table = _with_seconds(pyarrow, pyarrow.Table.from_batches([batch]))
            table = _past(summing, table)
            grouped = table.group_by(wanted[1:]).aggregate([("time", "min"), ("time", "max"), ("time", "count")])
            columns = [grouped[name].to_pylist() for name in ("time_min", "time_max", "time_count", *wanted[1:])]
            for first, last, count, *told in zip(*columns, strict=True):
                identity, verb, target, outcome = told[:4]
                nested = {name: _nested(value) for name, value in zip(more, told[4:], strict=True)}
                summing.add((identity, verb, target, outcome), first, last, count, **nested)
    except (pyarrow.ArrowException, OSError) as fault:
        raise InvalidInput(f"{path} is not a Parquet file that can be read: {fault}", code="usage-invalid") from None


def _nested(value: Any) -> Any:
    """A value of a column, which may be JSON."""
    return _parsed(value.encode()) if isinstance(value, str) and value[:1] in ("{", "[") else value


def _past(summing: Summing, table: Any) -> Any:
    """The rows with a time that has come; the others are counted."""
    from pyarrow import compute  # noqa: PLC0415  as pyarrow itself

    come = compute.less_equal(table["time"], summing.latest)
    timeless, kept = table["time"].null_count, table.filter(compute.fill_null(come, False))
    summing.ignore("the time is none", timeless)
    summing.ignore("the time is in the future", len(table) - len(kept) - timeless)
    return kept


def _with_seconds(pyarrow: Any, table: Any) -> Any:
    """The table with its times as seconds since 1970, whether they are timestamps or texts."""
    from pyarrow import compute  # noqa: PLC0415  as pyarrow itself

    times = table["time"]
    if pyarrow.types.is_string(times.type) or pyarrow.types.is_large_string(times.type):
        plain = compute.replace_substring(times, "Z", "")
        times = compute.strptime(plain, format="%Y-%m-%dT%H:%M:%S", unit="s", error_is_null=True)
    if pyarrow.types.is_timestamp(times.type):
        times = compute.cast(compute.cast(times, pyarrow.timestamp("us")), pyarrow.int64())
        times = compute.divide(compute.cast(times, pyarrow.float64()), 1e6)
    return table.set_column(table.schema.get_field_index("time"), "time", compute.cast(times, pyarrow.float64()))


def _pyarrow() -> tuple[Any, Any]:
    with extra("parquet", "Parquet", "use JSON Lines"):
        import pyarrow  # noqa: PLC0415  only Parquet needs it
        from pyarrow import parquet  # noqa: PLC0415
    return pyarrow, parquet


# -- collected from live systems ------------------------------------------------------------------------------------


def collected(estate: Estate, connected: Connected, reporter: Reporter) -> Iterator[dict[str, Any]]:
    """The rows that the providers and clusters of an estate have recorded."""
    seen: set[str] = set()
    reporter.begin("collecting use", 0)
    try:
        for name, system in {**connected.providers, **connected.clusters}.items():
            if isinstance(system, RecordsUse):
                reporter.step(name)
                for row in system.usage(holders(estate, name) if name in estate.providers else ()):
                    shared = json.dumps(row) if str(row.get("at", "")).startswith("@") else ""
                    if shared not in seen:  # every provider knows of sign-ins
                        yield dict(row)
                    seen.update({shared} - {""})
    finally:
        reporter.end()


def from_audit_logs(logs: Mapping[str, Path], estate: Estate, reporter: Reporter) -> Iterator[dict[str, Any]]:
    """The rows for audit logs of clusters, by the place of each. InvalidInput for a place that is not one."""
    from enthesis.connectors.cluster.auditing import usage_rows  # noqa: PLC0415  only this needs clusters
    from enthesis.connectors.cluster.surveying import Cluster  # noqa: PLC0415
    from enthesis.connectors.http import Client  # noqa: PLC0415

    reporter.begin("reading audit logs", len(logs))
    for address, path in logs.items():
        account = account_of(address)
        if account not in estate.accounts or address.split("/")[1:2] != ["cluster"]:
            raise InvalidInput(
                f"{address} is not a cluster", code="cluster-unknown", remedy="name its place: ACCOUNT/cluster/NAME"
            )
        if not path.is_file():
            raise InvalidInput(f"{path} cannot be read: no such file", code="file-unreadable")
        reporter.step(address)
        cluster = Cluster(address, estate.organisation_of(account), Client(address, NOT_ASKED), None)
        with path.open("rb") as lines:
            yield from map(dict, usage_rows(map(_parsed, lines), cluster))
    reporter.end()


def write_usage(path: Path, rows: Iterable[dict[str, Any]], estate: str, now: datetime) -> int:
    """Writes rows into a file, whole or not at all; how many."""
    if path.suffix == PARQUET:
        return _write_parquet(path, list(rows), now)
    count = 0
    header = {"enthesis": "usage", "version": VERSION, "taken": time_text(now), "estate": estate}
    with fresh_file(path) as file:
        file.write(encode(header) + b"\n")
        for row in rows:
            file.write(encode(row) + b"\n")
            count += 1
    return count


def _write_parquet(path: Path, rows: list[dict[str, Any]], now: datetime) -> int:
    pyarrow, parquet = _pyarrow()
    plain = [{**row, **{name: json.dumps(row[name]) for name in NESTED if name in row}} for row in rows]
    columns = {name: [row.get(name) for row in plain] for name in COLUMNS}
    table = pyarrow.table(columns)
    parquet.write_table(table.replace_schema_metadata({TAKEN: time_text(now).encode()}), path)
    return len(rows)

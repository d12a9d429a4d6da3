"""What reading a large log costs against a bare scan of it, and whether the least is proven on random estates.

python bench/trimming.py [--rows 10000000] [--estates 200] [--seconds 60] [--most 20]
"""

import argparse
import resource
import sys
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import pyarrow as pa
from pyarrow import parquet

sys.path.insert(0, str(Path(__file__).parent.parent))

from enthesis.cleaning.narrowing import narrowest
from enthesis.files.folder import read_texts
from enthesis.live.usage_logs import read_usage
from tests.accounts import account

NOW = datetime(2026, 11, 26, tzinfo=UTC)
IDENTITIES, TARGETS, VERBS = 1_000, 100, ("read",)  # 100,000 distinct requests
BATCH = 1_000_000


def write_log(path: Path, rows: int) -> None:
    """A log of so many rows, in no order."""
    rng = np.random.default_rng(5)
    identities = pa.array([f"left/identity/i{number}" for number in range(IDENTITIES)])
    targets = pa.array([f"left/bucket/b{number}/object/x" for number in range(TARGETS)])
    schema = pa.schema(
        [
            ("time", pa.timestamp("us", "UTC")),
            *((name, pa.string()) for name in ("caller", "identity", "verb", "target", "outcome")),
        ]
    )
    with parquet.ParquetWriter(path, schema) as out:
        for start in range(0, rows, BATCH):
            count = min(BATCH, rows - start)
            who = identities.take(pa.array(rng.integers(0, IDENTITIES, count)))
            what = targets.take(pa.array(rng.integers(0, TARGETS, count)))
            seconds = int((NOW - timedelta(days=400)).timestamp()) + rng.integers(0, 399 * 86400, count)
            times = pa.array(seconds * 1_000_000).cast(pa.timestamp("us", "UTC"))
            same = [pa.array([word] * count) for word in ("read", "allowed")]
            out.write_table(pa.table([times, who, who, same[0], what, same[1]], schema=schema))


def reading(rows: int) -> None:
    estate = read_texts(
        {
            "estate.yaml": "estate: big\norganisations: {one: {}}\nproviders: {north: {style: one-sided}}\n"
            "accounts: {left: {in: '@one', provider: north}}\nidentities:\n"
            + "".join(f"  left/identity/i{number}: {{kind: service-account}}\n" for number in range(IDENTITIES))
        }
    ).estate
    assert estate is not None
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "log.parquet"
        write_log(path, rows)
        began = time.perf_counter()
        table = parquet.read_table(path, columns=["time", "identity", "verb", "target", "outcome"])
        keys = ["identity", "verb", "target", "outcome"]
        table.group_by(keys).aggregate([("time", "min"), ("time", "max"), ("time", "count")])
        bare = time.perf_counter() - began
        del table
        began = time.perf_counter()
        usage = read_usage([path], estate, NOW)
        took = time.perf_counter() - began
        assert sum(used.count for used in usage.used.values()) == rows, usage.ignored
    print(f"a log of {rows} rows in Parquet, {len(usage.used)} distinct requests")
    print(f"  bare scan and group  {bare:6.1f} s")
    print(f"  read and summed up   {took:6.1f} s  {took / bare:.1f} times that (at most 5 wanted)")
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20
    print(f"  memory               {memory:6.1f} GiB at most (2 wanted)")


SIZES = ((3, 7), (8, 10), (11, 13), (14, 20))  # identities that differ


def narrowing(estates: int, seconds: float, most: int) -> None:
    """Random accounts of up to 60 permissions and 12 roles, with five new roles."""
    found: dict[tuple[int, int], list[tuple[float | None, float]]] = {size: [] for size in SIZES}
    for seed in range(estates):
        seats, roles = account(seed, most)
        began = time.perf_counter()
        gap = narrowest(seats, roles, 5, seconds).gap
        size = next(size for size in SIZES if size[0] <= len(seats) <= size[1])
        found[size].append((gap, time.perf_counter() - began))
    print(
        f"{estates} random accounts of up to 60 permissions and 12 roles, five new roles at most, {seconds:.0f} s each"
    )
    for (least, limit), its in found.items():
        if not its:
            continue
        proven = [took for gap, took in its if gap == 0]
        print(f"  {least} to {limit} identities: {len(proven)} of {len(its)} proven to be the least, "
              f"the slowest in {max(proven, default=0):.1f} s; the others within "
              f"{max((gap or 0.0 for gap, _ in its), default=0):.0%}")  # fmt: skip


def main() -> None:
    wanted = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    wanted.add_argument("--rows", type=int, default=10_000_000)
    wanted.add_argument("--estates", type=int, default=200)
    wanted.add_argument("--seconds", type=float, default=60)
    wanted.add_argument("--most", type=int, default=20, help="identities of an account")
    given = wanted.parse_args()
    if given.rows:
        reading(given.rows)
    if given.estates:
        narrowing(given.estates, given.seconds, given.most)


if __name__ == "__main__":
    main()

"""`enthesis survey`: reads the live systems into a file."""

import atexit
import os
import sys
import tempfile
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from hashlib import sha256
from importlib.metadata import entry_points
from pathlib import Path
from typing import Annotated

import typer
from msgspec.json import decode

from enthesis.cli.histories import StoreOption, journal_if_any, keep_if_any, signed_in
from enthesis.cli.options import (
    DatabaseOption,
    DirectoryOption,
    EstateOption,
    Format,
    FormatOption,
    HostOption,
    QuietOption,
    named_files,
    named_places,
)
from enthesis.cli.questions import agreed, by_clock_of, now
from enthesis.cli.subjects import read_estate
from enthesis.connectors.cluster.refreshing import Refreshed
from enthesis.connectors.cluster.surveying import Cluster
from enthesis.files.atomic_files import fresh_file
from enthesis.files.finding import estate_folder, find_estate
from enthesis.live.adopting import SystemToAdopt, place_to_adopt
from enthesis.live.adopting import adopt as take_over
from enthesis.live.adopting_accounts import found_at, mark, write
from enthesis.live.asking import as_it_is, surveyed_clouds
from enthesis.live.clocks import clock_for
from enthesis.live.connecting import (
    Given,
    cluster_of,
    clusters_reached,
    connect,
    database_at,
    databases_reached,
    directory_at,
    host_copy,
    hosts_reached,
    own_database,
)
from enthesis.live.surveying import WHOLE, Writing, head_of
from enthesis.live.surveying import survey as survey_clouds
from enthesis.model.errors import InvalidInput, StoppedPartWay
from enthesis.model.escapes import word
from enthesis.model.estate import Estate
from enthesis.output.estates import counts_text
from enthesis.output.lines import Span, counted, line
from enthesis.output.progress import reporter
from enthesis.output.streams import put_json, put_lines, remark
from enthesis.output.surveys import adoption_lines, comparison_json, comparison_lines
from enthesis.ports import Record, Surveys
from enthesis.proposals.wanted import kept_where
from enthesis.surveys.survey import InvalidSurvey, no_collecting
from enthesis.surveys.unread import Unread, not_lived_with, systems_not_read

GROUP = "enthesis.surveys"  # entry points of further connectors
MOST = 12  # lines about what was left out
MOST_KEPT = 50_000_000  # bytes of a survey that the store keeps too
SURVEY, PROOF = "survey", "proof"  # what the store keeps
DIGEST = "sha-256:"


@dataclass(frozen=True)
class ClusterOptions:
    """How clusters are reached, and which of their namespaces are read."""

    kubeconfig: Path | None
    context: str | None
    namespaces: tuple[str, ...]


def survey(
    cluster: Annotated[
        list[str] | None,
        typer.Option("--cluster", metavar="ADDRESS", help="Survey this cluster, e.g. surge/cluster/grid."),
    ] = None,
    further: Annotated[
        list[str] | None,
        typer.Option("--with", metavar="NAME=ADDRESS", help="Survey this place with an installed connector."),
    ] = None,
    namespace: Annotated[
        list[str] | None,
        typer.Option(
            "--namespace", metavar="NAME", help="Only read this namespace of a cluster; this needs fewer rights."
        ),
    ] = None,
    issuer: Annotated[
        list[str] | None,
        typer.Option("--issuer", metavar="NAME|URL", help="Also read the published keys of this issuer."),
    ] = None,
    database: DatabaseOption = None,
    directory: DirectoryOption = None,
    host: HostOption = None,
    kubeconfig: Annotated[
        Path | None,
        typer.Option(
            "--kubeconfig", metavar="FILE", help="The kubeconfig to use (default: KUBECONFIG, or ~/.kube/config)."
        ),
    ] = None,
    context: Annotated[
        str | None,
        typer.Option(
            "--context", metavar="NAME", help="Use this context of the kubeconfig (default: its current context)."
        ),
    ] = None,
    adopt: Annotated[
        str | None,
        typer.Option(
            "--adopt",
            metavar="ADDRESS",
            help="Write what a cluster, database, host or account has into the estate.",
        ),
    ] = None,
    compared_with: Annotated[
        str | None,
        typer.Option(
            "--compared-with", metavar="FILE|DIGEST", help="Show what changed since this survey; write no file."
        ),
    ] = None,
    since: Annotated[
        Path | None,
        typer.Option("--since", metavar="FILE", help="Read only what changed in a cluster since this survey of it."),
    ] = None,
    survey_file: Annotated[
        Path | None,
        typer.Option("--survey", metavar="FILE", help="With --compared-with: the later survey (default: survey now)."),
    ] = None,
    expect_none: Annotated[
        bool, typer.Option("--expect-none", help="With --compared-with: exit 1 if anything changed.")
    ] = False,
    output: FormatOption = Format.TEXT,
    out: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="Write the survey to FILE (default: standard output).")
    ] = None,
    estate: EstateOption = None,
    usage: Annotated[
        Path | None,
        typer.Option("--usage", metavar="FILE", help="Write recorded use to FILE as JSON Lines or *.parquet."),
    ] = None,
    audit_log: Annotated[
        list[str] | None,
        typer.Option(
            "--audit-log", metavar="ADDRESS=FILE", help="With --usage: read a cluster's use from its audit log."
        ),
    ] = None,
    kept: Annotated[bool, typer.Option("--kept", help="List the surveys and proofs in the store.")] = False,
    store: StoreOption = None,
    yes: Annotated[bool, typer.Option("--yes", help="With --adopt ACCOUNT: do not ask.")] = False,
    quiet: QuietOption = False,
) -> None:
    """Read live systems into a survey file, which every question can be asked of.

    Needs the right to read: of a cluster, to list what is in it (of secrets, their names); of clouds, their
    statements; of an issuer, none; of a host, a copy of its files. Changes nothing. Exit 3 where something could not
    be read; the file says what.

    With --adopt, what a cluster, database or host has and the estate does not describe is written into the estate's
    files instead; none of them is changed. What an account or organisation has at a provider is also marked there as
    this estate's, which needs the right to change it.
    """
    if kept:
        _put_kept(estate, store, output)
        return
    if usage is not None:
        _collect(estate, usage, named_files(audit_log, "--audit-log"), quiet=quiet)
        return
    _refuse_conflicts(compared_with, adopt=adopt, out=out, later=survey_file, expect_none=expect_none, output=output)
    before = _earlier(compared_with, estate, store) if compared_with is not None else []
    if compared_with is not None and survey_file is not None:
        after = _lines_of(survey_file)
        _put_comparison(before, after, (compared_with, str(survey_file)), output, expect_none=expect_none)
        return
    files, copies = named_files(database, "--database"), named_places(host, "--host", "ADDRESS=DIR")
    if adopt is not None:
        reached = ClusterOptions(kubeconfig, context, ())
        _adopt(
            estate_folder(estate),
            adopt,
            reached,
            {**{name: str(file) for name, file in files.items()}, **copies},
            yes=yes,
            quiet=quiet,
        )
        return
    by_name = any("://" not in name for name in issuer or ())
    people = named_files(directory, "--directory")
    named = bool(cluster or issuer or further or files or people or copies)
    described, folder = _estate(estate, needed=by_name or not named)
    copies = copies if named or described is None or folder is None else hosts_reached(described, folder)
    systems: list[Surveys] = [_issuer(name, described, folder) for name in issuer or ()]
    systems += [_installed(name) for name in further or ()]
    head: list[Record] = list(head_of(described)) if described is not None else []
    for address in files:
        head += _head_of_account(address, "database", described)
    systems += [database_at(address, file) for address, file in files.items()]
    for address in copies:
        head += _head_of_account(address, "host", described)
    systems += [host_copy(described, address, place, _fetching(address)) for address, place in copies.items()]
    for name, file in people.items():
        known = described.organisations.get(name.removeprefix("@")) if described is not None else None
        systems.append(directory_at(name, file, known.people if known is not None else None))
        head += [] if known is not None else [{"section": "organisations", "name": name.removeprefix("@"), "units": []}]
    if cluster or not named:
        reached = ClusterOptions(kubeconfig, context, tuple(namespace or ()))
        found, more = _systems(described, folder, cluster or [], reached, quiet=quiet)
        systems, head = [*systems, *found], [*as_it_is(head, found), *more]
    if since is not None:
        systems = [_read_on(system, since) for system in systems]
    missing = [] if named or described is None else _missing(described, systems)
    writing = Writing(described.name if described else None, now(), systems, missing)
    if compared_with is not None:
        lines_now = list(writing.lines(head, reporter(quiet=quiet)))
        _put_comparison(before, lines_now, (compared_with, "the live side"), output, expect_none=expect_none)
        return
    with no_collecting():  # what is read has no cycles, and is let go of line by line
        _write(out, writing.lines(head, reporter(quiet=quiet)))
    _told(writing, quiet=quiet)
    if out is not None and described is not None and folder is not None and out.stat().st_size <= MOST_KEPT:
        digest = keep_if_any(folder, store, described.name, SURVEY, out.read_bytes())
        remark(f"Kept as {digest}." if digest else "", quiet=quiet or not digest)
    if not writing.complete:
        raise typer.Exit(3)


def _fetching(address: str) -> Path:
    """A folder for what is fetched of a host, which is gone when the command ends."""
    place = tempfile.TemporaryDirectory(prefix="enthesis-host-")
    atexit.register(place.cleanup)
    return Path(place.name)


def _missing(described: Estate, systems: Sequence[Surveys]) -> list[Unread]:
    """What an estate has statements for and is not surveyed, but for what it lives with."""
    found = systems_not_read(kept_where(described), {system.name for system in systems})
    return list(not_lived_with(found, described.accepted, now()))


def _adopt(
    folder: Path, address: str, reached: ClusterOptions, given: Mapping[str, str], *, yes: bool, quiet: bool
) -> None:
    """Takes over what an account, organisation, cluster, database or host has. Exit 3 where something is left out."""
    described = read_estate(folder)
    if "/" not in address.removeprefix("@"):
        _adopt_account(described, folder, address, yes=yes, quiet=quiet)
        return
    adopted, whole = take_over(
        described, folder, address, _to_adopt(described, folder, address, reached, given), remark
    )
    how, counts = "Adopted" if whole else "Adopted in part", counts_text(adopted)
    remark(f"{how} from {address}: {counts or 'nothing that was not described'}.", quiet=quiet)
    if not whole:
        raise typer.Exit(3)


def _to_adopt(
    described: Estate, folder: Path, address: str, reached: ClusterOptions, given: Mapping[str, str]
) -> SystemToAdopt:
    """The cluster, database or host that is taken over. `given` says by address how a database is reached, and where
    the copy of a host is."""
    system = place_to_adopt(described, address)
    if "/host/" in system:
        if system not in given:
            raise InvalidInput(
                f"nothing says what {system} has",
                code="system-not-connected",
                remedy=f"name a copy of its files: --host {word(system)}=DIR",
            )
        return host_copy(described, system, given[system], _fetching(system))
    if "/cluster/" in system:
        organisation = described.organisation_of(system)
        return cluster_of(system, organisation, folder, reached.kubeconfig, reached.context, dict(os.environ))
    own_database(described, system)
    if system in given:
        return database_at(system, Path(given[system]))
    of_lab = {one.name: one for one in databases_reached(described, folder)}
    if system not in of_lab:
        raise InvalidInput(
            f"nothing says how {system} is reached",
            code="system-not-connected",
            remedy=f"name a file with its connection string: --database {word(system)}=FILE",
        )
    return of_lab[system]


def _adopt_account(described: Estate, folder: Path, holder: str, *, yes: bool, quiet: bool) -> None:
    """Takes over what an account or organisation has at its provider, once that is agreed to."""
    person = signed_in(described, folder)
    connected = connect(described, folder, Given(acting=person.secret if person is not None else None))
    surveys = survey_clouds(described, replace(connected, clusters={}, databases={}), reporter(quiet=quiet))
    found = found_at(described, surveys, holder)
    put_lines(adoption_lines(found), to_error=True)
    if not found.candidates:
        return
    agreed("Write this into the files, and mark it as this estate's?", yes=yes)
    adopted = write(folder, found)
    marked, failed = mark(folder, found, surveys, connected, remark)
    counts = counts_text(adopted) or "nothing that was not described"
    remark(f"Adopted from {holder}: {counts}; {counted(marked, 'statement')} marked as this estate's.", quiet=quiet)
    if failed:
        raise StoppedPartWay(
            f"{counted(failed, 'statement')} could not be marked",
            code="stopped-part-way",
            remedy="run the same again: it marks what is left",
        )


def _refuse_conflicts(
    compared_with: str | None, *, adopt: str | None, out: Path | None, later: Path | None, expect_none: bool,
    output: Format,
) -> None:  # fmt: skip
    """InvalidInput where options need --compared-with, or exclude it."""
    if compared_with is None and (later is not None or expect_none or output is not Format.TEXT):
        raise InvalidInput(
            "--survey, --expect-none and --format are for a comparison",
            code="options-conflict",
            remedy="add --compared-with FILE; a survey itself is JSON Lines",
        )
    if compared_with is not None and (adopt is not None or out is not None):
        raise InvalidInput(
            "a comparison writes no survey", code="options-conflict", remedy="leave out --out and --adopt"
        )


def _collect(estate: Path | None, file: Path, logs: Mapping[str, Path], *, quiet: bool) -> None:
    """Writes what providers and clusters have recorded of the use of access, or what audit logs of clusters say."""
    from enthesis.live.usage_logs import collected, from_audit_logs, write_usage  # noqa: PLC0415  only this needs it

    folder = estate_folder(estate)
    described = read_estate(folder)
    progress = reporter(quiet=quiet)
    if logs:
        rows = from_audit_logs(logs, described, progress)
    else:
        rows = collected(described, connect(described, folder), progress)
    count = write_usage(file, rows, described.name, clock_for(described, folder).now() if not logs else now())
    remark(f"{counted(count, 'request')} written to {file}.", quiet=quiet)


def _put_kept(estate: Path | None, store: str | None, output: Format) -> None:
    """Lists what the store keeps of what was seen and tried."""
    place = estate_folder(estate)
    name = read_estate(place).name
    journal = journal_if_any(place, store)
    try:
        every = journal.kept(name, (SURVEY, PROOF)) if journal is not None else []
    finally:
        if journal is not None:
            journal.close()
    if output is Format.JSON:
        put_json({"estate": name, "kept": [asdict(document) for document in every]})
        return
    told = (
        f"{document.made}  {document.kind.ljust(6)}  {document.digest}  {counted(document.size, 'byte')}"
        for document in every
    )
    put_lines(map(line, [f"{name}: {counted(len(every), 'survey or proof', 'surveys and proofs')} kept.", *told]))


def _lines_of(path: Path) -> Iterator[bytes]:
    """The lines of a file, one after another; InvalidInput where there is none."""
    if not path.is_file():
        raise InvalidInput(f"{path} cannot be read: no such file", code="file-unreadable")

    def read() -> Iterator[bytes]:
        with path.open("rb") as lines:
            yield from lines

    return read()


def _earlier(named: str, estate: Path | None, store: str | None) -> Iterable[bytes]:
    """The lines of an earlier survey: a file, or one that the store keeps, by the beginning of its digest."""
    if not named.startswith(DIGEST) or Path(named).exists():
        return _lines_of(Path(named))
    place = estate_folder(estate)
    journal = journal_if_any(place, store)
    try:
        kept = journal.kept(read_estate(place).name, (SURVEY,)) if journal is not None else []
        found = {document.digest for document in kept if document.digest.startswith(named)}
        content = journal.document(found.pop()) if journal is not None and len(found) == 1 else None
    finally:
        if journal is not None:
            journal.close()
    if content is None:
        raise InvalidInput(
            f"the store keeps no survey {named}, or several whose digests begin like this",
            code="survey-unknown",
            remedy="enthesis survey --kept lists them",
        )
    return content.splitlines(keepends=True)


def _put_comparison(
    before: Iterable[bytes], after: Iterable[bytes], names: tuple[str, str], output: Format, *, expect_none: bool
) -> None:
    """Says what changed since a survey."""
    from enthesis.surveys.comparing import compare  # noqa: PLC0415  only a comparison needs it

    try:
        found = compare(before, after, names)
    except InvalidSurvey as fault:
        raise InvalidInput(str(fault), code="survey-invalid") from None
    if output is Format.JSON:
        put_json(comparison_json(found))
    else:
        put_lines(comparison_lines(found))
    if not found.complete:
        raise typer.Exit(3)
    if expect_none and found.differs:
        raise typer.Exit(1)


def _read_on(system: Surveys, since: Path) -> Surveys:
    """A cluster that is read on from an earlier survey of it alone; anything else is read from the beginning."""
    if not isinstance(system, Cluster):
        remark(f"{system.name} is read from the beginning: only clusters tell what changed.")
        return system
    lines = list(_lines_of(since))
    try:
        header, ends, end = (decode(line) for line in (lines[0], lines[-2], lines[-1]))
        of, head = header["of"], int(header.get("head", 0))
        same = len(of) == 1 and of[0]["name"] == system.name and tuple(of[0].get("namespaces", ())) == system.only
        if header.get("enthesis") != "survey" or not end.get("end") or not isinstance(ends, dict):
            raise ValueError(since)
    except (ValueError, TypeError, KeyError, IndexError, AttributeError, RecursionError):
        raise InvalidInput(f"{since} is not a survey", code="survey-invalid") from None
    if not same:
        remark(f"{system.name} is read from the beginning: {since} is a survey of other systems, or of more of them.")
        return system
    return Refreshed(system, ends, _parsed(since, lines, end, head), remark)


def _parsed(since: Path, lines: Sequence[bytes], end: Record, head: int) -> Iterator[Record]:
    """What an earlier survey says of the systems, but for its last record; InvalidInput where it was changed since."""
    if end.get("digest") != DIGEST + sha256(b"".join(lines[:-1])).hexdigest():
        message = f"the lines of {since} are not those that were written"
        raise InvalidInput(message, code="survey-invalid", remedy="survey without --since")
    yield from map(decode, lines[1 + head : -2])


def _estate(given: Path | None, *, needed: bool) -> tuple[Estate | None, Path | None]:
    """The estate, if there is one; a survey of a cluster needs none."""
    if given is None and not needed and find_estate(Path.cwd()) is None:
        return None, None
    try:
        folder = estate_folder(given)
    except InvalidInput as fault:
        remedy = "a cluster can be surveyed without one: --cluster ACCOUNT/cluster/NAME"
        raise InvalidInput(fault.message, code="estate-needed", remedy=remedy) from None
    described = read_estate(folder)
    by_clock_of(described, folder)
    return described, folder


def _systems(
    estate: Estate | None,
    folder: Path | None,
    clusters: list[str],
    reached: ClusterOptions,
    *,
    quiet: bool,
) -> tuple[list[Surveys], list[Record]]:
    """What is surveyed, and what is known of it from elsewhere."""
    head: list[Record] = []
    systems: list[Surveys] = []
    if not clusters and estate is not None and folder is not None:
        systems += surveyed_clouds(estate, folder, reporter(quiet=quiet))
        clusters = clusters_reached(estate, folder)
        systems += databases_reached(estate, folder)
    for address in clusters:
        head += _head_of_account(address, "cluster", estate)
        account = address.split("/", 1)[0]
        organisation = estate.organisation_of(account) if estate is not None and account in estate.accounts else "here"
        found = cluster_of(address, organisation, folder, reached.kubeconfig, reached.context, dict(os.environ))
        found.only = reached.namespaces
        systems.append(found)
    return systems, head


def _installed(pair: str) -> Surveys:
    """A connector of another package, found by the name of its entry point."""
    name, equals, address = pair.partition("=")
    found = {point.name: point for point in entry_points(group=GROUP)}
    if not equals or name not in found:
        known = ", ".join(sorted(found)) or "none"
        raise InvalidInput(
            f"no connector is installed for {name}",
            code="connector-unknown",
            remedy=f"expected NAME=ADDRESS; installed: {known}",
        )
    made: Surveys = found[name].load()(address)
    return made


def _issuer(named: str, estate: Estate | None, folder: Path | None) -> Surveys:
    """An issuer that is asked for its keys: by its url, or one of the estate by name, whose url may be a lab's."""
    # only issuers need the libraries that these load
    from enthesis.connectors.keys import IssuerKeys  # noqa: PLC0415
    from enthesis.live.shown_tokens import addresses_of  # noqa: PLC0415

    if "://" in named:
        return IssuerKeys(named, named, time.monotonic)
    if estate is None or folder is None or named not in estate.issuers:
        raise InvalidInput(
            f"unknown issuer {named}", code="issuer-unknown", remedy="name one of the estate, or its https url"
        )
    addresses = addresses_of(estate, folder, named)
    if not addresses:
        raise InvalidInput(
            f"the issuer {named} has no url",
            code="issuer-without-url",
            remedy=f"add one at {estate.issuers[named].source}",
        )
    url = list(addresses)[-1]  # while a lab runs, the lab's stands in
    return IssuerKeys(named, url, time.monotonic, authority=addresses[url])


def _head_of_account(address: str, kind: str, estate: Estate | None) -> list[Record]:
    """What stands above a system that no estate describes; InvalidInput where the address is not one of that kind."""
    parts = address.split("/")
    if len(parts) != 3 or parts[1] != kind or not all(parts) or address.startswith("@"):
        message, remedy = f"{address} is not a {kind}", f"name its place: ACCOUNT/{kind}/NAME"
        if kind == "cluster":
            raise InvalidInput(message, code="cluster-unknown", remedy=remedy)
        if kind == "host":
            raise InvalidInput(message, code="host-unknown", remedy=remedy)
        raise InvalidInput(message, code="database-unknown", remedy=remedy)
    return _invented(parts[0]) if estate is None or parts[0] not in estate.accounts else []


def _invented(account: str) -> list[Record]:
    """The least that a cluster's account stands in, where no estate says more."""
    return [
        {"section": "organisations", "name": "here"},
        {"section": "providers", "name": "here", "style": "one-sided"},
        {"section": "accounts", "name": account, "in": "@here", "provider": "here"},
    ]


def _write(out: Path | None, lines: Iterable[bytes]) -> None:
    """Writes the lines as they come; into a file whole or not at all."""
    if out is None:
        for line in lines:
            sys.stdout.buffer.write(line)
        sys.stdout.buffer.flush()
        return
    with fresh_file(out) as file:
        file.writelines(lines)


def _told(writing: Writing, *, quiet: bool) -> None:
    """How much of each system was read, what was left out and what was found, on standard error; `quiet` only what
    was not read."""
    if quiet and writing.complete:
        return
    names = ", ".join(system.name for system in writing.systems)
    counts = counts_text(writing.counts)
    read = f"{counts or 'nothing'} read."
    partial = Span("Partial survey", "bad")
    lines = [line(f"Surveyed {names}: {read}") if writing.complete else line(partial, f" of {names}: {read}")]
    lines += [line("  ", Span(read, "bad" if read != WHOLE else "good"), f"  {name}") for name, read in
              writing.read.items() if len(writing.read) > 1 or read != WHOLE]  # fmt: skip
    those = (entry for entry in writing.left_out if entry.get("incomplete") or not quiet)
    left_out = list({(entry["left_out"], entry["why"]): entry for entry in those}.values())
    for entry in left_out[:MOST]:
        word = Span("not read", "bad") if entry.get("incomplete") else Span("left out", "doubt")
        lines.append(line("  ", word, f"  {entry['left_out']}: {entry['why']}"))
    if len(left_out) > MOST:
        lines.append(line(f"  … and {counted(len(left_out) - MOST, 'thing')} more that was left out"))
    if quiet:
        put_lines(lines, to_error=True)
        return
    for finding in writing.findings[:MOST]:
        lines.append(line("  ", Span("found", "bad"), f"  {finding['at']}: {finding['says']}  ({finding['finding']})"))
    if len(writing.findings) > MOST:
        lines.append(line(f"  … and {counted(len(writing.findings) - MOST, 'finding')} more"))
    put_lines(lines, to_error=True)

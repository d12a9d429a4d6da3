"""`enthesis survey`: reads the live systems into a file."""

import os
import sys
import time
from collections.abc import Iterable
from dataclasses import dataclass, replace
from importlib.metadata import entry_points
from pathlib import Path
from typing import Annotated, NoReturn

import typer

from enthesis.cli.options import EstateOption, Format, FormatOption, QuietOption
from enthesis.cli.questions import now
from enthesis.cli.subjects import read_estate
from enthesis.files.finding import estate_folder, find_estate
from enthesis.files.saving import fresh_file
from enthesis.live.adopting import adopt as take_over
from enthesis.live.connecting import cluster_of, clusters_of_lab, connect
from enthesis.live.surveying import SurveyedCloud, Writing, head_of
from enthesis.live.surveying import survey as survey_clouds
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.output.estates import counts_text
from enthesis.output.lines import Span, counted, line
from enthesis.output.progress import reporter
from enthesis.output.streams import put_json, put_lines, remark
from enthesis.output.surveys import comparison_json, comparison_lines
from enthesis.ports import KeepsKeys, Record, Surveys
from enthesis.surveys.survey import InvalidSurvey

GROUP = "enthesis.surveys"  # entry points of further connectors
MOST = 12  # lines about what was left out


@dataclass(frozen=True)
class Reached:
    """How clusters are reached, and which of their namespaces are read."""

    kubeconfig: Path | None
    context: str | None
    namespaces: tuple[str, ...]


def survey(
    cluster: Annotated[
        list[str] | None,
        typer.Option("--cluster", metavar="ADDRESS", help="A cluster by its place: ACCOUNT/cluster/NAME."),
    ] = None,
    further: Annotated[
        list[str] | None,
        typer.Option("--with", metavar="NAME=ADDRESS", help="A connector that is installed beside this program."),
    ] = None,
    namespace: Annotated[
        list[str] | None,
        typer.Option("--namespace", metavar="NAME", help="Of a cluster, only this namespace: fewer rights are needed."),
    ] = None,
    issuer: Annotated[
        list[str] | None,
        typer.Option("--issuer", metavar="NAME|URL", help="The published keys of an issuer, by name or https url."),
    ] = None,
    kubeconfig: Annotated[
        Path | None, typer.Option("--kubeconfig", metavar="FILE", help="How to reach it; default: as kubeconfigs go.")
    ] = None,
    context: Annotated[
        str | None, typer.Option("--context", metavar="NAME", help="A context of the kubeconfig; default: its current.")
    ] = None,
    adopt: Annotated[
        str | None,
        typer.Option("--adopt", metavar="ADDRESS", help="Write what is in a cluster or namespace into the estate."),
    ] = None,
    compared_with: Annotated[
        Path | None,
        typer.Option("--compared-with", metavar="FILE", help="Say what changed since this survey, and write none."),
    ] = None,
    survey_file: Annotated[
        Path | None,
        typer.Option("--survey", metavar="FILE", help="With --compared-with: the later survey; default: ask now."),
    ] = None,
    expect_none: Annotated[
        bool, typer.Option("--expect-none", help="With --compared-with: exit 1 where anything changed.")
    ] = False,
    output: FormatOption = Format.TEXT,
    out: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="Where to write; default: standard output.")
    ] = None,
    estate: EstateOption = None,
    quiet: QuietOption = False,
) -> None:
    """Read live systems into a survey file, which every question can be asked of.

    Needs the right to read: of a cluster, to list what is in it (of secrets, their names); of clouds, their
    statements; of an issuer, none. Changes nothing. Exit 3 where something could not be read; the file says what.

    With --adopt, what a cluster has that the estate does not describe is written into its files instead, so that it
    is described as it is; the cluster is not changed by that.

    Example: enthesis survey --cluster surge/cluster/grid --out live.jsonl

    Example: enthesis survey --compared-with last-week.jsonl
    """
    _refuse_conflicts(compared_with, adopt=adopt, out=out, later=survey_file, expect_none=expect_none, output=output)
    if compared_with is not None and survey_file is not None:
        with survey_file.open("rb") if survey_file.is_file() else _missing(survey_file) as lines:
            _put_comparison(compared_with, lines, str(survey_file), output, expect_none=expect_none)
        return
    if adopt is not None:
        place = estate_folder(estate)
        adopted = take_over(read_estate(place), place, adopt, kubeconfig, context, remark)
        remark(f"Adopted from {adopt}: {counts_text(adopted) or 'nothing that was not described'}.", quiet=quiet)
        return
    by_name = any("://" not in one for one in issuer or ())
    described, folder = _estate(estate, needed=by_name or not (cluster or issuer or further))
    systems: list[Surveys] = [_issuer(one, described, folder) for one in issuer or ()]
    systems += [_installed(one) for one in further or ()]
    head: list[Record] = list(head_of(described)) if described is not None else []
    if cluster or not (issuer or further):
        reached = Reached(kubeconfig, context, tuple(namespace or ()))
        found, more = _systems(described, folder, cluster or [], reached, quiet=quiet)
        gone = [one.has_gone for one in found if isinstance(one, SurveyedCloud)]
        kept = [
            record
            for record in head
            if record["section"] != "resources" or not any(has(record["address"]) for has in gone)
        ]
        systems, head = [*systems, *found], [*kept, *more]
    writing = Writing(described.name if described else None, now(), systems)
    if compared_with is not None:
        lines_now = list(writing.lines(head, reporter(quiet=quiet)))
        _put_comparison(compared_with, lines_now, "the live side", output, expect_none=expect_none)
        return
    _write(out, writing.lines(head, reporter(quiet=quiet)))
    _told(writing, quiet=quiet)
    if not writing.complete:
        raise typer.Exit(3)


def _refuse_conflicts(
    compared_with: Path | None, *, adopt: str | None, out: Path | None, later: Path | None, expect_none: bool,
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


def _missing(path: Path) -> NoReturn:
    raise InvalidInput(f"{path} cannot be read: no such file", code="file-unreadable")


def _put_comparison(before: Path, after: Iterable[bytes], name: str, output: Format, *, expect_none: bool) -> None:
    """Says what changed since a survey."""
    from enthesis.surveys.comparing import compare  # noqa: PLC0415  only a comparison needs it

    with before.open("rb") if before.is_file() else _missing(before) as lines:
        try:
            found = compare(lines, after, (str(before), name))
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


def _estate(given: Path | None, *, needed: bool) -> tuple[Estate | None, Path | None]:
    """The estate, if there is one; a survey of a cluster needs none."""
    if given is None and not needed and find_estate(Path.cwd()) is None:
        return None, None
    try:
        folder = estate_folder(given)
    except InvalidInput as fault:
        remedy = "a cluster can be surveyed without one: --cluster ACCOUNT/cluster/NAME"
        raise InvalidInput(fault.message, code="estate-needed", remedy=remedy) from None
    return read_estate(folder), folder


def _systems(
    estate: Estate | None,
    folder: Path | None,
    clusters: list[str],
    reached: Reached,
    *,
    quiet: bool,
) -> tuple[list[Surveys], list[Record]]:
    """What is surveyed, and what is known of it from elsewhere."""
    head: list[Record] = []
    systems: list[Surveys] = []
    if not clusters and estate is not None and folder is not None:
        connected = connect(estate, folder)
        urls = {name: getattr(getattr(one, "client", None), "url", "") for name, one in connected.providers.items()}
        for one in survey_clouds(estate, replace(connected, clusters={}), reporter(quiet=quiet)):
            provider = connected.providers[one.provider]
            keys = provider.keys(one.holders) if isinstance(provider, KeepsKeys) else None
            systems.append(SurveyedCloud(one, urls[one.provider], estate.resources, keys))
        clusters = clusters_of_lab(estate, folder)
    for address in clusters:
        account = _account(address)
        if estate is None or account not in estate.accounts:
            head += _invented(account)
        organisation = estate.organisation_of(account) if estate is not None and account in estate.accounts else "here"
        found = cluster_of(address, organisation, folder, reached.kubeconfig, reached.context, dict(os.environ))
        found.only = reached.namespaces
        systems.append(found)
    return systems, head


def _installed(pair: str) -> Surveys:
    """A connector of another package, found by the name of its entry point."""
    name, equals, address = pair.partition("=")
    found = {one.name: one for one in entry_points(group=GROUP)}
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
            f"no issuer is called {named}", code="issuer-unknown", remedy="name one of the estate, or its https url"
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


def _account(address: str) -> str:
    parts = address.split("/")
    if len(parts) != 3 or parts[1] != "cluster" or not all(parts) or address.startswith("@"):
        raise InvalidInput(
            f"{address} is no cluster", code="cluster-unknown", remedy="name its place: ACCOUNT/cluster/NAME"
        )
    return parts[0]


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
    """What was seen, what was left out and what was found, on standard error."""
    if quiet:
        return
    names = ", ".join(system.name for system in writing.systems)
    counts = counts_text(writing.counts)
    word = Span("whole", "good") if writing.complete else Span("not whole", "bad")
    lines = [line(f"Surveyed {names}, ", word, f": {counts or 'nothing'}.")]
    for one in writing.left_out[:MOST]:
        style = "bad" if one.get("incomplete") else "doubt"
        lines.append(line("  ", Span("left out", style), f"  {one['left_out']}: {one['why']}"))
    if len(writing.left_out) > MOST:
        lines.append(line(f"  … and {counted(len(writing.left_out) - MOST, 'thing')} more that was left out"))
    for one in writing.findings[:MOST]:
        lines.append(line("  ", Span("found", "bad"), f"  {one['at']}: {one['says']}  ({one['finding']})"))
    if len(writing.findings) > MOST:
        lines.append(line(f"  … and {counted(len(writing.findings) - MOST, 'finding')} more"))
    put_lines(lines, to_error=True)

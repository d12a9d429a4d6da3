"""`enthesis sweep`: what should not stay, the gravest first, each with a fix."""

from pathlib import Path
from typing import Annotated

import typer

from enthesis.access.compiling import compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.cleaning.findings import SEVERITIES, Finding, FindingBounds, Swept
from enthesis.cleaning.sweep import sweep as swept_of
from enthesis.cli.arguments import length_of, now
from enthesis.cli.estate_loading import Subject, read_asked
from enthesis.cli.options import AskOption, EstateOption, FormatOption, QuietOption, SurveyOption
from enthesis.cli.sweep_copies import put_copies
from enthesis.files.finding import within_repository
from enthesis.files.saving import CHANGE_BY_HAND, edit_files, must_read, write_file
from enthesis.live.usage_logs import read_usage
from enthesis.model.errors import InvalidInput
from enthesis.model.risks import FINDINGS
from enthesis.output.progress import reporter
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.output.sarif import sarif_of_findings
from enthesis.output.streams import remark
from enthesis.output.sweeping import fix_numbers, sweep_csv, sweep_json, sweep_lines
from enthesis.surveys.survey import ASKED_NOW
from enthesis.text.nearest import perhaps


def sweep(
    code: Annotated[
        list[str] | None, typer.Argument(metavar="CODE", help="Only findings of these codes (default: all).")
    ] = None,
    estate: EstateOption = None,
    live: SurveyOption = None,
    ask: AskOption = False,
    older_than: Annotated[
        str, typer.Option("--older-than", metavar="DURATION", help="Report keyed credentials older than this.")
    ] = "90d",
    unused_for: Annotated[
        str, typer.Option("--unused-for", metavar="DURATION", help="Report keyed credentials unused for this long.")
    ] = "90d",
    usage: Annotated[
        list[Path] | None,
        typer.Option("--usage", metavar="FILE", help="A log of recorded use: JSON Lines or *.parquet."),
    ] = None,
    inside: Annotated[
        list[Path] | None,
        typer.Option(
            "--in",
            metavar="PATH",
            help="Search these files, archives and git histories for copies of known credentials instead.",
        ),
    ] = None,
    write: Annotated[
        int | None, typer.Option("--write", metavar="N", help="Write fix N into the estate's files.")
    ] = None,
    fail_on: Annotated[
        list[str] | None,
        typer.Option("--fail-on", metavar="CODE|SEVERITY", help="Exit 1 only for these findings (default: for any)."),
    ] = None,
    table: Annotated[Path | None, typer.Option("--csv", metavar="FILE", help="Also write the findings as CSV.")] = None,
    sarif: Annotated[
        Path | None, typer.Option("--sarif", metavar="FILE", help="Also write the findings as SARIF, for code review.")
    ] = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Find what should not stay: keys, grants and identities that linger or are too wide, the gravest first.

    Sweeps the estate's files; with --survey what a survey says, with --ask what the live systems have now (needs the
    right to read there). What can be reached through a finding decides its severity. Exit 1 where anything is found
    that the estate does not accept.

    With --in it looks for copies of the credentials that these know, by fingerprint, in files, archives and git
    repositories. No value is shown.
    """
    _refuse_unknown(code or [], fail_on or [])
    bounds = FindingBounds(length_of("--older-than", older_than), length_of("--unused-for", unused_for))
    if write is not None and (live is not None or ask):
        raise InvalidInput(
            "--write changes the estate's files, but another source was given",
            code="options-conflict",
            remedy="leave out --survey and --ask",
        )
    subject = read_asked(estate, live, ask=ask, quiet=quiet)
    if inside:
        if not put_copies(subject, inside, output, table, quiet=quiet):
            return
        raise typer.Exit(1)
    found = _swept(subject, bounds, live, usage or [], quiet=quiet)
    looked_at = "its live systems" if ask else str(live) if live is not None else "its files"
    if code:
        found = _only(found, code)
    if table is not None:
        write_file(table, sweep_csv(found).encode())
    if sarif is not None:
        write_file(
            sarif, sarif_of_findings(found, within_repository(subject.folder) if subject.folder is not None else "")
        )
    put_answer(
        output,
        CommandAnswer(
            lambda: sweep_json(subject.estate.name, looked_at, found),
            lambda: sweep_lines(subject.estate.name, looked_at, found, quiet=quiet),
        ),
    )
    if write is not None:
        _write(subject, found, write)
    if any(not fail_on or finding.code in fail_on or _is_as_grave(finding, fail_on) for finding in found.standing):
        raise typer.Exit(1)


def _refuse_unknown(codes: list[str], fail_on: list[str]) -> None:
    for code in codes:
        if code not in FINDINGS:
            raise InvalidInput(
                f"unknown finding: {code}",
                code="finding-unknown",
                remedy=perhaps(code, FINDINGS, f"one of {', '.join(FINDINGS)}"),
            )
    for name in fail_on:
        if name not in FINDINGS and name not in SEVERITIES:
            known = [*SEVERITIES, *FINDINGS]
            raise InvalidInput(
                f"--fail-on {name}: neither a code nor a severity", code="finding-unknown", remedy=perhaps(name, known)
            )


def _swept(subject: Subject, bounds: FindingBounds, live: Path | None, logs: list[Path], *, quiet: bool) -> Swept:
    survey = subject.survey
    chains = Chains(Web(compile_estate(subject.estate), now().timestamp()))
    progress = reporter(quiet=quiet)
    progress.begin("sweeping", 0)
    try:
        return swept_of(
            chains,
            bounds=bounds,
            said=survey.findings if survey is not None else (),
            knows_use=survey is not None and any(looked_at.keys for looked_at in survey.looked_at),
            survey=live.name if live is not None else ASKED_NOW if survey is not None else "",
            usage=read_usage(logs, subject.estate, now()) if logs else None,
            step=progress.step,
        )
    finally:
        progress.end()


def _only(found: Swept, codes: list[str]) -> Swept:
    standing, accepted = (
        tuple(finding for finding in its if finding.code in codes) for its in (found.standing, found.accepted)
    )
    return Swept(standing, accepted, found.not_looked_at, found.undecided)


def _is_as_grave(finding: Finding, wanted: list[str]) -> bool:
    """Whether a finding is at least as grave as a severity that is wanted."""
    least = [SEVERITIES.index(word) for word in wanted if word in SEVERITIES]
    return bool(least) and SEVERITIES.index(finding.opens.severity) >= min(least)


def _write(subject: Subject, found: Swept, number: int) -> None:
    """Puts a fix into the files, which must still read afterwards; InvalidInput where there is no such fix."""
    fixes = {
        at: fix
        for one, its in zip(found.standing, fix_numbers(found.standing), strict=True)
        for fix, at in zip(one.fixes, its, strict=True)
        if at
    }
    if number not in fixes:
        raise InvalidInput(f"there is no fix {number}: {len(fixes)} change the files", code="remedy-unknown")
    for name in edit_files(subject.folder, fixes[number].edits, must_read, CHANGE_BY_HAND):
        remark(f"Fix {number} is written into {name}: {fixes[number].says}.")

"""`enthesis survey`: reads the live systems into a file."""

import sys
from collections.abc import Iterable
from pathlib import Path
from typing import Annotated

import typer

from enthesis.cli.examples import EXAMPLES
from enthesis.cli.lazy import ListedCommand, group
from enthesis.cli.options import DatabaseOption, DirectoryOption, EstateOption, HostOption, QuietOption
from enthesis.cli.store_options import StoreOption, keep_if_any
from enthesis.cli.surveyed_systems import (
    ClustersOption,
    FurtherOption,
    IssuersOption,
    NamespacesOption,
    SurveyContextOption,
    SurveyKubeconfigOption,
    SystemsAsked,
    survey_plan,
)
from enthesis.files.atomic_files import fresh_file
from enthesis.live.surveying import WHOLE, Writing
from enthesis.output.estates import counts_text
from enthesis.output.lines import Span, counted, line
from enthesis.output.streams import put_lines, remark
from enthesis.surveys.survey import no_collecting

COMMANDS = {
    "adopt": ListedCommand(
        "survey_adopt:adopt", "Write what a cluster, database, host or account has into the estate's files."
    ),
    "compare": ListedCommand(
        "survey_compare:compare", "Show what changed since a survey: against a later one, or the live systems now."
    ),
    "usage": ListedCommand(
        "survey_usage:usage", "Write what providers and clusters have recorded of the use of access into a file."
    ),
}
MOST = 12  # lines about what was left out
MOST_KEPT = 50_000_000  # bytes of a survey that the store keeps too


def survey(
    cluster: ClustersOption = None,
    further: FurtherOption = None,
    namespace: NamespacesOption = None,
    issuer: IssuersOption = None,
    database: DatabaseOption = None,
    directory: DirectoryOption = None,
    host: HostOption = None,
    kubeconfig: SurveyKubeconfigOption = None,
    context: SurveyContextOption = None,
    since: Annotated[
        Path | None,
        typer.Option("--since", metavar="FILE", help="Read only what changed in a cluster since this survey of it."),
    ] = None,
    out: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="Write the survey to FILE (default: standard output).")
    ] = None,
    estate: EstateOption = None,
    store: StoreOption = None,
    quiet: QuietOption = False,
) -> None:
    """Read live systems into a survey file, which every question can be asked of.

    Needs the right to read: of a cluster, to list what is in it (of secrets, their names); of clouds, their
    statements; of an issuer, none; of a host, a copy of its files. Changes nothing. Exit 3 where something could not
    be read; the file says what. A survey is JSON Lines.
    """
    asked = SystemsAsked(cluster, further, namespace, issuer, database, directory, host, kubeconfig, context)
    plan = survey_plan(asked, estate, since, quiet=quiet)
    with no_collecting():  # what is read has no cycles, and is let go of line by line
        _write(out, plan.lines(quiet=quiet))
    _told(plan.writing, quiet=quiet)
    described, folder = plan.described, plan.folder
    if out is not None and described is not None and folder is not None and out.stat().st_size <= MOST_KEPT:
        digest = keep_if_any(folder, store, described.name, "survey", out.read_bytes())
        remark(f"Kept as {digest}." if digest else "", quiet=quiet or not digest)
    if not plan.writing.complete:
        raise typer.Exit(3)


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


app = group("survey", COMMANDS, EXAMPLES, survey)

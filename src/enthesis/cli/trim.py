"""`enthesis trim`: narrower roles and grants from recorded use, by which nothing that was used is refused."""

from pathlib import Path
from typing import Annotated

import typer

from enthesis.chains.differences import difference
from enthesis.cleaning.needs import needs_of
from enthesis.cli.arguments import by_clock_of, length_of, now
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import EstateOption, FormatOption, QuietOption
from enthesis.files.finding import estate_folder
from enthesis.files.folder import Reading
from enthesis.files.saving import CHANGE_BY_HAND, edit_files
from enthesis.live.usage_logs import read_usage
from enthesis.model.errors import InvalidInput
from enthesis.output.progress import reporter
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.output.streams import remark
from enthesis.output.trimming import trim_json, trim_lines


def trim(
    usage: Annotated[
        list[Path] | None,
        typer.Option("--usage", metavar="FILE", help="A log of recorded use: JSON Lines or *.parquet."),
    ] = None,
    window: Annotated[
        str,
        typer.Option(
            "--window",
            metavar="DURATION",
            help="The time in which use counts; permissions used only before it are listed separately.",
        ),
    ] = "90d",
    roles: Annotated[
        int,
        typer.Option(
            "--roles", metavar="COUNT", min=0, max=50, help="Create at most this many new roles in each account."
        ),
    ] = 5,
    seconds: Annotated[
        int,
        typer.Option(
            "--seconds", metavar="COUNT", min=1, help="Search for the best result for this long, at each account."
        ),
    ] = 60,
    write: Annotated[bool, typer.Option("--write", help="Write the narrower roles and grants into the files.")] = False,
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Narrow roles and grants to what was used, and show what access that takes.

    Looks at the estate's files and the log alone. What journeys need is kept, whatever the log says, and so is what was
    used once. Everything that was used is judged again on the narrower estate; a change by which it would be refused is
    withheld. Grants to those of whom the log has nothing stay. Exit 1 where there is something to trim.
    """
    if not usage:
        raise InvalidInput(
            "no log of use is named",
            code="argument-missing",
            remedy="--usage FILE; survey usage FILE writes one",
        )
    # loads the solver, which only this needs
    from enthesis.cleaning.trimming import edits_of  # noqa: PLC0415
    from enthesis.cleaning.trimming import trim as trimmed_of  # noqa: PLC0415

    folder = estate_folder(estate)
    described = read_estate(folder)
    by_clock_of(described, folder)
    instant = now()
    log = read_usage(usage, described, instant, chains=True)
    progress = reporter(quiet=quiet)
    progress.begin("trimming", 0)
    try:
        needs = needs_of(described, log, instant - length_of("--window", window), instant)
        found = trimmed_of(described, needs, instant, new=roles, seconds=seconds, step=progress.step)
    finally:
        progress.end()
    change = difference(described, found.after, instant.timestamp())
    put_answer(
        output,
        CommandAnswer(
            lambda: trim_json(described.name, log, found, change),
            lambda: trim_lines(described.name, log, found, change),
        ),
    )
    if not found.changes:
        return
    if not write:
        remark("Nothing was written: --write puts it into the files.", quiet=quiet)
        raise typer.Exit(1)

    def as_meant(reading: Reading) -> None:
        if reading.estate is None or set(map(_key, reading.estate.grants)) != set(map(_key, found.after.grants)):
            raise InvalidInput(
                "the edited files would not mean what was intended, so nothing was written",
                code="edit-differs",
                remedy=CHANGE_BY_HAND,
            )

    for name in edit_files(folder, edits_of(described, found), as_meant, CHANGE_BY_HAND):
        remark(f"Written into {name}.", quiet=quiet)


def _key(grant: object) -> str:
    """A grant without the place where it is written."""
    names = ("to", "role", "at", "held_by", "when", "until")
    return repr([getattr(grant, name) for name in names])

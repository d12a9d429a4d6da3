"""`enthesis calendar`: what ends when, with notice."""

import json
from pathlib import Path
from typing import Annotated

import typer

from enthesis.cleaning.expiries import Calendar, WaitingHandoff, ended
from enthesis.cleaning.expiries import calendar as calendar_of
from enthesis.cli.arguments import length_of, now
from enthesis.cli.estate_loading import Subject, read_asked
from enthesis.cli.options import AskOption, EstateOption, FormatOption, QuietOption, SurveyOption
from enthesis.cli.store_options import StoreOption, journal_if_any
from enthesis.files.saving import write_file
from enthesis.output.calendars import calendar_csv, calendar_ics, calendar_json, calendar_lines
from enthesis.output.differences import difference_json
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.text.times import time_from


def calendar(
    within: Annotated[
        str | None,
        typer.Option(
            "--within", metavar="DURATION", help="Only list what ends within this time; exit 1 if anything does."
        ),
    ] = None,
    notice: Annotated[
        bool,
        typer.Option("--notice", help="Only what is due for notice now, and the access that is lost when it ends."),
    ] = False,
    ics: Annotated[
        Path | None, typer.Option("--ics", metavar="FILE", help="Also write an iCalendar file, with alarms.")
    ] = None,
    table: Annotated[Path | None, typer.Option("--csv", metavar="FILE", help="Also write the findings as CSV.")] = None,
    estate: EstateOption = None,
    live: SurveyOption = None,
    ask: AskOption = False,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
    store: StoreOption = None,
) -> None:
    """List what ends or must be looked at again: credentials, grants, trusts, accepted risks, handoffs.

    Looks at the estate's files; with --survey at a survey, with --ask at the live systems (needs the right to read
    there). The estate can say how long
    before an end to give notice (`notice`; default: 90, 30 and 7 days).
    """
    length = length_of("--within", within) if within is not None else None
    subject = read_asked(estate, live, ask=ask, quiet=quiet)
    instant = now()
    found = calendar_of(subject.estate, instant, _handoffs(subject, store))
    if length is not None:
        found = Calendar(tuple(end for end in found.coming if end.at - instant <= length), found.overdue)
    if notice:
        due = tuple(end for end in found.coming if end.due(instant) is not None)
        found = Calendar(due, found.overdue)
    lost = ended(subject.estate, found.coming, instant.timestamp()) if notice and found.coming else None
    if ics is not None:
        write_file(ics, calendar_ics(subject.estate.name, found, instant))
    if table is not None:
        write_file(table, calendar_csv(found, instant).encode())
    more = {"access": difference_json(lost)} if lost is not None else {}
    name, looked = subject.estate.name, "its live systems" if ask else str(live or "the estate's files")
    put_answer(
        output,
        CommandAnswer(
            lambda: {**calendar_json(name, found, instant, length), **more},
            lambda: calendar_lines(name, found, instant, length, lost),
        ),
        beside=f"Looked at {looked}.",
        quiet=quiet,
    )
    if (length is not None or notice) and (found.coming or found.overdue):
        raise typer.Exit(1)


def _handoffs(subject: Subject, store: str | None) -> list[WaitingHandoff]:
    """The handoffs that were given out with a day by which the other half is to be there, the latest to each party."""
    journal = journal_if_any(subject.folder, store)
    if journal is None:
        return []
    try:
        kept = journal.documents("handoff", subject.estate.name)
    finally:
        journal.close()
    latest: dict[str, WaitingHandoff] = {}
    for _, content in kept:
        said = json.loads(content)
        day = str(said.get("by") or "")
        by = time_from(day) or time_from(f"{day}T00:00:00Z")
        if by is not None:
            latest[str(said.get("to"))] = WaitingHandoff(str(said.get("to")), by, str(said.get("reference", "")))
    return list(latest.values())

"""`enthesis request out`: the other party's half of a crossing, given out."""

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from enthesis.cli.arguments import now
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.handoff_documents import SignOption, write_document
from enthesis.cli.options import EstateOption, QuietOption, ReviewFormatOption
from enthesis.cli.store_options import StoreOption, journal_at, keep_if_any
from enthesis.files.finding import estate_folder
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.output.handoffs import handoff_lines, handoff_markdown
from enthesis.output.lines import json_text
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.output.streams import remark
from enthesis.proposals.handoffs import Handoff, Priority, end_of, handoff
from enthesis.text.nearest import perhaps


def out(
    party: Annotated[
        str | None,
        typer.Argument(metavar="PARTY", help="An @organisation or an account of others (default: the only one)."),
    ] = None,
    by: Annotated[
        str | None, typer.Option("--by", metavar="DATE", help="The day by which it is needed, e.g. 2027-02-01.")
    ] = None,
    file: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="Write the document to FILE as JSON.")
    ] = None,
    sign: SignOption = None,
    window: Annotated[
        str | None, typer.Option("--window", metavar="TEXT", help="When the change may be made, in words.")
    ] = None,
    priority: Annotated[Priority | None, typer.Option("--priority", help="How soon it is wanted.")] = None,
    estate: EstateOption = None,
    output: ReviewFormatOption = TEXT,
    quiet: QuietOption = False,
    store: StoreOption = None,
) -> None:
    """Write down what another party must do for a crossing.

    Contacts no live system. The document says what is asked, why, exactly which statements, what is not asked, and how
    to check it; it can be used without Enthesis.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    if sign is not None and file is None:
        raise InvalidInput("--sign signs what --out writes", code="options-conflict", remedy="add --out FILE")
    try:
        wanted_by = end_of(by)
    except ValueError as fault:
        raise InvalidInput(f"--by {fault}", code="time-invalid", remedy="write it like 2027-02-01") from None
    made = handoff(described, _party(described, party), now(), wanted_by)
    made = replace(made, window=window or "", priority=priority.value if priority is not None else "")
    if file is not None:
        write_document(file, made.as_json(), sign)
        _keep(folder, store, described.name, made)
    _put(made, output, quiet=quiet and file is not None)
    if file is not None:
        remark(f"Written to {file}{', signed' if sign is not None else ''}.", quiet=quiet)
    if made.impossible:
        raise typer.Exit(1)


def _put(made: Handoff, output: str, *, quiet: bool) -> None:
    put_answer(
        output,
        CommandAnswer(
            made.as_json,
            lambda: handoff_lines(made) if not quiet else (),
            markdown=lambda: handoff_markdown(made),
        ),
    )


def _party(described: Estate, named: str | None) -> str:
    """The party that is meant; the only one where none is named."""
    outside = [f"@{name}" for name, one in described.organisations.items() if one.outside]
    accounts = [
        name
        for name in described.accounts
        if described.administered_by_others(name) and f"@{described.organisation_of(name)}" not in outside
    ]
    known = [*outside, *accounts]
    if named is None and len(known) == 1:
        return known[0]
    if named is None:
        raise InvalidInput(
            "no party is named" if known else f"{described.name} knows no other party",
            code="party-unknown",
            remedy=f"one of {', '.join(known)}" if known else "mark its organisation as `outside: true`",
        )
    own = [name for name in described.accounts if described.administered_by_others(name)]
    meant = named if named in (*known, *own) else f"@{named}"
    if meant not in (*known, *own):
        raise InvalidInput(
            f"{named}: no such organisation or account of others",
            code="party-unknown",
            remedy=perhaps(named, [*known, *own], f"one of {', '.join(known)}"),
        )
    return meant


def _keep(folder: Path, store: str | None, estate: str, made: Handoff) -> None:
    """Keeps what was asked for: always where it is wanted by a day, of which the calendar tells."""
    content = json_text(made.as_json()).encode()
    if not made.by:
        keep_if_any(folder, store, estate, "handoff", content)
        return
    journal = journal_at(folder, store)
    try:
        journal.keep("handoff", estate, content)
    finally:
        journal.close()

"""`enthesis history`: the enactments of an estate, and what was seen and tried."""

from dataclasses import asdict
from typing import Annotated

import typer

from enthesis.cli.examples import EXAMPLES
from enthesis.cli.histories import StoreOption, journal_if_any
from enthesis.cli.lazy import ListedCommand, group
from enthesis.cli.options import EstateOption, Format, FormatOption, QuietOption
from enthesis.cli.subjects import read_estate
from enthesis.files.finding import estate_folder
from enthesis.model.errors import InvalidInput
from enthesis.output.lines import counted, line
from enthesis.output.streams import put_json, put_lines, remark

COMMANDS = {
    "show": ListedCommand("history:show", "Show one enactment: who, when, what and why."),
    "documents": ListedCommand("history:documents", "List the surveys and proofs in the store, with their digests."),
}
DOCUMENTS = ("survey", "proof")


def history(
    estate: EstateOption = None,
    output: FormatOption = Format.TEXT,
    quiet: QuietOption = False,
    store: StoreOption = None,
) -> None:
    """List the enactments of the estate: when, by whom, what came of each."""
    from enthesis.output.enactments import enactment_json, history_lines  # noqa: PLC0415  loads the store

    folder = estate_folder(estate)
    name = read_estate(folder).name
    journal = journal_if_any(folder, store)
    try:
        every = journal.enactments(name) if journal is not None else []
    finally:
        if journal is not None:
            journal.close()
    if output is Format.JSON:
        put_json({"estate": name, "enactments": [enactment_json(one) for one in every]})
    else:
        put_lines(history_lines(name, every))
        remark("`enthesis history show NUMBER` shows one.", quiet=quiet or not every)


def show(
    number: Annotated[int, typer.Argument(metavar="NUMBER", help="The number of the enactment.")],
    estate: EstateOption = None,
    output: FormatOption = Format.TEXT,
    store: StoreOption = None,
) -> None:
    """Show one enactment: who, when, what and why."""
    from enthesis.output.enactments import (  # noqa: PLC0415  loads the store
        EnactmentPeople,
        enactment_json,
        enactment_lines,
    )

    folder = estate_folder(estate)
    name = read_estate(folder).name
    journal = journal_if_any(folder, store)
    if journal is None:
        raise InvalidInput(
            f"{name} has no history here", code="enactment-unknown", remedy="--store URL names the store with it"
        )
    try:
        enactment = journal.enactment(name, number)
        kept = journal.steps(number)
        people = EnactmentPeople(journal.proposal(enactment).author, tuple(journal.approved_by(number)))
    finally:
        journal.close()
    if output is Format.JSON:
        put_json(enactment_json(enactment, kept, people))
    else:
        put_lines(enactment_lines(enactment, kept, people))


def documents(estate: EstateOption = None, output: FormatOption = Format.TEXT, store: StoreOption = None) -> None:
    """List the surveys and proofs in the store, with their digests."""
    place = estate_folder(estate)
    name = read_estate(place).name
    journal = journal_if_any(place, store)
    try:
        every = journal.kept(name, DOCUMENTS) if journal is not None else []
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


app = group("history", COMMANDS, EXAMPLES, history)

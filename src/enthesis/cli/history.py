"""`enthesis history`: the enactments of an estate, and what was seen and tried."""

from dataclasses import asdict
from typing import Annotated

import typer

from enthesis.cli.estate_loading import read_estate
from enthesis.cli.examples import EXAMPLES
from enthesis.cli.lazy import ListedCommand, group
from enthesis.cli.options import EstateOption, FormatOption, QuietOption
from enthesis.cli.store_options import StoreOption, reading
from enthesis.files.finding import estate_folder
from enthesis.model.errors import InvalidInput
from enthesis.output.lines import counted, line
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer

COMMANDS = {
    "show": ListedCommand("history:show", "Show one enactment: who, when, what and why."),
    "documents": ListedCommand("history:documents", "List the surveys and proofs in the store, with their digests."),
}
DOCUMENTS = ("survey", "proof")


def history(
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
    store: StoreOption = None,
) -> None:
    """List the enactments of the estate: when, by whom, what came of each."""
    from enthesis.output.enactments import enactment_json, history_lines  # noqa: PLC0415  loads the store

    folder = estate_folder(estate)
    name = read_estate(folder).name
    with reading(folder, store) as journal:
        every = journal.enactments(name) if journal is not None else []
    put_answer(
        output,
        CommandAnswer(
            lambda: {"estate": name, "enactments": [enactment_json(one) for one in every]},
            lambda: history_lines(name, every),
        ),
        beside="`enthesis history show NUMBER` shows one.",
        quiet=quiet or not every,
    )


def show(
    number: Annotated[int, typer.Argument(metavar="NUMBER", help="The number of the enactment.")],
    estate: EstateOption = None,
    output: FormatOption = TEXT,
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
    with reading(folder, store) as journal:
        if journal is None:
            raise InvalidInput(
                f"{name} has no history here", code="enactment-unknown", remedy="--store URL names the store with it"
            )
        enactment = journal.enactment(name, number)
        kept = journal.steps(number)
        people = EnactmentPeople(journal.proposal(enactment).author, tuple(journal.approved_by(number)))
    put_answer(
        output,
        CommandAnswer(
            lambda: enactment_json(enactment, kept, people), lambda: enactment_lines(enactment, kept, people)
        ),
    )


def documents(estate: EstateOption = None, output: FormatOption = TEXT, store: StoreOption = None) -> None:
    """List the surveys and proofs in the store, with their digests."""
    place = estate_folder(estate)
    name = read_estate(place).name
    with reading(place, store) as journal:
        every = journal.kept(name, DOCUMENTS) if journal is not None else []
    told = (
        f"{document.made}  {document.kind.ljust(6)}  {document.digest}  {counted(document.size, 'byte')}"
        for document in every
    )
    lines = list(map(line, [f"{name}: {counted(len(every), 'survey or proof', 'surveys and proofs')} kept.", *told]))
    facts = {"estate": name, "kept": [asdict(document) for document in every]}
    put_answer(output, CommandAnswer(lambda: facts, lambda: lines))


app = group("history", COMMANDS, EXAMPLES, history)

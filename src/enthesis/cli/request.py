"""`enthesis request`: what was asked of other parties, and where each stands."""

import json
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.cli.estate_loading import read_estate
from enthesis.cli.examples import EXAMPLES
from enthesis.cli.lazy import ListedCommand, group
from enthesis.cli.options import EstateOption, FormatOption, QuietOption
from enthesis.cli.store_options import StoreOption, reading
from enthesis.files.finding import estate_folder
from enthesis.model.estate import Estate
from enthesis.output.handoffs import life_lines, life_sentence
from enthesis.output.progress import reporter
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.proposals.handoff_life import TakenAnswer, answer_from, lives
from enthesis.proposals.handoffs import Handoff, unchecked_handoff

if TYPE_CHECKING:
    from enthesis.store.journal import Journal

COMMANDS = {
    "out": ListedCommand("request_out:out", "Write down what another party must do for a crossing."),
    "in": ListedCommand("request_in:take_in", "Take in what another party asks of us, or answers to us."),
    "answer": ListedCommand("request_answer:answer", "Answer what another party asks of us: done, refused or changed."),
}
KEPT, KEPT_ANSWER, KEPT_PROOF = "handoff", "handoff-answer", "proof"


def request(
    ask: Annotated[bool, typer.Option("--ask", help="Look at the live systems for what is in place.")] = False,
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
    store: StoreOption = None,
) -> None:
    """List what other parties were asked for, and where each stands: asked, seen, in place, proved or refused.

    What is in place is what live systems show (--ask); what is proved, a proof in the store says.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    asked, answers, proofs = [], [], []
    with reading(folder, store) as journal:
        if journal is not None:
            asked = asked_of_others(journal, described.name)
            kept = [json.loads(content) for _, content in journal.documents(KEPT_ANSWER, described.name)]
            answers = [TakenAnswer(answer_from(one["answer"]), one["verified"] is True) for one in kept]
            proofs = [json.loads(content) for _, content in journal.documents(KEPT_PROOF, described.name)]
    found = list(lives(asked, answers, proofs, _written(described, folder, quiet=quiet) if ask and asked else None))
    says = life_sentence(described.name, found)
    facts = {"estate": described.name, "says": says, "handoffs": [one.as_json() for one in found]}
    beside = "" if ask or not found else "What is in place was not looked at: --ask does."
    put_answer(
        output, CommandAnswer(lambda: facts, lambda: life_lines(described.name, found)), beside=beside, quiet=quiet
    )


def asked_of_others(journal: "Journal", estate: str) -> list[tuple[str, Handoff]]:
    """The handoffs that were kept, with when, the oldest first; those of earlier formats are left out."""
    when = {one.digest: one.made for one in journal.kept(estate, (KEPT,))}
    found = []
    for digest, content in journal.documents(KEPT, estate):
        try:
            found.append((when.get(digest, ""), unchecked_handoff(json.loads(content))))
        except ValueError:
            continue
    return sorted(found, key=lambda one: one[0])


def _written(described: Estate, folder: Path, *, quiet: bool) -> set[str]:
    """The statements of others that live systems show now."""
    from enthesis.live.connecting import connect  # noqa: PLC0415  loads what speaks to live systems
    from enthesis.live.surveying import survey  # noqa: PLC0415
    from enthesis.proposals.proposing import propose  # noqa: PLC0415

    surveys = survey(described, connect(described, folder), reporter(quiet=quiet))
    return set(propose(described, surveys).written)


app = group("request", COMMANDS, EXAMPLES, request)

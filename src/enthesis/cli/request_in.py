"""`enthesis request in`: what another party asks of us, or answers to us."""

from collections.abc import Iterator
from pathlib import Path
from typing import Annotated, Any

import typer

from enthesis.chains.differences import difference
from enthesis.cli.arguments import now
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.handoff_documents import KeyOption, document_from, handoff_in
from enthesis.cli.options import EstateOption, QuietOption, ReviewFormatOption
from enthesis.cli.request import KEPT_ANSWER, asked_of_others
from enthesis.cli.store_options import StoreOption, journal_at
from enthesis.files.editing import Addition, edited
from enthesis.files.finding import estate_folder
from enthesis.files.folder import estate_texts, read_texts
from enthesis.files.saving import edit_files
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.output.differences import difference_json, difference_lines, difference_markdown
from enthesis.output.handoffs import answer_sentence, handoff_markdown, handoff_sentence
from enthesis.output.lines import Line, Span, counted, json_text, line
from enthesis.output.proposals import danger_lines
from enthesis.output.renderers import JSON, TEXT, CommandAnswer, put_answer, put_done
from enthesis.output.streams import remark
from enthesis.proposals.dangers import outside_gains
from enthesis.proposals.handoff_life import DOCUMENT as ANSWER
from enthesis.proposals.handoff_life import HandoffAnswer, TakenAnswer, answer_from
from enthesis.proposals.handoffs import Handoff, additions


def take_in(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="The document of another party, or its answer to ours.")],
    key: KeyOption = None,
    write: Annotated[bool, typer.Option("--write", help="Write what it asks for into this estate's files.")] = False,
    estate: EstateOption = None,
    output: ReviewFormatOption = TEXT,
    quiet: QuietOption = False,
    store: StoreOption = None,
) -> None:
    """Take in what another party asks of us, or answers to us.

    What is asked is shown with what it would do to access here, and with --write written into the estate's files.
    An answer to what we asked is kept beside that. Contacts no live system.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    said = document_from(file, key)
    if not isinstance(said, dict) or said.get("enthesis") != ANSWER:
        taken = handoff_in(file, said)
        _put_received(folder, described, file, taken, output, checked=key is not None, write=write, quiet=quiet)
        return
    if write:
        raise InvalidInput(
            f"{file} is an answer, which asks for nothing", code="options-conflict", remedy="leave --write out"
        )
    try:
        answered = answer_from(said)
    except ValueError as fault:
        raise InvalidInput(f"{file}: {fault}", code="handoff-invalid") from None
    _keep_answer(folder, described, file, answered, store, verified=key is not None)
    unverified = "" if key is not None else " Not verified: no --key was given, or it is not signed."
    put_done(f"{answer_sentence(answered)}{unverified}", output=output, quiet=quiet)


def _keep_answer(
    folder: Path, described: Estate, file: Path, found: HandoffAnswer, store: str | None, *, verified: bool
) -> None:
    """Keeps an answer beside what was asked; InvalidInput where that was not asked here."""
    journal = journal_at(folder, store)
    try:
        asked = [made for _, made in asked_of_others(journal, described.name)]
        ours = next((made for made in asked if made.reference == found.reference), None)
        if ours is None or ours.theirs != found.party:
            raise InvalidInput(
                f"{file} answers {found.reference} of {found.party}, which nobody was asked for here",
                code="handoff-unknown",
                remedy="enthesis request shows what was asked for; name the store it was kept in with --store",
            )
        kept = TakenAnswer(found, verified)
        journal.keep(KEPT_ANSWER, described.name, json_text(kept.as_json()).encode())
    finally:
        journal.close()


def _put_received(
    folder: Path, described: Estate, received: Path, taken: Handoff, output: str, *, checked: bool,
    write: bool, quiet: bool,
) -> None:  # fmt: skip
    """Shows what a document would do to effective access here, and writes it into the files."""
    try:
        found = additions(described, taken)
    except ValueError as fault:
        raise InvalidInput(f"{received}: {fault}", code="handoff-invalid") from None
    texts = estate_texts(folder)
    after = read_texts(edited(texts, found)).estate if found else described
    if after is None:
        first = read_texts(edited(texts, found)).errors[0]
        raise InvalidInput(f"{received}: this estate would be invalid with it: {first.message}", code="handoff-invalid")
    change = difference(described, after, now().timestamp())
    files = edit_files(folder, found, lambda reading: None) if write and found else []

    def facts() -> dict[str, Any]:
        entries = [{"section": addition.section, "name": addition.name, "entry": addition.entry} for addition in found]
        more = {"verified": checked, "adds": entries, "written_to": files, "access": difference_json(change)}
        return {**taken.as_json(), **more}

    def text() -> Iterator[Line]:
        yield from (*_received_lines(taken, found, checked=checked), *difference_lines(change))
        yield from danger_lines(outside_gains(after, change))

    def review() -> list[str]:
        return [*handoff_markdown(taken), "", *difference_markdown(change)]

    put_answer(output, CommandAnswer(facts, text, markdown=review))
    said = f"Written to {', '.join(files)}; enthesis propose shows what is to be enacted." if files else ""
    said = said or ("Add --write to write it into this estate's files." if found and not write else "")
    remark(said, quiet=quiet or not said or output == JSON)


def _received_lines(taken: Handoff, found: list[Addition], *, checked: bool) -> list[list[Span]]:
    sentence = handoff_sentence(taken)
    unverified = Span("not verified: no --key was given, or it is not signed", "doubt")
    lines = [
        line(Span(sentence, "strong")),
        line(f"  reference {taken.reference}, ", Span("signature verified", "good") if checked else unverified),
        line(Span("asked of us", "strong")),
        *(
            line(f"  in {request.account}: {request.sentence}{'; ' + request.why if request.why else ''}")
            for request in taken.asked
        ),
    ]
    if not found:
        return [*lines, line(Span("This estate already contains all of it.", "good"))]
    lines.append(line(f"This adds {counted(len(found), 'entry', 'entries')} to this estate:"))
    return [*lines, *(line(f"  {addition.section}  ", addition.line()) for addition in found)]

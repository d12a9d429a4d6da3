"""The part of `enthesis handoff` that follows what was asked: answers to and fro, and where each handoff stands."""

import json
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from enthesis.cli.histories import journal_at, journal_if_any
from enthesis.cli.options import ReviewFormat
from enthesis.cli.questions import now
from enthesis.files.saving import document_in, read_file, write_file
from enthesis.files.shapes import time_text
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.output.handoffs import answer_sentence, life_lines, life_sentence
from enthesis.output.lines import json_text
from enthesis.output.progress import reporter
from enthesis.output.streams import put_done, put_json, put_lines, remark
from enthesis.proposals.handoff_life import HandoffAnswer, TakenAnswer, answer_from, lives
from enthesis.proposals.handoffs import Handoff, unchecked_handoff

if TYPE_CHECKING:
    from enthesis.store.journal import Journal

MAX_DOCUMENT = 1024 * 1024  # bytes
KEPT, KEPT_ANSWER, KEPT_PROOF = "handoff", "handoff-answer", "proof"


def write_document(out: Path, said: Mapping[str, Any], sign: Path | None) -> None:
    """Writes a document for another party, signed where there is a key to sign it with."""
    document = json_text(said).encode() + b"\n"
    if sign is not None:
        from enthesis.live.signing import signed  # noqa: PLC0415  loads the libraries of tokens

        document = signed(document, sign)
    write_file(out, document)


def answer(taken: Handoff, says: str, because: str, out: Path, sign: Path | None, *, quiet: bool) -> None:
    """Writes what we say to another party's handoff."""
    if says != "done" and not because:
        raise InvalidInput(
            f"{says} wants a reason", code="argument-missing", remedy="say it with --because, for who asked"
        )
    made = HandoffAnswer(taken.reference, taken.theirs, says, because, time_text(now()))
    write_document(out, made.as_json(), sign)
    put_done(f"{answer_sentence(made)} Written to {out}{', signed' if sign is not None else ''}.",
             as_json=False, quiet=quiet)  # fmt: skip


def take(folder: Path, described: Estate, file: Path, key: Path | None, store: str | None, *, quiet: bool) -> None:
    """Takes back another party's answer to a handoff of ours, and keeps it beside that."""
    from enthesis.live.signing import opened  # noqa: PLC0415  loads the libraries of tokens

    document = opened(read_file(file, MAX_DOCUMENT), key, str(file))
    try:
        found = answer_from(document_in(document))
    except (ValueError, RecursionError) as fault:
        raise InvalidInput(f"{file}: {fault}", code="handoff-invalid") from None
    journal = journal_at(folder, store)
    try:
        asked = [made for _, made in _asked(journal, described.name)]
        ours = next((made for made in asked if made.reference == found.reference), None)
        if ours is None or ours.theirs != found.party:
            raise InvalidInput(
                f"{file} answers {found.reference} of {found.party}, which nobody was asked for here",
                code="handoff-unknown",
                remedy="enthesis handoff --list shows what was asked for; name the store it was kept in with --store",
            )
        kept = TakenAnswer(found, key is not None)
        journal.keep(KEPT_ANSWER, described.name, json_text(kept.as_json()).encode())
    finally:
        journal.close()
    unverified = "" if key is not None else " Not verified: no --key was given, or it is not signed."
    put_done(f"{answer_sentence(found)}{unverified}", as_json=False, quiet=quiet)


def list_all(
    folder: Path, described: Estate, store: str | None, output: ReviewFormat, *, ask: bool, quiet: bool
) -> None:
    """Where everything stands that other parties were asked for."""
    journal = journal_if_any(folder, store)
    asked, answers, proofs = [], [], []
    if journal is not None:
        try:
            asked = _asked(journal, described.name)
            kept = [json.loads(content) for _, content in journal.documents(KEPT_ANSWER, described.name)]
            answers = [TakenAnswer(answer_from(one["answer"]), one["verified"] is True) for one in kept]
            proofs = [json.loads(content) for _, content in journal.documents(KEPT_PROOF, described.name)]
        finally:
            journal.close()
    found = list(lives(asked, answers, proofs, _written(described, folder, quiet=quiet) if ask and asked else None))
    if output is ReviewFormat.JSON:
        put_json({"estate": described.name, "says": life_sentence(described.name, found),
                  "handoffs": [one.as_json() for one in found]})  # fmt: skip
        return
    put_lines(life_lines(described.name, found))
    if found and not ask:
        remark("What is in place was not looked at: --ask does.", quiet=quiet)


def _asked(journal: "Journal", estate: str) -> list[tuple[str, Handoff]]:
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

"""What becomes of what another party was asked for, from the asking to the proof; and the answers that come back."""

import json
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from enthesis.proposals.handoffs import Handoff

DOCUMENT, FORMAT = "handoff-answer", 1
ASKED, SEEN, IN_PLACE, PROVED, REFUSED = STATES = ("asked", "seen", "in place", "proved", "refused")
"""Nobody answered yet; answered, or some of it is there; all of it is there; its journeys were tried since and ended as
expected; the party will not write it."""


class HandoffSays(StrEnum):
    """What a party can answer: all of it is written; none of it will be; it is written otherwise than asked."""

    DONE = "done"
    REFUSED = "refused"
    CHANGED = "changed"


@dataclass(frozen=True, slots=True)
class HandoffAnswer:
    """What a party says to a handoff, by its reference; `at` is when (RFC 3339)."""

    reference: str
    party: str
    says: str
    because: str = ""
    at: str = ""

    def as_json(self) -> dict[str, Any]:
        """The document as data. It contains no secrets."""
        said = {"reference": self.reference, "from": self.party, "answer": self.says, "because": self.because}
        return {"enthesis": DOCUMENT, "format": FORMAT, **said, "at": self.at}


def answer_from(data: Any) -> HandoffAnswer:
    """The answer that a document holds; ValueError where it holds none."""
    if not isinstance(data, dict) or (data.get("enthesis"), data.get("format")) != (DOCUMENT, FORMAT):
        raise ValueError(f"not an answer to a handoff, of format {FORMAT}")
    texts = [data.get(name) for name in ("reference", "from", "answer", "because", "at")]
    if not all(isinstance(text, str) for text in texts) or texts[2] not in list(HandoffSays):
        raise ValueError(f"this answer is not understood: it says one of {', '.join(HandoffSays)}")
    try:
        json.dumps(texts, ensure_ascii=False).encode()
    except UnicodeEncodeError:  # half a character cannot be shown
        raise ValueError("this answer is not understood") from None
    return HandoffAnswer(*map(str, texts))


@dataclass(frozen=True, slots=True)
class TakenAnswer:
    """An answer that was taken back, and whether its signature was verified then."""

    answer: HandoffAnswer
    verified: bool

    def as_json(self) -> dict[str, Any]:
        """As it is kept."""
        return {"answer": self.answer.as_json(), "verified": self.verified}


@dataclass(frozen=True, slots=True)
class HandoffLife:
    """Where a handoff stands. `asked` is when it was written down; `missing` is what is not there yet, None where no
    live system was asked; `anew` the reference of a later one to the same party."""

    handoff: Handoff
    asked: str
    state: str
    answer: TakenAnswer | None = None
    missing: tuple[str, ...] | None = None
    anew: str = ""

    def as_json(self) -> dict[str, Any]:
        """For a program."""
        made, taken = self.handoff, self.answer
        return {
            "reference": made.reference, "to": made.theirs, "asked": self.asked, "state": self.state,
            "by": made.by or None, "window": made.window or None, "priority": made.priority or None,
            "answer": {**taken.answer.as_json(), "verified": taken.verified} if taken is not None else None,
            "missing": list(self.missing) if self.missing is not None else None, "asked_anew": self.anew or None,
        }  # fmt: skip


def lives(
    asked: Sequence[tuple[str, Handoff]],
    answers: Sequence[TakenAnswer],
    proofs: Sequence[Mapping[str, Any]],
    written: Collection[str] | None,
) -> Iterator[HandoffLife]:
    """Where each handoff stands, the last asked first. `asked` are those that were kept, with when, the oldest first;
    `proofs` are those that were kept; `written` are the statements of others that were seen just now."""
    latest = {made.reference: (when, made) for when, made in asked}
    to = {made.theirs: made.reference for _, made in asked}
    taken = {one.answer.reference: one for one in answers}
    for reference, (when, made) in reversed(latest.items()):
        titles = [f"{one.sentence} ({one.account})" for one in made.asked]
        missing = None if written is None else tuple(title for title in titles if title not in written)
        answer = taken.get(reference)
        some = answer is not None or (missing is not None and len(missing) < len(titles))
        if _proved(made, when, proofs):
            state = PROVED
        elif missing == () and titles:
            state = IN_PLACE
        elif answer is not None and answer.answer.says == HandoffSays.REFUSED:
            state = REFUSED
        else:
            state = SEEN if some else ASKED
        anew = to[made.theirs] if to[made.theirs] != reference else ""
        yield HandoffLife(made, when, state, answer, missing, anew)


def _proved(made: Handoff, since: str, proofs: Sequence[Mapping[str, Any]]) -> bool:
    """Whether each journey that shows that a handoff works was tried since and ended as expected."""
    wanted = {check.partition(":")[0] for check in made.checks}
    met = {
        str(one.get("journey"))
        for proof in proofs
        if str(proof.get("taken", "")) >= since
        for one in proof.get("journeys", ())
        if one.get("met") is True
    }
    return bool(wanted) and wanted <= met

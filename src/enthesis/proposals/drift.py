"""What others changed on the live side since it was last enacted: ours, and changed; ours, and gone."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from enthesis.model.sentences import statement_sentence
from enthesis.proposals.steps import Step
from enthesis.surveys.statements import Key, Surveyed, statement_key

WhoRemoved = Callable[[Step, str], str]
"""Who removed what a step made, by its id, and when; '' where nobody says."""


@dataclass(frozen=True, slots=True)
class LastEnacted:
    """A statement as an enactment left it: the step that wrote it last, its version and when that was, and which live
    side that was, where it said so."""

    step: Step
    etag: str
    since: str
    side: str = ""


@dataclass(frozen=True, slots=True)
class Drift:
    """What is ours and was changed by others since, and what is ours and gone, each with who did it."""

    changed: tuple[str, ...] = ()
    gone: tuple[str, ...] = ()


def drift(
    known: Mapping[tuple[str, str], LastEnacted],
    surveys: Sequence[Surveyed],
    who_removed: WhoRemoved = lambda step, at: "",
) -> Drift:
    """Compares what enactments left, by system and id, with what is there now. What was left at another live side of
    the same name is not looked for, and what is in place by now, under whatever id, has not gone."""
    live = {(surveyed.provider, statement.id): statement for surveyed in surveys for statement in surveyed.objects}
    there = {statement.key for statement in live.values()}
    looked_at = {(surveyed.provider, holder) for surveyed in surveys for holder in surveyed.holders}
    sides = {surveyed.provider: surveyed.side for surveyed in surveys}
    changed, gone = [], dict[Key, str]()
    for key, left in known.items():
        if left.side and sides.get(key[0]) and left.side != sides[key[0]]:
            continue
        found, step = live.get(key), left.step
        if found is not None and found.etag != left.etag:
            by = found.changed_by or "an unknown person"
            changed.append(f"{statement_sentence(found.collection, found.body)} ({found.holder}): changed by {by}")
        elif found is None and (key[0], step.holder.split("/", 1)[0]) in looked_at:
            body = step.body or {}
            what = (step.provider, step.collection, step.holder, statement_key(step.collection, body))
            if what not in there:  # of what was made several times, who took it away last is told
                by = who_removed(step, key[1]) or "an unknown person"
                gone[what] = f"{statement_sentence(step.collection, body)} ({step.holder}): removed by {by}"
    return Drift(tuple(changed), tuple(gone.values()))

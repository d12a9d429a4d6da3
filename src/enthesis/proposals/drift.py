"""What others changed on the live side since it was last enacted: ours, and changed; ours, and gone."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from enthesis.model.sentences import statement_sentence
from enthesis.proposals.steps import Step
from enthesis.surveys.statements import Surveyed

WhoRemoved = Callable[[Step, str], str]
"""Who removed what a step made, by its id, and when; '' where nobody says."""


@dataclass(frozen=True, slots=True)
class LastEnacted:
    """A statement as an enactment left it: the step that wrote it last, its version and when that was."""

    step: Step
    etag: str
    since: str


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
    """Compares what enactments left, by system and id, with what is there now."""
    live = {(surveyed.provider, statement.id): statement for surveyed in surveys for statement in surveyed.objects}
    looked_at = {(surveyed.provider, holder) for surveyed in surveys for holder in surveyed.holders}
    changed, gone = [], []
    for key, left in known.items():
        found = live.get(key)
        if found is not None and found.etag != left.etag:
            by = found.changed_by or "an unknown person"
            changed.append(f"{statement_sentence(found.collection, found.body)} ({found.holder}): changed by {by}")
        elif found is None and (key[0], left.step.holder.split("/", 1)[0]) in looked_at:
            by = who_removed(left.step, key[1]) or "an unknown person"
            sentence = statement_sentence(left.step.collection, left.step.body or {})
            gone.append(f"{sentence} ({left.step.holder}): removed by {by}")
    return Drift(tuple(changed), tuple(gone))

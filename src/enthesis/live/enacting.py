"""Carries a proposal out, in its order; safe to run again after an interruption."""

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass

from enthesis.model.errors import EnthesisError, InvalidInput, MovedAway, StoppedPartWay
from enthesis.ports import Connected, Reporter
from enthesis.proposals.steps import REMOVE, Proposal, Step
from enthesis.surveys.statements import LiveObject, Surveyed, merged_ids, normalised, statement_key


@dataclass(frozen=True, slots=True)
class Enacted:
    """The sentences of the steps that were done now, and of those that were found done."""

    done: tuple[str, ...]
    found_done: tuple[str, ...]


def enact(proposal: Proposal, surveys: Sequence[Surveyed], connected: Connected, reporter: Reporter) -> Enacted:
    """Carries out what is not done yet.

    `surveys` are of this moment: where anything but the proposal's own steps has changed since it was made,
    MovedAway says what, and nothing is done. StoppedPartWay where some steps are done and one failed.
    """
    waiting, found_done = _split(proposal, surveys)
    _refuse_if_moved(proposal, surveys)
    ids = merged_ids(surveys)
    done: list[str] = []
    reporter.begin("enacting", len(waiting))
    try:
        for step in waiting:
            reporter.step(step.sentence)
            provider = connected.providers.get(step.provider) or connected.clusters.get(step.provider)
            if provider is None:
                raise InvalidInput(
                    f"the proposal speaks of the provider {step.provider}, which the estate has not",
                    code="proposal-invalid",
                )
            provider.change(step, ids)
            done.append(step.sentence)
    except EnthesisError as fault:
        if not done:
            raise
        message = f"{len(done)} of {len(waiting)} steps are done, then: {fault.message}"
        raise StoppedPartWay(message, code="stopped-part-way", remedy="run the same again to go on") from fault
    finally:
        reporter.end()
    return Enacted(tuple(done), tuple(found_done))


def left_to_do(proposal: Proposal, surveys: Sequence[Surveyed]) -> list[Step]:
    """The steps of a proposal that nothing has done yet."""
    return _split(proposal, surveys)[0]


def refuse_if_different(read: Proposal, made: Proposal, surveys: Sequence[Surveyed]) -> None:
    """Goes on where what a file has still to do is what the estate and the live side make now: what was reviewed is
    what they make, and no step was put in by hand. MovedAway where the live side changed, InvalidInput where the file
    or the estate did."""
    _refuse_if_moved(read, surveys)
    waiting = left_to_do(read, surveys)
    left, fresh = ({_written(step): step.sentence for step in steps} for steps in (waiting, made.steps))
    if left.keys() != fresh.keys() or len(waiting) != len(made.steps):
        differs = [sentence for key, sentence in {**left, **fresh}.items() if key not in left or key not in fresh]
        raise InvalidInput(
            f"this proposal is not what the estate and the live side make now: {'; '.join(differs[:5])}",
            code="proposal-differs",
            remedy="propose --out FILE again, and read it",
        )


def _written(step: Step) -> str:
    return json.dumps(asdict(step), sort_keys=True, default=str)


def _split(proposal: Proposal, surveys: Sequence[Surveyed]) -> tuple[list[Step], list[str]]:
    """The steps still to do, and the sentences of those that an earlier run has done."""
    waiting: list[Step] = []
    done: list[str] = []
    for step in proposal.steps:
        (done.append(step.sentence) if _is_done(step, surveys) else waiting.append(step))
    return waiting, done


def _is_done(step: Step, surveys: Sequence[Surveyed]) -> bool:
    every = (one for surveyed in surveys for one in surveyed.objects if surveyed.provider == step.provider)
    if step.action == REMOVE:
        return not any(one.id == step.id for one in every)
    if step.id is not None:
        return any(one.id == step.id and _is_as(step, one) for one in every)
    return any(_is_as(step, one) for one in every)


def _is_as(step: Step, one: LiveObject) -> bool:
    """Whether a live statement is what a step makes of it."""
    if step.body is None:
        raise InvalidInput("a step of this proposal says nothing", code="proposal-invalid")
    there = (one.collection, one.holder, one.mark)
    if there != (step.collection, step.holder, step.mark):
        return False
    return normalised(one.collection, one.body) == normalised(step.collection, step.body)


def _refuse_if_moved(proposal: Proposal, surveys: Sequence[Surveyed]) -> None:
    own = {(step.provider, step.id) for step in proposal.steps if step.id}
    moved: list[str] = []
    for surveyed in surveys:
        before = proposal.seen.get(surveyed.provider, {})
        now = surveyed.seen()
        ours = {one.id for one in surveyed.objects if _explained(one, proposal)}
        changed = {one for one in before.keys() | now.keys() if before.get(one) != now.get(one)}
        unexplained = {one for one in changed if one not in ours and (surveyed.provider, one) not in own}
        bodies = {one.id: one for one in surveyed.objects}
        for identifier in sorted(unexplained):
            there = bodies.get(identifier)
            what = statement_key(there.collection, there.body) if there else "a statement that has gone"
            moved.append(f"{surveyed.provider}: {what}")
        for step in proposal.steps:
            found = bodies.get(step.id or "")
            if step.provider == surveyed.provider and found and found.etag != step.etag and not _is_done(step, surveys):
                moved.append(f"{surveyed.provider}: {statement_key(found.collection, found.body)}")
    if moved:
        raise MovedAway(
            f"the live side has moved away from this proposal: {'; '.join(moved[:5])}",
            code="live-side-changed",
            remedy="propose again, and read what is different now",
        )


def _explained(one: LiveObject, proposal: Proposal) -> bool:
    """Whether an object is what one of the proposal's own steps makes, so that an earlier run made it."""
    steps = (step for step in proposal.steps if step.body is not None and step.provider == one.provider)
    return any(_is_as(step, one) for step in steps)

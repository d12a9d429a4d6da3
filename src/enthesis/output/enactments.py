"""What came of an enactment, account by account; and the enactments before it."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from enthesis.change.enacting import Enacted, Ended
from enthesis.output.lines import Line, Span, counted, line
from enthesis.output.proposals import first_sentence
from enthesis.proposals.steps import MAKE, NOT_IN_PLACE, REMOVE, Proposal
from enthesis.store.journal import (
    DONE,
    FAILED,
    FINISHED,
    LEFT,
    RUNNING,
    SENT,
    STOPPED,
    UNDONE,
    WAITING,
    Enactment,
    KeptStep,
)

OF_ENACTMENT = {
    FINISHED: ("finished", "good"),
    STOPPED: ("stopped: some steps failed", "bad"),
    RUNNING: ("interrupted", "bad"),
    UNDONE: ("undone", "quiet"),
}
OF_STEP = {
    DONE: "done",
    FAILED: "failed",
    LEFT: "not tried",
    SENT: "sent, and not answered",
    WAITING: "not begun",
}


def enacted_lines(
    enacted: Enacted, after: Proposal, lives_on: Mapping[str, str], *, undone: bool = False, quiet: bool = False
) -> Iterator[Line]:
    """What is in place now, what was removed, what failed, and what still is not as described. `after` is what a
    proposal would say now."""
    yield line(Span(enacted_sentence(enacted, after, undone=undone), "strong"))
    for holder, ended in _by_holder(enacted.of(DONE)):
        if not quiet:
            yield line(Span(holder, "strong"))
        for words, chosen in (
            ("in place now", [outcome for outcome in ended if outcome.step.action != REMOVE]),
            ("removed", [outcome for outcome in ended if outcome.step.action == REMOVE]),
        ):
            if chosen and not quiet:
                yield line("  ", Span(words, "good"))
                yield from (line("    ", outcome.step.sentence) for outcome in chosen)
    if enacted.found_done and not quiet:
        yield line(Span("in place before", "strong"))
        yield from (line("  ", sentence) for sentence in enacted.found_done)
    for head, others in (("failed", enacted.of(FAILED)), ("not tried", enacted.of(LEFT, WAITING, SENT))):
        if others:
            yield line(Span(head, "bad"))
            for outcome in others:
                yield line(
                    "  ",
                    f"{outcome.step.sentence} ({outcome.step.holder}){': ' + outcome.said if outcome.said else ''}",
                )
    if enacted.late:
        yield line(Span("written, and not in force yet: slow, not wrong", "doubt"))
        yield from (line("  ", sentence) for sentence in enacted.late)
    for state, said in after.states.items():
        if said and state != NOT_IN_PLACE and not undone:
            yield line(Span(state, "doubt"))
            yield from (line("  ", sentence) for sentence in said)
    for name, until in lives_on.items():
        yield line(f"Sessions as {name} that exist already end at {until} at the latest.")


def enacted_sentence(enacted: Enacted, after: Proposal, *, undone: bool = False) -> str:
    """The answer in a sentence: a failure first."""
    done, every = len(enacted.of(DONE)), len(enacted.steps)
    if enacted.steps and not enacted.whole:
        failed = len(enacted.of(FAILED))
        said = f"{counted(failed, 'step')} failed, " if failed else ""
        return f"Stopped part-way: {said}{done} of {counted(every, 'step')} done."
    if not enacted.steps:
        return first_sentence(after)
    if undone:
        return f"Undone: {counted(done, 'step')} taken back."
    if after.fully_in_place:
        return f"{after.estate} is fully in place: {_places(enacted)}."
    return f"In place now: {_places(enacted)}. {first_sentence(after)}"


def _places(enacted: Enacted) -> str:
    """How much was done in which account."""
    parts: list[str] = []
    for holder, ended in _by_holder(enacted.of(DONE)):
        there = sum(outcome.step.action != REMOVE for outcome in ended)
        gone = len(ended) - there
        if there:
            parts.append(f"{counted(there, 'statement') if not parts else there} in {holder}")
        if gone:
            parts.append(f"{counted(gone, 'statement') if not parts else gone} removed from {holder}")
    return ", ".join(parts)


def _by_holder(ended: Sequence[Ended]) -> list[tuple[str, list[Ended]]]:
    found: dict[str, list[Ended]] = {}
    for outcome in ended:
        found.setdefault(outcome.step.holder, []).append(outcome)
    return list(found.items())


def enacted_json(enacted: Enacted, after: Proposal, lives_on: Mapping[str, str]) -> dict[str, Any]:
    """The same for a program."""
    accounts = [
        {
            "account": holder,
            "in_place": [outcome.step.sentence for outcome in ended if outcome.step.action != REMOVE],
            "removed": [outcome.step.sentence for outcome in ended if outcome.step.action == REMOVE],
        }
        for holder, ended in _by_holder(enacted.of(DONE))
    ]
    return {
        "estate": after.estate,
        "enactment": enacted.number or None,
        "finished": not enacted.steps or enacted.whole,
        "fully_in_place": after.fully_in_place,
        "done": [outcome.step.sentence for outcome in enacted.of(DONE)],
        "found_done": list(enacted.found_done),
        "accounts": accounts,
        "failed": [_not_done(outcome) for outcome in enacted.of(FAILED)],
        "not_tried": [_not_done(outcome) for outcome in enacted.of(LEFT, WAITING, SENT)],
        "not_in_force": list(enacted.late),
        "states": {name.replace(" ", "_"): list(said) for name, said in after.states.items()},
        "lives_on": dict(lives_on),
    }


def _not_done(outcome: Ended) -> dict[str, str]:
    return {
        "sentence": outcome.step.sentence,
        "account": outcome.step.holder,
        "state": OF_STEP[outcome.state],
        "why": outcome.said,
    }


def history_lines(estate: str, every: Sequence[Enactment]) -> Iterable[Line]:
    """The enactments, the newest first."""
    yield line(Span(f"{estate}: {counted(len(every), 'enactment') if every else 'no enactments'}.", "strong"))
    for enactment in every:
        words, style = OF_ENACTMENT[enactment.state]
        steps = f"{enactment.counts.get(DONE, 0)} of {counted(sum(enactment.counts.values()), 'step')} done"
        undoes = f", undoes {', '.join(map(str, enactment.undoes))}" if enactment.undoes else ""
        by = f" by {enactment.by}" if enactment.by else ""
        yield line(
            f"  {enactment.number}  {_to_the_second(enactment.begun)}{by}: ", Span(words, style), f", {steps}{undoes}"
        )
        if enactment.because:
            yield line(f"     {enactment.because}")


def _to_the_second(time: str) -> str:
    """A time of the store, for people."""
    return f"{time[:19]}Z"


class EnactmentPeople(NamedTuple):
    """Who proposed what was enacted, '' where that is not known, and who approved it; who enacted it the enactment
    says."""

    proposed_by: str = ""
    approved_by: tuple[str, ...] = ()


NOBODY = EnactmentPeople()


def enactment_lines(enactment: Enactment, kept: Sequence[KeptStep], people: EnactmentPeople = NOBODY) -> Iterable[Line]:
    """One enactment: when, what and why; who proposed, approved and enacted it."""
    words, style = OF_ENACTMENT[enactment.state]
    yield line(Span(f"Enactment {enactment.number} of {enactment.estate}: ", "strong"), Span(words, style), ".")
    ended = f", ended {_to_the_second(enactment.ended)}" if enactment.ended else ""
    yield line(f"  begun {_to_the_second(enactment.begun)}{ended}")
    if people.proposed_by:
        yield line(f"  proposed by {people.proposed_by}")
    if people.approved_by:
        yield line(f"  approved by {' and '.join(people.approved_by)}")
    yield line(f"  enacted by {enactment.by or 'unknown'}")
    if enactment.because:
        yield line(f"  because {enactment.because}")
    if enactment.undoes:
        yield line(f"  undoes {', '.join(f'enactment {number}' for number in enactment.undoes)}")
    yield line(f"  proposal {enactment.proposal}")
    for each in kept:
        words = "made" if each.step.action == MAKE else "removed" if each.step.action == REMOVE else "changed"
        state = words if each.state == DONE else OF_STEP[each.state]
        when = f"{_to_the_second(each.ended)}  " if each.ended else ""
        said = f": {each.said}" if each.said else ""
        yield line(
            f"  {when}{each.step.holder}  ",
            Span(state, "good" if each.state == DONE else "bad"),
            f"  {each.step.sentence}{said}",
        )


def enactment_json(
    enactment: Enactment, kept: Sequence[KeptStep] | None = None, people: EnactmentPeople = NOBODY
) -> dict[str, Any]:
    """One enactment for a program; with its steps where they are given."""
    names = ("number", "estate", "state", "begun", "ended", "by", "because", "undoes", "proposal")
    about = {name: getattr(enactment, name) for name in names}
    if kept is None:
        return {**about, "steps": dict(enactment.counts)}
    steps = [
        {
            "action": each.step.action, "account": each.step.holder, "system": each.step.provider,
            "sentence": each.step.sentence, "state": OF_STEP[each.state], "said": each.said, "sent": each.sent,
            "ended": each.ended, "id": each.outcome.get("id"),
        }
        for each in kept
    ]  # fmt: skip
    whose = {"proposed_by": people.proposed_by, "approved_by": list(people.approved_by)}
    return {**about, **whose, "steps": steps}

"""A proposal in sentences: which states keep the live side from being as described, and what the steps do to access."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from enthesis.output.lines import Line, Span, counted, line, markdown_text
from enthesis.ports import Right
from enthesis.proposals.steps import (
    CHANGE,
    DIFFERENT,
    LEFT_BEHIND,
    MAKE,
    NOT_IN_PLACE,
    NOT_POSSIBLE,
    REMOVE,
    WAITING,
    Danger,
    Opening,
    Proposal,
    Step,
)

OF_ACTION = ((MAKE, NOT_IN_PLACE, "doubt"), (CHANGE, DIFFERENT, "doubt"), (REMOVE, LEFT_BEHIND, "bad"))
TAKEN_BACK = ((MAKE, "made again", "doubt"), (CHANGE, "changed back", "doubt"), (REMOVE, "removed again", "bad"))


class ListSection(NamedTuple):
    """A list under a head. `below` are further lines of an entry, by its place."""

    head: str
    style: str
    entries: tuple[str, ...]
    below: tuple[tuple[str, ...], ...] = ()
    note: str = ""


def proposal_lines(proposal: Proposal) -> Iterable[Line]:
    """The proposal as text."""
    yield line(Span(first_sentence(proposal), "strong"))
    for provider, holder in _holders(proposal.steps):
        yield line(Span(holder, "strong"), Span(kept_where(provider, holder), "quiet"))
        mine = [step for step in proposal.steps if (step.provider, step.holder) == (provider, holder)]
        for action, words, style in _states_of(proposal):
            its = [step.sentence for step in mine if step.action == action]
            if its:
                yield line("  ", Span(words, style))
                yield from (line("    ", sentence) for sentence in its)
    for part in _parts(proposal):
        yield line()
        yield line(Span(part.head, part.style))
        yield from _entries(part)
    yield from danger_lines(proposal.dangers)


def _states_of(proposal: Proposal) -> tuple[tuple[str, str, str], ...]:
    """What each action of a step is called."""
    return TAKEN_BACK if proposal.takes_back else OF_ACTION


def kept_where(provider: str, holder: str) -> str:
    """Where a holder's statements are kept, in words after its name: an organisation's at its directory, an issuer's
    at the issuer itself."""
    if provider != holder:
        return f" at {provider}"
    return " at its directory" if holder.startswith("@") else ""


def _entries(part: ListSection) -> Iterator[Line]:
    for number, entry in enumerate(part.entries):
        yield line("  ", entry)
        if number < len(part.below):
            yield from (line("    ", name) for name in part.below[number])
    if part.note:
        yield line(Span(f"  {part.note}", "quiet"))


def _holders(steps: Sequence[Step]) -> list[tuple[str, str]]:
    return list(dict.fromkeys((step.provider, step.holder) for step in steps))


def _parts(proposal: Proposal) -> Iterator[ListSection]:
    """What a proposal says beside its steps, as every format has it."""
    still = tuple(f"sessions as {name} that exist already, for up to {life} more" for name, life in proposal.lives_on)
    standing = [opening for opening in proposal.openings if not opening.accepted]
    accepted = [opening for opening in proposal.openings if opening.accepted]
    parts = (
        ListSection("ours, and changed by others since the last enactment", "bad", proposal.changed_since),
        ListSection("ours, and removed by others since the last enactment", "bad", proposal.gone_since),
        ListSection(NOT_POSSIBLE, "bad", proposal.states[NOT_POSSIBLE]),
        ListSection(
            WAITING, "doubt", proposal.theirs, note="`enthesis request out` writes down what they are asked for"
        ),
        ListSection("written by others already", "strong", proposal.written),
        ListSection(
            "a statement of others with the same key as one of ours: narrowing ours leaves it", "bad", proposal.twins
        ),
        _opened(standing),
        ListSection(
            "made by others, and closes what would be open",
            "doubt",
            tuple(one.sentence for one in proposal.closings),
            tuple(one.opens for one in proposal.closings),
        ),
        ListSection(
            "made by others, and accepted",
            "strong",
            tuple(f"{opening.sentence}: {opening.accepted}" for opening in accepted),
        ),
        ListSection(LEFT_BEHIND, "strong", proposal.left, note="--prune removes them"),
        ListSection("different, and accepted", "strong", proposal.lived_with),
        ListSection("made by others, left alone", "strong", proposal.not_ours),
        ListSection("ended already, and not made", "strong", proposal.ended),
        ListSection("names what does not exist any more, and gives nothing", "strong", proposal.dangling),
        ListSection("refused for a while: no order of the steps avoids it safely", "bad", proposal.outages),
        ListSection("access gained", "strong", proposal.gives),
        ListSection("access lost", "strong", proposal.takes),
        ListSection("ends later", "strong", still),
    )
    return (part for part in parts if part.entries)


def _opened(standing: Sequence[Opening]) -> ListSection:
    """What others have opened, and how to accept it."""
    how = "to accept one: an entry of `accepted` with risk: not-ours, of: its sentence, because and until"
    entries = tuple(opening.sentence for opening in standing)
    return ListSection(
        "made by others, and opens what is ours", "bad", entries, tuple(opening.opens for opening in standing), how
    )


def proposal_markdown(proposal: Proposal) -> Iterable[str]:
    """All of it for a review, as lists; what the steps do to access is told beside it."""
    yield f"## {markdown_text(first_sentence(proposal))}"
    if proposal.steps:
        yield ""
    for step in proposal.steps:
        words = next(words for action, words, _ in _states_of(proposal) if action == step.action)
        yield f"- {markdown_text(step.holder)}, {words}: {markdown_text(step.sentence)}"
    for part in _parts(proposal):
        if part.head in ("access gained", "access lost"):
            continue
        yield from ("", f"### {markdown_text(part.head[:1].upper() + part.head[1:])}", "")
        for number, entry in enumerate(part.entries):
            yield f"- {markdown_text(entry)}"
            if number < len(part.below):
                yield from (f"  - {markdown_text(name)}" for name in part.below[number])
    for danger in proposal.dangers:
        yield from ("", f"### Danger: {markdown_text(danger.name)}", "")
        yield from (f"- {markdown_text(sentence)}" for sentence in danger.says)


def first_sentence(proposal: Proposal) -> str:
    """The answer in a sentence: the states that are not empty, and nothing else."""
    if proposal.takes_back:
        which = f"enactment{'s' * (len(proposal.takes_back) > 1)} {' and '.join(map(str, proposal.takes_back))}"
        changes = counted(len(proposal.steps), "step") if proposal.steps else "nothing is left to do"
        return f"To take back {which} of {proposal.estate}: {changes}."
    counts = {state: len(said) for state, said in proposal.states.items() if said}
    others = len(proposal.twins) + len(proposal.unaccepted)
    also = f"{counted(others, 'statement')} of others {'opens' if others == 1 else 'open'} more" if others else ""
    if not counts:
        how = "in place as far as it was looked at" if proposal.aside else "fully in place"
        return f"{proposal.estate} is {how}{', but ' + also if also else ''}."
    if list(counts) == [NOT_IN_PLACE] and not also:
        count = counts[NOT_IN_PLACE]
        verb = "is" if count == 1 else "are"
        return f"{counted(count, 'statement')} of {proposal.estate} {verb} {NOT_IN_PLACE}."
    parts = [f"{count} {state}" for state, count in counts.items()]
    parts[0] = parts[0].replace(" ", " statement " if next(iter(counts.values())) == 1 else " statements ", 1)
    return f"{proposal.estate}: {', '.join([*parts, *([also] if also else [])])}."


def rights_lines(found: Mapping[str, Sequence[Right]]) -> Iterator[Line]:
    """The rights of our own that are needed, by system and command."""
    count = sum(map(len, found.values()))
    are = "is" if count == 1 else "are"
    yield line(Span(f"{counted(count, 'right')} of our own {are} needed, and no more.", "strong"))
    for name, its in found.items():
        yield line(Span(name, "strong"))
        for to in ("survey", "enact"):
            mine = [right for right in its if right.to == to]
            if mine:
                yield line("  ", Span(f"to {to}", "quiet"))
            yield from (line(f"    {right.may} at {right.at}") for right in mine)


def danger_lines(dangers: Iterable[Danger]) -> Iterable[Line]:
    """What needs an acceptance by name, and why."""
    for danger in dangers:
        yield line()
        yield line(Span(f"danger: {danger.name}", "bad"), f" (wants --accept {danger.name})")
        for sentence in danger.says:
            yield line("  ", sentence)

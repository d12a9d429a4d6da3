"""A proposal in sentences, by account; and what it gives and takes."""

from collections.abc import Iterable

from enthesis.output.lines import Line, Span, counted, line, markdown_text
from enthesis.proposals.steps import CHANGE, MAKE, REMOVE, Danger, Opening, Proposal, Step

HEADS = ((MAKE, "will exist", "good"), (CHANGE, "will change", "doubt"), (REMOVE, "will go", "bad"))


def proposal_lines(proposal: Proposal) -> Iterable[Line]:
    """The proposal as text."""
    yield line(Span(first_sentence(proposal), "strong"))
    holders = dict.fromkeys((step.provider, step.holder) for step in proposal.steps)
    for provider, holder in holders:
        yield line(Span(holder, "strong"), Span(f" at {provider}", "quiet"))
        mine = [step for step in proposal.steps if (step.provider, step.holder) == (provider, holder)]
        for action, words, style in HEADS:
            yield from _group(words, style, [step for step in mine if step.action == action])
    if proposal.blocked:
        yield line()
        yield line(Span("cannot be done yet", "bad"))
        for one in proposal.blocked:
            yield line(f"  {one.sentence}: {one.why}; ", Span(f"up to {one.who}", "doubt"))
    yield from _listed("for the administrators of others to write", proposal.theirs)
    yield from _listed("stands beside one of ours, not made by us: narrowing ours leaves it", proposal.twins)
    yield from _openings(proposal.openings)
    yield from _listed("left behind by this estate (they go with --prune)", proposal.left)
    yield from _listed("there already and not ours, left alone", proposal.not_ours)
    yield from _listed("ended already, and not made", proposal.ended)
    yield from _listed("names what is gone, and gives nothing", proposal.dangling)
    yield from danger_lines(proposal.dangers)
    yield from _listed("access gained", proposal.gives)
    yield from _listed("access lost", proposal.takes)
    still = [f"sessions as {name} that are out already, for up to {life} more" for name, life in proposal.lives_on]
    yield from _listed("lives on for a while", still)


def proposal_markdown(proposal: Proposal) -> Iterable[str]:
    """The steps for a review, as a list; what they do to access is told beside it."""
    yield f"## {markdown_text(first_sentence(proposal))}"
    for step in proposal.steps:
        words = next(words for action, words, _ in HEADS if action == step.action)
        if step is proposal.steps[0]:
            yield ""
        yield f"- {markdown_text(step.holder)}, {words}: {markdown_text(step.sentence)}"


def first_sentence(proposal: Proposal) -> str:
    """The answer in a sentence."""
    if proposal.nothing_to_do:
        others = len(proposal.twins) + len(proposal.unaccepted)
        but = (
            f", but {counted(others, 'statement')} of others {'opens' if others == 1 else 'open'} more"
            if others
            else ""
        )
        return f"Nothing is to be done: the live side is as {proposal.estate} describes it{but}."
    parts = []
    for action, words, _ in HEADS:
        count = sum(step.action == action for step in proposal.steps)
        if count:
            parts.append(f"{counted(count, 'statement')} {words}")
    if proposal.blocked:
        parts.append(f"{counted(len(proposal.blocked), 'statement')} cannot be done yet")
    return f"To be as {proposal.estate} describes it: " + ", ".join(parts) + "."


def danger_lines(dangers: Iterable[Danger]) -> Iterable[Line]:
    """What needs an acceptance by name, and why."""
    for danger in dangers:
        yield line()
        yield line(Span(f"danger: {danger.name}", "bad"), f", which `enact` does only with --accept {danger.name}")
        for sentence in danger.says:
            yield line("  ", sentence)


def _openings(openings: Iterable[Opening]) -> Iterable[Line]:
    """What others have opened, and how to accept it."""
    standing = [opening for opening in openings if not opening.accepted]
    if standing:
        yield line()
        yield line(Span("made by others, and opens what is ours", "bad"))
    for one in standing:
        yield line("  ", one.sentence)
        yield from (line("    ", sentence) for sentence in one.opens)
    if standing:
        how = "to accept one: an entry of `accepted` with risk: not-ours, of: its sentence, because and until"
        yield line(Span(f"  {how}", "quiet"))
    yield from _listed(
        "made by others, and accepted",
        (f"{opening.sentence}: {opening.accepted}" for opening in openings if opening.accepted),
    )


def _group(words: str, style: str, steps: list[Step]) -> Iterable[Line]:
    if not steps:
        return
    yield line("  ", Span(words, style))
    for step in steps:
        yield line("    ", step.sentence)


def _listed(head: str, sentences: Iterable[str]) -> Iterable[Line]:
    listed = list(sentences)
    if listed:
        yield line()
        yield line(Span(head, "strong"))
        for sentence in listed:
            yield line("  ", sentence)

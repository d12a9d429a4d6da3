"""A handoff as a page for the people who carry it out, who need not know Enthesis."""

from collections import Counter
from collections.abc import Iterator, Sequence

from enthesis.files.writing import flow_text
from enthesis.output.lines import Line, Span, counted, line, markdown_text
from enthesis.proposals.handoff_life import STATES, HandoffAnswer, HandoffLife
from enthesis.proposals.handoffs import NOT_ASKED, Handoff, Priority


def handoff_sentence(made: Handoff) -> str:
    """The answer in a sentence."""
    if made.impossible:
        return f"What {made.estate} needs of {made.theirs} cannot work yet."
    if not made.asked:
        return f"Nothing is needed of {made.theirs}."
    return f"{made.estate} asks {made.theirs} for {counted(len(made.asked), 'statement')}."


def _parts(made: Handoff) -> Iterator[tuple[str, tuple[str, ...]]]:
    yield "cannot work until this is changed", made.impossible
    yield "why", made.why
    yield (
        "asked",
        tuple(
            f"in {request.account}: {request.sentence}{'; ' + request.why if request.why else ''}"
            for request in made.asked
        ),
    )
    yield "not needed", made.unneeded
    yield "not asked", NOT_ASKED
    yield "done on our side", made.we_do
    yield "how to check it", made.checks


def handoff_lines(made: Handoff) -> Iterator[Line]:
    """The handoff on a terminal."""
    yield line(Span(handoff_sentence(made), "strong"))
    yield line(f"  reference {made.reference}{_wanted_when(made)}")
    for head, entries in _parts(made):
        if entries:
            yield line(Span(head, "bad" if head.startswith("cannot") else "strong"))
            yield from (line("  ", entry) for entry in entries)


def _wanted_when(made: Handoff) -> str:
    """By when, in which window and how soon a handoff is wanted, to stand behind its reference."""
    parts = (("needed by ", made.by), ("in the window ", made.window), ("priority ", made.priority))
    return "".join(f", {word}{said}" for word, said in parts if said)


def subject_line(made: Handoff) -> str:
    """What a message or a ticket that brings it is about."""
    urgent = f"{made.priority}: " if made.priority and made.priority != Priority.NORMAL else ""
    by = f", by {made.by}" if made.by else ""
    return f"{urgent}{handoff_sentence(made).removesuffix('.')}{by} ({made.reference})"


def answer_sentence(answer: HandoffAnswer) -> str:
    """An answer in a sentence."""
    because = f": {answer.because}" if answer.because else ""
    return f"{answer.party} answers {answer.says} to {answer.reference}{because}."


def life_sentence(estate: str, found: Sequence[HandoffLife]) -> str:
    """How many handoffs there are, and where they stand."""
    if not found:
        return f"{estate} has asked nobody for anything, as far as its store knows."
    states = Counter(one.state for one in found)
    told = ", ".join(f"{states[state]} {state}" for state in STATES if states[state])
    return f"{counted(len(found), 'handoff')} of {estate}: {told}."


def life_lines(estate: str, found: Sequence[HandoffLife]) -> Iterator[Line]:
    """Each handoff with where it stands, what was answered, and what is missing."""
    yield line(Span(life_sentence(estate, found), "strong"))
    width = max((len(one.state) for one in found), default=0)
    for one in found:
        made = one.handoff
        style = {"in place": "good", "proved": "good", "refused": "bad"}.get(one.state, "doubt")
        yield line("  ", Span(one.state.ljust(width), style), f"  {made.theirs}  {made.reference}",
                   Span(f"  asked {one.asked}{_wanted_when(made)}", "quiet"))  # fmt: skip
        if one.answer is not None:
            checked = "signature verified" if one.answer.verified else "not verified"
            yield line(" " * (width + 4), answer_sentence(one.answer.answer), Span(f"  {checked}", "quiet"))
        for title in one.missing or ():
            yield line(" " * (width + 4), Span("not there: ", "doubt"), title)
        if one.anew:
            yield line(" " * (width + 4), Span(f"asked anew since, as {one.anew}", "quiet"))


def handoff_markdown(made: Handoff) -> Iterator[str]:
    """The handoff as a page: what is asked, each with exactly what it says."""
    yield f"Subject: {markdown_text(subject_line(made))}"
    yield ""
    yield f"# {markdown_text(handoff_sentence(made))}"
    yield ""
    yield f"Reference: `{made.reference}`. From {markdown_text(made.ours)}, for {markdown_text(made.theirs)}."
    if made.by:
        yield f"Wanted by {markdown_text(made.by)}."
    if made.window:
        yield f"To be done in this window: {markdown_text(made.window)}."
    if made.priority:
        yield f"Priority: {markdown_text(made.priority)}."
    for head, entries in _parts(made):
        if not entries:
            continue
        yield from ("", f"## {head[:1].upper() + head[1:]}", "")
        yield from (f"- {markdown_text(entry)}" for entry in entries)
    if made.asked:
        yield from ("", "## Exactly", "")
        yield "Each statement as data: identities and places by their addresses, conditions word by word."
        yield ""
        yield "```yaml"
        for request in made.asked:
            yield f"{request.section} in {request.account}: {flow_text(dict(request.body))}".replace("```", "")
        yield "```"

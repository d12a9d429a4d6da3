"""A handoff as a page for the people who carry it out, who need not know Enthesis."""

from collections.abc import Iterator

from enthesis.files.writing import flow_text
from enthesis.output.lines import Line, Span, counted, line, markdown_text
from enthesis.proposals.handoffs import NOT_ASKED, Handoff


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
    yield line(f"  reference {made.reference}{', needed by ' + made.by if made.by else ''}")
    for head, entries in _parts(made):
        if entries:
            yield line(Span(head, "bad" if head.startswith("cannot") else "strong"))
            yield from (line("  ", entry) for entry in entries)


def handoff_markdown(made: Handoff) -> Iterator[str]:
    """The handoff as a page: what is asked, each with exactly what it says."""
    yield f"# {markdown_text(handoff_sentence(made))}"
    yield ""
    yield f"Reference: `{made.reference}`. From {markdown_text(made.ours)}, for {markdown_text(made.theirs)}."
    if made.by:
        yield f"Wanted by {markdown_text(made.by)}."
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

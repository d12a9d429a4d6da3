"""Mistakes of an estate, each with its line and a caret under the fault."""

from collections.abc import Iterable, Sequence
from typing import Any

from enthesis.model.mistakes import Mistake
from enthesis.output.lines import Line, Span, counted, line, visible

MAX_WIDTH = 100  # columns of a quoted line


def mistake_lines(mistakes: Sequence[Mistake]) -> Iterable[Line]:
    """All of them, the sentence first."""
    yield line("The estate cannot be used: it has ", Span(counted(len(mistakes), "mistake"), "bad"), ".")
    for mistake in mistakes:
        yield line()
        yield from one_mistake(mistake)


def one_mistake(mistake: Mistake) -> Iterable[Line]:
    """One mistake with its line."""
    source = mistake.source
    where = f"{source.file}:{source.line}:{source.column}" if source.line else source.file
    yield line(Span(where, "strong"), "  ", mistake.message, Span(f"  ({mistake.code})", "quiet"))
    if mistake.text:
        text, column = _window(mistake.text, source.column)
        yield line("    ", text)
        yield line("    ", " " * column, Span("^", "bad"))
    if mistake.expected:
        yield line("    expected ", mistake.expected)
    if mistake.nearest:
        yield line("    perhaps ", Span(" or ".join(mistake.nearest), "good"))


def _window(text: str, column: int) -> tuple[str, int]:
    """The part of a line around a column (from 1), control characters visible, and the column in it (from 0)."""
    start = 0 if column <= MAX_WIDTH * 3 // 4 else column - MAX_WIDTH // 2
    before = ("…" if start else "") + visible(text[start : column - 1])
    after = visible(text[column - 1 : start + MAX_WIDTH])
    more = "…" if len(text) > start + MAX_WIDTH else ""
    return before + after + more, len(before)


def mistake_json(mistake: Mistake) -> dict[str, Any]:
    """One mistake for a program to read."""
    return {
        "code": mistake.code,
        "message": mistake.message,
        "file": mistake.source.file,
        "line": mistake.source.line,
        "column": mistake.source.column,
        "text": mistake.text,
        "expected": mistake.expected,
        "nearest": list(mistake.nearest),
    }

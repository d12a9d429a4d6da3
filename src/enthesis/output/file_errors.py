"""Errors in the files of an estate, each with its line and a caret under the fault."""

from collections.abc import Iterable, Sequence
from typing import Any

from enthesis.model.file_errors import FileError
from enthesis.output.lines import Line, Span, counted, line, visible

MAX_WIDTH = 100  # columns of a quoted line


def file_error_lines(errors: Sequence[FileError]) -> Iterable[Line]:
    """All of them, the sentence first."""
    yield line("Invalid estate: ", Span(counted(len(errors), "error"), "bad"), ".")
    for error in errors:
        yield line()
        yield from one_error(error)


def one_error(error: FileError) -> Iterable[Line]:
    """One error with its line."""
    source = error.source
    where = f"{source.file}:{source.line}:{source.column}" if source.line else source.file
    yield line(Span(where, "strong"), "  ", error.message, Span(f"  ({error.code})", "quiet"))
    if error.text:
        text, column = _window(error.text, source.column)
        yield line("    ", text)
        yield line("    ", " " * column, Span("^", "bad"))
    if error.expected:
        yield line("    expected ", error.expected)
    if error.nearest:
        yield line("    did you mean ", Span(" or ".join(error.nearest), "good"), "?")


def _window(text: str, column: int) -> tuple[str, int]:
    """The part of a line around a column (from 1), control characters visible, and the column in it (from 0)."""
    start = 0 if column <= MAX_WIDTH * 3 // 4 else column - MAX_WIDTH // 2
    before = ("…" if start else "") + visible(text[start : column - 1])
    after = visible(text[column - 1 : start + MAX_WIDTH])
    more = "…" if len(text) > start + MAX_WIDTH else ""
    return before + after + more, len(before)


def file_error_json(error: FileError) -> dict[str, Any]:
    """One error for a program to read."""
    return {
        "code": error.code,
        "message": error.message,
        "file": error.source.file,
        "line": error.source.line,
        "column": error.source.column,
        "text": error.text,
        "expected": error.expected,
        "nearest": list(error.nearest),
    }

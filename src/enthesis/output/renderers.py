"""The formats of an answer: one class for each, found by its name. A new one is a class here, and nothing elsewhere."""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Any, Protocol

from enthesis.output.lines import Line
from enthesis.output.streams import put_json, put_lines, put_text, remark

TEXT, JSON, MARKDOWN, CSV = "text", "json", "markdown", "csv"
Lines = Callable[[], Iterable[Line]]
Data = Callable[[], Mapping[str, Any]]


@dataclass(frozen=True)
class CommandAnswer:
    """What a command says: its facts (`data`), and the same in words; each is worked out when its format is asked for.
    `markdown` is for a review, `csv` a table."""

    data: Data
    text: Lines
    markdown: Callable[[], Iterable[str]] | None = None
    csv: Callable[[], str] | None = None


class Renderer(Protocol):
    """How answers are put out in one format."""

    of_every_answer: bool  # whether every command has it
    is_document: bool  # whether an answer is one document, with nothing beside it on standard output

    def put(self, answer: CommandAnswer) -> None:
        """Puts an answer out."""
        ...


class TextRenderer:
    """Lines for people."""

    of_every_answer, is_document = True, False

    def put(self, answer: CommandAnswer) -> None:
        put_lines(answer.text())


class JsonRenderer:
    """The facts for a program."""

    of_every_answer, is_document = True, True

    def put(self, answer: CommandAnswer) -> None:
        put_json(answer.data())


class MarkdownRenderer:
    """For a merge request."""

    of_every_answer, is_document = False, True

    def put(self, answer: CommandAnswer) -> None:
        put_text("\n".join(answer.markdown() if answer.markdown is not None else ()) + "\n")


class CsvRenderer:
    """A table (RFC 4180)."""

    of_every_answer, is_document = False, True

    def put(self, answer: CommandAnswer) -> None:
        put_text(answer.csv() if answer.csv is not None else "")


RENDERERS: dict[str, Renderer] = {
    TEXT: TextRenderer(), JSON: JsonRenderer(), MARKDOWN: MarkdownRenderer(), CSV: CsvRenderer(),
}  # fmt: skip
"""The formats by name."""


def formats(*more: str) -> tuple[str, ...]:
    """The names of the formats of a command: those of every answer, and `more`."""
    return (*(name for name, one in RENDERERS.items() if one.of_every_answer), *more)


def is_document(output: str) -> bool:
    """Whether an answer in a format is one document, with nothing beside it on standard output."""
    return RENDERERS[output].is_document


def put_answer(output: str, answer: CommandAnswer, *, beside: str = "", quiet: bool = False) -> None:
    """Puts an answer out in a format; `beside` is a remark for people, unless they want it `quiet`."""
    RENDERERS[output].put(answer)
    if beside and not quiet and not is_document(output):
        remark(beside)


def put_on_the_way(output: str, answer: CommandAnswer, *, last: bool) -> None:
    """Puts out what is shown before something is done; in a format whose answers are documents only where it is the
    `last` that is said."""
    if last or not is_document(output):
        put_answer(output, answer)


def put_done(text: str, output: str, *, quiet: bool, **more: Any) -> None:
    """What a command did, where that is all its answer: a remark, or the facts in `more` in a document."""
    if is_document(output):
        put_answer(output, CommandAnswer(lambda: {"says": text, **more}, lambda: ()))
    else:
        remark(text, quiet=quiet)

"""Where something stands in a file, and what is wrong with it there. A mistake is a value, not an exception."""

import re
from dataclasses import dataclass
from typing import NamedTuple

# what tokens and keys look like: long runs with capitals, small letters and digits all in them
_SECRET = re.compile(r"(?=[\w+=-]*[a-z])(?=[\w+=-]*[A-Z])(?=[\w+=-]*\d)[\w+=-]{20,}", re.ASCII)


class Source(NamedTuple):
    """A place in a file: path relative to the estate, line and column counted from 1."""

    file: str
    line: int
    column: int

    def __str__(self) -> str:
        return f"{self.file}:{self.line}"


@dataclass(frozen=True, slots=True)
class Mistake:
    """One thing wrong with an estate.

    `code` is stable and meant for machines; `text` is the line itself, empty where there is none.
    """

    code: str
    message: str
    source: Source
    text: str = ""
    expected: str = ""
    nearest: tuple[str, ...] = ()


def masked(text: str) -> str:
    """The text with whatever looks like a secret dotted out, as long as before, so that a caret still fits."""
    return _SECRET.sub(lambda found: "·" * len(found[0]), text)

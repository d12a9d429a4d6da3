"""Where something stands in a file, and what is wrong with it there. An error is a value, not an exception."""

import re
from dataclasses import dataclass
from typing import NamedTuple

# what tokens and keys look like: long runs with capitals, small letters and digits all in them
_RUN = re.compile(r"[\w+=-]{20,}", re.ASCII)
_ALL_IN_A_SECRET = tuple(re.compile(name, re.ASCII) for name in ("[a-z]", "[A-Z]", "[0-9]"))


ListPart = tuple[tuple[str, int], ...]
"""Of an entry with lists where one value could stand: each such field with a position in its list."""


class Source(NamedTuple):
    """A place in a file: path relative to the estate, line and column counted from 1.

    Of an entry that is several statements, `part` says which one.
    """

    file: str
    line: int
    column: int
    part: ListPart = ()

    def __str__(self) -> str:
        return f"{self.file}:{self.line}"


@dataclass(frozen=True, slots=True)
class FileError:
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

    def dotted(found: re.Match[str]) -> str:
        run = found[0]
        return "·" * len(run) if all(one.search(run) for one in _ALL_IN_A_SECRET) else run

    return _RUN.sub(dotted, text)

"""Which known name a word was meant to be."""

from collections.abc import Iterable
from difflib import get_close_matches
from typing import Any

LONGEST_HINTED = 300  # characters of a name that is compared with others
MOST_COMPARED = 1000  # names
FEW = 8  # names that are listed whole


def nearest(word: str, known: Any) -> tuple[str, ...]:
    """Up to three of the known names that look most like a word; of a great many, those that begin as it does."""
    if len(word) > LONGEST_HINTED:
        return ()
    among = [name for name in map(str, known) if len(name) <= LONGEST_HINTED]
    if len(among) > MOST_COMPARED:
        stem = word[: max(3, 2 * len(word) // 3)]
        among = [name for name in among if name.startswith(stem)][:MOST_COMPARED]
    return tuple(get_close_matches(word, among, n=3, cutoff=0.6))


def perhaps(word: str, known: Iterable[str], otherwise: str = "") -> str:
    """The fix for an unknown name: the nearest known ones, else `otherwise`, else all where they are few."""
    names = list(known)
    close = nearest(word, names)
    if close:
        return f"did you mean {' or '.join(close)}?"
    return otherwise or (f"expected one of {', '.join(names)}" if 0 < len(names) <= FEW else "")

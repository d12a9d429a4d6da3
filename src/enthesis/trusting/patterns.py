"""Patterns as automata: whether a text matches, and a text that matches some patterns and not others.

A pattern is a row of tokens, and a state a set of positions in it, kept as the bits of one number. A step reads one
character; `*` and `**` keep their own position. Matching is linear in the text whatever the pattern.
"""

import re
from collections import deque
from collections.abc import Callable, Iterable, Sequence
from functools import lru_cache

SEPARATORS = "/:"  # what `*` and `?` do not match
MAX_STATES = 20_000  # states of a product that are looked at before the answer is Undecided


class Undecided(Exception):
    """The bound on work was reached; nothing is said either way."""


@lru_cache(maxsize=4096)
def tokens(pattern: str) -> tuple[str, ...]:
    """The tokens of a pattern: one character each for itself, or `*`, `**` and `?` as `"*"`, `"**"`, `"??"`.

    A literal is written with a backslash before it, so that it cannot be taken for a wildcard.
    """
    out: list[str] = []
    at = 0
    while at < len(pattern):
        char = pattern[at]
        if char == "\\":
            out.append("\\" + pattern[at + 1 : at + 2])
            at += 2
        elif pattern.startswith("**", at):
            out.append("**")
            at += 2
        else:
            out.append(char if char == "*" else "??" if char == "?" else "\\" + char)
            at += 1
    return tuple(out)


def literal(text: str) -> tuple[str, ...]:
    """The tokens that match just this text."""
    return tuple("\\" + char for char in text)


class Automaton:
    """The states of one row of tokens; bit n stands for "the first n tokens are matched"."""

    def __init__(self, row: Sequence[str]) -> None:
        self.row = tuple(row)
        self.length = len(self.row)
        self.ends = 1 << self.length
        self._stars = sum(1 << at for at, token in enumerate(self.row) if token in ("*", "**"))
        self._masks: dict[str, tuple[int, int]] = {}
        self.start = self._closed(1)

    def _closed(self, state: int) -> int:
        """A star may match nothing, so whoever is before it is also behind it."""
        while True:
            grown = state | ((state & self._stars) << 1)
            if grown == state:
                return state
            state = grown

    def _mask(self, char: str) -> tuple[int, int]:
        """The positions from which this character goes on, and those that it stays at."""
        on = stays = 0
        plain = char not in SEPARATORS
        for at, token in enumerate(self.row):
            if token == "**" or (token == "*" and plain):
                stays |= 1 << at
            elif token == "\\" + char or (token == "??" and plain):
                on |= 1 << at
        return on, stays

    def step(self, state: int, char: str) -> int:
        """The state after one more character; 0 is the state from which nothing matches any more."""
        masks = self._masks.get(char)
        if masks is None:
            masks = self._masks[char] = self._mask(char)
        return self._closed(((state & masks[0]) << 1) | (state & masks[1]))

    def accepts(self, state: int) -> bool:
        return bool(state & self.ends)

    def letters(self) -> set[str]:
        """The characters that this row tells apart from the others."""
        return {token[1] for token in self.row if len(token) == 2 and token[0] == "\\"}


@lru_cache(maxsize=4096)
def matcher(pattern: str) -> Callable[[str], bool]:
    """Whether a text matches this pattern as a whole, as a function; made once a pattern."""
    row = tokens(pattern)
    if sum(token in ("*", "**") for token in row) <= 3:  # few enough that backtracking stays small
        parts = {"*": "[^/:]*", "**": ".*", "??": "[^/:]"}
        compiled = re.compile("".join(parts.get(token) or re.escape(token[1:]) for token in row), re.DOTALL)
        return lambda text: compiled.fullmatch(text) is not None
    automaton = Automaton(row)

    def simulated(text: str) -> bool:
        state = automaton.start
        for char in text:
            state = automaton.step(state, char)
            if not state:
                return False
        return automaton.accepts(state)

    return simulated


def matches(pattern: str, text: str) -> bool:
    """Whether a text matches a pattern as a whole."""
    return matcher(pattern)(text)


FRESH = "xyzwabcdefghijklmnopqrstuv0123456789"


def witness(
    inside: Iterable[Sequence[str]], outside: Iterable[Sequence[str]], *, avoid_empty: bool = True
) -> str | None:
    """A shortest text that matches every row of tokens inside and none outside; None where there is none.

    Searches the product of the automata breadth first, each kept deterministic by its set of positions. Undecided
    past MAX_STATES. The empty text counts only where `avoid_empty` is false.
    """
    wanted = [Automaton(row) for row in inside]
    barred = [Automaton(row) for row in outside]
    letters = {"/", ":"}.union(*(one.letters() for one in (*wanted, *barred)))
    other = next((char for char in FRESH if char not in letters), None) or _unused(letters)
    alphabet = [other, *sorted(letters)]
    start = tuple(one.start for one in (*wanted, *barred))
    split = len(wanted)
    seen: dict[tuple[int, ...], tuple[tuple[int, ...], str] | None] = {start: None}

    def good(state: tuple[int, ...]) -> bool:
        inner = all(one.accepts(part) for one, part in zip(wanted, state, strict=False))
        return inner and not any(one.accepts(part) for one, part in zip(barred, state[split:], strict=True))

    if not avoid_empty and good(start):
        return ""
    waiting = deque([start])
    while waiting:
        state = waiting.popleft()
        for char in alphabet:
            after = tuple(
                one.step(part, char) if part else 0 for one, part in zip((*wanted, *barred), state, strict=True)
            )
            if not all(after[:split]):
                continue
            if good(after):
                return _spelled(seen, state) + char
            if after not in seen:
                seen[after] = (state, char)
                if len(seen) > MAX_STATES:
                    raise Undecided(f"more than {MAX_STATES} states")
                waiting.append(after)
    return None


def _spelled(seen: dict[tuple[int, ...], tuple[tuple[int, ...], str] | None], state: tuple[int, ...]) -> str:
    text = ""
    step = seen[state]
    while step is not None:
        text = step[1] + text
        step = seen[step[0]]
    return text


def _unused(letters: set[str]) -> str:
    return next(chr(code) for code in range(0x100, 0x3000) if chr(code) not in letters)

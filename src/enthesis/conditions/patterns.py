"""Patterns as automata: whether a text matches, and a text that matches some patterns and not others.

A pattern is a row of tokens, and a state a set of positions in it, kept as the bits of one number; so are the states of
many patterns at once. A step reads one character; `*` and `**` keep their own position. Matching is linear in the text
whatever the pattern.
"""

import re
from collections import deque
from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from functools import lru_cache

from enthesis.model.errors import Undecided

SEPARATORS = "/:"  # what `*` and `?` do not match
MAX_STATES = 20_000  # states that one search looks at before the answer is Undecided


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


class Automata:
    """Several rows of tokens run side by side; a state is one number, the rows' positions one after another in it.

    Bit n of a row stands for "the first n tokens are matched". A step reads one character and moves all rows at once.
    """

    def __init__(self, rows: Sequence[Sequence[str]]) -> None:
        self._stars = self._deep = self._single = self.start = self.ends = self.sure = 0
        self.spans: list[int] = []
        self.literals: dict[str, int] = {}  # where each character is the one to come
        self._ends_of: list[int] = []
        self._masks: dict[str, tuple[int, int]] = {}
        at = 0
        for row in map(_without_doubled_stars, rows):
            begun = at
            for token in row:
                bit = 1 << at
                if token in ("*", "**"):
                    self._stars |= bit
                    self._deep |= bit if token == "**" else 0
                elif token == "??":
                    self._single |= bit
                else:
                    self.literals[token[1:]] = self.literals.get(token[1:], 0) | bit
                at += 1
            self.start |= 1 << begun
            self.ends |= 1 << at
            self._ends_of.append(1 << at)
            if row and row[-1] == "**":  # once there, the row matches whatever follows
                self.sure |= 1 << at
            at += 1
            self.spans.append((1 << at) - (1 << begun))
        self.size = at
        self._wild = self._stars | self._single
        self.start |= (self.start & self._stars) << 1

    def step(self, state: int, char: str) -> int:
        """The state after one more character; a row that cannot match any more has no bit left in it."""
        masks = self._masks.get(char)
        if masks is None:
            plain = char not in SEPARATORS
            stays = self._stars if plain else self._deep
            masks = self._masks[char] = (self.literals.get(char, 0) | (self._single if plain else 0), stays)
        moved = ((state & masks[0]) << 1) | (state & masks[1])
        return moved | ((moved & self._stars) << 1)

    def letters_at(self, state: int, other: str) -> list[str]:
        """The characters that differ from one another at a state: one for all that no row names, then those named."""
        out = [other] + [char for char, where in self.literals.items() if state & where]
        if state & self._wild:
            out += [char for char in SEPARATORS if char not in out]
        return out

    def matched(self, state: int) -> int:
        """Which rows match what was read, a bit each."""
        return sum(1 << number for number, end in enumerate(self._ends_of) if state & end)

    def surely(self, state: int) -> int:
        """Which rows match whatever follows, a bit each."""
        return self.matched(state & self.sure)

    def alive(self, state: int) -> int:
        """Which rows may still match, a bit each."""
        return sum(1 << number for number, span in enumerate(self.spans) if state & span)


def _without_doubled_stars(row: Sequence[str]) -> list[str]:
    """The same row with each run of stars as one, so that one step past a star is always enough."""
    out: list[str] = []
    for token in row:
        if token in ("*", "**") and out and out[-1] in ("*", "**"):
            out[-1] = "**" if "**" in (token, out[-1]) else "*"
        else:
            out.append(token)
    return out


@lru_cache(maxsize=4096)
def matcher(pattern: str) -> Callable[[str], bool]:
    """Whether a text matches this pattern as a whole, as a function; made once a pattern."""
    row = tokens(pattern)
    if sum(token in ("*", "**") for token in row) <= 3:  # few enough that backtracking stays small
        parts = {"*": "[^/:]*", "**": ".*", "??": "[^/:]"}
        compiled = re.compile("".join(parts.get(token) or re.escape(token[1:]) for token in row), re.DOTALL)
        return lambda text: compiled.fullmatch(text) is not None
    automaton = Automata([row])

    def simulated(text: str) -> bool:
        state = automaton.start
        for char in text:
            state = automaton.step(state, char)
            if not state:
                return False
        return bool(state & automaton.ends)

    return simulated


def within(pattern: str, start: str) -> list[str]:
    """The patterns that together match what one matches of the texts with a start: each begins with that start."""
    row = _without_doubled_stars(tokens(pattern))
    automaton = Automata([row])
    state = automaton.start
    for char in start:
        state = automaton.step(state, char)
    left = [at for at in range(len(row) + 1) if state >> at & 1]
    # what stands behind a star is matched by way of the star too
    needed = [at for at in left if not (at and row[at - 1] in ("*", "**") and at - 1 in left)]
    return [_text_of((*literal(start), *row[at:])) for at in needed]


def _text_of(row: Sequence[str]) -> str:
    """A row of tokens as a pattern is written."""
    return "".join(
        "?" if token == "??" else token if token in ("*", "**") else token if token[1:] in "*?\\" else token[1:]
        for token in row
    )


def matches(pattern: str, text: str) -> bool:
    """Whether a text matches a pattern as a whole."""
    return matcher(pattern)(text)


FRESH = "xyzwabcdefghijklmnopqrstuv0123456789"
Good = Callable[[int], bool]
May = Callable[[int, int], bool]


def cell_texts(rows: Sequence[Sequence[str]], may: May | None = None) -> Iterator[tuple[int, str]]:
    """For every choice of rows that some text matches and of the others that it does not: the choice, and a shortest.

    A choice is a number with a bit for each row. Searches the rows run side by side, breadth first; `may` cuts off
    where nothing that follows is wanted: it is given the rows that match whatever follows, and those that still may.
    The empty text is left out. Undecided past the bound on work.
    """
    automata = Automata(rows)
    other = next((char for char in FRESH if char not in automata.literals), None) or _unused(automata.literals)
    told: set[int] = set()
    work = 0
    seen: dict[int, tuple[int, str] | None] = {automata.start: None}
    known: dict[tuple[int, int], bool] = {}
    waiting = deque([automata.start])
    while waiting:
        state = waiting.popleft()
        work += 1 + automata.size // 4096
        if work > MAX_STATES:
            raise Undecided(f"more than {MAX_STATES} states")
        for char in automata.letters_at(state, other):
            after = automata.step(state, char)
            if after & automata.ends not in told:
                told.add(after & automata.ends)
                yield automata.matched(after), _spelled(seen, state) + char
            if after in seen:
                continue
            seen[after] = (state, char)
            if may is not None:
                key = (automata.surely(after), automata.alive(after))
                if key not in known:
                    known[key] = may(*key)
                if not known[key]:
                    continue
            waiting.append(after)


def witness(
    inside: Iterable[Sequence[str]], outside: Iterable[Sequence[str]], *, avoid_empty: bool = True
) -> str | None:
    """A shortest text that matches every row of tokens inside and none outside; None where there is none.

    The empty text counts only where `avoid_empty` is false. Undecided past the bound on work.
    """
    wanted, barred = list(inside), list(outside)
    all_wanted = (1 << len(wanted)) - 1
    if not avoid_empty:
        automata = Automata([*wanted, *barred])
        if automata.matched(automata.start) == all_wanted:
            return ""

    def may(sure: int, alive: int) -> bool:
        return alive & all_wanted == all_wanted and not sure >> len(wanted)

    for matched, text in cell_texts([*wanted, *barred], may):
        if matched == all_wanted:
            return text
    return None


def _spelled(seen: Mapping[int, tuple[int, str] | None], state: int) -> str:
    chars: list[str] = []
    step = seen[state]
    while step is not None:
        chars.append(step[1])
        step = seen[step[0]]
    return "".join(reversed(chars))


def _unused(letters: Container[str]) -> str:
    return next(chr(code) for code in range(0x100, 0x3000) if chr(code) not in letters)

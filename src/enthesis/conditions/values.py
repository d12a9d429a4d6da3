"""Finds a value of which some tests hold and others do not, or shows that there is none.

Exact: the tests cut the values into cells, one value is taken from each cell, and each is tried. For patterns the
cells come from their automata, cut off where nothing wanted can follow; for lists, from every way that elements can
make the tests so. Where that would be too much work, Undecided is raised.
"""

import re
from bisect import bisect_left
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from enum import Enum
from functools import cached_property
from ipaddress import ip_network
from itertools import islice, product

from enthesis.conditions.patterns import FRESH, cell_texts, literal, tokens
from enthesis.conditions.truth import Truth, Value, both, passes
from enthesis.model.conditions import (
    After,
    AllOf,
    AnyOf,
    Before,
    Equal,
    Glob,
    LongerThan,
    Network,
    Not,
    Present,
    Test,
    Within,
)
from enthesis.model.errors import Undecided

MAX_WAYS = 5_000  # ways for tests of one list that are told apart
EPOCH = datetime(2026, 1, 1, tzinfo=UTC)


class Want(Enum):
    """What is wanted of a test: that it holds, is false, is unknown, or only that it does not hold, or is not false."""

    HOLDS = "holds"
    FAILS = "fails"
    UNKNOWN = "unknown"
    NOT_HELD = "not held"
    NOT_FALSE = "not false"

    def met(self, truth: Truth) -> bool:
        """Whether a truth value is the one that is wanted."""
        if self is Want.NOT_HELD:
            return truth is not True
        if self is Want.NOT_FALSE:
            return truth is not False
        return truth is MET[self]


MET = {Want.HOLDS: True, Want.FAILS: False, Want.UNKNOWN: None}
Wanted = tuple[Test, Want]


EVERY_TYPE = frozenset(("text", "number", "truth"))  # of what a claim can hold


FREE_WORD = "elsewhere"  # a text for where any will do


@dataclass(frozen=True, slots=True)
class Room:
    """Which values an attribute can have.

    `typical` are tried first, and `words` put where a text is free, so that an answer looks like a real one.
    """

    types: frozenset[str] = EVERY_TYPE
    many: bool = False
    absent: bool = True
    typical: tuple[Value, ...] = ()
    words: tuple[str, ...] = (FREE_WORD,)


ROOMS = {
    "time": Room(frozenset(["time"]), absent=False),
    "network": Room(frozenset(["network"])),
    "mfa": Room(frozenset(["truth"])),
    "reference": Room(frozenset(["text"])),
    "session.age": Room(frozenset(["duration"]), absent=False, typical=(timedelta(0),)),
}
TEXT_ROOM = Room(frozenset(["text"]))


@dataclass(frozen=True, slots=True)
class Solution:
    """A value that does what was wanted; None stands for an absent one."""

    value: Value


def solve(wanted: Sequence[Wanted], room: Room) -> Solution | None:
    """A value for which every test is as wanted, or None where no value is. Raises Undecided past the bound."""

    def good(value: Value) -> bool:
        return all(want.met(passes(test, value)) for test, want in wanted)

    for value in _likely(wanted, room.typical):
        if good(value):
            return Solution(value)
    if room.absent and good(None):
        return Solution(None)
    tests = [test for test, _ in wanted]
    undecided: Undecided | None = None
    if "text" in room.types:
        try:
            text = _text(wanted, good, room)
        except Undecided as bound:
            undecided = bound
        else:
            if text is not None:
                return Solution(text)
    for element in _cells_but_texts(tests, room):
        if good(element):
            return Solution(element)
    if room.many:
        chosen = _list(wanted, list(cells(tests, room)))
        if chosen is not None and good(chosen):
            return Solution(chosen)
    if undecided is not None:
        raise undecided
    return None


class Typical(tuple[Value, ...]):
    """Typical values, as many as there are journeys perhaps, that are found by how they begin."""

    @cached_property
    def _texts(self) -> list[tuple[str, int]]:
        return sorted((value, at) for at, value in enumerate(self) if type(value) is str)

    @cached_property
    def _others(self) -> list[int]:
        return [at for at, value in enumerate(self) if type(value) is not str]

    def beginning_with(self, text: str) -> Iterator[Value]:
        """The texts that begin so, and what is no text, in their order."""
        found, first = list(self._others), bisect_left(self._texts, (text, -1))
        for value, at in islice(self._texts, first, None):
            if not value.startswith(text):
                break
            found.append(at)
        return (self[at] for at in sorted(found))


def _likely(wanted: Sequence[Wanted], typical: Sequence[Value]) -> Iterable[Value]:
    """Typical values without those that cannot do what is wanted, as is seen by how a text begins."""
    begin = max((_beginning(test) for test, want in wanted if want is Want.HOLDS), key=len, default="")
    return typical.beginning_with(begin) if begin and isinstance(typical, Typical) else typical


def _beginning(test: Test) -> str:
    """What every text begins with of which a test holds; '' where that is not seen at once."""
    if isinstance(test, Equal):
        return test.value if isinstance(test.value, str) else ""
    if isinstance(test, Glob):
        return _SPECIAL.split(test.pattern, maxsplit=1)[0]
    return max(map(_beginning, test.tests), key=len, default="") if isinstance(test, AllOf) else ""


_SPECIAL = re.compile(r"[*?\\]")  # in a pattern

# -- one text -------------------------------------------------------------------------------------------------------

TRUE, FALSE, UNKNOWN = 1, 2, 4  # a set of truths, a bit each
BIT = {True: TRUE, False: FALSE, None: UNKNOWN}


def _text(wanted: Sequence[Wanted], good: Callable[[str], bool], room: Room) -> str | None:
    """A text that does what is wanted, found by running all patterns and plain texts side by side."""
    atoms = list(dict.fromkeys(atom for test, _ in wanted for atom in _atoms(test)))
    plain, patterns, networks = _named(atoms)
    for text in (*plain, *(str(network.network_address) for network in _networks(networks) if networks)):
        if text and good(text):
            return text
    for pattern, word in product(patterns, room.words):
        text = _filled(pattern, word)
        if good(text):
            return text
    rows = [*map(literal, plain), *map(tokens, patterns)]
    numbers: dict[Test, int] = {Equal(text): number for number, text in enumerate(plain)}
    numbers |= {Glob(pattern): number for number, pattern in enumerate(patterns, len(plain))}

    def may(sure: int, alive: int) -> bool:
        def atom(test: Test) -> int:
            number = numbers.get(test)
            if number is None:
                return BIT[passes(test, ORDINARY)]
            return TRUE if sure >> number & 1 else TRUE | FALSE if alive >> number & 1 else FALSE

        return all(_may_be(want) & _truths(test, atom) for test, want in wanted)

    for _, text in cell_texts(rows, may):
        if good(text):
            return _like_a_real_one(text, good, room, rows)
    if networks and patterns:
        raise Undecided("a pattern and a network about one attribute")
    return None


ORDINARY = "a text that is not an address"


def _may_be(want: Want) -> int:
    if want in MET:
        return BIT[MET[want]]
    return FALSE | UNKNOWN if want is Want.NOT_HELD else TRUE | UNKNOWN


def _truths(test: Test, atom: Callable[[Test], int]) -> int:
    """Which truths a test of one text may have, where `atom` says it of its operators."""
    if isinstance(test, Not):
        inner = _truths(test.test, atom)
        return (inner & UNKNOWN) | (TRUE if inner & FALSE else 0) | (FALSE if inner & TRUE else 0)
    if isinstance(test, AnyOf):
        return _folded((_truths(one, atom) for one in test.tests), winning=TRUE, losing=FALSE)
    if isinstance(test, AllOf):
        return _folded((_truths(one, atom) for one in test.tests), winning=FALSE, losing=TRUE)
    return atom(test)


def _folded(parts: Iterable[int], *, winning: int, losing: int) -> int:
    """Kleene's or, or and with the words turned, of sets of truths: the one that wins, else unknown, else the other."""
    out = losing
    for part in parts:
        out = ((part | out) & (winning | UNKNOWN)) | (part & out & losing)
    return out


def _filled(pattern: str, word: str) -> str:
    """A text that a pattern matches, with a name for what is free."""
    out = ""
    for token in tokens(pattern):
        if token in ("*", "**"):
            out += f"-{word}" if out[-1:].isalnum() else word
        else:
            out += "x" if token == "??" else token[1:]
    return out


def _like_a_real_one(text: str, good: Callable[[str], bool], room: Room, rows: Sequence[Sequence[str]]) -> str:
    """The same with names for what is free in it, where that still does; a reader sees at once what got in."""
    free = next((char for char in FRESH if not any("\\" + char in row for row in rows)), None)
    if free is not None and free in text:
        for word in room.words:
            longer = re.sub(f"{re.escape(free)}+", word, text)
            if good(longer):
                return longer
    return text


def _named(atoms: Iterable[Test]) -> tuple[list[str], list[str], list[Network]]:
    """The plain texts, patterns and networks that tests are about."""
    atoms = list(atoms)
    plain = [atom.value for atom in atoms if isinstance(atom, Equal) and isinstance(atom.value, str) and atom.value]
    patterns = [atom.pattern for atom in atoms if isinstance(atom, Glob)]
    return plain, patterns, [network for atom in atoms if isinstance(atom, Within) for network in atom.networks]


# -- a list ---------------------------------------------------------------------------------------------------------

Part = tuple[Test, ...]  # operators that one element must meet together


@dataclass(frozen=True, slots=True)
class _SolverPath:
    """One way for tests of a list to be as wanted: some element passes each of `some`; of every element each of `all_`
    is false, and each of `none` does not hold."""

    some: frozenset[Part] = frozenset()
    all_: frozenset[Part] = frozenset()
    none: frozenset[Part] = frozenset()
    maybe: frozenset[Part] = frozenset()  # of one element at least it is unknown, and it holds of none

    def __or__(self, other: "_SolverPath") -> "_SolverPath":
        return _SolverPath(
            self.some | other.some, self.all_ | other.all_, self.none | other.none, self.maybe | other.maybe
        )


def _list(wanted: Sequence[Wanted], elements: Sequence[Value]) -> tuple[Value, ...] | None:
    """A list that does what is wanted, of one element from each cell."""
    ways = [_SolverPath()]
    for test, want in wanted:
        more = _ways(test, want)
        ways = list(dict.fromkeys(way | other for way in ways for other in more))
        if len(ways) > MAX_WAYS:
            raise Undecided(f"more than {MAX_WAYS} ways for a list")
    known: dict[Part, tuple[int, int, int]] = {}

    def cells_of(part: Part) -> tuple[int, int, int]:
        """The elements of which a part holds, is false, and is unknown."""
        if part not in known:
            truths = [both(passes(test, element) for test in part) for element in elements]
            known[part] = tuple(  # type: ignore[assignment]
                sum(1 << number for number, truth in enumerate(truths) if truth is word) for word in (True, False, None)
            )
        return known[part]

    for way in sorted(ways, key=lambda way: len(way.some) + len(way.maybe)):
        left = (1 << len(elements)) - 1
        for part in way.all_:
            left &= cells_of(part)[1]
        for part in way.none | way.maybe:
            left &= ~cells_of(part)[0]
        wants = [left & cells_of(part)[0] for part in sorted(way.some, key=repr)]
        wants += [left & cells_of(part)[2] for part in sorted(way.maybe, key=repr)]
        if left and all(wants):
            firsts = dict.fromkeys((want & -want).bit_length() - 1 for want in wants or [left])
            return tuple(elements[number] for number in firsts)
    return None


def _ways(test: Test, want: Want) -> list[_SolverPath]:
    """Every way for a test of a list that is not empty to be as wanted."""
    if want is Want.NOT_FALSE:
        return [*_ways(test, Want.HOLDS), *_ways(test, Want.UNKNOWN)]
    if isinstance(test, Not):
        turned = {
            Want.HOLDS: (Want.FAILS,), Want.FAILS: (Want.HOLDS,), Want.NOT_HELD: (Want.NOT_FALSE,),
            Want.NOT_FALSE: (Want.NOT_HELD,),
        }  # fmt: skip
        return [way for one in turned.get(want, (want,)) for way in _ways(test.test, one)]
    if isinstance(test, Present):
        met = want.met(test.wanted)
        return [_SolverPath()] if met else []
    if isinstance(test, AnyOf):
        return _of_several(test.tests, want, some=Want.HOLDS, every=Want.FAILS)
    if isinstance(test, AllOf):
        whole = tuple(one for one in test.tests if isinstance(one, Not | Present))
        part = tuple(one for one in test.tests if not isinstance(one, Not | Present))
        if whole:
            inner = (AllOf(part), *whole) if part else whole
            return _of_several(inner, want, some=Want.FAILS, every=Want.HOLDS)
        return _of_part(part, want)
    return _of_part((test,), want)


def _of_part(part: Part, want: Want) -> list[_SolverPath]:
    one = frozenset((part,))
    if want is Want.HOLDS:
        return [_SolverPath(some=one)]
    if want is Want.FAILS:
        return [_SolverPath(all_=one)]
    return [_SolverPath(maybe=one)] if want is Want.UNKNOWN else [_SolverPath(none=one)]


def _of_several(tests: Sequence[Test], want: Want, *, some: Want, every: Want) -> list[_SolverPath]:
    """Kleene's or (some: HOLDS, every: FAILS) or and (the other way round) of tests of one list."""
    if want is some:
        return [way for test in tests for way in _ways(test, some)]
    if want is every:
        return _product([_ways(test, every) for test in tests])
    if want is Want.UNKNOWN:  # at least one is unknown, and none decides
        out: list[_SolverPath] = []
        for number in range(len(tests)):
            choices = [
                _ways(one, Want.UNKNOWN) if at == number else [*_ways(one, Want.UNKNOWN), *_ways(one, every)]
                for at, one in enumerate(tests)
            ]
            out += _product(choices)
        return out
    if some is Want.HOLDS:  # not held: of none of them
        return _product([_ways(test, Want.NOT_HELD) for test in tests])
    return [way for test in tests for way in _ways(test, Want.NOT_HELD)]


def _product(choices: Sequence[Sequence[_SolverPath]]) -> list[_SolverPath]:
    ways = [_SolverPath()]
    for more in choices:
        ways = list(dict.fromkeys(way | other for way in ways for other in more))
        if len(ways) > MAX_WAYS:
            raise Undecided(f"more than {MAX_WAYS} ways for a list")
    return ways


# -- cells ----------------------------------------------------------------------------------------------------------


def cells(tests: Sequence[Test], room: Room) -> Iterator[Value]:
    """One value from each cell that the tests cut the room into. Raises Undecided past the bound."""
    if "text" in room.types:
        atoms = list(dict.fromkeys(atom for test in tests for atom in _atoms(test)))
        plain, patterns, networks = _named(atoms)
        yield from plain
        if networks:
            yield from (str(network.network_address) for network in _networks(networks))
        yield from (text for _, text in cell_texts([*map(literal, plain), *map(tokens, patterns)]))
    yield from _cells_but_texts(tests, room)


def _cells_but_texts(tests: Sequence[Test], room: Room) -> Iterator[Value]:
    atoms = list(dict.fromkeys(atom for test in tests for atom in _atoms(test)))
    networks = _named(atoms)[2]
    if "truth" in room.types:
        yield from (True, False)
    if "number" in room.types:
        yield from _numbers(atoms)
    if "time" in room.types:
        times = sorted({atom.time for atom in atoms if isinstance(atom, Before | After)}) or [EPOCH]
        yield from times
        yield times[0] - timedelta(seconds=1)
    if "duration" in room.types:
        yield timedelta(0)
        for atom in atoms:
            if isinstance(atom, LongerThan):
                yield from (atom.duration, atom.duration + timedelta(seconds=1))
    if "network" in room.types:
        yield from _networks(networks)


def _atoms(test: Test) -> Iterator[Test]:
    if isinstance(test, AnyOf | AllOf):
        for inner in test.tests:
            yield from _atoms(inner)
    elif isinstance(test, Not):
        yield from _atoms(test.test)
    else:
        yield test


def _numbers(atoms: Iterable[Test]) -> Iterator[int | float]:
    named = [atom.value for atom in atoms if isinstance(atom, Equal) and type(atom.value) in (int, float)]
    yield from named  # type: ignore[misc]
    largest = max((int(abs(number)) for number in named if abs(number) < 1e15), default=0)  # type: ignore[arg-type]
    yield largest + 1
    yield largest + 1.5


def _networks(named: Sequence[Network]) -> Iterator[Network]:
    """Single addresses: the first and last of every network, and those just outside of it."""
    yield ip_network("192.0.2.1")
    yield ip_network("2001:db8::1")
    for network in named:
        top = 2**network.max_prefixlen - 1
        first, last = int(network.network_address), int(network.broadcast_address)
        make = type(network)
        for number in (first, last, first - 1, last + 1):
            if 0 <= number <= top:
                yield make((number, network.max_prefixlen))

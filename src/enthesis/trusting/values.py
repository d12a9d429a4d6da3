"""Finds a value of which some tests hold and others do not, or shows that there is none.

Exact: the tests cut the values into cells, one value is taken from each cell, and each is tried. For patterns the
cells come from their automata. Where that would be too much work, Undecided is raised.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from enum import Enum
from ipaddress import ip_network
from itertools import combinations

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
    Test,
    Within,
)
from enthesis.trusting.patterns import Undecided, literal, tokens, witness
from enthesis.trusting.truth import Truth, Value, passes

MAX_PATTERNS = 10  # different patterns about one attribute
MAX_ELEMENTS = 3  # elements of a list that are tried together
EPOCH = datetime(2026, 1, 1, tzinfo=UTC)


class Want(Enum):
    """What is wanted of a test: that it holds, that it is false, or only that it does not hold."""

    HOLDS = "holds"
    FAILS = "fails"
    NOT_HELD = "not held"

    def met(self, truth: Truth) -> bool:
        if self is Want.HOLDS:
            return truth is True
        return truth is False if self is Want.FAILS else truth is not True


Wanted = tuple[Test, Want]


@dataclass(frozen=True, slots=True)
class Room:
    """Which values an attribute can have. `typical` are tried first, so that an answer looks like a real one."""

    types: frozenset[str] = frozenset(("text", "number", "truth"))
    many: bool = False
    absent: bool = True
    typical: tuple[Value, ...] = ()


ROOMS = {
    "time": Room(frozenset(["time"]), absent=False),
    "network": Room(frozenset(["network"])),
    "mfa": Room(frozenset(["truth"])),
    "reference": Room(frozenset(["text"])),
    "session.age": Room(frozenset(["duration"]), absent=False, typical=(timedelta(0),)),
}
TEXT_ROOM = Room(frozenset(["text"]))


@dataclass(frozen=True, slots=True)
class Found:
    """A value that does what was wanted; None stands for an absent one."""

    value: Value


def solve(wanted: Sequence[Wanted], room: Room) -> Found | None:
    """A value for which every test is as wanted, or None where no value is. Raises Undecided past the bound."""

    def good(value: Value) -> bool:
        return all(want.met(passes(test, value)) for test, want in wanted)

    for value in room.typical:
        if good(value):
            return Found(value)
    if room.absent and good(None):
        return Found(None)
    elements = list(cells([test for test, _ in wanted], room))
    for element in elements:
        if good(element):
            return Found(element)
    if room.many:
        most = max(1, sum(_elements_needed(test, want) for test, want in wanted))
        for size in range(1, min(most, MAX_ELEMENTS) + 1):
            for chosen in combinations(elements, size):
                if good(chosen):
                    return Found(chosen)
        if most > MAX_ELEMENTS:
            raise Undecided("longer lists were not tried")
    return None


def _elements_needed(test: Test, want: Want) -> int:
    """How many elements of a list a test can need to be as wanted.

    Every element that some test needs to hold may be another one; what must not hold needs none, and holds of no part
    of a list where it holds of no element of the whole.
    """
    if isinstance(test, Not):
        turned = {Want.HOLDS: Want.FAILS, Want.FAILS: Want.HOLDS, Want.NOT_HELD: Want.HOLDS}
        return _elements_needed(test.test, turned[want])
    if isinstance(test, AnyOf):
        needs = [_elements_needed(one, want) for one in test.tests]
        return max(needs) if want is Want.HOLDS else sum(needs)
    if isinstance(test, AllOf):
        whole = [_elements_needed(one, want) for one in test.tests if isinstance(one, Not)]
        return sum(whole) + 1
    return 1 if want is Want.HOLDS else 0


def cells(tests: Sequence[Test], room: Room) -> Iterator[Value]:
    """One value from each cell that the tests cut the room into."""
    atoms = list(dict.fromkeys(atom for test in tests for atom in _atoms(test)))
    networks = [network for atom in atoms if isinstance(atom, Within) for network in atom.networks]
    if "text" in room.types:
        yield from _texts(atoms, networks)
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


def _texts(atoms: Iterable[Test], networks: Sequence[Network]) -> Iterator[str]:
    plain = [atom.value for atom in atoms if isinstance(atom, Equal) and isinstance(atom.value, str)]
    patterns = [atom.pattern for atom in atoms if isinstance(atom, Glob)]
    yield from (text for text in plain if text)
    if networks:
        yield from (str(network.network_address) for network in _networks(networks))
    if len(patterns) > MAX_PATTERNS:
        raise Undecided(f"more than {MAX_PATTERNS} patterns about one attribute")
    yield from _choices(patterns, [], [literal(text) for text in plain])


def _choices(patterns: list[str], inside: list[tuple[str, ...]], outside: list[tuple[str, ...]]) -> Iterator[str]:
    """A text for every choice of the patterns that it matches; choices that no text makes are cut off early."""
    text = witness(inside, outside)
    if text is None and witness(inside, []) is None:
        return
    if not patterns:
        if text is not None:
            yield text
        return
    row = tokens(patterns[0])
    yield from _choices(patterns[1:], [*inside, row], outside)
    yield from _choices(patterns[1:], inside, [*outside, row])


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

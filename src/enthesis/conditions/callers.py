"""Sets of callers, as trusts describe them, and their algebra: empty, overlapping, contained, and if not, a witness.

A set is a choice of conditions: a caller is in it where all conditions of one of them hold of what it shows. What makes
a test unknown keeps a caller out. Exact; past the bound on work, Undecided is raised.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from enthesis.conditions.sameness import alone, names_in, solve_together
from enthesis.conditions.truth import Value, hold
from enthesis.conditions.values import Room, Solution, Want, Wanted, solve
from enthesis.model.conditions import Conditions, Test
from enthesis.model.errors import Undecided

MAX_STEPS = 20_000  # choices of one search
Shown = dict[str, Value]
Rooms = Callable[[str], Room]


@dataclass(frozen=True, slots=True)
class Callers:
    """Those who meet one of these; no alternative is nobody, an empty one everybody."""

    alternatives: tuple[Conditions, ...]

    def has(self, shown: Mapping[str, Value]) -> bool:
        """Whether a caller that shows this is one of them."""
        return any(hold(conditions, shown.get) is True for conditions in self.alternatives)

    def __bool__(self) -> bool:
        """Whether there is any alternative; what it asks may be impossible all the same."""
        return bool(self.alternatives)

    def __or__(self, other: "Callers") -> "Callers":
        return Callers((*self.alternatives, *other.alternatives))


EVERYBODY = Callers(((),))
NOBODY = Callers(())


def one_of(callers: Callers, rooms: Rooms) -> Shown | None:
    """A caller in the set; None where it is empty."""
    return one_of_difference(callers, NOBODY, rooms)


def one_of_both(callers: Callers, other: Callers, rooms: Rooms) -> Shown | None:
    """A caller in both sets; None where they do not overlap."""
    both = tuple((*mine, *theirs) for mine in callers.alternatives for theirs in other.alternatives)
    return one_of(Callers(both), rooms)


def one_of_difference(callers: Callers, other: Callers, rooms: Rooms) -> Shown | None:
    """A caller in the first set and not in the other; None where the other contains the first."""
    search = _CallerSearch(rooms)
    for conditions in callers.alternatives:
        found = search.run(conditions, other.alternatives)
        if found is not None:
            return found
    return None


class _CallerSearch:
    """Chooses, for each alternative to stay out of, the condition that does not hold, and keeps what is chosen sound.

    An attribute is solved anew only where its own tests have grown, so that a choice that cannot be is cut off at once.
    """

    def __init__(self, rooms: Rooms) -> None:
        self.rooms = rooms
        self.steps = 0
        self._solved: dict[tuple[str, frozenset[Wanted]], Solution | None] = {}

    def run(self, inside: Conditions, outside: Sequence[Conditions]) -> Shown | None:
        wanted: dict[str, frozenset[Wanted]] = {}
        for attribute, test in inside:
            wanted[attribute] = wanted.get(attribute, frozenset()) | {(test, Want.HOLDS)}
        if any(self._solve(attribute, tests) is None for attribute, tests in wanted.items()):
            return None
        return self._out_of(wanted, sorted(outside, key=len))

    def _out_of(self, wanted: dict[str, frozenset[Wanted]], outside: Sequence[Conditions]) -> Shown | None:
        self.steps += 1
        if self.steps > MAX_STEPS:
            raise Undecided(f"more than {MAX_STEPS} choices")
        if not outside:
            shown = self._together(wanted)
            if shown is None:
                return None
            return {attribute: value for attribute, value in shown.items() if value is not None}
        first, rest = outside[0], outside[1:]
        for attribute, test in first:
            grown = wanted.get(attribute, frozenset()) | {(test, Want.NOT_HELD)}
            if self._solve(attribute, grown) is None:
                continue
            found_one = self._out_of({**wanted, attribute: grown}, rest)
            if found_one is not None:
                return found_one
        return None

    def _together(self, wanted: dict[str, frozenset[Wanted]]) -> Shown | None:
        """Values for all attributes at once; None where some are to be the same, or not, and cannot."""
        if any(names_in(test) for tests in wanted.values() for test, _ in tests):
            return solve_together(wanted, self.rooms)
        found = {attribute: self._solve(attribute, tests) for attribute, tests in wanted.items()}
        return {attribute: one.value for attribute, one in found.items() if one is not None}

    def _solve(self, attribute: str, tests: frozenset[tuple[Test, Want]]) -> Solution | None:
        tests = alone(tests)
        key = (attribute, tests)
        if key not in self._solved:
            ordered = sorted(tests, key=lambda one: one[1].value)
            self._solved[key] = solve(ordered, self.rooms(attribute))
        return self._solved[key]

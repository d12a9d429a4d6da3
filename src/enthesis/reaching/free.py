"""What may still be true where some attributes are free: clauses, and values that make all of them hold at once.

A literal says of one attribute that a test holds, or is false. An alternative is a row of literals that all must hold,
a clause a choice of alternatives, and a requirement a row of clauses. The empty requirement always holds.
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import product
from typing import Any

from enthesis.model.conditions import Conditions, Test
from enthesis.trusting.patterns import Undecided
from enthesis.trusting.truth import Value, passes
from enthesis.trusting.values import ROOMS, TEXT_ROOM, Room, Want, solve

Literal = tuple[str, Test, Want]
Alternative = tuple[Literal, ...]
Clause = tuple[Alternative, ...]
Requirement = tuple[Clause, ...]

ALWAYS: Requirement = ()
MAX_CHOICES = 2_000  # combinations of alternatives that are tried before the answer is Undecided


@dataclass(frozen=True, slots=True)
class Knowns:
    """What is known of a chain: attributes with their values; `limits` are literals that must hold besides.

    `rooms` says which values free claims can have. Attributes that are neither are free.
    """

    values: Mapping[str, Value] = field(default_factory=dict)
    limits: Alternative = ()
    rooms: Mapping[str, Room] = field(default_factory=dict)

    def room(self, attribute: str) -> Room:
        if attribute in self.rooms:
            return self.rooms[attribute]
        return ROOMS.get(attribute) or (Room() if attribute.startswith("claims.") else TEXT_ROOM)


def holding(conditions: Conditions, get: Callable[[str], Value], free: Callable[[str], bool], prefix: str = "") -> (
    Alternative | None
):  # fmt: skip
    """The literals that are left of conditions that must hold, once what is known is put in; None if they cannot."""
    left: list[Literal] = []
    for attribute, test in conditions:
        name = prefix + attribute
        if free(name):
            left.append((name, test, Want.HOLDS))
        elif passes(test, get(name)) is not True:
            return None
    return tuple(left)


def escaping(conditions: Conditions, get: Callable[[str], Value], free: Callable[[str], bool]) -> Clause | None:
    """The clause that a bar's conditions are false: some test is. None if they never are; () if they are already."""
    left: list[Alternative] = []
    for name, test in conditions:
        if free(name):
            left.append(((name, test, Want.FAILS),))
        elif passes(test, get(name)) is False:
            return ()
    return tuple(left) if left else None


def any_of(alternatives: Iterable[Alternative | None]) -> Requirement | None:
    """The requirement that one of these holds; None if there is none. Those that ask more than another are dropped."""
    left = list(dict.fromkeys(one for one in alternatives if one is not None))
    if not left:
        return None
    if () in left:
        return ALWAYS
    sets = [frozenset(one) for one in left]
    kept = [one for one, mine in zip(left, sets, strict=True) if not any(other < mine for other in sets)]
    return (tuple(kept),)


def joined(requirements: Iterable[Requirement | None]) -> Requirement | None:
    """All of these; None if one cannot be."""
    out: dict[Clause, None] = {}
    for one in requirements:
        if one is None:
            return None
        out.update(dict.fromkeys(one))
    return tuple(out)


class Solver:
    """Finds values for the free attributes of a chain; remembers what it found."""

    def __init__(self) -> None:
        self._known: dict[Any, Any] = {}

    def witness(self, requirement: Requirement, knowns: Knowns) -> dict[str, Value] | None:
        """Values under which every clause holds, by attribute; None where there are none. Raises Undecided."""
        clauses = self._reduced(requirement, knowns)
        if clauses is None:
            return None
        choices = 1
        for clause in clauses:
            choices *= len(clause)
        if choices > MAX_CHOICES:
            raise Undecided(f"more than {MAX_CHOICES} combinations of statements")
        for chosen in product(*clauses):
            literals = (*knowns.limits, *(literal for alternative in chosen for literal in alternative))
            found = self._values(literals, knowns)
            if found is not None:
                return found
        return None

    @staticmethod
    def _reduced(requirement: Requirement, knowns: Knowns) -> list[Clause] | None:
        """The clauses with what is known put in; None where one cannot hold."""
        out: list[Clause] = []
        for clause in requirement:
            alternatives: list[Alternative] = []
            for alternative in clause:
                left: list[Literal] = []
                for name, test, want in alternative:
                    if name not in knowns.values:
                        left.append((name, test, want))
                    elif not want.met(passes(test, knowns.values[name])):
                        break
                else:
                    alternatives.append(tuple(left))
            if not alternatives:
                return None
            if () not in alternatives:
                out.append(tuple(alternatives))
        return out

    def _values(self, literals: Sequence[Literal], knowns: Knowns) -> dict[str, Value] | None:
        by_name: dict[str, list[tuple[Test, Want]]] = {}
        for name, test, want in literals:
            if name in knowns.values:
                if not want.met(passes(test, knowns.values[name])):
                    return None
                continue
            by_name.setdefault(name, []).append((test, want))
        out: dict[str, Value] = {}
        for name, wanted in by_name.items():
            room = knowns.room(name)
            key = (name, frozenset(wanted), room)
            if key not in self._known:
                self._known[key] = solve(list(dict.fromkeys(wanted)), room)
            found = self._known[key]
            if found is None:
                return None
            out[name] = found.value
        return out

"""What may still be true where some attributes are free: clauses, and values that make all of them hold at once.

A literal says of one attribute that a test holds, or is false. An alternative is a row of literals that all must hold,
a clause a choice of alternatives, and a requirement a row of clauses. The empty requirement always holds.
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from enthesis.access.future_members import WORKLOADS
from enthesis.conditions.sameness import alone, literal, literals, names_in, renamed, solve_together
from enthesis.conditions.truth import Value, passes
from enthesis.conditions.values import ROOMS, TEXT_ROOM, Room, Solution, Want, solve
from enthesis.model.conditions import Conditions, Test
from enthesis.model.errors import Undecided

Literal = tuple[str, Test, Want]
Alternative = tuple[Literal, ...]
Clause = tuple[Alternative, ...]
Requirement = tuple[Clause, ...]

ALWAYS: Requirement = ()
KIND_OF, LABEL_OF = "kind of ", "label "  # how variables about members to come begin
BEFORE_KEY = " before the key "  # in variables about what led to a stored key, before its name
KINDS_TO_COME = Room(frozenset(), absent=False, typical=WORKLOADS)
MAX_CHOICES = 5_000  # choices of alternatives that are tried before the answer is Undecided


@dataclass(frozen=True, slots=True)
class Knowns:
    """What is known of a chain: attributes with their values; `limits` are literals that must hold besides.

    `rooms` says which values free claims can have. Attributes that are neither are free.
    """

    values: Mapping[str, Value] = field(default_factory=dict)
    limits: Alternative = ()
    rooms: Mapping[str, Room] = field(default_factory=dict)

    def room(self, attribute: str) -> Room:
        """Which values an attribute can take, as far as anything is known of it."""
        attribute = attribute.partition(BEFORE_KEY)[0]
        if attribute in self.rooms:
            return self.rooms[attribute]
        if attribute.startswith(KIND_OF):
            return KINDS_TO_COME
        return ROOMS.get(attribute) or (Room() if attribute.startswith("claims.") else TEXT_ROOM)


def holding(
    conditions: Conditions,
    get: Callable[[str], Value],
    free: Callable[[str], str],
    otherwise: Callable[[str], Value],
    prefix: str = "",
) -> list[Alternative]:
    """The ways for conditions to hold, of which one must be, once what is known is put in; none if they cannot.

    `free` says under which name an attribute is free, '' where `get` knows it; `otherwise` what it is where nothing is
    put for that name. There are several where what is compared is said further up too.
    """
    out: list[Alternative] = [()]
    for attribute, test in conditions:
        ways = literals(prefix + attribute, test, Want.HOLDS, get, free, otherwise)
        out = [(*before, *way) for before in out for way in ways]
    return out


def escaping(
    conditions: Conditions,
    get: Callable[[str], Value],
    free: Callable[[str], str],
    otherwise: Callable[[str], Value],
) -> Clause | None:
    """The clause that a bar's conditions are false: some test is. None if they never are; () if they are already."""
    left: list[Alternative] = []
    for name, test in conditions:
        ways = literals(name, test, Want.FAILS, get, free, otherwise)
        if () in ways:
            return ()
        left += ways
    return tuple(left) if left else None


def any_of(alternatives: Iterable[Alternative | None]) -> Requirement | None:
    """The requirement that one of these holds; None if there is none. Those that ask more than another are dropped."""
    left = list(dict.fromkeys(alternative for alternative in alternatives if alternative is not None))
    if not left:
        return None
    if () in left:
        return ALWAYS
    sets = [frozenset(pair) for pair in left]
    kept = [one for one, mine in zip(left, sets, strict=True) if not any(other < mine for other in sets)]
    return (tuple(kept),)


def joined(requirements: Iterable[Requirement | None]) -> Requirement | None:
    """All of these; None if one cannot be."""
    out: dict[Clause, None] = {}
    for requirement in requirements:
        if requirement is None:
            return None
        out.update(dict.fromkeys(requirement))
    return tuple(out)


def attributes_of(requirement: Requirement) -> set[str]:
    """The attributes that a requirement says anything of."""
    literals_in = (one for clause in requirement for alternative in clause for one in alternative)
    return {name for one, test, _ in literals_in for name in (one, *names_in(test))}


def resolved(requirement: Requirement, known: Mapping[str, Value]) -> Requirement | None:
    """A requirement with what is known put in; None where it cannot hold then."""
    out: list[Clause] = []
    for clause in requirement:
        alternatives = [left for pair in clause if (left := _left_of(pair, known)) is not None]
        if not alternatives:
            return None
        if () not in alternatives:
            out.append(tuple(dict.fromkeys(alternatives)))
    return tuple(out)


def _left_of(alternative: Alternative, known: Mapping[str, Value]) -> Alternative | None:
    left: list[Literal] = []
    for name, test, want in alternative:
        one = literal(name, test, want, known.get, lambda other: "" if other in known else other)
        if one is False:
            return None
        left += [one] if one is not True else []
    return tuple(left)


def without(requirement: Requirement, names: Callable[[str], bool]) -> Requirement:
    """A requirement without what it says of some attributes: what is asked of them no longer matters."""
    out: list[Clause] = []
    for clause in requirement:
        alternatives = dict.fromkeys(tuple(one for one in found if not names(one[0])) for found in clause)
        if () not in alternatives:
            out.append(tuple(alternatives))
    return tuple(out)


def called(requirement: Requirement, name_of: Callable[[str], str]) -> Requirement:
    """A requirement about the same attributes by other names."""
    return tuple(
        tuple(
            tuple((name_of(name), renamed(test, name_of), want) for name, test, want in alternative)
            for alternative in clause
        )
        for clause in requirement
    )


def denials(requirement: Requirement) -> list[Requirement]:
    """The ways for a requirement not to hold, one for each clause of it: every alternative there has a literal that is
    not so. None of them where it always holds."""
    return [
        tuple(tuple(((name, test, DENIED[want]),) for name, test, want in alternative) for alternative in clause)
        for clause in requirement
    ]


def holds_of(requirement: Requirement, values: Mapping[str, Value]) -> bool:
    """Whether a requirement holds of values; what they do not name is absent."""
    return all(
        any(all(want.met(passes(test, values.get(name), values.get)) for name, test, want in pair) for pair in clause)
        for clause in requirement
    )


DENIED = {Want.HOLDS: Want.NOT_HELD, Want.FAILS: Want.NOT_FALSE, Want.NOT_HELD: Want.HOLDS, Want.NOT_FALSE: Want.FAILS}


Wants = frozenset[tuple[Test, Want]]


class Solver:
    """Finds values for the free attributes of a chain; remembers what it found.

    Alternatives are chosen clause by clause, and a choice is given up as soon as one attribute has no value any more.
    """

    def __init__(self) -> None:
        self._known: dict[tuple[str, Wants, Room], Solution | None] = {}

    def witness(self, requirement: Requirement, knowns: Knowns) -> dict[str, Value] | None:
        """Values under which every clause holds, by attribute; None where there are none. Raises Undecided."""
        clauses = resolved(requirement, knowns.values)
        if clauses is None:
            return None
        limits = _left_of(knowns.limits, knowns.values)
        if limits is None:
            return None
        begun: dict[str, Wants] = {}
        for name, test, want in limits:
            begun[name] = begun.get(name, frozenset()) | {(test, want)}
        if any(self._value(name, wants, knowns) is None for name, wants in begun.items()):
            return None
        return _Choosing(self, sorted(clauses, key=len), knowns).go(0, begun)

    def together(self, chosen: Mapping[str, Wants], knowns: Knowns) -> dict[str, Value] | None:
        """Values for all attributes at once; None where there are none. Raises Undecided."""
        if any(names_in(test) for wants in chosen.values() for test, _ in wants):
            return solve_together(chosen, knowns.room)
        found = {name: self._value(name, wants, knowns) for name, wants in chosen.items()}
        if None in found.values():
            return None
        return {name: one.value for name, one in found.items() if one is not None}

    def _value(self, name: str, wants: Wants, knowns: Knowns) -> Solution | None:
        wants = alone(wants)
        key = (name, wants, knowns.room(name))
        if key not in self._known:
            self._known[key] = solve(sorted(wants, key=repr), key[2])
        return self._known[key]

    def completed(self, values: Mapping[str, Value], names: Iterable[str], knowns: Knowns) -> dict[str, Value]:
        """The values with further attributes: absent where that can be, and else as they may well be."""
        out = dict(values)
        for name in names:
            if name not in out and name not in knowns.values:
                found = self._value(name, frozenset(w[1:] for w in knowns.limits if w[0] == name), knowns)
                out[name] = found.value if found is not None else None
        return out

    def can_be(self, name: str, wants: Wants, knowns: Knowns) -> bool:
        """Whether an attribute has a value that is as wanted. Raises Undecided."""
        return self._value(name, wants, knowns) is not None


class _Choosing:
    """One search for alternatives that go together, one of each clause."""

    def __init__(self, solver: Solver, clauses: Sequence[Clause], knowns: Knowns) -> None:
        self.solver = solver
        self.clauses = clauses
        self.knowns = knowns
        self.tried = 0

    def go(self, at: int, chosen: dict[str, Wants]) -> dict[str, Value] | None:
        """Values with which the clauses from `at` on hold too; None where there are none."""
        while at < len(self.clauses) and any(_is_in(clause, chosen) for clause in self.clauses[at]):
            at += 1
        if at == len(self.clauses):
            return self.solver.together(chosen, self.knowns)
        undecided: Undecided | None = None
        for alternative in self.clauses[at]:
            self.tried += 1
            if self.tried > MAX_CHOICES:
                raise Undecided(f"more than {MAX_CHOICES} combinations of statements")
            try:
                more = self._with(alternative, chosen)
            except Undecided as bound:
                undecided = bound
                continue
            found = self.go(at + 1, more) if more is not None else None
            if found is not None:
                return found
        if undecided is not None:
            raise undecided
        return None

    def _with(self, alternative: Alternative, chosen: dict[str, Wants]) -> dict[str, Wants] | None:
        more = dict(chosen)
        for name, test, want in alternative:
            more[name] = more.get(name, frozenset()) | {(test, want)}
        for name in {name for name, *_ in alternative}:
            if more[name] != chosen.get(name) and not self.solver.can_be(name, more[name], self.knowns):
                return None
        return more


def _is_in(alternative: Alternative, chosen: Mapping[str, Wants]) -> bool:
    return all((test, want) in chosen.get(name, ()) for name, test, want in alternative)

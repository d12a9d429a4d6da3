"""The narrowest roles and grants that still allow what is needed: exactly, by mixed-integer optimisation (HiGHS).

Of all choices the one that gives the fewest units beyond need, then the one with the fewest roles, then the one with
the fewest grants. A unit is an identity, a permission and a declared place. Grants stand where something is needed, and
are to whom they were to; at most so many roles of a holder are new.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
from scipy.optimize import Bounds, LinearConstraint, milp
from scipy.sparse import csr_array

Permission = tuple[str, str]
ROLE = 1000.0  # what a role costs; of as many roles, those that exist already are taken first
MOST_ANCHORED = 30_000  # pairs of classes of seats, times groups of permissions, up to which roles are made for classes
HALF = 0.5  # a whole variable is above it, or below


@dataclass(frozen=True, slots=True)
class Seat:
    """Where a grant may stand: of which bundle, at which place. `needs` are permissions that must be granted here,
    `allowed` those that may be; `beyond` is what each permission costs here that is not needed by everybody whom the
    grant is to."""

    bundle: int
    place: str
    needs: frozenset[Permission]
    allowed: frozenset[Permission]
    beyond: Mapping[Permission, int] = field(default_factory=dict, hash=False, compare=False)


@dataclass(frozen=True, slots=True)
class Chosen:
    """What was chosen: the roles (existing ones by name, new ones as sets of permissions), and which are at each seat.

    `gap` is how far the choice may be from the best, as a share; 0 where it is proven to be the best.
    """

    roles: tuple[tuple[str, frozenset[Permission]], ...]
    at: tuple[tuple[int, ...], ...]
    beyond: int
    gap: float = 0.0


@dataclass(slots=True)
class _Model:
    """A program under construction: variables between 0 and 1, and rows of them with bounds."""

    whole: list[bool] = field(default_factory=list)
    rows: list[tuple[dict[int, float], float, float]] = field(default_factory=list)

    def variable(self, *, whole: bool = True) -> int:
        self.whole.append(whole)
        return len(self.whole) - 1

    def row(self, parts: Mapping[int, float], low: float = -np.inf, high: float = np.inf) -> None:
        self.rows.append((dict(parts), low, high))

    def solved(self, cost: Mapping[int, float], seconds: float) -> tuple[np.ndarray | None, float, float]:
        """The best values, what they cost, and the gap; None where none was found in time."""
        weights = np.zeros(len(self.whole))
        for variable, weight in cost.items():
            weights[variable] = weight
        data = [(row, column, value) for row, (parts, _, _) in enumerate(self.rows) for column, value in parts.items()]
        rows, columns, values = zip(*data, strict=True) if data else ((), (), ())
        places = (np.array(rows, np.int32), np.array(columns, np.int32))  # HiGHS counts in 32 bits
        matrix = csr_array((np.array(values, float), places), shape=(len(self.rows), len(self.whole)))
        bounds = LinearConstraint(matrix, [low for _, low, _ in self.rows], [high for _, _, high in self.rows])
        found = milp(
            weights, integrality=np.array(self.whole, int), bounds=Bounds(0, 1), constraints=bounds,
            options={"time_limit": seconds, "mip_rel_gap": 0.0},
        )  # fmt: skip
        if found.x is None:
            return None, 0.0, 1.0
        return np.round(found.x), float(found.fun), float(getattr(found, "mip_gap", 0.0) or 0.0)


def narrowest(
    seats: Sequence[Seat], existing: Mapping[str, frozenset[Permission]], new: int, seconds: float = 60.0
) -> Chosen:
    """The best roles for these seats, which share one holder's pool: existing roles, and at most so many new ones.

    ValueError where no roles there may be fit: existing ones that allow too much, and too few new ones.
    """
    if not seats:
        return Chosen((), (), 0)
    without = _without_beyond(seats, existing, new, seconds)
    if without is not None:
        return without
    program = _Program(seats, existing, new)
    best, gap = program.solved(seconds)
    return program.chosen(best, gap)


@dataclass(frozen=True, slots=True)
class _Role:
    """A role that may be made: whether it is, and what it holds by group of permissions. `anchor` is the class of seats
    that it is made for, None where it is for any."""

    made: int
    holds: Mapping[int, int]
    anchor: int | None = None


class _Program:
    """The choice as a program: which permissions each new role holds, and which roles stand at which class of seats.

    Where there are few classes, every new role is made for one of them, at which it stands, and no two for the same:
    more roles than classes where they stand are never the best, since one for each class needs no permission beyond
    need. So the roles differ from each other, and each permission beyond need is counted at least once, which makes the
    program solvable where it is not otherwise.
    """

    def __init__(self, seats: Sequence[Seat], existing: Mapping[str, frozenset[Permission]], new: int) -> None:
        self.seats = seats
        self.existing = existing
        self.classes = _classes(seats)
        self.columns = _alike(seats, existing.values())
        self.model = _Model()
        fitting = [name for name in existing if any(_fits(existing[name], seat) for seat in self.classes)]
        self.used = {name: self.model.variable() for name in fitting}
        self.roles = self._roles(min(new, len({seat.needs for seat in self.classes})))
        self.beyond: dict[int, float] = {}
        self.grants: dict[int, float] = {}
        self.stands: list[tuple[dict[str, int], dict[int, int]]] = []
        for number, (seat, members) in enumerate(self.classes.items()):
            self._seat(number, seat, len(members))

    def _roles(self, most: int) -> list[_Role]:
        """The roles that may be made, of which so many are at the most."""
        classes = list(self.classes)
        anchored = most and len(classes) ** 2 * len(self.columns) <= MOST_ANCHORED
        anchors: Sequence[int | None] = range(len(classes)) if anchored else [None] * most
        out = []
        for anchor in anchors:
            may = None if anchor is None else classes[anchor].allowed
            fitting = [column for column, its in enumerate(self.columns) if may is None or its <= may]
            role = _Role(self.model.variable(), {column: self.model.variable() for column in fitting}, anchor)
            for holds in role.holds.values():
                self.model.row({holds: 1, role.made: -1}, high=0)
            out.append(role)
        if anchored:
            self.model.row({role.made: 1.0 for role in out}, high=most)
        else:
            for earlier, later in pairwise(out):  # they are alike: they are taken in their order
                self.model.row({later.made: 1, earlier.made: -1}, high=0)
        return out

    def _seat(self, number: int, seat: Seat, many: int) -> None:
        """The roles that may stand at a class of seats, and what each group of permissions asks of them."""
        model = self.model
        by_name = {name: model.variable() for name in self.used if _fits(self.existing[name], seat)}
        by_new = {}
        for one, role in enumerate(self.roles):
            gives = any(self.columns[column] <= seat.needs for column in role.holds)
            if role.anchor == number:
                by_new[one] = role.made
            elif gives:
                by_new[one] = model.variable()
                model.row({by_new[one]: 1, role.made: -1}, high=0)
        self.stands.append((by_name, by_new))
        for name, at in by_name.items():
            model.row({at: 1, self.used[name]: -1}, high=0)
        for at in (*by_name.values(), *by_new.values()):
            self.grants[at] = self.grants.get(at, 0) + many
        for column, permissions in enumerate(self.columns):
            having = [at for name, at in by_name.items() if permissions <= self.existing[name]]
            new = [(self.roles[one], at) for one, at in by_new.items() if column in self.roles[one].holds]
            if permissions <= seat.needs:
                self._needed(column, having, new)
            elif permissions <= seat.allowed:
                self._extra(column, having, new, many * sum(seat.beyond.get(one, 1) for one in permissions))
            else:
                for role, at in new:
                    model.row({at: 1, role.holds[column]: 1, role.made: -1}, high=0)

    def _needed(self, column: int, having: Sequence[int], new: Sequence[tuple[_Role, int]]) -> None:
        """One of the roles that stand here gives it."""
        giving = list(having)
        for role, at in new:
            holds = role.holds[column]
            if at == role.made:
                giving.append(holds)
                continue
            both = self.model.variable(whole=False)
            self.model.row({both: 1, at: -1}, high=0)
            self.model.row({both: 1, holds: -1}, high=0)
            giving.append(both)
        self.model.row(dict.fromkeys(giving, 1.0), low=1)

    def _extra(self, column: int, having: Sequence[int], new: Sequence[tuple[_Role, int]], cost: float) -> None:
        """It costs something where one of the roles that stand here gives it."""
        extra = self.model.variable()
        self.beyond[extra] = cost
        for at in having:
            self.model.row({extra: 1, at: -1}, low=0)
        for role, at in new:
            held = {extra: 1.0, role.holds[column]: -1.0}
            self.model.row(held if at == role.made else {**held, at: -1.0, role.made: 1.0}, low=0)

    def solved(self, seconds: float) -> tuple[np.ndarray, float]:
        """The best values by one aim after the other, and the gap; ValueError where there are none."""
        roles = {**dict.fromkeys(self.used.values(), ROLE), **{role.made: ROLE + 1 for role in self.roles}}
        best: np.ndarray | None = None
        gap = 0.0
        for cost in (self.beyond, roles, self.grants):
            values, worth, its_gap = self.model.solved(cost, seconds)
            if values is None:
                gap = 1.0
                break
            best, gap = values, max(gap, its_gap)
            self.model.row(cost, high=round(worth) + 0.5)  # what comes next makes this no worse
        if best is None:
            raise ValueError("no roles fit")
        return best, gap

    def chosen(self, best: np.ndarray, gap: float) -> Chosen:
        """The values of the program as roles and seats."""
        contents = [
            frozenset(one for column, at in role.holds.items() if best[at] > HALF for one in self.columns[column])
            & self._needed_of(number, best)
            for number, role in enumerate(self.roles)
        ]
        numbers: dict[object, int] = {}
        roles: list[tuple[str, frozenset[Permission]]] = []
        at: list[tuple[int, ...]] = [()] * len(self.seats)
        beyond = 0
        for (seat, members), (by_name, by_new) in zip(self.classes.items(), self.stands, strict=True):
            picked: list[tuple[object, str, frozenset[Permission]]] = [
                (name, name, self.existing[name]) for name, variable in by_name.items() if best[variable] > HALF
            ]
            picked += [
                (role, "", contents[role])
                for role, variable in by_new.items()
                if best[variable] > HALF and contents[role]
            ]
            for key, name, permissions in picked:
                if key not in numbers:
                    numbers[key] = len(roles)
                    roles.append((name, permissions))
            for member in members:
                at[member] = tuple(numbers[key] for key, _, _ in picked)
            granted = frozenset(permission for _, _, permissions in picked for permission in permissions)
            beyond += len(members) * sum(seat.beyond.get(one, 1) for one in granted - seat.needs)
        return Chosen(tuple(roles), tuple(at), beyond, gap)

    def _needed_of(self, number: int, best: np.ndarray) -> frozenset[Permission]:
        """What some seat needs at which a new role stands: anything else that it may hold at no cost is left out."""
        stands = zip(self.classes, self.stands, strict=True)
        at = ((seat, by_new[number]) for seat, (_, by_new) in stands if number in by_new)
        return frozenset(need for seat, variable in at if best[variable] > HALF for need in seat.needs)


MOST_CANDIDATES = 4_000  # roles that are looked at where nothing beyond need is given


def _without_beyond(
    seats: Sequence[Seat], existing: Mapping[str, frozenset[Permission]], new: int, seconds: float
) -> Chosen | None:
    """The best choice that gives nothing beyond need, with the fewest roles and then grants; None where there is none.

    A role that stands at some seats gives no more than what all of them may have for nothing: so the roles to choose
    from are the intersections of that, and the choice is a cover, which is solved far faster than the whole program.
    """
    classes = list(_classes(seats).items())
    free = [seat.needs | {one for one in seat.allowed if not seat.beyond.get(one, 1)} for seat, _ in classes]
    candidates = _intersections(free)
    if candidates is None:
        return None
    model = _Model()
    every = [*existing.items(), *(("", its) for its in candidates)]
    roles = [(name, its, model.variable()) for name, its in every]
    made = {chosen: 1.0 for name, _, chosen in roles if not name}
    if made:
        model.row(made, high=new)
    grants: dict[int, float] = {}
    stands: list[list[tuple[int, int]]] = []
    for (seat, members), may in zip(classes, free, strict=True):
        here = [
            (number, model.variable()) for number, (_, its, _) in enumerate(roles) if its <= may and its & seat.needs
        ]
        stands.append(here)
        for number, at in here:
            model.row({at: 1, roles[number][2]: -1}, high=0)
            grants[at] = len(members)
        for need in seat.needs:
            giving = {at: 1.0 for number, at in here if need in roles[number][1]}
            if not giving:
                return None
            model.row(giving, low=1)
    best: np.ndarray | None = None
    for cost in ({chosen: ROLE + (not name) for name, _, chosen in roles}, grants):
        values, worth, gap = model.solved(cost, seconds)
        if values is None or gap:
            return None
        best = values
        model.row(cost, high=round(worth) + HALF)
    assert best is not None  # noqa: S101  the first program was solved
    return _picked(seats, classes, [(name, its) for name, its, _ in roles], stands, best)


def _intersections(sets: Sequence[frozenset[Permission]]) -> list[frozenset[Permission]] | None:
    """Every intersection of some of these that is not empty; None where there are too many."""
    found: set[frozenset[Permission]] = set()
    for one in sets:
        found |= {one, *(one & other for other in found)}
        if len(found) > MOST_CANDIDATES:
            return None
    return [one for one in found if one]


def _picked(
    seats: Sequence[Seat], classes: Sequence[tuple[Seat, list[int]]],
    roles: Sequence[tuple[str, frozenset[Permission]]],
    stands: Sequence[Sequence[tuple[int, int]]], best: np.ndarray,
) -> Chosen:  # fmt: skip
    """The choice in roles and seats; a new role holds what is needed where it stands, and no more."""
    chosen = [[number for number, at in here if best[at] > HALF] for here in stands]
    needed: dict[int, frozenset[Permission]] = {}
    for (seat, _), its in zip(classes, chosen, strict=True):
        for number in its:
            needed[number] = needed.get(number, frozenset()) | seat.needs
    used = sorted(needed)
    out = [(name, its if name else its & needed[number]) for number in used for name, its in [roles[number]]]
    at: list[tuple[int, ...]] = [()] * len(seats)
    for (_, members), its in zip(classes, chosen, strict=True):
        for member in members:
            at[member] = tuple(used.index(number) for number in its)
    return Chosen(tuple(out), tuple(at), 0)


def _fits(role: frozenset[Permission], seat: Seat) -> bool:
    """Whether a role gives something that a seat needs, and nothing that it may not give."""
    return bool(role & seat.needs) and role <= seat.allowed


def _classes(seats: Sequence[Seat]) -> dict[Seat, list[int]]:
    """Seats that ask for the same, under one of them."""
    out: dict[tuple[object, ...], list[int]] = {}
    for number, seat in enumerate(seats):
        cost = tuple(sorted((one, seat.beyond.get(one, 1)) for one in seat.allowed - seat.needs))
        out.setdefault((seat.needs, seat.allowed, cost), []).append(number)
    return {seats[members[0]]: members for members in out.values()}


def _alike(seats: Sequence[Seat], roles: Iterable[frozenset[Permission]]) -> list[frozenset[Permission]]:
    """The permissions, those together that no seat and no role tells apart."""
    listed = list(roles)
    by_signature: dict[tuple[object, ...], set[Permission]] = {}
    for one in {one for seat in seats for one in seat.allowed}:
        of_seats = tuple(
            (one in seat.needs, one in seat.allowed, 0 if one in seat.needs else seat.beyond.get(one, 1))
            for seat in seats
        )
        by_signature.setdefault((of_seats, tuple(one in role for role in listed)), set()).add(one)
    return [frozenset(its) for its in by_signature.values()]

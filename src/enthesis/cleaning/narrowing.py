"""The narrowest roles and grants that still allow what is needed.

Of all choices the one that gives the fewest units beyond need, then the one with the fewest roles, then the one with
the fewest grants. A unit is an identity, a permission and a declared place. Grants stand where something is needed, and
are to whom they were to; at most so many roles of a holder are new. New roles are looked for by `new_roles`, which
needs a solver; without it each seat keeps the fewest of the roles that exist.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from importlib.util import find_spec
from itertools import combinations

Permission = tuple[str, str]
SOLVER = "ortools"
MOST_EXACT = 12  # roles at a class of seats of which every combination is tried


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

    `gap` is how far the choice may be from the best, as a share: 0 where it is proven to be the best, None where no new
    role was looked for, since the solver is not installed.
    """

    roles: tuple[tuple[str, frozenset[Permission]], ...]
    at: tuple[tuple[int, ...], ...]
    beyond: int
    gap: float | None = 0.0


def narrowest(
    seats: Sequence[Seat], existing: Mapping[str, frozenset[Permission]], new: int, seconds: float = 60.0
) -> Chosen:
    """The best roles for these seats, which share one holder's pool: existing roles, and at most so many new ones.

    ValueError where no roles there may be fit: existing ones that allow too much, and too few new ones.
    """
    if not seats:
        return Chosen((), (), 0)
    if find_spec(SOLVER) is None:
        return _of_existing(seats, existing)
    from enthesis.cleaning.new_roles import with_new_roles  # noqa: PLC0415  loads the solver, where it is installed

    return with_new_roles(seats, existing, new, seconds)


def _of_existing(seats: Sequence[Seat], existing: Mapping[str, frozenset[Permission]]) -> Chosen:
    """At each class of seats the roles that give least beyond need, of those that exist. ValueError where none fit."""
    classes = list(classes_of(seats).items())
    roles = sorted(existing.items())
    at = [_covering(seat, roles) for seat, _ in classes]
    return by_role(seats, classes, roles, at, None)


def _covering(seat: Seat, roles: Sequence[tuple[str, frozenset[Permission]]]) -> list[int]:
    """The roles, by number, that give all that a seat needs and least beyond it: the best of all choices where there
    are few, else a good one, of which each role is needed."""

    def beyond(chosen: Sequence[int]) -> int:
        given = frozenset(permission for number in chosen for permission in roles[number][1])
        return sum(seat.beyond.get(permission, 1) for permission in given - seat.needs)

    def covers(chosen: Sequence[int]) -> bool:
        return seat.needs <= frozenset(permission for number in chosen for permission in roles[number][1])

    here = [number for number, (_, its) in enumerate(roles) if fits(its, seat)]
    if not covers(here):
        raise ValueError("no roles fit")
    if len(here) <= MOST_EXACT:
        every = (list(some) for count in range(len(here) + 1) for some in combinations(here, count))
        return min((some for some in every if covers(some)), key=lambda some: (beyond(some), len(some), some))
    for number in sorted(here, key=lambda number: beyond([number]), reverse=True):
        rest = [one for one in here if one != number]
        if covers(rest):
            here = rest
    return here


def by_role(
    seats: Sequence[Seat], classes: Sequence[tuple[Seat, list[int]]],
    roles: Sequence[tuple[str, frozenset[Permission]]], chosen: Sequence[Sequence[int]], gap: float | None,
) -> Chosen:  # fmt: skip
    """The choice in roles and seats; a new role holds what is needed where it stands, and no more."""
    needed: dict[int, frozenset[Permission]] = {}
    for (seat, _), its in zip(classes, chosen, strict=True):
        for number in its:
            needed[number] = needed.get(number, frozenset()) | seat.needs
    used = sorted(needed)
    out = [(name, its if name else its & needed[number]) for number in used for name, its in [roles[number]]]
    at: list[tuple[int, ...]] = [()] * len(seats)
    beyond = 0
    for (seat, members), its in zip(classes, chosen, strict=True):
        numbers = tuple(used.index(number) for number in its)
        granted = frozenset(permission for number in numbers for permission in out[number][1])
        beyond += len(members) * sum(seat.beyond.get(one, 1) for one in granted - seat.needs)
        for member in members:
            at[member] = numbers
    return Chosen(tuple(out), tuple(at), beyond, gap)


def fits(role: frozenset[Permission], seat: Seat) -> bool:
    """Whether a role gives something that a seat needs, and nothing that it may not give."""
    return bool(role & seat.needs) and role <= seat.allowed


def classes_of(seats: Sequence[Seat]) -> dict[Seat, list[int]]:
    """Seats that ask for the same, under one of them; those of which the least may be granted come first, since they
    leave the fewest ways."""
    out: dict[tuple[object, ...], list[int]] = {}
    for number, seat in enumerate(seats):
        cost = tuple(sorted((one, seat.beyond.get(one, 1)) for one in seat.allowed - seat.needs))
        out.setdefault((seat.needs, seat.allowed, cost), []).append(number)
    listed = sorted(out.values(), key=lambda members: (len(seats[members[0]].allowed), len(seats[members[0]].needs)))
    return {seats[members[0]]: members for members in listed}

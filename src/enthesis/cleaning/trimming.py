"""Roles and grants narrowed to what was used: what they become, and that nothing which was used is refused by it."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cache

from enthesis.access.attributes import kind_name
from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.cleaning.narrowing import Chosen, Permission, Seat, narrowest
from enthesis.cleaning.needs import Need, Needs, flat, question_about
from enthesis.cleaning.usage import Deed
from enthesis.files.editing import Addition, Edit, Removal
from enthesis.files.writing import plain_statement
from enthesis.model.addresses import account_of
from enthesis.model.estate import Estate, Grant, KindVerbs, Role, boundary_of
from enthesis.model.vocabulary import Form
from enthesis.verdicts.judge import Judge

BEYOND = 1_000  # what a unit beyond need costs, against one that is given twice


@dataclass(slots=True)
class Bundle:
    """Grants of one holder to one principal under the same conditions and end, narrowed together. `who` are the
    identities that they reach."""

    holder: str
    to: str
    who: frozenset[str]
    grants: list[Grant] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class BundleChange:
    """What a bundle becomes: the grants that go, and the ones that come."""

    holder: str
    to: str
    goes: tuple[Grant, ...]
    comes: tuple[Grant, ...]


@dataclass(frozen=True, slots=True)
class Trimmed:
    """The narrower estate, and what to know: the changes and new roles, the changes that were withheld since something
    that was used would be refused, what was used and not lately, and permissions before and after by identity.

    `gap` is how far the choice may be from the least, as a share; None where no new role was looked for."""

    after: Estate
    changes: tuple[BundleChange, ...] = ()
    roles: tuple[Role, ...] = ()
    withheld: tuple[tuple[str, str], ...] = ()
    conditional: int = 0
    onto_unknown: int = 0
    unused: tuple[str, ...] = ()
    rare: Mapping[tuple[str, Permission, str], float] = field(default_factory=dict)
    units: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    beyond: int = 0
    gap: float | None = 0.0


def trim(
    estate: Estate, needs: Needs, now: datetime, *, new: int = 5, seconds: float = 60.0,
    step: Callable[[str], None] = lambda what: None,
) -> Trimmed:  # fmt: skip
    """The estate with its grants narrowed to what is needed. Grants to those of whom nothing was recorded stay."""
    index = _Index(estate, needs)
    every = _bundles(index, now)
    bundles = [bundle for bundle in every if bundle.who & needs.used]
    unused = sorted({bundle.to for bundle in every} - {bundle.to for bundle in bundles})
    wanted = _wanted(index, bundles, now)
    by_holder: dict[str, list[int]] = {}
    for number, bundle in enumerate(bundles):
        by_holder.setdefault(bundle.holder, []).append(number)
    changes: list[BundleChange] = []
    roles: dict[str, Role] = {}
    beyond = 0
    gaps: list[float | None] = []
    for holder, numbers in by_holder.items():
        step(holder)
        seats = [seat for number in numbers for seat in _seats(index, number, bundles[number], wanted[number])]
        existing = {grant.role: index.permissions(grant.role) for number in numbers for grant in bundles[number].grants}
        chosen = narrowest(seats, existing, new, seconds)
        beyond += chosen.beyond // BEYOND
        gaps.append(chosen.gap)
        found, made = _changes(bundles, numbers, seats, chosen, _names(estate, holder, chosen, roles))
        changes += found
        roles |= made
    told = Trimmed(
        estate, unused=tuple(unused), rare=needs.rare, onto_unknown=needs.onto_unknown, beyond=beyond, gap=_widest(gaps)
    )
    return _replayed(index, changes, roles, now, told)


def _widest(gaps: Sequence[float | None]) -> float | None:
    """The widest of some gaps; None where one of them is not known."""
    known = [gap for gap in gaps if gap is not None]
    return max(known, default=0.0) if len(known) == len(gaps) else None


class _Index:
    """What is looked up often: permissions of roles, members of groups, and where a permission applies."""

    def __init__(self, estate: Estate, needs: Needs) -> None:
        self.estate = estate
        self.needs = needs
        self.units = needs.units()
        self.compiled = compile_estate(estate)
        self.permissions = cache(estate.permissions_of)
        self.members = cache(self._members)
        self.inside = cache(self._inside)
        kinds = estate.catalogue.kinds.values()
        self.leaves = {kind.name: frozenset(kind.within) for kind in kinds if kind.leaf}
        tops = [f"@{one.name}" for one in estate.organisations.values()]
        units = [f"@{one.name}/{unit}" for one in estate.organisations.values() for unit in one.units]
        named = [*tops, *units, *estate.accounts, *estate.resources, *estate.identities, *estate.groups]
        self.places = list(dict.fromkeys((*named, *(grant.at for grant in estate.grants if "/" in grant.at))))

    def _members(self, principal: str) -> frozenset[str]:
        number = self.compiled.find(principal)
        listed = self.compiled.members.get(number, ()) if self.estate.is_of_many(principal) else [number]
        return frozenset(self.compiled.places.names[one] for one in listed if one >= 0)

    def kind(self, place: str) -> str:
        return kind_name(self.compiled, place) or ""

    def applies(self, kind: str, place: str) -> bool:
        """Whether something of a kind is at a declared place: the place itself, or what is stored in it."""
        own = self.kind(place)
        return kind == own or own in self.leaves.get(kind, ())

    def _inside(self, boundary: str) -> tuple[str, ...]:
        """The declared places at and in a place."""
        return tuple(place for place in self.places if self.estate.is_at(boundary, place))

    def cost(self, bundle: Bundle, permission: Permission, place: str) -> int:
        """How many units beyond need a permission amounts to that a bundle has at a place."""
        where = [name for name in self.inside(place) if self.applies(permission[0], name)]
        return sum((who, permission, name) not in self.units for name in where for who in bundle.who)

    def again(self, bundle: Bundle, permission: Permission, place: str) -> int:
        """How many units are needed that another bundle gives already, if this one is not to give the permission."""
        where = [name for name in self.inside(place) if self.applies(permission[0], name)]
        return sum((who, permission, name) in self.units for name in where for who in bundle.who)


def _bundles(index: _Index, now: datetime) -> list[Bundle]:
    """The grants of ours that count, together where they differ in nothing but role and place."""
    estate = index.estate
    found: dict[tuple[object, ...], Bundle] = {}
    for grant in estate.grants:
        holder = estate.holder_of(grant)
        if estate.administered_by_others(holder) or not grant.in_force(now):
            continue
        if account_of(grant.at) and estate.system_of(grant.at) not in estate.providers:
            continue  # what a cluster decides is not recorded
        key = (holder, grant.to, repr(grant.when), grant.until)
        bundle = found.setdefault(key, Bundle(holder, grant.to, index.members(grant.to)))
        bundle.grants.append(grant)
    return list(found.values())


Wanted = dict[str, dict[Permission, set[str]]]
"""What a bundle must grant: by place and permission, to which identities."""


def _wanted(index: _Index, bundles: Sequence[Bundle], now: datetime) -> list[Wanted]:
    """What each bundle must grant. Each need is met by one bundle of each side: the one that reaches the fewest who do
    not need it. What a trust alone allows needs no grant."""
    out: list[Wanted] = [{} for _ in bundles]
    by_identity: dict[str, list[int]] = {}
    for number, bundle in enumerate(bundles):
        for identity in bundle.who:
            by_identity.setdefault(identity, []).append(number)
    trusted = _by_trust(index, now)
    sides: dict[tuple[str, Permission], list[tuple[str, list[int]]]] = {}
    by_unit: dict[tuple[str, Permission, str], list[Need]] = {}
    for need in index.needs.every.values():
        by_unit.setdefault(need.unit, []).append(need)
    for unit, (need, *_) in by_unit.items():
        if unit in trusted:
            continue
        fitting = [
            (number, bundles[number].holder)
            for number in by_identity.get(need.identity, ())
            if any(
                index.estate.is_at(grant.at, need.place) and need.permission in index.permissions(grant.role)
                for grant in bundles[number].grants
            )
        ]
        every = [alone for side in _sides(index.estate, need, fitting) for alone in _relied_on(bundles, side)]
        for side in every:
            sides.setdefault((need.place, need.permission), []).append((need.identity, side))
            best = min(side, key=lambda number: (index.cost(bundles[number], need.permission, need.place), number))
            out[best].setdefault(need.place, {}).setdefault(need.permission, set()).add(need.identity)
    for (place, permission), its in sides.items():
        _once(out, place, permission, its)
    return out


def _relied_on(bundles: Sequence[Bundle], side: list[int]) -> list[list[int]]:
    """The bundles of a side of which one is enough: those without conditions. Where there is none, each goes on letting
    what it lets: under which conditions something was done, a log does not tell."""
    plain = [number for number in side if not bundles[number].grants[0].when]
    return [plain] if plain else [[number] for number in side]


def _once(out: list[Wanted], place: str, permission: Permission, sides: Sequence[tuple[str, list[int]]]) -> None:
    """Takes back what a bundle is to give where another one gives it to all of the same, the smallest first."""
    giving = [number for number, wanted in enumerate(out) if permission in wanted.get(place, {})]
    for number in sorted(giving, key=lambda number: len(out[number][place][permission])):
        others = {index for index in giving if index != number and permission in out[index].get(place, {})}
        mine = [side for _, side in sides if number in side]
        if all(others.intersection(side) for side in mine):
            del out[number][place][permission]
            if not out[number][place]:
                del out[number][place]


def _by_trust(index: _Index, now: datetime) -> set[tuple[str, Permission, str]]:
    """The units of taking on that a trust alone allows, whatever surrounds it. Where another trust admits the whole
    account, its grant may be what makes the session live longer."""
    whole = {(trust.of, trust.admits.whom) for trust in index.estate.trusts if trust.admits.form == Form.ACCOUNT}
    taking = [
        need
        for need in index.needs.every.values()
        if need.verb == "take-on" and (need.target, account_of(need.identity)) not in whole
    ]
    if not taking:
        return set()
    allowing = {
        name: replace(role, allows=_without_taking_on(role.allows)) for name, role in index.estate.roles.items()
    }
    without = Judge(compile_estate(replace(index.estate, roles=allowing)))
    out = set()
    for need in taking:
        if not any(_refusals(without, question_about(index.estate, need, now))):
            out.add(need.unit)
    return out


def _without_taking_on(allows: KindVerbs) -> dict[str, tuple[str, ...]]:
    plain = {kind: tuple(verb for verb in verbs if verb != "take-on") for kind, verbs in allows.items()}
    return {kind: verbs for kind, verbs in plain.items() if verbs}


def _sides(estate: Estate, need: Need, fitting: Sequence[tuple[int, str]]) -> Iterator[list[int]]:
    """The bundles that could meet a need, apart for the target's side and the caller's."""
    target = boundary_of(need.place)
    above = {target, *estate.boundary_above(account_of(need.place)), *_tops(target)}
    caller = account_of(need.identity)
    home = {caller, *estate.boundary_above(caller)} if caller and _asks_the_caller(estate, need) else set()
    theirs = [number for number, holder in fitting if holder in above]
    ours = [number for number, holder in fitting if holder in home]
    yield from (side for side in (theirs, ours) if side)


def _asks_the_caller(estate: Estate, need: Need) -> bool:
    """Whether the caller's account must let it: in a crossing at a two-sided provider, and perhaps for taking on."""
    if need.verb == "take-on":
        return True
    return estate.crosses(account_of(need.identity), account_of(need.place))


def _tops(boundary: str) -> Iterator[str]:
    """The organisation and units that an '@' boundary stands in."""
    parts = boundary.split("/") if boundary.startswith("@") else []
    for many in range(len(parts), 0, -1):
        yield "/".join(parts[:many])


def _seats(index: _Index, number: int, bundle: Bundle, wanted: Wanted) -> list[Seat]:
    """Where a bundle must grant something, and what more may be granted there: what it has there already."""
    out = []
    for place, its in wanted.items():
        allowed = {
            permission
            for grant in bundle.grants
            if index.estate.is_at(grant.at, place)
            for permission in index.permissions(grant.role)
        }
        costs = {one: BEYOND * index.cost(bundle, one, place) + index.again(bundle, one, place) for one in allowed}
        out.append(Seat(number, place, frozenset(its), frozenset(allowed), costs))
    return out


def _names(estate: Estate, holder: str, chosen: Chosen, taken: Mapping[str, Role]) -> list[str]:
    """A name for each role that was chosen; new ones are called after their holder."""
    stem = f"{holder.removeprefix('@').replace('/', '-')}-as-used"
    out: list[str] = []
    for name, _ in chosen.roles:
        following = name
        number = 1
        while not following or (not name and (following in estate.roles or following in taken or following in out)):
            following = f"{stem}-{number}"
            number += 1
        out.append(following)
    return out


def _changes(
    bundles: Sequence[Bundle], numbers: Sequence[int], seats: Sequence[Seat], chosen: Chosen, names: Sequence[str]
) -> tuple[list[BundleChange], dict[str, Role]]:
    """What bundles become, and the new roles that stand in it."""
    comes: dict[int, list[Grant]] = {number: [] for number in numbers}
    made: dict[str, Role] = {}
    for seat, at in zip(seats, chosen.at, strict=True):
        bundle = bundles[seat.bundle]
        first = bundle.grants[0]
        for index in at:
            given, permissions = chosen.roles[index]
            name = names[index]
            if not given:
                made[name] = Role(name, _allows(permissions))
            held = bundle.holder if first.held_by is not None or boundary_of(seat.place) != bundle.holder else None
            comes[seat.bundle].append(replace(first, role=name, at=seat.place, name=None, held_by=held))
    out = []
    for number in numbers:
        bundle = bundles[number]
        before = {(grant.role, grant.at) for grant in bundle.grants}
        after = {(grant.role, grant.at) for grant in comes[number]}
        goes = tuple(grant for grant in bundle.grants if (grant.role, grant.at) not in after)
        fresh = tuple(grant for grant in comes[number] if (grant.role, grant.at) not in before)
        if goes or fresh:
            out.append(BundleChange(bundle.holder, bundle.to, goes, fresh))
    return out, made


def _allows(permissions: frozenset[Permission]) -> dict[str, tuple[str, ...]]:
    kinds: dict[str, list[str]] = {}
    for kind, verb in sorted(permissions):
        kinds.setdefault(kind, []).append(verb)
    return {kind: tuple(verbs) for kind, verbs in kinds.items()}


def applied(estate: Estate, changes: Sequence[BundleChange], roles: Mapping[str, Role]) -> Estate:
    """The estate with these changes."""
    goes = {id(grant) for change in changes for grant in change.goes}
    kept = tuple(grant for grant in estate.grants if id(grant) not in goes)
    bound = {grant.role for change in changes for grant in change.comes}
    fresh = {name: role for name, role in roles.items() if name in bound}
    return replace(
        estate,
        grants=(*kept, *(grant for change in changes for grant in change.comes)),
        roles={**estate.roles, **fresh},
    )


def _replayed(
    index: _Index, changes: list[BundleChange], roles: Mapping[str, Role], now: datetime, told: Trimmed
) -> Trimmed:
    """The changes after everything that was used was judged again; one by which something would be refused that was
    allowed is withheld. What hangs on conditions that the log does not record is taken as it was, and counted."""
    estate, needs = index.estate, index.needs
    withheld: list[tuple[str, str]] = []
    before = Judge(index.compiled)
    was = {key: _refusals(before, question_about(estate, need, now)) for key, need in needs.every.items()}
    while True:
        after = applied(estate, changes, roles)
        broken = _broken(after, needs, was, now)
        if broken is None:
            break
        who = {broken.identity, broken.deed.person}
        guilty = [change for change in changes if who & index.members(change.to)] or list(changes)
        withheld += [
            (change.to, f"{broken.identity} would no longer {broken.verb} {broken.target}") for change in guilty
        ]
        changes = [change for change in changes if change not in guilty]
    touched = sorted({identity for change in changes for identity in index.members(change.to)})
    counts = {identity: (_count(index, estate, identity), _count(index, after, identity)) for identity in touched}
    bound = {grant.role for change in changes for grant in change.comes}
    return replace(
        told,
        after=after,
        changes=tuple(changes),
        roles=tuple(role for name, role in roles.items() if name in bound),
        withheld=tuple(withheld),
        conditional=sum(any(refused) for refused in was.values()),
        units=counts,
    )


Refusals = tuple[frozenset[str], ...]
"""The steps that refuse, request by request, with those of what goes along with each."""


def _refusals(judge: Judge, question: Question) -> Refusals:
    return tuple(
        frozenset(f"{each.caller} {each.verb} {step}" for each in flat([request]) for step in each.refused_at)
        for request in judge.judge(question).requests
    )


def _lost(was: Refusals, now: Refusals) -> bool:
    """Whether anything refuses that did not before."""
    return any(after - before for before, after in zip(was, now, strict=True))


def _broken(after: Estate, needs: Needs, was: Mapping[Deed, Refusals], now: datetime) -> Need | None:
    """Something that was used and would be refused where it was not before: its whole journey is judged again."""
    judge = Judge(compile_estate(after))
    for key, need in needs.every.items():
        if _lost(was[key], _refusals(judge, question_about(after, need, now))):
            return need
    return None


def _count(index: _Index, estate: Estate, identity: str) -> int:
    """How many permissions at declared places the grants of an identity amount to."""
    found: set[tuple[Permission, str]] = set()
    for grant in estate.grants:
        if identity not in index.members(grant.to):
            continue
        for permission in estate.permissions_of(grant.role):
            its = (place for place in index.inside(grant.at) if index.applies(permission[0], place))
            found |= {(permission, place) for place in its}
    return len(found)


def edits_of(estate: Estate, trimmed: Trimmed) -> list[Edit]:
    """The edits of the files that make it so."""
    out: list[Edit] = [
        Removal.at(grant.source) for change in trimmed.changes for grant in change.goes if grant.source.line
    ]
    out += [Addition("roles", role.name, plain_statement("roles", role)) for role in trimmed.roles]
    for change in trimmed.changes:
        out += [Addition("grants", "", plain_statement("grants", grant)) for grant in change.comes]
    return out

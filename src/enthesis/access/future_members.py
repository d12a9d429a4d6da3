"""Members to come: identities and resources that nobody has declared yet, and that statements reach all the same.

A group by rule finds any identity that fits, a pool gets further hosts, an account of others has its own identities,
and an attachment by pattern reaches leaves that nobody declared. Each is looked at as one more member, whose name ends
in `…`, and whose labels (and kind, where any will do) are free.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from enthesis.access.compared import tests_of
from enthesis.access.tables import Tables
from enthesis.conditions.patterns import cell_texts, literal, matcher, tokens, witness
from enthesis.model.addresses import is_organisation, is_pool, parse
from enthesis.model.conditions import AllOf, AnyOf, Equal, Glob, Not, Test, literal_pattern
from enthesis.model.errors import InvalidAddress, Undecided
from enthesis.model.estate import Ceiling, CeilingException, Estate, GroupRule, boundary_of

MOST_NAMES = 256  # sets of patterns that names beneath one place are told apart by
ADDRESSES = ("caller.address", "origin.address")
ANY = "…"  # the end of a name that stands for any that nobody declared
WORKLOADS = ("service-account", "instance-role", "managed-identity")  # kinds that stand in an account itself


@dataclass(frozen=True, slots=True)
class ToCome:
    """What may come: identities by address, with their kind ('' where any of `WORKLOADS` will do) and what they are
    tied to ('' for nothing); members of pools; leaves that a pattern lets run as something."""

    identities: dict[str, tuple[str, str]]
    hosts: tuple[str, ...]
    leaves: tuple[str, ...]
    missed: str = ""  # which names there may be besides, where there are too many to tell apart

    def __bool__(self) -> bool:
        return bool(self.identities or self.hosts or self.leaves)

    def __or__(self, other: "ToCome") -> "ToCome":
        hosts, leaves = (*self.hosts, *other.hosts), (*self.leaves, *other.leaves)
        identities = {**self.identities, **other.identities}
        return ToCome(
            identities, tuple(dict.fromkeys(hosts)), tuple(dict.fromkeys(leaves)), self.missed or other.missed
        )

    def fitting(self, tables: Tables) -> "ToCome":
        """Those of them that have a place in an estate to stand in."""
        estate, known = tables.estate, set(tables.resources)
        return ToCome(
            {name: one for name, one in self.identities.items() if _can_stand(estate, known, name, one[1])},
            tuple(host for host in self.hosts if host.rsplit("/host/", 1)[0] in known),
            tuple(leave for leave in self.leaves if "/".join(leave.split("/")[:5]) in known),
            self.missed,
        )


NOBODY = ToCome({}, (), ())


def members_to_come(tables: Tables) -> ToCome:
    """Everything that may be added to an estate and that its statements would reach. A name is chosen for each set of
    the estate's address patterns that one can fit in its place."""
    estate = tables.estate
    found: dict[str, tuple[str, str]] = {}
    for name in estate.accounts:
        if estate.administered_by_others(name):
            found[f"{name}/identity/{ANY}"] = ("", "")
    for group in estate.groups.values():
        within = group.where.within or boundary_of(group.address) if group.where is not None else ""
        if group.where is not None and not estate.is_outside(within):
            found.update(_found_by(tables, group.where, within))
    for organisation in dict.fromkeys(filter(is_organisation, tables.grant_to)):
        found.update(_found_by(tables, GroupRule(), organisation))
    names = _Names(tables)
    identities: dict[str, tuple[str, str]] = {}
    for address, said in found.items():
        stem = address.removesuffix(ANY)
        identities.update((one, said) for one in names.beneath(stem))
    hosts = [one for pool in tables.resources if is_pool(pool) for one in names.beneath(f"{pool}/host/")]
    return ToCome(identities, tuple(dict.fromkeys(hosts)), tuple(dict.fromkeys(_leaves(tables))), names.missed)


class _Names:
    """Names that nobody declared yet, one for each set of address patterns that one beneath a stem can fit."""

    def __init__(self, tables: Tables) -> None:
        self.tables = tables
        self.known = {*tables.resources, *tables.identities}
        self.patterns = list(dict.fromkeys(_address_patterns(tables)))
        self.missed = ""

    def beneath(self, stem: str) -> Iterator[str]:
        """The addresses; the first fits no pattern that another could leave unfitted, and so stands for any."""
        yield stem + ANY
        here = [one for one in self.patterns if _may_fit(one, stem)]
        if not here:
            return
        rows = [tokens(one) for one in here]
        told = {sum(1 << number for number, one in enumerate(here) if matcher(one)(stem + ANY))}
        try:
            for free in (("*", "\\" + ANY, "*"), ("*",)):
                within = (*literal(stem), *free)
                for cell, text in cell_texts([within, *rows], lambda _, alive: bool(alive & 1)):
                    if not cell & 1 or cell >> 1 in told:
                        continue
                    fits = self._unknown(text, within, rows, cell >> 1)
                    if fits is not None and _is_place(self.tables, fits):
                        told.add(cell >> 1)
                        yield fits
                    if len(told) > MOST_NAMES:
                        raise Undecided(f"more than {MOST_NAMES} sets of patterns")
        except Undecided as bound:
            self.missed = f"{bound} that a name beneath {stem} can fit"

    def _unknown(self, text: str, within: Sequence[str], rows: Sequence[Sequence[str]], cell: int) -> str | None:
        """The text, unless something declared has that address; then another that fits the same patterns, if any."""
        if text not in self.known:
            return text
        fitting = [row for number, row in enumerate(rows) if cell >> number & 1]
        others = [row for number, row in enumerate(rows) if not cell >> number & 1]
        found = witness([within, *fitting], [*others, literal(text)])
        return found if found not in self.known else None


def _may_fit(pattern: str, stem: str) -> bool:
    """Whether a pattern can fit something beneath a stem, by how both begin."""
    begins = pattern.split("*", 1)[0].split("?", 1)[0].split("\\", 1)[0]
    return stem.startswith(begins) or begins.startswith(stem)


def _address_patterns(tables: Tables) -> Iterator[str]:
    """The patterns, and single addresses, by which statements tell apart who asks and what runs."""
    estate = tables.estate
    yield from _patterns(tables)
    for attribute in ADDRESSES:
        for test in tests_of(tables, attribute):
            yield from _patterns_in(test)
    named: list[str | Glob] = [one for ceiling in estate.ceilings for one in _callers_in(ceiling)]
    for invariant in estate.invariants:
        named += invariant.claimed.by
        named += invariant.claimed.start.whom if invariant.claimed.start is not None else ()
    yield from (one.pattern for one in named if isinstance(one, Glob))


def _callers_in(ceiling: Ceiling) -> Iterator[str | Glob]:
    for one in ceiling.excepts:
        yield one.who if isinstance(one, CeilingException) else one


def _patterns_in(test: Test) -> Iterator[str]:
    if isinstance(test, Glob):
        yield test.pattern
    elif isinstance(test, Equal) and isinstance(test.value, str):
        yield literal_pattern(test.value)
    elif isinstance(test, Not):
        yield from _patterns_in(test.test)
    elif isinstance(test, AnyOf | AllOf):
        for one in test.tests:
            yield from _patterns_in(one)


def _can_stand(estate: Estate, resources: set[str], address: str, tied: str) -> bool:
    above = address.split("/identity/", 1)[0]
    there = above in estate.accounts or above in resources or above[1:] in estate.organisations
    return there and (not tied or tied in resources)


def _found_by(tables: Tables, rule: GroupRule, within: str) -> Iterator[tuple[str, tuple[str, str]]]:
    """The members that a rule may yet find, one for each place that they can stand in."""
    estate = tables.estate
    if is_organisation(within) and rule.kind in (None, "person"):
        yield f"{within}/identity/{ANY}", ("person", "")
    if rule.kind == "person":
        return
    if "/" in within and not within.startswith("@") and rule.kind in (None, "managed-identity"):
        account, name = within.split("/", 1)[0], within.rsplit("/", 1)[-1]
        yield f"{account}/identity/{name}-{ANY}", ("managed-identity", within)
    for account in _accounts_in(estate, within):
        if rule.kind in (None, *WORKLOADS):
            yield f"{account}/identity/{ANY}", ("", "")
    if rule.kind in (None, "cluster-service-account"):
        for address in tables.resources:
            parts = address.split("/")
            if len(parts) == 5 and parts[3] == "namespace" and estate.is_at(within, address):
                yield f"{address}/identity/{ANY}", ("cluster-service-account", "")


def _accounts_in(estate: Estate, within: str) -> Iterator[str]:
    for name in estate.accounts:
        if within in (name, *estate.boundary_above(name)):
            yield name


def _leaves(tables: Tables) -> Iterator[str]:
    """Leaves that nobody declared and that a pattern lets run as something."""
    catalogue = tables.estate.catalogue
    running = [name for name, kind in catalogue.kinds.items() if kind.leaf and catalogue.running_verb(name)]
    patterns = [
        attachment.what.pattern for attachment in tables.estate.attachments if isinstance(attachment.what, Glob)
    ]
    if not patterns:
        return
    for word in running:
        outer = catalogue.kinds[word].within
        for place in tables.resources:
            if place.split("/")[-2] in outer:
                yield from _fitting(tables, f"{place}/{word}/", patterns)


def _patterns(tables: Tables) -> list[str]:
    """The patterns by which statements tell resources apart."""
    found = [attachment.what for attachment in tables.estate.attachments]
    found += [glob for glob in tables.trust_whom if isinstance(glob, Glob)]
    return list(dict.fromkeys(glob.pattern for glob in found if isinstance(glob, Glob)))


def _fitting(tables: Tables, stem: str, patterns: list[str]) -> Iterator[str]:
    """For each pattern an address that begins with the stem and fits it, where there is a well-formed one."""
    known = set(tables.resources)
    for pattern in patterns:
        if not _may_fit(pattern, stem):
            continue
        if matcher(pattern)(stem + ANY):
            yield stem + ANY
            continue
        for free in (("\\" + ANY, "**"), ("??", "**")):
            found = witness([tokens(pattern), (*literal(stem), *free)], [])
            if found is not None and found not in known and _is_place(tables, found):
                yield found
                break


def _is_place(tables: Tables, address: str) -> bool:
    try:
        parse(address, tables.estate.catalogue)
    except InvalidAddress:
        return False
    return True

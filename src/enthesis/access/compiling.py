"""Compiles an estate once: names to numbers, places to intervals, permissions to bits, statements to sorted arrays.

Everything that answers questions runs on this. A place is its number; a place contains another where its interval
of preorder numbers does. A permission (a verb on a kind) is a bit; a role is a number made of such bits.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from enthesis.access.arrays import Bools, Ints, once
from enthesis.access.future_members import WORKLOADS, ToCome
from enthesis.access.tables import Tables, tables_of
from enthesis.conditions.patterns import matcher
from enthesis.model.addresses import account_of, is_organisation, is_pool, parse, pool_of, standing_in
from enthesis.model.catalogue import EVERYTHING, IDENTITIES, NEAREST_KEY, Companion
from enthesis.model.conditions import Conditions, Equal, Glob, Test
from enthesis.model.errors import InvalidAddress
from enthesis.model.estate import PERSON, Ceiling, CeilingException, Estate, GroupRule, boundary_of
from enthesis.model.vocabulary import NOT_OF_PEOPLE, VerdictStep

NONE = -1  # no place, no account
ENDLESS = float("inf")


@dataclass(frozen=True, slots=True)
class ForAWhile:
    """An exception that ends, with its numbers: the permission bits that it is for, the place (NONE: anywhere), its end
    in seconds since 1970."""

    who: str | Glob
    permissions: int
    place: int
    until: float

    def names(self, caller: str, *, inside: bool) -> bool:
        """Whether it is about a caller; patterns reach only callers inside the ceiling's own boundary."""
        return (inside and matcher(self.who.pattern)(caller)) if isinstance(self.who, Glob) else self.who == caller


@dataclass(frozen=True, slots=True)
class CompiledCeiling:
    """A ceiling with its numbers: `refuses` are the permission bits that it does not let through."""

    ceiling: Ceiling
    place: int
    refuses: int
    excepted: frozenset[str]
    patterns: tuple[str, ...]
    for_a_while: tuple["ForAWhile", ...] = ()

    def bars(self, permission: int, caller: str, *, inside: bool) -> bool:
        """Whether it refuses a permission to a caller ('' for a bearer) where its condition holds. `inside`: the caller
        is inside the ceiling's own boundary."""
        if not self.refuses >> permission & 1:
            return False
        return not caller or not self.leaves_alone(caller, inside)

    def leaves_alone(self, caller: str, inside: bool) -> bool:
        """Whether this caller is an exception; patterns reach only callers inside the ceiling's own boundary."""
        return caller in self.excepted or (inside and any(matcher(pattern)(caller) for pattern in self.patterns))


@dataclass(slots=True)
class Places:
    """Every place by number. A parent has a smaller number than what stands in it."""

    names: list[str] = field(default_factory=list)
    index: dict[str, int] = field(default_factory=dict)
    parent: list[int] = field(default_factory=list)
    kind: list[int] = field(default_factory=list)
    account: list[int] = field(default_factory=list)
    organisation: list[int] = field(default_factory=list)

    def chain(self, place: int) -> list[int]:
        """The place and every place above it, nearest first."""
        out = []
        while place != NONE:
            out.append(place)
            place = self.parent[place]
        return out


class Compiled:
    """One estate, compiled. Arrays are in the order of the statements unless their name says otherwise."""

    def __init__(
        self,
        tables: Tables,
        mentioned: Iterable[str] = (),
        *,
        to_come: Iterable[str] = (),
        any_kind: Iterable[str] = (),
    ) -> None:
        """`mentioned` are addresses to be told apart besides those that the estate names itself; `to_come` those of
        members that nobody declared, whose labels are free, and `any_kind` those among them whose kind is free too.
        """
        self.tables = tables
        self.mentioned = tuple(mentioned)
        self._to_come, self._any_kind = frozenset(to_come), frozenset(any_kind)
        self.estate: Estate = tables.estate
        self.catalogue = self.estate.catalogue
        self._found: dict[int, frozenset[int]] = {}
        self._permissions()
        self._places()
        self._intervals()
        self.to_come = frozenset(self.places.index[name] for name in self._to_come)
        self.is_to_come = np.zeros(len(self.places.names), bool)
        self.is_to_come[list(self.to_come)] = True
        self.any_kind = frozenset(self.places.index[name] for name in self._any_kind)
        self._standing()
        self._roles()
        self._grants()
        self._trusts()
        self._groups()
        self._ceilings()

    # -- making ---------------------------------------------------------------------------------------------------

    def _permissions(self) -> None:
        self.kind_names = list(self.catalogue.kinds)
        self.kind_number = {name: number for number, name in enumerate(self.kind_names)}
        pairs = [(kind.name, verb) for kind in self.catalogue.kinds.values() for verb in kind.verbs]
        self.permission_pairs = pairs
        self.permission = {pair: number for number, pair in enumerate(pairs)}
        self.class_of = [self.catalogue.kinds[kind].verbs[verb] for kind, verb in pairs]
        self.companions = [self.catalogue.companions_of(kind, verb) for kind, verb in pairs]
        self.take_on = self.permission["identity", "take-on"]
        self.not_of_people = frozenset(self.permission["identity", verb] for verb in NOT_OF_PEOPLE)

    def mask(self, pairs: Iterable[tuple[str, str]]) -> int:
        """Permissions as the bits of one number."""
        out = 0
        for pair in pairs:
            out |= 1 << self.permission[pair]
        return out

    def _places(self) -> None:
        estate, tables = self.estate, self.tables
        self.places = Places()
        for organisation in estate.organisations.values():
            top = self._add(f"@{organisation.name}", "organisation", NONE)
            self.places.organisation[top] = top
            for unit in sorted(organisation.units, key=lambda path: path.count("/")):
                self._boundary(f"@{organisation.name}/{unit}")
        for account in estate.accounts.values():
            number = self._add(account.name, "account", self._boundary(account.within))
            self.places.account[number] = number
        top = self.kind_number["account"]
        self._at_top = {
            kind.name: self.kind_number[kind.name]
            for kind in self.catalogue.kinds.values()
            if "account" in kind.within and not kind.leaf and self.kind_number[kind.name] != top
        }
        identities = [self._quick(address) for address in tables.identities]
        self.identity_places = np.array(identities, np.int64)
        for address in estate.groups:
            self.place(address)
        resources = [self._quick(address) for address in tables.resources]
        self.declared = set(range(len(self.places.names)))
        self.resource_places = np.array(resources, np.int64)

    def _boundary(self, address: str) -> int:
        """An organisation or unit; made with what is above it where a record names it first."""
        found = self.places.index.get(address)
        if found is not None:
            return found
        above, slash, _ = address.rpartition("/")
        number = self._add(address, "unit" if slash else "organisation", self._boundary(above) if slash else NONE)
        if not slash:
            self.places.organisation[number] = number
        return number

    def _add(self, address: str, kind: str, parent: int) -> int:
        places = self.places
        number = len(places.names)
        places.names.append(address)
        places.index[address] = number
        places.parent.append(parent)
        places.kind.append(self.kind_number[kind])
        places.account.append(places.account[parent] if parent != NONE else NONE)
        places.organisation.append(places.organisation[parent] if parent != NONE else NONE)
        return number

    def _quick(self, address: str) -> int:
        """The same as `place` for the commonest form of address, `ACCOUNT/KIND/NAME`, without taking it apart."""
        places = self.places
        parts = address.split("/")
        kind = self._at_top.get(parts[1]) if len(parts) == 3 else None
        parent = places.index.get(parts[0], NONE) if kind is not None else NONE
        if kind is None or parent == NONE or parts[2] in ("", ".", "..") or parts[0].startswith("@"):
            return self.place(address)
        number = len(places.names)
        if places.index.setdefault(address, number) != number:
            return places.index[address]
        places.names.append(address)
        places.parent.append(parent)
        places.kind.append(kind)
        places.account.append(places.account[parent])
        places.organisation.append(places.organisation[parent])
        return number

    def place(self, address: str) -> int:
        """The number of an address, made where it has none yet, with every place above it; NONE if not well formed."""
        known = self.places.index.get(address)
        if known is not None:
            return known
        try:
            found = parse(address, self.catalogue)
        except InvalidAddress:
            return NONE
        parent = self.place(found.parent) if found.parent else NONE
        kind = self.catalogue.kinds.get(found.kind)
        if kind is not None and kind.leaf and "/" in found.name:  # prefixes of a leaf's name are places too
            stem, words = address[: -len(found.name)], found.name.split("/")
            for count in range(1, len(words)):
                prefix = stem + "/".join(words[:count])
                known = self.places.index.get(prefix)
                parent = known if known is not None else self._add(prefix, found.kind, parent)
        return self._add(address, found.kind, parent)

    def _intervals(self) -> None:
        """Preorder numbers: a place holds those from its own to before its end. Called once places are known."""
        mentioned = {*self.tables.grant_at, *(name for name in self.tables.trust_whom if isinstance(name, str))}
        mentioned |= {attachment.what for attachment in self.estate.attachments if isinstance(attachment.what, str)}
        mentioned |= {one.at for ceiling in self.estate.ceilings for one in ceiling.for_a_while if one.at}
        mentioned |= {name for name in self.mentioned if self.exists(name)}
        for address in sorted(mentioned - self.places.index.keys()):
            if "/" in address:
                self.place(address)
        parent = self.places.parent
        count = len(parent)
        size = [1] * count
        for number in range(count - 1, -1, -1):
            if parent[number] != NONE:
                size[parent[number]] += size[number]
        first, following, top = [0] * count, [0] * count, 0
        for number in range(count):
            above = parent[number]
            if above == NONE:
                first[number], top = top, top + size[number]
            else:
                first[number] = following[above]
                following[above] += size[number]
            following[number] = first[number] + 1
        self.first = np.array(first, np.int64)
        self.end = self.first + np.array(size, np.int64)
        self.parent = np.array(parent, np.int64)
        self.kind = np.array(self.places.kind, np.int64)
        self.account = np.array(self.places.account, np.int64)
        self.organisation = np.array(self.places.organisation, np.int64)

    def inside(self, outer: int, inner: int) -> bool:
        """Whether a place contains another, or is it."""
        return bool(self.first[outer] <= self.first[inner] < self.end[outer])

    def _standing(self) -> None:
        """Which identities there are, of which kind, and which of them are not to be taken for standing."""
        tables, count = self.tables, len(self.places.names)
        self.is_identity = np.zeros(count, bool)
        self.is_identity[self.identity_places] = True
        self.identity_kind = dict(zip(self.identity_places.tolist(), tables.kinds, strict=True))
        persons = [number for number, kind in self.identity_kind.items() if kind == PERSON]
        self.is_person = np.zeros(count, bool)
        self.is_person[persons] = True
        self.stands = np.ones(count, bool)
        fallen = [self.places.index[name] for name in tables.disabled]
        fallen += [self.places.index[one] for one, tied in tables.tied.items() if not self.exists(tied)]
        self.stands[fallen] = False
        providers = {name: number for number, name in enumerate(self.estate.providers)}
        self.provider_names = list(providers)
        of_account = np.full(count + 1, NONE, np.int64)
        for account in self.estate.accounts.values():
            of_account[self.places.index[account.name]] = providers.get(account.provider, NONE)
        self.provider = np.where(self.account == NONE, NONE, of_account[self.account])
        self.two_sided = np.array([provider.two_sided for provider in self.estate.providers.values()] + [False])
        index = self.places.index
        self.theirs = {index[name] for name in self.estate.accounts if self.estate.administered_by_others(name)}
        self.key_above = {index[at]: index.get(key, NONE) for at, key in tables.encrypted_by.items()}
        self.key_by_provider = {index[at] for at in tables.by_provider}
        self._running()

    def _running(self) -> None:
        """What runs as what: from the resources themselves, and from attachments by address or pattern."""
        self.runs_as: dict[int, tuple[int, ...]] = {}
        index = self.places.index

        def runs(place: int, identities: Sequence[str]) -> None:
            known = self.runs_as.get(place, ())
            self.runs_as[place] = (
                *known,
                *(index[identity] for identity in identities if index[identity] not in known),
            )

        for address, identities in self.tables.runs_as.items():
            runs(index[address], identities)
        self.running_patterns: list[tuple[str, tuple[str, ...]]] = []
        for attachment in self.estate.attachments:
            if isinstance(attachment.what, Glob):
                self.running_patterns.append((attachment.what.pattern, attachment.runs_as))
                matches = matcher(attachment.what.pattern)
                for address in (*self.tables.resources, *self._leaves_mentioned()):
                    if matches(address):
                        runs(index[address], attachment.runs_as)
            elif attachment.what in index:  # what is not there runs as nobody
                runs(index[attachment.what], attachment.runs_as)
        names = self.places.names
        of_pools = {names[place]: found for place, found in self.runs_as.items()}
        for address in self.tables.resources:
            pool = pool_of(address)
            if pool in of_pools:  # a member runs as its pool does
                runs(index[address], [names[number] for number in of_pools[pool]])

    def _leaves_mentioned(self) -> list[str]:
        """The leaves that code runs on, and that nobody declared, among the mentioned addresses."""
        kinds, places = self.kind_names, self.places
        found = [name for name in self.mentioned if name in places.index and places.index[name] not in self.declared]
        return [name for name in found if self.catalogue.running_verb(kinds[places.kind[places.index[name]]])]

    def _roles(self) -> None:
        self.role_names = list(self.estate.roles)
        self.role_number = {name: number for number, name in enumerate(self.role_names)}
        pairs = [self.estate.permissions_of(name) for name in self.role_names]
        self.role_mask = [self.mask(pair) for pair in pairs]
        self.role_allows = np.zeros((len(self.role_names) + 1, len(self.permission_pairs)), bool)
        for number, mask in enumerate(self.role_mask):
            for permission in _bits(mask):
                self.role_allows[number, permission] = True

    def _grants(self) -> None:
        tables, index = self.tables, self.places.index
        find = index.get
        count = len(tables.grant_to)

        def numbers(column: Iterable[str]) -> Ints:
            return np.array([find(name, NONE) for name in column], np.int64)

        self.grant_to, self.grant_at = numbers(tables.grant_to), numbers(tables.grant_at)
        self.grant_holder = numbers(tables.grant_holder)
        role = self.role_number.get
        none = len(self.role_names)
        self.grant_role = np.array([role(name, none) for name in tables.grant_role], np.int64)
        self.grant_until = np.full(count, ENDLESS)
        for number, until in tables.grant_until.items():
            self.grant_until[number] = until
        self.grant_open = np.isfinite(self.grant_until)  # whether it hangs on anything that a chain leaves open
        self.grant_open[list(tables.grant_when)] = True
        # where the owner's side of it reaches: at or below both the place and its holder
        at, holder = self.grant_at, self.grant_holder
        sound = (at != NONE) & (holder != NONE) & (self.grant_to != NONE)
        holder_above = sound & (self.first[holder] <= self.first[at]) & (self.first[at] < self.end[holder])
        holder_below = sound & (self.first[at] <= self.first[holder]) & (self.first[holder] < self.end[at])
        self.grant_reach = np.where(holder_above, at, np.where(holder_below, holder, NONE))
        self.grant_key = _key(np.where(sound, self.grant_to, 0), np.where(sound, at, 0))
        self.grant_key[~sound] = NONE
        self.grants_by_key = np.argsort(self.grant_key, kind="stable")
        self.grant_keys = self.grant_key[self.grants_by_key]

    def _trusts(self) -> None:
        tables = self.tables
        find = self.places.index.get
        count = len(tables.trust_of)
        self.trust_of = np.array([find(name, NONE) for name in tables.trust_of], np.int64)
        self.trusts_by_of = np.argsort(self.trust_of, kind="stable")
        self.trust_ofs = self.trust_of[self.trusts_by_of]
        self.trust_until = np.full(count, ENDLESS)
        for number, until in tables.trust_until.items():
            self.trust_until[number] = until

    def _groups(self) -> None:
        """Which groups every identity is in, groups in groups counted."""
        estate, index = self.estate, self.places.index
        members: dict[str, Ints] = {}

        def of(address: str) -> Ints:
            if address in members:
                return members[address]
            members[address] = np.zeros(0, np.int64)  # a cycle ends here; the reader refuses them
            group = estate.groups[address]
            found = [np.array([index[member] for member in group.members if member in index], np.int64)]
            found = [found[0][self.is_identity[found[0]]] if len(found[0]) else found[0]]
            found += [of(member) for member in group.members if member in estate.groups]
            if group.where is not None:
                found.append(self.found_by(group.where, address))
            members[address] = once(np.concatenate(found))
            return members[address]

        for address in dict.fromkeys(filter(is_organisation, self.tables.grant_to)):
            if address in index:  # everybody of it
                of_all = self.organisation[self.identity_places] == index[address]
                members[address] = self.identity_places[of_all]
        pairs = [(of(address), index[address]) for address in (*members, *estate.groups)]
        self.members = {index[address]: found for address, found in members.items()}
        who = np.concatenate([found for found, _ in pairs]) if pairs else np.zeros(0, np.int64)
        which = np.repeat([group for _, group in pairs], [len(found) for found, _ in pairs]) if pairs else who
        order = np.argsort(who, kind="stable")
        self.member, self.member_group = who[order], np.asarray(which, np.int64)[order]

    def _tied(self) -> tuple[Ints, Ints]:
        """The identities tied to something of their own account, and the known places at or above that."""
        own = ((one, at) for one, at in self.tables.tied.items() if account_of(at) == account_of(one))
        chains = [(self.places.index[one], self.chain_of(at)) for one, at in own]
        pairs = np.array([(one, chain[0]) for one, chain in chains if chain], np.int64).reshape(-1, 2)
        return pairs[:, 0], pairs[:, 1]

    def found_by(self, rule: GroupRule, group: str) -> Ints:
        """The identities that a rule of a group finds."""
        found = self.identity_places
        within = self.places.index.get(rule.within or boundary_of(group), NONE)
        if within == NONE:
            return found[:0]
        inside = (self.first[within] <= self.first[found]) & (self.first[found] < self.end[within])
        who, where = self._tied()  # who is tied to a resource is also where that is
        tied = who[(self.first[within] <= self.first[where]) & (self.first[where] < self.end[within])]
        inside |= np.isin(found, tied)
        outside = [
            self.places.index[f"@{organisation.name}"]
            for organisation in self.estate.organisations.values()
            if organisation.outside
        ]
        inside &= ~np.isin(self.organisation[found], outside)
        if rule.kind is not None:
            fits = [kind == rule.kind for kind in self.tables.kinds]
            if self._any_kind and rule.kind in WORKLOADS:
                fits = [fit or one in self._any_kind for fit, one in zip(fits, self.tables.identities, strict=True)]
            inside &= np.array(fits, bool)
        if rule.labels:
            labels, to_come = self.tables.labels, self._to_come
            inside &= np.array(
                [
                    identity in to_come
                    or (
                        identity in labels
                        and all(labels[identity].get(name) == value for name, value in rule.labels.items())
                    )
                    for identity in self.tables.identities
                ],
                bool,
            )
        chosen: Ints = found[inside]
        return chosen

    def _found_by_rule(self, group: int) -> frozenset[int]:
        """Whom the rule of a group finds, or may find; looked for once."""
        if group not in self._found:
            described = self.estate.groups[self.places.names[group]]
            found = self.found_by(described.where, described.address).tolist() if described.where is not None else ()
            self._found[group] = frozenset(found)
        return self._found[group]

    def joining(self, member: int, group: int) -> list[Conditions]:
        """What a member to come must be like to be in a group, `caller.kind` and `caller.labels.*`: one way or another.

        The empty conditions where it always is.
        """
        name = self.places.names[group]
        if is_organisation(name):
            return [()]
        described = self.estate.groups[name]
        out: list[Conditions] = []
        if described.where is not None and member in self._found_by_rule(group):
            rule = described.where
            kind = member in self.any_kind and rule.kind is not None
            wanted: list[tuple[str, Test]] = [("caller.kind", Equal(str(rule.kind)))] if kind else []
            wanted += [(f"caller.labels.{name}", Equal(value)) for name, value in rule.labels.items()]
            out.append(tuple(wanted))
        for inner in described.members:
            number = self.places.index.get(inner)
            if inner in self.estate.groups and number is not None and member in self.members[number].tolist():
                out += self.joining(member, number)
        return out

    def _ceilings(self) -> None:
        everything = (1 << len(self.permission_pairs)) - 1
        self.ceilings_at: dict[int, list[CompiledCeiling]] = {}
        for ceiling in self.estate.ceilings:
            listed = ceiling.bars if ceiling.bars is not None else ceiling.only or {}
            lists = self.mask(self.catalogue.permissions(listed, power_included=True))
            refuses = lists if ceiling.bars is not None else everything & ~lists
            plain = frozenset(name for name in ceiling.excepts if isinstance(name, str))
            patterns = tuple(glob.pattern for glob in ceiling.excepts if isinstance(glob, Glob))
            place = self.places.index.get(ceiling.at, NONE)
            for_a_while = tuple(map(self._for_a_while, ceiling.for_a_while))
            barred = CompiledCeiling(ceiling, place, refuses, plain, patterns, for_a_while)
            self.ceilings_at.setdefault(place, []).append(barred)

    def _for_a_while(self, one: CeilingException) -> ForAWhile:
        """An exception that ends; at a place that nobody knows it is for nothing."""
        every = not one.can or EVERYTHING in one.can
        permissions = self.mask(pair for pair in self.permission_pairs if every or pair[1] in one.can)
        place = self.places.index.get(one.at, NONE) if one.at else NONE
        if one.at and place == NONE:
            permissions = 0
        return ForAWhile(one.who, permissions, place, one.until.timestamp())

    # -- looking up -----------------------------------------------------------------------------------------------

    def find(self, address: str) -> int:
        """The number of an address that is declared or mentioned; NONE for any other."""
        return self.places.index.get(address, NONE)

    def exists(self, address: str) -> bool:
        """Whether an address is declared, or is a leaf or a member of a pool whose parent is."""
        number = self.places.index.get(address)
        if number is not None and number in self.declared:
            return True
        try:
            place = parse(address, self.catalogue)
        except InvalidAddress:
            return False
        kind = self.catalogue.kinds.get(place.kind)
        parent = self.places.index.get(place.parent)
        comes_and_goes = kind is not None and (kind.leaf or (place.kind == "host" and is_pool(place.parent)))
        return comes_and_goes and parent is not None and parent in self.declared

    def chain_of(self, address: str) -> list[int]:
        """The numbers of the known places at and above an address, nearest first; [] for one not well formed."""
        number = self.places.index.get(address)
        if number is None:
            try:
                above = standing_in(address, self.catalogue)
                number = next((self.places.index[name] for name in above if name in self.places.index), NONE)
            except InvalidAddress:
                return []
        return self.places.chain(number)

    def groups_of(self, identity: int) -> list[int]:
        """The groups an identity is in."""
        low, high = np.searchsorted(self.member, (identity, identity + 1))
        found: list[int] = self.member_group[low:high].tolist()
        return found

    def grants_between(self, principals: Sequence[int], places: Sequence[int]) -> list[int]:
        """The grants to any of these at any of these places. One look-up for all of them."""
        if not principals or not places:
            return []
        wanted = _key(np.repeat(np.array(principals, np.int64), len(places)), np.tile(places, len(principals)))
        low = np.searchsorted(self.grant_keys, wanted, "left")
        high = np.searchsorted(self.grant_keys, wanted, "right")
        out: list[int] = []
        for here in np.flatnonzero(high > low).tolist():
            out += self.grants_by_key[low[here] : high[here]].tolist()
        return sorted(out)

    def grants_to(self, principal: int, most: int) -> list[int]:
        """Up to so many of the grants to one identity or group."""
        low, high = np.searchsorted(self.grant_keys, (principal << 32, (principal + 1) << 32))
        found: list[int] = self.grants_by_key[low : min(high, low + most)].tolist()
        return found

    def trusts_of(self, identity: int) -> list[int]:
        """The trusts of one identity."""
        low, high = np.searchsorted(self.trust_ofs, (identity, identity + 1))
        found: list[int] = self.trusts_by_of[low:high].tolist()
        return found

    # -- rules that every reading of a step shares ------------------------------------------------------------------

    def is_given(self, account: int) -> bool:
        """Whether the caller's half of an account counts as given: others administer it, and only they know it."""
        return account in self.theirs

    def crosses(self, caller: int, target: int) -> bool:
        """Whether a request of an identity is a crossing that its own account must let out."""
        own, other = self.places.account[caller], self.places.account[target]
        if NONE in (own, other) or own == other:
            return False
        provider = int(self.provider[caller])
        return provider == int(self.provider[target]) and bool(self.two_sided[provider])

    def crossing(self, callers: Ints, targets: Ints) -> Bools:
        """`crosses` for many requests at a time."""
        own, other, provider = self.account[callers], self.account[targets], self.provider[callers]
        same = (provider == self.provider[targets]) & self.two_sided[provider]
        out: Bools = (own != NONE) & (other != NONE) & (own != other) & same
        return out

    def known_at(self, caller: int, provider: int) -> bool:
        """Whether an identity or a resource is known at a provider: its own; a person at every one."""
        return bool(self.is_person[caller]) or int(self.provider[caller]) == provider

    def takes_its_own(self, permission: int, caller: str, target: int) -> bool:
        """Whether a resource takes on what it runs as, which no ceiling over callers bars."""
        return permission == self.take_on and "/identity/" not in caller and target in self.runs(caller)

    def ceilings_over(self, callers: Sequence[int], targets: Sequence[int]) -> Iterator[CompiledCeiling]:
        """The ceilings over a caller and over a target, by the places at and above each."""
        for over, chain in (("callers", callers), ("targets", targets)) if self.ceilings_at else ():
            for place in chain:
                for barred in self.ceilings_at.get(place, ()):
                    if barred.ceiling.over == over:
                        yield barred

    def given(self, callers: Ints) -> Bools:
        """`is_given` for the accounts of many callers at a time."""
        out: Bools = np.isin(self.account[callers], list(self.theirs))
        return out

    def spared_until(
        self, barred: CompiledCeiling, permission: int, caller: str, target: int, *, inside: bool
    ) -> float:
        """Until when an exception leaves a caller alone for a permission at a target (seconds since 1970); before all
        time where none does."""
        found = (
            one.until
            for one in barred.for_a_while
            if caller and one.permissions >> permission & 1 and one.names(caller, inside=inside)
            if one.place == NONE or self.inside(one.place, target)
        )
        return max(found, default=-ENDLESS)

    def held_on(self, side: VerdictStep, grant: int, caller: int, target: int) -> bool:
        """Whether a grant's holder is on the side of a target, or on the side of a caller's account."""
        holder = int(self.grant_holder[grant])
        if side is VerdictStep.TARGET_SIDE:
            return self.inside(holder, target)
        own = self.places.account[caller] if caller != NONE else NONE
        return own != NONE and self.inside(holder, own)

    def grant_in_force(self, number: int, instant: float) -> bool:
        """Whether a grant has not ended: at the instant of its end it has."""
        return float(self.grant_until[number]) > instant

    def grants_in_force(self, instant: float, grants: Ints | None = None) -> Bools:
        """Which grants, of all or of some, have not ended."""
        out: Bools = (self.grant_until if grants is None else self.grant_until[grants]) > instant
        return out

    def trust_in_force(self, number: int, instant: float) -> bool:
        """Whether a trust has not ended."""
        return float(self.trust_until[number]) > instant

    def trusts_in_force(self, instant: float) -> Bools:
        """Which trusts have not ended."""
        out: Bools = self.trust_until > instant
        return out

    def grant_when(self, number: int) -> Conditions:
        """The conditions of a grant, by its number."""
        return self.tables.grant_when.get(number, ())

    def trust_when(self, number: int) -> Conditions:
        """The conditions of a trust, by its number."""
        return self.tables.trust_when.get(number, ())

    def trust_shown(self, number: int) -> Conditions:
        """The tests of what a bearer shows to a trust, by its number."""
        return self.tables.trust_shown.get(number, ())

    def labels_at(self, place: int) -> Mapping[str, str]:
        """The labels that a place has of its own."""
        name = self.places.names[place]
        estate = self.estate
        if name.startswith("@") and name[1:] in estate.organisations:
            return estate.organisations[name[1:]].labels
        if name in estate.accounts:
            return estate.accounts[name].labels
        return self.tables.labels.get(name, {})

    def runs(self, address: str) -> list[int]:
        """The identities that a resource runs as; patterns reach leaves that nobody declared too, and members to come
        run as their pool does."""
        number = self.places.index.get(address)
        if number is not None and number in self.declared:
            return list(self.runs_as.get(number, ()))
        found = list(self.runs_as.get(number, ())) if number is not None else []
        pool = self.places.index.get(pool_of(address)) if pool_of(address) else None
        found += [one for one in self.runs_as.get(pool, ()) if one not in found] if pool is not None else []
        for pattern, identities in self.running_patterns:
            if matcher(pattern)(address):
                found += [
                    self.places.index[identity] for identity in identities if self.places.index[identity] not in found
                ]
        return found


def _bits(mask: int) -> Iterator[int]:
    """The positions of the bits that are set."""
    while mask:
        low = mask & -mask
        yield low.bit_length() - 1
        mask ^= low


def _key(ints: Ints, other: Ints) -> Ints:
    """Two numbers as one, so that pairs can be sorted and looked up."""
    out: Ints = (ints.astype(np.int64) << 32) | other
    return out


def with_members_to_come(compiled: Compiled, more: ToCome) -> Compiled:
    """The same estate with members that may yet come, those of them that have a place in it; itself where none has."""
    more = more.fitting(compiled.tables)
    if compiled.to_come or not more:
        return compiled
    kinds = {address: kind or WORKLOADS[0] for address, (kind, _) in more.identities.items()}
    kinds = {address: kind for address, kind in kinds.items() if address not in compiled.places.index}
    tied = {address: more.identities[address][1] for address in kinds if more.identities[address][1]}
    return Compiled(
        compiled.tables.with_more(kinds, tied, [host for host in more.hosts if host not in compiled.places.index]),
        (*compiled.mentioned, *more.leaves),
        to_come=(*kinds, *more.hosts),
        any_kind=[address for address in kinds if not more.identities[address][0]],
    )


def compile_estate(estate: Estate, mentioned: Iterable[str] = ()) -> Compiled:
    """A described estate, compiled."""
    return Compiled(tables_of(estate), mentioned)


def companion_places(compiled: Compiled, companion: Companion, chain: Sequence[int], address: str) -> Sequence[int]:
    """The places at which a companion is asked: the nearest key, or the identities that the target runs as.

    `chain` are the known places at and above the target, nearest first.
    """
    if companion.on == IDENTITIES:
        return compiled.runs(address)
    key = next((compiled.key_above[place] for place in chain if place in compiled.key_above), NONE)
    return () if companion.on != NEAREST_KEY or key == NONE else (key,)

"""Many requests at a time: everything that can be asked about, who may do what directly, and the states of requests.

Made once for a compiled estate and an instant. Nodes are numbers: places first, then the bearers of issuers.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from enthesis.access.arrays import Bools, Ints, once, spread
from enthesis.access.attributes import kind_name
from enthesis.access.caller_side import bulk as caller_side
from enthesis.access.ceilings import bulk as ceilings
from enthesis.access.companions.bulk import AlsoAsked
from enthesis.access.compiling import NONE, Compiled
from enthesis.access.future_members import ANY
from enthesis.access.granting.bulk import principals
from enthesis.access.names import bulk as names
from enthesis.access.needed import CallerNode, Goal
from enthesis.access.provider import bulk as provider
from enthesis.access.states import LOOK, NO, YES, Batch, States
from enthesis.access.target_side import bulk as target_side
from enthesis.model.vocabulary import FORM_OF_ISSUER, OF_MEMBERS_TO_COME


@dataclass(frozen=True, slots=True)
class Rows:
    """Direct requests as columns: who (a node), which permission, which target (its number), and the state."""

    who: Ints
    permission: Ints
    target: Ints
    state: States

    def where(self, chosen: Bools) -> "Rows":
        """The chosen rows; `chosen` has one value per row."""
        return Rows(self.who[chosen], self.permission[chosen], self.target[chosen], self.state[chosen])

    def __len__(self) -> int:
        return len(self.who)


class Many:
    """Requests on one compiled estate, from one instant on (seconds since 1970)."""

    def __init__(self, compiled: Compiled, now: float) -> None:
        self.compiled = compiled
        self.now = now
        self.places = len(compiled.places.names)
        self.issuers = list(compiled.estate.issuers)
        self.nodes = self.places + len(self.issuers)
        self.is_to_come = np.zeros(self.nodes, bool)
        self.is_to_come[: self.places] = compiled.is_to_come
        self._targets()
        self._grants()

    # -- targets --------------------------------------------------------------------------------------------------

    def _targets(self) -> None:
        """Everything that can be asked about: the known places, and for every place that leaves stand in, or begin
        with, any other such leaf."""
        compiled = self.compiled
        kinds = compiled.catalogue.kinds
        place = list(range(self.places))
        kind = compiled.kind.tolist()
        name: dict[int, str] = {}
        for word, found in kinds.items():
            if not found.leaf:
                continue
            outer = [compiled.kind_number[name] for name in found.within if name in compiled.kind_number]
            leaf = compiled.kind_number[word]
            parents = np.flatnonzero(np.isin(compiled.kind, outer)).tolist()
            for parent in parents:
                name[len(place)] = f"{compiled.places.names[parent]}/{word}/{ANY}"
                place.append(parent)
                kind.append(leaf)
            for prefix in np.flatnonzero(compiled.kind == leaf).tolist():  # a leaf's name may continue below another's
                name[len(place)] = f"{compiled.places.names[prefix]}/{ANY}"
                place.append(prefix)
                kind.append(leaf)
        self.target_place = np.array(place, np.int64)
        self.target_kind = np.array(kind, np.int64)
        self._target_name = name
        self.by_kind: dict[int, tuple[Ints, Ints]] = {}
        first = compiled.first[self.target_place]
        order = np.lexsort((first, self.target_kind))
        bounds = np.searchsorted(self.target_kind[order], np.arange(len(compiled.kind_names) + 1))
        for number in range(len(compiled.kind_names)):
            mine = order[bounds[number] : bounds[number + 1]]
            if number == compiled.kind_number["identity"]:
                self._with_identities_to_come = (first[mine], mine)
                mine = mine[~self.is_to_come[self.target_place[mine]]]
            self.by_kind[number] = (first[mine], mine)

    def asked_about(self, permission: int) -> tuple[Ints, Ints]:
        """The targets that a permission can be asked about, by where they stand first: those of its kind. Of identities
        to come only what lets code run as them, attaches or issues for them."""
        kind, verb = self.compiled.permission_pairs[permission]
        if kind == "identity" and verb in OF_MEMBERS_TO_COME:
            return self._with_identities_to_come
        return self.by_kind[self.compiled.kind_number[kind]]

    def goal(self, target: int) -> Goal:
        """A target as what is asked about."""
        place = int(self.target_place[target])
        compiled = self.compiled
        return Goal(
            self.target_name(target),
            compiled.kind_names[int(self.target_kind[target])],
            tuple(compiled.places.chain(place)),
        )

    def target_name(self, target: int) -> str:
        """The address of a target; one that ends in … stands for any leaf that nobody declared."""
        return self._target_name.get(target) or self.compiled.places.names[int(self.target_place[target])]

    def leaf_names(self) -> Iterable[tuple[int, str]]:
        """The targets that are no known place, with their names."""
        return self._target_name.items()

    def targets_in(self, place: int) -> Bools:
        """Which targets lie in a place."""
        first = self.compiled.first[self.target_place]
        inside: Bools = (first >= self.compiled.first[place]) & (first < self.compiled.end[place])
        return inside

    def targets_at(self, address: str) -> list[int]:
        """The targets that an address stands for: itself, or the parent's any-leaf where nobody declared it."""
        number = self.compiled.find(address)
        if number != NONE:
            return [number]
        chain = self.compiled.chain_of(address)
        kind = _kind_of(self.compiled, address)
        first, mine = self.by_kind.get(kind, (np.zeros(0, np.int64), np.zeros(0, np.int64)))
        if not chain or not len(first):
            return []
        here = mine[first == self.compiled.first[chain[0]]]
        return [int(one) for one in here if int(one) >= self.places and int(self.target_place[one]) == chain[0]][:1]

    def targets_at_or_in(self, address: str) -> Ints:
        """The targets that being *at* a place means: the place and everything in it, leaves that nobody declared too;
        of a leaf that nobody declared itself."""
        place = self.compiled.find(address)
        if place == NONE:
            return np.array(self.targets_at(address), np.int64)
        return np.flatnonzero(self.targets_in(place))

    def rows_at_or_in(self, address: str, wanted: Bools) -> Rows:
        """Everybody who directly may do something wanted (by permission) at a place or in it, as granted."""
        place = self.compiled.find(address)
        if place != NONE:
            return self.rows_at(place, wanted)
        found = [self.rows_on(target, wanted) for target in self.targets_at(address)]
        return found[0] if found else self.rows_of(np.zeros(0, np.int64), wanted)

    # -- nodes ----------------------------------------------------------------------------------------------------

    def node(self, number: int) -> CallerNode:
        """A node by its number."""
        if number >= self.places:
            name = self.issuers[number - self.places]
            kind = self.compiled.estate.issuers[name].kind
            return CallerNode(FORM_OF_ISSUER[kind], NONE, name)
        name = self.compiled.places.names[number]
        return CallerNode("identity" if self.compiled.is_identity[number] else "resource", number, name)

    # -- grants, sorted by where they reach -------------------------------------------------------------------------

    def _grants(self) -> None:
        compiled = self.compiled
        live = (compiled.grant_reach != NONE) & compiled.grants_in_force(self.now)
        numbers = np.flatnonzero(live)
        first = compiled.first[compiled.grant_reach[numbers]]
        order = np.argsort(first, kind="stable")
        self.reaching_grants = numbers[order]
        self.reaching_first = first[order]
        is_group = np.zeros(self.places, bool)
        is_group[list(compiled.members)] = True
        self.is_group = is_group

    def grants_about(self, place: int) -> Ints:
        """The live grants that reach into a place, or to it from above."""
        compiled = self.compiled
        low, high = np.searchsorted(self.reaching_first, (compiled.first[place], compiled.end[place]))
        found = [self.reaching_grants[low:high]]
        above = compiled.places.parent[place]
        while above != NONE:
            low, high = np.searchsorted(self.reaching_first, (compiled.first[above], compiled.first[above] + 1))
            found.append(self.reaching_grants[low:high])
            above = compiled.places.parent[above]
        return np.concatenate(found)

    def grants_of(self, who: Ints) -> tuple[Ints, Ints]:
        """Pairs of an identity and a live grant to it or to a group of it."""
        principal, of = principals(self.compiled, who)
        keys = self.compiled.grant_keys
        low, high = np.searchsorted(keys, principal << 32), np.searchsorted(keys, (principal + 1) << 32)
        row, at = spread(low, high - low)
        grants = self.compiled.grants_by_key[at]
        live = (self.compiled.grant_reach[grants] != NONE) & self.compiled.grants_in_force(self.now, grants)
        return who[of[row[live]]], grants[live]

    def grants_held(self, grants: Ints) -> tuple[Ints, Ints]:
        """Pairs of an identity that a grant is to, members of groups each, and the grant."""
        to = self.compiled.grant_to[grants]
        single = ~self.is_group[to]
        who, which = [to[single]], [grants[single]]
        grouped, groups = grants[~single], to[~single]
        for group in once(groups).tolist():
            mine = grouped[groups == group]
            members = self.compiled.members[group]
            who.append(np.tile(members, len(mine)))
            which.append(np.repeat(mine, len(members)))
        people, numbers = np.concatenate(who), np.concatenate(which)
        named = self.compiled.is_identity[people]
        return people[named], numbers[named]

    # -- direct rows ----------------------------------------------------------------------------------------------

    def rows_at(self, place: int, wanted: Bools) -> Rows:
        """Everybody who directly may do something wanted (by permission) at a place or in it, as granted."""
        grants = self.grants_about(place)
        grants = grants[(self.compiled.role_allows[self.compiled.grant_role[grants]] & wanted).any(axis=1)]
        who, numbers = self.grants_held(grants)
        low, high = int(self.compiled.first[place]), int(self.compiled.end[place])
        return self.decided(self._expanded(who, numbers, wanted, low, high))

    def rows_on(self, target: int, wanted: Bools) -> Rows:
        """Everybody who directly may do something wanted on one target, as granted."""
        place = int(self.target_place[target])
        grants = self.grants_about(place)
        reach = self.compiled.grant_reach[grants]
        above = (self.compiled.first[reach] <= self.compiled.first[place]) & (
            self.compiled.first[place] < self.compiled.end[reach]
        )
        kind = int(self.target_kind[target])
        mine = wanted & (
            np.array([self.compiled.kind_number[one] for one, _ in self.compiled.permission_pairs]) == kind
        )
        allows = self.compiled.role_allows[self.compiled.grant_role[grants]] & mine
        keep = above & allows.any(axis=1)
        who, numbers = self.grants_held(grants[keep])
        row, permission = np.nonzero(self.compiled.role_allows[self.compiled.grant_role[numbers]] & mine)
        own = self._owned(numbers[row])
        return self.decided(
            self._unique(who[row], permission.astype(np.int64), np.full(len(row), target, np.int64), own)
        )

    def rows_of(self, who: Ints, wanted: Bools) -> Rows:
        """Everything wanted that these identities directly may do, as granted."""
        people, grants = self.grants_of(who)
        return self.decided(self._expanded(people, grants, wanted, 0, self.places + 1))

    def _owned(self, grants: Ints) -> States:
        """What each grant is worth on the owner's side of what it reaches."""
        return np.where(self.compiled.grant_open[grants], LOOK, YES).astype(np.int8)

    def _expanded(self, who: Ints, grants: Ints, wanted: Bools, low: int, high: int) -> Rows:
        """Pairs of identity and grant as requests, each once, with what the owner's side amounts to."""
        compiled = self.compiled
        reach, role = compiled.grant_reach[grants], compiled.grant_role[grants]
        start = np.maximum(compiled.first[reach], low)
        stop = np.minimum(compiled.end[reach], high)
        own = self._owned(grants)
        parts: list[tuple[Ints, Ints, Ints, States]] = []
        allowed = compiled.role_allows & wanted
        for permission in np.flatnonzero(allowed.any(axis=0)).tolist():
            first, mine = self.asked_about(permission)
            has = allowed[role, permission]
            begin, end = np.searchsorted(first, start[has]), np.searchsorted(first, stop[has])
            row, at = spread(begin, np.maximum(end - begin, 0))
            parts.append((who[has][row], np.full(len(row), permission, np.int64), mine[at], own[has][row]))
        if not parts:
            empty = np.zeros(0, np.int64)
            return Rows(empty, empty, empty, np.zeros(0, np.int8))
        return self._unique(
            np.concatenate([part[0] for part in parts]),
            np.concatenate([part[1] for part in parts]),
            np.concatenate([part[2] for part in parts]),
            np.concatenate([part[3] for part in parts]),
        )

    def _unique(self, who: Ints, permission: Ints, target: Ints, state: States) -> Rows:
        """Rows, each request once and with the best of its states. One sort of one number a row."""
        permissions, targets = len(self.compiled.permission_pairs), len(self.target_place)
        code = np.sort((((who * permissions + permission) * targets + target) << 2) | (YES - state.astype(np.int64)))
        first = np.ones(len(code), bool)
        first[1:] = (code[1:] >> 2) != (code[:-1] >> 2)
        code = code[first]
        rest, state = code >> 2, (YES - (code & 3)).astype(np.int8)
        rest, target = np.divmod(rest, targets)
        who, permission = np.divmod(rest, permissions)
        return Rows(who, permission, target, state)

    def decided(self, rows: Rows) -> Rows:
        """The rows with the state that all steps amount to; those that are never allowed left out."""
        state = self.states(rows.who, rows.permission, rows.target, owner=rows.state)
        return Rows(rows.who, rows.permission, rows.target, state).where(state > NO)

    # -- many requests at a time ----------------------------------------------------------------------------------

    def states(
        self, who: Ints, permission: Ints, target: Ints, *, depth: int = 0, owner: States | None = None
    ) -> States:
        """YES, NO or LOOK for each request of an identity. `owner` is what the owner's side amounts to, where known."""
        compiled = self.compiled
        batch = Batch(who, permission, self.target_place[target], self.target_kind[target], target)
        state = np.full(len(who), YES, np.int8)
        names.lower(compiled, batch, state)
        provider.lower(compiled, batch, state)
        ceilings.lower(compiled, batch, state)
        target_side.lower(compiled, batch, state, owner, self.now)
        caller_side.lower(compiled, batch, state, self.now)

        def further(who: Ints, permission: Ints, target: Ints) -> States:
            return self.states(who, permission, target, depth=depth + 1)

        if depth < 3:
            self.also_asked.lower(batch, state, self.runs, further)
        return state

    def shown_states(self, who: Ints | None, permission: Ints, of: Ints) -> States:
        """The same of hops that show what no grant names: of bearers (`who` is None), or of resources. Whom a trust
        admits is known already."""
        batch = Batch(who, permission, of, self.target_kind[of], of)
        state = np.full(len(permission), YES, np.int8)
        names.lower(self.compiled, batch, state)
        ceilings.lower(self.compiled, batch, state)
        return state

    def runs(self, target: int) -> Sequence[int]:
        """The identities that a target runs as."""
        place = int(self.target_place[target])
        if target < self.places:
            return self.compiled.runs_as.get(place, ())
        return self.compiled.runs(self.target_name(target)) if self.compiled.running_patterns else ()

    @cached_property
    def also_asked(self) -> AlsoAsked:
        """The companions that are asked at places of the estate."""
        return AlsoAsked(self.compiled, len(self.target_place))


def _kind_of(compiled: Compiled, address: str) -> int:
    return compiled.kind_number.get(kind_name(compiled, address) or "", NONE)

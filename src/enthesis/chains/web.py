"""The web of an estate: who takes on or leads on to whom, as arrays; closures over it; and who may do what directly.

Made once for a compiled estate and an instant. Everything here is decided for many requests at a time, into YES, NO
and LOOK: LOOK hangs on a condition, and `requests` says what it takes. Nodes are numbers: places first, then issuers.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from enthesis.chains.clauses import Requirement
from enthesis.chains.requests import LAST, Asking, CallerNode, Goal, Requests
from enthesis.conditions.patterns import matcher
from enthesis.model.catalogue import IDENTITIES, NEAREST_KEY, Companion
from enthesis.model.conditions import Glob
from enthesis.model.words import BEARERS, FORM_OF_ISSUER, VerbClass
from enthesis.verdicts.arrays import Bools, Ints, once
from enthesis.verdicts.attributes import kind_name, service_account_subjects
from enthesis.verdicts.coming import ANY, ToCome
from enthesis.verdicts.compiling import NONE, Barred, Compiled, with_members_to_come
from enthesis.verdicts.judge import USES_OF_KEYS

NO, LOOK, YES = 0, 1, 2
States = NDArray[np.int8]
TAKES_ON, LEADS_ON = 0, 1
HOP = Asking(hop=True)


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


@dataclass(frozen=True, slots=True)
class Closure:
    """What is reached from some seeds: `reached` by node, and the edge by which each was reached first (NONE: a seed).

    `order` are the reached nodes, nearest first.
    """

    reached: Bools
    edge: Ints
    order: Ints


class Web:
    """The web of one compiled estate from one instant on (seconds since 1970), with the members that may yet come.

    Its `compiled` is the one that its numbers are of; it can be another than the one that it was made for.
    """

    def __init__(self, compiled: Compiled, now: float, to_come: ToCome | None = None, *, ages: bool = False) -> None:
        """`to_come` are the members to come, where they are not just those of this estate; with `ages` the lives of
        sessions count though no condition of this estate asks for an age."""
        self.to_come = to_come
        compiled = with_members_to_come(compiled, to_come)
        self.compiled = compiled
        self.now = now
        self.ages = ages or asks_for_ages(compiled)
        self.requests = Requests(compiled, now, ages=self.ages)
        self.places = len(compiled.places.names)
        self.issuers = list(compiled.estate.issuers)
        self.nodes = self.places + len(self.issuers)
        self._requirements: dict[tuple[int, int, int, bool], Requirement | None] = {}
        self.is_to_come = np.zeros(self.nodes, bool)
        self.is_to_come[list(compiled.to_come)] = True
        self._targets()
        self._grants()
        self._edges()

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
            if number == compiled.kind_number["identity"]:  # an identity to come is a caller, never a target
                mine = mine[~self.is_to_come[self.target_place[mine]]]
            self.by_kind[number] = (first[mine], mine)

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

    def leaves_of(self, address: str) -> list[int]:
        """The targets that a declared place holds as leaves: any object of a bucket first, then those known."""
        compiled, place = self.compiled, self.compiled.find(address)
        if place == NONE:
            return []
        inner = [
            compiled.kind_number[name]
            for name, kind in compiled.catalogue.kinds.items()
            if kind.leaf and compiled.kind_names[int(compiled.kind[place])] in kind.within
        ]
        found = np.flatnonzero(self.targets_in(place) & np.isin(self.target_kind, inner))
        return sorted(map(int, found), key=lambda target: (target < self.places, target))

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
        live = (compiled.grant_reach != NONE) & (compiled.grant_until > self.now)
        self.conditional = compiled.grant_conditional | np.isfinite(compiled.grant_until)
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
        principal, of = self._principals(who)
        keys = self.compiled.grant_keys
        low, high = np.searchsorted(keys, principal << 32), np.searchsorted(keys, (principal + 1) << 32)
        row, at = spread(low, high - low)
        grants = self.compiled.grants_by_key[at]
        live = (self.compiled.grant_reach[grants] != NONE) & (self.compiled.grant_until[grants] > self.now)
        return who[of[row[live]]], grants[live]

    def _principals(self, who: Ints) -> tuple[Ints, Ints]:
        """Every number by which grants can name each of these, and its position among them."""
        compiled = self.compiled
        low, high = np.searchsorted(compiled.member, who), np.searchsorted(compiled.member, who + 1)
        row, at = spread(low, high - low)
        here = np.arange(len(who))
        return np.concatenate([who, compiled.member_group[at]]), np.concatenate([here, row])

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
        return np.where(self.conditional[grants], LOOK, YES).astype(np.int8)

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
            kind, _ = compiled.permission_pairs[permission]
            first, mine = self.by_kind[compiled.kind_number[kind]]
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
        place = self.target_place[target]
        state = np.full(len(who), YES, np.int8)
        state[~compiled.stands[who]] = NO
        fallen = (self.target_kind[target] == compiled.kind_number["identity"]) & ~compiled.stands[place]
        state[fallen] = NO
        taking = permission == compiled.take_on
        state[self.is_to_come[who] & (state > NO)] = LOOK  # what they are like is free
        foreign = self._uses_key[permission] & (compiled.account[who] != compiled.account[place])
        state[foreign & np.isin(place, list(compiled.key_by_provider))] = NO
        wanted = compiled.provider[place]
        elsewhere = (wanted != NONE) & (compiled.provider[who] != wanted) & ~compiled.is_person[who] & ~taking
        state[elsewhere] = NO
        self._ceilings(state, who, permission, place)
        np.minimum(state, self.covered("target-side", who, permission, place) if owner is None else owner, out=state)
        self._callers_side(state, who, permission, place)
        if depth < 3:
            self._companions(state, who, permission, target, depth)
        return state

    def _ceilings(self, state: States, who: Ints | None, permission: Ints, place: Ints) -> None:
        compiled = self.compiled
        for at, found in compiled.ceilings_at.items():
            for barred in found:
                bits = np.array([barred.refuses >> bit & 1 for bit in range(len(compiled.permission_pairs))], bool)
                if barred.ceiling.over == "callers" and who is None:
                    continue
                beneath = who if barred.ceiling.over == "callers" and who is not None else place
                hit = bits[permission] & (state > NO)
                hit &= (compiled.first[beneath] >= compiled.first[at]) & (compiled.first[beneath] < compiled.end[at])
                rows = np.flatnonzero(hit)
                if who is not None and (barred.excepted or barred.patterns):
                    spared = self._spared(barred, who[rows])
                    rows = rows[~spared]
                state[rows] = np.minimum(state[rows], LOOK if barred.ceiling.when else NO)

    def _spared(self, barred: Barred, who: Ints) -> Bools:
        names = self.compiled.places.names
        different, back = np.unique(who, return_inverse=True)
        inside = [self.compiled.inside(barred.place, one) for one in different.tolist()]
        spared = [barred.leaves_alone(names[one], near) for one, near in zip(different.tolist(), inside, strict=True)]
        return np.array(spared, bool)[back] if spared else np.zeros(0, bool)

    def _callers_side(self, state: States, who: Ints, permission: Ints, place: Ints) -> None:
        compiled = self.compiled
        own, other, provider = compiled.account[who], compiled.account[place], compiled.provider[who]
        crossing = (own != NONE) & (other != NONE) & (own != other) & (provider == compiled.provider[place])
        crossing &= compiled.two_sided[provider] & (state > NO)
        crossing &= ~np.isin(own, list(compiled.theirs))
        rows = np.flatnonzero(crossing)
        if len(rows):
            _lower(state, rows, self.covered("caller-side", who[rows], permission[rows], place[rows]))

    def covered(self, side: str, who: Ints, permission: Ints, place: Ints) -> States:
        """Whether some live grant on one side covers each request: YES without a condition, LOOK only with one."""
        compiled = self.compiled
        state = np.full(len(who), NO, np.int8)
        principal, row = self._principals(who)
        at = place[row]
        while len(at):
            wanted = (principal << 32) | at
            low, high = np.searchsorted(compiled.grant_keys, wanted), np.searchsorted(compiled.grant_keys, wanted + 1)
            pair, position = spread(low, high - low)
            if len(pair):
                grant, here = compiled.grants_by_key[position], row[pair]
                sound = compiled.role_allows[compiled.grant_role[grant], permission[here]]
                sound &= compiled.grant_until[grant] > self.now
                holder = compiled.grant_holder[grant]
                beneath = place[here] if side == "target-side" else compiled.account[who[here]]
                sound &= beneath != NONE
                sound &= (compiled.first[holder] <= compiled.first[beneath]) & (
                    compiled.first[beneath] < compiled.end[holder]
                )
                plain = sound & ~self.conditional[grant]
                state[here[sound]] = np.maximum(state[here[sound]], LOOK)
                state[here[plain]] = YES
            above = compiled.parent[at]
            keep = (above != NONE) & (state[row] < YES)
            principal, row, at = principal[keep], row[keep], above[keep]
        return state

    def _companions(self, state: States, who: Ints, permission: Ints, target: Ints, depth: int) -> None:
        compiled = self.compiled
        for companion, goes_with in self._at_places:
            asked = np.flatnonzero(goes_with[permission] & (state > NO))
            if not len(asked):
                continue
            if companion.on == NEAREST_KEY:
                key = self.nearest_key[self.target_place[target[asked]]]
                rows, there, kind = asked[key != NONE], key[key != NONE], "key"
            else:
                pairs = [(row, identity) for row in asked.tolist() for identity in self._runs(int(target[row]))]
                rows, there = (
                    (np.array(column, np.int64) for column in zip(*pairs, strict=True)) if pairs else (asked[:0],) * 2
                )
                kind = "identity"
            if len(rows):
                further = np.full(len(rows), compiled.permission[kind, companion.also], np.int64)
                self._also(state, rows, who[rows], further, there, depth)

    def _also(self, state: States, rows: Ints, who: Ints, permission: Ints, target: Ints, depth: int) -> None:
        """Lowers states by what their companions amount to; equal companions are decided once."""
        code = (who * len(self.compiled.permission_pairs) + permission) * len(self.target_place) + target
        order = np.argsort(code)
        new = np.ones(len(code), bool)
        new[1:] = code[order][1:] != code[order][:-1]
        first = order[new]
        found = self.states(who[first], permission[first], target[first], depth=depth + 1)
        back = np.empty(len(code), np.int64)
        back[order] = np.cumsum(new) - 1
        _lower(state, rows, found[back])

    def _runs(self, target: int) -> Sequence[int]:
        place = int(self.target_place[target])
        if target < self.places:
            return self.compiled.runs_as.get(place, ())
        return self.compiled.runs(self.target_name(target)) if self.compiled.running_patterns else ()

    @cached_property
    def _at_places(self) -> list[tuple[Companion, Bools]]:
        """The companions that are asked at places of the estate's own, each with whether it goes with a permission."""
        compiled = self.compiled
        on = (NEAREST_KEY, IDENTITIES) if compiled.key_above else (IDENTITIES,)
        return [
            (companion, np.array([companion in listed for listed in compiled.companions], bool))
            for companion in compiled.catalogue.companions
            if companion.on in on
        ]

    @cached_property
    def _uses_key(self) -> Bools:
        """By permission, whether it is using a key."""
        pairs = self.compiled.permission_pairs
        return np.array([kind == "key" and verb in USES_OF_KEYS for kind, verb in pairs], bool)

    @cached_property
    def nearest_key(self) -> Ints:
        """The nearest encrypting key at or above every place; NONE where there is none."""
        key = [NONE] * self.places
        parent, own = self.compiled.places.parent, self.compiled.key_above
        for place in range(self.places):
            above = parent[place]
            key[place] = own.get(place, key[above] if above != NONE else NONE)
        return np.array(key, np.int64)

    # -- edges ----------------------------------------------------------------------------------------------------

    def _edges(self) -> None:
        """Who takes on whom by a trust, and who is led on: by using an identity, or running code on a resource."""
        parts: list[tuple[Ints, Ints, Ints, Ints, Ints, States]] = []

        def add(who: Ints, to: Ints, what: Ints, on: Ints, how: int, states: States) -> None:
            kept = states > NO
            sort = np.full(int(kept.sum()), how, np.int64)
            parts.append((who[kept], to[kept], what[kept], on[kept], sort, states[kept]))

        who, of, looks = self._trusted()
        if len(who):
            take_on = np.full(len(who), self.compiled.take_on, np.int64)
            bearer = who >= self.places
            states = np.full(len(who), YES, np.int8)
            states[looks] = LOOK
            known = np.flatnonzero(~bearer)
            resource = known[~self.compiled.is_identity[who[known]]]
            named = known[self.compiled.is_identity[who[known]]]
            states[named] = self.states(who[named], take_on[named], of[named], owner=states[named])
            for some, callers in ((np.flatnonzero(bearer), None), (resource, who[resource])):
                part = states[some]
                part[~self.compiled.stands[of[some]]] = NO
                self._ceilings(part, callers, take_on[some], of[some])
                states[some] = part
            add(who, of, take_on, of, TAKES_ON, states)
        leading = np.array(
            [
                (kind, verb) == ("identity", "run-as") or its_class == VerbClass.RUN
                for (kind, verb), its_class in zip(self.compiled.permission_pairs, self.compiled.class_of, strict=True)
            ]
        )
        rows = self._leading(leading)
        add(rows.who, self.target_place[rows.target], rows.permission, rows.target, LEADS_ON, rows.state)
        self.edge_from, self.edge_to, self.edge_permission, self.edge_target, self.edge_sort = (
            np.concatenate([part[column] for part in parts]) for column in range(5)
        )
        self.edge_state: States = np.concatenate([part[5] for part in parts])
        if self.ages:  # what a hop leads to hangs on how old its session may get
            taking = (self.edge_permission == self.compiled.take_on) & (self.edge_state == YES)
            self.edge_state[taking] = LOOK
        self.forward = _Adjacency(self.edge_from, self.nodes)
        self.backward = _Adjacency(self.edge_to, self.nodes)

    def _leading(self, leading: Bools) -> Rows:
        """Rows of what leads on: to identities, and to resources that run as something."""
        compiled = self.compiled
        grants = self.reaching_grants[
            (compiled.role_allows[compiled.grant_role[self.reaching_grants]] & leading).any(axis=1)
        ]
        who, numbers = self.grants_held(grants)
        expanded = self._expanded(who, numbers, leading, 0, self.places + 1)
        is_identity = self.target_kind[expanded.target] == compiled.kind_number["identity"]
        is_identity &= ~compiled.is_person[self.target_place[expanded.target]]  # nothing runs as a person
        running = np.zeros(len(self.target_place), bool)
        running[[place for place, found in compiled.runs_as.items() if found]] = True
        return self.decided(expanded.where(is_identity | running[expanded.target]))

    def _trusted(self) -> tuple[Ints, Ints, Bools]:
        """Pairs of a node that a trust can admit and the identity it gives, and whether a condition stands between."""
        tables = self.compiled.tables
        conditional = np.zeros(len(tables.trust_of), bool)
        conditional[list(tables.trust_when)] = True
        conditional[list(tables.trust_shown)] = True
        conditional[[number for number, form in enumerate(tables.trust_form) if form == "account"]] = True
        conditional[list(tables.trust_until)] = True
        who, by = self.admitted()
        return who, self.compiled.trust_of[by], conditional[by]

    def admitted(self) -> tuple[Ints, Ints]:
        """Pairs of a node and the number of a trust that can admit it, the trust's conditions left aside.

        The same as `verdicts.admission.lacks` for all callers at once; of an account only those that it lets.
        """
        compiled, tables = self.compiled, self.compiled.tables
        index = compiled.places.index
        live = ((compiled.trust_until > self.now) & (compiled.trust_of != NONE)).tolist()
        issuer = {name: self.places + number for number, name in enumerate(self.issuers)}
        running: dict[int, list[int]] = {}
        for place, identities in compiled.runs_as.items():
            for identity in identities:
                running.setdefault(identity, []).append(place)
        workloads = self._workloads()
        who: list[int] = []
        by: list[int] = []
        for number, (form, whom) in enumerate(zip(tables.trust_form, tables.trust_whom, strict=True)):
            if not live[number]:
                continue
            if form in ("identity", "person"):
                found: Iterable[int] = (index.get(whom, NONE),)  # type: ignore[arg-type]
            elif form in BEARERS:
                found = (issuer.get(whom, NONE), *(workloads.get(str(whom), ()) if form == "token" else ()))  # type: ignore[arg-type]
            else:
                found = self._admitted(number, form, whom, running)
            for one in found:
                if one != NONE:
                    who.append(one)
                    by.append(number)
        return np.array(who, np.int64), np.array(by, np.int64)

    def _workloads(self) -> dict[str, list[int]]:
        """By issuer of a cluster, the workloads there that can show a token of a service account of theirs."""
        compiled = self.compiled
        out: dict[str, list[int]] = {}
        for place in compiled.runs_as:
            name = compiled.places.names[place]
            if "/workload/" in name and service_account_subjects(compiled, name):
                issuer = compiled.estate.issuer_of_workload(name)
                if issuer is not None:
                    out.setdefault(issuer, []).append(place)
        return out

    def _admitted(self, number: int, form: str, whom: str | Glob | bool, running: dict[int, list[int]]) -> list[int]:
        """The nodes that a trust in a group, an account or what is attached can admit."""
        compiled = self.compiled
        of = int(compiled.trust_of[number])
        if form == "group":
            found = compiled.members.get(compiled.find(str(whom)), np.zeros(0, np.int64))
            home = compiled.is_person[found] | (compiled.provider[found] == compiled.provider[of])
            members: list[int] = found[home].tolist()
            return members
        if form == "account":
            account = compiled.find(str(whom))
            if account == NONE or compiled.provider[account] != compiled.provider[of]:
                return []
            inside = compiled.identity_places
            mine = inside[compiled.account[inside] == account]
            if account in compiled.theirs:
                theirs: list[int] = mine.tolist()
                return theirs
            take_on = np.full(len(mine), compiled.take_on, np.int64)
            side = self.covered("caller-side", mine, take_on, np.full(len(mine), of, np.int64))
            let: list[int] = mine[side > NO].tolist()
            return let
        names = compiled.places.names
        out = []
        for place in running.get(of, ()):
            if whom is True:
                fits = compiled.account[place] == compiled.account[of]
            else:
                fits = matcher(whom.pattern)(names[place]) if isinstance(whom, Glob) else names[place] == whom
            if fits:
                out.append(place)
        return out

    def requirement(self, edge: int) -> Requirement | None:
        """What an edge takes as a hop; found out when it is first asked for."""
        if self.edge_state[edge] == YES and not self.ages:
            return ()
        key = (int(self.edge_from[edge]), int(self.edge_permission[edge]), int(self.edge_target[edge]))
        return self.row_requirement(*key, hop=True)

    def row_requirement(self, who: int, permission: int, target: int, *, hop: bool = False) -> Requirement | None:
        """What a direct request takes, as the last of a chain or as a hop of it."""
        key = (who, permission, target, hop)
        if key not in self._requirements:
            found = self.requests.request(self.node(who), permission, self.goal(target), HOP if hop else LAST)
            self._requirements[key] = found
        return self._requirements[key]

    # -- closures -------------------------------------------------------------------------------------------------

    def closure(self, seeds: Iterable[int], *, backward: bool = False, certain: bool = False, hops: int = 0) -> Closure:
        """Everything reached from seeds along edges (or against them), nearest first; with `hops`, no further."""
        adjacency = self.backward if backward else self.forward
        ends = self.edge_from if backward else self.edge_to
        reached = np.zeros(self.nodes, bool)
        edge = np.full(self.nodes, NONE, np.int64)
        frontier = once(np.fromiter(seeds, np.int64))
        reached[frontier] = True
        order = [frontier]
        step = 0
        while len(frontier) and (not hops or step < hops):
            step += 1
            edges = adjacency.edges(frontier)
            if certain:
                edges = edges[self.edge_state[edges] == YES]
            onward = ends[edges]
            fresh = ~reached[onward]
            onward, edges = onward[fresh], edges[fresh]
            frontier, first = np.unique(onward, return_index=True)
            edge[frontier] = edges[first]
            reached[frontier] = True
            order.append(frontier)
        return Closure(reached, edge, np.concatenate(order))


class _Adjacency:
    """Edges by the node at one end of them."""

    def __init__(self, ends: Ints, nodes: int) -> None:
        self.order = np.argsort(ends, kind="stable")
        self.starts = np.searchsorted(ends[self.order], np.arange(nodes + 1))

    def edges(self, nodes: Ints) -> Ints:
        """The numbers of all edges at these nodes."""
        low = self.starts[nodes]
        _, at = spread(low, self.starts[nodes + 1] - low)
        return self.order[at]


def spread(low: Ints, count: Ints) -> tuple[Ints, Ints]:
    """For ranges that begin at `low` with `count` each: the range and the position of every element in turn."""
    total = int(count.sum())
    row = np.repeat(np.arange(len(low)), count)
    starts = np.repeat(np.cumsum(count) - count, count)
    return row, np.arange(total) - starts + np.repeat(low, count)


def asks_for_ages(compiled: Compiled) -> bool:
    """Whether any condition of the estate asks how old a session is."""
    tables, estate = compiled.tables, compiled.estate
    columns = (*tables.grant_when.values(), *tables.trust_when.values())
    further = [
        *(ceiling.when for ceiling in estate.ceilings),
        *(credential.when for credential in estate.credentials.values()),
    ]
    return any(
        "session.age" in (dict(column) if isinstance(column, tuple) else column) for column in (*columns, *further)
    )


def _lower(state: States, rows: Ints, found: States) -> None:
    """Lowers states to what was found. A row may stand several times."""
    np.minimum.at(state, rows, found)


def _kind_of(compiled: Compiled, address: str) -> int:
    return compiled.kind_number.get(kind_name(compiled, address) or "", NONE)

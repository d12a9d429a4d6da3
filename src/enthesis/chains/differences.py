"""Who gains and who loses what between two estates, through which chain. Exact over everything that either can ask.

Only those whose access can differ are looked at: those with a changed statement, and those that reach them. What
hangs on conditions is compared as such: values are looked for that meet what is taken now and not what was before.
"""

from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from functools import cached_property, reduce
from operator import or_
from typing import overload

import numpy as np

from enthesis.access.answers import Request, Verdict
from enthesis.access.arrays import Bools, Ints, among, once, spread
from enthesis.access.compiling import NONE, Compiled, compile_estate
from enthesis.access.future_members import members_to_come
from enthesis.access.many import Rows
from enthesis.access.questions import Question
from enthesis.access.requirements import BEFORE_KEY, Requirement, attributes_of, denials, holds_of, resolved
from enthesis.access.states import LOOK, YES, States
from enthesis.chains.access_graph import Web, asks_for_ages
from enthesis.chains.chains import Chain, Chains, ChainStart, Label
from enthesis.conditions.truth import Value
from enthesis.model.errors import Undecided
from enthesis.model.estate import Estate
from enthesis.model.vocabulary import BEARERS, Form, origin_form
from enthesis.verdicts.remedies import Remedy, applied, asked

MAX_TRIPLES = 40_000_000  # of caller, permission and target that one side is compared by
MAX_CHAINS = 400  # chains that are told
MAX_TRIED = 2_000  # values that are tried for one difference
EVERYTHING = None  # what can be done otherwise, where a person may enter an organisation anew
MAX_WALKED = 2_000  # callers whose chains are compared because they hang on conditions; the others are not decided


@dataclass(frozen=True, slots=True)
class Gain:
    """A caller can do something on one side only. `values` tells which conditions, where only those differ.

    `chain` are the steps by which, on the side that has it; empty where they were not looked for.
    """

    caller: str
    form: Form
    verb: str
    target: str
    values: Mapping[str, Value]
    chain: tuple[tuple[str, str, str], ...] = ()


class Gains(Sequence[Gain]):
    """Gains, or losses: the first with their chains, the others made when they are asked for."""

    def __init__(self, told: Sequence[Gain], web: Web, others: Rows) -> None:
        self._told = tuple(told)
        self._web = web
        self._others = others

    def __len__(self) -> int:
        return len(self._told) + len(self._others)

    @overload
    def __getitem__(self, at: int) -> Gain: ...
    @overload
    def __getitem__(self, at: slice) -> tuple[Gain, ...]: ...
    def __getitem__(self, at: int | slice) -> Gain | tuple[Gain, ...]:
        if isinstance(at, slice):
            return tuple(self[number] for number in range(*at.indices(len(self))))
        at = at if at >= 0 else len(self) + at
        if at < len(self._told):
            return self._told[at]
        rows, number = self._others, at - len(self._told)
        if number >= len(rows):
            raise IndexError(at)
        return _gain(self._web, int(rows.who[number]), int(rows.permission[number]), int(rows.target[number]))


@dataclass(frozen=True, slots=True)
class Difference:
    """What changes between two estates."""

    gains: Sequence[Gain]
    losses: Sequence[Gain]
    undecided: int = 0  # comparisons that were past a bound, and why
    why: str = ""


def mentioned_in(*versions: Estate) -> frozenset[str]:
    """The addresses that statements of these estates name, so that both are compared over the same ones."""
    named = {grant.at for estate in versions for grant in estate.grants}
    attached = (
        trust.admits.whom for estate in versions for trust in estate.trusts if trust.admits.form == Form.ATTACHED
    )
    running = (attachment.what for estate in versions for attachment in estate.attachments)
    return frozenset(named | {name for name in (*attached, *running) if isinstance(name, str)})


def difference(before: Estate, after: Estate, now: float) -> Difference:
    """The access gained and lost from one estate to the other at an instant (seconds since 1970)."""
    return web_difference(*webs_of(before, after, now=now))


def webs_of(*versions: Estate, now: float) -> list[Web]:
    """The webs of several versions, made over the same addresses and the same members to come."""
    names = mentioned_in(*versions)
    compiled = [compile_estate(estate, names) for estate in versions]
    to_come = reduce(or_, (members_to_come(one.tables) for one in compiled))
    ages = any(map(asks_for_ages, compiled))  # then how long a session lives tells them apart, on all sides
    return [Web(one, now, to_come, ages=ages) for one in compiled]


def web_like(web: Web, estate: Estate, names: frozenset[str]) -> Web:
    """The web of another state of the same estate, whose statements name no other addresses than these, made over the
    same ones as a web is."""
    return Web(compile_estate(estate, names), web.now, web.to_come, ages=web.ages)


def web_difference(before: Web, after: Web, *, told: int = MAX_CHAINS) -> Difference:
    """The same between two webs that were made over the same addresses; chains for so many of the differences."""
    try:
        sides = Sides(before, after)
    except Undecided as bound:
        return Difference((), (), 1, str(bound))
    gains, missed = sides.only(sides.after, sides.before, told)
    losses, missed_too = sides.only(sides.before, sides.after, told)
    return Difference(gains, losses, len(missed) + len(missed_too), next(iter((*missed, *missed_too)), ""))


class _Side:
    """One of two webs: what of its statements the other has not, and what its callers can do."""

    def __init__(self, web: Web, other: Web) -> None:
        self.web = web
        self.to_node, self.to_target, self.to_permission = _numbers(web, other)
        self.grants = np.zeros(0, np.int64)
        self.edges = np.zeros(0, np.int64)
        self.nodes = np.zeros(0, np.int64)
        self.regranted = np.zeros(0, np.int64)  # those of the nodes that may have other grants than on the other side
        self.retrusted = np.zeros(0, np.int64)  # identities with trusts that the other side has not
        self.possible = self.certain = self.asked = self.callers_looked_at = np.zeros(0, np.int64)
        self.rows = Rows(self.nodes, self.nodes, self.nodes, np.zeros(0, np.int8))
        self._reached = self.nodes, self.nodes  # callers with the changed nodes that each reaches, sorted by caller

    def changed(self, other: Web, *, everybody: bool, grants: Ints, trusts: Sequence[int]) -> None:
        """Finds what of this side is not on the other: grants, edges, and the nodes that have any."""
        web, compiled = self.web, self.web.compiled
        self.grants = grants
        if everybody:
            self.nodes, self.edges = np.arange(web.nodes), np.arange(len(web.edge_from))
            self.regranted = self.nodes
            return
        holders, _ = web.grants_held(self.grants)
        moved = list(self._regrouped(other))
        self.retrusted = once(compiled.trust_of[np.array(trusts, np.int64)])
        self.edges = np.flatnonzero(self._fresh_edges(other, self.retrusted))
        unknown = np.array(sorted(self.unknown()), np.int64)
        self.regranted = once(np.concatenate([holders, np.array(moved, np.int64), unknown]))
        self.nodes = once(np.concatenate([self.regranted, web.edge_from[self.edges]]))

    def unknown(self) -> set[int]:
        """The identities and issuers that the other side has not."""
        unknown = np.flatnonzero(self.to_node == NONE)
        places = np.minimum(unknown, self.web.places - 1)
        found: list[int] = unknown[(unknown >= self.web.places) | self.web.compiled.is_identity[places]].tolist()
        return set(found)

    def _regrouped(self, other: Web) -> Iterator[int]:
        """The identities that are in a group here and not there."""
        names, theirs = self.web.compiled.places.names, other.compiled
        for group, members in self.web.compiled.members.items():
            twin = theirs.members.get(theirs.find(names[group]), np.zeros(0, np.int64))
            known = {theirs.places.names[one] for one in twin.tolist()}
            yield from (member for member in members.tolist() if names[member] not in known)

    def _fresh_edges(self, other: Web, retrusted: Ints) -> Bools:
        """Which edges the other web has not in the same state, or has behind other trusts."""
        web = self.web
        twin = _edge_code(other, other.edge_from, other.edge_to, other.edge_sort, other.edge_state)
        source, goal = self.to_node[web.edge_from], self.to_node[web.edge_to]
        mine = _edge_code(other, source, goal, web.edge_sort, web.edge_state)
        fresh: Bools = (source == NONE) | (goal == NONE) | ~np.isin(mine, twin)
        behind = among(web.edge_to, retrusted) & (web.edge_permission == web.compiled.take_on)
        fresh |= behind & (web.edge_state == LOOK)
        return fresh

    def direct(self, nodes: Ints) -> Rows:
        """What some nodes can do directly; that of the callers that are compared was found out together."""
        if not among(nodes, self.asked).all():
            return _direct(self.web, nodes)
        rows = self._sorted_rows
        low, high = np.searchsorted(rows.who, nodes), np.searchsorted(rows.who, nodes + 1)
        _, at = spread(low, high - low)
        return Rows(rows.who[at], rows.permission[at], rows.target[at], rows.state[at])

    @cached_property
    def _sorted_rows(self) -> Rows:
        rows, order = self.rows, np.argsort(self.rows.who, kind="stable")
        return Rows(rows.who[order], rows.permission[order], rows.target[order], rows.state[order])

    def callers(self) -> Ints:
        """Everybody who reaches a changed node, and the node itself: identities, people, resources, bearers."""
        web, compiled = self.web, self.web.compiled
        if not len(self.nodes):
            return self.nodes
        reached = web.closure(self.nodes.tolist(), backward=True).reached
        asks = np.ones(web.nodes, bool)
        asks[: web.places] = compiled.is_identity
        asks[[place for place, found in compiled.runs_as.items() if found]] = True
        return np.flatnonzero(reached & asks)

    def able(self, callers: Ints, twin: "_Side | None" = None) -> None:
        """Finds everything that these callers can do: what hangs on nothing, and what can be at all.

        What a node can do directly is taken over from the twin side for every node that has no changed statement.
        """
        self.callers_looked_at = callers
        pairs = _pairs(self.web, callers, certain=False)
        self.asked = once(pairs[1])
        changed = among(pairs[1], self.nodes)
        self._reached = pairs[0][changed], pairs[1][changed]
        self.rows = self._direct(self.asked, twin)
        self.possible = _codes(self.web, pairs, self.rows)
        who, node = _pairs(self.web, callers, certain=True)
        # what a person reaches in another organisation hangs on being let enter it
        people = np.flatnonzero(self.web.compiled.is_person)
        alone = ~among(who, people) | (who == node)
        sure = self.rows.where((self.rows.state == YES) & ~self._entering(self.rows))
        self.certain = _codes(self.web, (who[alone], node[alone]), sure)

    def changed_reached_by(self, caller: int) -> Ints:
        """The changed nodes that one of the callers reaches, sorted; itself where it is one."""
        who, node = self._reached
        low, high = np.searchsorted(who, (caller, caller + 1))
        return node[low:high]

    def _direct(self, nodes: Ints, twin: "_Side | None") -> Rows:
        if twin is None:
            return _direct(self.web, nodes)
        changed = np.zeros(self.web.nodes, bool)
        changed[self.nodes] = True
        theirs = twin.to_node[twin.nodes]
        changed[theirs[theirs != NONE]] = True
        known = np.zeros(self.web.nodes, bool)
        asked = twin.to_node[twin.asked]
        known[asked[asked != NONE]] = True
        wanted = np.zeros(self.web.nodes, bool)
        wanted[nodes] = True
        fresh = _direct(self.web, np.flatnonzero(wanted & (changed | ~known)))
        who = twin.to_node[twin.rows.who]
        kept = (who != NONE) & wanted[who] & ~changed[who]
        old = twin.rows.where(kept)
        who, permission, target = who[kept], twin.to_permission[old.permission], twin.to_target[old.target]
        sound = target != NONE
        return Rows(
            np.concatenate([fresh.who, who[sound]]),
            np.concatenate([fresh.permission, permission[sound]]),
            np.concatenate([fresh.target, target[sound]]),
            np.concatenate([fresh.state, old.state[sound]]),
        )

    def _entering(self, rows: Rows) -> Bools:
        """The rows of people at what is of another organisation."""
        compiled = self.web.compiled
        known = np.minimum(rows.who, self.web.places - 1)
        there = compiled.organisation[self.web.target_place[rows.target]]
        abroad: Bools = (there != NONE) & (there != compiled.organisation[known])
        return abroad & (rows.who < self.web.places) & compiled.is_person[known]

    def not_surely_in(self, other: "_Side") -> Ints:
        """Codes of what may be allowed here, and is not surely allowed on the other side."""
        return self.possible[~among(self.possible, self.from_other(other, other.certain))]

    def from_other(self, other: "_Side", codes: Ints) -> Ints:
        """Codes of the other side as codes of this one; what this one does not know is left out."""
        rows = decoded(other.web, codes)
        who, permission = other.to_node[rows.who], other.to_permission[rows.permission]
        target = other.to_target[rows.target]
        sound = (who != NONE) & (permission != NONE) & (target != NONE)
        return once(_code(self.web, who[sound], permission[sound], target[sound]))


def _edge_code(web: Web, source: Ints, goal: Ints, sort: Ints, state: States) -> Ints:
    out: Ints = (((source.astype(np.int64) * web.nodes + goal) * 8 + sort) * 4) + state
    return out


class Sides:
    """Two webs, compared."""

    def __init__(self, before: Web, after: Web) -> None:
        self.before, self.after = _Side(before, after), _Side(after, before)
        self.everybody = _structure(before.compiled) != _structure(after.compiled)
        grants = _fresh_grants(self.before, self.after)
        trusts = _fresh_trusts(before.compiled, after.compiled, ages=before.ages or after.ages)
        self.before.changed(after, everybody=self.everybody, grants=grants[0], trusts=trusts[0])
        self.after.changed(before, everybody=self.everybody, grants=grants[1], trusts=trusts[1])
        if self.everybody:
            self._narrow()
        mine = self.after.callers()
        theirs = self.before.callers()
        self.after.able(_with_twins(mine, self.before, theirs))
        self.before.able(_with_twins(theirs, self.after, mine), None if self.everybody else self.after)

    def _narrow(self) -> None:
        """Where all that verdicts look at may have changed: the nodes of which some direct request really has."""
        rows = [_direct(side.web, side.nodes) for side in (self.before, self.after)]
        sides = ((self.before, self.after, rows[0], rows[1]), (self.after, self.before, rows[1], rows[0]))
        for here, there, mine, theirs in sides:
            nodes = {row[0] for row in _changed_among(here, there, mine, theirs)}
            here.nodes = np.array(sorted(nodes | here.unknown()), np.int64)

    def only(self, here: _Side, there: _Side, told: int) -> tuple[Gains, list[str]]:
        """What can be done on one side and not on the other, and the bounds that comparisons were past."""
        possible_there = here.from_other(there, there.possible)
        only_here = here.not_surely_in(there)
        sure = among(only_here, here.certain) & ~among(only_here, possible_there)
        compared = Compared(here, there, everybody=self.everybody)
        conditional = list(compared.gains(decoded(here.web, only_here[~sure])))
        conditional += compared.gains_of_credentials()
        chains = Chains.from_now_on(here.web)
        fresh = only_here[sure]
        gains = [_with_chain(chains, row) for row in triples(decoded(here.web, fresh[:told]))]
        first = [*(gain for gain in gains if gain is not None), *conditional]
        return Gains(first, here.web, decoded(here.web, fresh[told:])), compared.missed


class Compared:
    """Compares what two sides take of the same caller for the same request, chain by chain and value by value."""

    def __init__(self, here: _Side, there: _Side, *, everybody: bool) -> None:
        self.here, self.there, self.everybody = here, there, everybody
        self.mine, self.theirs = Chains.from_now_on(here.web), Chains.from_now_on(there.web)
        self.missed: list[str] = []
        self._tried = 0
        self._opened: dict[bytes, set[tuple[int, int]] | None] = {}  # by changed nodes that a caller reaches

    def gains(self, rows: Rows) -> Iterator[Gain]:
        """Those of the rows that can be had here with values with which they cannot be had there."""
        order = np.argsort(rows.who, kind="stable")
        wanted: dict[int, set[tuple[int, int]]] = {}
        for who, permission, target in triples(rows.where(order)):  # type: ignore[arg-type]
            wanted.setdefault(who, set()).add((permission, target))
        for number, (who, ends) in enumerate(wanted.items()):
            if number >= MAX_WALKED:
                self.missed += [f"more than {MAX_WALKED} callers whose access hangs on conditions"] * len(ends)
                continue
            twin = int(self.here.to_node[who])
            there = start_of(self.theirs, twin) if twin != NONE else None
            touched = ends if self.everybody else self._touched(who, ends)
            if touched:
                yield from self._newly(start_of(self.mine, who), there, touched)

    def _touched(self, who: int, ends: set[tuple[int, int]]) -> set[tuple[int, int]]:
        """Those of the ends that can be otherwise here: by a changed request itself, or behind a changed hop."""
        nodes = self.here.changed_reached_by(who)
        nodes = nodes[among(nodes, self._changed_nodes)]
        found = self._opened.get(nodes.tobytes())
        if found is None:
            found = self._opened[nodes.tobytes()] = self._opened_by(nodes)
        return ends if found is EVERYTHING else ends & found

    def _opened_by(self, nodes: Ints) -> "set[tuple[int, int]] | None":
        """What changed nodes can do otherwise, themselves or behind a changed hop; EVERYTHING where that may be all."""
        web = self.here.web
        rows = [row for node in nodes.tolist() for row in self._changed_rows[node]]
        enter = web.compiled.permission["organisation", "enter"]
        if any(row[1] == enter for row in rows):
            return EVERYTHING  # a person who is let enter an organisation is met again at every request there
        out = {(row[1], row[2]) for row in rows}
        edges = web.forward.edges(nodes)
        code = _code(web, web.edge_from[edges], web.edge_permission[edges], web.edge_target[edges])
        changed = np.array(rows, np.int64).reshape(-1, 3).T
        heads = web.edge_to[edges[among(code, np.sort(_code(web, *changed)))]]
        if len(heads):
            behind = self.here.direct(np.flatnonzero(web.closure(heads.tolist()).reached))
            out.update(zip(behind.permission.tolist(), behind.target.tolist(), strict=True))
        return out

    @cached_property
    def _changed_nodes(self) -> Ints:
        return np.array(sorted(self._changed_rows), np.int64)

    @cached_property
    def _changed_rows(self) -> dict[int, list[tuple[int, int, int]]]:
        """By changed node, what it can do directly here and not, or not so, on the other side; only those that can."""
        here, there = self.here, self.there
        twins = there.to_node[there.retrusted]
        retrusted = once(np.concatenate([here.retrusted, twins[twins != NONE]]))
        nodes = here.to_node[here.nodes]
        regranted = among(here.nodes, here.regranted) | among(nodes, there.regranted)
        mine = here.direct(here.nodes)
        # who has its grants as before takes on otherwise only what has other trusts
        takes_on = mine.permission == here.web.compiled.take_on
        otherwise = takes_on & among(here.web.target_place[mine.target], retrusted)
        mine = mine.where(among(mine.who, here.nodes[regranted]) | otherwise)
        out: dict[int, list[tuple[int, int, int]]] = {}
        for row in _changed_among(here, there, mine, there.direct(np.sort(nodes[nodes != NONE]))):
            out.setdefault(row[0], []).append(row)
        return out

    def gains_of_credentials(self) -> Iterator[Gain]:
        """What keyed credentials and pipeline access open here and not there, where they or their targets changed."""
        mine, theirs = self.here.web.compiled.estate, self.there.web.compiled.estate
        twins = {(credential.form, credential.whom): credential for credential in self.theirs.from_credentials()}
        for start in self.mine.from_credentials():
            section = "pipeline_access" if start.form == Form.PIPELINE_ACCESS else "credentials"
            changed = getattr(mine, section)[start.whom] != getattr(theirs, section).get(start.whom)
            if self.everybody or changed or among(np.array([start.node]), self.here.callers_looked_at)[0]:
                yield from self._newly(start, twins.get((start.form, start.whom)), None)

    def _newly(self, start: ChainStart, twin: ChainStart | None, ends: set[tuple[int, int]] | None) -> Iterator[Gain]:
        try:
            mine = self.ways(self.mine, self.here, start, ends)
            theirs: dict[tuple[int, int], list[RequestWay]] = {}
            if twin is not None:
                as_theirs = {self.as_theirs(end): end for end in mine}
                found = self.ways(self.theirs, self.there, twin, set(as_theirs))
                theirs = {as_theirs[key]: ways for key, ways in found.items()}
        except Undecided as bound:
            self.missed += [str(bound)] * (len(ends) if ends is not None else 1)
            return
        for end, ways in mine.items():
            gain = self._new_way(start, end, ways, theirs.get(end, []), twin)
            if gain is not None:
                yield gain

    def as_theirs(self, end: tuple[int, int]) -> tuple[int, int]:
        """A permission and a target by their numbers in the other version; -1 where it has none."""
        return int(self.here.to_permission[end[0]]), int(self.here.to_target[end[1]])

    def ways(
        self, chains: Chains, side: _Side, start: ChainStart, ends: set[tuple[int, int]] | None
    ) -> "dict[tuple[int, int], list[RequestWay]]":
        """By permission and target, the ways for a start to reach it; one that takes more than another is left
        out."""
        web = chains.web
        near = web.closure([start.node]).reached
        by_node: dict[int, list[tuple[int, int, int]]] = {}
        for row in triples(side.direct(np.flatnonzero(near))):
            if ends is None or (row[1], row[2]) in ends:
                by_node.setdefault(row[0], []).append(row)
        near &= web.closure(by_node, backward=True).reached
        out: dict[tuple[int, int], list[RequestWay]] = {}
        missed = chains.undecided
        for label in chains.labels([start], inside=near):
            for row in by_node.get(label.node, ()):
                takes = chains.ending_takes(label, row)
                if takes is None:
                    continue
                known = out.setdefault((row[1], row[2]), [])
                mine = frozenset(takes)
                if not any(other.clauses <= mine for other in known):
                    known.append(RequestWay(takes, mine, label, row))
        if chains.undecided > missed:
            raise Undecided(chains.why)
        return out

    def _new_way(
        self,
        start: ChainStart,
        end: tuple[int, int],
        ways: "list[RequestWay]",
        theirs: "list[RequestWay]",
        twin: ChainStart | None,
    ) -> Gain | None:
        """A gain by one of the ways here, with values with which none of those there can be walked."""
        same = twin is not None and twin.knowns.limits == start.knowns.limits
        for way in ways:
            if same and any(other.clauses <= way.clauses for other in theirs):
                continue
            try:
                values = self._values(start, way, theirs, twin)
            except Undecided as bound:
                self.missed.append(str(bound))
                continue
            if values is not None:
                chain = Chain(start, way.label.edges(), values, bool(way.takes), way.row, way.label.by_key)
                return _gain_by(self.mine, chain)
        return None

    def _values(
        self, start: ChainStart, way: "RequestWay", theirs: "list[RequestWay]", twin: ChainStart | None
    ) -> Mapping[str, Value] | None:
        """Values with which a way can be walked here, and none of those there."""
        return self.beyond(start, way.takes, had_by(theirs, twin))

    def beyond(self, start: ChainStart, takes: Requirement, had: Sequence[Requirement]) -> Mapping[str, Value] | None:
        """Values that meet a requirement and none of those that were had; None where there are none."""
        self._tried = 0
        return self._beyond(start, takes, had)

    def _beyond(self, start: ChainStart, takes: Requirement, had: Sequence[Requirement]) -> Mapping[str, Value] | None:
        """The same; the first requirement that values meet is denied next."""
        self._tried += 1
        if self._tried > MAX_TRIED:
            raise Undecided(f"more than {MAX_TRIED} ways to differ")
        values = self.mine.values_for(takes, start)
        if values is None:
            return None
        names = {name for requirement in had for name in attributes_of(requirement)}
        now = datetime.fromtimestamp(self.mine.web.now, UTC)
        at_once = {  # a time that is not told is now
            name: now
            for name in names
            if name.partition(BEFORE_KEY)[0] == "time" and name not in values and name not in start.knowns.values
        }
        whole = self.mine.solver.completed({**values, **at_once}, names, start.knowns)
        met = next(
            (requirement for requirement in had if holds_of(requirement, {**start.knowns.values, **whole})), None
        )
        if met is None:
            told = {name: value for name, value in whole.items() if name not in at_once}
            return {name: value for name, value in told.items() if value is not None or name in values}
        for denial in denials(met):
            found = self._beyond(start, (*takes, *denial), had)
            if found is not None:
                return found
        return None


@dataclass(frozen=True, slots=True)
class RequestWay:
    """A way to reach a request: what it takes (`clauses` is the same as a set), and the chain."""

    takes: Requirement
    clauses: frozenset[object]
    label: Label
    row: tuple[int, int, int]


def had_by(ways: Sequence[RequestWay], start: ChainStart | None) -> list[Requirement]:
    """What each way takes, for a start of that side; nothing where the start is not there."""
    if start is None:
        return []
    limits = tuple(((limit,),) for limit in start.knowns.limits)
    found = (resolved((*limits, *way.takes), start.knowns.values) for way in ways)
    return [pair for pair in found if pair is not None]


def _requirement(side: _Side, row: tuple[int, int, int], state: int) -> frozenset[object] | None:
    """What a direct request takes, as a set that can be compared; of taking on also what it takes as a hop, which more
    is asked of: that the session lives to the end of the chain."""
    found = () if state == YES else side.web.row_requirement(*row)
    if found is None:
        return None
    hop = None
    if side.web.ages and row[1] == side.web.compiled.take_on:
        hop = side.web.row_requirement(*row, hop=True)
    return frozenset((False, frozenset(clause)) for clause in found) | frozenset(
        (True, frozenset(clause)) for clause in hop or ()
    )


def _changed_among(here: _Side, there: _Side, mine: Rows, theirs: Rows) -> list[tuple[int, int, int]]:
    """Those of the rows here that take something else on the other side, or are not there at all."""
    twins = Rows(here.to_node[mine.who], here.to_permission[mine.permission], here.to_target[mine.target], mine.state)
    states = _states_among(there.web, twins, theirs)
    same = (mine.state == YES) & (states == YES)
    if here.web.ages:  # then taking on takes more as a hop, whatever it takes as the last request
        same &= mine.permission != here.web.compiled.take_on
    mine, twins, states = mine.where(~same), twins.where(~same), states[~same]
    listed = zip(triples(mine), triples(twins), mine.state.tolist(), states.tolist(), strict=True)
    return [
        row for row, twin, state, theirs_is in listed
        if _requirement(here, row, state) != (_requirement(there, twin, theirs_is) if theirs_is != NONE else None)
    ]  # fmt: skip


def _states_among(web: Web, rows: Rows, known: Rows) -> Ints:
    """The state of each row among the known ones, NONE where it is not among them or names what the web has not."""
    named = (rows.who != NONE) & (rows.permission != NONE) & (rows.target != NONE)
    codes = _code(web, known.who, known.permission, known.target)
    order = np.argsort(codes, kind="stable")
    found = np.full(len(rows.who), NONE, np.int64)
    wanted = _code(web, rows.who[named], rows.permission[named], rows.target[named])
    at = np.minimum(np.searchsorted(codes[order], wanted), max(len(codes) - 1, 0))
    if len(codes):
        hit = codes[order[at]] == wanted
        found[np.flatnonzero(named)[hit]] = known.state[order[at[hit]]]
    return found


def _with_twins(callers: Ints, other: _Side, theirs: Ints) -> Ints:
    """Callers of one side, with those of the other that it knows too."""
    twins = other.to_node[theirs]
    return once(np.concatenate([callers, twins[twins != NONE]]))


def _form(web: Web, node: int) -> Form:
    """The word of `from` with which a node starts a chain."""
    found, compiled = web.node(node), web.compiled
    if found.bearer:
        return Form(found.form)
    kind = compiled.kind_names[compiled.places.kind[node]]
    return origin_form(kind, person=bool(compiled.is_person[node]))


def start_of(chains: Chains, node: int) -> ChainStart:
    """The start of the chains that begin at a node of the web."""
    web = chains.web
    return chains.from_issuer(web.issuers[node - web.places]) if node >= web.places else chains.from_place(node)


def _structure(compiled: Compiled) -> tuple[object, ...]:
    """What every verdict looks at: where it differs, everybody is looked at."""
    estate, tables = compiled.estate, compiled.tables
    return (
        estate.organisations, estate.providers, estate.accounts, tables.resources, tables.labels, tables.encrypted_by,
        tables.by_provider, tables.runs_as, tables.disabled, tables.tied, estate.ceilings, estate.attachments,
        {name: one for name, one in estate.credentials.items() if one.held_at}, estate.catalogue.kinds,
        {name: one.claims for name, one in estate.issuers.items()},
    )  # fmt: skip


def _numbers(here: Web, there: Web) -> tuple[Ints, Ints, Ints]:
    """The nodes, targets and permissions of one web as numbers of the other; NONE where it has none of that name."""
    places = there.compiled.places.index
    node = np.full(here.nodes, NONE, np.int64)
    node[: here.places] = [places.get(name, NONE) for name in here.compiled.places.names]
    issuers = {name: there.places + number for number, name in enumerate(there.issuers)}
    node[here.places :] = [issuers.get(name, NONE) for name in here.issuers]
    leaves = {name: number for number, name in there.leaf_names()}
    target = np.full(len(here.target_place), NONE, np.int64)
    target[: here.places] = node[: here.places]
    for number, name in here.leaf_names():
        target[number] = leaves.get(name, NONE)
    permissions = there.compiled.permission
    permission = np.array([permissions.get(pair, NONE) for pair in here.compiled.permission_pairs], np.int64)
    return node, target, permission


def _fresh_grants(before: _Side, after: _Side) -> tuple[Ints, Ints]:
    """The grants that each side has and the other has not, compared as numbers in terms of the later side."""
    sides = (before, after)
    tables = [side.web.compiled.tables for side in sides]
    masks: dict[object, int] = {}
    extras: dict[object, int] = {}
    pairs, rests, known = [], [], []
    for side, table in zip(sides, tables, strict=True):
        compiled = side.web.compiled
        columns = [compiled.grant_to, compiled.grant_at, compiled.grant_holder]
        if side is before:
            columns = [np.where(column == NONE, NONE, before.to_node[column]) for column in columns]
        roles = np.array([masks.setdefault(mask, len(masks)) for mask in (*compiled.role_mask, 0)], np.int64)
        extra = np.zeros(len(compiled.grant_to), np.int64)
        for number in {*table.grant_until, *table.grant_when}:
            said = (table.grant_until.get(number), _plain(table.grant_when.get(number)))
            extra[number] = extras.setdefault(said, len(extras) + 1)
        known.append((columns[0] != NONE) & (columns[1] != NONE) & (columns[2] != NONE))
        pairs.append((columns[0] << 32) | columns[1])
        rests.append((columns[2], roles[compiled.grant_role], extra))
    ranks = once(np.concatenate(pairs))
    codes = [
        ((np.searchsorted(ranks, pair) * after.web.places + holder) * len(masks) + role) * (len(extras) + 1) + extra
        for pair, (holder, role, extra) in zip(pairs, rests, strict=True)
    ]
    found = [
        np.flatnonzero(~mine | ~among(code, np.sort(other[theirs])))
        for code, mine, other, theirs in zip(codes, known, codes[::-1], known[::-1], strict=True)
    ]
    return found[0], found[1]


def _fresh_trusts(before: Compiled, after: Compiled, *, ages: bool) -> tuple[list[int], list[int]]:
    """The trusts that each side has and the other has not; how long sessions last counts where ages are asked for."""
    one, other = _trust_rows(before, ages=ages), _trust_rows(after, ages=ages)
    mine, theirs = set(one), set(other)
    return (
        [number for number, key in enumerate(one) if key not in theirs],
        [number for number, key in enumerate(other) if key not in mine],
    )


def _trust_rows(compiled: Compiled, *, ages: bool) -> list[object]:
    """Every trust as what it says."""
    tables = compiled.tables
    lives = tables.trust_session if ages else [0.0] * len(tables.trust_of)
    out: list[object] = list(zip(tables.trust_of, tables.trust_form, tables.trust_whom, lives, strict=True))
    for number in {*tables.trust_until, *tables.trust_shown, *tables.trust_when}:
        shown, when = tables.trust_shown.get(number), tables.trust_when.get(number)
        out[number] = (out[number], tables.trust_until.get(number), _plain(shown), _plain(when))
    return out


def _plain(conditions: object) -> object:
    return conditions if isinstance(conditions, tuple) or conditions is None else repr(conditions)


def _direct(web: Web, nodes: Ints) -> Rows:
    """What some nodes can do without a further hop: by grants, and taking on by trust."""
    everything = np.ones(len(web.compiled.permission_pairs), bool)
    named = nodes[nodes < web.places]
    rows = web.rows_of(named[web.compiled.is_identity[named]], everything)
    rows = rows.where(rows.permission != web.compiled.take_on)
    edges = web.forward.edges(nodes)
    edges = edges[web.edge_permission[edges] == web.compiled.take_on]
    return Rows(
        np.concatenate([rows.who, web.edge_from[edges]]),
        np.concatenate([rows.permission, web.edge_permission[edges]]),
        np.concatenate([rows.target, web.edge_target[edges]]),
        np.concatenate([rows.state, web.edge_state[edges]]),
    )


def _pairs(web: Web, callers: Ints, *, certain: bool) -> tuple[Ints, Ints]:
    """Every caller with every node that it reaches, itself included."""
    who, node = callers, callers
    seen = once(who * web.nodes + node)
    while len(who):
        count = web.forward.starts[node + 1] - web.forward.starts[node]
        row = np.repeat(np.arange(len(node)), count)
        edges = web.forward.edges(node)
        if certain:
            row, edges = row[web.edge_state[edges] == YES], edges[web.edge_state[edges] == YES]
        code = once(who[row] * web.nodes + web.edge_to[edges])
        code = code[~among(code, seen)]
        seen = np.sort(np.concatenate([seen, code]))
        if len(seen) > MAX_TRIPLES:
            raise Undecided(f"more than {MAX_TRIPLES} pairs")
        who, node = code // web.nodes, code % web.nodes
    return seen // web.nodes, seen % web.nodes


def _codes(web: Web, pairs: tuple[Ints, Ints], rows: Rows) -> Ints:
    """Everything that callers can do by the rows of the nodes that they reach, as sorted codes."""
    who, node = pairs
    order = np.argsort(rows.who, kind="stable")
    rows = Rows(rows.who[order], rows.permission[order], rows.target[order], rows.state[order])
    low = np.searchsorted(rows.who, node)
    count = np.searchsorted(rows.who, node + 1) - low
    if int(count.sum()) > MAX_TRIPLES:
        raise Undecided(f"more than {MAX_TRIPLES} requests")
    pair, at = spread(low, count)
    return once(_code(web, who[pair], rows.permission[at], rows.target[at]))


def _code(web: Web, who: Ints, permission: Ints, target: Ints) -> Ints:
    out: Ints = (who * len(web.compiled.permission_pairs) + permission) * len(web.target_place) + target
    return out


def decoded(web: Web, code: Ints) -> Rows:
    """Rows again from codes, each one number for (node, permission, target); all of them allowed."""
    targets, permissions = len(web.target_place), len(web.compiled.permission_pairs)
    rest = code // targets
    return Rows(rest // permissions, rest % permissions, code % targets, np.full(len(code), LOOK, np.int8))


def triples(rows: Rows) -> list[tuple[int, int, int]]:
    """The rows as (node, permission, target), without their states."""
    return list(zip(rows.who.tolist(), rows.permission.tolist(), rows.target.tolist(), strict=True))


def _gain(web: Web, who: int, permission: int, target: int) -> Gain:
    node = web.node(who)
    verb = web.compiled.permission_pairs[permission][1]
    return Gain(node.name, _form(web, who), verb, web.target_name(target), {})


def _gain_by(chains: Chains, chain: Chain) -> Gain:
    """A gain with the chain by which it is had, and the values that it takes."""
    assert chain.end is not None  # noqa: S101  every chain that is compared ends in a request
    plain = _gain(chains.web, *chain.end)
    return Gain(chain.start.whom, chain.start.form, plain.verb, plain.target, chain.values, tuple(chains.steps(chain)))


def _with_chain(chains: Chains, row: tuple[int, int, int]) -> Gain | None:
    """What a caller gains, with a shortest chain; None where no chain can be walked after all."""
    web = chains.web
    who, permission, target = row
    wanted = np.zeros(len(web.compiled.permission_pairs), bool)
    wanted[permission] = True
    taken = None
    if permission == web.compiled.take_on:
        taken = np.zeros(web.nodes, bool)
        taken[int(web.target_place[target])] = True
        rows = web.rows_of(np.zeros(0, np.int64), wanted)
    else:
        rows = web.rows_on(target, wanted)
    try:
        chain = chains.first_to([start_of(chains, who)], rows, taken=taken)
    except Undecided:
        return _gain(web, *row)
    return _gain_by(chains, chain) if chain is not None else None


def newly_allowed(estate: Estate, remedy: Remedy, verdict: Verdict) -> list[Gain]:
    """What a remedy allows besides the requests of the verdict that it turns, at the time of the question.

    A gain that is had at just that time does not name it: it is the time of all that is said.
    """
    question = asked(verdict.question, remedy.changes)
    after = applied(estate, remedy.changes)
    if after == estate:
        return []
    turned = {(request.caller, request.verb, request.target) for request in _all_requests(verdict.requests)}
    turned |= {(question.origin.whom, "take-on", hop.identity) for hop in question.through}
    ends = [request for request in verdict.requests if not request.is_hop]
    found = difference(estate, after, question.time.timestamp())
    ended = {(end.verb, end.target) for end in ends}
    now = ("time", question.time)
    return [
        replace(gain, values=dict(one for one in gain.values.items() if one != now))
        for gain in found.gains
        if not _is_asked(gain, question, turned, ended)
    ]


def _is_asked(gain: Gain, question: Question, turned: Container[object], ended: Container[object]) -> bool:
    """Whether a gain is just what was asked for: one of its requests, with the claims that were shown."""
    shown = {name: value for name, value in gain.values.items() if name.startswith("claims.")}
    shows = question.origin.shows
    if gain.form in BEARERS and any(shows.get(name.removeprefix("claims.")) != value for name, value in shown.items()):
        return False
    return (gain.caller, gain.verb, gain.target) in turned or (gain.verb, gain.target) in ended


def _all_requests(requests: Iterable[Request]) -> Iterator[Request]:
    for request in requests:
        yield request
        for step in request.steps:
            yield from _all_requests(step.within)

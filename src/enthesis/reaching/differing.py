"""Who gains and who loses what between two estates, through which chain. Exact over everything that either can ask.

Only those whose access can differ are looked at: whoever has a changed statement, and whoever comes to them. What
hangs on conditions is compared as such: values are looked for that meet what is taken now and not what was before.
"""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import product

import numpy as np

from enthesis.judging.compiling import NONE, Compiled, Ints, compile_estate
from enthesis.judging.remedies import Remedy, applied, asked
from enthesis.judging.verdicts import Request, Verdict
from enthesis.model.estate import Estate
from enthesis.reaching.chains import Chain, Chains, Start
from enthesis.reaching.free import Alternative, Requirement
from enthesis.reaching.reach import reachable
from enthesis.reaching.web import LOOK, YES, Bools, Rows, Web
from enthesis.trusting.patterns import Undecided
from enthesis.trusting.truth import Value
from enthesis.trusting.values import Want

MAX_TRIPLES = 40_000_000  # of caller, permission and target that one side is compared by
MAX_CHAINS = 400  # chains that are told
MAX_WALKED = 300  # callers whose chains are walked because they hang on conditions


@dataclass(frozen=True, slots=True)
class Gain:
    """Somebody can do something on one side only. `values` tells which conditions, where only those differ.

    `chain` are the steps by which, on the side that has it; empty where they were not looked for.
    """

    caller: str
    form: str
    verb: str
    target: str
    values: Mapping[str, Value]
    chain: tuple[tuple[str, str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Difference:
    """What changes between two estates. `callers` counts those that gain or lose anything."""

    gains: tuple[Gain, ...]
    losses: tuple[Gain, ...]
    undecided: int = 0


def mentioned_in(*versions: Estate) -> frozenset[str]:
    """The addresses that grants of these estates name, so that both are compared over the same ones."""
    return frozenset(grant.at for estate in versions for grant in estate.grants)


def difference(before: Estate, after: Estate, now: float) -> Difference:
    """The access gained and lost from one estate to the other at an instant (seconds since 1970)."""
    names = mentioned_in(before, after)
    webs = [Web(compile_estate(estate, names), now) for estate in (before, after)]
    return web_difference(webs[0], webs[1])


def web_difference(before: Web, after: Web, *, told: int = MAX_CHAINS) -> Difference:
    """The same between two webs that were made over the same addresses; chains for so many of the differences."""
    sides = _Sides(before, after)
    gains, missed = sides.only(after, before, told)
    losses, missed_too = sides.only(before, after, told)
    return Difference(tuple(gains), tuple(losses), missed + missed_too)


class _Sides:
    """Two webs with the numbers of the one in terms of the other, by name."""

    def __init__(self, before: Web, after: Web) -> None:
        self.webs = (before, after)
        self.everybody = _structure(before.compiled) != _structure(after.compiled)

    def only(self, here: Web, there: Web, told: int) -> tuple[list[Gain], int]:
        """What can be done in one web and not in the other."""
        numbers = to_node, to_target, to_permission = _numbers(here, there)
        changed = self._changed(here, there, to_node)
        callers = self._callers(here, changed)
        possible = _codes(here, callers)
        surely_there = _codes_there(here, there, callers, numbers, certain=True)
        open_rows = possible.where(~_among(here, possible, surely_there))
        sure = _among(here, open_rows, _encoded(here, _codes(here, callers, certain=True)))
        sure &= ~_among(here, open_rows, _codes_there(here, there, callers, numbers, certain=False))
        doubtful = open_rows.where(~sure)
        settled, missed = _settled(here, there, doubtful, numbers)
        fresh = [*_triples(open_rows.where(sure)), *settled]
        chains = Chains(here)
        gains = [
            _with_chain(chains, _gain(here, *row), row) if number < told else _gain(here, *row)
            for number, row in enumerate(fresh)
        ]
        conditions, missed_too = self._other_conditions(here, there, changed, to_node, to_target, to_permission)
        return [*(gain for gain in gains if gain is not None), *conditions], missed + missed_too

    def _changed(self, here: Web, there: Web, to_node: Ints) -> Ints:
        """The nodes that have statements of their own on this side that the other has not, or that differ themselves."""
        if self.everybody:
            return np.arange(here.nodes)
        compiled, other = here.compiled, there.compiled
        known = _grant_keys(other)
        grants = [number for number, key in _grant_rows(compiled) if key not in known]
        to = compiled.grant_to[grants]
        out = {int(one) for one in to.tolist() if not here.is_group[one]}
        for group in {int(one) for one in to.tolist() if here.is_group[one]}:
            out.update(compiled.members[group].tolist())
        for group, members in compiled.members.items():
            twin = other.find(compiled.places.names[group])
            before = {other.places.names[one] for one in other.members.get(twin, np.zeros(0, np.int64)).tolist()}
            out.update(one for one in members.tolist() if compiled.places.names[one] not in before)
        edges = _edge_keys(there)
        for edge, key in _edge_rows(here):
            if key not in edges:
                out.add(int(here.edge_from[edge]))
        missing = np.flatnonzero(to_node == NONE)
        out.update(int(one) for one in missing.tolist())
        return np.array(sorted(one for one in out if one != NONE), np.int64)

    def _callers(self, here: Web, changed: Ints) -> Ints:
        """Everybody who comes to a changed node, and the node itself: identities, people, resources, bearers."""
        if not len(changed):
            return changed
        reached = here.closure(changed.tolist(), backward=True).reached
        asks = np.ones(here.nodes, bool)
        asks[: here.places] = here.compiled.is_identity
        asks[[place for place, found in here.compiled.runs_as.items() if found]] = True
        asks[sorted(here.compiled.theirs)] = True
        return np.flatnonzero(reached & asks)

    def _other_conditions(
        self, here: Web, there: Web, changed: Ints, to_node: Ints, to_target: Ints, to_permission: Ints
    ) -> tuple[list[Gain], int]:
        """Direct requests that both webs can allow, and this one under conditions that the other does not."""
        own = _direct(here, changed)
        mapped = Rows(to_node[own.who], to_permission[own.permission], to_target[own.target], own.state)
        both = (mapped.who != NONE) & (mapped.permission != NONE) & (mapped.target != NONE)
        out: list[Gain] = []
        missed = 0
        chains = Chains(here)
        for row, twin, state in zip(_triples(own.where(both)), _triples(mapped.where(both)), own.state[both].tolist(), strict=True):
            wants, had = _requirement(here, row, state), _requirement(there, twin, LOOK)
            if wants is None or had is None or had == () or wants == had:
                continue
            try:
                values = _newly(chains, row[0], wants, had)
            except Undecided:
                missed += 1
                continue
            if values is not None:
                gain = _gain(here, *row)
                out.append(Gain(gain.caller, gain.form, gain.verb, gain.target, values, ((gain.caller, gain.verb, gain.target),)))
        return out, missed


def _requirement(web: Web, row: tuple[int, int, int], state: int) -> Requirement | None:
    if state == YES and row[1] != web.compiled.take_on:
        return ()
    return web.row_requirement(*row)


def _newly(chains: Chains, node: int, wants: Requirement, had: Requirement) -> Mapping[str, Value] | None:
    """Values that meet what is taken now and not what was: some clause of that has no alternative that holds."""
    start = _start(chains, node)
    for clause in had:
        for literals in product(*clause):
            denied: Alternative = tuple((name, test, Want.NOT_HELD) for name, test, want in literals if want is Want.HOLDS)
            denied += tuple((name, test, Want.HOLDS) for name, test, want in literals if want is Want.FAILS)
            found = chains.values_for((*wants, (denied,)), start)
            if found is not None:
                return found
    return None


def _start(chains: Chains, node: int) -> Start:
    web = chains.web
    return chains.from_issuer(web.issuers[node - web.places]) if node >= web.places else chains.from_place(node)


def _structure(compiled: Compiled) -> tuple[object, ...]:
    """What every verdict looks at: where it differs, everybody is looked at."""
    estate, tables = compiled.estate, compiled.tables
    return (
        estate.organisations, estate.providers, estate.accounts, tables.resources, tables.labels, tables.encrypted_by,
        tables.by_provider, tables.runs_as, tables.disabled, tables.tied, estate.ceilings, estate.attachments,
        estate.catalogue.kinds, {name: one.claims for name, one in estate.issuers.items()},
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


def _grant_rows(compiled: Compiled) -> Iterator[tuple[int, object]]:
    names = compiled.tables
    roles = [compiled.role_mask[number] for number in range(len(compiled.role_names))] + [0]
    for number, role in enumerate(compiled.grant_role.tolist()):
        yield number, (
            names.grant_to[number], roles[role], names.grant_at[number], names.grant_holder[number],
            names.grant_until.get(number), _plain(names.grant_when.get(number)),
        )  # fmt: skip


def _grant_keys(compiled: Compiled) -> set[object]:
    return {key for _, key in _grant_rows(compiled)}


def _plain(conditions: object) -> object:
    return conditions if isinstance(conditions, tuple) or conditions is None else repr(conditions)


def _edge_rows(web: Web) -> Iterator[tuple[int, object]]:
    """Edges with their names, and for those that hang on conditions the trusts behind them."""
    names, tables = web.compiled.places.names, web.compiled.tables
    trusts: dict[int, object] = {}
    source, goal, sort, state = (column.tolist() for column in (web.edge_from, web.edge_to, web.edge_sort, web.edge_state))
    for edge in range(len(source)):
        who = names[source[edge]] if source[edge] < web.places else web.issuers[source[edge] - web.places]
        behind: object = None
        if state[edge] == LOOK and web.edge_permission[edge] == web.compiled.take_on:
            to = goal[edge]
            if to not in trusts:
                trusts[to] = frozenset(
                    (
                        tables.trust_form[number], tables.trust_whom[number], tables.trust_until.get(number),
                        _plain(tables.trust_shown.get(number)), _plain(tables.trust_when.get(number)),
                    )
                    for number in web.compiled.trusts_of(to)
                )  # fmt: skip
            behind = trusts[to]
        yield edge, (who, names[goal[edge]], sort[edge], state[edge], behind)


def _edge_keys(web: Web) -> set[object]:
    return {key for _, key in _edge_rows(web)}


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


def _settled(here: Web, there: Web, rows: Rows, numbers: tuple[Ints, Ints, Ints]) -> tuple[list[tuple[int, int, int]], int]:
    """Those of the rows that hang on conditions and can be had here and not there, by walking their chains.

    Past MAX_WALKED callers nothing is walked, and the rows that could be had only here are taken as gained.
    """
    callers = np.unique(rows.who).tolist()
    if len(callers) > MAX_WALKED:
        return [], len(rows)
    out: list[tuple[int, int, int]] = []
    missed = 0
    everything = np.ones(len(here.compiled.permission_pairs), bool)
    mine, theirs = Chains(here), Chains(there)
    for caller in callers:
        had = set()
        twin = int(numbers[0][caller])
        if twin != NONE:
            had = {(one.target, one.verb) for one in reachable(theirs, [_start(theirs, twin)], everything)}
        has = {(one.target, one.verb) for one in reachable(mine, [_start(mine, caller)], everything)}
        for row in _triples(rows.where(rows.who == caller)):
            verb = here.compiled.permission_pairs[row[1]][1].replace("take-on", "take on")
            name = (here.target_name(row[2]), verb)
            if name in has and name not in had:
                out.append(row)
    return out, missed + mine.undecided + theirs.undecided


def _pairs(web: Web, callers: Ints, *, certain: bool) -> tuple[Ints, Ints]:
    """Every caller with every node that it comes to, itself included."""
    who, node = callers, callers
    seen = np.unique(who * web.nodes + node)
    while len(who):
        count = web.forward.starts[node + 1] - web.forward.starts[node]
        row = np.repeat(np.arange(len(node)), count)
        edges = web.forward.edges(node)
        if certain:
            row, edges = row[web.edge_state[edges] == YES], edges[web.edge_state[edges] == YES]
        code = np.unique(who[row] * web.nodes + web.edge_to[edges])
        code = code[~np.isin(code, seen, assume_unique=True)]
        seen = np.union1d(seen, code)
        if len(seen) > MAX_TRIPLES:
            raise Undecided(f"more than {MAX_TRIPLES} pairs")
        who, node = code // web.nodes, code % web.nodes
    return seen // web.nodes, seen % web.nodes


def _codes(web: Web, callers: Ints, *, certain: bool = False) -> Rows:
    """Everything that callers can do, each once, directly or through hops; with `certain`, what hangs on nothing."""
    who, node = _pairs(web, callers, certain=certain)
    rows = _direct(web, np.unique(node))
    rows = rows.where(rows.state == YES) if certain else rows
    order = np.argsort(rows.who, kind="stable")
    rows = Rows(rows.who[order], rows.permission[order], rows.target[order], rows.state[order])
    low = np.searchsorted(rows.who, node)
    count = np.searchsorted(rows.who, node + 1) - low
    if int(count.sum()) > MAX_TRIPLES:
        raise Undecided(f"more than {MAX_TRIPLES} requests")
    pair = np.repeat(np.arange(len(node)), count)
    at = np.arange(int(count.sum())) - np.repeat(np.cumsum(count) - count, count) + np.repeat(low, count)
    code = np.unique(_code(web, who[pair], rows.permission[at], rows.target[at]))
    return _decoded(web, code)


def _code(web: Web, who: Ints, permission: Ints, target: Ints) -> Ints:
    out: Ints = (who * len(web.compiled.permission_pairs) + permission) * len(web.target_place) + target
    return out


def _decoded(web: Web, code: Ints) -> Rows:
    targets, permissions = len(web.target_place), len(web.compiled.permission_pairs)
    rest = code // targets
    return Rows(rest // permissions, rest % permissions, code % targets, np.full(len(code), LOOK, np.int8))


def _encoded(web: Web, rows: Rows) -> Ints:
    return _code(web, rows.who, rows.permission, rows.target)


def _codes_there(
    here: Web, there: Web, callers: Ints, numbers: tuple[Ints, Ints, Ints], *, certain: bool
) -> Ints:
    """What the same callers can do in the other web, as codes of this one."""
    to_node, to_target, to_permission = numbers
    known = to_node[callers]
    theirs = _codes(there, known[known != NONE], certain=certain)
    back_node = _inverse(to_node, there.nodes)
    back_target = _inverse(to_target, len(there.target_place))
    back_permission = _inverse(to_permission, len(there.compiled.permission_pairs))
    who, permission, target = back_node[theirs.who], back_permission[theirs.permission], back_target[theirs.target]
    sound = (who != NONE) & (permission != NONE) & (target != NONE)
    return np.unique(_code(here, who[sound], permission[sound], target[sound]))


def _inverse(numbers: Ints, count: int) -> Ints:
    out = np.full(count, NONE, np.int64)
    known = numbers != NONE
    out[numbers[known]] = np.flatnonzero(known)
    return out


def _among(web: Web, rows: Rows, codes: Ints) -> Bools:
    return np.isin(_code(web, rows.who, rows.permission, rows.target), codes)


def _triples(rows: Rows) -> list[tuple[int, int, int]]:
    return list(zip(rows.who.tolist(), rows.permission.tolist(), rows.target.tolist(), strict=True))


def _gain(web: Web, who: int, permission: int, target: int) -> Gain:
    node = web.node(who)
    verb = web.compiled.permission_pairs[permission][1]
    return Gain(node.name, node.form, verb, web.target_name(target), {})


def _with_chain(chains: Chains, gain: Gain, row: tuple[int, int, int]) -> Gain | None:
    """The same with a shortest chain and what it hangs on; None where no chain can be walked after all."""
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
        chain: Chain | None = chains.first_to([_start(chains, who)], rows, taken=taken)
    except Undecided:
        return gain
    if chain is None:
        return None
    return Gain(gain.caller, gain.form, gain.verb, gain.target, chain.values, tuple(chains.steps(chain)))



def newly_allowed(estate: Estate, remedy: Remedy, verdict: Verdict) -> list[Gain]:
    """What a remedy allows besides the requests of the verdict that it turns."""
    question = asked(verdict.question, remedy.changes)
    after = applied(estate, remedy.changes)
    if after == estate:
        return []
    turned = {(request.caller, request.verb, request.target) for request in _all_requests(verdict.requests)}
    turned |= {(question.origin.whom, hop_verb, hop.identity) for hop in question.through for hop_verb in ("take-on",)}
    ends = [request for request in verdict.requests if not request.is_hop]
    found = difference(estate, after, question.time.timestamp())
    return [
        gain
        for gain in found.gains
        if (gain.caller, gain.verb, gain.target) not in turned
        and not any((gain.verb, gain.target) == (end.verb, end.target) for end in ends)
        or gain.values and gain.form in ("token", "assertion", "certificate")
    ]


def _all_requests(requests: Iterable[Request]) -> Iterator[Request]:
    for request in requests:
        yield request
        for step in request.steps:
            yield from _all_requests(step.within)

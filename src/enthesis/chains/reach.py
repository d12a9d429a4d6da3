"""What a caller can reach, and who can reach a place: answers with the shortest chain for each."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from enthesis.access.arrays import Bools, once
from enthesis.access.compiling import NONE
from enthesis.access.many import Rows
from enthesis.access.states import YES
from enthesis.chains.chains import Chain, Chains, ChainStart
from enthesis.chains.web import Closure, Web
from enthesis.model.errors import Undecided


@dataclass(frozen=True, slots=True)
class Reached:
    """One thing that can be done, by which chain. `steps` are (caller, verb, target), the last being the thing."""

    chain: Chain
    target: str
    verb: str
    steps: tuple[tuple[str, str, str], ...]
    crossing: bool
    by_change: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Coming:
    """Who can reach some direct rows: those by whom it needs nothing more, and those by whom it could be."""

    rows: Rows
    certain: Closure
    possible: Closure


def coming_to(web: Web, rows: Rows) -> Coming:
    """The two closures backward from direct rows. Cost grows with what is reached, not with the estate."""
    surely = once(rows.who[rows.state == YES]).tolist()
    possible = web.closure(once(rows.who).tolist(), backward=True)
    return Coming(rows, web.closure(surely, backward=True, certain=True), possible)


def reachable(chains: Chains, starts: Sequence[ChainStart], wanted: Bools, *, hops: int = 0) -> list[Reached]:
    """Everything wanted (by permission) that these starts can reach, with a shortest chain each."""
    web, compiled = chains.web, chains.compiled
    near = web.closure((start.node for start in starts), hops=hops).reached
    people = np.flatnonzero(near[: web.places] & compiled.is_identity)
    rows = web.rows_of(people, wanted)
    rows = rows.where(rows.permission != compiled.take_on)
    by_node: dict[int, list[tuple[int, int, int]]] = {}
    for who, permission, target in zip(rows.who.tolist(), rows.permission.tolist(), rows.target.tolist(), strict=True):
        by_node.setdefault(who, []).append((who, permission, target))
    if wanted[compiled.take_on]:
        edges = web.forward.edges(np.flatnonzero(near))
        for edge in edges[web.edge_permission[edges] == compiled.take_on].tolist():
            who = int(web.edge_from[edge])
            by_node.setdefault(who, []).append((who, compiled.take_on, int(web.edge_target[edge])))
    found: dict[tuple[int, int], Reached] = {}
    try:
        for label in chains.labels(starts, inside=near, hops=hops):
            for row in by_node.get(label.node, ()):
                if (row[2], row[1]) not in found:
                    ended = chains.ending(label, row)
                    if ended is not None:
                        found[row[2], row[1]] = _reached(chains, ended)
    except Undecided as bound:
        chains.missed(bound)
    return sorted(found.values(), key=lambda access: (len(access.steps), access.target, access.verb))


def reaching(chains: Chains, targets: Sequence[int], wanted: Bools, *, hops: int = 0) -> list[Reached]:
    """Everybody who can reach one of these targets: origins and identities, a shortest chain for each verb."""
    web, compiled = chains.web, chains.compiled
    out: dict[tuple[str, str, int], Reached] = {}
    for target in targets:
        kind = compiled.kind_names[int(web.target_kind[target])]
        for permission in np.flatnonzero(wanted).tolist():
            if compiled.permission_pairs[permission][0] != kind:
                continue
            only = np.zeros(len(wanted), bool)
            only[permission] = True
            for start, chain in _reaching(chains, target, only):
                if not (hops and len(chain.edges) > hops):
                    out.setdefault((start.form, start.whom, permission), _reached(chains, chain))
    return sorted(
        out.values(),
        key=lambda access: (len(access.steps), access.chain.start.form, access.chain.start.whom, access.verb),
    )


def _reaching(chains: Chains, target: int, wanted: Bools) -> Iterator[tuple[ChainStart, Chain]]:
    web = chains.web
    rows = web.rows_on(target, wanted)
    rows = rows.where(rows.permission != web.compiled.take_on)
    taken = _taken(web, target, wanted)
    answer = coming_to(web, rows)
    possible = answer.possible.reached.copy()
    if taken is not None:
        possible |= web.closure(np.flatnonzero(taken), backward=True).reached
    for start in _starts(chains, possible):
        chain = _plain(chains, start, answer) or _searched(chains, start, rows, taken)
        if chain is not None:
            yield start, chain


def _taken(web: Web, target: int, wanted: Bools) -> Bools | None:
    """The identity itself, where taking it on is among what is wanted."""
    place = int(web.target_place[target])
    if target >= web.places or not wanted[web.compiled.take_on] or not web.compiled.is_identity[place]:
        return None
    out = np.zeros(web.nodes, bool)
    out[place] = True
    return out


def _starts(chains: Chains, possible: Bools) -> Iterable[ChainStart]:
    yield from (start for start in chains.origins() if possible[start.node])
    compiled = chains.compiled
    workloads = possible[: chains.web.places] & compiled.is_identity & ~compiled.is_person
    for number in np.flatnonzero(workloads).tolist():
        yield chains.from_place(number)


def _plain(chains: Chains, start: ChainStart, answer: Coming) -> Chain | None:
    """The chain of a start that needs nothing more, read off the closure."""
    web = chains.web
    if not answer.certain.reached[start.node] or start.knowns.limits or start.when or start.person != NONE:
        return None
    edges: list[int] = []
    node = start.node
    while answer.certain.edge[node] != NONE:
        edge = int(answer.certain.edge[node])
        edges.append(edge)
        node = int(web.edge_to[edge])
    at = np.flatnonzero((answer.rows.who == node) & (answer.rows.state == YES))[0]
    end = (node, int(answer.rows.permission[at]), int(answer.rows.target[at]))
    return Chain(start, tuple(edges), {}, False, end)


def _searched(chains: Chains, start: ChainStart, rows: Rows, taken: Bools | None) -> Chain | None:
    missed = chains.undecided
    try:
        return chains.first_to([start], rows, taken=taken)
    except Undecided as bound:
        if chains.undecided == missed:
            chains.missed(bound)
        return None


def _reached(chains: Chains, chain: Chain) -> Reached:
    steps = tuple(chains.steps(chain))
    return Reached(chain, steps[-1][2], steps[-1][1], steps, crossing(chains, chain))


def crossing(chains: Chains, chain: Chain) -> bool:
    """Whether some request of a chain goes from one account to another of the same provider."""
    web, compiled = chains.web, chains.compiled
    pairs = [(int(web.edge_from[edge]), int(web.target_place[int(web.edge_target[edge])])) for edge in chain.edges]
    if chain.end is not None:
        pairs.append((chain.end[0], int(web.target_place[chain.end[2]])))
    for who, place in pairs:
        if who >= web.places:
            continue
        own, other = int(compiled.account[who]), int(compiled.account[place])
        if NONE not in (own, other) and own != other and compiled.provider[who] == compiled.provider[place]:
            return True
    return False

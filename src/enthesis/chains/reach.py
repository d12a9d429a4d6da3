"""What a caller can reach, and who can reach a place: answers with every way that no other makes needless."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import product

import numpy as np

from enthesis.access.arrays import Bools, once
from enthesis.access.compiling import NONE
from enthesis.access.many import Rows
from enthesis.access.requirements import Requirement, denials
from enthesis.access.states import YES
from enthesis.chains.access_graph import Closure, Web
from enthesis.chains.chains import Chain, Chains, ChainStart, Label
from enthesis.chains.ends import ends_at, ends_by_caller, takings
from enthesis.model.errors import Undecided

FEW = 64  # targets that are looked at one by one; of more, everything that a start can do is looked for at once
MAX_ANSWERS = 20_000  # ways in which somebody can do something, as one answer tells them
MAX_WAYS = 20  # for one caller and target that are told; more are counted
MAX_COMPARED = 60  # that are looked at for which make others needless; more are counted


@dataclass(frozen=True, slots=True)
class Reached:
    """One thing that can be done, by which chain. `steps` are (caller, verb, target), the last being the thing."""

    chain: Chain
    target: str
    verb: str
    steps: tuple[tuple[str, str, str], ...]
    crossing: bool
    by_change: tuple[str, ...] = ()
    more: int = 0  # ways besides the twenty that are told


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
    """Everything wanted (by permission) that these starts can reach, with the ways that no other makes needless."""
    web, compiled = chains.web, chains.compiled
    near = web.closure((start.node for start in starts), hops=hops).reached
    people = np.flatnonzero(near[: web.places] & compiled.is_identity)
    rows = web.rows_of(people, wanted)
    rows = rows.where(rows.permission != compiled.take_on)
    edges = web.forward.edges(np.flatnonzero(near)) if wanted[compiled.take_on] else np.zeros(0, np.int64)
    by_node = ends_by_caller(web, rows, edges[web.edge_permission[edges] == compiled.take_on])
    found = [_reached(chains, chain, more) for chain, more in _walked(chains, starts, by_node, near, hops)]
    return sorted(found, key=lambda access: (len(access.steps), access.target, access.verb))


def reaching(chains: Chains, address: str, wanted: Bools, *, hops: int = 0) -> list[Reached]:
    """Everybody who can do something wanted (by permission) at a place, which means at it or in it: origins and
    identities, with the ways to each thing that each can do that no other makes needless."""
    web = chains.web
    rows, taken = ends_at(web, address, wanted)
    targets = once(np.concatenate([rows.target, np.flatnonzero(taken[: web.places])]))
    # a way that needs nothing makes others needless, but not one of fewer hops, nor one without a stored key
    singly = len(targets) <= FEW and not hops and not web.keys.credentials
    found = _reaching_few(chains, rows, taken) if singly else _reaching_many(chains, rows, taken, hops)
    out: list[Reached] = []
    for chain, more in found:
        out.append(_reached(chains, chain, more))
        if len(out) > MAX_ANSWERS:
            chains.missed(Undecided(f"more than {MAX_ANSWERS} ways in"))
            break
    return sorted(
        out,
        key=lambda access: (
            len(access.steps), access.chain.start.form, access.chain.start.whom, access.target, access.verb
        ),
    )  # fmt: skip


def _reaching_few(chains: Chains, rows: Rows, taken: Bools) -> Iterator[tuple[Chain, int]]:
    """Each thing that can be done by itself: read off a closure where it needs nothing more."""
    web = chains.web
    pairs = dict.fromkeys(zip(rows.permission.tolist(), rows.target.tolist(), strict=True))
    for permission, target in pairs:
        mine = rows.where((rows.permission == permission) & (rows.target == target))
        yield from _reaching_one(chains, mine, np.zeros(web.nodes, bool))
    nothing = rows.where(np.zeros(len(rows), bool))
    for place in np.flatnonzero(taken).tolist():
        only = np.zeros(web.nodes, bool)
        only[place] = True
        yield from _reaching_one(chains, nothing, only)


def _reaching_one(chains: Chains, rows: Rows, taken: Bools) -> Iterator[tuple[Chain, int]]:
    web = chains.web
    answer = coming_to(web, rows)
    possible = answer.possible.reached | web.closure(np.flatnonzero(taken), backward=True).reached
    by_node = ends_by_caller(web, rows, takings(web, taken))
    for start in _starts(chains, possible):
        plain = _plain(chains, start, answer)
        if plain is not None:
            yield plain, 0
        else:
            yield from _walked(chains, [start], by_node, possible, 0)


def _reaching_many(chains: Chains, rows: Rows, taken: Bools, hops: int) -> Iterator[tuple[Chain, int]]:
    """Everything that each start can do there, by one search forward from it."""
    by_node = ends_by_caller(chains.web, rows, takings(chains.web, taken))
    possible = chains.web.closure(by_node, backward=True).reached
    for start in _starts(chains, possible):
        yield from _walked(chains, [start], by_node, possible, hops)


def _walked(
    chains: Chains,
    starts: Sequence[ChainStart],
    by_node: Mapping[int, Sequence[tuple[int, int, int]]],
    inside: Bools,
    hops: int,
) -> Iterator[tuple[Chain, int]]:
    """The chains from these starts to each of some direct requests, by a stored key and without one, and how many more
    there are than are told: none whose conditions imply those of another, the fewest conditions first."""
    found: dict[tuple[int, int, bool], _WaysThere] = {}
    try:
        for label in chains.labels(starts, inside=inside, hops=hops):
            for row in by_node.get(label.node, ()):
                takes = chains.ending_takes(label, row)
                if takes is not None:
                    found.setdefault((row[2], row[1], label.by_key), _WaysThere(chains)).add(label, row, takes)
    except Undecided as bound:
        chains.missed(bound)
    for ways in found.values():
        yield from ways.told()


class _WaysThere:
    """The ways to one direct request, by what they take."""

    def __init__(self, chains: Chains) -> None:
        self.chains = chains
        self.kept: list[tuple[frozenset[object], Requirement, Label, tuple[int, int, int]]] = []
        self.more = 0

    def add(self, label: Label, row: tuple[int, int, int], takes: Requirement) -> None:
        """Keeps each way to meet a requirement, one alternative of each clause, where no kept one takes less."""
        for number, chosen in enumerate(product(*takes)):
            if number >= MAX_COMPARED:
                self.more += 1
                return
            self._add(label, row, tuple(dict.fromkeys((one,) for one in chosen if one)))

    def _add(self, label: Label, row: tuple[int, int, int], takes: Requirement) -> None:
        clauses = frozenset(literal for clause in takes for alternative in clause for literal in alternative)
        if any(other <= clauses for other, *_ in self.kept):
            return
        if len(self.kept) >= MAX_COMPARED:
            self.more += 1
            return
        self.kept = [one for one in self.kept if not clauses <= one[0]]
        self.kept.append((clauses, takes, label, row))

    def told(self) -> Iterator[tuple[Chain, int]]:
        """Each way as a chain, with how many more there are; those left out that another makes needless."""
        chains = [
            (takes, chain)
            for _, takes, label, row in self.kept
            if (chain := self.chains.ending(label, row, takes)) is not None
        ]
        chains.sort(key=lambda one: (len(one[1].values), len(one[1].edges)))
        needed: list[tuple[Requirement, Chain]] = []
        for takes, chain in chains:
            alike = any((one.edges, one.values) == (chain.edges, chain.values) for _, one in needed)
            if not alike and not any(self._implied(takes, other, chain) for other, _ in needed):
                needed.append((takes, chain))
        more = self.more + max(0, len(needed) - MAX_WAYS)
        yield from ((chain, more) for _, chain in needed[:MAX_WAYS])

    def _implied(self, takes: Requirement, other: Requirement, chain: Chain) -> bool:
        """Whether whatever meets one requirement meets another; no where that is past a bound."""
        try:
            return all(
                self.chains.solver.witness((*takes, *denial), chain.start.knowns) is None for denial in denials(other)
            )
        except Undecided:
            return False


def _starts(chains: Chains, possible: Bools) -> Iterable[ChainStart]:
    yield from (start for start in chains.origins() if possible[start.node])
    compiled = chains.compiled
    workloads = possible[: chains.web.places] & compiled.is_identity & ~compiled.is_person
    for number in np.flatnonzero(workloads).tolist():
        yield chains.from_place(number)


def _plain(chains: Chains, start: ChainStart, answer: Coming) -> Chain | None:
    """The chain of a start that needs nothing more, read off the closure."""
    web = chains.web
    if (
        not answer.certain.reached[start.node]
        or start.knowns.limits not in ((), chains.always)
        or start.when
        or start.person != NONE
    ):
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


def _reached(chains: Chains, chain: Chain, more: int = 0) -> Reached:
    steps = tuple(chains.steps(chain))
    return Reached(chain, steps[-1][2], steps[-1][1], steps, crossing(chains, chain), more=more)


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

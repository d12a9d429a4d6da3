"""The web of an estate: who takes on or leads on to whom, as arrays, and closures over it.

Made once for a compiled estate and an instant. Edges are decided many at a time, into YES and LOOK: LOOK hangs on a
condition, and `requests` says what it takes. Nodes are numbers: places first, then issuers.
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from enthesis.access.arrays import Bools, Ints, once, spread
from enthesis.access.compiling import NONE, Compiled, with_members_to_come
from enthesis.access.future_members import ToCome, members_to_come
from enthesis.access.many import Many, Rows
from enthesis.access.names.standing import why_shut
from enthesis.access.needed import LAST, Asking
from enthesis.access.requirements import Requirement, joined
from enthesis.access.session import bulk as session
from enthesis.access.states import LOOK, NO, YES, States
from enthesis.access.target_side.bulk import admitted
from enthesis.chains.requests import Requests
from enthesis.conditions.values import Want
from enthesis.model.addresses import pool_of
from enthesis.model.conditions import Conditions
from enthesis.model.estate import Credential, PipelineAccess
from enthesis.model.vocabulary import VerbClass
from enthesis.verdicts.pipeline_access import runs_admitted

TAKES_ON, LEADS_ON = 0, 1
STANDS_FOR = 2  # no request: what is done to a pool is done to its members
OPENS = 3  # a stored key is read where it is kept
HOLDS = 4  # what runs somewhere has the key that is kept there: no request
HOP = Asking(hop=True)


@dataclass(frozen=True, slots=True)
class Closure:
    """What is reached from some seeds: `reached` by node, and the edge by which each was reached first (NONE: a seed).

    `order` are the reached nodes, nearest first.
    """

    reached: Bools
    edge: Ints
    order: Ints


class Web(Many):
    """The web of one compiled estate from one instant on (seconds since 1970), with the members that may yet come.

    Its `compiled` is the one that its numbers are of; it can be another than the one that it was made for.
    """

    def __init__(self, compiled: Compiled, now: float, to_come: ToCome | None = None, *, ages: bool = False) -> None:
        """`to_come` are the members to come, where they are not just those of this estate; with `ages` the lives of
        sessions count though no condition of this estate asks for an age."""
        self.to_come = to_come
        coming = to_come if to_come is not None else members_to_come(compiled.tables)
        self.missed = coming.missed  # which names of members to come were not told apart
        compiled = with_members_to_come(compiled, coming)
        super().__init__(compiled, now)
        self.ages = ages or asks_for_ages(compiled)
        self.requests = Requests(compiled, now, ages=self.ages)
        self._requirements: dict[tuple[int, int, int, bool], Requirement | None] = {}
        self.keys = StoredKeys(self)
        self._edges()

    # -- edges ----------------------------------------------------------------------------------------------------

    def _edges(self) -> None:
        """Who takes on whom by a trust, and who is led on: by using an identity, or running code on a resource."""
        parts: list[tuple[Ints, Ints, Ints, Ints, Ints, States, Ints]] = []

        def add(who: Ints, to: Ints, what: Ints, on: Ints, how: int, states: States, key: int = NONE) -> None:
            kept = states > NO
            sort, keys = np.full(int(kept.sum()), how, np.int64), np.full(int(kept.sum()), key, np.int64)
            parts.append((who[kept], to[kept], what[kept], on[kept], sort, states[kept], keys))

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
                states[some] = np.minimum(states[some], self.shown_states(callers, take_on[some], of[some]))
            add(who, of, take_on, of, TAKES_ON, states)
        leading = np.array(
            [
                (kind, verb) == ("identity", "run-as") or its_class == VerbClass.RUN
                for (kind, verb), its_class in zip(self.compiled.permission_pairs, self.compiled.class_of, strict=True)
            ]
        )
        rows = self._leading(leading)
        add(rows.who, self.target_place[rows.target], rows.permission, rows.target, LEADS_ON, rows.state)
        pools, members = self._members()
        configure = np.full(len(pools), self.compiled.permission["pool", "configure"], np.int64)
        add(pools, members, configure, pools, STANDS_FOR, np.full(len(pools), YES, np.int8))
        for key, (opened, opening, holding) in enumerate(self.keys.each()):
            looked_at = np.full(len(opening), LOOK, np.int8)  # what a key opens is a journey of its own
            to = np.full(len(opening), opened, np.int64)
            add(opening.who, to, opening.permission, opening.target, OPENS, looked_at, key)
            looked_at, to = np.full(len(holding), LOOK, np.int8), np.full(len(holding), opened, np.int64)
            login = np.full(len(holding), self.compiled.permission["host", "login"], np.int64)
            add(holding, to, login, holding, HOLDS, looked_at, key)
        self.edge_from, self.edge_to, self.edge_permission, self.edge_target, self.edge_sort = (
            np.concatenate([part[column] for part in parts]) for column in range(5)
        )
        self.edge_state: States = np.concatenate([part[5] for part in parts])
        self.edge_key: Ints = np.concatenate([part[6] for part in parts])
        session.lower(self.compiled, self.edge_permission, self.edge_state, ages=self.ages)
        self.forward = _Adjacency(self.edge_from, self.nodes)
        self.backward = _Adjacency(self.edge_to, self.nodes)

    def members_of(self, pool: int) -> list[int]:
        """The members of a pool, declared or to come, by its number."""
        names, first, end = self.compiled.places.names, self.compiled.first, self.compiled.end
        inside = np.flatnonzero((first > first[pool]) & (first < end[pool])) if pool != NONE else ()
        return [int(place) for place in inside if pool_of(names[int(place)])]

    def _members(self) -> tuple[Ints, Ints]:
        """Pairs of a pool and a member of it that runs as something, declared or to come."""
        index, names = self.compiled.places.index, self.compiled.places.names
        pairs = [
            (index[pool], place)
            for place, runs in self.compiled.runs_as.items()
            if runs and (pool := pool_of(names[place])) in index
        ]
        both = np.array(pairs, np.int64).reshape(-1, 2)
        return both[:, 0], both[:, 1]

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
        running[self._members()[0]] = True
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
        """Pairs of a node and the number of a trust that can admit it, the trust's conditions left aside."""
        issuers = {name: self.places + number for number, name in enumerate(self.issuers)}
        return admitted(self.compiled, self.now, issuers)

    def requirement(self, edge: int) -> Requirement | None:
        """What an edge takes as a hop; found out when it is first asked for."""
        if self.edge_sort[edge] == STANDS_FOR or (self.edge_state[edge] == YES and not self.ages):
            return ()
        when = self.keys.when(int(self.edge_key[edge]))
        if self.edge_sort[edge] == HOLDS:
            return when
        if self.edge_sort[edge] == OPENS:
            who, permission, target = self.edge_from[edge], self.edge_permission[edge], self.edge_target[edge]
            return joined((self.row_requirement(int(who), int(permission), int(target)), when))
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


class StoredKeys:
    """The keyed credentials that a web's estate says are kept at a place, and that open something at its instant."""

    def __init__(self, web: Web) -> None:
        self.web = web
        compiled = web.compiled
        at = datetime.fromtimestamp(web.now, UTC)
        estate = compiled.estate
        opening = {name: one for name, one in estate.credentials.items() if not why_shut(compiled, one, at)}
        kept = [one for one in opening.values() if one.held_at]
        behind = [one for one in estate.pipeline_access.values() if one.credential in opening and one.admits]
        self.credentials: list[Credential] = [*kept, *(opening[str(one.credential)] for one in behind)]
        self.access: list[PipelineAccess | None] = [*(None for _ in kept), *behind]  # of each, what keeps it for runs

    def each(self) -> Iterator[tuple[int, Rows, Ints]]:
        """Of each key the identity that it opens, who may directly do what shows it, and what holds it as it runs."""
        compiled, web = self.web.compiled, self.web
        shows = np.array(
            [
                its_class in (VerbClass.READ, VerbClass.RUN) or (kind, verb) in SHOWING_SETTINGS
                for (kind, verb), its_class in zip(compiled.permission_pairs, compiled.class_of, strict=True)
            ]
        )
        for credential, access in zip(self.credentials, self.access, strict=True):
            if access is not None:
                issuer = np.array([web.places + web.issuers.index(access.at)], np.int64)
                yield compiled.find(credential.of), NOTHING, issuer
                continue
            places = [place for place in credential.held_at if compiled.find(place) != NONE or web.targets_at(place)]
            found = [web.rows_at_or_in(place, shows) for place in places]
            rows = Rows(
                *(
                    np.concatenate([getattr(NOTHING, one), *(getattr(row, one) for row in found)])
                    for one in ("who", "permission", "target", "state")
                )
            )
            known = [compiled.find(place) for place in places if compiled.find(place) != NONE]
            runs = [member for place in known for member in (web.members_of(place) or (place,))]
            yield compiled.find(credential.of), rows, once(np.array(runs, np.int64))

    def when(self, number: int) -> Requirement:
        """The conditions on the use of a key, by its number; nothing for none."""
        if number == NONE:
            return ()
        conditions = (*self.shown(number), *self.credentials[number].when)
        return ((tuple((name, test, Want.HOLDS) for name, test in conditions),),) if conditions else ()

    def shown(self, number: int) -> Conditions:
        """What a run must show to use a key that a pipeline service keeps for it, as `claims.*`; else nothing."""
        access = self.access[number]
        admitted = runs_admitted(self.web.compiled.estate, access) if access is not None else ()
        return tuple((f"claims.{name}", test) for name, test in admitted)


NOTHING = Rows(np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0, np.int8))
SHOWING_SETTINGS = (("function", "describe"), ("workload", "list"))
"""The verbs that show the settings of what runs, with the keys that stand in them."""


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

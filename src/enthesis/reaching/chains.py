"""Chains through the web: where they can start, and which of them can really be walked, with values that do it.

A search carries what a chain takes (its requirement) along with the node it has come to, nearest first. A label is
dropped where another at the same node takes no more; a chain counts only while values are found for all that it takes.
"""

from collections import deque
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from enthesis.judging.compiling import NONE, Compiled
from enthesis.judging.facts import organisation_at
from enthesis.judging.keyless import runs_admitted
from enthesis.model.conditions import Conditions
from enthesis.model.estate import Issuer
from enthesis.reaching.free import ALWAYS, Alternative, Knowns, Requirement, Solver, joined
from enthesis.reaching.requests import Bound
from enthesis.reaching.web import LEADS_ON, Bools, Rows, Web
from enthesis.reading.sentences import verb_words
from enthesis.trusting.patterns import Undecided
from enthesis.trusting.truth import Value
from enthesis.trusting.values import Room, Want

MAX_LABELS = 50_000  # of one search
MAX_ORIGINS = 500  # possible origins of an identity whose origin is left open
ORIGIN_NAMES = ("kind", "issuer", "organisation", "address")


@dataclass(frozen=True, slots=True)
class Start:
    """Where a chain can start. `knowns` is what is known of it; `open` where its origin is left open.

    `person` is the number of the person behind it, NONE where there is none; `when` are the conditions of the
    credential, which every request of the chain must meet.
    """

    node: int
    form: str
    whom: str
    knowns: Knowns = field(default_factory=Knowns)
    open: bool = False
    person: int = NONE
    when: Conditions = ()

    @property
    def keyless(self) -> bool | None:
        """Whether it needs no stored key; None where the chain starts half-way."""
        if self.form in ("identity", "anyone"):
            return None
        return self.form not in ("credential", "lodged")


@dataclass(frozen=True, slots=True)
class Chain:
    """A chain that can be walked: its start, its edges in order, and values of what was left free."""

    start: Start
    edges: tuple[int, ...]
    values: Mapping[str, Value]
    conditional: bool
    end: tuple[int, int, int] | None = None  # who, permission, target of what is attempted last


@dataclass(frozen=True, slots=True)
class _Label:
    node: int
    passed: bool
    takes: Requirement
    before: "_Label | None"
    edge: int
    start: Start
    values: Mapping[str, Value]

    def edges(self) -> tuple[int, ...]:
        out: list[int] = []
        label: _Label | None = self
        while label is not None and label.before is not None:
            out.append(label.edge)
            label = label.before
        return tuple(reversed(out))


class Chains:
    """Searches chains in one web. `now` bounds the time from below where it is free (`when` None)."""

    def __init__(self, web: Web, when: Mapping[str, Value] | None = None, always: Alternative = ()) -> None:
        self.web = web
        self.compiled: Compiled = web.compiled
        self.when = dict(when or {})
        self.always = always
        self.solver = Solver()
        self._origins: list[dict[str, Value]] | None = None
        self.undecided = 0
        self._bound: dict[object, Requirement | None] = {}

    # -- starts ---------------------------------------------------------------------------------------------------

    def from_issuer(self, name: str, shown: Conditions = (), claims: Mapping[str, Value] | None = None) -> Start:
        """The bearers of what an issuer signs; `shown` are tests that their claims pass, `claims` what they show."""
        issuer = self.compiled.estate.issuers[name]
        number = self.web.places + self.web.issuers.index(name)
        form = self.web.node(number).form
        values = {**self.when, **_origin(form, issuer=name)}
        values |= {f"claims.{claim}": value for claim, value in (claims or {}).items()}
        limits = tuple((f"claims.{claim}", test, Want.HOLDS) for claim, test in shown)
        return Start(number, form, name, Knowns(values, (*self.always, *limits), _claim_rooms(issuer, form)))

    def from_place(self, number: int) -> Start:
        """A person, a resource, or an identity half-way, by its number."""
        node = self.web.node(number)
        knowns = Knowns(self.when, self.always)
        if node.form == "anyone":
            return Start(number, "anyone", node.name, knowns, open=True)
        if node.form == "resource":
            kind = self.compiled.kind_names[self.compiled.places.kind[number]]
            form = "workload" if kind == "workload" else "host"
            return Start(number, form, node.name, self._known(form, node.name))
        if self.compiled.is_person[number]:
            return Start(number, "person", node.name, self._known("person", node.name), person=number)
        return Start(number, "identity", node.name, knowns, open=True)

    def from_credential(self, name: str) -> Start | None:
        """A keyed credential that is known of; None where it opens nothing any more."""
        credential = self.compiled.estate.credentials[name]
        number = self.compiled.find(credential.of)
        lapsed = credential.expires is not None and credential.expires.timestamp() <= self.web.now
        if number == NONE or credential.disabled or lapsed:
            return None
        return Start(number, "credential", name, self._known("credential", credential.of), when=credential.when)

    def from_lodged(self, name: str) -> Start | None:
        """A way in that a pipeline service keeps, by a stored credential; None where there is no such way."""
        lodged = self.compiled.estate.lodged[name]
        start = self.from_credential(lodged.credential) if lodged.credential is not None else None
        if start is None or not lodged.admits:
            return None
        shown = runs_admitted(self.compiled.estate, lodged)
        limits = tuple((f"claims.{claim}", test, Want.HOLDS) for claim, test in shown)
        rooms = _claim_rooms(self.compiled.estate.issuers[lodged.at], "token")
        knowns = Knowns(start.knowns.values, (*start.knowns.limits, *limits), rooms)
        return replace(start, form="lodged", whom=name, knowns=knowns)

    @staticmethod
    def narrowed(start: Start, shown: Conditions) -> Start:
        """A start whose bearers' claims pass further tests."""
        limits = tuple((f"claims.{claim}", test, Want.HOLDS) for claim, test in shown)
        return replace(start, knowns=replace(start.knowns, limits=(*start.knowns.limits, *limits)))

    def _known(self, form: str, address: str) -> Knowns:
        organisation = organisation_at(self.compiled, address)
        values = {**self.when, **_origin(form, organisation=organisation, address=address)}
        if form != "person":
            values["mfa"] = None
        return Knowns(values, self.always)

    def origins(self) -> Iterator[Start]:
        """Every place where a whole chain can start: signed tokens, people, what runs as something, stored keys."""
        compiled = self.compiled
        for name in compiled.estate.issuers:
            yield self.from_issuer(name)
        for number in np.flatnonzero(compiled.is_person).tolist():
            yield self.from_place(number)
        for number, identities in compiled.runs_as.items():
            if identities:
                yield self.from_place(number)
        for name in compiled.estate.credentials:
            found = self.from_credential(name)
            if found is not None:
                yield found
        for name in compiled.estate.lodged:
            found = self.from_lodged(name)
            if found is not None:
                yield found

    # -- what holds together ----------------------------------------------------------------------------------------

    def values_for(self, takes: Requirement, start: Start) -> Mapping[str, Value] | None:
        """Values under which a chain from this start can be walked; None where there are none. Raises Undecided."""
        if not takes and not start.knowns.limits:
            return {}
        told = {name for clause in takes for alternative in clause for name, *_ in alternative}
        if not start.open or not any(name.startswith(("origin.", "mfa")) for name in told):
            values = self.solver.witness(takes, start.knowns)
            if values is not None and "time" not in told:
                values.pop("time", None)  # any time does
            return values
        for origin in self._possible_origins():
            knowns = Knowns({**start.knowns.values, **origin}, start.knowns.limits)
            found = self.solver.witness(takes, knowns)
            if found is not None:
                return {**found, **{name: value for name, value in origin.items() if value is not None}}
        return None

    def _possible_origins(self) -> list[dict[str, Value]]:
        """What the origin of a chain that is looked at half-way can be."""
        if self._origins is None:
            compiled = self.compiled
            absent = {f"origin.{name}": None for name in ORIGIN_NAMES}
            found: list[dict[str, Value]] = [dict(absent)]
            for number, _ in enumerate(self.web.issuers):
                node = self.web.node(self.web.places + number)
                found.append({"mfa": None, **_origin(node.form, issuer=node.name)})
            numbers = [*np.flatnonzero(compiled.is_person).tolist(), *compiled.runs_as]
            for number in numbers:
                start = self.from_place(number)
                found.append({name: value for name, value in start.knowns.values.items() if name not in self.when})
            for name in compiled.estate.credentials:
                keyed = self.from_credential(name)
                if keyed is not None:
                    found.append({n: v for n, v in keyed.knowns.values.items() if n not in self.when})
            self._origins = found
        if len(self._origins) > MAX_ORIGINS:
            raise Undecided(f"more than {MAX_ORIGINS} origins")
        return self._origins

    def takes(self, start: Start, who: int, permission: int, target: int, known: Requirement | None) -> (
        Requirement | None
    ):  # fmt: skip
        """What one request takes in a chain from this start; `known` is what it takes in any chain."""
        if known is None or not (start.when or start.person != NONE):
            return known
        key = (who, permission, target, start.when, start.person)
        if key not in self._bound:
            web, bound = self.web, Bound(start.when, start.person)
            self._bound[key] = web.requests.request(web.node(who), permission, web.goal(target), bound)
        return self._bound[key]

    # -- searching --------------------------------------------------------------------------------------------------

    def labels(
        self, starts: Iterable[Start], *, inside: Bools | None = None, passing: Bools | None = None, hops: int = 0
    ) -> "Iterator[_Label]":
        """Every node that a chain comes to, nearest first, with what it takes. Nodes not `inside` are left out.

        With `passing`, a label says whether its chain has come by one of those nodes.
        """
        kept: dict[tuple[int, bool, int], list[frozenset[object]]] = {}
        waiting: deque[tuple[_Label, int]] = deque()
        made = 0

        def keep(label: _Label, depth: int) -> bool:
            nonlocal made
            key = (label.node, label.passed, _kin(label.start))
            mine = frozenset(label.takes)
            known = kept.setdefault(key, [])
            if any(other <= mine for other in known):
                return False
            known.append(mine)
            made += 1
            waiting.append((label, depth))
            return True

        for start in starts:
            if inside is not None and not inside[start.node]:
                continue
            passed = passing is None or bool(passing[start.node])
            values = self._try(ALWAYS, start)
            if values is not None:
                keep(_Label(start.node, passed, ALWAYS, None, NONE, start, values), 0)
        while waiting:
            label, depth = waiting.popleft()
            yield label
            if hops and depth >= hops:
                continue
            if made > MAX_LABELS:
                raise Undecided(f"more than {MAX_LABELS} ways to come to a node")
            for edge in self.web.forward.edges(np.array([label.node])).tolist():
                node = int(self.web.edge_to[edge])
                if inside is not None and not inside[node]:
                    continue
                asked = (label.node, int(self.web.edge_permission[edge]), int(self.web.edge_target[edge]))
                takes = joined((label.takes, self.takes(label.start, *asked, self.web.requirement(edge))))
                values = self._try(takes, label.start, label)
                if takes is None or values is None:
                    continue
                passed = label.passed or (passing is not None and bool(passing[node]))
                keep(_Label(node, passed, takes, label, edge, label.start, values), depth + 1)

    def _try(
        self, takes: Requirement | None, start: Start, before: "_Label | None" = None
    ) -> Mapping[str, Value] | None:
        """Values for a requirement; None where there are none or where that is not decided, which is counted."""
        if takes is None:
            return None
        if before is not None and takes == before.takes:
            return before.values
        try:
            return self.values_for(takes, start)
        except Undecided:
            self.undecided += 1
            return None

    def ending(self, label: "_Label", row: tuple[int, int, int]) -> Chain | None:
        """The chain that a label and a direct request make together; None where they do not go together."""
        takes = joined((label.takes, self.takes(label.start, *row, self.web.row_requirement(*row))))
        values = self._try(takes, label.start, label)
        if values is None:
            return None
        return Chain(label.start, label.edges(), values, bool(takes), row)

    def first_to(
        self,
        starts: Sequence[Start],
        rows: Rows,
        *,
        passing: Bools | None = None,
        taken: Bools | None = None,
    ) -> Chain | None:
        """A shortest chain from one of the starts to one of the rows, or to taking on one of the identities `taken`.

        None where there is none. Raises Undecided where what was left open could have been one.
        """
        web, take_on = self.web, self.compiled.take_on
        onward = web.closure(start.node for start in starts).reached
        rows = rows.where(onward[rows.who])
        ends = list(zip(rows.who.tolist(), rows.permission.tolist(), rows.target.tolist(), strict=True))
        if taken is not None:
            edges = np.flatnonzero(taken[web.edge_to] & onward[web.edge_from] & (web.edge_permission == take_on))
            ends += [(int(web.edge_from[edge]), take_on, int(web.edge_to[edge])) for edge in edges.tolist()]
        by_node: dict[int, list[tuple[int, int, int]]] = {}
        for row in ends:
            by_node.setdefault(row[0], []).append(row)
        inside = web.closure(by_node, backward=True).reached & onward
        missed = self.undecided
        for label in self.labels(starts, inside=inside, passing=passing):
            for row in by_node.get(label.node, ()):
                comes_by = passing is not None and row[1] == take_on and bool(passing[row[2]])
                chain = self.ending(label, row) if label.passed or comes_by else None
                if chain is not None:
                    return chain
        if self.undecided > missed:
            raise Undecided("some chain was not decided")
        return None

    # -- in words ---------------------------------------------------------------------------------------------------

    def steps(self, chain: Chain) -> list[tuple[str, str, str]]:
        """The chain as (caller, verb, target), the attempt last."""
        web = self.web
        out = []
        for edge in chain.edges:
            _, verb = self.compiled.permission_pairs[int(web.edge_permission[edge])]
            who = web.node(int(web.edge_from[edge])).name
            to = web.target_name(int(web.edge_target[edge]))
            out.append((who, "take on" if web.edge_sort[edge] != LEADS_ON else verb, to))
        if chain.end is not None:
            who_number, permission, target = chain.end
            verb = self.compiled.permission_pairs[permission][1]
            out.append((web.node(who_number).name, verb_words(verb), web.target_name(target)))
        return out


def _kin(start: Start) -> int:
    """Labels of starts that know different things are never compared; those that know nothing are all alike."""
    if start.open:
        return NONE
    return hash((start.form, start.whom)) & 0x7FFFFFFF


def _origin(form: str, *, issuer: str | None = None, organisation: str | None = None, address: str | None = None) -> (
    dict[str, Value]
):  # fmt: skip
    return {
        "origin.kind": form, "origin.issuer": issuer, "origin.organisation": organisation, "origin.address": address,
    }  # fmt: skip


def _claim_rooms(issuer: Issuer, form: str) -> dict[str, Room]:
    """Which values the claims of an issuer can have; a claim that it never issues is always absent."""
    rooms: dict[str, Room] = _Rooms(issuer, form)
    return rooms


class _Rooms(dict[str, Room]):
    """Rooms by attribute for one issuer, made when asked for."""

    def __init__(self, issuer: Issuer, form: str) -> None:
        super().__init__()
        self.issuer = issuer
        self.form = form

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and name.startswith("claims.")

    def __getitem__(self, name: str) -> Room:
        claim = name.removeprefix("claims.")
        known = self.issuer.claims
        typical: tuple[Value, ...] = self.issuer.audiences if claim == "aud" else ()
        if self.form == "certificate":
            return Room(frozenset(["text"]), many=True, absent=False)
        if known is not None and claim not in known and claim != "aud":
            return Room(frozenset(), absent=True)
        many = claim == "aud" or (known or {}).get(claim) == "list"
        return Room(many=many, absent=claim != "aud", typical=typical)

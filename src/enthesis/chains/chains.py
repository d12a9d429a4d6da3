"""Chains through the web: where they can start, and which of them can really be walked, with values that do it.

A search carries what a chain takes (its requirement) along with the node it has reached, nearest first. A label is
dropped where another at the same node takes no more; a chain counts only while values are found for all that it takes.
"""

from collections import deque
from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta

import numpy as np

from enthesis.access.arrays import Bools
from enthesis.access.attributes import NEVER_SHOWN, claim_room, organisation_at, shown_in_journeys, vouching_for
from enthesis.access.compiling import NONE, Compiled
from enthesis.access.many import Rows
from enthesis.access.names.standing import why_shut
from enthesis.access.needed import Asking
from enthesis.access.requirements import (
    ALWAYS,
    BEFORE_KEY,
    KIND_OF,
    LABEL_OF,
    Alternative,
    Knowns,
    Literal,
    Requirement,
    Solver,
    attributes_of,
    called,
    holds_of,
    joined,
    resolved,
    without,
)
from enthesis.access.states import YES
from enthesis.chains.access_graph import LEADS_ON, OPENS, STANDS_FOR, Web
from enthesis.chains.ends import ends_by_caller, takings
from enthesis.conditions.sameness import names_in
from enthesis.conditions.truth import Value, passes
from enthesis.conditions.values import Room, Want
from enthesis.model.addresses import is_pool
from enthesis.model.conditions import After, AllOf, AnyOf, Before, Conditions, Equal, LongerThan, Not, Test
from enthesis.model.errors import Undecided
from enthesis.model.estate import Estate, Issuer
from enthesis.model.vocabulary import FORM_OF_ISSUER, Form, origin_form
from enthesis.verdicts.pipeline_access import runs_admitted

MAX_LABELS = 50_000  # of one search
NEW = timedelta(0)
NO_ORIGIN: Mapping[str, Value] = dict.fromkeys(
    ("origin.kind", "origin.issuer", "origin.organisation", "origin.address", "mfa")
)
JUST_OBTAINED: Requirement = (((("session.age", LongerThan(NEW), Want.FAILS),),),)
"""That the sessions of a chain are as new as can be."""
LASTING = (KIND_OF, LABEL_OF, "claims.", "mfa")  # how variables begin that stay the same for a whole chain
USE_KEY = "use-key"  # what a step is called that goes on by a stored key
CARRIED_ON = tuple(NO_ORIGIN)  # what a chain carries on from its origin


@dataclass(frozen=True, slots=True)
class ChainStart:
    """Where a chain can start. `knowns` is what is known of it.

    `person` is the number of the person behind it, NONE where there is none; `when` are the conditions of the
    credential, which the first request of the chain must meet.
    """

    node: int
    form: Form
    whom: str
    knowns: Knowns = field(default_factory=Knowns)
    person: int = NONE
    when: Conditions = ()
    to_come: bool = False  # whether it is a member that nobody declared yet

    @property
    def keyless(self) -> bool | None:
        """Whether it needs no stored key; None where the chain starts at an identity."""
        return None if self.form == Form.IDENTITY else self.form not in (Form.CREDENTIAL, Form.PIPELINE_ACCESS)


@dataclass(frozen=True, slots=True)
class Chain:
    """A chain that can be walked: its start, its edges in order, and values of what was left free."""

    start: ChainStart
    edges: tuple[int, ...]
    values: Mapping[str, Value]
    conditional: bool
    end: tuple[int, int, int] | None = None  # who, permission, target of what is attempted last
    by_key: bool = False  # whether it goes on by a stored key
    choices: Mapping[str, tuple[Value, ...]] = field(default_factory=dict)  # where several single values would do

    @property
    def keyless(self) -> bool | None:
        """Whether it needs no stored key, at its start or on its way; None where it starts at an identity."""
        return False if self.by_key else self.start.keyless


@dataclass(frozen=True, slots=True)
class Label:
    """A node that a chain has reached, with all that it takes. `known` is what it carries on besides the start's: where
    it went on as something else, what that is known by. `when` are the conditions of the credential that the next
    request shows."""

    node: int
    passed: bool
    takes: Requirement
    before: "Label | None"
    edge: int
    start: ChainStart
    values: Mapping[str, Value]
    person: int
    known: tuple[tuple[str, Value], ...] = ()
    when: Conditions = ()
    by_key: bool = False

    def edges(self) -> tuple[int, ...]:
        """The edges of the chain, in order."""
        out: list[int] = []
        label: Label | None = self
        while label is not None and label.before is not None:
            out.append(label.edge)
            label = label.before
        return tuple(reversed(out))


class Chains:
    """Searches chains in one web. `always` are literals that bound what is free, such as the time from below."""

    def __init__(self, web: Web, when: Mapping[str, Value] | None = None, always: Alternative = ()) -> None:
        self.web = web
        self.compiled: Compiled = web.compiled
        self.when = dict(when or {})
        self.always = always
        self.solver = Solver()
        self.undecided = 0  # chains that were past a bound
        self.why = ""  # the last such bound
        self._bound: dict[object, Requirement | None] = {}
        if web.missed:
            self.missed(Undecided(web.missed))

    @classmethod
    def from_now_on(cls, web: Web, when: Mapping[str, Value] | None = None) -> "Chains":
        """Chains with everything free but what is said: the time too, from the web's instant on."""
        begins = datetime.fromtimestamp(web.now, UTC)
        return cls(web, when, (("time", After(begins), Want.HOLDS),))

    def missed(self, bound: Undecided) -> None:
        """Counts a chain, or what is left of a search, that was not decided."""
        self.undecided += 1
        self.why = str(bound)

    # -- starts ---------------------------------------------------------------------------------------------------

    def from_issuer(self, name: str, shown: Conditions = (), claims: Mapping[str, Value] | None = None) -> ChainStart:
        """The bearers of what an issuer signs; `shown` are tests that their claims pass, `claims` what they show."""
        issuer = self.compiled.estate.issuers[name]
        number = self._number_of(name)
        form = FORM_OF_ISSUER[issuer.kind]
        values = {**self.when, **_origin(form, issuer=name), "mfa": None}
        values |= {f"claims.{claim}": value for claim, value in (claims or {}).items()}
        limits = tuple((f"claims.{claim}", test, Want.HOLDS) for claim, test in shown)
        return ChainStart(
            number, form, name, Knowns(values, (*self.always, *limits), _Rooms(self.compiled.estate, issuer))
        )

    def _number_of(self, issuer: str) -> int:
        return self.web.places + self.web.issuers.index(issuer)

    def from_place(self, number: int, issuer: str = "") -> ChainStart:
        """A person, a resource, or an identity itself, by its number; or one that a bearer of an issuer took on."""
        node = self.web.node(number)
        if node.form == "resource":
            kind = self.compiled.kind_names[self.compiled.places.kind[number]]
            form = origin_form(kind, person=False)
            return ChainStart(number, form, node.name, self._known(form, node.name), to_come=self._to_come(number))
        if self.compiled.is_person[number]:
            known = self._known(Form.PERSON, node.name)
            return ChainStart(number, Form.PERSON, node.name, known, person=number, to_come=self._to_come(number))
        origin = NO_ORIGIN
        if issuer:
            origin = {**NO_ORIGIN, **_origin(FORM_OF_ISSUER[self.compiled.estate.issuers[issuer].kind], issuer=issuer)}
        knowns = Knowns({**self.when, **origin}, self.always)
        return ChainStart(number, Form.IDENTITY, node.name, knowns, to_come=self._to_come(number))

    def _to_come(self, number: int) -> bool:
        return bool(self.web.is_to_come[number])

    def from_credential(self, name: str) -> ChainStart | None:
        """A keyed credential that is known of; None where it opens nothing any more."""
        credential = self.compiled.estate.credentials[name]
        number = self.compiled.find(credential.of)
        expires = credential.expires
        if why_shut(self.compiled, credential, datetime.fromtimestamp(self.web.now, UTC)):
            return None
        knowns = self._known(Form.CREDENTIAL, credential.of)
        if expires is not None:
            knowns = replace(knowns, limits=(*knowns.limits, ("time", Before(expires), Want.HOLDS)))
        person = number if self.compiled.is_person[number] else NONE
        return ChainStart(number, Form.CREDENTIAL, name, knowns, person=person, when=credential.when)

    def from_pipeline_access(self, name: str) -> ChainStart | None:
        """A way in that a pipeline service keeps, by a stored credential; None where there is no such way."""
        access = self.compiled.estate.pipeline_access[name]
        start = self.from_credential(access.credential) if access.credential is not None else None
        if start is None or not access.admits:
            return None
        shown = runs_admitted(self.compiled.estate, access)
        limits = tuple((f"claims.{claim}", test, Want.HOLDS) for claim, test in shown)
        rooms = _Rooms(self.compiled.estate, self.compiled.estate.issuers[access.at])
        knowns = Knowns(start.knowns.values, (*start.knowns.limits, *limits), rooms)
        return replace(start, form=Form.PIPELINE_ACCESS, whom=name, knowns=knowns)

    @staticmethod
    def narrowed(start: ChainStart, shown: Conditions) -> ChainStart:
        """A start whose bearers' claims pass further tests."""
        limits = tuple((f"claims.{claim}", test, Want.HOLDS) for claim, test in shown)
        return replace(start, knowns=replace(start.knowns, limits=(*start.knowns.limits, *limits)))

    def _known(self, form: Form, address: str) -> Knowns:
        organisation = organisation_at(self.compiled, address)
        issuer = vouching_for(self.compiled, form, address)
        values = {**self.when, **_origin(form, issuer=issuer, organisation=organisation, address=address)}
        if form != Form.PERSON:
            values["mfa"] = None
        return Knowns(values, self.always)

    def origins(self) -> Iterator[ChainStart]:
        """Every place where a whole chain can start: signed tokens, people, what runs as something, stored keys."""
        compiled = self.compiled
        for name in compiled.estate.issuers:
            yield self.from_issuer(name)
        for number in np.flatnonzero(compiled.is_person).tolist():
            yield self.from_place(number)
        names = compiled.places.names
        for number, identities in compiled.runs_as.items():
            if identities and not compiled.is_identity[number] and not is_pool(names[number]):
                yield self.from_place(number)
        yield from self.from_credentials()

    def from_credentials(self) -> Iterator[ChainStart]:
        """Every keyed credential that opens something, and every way in by one that a pipeline service keeps."""
        estate = self.compiled.estate
        for found in (
            *map(self.from_credential, estate.credentials),
            *map(self.from_pipeline_access, estate.pipeline_access),
        ):
            if found is not None:
                yield found

    # -- what holds together ----------------------------------------------------------------------------------------

    def values_for(self, takes: Requirement, start: ChainStart) -> Mapping[str, Value] | None:
        """Values under which a chain from this start can be walked; None where there are none. Raises Undecided.

        The time is told only where it cannot be now, nor any time.
        """
        if not takes and start.knowns.limits in ((), self.always):
            return {}
        told = attributes_of(takes)
        times = {name for name in told - set(start.knowns.values) if name.partition(BEFORE_KEY)[0] == "time"}
        if times:
            at_once = {**start.knowns.values, **dict.fromkeys(times, datetime.fromtimestamp(self.web.now, UTC))}
            try:
                values = self.solver.witness(takes, replace(start.knowns, values=at_once))
            except Undecided:
                values = None
            if values is not None:
                return self._worth_telling(values, told)
        values = self.solver.witness(takes, start.knowns)
        return self._worth_telling(values, told) if values is not None else None

    @staticmethod
    def _worth_telling(values: dict[str, Value], told: Set[str]) -> dict[str, Value]:
        """The values without a time where any does, and without an age where that is of sessions just obtained."""
        if "time" not in told:
            values.pop("time", None)
        return {
            name: value
            for name, value in values.items()
            if name.partition(BEFORE_KEY)[0] != "session.age" or value != NEW
        }

    def takes(self, label: Label, row: tuple[int, int, int], *, hop: bool) -> Requirement | None:
        """What one further request takes of a chain, with what it carries on put in; None where it is never allowed."""
        web = self.web
        when = label.when
        if when or label.person != NONE:
            key = (*row, hop, when, label.person)
            if key not in self._bound:
                who, permission, target = row
                asking = Asking(hop, when, label.person)
                self._bound[key] = web.requests.request(web.node(who), permission, web.goal(target), asking)
            found = self._bound[key]
        else:
            found = web.row_requirement(*row, hop=hop)
        return resolved(found, dict(label.known)) if found and label.known else found

    # -- searching --------------------------------------------------------------------------------------------------

    def labels(
        self, starts: Iterable[ChainStart], *, inside: Bools | None = None, passing: Bools | None = None, hops: int = 0
    ) -> Iterator[Label]:
        """Every node that a chain reaches, nearest first, with what it takes. Nodes not `inside` are left out.

        With `passing`, a label says whether its chain has come by one of those nodes.
        """
        kept: dict[object, list[frozenset[object]]] = {}
        waiting: deque[tuple[Label, int]] = deque()
        made = 0

        def keep(label: Label, depth: int) -> bool:
            nonlocal made
            key = (
                label.node, label.passed, _kin(label.start), label.person, label.known, label.when, label.by_key
            )  # fmt: skip
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
                keep(Label(start.node, passed, ALWAYS, None, NONE, start, values, start.person, when=start.when), 0)
        while waiting:
            label, depth = waiting.popleft()
            yield label
            if hops and depth >= hops:
                continue
            if made > MAX_LABELS:
                raise Undecided(f"more than {MAX_LABELS} ways to reach a node")
            for edge in self.web.forward.edges(np.array([label.node])).tolist():
                node = int(self.web.edge_to[edge])
                if inside is not None and not inside[node]:
                    continue
                further = self._further(label, edge, passed=passing is not None and bool(passing[node]))
                if further is not None:
                    keep(further, depth + 1)

    def _further(self, label: Label, edge: int, *, passed: bool) -> Label | None:
        """The chain with one more edge; None where it cannot be walked."""
        web = self.web
        if web.edge_key[edge] != NONE:
            return self._by_key(label, edge, passed=passed)
        row = (label.node, int(web.edge_permission[edge]), int(web.edge_target[edge]))
        nothing_more = web.edge_state[edge] == YES and not web.ages and self._plain(label)
        stands_for = web.edge_sort[edge] == STANDS_FOR
        asked = () if nothing_more or stands_for else self.takes(label, row, hop=True)
        takes = joined((label.takes, asked))
        values = self._try(takes, label.start, label)
        if takes is None or values is None:
            return None
        node, person, known = int(web.edge_to[edge]), label.person, label.known
        if web.edge_sort[edge] == LEADS_ON:
            takes = without(takes, lambda name: name == "session.age")  # the next session is not a child of these
            if not self._carries_on(edge):
                start = self.from_place(node)
                person, known = NONE, tuple((name, start.knowns.values.get(name)) for name in CARRIED_ON)
        when = label.when if web.edge_sort[edge] == STANDS_FOR else ()
        passed |= label.passed
        return Label(node, passed, takes, label, edge, label.start, values, person, known, when, label.by_key)

    def _by_key(self, label: Label, edge: int, *, passed: bool) -> Label | None:
        """The chain with a key that is stored where it has come: a second journey, not earlier than the first.

        What the first one takes is about other attributes from here on, but for the time.
        """
        web, start = self.web, label.start
        credential = web.keys.credentials[int(web.edge_key[edge])]
        row = (label.node, int(web.edge_permission[edge]), int(web.edge_target[edge]))
        asked = self.takes(label, row, hop=False) if web.edge_sort[edge] == OPENS else ALWAYS
        shown = tuple((name, test, Want.HOLDS) for name, test in web.keys.shown(int(web.edge_key[edge])))
        takes = joined((label.takes, asked, ((shown,),) if shown else ALWAYS))
        if takes is not None and web.ages and label.edge != NONE and web.edge_sort[label.edge] == LEADS_ON:
            takes = joined((takes, JUST_OBTAINED))  # the first journey ends with running code, as soon as it can
        if takes is None or self._try(takes, start, label) is None:
            return None
        limits: Requirement = tuple(((limit,),) for limit in start.knowns.limits)
        first = resolved((*limits, *takes), start.knowns.values)
        if first is None:
            return None
        mark = f"{BEFORE_KEY}{credential.name}"
        first = called(first, lambda name: name if BEFORE_KEY in name or name.startswith(LASTING) else name + mark)
        try:
            at = self._earliest(takes, start)
        except Undecided as bound:
            self.missed(bound)
            return None
        ends: list[Literal] = [("time", Before(credential.expires), Want.HOLDS)] if credential.expires else []
        if at is not None:
            ends.append(("time", After(at), Want.HOLDS))
            just_then = (After(at), Before(at + timedelta(seconds=1)))
            first = (*first, (tuple((f"time{mark}", test, Want.HOLDS) for test in just_then),))
        takes = joined((first, ((tuple(ends),),) if ends else ALWAYS))
        values = self._try(takes, start)
        if takes is None or values is None:
            return None
        node = int(web.edge_to[edge])
        knowns = self._known(Form.CREDENTIAL, credential.of)
        known = tuple((name, knowns.values.get(name)) for name in CARRIED_ON)
        person = node if self.compiled.is_person[node] else NONE
        return Label(
            node, label.passed or passed, takes, label, edge, start, values, person, known, credential.when, True
        )

    def _earliest(self, takes: Requirement, start: ChainStart) -> datetime | None:
        """The first time at which a chain can be walked so far; None where that is now, or where the time is known.
        Raises Undecided.

        The times at which it can are cut at times that some statement names, so that no others are asked about.
        """
        now = datetime.fromtimestamp(self.web.now, UTC)
        asked = {test for clause in takes for pair in clause for name, test, _ in pair if name == "time"}
        if "time" in start.knowns.values or not asked:
            return None
        for at in sorted({now, *(one for test in asked for one in times_in(test) if one > now)}):
            known = replace(start.knowns, values={**start.knowns.values, "time": at})
            if self.solver.witness(takes, known) is not None:
                return at if at > now else None
        return None

    @staticmethod
    def _plain(label: Label) -> bool:
        return label.person == NONE and not label.when

    def _carries_on(self, edge: int) -> bool:
        """Whether an edge that leads on is a hop `{on: …}`, which carries the origin on. By any other verb code comes
        to run elsewhere, and starts from there."""
        kind, verb = self.compiled.permission_pairs[int(self.web.edge_permission[edge])]
        return self.compiled.catalogue.running_verb(kind) == verb

    def _try(
        self, takes: Requirement | None, start: ChainStart, before: Label | None = None
    ) -> Mapping[str, Value] | None:
        """Values for a requirement; None where there are none or where that is not decided, which is counted."""
        if takes is None:
            return None
        if before is not None and takes == before.takes:
            return before.values
        try:
            return self.values_for(takes, start)
        except Undecided as bound:
            self.missed(bound)
            return None

    def ending(self, label: Label, row: tuple[int, int, int], way: Requirement = ALWAYS) -> Chain | None:
        """The chain that a label and a direct request make together; None where they do not go together. `way` is taken
        besides: one of the ways to meet what they take."""
        takes = self.ending_takes(label, row)
        values = self._try(joined((takes, way)), label.start, label)
        if values is None or takes is None:
            return None
        return self._told(label, row, takes, values)

    def _told(self, label: Label, row: tuple[int, int, int], takes: Requirement, values: Mapping[str, Value]) -> Chain:
        """A chain as it is told: with no value that could be left out, and with the single values that would do too."""
        start = label.start
        needed = self._needed(takes, start, values)
        whole = {**start.knowns.values, **needed}
        choices = {name: one for name in needed if len(one := _choices(takes, name, whole)) > 1}
        return Chain(start, label.edges(), needed, bool(takes), row, label.by_key, choices)

    def _needed(self, takes: Requirement, start: ChainStart, values: Mapping[str, Value]) -> dict[str, Value]:
        """The values without those that could be left out: a time is then now, an age none, anything else absent."""
        now = datetime.fromtimestamp(self.web.now, UTC)
        left_out = {
            name: now if name.partition(BEFORE_KEY)[0] == "time" else NEW if "session.age" in name else None
            for name in {*values, *attributes_of(takes)}
        }
        out = dict(values)
        for name in sorted(values):
            whole = {**left_out, **start.knowns.values, **{one: out[one] for one in out if one != name}}
            bound = all(
                want.met(passes(test, whole.get(one), whole.get))
                for one, test, want in start.knowns.limits
                if one == name or name in names_in(test)
            )
            if bound and holds_of(takes, whole):
                del out[name]
        return out

    def ending_takes(self, label: Label, row: tuple[int, int, int]) -> Requirement | None:
        """What a label and a direct request take together; None where they do not go together."""
        return joined((label.takes, self.takes(label, row, hop=False)))

    def first_to(
        self,
        starts: Sequence[ChainStart],
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
        edges = takings(web, taken) if taken is not None else np.zeros(0, np.int64)
        by_node = ends_by_caller(web, rows, edges[onward[web.edge_from[edges]]])
        inside = web.closure(by_node, backward=True).reached & onward
        missed = self.undecided
        for label in self.labels(starts, inside=inside, passing=passing):
            for row in by_node.get(label.node, ()):
                comes_by = passing is not None and row[1] == take_on and bool(passing[row[2]])
                chain = self.ending(label, row) if label.passed or comes_by else None
                if chain is not None:
                    return chain
        if self.undecided > missed:
            raise Undecided(self.why)
        return None

    # -- in words ---------------------------------------------------------------------------------------------------

    def steps(self, chain: Chain) -> list[tuple[str, str, str]]:
        """The chain as (caller, verb, target), the attempt last."""
        web = self.web
        out = []
        for edge in chain.edges:
            if web.edge_sort[edge] == STANDS_FOR:
                continue
            _, verb = self.compiled.permission_pairs[int(web.edge_permission[edge])]
            who = web.node(int(web.edge_from[edge])).name
            to = web.target_name(int(web.edge_target[edge]))
            if web.edge_key[edge] != NONE:
                out += [(who, verb, to)] if web.edge_sort[edge] == OPENS else []
                out.append((who, USE_KEY, web.keys.credentials[int(web.edge_key[edge])].name))
                continue
            out.append((who, "take-on" if web.edge_sort[edge] != LEADS_ON else verb, to))
        if chain.end is not None:
            who_number, permission, target = chain.end
            verb = self.compiled.permission_pairs[permission][1]
            out.append((web.node(who_number).name, verb, web.target_name(target)))
        return out


def _choices(takes: Requirement, name: str, values: Mapping[str, Value]) -> tuple[Value, ...]:
    """The single values that an attribute could have as well, with all others as they are, where tests list them."""
    listed: dict[Value, None] = {}
    for clause in takes:
        for alternative in clause:
            for one, test, want in alternative:
                if one == name and want is Want.HOLDS and isinstance(test, Equal | AnyOf):
                    tests = test.tests if isinstance(test, AnyOf) else (test,)
                    listed.update((single.value, None) for single in tests if isinstance(single, Equal))
    return tuple(one for one in listed if holds_of(takes, {**values, name: one}))


def times_in(test: Test) -> Iterator[datetime]:
    """The times that a test names."""
    if isinstance(test, Before | After):
        yield test.time
    elif isinstance(test, Not):
        yield from times_in(test.test)
    elif isinstance(test, AnyOf | AllOf):
        for one in test.tests:
            yield from times_in(one)
    elif isinstance(test, Equal) and isinstance(test.value, datetime):
        yield test.value


def _kin(start: ChainStart) -> object:
    """Labels of starts that know different things are never compared; identities know nothing, and are all alike."""
    return "" if start.form == Form.IDENTITY else (start.form, start.whom, start.knowns.limits)


def _origin(form: Form, *, issuer: str | None = None, organisation: str | None = None, address: str | None = None) -> (
    dict[str, Value]
):  # fmt: skip
    return {
        "origin.kind": str(form), "origin.issuer": issuer,
        "origin.organisation": organisation, "origin.address": address,
    }  # fmt: skip


class _Rooms(dict[str, Room]):
    """Rooms by attribute for one issuer, made when asked for; values that journeys show come first."""

    def __init__(self, estate: Estate, issuer: Issuer) -> None:
        super().__init__()
        self.issuer = issuer
        self.shown = shown_in_journeys(estate, issuer.name)

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and name.startswith("claims.")

    def __getitem__(self, name: str) -> Room:
        claim = name.removeprefix("claims.")
        room = claim_room(self.issuer, claim)
        typical = self.shown.get(claim, ())
        return replace(room, typical=(*typical, *room.typical)) if typical and room is not NEVER_SHOWN else room

"""Invariants: claims about every chain at once. Each holds, is broken (with a shortest chain), or is not decided.

Exact: the web says which chains could be; a claim that none could break holds at once. Those that could are walked
nearest first, with values for everything that was left free, until one can be walked or none is left.
"""

from collections.abc import Iterable, Iterator, Sequence, Set
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from itertools import product

import numpy as np

from enthesis.access.arrays import Bools, once
from enthesis.access.compiling import NONE
from enthesis.access.many import Rows
from enthesis.access.requirements import Alternative
from enthesis.access.states import YES
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chain, Chains, ChainStart
from enthesis.chains.ends import ends_at, wanted_permissions
from enthesis.chains.shared_logins import SharedLogin, shared_logins_at
from enthesis.conditions.patterns import matcher
from enthesis.conditions.values import Want
from enthesis.model.addresses import is_pool
from enthesis.model.conditions import Conditions, Glob
from enthesis.model.errors import Undecided
from enthesis.model.estate import Accepted, Claimed, Invariant
from enthesis.model.vocabulary import BEARERS, Form, Holding


@dataclass(frozen=True, slots=True)
class Decided:
    """What came of one invariant; `chain` is a shortest one that breaks it. `why` says what was not decided, or what
    breaks it where no chain does."""

    invariant: Invariant
    outcome: Holding
    chain: Chain | None = None
    why: str = ""
    accepted: Accepted | None = None
    shared_at: str = ""  # what has the login that people share, where that breaks it

    @property
    def broken_by(self) -> str:
        """Who breaks it, or what has the login that does; '' where nobody does."""
        return self.chain.start.whom if self.chain is not None else self.shared_at


def decide(chains: Chains, invariant: Invariant) -> Decided:
    """Whether an invariant holds; ACCEPTED where none break it but callers whom the estate accepts at the web's
    instant."""
    found = _decided(chains, invariant, frozenset())
    if found.outcome != Holding.BROKEN:
        return found
    at = datetime.fromtimestamp(chains.web.now, UTC)
    accepted = {
        one.by: one for one in chains.compiled.estate.accepted if one.invariant == invariant.name and one.in_force(at)
    }
    if found.broken_by not in accepted:
        return found
    others = _decided(chains, invariant, frozenset(accepted))
    by = accepted[found.broken_by]
    return replace(found, outcome=Holding.ACCEPTED, accepted=by) if others.outcome == Holding.HOLDS else others


def _decided(chains: Chains, invariant: Invariant, but: Set[str]) -> Decided:
    """Whether an invariant holds of every caller but these."""
    missed = chains.undecided
    claimed = invariant.claimed
    try:
        chain = _never(chains, claimed, but) if invariant.form == "never" else _only(chains, claimed, but)
    except Undecided as fault:
        return Decided(invariant, Holding.UNDECIDED, why=str(fault))
    if chain is not None:
        return Decided(invariant, Holding.BROKEN, chain)
    shared = [one for one in _by_shared_logins(chains, invariant) if one.address not in but]
    if shared:
        said = "; ".join(f"{one.says} ({one.source})" for one in shared)
        return Decided(invariant, Holding.BROKEN, why=said, shared_at=shared[0].address)
    if chains.web.missed:
        return Decided(invariant, Holding.UNDECIDED, why=chains.web.missed)
    if chains.undecided > missed:
        return Decided(
            invariant, Holding.UNDECIDED, why=f"{chains.undecided - missed} chains were past the bound on work"
        )
    return Decided(invariant, Holding.HOLDS)


def _by_shared_logins(chains: Chains, invariant: Invariant) -> list[SharedLogin]:
    """The logins that people share which break a claim about everybody. Nobody knows who uses one, so a claim about
    some callers says nothing of it."""
    claimed = invariant.claimed
    if invariant.form == "never" and (claimed.start is not None or claimed.by):
        return []
    return shared_logins_at(chains.compiled, claimed.at, wanted_permissions(chains.compiled, claimed.can, claimed.on))


def _never(chains: Chains, claimed: Claimed, but: Set[str]) -> Chain | None:
    """A shortest chain that starts so, comes by there, and ends so."""
    web = chains.web
    rows, taken = ends_at(web, claimed.at, wanted_permissions(web.compiled, claimed.can, claimed.on))
    reaching = _can_come(web, rows, taken)
    by = _matching(web, claimed.by) if claimed.by else None
    starts = _starts(chains, claimed) if claimed.start is not None else _anybody(chains, reaching)
    return _first(chains, [one for one in starts if one.whom not in but], rows, taken, reaching, passing=by)


def _only(chains: Chains, claimed: Claimed, but: Set[str]) -> Chain | None:
    """A shortest chain in which another caller, an identity or a person, ends so: directly, or by taking on and being
    led on."""
    web = chains.web
    rows, taken = ends_at(web, claimed.at, wanted_permissions(web.compiled, claimed.can, claimed.on))
    reaching = _can_come(web, rows, taken)
    others = _others(web, claimed.by)
    plain = np.flatnonzero((rows.state == YES) & (others & ~web.is_to_come)[rows.who])
    if len(plain):  # another caller may directly, whatever else holds
        end = (int(rows.who[plain[0]]), int(rows.permission[plain[0]]), int(rows.target[plain[0]]))
        start = chains.from_place(end[0])
        if start.person == NONE and start.whom not in but:
            return Chain(start, (), {}, False, end)
    anybody = (start for start in _anybody(chains, reaching) if start.whom not in but)
    starts = [one for start in anybody for one in _not_among(chains, start, claimed.by)]
    return _first(chains, starts, rows, taken, reaching, passing=others)


def _somebody(web: Web) -> Bools:
    """Identities and people."""
    out = np.zeros(web.nodes, bool)
    out[: web.places] = web.compiled.is_identity
    return out


def _others(web: Web, by: Sequence[str | Glob]) -> Bools:
    """Identities and people that are not named; a member to come of a group that is may be, or may not."""
    groups = [
        number for name in by if isinstance(name, str) and (number := web.compiled.find(name)) in web.compiled.members
    ]
    named = _matching(web, [name for name in by if isinstance(name, Glob) or web.compiled.find(name) not in groups])
    for group in groups:
        members = web.compiled.members[group]
        named[members[~web.is_to_come[members]]] = True
    return _somebody(web) & ~named


def _not_among(chains: Chains, start: ChainStart, by: Sequence[str | Glob]) -> Iterator[ChainStart]:
    """The start itself; of a member to come what it may be like without being in the groups that are named."""
    web, compiled = chains.web, chains.compiled
    if start.node >= web.places or not web.is_to_come[start.node]:
        yield start
        return
    ways: list[Alternative] = []
    for name in by:
        group = compiled.find(name) if isinstance(name, str) else NONE
        if group in web.compiled.members and start.node in compiled.members[group].tolist():
            ways += web.requests.joining(web.node(start.node), group)
    for denials in product(*ways):  # one literal of each way of being in them is not so; none where one takes nothing
        limits = tuple((name, test, Want.NOT_HELD) for name, test, _ in denials)
        yield replace(start, knowns=replace(start.knowns, limits=(*start.knowns.limits, *limits)))


def _can_come(web: Web, rows: Rows, taken: Bools) -> Bools:
    """The nodes from which some end could be reached."""
    takers = web.edge_from[taken[web.edge_to] & (web.edge_permission == web.compiled.take_on)]
    return web.closure([*once(rows.who).tolist(), *once(takers).tolist()], backward=True).reached


def _first(
    chains: Chains,
    starts: Sequence[ChainStart],
    rows: Rows,
    taken: Bools,
    reaching: Bools,
    *,
    passing: Bools | None = None,
) -> Chain | None:
    near = [start for start in starts if reaching[start.node]]
    if not near:
        return None
    return chains.first_to(near, rows, passing=passing, taken=taken)


def _starts(chains: Chains, claimed: Claimed) -> Iterable[ChainStart]:
    """The starts that an invariant's `from` refers to."""
    start, estate = claimed.start, chains.compiled.estate
    if start is None:
        return
    if start.form in BEARERS:
        yield from _bearers(chains, start.form, _named(start.whom, estate.issuers), start.conditions)
    elif start.form == Form.CREDENTIAL:
        keyed = (chains.from_credential(name) for name in _named(start.whom, estate.credentials))
        yield from (start for start in keyed if start is not None)
    else:
        person = start.form == Form.PERSON
        resource = start.form in (Form.HOST, Form.WORKLOAD)
        for number in np.flatnonzero(_matching(chains.web, start.whom)).tolist():
            found = chains.from_place(number)
            if (found.form == "person") == person and (found.form in ("host", "workload")) == resource:
                yield found


def _bearers(chains: Chains, form: str, names: Sequence[str], shown: Conditions) -> Iterable[ChainStart]:
    """Bearers of what these issuers sign, and of what they keep for such bearers."""
    web, estate = chains.web, chains.compiled.estate
    for name in names:
        if web.node(web.places + web.issuers.index(name)).form == form:
            yield chains.from_issuer(name, shown)
    for access in estate.pipeline_access.values():
        found = chains.from_pipeline_access(access.name) if form == "token" and access.at in names else None
        if found is not None:
            yield chains.narrowed(found, shown)


def _named(whom: Sequence[str | Glob], known: Iterable[str]) -> list[str]:
    plain = {name for name in whom if isinstance(name, str)}
    patterns = [matcher(glob.pattern) for glob in whom if isinstance(glob, Glob)]
    return [name for name in known if name in plain or any(matches(name) for matches in patterns)]


def _matching(web: Web, whom: Sequence[str | Glob]) -> Bools:
    """The nodes that addresses and patterns name: identities, people, resources; a group stands for its members, and so
    does a pool."""
    compiled = web.compiled
    out = np.zeros(web.nodes, bool)
    for glob in whom:
        if isinstance(glob, Glob):
            matches = matcher(glob.pattern)
            for name, number in compiled.places.index.items():
                if matches(name):
                    out[web.members_of(number) if is_pool(name) else number] = True
        else:
            number = compiled.find(glob)
            if number in compiled.members:
                out[compiled.members[number]] = True
            elif is_pool(glob):
                out[web.members_of(number)] = True
            elif number != NONE:
                out[number] = True
    return out


def _anybody(chains: Chains, reaching: Bools) -> Iterable[ChainStart]:
    """Every origin, and every identity itself, from which something is reached."""
    yield from (start for start in chains.origins() if reaching[start.node])
    workloads = _somebody(chains.web) & reaching
    workloads[: chains.web.places] &= ~chains.compiled.is_person
    for number in np.flatnonzero(workloads).tolist():
        yield chains.from_place(number)


def claimed_starts(chains: Chains, claimed: Claimed, *, never: bool) -> Iterable[tuple[ChainStart, Bools | None]]:
    """Where chains that could break a claim start, and what they must come by, whatever they can reach."""
    web = chains.web
    everywhere = np.ones(web.nodes, bool)
    if not never:
        others = _others(web, claimed.by)
        for start in _anybody(chains, everywhere):
            yield from ((one, others) for one in _not_among(chains, start, claimed.by))
        return
    by = _matching(web, claimed.by) if claimed.by else None
    starts = _starts(chains, claimed) if claimed.start is not None else _anybody(chains, everywhere)
    yield from ((start, by) for start in starts)

"""What is said of everything at once, held against single verdicts on one random world after another.

Two properties. Every chain that is told (by reach, a broken invariant, a gain or a loss) can be walked as journeys that
are allowed, with the very values that are told. And no journey that is allowed contradicts an invariant that holds, is
missing from what is reached, or, if the other version refuses it, from the gains. The naive evaluator is the judge.
"""

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import replace
from datetime import timedelta
from itertools import product
from random import Random
from typing import Any

import numpy as np

from enthesis.access.compiling import compile_estate
from enthesis.access.requirements import KIND_OF
from enthesis.chains import differences as differing
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chain, Chains
from enthesis.chains.differences import Gain, web_difference, webs_of
from enthesis.chains.invariants import decide
from enthesis.chains.reach import reachable, reaching
from enthesis.model.estate import IDENTITY_KINDS, Claimed, Estate, Invariant, Journey, Start
from enthesis.model.vocabulary import Form, Holding

from .naive import Naive
from .test_judging import random_estate
from .walking import (
    NOW,
    Grid,
    allowed,
    altered,
    is_to_come,
    journeys_of,
    replayed,
    some_way,
    version_that_refuses,
    walks,
)

Told = set[tuple[Form, str, str, str]]
"""Gains or losses: the form of the caller, who it is, the verb and the target."""
AT_ONCE = Grid(times=(NOW,))


class Breach(AssertionError):
    """The two opinions differ; says in which world, and over what."""


def check_world(seed: int) -> Counter[str]:
    """Holds one world against the naive evaluator; what was looked at. Breach where the opinions differ."""
    rng = Random(seed)
    estate = random_estate(seed, journeys=8)
    counted: Counter[str] = Counter()
    try:
        _reach(estate, rng, counted)
        found = list(walks(estate, rng, 6))
        _invariants(estate, found, rng, counted)
        _differences(altered(estate, rng), estate, rng, counted)
        for journey in rng.sample(found, min(1, len(found))):
            other = version_that_refuses(estate, journey, rng)
            if other is not None:
                gains, _ = _differences(other, estate, rng, counted)
                _told(journey, estate, other, gains, counted)
    except AssertionError as fault:
        raise Breach(f"world {seed}: {fault}") from fault
    return counted


# -- reach ----------------------------------------------------------------------------------------------------------


def _reach(estate: Estate, rng: Random, counted: Counter[str]) -> None:
    web = Web(compile_estate(estate), NOW.timestamp())
    compiled = web.compiled
    chains = Chains(web, {"time": NOW})
    everything = np.ones(len(compiled.permission_pairs), bool)
    identities = [n for n in compiled.identity_places.tolist() if not compiled.is_person[n]]
    starts = {(one.form, one.whom): one for one in (*chains.origins(), *map(chains.from_place, identities))}
    journeys = list(walks(estate, rng, 10, AT_ONCE))
    asked = {(journey.origin.form, journey.origin.whom) for journey in journeys[:8]}
    told: dict[tuple[str, str], set[tuple[str, str]]] = {}
    for key in sorted(asked | set(rng.sample(sorted(starts), 6))):
        assert key in starts, f"nothing starts so: {key}"
        found = reachable(chains, [starts[key]], everything)
        told[key] = {(one.target, one.verb) for one in found}
        for one in rng.sample(found, min(4, len(found))):
            _walked(chains, one.chain, counted, "reach --from")
            _needs_all(chains, one.chain)
    for journey in journeys[:8]:
        assert _named(web, journey) & told[journey.origin.form, journey.origin.whom], f"not reached: {journey}"
        counted["journeys found by reach --from"] += 1
    for journey in rng.sample(journeys, min(1, len(journeys))):
        assert journey.attempt is not None
        coming = reaching(chains, journey.attempt.target, everything)
        comers = {(one.chain.start.form, one.chain.start.whom, one.verb) for one in coming}
        verb = journey.attempt.verb
        assert (journey.origin.form, journey.origin.whom, verb) in comers, f"not among who reaches it: {journey}"
        counted["journeys found by reach --to"] += 1
        for one in rng.sample(coming, min(4, len(coming))):
            _walked(chains, one.chain, counted, "reach --to")
            _needs_all(chains, one.chain)
    assert not chains.undecided


def _named(web: Web, journey: Journey) -> set[tuple[str, str]]:
    """What a journey attempts, in the words of what is told."""
    assert journey.attempt is not None
    verb = journey.attempt.verb
    return {(web.target_name(target), verb) for target in web.targets_at(journey.attempt.target)}


def _needs_all(chains: Chains, chain: Chain) -> None:
    """No value that is told can be left out: some caller of a kind that is left open is refused without it."""
    for name in chain.values:
        if name.startswith(KIND_OF):
            continue  # a member that is declared is of some kind
        lesser = ({one: value for one, value in whole.items() if one != name} for whole in _of_each_kind(chains, chain))
        needed = any(not replayed(chains, replace(chain, values=less)) for less in lesser)
        assert needed, f"{name} is not needed: {chains.steps(chain)} with {dict(chain.values)}"


def _of_each_kind(chains: Chains, chain: Chain) -> Iterator[dict[str, Any]]:
    """A chain's values with each kind that they leave open to the identities to come that they are about."""
    places = chains.compiled.places.names
    members = [places[node] for node in chains.compiled.to_come if node in chains.compiled.identity_kind]
    open_to = [f"{KIND_OF}{one}" for one in members if any(name.endswith(f" of {one}") for name in chain.values)]
    kinds = [[chain.values[name]] if name in chain.values else IDENTITY_KINDS for name in open_to]
    for choice in product(*kinds):
        values = {**chain.values, **dict(zip(open_to, choice, strict=True))}
        if replayed(chains, replace(chain, values=values)):
            yield values


def _walked(chains: Chains, chain: Chain, counted: Counter[str], where: str) -> None:
    web = chains.web
    assert replayed(chains, chain), f"{where}: {chain.start.form} {chains.steps(chain)} with {dict(chain.values)}"
    counted[f"chains of {where}"] += 1
    counted["chains by a stored key"] += chain.by_key
    counted["chains of members to come"] += chain.start.node < web.places and bool(web.is_to_come[chain.start.node])


# -- invariants -----------------------------------------------------------------------------------------------------


def _invariants(estate: Estate, journeys: Iterable[Journey], rng: Random, counted: Counter[str]) -> None:
    """Claims that a journey contradicts are broken, by chains that can be walked."""
    chains = Chains.from_now_on(Web(compile_estate(estate), NOW.timestamp()))
    for journey in list(journeys)[:3]:
        assert journey.attempt is not None
        passed = [hop.identity or hop.on for hop in journey.through]
        ends = {"can": (journey.attempt.verb,), "at": journey.attempt.target}
        start = Start(journey.origin.form, (journey.origin.whom,)) if rng.random() < 0.7 else None
        by = tuple(rng.sample(passed, 1)) if passed and (start is None or rng.random() < 0.7) else ()
        claims: list[Invariant] = []
        if start is not None or by:
            claims.append(Invariant("never", "never", Claimed(start=start, by=by, **ends)))  # type: ignore[arg-type]
        actors = [hop.identity for hop in journey.through if hop.identity]
        actors += [journey.origin.whom] if journey.origin.form in (Form.PERSON, Form.IDENTITY) else []
        if actors:
            others = tuple(one for one in estate.identities if one not in actors)
            claims.append(Invariant("only", "only", Claimed(by=others, **ends)))  # type: ignore[arg-type]
        for claim in claims:
            found = decide(chains, claim)
            assert found.outcome == Holding.BROKEN and found.chain is not None, (
                f"{claim} against {journey}: {found.outcome}"
            )
            _walked(chains, found.chain, counted, "a broken invariant")
        for group in ("@one/group/h", "aa/group/g"):
            found = decide(chains, Invariant("only", "only", Claimed(by=(group,), **ends)))  # type: ignore[arg-type]
            counted["claims that hold"] += found.outcome == Holding.HOLDS
            if found.outcome == Holding.BROKEN and found.chain is not None:
                _walked(chains, found.chain, counted, "a broken invariant")


# -- differences ------------------------------------------------------------------------------------------------------


def _differences(before: Estate, after: Estate, rng: Random, counted: Counter[str]) -> tuple[Told, Told]:
    """Gains and losses, each of some that are told walked on its side and refused on the other."""
    webs = webs_of(before, after, now=NOW.timestamp())
    told: list[tuple[Chains, Chain, Gain]] = []
    made = differing._gain_by

    def remembering(chains: Chains, chain: Chain) -> Gain:
        gain = made(chains, chain)
        told.append((chains, chain, gain))
        return gain

    differing._gain_by = remembering
    try:
        found = web_difference(*webs)
    finally:
        differing._gain_by = made
    assert not found.undecided
    counted["gains and losses"] += len(found.gains) + len(found.losses)
    for chains, chain, _ in rng.sample(told, min(6, len(told))):
        _walked(chains, chain, counted, "a gain or loss")
        other = before if chains.web is webs[1] else after
        _refused(other, chains, chain)
    sides = ((found.gains, after, before), (found.losses, before, after))
    keys = [{(one.form, one.caller, one.verb, one.target) for one in side} for side, _, _ in sides]
    for (_, here, there), side in zip(sides, keys, strict=True):
        for journey in walks(here, rng, 1):
            _told(journey, here, there, side, counted)
    return keys[0], keys[1]


def _by_running_elsewhere(web: Web, journey: Journey) -> bool:
    """Whether a chain that is not one journey comes to the same with the same values: by using an identity, say."""
    context, origin, attempt = journey.context, journey.origin, journey.attempt
    when = {"time": context.time, "network": context.network, "reference": context.reference, "mfa": origin.mfa}
    chains = Chains(web, when)
    assert attempt is not None
    if origin.whom in web.issuers:
        claims = dict.fromkeys(web.compiled.estate.issuers[origin.whom].claims or ())
        start = chains.from_issuer(origin.whom, claims={**claims, **origin.shows})
    elif origin.form == Form.CREDENTIAL:
        keyed = chains.from_credential(origin.whom)
        if keyed is None:
            return False
        start = keyed
    elif web.compiled.find(origin.whom) < 0:
        return False
    else:
        start = chains.from_place(web.compiled.find(origin.whom))
    values = {**start.knowns.values, **when, "session.age": context.session_age or timedelta(0)}
    verb, names = attempt.verb, {name for name, _ in _named(web, journey)}
    for label in chains.labels([start]):
        rows = differing._direct(web, np.array([label.node]))
        for row in zip(rows.who.tolist(), rows.permission.tolist(), rows.target.tolist(), strict=True):
            if web.compiled.permission_pairs[row[1]][1] != verb or web.target_name(row[2]) not in names:
                continue
            if replayed(chains, Chain(start, label.edges(), values, True, row)):
                return True
    return False


def _refused(other: Estate, chains: Chains, chain: Chain) -> None:
    """What is told as had on one side only cannot be had on the other with the same values."""
    here, journeys = journeys_of(chains, chain)
    identities = {name: one for name, one in here.identities.items() if is_to_come(name)}
    resources = {name: one for name, one in here.resources.items() if name not in other.resources}
    there = replace(other, identities={**identities, **other.identities}, resources={**resources, **other.resources})
    if chain.start.form in (Form.CREDENTIAL, Form.PIPELINE_ACCESS) and chain.start.whom not in getattr(
        other, "pipeline_access" if chain.start.form == Form.PIPELINE_ACCESS else "credentials"
    ):
        return
    assert not all(allowed(Naive(there, NOW), one) for one in journeys), f"had on both sides: {journeys}"


def _told(journey: Journey, here: Estate, there: Estate, told: Told, counted: Counter[str]) -> None:
    """A journey that is allowed here and refused there is among what is told."""
    if allowed(Naive(there, NOW), journey) or some_way(there, journey):
        return
    web, other = webs_of(here, there, now=NOW.timestamp())
    if _by_running_elsewhere(other, journey):
        return
    young = replace(journey, context=replace(journey.context, session_age=None))
    if not web.ages and some_way(there, young):
        return  # no statement asks for a session's age, and that one lasts longer than another is not an access gained
    callers = [(journey.origin.form, journey.origin.whom)]
    if journey.origin.form == Form.CREDENTIAL:  # told once, of whose it is, where that gains as much
        callers.append((Form.IDENTITY, here.credentials[journey.origin.whom].of))
    assert journey.attempt is not None
    names = {web.target_name(target) for target in web.targets_at(journey.attempt.target)}
    found = any((form, whom, journey.attempt.verb, name) in told for form, whom in callers for name in names)
    assert found, f"gained and not told: {journey}"
    counted["journeys gained or lost"] += 1

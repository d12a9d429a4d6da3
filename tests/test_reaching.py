"""What is decided for everything at once, against the engine's single verdicts."""

from dataclasses import replace
from datetime import datetime, timedelta
from ipaddress import ip_network
from random import Random
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.judging.compiling import compile_estate
from enthesis.judging.judge import Judge
from enthesis.judging.questions import Question, question_of
from enthesis.model.estate import Attempt, Claimed, Context, Hop, Invariant, Journey, Origin, Start
from enthesis.reaching.chains import Chain, Chains
from enthesis.reaching.differing import difference, mentioned_in
from enthesis.reaching.free import Knowns, Solver
from enthesis.reaching.invariants import BROKEN, chains_from_now_on, decide
from enthesis.reaching.reach import reachable
from enthesis.reaching.web import LEADS_ON, NO, YES, Web

from .test_judging import NOW, random_estate

NETWORKS = (None, ip_network("10.1.2.3"), ip_network("192.0.2.7"), ip_network("203.0.113.9"))
AGES = (None, timedelta(minutes=10), timedelta(hours=2))


def test_rows_and_requirements_agree_with_single_verdicts() -> None:
    counted = {"allowed": 0, "refused": 0, "looked at": 0}

    @given(st.integers(0, 2**32))
    @settings(max_examples=12)
    def compare(seed: int) -> None:
        rng = Random(seed)
        estate = random_estate(seed, journeys=10)
        compiled = compile_estate(estate)
        web, judge = Web(compiled, NOW.timestamp()), Judge(compiled)
        everything = np.ones(len(compiled.permission_pairs), bool)
        identities = np.array(sorted(compiled.identity_kind), np.int64)
        rows = web.rows_of(identities, everything)
        states = {
            (int(who), int(permission), int(target)): int(state)
            for who, permission, target, state in zip(rows.who, rows.permission, rows.target, rows.state, strict=True)
        }
        sample = rng.sample(sorted(states), min(60, len(states)))
        for _ in range(60):
            target = rng.randrange(len(web.target_place))
            kind = web.target_kind[target]
            permissions = [
                n for n, pair in enumerate(compiled.permission_pairs) if pair[0] == compiled.kind_names[kind]
            ]
            sample.append((int(rng.choice(identities.tolist())), rng.choice(permissions), target))
        for who, permission, target in sample:
            _, verb = compiled.permission_pairs[permission]
            if verb in ("attach", "take-on"):
                continue
            context = Context(
                network=rng.choice(NETWORKS), reference=rng.choice([None, "r1", "r2"]), session_age=rng.choice(AGES)
            )
            place = f"seed {seed}: {compiled.places.names[who]} {verb} {web.target_name(target)}"
            origin = Origin("identity", compiled.places.names[who])
            asked = Question(origin, (), Attempt(verb, web.target_name(target)), context, NOW)
            verdict = judge.judge(asked)
            requirement = web.row_requirement(who, permission, target)
            values = {
                "time": NOW,
                "network": context.network,
                "reference": context.reference,
                "mfa": None,
                "session.age": context.session_age or timedelta(0),
                **{f"origin.{name}": None for name in ("kind", "issuer", "organisation", "address")},
            }
            met = requirement is not None and Solver().witness(requirement, Knowns(values)) is not None
            assert met == verdict.allowed, place
            state = states.get((who, permission, target), NO)
            assert (state == YES) <= (requirement == ()), place
            assert (state == NO) <= (requirement is None), place
            counted["allowed" if met else "refused"] += 1
            counted["looked at"] += state == 1

    compare()
    assert min(counted.values()) > 60, counted


def test_edges_are_just_the_hops_that_single_verdicts_allow() -> None:
    counted = {"hops": 0, "others": 0}

    @given(st.integers(0, 2**32))
    @settings(max_examples=20)
    def compare(seed: int) -> None:
        estate = random_estate(seed, journeys=30)
        compiled = compile_estate(estate)
        web, judge = Web(compiled, NOW.timestamp()), Judge(compiled)
        hops = {}
        for edge in range(len(web.edge_from)):
            if web.edge_permission[edge] == compiled.take_on and web.edge_from[edge] < web.places:
                hops[int(web.edge_from[edge]), int(web.edge_to[edge])] = web.requirement(edge)
        values = {
            "time": NOW, "network": None, "reference": None, "mfa": None, "session.age": timedelta(0),
            **{f"origin.{name}": None for name in ("kind", "issuer", "organisation", "address")},
        }  # fmt: skip
        for who in compiled.identity_kind:
            for to, kind in compiled.identity_kind.items():
                if kind == "person":
                    continue
                origin = Origin("identity", compiled.places.names[who])
                attempt = Attempt("take-on", compiled.places.names[to])
                verdict = judge.judge(Question(origin, (), attempt, Context(), NOW))
                requirement = hops.get((who, to))
                met = requirement is not None and Solver().witness(requirement, Knowns(values)) is not None
                assert met == verdict.allowed, f"seed {seed}: {origin.whom} to {attempt.target}"
                counted["hops" if met else "others"] += 1

    compare()
    assert min(counted.values()) > 60, counted


def replayed(chains: Chains, chain: Chain) -> bool | None:
    """What the engine says of a chain with its values; None where it is no single question."""
    web = chains.web
    if chain.start.open or any(int(web.edge_sort[edge]) == LEADS_ON for edge in chain.edges):
        return None
    values: dict[str, Any] = {
        name.removeprefix("claims."): value for name, value in chain.values.items() if name.startswith("claims.")
    }
    shows = {name: value for name, value in values.items() if value is not None}
    mfa = chain.values.get("mfa")
    origin = Origin(chain.start.form, chain.start.whom, shows, mfa if isinstance(mfa, bool) else None)
    hops = [web.target_name(int(web.edge_target[edge])) for edge in chain.edges]
    attempt = None
    if chain.end is not None:
        verb = chains.compiled.permission_pairs[chain.end[1]][1]
        attempt = Attempt(verb, web.target_name(chain.end[2]))
    age = chain.values.get("session.age")
    network, reference = chain.values.get("network"), chain.values.get("reference")
    context = Context(network=network, reference=reference, session_age=None)  # type: ignore[arg-type]
    if age:
        return None  # sessions of an age are those of the last request alone
    time = chain.values.get("time", NOW)
    assert isinstance(time, datetime)
    question = Question(origin, tuple(Hop(one) for one in hops), attempt, context, time)
    return Judge(chains.compiled).judge(question).allowed


def test_every_chain_that_is_told_can_be_walked_and_none_that_can_is_left_out() -> None:
    counted = {"walked": 0, "found": 0, "invariants": 0}

    @given(st.integers(0, 2**32))
    @settings(max_examples=12)
    def compare(seed: int) -> None:
        rng = Random(seed)
        estate = random_estate(seed, journeys=30)
        compiled = compile_estate(estate)
        web = Web(compiled, NOW.timestamp())
        everything = np.ones(len(compiled.permission_pairs), bool)
        chains = Chains(web, {"time": NOW})
        by_start = {}
        for start in chains.origins():
            found = reachable(chains, [start], everything)
            by_start[start.form, start.whom] = {(one.target, one.verb) for one in found}
            for one in rng.sample(found, min(6, len(found))):
                answer = replayed(chains, one.chain)
                assert answer is not False, f"seed {seed}: {start} {one.steps} {one.chain.values}"
                counted["walked"] += answer is True
        assert not chains.undecided
        judge = Judge(compiled)
        for journey in estate.journeys.values():
            origin, attempt = journey.origin, journey.attempt
            verdict = judge.judge(replace(question_of(journey, NOW), time=NOW))
            narrowed = any(hop.narrowed for hop in journey.through)
            if not verdict.allowed or narrowed or (origin.form, origin.whom) not in by_start or attempt is None:
                continue
            if attempt.onto is None:
                verb = attempt.verb.replace("take-on", "take on")
                names = {web.target_name(target) for target in web.targets_at(attempt.target)}
                told = by_start[origin.form, origin.whom]
                assert any((name, verb) in told for name in names), f"seed {seed}: {journey.name}"
                counted["found"] += 1
                broken = decide(chains_from_now_on(web), never(journey))
                assert broken.outcome == BROKEN, f"seed {seed}: {journey.name}"
                assert broken.chain is not None
                counted["invariants"] += 1

    compare()
    assert counted["walked"] > 90, counted
    assert counted["found"] > 8, counted


def never(journey: Journey) -> Invariant:
    """The claim that this journey's attempt is never made from such an origin by way of its hops."""
    attempt = journey.attempt
    assert attempt is not None
    start = Start(journey.origin.form, (journey.origin.whom,))
    by = tuple(hop.identity for hop in journey.through)[-1:]
    return Invariant("claim", "never", Claimed((attempt.verb,), attempt.target, start, by))


def test_a_difference_is_what_every_caller_can_do_on_one_side_alone() -> None:
    counted = {"gains": 0, "losses": 0}

    @given(st.integers(0, 2**32))
    @settings(max_examples=12)
    def compare(seed: int) -> None:
        rng = Random(seed)
        before = random_estate(seed, journeys=10)
        kept = tuple(grant for grant in before.grants if rng.random() < 0.9)
        trusts = tuple(trust for trust in before.trusts if rng.random() < 0.9)
        after = replace(before, grants=kept, trusts=trusts)
        if rng.random() < 0.5:
            before, after = after, before
        found = difference(before, after, NOW.timestamp())
        names = mentioned_in(before, after)
        sides = []
        for estate in (before, after):
            chains = Chains(Web(compile_estate(estate, names), NOW.timestamp()))
            everything = np.ones(len(chains.compiled.permission_pairs), bool)
            able = set()
            for number in (*chains.compiled.identity_kind, *range(chains.web.places, chains.web.nodes)):
                start = (
                    chains.from_place(number)
                    if number < chains.web.places
                    else chains.from_issuer(chains.web.issuers[number - chains.web.places])
                )
                for one in reachable(chains, [start], everything):
                    able.add((start.whom, one.verb, one.target))
            sides.append(able)
        for gains, mine, theirs in ((found.gains, sides[1], sides[0]), (found.losses, sides[0], sides[1])):
            told = {
                (gain.caller, gain.verb.replace("take-on", "take on"), gain.target)
                for gain in gains
                if gain.form in ("identity", "token", "assertion", "certificate")
            }
            assert mine - theirs <= told, f"seed {seed}: not told: {sorted(mine - theirs - told)[:3]}"
            assert told <= mine, f"seed {seed}: told and not so: {sorted(told - mine)[:3]}"
        counted["gains"] += len(found.gains)
        counted["losses"] += len(found.losses)
        assert not found.undecided

    for seed in (88384,):  # a leaf that only a trust of one side names
        compare.hypothesis.inner_test(seed)  # type: ignore[attr-defined]
    compare()
    assert sum(counted.values()) > 30, counted

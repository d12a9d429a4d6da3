"""What is decided for everything at once, against the engine's single verdicts."""

from datetime import timedelta
from ipaddress import ip_network
from random import Random

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.judging.compiling import compile_estate
from enthesis.judging.judge import Judge
from enthesis.judging.questions import Question
from enthesis.model.estate import Attempt, Context, Origin
from enthesis.reaching.free import Knowns, Solver
from enthesis.reaching.web import NO, YES, Web

from .test_judging import NOW, random_estate

NETWORKS = (None, ip_network("10.1.2.3"), ip_network("192.0.2.7"), ip_network("203.0.113.9"))
AGES = (None, timedelta(minutes=10), timedelta(hours=2))


def test_rows_and_requirements_agree_with_single_verdicts() -> None:
    counted = {"allowed": 0, "refused": 0, "looked at": 0}

    @given(st.integers(0, 2**32))
    @settings(max_examples=25)
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
            permissions = [n for n, pair in enumerate(compiled.permission_pairs) if pair[0] == compiled.kind_names[kind]]
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
    assert min(counted.values()) > 150, counted


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
    assert min(counted.values()) > 100, counted



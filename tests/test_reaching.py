"""What is decided for everything at once, against the engine's single verdicts."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from datetime import timedelta
from ipaddress import ip_network
from pathlib import Path
from random import Random

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.access.arrays import Bools
from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.access.requirements import Knowns, Solver
from enthesis.access.states import NO, YES
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.chains.differences import difference
from enthesis.chains.ends import wanted_permissions
from enthesis.chains.invariants import decide
from enthesis.chains.reach import Reached, reachable, reaching
from enthesis.files.folder import read_texts
from enthesis.model.estate import Attempt, Claimed, Context, Invariant, Origin
from enthesis.model.vocabulary import Form, Holding
from enthesis.text.nearest import FEW
from enthesis.verdicts.judge import Judge

from .agreement import check_world
from .conftest import BRIEF, LONG, SEED, Program, examples
from .test_judging import NOW, random_estate

WORLDS = 2 if BRIEF else 40 if LONG else 8
NETWORKS = (None, ip_network("10.1.2.3"), ip_network("192.0.2.7"), ip_network("203.0.113.9"))
AGES = (None, timedelta(minutes=10), timedelta(hours=2))


def test_rows_and_requirements_agree_with_single_verdicts() -> None:
    counted = {"allowed": 0, "refused": 0, "looked at": 0}

    @given(st.integers(0, 2**32))
    @settings(max_examples=examples(12))
    def compare(seed: int) -> None:
        rng = Random(seed)
        estate = random_estate(seed, journeys=10)
        web = Web(compile_estate(estate), NOW.timestamp())
        compiled = web.compiled
        judge = Judge(compiled)
        everything = np.ones(len(compiled.permission_pairs), bool)
        identities = np.array(sorted(compiled.identity_kind.keys() - compiled.to_come), np.int64)
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
            if verb in ("attach", "take-on") or web.is_to_come[web.target_place[target]]:
                continue
            context = Context(
                network=rng.choice(NETWORKS), reference=rng.choice([None, "r1", "r2"]), session_age=rng.choice(AGES)
            )
            place = f"seed {seed}: {compiled.places.names[who]} {verb} {web.target_name(target)}"
            origin = Origin(Form.IDENTITY, compiled.places.names[who])
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
    assert min(counted.values()) > examples(60), counted


def test_edges_are_just_the_hops_that_single_verdicts_allow() -> None:
    counted = {"hops": 0, "others": 0}

    @given(st.integers(0, 2**32))
    @settings(max_examples=examples(20))
    def compare(seed: int) -> None:
        estate = random_estate(seed, journeys=30)
        web = Web(compile_estate(estate), NOW.timestamp())
        compiled = web.compiled
        judge = Judge(compiled)
        hops = {}
        for edge in range(len(web.edge_from)):
            if web.edge_permission[edge] == compiled.take_on and web.edge_from[edge] < web.places:
                hops[int(web.edge_from[edge]), int(web.edge_to[edge])] = web.requirement(edge)
        values = {
            "time": NOW, "network": None, "reference": None, "mfa": None, "session.age": timedelta(0),
            **{f"origin.{name}": None for name in ("kind", "issuer", "organisation", "address")},
        }  # fmt: skip
        declared = {n: kind for n, kind in compiled.identity_kind.items() if n not in compiled.to_come}
        for who in declared:
            for to, kind in declared.items():
                if kind == "person":
                    continue
                origin = Origin(Form.IDENTITY, compiled.places.names[who])
                attempt = Attempt("take-on", compiled.places.names[to])
                verdict = judge.judge(Question(origin, (), attempt, Context(), NOW))
                requirement = hops.get((who, to))
                met = requirement is not None and Solver().witness(requirement, Knowns(values)) is not None
                assert met == verdict.allowed, f"seed {seed}: {origin.whom} to {attempt.target}"
                counted["hops" if met else "others"] += 1

    compare()
    assert min(counted.values()) > examples(60), counted


@pytest.mark.parametrize("part", range(2))
def test_what_is_said_of_everything_at_once_agrees_with_single_verdicts(part: int) -> None:
    """A few random worlds; `python bench/agreement.py` looks at 3,000."""
    counted: Counter[str] = Counter()
    for number in range(WORLDS):
        counted += check_world(7_300_000 + 100_000 * (part + 2 * SEED) + number)
    counted["worlds"] = WORLDS
    if BRIEF:
        return
    for what in ("reach --from", "reach --to", "a broken invariant", "a gain or loss", "members to come"):
        assert counted[f"chains of {what}"], counted
    assert counted["journeys found by reach --from"], counted


def test_a_new_credential_alone_is_a_gain() -> None:
    estate, name = random_estate(11, journeys=0), "key1"
    without = replace(estate, credentials={n: c for n, c in estate.credentials.items() if n != name})
    found = difference(without, estate, NOW.timestamp())
    assert {(gain.form, gain.caller) for gain in found.gains} == {("credential", name)}
    lost = difference(estate, without, NOW.timestamp())
    assert len(lost.losses) == len(found.gains) and not lost.gains and not found.losses


KEYED = """\
estate: keyed
organisations: {works: {}}
providers: {north: {style: one-sided}}
accounts: {left: {in: "@works", provider: north}}
resources: {left/bucket/b: {}}
identities: {left/identity/a: {kind: service-account}, left/identity/c: {kind: service-account}}
roles: {reading: {allows: {object: [read]}}}
trusts: [{of: left/identity/c, admits: {identity: left/identity/a}}]
grants:
  - {to: left/identity/c, role: reading, at: left/bucket/b}
  - {to: left/identity/a, role: reading, at: left/bucket/b}
credentials: {bound: {of: left/identity/a, form: access-key, when: {network: {within: 10.0.0.0/8}}}}
"""


def _told(found: Sequence[Reached]) -> set[tuple[str, str, str, str]]:
    return {(one.chain.start.form, one.chain.start.whom, one.verb, one.target) for one in found}


def test_at_a_place_is_the_place_and_everything_in_it() -> None:
    """Who reaches a place is who reaches it or something in it, and nobody does just where `never … at` it holds."""
    counted: Counter[str] = Counter()

    @given(st.integers(0, 2**32))
    @settings(max_examples=examples(16))
    def compare(seed: int) -> None:
        rng = Random(seed)
        compiled = compile_estate(random_estate(seed, journeys=0))
        web = Web(compiled, NOW.timestamp())
        chains = Chains.from_now_on(web)
        verb = rng.choice(["read", "write", "list", "delete", "configure", "*"])
        wanted = wanted_permissions(web.compiled, [verb], ())
        outer = [name for name in compiled.places.names if "/" not in name or name.startswith("@")]
        holding = [name for name in compiled.places.names if name.count("/") == 2]
        for place in [*rng.sample(outer, 3), *rng.sample(holding, 3)]:
            everywhere = reaching(chains, place, wanted)
            inside = [web.target_name(int(one)) for one in web.targets_at_or_in(place)]
            singly = {told for one in inside for told in _told(_reaching_just(chains, one, wanted))}
            assert _told(everywhere) == singly, f"seed {seed}: {verb} at {place}"
            never = Invariant("none", "never", Claimed((verb,), place))
            broken = decide(Chains.from_now_on(web), never)
            assert broken.outcome == (Holding.BROKEN if everywhere else Holding.HOLDS), f"seed {seed}: {verb} {place}"
            counted["somebody" if everywhere else "nobody"] += 1
            counted["many"] += len(inside) > FEW
        assert not chains.undecided

    compare()
    assert min(counted[what] for what in ("somebody", "nobody", "many")) > 0, counted


def _reaching_just(chains: Chains, target: str, wanted: Bools) -> list[Reached]:
    """Who reaches one target, but not what is in it."""
    return [one for one in reaching(chains, target, wanted) if one.target == target]


def test_what_a_bound_key_opens_hangs_on_its_condition_however_far_on() -> None:
    reading = read_texts({"estate.yaml": KEYED})
    assert reading.estate is not None, reading.errors
    chains = Chains(Web(compile_estate(reading.estate), NOW.timestamp()), {"time": NOW})
    start = chains.from_credential("bound")
    assert start is not None
    everything = np.ones(len(chains.compiled.permission_pairs), bool)
    found = reachable(chains, [start], everything)
    assert {one.verb for one in found} == {"take-on", "read"}
    assert all(str(one.chain.values["network"]).startswith("10.") for one in found)
    outside = Chains(chains.web, {"time": NOW, "network": ip_network("192.0.2.7")})
    bound = outside.from_credential("bound")
    assert bound is not None
    assert reachable(outside, [bound], everything) == []
    coming = reaching(chains, "left/bucket/b/object/o", everything)
    (by_key,) = [one for one in coming if one.chain.start.form == Form.CREDENTIAL]
    assert str(by_key.chain.values["network"]).startswith("10.")


WAYS = """
estate: ways
organisations: {works: {units: [x]}}
providers: {low: {style: one-sided}}
accounts: {a: {in: "@works/x", provider: low}}
issuers: {forge: {kind: oidc, url: https://forge.example}}
resources: {a/bucket/b: {}, a/bucket/c: {}}
identities:
  a/identity/bot: {kind: service-account, owner: o, purpose: p}
  a/identity/two: {kind: service-account, owner: o, purpose: p}
  "@works/identity/ines": {kind: person}
trusts:
  - {of: a/identity/bot, admits: {token: forge, claims: {sub: [one, two], aud: low}}}
  - {of: a/identity/bot, admits: {person: "@works/identity/ines"}, when: {mfa: true, network: {within: 10.0.0.0/8}}}
  - {of: a/identity/two, admits: {person: "@works/identity/ines"}, when: {mfa: true}, name: factor}
  - {name: ticket, of: a/identity/two, admits: {person: "@works/identity/ines"}, when: {reference: r1}}
roles: {w: {allows: {object: [write]}}}
grants: [{to: a/identity/bot, role: w, at: a/bucket/b}, {to: a/identity/two, role: w, at: a/bucket/b}]
"""


def test_every_way_is_told_that_no_other_makes_needless() -> None:
    reading = read_texts({"estate.yaml": WAYS})
    assert reading.estate is not None, reading.errors
    chains = Chains.from_now_on(Web(compile_estate(reading.estate), NOW.timestamp()))
    wanted = wanted_permissions(chains.compiled, ["write"], ())
    found = reaching(chains, "a/bucket/b", wanted)
    ines = [dict(one.chain.values) for one in found if one.chain.start.whom == "@works/identity/ines"]
    assert ines == [{"mfa": True}, {"reference": "r1"}]  # the one within a network needs more than one of them
    (forge,) = [one.chain for one in found if one.chain.start.whom == "forge"]
    assert forge.choices == {"claims.sub": ("one", "two")} and set(forge.values) == {"claims.sub", "claims.aud"}
    assert [one.more for one in found] == [0] * len(found)
    assert not any("time" in one.chain.values for one in found)


def test_a_longer_way_makes_no_shorter_one_needless_where_hops_are_counted() -> None:
    """A way by two hops that needs nothing, and one by none that needs a network."""
    text = WAYS.replace(
        "trusts:\n", "trusts:\n  - {name: plain, of: a/identity/two, admits: {identity: a/identity/bot}}\n"
    )
    text += "  - {to: a/identity/bot, role: w, at: a/bucket/c, when: {network: {within: 10.0.0.0/8}}}\n"
    text += "  - {to: a/identity/two, role: w, at: a/bucket/c}\n"
    reading = read_texts({"estate.yaml": text.replace(
        "grants: [{to: a/identity/bot, role: w, at: a/bucket/b}, {to: a/identity/two, role: w, at: a/bucket/b}]\n",
        "grants:\n  - {to: a/identity/bot, role: w, at: a/bucket/b}\n",
    )})  # fmt: skip
    assert reading.estate is not None, reading.errors
    chains = Chains.from_now_on(Web(compile_estate(reading.estate), NOW.timestamp()))
    wanted = wanted_permissions(chains.compiled, ["write"], ())
    ways = {
        hops: [
            (len(one.steps), set(one.chain.values))
            for one in reaching(chains, "a/bucket/c", wanted, hops=hops)
            if one.chain.start.whom == "forge"
        ]
        for hops in (0, 1)
    }
    assert ways == {0: [(3, {"claims.aud", "claims.sub"})], 1: [(2, {"claims.aud", "claims.sub", "network"})]}


def test_claims_are_no_question_about_every_caller(enthesis: Program, tmp_path: Path) -> None:
    (tmp_path / "estate.yaml").write_text("estate: x\n")
    ran = enthesis("reach", "--to", "a/bucket/b", "--claim", "sub=x", at=tmp_path)
    assert ran.code == 2 and "--claim says what a caller shows" in ran.err

"""Journeys from pools and on pools: about each declared member and about those to come, held against brute force."""

from collections import Counter
from dataclasses import replace
from itertools import product
from pathlib import Path
from random import Random

from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.access.compiling import compile_estate
from enthesis.files.folder import read_texts
from enthesis.model.estate import Admission, Attempt, Estate, Hop, Journey, Origin, Resource, Trust
from enthesis.model.vocabulary import Ending, Form
from enthesis.verdicts.expectations import judge_journey

from .conftest import Program, Ran, examples
from .naive import Naive
from .test_judging import NOW, random_estate
from .walking import members_of

NAMES = ("...", "web-1", "web-2", "db-1", "x")
LABELS = (None, "blue", "green")
POOLS = """
estate: pools
organisations: {works: {units: [x]}}
providers: {low: {style: one-sided}}
accounts: {a: {in: "@works/x", provider: low}}
resources:
  a/pool/p: {runs_as: a/identity/r}
  a/pool/p/host/%s: {labels: {tenant: %s}}
  a/bucket/b: {}
identities:
  a/identity/r: {kind: instance-role, owner: o, purpose: q}
  a/identity/admin: {kind: service-account, owner: o, purpose: q}
trusts: [{of: a/identity/r, admits: {attached: %s}, when: %s}]
roles: {w: {allows: {object: [write]}}, c: {allows: {pool: [configure], identity: [run-as]}}}
grants: [{to: a/identity/r, role: w, at: a/bucket/b}, {to: a/identity/admin, role: c, at: a}]
"""
MEANT = ("true", "a/pool/p", "{glob: a/pool/*}", "{glob: 'a/pool/p/host/web-*'}", "{glob: 'a/pool/p/host/*'}",
         "{glob: 'a/pool/**'}", "{glob: 'a/host/*'}")  # fmt: skip
WHENS = (
    "{}",
    "{caller.labels.tenant: blue}",
    "{caller.labels.tenant: {not: blue}}",
    "{caller.address: {glob: '**web-2'}}",
)


def _estate(name: str, label: str, meant: str, when: str) -> Estate:
    reading = read_texts({"estate.yaml": POOLS % (name, label, meant, when)})
    assert reading.estate is not None, reading.errors
    return reading.estate


def _allowed(estate: Estate, journey: Journey, member: str) -> bool:
    """What the naive evaluator says of one member."""
    origin = journey.origin
    if origin.whom == "a/pool/p":
        origin = replace(origin, whom=member)
    through = tuple(replace(hop, member=member) if hop.on == "a/pool/p" else hop for hop in journey.through)
    return not any(seen.refused for seen in Naive(estate, NOW).judge(replace(journey, origin=origin, through=through)))


def test_a_journey_about_a_pool_is_about_every_member() -> None:
    counted: Counter[str] = Counter()
    attempt = Attempt("write", "a/bucket/b/object/x")
    starts = {
        "from": (Origin(Form.HOST, "a/pool/p"), (Hop("a/identity/r"),)),
        "on": (Origin(Form.IDENTITY, "a/identity/admin"), (Hop(on="a/pool/p"), Hop("a/identity/r"))),
    }
    for name, label, meant, when in product(("web-1", "db-1"), ("blue", "green"), MEANT, WHENS):
        estate = _estate(name, label, meant, when)
        declared = _allowed(estate, _journey(starts["from"], attempt, Ending.ALLOWED), f"a/pool/p/host/{name}")
        plain = _with_member(estate, "...", None)
        coming = _allowed(plain, _journey(starts["from"], attempt, Ending.ALLOWED), "a/pool/p/host/...")
        anyhow = any(
            _allowed(_with_member(estate, one, tenant), _journey(starts["from"], attempt, Ending.ALLOWED),
                     f"a/pool/p/host/{one}")
            for one, tenant in product(NAMES, LABELS) if one != name
        )  # fmt: skip
        for start, expect in product(starts.values(), (Ending.ALLOWED, Ending.REFUSED)):
            judged = judge_journey(compile_estate(estate), _journey(start, attempt, expect), NOW)
            wanted = declared and coming if expect is Ending.ALLOWED else not (declared or anyhow)
            assert judged.met == wanted, (name, label, meant, when, start[0].form, expect, judged.unmet)
            counted[f"{expect} {judged.met}"] += 1
    assert len(counted) == 4 and min(counted.values()) > 5, counted


def _journey(start: tuple[Origin, tuple[Hop, ...]], attempt: Attempt, expect: Ending) -> Journey:
    return Journey("j", start[0], expect, start[1], attempt)


def _with_member(estate: Estate, name: str, tenant: str | None) -> Estate:
    address = f"a/pool/p/host/{name}"
    member = Resource(address, labels={"tenant": tenant} if tenant else {})
    return replace(estate, resources={**estate.resources, address: member})


def test_a_pool_is_never_a_caller_and_a_member_to_come_exists() -> None:
    """In random worlds: the engine and the naive evaluator, for each declared member and a member to come."""
    counted: Counter[str] = Counter()

    @given(st.integers(0, 2**32))
    @settings(max_examples=examples(25))
    def compare(seed: int) -> None:
        rng = Random(seed)
        estate = random_estate(seed, journeys=0)
        pools = {pool: compile_estate(estate).runs(pool) for pool in ("aa/pool/l", "dd/pool/m")}
        names = compile_estate(estate).places.names
        more = [Trust(names[one], Admission(Form.ATTACHED, pool)) for pool, runs in pools.items() for one in runs]
        estate = replace(estate, trusts=(*estate.trusts, *more))
        naive = Naive(estate, NOW)
        compiled = compile_estate(estate)
        every = [one.of for one in estate.trusts]
        for pool in ("aa/pool/l", "dd/pool/m"):
            members = [*members_of(estate, pool), f"{pool}/host/…"]
            runs = {compiled.places.names[one] for one in compiled.runs(pool)} & set(every)
            for identity in [*sorted(runs), *rng.sample(every, min(len(every), 4))]:
                journey = Journey("j", Origin(Form.HOST, pool), Ending.ALLOWED, (Hop(identity),))
                each = [
                    not any(seen.refused for seen in naive.judge(replace(journey, origin=Origin(Form.HOST, one))))
                    for one in members
                ]
                judged = judge_journey(compiled, journey, NOW)
                assert [one.verdict.allowed for one in judged.members] == each, f"seed {seed}: {pool} {identity}"
                counted["allowed" if any(each) else "refused"] += 1
                assert not any(not seen.refused for seen in naive.judge(journey)), "a pool itself"

    compare()
    assert min(counted["allowed"], counted["refused"]) >= 1, counted


def test_a_pool_is_proved_from_every_live_member(enthesis: Program, tmp_path: Path) -> None:
    text = POOLS % ("one", "blue", "a/pool/p", "{}") + (
        "attachments: []\njourneys:\n"
        "  in: {from: {host: a/pool/p}, through: [a/identity/r], attempt: write a/bucket/b/object/x, expect: allowed}\n"
        "  on: {from: {identity: a/identity/admin}, through: [{on: a/pool/p}, a/identity/r], expect: allowed,\n"
        "       attempt: write a/bucket/b/object/x}\n"
    )
    text = text.replace("roles: {", "roles: {l: {allows: {host: [login]}}, ")
    text = text.replace("grants: [", "grants: [{to: a/identity/admin, role: l, at: a/pool/p}, ")
    text = text.replace("low: {style: one-sided}", "low: {style: one-sided, url: https://low.example}")
    (tmp_path / "estate.yaml").write_text(text)
    assert enthesis("lab", "start", at=tmp_path).code == 0
    try:
        enthesis("lab", "fault", "a", "--route", "*/one/*", "--as-started", at=tmp_path)
        assert enthesis("enact", "--yes", at=tmp_path).code == 0
        early = enthesis("prove", "in", at=tmp_path)
        assert early.code == 1 and "0 of 1" in early.out
        assert "one: expected allowed, got refused (one was started before the attachment)" in early.out
        enthesis("lab", "fault", "--clear", at=tmp_path)

        def proved(*more: str) -> Ran:
            return enthesis("prove", "--format", "json", *more, at=tmp_path)

        for one in proved().json["journeys"]:
            assert one["met"] and one["members"].startswith("1 of 1; a member to come of a/pool/p is judged"), one
        enthesis("lab", "add", "a/pool/p/host/w", "--count", "55", at=tmp_path)
        many = proved()
        assert many.code == 2 and "56 live members" in many.out
        some = proved("--members", "7").json["journeys"][0]
        assert some["met"] and some["members"].startswith("7 of 7 tried, of 56")
        members = [f"a/pool/p/host/w-{number}" for number in range(1, 56)]
        enthesis("lab", "remove", "a/pool/p/host/one", *members, at=tmp_path)
        nobody = proved()
        assert nobody.code == 1 and nobody.json["journeys"][0]["unmet"] == ["not tried: a/pool/p has no live member"]
        assert nobody.json["journeys"][0]["outcome"] == "not decided"
    finally:
        enthesis("lab", "stop", at=tmp_path)

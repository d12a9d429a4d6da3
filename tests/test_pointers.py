"""Claims within claims, named by pointers (RFC 6901): engine, naive evaluator and lab, in files and from tokens."""

from itertools import product
from pathlib import Path
from typing import Any

import pytest

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import question_of
from enthesis.conditions.sampling import sample_of
from enthesis.files.folder import read_texts
from enthesis.model.estate import Hop, Journey, Origin
from enthesis.model.pointers import as_pointers, claim_at, nested
from enthesis.model.vocabulary import Ending, Form
from enthesis.verdicts.judge import Judge

from .conftest import Program
from .naive import Naive
from .test_judging import NOW

ESTATE = """
estate: pointed
organisations: {works: {units: [x]}}
providers: {low: {style: one-sided, url: https://low.example}}
accounts: {a: {in: "@works/x", provider: low}}
issuers: {forge: {kind: oidc, url: https://forge.example%s}}
identities: {a/identity/bot: {kind: service-account, owner: o, purpose: p}}
trusts: [{of: a/identity/bot, admits: {token: forge, claims: {sub: main, aud: low, %s}}}]
journeys:
  in: {from: {token: forge, claims: {sub: main, aud: low, %s}}, through: [a/identity/bot], expect: %s}
"""
SHOWN: tuple[dict[str, Any], ...] = (
    {"access": {"roles": ("reader", "writer"), "level": "high"}}, {"access": {"roles": "writer"}}, {"access": "writer"},
    {"access": {"roles": {"x": "writer"}}}, {}, {"access": {}}, {"/access/roles": "writer"},
    {"a/b": {"c~d": "writer"}}, {"access": {"roles": ()}},
)  # fmt: skip
TESTS = (
    "/access/roles: writer", "/access/roles: {not: admin}", "/access/roles/1: writer", "/access/roles: {present: true}",
    "/access/roles/01: writer", "/a~1b/c~0d: writer", "/access/level: [high, low]", "/access/roles: {glob: w*}",
)  # fmt: skip


def test_engine_and_naive_evaluator_agree_on_what_stands_in_a_claim() -> None:
    allowed = 0
    for shows, test in product(SHOWN, TESTS):
        reading = read_texts({"estate.yaml": ESTATE % ("", test, "x: y", "allowed")})
        assert reading.estate is not None, reading.errors
        origin = Origin(Form.TOKEN, "forge", {"sub": "main", "aud": "low", **shows})
        journey = Journey("j", origin, Ending.ALLOWED, (Hop("a/identity/bot"),))
        verdict = Judge(compile_estate(reading.estate)).judge(question_of(journey, NOW))
        naive = not any(seen.refused for seen in Naive(reading.estate, NOW).judge(journey))
        assert verdict.allowed == naive, (shows, test)
        allowed += naive
    assert allowed > 8


def test_a_pointer_and_what_it_stands_in_are_not_tested_together() -> None:
    for test in ("access: x, /access/roles: y", "/access/roles: x, /access/roles/name: y"):
        errors = read_texts({"estate.yaml": ESTATE % ("", test, "x: y", "allowed")}).errors
        assert [one.code for one in errors] == ["wrong-test"], test
    listed = ", claims: {/access/roles: text}"
    text = ESTATE % (listed, "/access/roles: x", "access.roles: x", "allowed")
    (dotted,) = read_texts({"estate.yaml": text}).errors
    assert (dotted.code, dotted.nearest) == ("claim-not-issued", ("/access/roles",))


def test_claims_can_be_nested_and_named_by_pointers_again() -> None:
    claims = {"sub": "main", "access": {"roles": ["a", "b"], "of": {"x/y": 1}}}
    flat = as_pointers(claims)
    assert flat == {"sub": "main", "/access/roles": ["a", "b"], "/access/of/x~1y": 1}
    assert nested(flat) == claims
    assert all(claim_at(claims, name) == value for name, value in flat.items())
    tightest = dict(sample_of([as_pointers({"sub": "main", "aud": "low", "access": {"level": "high"}})]).tightest)
    assert "/access/level" in tightest


@pytest.mark.parametrize(("level", "expect"), [("high", "allowed"), ("low", "refused")])
def test_the_lab_mints_and_judges_what_stands_in_a_claim(
    enthesis: Program, tmp_path: Path, level: str, expect: str
) -> None:
    listed = ", claims: {/access/level: text}"
    text = ESTATE % (listed, "/access/level: high", f"/access/level: {level}", expect)
    (tmp_path / "estate.yaml").write_text(text)
    assert enthesis("check", at=tmp_path).code == 0
    assert enthesis("lab", "start", at=tmp_path).code == 0
    try:
        assert enthesis("enact", "--yes", at=tmp_path).code == 0
        ran = enthesis("prove", "--format", "json", at=tmp_path)
        assert ran.code == 0, ran.out
        assert ran.json["journeys"][0]["outcome"] == expect
    finally:
        enthesis("lab", "stop", at=tmp_path)

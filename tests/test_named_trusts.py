"""Trusts that name their callers: who is admitted (as the naive evaluator says), who is near, and ceilings."""

from collections import Counter
from dataclasses import replace
from pathlib import Path

import pytest

from enthesis.access.compiling import compile_estate
from enthesis.model.estate import Attempt, Context, Journey, Origin
from enthesis.model.vocabulary import BEARERS, Ending
from enthesis.trusts.named import admitted_by, near_to

from .conftest import Program, examples, start_lab, write_estate
from .naive import Naive
from .test_judging import NOW, random_estate

TEXT = """\
estate: named
organisations: {works: {units: [u]}}
providers: {low: {style: two-sided}}
accounts: {a: {in: "@works/u", provider: low}, b: {in: "@works", provider: low}}
resources:
  a/host/web-1: {runs_as: a/identity/r}
  a/host/db-1: {runs_as: a/identity/r}
  a/host/web-2: {}
  b/host/web-3: {runs_as: b/identity/x}
  a/bucket/c: {}
identities:
  a/identity/r: {kind: instance-role}
  a/identity/s: {kind: service-account}
  b/identity/x: {kind: instance-role}
  "@works/identity/ann": {kind: person}
roles: {takes: {allows: {identity: [take-on]}}, reading: {allows: {object: [read]}}}
grants: [{to: a/identity/r, role: reading, at: a/bucket/c}]
trusts:
  - {of: a/identity/r, admits: {attached: {glob: "a/host/web-*"}}}
  - {of: b/identity/x, admits: {account: a}}
  - {of: a/identity/s, admits: {person: "@works/identity/ann"}, when: {mfa: true}}
ceilings:
  - {name: none-into-b, over: targets, at: b, bars: {identity: [take-on]}}
journeys:
  reads: {from: {host: a/host/web-1}, through: [a/identity/r], attempt: read a/bucket/c/object/o, expect: allowed}
"""


def test_whom_a_trust_admits_is_what_a_request_by_each_gives() -> None:
    counted: Counter[str] = Counter()
    for seed in range(examples(5)):
        estate = random_estate(seed)
        for trust in estate.trusts:
            if trust.admits.form in BEARERS:
                continue
            alone = replace(estate, trusts=(*(one for one in estate.trusts if one.of != trust.of), trust))
            admitted = {one.name for one in admitted_by(compile_estate(estate), trust, NOW)}
            naive = Naive(alone, NOW)
            said = frozenset(("time", "network", "reference"))
            for address, identity in estate.identities.items():
                for mfa in (True, None):
                    origin = Origin(identity.form, address, mfa=mfa, mfa_said=True)
                    context = Context(NOW, None, "r1", said=said)
                    asked = Journey("j", origin, Ending.ALLOWED, (), Attempt("take-on", trust.of), context)
                    if address != trust.of and not any(seen.refused for seen in naive.judge(asked)):
                        counted["allowed"] += 1
                        assert address in admitted, (seed, trust, address)
            counted["admitted"] += len(admitted)
            known = admitted_by(compile_estate(estate), trust, NOW)
            assert not admitted & {one.name for one in near_to(compile_estate(estate), trust, NOW, known)}
    assert counted["allowed"] and counted["admitted"], counted


def test_who_is_admitted_and_who_is_near(enthesis: Program, tmp_path: Path) -> None:
    write_estate(tmp_path, {"estate.yaml": TEXT})
    (told,) = enthesis("admit", "a/identity/r", "--format", "json", at=tmp_path).json["trusts"]
    assert [one["caller"] for one in told["callers"]] == ["a/host/web-1"]
    near = {one["caller"]: one["why"] for one in told["left_out"]}
    assert "does not match a/host/web-*" in near["a/host/db-1"] and "does not run as it" in near["a/host/web-2"]
    (person,) = enthesis("admit", "a/identity/s", "--format", "json", at=tmp_path).json["trusts"]
    assert person["callers"] == [{"caller": "@works/identity/ann", "with": {"mfa": True}}]


def test_a_ceiling_that_bars_all_whom_a_trust_names_is_told(enthesis: Program, tmp_path: Path) -> None:
    write_estate(tmp_path, {"estate.yaml": TEXT})
    ran = enthesis("admit", "b/identity/x", at=tmp_path)
    assert ran.out.startswith("b/identity/x: no caller is admitted by its trust.")
    assert "the ceiling none-into-b bars all whom it names" in ran.out
    found = enthesis("check", "--format", "json", at=tmp_path).json["risks"]
    assert [one["code"] for one in found] == ["never-holds"]


@pytest.mark.parametrize("others", [True, False])
def test_a_live_refusal_at_ceilings_names_the_ceiling(enthesis: Program, tmp_path: Path, others: bool) -> None:
    barring = "ceilings:\n  - {name: no-reading, over: targets, at: a, bars: {object: [read]}}"
    barred = TEXT.replace("ceilings:", barring)
    write_estate(tmp_path / "mine", {"estate.yaml": TEXT if others else barred})
    try:
        start_lab(enthesis, tmp_path / "mine")
        assert enthesis("enact", "--yes", at=tmp_path / "mine").code == 0
        if others:
            write_estate(tmp_path / "theirs", {"estate.yaml": barred.replace("estate: named", "estate: theirs")})
            assert enthesis("lab", "join", str(tmp_path / "mine"), at=tmp_path / "theirs").code == 0
            assert enthesis("enact", "--yes", at=tmp_path / "theirs").code in (0, 1)
            shown = enthesis("propose", at=tmp_path / "mine").out
            assert "made by others, and closes what would be open" in shown and "no-reading" in shown
        ran = enthesis("prove", "reads", at=tmp_path / "mine")
        assert ran.code == 1
        said = "one on the live side does that others wrote" if others else "the ceiling no-reading over targets at a"
        assert said in ran.out, ran.out
    finally:
        enthesis("lab", "stop", "--clean", at=tmp_path / "mine")

"""What a trust lets in: in words, by witnesses, against what was meant, and for sample tokens."""

import base64
import json
from collections.abc import Mapping
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.chains.reach import reachable
from enthesis.conditions.sampling import sample_of
from enthesis.files.folder import read_texts
from enthesis.model.conditions import Equal, Glob
from enthesis.model.estate import Attempt, Context, Estate, Origin
from enthesis.model.vocabulary import BEARERS, Form
from enthesis.trusts.admitting import BESIDES, Admissions, near_misses
from enthesis.verdicts.judge import Judge

from .conftest import Program, examples
from .test_judging import random_estate

MAIN = "project/tides/bulletin/branch/main"
PUBLISHER = "build/identity/publisher"
HEAD = """\
estate: x
organisations: {works: {}}
providers: {north: {style: one-sided}}
accounts: {left: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc, claims: {sub: text, event: text, teams: list}}}
identities: {left/identity/a: {kind: service-account}}
"""
TESTS = st.sampled_from(
    ["tides/main", "{glob: tides/*}", "{glob: 'ti**'}", "{not: tides/fork}", "[tides/main, tides/next]",
     "{glob: '**/main', not: {glob: other/**}}", "{present: true}"]
)  # fmt: skip
CLAIMS = st.dictionaries(st.sampled_from(["sub", "event", "aud", "teams"]), TESTS, min_size=1)


def estate_of(claims: Mapping[str, str]) -> Estate:
    written = ", ".join(f"{name}: {test}" for name, test in claims.items())
    text = f"{HEAD}trusts: [{{of: left/identity/a, admits: {{token: forge, claims: {{{written}}}}}}}]\n"
    reading = read_texts({"estate.yaml": text})
    assert reading.estate is not None, reading.errors
    return reading.estate


NOW = datetime(2026, 11, 24, tzinfo=UTC)


def admissions_of(estate: Estate) -> Admissions:
    return Admissions(compile_estate(estate), NOW)


@given(CLAIMS)
@settings(max_examples=examples(80))
def test_the_engine_admits_every_witness_and_no_near_miss(claims: dict[str, str]) -> None:
    estate = estate_of(claims)
    (trust,) = estate.trusts
    admissions = admissions_of(estate)
    judge = Judge(admissions.compiled)

    def admitted(shown: Mapping[str, object]) -> bool:
        origin = Origin(Form.TOKEN, "forge", {n: v for n, v in shown.items() if v is not None})  # type: ignore[misc]
        attempt = Attempt("take-on", "left/identity/a")
        return judge.judge(Question(origin, (), attempt, Context(), NOW)).allowed

    caller = admissions.example(trust)
    assert caller is not None and admitted(caller)
    near = near_misses(admissions, trust, caller)
    assert near
    for one in near:
        assert admitted(one.shown) == one.admitted, one.what


def test_every_witness_is_admitted_and_where_there_is_none_nobody_is(worlds: int = 8) -> None:
    witnesses = nobody = 0
    for seed in range(worlds):
        estate = random_estate(seed, journeys=2)
        admissions = admissions_of(estate)
        judge = Judge(admissions.compiled)
        for trust in estate.trusts:
            if trust.admits.form not in BEARERS:
                continue
            caller, issuer = admissions.example(trust), str(trust.admits.whom)
            alone = replace(estate, trusts=(trust,), attachments=(), credentials={}, grants=())
            chains = Chains(Web(compile_estate(alone), NOW.timestamp()))
            taking = np.array([pair == ("identity", "take-on") for pair in chains.compiled.permission_pairs], bool)
            reached = {one.target for one in reachable(chains, [chains.from_issuer(issuer)], taking)}
            assert (trust.of in reached) == (caller is not None), (seed, trust.name, caller)
            if caller is None:
                nobody += 1
                continue
            witnesses += 1
            claims = {name: value for name, value in caller.items() if not name.startswith(BESIDES)}
            asked = {name: caller.get(BESIDES + name) for name in ("time", "network", "reference", "session.age")}
            context = Context(asked["time"], asked["network"], asked["reference"], asked["session.age"])  # type: ignore[arg-type]
            origin = Origin(trust.admits.form, issuer, claims)  # type: ignore[arg-type]
            question = Question(origin, (), Attempt("take-on", trust.of), context, context.time or NOW)
            assert judge.judge(question).allowed, (seed, trust.name, caller)
    assert witnesses > 2 * worlds and nobody > worlds


@given(CLAIMS, CLAIMS)
@settings(max_examples=examples(80))
def test_what_goes_beyond_what_was_meant_and_what_is_left_out(entry: dict[str, str], other: dict[str, str]) -> None:
    estate, wanted = estate_of(entry), estate_of(other)
    (trust,) = estate.trusts
    admissions, meant = admissions_of(estate), admissions_of(wanted).callers_of(wanted.trusts[0])
    more, less = admissions.beyond(trust, meant), admissions.left_out(trust, meant)
    admits = admissions.callers_of(trust)
    assert more is None or (admits.has(more) and not meant.has(more))
    assert less is None or (meant.has(less) and not admits.has(less))
    if entry == other:
        assert more is None and less is None


def test_admit_tells_claim_by_claim_and_who_is_near(enthesis: Program, saltmarsh: Path) -> None:
    ran = enthesis("admit", PUBLISHER, at=saltmarsh)
    assert ran.code == 0
    assert "  event  open    not fork-merge" in ran.out
    assert f"admitted  sub {MAIN}, aud lowland, event push" in ran.out
    assert "also admitted: another event" in ran.out
    assert "sub of a sibling with the same beginning" in ran.out
    said = enthesis("admit", PUBLISHER, "--format", "json", at=saltmarsh).json
    (trust,) = said["trusts"]
    admitted = {one["what"] for one in trust["near"] if one["admitted"]}
    assert admitted == {"another event", "aud in a list of two"}
    assert len(trust["near"]) > 20


@pytest.mark.parametrize(
    ("meant", "code", "says"),
    [
        (f"{{sub: {MAIN}, aud: lowland, event: {{not: fork-merge}}}}", 0, "admits just what was meant"),
        (f"{{sub: {MAIN}, aud: lowland, event: push}}", 1, "admits more than what was meant"),
        ("{sub: {glob: project/tides/**}, aud: lowland, event: {not: fork-merge}}", 0, "leaves out some of what"),
        ("{sub: [}", 2, "--meant"),
        ("{sub: {globe: x}}", 2, "`globe` is not an operator"),
    ],
)  # fmt: skip
def test_admit_compares_with_what_was_meant(
    enthesis: Program, saltmarsh: Path, meant: str, code: int, says: str
) -> None:
    ran = enthesis("admit", PUBLISHER, "--meant", meant, at=saltmarsh)
    assert ran.code == code
    assert says in ran.out + ran.err


def token(claims: Mapping[str, object], **header: str) -> str:
    whole = {"iss": "https://forge.saltmarsh.example", "exp": 4_000_000_000, "aud": "lowland", **claims}
    parts = (json.dumps(one).encode() for one in ({"alg": "ES256", "kid": "one", **header}, whole))
    return ".".join([*(base64.urlsafe_b64encode(one).decode().rstrip("=") for one in parts), "c2lnbmVk"])


def test_a_token_is_held_against_a_trust_claim_by_claim(enthesis: Program, saltmarsh: Path) -> None:
    good = token({"sub": MAIN, "aud": ["lowland", "other"], "event": "push"})
    ran = enthesis("admit", PUBLISHER, "--token", "-", "--offline", at=saltmarsh, stdin=good)
    assert ran.code == 0 and "if its signature is good: that was not checked" in ran.out
    ran = enthesis("admit", PUBLISHER, "--token", "-", at=saltmarsh, stdin=good)
    assert ran.code == 3 and "forge at https://forge.saltmarsh.example cannot be reached" in ran.out
    bad = token({"sub": MAIN + "x", "aud": ["harbour"]})
    ran = enthesis("admit", PUBLISHER, "--token", "-", "--offline", at=saltmarsh, stdin=bad)
    assert ran.code == 1
    assert f"sub is {MAIN}x, and is to be {MAIN}" in ran.out
    assert "aud is [harbour], and is to be lowland" in ran.out
    assert "event is not there, and is to be not fork-merge" in ran.out
    assert "c2lnbmVk" not in ran.out + ran.err


def test_an_access_token_is_taken_where_the_trust_says_so(enthesis: Program, saltmarsh: Path) -> None:
    """RFC 9068, section 2.1: an access token says that it is one, and is no identity token."""
    for typ, asked, code in (("at+jwt", False, 1), ("AT+JWT", True, 0), ("JWT", True, 1), ("other+jwt", True, 1)):
        shown = token({"sub": MAIN, "event": "push"}, typ=typ)
        text = (saltmarsh / "publishing.yaml").read_text()
        asking = text.replace("event: {not: fork-merge}}", "event: {not: fork-merge}, typ: at+jwt}") if asked else text
        assert asked is (asking != text)
        (saltmarsh / "publishing.yaml").write_text(asking)
        ran = enthesis("admit", PUBLISHER, "--token", "-", "--offline", at=saltmarsh, stdin=shown)
        (saltmarsh / "publishing.yaml").write_text(text)
        assert ran.code == code, (typ, asked, ran.out, ran.err)


def test_a_sample_token_gives_a_trust_that_admits_it_and_needs_no_estate(enthesis: Program, tmp_path: Path) -> None:
    claims = {
        "iss": "https://forge.example",
        "sub": MAIN,
        "aud": "lowland",
        "event": "push",
        "run": "1234567",
        "exp": 9,
    }
    ran = enthesis("admit", "--from-token", "-", at=tmp_path, stdin=token(claims))
    assert ran.code == 0, ran.err
    assert "The tightest sensible trust pins 3 claims." in ran.out
    assert "sub: {glob: project/tides/bulletin/branch/*}" in ran.out
    said = enthesis("admit", "--from-token", "-", "--format", "json", at=tmp_path, stdin=token(claims)).json
    lines = "\n".join(said["lines"]).replace("ISSUER", "forge").replace("IDENTITY", "left/identity/a")
    reading = read_texts({"estate.yaml": HEAD.replace("issuers: {forge", "kinds: {} # {forge"), "more.yaml": lines})
    assert reading.estate is not None, reading.errors
    (trust,) = reading.estate.trusts
    admits = admissions_of(reading.estate).callers_of(trust)
    assert admits.has(claims)
    assert not admits.has({**claims, "event": "fork"})
    assert sample_of([{"sub": "x"}]).issuer == ""


def test_what_names_nothing_is_told_with_the_nearest(enthesis: Program, saltmarsh: Path) -> None:
    ran = enthesis("admit", "build/identity/publishr", at=saltmarsh)
    assert ran.code == 2 and PUBLISHER in ran.err
    assert enthesis("admit", at=saltmarsh).code == 2


RUN = {"iss": "i", "sub": "project/tides/branch/main", "aud": "lowland", "branch": "main", "event": "push"}


@pytest.mark.parametrize(
    ("claim", "value", "says"),
    [
        ("run", "123", "it is a number and may change with every run"),
        ("commit", "9fceb02d0ae598e95dc970b74767f19372d61af8", "it is a hash"),
        ("id", "6f1e3a52-8d1c-4a7b-9c55-0c1d2e3f4a5b", "it is a random id"),
        ("at", "2026-11-24T10:00:00Z", "it is a time"),
        ("job", "tides/build/123", "segment 3 is a number"),
        ("nonce", "abc", "different in every token"),
        ("attempt", 3, "may change with every run"),
        ("started_by", "maren", "who started the run"),
        ("commitMessage", "fix the gauges", "free text"),
    ],
)
def test_a_claim_that_the_next_run_will_not_show_is_not_pinned(claim: str, value: Any, says: str) -> None:
    sample = sample_of([{**RUN, claim: value}])
    assert [name for name, _ in sample.tightest] == ["sub", "aud", "branch", "event"]
    assert says in sample.why[claim]
    assert set(sample.why) == {*RUN, claim}


def test_what_differs_between_samples_is_not_pinned_and_what_does_not_is() -> None:
    one = {**RUN, "project": "42", "run": "7", "event": "push", "sub": "project/tides/run/7"}
    other = {**RUN, "project": "42", "run": "8", "event": "schedule", "sub": "project/tides/run/8"}
    sample = sample_of([one, other])
    assert dict(sample.tightest) == {
        "sub": Glob("project/tides/run/*"), "aud": Equal("lowland"), "branch": Equal("main"), "project": Equal("42"),
    }  # fmt: skip
    assert sample.why["project"] == "the same in all 2 samples"
    assert sample.why["event"] == "it differs between the samples"
    assert "every person who can push" in sample.why["branch"]
    assert "sub" not in dict(sample_of([RUN, {**RUN, "sub": "elsewhere"}]).tightest)


def test_several_samples_are_given_to_the_program(enthesis: Program, tmp_path: Path) -> None:
    for name, run, sub in (("a", "7", MAIN), ("b", "8", MAIN), ("c", "9", "other/subject")):
        (tmp_path / name).write_text(token({"sub": sub, "event": "push", "run": run, "iss": "https://one.example"}))
    (tmp_path / "d").write_text(token({"sub": MAIN, "iss": "https://two.example"}))
    ran = enthesis("admit", "--from-token", "a", "--from-token", "b", "--format", "json", at=tmp_path)
    assert ran.json["samples"] == 2 and set(ran.json["claims"]) == {"sub", "aud", "event"}
    ran = enthesis("admit", "--from-token", "a", "--from-token", "c", at=tmp_path)
    assert "No subject is pinned" in ran.out
    ran = enthesis("admit", "--from-token", "a", "--from-token", "d", at=tmp_path)
    assert ran.code == 2 and "different issuers" in ran.err

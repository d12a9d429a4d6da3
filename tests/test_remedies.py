"""What would allow a request: never more than it needs, and by running code where that is a way."""

from datetime import UTC, datetime, timedelta
from typing import Any

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.chains.differences import newly_allowed
from enthesis.files.folder import read_texts
from enthesis.model.conditions import Equal
from enthesis.model.estate import Attempt, Claims, Context, Estate, Hop, Origin
from enthesis.model.vocabulary import Form
from enthesis.verdicts.judge import Judge
from enthesis.verdicts.remedies import Change, remedies_for

NOW = datetime(2026, 11, 24, tzinfo=UTC)
HEAD = """\
estate: x
organisations: {works: {}, away: {outside: true}}
providers: {north: {style: one-sided}}
accounts: {left: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc}}
resources: {left/bucket/b: {}, left/host/h: {runs_as: left/identity/c}, left/host/i: {}}
identities:
  left/identity/a: {kind: service-account}
  left/identity/b: {kind: service-account}
  left/identity/c: {kind: instance-role}
  "@works/identity/maren": {kind: person}
roles:
  reading: {allows: {object: [read]}}
  logging-in: {allows: {host: [login], identity: [run-as]}}
"""
READ = Attempt("read", "left/bucket/b/object/o")


def estate_of(body: str) -> Estate:
    reading = read_texts({"estate.yaml": HEAD + body})
    assert reading.estate is not None, reading.errors
    return reading.estate


def ways(
    body: str, origin: Origin, *through: Hop, attempt: Attempt | None = READ, **context: Any
) -> list[list[Change]]:
    """The remedies of a question that an estate refuses."""
    estate = estate_of(body)
    question = Question(origin, through, attempt, Context(**context), NOW)
    verdict = Judge(compile_estate(estate)).judge(question)
    assert not verdict.allowed
    return [list(one.changes) for one in remedies_for(estate, verdict).found]


def sentences(found: list[list[Change]]) -> list[str]:
    return ["; ".join(change.sentence for change in one) for one in found]


def test_a_trust_that_is_offered_pins_nothing_that_the_next_token_lacks() -> None:
    shows: Claims = {
        "sub": "tides/main",
        "aud": ("elsewhere", "north"),
        "nonce": "x",
        "iat": 5,
        "jti": "y",
        "run": "123",
    }
    found = ways("", Origin(Form.TOKEN, "forge", shows), attempt=Attempt("take-on", "left/identity/a"))
    (trust,) = [one.value for one in found[0]]
    assert dict(trust.admits.conditions) == {"sub": Equal("tides/main"), "aud": Equal("north")}
    assert trust.session == timedelta(minutes=15)


def test_a_claim_of_one_run_alone_is_not_added_to_a_trust() -> None:
    body = "trusts: [{of: left/identity/a, admits: {token: forge, claims: {sub: tides/main, run: '122'}}}]\n"
    shows = {"sub": "tides/main", "aud": "north", "run": "123"}
    found = ways(body, Origin(Form.TOKEN, "forge", shows), attempt=Attempt("take-on", "left/identity/a"))
    assert not any("run be 123" in one for one in sentences(found))
    assert [dict(one.value.admits.conditions) for one in found[0]] == [
        {"sub": Equal("tides/main"), "aud": Equal("north")}
    ]
    lasting = body.replace("run: '122'", "event: push")
    found = ways(
        lasting, Origin(Form.TOKEN, "forge", {**shows, "event": "tag"}), attempt=Attempt("take-on", "left/identity/a")
    )
    assert "let event be tag too in the trust of left/identity/a" in sentences(found)


def test_running_code_on_a_host_is_a_way_where_the_caller_may() -> None:
    body = (
        "grants:\n"
        "  - {to: left/identity/a, role: logging-in, at: left/host/h}\n"
        "  - {to: left/identity/a, role: logging-in, at: left/identity/c}\n"
        "  - {to: left/identity/c, role: reading, at: left/bucket/b}\n"
        "trusts: [{of: left/identity/c, admits: {attached: true}}]\n"
    )
    found = ways(body, Origin(Form.IDENTITY, "left/identity/a"))
    assert sentences(found)[0] == "run code on left/host/h first, and take on left/identity/c there"
    barred = body.replace("  - {to: left/identity/a, role: logging-in, at: left/identity/c}\n", "")
    assert sentences(found)[0] not in sentences(ways(barred, Origin(Form.IDENTITY, "left/identity/a")))


def test_two_sessions_that_are_too_short_are_lengthened_together() -> None:
    body = (
        "trusts:\n"
        "  - {of: left/identity/a, admits: {token: forge, claims: {sub: x}}, session: 15m}\n"
        "  - {of: left/identity/b, admits: {identity: left/identity/a}, session: 15m}\n"
        "grants: [{to: left/identity/b, role: reading, at: left/bucket/b}]\n"
    )
    hops = (Hop("left/identity/a"), Hop("left/identity/b"))
    found = ways(body, Origin(Form.TOKEN, "forge", {"sub": "x"}), *hops, session_age=timedelta(hours=2))
    assert sentences(found)[0] == ("let sessions as left/identity/a last 3h; let sessions as left/identity/b last 3h")


def test_nobody_is_offered_to_act_as_a_person() -> None:
    found = ways("", Origin(Form.IDENTITY, "left/identity/a"), attempt=Attempt("take-on", "@works/identity/maren"))
    assert found == []


def test_a_new_role_is_narrower_than_what_the_estate_has() -> None:
    wide = HEAD.replace("reading: {allows: {object: [read]}}", "reading: {allows: {object: [read, write, list]}}")
    reading = read_texts({"estate.yaml": wide})
    assert reading.estate is not None
    question = Question(Origin(Form.IDENTITY, "left/identity/a"), (), READ, Context(), NOW)
    verdict = Judge(compile_estate(reading.estate)).judge(question)
    first, *others = remedies_for(reading.estate, verdict).found
    assert [one.section for one in first.changes] == ["roles", "grants"]
    assert first.changes[0].value.allows == {"object": ("read",)}
    assert any(one.changes[0].value.role == "reading" for one in others)


def test_a_condition_that_is_one_value_too_narrow_is_widened_by_that_value() -> None:
    body = "grants: [{to: left/identity/a, role: reading, at: left/bucket/b, when: {reference: one}}]\n"
    found = ways(body, Origin(Form.IDENTITY, "left/identity/a"), reference="two")
    (change,) = next(one for one in found if "let reference be two too in the grant at " in one[0].sentence)
    assert change.plain == ["one", "two"] and change.path == ("when", "reference")
    ended = body.replace("when: {reference: one}", "until: '2020-01-01T00:00:00Z'")
    assert any(
        one.startswith("take the end away") for one in sentences(ways(ended, Origin(Form.IDENTITY, "left/identity/a")))
    )
    both = body.replace("when:", "until: '2020-01-01T00:00:00Z', when:")
    assert not any(
        "too in the grant" in one
        for one in sentences(ways(both, Origin(Form.IDENTITY, "left/identity/a"), reference="two"))
    )


def also(body: str, question: Question, sentence: str) -> set[str]:
    """What a remedy allows besides what was asked."""
    estate = estate_of(body)
    verdict = Judge(compile_estate(estate)).judge(question)
    remedy = next(one for one in remedies_for(estate, verdict).found if sentence in one.changes[0].sentence)
    gains = newly_allowed(estate, remedy, verdict)
    return {f"{one.form} {one.caller} {one.verb} {one.target}" for one in gains if "…/…" not in one.target}


def test_what_else_a_remedy_allows_is_told_without_what_was_asked() -> None:

    body = HEAD.replace("reading: {allows: {object: [read]}}", "reading: {allows: {object: [read, list]}}")
    reading = read_texts({"estate.yaml": body})
    assert reading.estate is not None
    question = Question(Origin(Form.IDENTITY, "left/identity/a"), (), READ, Context(), NOW)
    verdict = Judge(compile_estate(reading.estate)).judge(question)
    remedy = next(one for one in remedies_for(reading.estate, verdict).found if len(one.changes) == 1)
    gains = newly_allowed(reading.estate, remedy, verdict)
    told = {(one.caller, one.verb, one.target) for one in gains}
    assert ("left/identity/a", "list", "left/bucket/b/object/o") in told
    assert ("left/identity/a", "read", "left/bucket/b/object/o") not in told


def test_widened_claims_tell_of_other_bearers_and_not_of_the_one_that_asked() -> None:
    body = (
        "trusts: [{of: left/identity/a, admits: {token: forge, claims: {sub: main, event: push}}}]\n"
        "grants: [{to: left/identity/a, role: reading, at: left/bucket/b}]\n"
    )
    shows: Claims = {"sub": "main", "event": "tag"}
    question = Question(Origin(Form.TOKEN, "forge", shows), (), Attempt("take-on", "left/identity/a"), Context(), NOW)
    found = also(body, question, "let event be tag too")
    assert found == {"token forge read left/bucket/b/object/…"}


def test_the_ceiling_that_bars_is_the_one_that_makes_an_exception() -> None:
    body = (
        "ceilings:\n"
        "  - {name: harmless, over: callers, at: left, bars: {bucket: [delete]}}\n"
        "  - {name: strict, over: targets, at: left, bars: {object: [read]}, except: [left/identity/b]}\n"
        "  - {name: late, over: callers, at: left, bars: {key: [encrypt]}}\n"
        "grants: [{to: left/identity/a, role: reading, at: left/bucket/b}]\n"
    )
    ((change,),) = ways(body, Origin(Form.IDENTITY, "left/identity/a"))
    assert change.sentence == "except left/identity/a from the ceiling strict"
    assert change.plain == ["left/identity/b", "left/identity/a"] and change.width == 20


def test_a_wrong_name_is_corrected_where_it_stands_and_a_disabled_identity_is_enabled() -> None:
    grant = "grants: [{to: left/identity/a, role: reading, at: left/bucket/b}]\n"
    wrong = Attempt("read", "left/bucket/bb/object/o")
    found = ways(grant, Origin(Form.IDENTITY, "left/identity/a"), attempt=wrong)
    assert any(one.startswith("ask for left/bucket/b") for one in sentences(found))
    disabled = HEAD.replace(
        "left/identity/a: {kind: service-account}", "left/identity/a: {kind: service-account, disabled: true}"
    )
    reading = read_texts({"estate.yaml": disabled + grant})
    assert reading.estate is not None
    question = Question(Origin(Form.IDENTITY, "left/identity/a"), (), READ, Context(), NOW)
    (first, *_) = remedies_for(reading.estate, Judge(compile_estate(reading.estate)).judge(question)).found
    assert [one.sentence for one in first.changes] == ["enable left/identity/a again"]

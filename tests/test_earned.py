"""Allowed is earned: by a request, by each of its seven steps, by an outcome that counts there; and asked for."""

from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime
from random import Random
from typing import Any, cast

import pytest

from enthesis import library
from enthesis.access.answers import Request, StepOutcome, Verdict
from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question, question_of
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.chains.invariants import Decided
from enthesis.cli.check import _Judged
from enthesis.files.folder import read_texts
from enthesis.library import parse_estate as estate_of
from enthesis.model.errors import InvalidInput, NotDecided
from enthesis.model.estate import Context, Origin
from enthesis.model.vocabulary import EARNED, STEPS, Ending, Form, Holding, Outcome, VerdictStep
from enthesis.testing import Verdicts
from enthesis.trusts.risks import Risks
from enthesis.verdicts.expectations import Seen, expectation_unmet, judge_journey
from enthesis.verdicts.judge import Judge

NOW = datetime(2026, 11, 24, tzinfo=UTC)
ESTATE = """\
estate: yard
organisations: {works: {}}
providers: {north: {style: two-sided}}
accounts: {left: {in: "@works", provider: north}, right: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc}}
resources: {left/bucket/b: {encrypted_by: left/key/k}, left/key/k: {}}
identities: {right/identity/a: {kind: service-account}}
roles: {reads: {allows: {object: [read], key: [decrypt]}}}
trusts: [{of: right/identity/a, admits: {token: forge, claims: {sub: x, aud: north}}}]
grants:
  - {to: right/identity/a, role: reads, at: left, held_by: left}
  - {to: right/identity/a, role: reads, at: left, held_by: right}
journeys:
  reads:
    from: {token: forge, claims: {sub: x, aud: north}}
    through: [right/identity/a]
    attempt: read left/bucket/b/object/x
    expect: allowed
"""
NO_RISKS = Risks()
Change = Callable[[tuple[StepOutcome, ...], Random], tuple[StepOutcome, ...]]


def left_out(steps: tuple[StepOutcome, ...], rng: Random) -> tuple[StepOutcome, ...]:
    return tuple(rng.sample(steps, rng.randrange(len(steps))))


def doubled(steps: tuple[StepOutcome, ...], rng: Random) -> tuple[StepOutcome, ...]:
    at = rng.randrange(len(steps))
    return (*steps[: at + 1], steps[at], *steps[at + rng.choice((1, 2)) :])


def shuffled(steps: tuple[StepOutcome, ...], rng: Random) -> tuple[StepOutcome, ...]:
    one, two = rng.sample(range(len(steps)), 2)
    out = list(steps)
    out[one], out[two] = out[two], out[one]
    return tuple(out)


def misspelt(steps: tuple[StepOutcome, ...], rng: Random) -> tuple[StepOutcome, ...]:
    at, wrong = rng.randrange(len(steps)), cast(Any, rng.choice(["allowd", "", "Allowed", "ok", None, True, 1]))
    changed = replace(steps[at], **{rng.choice(("outcome", "name")): wrong})
    return (*steps[:at], changed, *steps[at + 1 :])


def not_known(steps: tuple[StepOutcome, ...], rng: Random) -> tuple[StepOutcome, ...]:
    some = rng.sample(range(len(steps)), rng.randrange(1, len(steps) + 1))
    return tuple(replace(step, outcome=Outcome.UNKNOWN) if at in some else step for at, step in enumerate(steps))


def at_a_step_where_it_does_not_count(steps: tuple[StepOutcome, ...], rng: Random) -> tuple[StepOutcome, ...]:
    at = rng.randrange(len(steps))
    others = [outcome for outcome in Outcome if outcome not in EARNED[steps[at].name]]
    return (*steps[:at], replace(steps[at], outcome=rng.choice(others)), *steps[at + 1 :])


@pytest.mark.parametrize(
    "change", [left_out, doubled, shuffled, misspelt, not_known, at_a_step_where_it_does_not_count]
)
def test_no_verdict_that_lacks_anything_is_allowed(change: Change) -> None:
    verdict = Judge(compile_estate(estate_of(ESTATE))).judge(question_of(estate_of(ESTATE).journeys["reads"], NOW))
    assert verdict.allowed and verdict.ending is Ending.ALLOWED
    for seed in range(40):
        rng = Random(seed)
        at = rng.randrange(len(verdict.requests))
        request = replace(verdict.requests[at], steps=change(verdict.requests[at].steps, rng))
        broken = replace(verdict, requests=(*verdict.requests[:at], request, *verdict.requests[at + 1 :]))
        assert not request.allowed and not broken.allowed, f"seed {seed}: {request.steps}"
        assert broken.ending is (Ending.REFUSED if broken.refused_at else Ending.UNDECIDED)
        companion = replace(verdict.requests[1].step(VerdictStep.COMPANIONS), within=(request,))
        around = tuple(companion if step.name is companion.name else step for step in verdict.requests[1].steps)
        assert not replace(verdict.requests[1], steps=around).allowed, f"seed {seed}: within a companion"


def test_what_counts_where_is_as_a_verdict_means_it() -> None:
    for step in STEPS:
        assert (Outcome.NOT_NEEDED in EARNED[step]) is (step not in (VerdictStep.NAMES, VerdictStep.TARGET_SIDE))
        assert (Outcome.THEIRS in EARNED[step]) is (step is VerdictStep.CALLER_SIDE)
        assert not EARNED[step] & {Outcome.REFUSED, Outcome.UNKNOWN}


def test_no_request_is_no_yes_and_a_question_asks_for_something() -> None:
    origin = Origin(Form.TOKEN, "forge", {"sub": "x"})
    with pytest.raises(InvalidInput, match="nothing is asked for"):
        Question(origin, (), None, Context(), NOW)
    estate = estate_of(ESTATE)
    question = question_of(estate.journeys["reads"], NOW)
    assert not Verdict(question, ()).allowed and Verdict(question, ()).ending is Ending.UNDECIDED
    empty = Request("", "take-on", "right/identity/a", None, ())
    assert not Verdict(question, (empty,)).allowed
    with pytest.raises(InvalidInput, match="nothing is asked for"):
        library.ask(estate, {"from": {"token": "forge", "claims": {"sub": "x", "aud": "north"}}})
    with pytest.raises(InvalidInput, match="nothing is asked for"):
        Verdicts(estate).allowed({"from": {"token": "forge", "claims": {"sub": "x", "aud": "north"}}, "through": []})
    with pytest.raises(InvalidInput, match="nothing is asked for"):
        judge_journey(compile_estate(estate), replace(estate.journeys["reads"], through=(), attempt=None), NOW)
    written = read_texts({"estate.yaml": ESTATE.replace("through: [right/identity/a]", "through: []").replace(
        "    attempt: read left/bucket/b/object/x\n", "")})  # fmt: skip
    assert [error.code for error in written.errors] == ["missing-field"]


def test_what_is_not_decided_meets_no_expectation() -> None:
    estate = estate_of(ESTATE)
    for expect in (Ending.ALLOWED, Ending.REFUSED):
        journey = replace(estate.journeys["reads"], expect=expect)
        for ending in Ending:
            unmet = list(expectation_unmet(estate, journey, Seen(ending, (), ())))
            assert bool(unmet) is (ending is not expect), (expect, ending)


def test_what_was_not_decided_is_no_success_and_no_plain_no() -> None:
    estate = estate_of(ESTATE + "invariants: [{name: i, never: {can: read, at: left}}]\n")
    chains = Chains(Web(compile_estate(estate), NOW.timestamp()))
    journey = judge_journey(chains.compiled, estate.journeys["reads"], NOW)
    (invariant,) = estate.invariants

    def code(
        outcome: Holding, *, undecided: int = 0, met: bool = True, gained: bool = False, unsure: bool = False
    ) -> int:
        judged = journey if met else replace(journey, unmet=("it is not",))
        found = _Judged(chains, [judged], [Decided(invariant, outcome)], replace(NO_RISKS, undecided=undecided))
        return found.exit_code(gained=gained, unsure=unsure)

    assert code(Holding.HOLDS) == 0
    assert (
        code(Holding.UNDECIDED)
        == code(Holding.HOLDS, undecided=1)
        == code(Holding.HOLDS, unsure=True)
        == NotDecided.exit_code
        == 5
    )
    for wrong in (
        code(Holding.BROKEN, undecided=1),
        code(Holding.UNDECIDED, met=False),
        code(Holding.UNDECIDED, gained=True, unsure=True),
    ):
        assert wrong == 1

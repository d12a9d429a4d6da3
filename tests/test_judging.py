"""The engine against a naive second evaluator, on random estates with every feature in play."""

import json
from collections import Counter
from dataclasses import replace
from datetime import UTC, datetime
from random import Random

from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question, question_of
from enthesis.files.editing import edited
from enthesis.files.folder import read_texts
from enthesis.files.writing import estate_text
from enthesis.model.estate import Estate, Journey
from enthesis.model.vocabulary import STEPS, Ending, Outcome
from enthesis.verdicts.judge import Judge
from enthesis.verdicts.remedies import Change, applied, asked, remedies_for

from .conftest import BRIEF, examples
from .naive import Naive
from .worlds import World

NOW = datetime(2026, 11, 24, tzinfo=UTC)
JOURNEYS = 30  # an estate


def random_estate(seed: int, journeys: int = JOURNEYS) -> Estate:
    """An estate with journeys, from a seed."""
    world = World(Random(seed))
    made = {f"j{number}": world.journey() for number in range(journeys)}
    reading = read_texts(
        {"estate.json": json.dumps({**world.data, "grants": world.spread(world.data["grants"]), "journeys": made})}
    )
    assert reading.estate is not None, [(one.code, one.message) for one in reading.errors[:3]]
    return reading.estate


def test_engine_and_naive_evaluator_agree_on_every_step_of_every_request() -> None:
    counted: Counter[str] = Counter()

    @given(st.integers(0, 2**32))
    @settings(max_examples=examples(70))
    def compare(seed: int) -> None:
        estate = random_estate(seed)
        judge, naive = Judge(compile_estate(estate)), Naive(estate, NOW)
        for journey in estate.journeys.values():
            verdict, judged = judge.judge(question_of(journey, NOW)), naive.judge(journey)
            counted["hanging"] += sum(naive.hang_on_a_condition(journey))
            for request, seen in zip(verdict.requests, judged, strict=True):
                counted["requests"] += 1
                counted["allowed"] += request.allowed
                for step in request.steps:
                    for word in (Outcome.REFUSED, Outcome.THEIRS):
                        place = f"seed {seed}, {journey.name}, {request.verb} {request.target}, {step.name}"
                        assert (step.outcome == word) == (seen.steps[step.name] == word), place
                    counted[step.name] += step.outcome is Outcome.REFUSED

    compare()
    assert counted["requests"] > examples(3000)
    assert counted["allowed"] > 0.3 * counted["requests"], counted
    assert counted["hanging"] > 0.25 * counted["requests"], counted
    assert all(counted[step] > examples(50) for step in STEPS), counted


def test_every_remedy_turns_the_verdict_needs_all_of_its_changes_and_can_be_written() -> None:
    counted: Counter[str] = Counter()

    @given(st.integers(0, 2**32))
    @settings(max_examples=examples(12))
    def compare(seed: int) -> None:
        rng = Random(seed)
        estate = random_estate(seed)
        text = estate_text(estate)
        reading = read_texts({"estate.yaml": text})
        assert reading.estate is not None
        estate = reading.estate
        judge = Judge(compile_estate(estate))
        refused = [
            verdict
            for journey in estate.journeys.values()
            if not (verdict := judge.judge(question_of(journey, NOW))).allowed
        ]
        for verdict in rng.sample(refused, min(3, len(refused))):
            remedies = remedies_for(estate, verdict)
            counted["refused"] += 1
            counted["with a remedy"] += bool(remedies.found)
            for remedy in remedies.found[:3]:
                assert turned(estate, remedy.changes, verdict.question), f"seed {seed}"
                for change in remedy.changes:
                    rest = tuple(one for one in remedy.changes if one is not change)
                    assert not turned(estate, rest, verdict.question), f"seed {seed}: not minimal: {change.sentence}"
                edits = [edit for change in remedy.changes if (edit := change.edit()) is not None]
                written = read_texts(edited({"estate.yaml": text}, edits))
                assert written.errors == (), f"seed {seed}: {written.errors[:1]}"
                assert written.estate == applied(estate, remedy.changes), f"seed {seed}"
                counted["remedies"] += 1

    compare()
    assert counted["remedies"] > examples(15), counted
    assert BRIEF or counted["with a remedy"] > 0.35 * counted["refused"], counted


def turned(estate: Estate, changes: tuple[Change, ...], question: Question) -> bool:
    """Whether the naive evaluator allows the question once these changes are made."""
    after, now = applied(estate, changes), asked(question, changes)
    if any(grant.role not in after.roles for grant in after.grants):
        return False  # a grant of a role that is not there is no estate at all
    journey = Journey(
        "asked", now.origin, Ending.ALLOWED, now.through, now.attempt, replace(now.context, time=now.time)
    )
    return not any(seen.refused for seen in Naive(after, NOW).judge(journey))

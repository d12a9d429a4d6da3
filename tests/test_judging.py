"""The engine against a naive second evaluator, on random estates with every feature in play."""

import json
from collections import Counter
from datetime import UTC, datetime
from random import Random

from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.judging.compiling import compile_estate
from enthesis.judging.judge import Judge
from enthesis.judging.questions import question_of
from enthesis.judging.verdicts import REFUSED, STEPS, THEIRS
from enthesis.model.estate import Estate
from enthesis.reading.folder import read_texts

from .oracle import Oracle
from .worlds import World

NOW = datetime(2026, 11, 24, tzinfo=UTC)
JOURNEYS = 30  # an estate


def random_estate(seed: int, journeys: int = JOURNEYS) -> Estate:
    """An estate with journeys, from a seed."""
    world = World(Random(seed))
    made = {f"j{number}": world.journey() for number in range(journeys)}
    reading = read_texts({"estate.json": json.dumps({**world.data, "journeys": made})})
    assert reading.estate is not None, [(one.code, one.message) for one in reading.mistakes[:3]]
    return reading.estate


def test_engine_and_oracle_agree_on_every_step_of_every_request() -> None:
    counted: Counter[str] = Counter()

    @given(st.integers(0, 2**32))
    @settings(max_examples=70)
    def compare(seed: int) -> None:
        estate = random_estate(seed)
        judge, oracle = Judge(compile_estate(estate)), Oracle(estate, NOW)
        for journey in estate.journeys.values():
            verdict, judged = judge.judge(question_of(journey, NOW)), oracle.judge(journey)
            counted["hanging"] += sum(oracle.hang_on_a_condition(journey))
            for request, seen in zip(verdict.requests, judged, strict=True):
                counted["requests"] += 1
                counted["allowed"] += request.allowed
                for step in request.steps:
                    for word in (REFUSED, THEIRS):
                        place = f"seed {seed}, {journey.name}, {request.verb} {request.target}, {step.name}"
                        assert (step.outcome == word) == (seen.steps[step.name] == word), place
                    counted[step.name] += step.outcome == REFUSED

    compare()
    assert counted["requests"] > 3000
    assert counted["allowed"] > 0.3 * counted["requests"], counted
    assert counted["hanging"] > 0.3 * counted["requests"], counted
    assert all(counted[step] > 50 for step in STEPS), counted

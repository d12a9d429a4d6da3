"""What the lab's clouds enforce, against what the engine says: two opinions that share no code."""

import json
from datetime import UTC, datetime
from pathlib import Path
from random import Random

import pytest

from enthesis.judging.compiling import compile_estate
from enthesis.judging.judge import Judge
from enthesis.judging.questions import question_of
from enthesis.reading.folder import read_folder

from .conftest import Program, write_estate
from .worlds import LiveWorld

JOURNEYS = 60


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_live_journeys_end_as_the_engine_says_and_are_refused_at_the_same_steps(
    enthesis: Program, tmp_path: Path, seed: int
) -> None:
    world = LiveWorld(Random(seed))
    made = {f"j{number}": world.journey() for number in range(JOURNEYS)}
    folder = write_estate(tmp_path / "estate", {"estate.yaml": json.dumps({**world.plain(), "journeys": made})})
    try:
        assert enthesis("lab", "start", at=folder).code == 0
        enacted = enthesis("enact", "--yes", "--quiet", at=folder)
        assert enacted.code == 0, enacted.err
        proved = {one["journey"]: one for one in enthesis("prove", "--format", "json", at=folder).json["journeys"]}
    finally:
        enthesis("lab", "stop", "--clean", at=folder)
    estate = read_folder(folder).estate
    assert estate is not None
    judge = Judge(compile_estate(estate))
    allowed = 0
    for name, journey in estate.journeys.items():
        verdict, live = judge.judge(question_of(journey, datetime.now(UTC))), proved[name]
        first = verdict.first_refused
        assert live["outcome"] == ("allowed" if verdict.allowed else "refused"), (name, live["evidence"])
        if first is not None and "names" not in first.refusing:
            assert live["refused_at"] == list(first.refusing), (name, live["evidence"])
        allowed += verdict.allowed
    assert JOURNEYS * 0.15 < allowed < JOURNEYS * 0.85

"""What the lab's clouds enforce, against what the engine says: two opinions that share no code."""

from pathlib import Path

import pytest

from .conftest import LONG, SEED, Program
from .enacting import changed_by_hand, enacted_and_proved, enacted_whole

JOURNEYS = 60 if LONG else 30


@pytest.mark.parametrize("seed", [SEED + 1, SEED + 2, SEED + 3] if LONG else [1])
def test_live_journeys_end_as_the_engine_says_and_are_refused_at_the_same_steps(
    enthesis: Program, tmp_path: Path, seed: int
) -> None:
    counted = enacted_and_proved(enthesis, tmp_path / "estate", seed, JOURNEYS)
    assert JOURNEYS * 0.15 < counted["journeys allowed"] < JOURNEYS * 0.85


@pytest.mark.parametrize("seed", [SEED + 5, SEED + 6] if LONG else [11])
def test_a_survey_says_what_is_met_live_also_of_what_was_changed_by_hand(
    enthesis: Program, tmp_path: Path, seed: int
) -> None:
    counted = changed_by_hand(enthesis, tmp_path / "estate", seed, 60)
    assert counted["changes by hand"] > 10 and counted["journeys that changes decide"] > 0


def test_what_nobody_can_hold_is_named_before_anything_is_done(enthesis: Program, tmp_path: Path) -> None:
    counted = enacted_whole(enthesis, tmp_path / "estate", 1)
    assert counted["statements made there"] > 30 and counted["named as impossible there"] > 5

"""What a shell offers while a command is typed: commands, options, and the names of the estate at hand."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

from .conftest import Program


@pytest.fixture(scope="module")
def folder(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = tmp_path_factory.mktemp("completing") / "reading"
    assert enthesis("start", "instance-reads-bucket", str(place), "--usual-names", at=place.parent).code == 0
    return place


def offered(typed: str, at: Path) -> list[str]:
    """What is offered for the last word of a command line."""
    words = {"COMP_WORDS": typed, "COMP_CWORD": str(len(typed.split(" ")) - 1), "_ENTHESIS_COMPLETE": "complete_bash"}
    program = Path(sys.executable).parent / "enthesis"
    env = {**os.environ, **words}
    ran = subprocess.run([program], cwd=at, env=env, capture_output=True, text=True, check=False)
    assert not ran.stderr
    return ran.stdout.split()


def test_commands_and_options_are_offered(folder: Path) -> None:
    assert {"propose", "prove"} <= set(offered("enthesis pro", folder))
    assert offered("enthesis prove --ne", folder) == ["--near-misses"]
    assert {"start", "stop", "status"} == set(offered("enthesis lab st", folder))


def test_names_of_the_estate_at_hand_are_offered(folder: Path, tmp_path: Path) -> None:
    places = offered("enthesis reach --to ", folder)
    assert places and all(
        place.startswith(places[0][:2]) for place in offered(f"enthesis card {places[0][:2]}", folder)
    )
    assert offered("enthesis trace --journey ", folder)
    assert offered("enthesis reach --from zzz", folder) == []
    assert offered("enthesis reach --to ", tmp_path) == []  # where there is no estate
    (tmp_path / "estate.yaml").write_text("estate: [")
    assert offered("enthesis reach --to ", tmp_path) == []  # or one that cannot be read

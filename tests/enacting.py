"""Random estates enacted at a lab, held against what the engine says of them. Shared with `bench/enacted.py`."""

import json
import os
import subprocess
import sys
from collections import Counter
from datetime import UTC, datetime
from pathlib import Path
from random import Random

from enthesis.files.folder import read_folder
from enthesis.verdicts.compiling import compile_estate
from enthesis.verdicts.judge import Judge
from enthesis.verdicts.questions import question_of

from .conftest import ACCEPTED, Program, Ran, write_estate
from .worlds import LiveWorld, World


def enacted_and_proved(enthesis: Program, folder: Path, seed: int, journeys: int) -> Counter[str]:
    """Enacts an estate that the lab's clouds can hold, and proves its journeys; AssertionError on any difference."""
    world = LiveWorld(Random(seed))
    made = {f"j{number}": world.journey() for number in range(journeys)}
    write_estate(folder, {"estate.yaml": json.dumps({**world.plain(), "journeys": made})})
    try:
        started = enthesis("lab", "start", at=folder)
        assert started.code == 0, (seed, started.err)
        enacted = enthesis("enact", "--yes", *ACCEPTED, "--quiet", at=folder)
        assert enacted.code == 0, (seed, enacted.err)
        left = enthesis("propose", "--expect-none", "--format", "json", at=folder)
        assert left.code == 0, (seed, left.json["steps"], left.json["blocked"])
        proved = {one["journey"]: one for one in enthesis("prove", "--format", "json", at=folder).json["journeys"]}
        tried = enthesis("prove", "--near-misses", "--format", "json", at=folder)
        assert "trials" in tried.out, (seed, tried.out)
        near = tried.json["trials"]
    finally:
        enthesis("lab", "stop", "--clean", at=folder)
    estate = read_folder(folder).estate
    assert estate is not None
    judge = Judge(compile_estate(estate))
    counted: Counter[str] = Counter(worlds=1)
    for about in near:
        assert about["met"], (seed, about["about"], [one for one in about["trials"] if not one["met"]])
        counted["witnesses admitted live"] += any(one["expected"] == "allowed" for one in about["trials"])
        counted["near-misses refused live"] += about["refused"]
    for name, journey in estate.journeys.items():
        verdict, live = judge.judge(question_of(journey, datetime.now(UTC))), proved[name]
        first = verdict.first_refused
        outcome = "allowed" if verdict.allowed else "refused"
        assert live["outcome"] == outcome, (seed, name, live["evidence"])
        if first is not None and "names" not in first.refused_at:
            assert live["refused_at"] == list(first.refused_at), (seed, name, live["evidence"])
        counted[f"journeys {outcome}"] += 1
    return counted


def enacted_whole(enthesis: Program, folder: Path, seed: int) -> Counter[str]:
    """Enacts an estate with statements that nobody can hold too: they are named, and nothing fails half-way."""
    write_estate(folder, {"estate.yaml": json.dumps(World(Random(seed)).data)})
    try:
        assert enthesis("lab", "start", at=folder).code == 0
        proposed = enthesis("propose", "--format", "json", at=folder).json
        enacted = enthesis("enact", "--yes", *ACCEPTED, "--quiet", at=folder)
        assert enacted.code == 0, (seed, enacted.err)
        after = enthesis("propose", "--format", "json", at=folder).json
    finally:
        enthesis("lab", "stop", "--clean", at=folder)
    assert not after["steps"], (seed, [step["sentence"] for step in after["steps"]])
    assert after["blocked"] == proposed["blocked"], seed
    return Counter({
        "worlds with the impossible": 1, "statements made there": len(proposed["steps"]),
        "named as impossible there": len(after["blocked"]),
    })  # fmt: skip


def program(home: Path) -> Program:
    """Runs the program, with a home of its own."""
    environment = {**os.environ, "HOME": str(home), "XDG_CACHE_HOME": str(home / "cache")}

    def run(*words: str, at: Path) -> Ran:
        done = subprocess.run(
            [sys.executable, "-m", "enthesis", *words], cwd=at, env=environment, capture_output=True, text=True,
            check=False,
        )  # fmt: skip
        return Ran(done.returncode, done.stdout, done.stderr)

    return run

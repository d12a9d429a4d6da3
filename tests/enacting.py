"""Random estates enacted at a lab, held against what the engine says of them. Shared with `bench/enacted.py`."""

import json
import os
import ssl
import subprocess
import sys
from collections import Counter
from datetime import UTC, datetime
from itertools import product
from pathlib import Path
from random import Random
from typing import Any

import httpx

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import question_of
from enthesis.files.folder import read_folder
from enthesis.model.vocabulary import OF_PROVIDERS
from enthesis.surveys.survey import beside, survey_in
from enthesis.verdicts.judge import Judge

from .conftest import ACCEPTED, Program, Ran, write_estate
from .worlds import LiveWorld, World

CHANGES = 25  # tried by hand
NOT_SAID = ("id", "etag", "changed_by", "changed_at", "mark")  # what only a cloud says of a statement


def enacted_and_proved(enthesis: Program, folder: Path, seed: int, journeys: int) -> Counter[str]:
    """Enacts an estate that the lab's clouds can hold, and proves its journeys; AssertionError on any difference."""
    world = LiveWorld(Random(seed))
    made = {f"j{number}": world.journey() for number in range(journeys)}
    write_estate(folder, {"estate.yaml": json.dumps({**world.plain(), "journeys": made})})
    try:
        started = enthesis("lab", "start", at=folder)
        assert started.code == 0, (seed, started.err)
        enacted = enthesis("enact", "--yes", *ACCEPTED, "--quiet", at=folder)
        assert enacted.code in (0, 1), (seed, enacted.err)
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


def changed_by_hand(enthesis: Program, folder: Path, seed: int, journeys: int) -> Counter[str]:
    """Enacts an estate, changes statements by hand as the administrators of each cloud may, and holds a survey of what
    is there against what its journeys meet live; AssertionError on any difference."""
    world, rng = LiveWorld(Random(seed)), Random(seed)
    made = {f"j{number}": world.journey() for number in range(journeys)}
    write_estate(folder, {"estate.yaml": json.dumps({**world.plain(), "journeys": made})})
    try:
        assert enthesis("lab", "start", at=folder).code == 0
        enacted = enthesis("enact", "--yes", *ACCEPTED, "--quiet", at=folder)
        assert enacted.code in (0, 1), (seed, enacted.err)
        changed = _some_changed(folder, rng)
        assert enthesis("survey", "--out", "live.jsonl", at=folder).code == 0
        proved = {one["journey"]: one for one in enthesis("prove", "--format", "json", at=folder).json["journeys"]}
    finally:
        enthesis("lab", "stop", "--clean", at=folder)
    described = read_folder(folder).estate
    assert described is not None
    seen = beside(described, survey_in(folder / "live.jsonl", described.catalogue))
    before, judge = (Judge(compile_estate(estate)) for estate in (described, seen))
    counted: Counter[str] = Counter({"worlds changed by hand": 1, "changes by hand": changed})
    for name, journey in described.journeys.items():
        question = question_of(journey, datetime.now(UTC))
        verdict, live = judge.judge(question), proved[name]
        outcome = "allowed" if verdict.allowed else "refused"
        assert live["outcome"] == outcome, (seed, name, live["evidence"])
        first = verdict.first_refused
        if first is not None and "names" not in first.refused_at:
            assert live["refused_at"] == list(first.refused_at), (seed, name, live["evidence"])
        counted[f"journeys {outcome} after changes"] += 1
        counted["journeys that changes decide"] += verdict.allowed != before.judge(question).allowed
    return counted


def _some_changed(folder: Path, rng: Random) -> int:
    """Statements taken away, widened and narrowed at a lab, most of them an organisation's at one of its clouds."""
    state = folder / ".enthesis" / "lab"
    described = json.loads((state / "services.json").read_text())
    urls = {one["name"]: one["url"] for one in described["services"]}
    listed = json.loads((state / "administrators.json").read_text())
    tls, done = ssl.create_default_context(cafile=described["authority"]), 0
    with httpx.Client(verify=tls, trust_env=False) as http:
        found: list[tuple[str, str, dict[str, str], dict[str, Any]]] = []
        for one, collection in product((one for one in listed if "cloud" in one), OF_PROVIDERS):
            headers = {"Authorization": f"Bearer {one['session']}", "If-Match": "*"}
            collected = f"{urls[one['cloud']]}/administration/{collection}"
            answer = http.get(collected, params={"holder": one["holder"], "limit": 500}, headers=headers)
            found += [(collection, f"{collected}/{entry['id']}", headers, entry) for entry in answer.json()["items"]]
        of_organisations = [one for one in found if one[3]["holder"].startswith("@")]
        for _ in range(CHANGES):
            collection, url, headers, entry = rng.choice(of_organisations if rng.random() < 0.6 else found)
            if entry.get("kind") == "person":
                continue
            body = {name: value for name, value in entry.items() if name not in NOT_SAID}
            if collection == "identities":
                body["disabled"] = True
            elif rng.random() < 0.5:
                done += http.delete(url, headers=headers).status_code == 204
                continue
            elif collection == "roles":
                body["allows"] = rng.choice([{"*": ["*", "take-on"]}, {"object": ["read"]}])
            elif collection == "groups":
                body["members"] = body.get("members", [])[1:]
            elif collection == "ceilings":
                body = {**body, "bars": rng.choice([{"*": ["*"]}, {"object": ["write"]}])}
                body.pop("only", None)
            done += http.put(url, headers=headers, json=body).status_code == 200
    return done


def enacted_whole(enthesis: Program, folder: Path, seed: int) -> Counter[str]:
    """Enacts an estate with statements that nobody can hold too: they are named, and nothing fails half-way."""
    write_estate(folder, {"estate.yaml": json.dumps(World(Random(seed)).data)})
    try:
        assert enthesis("lab", "start", at=folder).code == 0
        proposed = enthesis("propose", "--format", "json", at=folder).json
        enacted = enthesis("enact", "--yes", *ACCEPTED, "--quiet", at=folder)
        assert enacted.code in (0, 1), (seed, enacted.err)
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

"""The worked example: it runs twice, in awkward folders, and leaves nothing behind, interrupted or not."""

import os
import signal
import subprocess
import sys
import time
from collections.abc import Mapping
from pathlib import Path

import pytest

from .conftest import PATIENCE, Program


def labs_running(folder: Path) -> list[str]:
    """Command lines of lab processes with their state below a folder."""
    found = []
    for process in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            words = process.read_bytes().split(b"\0")
        except OSError:
            continue
        if b"enthesis_lab" in words and any(word.startswith(os.fsencode(folder)) for word in words):
            found.append(b" ".join(words).decode(errors="replace"))
    return found


def test_twice_in_a_row_and_nothing_is_left(enthesis: Program, tmp_path: Path) -> None:
    temporary = tmp_path / "temporary files"
    temporary.mkdir()
    for _ in range(2):
        ran = enthesis("demo", at=tmp_path, TMPDIR=str(temporary))
        assert ran.code == 0, ran.err
        assert ran.out.count("  enthesis ") == 6
        assert "2 of 2 journeys failed" in ran.out
        assert "Tried live: both journeys ended as expected." in ran.out
        assert "saltmarsh is fully in place" in ran.out
        assert len(ran.out.splitlines()) < 75
        assert list(temporary.iterdir()) == []
        assert labs_running(tmp_path) == []


SAID = {
    "cluster": (
        "4 of 4 journeys failed",
        "Tried live: all 4 journeys",
        "near-miss callers were refused",
    ),
    "instances": ("3 of 3 journeys failed", "Tried live: all 3 journeys", "Sessions as gauges/identity/collector"),
    "managed": (
        "Tried live: all 3 journeys",
        "its own, and gone with it",
        "names what does not exist any more, and gives nothing",
    ),
    "service-accounts": (
        "Tried live: all 9 journeys",
        "who may run workloads as it, attach it, issue credentials for it or change it",
    ),
    "host": ("Tried live: all 5 journeys", "repaired\n"),
    "database": ("5 of 7 journeys failed", "Tried live: all 7 journeys", "gauges/identity/level-reader\n"),
    "groups": ("without coast north: gauges/identity/pier-south", "may read gauges/secret/offsets"),
    "keys": ("has a keyless way in", "its value is in tape.key", "because the tape robot"),
    "pipeline-access": ("leads to gauges/identity/archiver", "all 16 near-miss callers were refused"),
    "lending": ("Here you are bulletin/identity/page-writer", "Here you are gauges/identity/calibrator"),
    "keyless": ("1 ready for the next step", "since the keyless way was proved", "(5 deleted)"),
    "narrowing": ("all that was used stays allowed", "Tried live: the journey ended"),
    "leaver": ("reaches nothing", "is fully in place"),
    "patterns": ("There are 6 patterns", "differ in names only"),
}


LONGER = {"database": 125, "keyless": 125, "leaver": 125}  # lines


@pytest.mark.parametrize("chapter", SAID)
def test_a_chapter_tells_its_story_in_a_page_or_two(enthesis: Program, tmp_path: Path, chapter: str) -> None:
    temporary = tmp_path / "temporary"
    temporary.mkdir()
    ran = enthesis("demo", "--chapter", chapter, at=tmp_path, TMPDIR=str(temporary))
    assert ran.code == 0, ran.err + ran.out
    for said in SAID[chapter]:
        assert said in ran.out
    assert len(ran.out.splitlines()) < LONGER.get(chapter, 90)
    assert "eyJ" not in ran.out + ran.err and "labkey" not in ran.out + ran.err
    assert list(temporary.iterdir()) == [] and labs_running(tmp_path) == []


def test_the_chapters_are_listed(enthesis: Program, tmp_path: Path) -> None:
    ran = enthesis("demo", "--list", at=tmp_path)
    assert ran.code == 0 and all(chapter in ran.out for chapter in SAID)
    ran = enthesis("demo", "--chapter", "weather", at=tmp_path)
    assert ran.code == 2 and "publishing, cluster" in ran.err


def test_in_a_folder_with_spaces_that_is_kept(enthesis: Program, tmp_path: Path) -> None:
    folder = tmp_path / "my flood watch"
    ran = enthesis("demo", "--into", str(folder), "--keep", at=tmp_path)
    try:
        assert ran.code == 0, ran.err
        assert f"cd '{folder}'" in ran.out
        assert enthesis("prove", at=folder).code == 0
        again = enthesis("demo", "--into", str(folder), at=tmp_path)
        assert again.code == 2 and "not empty" in again.err
    finally:
        assert enthesis("lab", "stop", "--clean", at=folder).code == 0
    assert sorted(one.name for one in (folder / ".enthesis").iterdir()) == [".gitignore", "history.db"]
    assert enthesis("check", at=folder).code == 0
    assert labs_running(tmp_path) == []


@pytest.mark.parametrize(
    ("number", "until"),
    [
        (signal.SIGINT, "a folder"),
        (signal.SIGINT, "a lab that starts"),
        (signal.SIGTERM, "a lab that starts"),
        (signal.SIGINT, "a lab that runs"),
        (signal.SIGINT, "the third command"),
        (signal.SIGTERM, "the third command"),
    ],
)
def test_interrupted_it_stops_its_lab_and_says_so(
    tmp_path: Path, environment: Mapping[str, str], number: int, until: str
) -> None:
    temporary = tmp_path / "temporary"
    temporary.mkdir()
    process = subprocess.Popen(
        [sys.executable, "-m", "enthesis", "demo"],
        cwd=tmp_path,
        env={**environment, "TMPDIR": str(temporary)},
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),  # noqa: PLW1509  even behind `&`
    )
    assert process.stdout is not None
    waited_for = {"a folder": "*", "a lab that starts": "*/.enthesis/lab/lock", "a lab that runs": "*/*/lab/*.json"}
    if until in waited_for:
        deadline = time.monotonic() + PATIENCE
        while not list(temporary.glob(waited_for[until])) and time.monotonic() < deadline:
            time.sleep(0.005)
    else:
        for _ in range(3):
            while "  enthesis " not in process.stdout.readline():
                pass
    process.send_signal(number)
    _, err = process.communicate(timeout=PATIENCE)
    assert process.returncode == 128 + number
    said = ["Interrupted: the lab is stopped, and its folder removed."] if number == signal.SIGINT else []
    assert [line for line in err.splitlines() if not line.endswith("at the lab of this estate.")] == said
    assert list(temporary.iterdir()) == []
    assert labs_running(tmp_path) == []

"""A short run of the fuzz of everything that is parsed from outside; `python bench/fuzz.py` runs longer."""

from collections.abc import Callable, Mapping
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.connectors.http import Client

from .conftest import examples
from .fuzzing import NAMES, Targets, tried
from .fuzzing_programs import KINDS, Programs

TARGETS = Targets()


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.attack("mangled files and answers")
def test_mangled_data_is_read_or_refused(
    monkeypatch: pytest.MonkeyPatch, name: str, attempts: Callable[[int], None]
) -> None:
    monkeypatch.setattr(Client, "sleep", lambda seconds: None)
    monkeypatch.setattr("time.sleep", lambda seconds: None)

    made = 0

    @given(st.integers(0, 2**32))
    @settings(max_examples=examples(60))
    def run(seed: int) -> None:
        nonlocal made
        made += 1
        assert tried(TARGETS, name, seed) == ""

    run()
    attempts(made)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.attack("mangled files and answers")
def test_the_program_ends_as_it_says_whatever_a_document_is(
    kind: str, environment: Mapping[str, str], tmp_path: Path, attempts: Callable[[int], None]
) -> None:
    programs = Programs(tmp_path, dict(environment))
    count = examples(40)
    for seed in range(count):
        assert programs.run(kind, seed)[1] == ""
    attempts(count)


def test_a_fault_of_ours_would_be_seen(
    environment: Mapping[str, str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    programs = Programs(tmp_path, dict(environment))
    assert programs.run("handoff", 0)[1] == ""
    monkeypatch.setattr("enthesis.cli.handoff_documents.handoff_from", lambda data: data["no such thing"])
    assert {programs.run("handoff", seed)[0] for seed in range(8)} & {70}

"""A short run of the fuzz of everything that is parsed from outside; `python bench/fuzz.py` runs longer."""

from collections.abc import Callable

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.connectors.http import Client

from .conftest import examples
from .fuzzing import NAMES, Targets, tried

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

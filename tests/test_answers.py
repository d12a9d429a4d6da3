"""Whole answers about two fixed estates stay as they are, word for word; see `answers.py`."""

import pytest

from .answers import ANSWERS, ESTATES, path_of, text_of


@pytest.mark.parametrize("name", ESTATES)
@pytest.mark.parametrize("answer", ANSWERS)
def test_the_whole_answer_is_the_one_that_was_read(answer: str, name: str) -> None:
    assert text_of(answer, name).splitlines() == path_of(answer, name).read_text(encoding="utf-8").splitlines()

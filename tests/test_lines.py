"""Lines: folding on a terminal, and nothing that a terminal acts on."""

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from enthesis.output.lines import Span, json_text, line, rendered, visible

ACTS = {*range(0x20), *range(0x7F, 0xA0), 0x200E, 0x200F, *range(0x202A, 0x202F), *range(0x2066, 0x206A)}


@given(st.text())
@pytest.mark.attack("injection")
def test_nothing_that_a_terminal_acts_on_gets_through(text: str) -> None:
    for shown in (visible(text), rendered([line(text)], colour=False)[:-1], json_text({text: text}).replace("\n", "")):
        assert not {ord(char) for char in shown} & ACTS


@given(st.lists(st.text("ab  ", min_size=1, max_size=30), min_size=1), st.integers(10, 60))
@example(["  ", "  ", "  ", "a", "aa", "aa"], 10)  # indented past half of the width
def test_folding_keeps_every_word_and_the_width(words: list[str], width: int) -> None:
    spans = [Span(word, style) for word, style in zip(words, ["", "good"] * len(words), strict=False)]
    plain = rendered([spans], colour=False)
    folded = rendered([spans], colour=False, width=width)
    assert folded.split() == plain.split()
    longest = max((len(word) for word in plain.split()), default=0)
    if longest <= width // 2:
        assert all(len(one) <= width for one in folded.splitlines())


def test_what_is_folded_stands_below_itself_in_its_colour() -> None:
    shown = rendered([line("  one two ", Span("three four", "good"))], colour=True, width=11)
    assert shown == "  one two\n    \x1b[92mthree\x1b[0m\n    \x1b[92mfour\x1b[0m\n"

"""Patterns, tests and values, against brute force over small alphabets."""

from collections import Counter
from datetime import UTC, datetime, timedelta
from ipaddress import ip_network
from itertools import product
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.conditions.patterns import literal, matcher, tokens, within, witness
from enthesis.conditions.truth import hold, passes
from enthesis.conditions.values import ROOMS, TEXT_ROOM, Room, Solution, Want, solve
from enthesis.model.conditions import (
    After,
    AllOf,
    AnyOf,
    Before,
    Equal,
    Glob,
    LongerThan,
    Not,
    Present,
    Test,
    Within,
)
from enthesis.model.errors import Undecided

from .conftest import examples
from .naive import globbed
from .naive import passes as naive_passes

LETTERS = "ab/"
SHORT = ["".join(chars) for size in range(7) for chars in product(LETTERS, repeat=size)]
PATTERN = st.lists(st.sampled_from(["a", "b", "/", ":", "*", "**", "?", "\\*", "\\?"]), min_size=1, max_size=5).map(
    "".join
)
TIMES = [datetime(2026, month, 1, tzinfo=UTC) for month in (1, 5, 9)]


@given(PATTERN)
@settings(max_examples=examples(300))
def test_a_pattern_matches_what_it_says_however_it_is_run(pattern: str) -> None:
    matches = matcher(pattern)
    for text in SHORT:
        assert matches(text) == globbed(pattern, text), (pattern, text)


@given(PATTERN, st.sampled_from(["a/", "b/", "ab/", "a", "/"]))
@settings(max_examples=examples(200))
def test_what_of_a_pattern_begins_so_is_matched_by_patterns_that_begin_so(pattern: str, start: str) -> None:
    found = within(pattern, start)
    assert len(found) == len(set(found)) <= 4 and all(one.startswith(start) for one in found)
    for text in SHORT:
        wanted = text.startswith(start) and globbed(pattern, text)
        assert any(globbed(one, text) for one in found) == wanted, (pattern, start, found, text)


def test_many_stars_cost_no_more_than_the_text_is_long() -> None:
    pattern = "*a" * 30 + "b"
    assert not matcher(pattern)("a" * 3000)
    assert matcher(pattern)("a" * 300 + "b")


@given(st.lists(PATTERN, max_size=3), st.lists(PATTERN, max_size=3))
@settings(max_examples=examples(300))
def test_a_witness_is_found_just_where_there_is_one(inside: list[str], outside: list[str]) -> None:
    found = witness([tokens(one) for one in inside], [tokens(one) for one in outside])

    def good(text: str) -> bool:
        return all(globbed(one, text) for one in inside) and not any(globbed(one, text) for one in outside)

    if found is not None:
        assert found and good(found)
    else:
        assert not any(good(text) for text in SHORT if text)


def test_a_shortest_witness_and_the_empty_text() -> None:
    assert witness([tokens("a**")], [tokens("a*")]) in ("a/", "a:")
    assert witness([tokens("*")], [], avoid_empty=False) == ""
    assert witness([literal("a*b")], []) == "a*b"
    assert witness([tokens("a*"), tokens("b*")], []) is None
    assert witness([tokens("**")], [tokens("??"), tokens("**?**")]) in ("/", ":", "//", "/:", "::", ":/")


def test_too_much_work_is_undecided_and_never_guessed() -> None:
    hard = ["**" + "a" + "?" * 16 for _ in range(1)] + ["**b" + "?" * 14]
    with pytest.raises(Undecided):
        witness([tokens("**" + "c" * 40), *(tokens(one) for one in hard)], [])


# -- truth ----------------------------------------------------------------------------------------------------------

VALUES: list[Any] = [
    None, "", "a", "b", "ab", "10.1.2.3", "10.2.0.1", 1, 1.0, True, False, (), ("a",), ("a", "b"), ("b", None), ("", 1),
    TIMES[0], TIMES[1], ip_network("10.1.0.0/16"), ip_network("10.0.0.0/7"), ip_network("192.0.2.1"),
    ip_network("2001:db8::1"), timedelta(0), timedelta(hours=2), {"a": 1}, ("a", ("b",)),
]  # fmt: skip
LEAF: st.SearchStrategy[Test] = st.sampled_from(
    [
        Equal("a"), Equal("b"), Equal(1), Equal(1.0), Equal(True), Glob("a*"), Glob("?"), Glob("**b"),
        Within((ip_network("10.0.0.0/8"),)), Within((ip_network("10.1.0.0/16"), ip_network("2001:db8::/32"))),
        Before(TIMES[1]), After(TIMES[1]), LongerThan(timedelta(hours=1)), Present(True), Present(False),
    ]
)  # fmt: skip
ANY_TEST: st.SearchStrategy[Test] = st.recursive(
    LEAF,
    lambda inner: st.one_of(
        st.lists(inner, min_size=1, max_size=3).map(lambda some: AnyOf(tuple(some))),
        inner.map(Not),
        st.lists(LEAF.filter(lambda one: not isinstance(one, Equal)), min_size=2, max_size=3).map(
            lambda some: AllOf(tuple(some))
        ),
    ),
    max_leaves=5,
)


@given(ANY_TEST)
@settings(max_examples=examples(400))
def test_tests_are_three_valued_just_as_written(test: Test) -> None:
    for value in VALUES:
        assert passes(test, value) == naive_passes(test, value), (test, value)


def test_conditions_hold_by_kleenes_logic_as_a_whole() -> None:
    facts = {"a": "x", "b": None}
    assert hold((("a", Equal("x")),), facts.get) is True
    assert hold((("a", Equal("x")), ("b", Equal("y"))), facts.get) is None
    assert hold((("a", Equal("z")), ("b", Equal("y"))), facts.get) is False
    assert hold((), facts.get) is True
    assert hold((("b", Not(Equal("y"))),), facts.get) is None
    assert hold((("b", Present(False)),), facts.get) is True


# -- values ---------------------------------------------------------------------------------------------------------


def brute(wanted: list[tuple[Test, Want]], room: Room) -> bool:
    """Whether some value of a small domain does; the domain holds one value of every cell of the tests used here."""
    texts = ["a", "b", "ab", "zb", "z", "az", "/", "10.1.2.3", "10.9.9.9", "192.0.2.1"]
    elements: list[Any] = [*texts, 1, 1.0, 2, True, False] if "text" in room.types else []
    elements += [ip_network(one) for one in ("10.1.0.1", "10.9.0.1", "192.0.2.1", "2001:db8::1")] * (
        "network" in room.types
    )
    elements += [time + shift for time in TIMES for shift in (timedelta(0), -timedelta(seconds=1))] * (
        "time" in room.types
    )
    elements += [timedelta(0), timedelta(hours=1), timedelta(hours=2)] * ("duration" in room.types)
    values: list[Any] = [None] * room.absent + elements
    if room.many:
        values += [(one,) for one in elements] + list(product(elements, repeat=2))
    return any(all(want.met(passes(test, value)) for test, want in wanted) for value in values)


@given(
    st.lists(st.tuples(ANY_TEST, st.sampled_from(list(Want))), min_size=1, max_size=3),
    st.sampled_from(
        [Room(), Room(many=True), Room(absent=False), ROOMS["network"], ROOMS["time"], ROOMS["session.age"]]
    ),
)
@settings(max_examples=examples(400))
def test_a_value_is_found_just_where_there_is_one(wanted: list[tuple[Test, Want]], room: Room) -> None:
    try:
        found = solve(wanted, room)
    except Undecided:
        return
    if found is not None:
        assert all(want.met(passes(test, found.value)) for test, want in wanted)
        assert found.value is not None or room.absent
    else:
        assert not brute(wanted, room), wanted


def test_what_is_typical_comes_first_and_a_list_where_it_takes_one() -> None:
    assert solve([(Not(Equal("x")), Want.HOLDS)], Room(typical=("push",))) == Solution("push")
    both = [(Equal("a"), Want.HOLDS), (Equal("b"), Want.HOLDS)]
    assert solve(both, Room(many=True)) == Solution(("a", "b"))
    assert solve(both, TEXT_ROOM) is None
    counted = Counter(str(solve([(Equal("a"), want)], TEXT_ROOM)) for want in Want)
    assert counted["Solution(value='a')"] == 1

"""The algebra of callers, against enumeration of everything that a small issuer can sign."""

from functools import cache
from itertools import product
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.conditions.callers import EVERYBODY, NOBODY, Callers, one_of, one_of_both, one_of_difference
from enthesis.conditions.values import Room
from enthesis.model.conditions import AnyOf, Conditions, Equal, Glob, Not, Present, Test

from .conftest import examples
from .naive import passes as naive_passes

TEXTS = ["".join(chars) for size in range(1, 7) for chars in product("a/b", repeat=size)]
SUB = st.sampled_from([Equal("a"), Equal("a/b"), Glob("a*"), Glob("a/**"), Glob("*/b"), Glob("**b**"), Glob("?")])
AUD = st.sampled_from([Equal("x"), Equal("y"), Glob("x*"), AnyOf((Equal("x"), Equal("y")))])


def with_not(leaf: st.SearchStrategy[Any]) -> st.SearchStrategy[Test]:
    return st.one_of(leaf, leaf.map(Not), st.just(Present(True)), st.lists(leaf, min_size=2, max_size=3).map(
        lambda some: AnyOf(tuple(some))))  # fmt: skip


CONDITIONS: st.SearchStrategy[Conditions] = st.builds(
    lambda sub, aud: tuple((name, test) for name, test in (("sub", sub), ("aud", aud)) if test is not None),
    st.one_of(st.none(), with_not(SUB)),
    st.one_of(st.none(), with_not(AUD)),
)
CALLERS = st.lists(CONDITIONS, max_size=3).map(lambda some: Callers(tuple(some)))
AUDIENCES = ["x", "y", "z", "xy", *product(("x", "y", "xy", "z"), repeat=2)]
SUBS = (None, *TEXTS)


@cache
def that_pass(test: Test, attribute: str) -> frozenset[Any]:
    return frozenset(
        value for value in (SUBS if attribute == "sub" else AUDIENCES) if naive_passes(test, value) is True
    )


def everyone(callers: Callers) -> set[tuple[Any, Any]]:
    """Everybody in a set, by enumeration and by other code than ours."""
    out: set[tuple[Any, Any]] = set()
    for conditions in callers.alternatives:
        found = {"sub": frozenset(SUBS), "aud": frozenset(AUDIENCES)}
        for name, test in conditions:
            found[name] &= that_pass(test, name)
        out |= set(product(found["sub"], found["aud"]))
    return out


def rooms(attribute: str) -> Room:
    return Room(frozenset(["text"]), many=attribute == "aud", absent=attribute != "aud")


@given(CALLERS, CALLERS)
@settings(max_examples=examples(300))
def test_what_is_said_of_two_sets_is_what_enumeration_finds(callers: Callers, other: Callers) -> None:
    mine, theirs = everyone(callers), everyone(other)
    for found, good, members in (
        (one_of(callers, rooms), callers.has, mine),
        (one_of_both(callers, other, rooms), lambda shown: callers.has(shown) and other.has(shown), mine & theirs),
        (
            one_of_difference(callers, other, rooms),
            lambda shown: callers.has(shown) and not other.has(shown),
            mine - theirs,
        ),
    ):
        if found is None:
            assert not members
        else:
            assert good(found)


@given(CALLERS, CALLERS)
@settings(max_examples=examples(100))
def test_the_laws_of_sets_hold(callers: Callers, other: Callers) -> None:
    assert one_of_difference(callers, callers | other, rooms) is None
    assert one_of_difference(callers | other, other | callers, rooms) is None
    assert one_of_difference(callers, EVERYBODY, rooms) is None
    assert one_of_difference(NOBODY, callers, rooms) is None
    assert (one_of_both(callers, other, rooms) is None) == (one_of_both(other, callers, rooms) is None)
    assert (one_of_difference(callers, NOBODY, rooms) is None) == (one_of(callers, rooms) is None)
    if one_of_difference(callers, other, rooms) is None and one_of(callers, rooms) is not None:
        assert one_of_both(callers, other, rooms) is not None


def test_a_pattern_one_character_too_wide_shows_who_gets_in() -> None:
    wide = Callers(((("sub", Glob("project/tide*/branch/main")),),))
    meant = Callers(((("sub", Glob("project/tides/branch/main")),),))
    stranger = one_of_difference(wide, meant, rooms)
    assert stranger is not None and wide.has(stranger) and not meant.has(stranger)
    assert one_of_difference(meant, wide, rooms) is None

"""The algebra of callers, against enumeration of everything that a small issuer can sign."""

from itertools import product
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.model.conditions import AnyOf, Conditions, Equal, Glob, Not, Present, Test
from enthesis.trusting.callers import EVERYBODY, NOBODY, Callers, one_of, one_of_both, one_of_difference
from enthesis.trusting.values import Room

TEXTS = ["".join(chars) for size in range(1, 5) for chars in product("a/b", repeat=size)]
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
EVERY: list[dict[str, Any]] = [{"sub": sub, "aud": aud} for sub in (None, *TEXTS) for aud in AUDIENCES]


def rooms(attribute: str) -> Room:
    return Room(frozenset(["text"]), many=attribute == "aud", absent=attribute != "aud")


@given(CALLERS, CALLERS)
@settings(max_examples=300)
def test_what_is_said_of_two_sets_is_what_enumeration_finds(one: Callers, other: Callers) -> None:
    for found, good in (
        (one_of(one, rooms), one.has),
        (one_of_both(one, other, rooms), lambda shown: one.has(shown) and other.has(shown)),
        (one_of_difference(one, other, rooms), lambda shown: one.has(shown) and not other.has(shown)),
    ):
        if found is None:
            assert not any(good(shown) for shown in EVERY)
        else:
            assert good(found)


@given(CALLERS, CALLERS)
@settings(max_examples=100)
def test_the_laws_of_sets_hold(one: Callers, other: Callers) -> None:
    assert one_of_difference(one, one | other, rooms) is None
    assert one_of_difference(one | other, other | one, rooms) is None
    assert one_of_difference(one, EVERYBODY, rooms) is None
    assert one_of_difference(NOBODY, one, rooms) is None
    assert (one_of_both(one, other, rooms) is None) == (one_of_both(other, one, rooms) is None)
    assert (one_of_difference(one, NOBODY, rooms) is None) == (one_of(one, rooms) is None)
    if one_of_difference(one, other, rooms) is None and one_of(one, rooms) is not None:
        assert one_of_both(one, other, rooms) is not None


def test_a_pattern_one_character_too_wide_shows_who_gets_in() -> None:
    wide = Callers(((("sub", Glob("project/tide*/branch/main")),),))
    meant = Callers(((("sub", Glob("project/tides/branch/main")),),))
    stranger = one_of_difference(wide, meant, rooms)
    assert stranger is not None and wide.has(stranger) and not meant.has(stranger)
    assert one_of_difference(meant, wide, rooms) is None

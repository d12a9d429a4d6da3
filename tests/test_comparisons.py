"""Attributes compared with one another: held against brute force, and as people write them."""

from collections import Counter
from itertools import product
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.conditions.sameness import literal, solve_together
from enthesis.conditions.truth import Value, passes
from enthesis.conditions.values import Room, Want
from enthesis.model.conditions import AnyOf, Equal, Not, Present, SameAs, Test
from enthesis.model.errors import Undecided

from .conftest import Program, examples
from .naive import passes as naive_passes

NAMES = ("one", "two", "three")
VALUES: tuple[Value, ...] = ("red", "blue", 7, None)
FEW = Room(frozenset(), absent=True, typical=tuple(value for value in VALUES if value is not None))
TESTS: st.SearchStrategy[Test] = st.recursive(
    st.one_of(
        st.sampled_from([Equal("red"), Equal("blue"), Equal(7), Present(wanted=True), Present(wanted=False)]),
        st.sampled_from(NAMES).map(SameAs),
        st.sampled_from(NAMES).map(SameAs),
    ),
    lambda inner: st.one_of(inner.map(Not), st.lists(inner, min_size=1, max_size=3).map(lambda many: AnyOf((*many,)))),
    max_leaves=4,
)
WANTED = st.lists(st.tuples(st.sampled_from(NAMES), TESTS, st.sampled_from(Want)), min_size=1, max_size=5)


def _good(wanted: list[tuple[str, Test, Want]], values: dict[str, Value]) -> bool:
    return all(want.met(naive_passes(test, values[name], values)) for name, test, want in wanted)


def test_values_are_found_just_where_there_are_any() -> None:
    counted: Counter[str] = Counter()

    @given(WANTED)
    @settings(max_examples=examples(400))
    def compare(wanted: list[tuple[str, Test, Want]]) -> None:
        by_name: dict[str, frozenset[tuple[Test, Want]]] = dict.fromkeys(NAMES, frozenset())
        for name, test, want in wanted:
            by_name[name] |= {(test, want)}
        try:
            found = solve_together(by_name, lambda _: FEW)
        except Undecided:
            counted["too much"] += 1
            return
        every = (dict(zip(NAMES, values, strict=True)) for values in product(VALUES, repeat=3))
        assert (found is not None) == any(_good(wanted, values) for values in every)
        counted["some" if found is not None else "none"] += 1
        assert found is None or _good(wanted, {**dict.fromkeys(NAMES), **found})

    compare()
    assert counted["some"] > 20 and counted["none"] > 20 > counted["too much"], counted


@given(TESTS, st.sampled_from(Want), st.sets(st.sampled_from(NAMES)), st.tuples(*[st.sampled_from(VALUES)] * 3))
@settings(max_examples=examples(300))
def test_what_is_left_of_a_test_says_the_same(test: Test, want: Want, known: set[str], values: tuple[Value]) -> None:
    of = dict(zip(NAMES, values, strict=False))
    free = [name for name in NAMES if name not in known]
    if len(free) > 1:
        free = free[:1]
    left = literal("one", test, want, of.get, lambda name: f"the {name}" if name in free else "")
    whole = want.met(naive_passes(test, of["one"], of))
    if isinstance(left, bool):
        assert left == whole
    else:
        name, rest, wanted = left
        called = {f"the {name}": of[name] for name in free}
        assert wanted.met(passes(rest, called[name], {**of, **called}.get)) == whole


@pytest.mark.parametrize("pair", [("red", "red"), (("red", "blue"), "blue"), ("red", ("blue",)), (7, "7"), ("", "")])
def test_of_lists_some_element_is_the_same(pair: tuple[Any, Any]) -> None:
    values = dict(zip(NAMES, pair, strict=False))
    expected = {("red", "red"): True, (("red", "blue"), "blue"): True, ("red", ("blue",)): False}.get(pair)
    assert passes(SameAs("two"), pair[0], values.get) is expected
    assert naive_passes(SameAs("two"), pair[0], values) is expected


ESTATE = """
estate: tenants
organisations: {works: {}}
providers: {low: {style: one-sided}}
accounts: {a: {in: "@works", provider: low}}
issuers: {forge: {kind: oidc, claims: {team: text}}}
resources: {a/bucket/red: {labels: {tenant: red}}, a/bucket/blue: {labels: {tenant: blue}}}
identities:
  a/identity/r: {kind: service-account, labels: {tenant: red}}
  a/identity/b: {kind: service-account, labels: {tenant: blue}}
roles: {reading: {allows: {object: read}}}
groups: {a/group/all: {where: {kind: service-account}}}
grants: [{to: a/group/all, role: reading, at: a, when: {caller.labels.tenant: TENANT}}]
trusts:
  - {of: [a/identity/r, a/identity/b], admits: {token: forge, claims: {aud: y, team: {same_as: target.labels.tenant}}}}
invariants:
  - {name: tenants-apart, never: {by: a/identity/b, can: read, at: a/bucket/red}}
journeys:
  own: {from: {token: forge, claims: {sub: x, aud: y, team: red}}, through: [a/identity/r],
        attempt: read a/bucket/red/object/o, expect: allowed}
  foreign: {from: {token: forge, claims: {sub: x, aud: y, team: red}}, through: [a/identity/r],
            attempt: read a/bucket/blue/object/o, expect: refused, refused_at: target-side}
  other: {from: {token: forge, claims: {sub: x, aud: y, team: red}}, through: [a/identity/b],
          attempt: read a/bucket/blue/object/o, expect: refused, refused_at: target-side}
"""


def test_tenants_see_their_own(enthesis: Program, tmp_path: Path) -> None:
    (tmp_path / "estate.yaml").write_text(ESTATE.replace("TENANT", "{same_as: target.labels.tenant}"))
    ran = enthesis("check", "--format", "json", at=tmp_path)
    assert ran.code == 0, ran.out
    told = enthesis("reach", "--to", "a/bucket/red", "--format", "json", at=tmp_path).json["found"]
    found = {one["start"]: one["conditions"] for one in told}
    assert found["forge"] == {"claims.aud": "y", "claims.team": "red"} and found["a/identity/r"] == {}
    assert found["a/identity/…"]["label tenant of a/identity/…"] == "red"
    assert "a/identity/b" not in found


def test_a_plain_value_that_is_an_attribute_is_an_error(enthesis: Program, tmp_path: Path) -> None:
    (tmp_path / "estate.yaml").write_text(ESTATE.replace("TENANT", "target.labels.tenant"))
    ran = enthesis("check", at=tmp_path)
    assert ran.code == 2
    assert "the plain text `target.labels.tenant` is the name of an attribute" in ran.out
    assert "{same_as: target.labels.tenant}" in ran.out


@pytest.mark.parametrize(
    ("written", "said"),
    [
        ("{same_as: target.label.tenant}", "`target.label.tenant` is not an attribute that can be compared with"),
        ("{same_as: time}", "`time` is not an attribute that can be compared with"),
        ("{same_as: [a]}", "found a list"),
    ],
)
def test_what_cannot_be_compared_with_is_an_error(enthesis: Program, tmp_path: Path, written: str, said: str) -> None:
    (tmp_path / "estate.yaml").write_text(ESTATE.replace("TENANT", written))
    ran = enthesis("check", at=tmp_path)
    assert ran.code == 2 and said in ran.out, ran.out


def test_the_lab_compares_by_itself(enthesis: Program, tmp_path: Path) -> None:
    (tmp_path / "estate.yaml").write_text(ESTATE.replace("TENANT", "{same_as: target.labels.tenant}"))
    for words in (["lab", "start"], ["enact", "--yes"]):
        ran = enthesis(*words, at=tmp_path)
        assert ran.code == 0, ran.out
    try:
        ran = enthesis("prove", "--format", "json", at=tmp_path)
        outcomes = {one["journey"]: one["outcome"] for one in ran.json["journeys"]}
        assert outcomes == {"own": "allowed", "foreign": "refused", "other": "refused"}, ran.out
        assert enthesis("propose", at=tmp_path).out.count("fully in place") == 1
    finally:
        enthesis("lab", "stop", at=tmp_path)

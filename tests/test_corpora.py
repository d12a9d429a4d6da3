"""The corpora: what is realistic is decided, what is adversarial decided rightly or not at all; overlaps of many."""

from random import Random

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from enthesis.conditions.callers import Callers, one_of_both, one_of_difference
from enthesis.conditions.overlaps import overlaps
from enthesis.model.conditions import Equal
from enthesis.model.errors import Undecided

from .conftest import LONG, SEED, examples
from .corpora_read import pairs, patterns_in, records, rooms
from .naive import passes as naive_passes
from .test_callers import CALLERS
from .test_callers import rooms as small_rooms

SHARE = 1 if LONG else 5  # one of so many realistic pairs is looked at


def naive_has(callers: Callers, shown: dict[str, object]) -> bool:
    return any(
        all(naive_passes(test, shown.get(name)) is True for name, test in conditions)
        for conditions in callers.alternatives
    )


def test_every_realistic_pair_is_decided_and_every_witness_is_one() -> None:
    told = {"differ": 0, "contained": 0, "overlap": 0, "apart": 0}
    for number, (_, one, other) in enumerate(pairs("realistic")):
        if number % SHARE:
            continue
        found = one_of_difference(one, other, rooms)
        told["differ" if found else "contained"] += 1
        if found is not None:
            assert naive_has(one, found) and not naive_has(other, found)
        met = one_of_both(one, other, rooms)
        told["overlap" if met else "apart"] += 1
        if met is not None:
            assert naive_has(one, met) and naive_has(other, met)
        if found is None:  # what is contained has nobody outside, whoever is tried
            for conditions in one.alternatives:
                inside = one_of_both(Callers((conditions,)), one, rooms)
                assert inside is None or naive_has(other, inside)
    assert sum(told.values()) == 2000 // SHARE
    assert min(told.values()) > 50 // SHARE, told


def test_the_realistic_corpus_has_up_to_twenty_patterns_a_side() -> None:
    counts = [len(patterns_in(one)) for _, one, _ in pairs("realistic")]
    assert len(counts) == 1000
    assert 15 <= max(counts) <= 21


def test_every_adversarial_pair_is_decided_rightly_or_not_at_all() -> None:
    undecided = 0
    for record, one, other in pairs("adversarial"):
        for wanted, ask in (("overlap", one_of_both), ("contains", one_of_difference)):
            try:
                found = ask(one, other, rooms)
            except Undecided:
                undecided += 1
                continue
            said = found is not None if wanted == "overlap" else found is None
            assert said == record[wanted], record
    assert 0 < undecided < 0.1 * 2 * len(list(records("adversarial")))


@given(st.lists(st.tuples(st.sampled_from("pq"), CALLERS), max_size=7))
@example([("p", Callers(((("aud", Equal(value)),),))) for value in ("x", "y")])
@settings(max_examples=examples(100))
def test_overlaps_of_many_are_those_of_every_pair(sets: list[tuple[str, Callers]]) -> None:
    found = {(one.one, one.other): one.shown for one in overlaps(sets, small_rooms)}
    for later, (key, mine) in enumerate(sets):
        for earlier, (other_key, theirs) in enumerate(sets[:later]):
            met = one_of_both(mine, theirs, small_rooms) if key == other_key else None
            assert (met is not None) == ((later, earlier) in found)
    for (later, earlier), shown in found.items():
        assert shown is not None and sets[later][1].has(shown) and sets[earlier][1].has(shown)


@pytest.mark.parametrize("seed", range(3) if LONG else [2])
def test_overlaps_of_realistic_trusts_are_those_of_every_pair(seed: int) -> None:
    some = Random(SEED + seed).sample([one for _, one, _ in pairs("realistic")], 90 if LONG else 40)
    found = {(one.one, one.other) for one in overlaps([("forge", one) for one in some], rooms)}
    every = {
        (later, earlier)
        for later in range(len(some))
        for earlier in range(later)
        if one_of_both(some[later], some[earlier], rooms) is not None
    }
    assert found == every
    assert every

"""No state on the way of an enactment opens more than before and after do, and what both allow stays allowed."""

import json
from collections.abc import Iterator, Sequence
from copy import deepcopy
from dataclasses import replace
from datetime import UTC, datetime
from itertools import combinations
from random import Random
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import question_of
from enthesis.files.folder import read_texts
from enthesis.model.estate import Estate
from enthesis.proposals.effects import afterwards, as_estate, in_stages, live_of
from enthesis.proposals.ordering import BOTH, NARROWS, NEITHER, WIDENS, direction, needs_of
from enthesis.proposals.proposing import propose
from enthesis.proposals.steps import CHANGE, MAKE, REMOVE, Proposal, Step
from enthesis.surveys.statements import Surveyed
from enthesis.verdicts.judge import Judge

from .conftest import examples
from .test_changing import HEAD, carried_out, empty
from .worlds import LiveWorld

NOW = 1.8e9
MOST = 24  # states of one stage that are judged


def estate_of(text: str) -> Estate:
    reading = read_texts({"estate.yaml": HEAD, "more.yaml": text})
    assert reading.estate is not None, reading.errors
    return reading.estate


def staged(before: Estate, after: Estate) -> tuple[list[Surveyed], Proposal]:
    """The live side of one estate, and the proposal that makes it another."""
    live = carried_out(before, propose(before, empty(before)))
    return live, in_stages(after, propose(after, live, prune=True), live, NOW)


def states(steps: Sequence[Step], rng: Random) -> Iterator[list[Step]]:
    """What may be done at an instant: all of the earlier stages, and of one any part that its needs allow."""
    needs = needs_of(steps)
    for stage in sorted({step.stage for step in steps}):
        before = [at for at, step in enumerate(steps) if step.stage < stage]
        mine = [at for at, step in enumerate(steps) if step.stage == stage]
        parts = (
            [set(some) for size in range(len(mine) + 1) for some in combinations(mine, size)]
            if len(mine) <= 4
            else [set(rng.sample(mine, rng.randint(0, len(mine)))) for _ in range(MOST)]
        )
        for part in parts:
            done = {*before, *part}
            if all(needs[at] <= done for at in done):
                yield [steps[at] for at in sorted(done)]


def breaches(after: Estate, live: list[Surveyed], proposal: Proposal, rng: Random) -> tuple[list[str], int]:
    """The journeys that a state on the way allows and neither side does, or refuses though both allow it; and how many
    states were judged."""
    there = live_of(after, live)

    def allowed(steps: Sequence[Step]) -> set[str]:
        judge = Judge(compile_estate(as_estate(after, afterwards(there, steps))))
        moment = datetime.fromtimestamp(NOW, UTC)
        return {name for name, one in after.journeys.items() if judge.judge(question_of(one, moment)).allowed}

    first, last = allowed(()), allowed(proposal.steps)
    found: list[str] = []
    judged = 0
    for done in states(proposal.steps, rng):
        judged += 1
        now = allowed(done)
        said = [step.sentence for step in done]
        found += [f"{name} is opened by {said}" for name in sorted(now - first - last)]
        if not proposal.outages:
            found += [f"{name} is shut by {said}" for name in sorted((first & last) - now)]
    return found, judged


def versions(seed: int) -> tuple[Estate, Estate] | None:
    """A random estate and another version of it, with the same journeys; None where a change makes it invalid."""
    rng = Random(seed)
    world = LiveWorld(rng)
    journeys = {f"j{number}": world.journey() for number in range(14)}
    plain = {**world.plain(), "journeys": journeys}
    other = deepcopy(plain)
    for _ in range(rng.randint(2, 5)):
        rng.choice(CHANGES)(other, rng)
    read = [read_texts({"estate.yaml": json.dumps(data)}).estate for data in (plain, other)]
    return (read[0], read[1]) if read[0] is not None and read[1] is not None else None


def _dropped(data: dict[str, Any], rng: Random) -> None:
    section = rng.choice(["grants", "trusts", "ceilings", "grants", "trusts"])
    if data[section]:
        data[section].pop(rng.randrange(len(data[section])))


def _moved(data: dict[str, Any], rng: Random) -> None:
    """A grant to the same identity with another role."""
    if data["grants"]:
        one = deepcopy(rng.choice(data["grants"]))
        one["role"] = rng.choice(list(data["roles"]))
        one.pop("name", None)
        data["grants"].append(one)


def _role(data: dict[str, Any], rng: Random) -> None:
    name, other = rng.choice(list(data["roles"])), rng.choice(list(data["roles"]))
    data["roles"][name] = deepcopy(data["roles"][other])
    if name in str(data["roles"][name].get("includes", "")):
        data["roles"][name].pop("includes")


def _condition(data: dict[str, Any], rng: Random) -> None:
    one = rng.choice(data[rng.choice(["grants", "trusts"])])
    if rng.random() < 0.5:
        one.pop("when", None)
    else:
        one["when"] = {"network": rng.choice(["10.1.0.0/16", "10.0.0.0/8"])}


def _session(data: dict[str, Any], rng: Random) -> None:
    rng.choice(data["trusts"])["session"] = rng.choice(["5m", "2h"])


def _claims(data: dict[str, Any], rng: Random) -> None:
    trusts = [one for one in data["trusts"] if "claims" in one["admits"]]
    if trusts:
        one, other = rng.choice(trusts), rng.choice(trusts)
        one["admits"] = {**one["admits"], "claims": deepcopy(other["admits"]["claims"])}


def _members(data: dict[str, Any], rng: Random) -> None:
    listed = [one for one in data["groups"].values() if one.get("members")]
    if listed:
        members = rng.choice(listed)["members"]
        members.pop(rng.randrange(len(members)))


CHANGES = (_dropped, _moved, _role, _condition, _session, _claims, _members)


def test_no_state_on_the_way_opens_more_or_shuts_what_both_allow() -> None:
    judged = several = 0

    @given(st.integers(0, 2**32))
    @settings(max_examples=examples(12))
    def run(seed: int) -> None:
        nonlocal judged, several
        made = versions(seed)
        if made is None:
            return
        live, proposal = staged(*made)
        found, count = breaches(made[1], live, proposal, Random(seed))
        assert not found, (seed, found[0])
        judged += count
        several += len({step.stage for step in proposal.steps}) > 1

    run()
    assert judged > examples(40) and several, (judged, several)


IDENTITY = "identities: {left/identity/a: {kind: service-account}, left/identity/b: {kind: service-account}}\n"


def stages(before: str, after: str) -> list[list[str]]:
    """For each stage the actions and what they are about, in order."""
    _, proposal = staged(estate_of(before), estate_of(after))
    out: list[list[str]] = []
    for step in proposal.steps:
        out += [[] for _ in range(step.stage + 1 - len(out))]
        out[step.stage].append(f"{step.action} {step.collection}")
    return out


def test_the_property_notices_an_order_that_is_wrong() -> None:
    """Everything that widens first, as it was done once, opens what neither side does."""
    rank = {WIDENS: 0, NEITHER: 0, BOTH: 1, NARROWS: 2}
    trust = "trusts: [{of: left/identity/a, admits: {token: forge, claims: {sub: %s}}}]\n"
    grant = "grants: [{to: left/identity/a, role: r, at: left/bucket/b}]\n"
    journey = """journeys:
  from-a-branch:
    from: {token: forge, claims: {sub: a/branch, aud: left}}
    through: [left/identity/a]
    attempt: write left/bucket/b/object/x
    expect: refused
"""
    before = IDENTITY + trust % "a/main" + "roles: {r: {allows: {object: [list, write]}}}\n" + grant + journey
    after = IDENTITY + trust % "{glob: a/**}" + "roles: {r: {allows: {object: [list]}}}\n" + grant + journey
    live, proposal = staged(estate_of(before), estate_of(after))
    assert not breaches(estate_of(after), live, proposal, Random(1))[0]
    steps = [replace(step, stage=rank[direction(step)]) for step in proposal.steps]
    steps.sort(key=lambda step: step.stage)
    opened = breaches(estate_of(after), live, Proposal("x", tuple(steps)), Random(1))[0]
    assert opened and "from-a-branch is opened" in opened[0]


def test_a_role_is_narrowed_before_a_ceiling_is_loosened() -> None:
    ceiling = "ceilings: [{name: c, over: targets, at: left, bars: {object: [write]}}]\n"
    grant = "grants: [{to: left/identity/a, role: r, at: left/bucket/b}]\n"
    wide = IDENTITY + "roles: {r: {allows: {object: [list, write]}}}\n" + grant + ceiling
    narrow = IDENTITY + "roles: {r: {allows: {object: [list]}}}\n" + grant
    assert stages(wide, narrow) == [["change roles"], ["remove ceilings"]]


def test_a_trust_is_narrowed_before_the_role_is_widened() -> None:
    trust = "trusts: [{of: left/identity/a, admits: {token: forge, claims: {sub: %s}}}]\n"
    grant = "grants: [{to: left/identity/a, role: r, at: left/bucket/b}]\n"
    before = IDENTITY + trust % "{glob: a/**}" + "roles: {r: {allows: {object: [list]}}}\n" + grant
    after = IDENTITY + trust % "a/main" + "roles: {r: {allows: {object: [list, write]}}}\n" + grant
    assert stages(before, after) == [["change trusts"], ["change roles"]]


def test_a_role_is_narrowed_before_the_group_is_grown() -> None:
    group = "groups: {left/group/g: {members: [%s]}}\n"
    grant = "grants: [{to: left/group/g, role: r, at: left/bucket/b}]\n"
    before = IDENTITY + group % "left/identity/a" + "roles: {r: {allows: {object: [list, write]}}}\n" + grant
    after = IDENTITY + group % "left/identity/a, left/identity/b" + "roles: {r: {allows: {object: [list]}}}\n" + grant
    assert stages(before, after) == [["change roles"], ["change groups"]]


def test_roles_are_swapped_without_an_outage() -> None:
    grant = "grants: [{to: left/identity/a, role: %s, at: left/bucket/b}]\n"
    roles = "roles: {reads: {allows: {object: [list]}}, more: {allows: {object: [list, write]}}}\n"
    made = stages(IDENTITY + roles + grant % "more", IDENTITY + roles + grant % "reads")
    assert made == [["make roles", "make grants"], ["remove grants", "remove roles"]]


def test_two_changes_that_open_something_together_are_done_in_halves() -> None:
    """Old callers with new permissions, and new callers with old ones, are what neither side allows."""
    trust = "trusts: [{of: left/identity/a, admits: {token: forge, claims: {sub: %s}}}]\n"
    grant = "grants: [{to: left/identity/a, role: r, at: left/bucket/b}]\n"
    before = IDENTITY + trust % "a/old" + "roles: {r: {allows: {object: [list]}}}\n" + grant
    after = IDENTITY + trust % "a/new" + "roles: {r: {allows: {object: [write]}}}\n" + grant
    live, proposal = staged(estate_of(before), estate_of(after))
    assert [step.action for step in proposal.steps].count(CHANGE) == len(proposal.steps) >= 3
    assert "first without what is new" in proposal.steps[0].sentence
    final = afterwards(live_of(estate_of(after), live), proposal.steps)
    assert all("until" not in one.body for one in final.values())


def test_what_no_order_keeps_allowed_is_said() -> None:
    """One caller has two ways; each is replaced, and old and new together open a third."""
    trusts = "trusts: [{of: left/identity/a, admits: {token: forge, claims: {sub: x}}}]\n"
    old = "grants: [{to: left/identity/a, role: one, at: left/bucket/b}]\n"
    new = "grants: [{to: left/identity/a, role: two, at: left/bucket/b}]\n"
    roles = "roles: {one: {allows: {object: [list], key: [decrypt]}}, two: {allows: {object: [list, read]}}}\n"
    resources = "resources: {left/bucket/c: {encrypted_by: left/key/k}, left/key/k: {managed_by: account}}\n"
    at = [text.replace("left/bucket/b", "left") for text in (old, new)]
    _, proposal = staged(*(estate_of(IDENTITY + trusts + roles + resources + one) for one in at))
    assert any("may list left/bucket" in said for said in proposal.outages)
    assert [step.action for step in proposal.steps] == [REMOVE, REMOVE, MAKE, MAKE]


@pytest.mark.parametrize(
    ("collection", "before", "after", "way"),
    [
        ("grants", {}, {"until": "2030-01-01T00:00:00Z"}, NARROWS),
        ("grants", {"until": "2030-01-01T00:00:00Z"}, {"until": "2031-01-01T00:00:00Z"}, WIDENS),
        ("grants", {}, {"when": {"network": "10.0.0.0/8"}}, NARROWS),
        ("ceilings", {}, {"when": {"network": "10.0.0.0/8"}}, WIDENS),
        ("ceilings", {"bars": {"bucket": ["list"]}}, {"bars": {"bucket": ["list", "delete"]}}, NARROWS),
        ("ceilings", {"only": {"bucket": ["list"]}}, {"only": {"bucket": ["list", "delete"]}}, WIDENS),
        ("ceilings", {"only": {"bucket": ["list"]}}, {"bars": {"bucket": ["list"]}}, BOTH),
        ("ceilings", {"except": ["a"]}, {"except": ["a", "b"]}, WIDENS),
        ("trusts", {"session": "15m"}, {"session": "2h"}, WIDENS),
        ("trusts", {}, {"session": "15m"}, NARROWS),
        ("trusts", {"admits": {"token": "f"}}, {"admits": {"token": "f", "claims": {"a": "b"}}}, NARROWS),
        ("trusts", {"admits": {"token": "f"}}, {"admits": {"token": "g"}}, BOTH),
        ("identities", {"disabled": True}, {}, WIDENS),
        ("identities", {"labels": {"a": "b"}}, {}, BOTH),
        ("identities", {"owner": "x"}, {"owner": "y"}, NEITHER),
        ("groups", {"members": ["a"]}, {"members": ["a", "b"]}, WIDENS),
        ("groups", {"members": ["a"], "where": {"kind": "person"}}, {"members": ["a", "b"]}, BOTH),
    ],
)
def test_which_way_a_change_goes(collection: str, before: dict[str, Any], after: dict[str, Any], way: str) -> None:
    assert direction(Step(CHANGE, "p", collection, "h", "", "m", after, before, "1", "1")) == way


def test_what_several_systems_have_is_waited_for_where_it_is_named() -> None:
    """A group of an organisation is made at each of its clouds: a grant at one needs the group of that one."""
    text = """
groups: {"@works/group/g": {members: [left/identity/a, right/identity/c]}}
roles: {r: {allows: {object: [read]}}}
resources: {left/bucket/b: {}, right/bucket/b: {}}
grants: [{to: "@works/group/g", role: r, at: left/bucket/b}, {to: "@works/group/g", role: r, at: right/bucket/b}]
"""
    identities = "identities: {left/identity/a: {kind: service-account}, right/identity/c: {kind: service-account}}\n"
    estate = estate_of(identities + text.replace("left/bucket/b: {}, ", ""))
    steps = propose(estate, empty(estate)).steps
    needs = needs_of(steps)
    for at, step in enumerate(steps):
        assert {steps[need].provider for need in needs[at]} <= {step.provider}, step.sentence
        assert step.collection in ("identities", "roles") or needs[at], step.sentence

"""Trimming: the least that still allows what was used, proven against trying everything, and replayed."""

import json
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from itertools import chain, combinations, product
from pathlib import Path
from random import Random
from typing import Any

import pytest
from ortools.sat.python import cp_model

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question, question_of
from enthesis.cleaning import narrowing, new_roles
from enthesis.cleaning.narrowing import Permission, Seat, narrowest
from enthesis.cleaning.needs import needs_of
from enthesis.cleaning.trimming import Trimmed, edits_of, trim
from enthesis.cleaning.usage import Summing
from enthesis.files.editing import edited
from enthesis.files.folder import read_texts
from enthesis.model.estate import Attempt, Context, Estate, Journey, Origin
from enthesis.model.vocabulary import Form
from enthesis.text.times import time_text
from enthesis.verdicts.judge import Judge

from .accounts import account
from .conftest import Program, examples, write_estate
from .naive import Naive
from .test_judging import random_estate
from .walking import NOW as THEN
from .walking import Grid, walks

NOW = datetime.now(UTC).replace(microsecond=0)


# -- the least, against trying everything ---------------------------------------------------------------------------


def subsets(items: Any) -> Iterator[tuple[Any, ...]]:
    listed = list(items)
    return chain.from_iterable(combinations(listed, count) for count in range(len(listed) + 1))


Worth = tuple[int, int, int]


def worth(
    seats: list[Seat], roles: list[frozenset[Permission]], at: tuple[tuple[int, ...], ...]
) -> tuple[int, int, int]:
    """What a choice costs: units beyond need, roles, grants."""
    beyond = 0
    for seat, chosen in zip(seats, at, strict=True):
        granted = frozenset(one for number in chosen for one in roles[number])
        beyond += sum(seat.beyond.get(one, 1) for one in granted - seat.needs)
    return beyond, len({number for chosen in at for number in chosen}), sum(map(len, at))


def least(seats: list[Seat], existing: dict[str, frozenset[Permission]], new: int) -> Worth | None:
    """The best of all choices, by trying each; None where nothing fits."""
    permissions = sorted({one for seat in seats for one in seat.allowed})
    possible = [frozenset(one) for one in subsets(permissions) if one]
    best: Worth | None = None
    for made in combinations(possible, min(new, len(possible))):
        roles = [*existing.values(), *made]
        ways = [
            [
                chosen
                for chosen in subsets(range(len(roles)))
                if seat.needs <= (granted := frozenset(one for number in chosen for one in roles[number]))
                and granted <= seat.allowed
            ]
            for seat in seats
        ]
        for at in product(*ways):
            found = worth(seats, roles, at)
            best = found if best is None or found < best else best
    return best


@pytest.mark.parametrize("seed", range(40))
def test_the_choice_is_the_least_of_all(seed: int) -> None:
    rng = Random(seed)
    permissions = [("object", verb) for verb in ("read", "write", "list", "delete")[: rng.randint(2, 4)]]
    existing = {"wide": frozenset(permissions)}
    if rng.random() < 0.5:
        existing["some"] = frozenset(rng.sample(permissions, rng.randint(1, len(permissions))))
    seats = []
    for number in range(rng.randint(1, 3)):
        needs = frozenset(rng.sample(permissions, rng.randint(1, len(permissions))))
        cost = {one: rng.randint(1, 3) for one in permissions}
        allowed = needs | frozenset(one for one in permissions if rng.random() < 0.6)
        seats.append(Seat(number, f"p{number}", needs, allowed, cost))
    new = rng.randint(0, 2)
    if least(seats, existing, new) is None:
        with pytest.raises(ValueError, match="no roles fit"):
            narrowest(seats, existing, new)
        return
    found = narrowest(seats, existing, new)
    assert found.gap == 0 and sum(not name for name, _ in found.roles) <= new
    roles = [its for _, its in found.roles]
    for seat, chosen in zip(seats, found.at, strict=True):
        assert seat.needs <= frozenset(one for number in chosen for one in roles[number]) <= seat.allowed
    assert worth(seats, roles, found.at) == least(seats, existing, new)
    assert found.beyond == worth(seats, roles, found.at)[0]


@pytest.mark.parametrize("seed", range(20))
def test_another_way_of_searching_finds_nothing_better(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    seats, existing = account(seed, 7)
    found = narrowest(seats, existing, 3)
    assert found == narrowest(seats, existing, 3)

    def by_trying(seconds: float, workers: int) -> cp_model.CpSolver:
        solver = cp_model.CpSolver()
        solver.parameters.max_time_in_seconds = seconds
        solver.parameters.num_workers = 1  # which proves by search, and not by what cannot go together
        return solver

    monkeypatch.setattr(new_roles, "_solver", by_trying)
    other = narrowest(seats, existing, 3)
    assert found.gap == other.gap == 0
    for seat, chosen in zip(seats, found.at, strict=True):  # a role may stand where all of it may be granted, alone
        assert seat.needs <= frozenset(p for n in chosen for p in found.roles[n][1]) <= seat.allowed
    first, second = (worth(seats, [its for _, its in one.roles], one.at) for one in (found, other))
    assert first == second and first[0] == found.beyond


@pytest.mark.parametrize("seed", range(30))
def test_without_the_solver_no_role_is_new_and_as_little_as_can_be_is_beyond_need(
    seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    seats, existing = account(seed, 12)
    solved = narrowest(seats, existing, 0)
    monkeypatch.setattr(narrowing, "find_spec", lambda name: None)
    found = narrowest(seats, existing, 5)
    assert found.gap is None and {name for name, _ in found.roles} <= set(existing)
    roles = [its for _, its in found.roles]
    for seat, chosen in zip(seats, found.at, strict=True):
        assert seat.needs <= frozenset(one for number in chosen for one in roles[number]) <= seat.allowed
    assert found.beyond == worth(seats, roles, found.at)[0] == solved.beyond
    monkeypatch.setattr(narrowing, "MOST_EXACT", 0)
    quick = narrowest(seats, existing, 5)
    assert (
        solved.beyond
        <= quick.beyond
        <= sum(sum(seat.beyond.get(one, 1) for one in seat.allowed - seat.needs) for seat in seats)
    )
    with pytest.raises(ValueError, match="no roles fit"):
        narrowest(seats, {}, 5)


def test_where_no_time_is_left_all_stays_as_it_is(monkeypatch: pytest.MonkeyPatch) -> None:
    seats, existing = account(13, 20)

    def nothing(self: object, aims: object, seconds: float) -> object:
        raise ValueError("nothing was found")

    monkeypatch.setattr(new_roles._Model, "solved", nothing)
    found = narrowest(seats, existing, 5)
    assert found.gap == 1 and {name for name, _ in found.roles} <= set(existing)
    roles = [its for _, its in found.roles]
    for seat, chosen in zip(seats, found.at, strict=True):
        assert seat.needs <= frozenset(one for number in chosen for one in roles[number]) <= seat.allowed
    with pytest.raises(ValueError, match="no roles fit"):
        narrowest([Seat(0, "p", frozenset({("object", "read")}), frozenset({("object", "read")}))], {}, 0)


# -- estates --------------------------------------------------------------------------------------------------------


def drawn(seed: int) -> tuple[str, list[dict[str, Any]]]:
    """A small estate with wide grants, and a log of some of what they allow."""
    rng = Random(seed)
    accounts = {"aa": "north", "bb": "north", "cc": "south"}
    buckets = [f"{account}/bucket/b{number}" for account in accounts for number in range(2)]
    queues = [f"{account}/queue/q" for account in accounts]
    identities = [f"{account}/identity/i{number}" for account in accounts for number in range(2)]
    kinds = {"object": ["read", "write", "list", "delete"], "bucket": ["describe"], "queue": ["send", "receive"]}
    roles = {
        f"r{number}": {
            "allows": {
                kind: rng.sample(verbs, rng.randint(1, len(verbs)))
                for kind, verbs in kinds.items()
                if rng.random() < 0.8
            }
            or {"queue": ["send"]}
        }
        for number in range(4)
    }
    places = [*buckets, *queues, *accounts]
    grants: list[dict[str, Any]] = []
    for _ in range(9):
        to, at = rng.choice([*identities, "aa/group/g"]), rng.choice(places)
        mine, theirs = to.split("/")[0], at.split("/")[0]
        holders = [None] if mine == theirs else [mine, theirs]
        for holder in holders:
            grant = {"to": to, "role": rng.choice(list(roles)), "at": at}
            full = {**grant, **({"held_by": holder} if holder else {})}
            if full not in grants:
                grants.append(full)
    data = {
        "estate": "drawn",
        "organisations": {"one": {}},
        "providers": {"north": {"style": "two-sided"}, "south": {"style": "one-sided"}},
        "accounts": {name: {"in": "@one", "provider": provider} for name, provider in accounts.items()},
        "resources": {one: {} for one in (*buckets, *queues)},
        "identities": {one: {"kind": "service-account"} for one in identities},
        "groups": {"aa/group/g": {"members": rng.sample(identities, 2)}},
        "roles": roles,
        "grants": grants,
    }
    text = json.dumps(data)
    reading = read_texts({"estate.yaml": text})
    assert reading.estate is not None, reading.errors
    estate = reading.estate
    judge = Judge(compile_estate(estate))
    asked = [(one, verb, f"{bucket}/object/x") for one in identities for verb in kinds["object"] for bucket in buckets]
    asked += [(one, "describe", bucket) for one in identities for bucket in buckets]
    asked += [(one, verb, queue) for one in identities for verb in kinds["queue"] for queue in queues]
    allowed = [one for one in asked if not refused(judge, *one)]
    rows = [row(*one, days=rng.choice([1, 5, 200])) for one in rng.sample(allowed, len(allowed) // 3)]
    return text, rows


def refused(judge: Judge, identity: str, verb: str, target: str) -> tuple[str, ...]:
    question = Question(Origin(Form.IDENTITY, identity), (), Attempt(verb, target), Context(), NOW)
    return judge.judge(question).refused_at


def row(identity: str, verb: str, target: str, days: float = 1) -> dict[str, Any]:
    at = time_text(NOW - timedelta(days=days))
    return {
        "time": at, "caller": identity, "identity": identity, "verb": verb, "target": target, "outcome": "allowed",
    }  # fmt: skip


def trimmed(text: str, rows: list[dict[str, Any]], new: int = 40) -> tuple[Estate, Trimmed]:
    estate = read_texts({"estate.yaml": text}).estate
    assert estate is not None
    summing = Summing(estate, NOW)
    summing.add_rows(rows)
    needs = needs_of(estate, summing.usage, NOW - timedelta(days=90), NOW)
    return estate, trim(estate, needs, NOW, new=new)


@pytest.mark.parametrize("seed", range(25))
def test_everything_used_stays_allowed_and_nothing_further_could_go(seed: int) -> None:
    text, rows = drawn(seed)
    estate, found = trimmed(text, rows)
    assert found.gap == 0 and not found.withheld
    after = read_texts(edited({"estate.yaml": text}, edits_of(estate, found)))
    assert after.estate is not None, after.errors
    used = [(one["identity"], one["verb"], one["target"]) for one in rows]
    judge = Judge(compile_estate(after.estate))
    assert not [one for one in used if refused(judge, *one)]
    for change in found.changes:
        for grant in change.comes:
            for permission in sorted(after.estate.permissions_of(grant.role)):
                less = without(after.estate, grant, permission)
                if less is None:
                    continue
                narrower = Judge(compile_estate(less))
                assert any(refused(narrower, *one) for one in used), (grant, permission)


def without(estate: Estate, grant: Any, permission: tuple[str, str]) -> Estate | None:
    """The estate with a permission less in one grant; None where it can be of no effect there."""
    kind, _ = permission
    leaf = {"object": "bucket"}.get(kind, kind)
    if "/" in grant.at and grant.at.split("/")[-2] != leaf:
        return None
    role = estate.roles[grant.role]
    allows = {one: tuple(each for each in verbs if (one, each) != permission) for one, verbs in role.allows.items()}
    narrow = replace(role, name="narrow", allows={one: verbs for one, verbs in allows.items() if verbs})
    plain = (grant.to, grant.role, grant.at, grant.held_by)
    grants = tuple(
        replace(one, role="narrow") if (one.to, one.role, one.at, one.held_by) == plain else one
        for one in estate.grants
    )
    return replace(estate, roles={**estate.roles, "narrow": narrow}, grants=grants)


@pytest.mark.parametrize("seed", range(10))
def test_fewer_new_roles_cost_more_and_refuse_nothing_either(seed: int) -> None:
    text, rows = drawn(seed)
    worths = []
    for new in (0, 1, 2, 40):
        _, found = trimmed(text, rows, new)
        by_holder: dict[str, set[str]] = {}
        for change in found.changes:
            fresh = {grant.role for grant in change.comes} & {role.name for role in found.roles}
            by_holder.setdefault(change.holder, set()).update(fresh)
        assert all(len(names) <= new for names in by_holder.values())
        judge = Judge(compile_estate(found.after))
        assert not [one for one in rows if refused(judge, one["identity"], one["verb"], one["target"])]
        worths.append(found.beyond)
    assert worths == sorted(worths, reverse=True)


def recorded(estate: Estate, journey: Journey) -> list[dict[str, Any]]:
    """The rows that clouds write for a journey that was allowed: one for each of its requests."""
    verdict = Judge(compile_estate(estate)).judge(question_of(journey, THEN))
    passed: list[Any] = []
    rows = []
    origin = {"kind": str(journey.origin.form), "address": journey.origin.whom}
    if journey.origin.form == Form.CREDENTIAL:
        origin |= {"credential": "id", "address": estate.credentials[journey.origin.whom].of}
    for number, request in enumerate(verdict.requests):
        rows.append(
            {
                "time": time_text(THEN - timedelta(days=1)), "caller": origin["address"], "verb": request.verb,
                "identity": request.caller if request.caller in estate.identities else None, "origin": origin,
                "target": request.target, "outcome": "allowed", "through": list(passed),
            }
        )  # fmt: skip
        if number < len(journey.through):
            hop = journey.through[number]
            passed.append({"on": hop.member or hop.on} if hop.on else hop.identity)
    return rows


def test_whole_journeys_that_were_recorded_stay_allowed() -> None:
    counted: Counter[str] = Counter()
    for seed in range(examples(12)):
        estate, rng = replace(random_estate(seed), journeys={}), Random(seed)
        used = list(walks(estate, rng, 40, Grid(times=(THEN,))))
        summing = Summing(estate, THEN)
        summing.add_rows(row for journey in used for row in recorded(estate, journey))
        found = trim(estate, needs_of(estate, summing.usage, THEN - timedelta(days=90), THEN), THEN)
        naive = Naive(found.after, THEN)
        for journey in used:
            assert not [seen for seen in naive.judge(journey) if seen.refused], (seed, journey)
        counted["by people"] += sum(journey.origin.form == Form.PERSON for journey in used)
        counted["changes"] += len(found.changes)
        counted["journeys"] += len(used)
    assert counted["by people"] and counted["changes"] and counted["journeys"], counted


PARTS = """\
estate: parts
organisations: {one: {}}
providers: {north: {style: one-sided}}
accounts: {aa: {in: "@one", provider: north}}
resources: {aa/bucket/b: {}, aa/host/h: {}, aa/host/i: {}}
identities: {aa/identity/i: {kind: service-account}, aa/identity/r: {kind: instance-role}}
roles:
  all: {allows: {object: [read, write, delete]}}
  attaching: {allows: {identity: [attach], host: [configure, describe]}}
grants:
  - {to: aa/identity/i, role: all, at: aa/bucket/b/object/north/today}
  - {to: aa/identity/i, role: all, at: aa/bucket/b/object/south}
  - {to: aa/identity/i, role: attaching, at: aa}
"""


def test_needs_are_kept_where_the_grants_are() -> None:
    used = [row("aa/identity/i", "read", "aa/bucket/b/object/north/today/levels.csv")]
    _, found = trimmed(PARTS, used)
    assert not found.withheld
    left = {(grant.to, grant.at, found.after.permissions_of(grant.role)) for grant in found.after.grants}
    assert left == {("aa/identity/i", "aa/bucket/b/object/north/today", frozenset({("object", "read")}))}


def test_what_was_attached_to_is_kept_and_all_of_it_while_that_is_unknown() -> None:
    attached = row("aa/identity/i", "attach", "aa/identity/r")
    for onto, expected in ((None, {"aa/host/h", "aa/host/i"}), ("aa/host/i", {"aa/host/i"})):
        _, found = trimmed(PARTS, [attached if onto is None else {**attached, "onto": onto}])
        judge = Judge(compile_estate(found.after))
        hosts = ("aa/host/h", "aa/host/i")
        assert {host for host in hosts if not refused(judge, "aa/identity/i", "configure", host)} == expected
        assert refused(judge, "aa/identity/i", "describe", "aa/host/i")


PARTY = """\
estate: party
organisations: {one: {}, two: {outside: true}}
providers: {north: {style: one-sided}}
accounts: {aa: {in: "@one", provider: north}}
resources: {aa/bucket/b: {}}
identities: {aa/identity/i: {kind: service-account}, "@two/identity/zoe": {kind: person}}
roles: {reading: {allows: {object: [read]}}, entering: {allows: {organisation: [enter, delete]}}}
trusts: [{of: aa/identity/i, admits: {person: "@two/identity/zoe"}}]
grants:
  - {to: aa/identity/i, role: reading, at: aa/bucket/b}
  - {to: "@two/identity/zoe", role: entering, at: "@one"}
"""


def test_a_person_of_another_organisation_still_enters() -> None:
    done = row("aa/identity/i", "read", "aa/bucket/b/object/x")
    zoe = "@two/identity/zoe"
    _, found = trimmed(PARTY, [{**done, "caller": zoe, "origin": {"kind": "person", "address": zoe}}])
    left = {(grant.to, grant.at): found.after.permissions_of(grant.role) for grant in found.after.grants}
    assert left[zoe, "@one"] == {("organisation", "enter")} and not found.withheld


def test_rows_until_the_log_was_taken_are_not_to_come() -> None:
    estate = read_texts({"estate.yaml": PARTS}).estate
    assert estate is not None
    later = row("aa/identity/i", "read", "aa/bucket/b/object/x", days=-2)
    for taken, ignored in ((NOW, 1), (NOW + timedelta(days=3), 0)):
        summing = Summing(estate, NOW)
        summing.add_rows([{"enthesis": "usage", "version": 1, "taken": time_text(taken)}, later])
        assert summing.usage.ignored["the time is in the future"] == ignored


def test_every_verb_of_a_class_that_nobody_used_is_found(enthesis: Program, tmp_path: Path) -> None:
    write_estate(
        tmp_path,
        {
            "estate.yaml": PARTS.replace("role: attaching", "role: wide").replace(
                "roles:", 'roles:\n  wide: {allows: {"*": "*"}}'
            )
        },
    )
    rows = [row("aa/identity/i", "read", "aa/bucket/b/object/x", days) for days in (1, 200)]
    (tmp_path / "log.jsonl").write_text("\n".join(map(json.dumps, rows)))
    found = enthesis("sweep", "--usage", "log.jsonl", "--format", "json", at=tmp_path).json["findings"]
    (one,) = [one for one in found if one["code"] == "class-unused"]
    assert "aa/identity/i has every look and write and run and manage verb at aa by wide" in one["message"]


WIDE = """\
estate: works
organisations: {one: {}}
providers: {north: {style: one-sided}}
accounts: {left: {in: "@one", provider: north}}
resources:
  left/bucket/a: {}
  left/bucket/b: {}
identities:
  left/identity/one: {kind: service-account}
  left/identity/two: {kind: service-account}
roles:
  everything: {allows: {"*": ["*"]}}  # for now
grants:
  - {to: left/identity/one, role: everything, at: left}
  - {to: left/identity/two, role: everything, at: left}  # not looked at
journeys:
  lists: {from: {identity: left/identity/one}, attempt: list left/bucket/b/object/x, expect: allowed}
"""


def test_the_built_program_narrows_writes_and_keeps_the_rest(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path / "works", {"estate.yaml": WIDE})
    log = tmp_path / "log.jsonl"
    reads = [row("left/identity/one", "read", "left/bucket/a/object/x")] * 3
    rare = row("left/identity/one", "write", "left/bucket/a/object/x", days=200)
    odd = [{**reads[0], "identity": f"far/identity/{number}"} for number in range(50)]
    log.write_text("".join(json.dumps(one) + "\n" for one in (*reads, rare, *odd)) + "{\n")
    ran = enthesis("trim", "--usage", str(log), at=folder)
    assert ran.code == 1 and "Nothing was written" in ran.err
    for says in ("write on object at left/bucket/a", "left/identity/two", "50 rows: the identity is not one of this"):
        assert says in ran.out, ran.out
    assert (folder / "estate.yaml").read_text() == WIDE
    assert enthesis("trim", "--usage", str(log), "--write", at=folder).code == 0
    text = (folder / "estate.yaml").read_text()
    assert "# for now" in text and "# not looked at" in text and "to: left/identity/one, role: everything" not in text
    estate = read_texts({"estate.yaml": text}).estate
    assert estate is not None
    mine = {(grant.at, one) for grant in estate.grants if grant.to == "left/identity/one"
            for one in estate.permissions_of(grant.role)}  # fmt: skip
    assert {("left/bucket/a", ("object", "read")), ("left/bucket/a", ("object", "write"))} <= mine
    assert ("left/bucket/b", ("object", "list")) in mine
    again = enthesis("trim", "--usage", str(log), at=folder)
    assert again.code == 0 and again.out.startswith("works: nothing to trim."), again.out


def test_an_empty_log_and_wrong_words_trim_nothing(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path / "works", {"estate.yaml": WIDE})
    (tmp_path / "empty.jsonl").write_text("")
    ran = enthesis("trim", "--usage", str(tmp_path / "empty.jsonl"), at=folder)
    assert ran.code == 0 and "nothing to trim" in ran.out
    (tmp_path / "odd.jsonl").write_text(json.dumps(row("left/identity/one", "frobnicate", "left/bucket/a")) + "\n")
    odd = enthesis("trim", "--usage", str(tmp_path / "odd.jsonl"), "--format", "json", at=folder)
    assert odd.code == 0 and odd.json["log"]["ignored"] == {"the verb is not one of the catalogue": 1}
    for words in ((), ("--usage", "none.jsonl"), ("--usage", str(tmp_path / "empty.jsonl"), "--window", "long")):
        assert enthesis("trim", *words, at=folder).code == 2

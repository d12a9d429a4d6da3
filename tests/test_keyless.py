"""Keyless ways, hops onto an identity, twins, and what lives on: the pure parts, on small estates."""

from datetime import UTC, datetime
from typing import Any

import pytest

from enthesis.access.compiling import compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.cards import card
from enthesis.files.folder import read_texts
from enthesis.files.renaming import about, apart_from_names, renamed, twin
from enthesis.model.estate import Context, Estate, Origin
from enthesis.model.file_errors import masked
from enthesis.model.vocabulary import Form
from enthesis.proposals.lingering import dangling, living_on
from enthesis.proposals.steps import CHANGE, MAKE, REMOVE, Step
from enthesis.surveys.statements import LiveObject, Surveyed, without_gone
from enthesis.trusts.keyless import keyless_ways
from enthesis.verdicts.judge import Judge
from enthesis.verdicts.pipeline_access import is_anothers, runs_admitted
from enthesis.verdicts.takeable import can_take_on, way_onto

NOW = datetime(2026, 6, 1, tzinfo=UTC)
HEAD = """
estate: small
organisations: {works: {}}
providers: {north: {style: one-sided}}
accounts: {left: {in: "@works", provider: north}, right: {in: "@works", provider: north}}
issuers:
  forge: {kind: oidc, shared: true, owned: {sub: {glob: "ours/**"}}}
  grid: {kind: oidc, cluster: left/cluster/k}
resources: {left/host/h: {}, left/cluster/k: {}, left/cluster/k/namespace/n: {}, left/bucket/b: {}}
identities:
  "@works/identity/p": {kind: person}
  left/identity/a: {kind: service-account}
  left/identity/b: {kind: service-account, environment: trial}
  right/identity/c: {kind: service-account}
  left/cluster/k/namespace/n/identity/s: {kind: cluster-service-account}
"""


def estate_of(text: str = "") -> Estate:
    reading = read_texts({"estate.yaml": HEAD + text})
    assert reading.estate is not None, reading.errors
    return reading.estate


def ways(text: str) -> list[tuple[bool, list[Any]]]:
    found = keyless_ways(estate_of(text), "left/identity/a", datetime(2026, 12, 1, tzinfo=UTC))
    return [(one.is_there, [entry for _, entry in one.entries]) for one in found]


def test_a_keyless_way_that_is_there_comes_first() -> None:
    found = ways("trusts: [{of: left/identity/a, admits: {token: forge, claims: {sub: ours/x, aud: north}}}]\n"
                 "attachments: [{what: left/host/h, runs_as: left/identity/a}]\n")  # fmt: skip
    assert [there for there, _ in found] == [True, False]
    assert found[1][1][0]["admits"] == {"attached": True}


@pytest.mark.parametrize(
    ("text", "admits"),
    [
        ("attachments: [{what: left/host/h, runs_as: left/identity/a}]", {"attached": True}),
        (
            "pipeline_access: {l: {at: forge, of: left/identity/a, admits: {sub: ours/x}}}",
            {"token": "forge", "claims": {"sub": "ours/x", "aud": "north"}},
        ),
        (
            "credentials: {k: {of: left/identity/a, form: access-key, held_in: forge}}\n"
            "journeys: {j: {from: {token: forge, claims: {sub: ours/main, aud: north}}, "
            "through: [left/identity/a], expect: allowed}}",
            {"token": "forge", "claims": {"sub": "ours/main", "aud": "north"}},
        ),
        (
            "credentials: {k: {of: left/identity/a, form: access-key, held_in: left/cluster/k/namespace/n/identity/s}}",
            {"token": "grid", "claims": {"sub": "system:serviceaccount:n:s", "aud": "north"}},
        ),
    ],
)
def test_a_keyless_way_that_is_near_is_a_ready_line_that_reads(text: str, admits: dict[str, Any]) -> None:
    found = ways(text + "\n")
    assert [there for there, _ in found] == [False]
    assert found[0][1][-1]["admits"] == admits
    line = str(found[0][1][-1]).replace("'", '"').replace("True", "true")
    assert estate_of(f"trusts: [{line}]\n").trusts[0].of == "left/identity/a"


def test_a_host_that_holds_a_key_can_run_as_its_identity_instead() -> None:
    found = ways("credentials: {k: {of: left/identity/a, form: access-key, held_in: left/host/h}}\n")
    trust = {"of": "left/identity/a", "admits": {"attached": "left/host/h"}, "session": "1h"}
    assert found == [(False, [{"what": "left/host/h", "runs_as": "left/identity/a"}, trust])]
    assert ways("credentials: {k: {of: left/identity/a, form: access-key}}\n") == []


def test_no_trust_in_every_run_of_ours_is_offered() -> None:
    assert ways("credentials: {k: {of: left/identity/a, form: access-key, held_in: forge}}\n") == [(False, [])]


def test_pipeline_access_is_for_runs_of_ours_alone() -> None:
    estate = estate_of('pipeline_access: {l: {at: forge, of: left/identity/a, admits: {sub: {glob: "**/main"}}}}\n')
    assert len(runs_admitted(estate, estate.pipeline_access["l"])) == 2
    plain = estate_of("pipeline_access: {l: {at: forge, of: left/identity/a, admits: {sub: ours/main}}}\n")
    assert len(runs_admitted(plain, plain.pipeline_access["l"])) == 1  # says so already
    forge = estate.issuers["forge"]
    assert is_anothers(forge, {"sub": "theirs/main"}) and is_anothers(forge, {})
    assert not is_anothers(forge, {"sub": "ours/main"})


# -- hops ----------------------------------------------------------------------------------------------------------

CHAIN = """
trusts:
  - {of: left/identity/a, admits: {token: forge, claims: {sub: ours/main, aud: north}}, session: 15m}
  - {of: left/identity/b, admits: {identity: left/identity/a}}
  - {of: right/identity/c, admits: {identity: left/identity/b}}
"""


def test_the_fewest_hops_are_found_and_no_others() -> None:
    estate = estate_of(CHAIN)
    judge = Judge(compile_estate(estate))
    run = Origin(Form.TOKEN, "forge", {"sub": "ours/main", "aud": "north"})

    def way(origin: Origin, to: str) -> tuple[str, ...] | None:
        return way_onto(estate, judge, origin, to, Context(), NOW)

    assert way(run, "right/identity/c") == ("left/identity/a", "left/identity/b", "right/identity/c")
    assert way(Origin(Form.IDENTITY, "left/identity/a"), "left/identity/b") == ("left/identity/b",)
    assert way(Origin(Form.TOKEN, "forge", {"sub": "ours/try", "aud": "north"}), "left/identity/a") is None
    assert way(Origin(Form.PERSON, "@works/identity/p"), "left/identity/a") is None
    taken = list(can_take_on(estate, judge, run, Context(), NOW))
    assert [(one.identity, str(one.life), one.source.line if one.source else 0) for one in taken] == [
        ("left/identity/a", "0:15:00", 18)
    ]


def test_a_hop_by_a_group_or_a_whole_account_is_found_too() -> None:
    estate = estate_of(
        "groups: {left/group/g: {members: [left/identity/a]}}\n"
        "trusts:\n  - {of: left/identity/b, admits: {group: left/group/g}}\n"
        "  - {of: right/identity/c, admits: {account: left}}\n"
        "roles: {taking: {allows: {identity: [take-on]}}}\n"
        "grants: [{to: left/identity/b, role: taking, at: right/identity/c, held_by: left}]\n"
    )
    judge = Judge(compile_estate(estate))
    found = way_onto(estate, judge, Origin(Form.IDENTITY, "left/identity/a"), "right/identity/c", Context(), NOW)
    assert found == ("left/identity/b", "right/identity/c")
    assert way_onto(estate, judge, Origin(Form.IDENTITY, "left/identity/b"), "left/identity/a", Context(), NOW) is None


# -- twins ---------------------------------------------------------------------------------------------------------

TWINNED = """
roles: {r: {allows: {object: [read]}}}
grants:
  - {to: left/identity/b, role: r, at: left/bucket/b}
  - {to: right/identity/c, role: r, at: left/bucket/b, held_by: left}
trusts: [{of: left/identity/b, admits: {token: forge, claims: {sub: left/identity, aud: left}}}]
credentials: {k: {of: left/identity/b, form: access-key}}
journeys: {j: {from: {identity: left/identity/b}, attempt: read left/bucket/b/object/left, expect: allowed}}
invariants: [{name: n, only: {by: [left/identity/b, right/identity/c], can: read, at: left/bucket/b}}]
"""


def test_a_twin_changes_addresses_and_nothing_that_only_looks_like_one() -> None:
    estate = estate_of(TWINNED)
    entries = {(one.section, one.name): one.entry for one in twin(estate, "left", "next")}
    assert ("credentials", "k") not in entries and ("accounts", "next") in entries
    assert entries["identities", "next/identity/b"]["environment"] == "next"
    assert entries["journeys", "j-next"]["attempt"] == "read next/bucket/b/object/left"
    listed = [one.entry for one in twin(estate, "left", "next") if one.section in ("trusts", "grants", "invariants")]
    assert {
        "of": "next/identity/b",
        "admits": {"token": "forge", "claims": {"sub": "left/identity", "aud": "left"}},
    } in listed
    assert {"to": "right/identity/c", "role": "r", "at": "next/bucket/b", "held_by": "next"} in listed
    assert any(one.get("name") == "n-next" for one in listed)


def test_leftover_is_no_part_of_left() -> None:
    assert renamed("read leftover/bucket/b", "left", "next") == "read leftover/bucket/b"
    assert renamed(["left", "left/bucket/b", 7], "left", "next") == ["next", "next/bucket/b", 7]
    estate = estate_of()
    assert {name for _, name in about(estate, "right")} == {"right", "right/identity/c"}


def test_two_that_are_no_twins_say_in_what_they_differ() -> None:
    estate = estate_of(TWINNED)
    lacking, more = apart_from_names(estate, "left", estate, "right")
    assert any("right/bucket/b" in one for one in lacking) and any("identity/c" in one for one in more)


# -- what lives on -------------------------------------------------------------------------------------------------


def surveyed(*objects: tuple[str, dict[str, Any], str | None]) -> list[Surveyed]:
    found = tuple(
        LiveObject("north", collection, "left", str(number), "1", mark, body)
        for number, (collection, body, mark) in enumerate(objects)
    )
    return [Surveyed("north", ("left",), found)]


def step(action: str, collection: str, before: dict[str, Any], body: dict[str, Any] | None) -> Step:
    return Step(action, "north", collection, "left", "said", "small", body, None if action == MAKE else before)


TRUST = {"of": "left/identity/a", "admits": {"attached": True}, "session": "30m"}


@pytest.mark.parametrize(
    ("taken", "lives"),
    [
        (step(REMOVE, "trusts", TRUST, None), [("left/identity/a", "30m")]),
        (step(CHANGE, "trusts", TRUST, {**TRUST, "session": "5m"}), [("left/identity/a", "30m")]),
        (step(CHANGE, "trusts", TRUST, {**TRUST, "session": "2h"}), []),
        (step(CHANGE, "trusts", TRUST, {**TRUST, "when": {"mfa": True}}), [("left/identity/a", "30m")]),
        (step(MAKE, "trusts", {}, TRUST), []),
        (
            step(REMOVE, "attachments", {"what": "left/host/h", "runs_as": "left/identity/a"}, None),
            [("left/identity/a", "30m")],
        ),
        (step(REMOVE, "grants", {"to": "left/identity/a", "role": "r", "at": "left"}, None), []),
    ],
)
def test_sessions_that_are_out_live_on_when_trust_goes(taken: Step, lives: list[tuple[str, str]]) -> None:
    assert list(living_on([taken], surveyed(("trusts", TRUST, "small")))) == lives


def test_who_is_gone_can_do_nothing_at_once() -> None:
    both = [step(REMOVE, "trusts", TRUST, None), step(REMOVE, "identities", {"address": "left/identity/a"}, None)]
    assert list(living_on(both, surveyed(("trusts", TRUST, "small")))) == []


def test_what_names_the_gone_is_told_with_who_takes_it_away() -> None:
    gone = {"gone": "left/identity/was"}
    ours = ("grants", {"to": gone, "role": "r", "at": "left/bucket/b"}, "small")
    others = ("attachments", {"what": "left/host/h", "runs_as": ["left/identity/a", gone]}, None)
    fine = ("attachments", {"what": "left/host/h", "runs_as": "left/identity/a"}, None)
    told = dangling(surveyed(ours, others, fine))
    assert len(told) == 2
    assert "left/identity/was (no longer exists)" in told[0] and "`enact --prune` for the estate small" in told[0]
    assert told[1].endswith("up to the administrators of left: take it away")
    assert len(dangling(surveyed(ours, others), but_of="small")) == 1
    assert without_gone(others[1])["runs_as"] == ["left/identity/a"]


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ('value: "labkey.Ab3dEf6hIj9kLm2nOp5qRs8t"', 'value: "labkey.' + "·" * 24 + '"'),
        ("gauges/bucket/raw-levels/object/2026", "gauges/bucket/raw-levels/object/2026"),
        ("sub: project/tides/bulletin/branch/main", "sub: project/tides/bulletin/branch/main"),
        ("Short1", "Short1"),
    ],
)
def test_what_looks_like_a_secret_is_dotted_out(text: str, shown: str) -> None:
    assert masked(text) == shown and len(masked(text)) == len(text)


def test_a_card_says_through_which_group_somebody_comes_to_an_identity_as_a_thing() -> None:
    text = (
        'groups: {left/group/crew: {members: ["@works/identity/p"]}, left/group/idle: {members: [left/identity/b]}}\n'
        "roles: {issuing: {allows: {identity: [issue, run-as]}}, reading: {allows: {object: [read]}}}\n"
        "grants:\n- {to: left/group/crew, role: issuing, at: left/identity/a}\n"
        "- {to: left/group/idle, role: reading, at: left}\n"
    )
    found = card(Web(compile_estate(estate_of(text)), NOW.timestamp()), "left/identity/a", NOW)
    assert found is not None
    items = next(
        part.items
        for part in found.parts
        if part.head == "who may run workloads as it, attach it, issue credentials for it or change it"
    )
    assert [one.text for one in items] == [
        "@works/identity/p: run-as, issue",
        "through the group left/group/crew: run-as, issue",
    ]

"""From keyed to keyless: no workload fails on the way, no key in use is disabled, and the way is the narrowest."""

import json
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

import pytest

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.change import retiring
from enthesis.cleaning.retiring import LiveKeys, RetiringBounds, Standing, standings
from enthesis.files.editing import Addition, edited
from enthesis.files.folder import read_texts
from enthesis.model.estate import Attempt, Context, Estate, Hop, Origin
from enthesis.model.vocabulary import Form
from enthesis.ports import Connected
from enthesis.proposals.credentials import Credentialed
from enthesis.text.times import time_text
from enthesis.verdicts.judge import Judge

from .campaign import Calls, bring_back, fleet, make_keys, retire, stages
from .conftest import Program, start_lab, write_estate

NOW = datetime(2026, 11, 26, 12, tzinfo=UTC)
YARD = """\
estate: yard
organisations: {works: {}}
providers: {north: {style: two-sided}}
accounts: {left: {in: "@works", provider: north}, right: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc, shared: true}}
resources: {left/host/h: {}, left/host/other: {}, left/bucket/a: {}, left/bucket/b: {}, right/bucket/c: {}}
identities:
  left/identity/robot: {kind: service-account, owner: web, purpose: stores}
  left/identity/deep: {kind: service-account, owner: web, purpose: is taken on}
roles:
  all: {allows: {object: [list, read, write]}}
  out: {allows: {object: [read, write]}}
  taking: {allows: {identity: [take-on]}}
trusts:
  - {of: left/identity/deep, admits: {identity: left/identity/robot}}
grants:
  - {to: left/identity/robot, role: all, at: left}
  - {to: left/identity/robot, role: out, at: right/bucket/c, held_by: left}
  - {to: left/identity/robot, role: out, at: right/bucket/c, held_by: right}
  - {to: left/identity/robot, role: taking, at: left/identity/deep}
credentials:
  one: {of: left/identity/robot, form: access-key, held_in: left/host/h}
  two: {of: left/identity/robot, form: access-key, held_in: left/host/other}
retiring: {one: {stage: planned}}
"""
USES = {("read", "left/bucket/a/object/x"): 1.0, ("write", "right/bucket/c/object/y"): 2.0,
        ("take-on", "left/identity/deep"): 3.0}  # fmt: skip


def estate_of(text: str, *edits: Any) -> Estate:
    reading = read_texts(edited({"estate.yaml": text}, edits))
    assert reading.estate is not None, reading.errors
    return reading.estate


def standing(text: str, name: str = "one", **known: Any) -> Standing:
    return standings(estate_of(text), [name], LiveKeys(NOW, **known))[0]


def allowed(estate: Estate, identity: str, verb: str, target: str) -> bool:
    question = Question(Origin(Form.IDENTITY, identity), (), Attempt(verb, target), Context(), NOW)
    return Judge(compile_estate(estate)).judge(question).allowed


def test_a_holder_of_a_shared_identity_gets_one_of_its_own_with_what_the_key_was_used_for_and_no_more() -> None:
    found = standing(YARD, used={"one": USES})
    own = "left/identity/robot-one"
    assert found.ready and found.takes_on == own and found.split == ("the credential two",)
    after = estate_of(YARD, *found.edits)
    assert all(allowed(after, own, verb, target) for verb, target in USES)
    for verb, target in (("write", "left/bucket/a/object/x"), ("read", "left/bucket/b/object/x"),
                         ("read", "right/bucket/c/object/y"), ("take-on", "left/identity/robot")):  # fmt: skip
        assert not allowed(after, own, verb, target), (verb, target)
    judge = Judge(compile_estate(after))
    for host, may in (("left/host/h", True), ("left/host/other", False)):
        question = Question(Origin(Form.HOST, host), (Hop(own),), None, Context(), NOW)
        assert judge.judge(question).allowed is may
    assert after.retiring["one"].identity == own


def test_without_a_log_the_identity_of_others_is_not_handed_on_whole() -> None:
    logs: list[dict[str, Any]] = [{}, {"used": {}}, {"used": {"two": USES}}]
    for known in logs:
        found = standing(YARD, **known)
        assert not found.ready and "also does other work" in found.waits and not found.edits


def test_an_identity_of_its_own_already_is_taken_on_as_it_is() -> None:
    alone = YARD.replace("  two: {of: left/identity/robot, form: access-key, held_in: left/host/other}\n", "")
    found = standing(alone)
    assert found.takes_on == "left/identity/robot" and not found.split
    said = {edit.section: edit.entry for edit in found.edits if isinstance(edit, Addition)}
    assert said == {
        "attachments": {"what": "left/host/h", "runs_as": "left/identity/robot"},
        "trusts": {"of": "left/identity/robot", "admits": {"attached": "left/host/h"}, "session": "1h"},
    }


@pytest.mark.parametrize(
    ("admits", "subjects"),
    [
        ("{sub: project/tides/x}", ["project/tides/x"]),
        ("{sub: [project/a, project/b]}", ["project/a", "project/b"]),
        ('{sub: {glob: "project/**"}}', []),
        ("{event: push}", []),
    ],
)
def test_the_very_runs_that_use_a_key_are_admitted_and_never_every_run(admits: str, subjects: list[str]) -> None:
    text = YARD.replace("held_in: left/host/h}", "held_in: forge}").replace(
        "  two: {of: left/identity/robot, form: access-key, held_in: left/host/other}\n", ""
    )
    text += f"pipeline_access: {{up: {{at: forge, of: left/identity/robot, admits: {admits}, credential: one}}}}\n"
    found = standing(text)
    said = [edit.entry["admits"] for edit in found.edits if isinstance(edit, Addition) and edit.section == "trusts"]
    sub = subjects if len(subjects) > 1 else "".join(subjects)
    assert said == ([{"token": "forge", "claims": {"sub": sub, "aud": "north"}}] if subjects else [])
    assert read_texts(edited({"estate.yaml": text}, found.edits)).errors == ()
    if subjects:  # it has one of these already, that asks for more
        claims = f"{{sub: {subjects[0]}, aud: north, event: release}}"
        other = f"  - {{of: left/identity/robot, admits: {{token: forge, claims: {claims}}}}}\n"
        more = text.replace("trusts:\n", "trusts:\n" + other)
        beside = standing(more)
        assert read_texts(edited({"estate.yaml": more}, beside.edits)).errors == ()
        added = [edit.entry for edit in beside.edits if isinstance(edit, Addition) and edit.section == "trusts"]
        assert [one.get("name") for one in added] == ["instead-of-one"]
    assert found.ready is bool(subjects)
    if not subjects:
        assert "which runs at forge use it" in found.waits


def test_no_key_is_disabled_that_was_used_since_its_way_was_proved_nor_before_it_was_idle() -> None:
    ready = 0
    for seed in range(400):
        rng = Random(seed)
        stage = rng.choice(["keyless", "proved", "idle", "disabled"])
        proved = NOW - timedelta(hours=rng.randint(0, 400))
        used = rng.choice([None, NOW - timedelta(hours=rng.randint(0, 600)), proved])
        logged = rng.choice([None, (NOW - timedelta(hours=rng.randint(0, 600))).timestamp()])
        idle = timedelta(hours=rng.choice([0, 24, 200]))
        said = f"{{stage: {stage}, since: '{time_text(proved)}', proved: '{time_text(proved)}'}}"
        kept = Credentialed("id", "one", "left/identity/robot", "access-key", "", None, None,
                            time_text(used) if used else None)  # fmt: skip
        found = standing(
            YARD.replace("{stage: planned}", said), keys={"one": kept}, bounds=RetiringBounds(idle, timedelta(0)),
            used={"one": {("read", "x"): logged}} if logged else None,
        )  # fmt: skip
        last = max((one for one in (used.timestamp() if used else None, logged) if one is not None), default=None)
        if found.ready and found.to in ("idle", "disabled"):
            ready += 1
            assert last is None or (last < proved.timestamp() and last <= (NOW - idle).timestamp())
        if found.ready and found.to == "proved" and stage != "keyless":
            assert last is not None and last >= proved.timestamp()
    assert ready > 40


def test_what_no_live_system_was_asked_about_waits() -> None:
    for stage in ("keyless", "proved", "idle", "disabled"):
        found = standing(YARD.replace("{stage: planned}", f"{{stage: {stage}, since: '2020-01-01T00:00:00Z'}}"))
        assert found.waits == "no live system was asked"
    gone = standing(YARD.replace("{stage: planned}", "{stage: disabled, since: '2020-01-01T00:00:00Z'}"), keys={})
    assert gone.ready and gone.to == "deleted"  # as it is already
    assert "no live system has this key" in standing(YARD.replace("planned", "proved"), keys={}).waits


def test_a_fleet_is_retired_and_brought_back_and_no_call_fails_meanwhile(enthesis: Program, tmp_path: Path) -> None:
    count = 6
    folder = write_estate(tmp_path / "fleet", {"estate.yaml": fleet(count)})
    start_lab(enthesis, folder)
    try:
        assert enthesis("enact", "--yes", "--quiet", at=folder).code == 0
        with Calls(folder, make_keys(folder, enthesis, count)) as calls:
            calls.whole_round()
            retire(folder, enthesis, calls, "2s")
            listed = enthesis("credential", "--format", "json", at=folder).json["credentials"]
            assert all(one["disabled"] and not one["works"] for one in listed)
            assert enthesis("propose", "--expect-none", at=folder).code == 0
            bring_back(folder, enthesis, calls)
        assert not calls.failed, calls.failed[0]
        assert calls.made["host"] and calls.made["credential"] and stages(folder) == {"keyless": count}
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def test_what_is_asked_wrongly_is_said_and_nothing_is_written(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path / "yard", {"estate.yaml": YARD})
    before = (folder / "estate.yaml").read_text()
    for words, said in (
        (("nobody",), "such keyed credential"), (("--plan", "--next"), "exclude"), (("--idle", "soon"), "duration"),
        (("--usage", "none.jsonl"), "cannot be read"),
    ):  # fmt: skip
        ran = enthesis("credential", "retire", *words, at=folder)
        assert (ran.code, said in ran.err) == (2, True), ran.err
    shown = enthesis("credential", "retire", "--plan", at=folder)
    assert shown.code == 1 and "two" in shown.out
    told = enthesis("credential", "retire", "--format", "json", at=folder).json
    assert told["credentials"][0]["waits_for"] and told["not_on_the_way"] == ["two"]
    (folder / "empty.jsonl").write_text("")
    (folder / "odd.jsonl").write_text(json.dumps({"time": "x", "origin": {"credential": 7}}) + "\n[]\n{\n")
    for log in ("empty.jsonl", "odd.jsonl"):
        ran = enthesis("credential", "retire", "--next", "--usage", log, "--yes", at=folder)
        assert ran.code == 0 and "waits" in ran.out, ran.err
    assert (folder / "estate.yaml").read_text() == before
    assert enthesis("credential", "retire", "--plan", "--yes", at=folder).code == 0
    assert enthesis("credential", "retire", "--back", "--yes", at=folder).code == 0
    assert "stage" not in (folder / "estate.yaml").read_text()


def test_a_key_that_is_used_as_it_is_disabled_works_again(monkeypatch: pytest.MonkeyPatch) -> None:
    estate = estate_of(YARD.replace("{stage: planned}", "{stage: idle, since: '2026-11-26T11:00:00Z'}"))
    kept = Credentialed("id", "one", "left/identity/robot", "access-key", "")
    switched: list[bool] = []

    class Keeper:
        def make_key(self, *of: Any) -> Any: ...
        def keys(self, *of: Any) -> Any: ...
        def revoke_credential(self, *of: Any) -> Any: ...
        def switch_credential(self, holder: str, identifier: str, *, disabled: bool) -> Credentialed:
            switched.append(disabled)
            return replace(kept, last_used="2026-11-26T11:59:59Z", disabled=disabled)

    monkeypatch.setattr(retiring, "provider_of", lambda *of: Keeper())
    found = replace(standing(YARD), kept=kept)
    why = retiring.switched(estate, found, Connected({}, {}, "nothing"), LiveKeys(NOW), disabled=True)
    assert "it works again" in why and switched == [True, False]

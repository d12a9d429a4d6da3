"""Enactments that are killed, refused, delayed and undone, at labs with faults."""

import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping
from pathlib import Path
from random import Random
from typing import Any

import httpx
import pytest

from enthesis.connectors.cloud import Cloud
from enthesis.connectors.cluster.changing import AdministeredCluster
from enthesis.connectors.cluster.surveying import Cluster
from enthesis.connectors.http import Client
from enthesis.model.secrets import Secret
from enthesis.proposals.steps import MAKE, Step
from enthesis.store.journal import journal_of

from .conftest import LONG, Lab, Program, copied, start_lab, undo, write_estate
from .interrupted import Interrupted, version
from .test_change_and_prove import edit


@pytest.fixture
def killed(environment: Mapping[str, str], tmp_path: Path) -> Iterator[Interrupted]:
    """A lab whose enactments can be killed."""

    started: list[subprocess.Popen[bytes]] = []

    def start(words: tuple[str, ...], folder: Path) -> int:
        began = subprocess.Popen(
            [sys.executable, "-m", "enthesis", *words], cwd=folder, env=dict(environment),
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        started.append(began)
        return began.pid

    tried = Interrupted(tmp_path / "many", start, Random(int(time.time())))
    try:
        tried.begin()
        yield tried
    finally:
        tried.end()
        for one in started:
            one.returncode = 0  # its end was waited for by its number


def test_what_was_killed_is_finished_and_nothing_is_done_twice(killed: Interrupted) -> None:
    killed.usual = 2.0
    for number in range(1, 3 if LONG else 2):
        killed.enacted(number, 3)
    assert killed.counted["kills"] and killed.counted["enactments"] == (2 if LONG else 1)


@pytest.fixture
def many(enthesis: Program, tmp_path: Path) -> Iterator[Lab]:
    """A lab of an estate with 48 statements, nothing enacted."""
    folder = write_estate(tmp_path / "many", version(0))
    try:
        yield start_lab(enthesis, folder)
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def test_failing_and_lagging_services_are_enacted_without_help(enthesis: Program, many: Lab) -> None:
    words = ("--fail", "30", "--lag", "300ms", "--enforcement-lag", "300ms", "--page-size", "5", "--shifting")
    assert enthesis("lab", "fault", *words, "--seed", "4", at=many.folder).code == 0
    ran = enthesis("enact", "--yes", "--quiet", at=many.folder)
    assert ran.code == 0, ran.err
    assert enthesis("lab", "fault", "--clear", at=many.folder).code == 0
    time.sleep(0.35)  # longer than the lag
    assert enthesis("propose", "--expect-none", at=many.folder).code == 0


def test_a_limited_service_is_asked_more_slowly(enthesis: Program, many: Lab) -> None:
    assert enthesis("lab", "fault", "--limit", "40", at=many.folder).code == 0
    ran = enthesis("enact", "--yes", "--quiet", at=many.folder)
    assert ran.code == 0, ran.err


def interrupted(enthesis: Program, folder: Path) -> None:
    """Leaves an enactment unfinished: no role of one account is made, whatever is tried."""
    words = ("--route", "POST /administration/roles", "--fail", "99", "--kind", "error")
    assert enthesis("lab", "fault", "build", *words, at=folder).code == 0
    ran = enthesis("enact", "--yes", "--format", "json", "--patience", "8s", at=folder)
    assert ran.code == 4, ran.out + ran.err
    assert enthesis("lab", "fault", "--clear", at=folder).code == 0


def test_an_unanswered_step_leaves_the_rest_done_and_is_resumed(enthesis: Program, fresh_lab: Lab) -> None:
    folder = fresh_lab.folder
    interrupted(enthesis, folder)
    shown = enthesis("history", "show", "1", "--format", "json", at=folder).json
    states = {one["sentence"].split(",")[0]: one["state"] for one in shown["steps"]}
    assert shown["state"] == "running" and states["the role take-on-page-writer"] == "sent, and not answered"
    assert states["the role page-writing"] == "done"
    other = enthesis("enact", "--yes", at=folder)
    assert other.code == 2 and "--resume finishes it" in other.err
    ran = enthesis("enact", "--resume", at=folder)
    assert ran.code == 0 and "saltmarsh is fully in place" in ran.out, ran.out + ran.err
    assert enthesis("propose", "--expect-none", at=folder).code == 0
    assert enthesis("enact", "--resume", at=folder).code == 2  # nothing is left to go on with


def test_an_interrupted_enactment_is_taken_back(enthesis: Program, fresh_lab: Lab) -> None:
    folder = fresh_lab.folder
    interrupted(enthesis, folder)
    ran = enthesis("enact", "--resume", "--undo", "--yes", "--accept", "ceiling-loosened", at=folder)
    assert ran.code == 0 and ran.out.startswith("Undone: "), ran.err
    assert "9 statements of saltmarsh are not in place yet." in enthesis("propose", at=folder).out
    listed = enthesis("history", "--format", "json", at=folder).json["enactments"]
    assert [(one["state"], one["undoes"]) for one in listed] == [("finished", [1]), ("undone", [])]


def test_a_finished_enactment_is_undone_by_its_number(enthesis: Program, fresh_lab: Lab) -> None:
    folder = fresh_lab.folder
    assert enthesis("enact", "--yes", "--because", "the first one", at=folder).code == 0
    edit(folder, "publishing.yaml", "session: 15m\n  - of", "session: 20m\n  - of")
    assert enthesis("enact", "--yes", at=folder).code == 0
    assert "propose --undo NUMBER" in enthesis("enact", "--undo", at=folder).err
    assert undo(enthesis, folder, 7).code == 2
    stale = undo(enthesis, folder, 1)
    assert stale.code == 4 and "changed after it" in stale.err
    assert undo(enthesis, folder, 2).code == 0
    assert "session from 15m to 20m" in enthesis("propose", at=folder).out
    told = enthesis("history", "show", "1", at=folder).out
    assert "because the first one" in told and "by unknown" in told
    assert undo(enthesis, folder, 2).code == 2  # it is undone already


def test_several_enactments_are_taken_back_with_one_step_for_each_statement(enthesis: Program, fresh_lab: Lab) -> None:
    folder = fresh_lab.folder
    assert enthesis("enact", "--yes", at=folder).code == 0
    asked = enthesis("propose", "--back-to", "1", at=folder)
    assert asked.code == 2 and "is the last one" in asked.err
    for before, after in (("15m", "20m"), ("20m", "25m")):
        edit(folder, "publishing.yaml", f"session: {before}\n  - of", f"session: {after}\n  - of")
        assert enthesis("enact", "--yes", at=folder).code == 0
    back = enthesis("propose", "--back-to", "1", "--out", "back.json", "--format", "json", at=folder)
    assert back.code == 0 and back.json["takes_back"] == [2, 3], back.err
    assert [one["sentence"].rpartition(", ")[2] for one in back.json["steps"]] == ["for 15m: as it was before"]
    told = enthesis("propose", "--back-to", "1", at=folder).out
    assert told.startswith("To take back enactments 2 and 3 of saltmarsh: 1 step.") and "changed back" in told
    assert enthesis("enact", "back.json", "--yes", at=folder).out.startswith("Undone: 1 step taken back.")
    listed = enthesis("history", "--format", "json", at=folder).json["enactments"]
    assert [(one["state"], one["undoes"]) for one in listed] == [
        ("finished", [2, 3]), ("undone", []), ("undone", []), ("finished", []),
    ]  # fmt: skip
    assert "session from 15m to 25m" in enthesis("propose", at=folder).out
    again = enthesis("enact", "back.json", "--yes", at=folder)
    assert again.code == 4 and "cannot be undone" in again.err
    none = enthesis("propose", "--back-to", "2", "--undo", "3", at=folder)
    assert none.code == 2 and "exclude each other" in none.err


def test_changes_in_two_halves_are_carried_out_and_undone(enthesis: Program, tmp_path: Path) -> None:
    """Neither whole change may come first: the old caller would get the new permission, or the new one the old."""
    text = """\
estate: halves
organisations: {works: {}}
providers: {north: {style: two-sided}}
accounts: {left: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc}}
resources: {left/bucket/b: {}}
identities: {left/identity/a: {kind: service-account}}
trusts: [{of: left/identity/a, admits: {token: forge, claims: {sub: old, aud: x}}}]
roles: {r: {allows: {object: [list]}}}
grants: [{to: left/identity/a, role: r, at: left/bucket/b}]
"""
    folder = write_estate(tmp_path / "halves", {"estate.yaml": text})
    try:
        start_lab(enthesis, folder)
        assert enthesis("enact", "--yes", at=folder).code == 0
        (folder / "estate.yaml").write_text(text.replace("sub: old", "sub: new").replace("[list]", "[write]"))
        assert enthesis("propose", "--out", "p.json", at=folder).code == 0
        steps = json.loads((folder / "p.json").read_text(encoding="utf-8"))["steps"]
        assert any(step["etag"] is None and step["id"] for step in steps)  # the second half of one
        ran = enthesis("enact", "p.json", "--yes", at=folder)
        assert ran.code == 0, ran.out + ran.err
        assert enthesis("propose", "--expect-none", at=folder).code == 0
        ran = undo(enthesis, folder, 2)
        assert ran.code == 0, ran.out + ran.err
        (folder / "estate.yaml").write_text(text)
        assert enthesis("propose", "--expect-none", at=folder).code == 0
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def test_a_step_that_is_refused_fails_alone(enthesis: Program, fresh_lab: Lab) -> None:
    """Somebody makes an identity of the same name between the survey and the step."""
    folder = fresh_lab.folder
    state = json.loads((folder / ".enthesis" / "lab" / "inventory.json").read_text(encoding="utf-8"))
    state["catalogue"]["kinds"]["object"]["verbs"].pop("list")  # what this lab knows no longer
    (folder / ".enthesis" / "lab" / "inventory.json").write_text(json.dumps(state), encoding="utf-8")
    pid = int((folder / ".enthesis" / "lab" / "lock").read_text())
    os.kill(pid, signal.SIGTERM)
    while Path(f"/proc/{pid}").exists():
        time.sleep(0.01)
    words = [sys.executable, "-m", "enthesis_lab", str(folder / ".enthesis" / "lab")]
    with subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as lab:
        while enthesis("lab", "status", at=folder).code:
            time.sleep(0.02)
        ran = enthesis("enact", "--yes", "--format", "json", at=folder)
        assert ran.code == 4
        said = json.loads(ran.out[: ran.out.rindex("\n{")] if ran.out.count('"error"') else ran.out)
        assert [one["sentence"].split(",")[0] for one in said["failed"]] == ["the role page-writing"]
        assert [one["sentence"].split(" to ")[0] for one in said["not_tried"]] == ["the grant of page-writing"]
        assert len(said["done"]) == 7
        lab.terminate()
    listed = enthesis("history", at=folder)
    assert "stopped: some steps failed, 7 of 9 steps done" in listed.out


def test_ctrl_c_lets_steps_end_and_says_how_to_go_on(
    environment: Mapping[str, str], enthesis: Program, many: Lab
) -> None:
    assert enthesis("lab", "fault", "--slow", "150ms", at=many.folder).code == 0
    words = [sys.executable, "-m", "enthesis", "enact", "--yes", "--at-once", "1"]
    with subprocess.Popen(
        words, cwd=many.folder, env=dict(environment), stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True
    ) as running:
        place = many.folder / ".enthesis" / "history.db"
        while not (place.exists() and _done(place)):
            time.sleep(0.02)
        running.send_signal(signal.SIGINT)
        assert running.stderr is not None
        said = running.stderr.read()
        assert running.wait() == 130
    assert "Interrupted: steps that were under way have ended; enthesis enact --resume goes on." in said
    assert "Traceback" not in said
    assert enthesis("lab", "fault", "--clear", at=many.folder).code == 0
    assert enthesis("enact", "--resume", "--quiet", at=many.folder).code == 0


def _done(place: Path) -> int:
    with sqlite3.connect(f"file:{place}?mode=ro", uri=True) as store:
        try:
            found: int = store.execute("SELECT count(*) FROM steps WHERE state = 'done'").fetchone()[0]
        except sqlite3.OperationalError:
            found = 0
    store.close()
    return found


def test_a_session_that_ends_half_way_is_renewed(enthesis: Program, fresh_lab: Lab) -> None:
    assert enthesis("lab", "clock", "--forward", "2h", at=fresh_lab.folder).code == 0
    ran = enthesis("enact", "--yes", "--quiet", at=fresh_lab.folder)
    assert ran.code == 0, ran.err


def test_the_store_of_a_later_version_and_one_that_is_none(enthesis: Program, tmp_path: Path) -> None:
    folder = copied(tmp_path / "saltmarsh")
    assert enthesis("history", at=folder).out.startswith("saltmarsh: no enactments.")
    assert enthesis("history", "show", "1", at=folder).code == 2
    place = folder / ".enthesis" / "history.db"
    assert not place.exists()
    journal_of(folder, None).close()
    assert place.stat().st_mode & 0o077 == 0
    with sqlite3.connect(place) as store:
        store.execute("UPDATE alembic_version SET version_num = '9999'")
    store.close()
    ran = enthesis("history", at=folder)
    assert ran.code == 2 and "a later version of Enthesis (form 9999" in ran.err
    place.write_bytes(b"no database at all, but a text that is long enough to be looked at" * 10)
    ran = enthesis("history", at=folder)
    assert ran.code == 2 and "is not a store" in ran.err


def test_the_rights_that_are_needed_are_listed_and_looked_for_first(enthesis: Program, fresh_lab: Lab) -> None:
    folder = fresh_lab.folder
    told = enthesis("propose", "--rights", "--format", "json", at=folder).json["lowland"]
    assert {"may": "describe", "at": "build", "to": "survey"} in told
    assert {"may": "change-trust", "at": "build/identity/publisher", "to": "enact"} in told
    assert {"may": "change-ceiling", "at": "@saltmarsh/public", "to": "enact"} in told
    assert enthesis("propose", "--rights", at=folder).out.startswith(f"{len(told) + 3} rights of our own are needed")
    place = fresh_lab.state / "administrators.json"
    kept = [one for one in json.loads(place.read_text(encoding="utf-8")) if one.get("holder") != "bulletin"]
    place.write_text(json.dumps(kept), encoding="utf-8")
    assert enthesis("enact", "--yes", at=folder).code == 0  # a session that is missing at a lab is had anew
    with Client("x", "https://x.example") as client:
        step = Step(MAKE, "x", "roles", "@a/b", "a role", "m", {"name": "r", "allows": {}})
        assert Cloud("x", client, {"@a": Secret("s")}).lacking([step]) == []
        assert Cloud("x", client, {"c": Secret("s")}).lacking([step]) == ["no administrators' session for @a/b at x"]


def test_a_right_that_is_missing_in_a_cluster_is_found_before_the_first_step() -> None:
    asked: list[dict[str, Any]] = []

    def answer(request: httpx.Request) -> httpx.Response:
        attributes = json.loads(request.content)["spec"]["resourceAttributes"]
        asked.append(attributes)
        return httpx.Response(201, json={"status": {"allowed": attributes["verb"] != "create"}})

    with Client("k", "https://k.example", transport=httpx.MockTransport(answer)) as client:
        live = AdministeredCluster(Cluster("a/cluster/k", "o", client, Secret("token"), ""))
        body = {"address": "a/cluster/k/namespace/n/identity/i", "kind": "cluster-service-account"}
        step = Step(MAKE, "a/cluster/k", "identities", "a", "an account", "m", body)
        assert live.lacking([step]) == ["create serviceaccounts in a/cluster/k/namespace/n"]
    assert asked[0] == {"verb": "get", "resource": "serviceaccounts", "group": "", "namespace": "n"}

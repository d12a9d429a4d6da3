"""Propose, enact and prove, driven as a user does, against a lab."""

import json
import re
import threading
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest

from enthesis.connectors.cloud import Cloud
from enthesis.connectors.http import Client
from enthesis.connectors.pipeline import Pipeline
from enthesis.files.folder import read_folder
from enthesis.live.proving import prove
from enthesis.model.secrets import Secret
from enthesis.output.progress import Silent
from enthesis.ports import Connected
from enthesis.proposals.steps import Proposal

from .conftest import Lab, Program


def edit(folder: Path, file: str, old: str, new: str) -> None:
    path = folder / file
    text = path.read_text(encoding="utf-8")
    assert old in text
    path.write_text(text.replace(old, new), encoding="utf-8")


def test_the_whole_way(enthesis: Program, fresh_lab: Lab) -> None:
    folder = fresh_lab.folder
    before = enthesis("prove", "--format", "json", "--junit", "proof.xml", at=folder)
    assert before.code == 1
    outcomes = {one["journey"]: one for one in before.json["journeys"]}
    assert outcomes["publish-from-main"]["refused_at"] == ["names"]
    assert outcomes["publish-from-a-side-branch"]["met"] is False
    assert before.json["spoke_to"] == "the lab of this estate"
    suite = ElementTree.parse(folder / "proof.xml").getroot()  # noqa: S314  our own file
    assert (suite.get("tests"), suite.get("failures"), suite.get("errors")) == ("2", "2", "0")

    assert enthesis("propose", "--expect-none", "--out", "proposal.json", at=folder).code == 1
    enacted = enthesis("enact", "proposal.json", "--yes", "--format", "json", at=folder)
    assert enacted.code == 0 and len(enacted.json["done"]) == 9
    again = enthesis("enact", "proposal.json", "--yes", "--format", "json", at=folder)
    assert again.code == 0 and len(again.json["found_done"]) == 9 and again.json["done"] == []

    after = enthesis("prove", "--format", "json", at=folder)
    assert after.code == 0
    allowed, refused = after.json["journeys"]
    assert (allowed["outcome"], allowed["keyless"], allowed["shortest_life_seconds"]) == ("allowed", True, 600)
    assert allowed["evidence"][-1]["said"] == "really there, and removed again"
    assert (refused["outcome"], refused["refused_at"]) == ("refused", ["target-side"])
    nothing = enthesis("propose", "--expect-none", at=folder)
    assert nothing.code == 0 and nothing.out.startswith("saltmarsh is fully in place.")

    edit(folder, "publishing.yaml", "session: 15m\n  - of", "session: 20m\n  - of")
    changed = enthesis("propose", at=folder)
    assert "session from 15m to 20m" in changed.out and changed.out.startswith("saltmarsh: 1 statement different.")
    assert enthesis("enact", at=folder).code == 2  # nobody to ask
    assert enthesis("enact", "--yes", at=folder).code == 0
    edit(folder, "publishing.yaml", ", event: {not: fork-merge}", ", event: push")
    edit(folder, "expected.yaml", "expect: allowed", "expect: refused")
    wrong = enthesis("prove", "publish-from-main", at=folder)
    assert wrong.code == 1 and "expected refused, got allowed" in wrong.out


def test_a_proposal_that_the_live_side_moved_away_from_is_refused(enthesis: Program, fresh_lab: Lab) -> None:
    folder = fresh_lab.folder
    assert enthesis("enact", "--yes", at=folder).code == 0
    edit(folder, "publishing.yaml", "session: 15m\n  - of", "session: 20m\n  - of")
    assert enthesis("propose", "--out", "old.json", at=folder).code == 0
    edit(folder, "publishing.yaml", "session: 20m\n  - of", "session: 25m\n  - of")
    assert enthesis("enact", "--yes", at=folder).code == 0
    ran = enthesis("enact", "old.json", at=folder)
    assert ran.code == 4
    assert "moved away" in ran.err and "build/identity/publisher token forge" in ran.err
    assert enthesis("propose", "--expect-none", at=folder).code == 0


def test_pruning_and_what_was_made_by_hand(enthesis: Program, fresh_lab: Lab) -> None:
    folder = fresh_lab.folder
    assert enthesis("enact", "--yes", at=folder).code == 0
    client = Client("lowland", fresh_lab.services["lowland"], authority=Path(fresh_lab.authority))
    session = Secret(fresh_lab.administrator("bulletin"))
    body = {"address": "bulletin/identity/by-hand", "kind": "service-account", "holder": "bulletin"}
    assert client.ask("POST", "/administration/identities", bearer=session, body=body).status == 201
    client.close()
    edit(folder, "publishing.yaml", "  - {to: bulletin/identity/page-writer, role: page-writing", "  #")
    left = enthesis("propose", "--expect-none", at=folder)
    assert left.code == 1
    assert "saltmarsh: 2 statements left behind." in left.out and "by-hand (bulletin)" in left.out
    assert enthesis("enact", "--yes", "--prune", at=folder).code == 0
    assert enthesis("prove", "publish-from-main", at=folder).code == 1
    after = enthesis("propose", "--expect-none", at=folder)
    assert after.code == 0 and "by-hand (bulletin)" in after.out


def test_a_missing_account_or_resource_blocks_and_says_who(enthesis: Program, fresh_lab: Lab) -> None:
    folder = fresh_lab.folder
    edit(
        folder,
        "estate.yaml",
        "bulletin/bucket/public-pages: {}",
        "bulletin/bucket/public-pages: {}\n  build/bucket/new: {}",
    )
    edit(
        folder,
        "publishing.yaml",
        "ceilings:",
        "  - {to: build/identity/publisher, role: page-writing, at: build/bucket/new}\n\nceilings:",
    )
    ran = enthesis("propose", at=folder)
    assert "it needs build/bucket/new, which does not exist; the administrators of build" in ran.out


def test_an_expected_refusal_is_met_by_a_refusal_of_access_only(enthesis: Program, enacted_lab: Lab) -> None:
    """A wrong url, an answer of 500, garbage and silence are errors, not passes."""
    reading = read_folder(enacted_lab.folder)
    assert reading.estate is not None
    journey = reading.estate.journeys["publish-from-a-side-branch"]
    answers: dict[str, tuple[int, bytes]] = {
        "500": (500, b"{}"),
        "404": (404, b'{"detail": "no such page"}'),
        "bare 403": (403, b"{}"),
        "bare 400": (400, b'{"error": "invalid_request"}'),
        "garbage": (400, b"<html>"),
        "list": (400, b"[]"),
        "empty 200": (200, b"{}"),
    }
    current = [""]

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            status, content = answers[current[0]]
            self.rfile.read(int(self.headers.get("Content-Length", 0)))
            self.send_response(status)
            self.send_header("Content-Length", str(len(content)))
            self.end_headers()
            self.wfile.write(content)

        def log_message(self, *words: Any) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    forge = Client("forge", enacted_lab.services["forge"], authority=Path(enacted_lab.authority))
    fake = Client("lowland", f"http://127.0.0.1:{server.server_port}")
    nobody = Client("lowland", "http://127.0.0.1:9")
    try:
        for name in answers:
            current[0] = name
            connected = Connected(
                {"lowland": Cloud("lowland", fake, {})},
                {"forge": Pipeline("forge", forge, enacted_lab.owner)},
                "a fake",
            )
            (proof,) = prove(reading.estate, [journey], connected, datetime.now(UTC), Silent())
            assert (proof.outcome, proof.met) == ("not decided", False), name
        connected = Connected(
            {"lowland": Cloud("lowland", nobody, {})}, {"forge": Pipeline("forge", forge, enacted_lab.owner)}, "nothing"
        )
        (proof,) = prove(reading.estate, [journey], connected, datetime.now(UTC), Silent())
        assert (proof.outcome, proof.met) == ("not decided", False)
        assert "cannot be reached" in proof.evidence[-1].said
    finally:
        server.shutdown()
        server.server_close()
        for client in (forge, fake, nobody):
            client.close()


def test_a_client_refuses_addresses_that_are_neither_https_nor_loopback() -> None:
    from enthesis.model.errors import Unreachable

    with pytest.raises(Unreachable, match="not https"):
        Client("far", "http://far.example")


TOKEN = re.compile(rb"eyJ[A-Za-z0-9_-]{10,}\.[A-Za-z0-9_-]{10,}|-----BEGIN [A-Z ]*PRIVATE KEY-----")


def test_no_secret_is_printed_or_left_in_a_file(enthesis: Program, fresh_lab: Lab, environment: Any) -> None:
    folder, home = fresh_lab.folder, Path(environment["HOME"])
    before = set(home.rglob("*"))  # what other tests left there, such as signatures of approvals
    runs = [
        enthesis("propose", "--out", "proposal.json", at=folder),
        enthesis("enact", "proposal.json", "--yes", "--format", "json", at=folder),
        enthesis("prove", "--format", "json", "--junit", "proof.xml", at=folder),
        enthesis("prove", at=folder),
        enthesis("lab", "status", "--format", "json", at=folder),
    ]
    assert [ran.code for ran in runs] == [0, 0, 0, 0, 0]
    for ran in runs:
        assert not TOKEN.search((ran.out + ran.err).encode())
    keepers = {"administrators.json", "service.key", "lab.db", "lab.db-wal", "lab.db-shm"}
    seen = 0
    for top in (folder, home):
        for path in set(top.rglob("*")) - before:
            if path.is_file() and path.name not in keepers:
                seen += 1
                assert not TOKEN.search(path.read_bytes()), path
    assert seen > 5
    sessions = json.loads((fresh_lab.state / "administrators.json").read_text())[1:]
    assert all(TOKEN.search(one["session"].encode()) for one in sessions)  # the pattern finds what it must not find
    for path in fresh_lab.state.glob("lab.db*"):
        data = path.read_bytes()
        assert not any(one["session"].encode() in data for one in sessions)
    assert str(Secret("value")) == repr(Secret("value")) == "<secret>"


def test_wrong_requests(enthesis: Program, enacted_lab: Lab, tmp_path: Path) -> None:
    folder = enacted_lab.folder
    ran = enthesis("prove", "publish-from-man", at=folder)
    assert ran.code == 2 and "did you mean publish-from-main" in ran.err
    (tmp_path / "not.json").write_text("{", encoding="utf-8")
    assert enthesis("enact", str(tmp_path / "not.json"), at=folder).code == 2
    assert enthesis("enact", str(tmp_path / "missing.json"), at=folder).code == 2
    (tmp_path / "other.json").write_text(json.dumps(Proposal("other").as_json()), encoding="utf-8")
    ran = enthesis("enact", str(tmp_path / "other.json"), at=folder)
    assert ran.code == 2 and "the estate other" in ran.err
    assert enthesis("propose", "--out", "/nowhere/at/all.json", at=folder).code == 2

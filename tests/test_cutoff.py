"""Cutting off: of an identity, a person, a host, a key and a session nothing opens any more, and nothing comes back."""

import json
import ssl
import threading
from collections.abc import Iterator
from itertools import product
from pathlib import Path
from typing import Any

import httpx
import pytest

from enthesis.access.compiling import compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.cleaning.cutoff import Withdrawn, file_edits, reached
from enthesis.connectors.cloud import Cloud
from enthesis.files.editing import edited
from enthesis.files.folder import read_folder, read_texts
from enthesis.live.connecting import connect

from .conftest import Lab, Program, start_lab, undo, write_estate
from .test_adopting import ByHand

ANN = "@works/identity/ann"
BOT, HOST = "left/identity/bot", "left/host/h"
BUCKETS = [f"left/bucket/b{number}" for number in range(5)]
TEXT = f"""\
estate: quay
organisations: {{works: {{}}}}
providers: {{lowland: {{style: one-sided}}}}
accounts: {{left: {{in: "@works", provider: lowland}}}}
issuers: {{forge: {{kind: oidc}}}}
resources:
  {HOST}: {{}}  # in the hall
  left/secret/pass: {{}}
{"".join(f"  {one}: {{}}" + chr(10) for one in BUCKETS)}\
identities:
  "{ANN}": {{kind: person}}
  {BOT}: {{kind: service-account, purpose: serves}}  # by hand, and to stay
  left/identity/other: {{kind: service-account, purpose: stays}}
groups: {{left/group/bots: {{members: [{BOT}, left/identity/other]}}}}
roles:
  works: {{allows: {{object: [read, write, list], bucket: [describe]}}}}
  reads-secrets: {{allows: {{secret: [read]}}}}
  logs-in: {{allows: {{host: [login], identity: [run-as]}}}}
trusts:
  - {{of: {BOT}, admits: {{token: forge, claims: {{sub: run, aud: lowland}}}}}}
  - {{of: {BOT}, admits: {{person: "{ANN}"}}}}
  - {{of: {BOT}, admits: {{attached: true}}}}
  - {{of: left/identity/other, admits: {{identity: {BOT}}}}}
grants:
  - {{to: left/group/bots, role: works, at: left}}
  - {{to: {BOT}, role: reads-secrets, at: left/secret/pass}}
  - {{to: "{ANN}", role: works, at: left}}
  - {{to: "{ANN}", role: logs-in, at: left}}
attachments: [{{what: {HOST}, runs_as: [{BOT}, left/identity/other]}}]
credentials:
  tape: {{of: {BOT}, form: access-key, expires: "2099-01-01T00:00:00Z", held_in: {HOST}}}
journeys:
  a-run-reads:
    from: {{token: forge, claims: {{sub: run, aud: lowland}}}}
    through: [{BOT}]
    attempt: read left/bucket/b0/object/x
    expect: allowed
  ann-reads: {{from: {{person: "{ANN}"}}, attempt: read left/bucket/b0/object/x, expect: allowed}}
"""
ALL = ("--accept", "power-gained", "--accept", "own-access", "--accept", "many-removed")


@pytest.fixture
def quay(enthesis: Program, tmp_path: Path) -> Iterator[tuple[Path, Lab]]:
    folder = write_estate(tmp_path / "quay", {"estate.yaml": TEXT})
    lab = start_lab(enthesis, folder)
    assert enthesis("enact", "--yes", *ALL, at=folder).code == 0
    yield folder, lab
    enthesis("lab", "stop", "--clean", at=folder)


def attempts(who: str) -> dict[str, Any]:
    """Fifty journeys that begin at a target, or pass it: by every way in, to every bucket, with two verbs."""
    token = {"token": "forge", "claims": {"sub": "run", "aud": "lowland"}}
    ways: dict[str, list[tuple[dict[str, Any], list[str]]]] = {
        BOT: [
            (token, [BOT]), ({"person": ANN}, [BOT]), ({"host": HOST}, [BOT]), ({"identity": BOT}, []),
            ({"identity": BOT}, ["left/identity/other"]),
        ],
        ANN: [({"person": ANN}, through) for through in ([], [BOT], [BOT, "left/identity/other"])],
        HOST: [({"host": HOST}, [BOT]), ({"host": HOST}, [BOT, "left/identity/other"])],
    }  # fmt: skip
    verbs = ("read", "write", "list", "list", "read")[: 50 // (len(ways[who]) * len(BUCKETS))] or ("read",)
    return {
        f"j{number}": {
            "from": origin,
            **({"through": through} if through else {}),
            "attempt": f"{verb} {bucket}/object/x{number}",
            "expect": "refused",
        }
        for number, ((origin, through), bucket, verb) in enumerate(product(ways[who], BUCKETS, verbs))
    }


def outcomes(enthesis: Program, folder: Path, journeys: dict[str, Any]) -> list[str]:
    (folder / "tried.json").write_text(json.dumps({"journeys": journeys}))
    found = enthesis("prove", *journeys, "--format", "json", at=folder).json["journeys"]
    (folder / "tried.json").unlink()
    return [one["outcome"] for one in found]


@pytest.mark.parametrize("who", [BOT, ANN])
def test_nothing_opens_any_more_whichever_way_it_is_tried(enthesis: Program, quay: tuple[Path, Lab], who: str) -> None:
    folder, _ = quay
    tried = attempts(who)
    assert len(tried) >= 45 and set(outcomes(enthesis, folder, tried)) == {"allowed"}
    open_before = enthesis("cutoff", who, "--check", at=folder)
    assert open_before.code == 1 and open_before.out.startswith("Not shut: ")
    assert enthesis("lab", "fault", "--fail", "30", "--seed", "3", at=folder).code == 0
    cut = enthesis("cutoff", who, "--yes", "--because", "left", at=folder)
    assert cut.code == 0, cut.out + cut.err
    assert enthesis("lab", "fault", "--clear", at=folder).code == 0
    assert set(outcomes(enthesis, folder, tried)) == {"refused"}
    shut = enthesis("cutoff", who, "--check", at=folder)
    assert shut.code == 0 and shut.out.startswith("Shut: "), shut.out
    assert enthesis("propose", "--expect-none", at=folder).code == 0  # nothing is given back
    assert enthesis("reach", "--from", who, at=folder).code == 1
    assert "# by hand, and to stay" in (folder / "estate.yaml").read_text()
    shown = enthesis("history", "show", "2", at=folder).out
    assert "left" in shown and ("disabled" in shown) == (who == BOT)


def test_it_is_shown_first_with_what_depends_on_it_and_what_may_be_copied(
    enthesis: Program, quay: tuple[Path, Lab]
) -> None:
    folder, _ = quay
    before = (folder / "estate.yaml").read_text()
    ran = enthesis("cutoff", ANN, at=folder)
    assert ran.code == 1 and "Nothing was done" in ran.err and (folder / "estate.yaml").read_text() == before
    for says in (
        "the directory of @works still signs", "ann-reads", "left/secret/pass: could read it; put another value there",
        f"the access-key tape of {BOT}: is held in {HOST}", "may list and read and write left/bucket/b0/object/…",
    ):  # fmt: skip
        assert says in ran.out, ran.out
    found = enthesis("cutoff", BOT, "--format", "json", at=folder).json
    assert found["journeys_that_fail"] == ["a-run-reads"] and found["runs"] == [HOST]
    assert [one["what"] for one in found["may_have_been_copied"]][:1] == ["left/secret/pass"]
    assert enthesis("history", "--format", "json", at=folder).json["enactments"][0]["number"] == 1


def test_a_host_is_cut_off_with_its_sessions_and_others_go_on(enthesis: Program, quay: tuple[Path, Lab]) -> None:
    folder, _ = quay
    tried = attempts(HOST)
    assert set(outcomes(enthesis, folder, tried)) == {"allowed"}
    listed = enthesis("sessions", HOST, "--format", "json", at=folder).json["sessions"]
    assert listed and all(one["origin"]["address"] == HOST for one in listed)
    assert enthesis("cutoff", HOST, "--yes", at=folder).code == 0
    assert not enthesis("sessions", HOST, "--format", "json", at=folder).json["sessions"]
    assert set(outcomes(enthesis, folder, tried)) == {"refused"}
    assert enthesis("prove", "a-run-reads", at=folder).code == 0
    assert enthesis("propose", "--expect-none", at=folder).code == 0


def test_a_key_and_a_session_end_alone(enthesis: Program, quay: tuple[Path, Lab]) -> None:
    folder, _ = quay
    made = ("--of", BOT, "--because", "tries", "--for", "1h", "--anyway", "--into")
    for name in ("tape", "spare"):
        assert enthesis("credential", "create", name, *made, f"{name}.key", at=folder).code == 0
    (folder / "more.json").write_text(
        json.dumps(
            {
                "journeys": {
                    name: {"from": {"credential": name}, "attempt": "read left/bucket/b0/object/x", "expect": "allowed"}
                    for name in ("tape", "spare")
                },
                "credentials": {"spare": {"of": BOT, "form": "access-key", "expires": "2099-01-01T00:00:00Z"}},
            }
        )
    )
    keys = ("--credential", "tape=tape.key", "--credential", "spare=spare.key")
    assert enthesis("prove", "tape", "spare", *keys, at=folder).code == 0
    (folder / "tape.key").rename(folder / "kept.key")
    assert enthesis("cutoff", "tape", "--yes", at=folder).code == 0
    assert "disabled: true" in (folder / "estate.yaml").read_text()
    proved = enthesis(
        "prove", "tape", "spare", "--format", "json", "--credential", "tape=kept.key", *keys[2:], at=folder
    )
    assert {one["journey"]: one["outcome"] for one in proved.json["journeys"]} == {
        "tape": "refused",
        "spare": "allowed",
    }
    described = read_folder(folder).estate
    assert described is not None
    for cloud in connect(described, folder).providers.values():
        assert isinstance(cloud, Cloud)
        cloud.session_as(BOT)  # by the right of its administrators; what a proof obtains, it lets go
        cloud.client.close()
    listed = enthesis("sessions", BOT, "--format", "json", at=folder).json["sessions"]
    (mine,) = {one["id"] for one in listed[:1]}
    assert enthesis("cutoff", mine, "--yes", at=folder).code == 0
    left = enthesis("sessions", BOT, "--format", "json", at=folder).json["sessions"]
    assert mine not in {one["id"] for one in left} and enthesis("prove", "a-run-reads", at=folder).code == 0


def test_what_others_made_stays_and_is_named_unless_asked_for(enthesis: Program, quay: tuple[Path, Lab]) -> None:
    folder, lab = quay
    hand = ByHand(lab)
    bot = next(one["id"] for one in hand.all("left")["identities"] if one["address"] == BOT)
    role = hand.made("roles", "left", name="by-hand", allows={"queue": ["send"]})
    hand.made("grants", "left", to={"identity": bot}, role=role, at="left")
    hand.http.close()
    ran = enthesis("cutoff", BOT, "--yes", at=folder)
    assert ran.code == 1 and "stays, since others made it" in ran.out and "the grant of by-hand" in ran.out
    again = enthesis("cutoff", BOT, "--yes", "--also-others", at=folder)
    assert again.code == 0, again.out
    nothing = enthesis("cutoff", BOT, "--yes", at=folder)
    assert nothing.code == 0 and "Nothing of the identity" in nothing.out


def test_what_was_cut_off_can_be_given_back(enthesis: Program, quay: tuple[Path, Lab]) -> None:
    folder, _ = quay
    before = (folder / "estate.yaml").read_text()
    assert enthesis("cutoff", BOT, "--yes", at=folder).code == 0
    assert enthesis("cutoff", "--undo", "2", at=folder).code == 1
    assert enthesis("cutoff", "--undo", "9", "--yes", at=folder).code == 2
    assert enthesis("cutoff", "--undo", "2", "--yes", at=folder).code == 0
    assert (folder / "estate.yaml").read_text() == before
    assert undo(enthesis, folder, 2, *ALL).code == 0
    assert enthesis("prove", "a-run-reads", at=folder).code == 0
    assert enthesis("cutoff", BOT, "--yes", at=folder).code == 0
    (folder / "estate.yaml").write_text((folder / "estate.yaml").read_text() + "# more\n")
    moved = enthesis("cutoff", "--undo", "4", "--yes", at=folder)
    assert moved.code == 2 and "changed since" in moved.err


def test_wrong_names_and_options_are_told(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path / "quay", {"estate.yaml": TEXT})
    for words in ((), ("--undo", "1", BOT), ("--undo", "1", "--check")):
        assert enthesis("cutoff", *words, at=folder).code == 2
    assert enthesis("cutoff", BOT, at=folder).code == 3  # no live system is reached
    try:
        start_lab(enthesis, folder)
        ran = enthesis("cutoff", "left/identity/bott", at=folder)
        assert ran.code == 2 and "left/identity/bot" in ran.err
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


@pytest.mark.parametrize(
    "target", [Withdrawn("identity", BOT), Withdrawn("person", ANN), Withdrawn("credential", "tape", BOT)]
)
def test_the_files_alone_give_nothing_after_their_edits(target: Withdrawn) -> None:
    estate = read_texts({"estate.yaml": TEXT}).estate
    assert estate is not None
    after = read_texts(edited({"estate.yaml": TEXT}, file_edits(estate, target)))
    assert after.estate is not None, after.errors
    now = 1_800_000_000.0
    assert reached(Chains(Web(compile_estate(estate), now)), target)
    assert not reached(Chains(Web(compile_estate(after.estate), now)), target)


def signed_in(enthesis: Program, folder: Path, tmp_path: Path) -> Path:
    """Where what is kept of a sign-in as Ann is."""
    runtime = tmp_path / "runtime"
    runtime.mkdir(mode=0o700)
    other = threading.Thread(target=lambda: enthesis("lab", "agree", "--as", ANN, at=folder))
    other.start()
    assert enthesis("sign-in", at=folder, XDG_RUNTIME_DIR=str(runtime)).code == 0
    other.join()
    return runtime


def test_a_session_is_revoked_by_its_bearer_too(enthesis: Program, quay: tuple[Path, Lab], tmp_path: Path) -> None:
    folder, _ = quay
    runtime = signed_in(enthesis, folder, tmp_path)
    assert len(enthesis("sessions", ANN, "--format", "json", at=folder).json["sessions"]) == 1
    assert enthesis("sign-out", at=folder, XDG_RUNTIME_DIR=str(runtime)).code == 0
    assert not enthesis("sessions", ANN, "--format", "json", at=folder).json["sessions"]


POOL = """\
estate: pools
organisations: {works: {}}
providers: {lowland: {style: one-sided}}
accounts: {left: {in: "@works", provider: lowland}}
resources:
  left/pool/p: {runs_as: left/identity/runner}
  left/pool/p/host/one: {}
  left/host/web-1: {}
  left/bucket/b: {}
identities:
  left/identity/runner: {kind: instance-role}
  left/identity/bot: {kind: service-account}
roles: {reading: {allows: {object: [read]}}}
trusts:
  - {of: left/identity/runner, admits: {attached: {glob: "left/**"}}}
  - {of: left/identity/bot, admits: {identity: left/identity/runner}}
grants: [{to: left/identity/runner, role: reading, at: left/bucket/b}]
attachments: [{what: {glob: left/host/web-*}, runs_as: left/identity/runner}]
journeys:
  one-reads: {from: {host: left/pool/p/host/one}, through: [left/identity/runner],
              attempt: read left/bucket/b/object/x, expect: allowed}
  bot-reads-nothing: {from: {host: left/host/web-1}, through: [left/identity/runner, left/identity/bot],
                      attempt: read left/bucket/b/object/x, expect: refused, refused_at: target-side}
invariants: [{name: few, only: {by: [left/identity/runner, left/identity/bot], can: read, at: left/bucket/b}}]
"""


@pytest.fixture
def pools(enthesis: Program, tmp_path: Path) -> Iterator[Path]:
    folder = write_estate(tmp_path / "pools", {"estate.yaml": POOL})
    start_lab(enthesis, folder)
    assert enthesis("enact", "--yes", *ALL, at=folder).code == 0
    yield folder
    enthesis("lab", "stop", "--clean", at=folder)


@pytest.mark.parametrize(
    ("who", "why"),
    [
        ("left/pool/p/host/one", "runs as left/identity/runner, as all of left/pool/p does"),
        ("left/host/web-1", "the attachment of left/identity/runner to left/host/web-* covers it"),
    ],
)
def test_what_still_opens_is_said_and_is_no_success(enthesis: Program, pools: Path, who: str, why: str) -> None:
    ran = enthesis("cutoff", who, "--yes", at=pools)
    assert ran.code == 1 and "not shut by this" in ran.out and why in ran.out, ran.out
    assert "others made it" not in ran.out
    assert f"so {who} can still take on left/identity/runner" in ran.out
    found = enthesis("cutoff", who, "--format", "json", at=pools).json
    assert found["not_shut"] and not found["stays"]


def test_a_key_that_no_file_knows_is_access_that_is_lost(enthesis: Program, pools: Path) -> None:
    made = ("--of", "left/identity/runner", "--because", "tries", "--for", "1h", "--anyway", "--into", "k.key")
    assert enthesis("credential", "create", "stray", *made, at=pools).code == 0
    files = {path: path.read_text() for path in pools.glob("*.yaml")}
    known = enthesis("cutoff", "stray", at=pools)
    for path in pools.glob("*.yaml"):
        assert files[path] == path.read_text()
    assert "No caller" not in known.out and "stray may read left/bucket/b" in known.out, known.out


def test_journeys_that_end_otherwise_are_foretold_and_say_the_new_reason(enthesis: Program, pools: Path) -> None:
    shown = enthesis("cutoff", "left/identity/bot", at=pools).out
    assert "bot-reads-nothing: refused at target-side before, refused at names and target-side then" in shown
    assert "the journey bot-reads-nothing  estate.yaml:" in shown and "the invariant few" in shown
    assert enthesis("cutoff", "left/identity/bot", "--yes", at=pools).code == 0
    assert "refused_at: [names, target-side]" in (pools / "estate.yaml").read_text()
    assert enthesis("check", at=pools).code == 0 and enthesis("prove", at=pools).code == 0


def test_all_that_is_about_something_gone_is_taken_out_when_asked(enthesis: Program, pools: Path) -> None:
    ran = enthesis("cutoff", "left/identity/bot", "--forget", "--yes", at=pools)
    assert ran.code == 0, ran.out + ran.err
    assert "bot" not in (pools / "estate.yaml").read_text()
    assert enthesis("check", at=pools).code == 0


def test_a_preview_of_oneself_is_shown(enthesis: Program, quay: tuple[Path, Lab], tmp_path: Path) -> None:
    folder, _ = quay
    runtime = signed_in(enthesis, folder, tmp_path)
    shown = enthesis("cutoff", ANN, at=folder, XDG_RUNTIME_DIR=str(runtime))
    assert shown.code == 1 and shown.out.startswith("To cut off the person")
    refused = enthesis("cutoff", ANN, "--yes", at=folder, XDG_RUNTIME_DIR=str(runtime))
    assert refused.code == 2 and "you are signed in as" in refused.err


def test_what_a_proof_obtained_is_let_go(enthesis: Program, enacted_lab: Lab) -> None:
    def open_now() -> set[str]:
        found = enthesis("sessions", "--format", "json", at=enacted_lab.folder).json["sessions"]
        return {one["id"] for one in found if one["origin"].get("kind") != "host" and "/host/" not in one["of"]}

    before = open_now()
    for words in (("prove",), ("prove", "--near-misses"), ("prove", "--replay")):
        enthesis(*words, at=enacted_lab.folder)
        assert open_now() <= before, words


def test_sessions_say_which_key_they_are_from_and_what_of_them_is_deleted(
    enthesis: Program, quay: tuple[Path, Lab], tmp_path: Path
) -> None:
    """What is deleted leaves its sessions behind, and they are told until they are ended."""
    folder, lab = quay
    made = enthesis("credential", "create", "rope", "--of", BOT, "--because", "a test", "--for", "1d", "--anyway",
                    "--into", str(tmp_path / "rope.key"), at=folder)  # fmt: skip
    assert made.code == 0, made.err
    key = json.loads((tmp_path / "rope.key").read_text())
    form = {"grant_type": "client_credentials", "client_id": key["id"], "client_secret": key["value"]}
    with httpx.Client(verify=ssl.create_default_context(cafile=lab.authority), trust_env=False) as http:
        assert http.post(f"{lab.services['lowland']}/token", data=form).status_code == 200
    ran = enthesis("sessions", "rope", at=folder)
    assert ran.out.startswith("1 session open.") and f"from credential rope of {BOT}" in ran.out, ran.out
    assert not told(enthesis, folder)
    assert enthesis("credential", "revoke", "rope", at=folder).code == 0
    (found,) = told(enthesis, folder)
    assert f"the credential that it began with, of {BOT}, is deleted" in found["message"]
    assert enthesis("cutoff", found["message"].rpartition("; ")[2], "--yes", at=folder).code == 0
    assert not told(enthesis, folder)


def told(enthesis: Program, folder: Path) -> list[dict[str, Any]]:
    found = enthesis("sweep", "--ask", "--format", "json", at=folder).json["findings"]
    return [one for one in found if one["code"] == "session-outlives"]

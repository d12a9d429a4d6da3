"""What was tried against the tool itself: edited proposals, planted links and locks, files without an end, credentials
that would go to a stranger."""

import base64
import json
import os
import subprocess
import time
from collections.abc import Callable, Iterator, Mapping
from datetime import timedelta
from itertools import count, cycle, repeat
from pathlib import Path
from typing import Any

import httpx
import pytest

from enthesis.connectors.cloud import Cloud
from enthesis.connectors.cluster.surveying import Cluster
from enthesis.connectors.http import Client, Connection
from enthesis.connectors.oauth import OAuthProvider, Server
from enthesis.files import finding
from enthesis.live.credential_release import shown_to
from enthesis.model.errors import EnthesisError, InvalidInput, UnexpectedAnswer
from enthesis.model.file_errors import masked
from enthesis.model.secrets import Secret
from enthesis.ports import Connected, HeldCredential, Refusal
from enthesis.proposals.steps import digest_of

from .conftest import Program, copied, start_lab, write_estate
from .fuzzing import TOKEN
from .test_bounds import CONTEXT
from .test_neighbours import ESTATE

US = ["python", "-m", "enthesis"]
MARK = "at-hand-for-other-work"

# -- proposals ---------------------------------------------------------------------------------------------------------


@pytest.fixture
def proposed(enthesis: Program, tmp_path: Path) -> Iterator[Path]:
    """A lab with something of ours and something of others, and a proposal in p.json."""
    folder = write_estate(tmp_path / "pair", {"estate.yaml": ESTATE})
    start_lab(enthesis, folder)
    assert enthesis("enact", "--yes", at=folder).code == 0
    text = (folder / "estate.yaml").read_text()
    (folder / "estate.yaml").write_text(text.replace("session: 15m", "session: 20m"))
    assert enthesis("propose", "--out", "p.json", at=folder).code == 0
    yield folder
    enthesis("lab", "stop", "--clean", at=folder)


def wider(plan: dict[str, Any]) -> None:
    plan["steps"][0]["body"]["admits"] = {"token": "forge"}


def another_mark(plan: dict[str, Any]) -> None:
    plan["steps"][0]["mark"] = "other"


def removing(plan: dict[str, Any]) -> None:
    step = plan["steps"][0]
    plan["steps"].append({**step, "action": "remove", "body": None, "collection": "grants"})


def making(plan: dict[str, Any]) -> None:
    body = {"to": "left/identity/runner", "role": "reading", "at": "left"}
    plan["steps"].append({**plan["steps"][0], "action": "make", "collection": "grants", "body": body, "id": None})


def leaving_out(plan: dict[str, Any]) -> None:
    plan["steps"].clear()


def saying_less(plan: dict[str, Any]) -> None:
    plan["steps"][0]["sentence"] = "nothing of note"


def of_another_holder(plan: dict[str, Any]) -> None:
    plan["steps"][0]["holder"] = "right"


EDITS = (wider, another_mark, removing, making, leaving_out, saying_less, of_another_holder)


@pytest.mark.attack("edited proposals")
def test_a_proposal_that_was_edited_is_not_carried_out(
    enthesis: Program, proposed: Path, attempts: Callable[[int], None]
) -> None:
    attempts(2 * len(EDITS))
    good = (proposed / "p.json").read_text()
    for edit in EDITS:
        plan = json.loads(good)
        edit(plan)
        (proposed / "p.json").write_text(json.dumps(plan))
        ran = enthesis("enact", "p.json", "--yes", at=proposed)
        assert ran.code == 2 and "was changed after it was written" in ran.err, (edit, ran.err)
        (proposed / "p.json").write_text(json.dumps({**plan, "digest": digest_of(plan)}))
        ran = enthesis("enact", "p.json", "--yes", at=proposed)
        told = "not what the estate and the live side make now" in ran.err or "contradict the others: " in ran.err
        assert ran.code == 2 and told, (edit, ran.err)
        left = enthesis("propose", "--format", "json", at=proposed).json
        assert len(left["steps"]) == 1, edit
    (proposed / "p.json").write_text(good)
    refused = enthesis("enact", "p.json", at=proposed)
    assert refused.code == 2 and "no terminal is attached for the question" in refused.err.lower()
    assert enthesis("enact", "p.json", "--yes", at=proposed).code == 0
    assert enthesis("enact", "p.json", "--yes", at=proposed).code == 0  # nothing is left of it
    assert enthesis("propose", "--expect-none", at=proposed).code == 0


@pytest.mark.attack("dangers")
def test_a_danger_needs_an_acceptance_of_its_own(enthesis: Program, tmp_path: Path) -> None:
    admin = (
        "roles: {reading: {allows: {object: [read, list]}}, giving: {allows: {account: change-access}}}\n"
        "grants: [{to: left/identity/runner, role: reading, at: left/bucket/b},"
        " {to: '@works/identity/ann', role: giving, at: left}]\n"
    )
    text = ESTATE.split("roles:")[0] + admin
    outside = text.replace("{works: {units: [one]}}", "{works: {units: [one]}, guests: {outside: true}}")
    folder = write_estate(tmp_path / "danger", {"estate.yaml": text})
    try:
        start_lab(enthesis, folder)
        assert enthesis("enact", "--yes", "--accept", "power-gained", at=folder).code == 0
        (folder / "estate.yaml").write_text(text.replace(", {to: '@works/identity/ann', role: giving, at: left}", ""))
        for words, code in (
            ((), 2),
            (("--accept", "outside-gains"), 2),
            (("--accept", "everything"), 2),
            (("--accept", "last-administrator"), 0),
        ):
            ran = enthesis("enact", "--yes", "--prune", *words, at=folder)
            assert ran.code == code, (words, ran.err)
        (folder / "estate.yaml").write_text(
            outside.replace("identities:\n", "identities:\n  '@guests/identity/gus': {kind: person}\n").replace(
                "grants: [", "grants: [{to: '@guests/identity/gus', role: entering, at: '@works'},"
                " {to: '@guests/identity/gus', role: reading, at: left/bucket/b}, ",
            ).replace("roles: {", "roles: {entering: {allows: {organisation: enter}}, ")
        )  # fmt: skip
        start_lab(enthesis, folder)
        ran = enthesis("enact", "--yes", at=folder)
        assert ran.code == 2 and "outside-gains" in ran.err, ran.err
        assert "@guests/identity/gus may read" in ran.err
        both = ("--accept", "outside-gains", "--accept", "power-gained")  # the administrator is given anew
        assert enthesis("enact", "--yes", *both, at=folder).code == 0
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


# -- links, locks and folders of others --------------------------------------------------------------------------------


@pytest.mark.attack("planted links and locks")
def test_a_lab_deletes_overwrites_and_kills_nothing_that_a_link_or_a_lock_names(
    enthesis: Program, tmp_path: Path
) -> None:
    precious = tmp_path / "precious"
    (precious / "lab").mkdir(parents=True)
    (precious / "lab" / "inventory.json").write_text("mine")
    folder = copied(tmp_path / "estate")
    for link, target in (
        (".enthesis", precious),
        (".enthesis/lab", precious),
        (".enthesis/lab/lab.db", precious / "x"),
    ):
        place = folder / link
        place.parent.mkdir(parents=True, exist_ok=True)
        place.symlink_to(target)
        for words in (("lab", "stop", "--clean"), ("lab", "start"), ("lab", "status"), ("check",), ("propose",)):
            ran = enthesis(*words, at=folder)
            assert ran.code == 2 and "link to elsewhere" in ran.err, (link, words, ran.err)
        place.unlink()
        assert (precious / "lab" / "inventory.json").read_text() == "mine"
    victim = subprocess.Popen(["sleep", "600"])
    try:
        state = folder / ".enthesis" / "lab"
        state.mkdir(parents=True, exist_ok=True)
        (state / "lock").write_text(str(victim.pid))
        holding = subprocess.Popen(["flock", str(state / "lock"), "sleep", "600"])
        while subprocess.run(["flock", "-n", str(state / "lock"), "true"], check=False).returncode == 0:
            time.sleep(0.01)
        ran = enthesis("lab", "stop", "--clean", at=folder)
        assert ran.code == 3 and "left alone" in ran.err, ran.err
        assert victim.poll() is None and state.exists()
        assert enthesis("lab", "status", at=folder).code == 1
        holding.kill()
        holding.wait()
    finally:
        victim.kill()
        victim.wait()


@pytest.mark.attack("folders of others")
def test_an_estate_of_another_user_is_not_read(
    enthesis: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = copied(tmp_path / "estate")
    below = folder / "below"
    below.mkdir()
    monkeypatch.setattr(finding, "_us", lambda: {os.geteuid() + 1})
    monkeypatch.chdir(below)
    for given in (None, folder):
        with pytest.raises(InvalidInput, match="belongs to another user"):
            finding.estate_folder(given)


# -- credentials -------------------------------------------------------------------------------------------------------


def packed(claims: Mapping[str, Any]) -> str:
    middle = base64.urlsafe_b64encode(json.dumps(claims).encode()).decode().rstrip("=")
    return f"{TOKEN.split(b'.')[0].decode()}.{middle}.{TOKEN.split(b'.')[2].decode()}"


NORTH, SOUTH = "https://north.example", "https://south.example"


@pytest.mark.attack("credentials to strangers")
@pytest.mark.parametrize(
    ("form", "claims", "sent"),
    [
        ("session", {"iss": SOUTH, "aud": SOUTH}, True),
        ("session", {"iss": "https://elsewhere.example", "aud": SOUTH}, False),
        ("session", {}, False),
        ("resource", {"iss": "https://elsewhere.example"}, False),
        ("token", {"iss": "https://forge.example", "aud": SOUTH}, True),
        ("token", {"iss": "https://forge.example", "aud": ["x", f"{SOUTH}/api"]}, True),
        ("token", {"iss": "https://forge.example", "aud": "https://bank.example"}, False),
        ("token", {"iss": "https://forge.example", "aud": f"{SOUTH}.evil.example"}, False),
        ("token", {"iss": "https://forge.example"}, False),
        ("person", {"iss": "https://people.example", "aud": [NORTH]}, False),
        ("person", {"iss": "https://people.example", "aud": [NORTH, SOUTH]}, True),
    ],
)
def test_a_credential_goes_only_where_it_belongs(form: str, claims: dict[str, Any], sent: bool) -> None:
    with Client("south", SOUTH, way=Connection(CONTEXT)) as client:
        south = OAuthProvider("south", Server("south", client))
        connected = Connected({"south": south}, {}, "servers")
        shown = HeldCredential(Secret(packed(claims)), form, timedelta(minutes=5))
        if sent:
            assert shown_to(south, shown, connected) is shown
        else:
            with pytest.raises(InvalidInput, match="not sent"):
                shown_to(south, shown, connected)


@pytest.mark.attack("credentials to strangers")
def test_another_provider_gets_a_statement_and_never_the_session() -> None:
    seen: list[str] = []

    def north(request: httpx.Request) -> httpx.Response:
        seen.append(request.content.decode())
        return httpx.Response(200, json={"access_token": packed({"aud": SOUTH}), "expires_in": 60})

    session = HeldCredential(Secret(packed({"iss": NORTH, "aud": NORTH})), "session", timedelta(minutes=5), NORTH)
    with (
        Client("north", NORTH, way=Connection(CONTEXT), transport=httpx.MockTransport(north)) as one,
        Client("south", SOUTH, way=Connection(CONTEXT)) as other,
    ):
        clouds = {"north": Cloud("north", one, {}), "south": Cloud("south", other, {})}
        got = shown_to(clouds["south"], session, Connected(clouds, {}, "servers"))
    assert not isinstance(got, Refusal) and got.form == "token" and "audience=https%3A%2F%2Fsouth.example" in seen[0]
    assert got.secret.reveal() != session.secret.reveal()


@pytest.mark.attack("credentials to strangers")
@pytest.mark.parametrize("place", ["@evil.example/x", ".evil.example/x", ":80@evil.example/", "evil", "\\evil"])
def test_a_path_that_a_server_names_never_makes_another_host_of_it(place: str) -> None:
    with Client("x", NORTH, way=Connection(CONTEXT)) as client, pytest.raises(EnthesisError, match="not its own"):
        client.ask("POST", place, bearer=Secret("a session of ours"))


@pytest.mark.attack("lost values")
def test_a_key_whose_value_cannot_be_written_is_revoked(
    enthesis: Program, tmp_path: Path, environment: Mapping[str, str]
) -> None:
    folder = write_estate(tmp_path / "pair", {"estate.yaml": ESTATE})
    words = ["credential", "create", "k", "--of", "left/identity/runner", "--because", "x", "--for", "1d", "--anyway"]
    try:
        start_lab(enthesis, folder)
        assert enthesis("enact", "--yes", at=folder).code == 0
        full = os.open("/dev/full", os.O_WRONLY)
        done = subprocess.run(
            [*US, *words, "--descriptor", str(full)], cwd=folder, env=dict(environment), pass_fds=(full,),
            capture_output=True, text=True, timeout=90, check=False,
        )  # fmt: skip
        os.close(full)
        assert done.returncode == 2 and "so it is revoked again" in done.stderr, done.stderr
        assert enthesis("credential", "--format", "json", at=folder).json["credentials"] == []
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


# -- files without an end ----------------------------------------------------------------------------------------------


@pytest.mark.attack("files without an end")
@pytest.mark.parametrize(
    "words",
    [
        ("enact", "/dev/zero", "--yes"),
        ("reach", "--survey", "/dev/zero", "--to", "gauges"),
        ("admit", "build/identity/publisher", "--token", "/dev/zero"),
        ("survey", "gauges/cluster/x", "--kubeconfig", "/dev/zero"),
        ("prove", "--token", "forge=/dev/zero"),
        ("prove", "--client", "forge=/dev/zero"),
        ("prove", "--credential", "k=/dev/zero"),
    ],
)
def test_a_file_without_an_end_is_not_read_to_it(enthesis: Program, saltmarsh: Path, words: tuple[str, ...]) -> None:
    ran = enthesis(*words, at=saltmarsh)
    assert ran.code in (2, 3), (ran.code, ran.err)


@pytest.mark.attack("files without an end")
def test_folders_and_names_beyond_all_measure_are_errors(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path / "odd", {"estate.yaml": "estate: odd\n"})
    here = Path.cwd()
    os.chdir(folder)
    try:
        for _ in range(300):
            os.mkdir("d")  # noqa: PTH102  a path as a whole would be too long
            os.chdir("d")
    finally:
        os.chdir(here)
    ran = enthesis("check", at=folder)
    assert ran.code == 2 and "folders within one another" in ran.out
    other = write_estate(tmp_path / "names", {"estate.yaml": f"estate: {'x' * 100_000}\n"})
    (other / os.fsdecode(b"bad\xff.yaml")).write_text("grants: [1]\n")
    for words in (("check",), ("check", "--format", "json"), ("check", "--sarif", str(tmp_path / "s.sarif"))):
        assert enthesis(*words, at=other).code == 2


@pytest.mark.attack("long lines")
@pytest.mark.parametrize("size", [40_000, 4_000_000])
def test_masking_looks_at_each_character_a_few_times_only(size: int) -> None:
    """With lookaheads at every position this took hours."""
    assert masked("a" * size) == "a" * size
    assert masked("aB3" * size) == "·" * (3 * size)


@pytest.mark.attack("credentials to strangers")
def test_a_lent_kubeconfig_runs_nothing_of_the_folder_it_is_used_in_and_overwrites_nothing(
    enthesis: Program, saltmarsh: Path, tmp_path: Path
) -> None:
    there = tmp_path / "config"
    there.write_text("mine")
    words = ("lend", "a/cluster/c/namespace/n/identity/i", "--write-kubeconfig", str(there))
    ran = enthesis(*words, at=saltmarsh)
    assert ran.code == 2 and "there already" in ran.err and there.read_text() == "mine"


def test_the_lab_inherits_nothing_that_is_at_hand(enthesis: Program, tmp_path: Path) -> None:
    folder = copied(tmp_path / "estate")
    try:
        ran = enthesis("lab", "start", "--format", "json", at=folder, ENTHESIS_TOKEN=MARK)
        assert ran.code == 0, ran.err
        pid = int((folder / ".enthesis" / "lab" / "lock").read_text())
        assert MARK.encode() not in Path(f"/proc/{pid}/environ").read_bytes()
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


@pytest.mark.attack("injection")
def test_a_hint_that_is_copied_does_nothing_in_a_shell(enthesis: Program, tmp_path: Path) -> None:
    name = "x; touch owned"
    journey = "{from: {token: forge, claims: {sub: other}}, through: [left/identity/runner], expect: allowed}"
    text = f"{ESTATE}journeys: {{'{name}': {journey}}}\n"
    ran = enthesis("check", at=write_estate(tmp_path / "hint", {"estate.yaml": text}))
    assert ran.code == 1 and f"enthesis trace --journey '{name}'" in ran.out, ran.out


def listing(pages: Iterator[str]) -> Cluster:
    def answer(request: httpx.Request) -> httpx.Response:
        return httpx.Response(200, json={"items": [], "metadata": {"continue": next(pages)}})

    client = Client("x", NORTH, way=Connection(CONTEXT), transport=httpx.MockTransport(answer))
    return Cluster("a/cluster/c", "works", client, Secret("a token of ours"))


@pytest.mark.attack("work without an end")
@pytest.mark.parametrize("pages", [repeat("same"), cycle(["one", "two", "three"]), map(str, count())])
def test_a_list_that_never_ends_is_not_followed_for_ever(monkeypatch: pytest.MonkeyPatch, pages: Iterator[str]) -> None:
    monkeypatch.setattr("enthesis.connectors.cluster.surveying.MAX_PAGES", 50)
    cluster = listing(pages)
    with cluster.client, pytest.raises(UnexpectedAnswer, match=r"in circles|more than 50 pages|bring nothing new"):
        list(cluster.items("/api/v1/secrets"))


WIDER = "{name: wide, of: left/identity/runner, admits: {token: forge, claims: {sub: {glob: '**'}}}}"


@pytest.mark.attack("gains through a second trust")
def test_a_second_wider_trust_is_a_gain_of_what_is_reached_through_it(enthesis: Program, tmp_path: Path) -> None:
    """Who could already take the identity on under a condition gains nothing at the first hop; strangers gain all."""
    before = write_estate(tmp_path / "before", {"estate.yaml": ESTATE})
    after = write_estate(tmp_path / "after", {"estate.yaml": ESTATE.replace("trusts: [", f"trusts: [{WIDER}, ")})
    for barred in ("read left", "list left/bucket/b"):
        ran = enthesis("check", "--compared-with", str(before), "--fail-on-gain", barred, at=after)
        assert ran.code == 1 and f"barred: the bearer of a token of forge may {barred.split()[0]}" in ran.out, ran.out
    back = enthesis("check", "--compared-with", str(after), "--fail-on-gain", "read left", at=before)
    assert "barred" not in back.out and "loses access" in back.out


MANGLED = [b"", b"\xff", b"null", b"{}", b"[1]", b'[{"cloud": 1}]', b'[{"holder": "left", "cloud": []}]', b"[" * 5000]


@pytest.mark.attack("mangled files and answers")
def test_mangled_files_of_a_lab_are_said_and_written_anew(
    enthesis: Program, proposed: Path, attempts: Callable[[int], None]
) -> None:
    attempts(2 * len(MANGLED))
    for name, codes in (("administrators.json", {3}), ("services.json", {3})):
        place = proposed / ".enthesis" / "lab" / name
        good = place.read_bytes()
        for data in MANGLED:
            place.write_bytes(data)
            for words in (("propose",), ("prove",), ("lab", "agree", "CODE", "--as", "@works/identity/ann")):
                ran = enthesis(*words, at=proposed)
                assert ran.code in codes, (name, data[:20], words, ran.code, ran.err)
        place.write_bytes(good)
    assert enthesis("propose", at=proposed).code == 0

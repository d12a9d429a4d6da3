"""whoami, lend, sign-in and keys, as a user meets them; and no secret of the lab anywhere afterwards."""

import base64
import json
import os
import re
import signal
import subprocess
import sys
import threading
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import httpx
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from enthesis.connectors.hosts import HostService
from enthesis.connectors.http import Client
from enthesis.live.credential_endpoint import Keeper, Lent
from enthesis.model.errors import RightMissing, UnexpectedAnswer, Unreachable
from enthesis.model.secrets import Secret
from enthesis.ports import HeldCredential

from .conftest import ACCEPTED, PATIENCE, SALTMARSH, Lab, Program, Ran, copied, lab_of

MAIN = ("--claim", "sub=project/tides/bulletin/branch/main", "--claim", "aud=lowland", "--claim", "event=push")
WRITER, PUBLISHER = "bulletin/identity/page-writer", "build/identity/publisher"
COLLECTOR, HOST = "gauges/identity/collector", "gauges/host/collector-1"
MAREN = "@saltmarsh/identity/maren"
US = (sys.executable, "-m", "enthesis")


def tail_of(session: str) -> str:
    """A program that says what it finds."""
    return f"import os; print(os.environ.get('{session}', 'nothing')[-12:])"


@pytest.fixture(scope="module")
def lab(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    """A lab with all of the packaged estate, that remembers its secrets."""
    place = tmp_path_factory.mktemp("lending")
    folder = copied(place / "estate", *(one.name for one in SALTMARSH.glob("*.yaml")))
    try:
        ran = enthesis(
            "lab", "start", "--format", "json", at=folder, ENTHESIS_LAB_REMEMBERS_INTO=str(place / "secrets")
        )
        services = {one["name"]: one["url"] for one in ran.json["services"]}
        assert enthesis("enact", "--yes", *ACCEPTED, at=folder).code == 0
        yield Lab(folder, services, ran.json["authority"])
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


@pytest.fixture
def runtime(tmp_path: Path) -> Path:
    place = tmp_path / "runtime"
    place.mkdir(mode=0o700)
    return place


def on_host(enthesis: Program, lab: Lab, *words: str) -> Ran:
    return enthesis("lab", "on", HOST, "--", *US, *words, at=lab.folder)


def in_run(enthesis: Program, lab: Lab, *words: str) -> Ran:
    return enthesis("lab", "run", "forge", *MAIN, "--", *US, *words, at=lab.folder)


def sign_in(enthesis: Program, lab: Lab, runtime: Path, *more: str) -> Ran:
    """Signs Maren in, who agrees on another screen."""
    other = threading.Thread(
        target=lambda: enthesis("lab", "agree", "--as", MAREN, *(more or ["--mfa"]), at=lab.folder)
    )
    other.start()
    try:
        return enthesis("sign-in", at=lab.folder, XDG_RUNTIME_DIR=str(runtime))
    finally:
        other.join()


# -- whoami ------------------------------------------------------------------------------------------------------


def test_whoami_says_what_is_at_hand_which_is_used_and_what_it_can_take_on(
    enthesis: Program, lab: Lab, runtime: Path, tmp_path: Path
) -> None:
    nothing = enthesis("whoami", at=lab.folder, XDG_RUNTIME_DIR=str(runtime))
    assert nothing.code == 1 and nothing.out.startswith("Nothing that can be used is at hand here.")
    host = on_host(enthesis, lab, "whoami", "--format", "json")
    assert host.code == 0 and host.json["used"]["form"] == "host"
    assert [one["identity"] for one in host.json["can_take_on"]] == [COLLECTOR]
    run = in_run(enthesis, lab, "whoami", "--format", "json")
    assert run.json["can_take_on"] == [{"identity": PUBLISHER, "for_seconds": 900, "trust": "publishing.yaml:7"}]
    assert sign_in(enthesis, lab, runtime).code == 0
    path = next((runtime / "enthesis").rglob("*.json"))
    assert path.stat().st_mode & 0o777 == 0o600 and path.parent.stat().st_mode & 0o077 == 0
    token = in_run(enthesis, lab, "lend", PUBLISHER, "--", sys.executable, "-c",
                   "import os; print(os.environ['ENTHESIS_SESSION'])").out.strip()  # fmt: skip
    both = enthesis("whoami", "--format", "json", at=lab.folder, XDG_RUNTIME_DIR=str(runtime), ENTHESIS_SESSION=token)
    assert [one["form"] for one in both.json["at_hand"]] == ["session", "person"]
    assert [one["identity"] for one in both.json["can_take_on"]] == [WRITER]
    alone = enthesis("whoami", at=tmp_path, XDG_RUNTIME_DIR=str(runtime))
    assert alone.code == 0 and MAREN in alone.out and "No estate is here" in alone.err
    assert enthesis("sign-out", at=lab.folder, XDG_RUNTIME_DIR=str(runtime)).code == 0


def test_what_cannot_be_used_is_said_and_not_used(enthesis: Program, lab: Lab, runtime: Path, tmp_path: Path) -> None:
    (tmp_path / "no-token").write_text("nothing that is one")
    ran = enthesis(
        "whoami", "--format", "json", at=lab.folder, XDG_RUNTIME_DIR=str(runtime),
        ENTHESIS_TOKEN="not.a.token", ENTHESIS_TOKEN_FILE=str(tmp_path / "no-token"),
        ENTHESIS_METADATA_URL="http://192.0.2.1/host", ENTHESIS_CERTIFICATE_FILE=str(tmp_path / "none.pem"),
    )  # fmt: skip
    assert ran.code == 1 and ran.json["used"] is None
    whys = {one["where"]: one["why_not"] for one in ran.json["at_hand"]}
    assert len(whys) == 4 and all(whys.values())
    assert any("not on this machine" in why for why in whys.values())


def test_the_clock_of_the_system_that_is_spoken_to_counts(
    enthesis: Program, fresh_lab: Lab, runtime: Path, tmp_path: Path
) -> None:
    folder = fresh_lab.folder
    assert enthesis("enact", "--yes", *ACCEPTED, at=folder).code == 0
    say = "import os; print(os.environ['ENTHESIS_TOKEN'], end='')"
    file = tmp_path / "token"

    def token() -> None:
        file.write_text(enthesis("lab", "run", "forge", *MAIN, "--", sys.executable, "-c", say, at=folder).out)

    here = {"XDG_RUNTIME_DIR": str(runtime), "ENTHESIS_TOKEN_FILE": str(file)}
    token()
    assert "clock" not in enthesis("whoami", at=folder, **here).err
    assert enthesis("lab", "clock", "--forward", "2h", at=folder).code == 0
    gone = enthesis("whoami", at=folder, **here)  # by this machine's clock it would be good still
    assert gone.code == 1 and "it ended at" in gone.out
    assert "The clock of the lab is 2h ahead of this machine's; its time counts here." in gone.err
    token()
    assert enthesis("whoami", at=folder, **here).code == 0
    ends = "import os; print(os.environ['ENTHESIS_SESSION_ENDS'])"
    lent = enthesis("lend", PUBLISHER, "--", sys.executable, "-c", ends, at=folder, **here)
    left = datetime.fromisoformat(lent.out.strip()) - datetime.now(UTC)
    assert timedelta(hours=2) < left < timedelta(hours=3) and "2h ahead" in lent.err
    asks = (
        "import json, os, subprocess, sys, urllib.request\n"
        "def ask():\n"
        "    url = os.environ['ENTHESIS_METADATA_URL'] + '/session'\n"
        "    asked = urllib.request.Request(url, b'{}', {'Asked-Directly': 'yes'})\n"
        "    return json.load(urllib.request.urlopen(asked))['access_token']\n"
        "first = ask()\n"
        "print(ask() == first)\n"
        "subprocess.run([sys.executable, '-m', 'enthesis', 'lab', 'clock', '--forward', '8m'], check=True,\n"
        "               stdout=subprocess.DEVNULL)\n"
        "print(ask() == first)\n"
    )
    renewed = enthesis("lend", "--endpoint", PUBLISHER, "--", sys.executable, "-c", asks, at=folder, **here)
    assert renewed.out.split() == ["True", "False"], renewed.err  # past half of its fifteen minutes, by the lab's clock


def test_a_token_in_a_file_is_as_good_as_in_a_variable_until_it_ends(
    enthesis: Program, lab: Lab, runtime: Path, tmp_path: Path
) -> None:
    say = "import os; print(os.environ['ENTHESIS_TOKEN'], end='')"
    file = tmp_path / "token"
    file.write_text(enthesis("lab", "run", "forge", *MAIN, "--", sys.executable, "-c", say, at=lab.folder).out)
    here = {"XDG_RUNTIME_DIR": str(runtime), "ENTHESIS_TOKEN_FILE": str(file)}
    found = enthesis("whoami", "--format", "json", at=lab.folder, **here).json
    assert found["used"]["form"] == "token" and found["used"]["where"] == f"the file {file}"
    ran = enthesis("lend", PUBLISHER, "--", sys.executable, "-c", "print('ran')", at=lab.folder, **here)
    assert (ran.code, ran.out) == (0, "ran\n") and f"by the file {file}" in ran.err
    hidden = enthesis("lab", "on", HOST, "--", *US, "whoami", "--format", "json", at=lab.folder, **here).json
    assert [one["form"] for one in hidden["at_hand"]] == ["host"]  # a program on a host has not what its caller had
    good = file.read_text()
    ends = claims_in(good)["exp"]
    for odd, code, says in (
        ({"exp": 1_700_000_000}, 1, "Nothing that could take on"),
        ({"sub": "project/tides/other/branch/main"}, 1, "refused at target-side"),
        ({"exp": ends + 60}, 3, "signature or form is wrong"),  # all that it says fits, and nobody signed it
    ):
        file.write_text(altered(good, odd))
        refused = enthesis("lend", PUBLISHER, "--", sys.executable, "-c", "print('ran')", at=lab.folder, **here)
        assert (refused.code, refused.out) == (code, "") and says in refused.err, (odd, refused.err)


def claims_in(token: str) -> dict[str, Any]:
    body = token.split(".")[1]
    found: dict[str, Any] = json.loads(base64.urlsafe_b64decode(body + "=" * (-len(body) % 4)))
    return found


def altered(token: str, claims: Mapping[str, Any]) -> str:
    """The token with other claims, and a signature that is not theirs."""
    head, _, tail = token.split(".")
    body = base64.urlsafe_b64encode(json.dumps({**claims_in(token), **claims}).encode()).rstrip(b"=").decode()
    return f"{head}.{body}.{tail}"


def certificate(name: str, ends: datetime) -> bytes:
    """A workload certificate of an authority of its own, with a URI as its name."""
    key = ec.generate_private_key(ec.SECP256R1())
    whole = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "workload")])
    made = (
        x509.CertificateBuilder()
        .subject_name(whole)
        .issuer_name(whole)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(ends - timedelta(days=1))
        .not_valid_after(ends)
        .add_extension(x509.SubjectAlternativeName([x509.UniformResourceIdentifier(name)]), critical=False)
        .sign(key, hashes.SHA256())
    )
    return made.public_bytes(serialization.Encoding.PEM)


def test_a_workload_certificate_is_at_hand_by_its_name(enthesis: Program, tmp_path: Path, runtime: Path) -> None:
    folder = copied(tmp_path / "estate", "estate.yaml")
    (folder / "more.yaml").write_text(
        "identities: {gauges/identity/relay: {kind: service-account}}\n"
        "trusts: [{of: gauges/identity/relay, admits: {certificate: seal, subject: 'spiffe://saltmarsh.example/relay'}}]\n"
    )
    estate = (folder / "estate.yaml").read_text()
    (folder / "estate.yaml").write_text(estate.replace("issuers:\n", "issuers:\n  seal: {kind: x509}\n"))
    path = tmp_path / "workload.pem"
    more = {"XDG_RUNTIME_DIR": str(runtime), "ENTHESIS_CERTIFICATE_FILE": str(path)}
    path.write_bytes(certificate("spiffe://saltmarsh.example/relay", datetime.now(UTC) + timedelta(hours=1)))
    ran = enthesis("whoami", "--format", "json", at=folder, **more)
    assert ran.code == 0 and ran.json["used"]["who"] == "spiffe://saltmarsh.example/relay"
    assert [one["identity"] for one in ran.json["can_take_on"]] == ["gauges/identity/relay"]
    path.write_bytes(certificate("spiffe://saltmarsh.example/other", datetime.now(UTC) + timedelta(hours=1)))
    assert "no trust admits it" in enthesis("whoami", at=folder, **more).out
    path.write_bytes(certificate("spiffe://saltmarsh.example/relay", datetime.now(UTC) - timedelta(hours=1)))
    assert "it ended at" in enthesis("whoami", at=folder, **more).out


OVER = threading.Event()


class Faulty(BaseHTTPRequestHandler):
    """A metadata service that is not as it should be, by its first path segment."""

    def log_message(self, format: str, *args: Any) -> None:  # noqa: A002
        pass

    def do_GET(self) -> None:
        how = self.path.split("/")[1]
        if how == "slow":
            OVER.wait(PATIENCE)
        bodies: dict[str, bytes] = {
            "garbage": b"\x00<html>",
            "list": b"[1, 2]",
            "nobody": b'{"identities": []}',
            "wrong": b'{"host": "h", "identities": [7]}',
            "other": json.dumps({"host": "build/host/x", "identities": [{"address": COLLECTOR}]}).encode(),
            "large": b'{"host": "' + b"x" * 100_000 + b'"}',
        }
        body = bodies.get(how, b"{}")
        try:
            self.send_response(500 if how == "broken" else 200)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)
        except OSError:
            pass

    def do_POST(self) -> None:
        self.do_GET()


@pytest.fixture(scope="module")
def faulty() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Faulty)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    OVER.set()
    server.shutdown()
    server.server_close()


def test_a_metadata_service_that_never_answers_is_not_waited_for(faulty: str) -> None:
    with (
        Client("hosts", faulty, timeout=httpx.Timeout(0.2)) as client,
        pytest.raises(Unreachable, match="did not answer in time"),
    ):
        HostService(client, "/slow").about()


@pytest.mark.parametrize(
    ("how", "says"),
    [
        ("garbage", "not JSON"),
        ("list", "not a JSON object"),
        ("nobody", "which host"),
        ("wrong", "as whom its host runs"),
        ("large", "more than"),
        ("broken", "answered 500"),
    ],
)
@pytest.mark.attack("servers that answer with anything")
def test_a_metadata_service_that_is_not_right_is_said_and_nothing_is_lent(
    enthesis: Program, lab: Lab, runtime: Path, faulty: str, how: str, says: str
) -> None:
    more = {"XDG_RUNTIME_DIR": str(runtime), "ENTHESIS_METADATA_URL": f"{faulty}/{how}"}
    ran = enthesis("whoami", at=lab.folder, **more)
    assert ran.code == 1 and says in ran.out
    lend = enthesis("lend", COLLECTOR, "--", sys.executable, "-c", "print('ran')", at=lab.folder, **more)
    assert lend.code == 1 and "ran" not in lend.out


def test_the_session_of_another_host_is_not_taken(enthesis: Program, lab: Lab, runtime: Path, faulty: str) -> None:
    with Client("hosts", faulty) as client, pytest.raises(UnexpectedAnswer, match="another host"):
        HostService(client, "/other", HOST).about()
    lend = enthesis("lend", COLLECTOR, "--", "true", at=lab.folder, XDG_RUNTIME_DIR=str(runtime),
                    ENTHESIS_METADATA_URL=f"{faulty}/other")  # fmt: skip
    assert lend.code == 1 and "refused at names" in lend.err


# -- lend --------------------------------------------------------------------------------------------------------


def test_the_program_gets_a_session_and_its_exit_code_is_ours(enthesis: Program, lab: Lab) -> None:
    program = "import os, sys; print('ENTHESIS_TOKEN' in os.environ, len(os.environ['ENTHESIS_SESSION'])); sys.exit(7)"
    ran = in_run(enthesis, lab, "lend", WRITER, "--", sys.executable, "-c", program)
    assert ran.code == 7
    assert re.fullmatch(r"False \d{3,4}\n", ran.out)
    assert f"runs as {WRITER}" in ran.err and "until" in ran.err and f"through {PUBLISHER}" in ran.err
    assert in_run(enthesis, lab, "lend", WRITER, "--", "no-such-program").code == 2
    assert in_run(enthesis, lab, "lend", WRITER).code == 2
    assert in_run(enthesis, lab, "lend", "bulletin/identity/page-writr", "--", "true").code == 2
    refused = in_run(enthesis, lab, "lend", COLLECTOR, "--", sys.executable, "-c", "print('ran')")
    assert (refused.code, refused.out) == (1, "") and "refused at target-side" in refused.err


def test_the_same_program_runs_on_a_host_and_with_a_sign_in(enthesis: Program, lab: Lab, runtime: Path) -> None:
    """By the metadata service there, by the endpoint here: the program asks one address and does not know which."""
    program = (
        "import json, os, urllib.request as u; url = os.environ['ENTHESIS_METADATA_URL'];"
        "r = u.Request(url + '/session', b'{}', {'Asked-Directly': 'yes', 'Content-Type': 'application/json'});"
        "a = json.load(u.build_opener(u.ProxyHandler({})).open(r)); print(a['identity'], a['expires_in'] > 0)"
    )
    there = enthesis("lab", "on", HOST, "--", sys.executable, "-c", program, at=lab.folder)
    assert there.out == f"{COLLECTOR} True\n", there.err
    assert sign_in(enthesis, lab, runtime).code == 0
    here = enthesis("lend", "gauges/identity/calibrator", "--endpoint", "--", sys.executable, "-c", program,
                    at=lab.folder, XDG_RUNTIME_DIR=str(runtime))  # fmt: skip
    assert here.out == "gauges/identity/calibrator True\n", here.err
    assert "renewed while it runs" in here.err
    assert enthesis("sign-out", at=lab.folder, XDG_RUNTIME_DIR=str(runtime)).code == 0


@pytest.mark.attack("other users of the machine")
def test_the_endpoint_gives_nothing_to_whoever_was_not_told_of_it(enthesis: Program, lab: Lab) -> None:
    program = (
        "import os, urllib.request as u, urllib.error as e; url = os.environ['ENTHESIS_METADATA_URL'];"
        "o = u.build_opener(u.ProxyHandler({}));"
        "\ndef ask(url, **h):\n"
        "  try: return o.open(u.Request(url, headers={k.replace('_', '-'): v for k, v in h.items()})).status\n"
        "  except e.HTTPError as f: return f.code\n"
        "root = url.rsplit('/', 1)[0]\n"
        "d = {'Asked_Directly': 'yes'}\n"
        "print(ask(url + '/about', **d), ask(url + '/about'), ask(root + '/about', **d),"
        " ask(url + '/about', Via='x', **d), ask(url + '/about', Host='evil', **d))"
    )
    ran = on_host(enthesis, lab, "lend", COLLECTOR, "--endpoint", "--", sys.executable, "-c", program)
    assert ran.out == "200 403 404 403 403\n", ran.err


def test_the_endpoint_renews_at_half_of_a_life_and_says_when_it_cannot() -> None:
    time = datetime(2026, 11, 24, tzinfo=UTC)
    life = timedelta(minutes=10)
    obtained: list[str] = []

    def obtain() -> HeldCredential:
        if len(obtained) == 2:
            raise RightMissing("it cannot be taken on any more", code="right-missing")
        obtained.append(f"session-{len(obtained)}")
        return HeldCredential(Secret(obtained[-1]), "session", life)

    keeper = Keeper(Lent(COLLECTOR, obtain(), now=lambda: time), obtain)

    def handed() -> str:
        return str(keeper.handed()["access_token"])

    first = keeper.handed()
    assert (first["access_token"], first["expires_in"], first["renew_in"]) == ("session-0", 600, 300)
    time += timedelta(minutes=4, seconds=59)
    assert handed() == "session-0"
    time += timedelta(seconds=1)
    assert handed() == "session-1"
    time += timedelta(minutes=9)  # no other can be had: this one is handed out until it has ended
    assert (keeper.handed()["access_token"], keeper.handed()["expires_in"]) == ("session-1", 60)
    assert keeper.handed()["renew_in"] == 0
    time += timedelta(minutes=1)
    with pytest.raises(RightMissing):
        keeper.handed()


def test_the_endpoint_says_why_it_hands_out_nothing_any_more(enthesis: Program, tmp_path: Path) -> None:
    """A session that has ended as soon as it was obtained, and another that nobody gives."""
    folder = copied(tmp_path / "estate", "estate.yaml", "collectors.yaml")
    text = (folder / "collectors.yaml").read_text()
    (folder / "collectors.yaml").write_text(text.replace("session: 30m", "session: 1s"))
    program = (
        "import json, os, subprocess, sys, urllib.request as u, urllib.error as e\n"
        "r = u.Request(os.environ['ENTHESIS_METADATA_URL'] + '/session', b'{}', {'Asked-Directly': 'yes'})\n"
        "o = u.build_opener(u.ProxyHandler({}))\n"
        f"subprocess.run([*{list(US)}, 'lab', 'remove', '{HOST}'], check=True)\n"
        "try:\n"
        "    while True: o.open(r)\n"
        "except e.HTTPError as f: print(f.code, json.load(f)['detail'])\n"
    )
    with lab_of(enthesis, folder) as lab:
        ran = on_host(enthesis, lab, "lend", COLLECTOR, "--endpoint", "--", sys.executable, "-c", program)
    assert ran.out == f"503 {COLLECTOR} cannot be taken on any more\n", ran.err


@pytest.mark.parametrize("endpoint", [(), ("--endpoint",)])
def test_signals_reach_the_program(
    lab: Lab, environment: Mapping[str, str], endpoint: tuple[str, ...], tmp_path: Path
) -> None:
    program = (
        "import signal, sys, time; signal.signal(signal.SIGTERM, lambda *a: sys.exit(9)); print('ready', flush=True);"
        "time.sleep(30)"
    )
    words = (*US, "lend", COLLECTOR, *endpoint, "--", sys.executable, "-c", program)
    process = subprocess.Popen(
        [*US, "lab", "on", HOST, "--", *words], cwd=lab.folder, env=dict(environment), stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL, text=True,
    )  # fmt: skip
    assert process.stdout is not None and process.stdout.readline() == "ready\n"
    process.send_signal(signal.SIGTERM)
    process.communicate(timeout=20)
    assert process.returncode == 9


# -- sign-in -----------------------------------------------------------------------------------------------------


def test_a_sign_in_that_is_refused_forgotten_or_without_a_second_factor(
    enthesis: Program, lab: Lab, runtime: Path
) -> None:
    refused = sign_in(enthesis, lab, runtime, "--refuse")
    assert refused.code == 3 and "did not complete the sign-in" in refused.err
    assert not list(runtime.rglob("*.json"))
    assert sign_in(enthesis, lab, runtime, "--quiet").code == 0
    where = {"XDG_RUNTIME_DIR": str(runtime)}
    lend = enthesis("lend", "gauges/identity/calibrator", "--", "true", at=lab.folder, **where)
    assert lend.code == 1 and "refused at target-side" in lend.err
    path = next(runtime.rglob("*.json"))
    kept = path.read_text()
    assert enthesis("sign-out", at=lab.folder, **where).code == 0
    assert not path.exists()
    path.write_text(kept)  # whoever kept a copy has nothing by it
    path.chmod(0o600)
    again = enthesis("lend", "gauges/identity/calibrator", "--", "true", at=lab.folder, **where)
    assert again.code in (1, 3)
    path.chmod(0o644)
    assert enthesis("whoami", at=lab.folder, **where).code == 1
    path.parent.chmod(0o755)
    told = enthesis("whoami", at=lab.folder, **where)
    assert told.code == 2 and "not yours alone" in told.err


# -- keys --------------------------------------------------------------------------------------------------------


def test_no_key_without_a_reason_an_end_and_a_place_and_the_keyless_way_first(
    enthesis: Program, lab: Lab, tmp_path: Path
) -> None:
    archiver, into = "gauges/identity/archiver", tmp_path / "tape.key"
    there = ("credential", "create", "tape", "--of", archiver, "--because", "the tape robot", "--into", str(into))
    first = enthesis(*there, "--for", "7d", at=lab.folder)
    assert first.code == 1 and "has a keyless way in" in first.out and "archive.yaml" in first.out
    near = enthesis("credential", "create", "x", "--of", "gauges/identity/calibrator", at=lab.folder)
    assert near.code == 1
    assert "- {of: gauges/identity/calibrator, admits: {attached: true}, session: 1h}" in near.out
    for words, says in (
        (("--for", "40d"), "30d"),
        (("--until", "2020-01-01T00:00:00Z"), "in the past"),
        (("--for", "soon"), "not a duration"),
        (("--for", "1d", "--until", "2026-12-01T00:00:00Z"), "one of them"),
        (("--for", "1d", "--form", "password"), "not a form"),
    ):
        ran = enthesis(*there, *words, "--anyway", at=lab.folder)
        assert ran.code == 2 and says in ran.err, (words, ran.err)
        assert not into.exists()
    assert enthesis(*there, "--for", "7d", "--anyway", "--quiet", at=lab.folder).code == 0
    assert into.stat().st_mode & 0o777 == 0o600
    held = json.loads(into.read_text())
    assert enthesis(*there, "--for", "7d", "--anyway", at=lab.folder).code == 2  # there already
    assert json.loads(into.read_text()) == held
    for odd in (("--descriptor", "1"), ("--into", "tape.json")):
        assert enthesis("credential", "create", "t2", "--of", archiver, "--because", "x", "--for", "1d", "--anyway",
                        *odd, at=lab.folder).code == 2  # fmt: skip
    more = "credentials: {tape: {of: gauges/identity/archiver, form: access-key}}\n"
    more += "journeys: {by-key: {from: {credential: tape}, attempt: read gauges/bucket/raw-levels/object/a,"
    more += " expect: allowed}}"
    (lab.folder / "key.yaml").write_text(more)
    try:
        undecided = enthesis("prove", "by-key", at=lab.folder)
        assert undecided.code == 1 and "not at hand" in undecided.out
        assert enthesis("prove", "by-key", "--credential", f"tape={into}", at=lab.folder).code == 0
        listed = enthesis("credential", "--format", "json", at=lab.folder).json["credentials"]
        assert [(one["name"], "last_used" in one) for one in listed] == [("tape", True)]
        assert enthesis("credential", "revoke", "tape", at=lab.folder).code == 0
        retired = enthesis("prove", "by-key", "--credential", f"tape={into}", "--format", "json", at=lab.folder)
        assert retired.json["journeys"][0]["refused_at"] == ["names"]
    finally:
        (lab.folder / "key.yaml").unlink()
        into.unlink(missing_ok=True)


def test_a_key_goes_to_a_descriptor_and_to_no_other_place(
    enthesis: Program, lab: Lab, environment: Mapping[str, str]
) -> None:
    """Into a pipe that somebody reads; the answer names it, by its fingerprint, and has nothing of the value."""
    out, into = os.pipe()
    words = ("--of", "gauges/identity/archiver", "--because", "the tape robot", "--for", "1h", "--anyway")
    try:
        done = subprocess.run(
            [*US, "credential", "create", "by-pipe", *words, "--descriptor", str(into), "--format", "json"],
            cwd=lab.folder, env=dict(environment), pass_fds=(into,), capture_output=True, text=True, timeout=90,
            check=False,
        )  # fmt: skip
        os.close(into)
        assert done.returncode == 0, done.stderr
        with os.fdopen(out, closefd=False) as pipe:
            held = json.loads(pipe.read())
        assert held["id"] and held["form"] == "access-key" and held["value"] not in done.stdout + done.stderr
        listed = enthesis("credential", "--format", "json", at=lab.folder)
        one = next(one for one in listed.json["credentials"] if one["name"] == "by-pipe")
        assert one["fingerprint"] in done.stdout and held["value"] not in listed.out
        closed = enthesis("credential", "create", "lost", *words, "--descriptor", "77", at=lab.folder)
        assert closed.code == 2 and "77 cannot be written" in closed.err
        assert "lost" not in enthesis("credential", at=lab.folder).out  # none was made that went nowhere
    finally:
        os.close(out)
        assert enthesis("credential", "revoke", "by-pipe", "--quiet", at=lab.folder).code == 0
    assert enthesis("credential", "revoke", "by-pip", at=lab.folder).code == 2


def test_a_key_is_for_an_identity_that_the_estate_knows(enthesis: Program, saltmarsh: Path) -> None:
    for words, says in (
        (("x", "--of", "bulletin/identity/page-writr"), f"did you mean {WRITER}"),
        (("x", "--of", MAREN), f"no such identity: {MAREN}"),
        (("x",), "say whose with --of"),
    ):
        ran = enthesis("credential", "create", *words, at=saltmarsh)
        assert (ran.code, ran.out) == (2, "") and says in ran.err, (words, ran.err)


def test_an_estate_can_bound_keys_more_tightly(enthesis: Program, tmp_path: Path) -> None:
    folder = copied(tmp_path / "estate", "estate.yaml", "archive.yaml")
    text = (folder / "estate.yaml").read_text()
    (folder / "estate.yaml").write_text(text.replace("shared]}", "shared], longest_key: 2d}"))
    ran = enthesis("credential", "create", "tape", "--of", "gauges/identity/archiver", "--because", "x", "--for", "3d",
                   "--into", "tape.key", "--anyway", at=folder)  # fmt: skip
    assert ran.code == 2 and "longer than 2d" in ran.err and not (folder / "tape.key").exists()


# -- the canary --------------------------------------------------------------------------------------------------


class Watching(threading.Thread):
    """Collects the argument lists of every process there is, for as long as it runs."""

    def __init__(self) -> None:
        super().__init__(daemon=True)
        self.seen: set[bytes] = set()
        self.over = threading.Event()

    def run(self) -> None:
        while not self.over.wait(0.01):
            for process in Path("/proc").glob("[0-9]*/cmdline"):
                try:
                    self.seen.add(process.read_bytes())
                except OSError:
                    continue


@pytest.mark.attack("echoed secrets")
def test_no_secret_of_the_lab_is_anywhere_afterwards(
    enthesis: Program, lab: Lab, runtime: Path, tmp_path: Path, environment: Mapping[str, str]
) -> None:
    watching = Watching()
    watching.start()
    outputs: list[str] = []
    more = {"XDG_RUNTIME_DIR": str(runtime)}

    def run(*words: str) -> None:
        ran = enthesis(*words, at=lab.folder, cold=words[0] == "lend", **more)  # its own arguments can be seen then
        outputs.extend((ran.out, ran.err))

    run("prove", "--junit", str(tmp_path / "proof.xml"), "--format", "json")
    run("prove", "--near-misses")
    run("prove", "--replay")
    run("survey", "--out", str(tmp_path / "seen.jsonl"))
    run("propose", "--out", str(tmp_path / "proposal.json"))
    key = tmp_path / "canary.key"
    run(
        "credential",
        "create",
        "canary",
        "--of",
        "gauges/identity/archiver",
        "--because",
        "x",
        "--for",
        "1d",
        "--anyway",
        "--into",
        str(key),
    )
    key.unlink()  # where its value was asked to be
    outputs.append(sign_in(enthesis, lab, runtime).err)
    run("whoami")
    run("lend", "gauges/identity/calibrator", "--", sys.executable, "-c", "print()")
    run("lend", "gauges/identity/calibrator", "--endpoint", "--", sys.executable, "-c", "print()")
    run("sign-out")
    outputs.append(in_run(enthesis, lab, "lend", WRITER, "--", *US, "whoami").out)
    watching.over.set()
    watching.join()
    remembered = lab.folder.parent / "secrets"
    secrets = set(remembered.read_bytes().split())
    assert len(secrets) > 100
    held = json.loads((lab.state / "administrators.json").read_text())  # the lab's own, there on purpose
    secrets -= {one.get("session", one.get("lab-owner")).encode() for one in held}
    needles = {one.rsplit(b".", 1)[-1] for one in secrets}  # the signature of a token is as good as all of it
    haystack = [*(text.encode() for text in outputs), *watching.seen]
    places = [lab.folder.parent, tmp_path, Path(environment["HOME"])]
    for place in places:
        for path in place.rglob("*"):
            if path.is_file() and path != remembered:
                haystack.append(path.read_bytes())
    found = [needle for needle in needles if any(needle in hay for hay in haystack)]
    assert found == []
    assert any(os.fsencode("lend") in one for one in watching.seen)  # the watch did see our programs


# -- a program as a person ---------------------------------------------------------------------------------------

ASKS = """
import os, sys, httpx
base, session = os.environ["ENTHESIS_PROVIDER_URL"], os.environ["ENTHESIS_SESSION"]
def asked(method, path, shown=session, **more):
    answer = httpx.request(method, f"{base}/{path}", headers={"Authorization": f"Bearer {shown}"}, **more)
    print(method, path, answer.status_code)
    return answer
def exchanged(shown, identity):
    form = {"grant_type": "urn:ietf:params:oauth:grant-type:token-exchange", "subject_token": shown,
            "subject_token_type": "urn:ietf:params:oauth:token-type:access_token",
            "resource": f"{base}/places/{identity}"}
    answer = httpx.post(f"{base}/token", data=form)
    print("took on", identity, answer.status_code)
    return answer.json().get("access_token")
"""


def as_maren(enthesis: Program, lab: Lab, runtime: Path, *options: str, program: str) -> Ran:
    words = ("lend", MAREN, *options, "--", sys.executable, "-c", ASKS + program)
    return enthesis(*words, at=lab.folder, XDG_RUNTIME_DIR=str(runtime))


def test_a_program_works_as_a_person_and_what_a_workload_may_not_is_said(
    enthesis: Program, lab: Lab, runtime: Path
) -> None:
    assert as_maren(enthesis, lab, runtime, program="").code == 1  # nobody has signed in
    assert sign_in(enthesis, lab, runtime).code == 0
    plain = enthesis("lend", MAREN, "--", sys.executable, "-c", "import os; print(os.environ['ENTHESIS_IDENTITY'])",
                     at=lab.folder, XDG_RUNTIME_DIR=str(runtime))  # fmt: skip
    assert plain.code == 0 and plain.out.strip() == MAREN and "--like IDENTITY" in plain.err
    does = """
asked("PUT", "places/gauges/bucket/raw-levels/object/today?trial", content=b"1")
took = exchanged(session, "gauges/identity/calibrator")
assert took and took != session and took.startswith("here-")
asked("GET", "places/gauges/bucket/raw-levels/object/today", took)
"""
    told = as_maren(enthesis, lab, runtime, "--like", COLLECTOR, program=does)
    assert "took on gauges/identity/calibrator 200" in told.out and told.code == 1, told.out + told.err
    assert f"As {COLLECTOR} 2 of 3 things that the program asked for would be refused." in told.err
    assert "take-on gauges/identity/calibrator (done here): Refused at target-side: no trust of" in told.err
    assert "write gauges/bucket/raw-levels/object/today: refused to the person here, and the workload may" in told.err
    bounded = as_maren(enthesis, lab, runtime, "--like", COLLECTOR, "--bounded",
                       program='exchanged(session, "gauges/identity/calibrator")')  # fmt: skip
    assert "took on gauges/identity/calibrator 403" in bounded.out and "(stopped here)" in bounded.err
    public = (
        'assert "token_endpoint" in asked("GET", ".well-known/oauth-authorization-server").text; asked("GET", "jwks")'
    )
    nothing = as_maren(enthesis, lab, runtime, "--like", COLLECTOR, "--bounded", program=public)
    assert nothing.code == 0 and "jwks 200" in nothing.out
    assert nothing.err.splitlines()[-1].startswith("Nothing was judged: the program asked nothing of lowland")


def test_the_person_s_own_credential_is_not_in_the_hands_of_a_bounded_program(
    enthesis: Program, lab: Lab, runtime: Path
) -> None:
    assert sign_in(enthesis, lab, runtime).code == 0
    url = lab.services["lowland"]
    program = f"""
direct = httpx.post("{url}/introspect", data={{"token": session}}, verify="{lab.authority}")
print("direct", direct.status_code, direct.json().get("active"))
asked("GET", "administration/grants")
asked("GET", "places/gauges/bucket/raw-levels/object/today", "another")
asked("GET", "places/gauges/bucket/raw-levels/object/today?list&list")
print("without the word", httpx.get(base.rsplit("/", 1)[0] + "/jwks").status_code)
print(os.environ.get("ENTHESIS_AUTHORITY_FILE"))
"""
    ran = as_maren(enthesis, lab, runtime, "--like", COLLECTOR, "--bounded", program=program)
    assert ran.code == 1
    assert "direct 200 True" not in ran.out and "without the word 404" in ran.out and "None" in ran.out
    assert ran.out.count(" 403") == 3, ran.out
    assert "GET /administration/grants: not judged, and stopped here" in ran.err


@pytest.mark.parametrize(
    "options",
    [
        ("--bounded",),
        ("--endpoint",),
        ("--for", "gauges/database/levels"),
        ("--like", MAREN),
        ("--like", "a/identity/b"),
    ],
)
def test_options_that_do_not_go_with_a_person(
    enthesis: Program, lab: Lab, runtime: Path, options: tuple[str, ...]
) -> None:
    ran = enthesis("lend", MAREN, *options, "--", "true", at=lab.folder, XDG_RUNTIME_DIR=str(runtime))
    assert ran.code == 2 and ran.err.startswith("Error: "), ran.err
    turned = enthesis("lend", COLLECTOR, "--like", COLLECTOR, "--", "true", at=lab.folder)
    assert turned.code == 2 and "--like compares what a person does" in turned.err

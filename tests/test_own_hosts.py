"""Hosts of one's own, with no lab: an authority's key, a server set up with the files that are written, real logins."""

import getpass
import os
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from enthesis.connectors.ssh_keys import read_certificate
from enthesis.lab.logins import program

from .conftest import Program, write_estate

HOST = "yard/host/crane"
ROSA, TOM, EVE = (f"@home/identity/{name}" for name in ("rosa", "tom", "eve"))
GONE = "2026-01-01T00:00:00Z"
ESTATE = """\
estate: yard
organisations: {{home: {{}}}}
providers: {{cloud: {{style: one-sided}}}}
accounts: {{yard: {{in: "@home", provider: cloud}}}}
issuers: {{gate: {{kind: ssh, key: "{key}"}}}}
resources:
  yard/host/crane: {{url: "ssh://127.0.0.1:{port}/{user}", certificates: gate, runs_as: yard/identity/crane}}
identities:
  yard/identity/crane: {{kind: instance-role, owner: yard-team, purpose: lifts}}
  "@home/identity/rosa": {{kind: person}}
  "@home/identity/tom": {{kind: person}}
  "@home/identity/eve": {{kind: person}}
trusts: [{{of: yard/identity/crane, admits: {{attached: true}}}}]
roles:
  logging-in: {{allows: {{host: [login]}}}}
  running-as: {{allows: {{identity: [run-as]}}}}
grants:
  - {{to: "@home/identity/rosa", role: logging-in, at: yard/host/crane, until: "{until}"}}
  - {{to: "@home/identity/rosa", role: running-as, at: yard/identity/crane}}
  - {{to: "@home/identity/tom", role: logging-in, at: yard/host/crane, when: {{network: {{within: 127.0.0.0/8}}}}}}
  - {{to: "@home/identity/tom", role: running-as, at: yard/identity/crane}}
  - {{to: "@home/identity/eve", role: logging-in, at: yard/host/crane}}
"""


def keygen(*words: str | Path) -> None:
    subprocess.run(["ssh-keygen", "-q", *map(str, words)], check=True, capture_output=True)


def key_in(folder: Path, name: str, passphrase: str = "") -> str:
    keygen("-t", "ed25519", "-N", passphrase, "-C", "made-up", "-f", folder / name)
    return " ".join((folder / f"{name}.pub").read_text().split()[:2])


@contextmanager
def served(enthesis: Program, folder: Path) -> Iterator[Path]:
    """The folder of an estate whose host runs, set up with the files that are written for it."""
    key, user = key_in(folder, "authority"), getpass.getuser()
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    estate = write_estate(
        folder / "yard", {"estate.yaml": ESTATE.format(key=key, port=port, user=user, until="2099-01-01T00:00:00Z")}
    )
    ran = enthesis("propose", "--manifests", str(folder / "written"), at=estate)
    assert ran.code == 0, ran.err
    etc = folder / "written" / "yard-host-crane"
    key_in(etc, "host")
    keygen("-s", folder / "authority", "-I", "crane", "-h", "-n", "127.0.0.1", "-V", "+1d", etc / "host.pub")
    (etc / "host-cert.pub").touch()
    (etc / "revoked").touch()
    settings = (etc / "sshd_config").read_text().replace("/etc/ssh", str(etc))
    more = {"Port": port, "ListenAddress": "127.0.0.1", "HostKey": etc / "host", "PidFile": "none", "UsePAM": "no",
            "StrictModes": "no", "LogLevel": "VERBOSE"}  # fmt: skip
    (etc / "running").write_text(settings + "".join(f"{name} {value}\n" for name, value in more.items()))
    if os.geteuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)
    command = [program(), "-D", "-f", str(etc / "running"), "-E", str(folder / "sshd.log")]
    with subprocess.Popen(command, cwd="/", stdin=subprocess.DEVNULL) as server:
        try:
            deadline = time.monotonic() + 15
            while "Server listening" not in _said(folder) and time.monotonic() < deadline:
                time.sleep(0.02)
            yield estate
        finally:
            server.send_signal(signal.SIGTERM)


def _said(folder: Path) -> str:
    log = folder / "sshd.log"
    return log.read_text() if log.exists() else ""


@pytest.fixture(scope="module")
def crane(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    with served(enthesis, tmp_path_factory.mktemp("own")) as estate:
        yield estate


def lend(who: str, estate: Path, *more: str) -> tuple[str, ...]:
    key = ("--authority", str(estate.parent / "authority"))
    return ("lend", who, "--for", HOST, *key, *more, "--quiet", "--", "ssh", "crane")


def test_whom_the_estate_lets_in_logs_in_and_nobody_else(enthesis: Program, crane: Path) -> None:
    ran = enthesis(*lend(ROSA, crane), "echo as $USER", at=crane)
    assert ran.code == 0 and ran.out.strip() == f"as {getpass.getuser()}", ran.err
    assert f'Accepted certificate ID "{ROSA} at {HOST}"' in _said(crane.parent)
    refused = enthesis(*lend(EVE, crane), "true", at=crane)  # may log in, and not act as what the host runs as
    assert refused.code == 1 and refused.err.startswith("Refused at companions: ")
    assert EVE not in _said(crane.parent)
    traced = enthesis("trace", "login", HOST, "--from", ROSA, "--log", str(crane.parent / "sshd.log"), at=crane)
    assert "logged in as" in traced.out
    left = [path for path in crane.rglob("*") if path.is_file() and b"PRIVATE KEY" in path.read_bytes()]
    assert left == []


def test_a_network_that_is_asked_for_is_in_the_certificate(enthesis: Program, crane: Path) -> None:
    assert enthesis(*lend(TOM, crane), "true", at=crane).code == 1  # from nowhere that is said
    assert enthesis(*lend(TOM, crane, "--network", "127.0.0.1"), "true", at=crane).code == 0
    elsewhere = enthesis(*lend(TOM, crane, "--network", "127.9.9.9"), "true", at=crane)  # granted, and not from here
    assert elsewhere.code == 255 and "Permission denied" in elsewhere.err
    log = ("--log", str(crane.parent / "sshd.log"))
    told = enthesis("trace", "login", HOST, "--from", TOM, "--network", "127.9.9.9", *log, at=crane).out
    assert told.rstrip().splitlines()[-1].startswith("  refused at target-side: line "), told
    assert "the certificate is for another network" in told
    wrong = enthesis(*lend(TOM, crane, "--network", "x"), "true", at=crane)
    assert wrong.code == 2


def test_a_certificate_ends_when_the_grant_does(enthesis: Program, crane: Path, tmp_path: Path) -> None:
    shown = tmp_path / "ssh"  # stands for the client, and keeps what it was shown
    copy = 'for word in "$@"; do case $word in CertificateFile=*) cat "${word#*=}";; esac; done'
    shown.write_text(f"#!/bin/sh\n{copy}\n")
    shown.chmod(0o755)
    text = (crane / "estate.yaml").read_text()
    soon = (datetime.now(UTC) + timedelta(minutes=2)).strftime("%Y-%m-%dT%H:%M:%SZ")
    for until, most in (("2099-01-01T00:00:00Z", 300), (soon, 120)):
        place = write_estate(tmp_path / until[:4], {"estate.yaml": text.replace("2099-01-01T00:00:00Z", until)})
        words = [*lend(ROSA, crane)[:-2], str(shown), "crane"]
        ran = enthesis(*words, at=place)
        assert ran.code == 0, ran.err
        held = read_certificate(ran.out)
        lives = (held.ends - datetime.now(UTC)).total_seconds()
        assert held.names == (HOST,) and 20 < lives <= most, lives
    place = write_estate(tmp_path / "gone", {"estate.yaml": text.replace("2099-01-01T00:00:00Z", GONE)})
    assert enthesis(*lend(ROSA, crane), "true", at=place).code == 1


def test_a_key_that_is_not_the_authority_s_signs_nothing(enthesis: Program, crane: Path, tmp_path: Path) -> None:
    key_in(tmp_path, "other")
    key_in(tmp_path, "locked", "made-up words")
    (tmp_path / "nonsense").write_text("no key\n")
    for name, says in (
        ("other", "is the key of another authority"),
        ("locked", "is kept under a passphrase"),
        ("nonsense", "holds no private key that can sign"),
    ):
        words = ("lend", ROSA, "--for", HOST, "--authority", str(tmp_path / name), "--", "ssh", "crane")
        ran = enthesis(*words, at=crane)
        assert ran.code == 2 and says in ran.err, ran.err
    text = (crane / "estate.yaml").read_text()
    key = " ".join((crane.parent / "authority.pub").read_text().split()[:2])
    place = write_estate(tmp_path / "unsaid", {"estate.yaml": text.replace(f', key: "{key}"', "")})
    ran = enthesis(*lend(ROSA, crane), "true", at=place)
    assert ran.code == 2 and f'write it at the issuer: key: "{key}"' in ran.err
    other = enthesis("lend", ROSA, "--authority", str(crane.parent / "authority"), "--", "ssh", "crane", at=crane)
    assert other.code == 2 and "--for ACCOUNT/host/NAME" in other.err
    program_of_ours = enthesis(*lend(ROSA, crane)[:-2], "sh", "-c", "true", at=crane)
    assert program_of_ours.code == 2 and "does not log in at a host" in program_of_ours.err

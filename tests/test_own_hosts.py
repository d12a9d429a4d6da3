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

from enthesis.connectors.ssh_keys import fingerprint, read_certificate
from enthesis_lab.logins import program

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
    key, user, port = key_in(folder, "authority"), getpass.getuser(), free_port()
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
    with running(etc, port, folder / "sshd.log"):
        yield estate


@contextmanager
def running(etc: Path, port: int, log: Path) -> Iterator[None]:
    """A server with the settings of a folder that stands for /etc/ssh."""
    settings = (etc / "sshd_config").read_text().replace("/etc/ssh", str(etc))
    more = {"Port": port, "ListenAddress": "127.0.0.1", "HostKey": etc / "host", "PidFile": "none", "UsePAM": "no",
            "StrictModes": "no", "LogLevel": "VERBOSE"}  # fmt: skip
    (etc / "running").write_text(settings + "".join(f"{name} {value}\n" for name, value in more.items()))
    if os.geteuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)
    command = [program(), "-D", "-f", str(etc / "running"), "-E", str(log)]
    with subprocess.Popen(command, cwd="/", stdin=subprocess.DEVNULL) as server:
        try:
            deadline = time.monotonic() + 15
            while not log.exists() or ("Server listening" not in log.read_text() and time.monotonic() < deadline):
                time.sleep(0.02)
            yield
        finally:
            server.send_signal(signal.SIGTERM)


def free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


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
    nearly = (datetime.now(UTC) + timedelta(seconds=10)).strftime("%Y-%m-%dT%H:%M:%SZ")
    place = write_estate(tmp_path / "nearly", {"estate.yaml": text.replace("2099-01-01T00:00:00Z", nearly)})
    words = [*lend(ROSA, crane)[:-2], str(shown), "crane"]
    assert enthesis(*words, at=place).code == 1  # no certificate outlives its grant
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


# -- a host that was set up by hand ---------------------------------------------------------------------------------


def hand_made(folder: Path, user: str) -> dict[str, tuple[str, ...]]:
    """A copy of /etc/ssh that somebody set up, with keys that stay; what a client may show, by what is told of it."""
    etc = folder / "etc"
    for inner in ("principals", "keys", "more.d"):
        (etc / inner).mkdir(parents=True)
    for name in ("rosa", "old", "stranger", "wide"):
        key_in(folder, name)
    authorities = {name: key_in(folder, name) for name in ("authority", "other", "third")}
    key_in(etc, "host")
    (etc / "more.d" / "10.conf").write_text("PasswordAuthentication no\n")
    (etc / "sshd_config").write_text(
        "# by hand\nInclude /etc/ssh/more.d/*.conf\nPasswordAuthentication yes\nKbdInteractiveAuthentication no\n"
        "TrustedUserCAKeys /etc/ssh/taken.pub\n"
        "AuthorizedKeysFile /etc/ssh/keys/%u\nAuthorizedPrincipalsFile = /etc/ssh/principals/%u\n"
    )
    (etc / "taken.pub").write_text(f"{authorities['authority']}\n{authorities['other']}\n")
    (etc / "principals" / user).write_text(f"# who\n{HOST}\nadmins\n")
    keys = [f'{options}{(folder / f"{name}.pub").read_text()}' for name, options in (
        ("rosa", ""), ("old", 'expiry-time="20200101",no-pty '), ("third", "cert-authority "))]  # fmt: skip
    (etc / "keys" / user).write_text("# keys\n" + "".join(keys))
    shown: dict[str, tuple[str, ...]] = {name: (name,) for name in ("rosa", "old", "stranger")}
    for number, (authority, name) in enumerate(
        (("authority", HOST), ("authority", "admins"), ("authority", "nobody"), ("other", HOST), ("third", user))
    ):
        made = f"shown-{number}"
        key_in(folder, made)
        keygen("-s", folder / authority, "-I", made, "-n", name, "-V", "+10m", folder / f"{made}.pub")
        shown[f"{authority} {name}"] = (made, f"{made}-cert.pub")
    return shown


def test_what_a_copy_of_a_host_says_is_what_its_server_does(enthesis: Program, tmp_path: Path) -> None:
    user, port = getpass.getuser(), free_port()
    shown = hand_made(tmp_path, user)
    etc = tmp_path / "etc"
    key = " ".join((tmp_path / "authority.pub").read_text().split()[:2])
    text = ESTATE.format(key=key, port=port, user=user, until="2099-01-01T00:00:00Z")
    estate = write_estate(tmp_path / "yard", {"estate.yaml": text})
    before = {path: path.read_bytes() for path in etc.rglob("*") if path.is_file()}
    surveyed = enthesis("survey", "--host", f"{HOST}={etc}", at=estate)
    assert surveyed.code == 3 and surveyed.err.startswith("Partial survey"), surveyed.err
    told = "\n".join(line for line in surveyed.out.splitlines() if '"section"' not in line or "credentials" in line)

    def prints(name: str) -> str:
        return fingerprint((tmp_path / f"{name}.pub").read_text())

    opens = {
        "rosa": prints("rosa") in told,
        "old": prints("old") in told,
        "stranger": prints("stranger") in told,
        f"authority {HOST}": True,  # which grants decide about
        "authority admins": "certificates for admins allow logins as" in told,
        "authority nobody": "nobody" in told,
        f"other {HOST}": f"accepts certificates of the authority {prints('other')}" in told,
        f"third {user}": f"logins as {user} with certificates of the authority {prints('third')}" in told,
    }
    with running(etc, port, tmp_path / "sshd.log"):
        for name, files in shown.items():
            options = [f"-oCertificateFile={tmp_path / file}" for file in files[1:]]
            ran = subprocess.run(
                ["ssh", "-F", "none", "-oStrictHostKeyChecking=no", "-oUserKnownHostsFile=/dev/null", "-oBatchMode=yes",
                 "-oIdentitiesOnly=yes", "-oIdentityAgent=none", *options, f"-i{tmp_path / files[0]}", f"-p{port}",
                 f"{user}@127.0.0.1", "true"],
                check=False, capture_output=True, text=True, timeout=30,
            )  # fmt: skip
            assert (ran.returncode == 0) == opens[name], (name, ran.stderr)
    assert sum(opens.values()) == 5

    adopted = enthesis("survey", "adopt", HOST, "--host", f"{HOST}={etc}", at=estate)
    assert adopted.code == 3 and f"Adopted in part from {HOST}: 1 credential." in adopted.err, adopted.err
    written = (estate / "estate.yaml").read_text()
    assert written.startswith(text.rstrip("\n")) and prints("rosa") in written and "form: key-pair" in written
    again = enthesis("survey", "adopt", HOST, "--host", f"{HOST}={etc}", at=estate)
    assert "nothing that was not described" in again.err and (estate / "estate.yaml").read_text() == written
    assert all(path.read_bytes() == data for path, data in before.items())
    assert "endless-key" in enthesis("sweep", at=estate).out


def test_a_host_that_is_as_described_has_nothing_to_take_over(enthesis: Program, tmp_path: Path) -> None:
    key = key_in(tmp_path, "authority")
    text = ESTATE.format(key=key, port=22, user="ops", until="2099-01-01T00:00:00Z")
    estate = write_estate(tmp_path / "yard", {"estate.yaml": text})
    assert enthesis("propose", "--manifests", str(tmp_path / "written"), at=estate).code == 0
    copy = f"{HOST}={tmp_path / 'written' / 'yard-host-crane'}"
    surveyed = enthesis("survey", "--host", copy, at=estate)
    assert surveyed.code == 0 and '"finding"' not in surveyed.out, surveyed.out
    adopted = enthesis("survey", "adopt", HOST, "--host", copy, at=estate)
    assert adopted.code == 0 and (estate / "estate.yaml").read_text() == text, adopted.err


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [
        ("sshd_config", "Match User ops\nPasswordAuthentication yes\n", "logins by password as ops"),
        ("sshd_config", "AuthorizedKeysCommand /bin/who\n", "a program says which"),
        (
            "sshd_config",
            "AuthorizedPrincipalsCommand /bin/who\nTrustedUserCAKeys /etc/ssh/gone\n",
            "it is not in the copy",
        ),
        ("sshd_config", "Include /opt/*.conf\n", "they are not in the copy"),
        ("sshd_config", "Include sshd_config\n", ""),
        ("sshd_config", "TrustedUserCAKeys /etc/ssh/../../../etc/passwd\n", "it is not in the copy"),
        ("sshd_config", "AuthorizedKeysFile /etc/ssh/keys/%u\n", "this is not a public key in the format of OpenSSH"),
        ("sshd_config", "AuthorizedKeysFile .ssh/authorized_keys\n", "the copy is of /etc/ssh alone"),
        ("sshd_config", "AuthorizedKeysFile /srv/keys/%u\n", "the files /srv/keys/%u"),
        ("sshd_config", "AuthorizedKeysFile /etc/ssh/shared\n", "allows logins as any user without an end"),
        (
            "sshd_config",
            "TrustedUserCAKeys /etc/ssh/shared\nAuthorizedPrincipalsFile %h/.names\n",
            "the file %h/.names",
        ),
        (
            "sshd_config",
            "TrustedUserCAKeys /etc/ssh/shared\nAuthorizedPrincipalsFile /etc/ssh/names\n",
            "for admins allow",
        ),
        ("sshd_config", "KbdInteractiveAuthentication yes\nUsePAM yes\n", "logins by prompt"),
        ("sshd_config", "KbdInteractiveAuthentication yes\n", ""),  # nobody prompts without PAM
        ("other", "", "has no sshd_config"),
    ],
)
def test_a_copy_that_is_not_whole_says_so(
    enthesis: Program, tmp_path: Path, name: str, content: str, says: str
) -> None:
    (tmp_path / "keys").mkdir()
    (tmp_path / "keys" / "ops").write_text('\x1b[31mssh-nonsense "\n')
    key_in(tmp_path, "own")
    (tmp_path / "shared").write_text((tmp_path / "own.pub").read_text())
    (tmp_path / "names").write_text("admins\n")
    usual = "AuthorizedKeysFile none\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n"
    (tmp_path / name).write_text(content + usual)
    ran = enthesis("survey", "--host", f"{HOST}={tmp_path}", at=tmp_path)
    assert ran.code == (2 if name == "other" else 3 if says else 0), ran.err
    assert says in ran.out + ran.err and "\x1b" not in ran.out + ran.err
    if name == "other":
        assert ran.out == ""


def test_a_hostile_copy_neither_leads_out_nor_stops_the_reading(enthesis: Program, tmp_path: Path) -> None:
    keys = tmp_path / "copy" / "keys"
    keys.mkdir(parents=True)
    (keys / "loop").symlink_to("loop")
    (keys / "out").symlink_to("/etc/passwd")
    os.mkfifo(keys / "pipe")
    (keys / "folder").mkdir()
    (keys / "big").write_bytes(b"a" * 9_000_000)
    (keys / "odd").write_bytes(
        b'\xff ssh-rsa AAAA\x00 x\nssh-ed25519 AAAAC3Nz\n"open ssh-ed25519 AAAAC3NzaC1lZDI1NTE5 \x1b[1m\n'
    )
    settings = (
        "AuthorizedKeysFile /etc/ssh/keys/%u", "PasswordAuthentication no", "KbdInteractiveAuthentication no",
        "Include /etc/ssh/[", "Include keys", "TrustedUserCAKeys /etc/ssh/keys/odd",
    )  # fmt: skip
    (tmp_path / "copy" / "sshd_config").write_text("\n".join(settings))
    ran = enthesis("survey", "--host", f"{HOST}={tmp_path / 'copy'}", at=tmp_path)
    assert ran.code == 3 and "root:" not in ran.out and "\x1b" not in ran.out + ran.err, ran.err
    for name in ("loop", "out", "pipe", "folder", "big"):
        assert f"/etc/ssh/keys/{name} at {HOST}: it is not in the copy, or cannot be read" in ran.err, name
    assert "line 2 of /etc/ssh/keys/odd" in ran.err

    home = tmp_path / "whole"
    (home / "etc" / "ssh").mkdir(parents=True)
    (home / "etc" / "ssh" / "sshd_config").write_text("AuthorizedKeysFile %h/../../../etc/passwd relative/%u\n")
    (home / "etc" / "passwd").write_text(
        "a:x:0:0:root:relative:/bin/sh\nbad\n:x:0:0::/n:/bin/sh\nb:x:1:1::/h:/bin/sh\n"
    )
    ran = enthesis("survey", "--host", f"{HOST}={home}", at=tmp_path)
    assert ran.code == 3 and "/h/../../../etc/passwd at" in ran.err, ran.err

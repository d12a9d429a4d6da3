"""Forty set-ups of a real OpenSSH server, each with the same logins tried: every way in is in a survey of a copy of its
files or named as not read, and none is invented."""

import json
import os
import shutil
import signal
import subprocess
import time
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

from enthesis.connectors.host_fetching import other_paths
from enthesis.connectors.ssh_keys import fingerprint
from enthesis_lab.logins import program

from .conftest import LONG, Program
from .test_own_hosts import free_port, key_in, keygen

HOST = "yard/host/crane"
WORD = "made-up-word"
PASSWD = """\
root:x:0:0:root:/root:/bin/sh
sshd:x:74:65534::/run/sshd:/usr/sbin/nologin
plain:x:2001:2001::/home/plain:/bin/sh
other:x:2002:2002::/home/other:/bin/sh
quiet:x:2003:2003::/home/quiet:/usr/sbin/nologin
locked:x:2004:2004::/home/locked:/bin/sh
blank:x:2005:2005::/home/blank:/bin/sh
"""
GROUP = (
    "root:x:0:\nplain:x:2001:\nother:x:2002:\nquiet:x:2003:\nlocked:x:2004:\nblank:x:2005:\nstaff:x:3000:other,quiet\n"
)
USERS = ("root", "plain", "other", "quiet", "locked", "blank")
HERE, THERE = "127.0.0.1", "127.0.0.2"
NO_WORDS = "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"


@dataclass(frozen=True)
class SetUp:
    """Settings, further files below the copy (`{key}` is the plain key of who tries), and options of the keys."""

    settings: str
    files: Mapping[str, str] = field(default_factory=dict)
    options: str = ""
    words: bool = False  # whether passwords are on, too


KEYS = ".ssh/authorized_keys"
CLOSED = 255  # what the client ends with where the server closes the connection
SET_UPS: Mapping[str, SetUp] = {
    "as it comes": SetUp(""),
    "two files": SetUp("AuthorizedKeysFile .ssh/none /etc/ssh/keys/%u\n", {"etc/ssh/keys/plain": "{key}"}),
    "blanks": SetUp('AuthorizedKeysFile ".ssh/my keys"\n', {"home/plain/.ssh/my keys": "{key}"}),
    "blanks and another": SetUp('AuthorizedKeysFile "/etc/ssh/some keys" .ssh/x\n', {"etc/ssh/some keys": "{key}"}),
    "by home": SetUp("AuthorizedKeysFile %h/.k\n", {"home/other/.k": "{key}"}),
    "no files": SetUp("AuthorizedKeysFile none\n"),
    "no keys": SetUp("PubkeyAuthentication no\n"),
    "a user without": SetUp("Match User plain\n  PubkeyAuthentication no\n"),
    "users by pattern": SetUp("Match User p*,o*\n  PubkeyAuthentication no\n"),
    "all but one": SetUp("Match User !plain,*\n  PubkeyAuthentication no\n"),
    "a group's own": SetUp("Match Group staff\n  AuthorizedKeysFile /etc/ssh/staff\n", {"etc/ssh/staff": "{key}"}),
    "a group without": SetUp("Match Group staff\n  PubkeyAuthentication no\n"),
    "an address": SetUp(f"Match Address {THERE}\n  PubkeyAuthentication no\n"),
    "all but an address": SetUp(f"PubkeyAuthentication no\nMatch Address {THERE}/32\n  PubkeyAuthentication yes\n"),
    "an address and a user": SetUp(f"Match Address {THERE} User plain\n  PubkeyAuthentication no\n"),
    "allowed users": SetUp("AllowUsers plain\n"),
    "allowed from there": SetUp(f"AllowUsers plain@{THERE} other\n"),
    "denied users": SetUp("DenyUsers plain\nDenyUsers o*\n"),
    "denied from there": SetUp(f"DenyUsers plain@{THERE}\n"),
    "allowed groups": SetUp("AllowGroups staff\n"),
    "denied groups": SetUp("DenyGroups staff\n"),
    "no root": SetUp("PermitRootLogin no\n"),
    "root by commands": SetUp("PermitRootLogin forced-commands-only\n"),
    "root by commands, commanded": SetUp("PermitRootLogin forced-commands-only\n", options='command="true" '),
    "root by words": SetUp("PermitRootLogin yes\n", words=True),
    "root by keys": SetUp("PermitRootLogin prohibit-password\n", words=True),
    "words": SetUp("", words=True),
    "empty words": SetUp("PermitEmptyPasswords yes\n", words=True),
    "words for one": SetUp(f"{NO_WORDS}Match User plain\n  PasswordAuthentication yes\n", words=True),
    "keys alone": SetUp("AuthenticationMethods publickey\n", words=True),
    "words alone": SetUp("AuthenticationMethods password\n", words=True),
    "keys and words": SetUp("AuthenticationMethods publickey,password\n", words=True),
    "prompts without anybody to ask": SetUp("KbdInteractiveAuthentication yes\n"),
    "revoked": SetUp("RevokedKeys /etc/ssh/revoked\n", {"etc/ssh/revoked": "{key}"}),
    "included": SetUp("Include /etc/ssh/more.d/*.conf\nPubkeyAuthentication yes\n",
                      {"etc/ssh/more.d/1.conf": "PubkeyAuthentication no\n"}),
    "included for one": SetUp("Match User plain\n  Include more.conf\n",
                              {"etc/ssh/more.conf": "PubkeyAuthentication no\n"}),
    "a match ends with its file": SetUp("Include more.conf\nPubkeyAuthentication no\n",
                                        {"etc/ssh/more.conf": "Match User plain\n  PubkeyAuthentication yes\n"}),
    "the first counts": SetUp("PubkeyAuthentication no\nPubkeyAuthentication yes\n"),
    "written otherwise": SetUp("\tpUBKEYauthentication =  \"no\"\n"),
    "ended": SetUp("", options='expiry-time="20200101" '),
    "not ended": SetUp("", options='no-pty,expiry-time="29990101Z" '),
    "from there": SetUp("", options=f'from="{THERE}" '),
    "an authority": SetUp("", options="cert-authority "),
    "a program": SetUp("AuthorizedKeysFile none\nAuthorizedKeysCommand /etc/ssh/says\nAuthorizedKeysCommandUser root\n",
                       {"etc/ssh/says": "#!/bin/sh\necho '{key}'\n"}),
    "kerberos without a key": SetUp("GSSAPIAuthentication yes\n"),
    "hosts without a list": SetUp("HostbasedAuthentication yes\n"),
    "certificates": SetUp("AuthorizedKeysFile none\nTrustedUserCAKeys /etc/ssh/authority.pub\n"),
    "certificates by name": SetUp(
        "AuthorizedKeysFile none\nTrustedUserCAKeys /etc/ssh/authority.pub\n"
        "AuthorizedPrincipalsFile /etc/ssh/names/%u\n", {"etc/ssh/names/other": "plain\n"}),
}  # fmt: skip
SHORT = ("as it comes", "blanks", "a group's own", "all but an address", "allowed from there", "root by keys",
         "empty words", "keys and words", "revoked", "a match ends with its file", "ended", "from there", "a program",
         "certificates by name")  # fmt: skip
HOW = ("key", "word", "nothing", "certificate")


@dataclass
class Place:
    """A copy of a host's files, and the keys of who tries to log in."""

    copy: Path
    keys: Path

    @property
    def key(self) -> str:
        return (self.keys / "own.pub").read_text().strip()


def furnished(folder: Path, keys: Path, made: SetUp) -> Place:
    place = Place(folder, keys)
    ssh = folder / "etc" / "ssh"
    ssh.mkdir(parents=True)
    (folder / "etc" / "passwd").write_text(PASSWD)
    (folder / "etc" / "group").write_text(GROUP)
    hashed = subprocess.run(
        ["openssl", "passwd", "-6", WORD], check=True, capture_output=True, text=True
    ).stdout.strip()
    fields = dict.fromkeys(USERS, hashed) | {"locked": f"!{hashed}", "blank": ""}
    (folder / "etc" / "shadow").write_text(
        "".join(f"{name}:{one}:19000:0:99999:7:::\n" for name, one in fields.items())
    )
    (ssh / "sshd_config").write_text(("" if made.words else NO_WORDS) + made.settings)
    shutil.copy(keys / "authority.pub", ssh / "authority.pub")
    for number, name in enumerate(USERS):
        home = folder / ("root" if name == "root" else f"home/{name}")
        (home / ".ssh").mkdir(parents=True)
        (home / KEYS).write_text(f"{made.options}{place.key}\n")
        for path in (home, home / ".ssh", home / KEYS):
            os.chown(path, 0 if name == "root" else 2000 + number, 0 if name == "root" else 2000 + number)
    for file, text in made.files.items():
        path = folder / file
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text.replace("{key}", place.key))
        path.chmod(0o755 if text.startswith("#!") else 0o644)
    for path in (folder, *folder.parents):
        if path.stat().st_uid == os.geteuid() and path.stat().st_mode & 0o005 != 0o005:
            path.chmod(path.stat().st_mode | 0o755)
    return place


@contextmanager
def served(place: Place) -> Iterator[int]:
    """The port of the real server with these files in the place of this machine's, in a view of the file system of its
    own."""
    binds = [f"mount --bind {place.copy / 'etc' / name} /etc/{name}" for name in ("passwd", "group", "shadow", "ssh")]
    binds += [f"mount --bind {place.copy / name} /{name}" for name in ("home", "root")]
    Path("/run/sshd").mkdir(exist_ok=True)
    for _ in range(5):  # a port may be taken by a client before it is listened at
        port = free_port()
        log = place.keys / f"log-{port}"
        options = (f"-p {port} -h {place.keys / 'host'} -o ListenAddress={HERE} -o ListenAddress={THERE} "
                   "-o PidFile=none -o LogLevel=VERBOSE -o MaxStartups=100 -o LoginGraceTime=10")  # fmt: skip
        command = ["unshare", "-m", "sh", "-c", " && ".join([*binds, f"exec {program()} -D {options} -E {log}"])]
        with subprocess.Popen(command, cwd="/", stdin=subprocess.DEVNULL) as server:
            try:
                deadline = time.monotonic() + 15
                while not is_ready(log) and server.poll() is None and time.monotonic() < deadline:
                    time.sleep(0.02)
                if is_ready(log):
                    yield port
                    return
            finally:
                server.send_signal(signal.SIGTERM)
    raise AssertionError("the server did not start")


def is_ready(log: Path) -> bool:
    """Whether the server listens at both addresses."""
    return log.exists() and log.read_text().count("Server listening") == 2


def opens(place: Place, port: int, user: str, how: str, address: str) -> bool:
    """Whether the server takes this login, by what the client says."""
    own = {
        "key": ["-i", str(place.keys / "own")],
        "certificate": ["-i", str(place.keys / "shown"), f"-oCertificateFile={place.keys / 'shown-cert.pub'}"],
    }
    methods = {"key": "publickey", "certificate": "publickey", "word": "password", "nothing": "none"}[how]
    words = ["ssh", "-v", "-F", "none", "-oStrictHostKeyChecking=no", "-oUserKnownHostsFile=/dev/null", f"-p{port}",
             "-oIdentitiesOnly=yes", "-oIdentityAgent=none", f"-oPreferredAuthentications={methods}",
             "-oNumberOfPasswordPrompts=1", "-b", address, *own.get(how, ["-oPubkeyAuthentication=no"]),
             f"{user}@{address}", "true"]  # fmt: skip
    environment = {
        **os.environ,
        "SSH_ASKPASS": str(place.keys / "says"),
        "SSH_ASKPASS_REQUIRE": "force",
        "DISPLAY": ":0",
    }
    ran = subprocess.run(words, env=environment, capture_output=True, text=True, check=False, timeout=60)
    return "Authenticated to" in ran.stderr and ran.returncode != CLOSED


def told(records: Sequence[Mapping[str, Any]], place: Place, user: str, how: str, address: str) -> bool:
    """Whether the survey says that this login is let in."""
    findings = [one["says"] for one in records if "finding" in one]
    prints = {name: fingerprint((place.keys / f"{name}.pub").read_text()) for name in ("own", "shown")}
    mine = prints["shown" if how == "certificate" else "own"]
    keys = [one for one in findings if mine in one and f" as {user} " in one and " besides" not in one]
    if how in ("key", "certificate") and any(is_from(one, address) for one in keys):
        return True
    empty = [one for one in findings if f"the empty password of {user}" in one]
    words = [one for one in records if one.get("left_out") == f"logins by password as {user} at {HOST}"]
    both = [*empty, *(one["why"] for one in words if how == "word")]
    return any(is_from(one, address) for one in both)


def is_from(says: str, address: str) -> bool:
    """Whether a way is open from an address, as it is told."""
    if "but not from" in says:
        return address not in says.split("but not from", 1)[1]
    return " alone" not in says or f"from {address} alone" in says


def named(records: Sequence[Mapping[str, Any]], how: str, user: str) -> bool:
    """Whether the survey names something that it did not read, by which this login may be let in."""
    found = [one["left_out"] for one in records if "left_out" in one]
    if how == "certificate":
        return any("certificates" in one for one in found)
    return any("the keys that are let in" in one for one in found) if how == "key" else False


@pytest.fixture(scope="module")
def keys(tmp_path_factory: pytest.TempPathFactory) -> Path:
    if os.geteuid() != 0 or subprocess.run(["unshare", "-m", "true"], check=False, capture_output=True).returncode != 0:
        pytest.skip("a server with other users than this machine's needs a view of the file system of its own")
    folder = tmp_path_factory.mktemp("keys")
    for name in ("own", "host", "authority", "shown"):
        key_in(folder, name)
    keygen("-s", folder / "authority", "-I", "made-up", "-n", "plain", "-V", "+1h", folder / "shown.pub")
    (folder / "says").write_text(f"#!/bin/sh\necho {WORD}\n")
    (folder / "says").chmod(0o755)
    return folder


@pytest.mark.parametrize("name", SET_UPS if LONG else SHORT)
def test_each_way_in_is_told_or_named_and_none_is_invented(
    enthesis: Program, keys: Path, tmp_path: Path, name: str
) -> None:
    place = furnished(tmp_path / "copy", keys, SET_UPS[name])
    ran = enthesis("survey", "--host", f"{HOST}={place.copy}", at=tmp_path)
    assert ran.code in (0, 3), ran.err
    records = [json.loads(line) for line in ran.out.splitlines()]
    tries = [(user, how, address) for user in USERS for how in HOW for address in (HERE, THERE)]
    with served(place) as port, ThreadPoolExecutor(4) as pool:
        results = list(pool.map(lambda one: opens(place, port, *one), tries))
    for (user, how, address), opened in zip(tries, results, strict=True):
        said = told(records, place, user, how, address)
        assert said or not opened or named(records, how, user), f"{user} comes in by {how} from {address}"
        assert opened or not said or how == "certificate", f"{user} does not come in by {how} from {address}"


def test_a_running_host_is_read_as_a_copy_of_it_is(enthesis: Program, keys: Path, tmp_path: Path) -> None:
    files = {"home/keys/other": "{key}", "etc/ssh/more.d/1.conf": "MaxAuthTries 4\n"}
    text = "Include more.d/*.conf\nAuthorizedKeysFile .ssh/authorized_keys /home/keys/%u\nPermitEmptyPasswords yes\n"
    made = SetUp(text, files, words=True)
    place = furnished(tmp_path / "copy", keys, made)
    (place.copy / "etc" / "ssh" / "ssh_host_ed25519_key").write_text("nobody else's")
    (tmp_path / "ssh").write_text(
        f"#!/bin/bash\nset -o pipefail\n/usr/bin/ssh -F none -i {keys / 'own'} -oStrictHostKeyChecking=no "
        f'-oUserKnownHostsFile=/dev/null "$@" | tee -a {tmp_path / "sent"}\n'
    )
    (tmp_path / "ssh").chmod(0o755)
    way = {"PATH": f"{tmp_path}:{os.environ['PATH']}"}
    with served(place) as port:
        live = enthesis("survey", "--host", f"{HOST}=ssh://root@{HERE}:{port}", at=tmp_path, **way)
        other = enthesis("survey", "--host", f"{HOST}=ssh://plain@{HERE}:{port}", at=tmp_path, **way)
        nobody = enthesis("survey", "--host", f"{HOST}=ssh://nobody@{HERE}:{port}", at=tmp_path, **way)
    copied = enthesis("survey", "--host", f"{HOST}={place.copy}", at=tmp_path)
    told = [sorted(line for line in ran.out.splitlines() if '"finding"' in line) for ran in (live, copied)]
    assert live.code == copied.code == 3 and told[0] == told[1] and len(told[0]) >= 5, live.err
    assert any("/home/other/.ssh/authorized_keys" in one for one in told[0])
    assert any("the empty password of blank" in one for one in told[0])
    lacking = [sorted(line for line in ran.out.splitlines() if '"left_out"' in line) for ran in (live, copied)]
    assert lacking[0] == lacking[1] and f"logins by password as plain at {HOST}" in live.out
    assert f"logins by password as locked at {HOST}" not in live.out
    assert b"$6$" not in (tmp_path / "sent").read_bytes() and b"plain:set" in (tmp_path / "sent").read_bytes()
    assert f'"at":"ssh://root@{HERE}:{port}"' in live.out and "nobody else's" not in live.out
    assert "files that only some may see" in other.out and "files that only some may see" not in live.out
    assert nobody.code == 3 and "did not let us in" in nobody.err
    for url in ("ssh://", "ssh://-oProxyCommand=x", "ssh://a:b@c", "ssh://a/b"):
        wrong = enthesis("survey", "--host", f"{HOST}={url}", at=tmp_path)
        assert wrong.code == 2 and "does not name a host" in wrong.err, wrong.err


def test_what_is_fetched_besides_is_named_so_that_it_is_only_names(tmp_path: Path) -> None:
    (tmp_path / "etc" / "ssh").mkdir(parents=True)
    (tmp_path / "etc" / "ssh" / "sshd_config").write_text(
        "AuthorizedKeysFile /PATHS -C/x /srv/%u/keys /proc/1/environ\n"
    )
    (tmp_path / "etc" / "passwd").write_text(
        "a:x:1:1::/PATHS:/bin/sh\nb:x:2:2::/-T:/bin/sh\nc:x:3:3::relative:/bin/sh\n"
    )
    found = other_paths(tmp_path)
    assert {"./PATHS", "./srv", "./PATHS/.ssh/authorized_keys", "./-T/-C/x"} <= set(found)
    assert all(one.startswith("./") and "\n" not in one and not one.startswith("./proc") for one in found)


def test_the_set_ups_are_forty_and_let_some_in_and_others_not() -> None:
    assert len(SET_UPS) >= 40 and set(SHORT) <= set(SET_UPS)

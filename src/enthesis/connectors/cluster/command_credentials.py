"""Credentials that a command gives, which a kubeconfig names in an `exec` entry: run when needed, and again in time.

Kubernetes documentation, "Authenticating", client-go credential plugins; client.authentication.k8s.io, v1 and v1beta1.
Nothing that the command gives is kept or shown; a private key passes through a file that no longer exists at once.
"""

import json
import os
import signal
import ssl
import subprocess
import sys
import tempfile
import threading
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from enthesis.model.errors import InvalidInput, Unreachable
from enthesis.model.secrets import Secret, redacted

VERSIONS = ("client.authentication.k8s.io/v1", "client.authentication.k8s.io/v1beta1")
MODES = ("Never", "IfAvailable", "Always")
EXTENSION = "client.authentication.k8s.io/exec"  # of a cluster's entry: what the command is told about it besides
SECONDS, SECONDS_ASKING = 60, 600  # that a command has: alone, and where it may ask a person
AHEAD = timedelta(seconds=30)  # of its end, a credential is asked for anew
LONGEST_WORD = 20  # characters of a word that a command says, and that is surely no secret
MAX_SAID = 1024 * 1024  # bytes
TOLD_OF_CLUSTER = (
    "server", "tls-server-name", "insecure-skip-tls-verify", "certificate-authority-data", "proxy-url",
    "disable-compression",
)  # fmt: skip
HONOURED = ("apiVersion", "command", "args", "env", "installHint", "provideClusterInfo", "interactiveMode")


@dataclass(frozen=True, slots=True)
class _Given:
    """What one run of the command gave. `ends` is None where it lasts as long as this program."""

    token: Secret | None
    ends: datetime | None


class CommandCredential:
    """What the command of an `exec` entry gives: a token, a client certificate (which goes into `tls`), or both.

    `file` is the kubeconfig; a command with a `/` in it is found from its folder. Safe to use from several threads.
    """

    def __init__(
        self,
        entry: Mapping[str, Any],
        cluster: Mapping[str, Any],
        file: Path,
        tls: ssl.SSLContext,
        environment: Mapping[str, str] = os.environ,
    ) -> None:
        self.file, self.tls, self.environment = file, tls, environment
        self.command = _text(entry, "command", file)
        self.version = entry.get("apiVersion")
        if self.version not in VERSIONS:
            raise _wrong(file, f"apiVersion {self.version} (expected {' or '.join(VERSIONS)})")
        unknown = [name for name, value in entry.items() if name not in HONOURED and value not in (None, "")]
        if unknown:
            raise _wrong(file, f"{', '.join(map(str, unknown))}, which is not honoured here")
        self.args = _listed(entry.get("args"), file, "args")
        self.hint = str(entry.get("installHint") or "")
        self.mode = entry.get("interactiveMode") or "IfAvailable"
        if self.mode not in MODES:
            raise _wrong(file, f"interactiveMode {self.mode} (expected {', '.join(MODES)})")
        self.cluster = _told_of(cluster) if entry.get("provideClusterInfo") else None
        self.added = _added(entry.get("env"), file)
        self._lock = threading.Lock()
        self._given: _Given | None = None

    def token(self) -> Secret | None:
        """The token; None where the command gives a certificate alone. It is run where nothing it gave still lasts.

        Unreachable where it fails or gives nothing.
        """
        with self._lock:
            ends = self._given.ends if self._given is not None else None
            if self._given is None or (ends is not None and datetime.now(UTC) >= ends - AHEAD):
                self._given = self._read(self._run())
            return self._given.token

    def _run(self) -> bytes:
        interactive = self._interactive()
        spec = {"interactive": interactive, **({"cluster": self.cluster} if self.cluster is not None else {})}
        told = json.dumps({"apiVersion": self.version, "kind": "ExecCredential", "spec": spec})
        path = str(self.file.parent.resolve() / self.command) if os.sep in self.command else self.command
        try:
            process = subprocess.Popen(  # noqa: S603  the user's own kubeconfig names it
                [path, *self.args],
                env={**self.environment, **self.added, "KUBERNETES_EXEC_INFO": told},
                stdin=None if interactive else subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=None if interactive else subprocess.PIPE,
                process_group=None if interactive else 0,  # a group of its own could not read from the terminal
            )
        except FileNotFoundError:
            raise self._failed(f"there is no such command{f'; {self.hint}' if self.hint else ''}") from None
        except OSError as fault:
            raise self._failed(f"it cannot be run: {fault.strerror}") from None
        with process:
            try:
                said, complained = process.communicate(timeout=SECONDS_ASKING if interactive else SECONDS)
            except BaseException as ended:  # too late, or interrupted: with all that it started, where it may be alone
                with suppress(ProcessLookupError):
                    process.kill() if interactive else os.killpg(process.pid, signal.SIGKILL)
                if isinstance(ended, subprocess.TimeoutExpired):
                    raise self._failed(f"it did not end within {ended.timeout:.0f} s") from None
                raise
        if process.returncode:
            first = (complained or b"").decode(errors="replace").strip().partition("\n")[0]
            raise self._failed(f"exit {process.returncode}{f': {first}' if first else ''}")
        return said

    def _interactive(self) -> bool:
        """Whether the command may ask a person: it may, and there is a terminal to ask at."""
        terminal = sys.stdin is not None and sys.stdin.isatty()
        if self.mode == "Always" and not terminal:
            raise self._failed("it asks a person, and standard input is no terminal")
        return self.mode != "Never" and terminal

    def _read(self, said: bytes) -> _Given:
        try:
            read = json.loads(said) if len(said) <= MAX_SAID else None
        except (ValueError, RecursionError):
            read = None
        if not isinstance(read, dict) or not isinstance(status := read.get("status"), dict):
            raise self._failed("what it says is not an ExecCredential with a status")
        if read.get("kind") != "ExecCredential" or read.get("apiVersion") != self.version:
            raise self._failed(f"it answers {read.get('kind')} of {read.get('apiVersion')}, not of {self.version}")
        token = status.get("token")
        pair = [status.get(name) for name in ("clientCertificateData", "clientKeyData")]
        texts = [one for one in (token, *pair) if one is not None]
        if not all(isinstance(text, str) for text in texts) or not any(texts) or bool(pair[0]) != bool(pair[1]):
            raise self._failed("it gives neither a token nor a certificate with its key")
        if pair[0]:
            self._show("".join(map(str, pair)))
        return _Given(Secret(token) if token else None, self._end(status.get("expirationTimestamp")))

    def _show(self, pem: str) -> None:
        """Puts the certificate with its key where connections made from now on show it."""
        Secret(pem)  # so that no text that is shown ever holds it
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "certificate"
            place.touch(mode=0o600)
            place.write_text(pem, encoding="utf-8")
            try:
                self.tls.load_cert_chain(place)
            except (OSError, ValueError):
                raise self._failed("the certificate that it gives cannot be used") from None

    def _end(self, text: object) -> datetime | None:
        if text is None:
            return None
        try:
            found = datetime.fromisoformat(str(text))
        except ValueError:
            found = datetime.min
        if found.tzinfo is None:
            raise self._failed("it says no time (RFC 3339) at which its credential ends")
        return found

    def _failed(self, why: str) -> Unreachable:
        told = _without_long_words(redacted(why))[:300]
        return Unreachable(
            f"the command {self.command} that {self.file} names gave no credential: {told}",
            code="kubeconfig-command-failed",
        )


def _wrong(file: Path, what: str) -> InvalidInput:
    return InvalidInput(f"the exec entry in {file} says {what}", code="kubeconfig-not-honoured")


def _text(entry: Mapping[str, Any], name: str, file: Path) -> str:
    found = entry.get(name)
    if not isinstance(found, str) or not found:
        raise _wrong(file, f"no {name}")
    return found


def _listed(found: Any, file: Path, name: str) -> list[str]:
    if found is None:
        return []
    if not isinstance(found, list) or not all(isinstance(one, str) for one in found):
        raise _wrong(file, f"{name} that are no list of texts")
    return found


def _added(found: Any, file: Path) -> dict[str, str]:
    """The variables that an entry adds to the environment."""
    entries = found or []
    if not isinstance(entries, list) or not all(
        isinstance(one, dict) and isinstance(one.get("name"), str) and isinstance(one.get("value"), str)
        for one in entries
    ):
        raise _wrong(file, "env that is no list of names and values")
    return {one["name"]: one["value"] for one in entries}


def _told_of(cluster: Mapping[str, Any]) -> dict[str, Any]:
    """What a command is told about the cluster, where its entry asks for that."""
    told = {name: cluster[name] for name in TOLD_OF_CLUSTER if cluster.get(name)}
    for extension in cluster.get("extensions") or ():
        if isinstance(extension, dict) and extension.get("name") == EXTENSION:
            told["config"] = extension.get("extension")
    return told


def _without_long_words(text: str) -> str:
    """The text without what may be a secret: any long word but a path, or an address without its query."""
    words = []
    for name in text.split():
        plain = name.partition("?")[0] if name.startswith("https://") else name
        words.append(plain if len(plain) <= LONGEST_WORD or plain.startswith(("https://", "/")) else "···")
    return " ".join(words)

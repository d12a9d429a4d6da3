"""A host that is logged in at with OpenSSH's client: a fresh key each time, certified for minutes and this host alone.

The client wants files, so key and certificate stand in a folder of their own that only we can read, for as long as the
client runs. The host proves itself by a certificate of its authority, so that no prompt asks about a fingerprint.
"""

import select
import subprocess
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from urllib.parse import unquote, urlsplit

from enthesis.connectors.host_log import OTHERWISE, reason_in
from enthesis.model.errors import InvalidInput, Unreachable
from enthesis.model.vocabulary import VerdictStep
from enthesis.ports import CertifiesLogins, Done, HeldCredential, Joined, Refusal, ServiceHere, Surroundings

SECONDS = 10  # for a connection to be made
LONGEST = 30  # seconds for a login and what is done with it
REFUSED = 255  # what the client exits with when it could not log in
CLIENTS = ("ssh", "scp", "sftp")
DENIED = "Permission denied"


class OpenShell:
    """A login at a host that is open; what is sent there comes back."""

    ended_by = "a cut-off ends it, and the host, where that ends sessions in which nothing is done"

    def __init__(self, process: "subprocess.Popen[bytes]", stack: ExitStack) -> None:
        self.process = process
        self.stack = stack

    def goes_on(self) -> bool:
        """Whether a line comes back within a moment."""
        assert self.process.stdin is not None and self.process.stdout is not None  # noqa: S101  as it was started
        try:
            self.process.stdin.write(b"\n")
            self.process.stdin.flush()
        except OSError:
            return False
        ready = select.select([self.process.stdout], [], [], SECONDS)[0]
        return bool(ready) and self.process.stdout.readline() == b"\n"

    def close(self) -> None:
        """Ends it."""
        self.stack.close()


def _ended(process: "subprocess.Popen[bytes]") -> None:
    process.terminate()
    process.communicate()


class LoginHost:
    """One host. `known` is the file that says whom it proves itself by; `log` its server's, where that may be read."""

    def __init__(self, name: str, url: str, known: Path, log: Path | None = None) -> None:
        parts = urlsplit(url)
        self.name = name
        self.host = parts.hostname or ""
        self.port = parts.port or 22
        self.user = unquote(parts.path.lstrip("/"))
        self.known = known
        self.log = log

    def log_in(self, provider: CertifiesLogins, session: HeldCredential, asked: Surroundings) -> Done | Refusal:
        """Logs in, does nothing, and logs out. Unreachable where that shows nothing of access."""
        with self.ready(provider, session, asked) as options:
            if isinstance(options, Refusal):
                return options
            return self.tried(options)

    def opened(self, provider: CertifiesLogins, session: HeldCredential, asked: Surroundings) -> "OpenShell | Refusal":
        """A login that stays open, doing nothing. Unreachable where none comes about."""
        with ExitStack() as stack:
            options = stack.enter_context(self.ready(provider, session, asked))
            if isinstance(options, Refusal):
                return options
            command = ["ssh", *options, self.host, "cat"]
            process = subprocess.Popen(  # noqa: S603  our own options
                command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
            )
            stack.callback(_ended, process)
            door = OpenShell(process, stack)
            if not door.goes_on():
                raise Unreachable(f"{self.name} ended a login at once", code="unreachable")
            door.stack = stack.pop_all()
            return door

    def tried(self, options: Sequence[str]) -> Done | Refusal:
        """A login with these options of the client."""
        said_before = self._log_size()
        command = ["ssh", *options, self.host, "true"]
        try:
            done = subprocess.run(command, capture_output=True, text=True, timeout=LONGEST, check=False)  # noqa: S603
        except FileNotFoundError:
            raise InvalidInput(
                "the client of OpenSSH is not installed",
                code="program-not-run",
                remedy="apt-get install openssh-client",
            ) from None
        except subprocess.TimeoutExpired:
            raise Unreachable(f"{self.name} did not answer in time", code="timeout") from None
        if done.returncode == 0:
            return Done(f"logged in as {self.user}, and out again")
        said = next((line.strip() for line in reversed(done.stderr.splitlines()) if line.strip()), "no reason given")
        if done.returncode != REFUSED or DENIED not in done.stderr:
            raise Unreachable(f"{self.name} cannot be logged in at: {said}", code="unreachable")
        return self._refusal(said_before)

    def command(self, words: Sequence[str], options: Sequence[str]) -> list[str]:
        """A command of OpenSSH's clients with the options that reach this host, whatever it calls it; InvalidInput for
        any other program."""
        if Path(words[0]).name not in CLIENTS:
            raise InvalidInput(
                f"{words[0]} does not log in at a host (expected {', '.join(CLIENTS)})",
                code="program-not-run",
                remedy=f"enthesis lend … --for {self.name} -- ssh {self.name.rsplit('/', 1)[1]}",
            )
        return [words[0], *options, *words[1:]]

    @contextmanager
    def ready(
        self, provider: CertifiesLogins, session: HeldCredential, asked: Surroundings
    ) -> "Iterator[list[str] | Refusal]":
        """Options with which the client logs in while this lasts, or the refusal of a certificate."""
        # loads cryptography
        from enthesis.connectors.ssh_keys import fresh_key  # noqa: PLC0415

        private, public = fresh_key()
        certificate = provider.login_certificate(session, self.name, public, asked)
        if isinstance(certificate, Refusal):
            yield certificate
            return
        with self.files(private, certificate) as options:
            yield options

    @contextmanager
    def files(self, private: bytes, certificate: str) -> Iterator[list[str]]:
        """Options with which the client shows a key and its certificate."""
        with tempfile.TemporaryDirectory(prefix="enthesis-login-") as place:
            key, certified = Path(place) / "key", Path(place) / "key-cert.pub"
            for path, content in ((key, private), (certified, f"{certificate}\n".encode())):
                path.touch(mode=0o600)
                path.write_bytes(content)
            settings = {
                "IdentityFile": key, "CertificateFile": certified, "IdentitiesOnly": "yes", "IdentityAgent": "none",
                "BatchMode": "yes", "StrictHostKeyChecking": "yes", "UserKnownHostsFile": self.known,
                "GlobalKnownHostsFile": "/dev/null", "ConnectTimeout": SECONDS, "LogLevel": "ERROR",
                "PreferredAuthentications": "publickey", "User": self.user, "Port": self.port, "HostName": self.host,
            }  # fmt: skip
            yield ["-F", "none", *(word for name, value in settings.items() for word in ("-o", f"{name}={value}"))]

    def _log_size(self) -> int:
        try:
            return self.log.stat().st_size if self.log is not None else 0
        except OSError:
            return 0

    def _refusal(self, since: int) -> Refusal:
        """Why a login was refused, by what the server's log says since then."""
        try:
            with self.log.open("rb") if self.log is not None else open("/dev/null", "rb") as log:  # noqa: PTH123
                log.seek(since)
                said = log.read().decode(errors="replace")
        except OSError:
            said = ""
        step, reason = reason_in(said) or (VerdictStep.TARGET_SIDE, OTHERWISE)
        return Refusal((step,), reason)


def joined(service: ServiceHere) -> Joined:
    """A host that is logged in at; its access is the folder with its keys and its log."""
    place = Path(service.access)
    host = LoginHost(service.name, service.url, place / "known_hosts", place / "sshd.log")
    return {"logins": {service.name: host}}

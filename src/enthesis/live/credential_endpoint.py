"""Runs a program with a lent credential: in its environment, or at a loopback endpoint that renews it.

The endpoint speaks as a host's metadata service does, so that a program need not know where it runs. Nothing is written
to disk, and nothing stands among a program's arguments.
"""

import json
import os
import secrets
import signal
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any, NoReturn

from enthesis.live.variables import AUTHORITY, LENDER, METADATA, PROVIDER, SECRETS, SESSION
from enthesis.model.errors import EnthesisError, InvalidInput
from enthesis.ports import HeldCredential

HOST = "127.0.0.1"
MAX_BODY = 65_536  # bytes
FORWARDING = ("forwarded", "via", "x-real-ip", "client-ip", "true-client-ip")
PASSED_ON = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGQUIT, signal.SIGUSR1, signal.SIGUSR2)

Obtain = Callable[[], "HeldCredential"]
Clock = Callable[[], datetime]


@dataclass(frozen=True)
class Lent:
    """What a program is run with: as whom, the first credential, and what else it needs to be of use."""

    identity: str
    credential: HeldCredential
    provider_url: str = ""
    authority: str = ""
    more: Mapping[str, str] = field(default_factory=dict)  # variables with which it logs in elsewhere too
    now: Clock = lambda: datetime.now(UTC)  # by the clock of the system that the credential is for

    def environment(self) -> dict[str, str]:
        """The program's environment: ours, without the credentials that we came by."""
        more = {"ENTHESIS_IDENTITY": self.identity}
        if self.provider_url:
            more[PROVIDER] = self.provider_url
        if self.authority:
            more[AUTHORITY] = self.authority
        return {**_without_credentials(), **more, **self.more}


def run_with_variable(command: Sequence[str], lent: Lent) -> NoReturn:
    """Becomes the program: signals reach it and its exit code is ours. InvalidInput where there is none."""
    become(command, {**lent.environment(), **_held(lent, lent.credential.secret.reveal())})


def run_with(command: Sequence[str], lent: Lent, session: str, url: str) -> int:
    """Runs the program with this for a session, which is good at this url alone; the program's exit code."""
    environment = {**lent.environment(), **_held(lent, session), PROVIDER: url}
    environment.pop(AUTHORITY, None)
    return _run(command, environment)


def _held(lent: Lent, session: str) -> dict[str, str]:
    ends = lent.now().replace(microsecond=0) + lent.credential.life
    return {SESSION: session, f"{SESSION}_ENDS": ends.isoformat()}


def become(command: Sequence[str], environment: Mapping[str, str]) -> NoReturn:
    """Becomes another program; InvalidInput where there is none."""
    sys.stdout.flush()
    sys.stderr.flush()
    try:
        os.execvpe(command[0], list(command), dict(environment))  # noqa: S606  the user's own program
    except OSError as fault:
        raise _not_run(command[0], fault) from None


def run_with_endpoint(command: Sequence[str], lent: Lent, obtain: Obtain) -> int:
    """Runs the program beside an endpoint that hands out the credential and renews it; the program's exit code."""
    keeper = Keeper(lent, obtain)
    server = _server(keeper)
    url = f"http://{HOST}:{server.server_address[1]}/{keeper.word}"
    with listening(server):
        return _run(command, {**lent.environment(), METADATA: url})


@contextmanager
def listening(server: ThreadingHTTPServer) -> Iterator[None]:
    """A server answers for as long as this does."""
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield
    finally:
        server.shutdown()
        server.server_close()


def run_beside(command: Sequence[str]) -> int:
    """Runs a program and waits for it, signals passed on to it; its exit code. InvalidInput where there is none."""
    return _run(command, _without_credentials())


def _without_credentials() -> dict[str, str]:
    """Our environment, without the credentials that we came by."""
    return {name: value for name, value in os.environ.items() if name not in SECRETS and name != METADATA}


def _run(command: Sequence[str], environment: Mapping[str, str]) -> int:
    try:
        process = subprocess.Popen(list(command), env=dict(environment))  # noqa: S603  the user's own program
    except OSError as fault:
        raise _not_run(command[0], fault) from None
    of_terminal = (signal.SIGINT, signal.SIGQUIT) if os.isatty(0) else ()

    def pass_on(number: int, frame: Any) -> None:
        if number not in of_terminal:  # a terminal sends these to the program itself
            process.send_signal(number)

    before = {number: signal.signal(number, pass_on) for number in PASSED_ON}
    try:
        code = process.wait()
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
    return code if code >= 0 else 128 - code  # as shells say that a signal ended it


def _not_run(program: str, fault: OSError) -> Exception:
    return InvalidInput(f"{program} cannot be run: {fault.strerror}", code="program-not-run")


class Keeper:
    """Holds the credential, and gets the next one when half of its life is over."""

    def __init__(self, lent: Lent, obtain: Obtain) -> None:
        self.identity = lent.identity
        self.obtain = obtain
        self.now = lent.now
        self.word = secrets.token_urlsafe(24)  # who has not been told it is not the program
        self._lock = threading.Lock()
        self._took(lent.credential)

    def _took(self, credential: HeldCredential) -> None:
        self._credential = credential
        self._began = self.now()

    def handed(self) -> dict[str, Any]:
        """The answer to a request for a session; an EnthesisError where none can be had any more."""
        with self._lock:
            life = self._credential.life
            if self.now() >= self._began + life / 2:
                try:
                    self._took(self.obtain())
                except EnthesisError:
                    if self.now() >= self._began + life:
                        raise
            left = self._began + self._credential.life - self.now()
            renew = max(timedelta(0), left - self._credential.life / 2)
            return {
                "access_token": self._credential.secret.reveal(),
                "token_type": "Bearer",
                "expires_in": int(left.total_seconds()),
                "renew_in": int(renew.total_seconds()),
                "identity": self.identity,
                "host": LENDER,
            }


def _server(keeper: Keeper) -> ThreadingHTTPServer:
    class Answers(BaseHTTPRequestHandler):
        def log_message(self, format: str, *args: Any) -> None:  # noqa: A002  the name that the base class has
            """Says nothing: the address is a secret."""

        def do_GET(self) -> None:
            if self._is_asked_rightly("about"):
                self._answer(200, {"host": LENDER, "identities": [{"address": keeper.identity}]})

        def do_POST(self) -> None:
            if not self._is_asked_rightly("session"):
                return
            length = self.headers.get("content-length", "0")
            try:
                body = json.loads(self.rfile.read(min(int(length), MAX_BODY)) or b"{}")
                wanted = body.get("identity", keeper.identity)
            except (ValueError, AttributeError, RecursionError):
                self._answer(400, {"detail": "the body is not a JSON object"})
                return
            if wanted != keeper.identity:
                self._answer(403, {"detail": f"only {keeper.identity} is lent here", "refused_at": ["target-side"]})
                return
            try:
                self._answer(200, keeper.handed())
            except EnthesisError as fault:
                self._answer(503, {"detail": fault.message})

        def _is_asked_rightly(self, what: str) -> bool:
            headers = {name.lower() for name in self.headers}
            named = self.headers.get("host", "").rsplit(":", 1)[0] == HOST
            carried = any(header in FORWARDING or header.startswith("x-forwarded-") for header in headers)
            if not named or carried or self.headers.get("asked-directly") != "yes":
                self._answer(403, {"detail": "not asked directly"})
                return False
            if not secrets.compare_digest(self.path.encode(), f"/{keeper.word}/{what}".encode()):
                self._answer(404, {"detail": "there is nothing here"})
                return False
            return True

        def _answer(self, status: int, body: Mapping[str, Any]) -> None:
            content = json.dumps(body).encode()
            self.send_response(status)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(content)))
            self.send_header("Cache-Control", "no-store")
            self.end_headers()
            self.wfile.write(content)

    return ThreadingHTTPServer((HOST, 0), Answers)

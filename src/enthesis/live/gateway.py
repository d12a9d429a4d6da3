"""A gateway (RFC 9110, section 3.7) on loopback between one program and a provider: each request is judged as if
another caller made it, before it is passed on with the credential that it is really made with.

The program never holds that credential: it has a word that means something here alone. What the gateway cannot read is
not judged, and said to be so.
"""

import json
import secrets
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from enum import Enum
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any, NamedTuple
from urllib.parse import parse_qsl, urlencode

from enthesis.live.credential_endpoint import HOST, listening
from enthesis.model.errors import EnthesisError
from enthesis.model.estate import Attempt
from enthesis.model.secrets import Secret
from enthesis.ports import PassesOn, Passing

MAX_BODY = 16_777_216  # bytes
METHODS = ("GET", "PUT", "POST", "DELETE", "PATCH", "HEAD", "OPTIONS")
OF_ONE_CONNECTION = (
    "connection", "keep-alive", "proxy-authenticate", "proxy-authorization", "proxy-connection", "te", "trailer",
    "transfer-encoding", "upgrade",
)  # fmt: skip
"""RFC 9110, section 7.6.1: what is about one connection, and is not passed on."""
MADE_ANEW = (*OF_ONE_CONNECTION, "host", "authorization", "content-length", "content-encoding", "accept-encoding",
             "date", "server", "expect")  # fmt: skip
REWRITTEN = ("location", "link", "www-authenticate")

Asked = Attempt | str
Judged = Callable[[Sequence[str], Asked], str]
"""Why a caller who came by these hops would be refused what is asked; '' where it would be let in."""


class Here(Enum):
    """What became of a request here."""

    DONE = "done"
    REFUSED = "refused"
    STOPPED = "stopped"  # by the bound
    FAILED = "failed"


@dataclass(frozen=True)
class PassedRequest:
    """A request of the program: what it asked in words, why the other caller would be refused ('' if it would not),
    and what became of it. `known` is False where it could not be judged."""

    what: str
    why: str
    here: Here
    known: bool = True


class _Session(NamedTuple):
    shown: Secret
    hops: tuple[str, ...]


class Gateway:
    """Passes requests on to one provider. With `bounded`, what the other caller would be refused, and what is not
    known, is refused here too."""

    def __init__(self, provider: PassesOn, first: Secret, judged: Judged, *, bounded: bool) -> None:
        self._provider = provider
        self._judged = judged
        self._bounded = bounded
        self._lock = threading.Lock()
        self._sessions: dict[str, _Session] = {}
        self.word = self._named(_Session(first, ()))
        self.url = ""
        self.seen: list[PassedRequest] = []

    @contextmanager
    def open(self) -> Iterator[None]:
        """Listens, at `url`."""
        server = _server(self, path := secrets.token_urlsafe(24))
        self.url = f"http://{HOST}:{server.server_address[1]}/{path}"
        with listening(server):
            yield

    def answer(self, request: Passing) -> Passing:
        """What a request of the program is answered with."""
        request, session = self._meant(request)
        asked = self._provider.asked(request)
        what = _in_words(asked) if asked is not None else f"{request.method} {request.path.partition('?')[0]}"
        why, known = "", True
        if session is not None and asked is not None:
            with self._lock:  # what judges keeps what it has worked out
                why = self._why(session.hops, asked)
        else:
            known = self._provider.is_for_everybody(request)
        if self._bounded and (why or not known):
            self.seen.append(PassedRequest(what, why, Here.STOPPED, known))
            return _problem(403, why or "this is no request that can be judged, so it is not passed on")
        return self._passed(request, session, asked, PassedRequest(what, why, Here.DONE, known))

    def _why(self, hops: Sequence[str], asked: Asked) -> str:
        try:
            return self._judged(hops, asked)
        except EnthesisError as fault:  # a name that cannot be one
            return fault.message

    def _passed(self, request: Passing, session: _Session | None, asked: Asked | None, seen: PassedRequest) -> Passing:
        counts = asked is not None or not seen.known
        try:
            answer = self._provider.passed_on(request, session.shown if session is not None else None)
        except EnthesisError as fault:
            if counts:
                self.seen.append(PassedRequest(seen.what, seen.why, Here.FAILED, seen.known))
            return _problem(502, fault.message)
        refused = answer.status in (400, 401, 403)
        if counts:
            self.seen.append(PassedRequest(seen.what, seen.why, Here.REFUSED if refused else Here.DONE, seen.known))
        if isinstance(asked, str) and session is not None and not refused:
            answer = self._kept(answer, _Session(Secret(""), (*session.hops, asked)))
        return self._as_from_here(answer)

    # -- what is sent, and what comes back -----------------------------------------------------------------------

    def _meant(self, request: Passing) -> tuple[Passing, _Session | None]:
        """A request as the provider is to get it, and the session that it shows, at the head or in a form; None where
        it shows two, since which one counts is not known here."""
        found: list[_Session] = []
        form, word = request.headers.get("content-type", "").partition(";")[0].strip().lower(), ""
        said = request.headers.get("authorization", "").split(maxsplit=1)
        if len(said) == 2 and said[0].lower() == "bearer":
            word = said[1].strip()
        content = request.content
        if form == "application/x-www-form-urlencoded":
            pairs = []
            for name, value in parse_qsl(content.decode(errors="replace"), keep_blank_values=True):
                named = self._sessions.get(value)
                if named is not None:
                    found.append(named)
                pairs.append((name, named.shown.reveal() if named is not None else self._there(value)))
            content = urlencode(pairs).encode()
        if word in self._sessions:
            found.append(self._sessions[word])
        session = found[0] if len(set(found)) == 1 else None
        headers = {name: self._there(value) for name, value in request.headers.items() if name not in MADE_ANEW}
        return Passing(headers, content, request.method, request.path), session

    def _there(self, text: str) -> str:
        return text.replace(self.url, self._provider.url)

    def _as_from_here(self, answer: Passing) -> Passing:
        """An answer with the addresses of here instead of the provider's, so that the program comes back."""
        there, here = self._provider.url, self.url
        headers = {
            name: value.replace(there, here) if name in REWRITTEN else value
            for name, value in answer.headers.items()
            if name not in MADE_ANEW
        }
        content = answer.content
        if "json" in answer.headers.get("content-type", ""):
            content = content.replace(there.encode(), here.encode())
        return Passing(headers, content, status=answer.status)

    def _kept(self, answer: Passing, session: _Session) -> Passing:
        """An answer that gives a session, with a word in its place (RFC 8693, section 2.2.1)."""
        with suppress(ValueError, RecursionError, AttributeError):
            said = json.loads(answer.content)
            given = said.get("access_token")
            if isinstance(given, str):
                said["access_token"] = self._named(_Session(Secret(given), session.hops))
                return Passing(answer.headers, json.dumps(said).encode(), status=answer.status)
        return answer

    def _named(self, session: _Session) -> str:
        word = f"here-{secrets.token_urlsafe(24)}"
        self._sessions[word] = session
        return word


def _in_words(asked: Asked) -> str:
    if isinstance(asked, str):
        return f"take-on {asked}"
    return f"{asked.verb} {asked.target}" + (f" to {asked.onto}" if asked.onto else "")


def _problem(status: int, detail: str) -> Passing:
    """RFC 9457."""
    body = {"type": "about:blank", "status": status, "detail": detail}
    return Passing({"content-type": "application/problem+json"}, json.dumps(body).encode(), status=status)


def _server(gateway: Gateway, path: str) -> ThreadingHTTPServer:
    class Answers(BaseHTTPRequestHandler):
        def log_message(self, format: str, *args: Any) -> None:  # noqa: A002  the name that the base class has
            """Says nothing: the address is a secret."""

        def answer(self) -> None:
            """Whatever the method."""
            head, _, rest = self.path.removeprefix("/").partition("/")
            if not secrets.compare_digest(head.encode(), path.encode()):
                self._put(_problem(404, "there is nothing here"))
                return
            length = self.headers.get("content-length", "0")
            if self.headers.get("transfer-encoding") or not (length.isascii() and length.isdigit()):
                self._put(_problem(411, "say how long the body is (Content-Length)"))
                return
            if int(length) > MAX_BODY:
                self._put(_problem(413, f"the body is longer than {MAX_BODY} bytes"))
                return
            headers = {name.lower(): value for name, value in self.headers.items()}
            self._put(gateway.answer(Passing(headers, self.rfile.read(int(length)), self.command, f"/{rest}")))

        def _put(self, answer: Passing) -> None:
            self.send_response(answer.status)
            for name, value in answer.headers.items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(answer.content)))
            self.end_headers()
            if self.command != "HEAD":
                self.wfile.write(answer.content)

    for method in METHODS:
        setattr(Answers, f"do_{method}", Answers.answer)
    return ThreadingHTTPServer((HOST, 0), Answers)


def told(seen: Sequence[PassedRequest]) -> Mapping[str, list[PassedRequest]]:
    """What of it fails as the other caller (`fails`), what only it may (`more`), and what is not known (`unknown`);
    each thing once."""
    once = list(dict.fromkeys(seen))
    return {
        "fails": [one for one in once if one.why],
        "more": [one for one in once if one.known and not one.why and one.here is Here.REFUSED],
        "unknown": [one for one in once if not one.known],
    }

"""The shared HTTP client of all connectors: time-outs, size caps, no redirects, every fault mapped, no secret shown."""

import json
import math
import os
import socket
import ssl
import threading
import time
import zlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime
from functools import partial, wraps
from inspect import isgeneratorfunction
from pathlib import Path
from types import TracebackType
from typing import Any, ParamSpec, TypeVar
from urllib.parse import quote, urlsplit

import httpx
from msgspec.json import decode
from tenacity import (
    RetryCallState,
    Retrying,
    retry_if_exception_type,
    retry_if_result,
    stop_after_attempt,
    stop_before_delay,
    wait_exponential,
    wait_random,
)
from tenacity.stop import stop_base

from enthesis.model.errors import RightMissing, UnexpectedAnswer, Unreachable
from enthesis.model.secrets import Secret, redacted
from enthesis.model.urls import is_safe_url
from enthesis.ports import Surroundings
from enthesis.tokens.discovery import discovered

Parameters = ParamSpec("Parameters")
Given = TypeVar("Given")
TIMEOUT = httpx.Timeout(20.0, connect=5.0)  # seconds
MAX_ANSWER = 32 * 1024 * 1024  # bytes
MAX_SECONDS = 300.0  # for one whole answer, however slowly it drips
MAX_PAGES = 100_000
MOST_EMPTY = 10  # pages in a row that bring nothing
PACKED = ("gzip", "x-gzip", "deflate")  # what is asked for, and understood
SAFE = ("GET", "HEAD")  # methods that change nothing, so that a request may be sent again
PASSING = (429, 502, 503, 504)  # statuses of an answer that a later try may not get
FAULT = 500  # a status that may pass, and as often does not
KEYED = "Idempotency-Key"  # the header that makes a change one that may be sent again
ATTEMPTS, AFTER_FAULTS = 12, 8
KEPT = 8  # connections whose sockets are known
FIRST_WAIT, LONGEST_WAIT = 0.1, 5.0  # seconds between two tries
LONGEST_SAID = 20.0  # seconds that a service may ask to be left alone


EVER_LONGER = wait_exponential(multiplier=FIRST_WAIT, exp_base=1.5, max=LONGEST_WAIT) + wait_random(0, FIRST_WAIT)


NOT_UNDERSTOOD = (KeyError, TypeError, AttributeError, ValueError, IndexError, OverflowError, RecursionError)
"""What reading an answer of another shape than was agreed ends in."""


def understood(port: Callable[Parameters, Given]) -> Callable[Parameters, Given]:
    """A method of a port, with whatever an answer of the wrong shape ends in told as an UnexpectedAnswer.

    For a method that yields, for as long as it does. The method's object has a `name`.
    """

    @wraps(port)
    def method(*args: Parameters.args, **more: Parameters.kwargs) -> Given:
        with _read(args[0]):
            return port(*args, **more)

    @wraps(port)
    def yielding(*args: Parameters.args, **more: Parameters.kwargs) -> Iterator[Any]:
        with _read(args[0]):
            yield from port(*args, **more)  # type: ignore[misc]

    return yielding if isgeneratorfunction(port) else method  # type: ignore[return-value]


@contextmanager
def _read(connector: Any) -> Iterator[None]:
    try:
        yield
    except NOT_UNDERSTOOD as fault:
        who = getattr(connector, "name", None) or getattr(getattr(connector, "client", None), "who", "it")
        raise UnexpectedAnswer(
            f"{who} answered with content that is not understood", code="answer-not-understood"
        ) from fault


DATED_TO = timedelta(seconds=2)  # a date is cut off to the second, and an answer takes a moment


@dataclass(frozen=True)
class HttpAnswer:
    """A whole answer; `links` are its Link relations (RFC 8288)."""

    status: int
    headers: Mapping[str, str]
    content: bytes
    links: Mapping[str, str] = field(default_factory=dict)

    def json(self, who: str) -> dict[str, Any]:
        """The JSON object in it; UnexpectedAnswer where there is none."""
        try:
            value = decode(self.content)
        except (ValueError, RecursionError):
            raise UnexpectedAnswer(
                f"{who} answered {self.status} with content that is not JSON", code="answer-not-understood"
            ) from None
        if not isinstance(value, dict):
            raise UnexpectedAnswer(
                f"{who} answered {self.status} with content that is not a JSON object", code="answer-not-understood"
            )
        return value


class _Deadlines:
    """One thread that does something at a time, for as many requests as there are: a thread for each would cost as much
    as a request."""

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._waiting: dict[object, tuple[float, Callable[[], None]]] = {}
        self._wakes = math.inf
        self._process = 0  # in which the thread runs; a forked copy has none

    def at(self, when: float, do: Callable[[], None]) -> object:
        """Does it at a time, unless that is called off by what is answered."""
        token = object()
        with self._changed:
            self._waiting[token] = (when, do)
            if self._process != os.getpid():
                self._process, self._waiting = os.getpid(), {token: (when, do)}
                threading.Thread(target=self._run, daemon=True).start()
            elif when < self._wakes:
                self._changed.notify()
        return token

    def off(self, token: object) -> None:
        """Calls it off."""
        with self._changed:
            self._waiting.pop(token, None)

    def _run(self) -> None:
        while True:
            with self._changed:
                self._wakes = min((when for when, _ in self._waiting.values()), default=math.inf)
                left = self._wakes - time.monotonic()
                if left > 0:
                    self._changed.wait(min(left, threading.TIMEOUT_MAX))
                    continue
                due = [token for token, (when, _) in self._waiting.items() if when <= time.monotonic()]
                todo = [self._waiting.pop(token)[1] for token in due]
            for do in todo:
                do()


_DEADLINES = _Deadlines()


class _Watch:
    """Ends a request whose answer drips: the connections of its client are shut down when the time is over."""

    def __init__(self, client: "Client", ends: float) -> None:
        self.over = False
        self._client = client
        self._ends = ends
        self._token: object = None

    def __enter__(self) -> None:
        self._token = _DEADLINES.at(self._ends, self._end)

    def __exit__(self, *ended: object) -> None:
        _DEADLINES.off(self._token)

    def note(self, event: str, about: Mapping[str, Any]) -> None:
        """Takes note of a connection as it is made, which httpx tells of by its `trace` extension."""
        if event.endswith(("connect_tcp.complete", "start_tls.complete")):
            found = about["return_value"].get_extra_info("socket")
            if found is not None:
                self._client.sockets = [*self._client.sockets[-KEPT:], found]
                if self.over:
                    self._end()

    def _end(self) -> None:
        self.over = True
        for one in self._client.sockets:
            with suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)


def _kind_of(fault: httpx.HTTPError) -> type[Unreachable]:
    """Whether a connection was cut before a request, lost after it, or never there."""
    if isinstance(fault, httpx.ReadError | httpx.WriteError | httpx.RemoteProtocolError):
        return _Lost
    causes = _causes(fault) if isinstance(fault, httpx.ConnectError) else ()
    return _Cut if any(isinstance(cause, CUT) for cause in causes) else Unreachable


def _causes(fault: BaseException) -> Iterator[BaseException]:
    """What led to a fault, the nearest first."""
    following = fault.__cause__ or fault.__context__
    while following is not None:
        yield following
        following = following.__cause__ or following.__context__


def _may_yet_answer(answer: HttpAnswer) -> bool:
    return answer.status in PASSING


def _may_yet_be_done(answer: HttpAnswer) -> bool:
    return answer.status in (*PASSING, FAULT)


class _KeepsFailing(stop_base):
    """Stops once a fault of the server itself is answered after enough tries."""

    def __call__(self, retry_state: RetryCallState) -> bool:
        outcome = retry_state.outcome
        fault = outcome is not None and not outcome.failed and outcome.result().status == FAULT
        return fault and retry_state.attempt_number >= AFTER_FAULTS


CUT = (ssl.SSLEOFError, ssl.SSLZeroReturnError, ConnectionResetError, ConnectionAbortedError)


class _Lost(Unreachable):
    """A connection was lost before the whole answer had come."""


class _Cut(_Lost):
    """A connection was cut before anything was asked over it, so that asking again is the first time."""


class _Late(Unreachable):
    """No answer came in time."""


def _waiting(state: RetryCallState) -> float:
    """Seconds until the next try: as the answer says (RFC 9110, section 10.2.3), within bounds, else ever longer."""
    outcome = state.outcome
    said = "" if outcome is None or outcome.failed else outcome.result().headers.get("retry-after", "")
    if said.isascii() and said.isdigit():
        return min(float(said), LONGEST_SAID)
    return float(EVER_LONGER(state))


def _last(state: RetryCallState) -> Any:
    """The last answer, or the last failure."""
    assert state.outcome is not None  # noqa: S101  there was a try
    return state.outcome.result()


@dataclass(frozen=True)
class Connection:
    """How a server is reached: all that TLS needs, headers that go with every request, the name that its certificate is
    for, where that is not its host, and the url of a proxy. `after_faults`: what changes nothing is asked again, too,
    where the server says that it has failed itself."""

    context: ssl.SSLContext | None = None
    headers: tuple[tuple[str, str], ...] = ()
    server_name: str = ""
    proxy: str = ""
    after_faults: bool = False


def surrounding(asked: Surroundings) -> dict[str, str]:
    """Where a request says it comes from (RFC 7239), and the reference that was agreed with a third party, as headers
    of a lab's services."""
    headers = {}
    if asked.network is not None:
        quoted = f'"[{asked.network}]"' if ":" in asked.network else asked.network
        headers["Forwarded"] = f"for={quoted}"
    if asked.reference is not None:
        headers["Agreed-Reference"] = quote(asked.reference, safe="")
    return headers


def trusting(url: str, authority: Path | None = None, *, data: str | None = None) -> ssl.SSLContext:
    """What a server proves itself by: a file of PEM or its content, else all that this machine trusts, which is loaded
    only where something is to be proved. Unreachable where the file cannot be used."""
    if authority is None and data is None and url.startswith("http://"):
        return ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)  # which trusts nobody
    try:
        return ssl.create_default_context(cafile=str(authority) if authority else None, cadata=data)
    except OSError as fault:
        raise Unreachable(
            f"the certificate in {authority}, by which {url} is to prove itself, cannot be used: {fault.strerror}",
            code="authority-unusable",
            remedy="enthesis lab start writes it again, where it is a lab's",
        ) from None


_MADE: ContextVar["list[Client] | None"] = ContextVar("_MADE", default=None)


@contextmanager
def closing_after() -> Iterator[None]:
    """Closes every client that is made within, for work in a program that goes on afterwards."""
    made: list[Client] = []
    token = _MADE.set(made)
    try:
        yield
    finally:
        _MADE.reset(token)
        for client in made:
            client.close()


class Client:
    """Speaks to one service. `who` is its name for messages; `authority` a PEM file to trust instead of the usual;
    `way` how it is reached, where not as usual.

    `max_answer` (bytes) and `max_seconds` bound each answer, `timeout` each wait for more of it.
    """

    sleep: Callable[[float], None] = staticmethod(time.sleep)

    def __init__(
        self,
        who: str,
        url: str,
        *,
        authority: Path | None = None,
        transport: httpx.BaseTransport | None = None,
        max_answer: int = MAX_ANSWER,
        max_seconds: float = MAX_SECONDS,
        timeout: httpx.Timeout = TIMEOUT,
        way: "Connection | None" = None,
    ) -> None:
        if not is_safe_url(url):
            raise Unreachable(
                f"{who} is at {url}, which is not https", code="not-https", remedy="write its url with https://"
            )
        self.who = who
        self.named = url
        self.url = url.rstrip("/")
        self.origin = "{0.scheme}://{0.netloc}".format(urlsplit(url))
        self.max_answer = max_answer
        self.max_seconds = max_seconds
        self.ahead: timedelta | None = None  # of its clock to this machine's, as its last answer is dated
        way = way or Connection()
        verify = way.context or trusting(self.url, authority)
        self.sockets: list[socket.socket] = []  # of connections that are kept, so that a request can be ended
        may_yet = _may_yet_be_done if way.after_faults else _may_yet_answer
        self._again = Retrying(
            retry=retry_if_result(may_yet) | retry_if_exception_type(_Lost),
            wait=_waiting,
            stop=stop_after_attempt(ATTEMPTS) | stop_before_delay(max_seconds) | _KeepsFailing(),
            sleep=lambda seconds: self.sleep(seconds),  # noqa: PLW0108  looked up when it is called
            retry_error_callback=_last,
        )
        self._keyed = self._again.copy(
            retry=retry_if_result(_may_yet_be_done) | retry_if_exception_type((_Lost, _Late)),
            stop=stop_after_attempt(ATTEMPTS) | stop_before_delay(max_seconds),
        )
        self._unasked = self._again.copy(retry=retry_if_exception_type(_Cut))
        self._client = httpx.Client(
            verify=verify, timeout=timeout, trust_env=False, follow_redirects=False, transport=transport,
            headers=httpx.Headers(list(way.headers)), proxy=way.proxy or None,
        )  # fmt: skip
        self._extensions = {"sni_hostname": way.server_name} if way.server_name else {}
        made = _MADE.get()
        if made is not None:
            made.append(self)

    def __enter__(self) -> "Client":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, fault: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Closes the connections that are kept open."""
        self._client.close()

    def ask(
        self,
        method: str,
        path: str,
        *,
        bearer: Secret | None = None,
        headers: Mapping[str, str] | None = None,
        body: Any = None,
        form: Mapping[str, str] | None = None,
        content: bytes | None = None,
    ) -> HttpAnswer:
        """One request, and again where that changes nothing (RFC 9110, section 9.2.1), or nothing more since it has a
        key, and it may yet be answered.

        All of it within `max_seconds`. Unreachable where no whole answer came; no status is an exception here.
        """
        sent = {"Accept-Encoding": "gzip, deflate", **(headers or {})}
        if bearer is not None:
            sent["Authorization"] = f"Bearer {bearer.reveal()}"
        url = path if path.startswith(self.origin + "/") else self.url + path
        if url is not path and not path.startswith(("/", "?")):  # `@elsewhere` would make another host of it
            raise UnexpectedAnswer(f"{self.who} leads to an address that is not its own", code="answer-leads-elsewhere")
        request = partial(self._asked, method, url, headers=sent, json=body, data=form, content=content)
        if KEYED in sent and method not in SAFE:
            answer = self._keyed(request, time.monotonic() + self.max_seconds)
            if _may_yet_be_done(answer):
                message = f"{self.who} at {self.url} answered {answer.status} again and again: {problem_said(answer)}"
                raise Unreachable(message, code="unreachable")
            return answer
        if method not in SAFE:
            return self._unasked(request, time.monotonic() + self.max_seconds)
        return self._again(request, time.monotonic() + self.max_seconds)

    def _asked(self, method: str, url: str, ends: float, **more: Any) -> HttpAnswer:
        """One request, whose answer must have come by a time."""
        watch = _Watch(self, ends)
        try:
            with (
                watch,
                self._client.stream(method, url, extensions=self._extensions | {"trace": watch.note}, **more) as answer,
            ):
                collected = bytearray()
                read_already = answer.is_stream_consumed  # by a transport that unpacks too
                unpack = self._unpacking("" if read_already else answer.headers.get("content-encoding", ""))
                for chunk in answer.iter_bytes() if read_already else answer.iter_raw():
                    collected += unpack(chunk, self.max_answer + 1 - len(collected))
                    if len(collected) > self.max_answer:
                        raise UnexpectedAnswer(
                            f"{self.who} answered with more than {self.max_answer} bytes", code="answer-too-large"
                        )
                    if time.monotonic() > ends:
                        raise Unreachable(f"{self.who} at {self.url} did not answer in time", code="timeout")
                self.ahead = _ahead(answer.headers.get("date"))
                links = {str(name): str(link.get("url", "")) for name, link in answer.links.items()}
                return HttpAnswer(answer.status_code, dict(answer.headers), bytes(collected), links)
        except httpx.TimeoutException:
            raise _Late(f"{self.who} at {self.url} did not answer in time", code="timeout") from None
        except httpx.HTTPError as fault:
            if watch.over:
                raise Unreachable(f"{self.who} at {self.url} did not answer in time", code="timeout") from None
            message = f"{self.who} at {self.url} cannot be reached: {_reason(fault)}"
            raise _kind_of(fault)(message, code="unreachable") from None
        except (httpx.InvalidURL, UnicodeError, ValueError):
            raise Unreachable(f"{self.who} is at {self.url}, which is not an address", code="url-invalid") from None

    def _unpacking(self, encoding: str) -> Callable[[bytes, int], bytes]:
        """What unpacks the parts of an answer (RFC 9110, section 8.4), none further than is wanted of it."""
        if encoding.strip().lower() in ("", "identity"):
            return lambda chunk, most: chunk
        if encoding.strip().lower() not in PACKED:
            raise UnexpectedAnswer(f"{self.who} packs its answer as {encoding!r}", code="answer-not-understood")
        unpacking = zlib.decompressobj(zlib.MAX_WBITS | 32)  # by its own first bytes

        def unpack(chunk: bytes, most: int) -> bytes:
            try:
                return unpacking.decompress(chunk, most)
            except zlib.error:
                raise UnexpectedAnswer(
                    f"{self.who} answered with content that cannot be unpacked", code="answer-not-understood"
                ) from None

        return unpack

    def get_all(self, path: str, *, bearer: Secret) -> Iterator[dict[str, Any]]:
        """The items of a paged collection, following Link `next` on the same service only."""
        following: str | None = path
        seen, empty = {path}, 0
        for _ in range(MAX_PAGES):
            if following is None:
                return
            answer = self.ask("GET", following, bearer=bearer)
            items = self.expect(answer, 200).json(self.who).get("items")
            if not isinstance(items, list):
                raise UnexpectedAnswer(f"{self.who} answered without a list of items", code="answer-not-understood")
            yield from items
            following = answer.links.get("next")
            empty = 0 if items else empty + 1
            if following in seen or empty > MOST_EMPTY:
                raise UnexpectedAnswer(
                    f"{self.who} goes on with pages that bring nothing", code="answer-not-understood"
                )
            seen.add(following or "")
            if following is not None and not following.startswith(("/", self.url + "/")):
                raise UnexpectedAnswer(
                    f"{self.who} names a next page on another service", code="answer-leads-elsewhere"
                )
        raise UnexpectedAnswer(f"{self.who} has more than {MAX_PAGES} pages", code="answer-too-large")

    def metadata(self, name: str) -> Mapping[str, Any]:
        """What the service says of itself by discovery; UnexpectedAnswer where it says nothing, or is another one."""
        missed: list[HttpAnswer] = []

        def fetch(place: str) -> Mapping[str, Any] | None:
            answer = self.ask("GET", place)
            if answer.status == 200:
                return answer.json(name)
            missed.append(answer)
            return None

        found = discovered(self.named, fetch)
        if found is None:
            self.expect(missed[-1], 200)
        if not found:
            raise UnexpectedAnswer(
                f"{name} at {self.url} says that it is another server", code="server-identity-mismatch"
            )
        return found

    def expect(self, answer: HttpAnswer, *statuses: int) -> HttpAnswer:
        """The answer, if its status is one of these; otherwise what it says, as our own failure."""
        if answer.status in statuses:
            return answer
        said = problem_said(answer)
        if answer.status in (401, 403):
            raise RightMissing(f"{self.who} refused us: {said}", code="right-missing")
        raise UnexpectedAnswer(f"{self.who} answered {answer.status}: {said}", code="answer-unexpected")


def _ahead(dated: str | None) -> timedelta | None:
    """How far ahead of this machine's a clock is by which an answer is dated (RFC 9110, section 6.6.1), to the second;
    None where it is not dated."""
    try:
        found = parsedate_to_datetime(dated or "")
    except ValueError:
        return None
    if found.tzinfo is None:
        return None
    ahead = found - datetime.now(UTC)
    return ahead if abs(ahead) > DATED_TO else timedelta(0)


def problem_said(answer: HttpAnswer) -> str:
    """What an answer says went wrong, in one line of bounded length."""
    try:
        body = json.loads(answer.content)
    except (ValueError, RecursionError):
        return "no reason given"
    if not isinstance(body, dict):
        return "no reason given"
    found = body.get("detail") or body.get("error_description") or body.get("title") or body.get("error")
    return told(found) if found else "no reason given"


def told(said: object) -> str:
    """What a server says, of bounded length; masked before it is cut, since no mask finds half a secret."""
    return redacted(str(said))[:300]


def _reason(fault: httpx.HTTPError) -> str:
    """The fault in words that hold no header and no body."""
    return told(fault) or type(fault).__name__

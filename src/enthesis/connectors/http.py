"""The shared HTTP client of all connectors: time-outs, size caps, no redirects, every fault mapped, no secret shown."""

import json
import ssl
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime
from functools import wraps
from inspect import isgeneratorfunction
from pathlib import Path
from types import TracebackType
from typing import Any, ParamSpec, TypeVar
from urllib.parse import urlsplit

import httpx
import orjson

from enthesis.model.errors import RightMissing, UnexpectedAnswer, Unreachable
from enthesis.ports import Secret

Parameters = ParamSpec("Parameters")
Given = TypeVar("Given")
TIMEOUT = httpx.Timeout(20.0, connect=5.0)  # seconds
MAX_ANSWER = 32 * 1024 * 1024  # bytes
MAX_SECONDS = 300.0  # for one whole answer, however slowly it drips
MAX_PAGES = 100_000
LOOPBACK = ("127.0.0.1", "localhost", "::1")


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
            f"{who} answered with something that is not understood", code="answer-not-understood"
        ) from fault


DATED_TO = timedelta(seconds=2)  # a date is cut off to the second, and an answer takes a moment


def is_safe(url: str) -> bool:
    """Whether an address is spoken to over TLS, or stays on this machine."""
    try:
        parts = urlsplit(url)
        return parts.hostname is not None and (
            parts.scheme == "https" or (parts.scheme == "http" and parts.hostname in LOOPBACK)
        )
    except ValueError:
        return False


@dataclass(frozen=True)
class Answer:
    """A whole answer; `links` are its Link relations (RFC 8288)."""

    status: int
    headers: Mapping[str, str]
    content: bytes
    links: Mapping[str, str] = field(default_factory=dict)

    def json(self, who: str) -> dict[str, Any]:
        """The JSON object in it; UnexpectedAnswer where there is none."""
        try:
            value = orjson.loads(self.content)
        except (ValueError, RecursionError):
            raise UnexpectedAnswer(
                f"{who} answered {self.status} with something that is not JSON", code="answer-not-understood"
            ) from None
        if not isinstance(value, dict):
            raise UnexpectedAnswer(
                f"{who} answered {self.status} with something that is not a JSON object", code="answer-not-understood"
            )
        return value


class Client:
    """Speaks to one service. `who` is its name for messages; `authority` a PEM file to trust instead of the usual, or
    `context` all that TLS needs.

    `max_answer` (bytes) and `max_seconds` bound each answer, `timeout` each wait for more of it.
    """

    def __init__(
        self,
        who: str,
        url: str,
        *,
        authority: Path | None = None,
        context: ssl.SSLContext | None = None,
        transport: httpx.BaseTransport | None = None,
        max_answer: int = MAX_ANSWER,
        max_seconds: float = MAX_SECONDS,
        timeout: httpx.Timeout = TIMEOUT,
    ) -> None:
        if not is_safe(url):
            raise Unreachable(
                f"{who} is at {url}, which is not https", code="not-https", remedy="write its url with https://"
            )
        self.who = who
        self.url = url.rstrip("/")
        self.max_answer = max_answer
        self.max_seconds = max_seconds
        self.ahead: timedelta | None = None  # of its clock to this machine's, as its last answer is dated
        verify = context or ssl.create_default_context(cafile=str(authority) if authority else None)
        self._client = httpx.Client(
            verify=verify, timeout=timeout, trust_env=False, follow_redirects=False, transport=transport
        )

    def __enter__(self) -> "Client":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, fault: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
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
    ) -> Answer:
        """One request. Unreachable where no whole answer came; no status is an exception here."""
        sent = dict(headers or {})
        if bearer is not None:
            sent["Authorization"] = f"Bearer {bearer.reveal()}"
        url = path if path.startswith(self.url + "/") else self.url + path
        try:
            with self._client.stream(method, url, headers=sent, json=body, data=form, content=content) as answer:
                collected = bytearray()
                ends = time.monotonic() + self.max_seconds
                for chunk in answer.iter_bytes():
                    collected += chunk
                    if len(collected) > self.max_answer:
                        raise UnexpectedAnswer(
                            f"{self.who} answered with more than {self.max_answer} bytes", code="answer-too-large"
                        )
                    if time.monotonic() > ends:
                        raise Unreachable(f"{self.who} at {self.url} did not answer in time", code="timeout")
                self.ahead = _ahead(answer.headers.get("date"))
                links = {str(name): str(link.get("url", "")) for name, link in answer.links.items()}
                return Answer(answer.status_code, dict(answer.headers), bytes(collected), links)
        except httpx.TimeoutException:
            raise Unreachable(f"{self.who} at {self.url} did not answer in time", code="timeout") from None
        except httpx.HTTPError as fault:
            raise Unreachable(
                f"{self.who} at {self.url} cannot be reached: {_reason(fault)}", code="unreachable"
            ) from None
        except (httpx.InvalidURL, UnicodeError, ValueError):
            raise Unreachable(f"{self.who} is at {self.url}, which is no address", code="url-invalid") from None

    def get_all(self, path: str, *, bearer: Secret) -> Iterator[dict[str, Any]]:
        """The items of a paged collection, following Link `next` on the same service only."""
        following: str | None = path
        for _ in range(MAX_PAGES):
            if following is None:
                return
            answer = self.ask("GET", following, bearer=bearer)
            items = self.expect(answer, 200).json(self.who).get("items")
            if not isinstance(items, list):
                raise UnexpectedAnswer(f"{self.who} answered without a list of items", code="answer-not-understood")
            yield from items
            following = answer.links.get("next")
            if following is not None and not following.startswith(("/", self.url + "/")):
                raise UnexpectedAnswer(
                    f"{self.who} names a next page on another service", code="answer-leads-elsewhere"
                )
        raise UnexpectedAnswer(f"{self.who} has more than {MAX_PAGES} pages", code="answer-too-large")

    def expect(self, answer: Answer, *statuses: int) -> Answer:
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


def problem_said(answer: Answer) -> str:
    """What an answer says went wrong, in one line of bounded length."""
    try:
        body = json.loads(answer.content)
    except (ValueError, RecursionError):
        return "no reason given"
    if not isinstance(body, dict):
        return "no reason given"
    found = body.get("detail") or body.get("error_description") or body.get("title") or body.get("error")
    return str(found)[:300] if found else "no reason given"


def _reason(fault: httpx.HTTPError) -> str:
    """The fault in words that hold no header and no body."""
    return str(fault)[:200] or type(fault).__name__

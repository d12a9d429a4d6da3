"""Faults of the lab's services, as real ones have them: slow, late, limited, failing, in small pages that shift.

Each is set for a service or an account, or for everything, and for some paths. What is left to chance is drawn from a
seed. They stand in the store, so that they can be changed while the lab runs.
"""

import asyncio
import base64
import binascii
import json
import math
import time
from collections.abc import MutableMapping, Sequence
from dataclasses import asdict, dataclass
from fnmatch import fnmatchcase
from random import Random
from typing import Any

from enthesis_lab.problems import Problem
from enthesis_lab.store import Store

SETTING = "faults"
ERROR, CUT, TIMEOUT = "error", "cut", "time-out"
KINDS = (ERROR, CUT, TIMEOUT)
HELD = 60.0  # seconds that a request is held which is never answered
BY_DEFAULT = (ERROR, CUT)


@dataclass(frozen=True)
class Fault:
    """What is wrong with the requests at `where` (a service, an account or an organisation; '' is everywhere) to paths
    that `route` matches.

    `lag` and `enforcement_lag` are seconds until a change shows when it is read, and until it is enforced, each at the
    most; `slow` is seconds before every answer, `fail` the share of requests that fail in one of the `kinds`, before or
    after they took effect, `limit` the requests per second that are taken, `page` the items on a page. `as_started` is
    when hosts were started (seconds since 1970): what was attached to them later they have from their next start on.
    """

    where: str = ""
    route: str = "*"
    lag: float = 0.0
    enforcement_lag: float = 0.0
    slow: float = 0.0
    fail: float = 0.0
    kinds: tuple[str, ...] = BY_DEFAULT
    limit: float = 0.0
    page: int = 0
    shifting: bool = False
    seed: int = 0
    as_started: float = 0.0

    def meets(self, service: str, account: str, path: str, method: str = "GET") -> bool:
        """Whether a request is one of those that this is about; a route may begin with a method."""
        asked = (path, f"{method} {path}")
        return self.where in ("", service, account) and any(fnmatchcase(name, self.route) for name in asked)


def faults_of(store: Store) -> tuple[Fault, ...]:
    """The faults that are set."""
    return tuple(Fault(**{**one, "kinds": tuple(one["kinds"])}) for one in store.setting(SETTING, []))


def set_faults(store: Store, faults: Sequence[Fault]) -> None:
    """Sets these and no others."""
    store.set_setting(SETTING, [asdict(fault) for fault in faults])


class Faults:
    """The faults of one lab as its services meet them: looked up again when the store has changed."""

    def __init__(self, store: Store) -> None:
        self.store = store
        self._seen: tuple[int, int] | None = None
        self._now: tuple[Fault, ...] = ()
        self._chance: dict[Fault, Random] = {}
        self._left: dict[Fault, tuple[float, float]] = {}  # requests that may still come, and since when

    def at(self, service: str, account: str, path: str, method: str = "GET") -> list[Fault]:
        """The faults that a request meets."""
        version = self.store.version()
        if version != self._seen:
            self._now, self._seen = faults_of(self.store), version
        return [fault for fault in self._now if fault.meets(service, account, path, method)]

    def chance(self, fault: Fault) -> Random:
        """What a fault leaves to chance, drawn from its seed."""
        return self._chance.setdefault(fault, Random(fault.seed))  # noqa: S311  nothing here is a secret

    def lags(self, service: str, account: str) -> tuple[float, float]:
        """Seconds until a change now made shows when it is read, and until it is enforced."""
        shows = acts = 0.0
        for fault in self.at(service, account, "/administration/"):
            shows = max(shows, fault.lag * self.chance(fault).uniform(0.2, 1))
            acts = max(acts, fault.enforcement_lag * self.chance(fault).uniform(0.2, 1))
        return shows, acts

    def page(self, service: str, account: str, path: str, limit: int) -> tuple[int, int]:
        """How many items a page has, and how many of them the next one shows again."""
        again = 0
        for fault in self.at(service, account, path):
            limit = min(limit, fault.page or limit)
            again = self.chance(fault).randint(0, min(2, limit - 1)) if fault.shifting else again
        return limit, again

    def wait(self, fault: Fault) -> float:
        """Seconds until a request may come again; 0 where it may come now."""
        now = time.monotonic()
        left, since = self._left.get(fault, (fault.limit, now))
        left = min(max(fault.limit, 1.0), left + (now - since) * fault.limit)
        self._left[fault] = (left - 1 if left >= 1 else left, now)
        return 0.0 if left >= 1 else (1 - left) / fault.limit


def faulty(app: Any, name: str, faults: Faults) -> Any:
    """The same service, with its faults."""

    async def service(scope: MutableMapping[str, Any], receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            await app(scope, receive, send)
            return
        found = faults.at(name, _account(scope), scope["path"], scope["method"])
        for fault in found:
            if fault.limit and (seconds := faults.wait(fault)):
                await _answer(send, 429, "too-many-requests", str(math.ceil(seconds)))
                return
        if slow := sum(fault.slow for fault in found):
            await asyncio.sleep(slow)
        for fault in found:
            chance = faults.chance(fault)
            if fault.fail and chance.random() < fault.fail:
                kind, late = chance.choice(fault.kinds), chance.random() < 0.5
                if late:
                    await app(scope, receive, _unheard)
                await _failed(send, kind)
                return
        await app(scope, receive, send)

    return service


async def _unheard(message: Any) -> None:
    """Takes an answer that nobody gets."""


async def _failed(send: Any, kind: str) -> None:
    if kind == ERROR:
        await _answer(send, 503, "unavailable")
        return
    if kind == TIMEOUT:
        await asyncio.sleep(HELD)
    headers = [(b"content-type", b"application/json"), (b"content-length", b"1000"), (b"connection", b"close")]
    await send({"type": "http.response.start", "status": 200, "headers": headers})
    await send({"type": "http.response.body", "body": b"{", "more_body": True})  # and the rest never comes


async def _answer(send: Any, status: int, kind: str, again: str = "") -> None:
    body = json.dumps(Problem(status, kind, "a fault that was set for the lab").body).encode()
    headers = [(b"content-type", b"application/problem+json"), (b"content-length", str(len(body)).encode())]
    headers += [(b"retry-after", again.encode())] if again else []
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})


def _account(scope: MutableMapping[str, Any]) -> str:
    """Whose requests these are: the boundary that a session administers, else the account of the place; not verified,
    since nothing but faults hangs on it."""
    token = next((value for name, value in scope["headers"] if name == b"authorization"), b"").partition(b" ")[2]
    try:
        part = token.split(b".")[1]
        claims = json.loads(base64.urlsafe_b64decode(part + b"=" * (-len(part) % 4)))
        if isinstance(claims, dict) and isinstance(claims.get("administers"), str):
            return str(claims["administers"])
    except (IndexError, ValueError, binascii.Error, RecursionError):
        pass
    words: list[str] = scope["path"].split("/")
    return words[2] if len(words) > 2 and words[1] == "places" else ""

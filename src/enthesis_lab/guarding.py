"""What stands before every service of the lab: who may play its people, runs and hosts, and how much is read."""

import hmac
import json
import secrets
from collections.abc import MutableMapping
from typing import Any
from urllib.parse import urlsplit

from starlette.requests import Request

from enthesis_lab.issued_secrets import remember
from enthesis_lab.problems import Problem
from enthesis_lab.running import OWNER
from enthesis_lab.store import Store

MAX_BODY = 3 * 1024 * 1024  # bytes of any request
LOOPBACK = ("127.0.0.1", "localhost", "::1")


def owners_word(store: Store) -> str:
    """What only the owner of a lab knows, since it stands in a file that nobody else may read; made when first asked.

    A caller that shows it plays the lab's people, runs and hosts: on a machine that is shared, the loopback address is
    everybody's.
    """
    found = store.setting("owner")
    if not isinstance(found, str):
        found = remember(secrets.token_urlsafe(24))
        store.set_setting("owner", found)
    return found


def owner_only(store: Store, shown: str) -> None:
    """Continues for the lab's owner; a Problem for any other caller."""
    if not hmac.compare_digest(shown.encode(), owners_word(store).encode()):
        detail = f"only the lab's owner plays its people, runs and hosts: {OWNER} as it stands in administrators.json"
        raise Problem(401, "not-the-owner", detail)


def owner_asks(store: Store, request: Request) -> None:
    """The same for a request with the owner's word in its header."""
    owner_only(store, request.headers.get(OWNER, ""))


class _TooLarge(Exception):
    """More was sent than is read."""


def guarded(app: Any) -> Any:
    """The same service, for requests to its own address, from no page of elsewhere, and of a bounded size."""

    async def service(scope: MutableMapping[str, Any], receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            await app(scope, receive, send)
            return
        headers = {name.decode("latin-1").lower(): value.decode("latin-1") for name, value in scope["headers"]}
        why = _not_for_us(headers, scope.get("scheme", "https"))
        if why:
            await _answer(send, 403, "not-for-us", why)
            return
        length = headers.get("content-length", "0")
        if not length.isdigit() or int(length) > MAX_BODY:
            await _answer(send, 413, "too-large", f"more than {MAX_BODY} bytes")
            return
        seen, begun = 0, False

        async def counted() -> Any:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            if seen > MAX_BODY:
                raise _TooLarge
            return message

        async def noting(message: Any) -> None:
            nonlocal begun
            begun = True
            await send(message)

        try:
            await app(scope, counted, noting)
        except _TooLarge:
            if not begun:
                await _answer(send, 413, "too-large", f"more than {MAX_BODY} bytes")

    return service


def _not_for_us(headers: dict[str, str], scheme: str) -> str:
    """Why a request is none for this service: it names another host, or comes from a page of elsewhere."""
    host = headers.get("host", "")
    if urlsplit(f"//{host}").hostname not in LOOPBACK:
        return "this service has no other name than its address"
    origin = headers.get("origin")
    if origin is not None and origin != f"{scheme}://{host}":
        return "a page of elsewhere asks nothing here"
    return ""


async def _answer(send: Any, status: int, kind: str, detail: str) -> None:
    body = json.dumps(Problem(status, kind, detail).body).encode()
    headers = [(b"content-type", b"application/problem+json"), (b"connection", b"close")]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})

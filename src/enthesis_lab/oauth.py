"""What the token endpoints of a lab have in common: their requests, their errors, and what they publish.

RFC 6749, sections 2.3 and 3.2; RFC 8693, section 2.1; RFC 7662; RFC 9110, section 13 for what may be kept.
"""

import base64
import binascii
import hashlib
import json
from collections import Counter
from collections.abc import Mapping
from typing import Any
from urllib.parse import unquote_plus

from starlette.requests import Request
from starlette.responses import JSONResponse, Response

FORM = "application/x-www-form-urlencoded"
MAX_FIELDS = 30
KEPT_FOR = 300  # seconds that what is published may be kept
NO_STORE = {"Cache-Control": "no-store", "Pragma": "no-cache"}
ACCESS_TOKEN = "urn:ietf:params:oauth:token-type:access_token"  # noqa: S105  a type, not a token
JWT = "urn:ietf:params:oauth:token-type:jwt"
STATEMENT_LIFE = 120  # seconds; of what one service states for another about who calls
INACTIVE = {"active": False}
ABOUT = ("iss", "sub", "aud", "exp", "iat", "nbf", "jti", "client_id", "act")
"""The claims of a session that an introspection tells (RFC 7662, section 2.2; `act` RFC 8693, section 4.1)."""


class Wrong(Exception):
    """A request of a token endpoint that is not granted; `refused_at` are the steps where access is refused."""

    def __init__(self, error: str, description: str, refused_at: tuple[str, ...] = ()) -> None:
        super().__init__(description)
        self.error = error
        self.refused_at = refused_at

    def response(self) -> Response:
        """RFC 6749, section 5.2: 401 with a challenge where a client is not who it says, 400 otherwise."""
        body: dict[str, Any] = {"error": self.error, "error_description": str(self)}
        if self.refused_at:
            body["refused_at"] = list(self.refused_at)
        if self.error == "invalid_client":
            return JSONResponse(body, 401, {**NO_STORE, "WWW-Authenticate": 'Basic realm="lab"'})
        return JSONResponse(body, 400, NO_STORE)


async def as_oauth_error(request: Request, fault: Exception) -> Response:
    """What a token endpoint answers when it raises Wrong."""
    if isinstance(fault, Wrong):
        return fault.response()
    raise fault


async def form_of(request: Request, *, several: tuple[str, ...] = ()) -> dict[str, str]:
    """The parameters of a request; one without a value counts as left out, and none may stand twice.

    Those of `several` may stand twice by their own text; where they do, nothing here is for several of them.
    """
    if request.headers.get("content-type", "").partition(";")[0].strip().lower() != FORM:
        raise Wrong("invalid_request", f"the parameters come as {FORM}")
    async with request.form(max_files=0, max_fields=MAX_FIELDS) as form:
        pairs = [(name, value) for name, value in form.multi_items() if isinstance(value, str) and value]
    for name, count in Counter(name for name, _ in pairs).items():
        if count > 1:
            raise Wrong("invalid_target" if name in several else "invalid_request", f"{name} is given more than once")
    return dict(pairs)


def client_of(request: Request, form: Mapping[str, str]) -> tuple[str, str] | None:
    """The id and secret that a client shows of itself, in the header or in the body; None where it shows no secret."""
    scheme, _, encoded = request.headers.get("authorization", "").partition(" ")
    header = scheme.lower() == "basic"
    if "client_assertion" in form or "client_assertion_type" in form:
        raise Wrong("invalid_client", "no client is registered here with a key")
    if header and ("client_secret" in form):
        raise Wrong("invalid_request", "a client must authenticate in exactly one way")
    if not header:
        return (form.get("client_id", ""), form["client_secret"]) if "client_secret" in form else None
    try:
        identifier, colon, secret = base64.b64decode(encoded, validate=True).decode().partition(":")
    except (binascii.Error, UnicodeDecodeError):
        raise Wrong("invalid_client", "the client's credentials are not understood") from None
    if not colon or form.get("client_id", unquote_plus(identifier)) != unquote_plus(identifier):
        raise Wrong("invalid_client", "the client's credentials are not understood")
    return unquote_plus(identifier), unquote_plus(secret)


def not_understood(form: Mapping[str, str], token_type: str, *audiences: str) -> None:
    """Raises Wrong for what an exchange is asked for besides and cannot have: nothing is passed over in silence."""
    wanted = form.get("requested_token_type", token_type)
    if wanted != token_type:
        raise Wrong("invalid_request", f"requested_token_type is {token_type} here")
    if "scope" in form:
        raise Wrong("invalid_scope", "nothing here has scopes: `authorization_details` narrows")
    if form.get("audience") not in (None, *audiences):
        raise Wrong("invalid_target", "`audience` and what is asked for do not go together")
    if ("actor_token" in form) != ("actor_token_type" in form):
        raise Wrong("invalid_request", "actor_token and actor_token_type must be given together")
    if "actor_token" in form:
        raise Wrong("invalid_request", "sessions that act for another caller are not issued: leave out actor_token")


def told_of(claims: Mapping[str, Any]) -> dict[str, Any]:
    """What an introspection says of a session that has not ended."""
    return {"active": True, "token_type": "Bearer", **{name: claims[name] for name in ABOUT if name in claims}}


def published(request: Request, body: Mapping[str, Any], media: str = "application/json") -> Response:
    """Metadata or keys, which may be kept for a while; 304 where the client has them as they are."""
    content = json.dumps(body, separators=(",", ":")).encode()
    tag = f'"{hashlib.sha256(content).hexdigest()[:32]}"'
    headers = {"Cache-Control": f"public, max-age={KEPT_FOR}", "ETag": tag}
    known = {text.strip().removeprefix("W/") for text in request.headers.get("if-none-match", "").split(",")}
    if tag in known or "*" in known:
        return Response(status_code=304, headers=headers)
    return Response(content, media_type=media, headers=headers)

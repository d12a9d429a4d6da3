"""A stand-in directory: people sign in by the device grant (RFC 8628), can end their sign-in (RFC 7009), and have the
directory state that they approve something (RFC 8693).

The lab keeps no passwords. A caller that reaches its page says who it is; that a person is asked at all, on another
screen than the one that wants in, is what is stood in for.
"""

import hashlib
import html
import json
import re
import secrets
from collections.abc import Mapping, Sequence
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import HTMLResponse, JSONResponse, Response
from starlette.routing import Route

from enthesis_lab.guarding import owner_only
from enthesis_lab.issued_secrets import remember
from enthesis_lab.oauth import (
    ACCESS_TOKEN,
    INACTIVE,
    JWT,
    NO_STORE,
    STATEMENT_LIFE,
    Wrong,
    as_oauth_error,
    client_of,
    form_of,
    published,
    told_of,
)
from enthesis_lab.problems import HANDLERS, Problem
from enthesis_lab.recording import Records
from enthesis_lab.running import OWNER
from enthesis_lab.scim import Entries, ScimFault, as_scim_error, is_active
from enthesis_lab.sessions import Sessions
from enthesis_lab.store import Store
from enthesis_lab.tokens import SESSION_TYPE, Clock, Signer, TokenRefused

CLIENT_ID = re.compile(r"[\x21-\x7e]{1,200}")  # RFC 6749, appendix A.1, without blanks
DEVICE = "urn:ietf:params:oauth:grant-type:device_code"
EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"
APPROVAL = "enthesis-approval"
APPROVAL_LIFE = 24 * 3600  # seconds that an approval counts
MOST_DETAILS = 2000  # characters
SIGN_IN_LIFE = 8 * 3600  # seconds; nobody stays signed in for longer
CODE_LIFE = 600  # seconds
INTERVAL = 1  # seconds between two questions whether the person has agreed
LETTERS = "BCDFGHJKLMNPQRSTVWXZ"  # RFC 8628, section 6.1: no vowels, so no words
MFA = {"yes": ["mfa"], "no": ["pwd"], "unsaid": None}


class DirectoryServer:
    """The people of one organisation. `audiences` are the clouds that its sign-ins are meant for, `authorities` those
    that certify whom it states to be signed in."""

    def __init__(
        self, organisation: str, people: Mapping[str, Any], store: Store, clock: Clock, signer: Signer,
        audiences: list[str], clouds: list[str], authorities: Sequence[str] = (),
    ) -> None:  # fmt: skip
        self.organisation = organisation
        self.entries = Entries(organisation, store, signer, clouds)
        self.entries.furnish({name: one for name, one in people.items() if name.startswith(organisation + "/")})
        self.store = store
        self.clock = clock
        self.signer = signer
        self.audiences = audiences
        self.authorities = authorities
        self.sessions = Sessions(organisation, store, clock)
        self.records = Records(organisation, store)

    def app(self) -> Starlette:
        """The HTTP interface."""
        routes = [
            Route("/.well-known/oauth-authorization-server", self._metadata),
            Route("/jwks", self._jwks),
            Route("/device", self._device, methods=["POST"]),
            Route("/agree", self._page),
            Route("/agree", self._agree, methods=["POST"]),
            Route("/token", self._token, methods=["POST"]),
            Route("/revoke", self._revoke, methods=["POST"]),
            Route("/introspect", self._introspect, methods=["POST"]),
            *self.entries.routes(),
        ]
        handlers = {**HANDLERS, Wrong: as_oauth_error, ScimFault: as_scim_error}
        return Starlette(routes=routes, exception_handlers=handlers)

    async def _metadata(self, request: Request) -> Response:
        """RFC 8414, section 2, with the endpoint of RFC 8628, section 4."""
        url = self.signer.issuer
        metadata = {
            "issuer": url,
            "jwks_uri": f"{url}/jwks",
            "token_endpoint": f"{url}/token",
            "device_authorization_endpoint": f"{url}/device",
            "revocation_endpoint": f"{url}/revoke",
            "introspection_endpoint": f"{url}/introspect",
            "grant_types_supported": [DEVICE, EXCHANGE],
            "response_types_supported": [],
            "token_endpoint_auth_methods_supported": ["none"],
            "revocation_endpoint_auth_methods_supported": ["none"],
            "introspection_endpoint_auth_methods_supported": ["Bearer"],
        }
        return published(request, metadata)

    async def _jwks(self, request: Request) -> Response:
        return published(request, self.signer.jwks())

    async def _device(self, request: Request) -> Response:
        """RFC 8628, section 3.2."""
        form = await _form(request)
        if "client_id" not in form:
            raise Wrong("invalid_request", "client_id is missing")
        if not CLIENT_ID.fullmatch(form["client_id"]):
            raise Wrong("invalid_client", "no client is called so")
        if "scope" in form:
            raise Wrong("invalid_scope", "a sign-in here has no scopes")
        device = remember(secrets.token_urlsafe(32))
        code = "-".join("".join(secrets.choice(LETTERS) for _ in range(4)) for _ in range(2))
        ends = self.clock.now() + CODE_LIFE
        with self.store.transaction():
            row = (_digest(device), code, self.organisation, ends, None, None, None, 0)
            self.store.connection.execute("INSERT INTO sign_ins VALUES (?, ?, ?, ?, ?, ?, ?, ?)", row)
            client = (_digest(device), form["client_id"])
            self.store.connection.execute("INSERT INTO sign_in_clients VALUES (?, ?)", client)
        page = f"{self.signer.issuer}/agree"
        return JSONResponse(
            {
                "device_code": device,
                "user_code": code,
                "verification_uri": page,
                "verification_uri_complete": f"{page}?code={code}",
                "expires_in": CODE_LIFE,
                "interval": INTERVAL,
            },
            headers=NO_STORE,
        )

    async def _page(self, request: Request) -> Response:
        """The page where a person agrees: the code, who it is, and whether a second factor was shown."""
        code = html.escape(request.query_params.get("code", ""), quote=True)
        people = "".join(f"<option>{html.escape(person)}</option>" for person in self.entries.people())
        return HTMLResponse(
            "<!doctype html><html lang=en><title>Sign in to the lab</title>"
            "<style>body{font:1.1rem system-ui;max-width:32rem;margin:3rem auto}label{display:block;margin:1rem 0}"
            "input,select,button{font:inherit;padding:.3rem}</style>"
            f"<h1>Sign in at {html.escape(self.organisation)}</h1>"
            "<p>A program asks to act as you. Agree only if you started it, and the code is the one it shows.</p>"
            f'<form method=post><label>Code <input name=code value="{code}" required></label>'
            f"<label>Who you are <select name=person>{people}</select></label>"
            "<label><input type=checkbox name=mfa value=yes> with a second factor</label>"
            "<label>Word of the lab's owner <input name=owner type=password required autocomplete=off></label>"
            "<p>It stands as <code>lab-owner</code> in the lab's administrators.json.</p>"
            "<button name=agreed value=yes>Agree</button> <button name=agreed value=no>Refuse</button></form>"
        )

    async def _agree(self, request: Request) -> Response:
        fields = await _fields(request)
        owner_only(self.store, fields.get("owner") or request.headers.get(OWNER, ""))
        person, mfa = fields.get("person"), fields.get("mfa", "no")
        if person not in self.entries.people() or mfa not in MFA:
            raise Problem(422, "not-understood", "this directory has no such person")
        if not is_active(self.store, person):
            raise Problem(403, "refused", f"{person} is inactive, and cannot sign in", refused_at=["names"])
        row = self.store.connection.execute(
            "SELECT device, ends, person FROM sign_ins WHERE code = ? AND directory = ?",
            (_code(fields.get("code", "")), self.organisation),
        ).fetchone()
        if row is None or row[1] <= self.clock.now() or row[2] is not None:
            raise Problem(404, "not-found", "no sign-in waits under this code")
        refused = int(fields.get("agreed") != "yes")
        with self.store.transaction():
            self.store.connection.execute(
                "UPDATE sign_ins SET person = ?, mfa = ?, refused = ? WHERE device = ?", (person, mfa, refused, row[0])
            )
        return HTMLResponse(f"<!doctype html><title>Done</title><p>{'Refused' if refused else 'Agreed'}.")

    async def _token(self, request: Request) -> Response:
        """RFC 8628, sections 3.4 and 3.5."""
        fields = await _form(request)
        if "grant_type" not in fields:
            raise Wrong("invalid_request", "grant_type is missing")
        if fields["grant_type"] == EXCHANGE:
            return self._exchanged(fields)
        if fields["grant_type"] != DEVICE:
            raise Wrong("unsupported_grant_type", f"only {DEVICE} and {EXCHANGE} are known here")
        for name in ("device_code", "client_id"):
            if name not in fields:
                raise Wrong("invalid_request", f"{name} is missing")
        device = _digest(fields.get("device_code", ""))
        row = self.store.connection.execute(
            "SELECT ends, asked, person, mfa, refused FROM sign_ins WHERE device = ? AND directory = ?",
            (device, self.organisation),
        ).fetchone()
        now = self.clock.now()
        client = self.store.connection.execute(
            "SELECT client FROM sign_in_clients WHERE device = ?", (device,)
        ).fetchone()
        if row is None or client != (fields["client_id"],):
            raise Wrong("invalid_grant", "there is no such sign-in of this client, or it is over")
        ends, asked, person, mfa, refused = row
        if ends <= now:
            raise Wrong("expired_token", "the sign-in was not approved in time")
        if person is None:
            self.store.connection.execute("UPDATE sign_ins SET asked = ? WHERE device = ?", (now, device))
            too_soon = asked is not None and now - asked < INTERVAL * 0.9
            raise Wrong("slow_down" if too_soon else "authorization_pending", "the sign-in is not approved yet")
        with self.store.transaction():
            self.store.connection.execute("DELETE FROM sign_ins WHERE device = ?", (device,))
            self.store.connection.execute("DELETE FROM sign_in_clients WHERE device = ?", (device,))
        factors = MFA[mfa]
        shown = None if factors is None else "mfa" in factors
        self.records.note_sign_in(person, shown, now, refused=bool(refused))
        if refused:
            raise Wrong("access_denied", "the person refused")
        claims = {
            "sub": person,
            "aud": self.audiences,
            "client_id": fields["client_id"],
            "auth_time": int(now),
            "exp": int(now) + SIGN_IN_LIFE,
            **({"amr": factors} if factors is not None else {}),  # RFC 8176
        }
        claims |= self.sessions.begin(person, {"origin": {"kind": "person", "address": person}}, claims["exp"])
        token = self.signer.sign(claims, typ=SESSION_TYPE)
        body = {"access_token": token, "token_type": "Bearer", "expires_in": SIGN_IN_LIFE}
        return JSONResponse(body, headers=NO_STORE)

    def _exchanged(self, fields: Mapping[str, str]) -> Response:
        """RFC 8693, section 2.1, for a sign-in that stands: who is signed in, for an authority; or that the person
        approves something."""
        try:
            claims = self.signer.verify(fields.get("subject_token", ""), typ=SESSION_TYPE)
        except TokenRefused as fault:
            raise Wrong("invalid_grant", str(fault)) from None
        if is_revoked(self.store, claims):
            raise Wrong("invalid_grant", "the sign-in was ended")
        if not is_active(self.store, str(claims["sub"])):
            raise Wrong("invalid_grant", f"{claims['sub']} is inactive")
        if fields.get("audience") in self.authorities and "authorization_details" not in fields:
            return self._stated(fields, claims)
        return self._approval(fields, claims)

    def _stated(self, fields: Mapping[str, str], claims: Mapping[str, Any]) -> Response:
        """Who is signed in, for one authority and for a moment. The sign-in itself stays here."""
        if (fields.get("subject_token_type"), fields.get("requested_token_type")) != (ACCESS_TOKEN, JWT):
            raise Wrong("invalid_request", f"for a sign-in ({ACCESS_TOKEN}) there is a statement here ({JWT})")
        ends = min(int(claims["exp"]), int(self.clock.now()) + STATEMENT_LIFE)
        about = {name: claims[name] for name in ("iat", "exp", "jti")}
        told = {"sub": claims["sub"], "aud": fields["audience"], "exp": ends, "session": about}
        return self._answered(self.signer.sign(told, typ="JWT"), int(ends - self.clock.now()))

    def _answered(self, token: str, life: int) -> Response:
        """RFC 8693, section 2.2.1."""
        body = {"access_token": token, "issued_token_type": JWT, "token_type": "N_A", "expires_in": life}
        return JSONResponse(body, headers=NO_STORE)

    def _approval(self, fields: Mapping[str, str], claims: Mapping[str, Any]) -> Response:
        """A statement that the person approves what the details say (RFC 9396, section 2). It opens nothing: it is for
        another audience than any cloud or authority."""
        try:
            details = json.loads(fields.get("authorization_details", "")[:MOST_DETAILS])
        except (ValueError, RecursionError):
            details = None
        wanted = (fields.get("subject_token_type"), fields.get("requested_token_type"), fields.get("audience"))
        one = details[0] if isinstance(details, list) and len(details) == 1 else None
        if wanted != (ACCESS_TOKEN, JWT, APPROVAL) or not isinstance(one, dict) or one.get("type") != APPROVAL:
            raise Wrong("invalid_request", f"only statements for {APPROVAL}, about one thing, are made here")
        told = {"sub": claims["sub"], "aud": APPROVAL, "authorization_details": details}
        factors = {"amr": claims["amr"]} if "amr" in claims else {}
        ends = {"auth_time": claims["auth_time"], "exp": int(self.clock.now()) + APPROVAL_LIFE}
        return self._answered(self.signer.sign({**told, **factors, **ends}, typ="JWT"), APPROVAL_LIFE)

    async def _revoke(self, request: Request) -> Response:
        """RFC 7009, section 2: the token is over; one that is not known is over already."""
        claims = self._sign_in(await _shown(request))
        if claims is not None:
            with self.store.transaction():
                self.store.connection.execute("DELETE FROM revoked WHERE ends < ?", (self.clock.now(),))
            self.sessions.end(str(claims["jti"]))
        return Response(status_code=200)

    async def _introspect(self, request: Request) -> Response:
        """RFC 7662, section 2, for people who are signed in here: what a sign-in is, while it stands."""
        form = await _shown(request)
        scheme, _, shown = request.headers.get("authorization", "").partition(" ")
        if scheme.lower() != "bearer" or self._sign_in({"token": shown.strip()}) is None:
            kind = "invalid-token" if shown else "no-token"
            raise Problem(401, kind, "a sign-in of this directory is needed as a bearer token")
        claims = self._sign_in(form)
        return JSONResponse(told_of(claims) if claims is not None else INACTIVE, headers=NO_STORE)

    def _sign_in(self, form: Mapping[str, str]) -> dict[str, Any] | None:
        """The claims of the sign-in that a request shows, while it stands."""
        try:
            claims = self.signer.verify(form["token"], typ=SESSION_TYPE)
        except TokenRefused:
            return None
        return None if is_revoked(self.store, claims) else claims


async def _form(request: Request) -> dict[str, str]:
    """The parameters of a request by a client that has no secret, as every client here."""
    form = await form_of(request, several=("resource", "audience"))
    if client_of(request, form) is not None:
        raise Wrong("invalid_client", "no client is registered here with a secret")
    return form


async def _shown(request: Request) -> dict[str, str]:
    """A request about a token that it shows."""
    form = await _form(request)
    if "token" not in form:
        raise Wrong("invalid_request", "token is missing")
    return form


def _code(typed: str) -> str:
    """A user code as it is kept, from whatever a person types (RFC 8628, section 6.1)."""
    letters = "".join(text for text in typed.upper() if text in LETTERS)
    return f"{letters[:4]}-{letters[4:]}"


def is_revoked(store: Store, claims: Mapping[str, Any]) -> bool:
    """Whether a sign-in was ended before its time."""
    row = store.connection.execute("SELECT 1 FROM revoked WHERE jti = ?", (claims.get("jti"),)).fetchone()
    return row is not None


def mfa_of(claims: Mapping[str, Any]) -> bool | None:
    """Whether a sign-in says that a second factor was shown; None where it says nothing of factors."""
    factors = claims.get("amr")
    return "mfa" in factors if isinstance(factors, list) else None


async def _fields(request: Request) -> dict[str, str]:
    async with request.form(max_files=0, max_fields=20) as form:
        return {name: value for name, value in form.items() if isinstance(value, str)}


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()

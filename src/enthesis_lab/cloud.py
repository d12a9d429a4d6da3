"""A stand-in cloud: OAuth 2.0 token exchange for taking on identities, and places where things are really stored."""

import hashlib
import json
import math
import time
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import partial
from ipaddress import ip_address
from typing import Any
from urllib.parse import unquote

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from enthesis_lab.administration import MAX_BODY, Administration, json_body
from enthesis_lab.callers import CallerTokens
from enthesis_lab.deciding import (
    Decision,
    LabCaller,
    LabSurroundings,
    World,
    decide,
    declared,
    place_of,
    session_end,
    verbs_of,
)
from enthesis_lab.faults import Faults
from enthesis_lab.forms import COLLECTIONS
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
    not_understood,
    published,
    told_of,
)
from enthesis_lab.openapi import document
from enthesis_lab.problems import HANDLERS, Problem, refused
from enthesis_lab.recording import RecordHandlers, Records
from enthesis_lab.resources import Things, remove_resource
from enthesis_lab.sessions import SessionHandlers, Sessions
from enthesis_lab.ssh_authority import SshAuthority
from enthesis_lab.store import Statement, Store
from enthesis_lab.tokens import SESSION_TYPE, Clock, Signer, TokenExpired, TokenRefused

KEYED = "client_credentials"
EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"
ASSERTED = "urn:ietf:params:oauth:grant-type:saml2-bearer"
SAML2 = "urn:ietf:params:oauth:token-type:saml2"
TOKEN_TYPES = (ACCESS_TOKEN, "urn:ietf:params:oauth:token-type:id_token", JWT, SAML2)
NARROWING = "narrowing"  # the type of an authorization detail (RFC 9396)
RUNNING_LIFE = 3600  # seconds that a person who has come to run code on a resource can show that
KEYED_LIFE = 3600  # seconds; of a session that a key gives


class CloudServer:
    """One provider. `signers` are those of every service of the lab, by name: clouds know one another's keys."""

    def __init__(
        self,
        name: str,
        inventory: Mapping[str, Any],
        store: Store,
        clock: Clock,
        signers: Mapping[str, Signer],
        faults: Faults,
    ) -> None:
        self.name = name
        self.inventory = inventory
        self.store = store
        self.clock = clock
        self.signers = signers
        self.signer = signers[name]
        self.callers = CallerTokens(name, store, clock, signers, self.world)
        self.keyed = self.callers.keyed
        self.sessions = Sessions(name, store, clock)
        self.records = Records(name, store)
        self.ssh_authorities: Mapping[str, SshAuthority] = {}  # by name, once they run
        self.vouches_for: tuple[str, ...] = ()  # urls of authorities that issue certificates to whom it states
        self.administration = Administration(
            store, self.world, self._administrator, self._may, partial(faults.page, name)
        )
        self._seen: tuple[int, int] | None = None
        self._until = math.inf  # when the next pending change takes effect; seconds since 1970
        self._world: World | None = None

    @property
    def url(self) -> str:
        """The url of the cloud, which is also the issuer of its sessions."""
        return self.signer.issuer

    def world(self) -> World:
        """The statements as they stand now; read again only after a change."""
        version = self.store.version()
        if self._world is None or version != self._seen or time.time() >= self._until:
            inventory, keys = _as_it_is_now(self.inventory, self.store.things()), self.keyed.all()
            worlds = {
                name: World(name, inventory, _by_collection(self.store.seen(name, "acts")), credentials=keys)
                for name in inventory["providers"]
            }
            self._until = min(self.store.as_it_was(name, "acts")[1] for name in worlds)
            own = worlds.pop(self.name)
            self._world, self._seen = replace(own, others=worlds), version
        return self._world

    def app(self) -> Starlette:
        """The HTTP interface."""
        administration = self.administration
        things = Things(self.store, self.keyed, self.clock.now, administration)
        sessions = SessionHandlers(self.sessions, administration)
        routes = [
            Route("/.well-known/oauth-authorization-server", self._metadata),
            Route("/jwks", self._jwks),
            Route("/openapi.json", self._openapi),
            Route("/token", self._token, methods=["POST"]),
            Route("/revoke", self._revoke, methods=["POST"]),
            Route("/introspect", self._introspect, methods=["POST"]),
            Route("/administration/inventory", administration.inventory),
            Route("/administration/ids", administration.ids),
            Route("/administration/concerning", administration.concerning),
            Route("/administration/resources", things.add, methods=["POST"]),
            Route("/administration/resources/{address:path}", things.remove, methods=["DELETE"]),
            Route("/administration/credentials", things.credentials, methods=["GET", "POST"]),
            Route("/administration/sessions", self._session_as, methods=["POST"]),
            Route("/administration/sessions", sessions.listed),
            Route("/administration/usage", RecordHandlers(self.records, administration).listed),
            Route("/administration/sessions/{id}", sessions.one, methods=["GET", "DELETE"]),
            Route("/administration/credentials/{id}", things.credential, methods=["GET", "PUT", "DELETE"]),
            Route("/administration/{collection}", administration.collection, methods=["GET", "POST"]),
            Route("/administration/{collection}/{id}", administration.item, methods=["GET", "PUT", "DELETE"]),
            Route("/places/{address:path}", self._place, methods=["GET", "PUT", "DELETE", "POST"]),
            Route("/logins/{address:path}", self._login, methods=["POST"]),
            Route("/trials/{id}", self._trial, methods=["GET", "DELETE"]),
        ]
        return Starlette(routes=routes, exception_handlers={**HANDLERS, Wrong: as_oauth_error})

    # -- what clients read first -----------------------------------------------------------------------------

    async def _metadata(self, request: Request) -> Response:
        """RFC 8414, section 2."""
        metadata = {
            "issuer": self.url,
            "token_endpoint": f"{self.url}/token",
            "revocation_endpoint": f"{self.url}/revoke",
            "introspection_endpoint": f"{self.url}/introspect",
            "jwks_uri": f"{self.url}/jwks",
            "grant_types_supported": [EXCHANGE, ASSERTED, KEYED],
            "response_types_supported": [],
            "token_endpoint_auth_methods_supported": ["none", "client_secret_basic", "client_secret_post"],
            "revocation_endpoint_auth_methods_supported": ["none"],
            "introspection_endpoint_auth_methods_supported": ["client_secret_basic", "client_secret_post", "Bearer"],
            "authorization_details_types_supported": [NARROWING],
            "service_documentation": f"{self.url}/openapi.json",
        }
        return published(request, metadata)

    async def _jwks(self, request: Request) -> Response:
        return published(request, self.signer.jwks())

    async def _openapi(self, request: Request) -> Response:
        return published(request, document(f"The stand-in cloud {self.name}", self.url))

    # -- who asks --------------------------------------------------------------------------------------------

    def _administrator(self, request: Request) -> str | LabCaller:
        return self.callers.administrator(_bearer(request))

    def noted(
        self, caller: LabCaller, verb: str, target: str, outcome: Decision, around: LabSurroundings, onto: str = ""
    ) -> None:
        """Records a request, and that a static token was used: one that was refused opened nothing."""
        self.records.note(caller, verb, target, outcome, around, onto)
        if outcome.allowed and caller.key:
            self.keyed.used(caller.key, around.now)

    def _may(self, caller: LabCaller, verb: str, target: str, onto: str, request: Request) -> None:
        around = self._around(request)
        outcome = decide(self.world(), caller, verb, target, around, onto=onto)
        self.noted(caller, verb, target, outcome, around, onto)
        if not outcome.allowed:
            raise refused(outcome.refused_at)

    def _around(self, request: Request) -> LabSurroundings:
        return around_of(request, self.clock.now())

    # -- sessions that an administrator asks for ---------------------------------------------------------------

    async def _session_as(self, request: Request) -> Response:
        """A session as an identity, without an origin. The caller must be allowed to issue for the identity."""
        body = await json_body(request)
        identity = self.world().identity(str(body.get("of")))
        if identity is None or set(body) != {"of"} or identity.body["kind"] == "person":
            raise Problem(422, "not-understood", "`of` is the id of an identity of a workload")
        address = identity.body["address"]
        self.administration.needs(request, [("issue", address, "")], identity.holder)
        token = self._signed(address, identity.id, LabCaller("identity"), self.clock.now() + RUNNING_LIFE, [])
        return self._answered(token, RUNNING_LIFE)

    # -- taking on -------------------------------------------------------------------------------------------

    async def _token(self, request: Request) -> Response:
        """RFC 8693, section 2.1: a token, an assertion or a session for a session as the identity named in `resource`;
        RFC 7522, section 2.1: the same for an assertion; or RFC 6749, section 4.4: a session for a key."""
        form = await form_of(request, several=("resource", "audience"))
        client = client_of(request, form)
        key = self._key(client) if client is not None else None
        if "grant_type" not in form:
            raise Wrong("invalid_request", "grant_type is missing")
        if form["grant_type"] == KEYED:
            if key is None:
                raise Wrong("invalid_client", "no such key", ("names",))
            return self._for_a_key(request, form, key)
        form = _exchanged(form)
        if "audience" in form and "resource" not in form and form["subject_token_type"] != SAML2:
            not_understood(form, JWT, form["audience"])
            return self._statement(form["subject_token"], form["audience"])
        not_understood(form, ACCESS_TOKEN, self.url)
        target = form.get("resource")
        if target is None:
            raise Wrong("invalid_request", "`resource` is missing: the place of the identity that is asked for")
        if not target.startswith(f"{self.url}/places/"):
            raise Wrong("invalid_target", "`resource` names no place of this cloud")
        try:
            asserted = form["subject_token_type"] == SAML2
            shown_by = self.callers.of_assertion if asserted else self.callers.of_subject
            caller = shown_by(form["subject_token"])
            if form["grant_type"] != ASSERTED:  # whom a subject token is for is left to the trusts' conditions
                caller = replace(caller, meant_for_us=True)
            narrowing = _narrowing(form.get("authorization_details"))
        except Problem as fault:
            raise Wrong("invalid_request", str(fault), tuple(fault.body.get("refused_at", ()))) from None
        except TokenRefused as fault:
            steps = ("session",) if isinstance(fault, TokenExpired) else ()
            raise Wrong("invalid_request", str(fault), steps) from None
        address = target[len(f"{self.url}/places/") :]
        around = self._around(request)
        world = self.world()
        outcome = decide(world, caller, "take-on", address, around)
        self.noted(caller, "take-on", address, outcome, around)
        if not outcome.allowed:
            error = "invalid_target" if "names" in outcome.refused_at else "invalid_request"
            raise Wrong(error, "access is refused", tuple(outcome.refused_at))
        return self._issued(world, caller, address, outcome, around, narrowing)

    async def _revoke(self, request: Request) -> Response:
        """RFC 7009, section 2: the session is over, and what was obtained with it; one that is not known is over."""
        claims = self._session_in(await self._shown(request))
        if claims is not None:
            self.sessions.end(str(claims["jti"]))
        return Response(status_code=200)

    async def _introspect(self, request: Request) -> Response:
        """RFC 7662, section 2, for callers with a session or a key here: what a session is, while it has not ended."""
        form = await self._shown(request)
        if client_of(request, form) is None:
            self.callers.administrator(_bearer(request))
        claims = self._session_in(form)
        try:
            standing = claims is not None and self.callers.own_session(form["token"])
        except Problem:
            standing = False
        return JSONResponse(told_of(standing) if isinstance(standing, dict) else INACTIVE, headers=NO_STORE)

    async def _shown(self, request: Request) -> dict[str, str]:
        """A request about a token that it shows."""
        form = await form_of(request)
        client = client_of(request, form)
        if client is not None:
            self._key(client)
        if "token" not in form:
            raise Wrong("invalid_request", "token is missing")
        return form

    def _session_in(self, form: Mapping[str, str]) -> dict[str, Any] | None:
        """The claims of the session of this cloud that a request shows; None where it shows none."""
        try:
            return self.signer.verify(form["token"], typ=SESSION_TYPE)
        except TokenRefused:
            return None

    def _statement(self, session: str, audience: str) -> Response:
        """RFC 8693, section 2.1, with `audience`: what this cloud states for another about who has a session, for a
        moment. The session itself stays here."""
        others = [one.issuer for name, one in self.signers.items() if name in self.inventory["providers"]]
        if audience not in (*others, *self.vouches_for) or audience == self.url:
            raise Wrong("invalid_target", "`audience` names no other cloud or authority that is known here")
        try:
            claims = self.callers.own_session(session)
        except Problem as fault:
            raise Wrong("invalid_request", str(fault), tuple(fault.body.get("refused_at", ()))) from None
        if "administers" in claims:
            raise Wrong("invalid_request", "an administrator's session counts nowhere else")
        kept = {name: value for name, value in claims.items() if name not in ("iss", "aud", "iat", "nbf", "jti", "exp")}
        ends = min(int(claims["exp"]), int(self.clock.now()) + STATEMENT_LIFE)
        about = {name: claims[name] for name in ("iat", "exp", "jti")}
        stated = {**kept, "aud": audience, "exp": ends, "session": about}
        return self._answered(self.signer.sign(stated, typ="JWT"), ends - self.clock.now(), JWT)

    def _key(self, client: tuple[str, str]) -> dict[str, Any]:
        """The key that a client shows, whatever it asks for with it. Wrong where it is not one of this cloud's."""
        found = self.keyed.shown(self.name, client[1])
        if found is None or found["id"] != client[0] or found["form"] == "static-token":
            raise Wrong("invalid_client", "no such key", ("names",))
        return found

    def _for_a_key(self, request: Request, form: Mapping[str, str], found: Mapping[str, Any]) -> Response:
        """RFC 6749, section 4.4: a session of the identity that a key is for."""
        not_understood(form, ACCESS_TOKEN, self.url)
        around = self._around(request)
        world = self.world()
        try:
            caller = self.callers.by_key(found)
        except Problem as fault:
            raise Wrong("invalid_client", str(fault), ("names",)) from None
        stands = decide(world, caller, "describe", caller.address, around)
        if "names" in stands.refused_at:  # disabled, lapsed, or not from here
            raise Wrong("invalid_client", "access is refused", ("names",))
        self.keyed.used(found["id"], around.now)
        ends = min(around.now + KEYED_LIFE, found["expires"] or around.now + KEYED_LIFE)
        token = self._signed(caller.address, caller.id, caller, ends, [])
        return self._answered(token, ends - around.now)

    def _issued(
        self,
        world: World,
        caller: LabCaller,
        address: str,
        outcome: Decision,
        around: LabSurroundings,
        narrowing: Mapping[str, list[str]] | None,
    ) -> Response:
        return self._answered(*self.session_for(world, caller, address, outcome, around, narrowing))

    def session_for(
        self,
        world: World,
        caller: LabCaller,
        address: str,
        outcome: Decision,
        around: LabSurroundings,
        narrowing: Mapping[str, list[str]] | None,
    ) -> tuple[str, float]:
        """A session as an identity that was allowed to be taken on, and its life in seconds."""
        identity = world.identity_at(address)
        if identity is None:
            raise Problem(500, "inconsistent", "the identity has gone")
        ends = session_end(outcome, caller, around)
        kinds = [*caller.narrowings, *([narrowing] if narrowing is not None else [])]
        return self._signed(address, identity.id, caller, ends, kinds), ends - around.now

    def _signed(
        self, address: str, identifier: str, caller: LabCaller, ends: float, kinds: Sequence[Mapping[str, list[str]]]
    ) -> str:
        claims: dict[str, Any] = {
            "aud": self.url,
            "sub": address,
            "sub_id": identifier,
            "client_id": identifier,
            "exp": int(ends),
            "origin": dict(caller.origin),
            "act": dict(caller.actor),
            **({"signed_in": dict(caller.signed_in)} if caller.signed_in else {}),
            **({"chain": list(caller.sessions)} if caller.sessions else {}),
        }
        if kinds:
            claims["authorization_details"] = [{"type": NARROWING, "kinds": kind} for kind in kinds]
        claims |= self.sessions.begin(address, claims, ends)
        return self.signer.sign(claims, typ=SESSION_TYPE)

    @staticmethod
    def _answered(token: str, life: float, kind: str = ACCESS_TOKEN) -> Response:
        body = {
            "access_token": token,
            "issued_token_type": kind,
            "token_type": "Bearer" if kind == ACCESS_TOKEN else "N_A",  # RFC 8693, section 2.2.1
            "expires_in": int(life),
        }
        return JSONResponse(body, headers=NO_STORE)

    # -- attempts --------------------------------------------------------------------------------------------

    async def _place(self, request: Request) -> Response:
        address: str = request.path_params["address"]
        verb = self._verb(request)
        caller = self.callers.of_session(_bearer(request))
        world = self.world()
        onto = request.query_params.get("onto", "")
        around = self._around(request)
        outcome = decide(world, caller, verb, address, around, onto=onto)
        self.noted(caller, verb, address, outcome, around, onto)
        if not outcome.allowed:
            raise refused(outcome.refused_at)
        place = place_of(world, address)
        its_class = verbs_of(world, place.kind)[verb] if place else ""
        if request.method == "GET" and verb == "list":
            return JSONResponse({"items": self.store.listed(address)})
        if its_class == "read":
            found = self.store.content(address)
            if found is None:
                raise Problem(404, "nothing-stored", "access is allowed, and no content is stored there")
            return Response(found, media_type="application/octet-stream")
        if verb == "delete" and declared(world, address):  # a resource, not something stored: a trial only decides
            if "trial" in request.query_params:
                return JSONResponse({"decided": "allowed", "verb": verb, "place": address})
            remove_resource(self.store, world, address)
            return Response(status_code=204)
        if its_class == "run":
            return self._runs(caller, verb, address)
        if its_class == "write" or verb == "delete":
            return await self._store(request, caller, address, removing=verb == "delete")
        return JSONResponse({"decided": "allowed", "verb": verb, "place": address})

    async def _login(self, request: Request) -> Response:
        """A certificate for a login at a host, for whom that is allowed now: `{"public_key": …}`, an Ed25519 key as
        OpenSSH writes it. It is for this host alone, from the network that is asked from, for five minutes."""
        address: str = request.path_params["address"]
        body = await json_body(request)
        caller = self.callers.of_session(_bearer(request))
        around = self._around(request)
        outcome = decide(self.world(), caller, "login", address, around)
        self.noted(caller, "login", address, outcome, around)
        if not outcome.allowed:
            raise refused(outcome.refused_at)
        issuer = self.inventory["resources"].get(address, {}).get("certificates")
        authority = self.ssh_authorities.get(str(issuer))
        if authority is None:
            raise Problem(404, "not-found", "this host has no authority for logins")
        ends = authority.ends_at(caller.ends if caller.ends is not None else math.inf)
        by = (*caller.sessions, *filter(None, [caller.signed_in.get("jti")]))
        login = self.sessions.begin_login(caller.address, caller.origin, address, ends, by)
        try:
            certificate = authority.for_login(
                str(body.get("public_key")), caller.address, address, around.network, ends, login
            )
        except ValueError as fault:
            raise Problem(422, "not-understood", f"`public_key` is not understood: {fault}") from None
        said = {"certificate": certificate, "expires_in": int(ends - self.clock.now())}
        return JSONResponse(said, headers=NO_STORE)

    def _runs(self, caller: LabCaller, verb: str, address: str) -> Response:
        """What a resource shows for a person who runs code on it: it is who asks from then on, by its own sessions;
        who began the chain is carried on."""
        claims: dict[str, Any] = {
            "aud": self.url, "sub": address, "runs_on": address, "client_id": address, "origin": dict(caller.origin),
            "exp": int(self.clock.now()) + RUNNING_LIFE, "act": {"sub": caller.address, "act": dict(caller.actor)},
            **({"signed_in": dict(caller.signed_in)} if caller.signed_in else {}),
            **({"chain": list(caller.sessions)} if caller.sessions else {}),
        }  # fmt: skip
        claims |= self.sessions.begin(address, claims, claims["exp"])
        shown = self.signer.sign(claims, typ=SESSION_TYPE)
        return JSONResponse({"decided": "allowed", "verb": verb, "place": address, "runs": shown})

    def _verb(self, request: Request) -> str:
        query = request.query_params
        if request.method == "GET":
            return "list" if "list" in query else "read"
        if request.method == "POST":
            if not query.get("verb") or query["verb"] == "take-on":
                raise Problem(400, "bad-request", "say which verb; identities are taken on at the token endpoint")
            return query["verb"]
        return {"PUT": "write", "DELETE": "delete"}[request.method]

    async def _store(self, request: Request, caller: LabCaller, address: str, *, removing: bool) -> Response:
        content: bytes | None = None
        if not removing:
            content = await request.body()
            if len(content) > MAX_BODY:
                raise Problem(413, "too-large", f"more than {MAX_BODY} bytes")
        if "trial" in request.query_params:
            identifier = self.store.start_trial(caller.address, address, content, self.clock.now())
            return JSONResponse({"trial": identifier}, 201, {"Location": f"{self.url}/trials/{identifier}"})
        self.store.set_content(address, content)
        return Response(status_code=204 if removing else 201)

    async def _trial(self, request: Request) -> Response:
        """Shows whether what was tried is there, and ends the trial; for the identity that started it."""
        caller = self.callers.of_session(_bearer(request))
        identifier: str = request.path_params["id"]
        found = self.store.trial(identifier)
        if found is None or found[0] != caller.address:
            raise Problem(404, "not-found", "unknown trial")
        if request.method == "DELETE":
            self.store.end_trial(identifier)
            return Response(status_code=204)
        content = self.store.content(found[1])
        digest = hashlib.sha256(content).hexdigest() if content is not None else None
        return JSONResponse({"place": found[1], "stored": content is not None, "sha256": digest})


def _exchanged(form: Mapping[str, str]) -> dict[str, str]:
    """The parameters of an exchange; those of RFC 7522, section 2.1, in the words of RFC 8693."""
    if form["grant_type"] == ASSERTED:
        if "assertion" not in form:
            raise Wrong("invalid_request", "assertion is missing")
        return {**form, "subject_token": form["assertion"], "subject_token_type": SAML2}
    if form["grant_type"] != EXCHANGE:
        raise Wrong("unsupported_grant_type", f"only {EXCHANGE}, {ASSERTED} and {KEYED} are known here")
    if form.get("subject_token_type") not in TOKEN_TYPES or "subject_token" not in form:
        raise Wrong("invalid_request", "subject_token and its type are missing or not understood")
    return dict(form)


def _bearer(request: Request) -> str:
    """RFC 6750, section 2.1; the other two ways are not taken."""
    scheme, _, token = request.headers.get("authorization", "").partition(" ")
    if scheme.lower() != "bearer" or not token:
        raise Problem(401, "no-token", "a bearer token is needed")
    return token.strip()


def _by_collection(every: Sequence[Statement]) -> dict[str, tuple[Statement, ...]]:
    found: dict[str, list[Statement]] = {name: [] for name in COLLECTIONS}
    for statement in every:
        found[statement.collection].append(statement)
    return {name: tuple(listed) for name, listed in found.items()}


def _as_it_is_now(inventory: Mapping[str, Any], things: Mapping[str, Any]) -> Mapping[str, Any]:
    """The inventory with what came since, and without what went."""
    resources = {**inventory["resources"], **things}
    return {**inventory, "resources": {address: one for address, one in resources.items() if one is not None}}


def around_of(request: Request, now: float) -> LabSurroundings:
    """What surrounds a request at a time (seconds since 1970), as far as it says."""
    reference = request.headers.get("agreed-reference")
    return LabSurroundings(now, _network(request), unquote(reference) if reference is not None else None)


def _network(request: Request) -> str | None:
    """Where a request comes from: what `Forwarded` (RFC 7239) says, since all of a lab's callers are local.

    A request that says nothing comes from nowhere that is known.
    """
    for part in request.headers.get("forwarded", "").split(";"):
        name, _, value = part.strip().partition("=")
        if name.lower() == "for":
            text = value.strip('"').strip("[]")
            try:
                return str(ip_address(text))
            except ValueError:
                raise Problem(400, "bad-request", "Forwarded names no address") from None
    return None


def _narrowing(text: str | None) -> Mapping[str, list[str]] | None:
    """The narrowing in authorization_details (RFC 9396, section 2)."""
    if text is None:
        return None
    try:
        details = json.loads(text)
        kinds: dict[str, list[str]] = {}
        for detail in details:
            if detail["type"] != NARROWING or len(details) != 1:
                raise Problem(400, "bad-request", "one authorization detail of type narrowing is understood")
            kinds = {
                kind: [verbs] if isinstance(verbs, str) else list(verbs) for kind, verbs in detail["kinds"].items()
            }
    except (ValueError, TypeError, KeyError, AttributeError, RecursionError):
        raise Problem(400, "bad-request", "authorization_details is not understood") from None
    return kinds

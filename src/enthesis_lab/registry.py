"""A stand-in image registry: the public distribution API (OCI distribution 1.1), with tokens for what a caller may do.

    GET    /v2/                               401 with a challenge, or 200 for a token
    GET    /token?service=&scope=             a token for a session (Basic: the identity and its session), or for the
                                              login that people share, where that is on
    GET    /v2/NAME/tags/list                 and manifests, blobs and uploads as the API has them
    GET, PUT /shared-login                    for the lab's owner: the login that people share; {"on": …} switches it

The cloud of the registry's account decides: `pull`, `list` and `push` on the image of that name.
"""

import hashlib
import json
import secrets
import uuid
from collections.abc import Mapping
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from enthesis_lab.administration import json_body
from enthesis_lab.cloud import CloudServer, around_of
from enthesis_lab.deciding import decide
from enthesis_lab.guarding import owner_asks
from enthesis_lab.issued_secrets import remember
from enthesis_lab.oauth import Wrong, client_of
from enthesis_lab.problems import HANDLERS, Problem
from enthesis_lab.store import Store
from enthesis_lab.tokens import Clock, Signer, TokenRefused

TOKEN_LIFE = 60  # seconds
SHARED = "shared"  # the user of the login that people share
VERBS = {"pull": ("pull", "list"), "push": ("push",)}  # what the actions of the API are here
MAX_BODY = 32 * 1024 * 1024  # bytes of a manifest or a blob
MAX_UPLOADS = 32
MANIFEST = "application/vnd.oci.image.manifest.v1+json"


class Denied(Exception):
    """A request that is not granted; `code` is one of the API's."""

    def __init__(self, status: int, code: str, message: str, challenge: str = "", steps: tuple[str, ...] = ()) -> None:
        super().__init__(message)
        self.status = status
        self.code = code
        self.challenge = challenge
        self.steps = steps


async def as_denied(request: Request, fault: Exception) -> Response:
    """What the API answers when it raises Denied."""
    del request
    if not isinstance(fault, Denied):
        raise fault
    detail = {"refused_at": list(fault.steps)} if fault.steps else None
    body = {"errors": [{"code": fault.code, "message": str(fault), "detail": detail}]}
    return JSONResponse(body, fault.status, {"WWW-Authenticate": fault.challenge} if fault.challenge else {})


class RegistryServer:
    """One registry, called by its address in the estate. `cloud` decides what callers may do."""

    def __init__(
        self, address: str, entry: Mapping[str, Any], store: Store, clock: Clock, signer: Signer, cloud: CloudServer
    ) -> None:
        self.address = address
        self.store = store
        self.clock = clock
        self.signer = signer
        self.cloud = cloud
        self._uploads: dict[str, tuple[str, bytearray]] = {}
        if store.setting(f"shared {address}") is None:
            store.set_setting(f"shared {address}", remember(secrets.token_urlsafe(24)))
        described = entry.get("shared_login") == "on"
        if store.setting(f"shared described {address}") != described:  # what its owner switched since stays otherwise
            store.set_setting(f"shared on {address}", described)
            store.set_setting(f"shared described {address}", described)

    def app(self) -> Starlette:
        """The HTTP interface."""
        one = ["GET", "HEAD", "PUT", "DELETE"]
        routes = [
            Route("/token", self._token),
            Route("/shared-login", self._shared_login, methods=["GET", "PUT"]),
            Route("/v2/", self._base),
            Route("/v2/{name:path}/tags/list", self._tags),
            Route("/v2/{name:path}/manifests/{reference}", self._manifest, methods=one),
            Route("/v2/{name:path}/blobs/uploads/", self._begin, methods=["POST"]),
            Route("/v2/{name:path}/blobs/uploads/{id}", self._upload, methods=["GET", "PATCH", "PUT", "DELETE"]),
            Route("/v2/{name:path}/blobs/{digest}", self._blob, methods=["GET", "HEAD"]),
        ]
        return Starlette(routes=routes, exception_handlers={**HANDLERS, Denied: as_denied})

    # -- who asks --------------------------------------------------------------------------------------------

    async def _token(self, request: Request) -> Response:
        """The token that a challenge asks for, with the actions that the caller may do; the others are left out."""
        if request.query_params.get("service") not in (None, self.address):
            raise Denied(400, "UNSUPPORTED", "this is another service")
        try:
            user, password = client_of(request, {}) or ("", "")
        except Wrong as fault:
            raise Denied(401, "UNAUTHORIZED", str(fault)) from None
        access: list[dict[str, Any]] = []
        refused: dict[str, list[str]] = {}
        shared = user == SHARED and self._is_shared(password)
        if user == SHARED and not shared:
            raise Denied(401, "UNAUTHORIZED", "there is no login that people share", steps=("names",))
        caller = None if shared else self._caller(user, password)
        for scope in request.query_params.getlist("scope"):
            kind, _, rest = scope.partition(":")
            name, _, actions = rest.rpartition(":")
            if kind != "repository" or not name:
                raise Denied(400, "UNSUPPORTED", "a scope is repository:NAME:ACTIONS")
            granted: list[str] = []
            for action in dict.fromkeys(actions.split(",")):
                for verb in VERBS.get(action, ()):
                    steps = [] if caller is None else self._decided(request, caller, verb, name)
                    granted += [] if steps else [verb]
                    refused |= {f"{verb} {name}": steps} if steps else {}
            access.append({"type": "repository", "name": name, "actions": granted})
        claims = {
            "sub": user, "aud": self.address, "access": access, "refused": refused,
            "exp": int(self.clock.now()) + TOKEN_LIFE,
        }  # fmt: skip
        token = self.signer.sign(claims, typ="JWT")
        body = {"token": token, "access_token": token, "expires_in": TOKEN_LIFE}
        return JSONResponse(body, headers={"Cache-Control": "no-store"})

    def _is_shared(self, password: str) -> bool:
        known = str(self.store.setting(f"shared {self.address}"))
        return self.store.setting(f"shared on {self.address}") is True and secrets.compare_digest(known, password)

    def _caller(self, user: str, session: str) -> Any:
        try:
            caller = self.cloud.callers.of_session(session)
        except Problem as fault:
            steps = tuple(fault.body.get("refused_at", ()))
            raise Denied(401, "UNAUTHORIZED", str(fault), steps=steps) from None
        if caller.address != user:
            raise Denied(401, "UNAUTHORIZED", "the session is another caller's")
        return caller

    def _decided(self, request: Request, caller: Any, verb: str, name: str) -> list[str]:
        """The steps that refuse a verb on an image; empty where it is allowed."""
        place, around = f"{self.address}/image/{name}", around_of(request, self.clock.now())
        outcome = decide(self.cloud.world(), caller, verb, place, around)
        self.cloud.noted(caller, verb, place, outcome, around)
        return [] if outcome.allowed else list(outcome.refused_at)

    def _may(self, request: Request, verb: str) -> str:
        """The name of the image that a request is about, which it may do this to; Denied where not."""
        name = str(request.path_params["name"])
        scope = f"repository:{name}:{'push,pull' if verb == 'push' else 'pull'}"
        challenge = f'Bearer realm="{self.signer.issuer}/token",service="{self.address}",scope="{scope}"'
        claims = self._claims(request, challenge)
        if any(one["name"] == name and verb in one["actions"] for one in claims.get("access", [])):
            return name
        steps = claims.get("refused", {}).get(f"{verb} {name}")
        if steps:
            raise Denied(403, "DENIED", f"access is refused at {', '.join(steps)}", steps=tuple(steps))
        raise Denied(401, "UNAUTHORIZED", "the token is for something else", f'{challenge},error="insufficient_scope"')

    def _claims(self, request: Request, challenge: str) -> dict[str, Any]:
        scheme, _, token = request.headers.get("authorization", "").partition(" ")
        if scheme.lower() != "bearer" or not token:
            raise Denied(401, "UNAUTHORIZED", "a token of this registry is needed", challenge)
        try:
            claims = self.signer.verify(token.strip(), typ="JWT")
        except TokenRefused as fault:
            raise Denied(401, "UNAUTHORIZED", str(fault), f'{challenge},error="invalid_token"') from None
        if claims.get("aud") != self.address:
            raise Denied(401, "UNAUTHORIZED", "the token is meant for another audience", challenge)
        return claims

    async def _shared_login(self, request: Request) -> Response:
        owner_asks(self.store, request)
        if request.method == "PUT":
            body = await json_body(request)
            if set(body) != {"on"} or not isinstance(body["on"], bool):
                raise Problem(422, "not-understood", "`on` is true or false, and the only field")
            self.store.set_setting(f"shared on {self.address}", body["on"])
        on, password = (self.store.setting(f"{name} {self.address}") for name in ("shared on", "shared"))
        return JSONResponse({"user": SHARED, "password": password, "on": on}, headers={"Cache-Control": "no-store"})

    # -- images ----------------------------------------------------------------------------------------------

    async def _base(self, request: Request) -> Response:
        self._claims(request, f'Bearer realm="{self.signer.issuer}/token",service="{self.address}"')
        return JSONResponse({})

    async def _tags(self, request: Request) -> Response:
        name = self._may(request, "list")
        start = f"{self.address} manifest {name} "
        tags = [one[len(start) :] for one in self.store.beginning(start) if not one[len(start) :].startswith("sha256:")]
        if not tags:
            raise Denied(404, "NAME_UNKNOWN", "there is no image of this name")
        return JSONResponse({"name": name, "tags": tags})

    async def _manifest(self, request: Request) -> Response:
        name = self._may(request, "pull" if request.method in ("GET", "HEAD") else "push")
        reference = str(request.path_params["reference"])
        key = f"{self.address} manifest {name} {reference}"
        if request.method == "PUT":
            content = await self._body(request)
            digest = _digest(content)
            if reference.startswith("sha256:") and reference != digest:
                raise Denied(400, "DIGEST_INVALID", "the content has another digest")
            try:
                missing = [one for one in _named_in(json.loads(content)) if self._stored(f"blob {name} {one}") is None]
            except (ValueError, AttributeError, TypeError, RecursionError):
                raise Denied(400, "MANIFEST_INVALID", "the manifest is not understood") from None
            if missing:
                raise Denied(404, "MANIFEST_BLOB_UNKNOWN", "the manifest names what is not there")
            media = request.headers.get("content-type", MANIFEST).partition(";")[0].strip()
            for at in {reference, digest}:
                self.store.set_content(f"{self.address} manifest {name} {at}", media.encode() + b"\n" + content)
            headers = {"Location": f"/v2/{name}/manifests/{digest}", "Docker-Content-Digest": digest}
            return Response(status_code=201, headers=headers)
        found = self.store.content(key)
        if found is None:
            raise Denied(404, "MANIFEST_UNKNOWN", "there is no such manifest")
        if request.method == "DELETE":
            self.store.set_content(key, None)
            return Response(status_code=202)
        media_type, _, content = found.partition(b"\n")
        headers = {"Docker-Content-Digest": _digest(content), "Content-Length": str(len(content))}
        shown = b"" if request.method == "HEAD" else content
        return Response(shown, media_type=media_type.decode(), headers=headers)

    async def _blob(self, request: Request) -> Response:
        name = self._may(request, "pull")
        found = self._stored(f"blob {name} {request.path_params['digest']}")  # of this image, whoever else has it
        if found is None:
            raise Denied(404, "BLOB_UNKNOWN", "there is no such blob")
        headers = {"Docker-Content-Digest": _digest(found), "Content-Length": str(len(found))}
        shown = b"" if request.method == "HEAD" else found
        return Response(shown, media_type="application/octet-stream", headers=headers)

    async def _begin(self, request: Request) -> Response:
        name = self._may(request, "push")
        if len(self._uploads) >= MAX_UPLOADS:
            self._uploads.pop(next(iter(self._uploads)))
        identifier = uuid.uuid4().hex
        self._uploads[identifier] = (name, bytearray())
        return self._under_way(identifier, 202)

    async def _upload(self, request: Request) -> Response:
        name = self._may(request, "push")
        identifier = str(request.path_params["id"])
        found = self._uploads.get(identifier)
        if found is None or found[0] != name:
            raise Denied(404, "BLOB_UPLOAD_UNKNOWN", "there is no such upload")
        if request.method == "DELETE":
            del self._uploads[identifier]
            return Response(status_code=204)
        if request.method == "GET":
            return self._under_way(identifier, 204)
        found[1].extend(await self._body(request))
        if len(found[1]) > MAX_BODY:
            raise Denied(413, "SIZE_INVALID", f"more than {MAX_BODY} bytes")
        if request.method == "PATCH":
            return self._under_way(identifier, 202)
        digest = _digest(bytes(found[1]))
        if request.query_params.get("digest") != digest:
            raise Denied(400, "DIGEST_INVALID", "the content has another digest")
        del self._uploads[identifier]
        self.store.set_content(f"{self.address} blob {name} {digest}", bytes(found[1]))
        headers = {"Location": f"/v2/{name}/blobs/{digest}", "Docker-Content-Digest": digest}
        return Response(status_code=201, headers=headers)

    def _under_way(self, identifier: str, status: int) -> Response:
        name, content = self._uploads[identifier]
        place = f"{self.signer.issuer}/v2/{name}/blobs/uploads/{identifier}"
        return Response(status_code=status, headers={"Location": place, "Range": f"0-{max(0, len(content) - 1)}"})

    def _stored(self, key: str) -> bytes | None:
        return self.store.content(f"{self.address} {key}")

    @staticmethod
    async def _body(request: Request) -> bytes:
        content = await request.body()
        if len(content) > MAX_BODY:
            raise Denied(413, "SIZE_INVALID", f"more than {MAX_BODY} bytes")
        return content


def own_registries(inventory: Mapping[str, Any]) -> dict[str, Mapping[str, Any]]:
    """The registries that have a server of their own, by address."""
    found = inventory["resources"].items()
    return {address: one for address, one in found if address.split("/")[1:2] == ["registry"] and one.get("url")}


def _named_in(manifest: Any) -> list[str]:
    """The digests of the blobs that a manifest names."""
    listed = [manifest.get("config"), *manifest.get("layers", [])]
    return [str(one["digest"]) for one in listed if one is not None]


def _digest(content: bytes) -> str:
    return f"sha256:{hashlib.sha256(content).hexdigest()}"

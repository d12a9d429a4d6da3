"""A stand-in pipeline service: an OIDC issuer whose runs get tokens."""

from collections.abc import Iterator, Mapping
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from enthesis_lab.administration import json_body
from enthesis_lab.conditions import all_hold
from enthesis_lab.guarding import owner_asks
from enthesis_lab.oauth import published
from enthesis_lab.pipeline_access import PipelineAccessKept
from enthesis_lab.problems import HANDLERS, Problem
from enthesis_lab.store import Store
from enthesis_lab.tokens import Clock, Signer

TOKEN_LIFE = 600  # seconds
REGISTERED = ("iss", "exp", "iat", "nbf", "jti", "aud")
RUN_FIELDS = ("project", "branch", "event", "environment")


def leaves_of(claims: Mapping[str, Any], stem: str = "") -> Iterator[tuple[str, Any]]:
    """Every claim but objects: those at the top by name, those inside an object by JSON Pointer (RFC 6901)."""
    for name, value in claims.items():
        pointer = f"{stem}/" + name.replace("~", "~0").replace("/", "~1")
        if isinstance(value, Mapping):
            yield from leaves_of(value, pointer)
        else:
            yield (pointer if stem else name), value


class PipelineServer:
    """One issuer. The lab's owner starts runs: what a run may do is for others to decide.

    `providers` are those of accounts, by name: whom pipeline access leads to is in one of them.
    """

    def __init__(
        self, name: str, settings: Mapping[str, Any], store: Store, clock: Clock, signer: Signer,
        providers: Mapping[str, str],
    ) -> None:  # fmt: skip
        self.name = name
        self.settings = settings
        self.kept = PipelineAccessKept(name, store)
        self.providers = providers
        self.store = store
        self.clock = clock
        self.signer = signer

    def app(self) -> Starlette:
        """The HTTP interface."""
        routes = [
            Route("/.well-known/openid-configuration", self._configuration),
            Route("/jwks", self._jwks),
            Route("/runs", self._start, methods=["POST"]),
            Route("/runs/{id}/token", self._token, methods=["POST"]),
            Route("/runs/{id}/pipeline-access/{name}", self._pipeline_access, methods=["POST"]),
            *self.kept.routes(),
        ]
        return Starlette(routes=routes, exception_handlers=HANDLERS)

    async def _configuration(self, request: Request) -> Response:
        """OpenID Connect Discovery 1.0, section 3."""
        url = self.signer.issuer
        return published(
            request,
            {
                "issuer": url,
                "jwks_uri": f"{url}/jwks",
                "response_types_supported": ["id_token"],
                "subject_types_supported": ["public"],
                "id_token_signing_alg_values_supported": ["ES256", "RS256"],
                "claims_supported": [*REGISTERED, *(self.settings.get("claims") or ("sub", *RUN_FIELDS))],
                "run_endpoint": f"{url}/runs",
            },
        )

    async def _jwks(self, request: Request) -> Response:
        return published(request, self.signer.jwks())

    async def _start(self, request: Request) -> Response:
        """A run by project, branch, event and environment; or one whose tokens carry just these claims."""
        owner_asks(self.store, request)
        body = await json_body(request)
        if "claims" in body:
            claims = body["claims"]
            if set(body) != {"claims"} or not isinstance(claims, dict):
                raise Problem(422, "not-understood", "`claims` is a mapping, and the only field")
        else:
            if set(body) - set(RUN_FIELDS) or not all(isinstance(one, str) for one in body.values()):
                raise Problem(422, "not-understood", f"a run has {', '.join(RUN_FIELDS)}, all texts")
            if "project" not in body or "branch" not in body:
                raise Problem(422, "not-understood", "a run has at least a project and a branch")
            claims = {"event": "push", **body, "sub": f"project/{body['project']}/branch/{body['branch']}"}
        self._issues(claims)
        identifier = self.store.add_run(self.name, claims, self.clock.now())
        return JSONResponse({"id": identifier, "token_endpoint": f"{self.signer.issuer}/runs/{identifier}/token"}, 201)

    def _issues(self, claims: Mapping[str, Any]) -> None:
        taken = set(claims) & set(REGISTERED)
        if taken:
            raise Problem(422, "not-understood", f"the issuer sets {', '.join(sorted(taken))} itself")
        listed = self.settings.get("claims")
        for name, value in leaves_of(claims):
            if listed is not None and name not in ("sub", *listed):
                raise Problem(422, "not-issued", f"this issuer never issues the claim {name}")
            if isinstance(value, list) and (listed or {}).get(name) != "list":
                raise Problem(422, "not-issued", f"this issuer issues {name} as one value")

    async def _pipeline_access(self, request: Request) -> Response:
        """Pipeline access, for a run that may use it: its own token for whom the way leads to, and no key.

        Nobody may by default, and no run of another organisation may, whatever the conditions say.
        """
        owner_asks(self.store, request)
        claims = self.store.run(self.name, request.path_params["id"])
        found = self.kept.named(request.path_params["name"])
        if claims is None or found is None:
            raise Problem(404, "not-found", "there is no such run, or no pipeline access of that name")
        shown = {**claims, "aud": self._audience(found["of"])}
        if self.settings.get("shared") and all_hold(self.settings.get("owned", {}), shown) is not True:
            detail = "pipeline access here is for runs of this organisation only"
            raise Problem(403, "refused", detail, refused_at=["target-side"])
        if all_hold(found["admits"], shown) is not True:
            raise Problem(403, "refused", "this run may not use it", refused_at=["target-side"])
        token = self.signer.sign({**shown, "exp": int(self.clock.now()) + TOKEN_LIFE}, typ="JWT")
        body = {"identity": found["of"], "token": token, "expires_in": TOKEN_LIFE}
        return JSONResponse(body, headers={"Cache-Control": "no-store"})

    def _audience(self, identity: str) -> str:
        """For whom a token is made that opens an identity: its cluster, else the provider of its account."""
        account, *more = identity.split("/")
        return "/".join((account, *more[:2])) if more[:1] == ["cluster"] else self.providers.get(account, account)

    async def _token(self, request: Request) -> Response:
        """A token for a run, for one audience or several."""
        owner_asks(self.store, request)
        body = await json_body(request)
        claims = self.store.run(self.name, request.path_params["id"])
        if claims is None:
            raise Problem(404, "not-found", "there is no such run")
        audience = body.get("audience", self.signer.issuer)
        texts = audience if isinstance(audience, list) else [audience]
        if not texts or not all(isinstance(text, str) for text in texts):
            raise Problem(422, "not-understood", "`audience` is a text, or a list of texts")
        allowed = self.settings.get("audiences")
        if allowed and set(texts) - set(allowed):
            raise Problem(422, "not-issued", "this issuer issues no token for this audience")
        full = {**claims, "aud": audience, "exp": int(self.clock.now()) + TOKEN_LIFE}
        try:
            token = self.signer.sign(full, typ="JWT", algorithm=body.get("alg", "ES256"))
        except LookupError:
            raise Problem(422, "not-understood", "`alg` is ES256 or RS256") from None
        return JSONResponse({"token": token, "expires_in": TOKEN_LIFE}, headers={"Cache-Control": "no-store"})

"""The stand-in cluster's API server: authentication by service account tokens, its own authorisation, and objects."""

import json
from collections.abc import Callable, Iterable, Mapping
from datetime import UTC, datetime
from functools import partial
from typing import Any

import yaml
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from enthesis_lab.cluster import binary
from enthesis_lab.cluster.access import MASTERS, Attributes, Policy, User
from enthesis_lab.cluster.applying import MEDIA as APPLIED
from enthesis_lab.cluster.applying import Managed, applied
from enthesis_lab.cluster.auditing import Audit
from enthesis_lab.cluster.forming import Forming
from enthesis_lab.cluster.furnishing import ensure_default_account, furnish
from enthesis_lab.cluster.kinds import (
    LOCAL,
    RBAC,
    REVIEWS,
    SERVED,
    Served,
    api_group,
    group_list,
    groups,
    resource_list,
)
from enthesis_lab.cluster.objects import ADMINISTRATOR, TOKEN_TYPE, Objects
from enthesis_lab.cluster.patching import PATCHES, NotApplicable
from enthesis_lab.cluster.refusals import StatusRefusal, bad, invalid, no_such_resource, not_found, taken, wrong_method
from enthesis_lab.cluster.reviewing import Reviews, must_be
from enthesis_lab.cluster.selecting import InvalidSelector, by_fields, by_labels
from enthesis_lab.cluster.watching import Watching
from enthesis_lab.oauth import published
from enthesis_lab.store import Store
from enthesis_lab.tokens import Clock, Signer, TokenRefused

MIN_LIFE, MAX_LIFE, USUAL_LIFE = 600, 86_400, 3600  # seconds that a requested token lives
MAX_BODY = 1024 * 1024  # bytes
MAX_PAGE = 5000
SERVER_VERSION = {
    "major": "1", "minor": "31", "gitVersion": "v1.31.0-lab", "gitCommit": "0" * 40, "gitTreeState": "clean",
    "buildDate": "2026-01-01T00:00:00Z", "goVersion": "none", "compiler": "none", "platform": "lab",
}  # fmt: skip
READY = tuple(f"/{name}{more}" for name in ("healthz", "livez", "readyz") for more in ("", "/ping"))
JSON_TYPES = ("application/json", "application/*", "*/*", binary.MEDIA)  # who asks for the other reads JSON too


class ClusterServer:
    """One cluster; `name` is its address in the estate."""

    def __init__(self, name: str, store: Store, clock: Clock, signer: Signer) -> None:
        self.name = name
        self.store = store
        self.clock = clock
        self.signer = signer
        self.objects = Objects(store, name)
        self.audit = Audit(store, name, clock)
        self._policy: tuple[int, Policy] | None = None

    def app(self) -> Starlette:
        """The HTTP interface."""

        async def as_status(request: Request, fault: Exception) -> Response:
            if isinstance(fault, StatusRefusal):
                return fault.response()
            raise fault

        methods = ["GET", "POST", "PUT", "PATCH", "DELETE"]
        routes = [
            Route("/.well-known/openid-configuration", self._configuration),
            Route("/openid/v1/jwks", self._jwks),
            Route("/version", self._plain(SERVER_VERSION)),
            Route("/api", self._plain({"kind": "APIVersions", "versions": ["v1"]})),
            Route("/apis", self._plain(group_list())),
            Route("/apis/{group}", self._group),
            Route("/apis/{group}/", self._group),
            Route("/apis/", self._plain(group_list())),
            Route("/api/", self._plain({"kind": "APIVersions", "versions": ["v1"]})),
            Route("/version/", self._plain(SERVER_VERSION)),
            Route("/api/v1", self._plain(resource_list(""))),
            Route("/apis/{group}/v1", self._resources),
            Route("/openapi/v2", self._openapi),
            Route("/lab/audit", self._audited),
            *(Route(path, self._healthy) for path in READY),
            Route("/api/v1/{rest:path}", self._api, methods=methods),
            Route("/apis/{group}/v1/{rest:path}", self._api, methods=methods),
        ]
        return Starlette(routes=routes, exception_handlers={StatusRefusal: as_status})

    # -- what clients read first -----------------------------------------------------------------------------

    @staticmethod
    def _plain(body: Mapping[str, Any]) -> Any:
        async def answer(request: Request) -> Response:
            return JSONResponse(body)

        return answer

    async def _healthy(self, request: Request) -> Response:
        told = "[+]ping ok\nhealthz check passed\n" if "verbose" in request.query_params else "ok"
        return Response(told, media_type="text/plain")

    async def _openapi(self, request: Request) -> Response:
        return Response(b"", media_type="application/com.github.proto-openapi.spec.v2.v1.0+protobuf")

    async def _group(self, request: Request) -> Response:
        return JSONResponse(api_group(self._known_group(request)))

    async def _resources(self, request: Request) -> Response:
        return JSONResponse(resource_list(self._known_group(request)))

    @staticmethod
    def _known_group(request: Request) -> str:
        group: str = request.path_params["group"]
        if group not in groups():
            raise no_such_resource()
        return group

    async def _configuration(self, request: Request) -> Response:
        """OpenID Connect Discovery 1.0, section 3: a cluster's issuer of service account tokens."""
        url = self.signer.issuer
        return published(
            request,
            {
                "issuer": url,
                "jwks_uri": f"{url}/openid/v1/jwks",
                "response_types_supported": ["id_token"],
                "subject_types_supported": ["public"],
                "id_token_signing_alg_values_supported": ["RS256"],
            },
        )

    async def _jwks(self, request: Request) -> Response:
        return published(request, self.signer.jwks())

    async def _audited(self, request: Request) -> Response:
        """The audit log from a number on; of the lab alone, since clusters write theirs into files or send them."""
        user = self.user_of(request)
        after = request.query_params.get("after", "0")
        if not after.isdigit():
            raise bad("after is a number")
        if not self.policy().allowed(user, Attributes("get", path=request.url.path)):
            raise StatusRefusal(403, "Forbidden", f'forbidden: User "{user.name}" cannot get path "{request.url.path}"')
        return JSONResponse(self.audit.after(int(after)))

    # -- who asks, and whether it may ------------------------------------------------------------------------

    def user_of(self, request: Request) -> User:
        """The user behind a bearer token, or the one that it asks to be taken for."""
        scheme, _, token = request.headers.get("authorization", "").partition(" ")
        if scheme.lower() != "bearer" or not token:
            raise StatusRefusal(401, "Unauthorized", "Unauthorized")
        user = self.authenticated(token, [self.signer.issuer])
        if user is None:
            raise StatusRefusal(401, "Unauthorized", "Unauthorized")
        wanted = request.headers.get("impersonate-user")
        if wanted is None:
            return user
        return self._impersonated(user, wanted, request.headers.getlist("impersonate-group"))

    def authenticated(self, token: str, audiences: Iterable[str]) -> User | None:
        """The user that a token of this cluster is for, meant for one of these audiences; None for any other token."""
        try:
            claims = self.signer.verify(token, typ=TOKEN_TYPE)
        except TokenRefused:
            return None
        shown = claims["aud"] if isinstance(claims["aud"], list) else [claims["aud"]]
        if not set(shown) & set(audiences):
            return None
        if claims.get("sub") == ADMINISTRATOR:
            return User(ADMINISTRATOR, (MASTERS, "system:authenticated"))
        bound = claims.get("kubernetes.io", {})
        account = self.objects.get(
            SERVED["", "serviceaccounts"], bound.get("namespace", ""), bound["serviceaccount"]["name"]
        )
        if account is None or account["metadata"]["uid"] != bound["serviceaccount"]["uid"]:
            return None  # one that was made anew under the same name is another one
        return User.service_account(bound["namespace"], account["metadata"]["name"], account["metadata"]["uid"])

    def _impersonated(self, user: User, name: str, wanted_groups: list[str]) -> User:
        parts = name.split(":")
        if name.startswith("system:serviceaccount:") and len(parts) == 4:
            self._must(user, Attributes("impersonate", "", "serviceaccounts", parts[2], parts[3]))
            taken = User.service_account(parts[2], parts[3])
        else:
            self._must(user, Attributes("impersonate", "", "users", "", name))
            taken = User(name, ("system:authenticated",))
        for group in wanted_groups:
            self._must(user, Attributes("impersonate", "", "groups", "", group))
        return User(taken.name, (*taken.groups, *wanted_groups))

    def policy(self) -> Policy:
        """All roles and bindings as they stand; read again only after a change."""
        version = self.objects.version()
        if self._policy is None or self._policy[0] != version:
            listed = [
                self.objects.listed(SERVED[RBAC, plural])[0]
                for plural in ("roles", "rolebindings", "clusterroles", "clusterrolebindings")
            ]
            self._policy = (version, Policy(*listed))
        return self._policy[1]

    def _must(self, user: User, wanted: Attributes) -> None:
        why = self.policy().allowed(user, wanted)
        self.audit.note(user, wanted, why)
        if not why:
            thing = f"{wanted.resource}{f'.{wanted.group}' if wanted.group else ''}"
            named = f' "{wanted.name}"' if wanted.name else ""
            where = f' in the namespace "{wanted.namespace}"' if wanted.namespace else " at the cluster scope"
            message = (
                f'{thing}{named} is forbidden: User "{user.name}" cannot {wanted.verb} resource "{wanted.resource}"'
                f' in API group "{wanted.group}"{where}'
            )
            raise StatusRefusal(403, "Forbidden", message)

    def furnish(self, resources: Mapping[str, Any]) -> None:
        """Makes what the estate says exists already beneath this cluster."""
        furnish(self.objects, resources, self.clock.now())

    # -- requests for objects --------------------------------------------------------------------------------

    async def _api(self, request: Request) -> Response:
        accepted = request.headers.get("accept", "*/*")
        if not any(text.partition(";")[0].strip() in JSON_TYPES for text in accepted.split(",")):
            raise StatusRefusal(406, "NotAcceptable", "only the following media types are accepted: application/json")
        user = self.user_of(request)
        group = request.path_params.get("group", "")
        parts = [part for part in request.path_params["rest"].split("/") if part]
        if not parts:  # the same with a stroke at its end
            if group and group not in groups():
                raise no_such_resource()
            return JSONResponse(resource_list(group))
        local = parts[0] == "namespaces" and len(parts) == 3
        kind = REVIEWS.get((group, parts[-1])) if local or len(parts) == 1 else None
        if kind is not None and local is (kind == LOCAL):
            return await self._review(request, user, kind, parts[1] if local else "")
        namespace, served, name, sub = self._addressed(group, parts)
        if sub:
            return await self._subresource(request, user, served, namespace, name, sub)
        if not name:
            return await self._collection(request, user, served, namespace)
        return await self._item(request, user, served, namespace, name)

    @staticmethod
    def _addressed(group: str, parts: list[str]) -> tuple[str, Served, str, str]:
        """Namespace, resource, name and subresource of a path; a namespace itself is asked for as one in itself."""
        namespace = ""
        if parts[0] == "namespaces" and len(parts) > 2:
            namespace, parts = parts[1], parts[2:]
        elif parts[0] == "namespaces" and len(parts) == 2:
            namespace = parts[1]
        served = SERVED.get((group, parts[0]))
        if served is None or len(parts) > 3:
            raise no_such_resource()
        return namespace, served, parts[1] if len(parts) > 1 else "", parts[2] if len(parts) > 2 else ""

    def _home(self, served: Served, namespace: str) -> str:
        return namespace if served.namespaced else ""

    def _found(self, served: Served, namespace: str, name: str) -> dict[str, Any]:
        found = self.objects.get(served, self._home(served, namespace), name)
        if found is None:
            raise not_found(served, name)
        return self._aggregated(served, found)

    def _aggregated(self, served: Served, found: dict[str, Any]) -> dict[str, Any]:
        if served.plural == "clusterroles" and found.get("aggregationRule"):
            found["rules"] = [dict(rule) for rule in self.policy().aggregated(found)]
        return found

    async def _collection(self, request: Request, user: User, served: Served, namespace: str) -> Response:
        if request.method == "GET":
            verb = "watch" if request.query_params.get("watch") in ("1", "true") else "list"
            self._must(user, Attributes(verb, served.group, served.plural, namespace))
            if verb == "watch":
                return self._watch(request, served, namespace)
            return self._list(request, served, namespace)
        if request.method == "POST":
            body = await self._body(request)
            meta = _meta(body)
            if not meta.get("name") and meta.get("generateName"):
                meta["name"] = f"{meta['generateName']}{self.objects.version():05d}"
            self._must(user, Attributes("create", served.group, served.plural, namespace, meta.get("name", "")))
            return self._create(request, user, served, namespace, body)
        if request.method == "DELETE":
            self._must(user, Attributes("deletecollection", served.group, served.plural, namespace))
            for entry in [] if _is_dry(request) else self._chosen(request, served, namespace)[0]:
                self.objects.remove(served, entry["metadata"].get("namespace", ""), entry["metadata"]["name"])
            return self._list(request, served, namespace)
        raise wrong_method()

    def _chosen(self, request: Request, served: Served, namespace: str) -> tuple[list[dict[str, Any]], int | None]:
        """The objects that a list is for, with where the next page begins."""
        query = request.query_params
        limit, after = query.get("limit") or "0", query.get("continue") or "0"
        if not limit.isdigit() or not after.isdigit():
            raise bad("limit is a number, and continue what the last page said")
        chooses = _choosing(request, served)
        found, more = self.objects.listed(
            served, namespace or None if served.namespaced else None, int(after), min(int(limit) or -1, MAX_PAGE)
        )
        return [entry for entry in found if chooses(entry)], more

    def _watch(self, request: Request, served: Served, namespace: str) -> Response:
        shown = _as_metadata if _wants_metadata(request) else partial(self._aggregated, served)
        space = namespace or None if served.namespaced else None
        watching = Watching(self.objects, served, space, _choosing(request, served), shown)
        return StreamingResponse(watching.lines(request), media_type="application/json")

    def _list(self, request: Request, served: Served, namespace: str) -> Response:
        found, more = self._chosen(request, served, namespace)
        found = [self._aggregated(served, entry) for entry in found]
        meta: dict[str, Any] = {"resourceVersion": str(self.objects.version())}
        if more is not None:
            meta["continue"] = str(more)
        if _wants_metadata(request):
            kind = {"kind": "PartialObjectMetadataList", "apiVersion": "meta.k8s.io/v1"}
            return JSONResponse({**kind, "metadata": meta, "items": [_as_metadata(entry) for entry in found]})
        if "as=Table" in request.headers.get("accept", ""):
            return JSONResponse(_table(meta, found))
        return JSONResponse(
            {"kind": f"{served.kind}List", "apiVersion": served.version, "metadata": meta, "items": found}
        )

    def _create(
        self, request: Request, user: User, served: Served, namespace: str, body: dict[str, Any],
        managed: Managed | None = None,
    ) -> Response:  # fmt: skip
        home = self._home(served, namespace)
        if served.namespaced and self.objects.get(SERVED["", "namespaces"], "", home) is None:
            raise not_found(SERVED["", "namespaces"], home)
        _well_formed(served, body, home)
        self._may_give(user, served, home, body)
        kept = _kept(body)
        managed = managed or Managed({}).after_update(_manager(request), None, kept)
        kept["metadata"]["managedFields"] = managed.written(served.version, self._time())
        if _is_dry(request):
            if self.objects.get(served, home, body["metadata"]["name"]) is not None:
                raise taken(served, body["metadata"]["name"])
            return JSONResponse(body, 201)
        made = self.objects.add(served, home, kept, self.clock.now())
        if made is None:
            raise taken(served, body["metadata"]["name"])
        if served.plural == "namespaces":
            ensure_default_account(self.objects, body["metadata"]["name"], self.clock.now())
        return JSONResponse(made, 201)

    async def _item(self, request: Request, user: User, served: Served, namespace: str, name: str) -> Response:
        verb = {"GET": "get", "PUT": "update", "PATCH": "patch", "DELETE": "delete"}.get(request.method)
        if verb is None:
            raise wrong_method()
        self._must(user, Attributes(verb, served.group, served.plural, namespace, name))
        if verb == "patch" and _media(request) == APPLIED:
            return await self._applied(request, user, served, namespace, name)
        home, found = self._home(served, namespace), self._found(served, namespace, name)
        if verb == "get":
            return JSONResponse(found)
        if verb == "patch":
            changed = await self._patched(request, found)
            return self._replaced(request, user, served, home, found, changed)
        body = await self._body(request) if await request.body() else {}
        if verb == "delete":
            wanted = body.get("preconditions") or {}
            _same(found, wanted.get("uid"), wanted.get("resourceVersion"))
            if not _is_dry(request):
                self.objects.remove(served, home, name)
            if served.plural in ("pods", "serviceaccounts"):
                return JSONResponse(found)
            return JSONResponse({"kind": "Status", "apiVersion": "v1", "metadata": {}, "status": "Success"})
        return self._replaced(request, user, served, home, found, body)

    async def _applied(self, request: Request, user: User, served: Served, namespace: str, name: str) -> Response:
        """An object as somebody applies it, who manages its fields from then on; made where there is none."""
        query = request.query_params
        if not query.get("fieldManager"):
            raise bad(
                'PatchOptions.meta.k8s.io "" is invalid: fieldManager: Required value: is required for apply patch'
            )
        try:
            wanted = yaml.safe_load(await self._data(request))
        except (yaml.YAMLError, ValueError, RecursionError):
            raise bad("the body is not YAML") from None
        if not isinstance(wanted, dict):
            raise bad("the body is not an object")
        meta = _meta(wanted)
        if meta.get("managedFields"):
            raise bad("metadata.managedFields must be nil")
        home = self._home(served, namespace)
        found = self.objects.get(served, home, name)
        if meta.setdefault("name", name) != name:
            raise bad("the name of the object does not match the name on the URL")
        if found is not None:
            _same(found, meta.get("uid"), meta.get("resourceVersion"))
        changed, managed = applied(found, wanted, _manager(request), force=query.get("force") == "true")
        if found is not None:
            return self._replaced(request, user, served, home, found, changed, managed)
        self._must(user, Attributes("create", served.group, served.plural, namespace, name))
        return self._create(request, user, served, namespace, changed, managed)

    async def _patched(self, request: Request, found: dict[str, Any]) -> dict[str, Any]:
        """An object as a patch of a known media type changes it."""
        apply = PATCHES.get(_media(request))
        if apply is None:
            known = ", ".join((*PATCHES, APPLIED))
            raise StatusRefusal(
                415, "UnsupportedMediaType", f"the body of the request was in an unknown format - accepted: {known}"
            )
        try:
            changed = apply(found, await self._json(request))
        except NotApplicable as fault:
            raise StatusRefusal(422, "Invalid", str(fault)) from None
        if not isinstance(changed, dict):
            raise bad("the patch makes no object")
        return changed

    def _replaced(
        self, request: Request, user: User, served: Served, home: str, found: dict[str, Any], changed: dict[str, Any],
        managed: Managed | None = None,
    ) -> Response:  # fmt: skip
        """An object put in place of the one that is there."""
        name, meta = found["metadata"]["name"], _meta(changed)
        _same(found, meta.get("uid"), meta.get("resourceVersion"))
        if meta.get("name", name) != name:
            raise bad("the name of the object does not match the name on the URL")
        _well_formed(served, changed, home)
        if changed.get("roleRef") != found.get("roleRef"):
            raise StatusRefusal(422, "Invalid", "roleRef: Invalid value: cannot change roleRef")
        self._may_give(user, served, home, changed)
        kept = _kept(changed)
        kept["metadata"] = {**meta, **{text: found["metadata"][text] for text in ("uid", "creationTimestamp", "name")}}
        if served.namespaced:
            kept["metadata"]["namespace"] = home
        kept["metadata"].pop("resourceVersion", None)
        managed = managed or Managed.of(found).after_update(_manager(request), found, kept)
        kept["metadata"]["managedFields"] = managed.written(served.version, self._time())
        if _is_dry(request):
            return JSONResponse({"kind": served.kind, "apiVersion": served.version, **kept})
        return JSONResponse(self.objects.put(served, home, name, kept))

    def _may_give(self, user: User, served: Served, namespace: str, body: Mapping[str, Any]) -> None:
        """Nobody gives away what they do not have, but who may escalate roles or bind them."""
        if served.group != RBAC:
            return
        policy = self.policy()
        name = body["metadata"]["name"]
        if served.plural in ("roles", "clusterroles"):
            if policy.allowed(user, Attributes("escalate", RBAC, served.plural, namespace, name)):
                return
            rules = list(body.get("rules") or ())
            if body.get("aggregationRule"):  # it takes in whatever gets its labels, so who has everything may make one
                rules.append({"verbs": ["*"], "apiGroups": ["*"], "resources": ["*"]})
        else:
            role = "clusterroles" if body["roleRef"]["kind"] == "ClusterRole" else "roles"
            if policy.allowed(user, Attributes("bind", RBAC, role, namespace, body["roleRef"]["name"])):
                return
            rules = policy.rules_of(body)
        missing = policy.missing(user, namespace, rules)
        if missing:
            message = (
                f'{served.plural}.{RBAC} "{name}" is forbidden: user "{user.name}" is attempting to grant RBAC'
                f" permissions not currently held: {', '.join(missing[:5])}"
            )
            raise StatusRefusal(403, "Forbidden", message)

    async def _subresource(
        self, request: Request, user: User, served: Served, namespace: str, name: str, sub: str
    ) -> Response:
        if served.plural == "serviceaccounts" and sub == "token" and request.method == "POST":
            self._must(user, Attributes("create", "", "serviceaccounts/token", namespace, name))
            return await self._request_token(request, namespace, name)
        if served.plural == "pods" and sub in ("exec", "log"):
            verb = "create" if request.method == "POST" else "get"
            self._must(user, Attributes(verb, "", f"pods/{sub}", namespace, name))
            self._found(served, namespace, name)
            if sub == "log":
                return Response("the stand-in runs nothing\n", media_type="text/plain")
            raise bad("Upgrade request required")
        raise no_such_resource()

    async def _request_token(self, request: Request, namespace: str, name: str) -> Response:
        """TokenRequest of authentication.k8s.io: a token for some audiences, for a bounded time."""
        account = self._found(SERVED["", "serviceaccounts"], namespace, name)
        spec = (await self._body(request)).get("spec") or {}
        must_be(spec, "spec", audiences=(str,), expirationSeconds=int)
        must_be(spec.get("boundObjectRef") or {}, "spec.boundObjectRef", kind=str, apiVersion=str, name=str, uid=str)
        self._bound(spec.get("boundObjectRef"), namespace, name)
        audiences = spec.get("audiences") or [self.signer.issuer]
        life = spec.get("expirationSeconds") or USUAL_LIFE
        if not isinstance(life, int) or life < MIN_LIFE:
            message = "spec.expirationSeconds: Invalid value: may not specify a duration less than 10 minutes"
            raise StatusRefusal(422, "Invalid", message)
        ends = int(self.clock.now()) + min(life, MAX_LIFE)
        about = {"namespace": namespace, "serviceaccount": {"name": name, "uid": account["metadata"]["uid"]}}
        claims = {
            "aud": audiences, "exp": ends, "sub": f"system:serviceaccount:{namespace}:{name}", "kubernetes.io": about,
        }  # fmt: skip
        token = self.signer.sign(claims, typ=TOKEN_TYPE, algorithm="RS256")
        until = datetime.fromtimestamp(ends, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        body = {
            "kind": "TokenRequest", "apiVersion": "authentication.k8s.io/v1", "metadata": {"name": name},
            "spec": {"audiences": audiences, "expirationSeconds": min(life, MAX_LIFE)},
            "status": {"token": token, "expirationTimestamp": until},
        }  # fmt: skip
        return JSONResponse(body, 201)

    def _bound(self, reference: Mapping[str, Any] | None, namespace: str, name: str) -> None:
        """A token may be bound to what runs as the service account, and to nothing else."""
        if reference is None:
            return
        if reference.get("kind") not in (None, "Pod"):
            raise bad(f"cannot bind a token to a {reference['kind']} here")
        pod = self._found(SERVED["", "pods"], namespace, str(reference.get("name")))
        runs_as = (pod.get("spec") or {}).get("serviceAccountName") or "default"
        if runs_as != name or reference.get("uid") not in (None, pod["metadata"]["uid"]):
            raise bad("cannot bind token: the pod does not run as the service account")

    async def _review(self, request: Request, user: User, kind: str, namespace: str) -> Response:
        if request.method != "POST":
            raise wrong_method()
        spec = (await self._body(request)).get("spec") or {}
        must_be(spec, "spec")
        if not kind.startswith("Self"):
            plural = f"{kind.lower()}s"
            group = next(its for its, name in REVIEWS if name == plural)
            self._must(user, Attributes("create", group, plural, namespace))
        reviews = Reviews(self.policy(), self.signer.issuer, self._authenticated_for)
        return JSONResponse(reviews.answer(kind, user, namespace, spec), 201)

    def _authenticated_for(self, token: str, audiences: Iterable[str]) -> tuple[User, list[str]] | None:
        """The user of a token, with those of some audiences that it is for."""
        fitting = [audience for audience in audiences if self.authenticated(token, [audience]) is not None]
        user = self.authenticated(token, fitting)
        return (user, fitting) if user is not None else None

    def _time(self) -> str:
        return datetime.fromtimestamp(self.clock.now(), UTC).strftime("%Y-%m-%dT%H:%M:%SZ")

    async def _body(self, request: Request) -> dict[str, Any]:
        media = _media(request) or "application/json"
        if media == binary.MEDIA:
            try:
                return binary.read_message(await self._data(request))
            except binary.NotRead as fault:
                raise StatusRefusal(415, "UnsupportedMediaType", f"{media}: {fault}; send JSON") from None
        if media != "application/json":
            raise StatusRefusal(
                415, "UnsupportedMediaType", f"the body of the request was in an unknown format: {media}"
            )
        body = await self._json(request)
        if not isinstance(body, dict):
            raise bad("the body is not an object")
        return body

    @staticmethod
    async def _data(request: Request) -> bytes:
        data = await request.body()
        if len(data) > MAX_BODY:
            raise StatusRefusal(413, "RequestEntityTooLarge", "the body is too large")
        return data

    async def _json(self, request: Request) -> Any:
        try:
            return json.loads(await self._data(request))
        except (ValueError, RecursionError):
            raise bad("the body is not JSON") from None


def _choosing(request: Request, served: Served) -> Callable[[Mapping[str, Any]], bool]:
    """Whether the selectors of a request choose an object."""
    query = request.query_params
    try:
        labels = by_labels(query.get("labelSelector") or "")
        fields = by_fields(query.get("fieldSelector") or "", served.plural)
    except InvalidSelector as fault:
        raise bad(str(fault)) from None
    return lambda entry: labels(entry) and fields(entry)


def _meta(body: dict[str, Any]) -> dict[str, Any]:
    """What an object says of itself; a place for it where it says nothing."""
    meta = body.setdefault("metadata", {})
    if not isinstance(meta, dict):
        raise bad("metadata is not an object")
    return meta


def _media(request: Request) -> str:
    return request.headers.get("content-type", "").partition(";")[0].strip()


def _manager(request: Request) -> str:
    """Who manages what a request writes: as it says, else what sends it."""
    return request.query_params.get("fieldManager") or request.headers.get("user-agent", "unknown").partition("/")[0]


def _wants_metadata(request: Request) -> bool:
    return "as=PartialObjectMetadata" in request.headers.get("accept", "")


def _as_metadata(entry: Mapping[str, Any]) -> dict[str, Any]:
    return {"kind": "PartialObjectMetadata", "apiVersion": "meta.k8s.io/v1", "metadata": entry["metadata"]}


def _is_dry(request: Request) -> bool:
    """Whether everything is to be done but the storing."""
    return request.query_params.get("dryRun") == "All"


def _kept(body: Mapping[str, Any]) -> dict[str, Any]:
    """An object without what is said of every one of its kind."""
    kept = {name: value for name, value in body.items() if name not in ("kind", "apiVersion")}
    kept["metadata"] = {name: value for name, value in kept["metadata"].items() if name != "resourceVersion"}
    return kept


def _well_formed(served: Served, body: Mapping[str, Any], namespace: str) -> None:
    if body.get("kind") not in (None, served.kind) or body.get("apiVersion") not in (None, served.version):
        raise bad(f"the object provided is no {served.version} {served.kind}")
    meta = body.get("metadata")
    if isinstance(meta, Mapping) and meta.get("namespace") not in (None, "", namespace):
        raise bad("the namespace of the provided object does not match the namespace sent on the request")
    try:
        faults = list(Forming(served, body, namespace).faults())
    except (AttributeError, TypeError):
        raise bad(f"the object provided is not shaped as a {served.kind}") from None
    if faults:
        raise invalid(served, str(meta.get("name", "")) if isinstance(meta, Mapping) else "", faults)


def _same(found: Mapping[str, Any], uid: str | None, version: str | None) -> None:
    meta = found["metadata"]
    if (uid and uid != meta["uid"]) or (version and version != meta["resourceVersion"]):
        message = "the object has been modified; please apply your changes to the latest version and try again"
        raise StatusRefusal(409, "Conflict", message)


def _table(meta: Mapping[str, Any], found: Iterable[Mapping[str, Any]]) -> dict[str, Any]:
    """Objects as a table of names, for clients that print them."""
    columns = [{"name": "Name", "type": "string", "format": "name", "description": "", "priority": 0}]
    rows = [
        {
            "cells": [entry["metadata"]["name"]],
            "object": {"kind": "PartialObjectMetadata", "apiVersion": "meta.k8s.io/v1", "metadata": entry["metadata"]},
        }
        for entry in found
    ]
    return {
        "kind": "Table", "apiVersion": "meta.k8s.io/v1", "metadata": meta, "columnDefinitions": columns, "rows": rows,
    }  # fmt: skip

"""The people and groups of a stand-in directory, by SCIM 2.0 (RFC 7643, RFC 7644), for the administrators of its
organisation.

    /scim/v2/Users, /scim/v2/Groups           lists, with filters and pages; what is new
    /scim/v2/Users/{id}, /scim/v2/Groups/{id} one of them: read, replaced, patched, removed; under If-Match
    /scim/v2/ServiceProviderConfig            what of the standard is there
    /scim/v2/ResourceTypes, /scim/v2/Schemas  what entries are like
"""

import re
import sqlite3
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from enthesis_lab.administration import json_body
from enthesis_lab.store import Statement, Store
from enthesis_lab.tokens import SESSION_TYPE, Signer, TokenRefused

BASE = "/scim/v2"
MEDIA = "application/scim+json"
ERROR = "urn:ietf:params:scim:api:messages:2.0:Error"
LIST = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
PATCH = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
CONFIG = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"
SCHEMAS = {
    "Users": "urn:ietf:params:scim:schemas:core:2.0:User",
    "Groups": "urn:ietf:params:scim:schemas:core:2.0:Group",
}
NAMED_BY = {"Users": "userName", "Groups": "displayName"}
WRITABLE: dict[str, dict[str, type]] = {
    "Users": {"userName": str, "displayName": str, "active": bool, "externalId": str, "userType": str, "name": dict,
              "emails": list, "title": str},
    "Groups": {"displayName": str, "externalId": str, "members": list},
}  # fmt: skip
PARTS = {
    "name": ("formatted", "familyName", "givenName"), "emails": ("value", "type"), "members": ("value",),
}  # fmt: skip
MOST = 100  # on one page
MAX_FILTER = 2000  # characters
MAX_LEVELS = 20
WORDS = re.compile(r'\s*(?:(\()|(\))|("(?:[^"\\]|\\.)*")|([A-Za-z][\w.$:-]*))')
HOLDS = re.compile(r'^members\[\s*value\s+eq\s+"([^"]+)"\s*\]$', re.IGNORECASE)


class ScimFault(Exception):
    """A request that is not granted (RFC 7644, section 3.12)."""

    def __init__(self, status: int, detail: str, kind: str = "") -> None:
        super().__init__(detail)
        self.status = status
        self.kind = kind


async def as_scim_error(request: Request, fault: Exception) -> Response:
    """What these endpoints answer when they raise ScimFault."""
    del request
    if not isinstance(fault, ScimFault):
        raise fault
    more = {"scimType": fault.kind} if fault.kind else {}
    body = {"schemas": [ERROR], "status": str(fault.status), "detail": str(fault), **more}
    challenge = {"WWW-Authenticate": 'Bearer realm="directory"'} if fault.status == 401 else {}
    return JSONResponse(body, fault.status, challenge, media_type=MEDIA)


class Entries:
    """The users and groups of one directory, which is called as its organisation is."""

    def __init__(self, directory: str, store: Store, signer: Signer, clouds: Sequence[str]) -> None:
        self.directory = directory
        self.store = store
        self.signer = signer
        self.clouds = clouds  # that know the directory's people, each under an id of its own

    def furnish(self, people: Mapping[str, Any]) -> None:
        """People who exist already are users; nobody marked them."""
        known = {entry.name for entry in self.all("Users")}
        for address, person in people.items():
            name = address.split("/identity/", 1)[1]
            if f"Users {name}" not in known:
                self._add("Users", {"userName": name, "active": True}, person.get("labels", {}))
            self._make_known(address, person.get("labels", {}))

    def routes(self) -> list[Route]:
        """The endpoints."""
        users, groups = ((self._many(kind), self._one(kind)) for kind in SCHEMAS)
        one = ["GET", "PUT", "PATCH", "DELETE"]
        return [
            Route("/scim/v2/ServiceProviderConfig", self._config),
            Route("/scim/v2/ResourceTypes", self._described("ResourceType")),
            Route("/scim/v2/ResourceTypes/{id}", self._described("ResourceType")),
            Route("/scim/v2/Schemas", self._described("Schema")),
            Route("/scim/v2/Schemas/{id}", self._described("Schema")),
            Route("/scim/v2/.search", self._search(*SCHEMAS), methods=["POST"]),
            Route("/scim/v2/Users/.search", self._search("Users"), methods=["POST"]),
            Route("/scim/v2/Groups/.search", self._search("Groups"), methods=["POST"]),
            Route("/scim/v2/Users", users[0], methods=["GET", "POST"]),
            Route("/scim/v2/Users/{id}", users[1], methods=one),
            Route("/scim/v2/Groups", groups[0], methods=["GET", "POST"]),
            Route("/scim/v2/Groups/{id}", groups[1], methods=one),
            Route("/scim/v2/{rest:path}", _nothing_here, methods=["GET", *one[1:], "POST"]),
        ]

    def all(self, kind: str) -> list[Statement]:
        """The users, or the groups."""
        return self.store.statements(self.directory, kind)

    def people(self) -> list[str]:
        """The addresses of those who can sign in: users who are no workloads."""
        names = [entry.body["userName"] for entry in self.all("Users") if "/" not in entry.body["userName"]]
        return [f"{self.directory}/identity/{name}" for name in names]

    # -- requests --------------------------------------------------------------------------------------------

    def _many(self, kind: str) -> Callable[[Request], Any]:
        async def many(request: Request) -> Response:
            self._administrators(request)
            if request.method == "POST":
                body = _checked(kind, await json_body(request), self._ids())
                active = {"active": True} if kind == "Users" else {}
                return self._told(self._add(kind, {**active, **body}), 201)
            return self._listed((kind,), request.query_params)

        return many

    def _search(self, *kinds: str) -> Callable[[Request], Any]:
        """RFC 7644, section 3.4.3: a list, asked for in a body."""

        async def search(request: Request) -> Response:
            self._administrators(request)
            body = await json_body(request)
            query = {name: value for name, value in body.items() if name != "schemas"}
            for name in ("attributes", "excludedAttributes"):
                if isinstance(query.get(name), list):
                    query[name] = ",".join(map(str, query[name]))
            return self._listed(kinds, {name: str(value) for name, value in query.items()})

        return search

    def _one(self, kind: str) -> Callable[[Request], Any]:
        async def one(request: Request) -> Response:
            self._administrators(request)
            entry = self.store.statement(self.directory, kind, request.path_params["id"])
            if entry is None:
                raise ScimFault(404, "there is no such entry")
            if request.method == "GET":
                if request.headers.get("if-none-match") == _tag(entry):
                    return Response(status_code=304, headers={"ETag": _tag(entry)})
                return self._told(entry, query=request.query_params)
            self._unchanged(request, entry)
            if request.method == "DELETE":
                self._remove(entry)
                return Response(status_code=204)
            body = await json_body(request)
            wanted = body if request.method == "PUT" else _patched(kind, entry.body, body)
            return self._told(self._replace(entry, _checked(kind, wanted, self._ids())))

        return one

    def _administrators(self, request: Request) -> None:
        scheme, _, token = request.headers.get("authorization", "").partition(" ")
        if scheme.lower() != "bearer":
            raise ScimFault(401, "a session of the directory's administrators is needed")
        try:
            claims = self.signer.verify(token.strip(), typ=SESSION_TYPE)
        except TokenRefused as fault:
            raise ScimFault(401, str(fault)) from None
        if claims.get("administers") != self.directory or claims.get("aud") != self.signer.issuer:
            raise ScimFault(403, "this session does not administer the directory")

    @staticmethod
    def _unchanged(request: Request, entry: Statement) -> None:
        wanted = request.headers.get("if-match")
        if wanted not in (None, "*", _tag(entry)):
            raise ScimFault(412, "the entry has another version by now")

    def _listed(self, kinds: Sequence[str], query: Mapping[str, str]) -> Response:
        """RFC 7644, section 3.4.2."""
        try:
            start, count = max(1, int(query.get("startIndex", "1"))), max(0, int(query.get("count", str(MOST))))
        except ValueError:
            raise ScimFault(400, "startIndex and count are numbers", "invalidValue") from None
        holds = _filter(query["filter"]) if "filter" in query else None
        entries = sorted((entry for kind in kinds for entry in self.all(kind)), key=lambda entry: entry.id)
        shown = [self._shown(entry) for entry in entries]
        found = [entry for entry in shown if holds is None or holds(entry)]
        page = [_reduced(entry, query) for entry in found[start - 1 : start - 1 + min(count, MOST)]]
        body = {
            "schemas": [LIST], "totalResults": len(found), "startIndex": start, "itemsPerPage": len(page),
            "Resources": page,
        }  # fmt: skip
        return JSONResponse(body, media_type=MEDIA)

    def _described(self, kind: str) -> Callable[[Request], Any]:
        """RFC 7644, section 4: what kinds of entries there are, and what attributes they have."""

        async def described(request: Request) -> Response:
            base = f"{self.signer.issuer}{BASE}/{kind}s"
            entries = _resource_types(base) if kind == "ResourceType" else _schemas(base)
            wanted = request.path_params.get("id")
            if "filter" in request.query_params:
                raise ScimFault(403, "what is described here is not filtered")
            if wanted is None:
                listed = {"totalResults": len(entries), "startIndex": 1, "itemsPerPage": len(entries)}
                return JSONResponse({"schemas": [LIST], **listed, "Resources": entries}, media_type=MEDIA)
            found = next((one for one in entries if one["id"] == wanted), None)
            if found is None:
                raise ScimFault(404, "nothing of this name is described")
            return JSONResponse(found, media_type=MEDIA)

        return described

    async def _config(self, request: Request) -> Response:
        """RFC 7643, section 5."""
        del request
        supported = {"supported": True}
        body = {
            "schemas": [CONFIG], "patch": supported, "etag": supported, "sort": {"supported": False},
            "bulk": {"supported": False, "maxOperations": 0, "maxPayloadSize": 0},
            "filter": {"supported": True, "maxResults": MOST}, "changePassword": {"supported": False},
            "authenticationSchemes": [
                {"type": "oauthbearertoken", "name": "session", "description": "of the directory's administrators"}
            ],
        }  # fmt: skip
        return JSONResponse(body, media_type=MEDIA)

    # -- entries ---------------------------------------------------------------------------------------------

    def _ids(self) -> set[str]:
        return {entry.id for kind in SCHEMAS for entry in self.all(kind)}

    def _add(self, kind: str, body: dict[str, Any], labels: Mapping[str, str] | None = None) -> Statement:
        named = body[NAMED_BY[kind]].casefold()  # RFC 7643, section 4.1.1: names count without case
        if any(entry.body[NAMED_BY[kind]].casefold() == named for entry in self.all(kind)):
            raise ScimFault(409, f"the {NAMED_BY[kind]} is taken", "uniqueness")
        try:
            made = self.store.add(self.directory, kind, self.directory, f"{kind} {body[NAMED_BY[kind]]}", None, body)
        except sqlite3.IntegrityError:
            raise ScimFault(409, f"the {NAMED_BY[kind]} is taken", "uniqueness") from None
        if kind == "Users" and "/" not in body["userName"]:
            self._make_known(f"{self.directory}/identity/{body['userName']}", labels or {})
        return made

    def _make_known(self, address: str, labels: Mapping[str, str]) -> None:
        body = {"address": address, "kind": "person", "labels": labels}
        for cloud in self.clouds:
            if not any(one.name == address for one in self.store.statements(cloud, "identities")):
                self.store.add(cloud, "identities", self.directory, address, None, dict(body))

    def _replace(self, entry: Statement, body: dict[str, Any]) -> Statement:
        name = NAMED_BY[entry.collection]
        if body[name] != entry.body[name]:
            raise ScimFault(400, f"{name} stays as it was made", "mutability")
        return self.store.replace(entry, None, body)

    def _remove(self, entry: Statement) -> None:
        """An entry goes, and out of the groups that it is in."""
        for group in self.all("Groups"):
            members = [one for one in group.body.get("members", []) if one["value"] != entry.id]
            if members != group.body.get("members", []):
                self.store.replace(group, None, {**group.body, "members": members})
        address = f"{self.directory}/identity/{entry.body.get('userName')}"
        for cloud in self.clouds if entry.collection == "Users" else ():
            for known in [one for one in self.store.statements(cloud, "identities") if one.name == address]:
                self.store.remove(known)
        self.store.remove(entry)

    def _shown(self, entry: Statement) -> dict[str, Any]:
        kind = entry.collection
        place = f"{self.signer.issuer}{BASE}/{kind}/{entry.id}"
        meta = {"resourceType": kind.removesuffix("s"), "location": place, "version": _tag(entry)}
        return {"schemas": [SCHEMAS[kind]], "id": entry.id, **entry.body, "meta": meta}

    def _told(self, entry: Statement, status: int = 200, query: Mapping[str, str] | None = None) -> Response:
        shown = self._shown(entry)
        headers = {"ETag": _tag(entry), "Location": shown["meta"]["location"]}
        return JSONResponse(_reduced(shown, query or {}), status, headers, media_type=MEDIA)


async def _nothing_here(request: Request) -> Response:
    known = request.url.path.split("/")[3:4]
    if known in (["ServiceProviderConfig"], ["ResourceTypes"], ["Schemas"]) and request.method != "GET":
        raise ScimFault(405, "what is described here is only read")
    raise ScimFault(404, f"there is nothing at {request.url.path}")


def _reduced(entry: Mapping[str, Any], query: Mapping[str, str]) -> dict[str, Any]:
    """An entry with the attributes alone that are asked for (RFC 7644, section 3.9); what tells it stays."""
    always = {"schemas", "id"}
    only = {name.strip().lower() for name in query.get("attributes", "").split(",") if name.strip()}
    without = {name.strip().lower() for name in query.get("excludedAttributes", "").split(",") if name.strip()}
    return {
        name: value
        for name, value in entry.items()
        if name in always or ((not only or name.lower() in only) and name.lower() not in without)
    }


def _resource_types(base: str) -> list[dict[str, Any]]:
    """RFC 7643, section 6."""
    return [
        {
            "schemas": ["urn:ietf:params:scim:schemas:core:2.0:ResourceType"], "id": name, "name": name,
            "endpoint": f"/{kind}", "schema": schema, "schemaExtensions": [],
            "meta": {"resourceType": "ResourceType", "location": f"{base}/{name}"},
        }
        for kind, schema in SCHEMAS.items() for name in [kind.removesuffix("s")]
    ]  # fmt: skip


def _schemas(base: str) -> list[dict[str, Any]]:
    """RFC 7643, section 7: the attributes that entries can have here."""
    return [
        {
            "schemas": ["urn:ietf:params:scim:schemas:core:2.0:Schema"], "id": schema, "name": kind.removesuffix("s"),
            "description": f"{kind} of this directory",
            "attributes": [_attribute(name, of, unique=name == NAMED_BY[kind]) for name, of in WRITABLE[kind].items()
                           if name != "externalId"],
            "meta": {"resourceType": "Schema", "location": f"{base}/{schema}"},
        }
        for kind, schema in SCHEMAS.items()
    ]  # fmt: skip


def _attribute(name: str, of: type, *, unique: bool) -> dict[str, Any]:
    """An attribute as a schema describes it; `externalId` is none of a schema, and is left to the standard."""
    kinds = {str: "string", bool: "boolean", dict: "complex", list: "complex"}
    parts = PARTS.get(name, ())
    inner = [_attribute(part, str, unique=False) for part in parts]
    more = {"subAttributes": inner} if inner else {}
    return {
        "name": name, "type": kinds[of], "multiValued": of is list, "description": name, "required": unique,
        "caseExact": False, "mutability": "immutable" if unique else "readWrite", "returned": "default",
        "uniqueness": "server" if unique else "none", **more,
    }  # fmt: skip


def is_active(store: Store, person: str) -> bool:
    """Whether the directory of a person, by address, lets them sign in and go on."""
    directory, _, name = person.partition("/identity/")
    users = store.statements(directory, "Users")
    found = next((entry for entry in users if entry.body["userName"] == name), None)
    return not users or (found is not None and found.body.get("active", True) is not False)


def _tag(entry: Statement) -> str:
    return f'W/"{entry.version}"'


def _checked(kind: str, body: Mapping[str, Any], ids: set[str]) -> dict[str, Any]:
    """The attributes of an entry that a request may say, each of its type; ScimFault where it says others."""
    wanted = WRITABLE[kind]
    out = {name: value for name, value in body.items() if name in wanted and value not in (None, [], "")}
    out |= {name: _truth(value) for name, value in out.items() if wanted[name] is bool}
    unknown = set(body) - set(wanted) - {"schemas", "id", "meta", "groups"}
    if unknown or any(not isinstance(value, wanted[name]) for name, value in out.items()):
        raise ScimFault(400, f"not understood: {', '.join(sorted(unknown)) or 'the type of a value'}", "invalidValue")
    if not isinstance(out.get(NAMED_BY[kind]), str):
        raise ScimFault(400, f"{NAMED_BY[kind]} is missing", "invalidValue")
    if "members" in out:
        out["members"] = _members(out["members"], ids)
    return out


def _truth(value: Any) -> Any:
    """A value that is true or false, where it is written as text too, as some who provision do."""
    return {"true": True, "false": False}.get(value.casefold(), value) if isinstance(value, str) else value


def _members(listed: Any, ids: set[str]) -> list[dict[str, str]]:
    found: dict[str, None] = {}
    for one in listed if isinstance(listed, list) else [None]:
        if not isinstance(one, dict) or one.get("value") not in ids:
            raise ScimFault(400, "a member is an entry of this directory, by its id", "invalidValue")
        found[one["value"]] = None
    return [{"value": one} for one in found]


def _patched(kind: str, now: Mapping[str, Any], body: Mapping[str, Any]) -> dict[str, Any]:
    """RFC 7644, section 3.5.2."""
    operations = body.get("Operations")
    if PATCH not in body.get("schemas", []) or not isinstance(operations, list) or not operations:
        raise ScimFault(400, "a patch has operations", "invalidSyntax")
    out = dict(now)
    for one in operations:
        if not isinstance(one, dict) or str(one.get("op", "")).lower() not in ("add", "replace", "remove"):
            raise ScimFault(400, "an operation is add, replace or remove", "invalidSyntax")
        op, path, value = str(one["op"]).lower(), one.get("path"), one.get("value")
        if path is None:
            if op == "remove" or not isinstance(value, dict):
                raise ScimFault(400, "an operation without a path has attributes", "noTarget")
            for name, given in value.items():
                _set(kind, out, op, name, given)
            continue
        _set(kind, out, op, str(path), value)
    return out


def _set(kind: str, out: dict[str, Any], op: str, path: str, value: Any) -> None:
    held = HOLDS.match(path) if kind == "Groups" else None
    listed = out.get("members", [])
    if held is not None and op == "remove":
        out["members"] = [one for one in listed if one["value"] != held[1]]
    elif path not in WRITABLE[kind]:
        raise ScimFault(400, f"there is no attribute {path}", "invalidPath")
    elif op == "remove" and path == "members" and isinstance(value, list):
        gone = [one.get("value") for one in value if isinstance(one, dict)]
        out["members"] = [one for one in listed if one["value"] not in gone]
    elif op == "remove":
        out.pop(path, None)
    elif op == "add" and path == "members":
        out["members"] = [*listed, *(value if isinstance(value, list) else [value])]
    else:
        out[path] = value


# -- filters (RFC 7644, section 3.4.2.2) ----------------------------------------------------------------------------

Holds = Callable[[Mapping[str, Any]], bool]


def _filter(text: str) -> Holds:
    """What a filter asks of an entry; ScimFault where it is not understood."""
    fault = ScimFault(400, "the filter is not understood", "invalidFilter")
    if len(text) > MAX_FILTER:
        raise fault
    try:
        holds, rest = _either(list(_words(text)), 0)
    except (IndexError, ValueError):
        raise fault from None
    if rest:
        raise fault
    return holds


def _words(text: str) -> Iterator[str]:
    position = 0
    while position < len(text.rstrip()):
        found = WORDS.match(text, position)
        if found is None:
            raise ScimFault(400, "the filter is not understood", "invalidFilter")
        yield found[0].strip()
        position = found.end()


def _either(words: list[str], level: int) -> tuple[Holds, list[str]]:
    first, words = _both(words, level)
    while words and words[0].lower() == "or":
        other, words = _both(words[1:], level)
        first = _any(first, other)
    return first, words


def _both(words: list[str], level: int) -> tuple[Holds, list[str]]:
    first, words = _term(words, level)
    while words and words[0].lower() == "and":
        other, words = _term(words[1:], level)
        first = _all(first, other)
    return first, words


def _term(words: list[str], level: int) -> tuple[Holds, list[str]]:
    if level > MAX_LEVELS:
        raise ValueError(level)
    if words[0].lower() == "not":
        holds, rest = _inside(words[1:], level)
        return (lambda entry: not holds(entry)), rest
    return _inside(words, level) if words[0] == "(" else _comparison(words)


def _inside(words: list[str], level: int) -> tuple[Holds, list[str]]:
    if words[0] != "(":
        raise ValueError(words)
    holds, rest = _either(words[1:], level + 1)
    if rest[0] != ")":
        raise ValueError(words)
    return holds, rest[1:]


def _comparison(words: list[str]) -> tuple[Holds, list[str]]:
    name, operator = words[0], words[1].lower()
    if operator == "pr":
        return (lambda entry: bool(_values(entry, name))), words[2:]
    raw = words[2]
    given: Any = raw[1:-1].replace('\\"', '"').replace("\\\\", "\\") if raw.startswith('"') else raw.lower() == "true"
    if not raw.startswith('"') and raw.lower() not in ("true", "false"):
        raise ValueError(raw)
    tests: dict[str, Callable[[Any, Any], bool]] = {
        "eq": lambda value, wanted: value == wanted,
        "ne": lambda value, wanted: value != wanted,
        "co": lambda value, wanted: isinstance(wanted, str) and wanted in str(value),
        "sw": lambda value, wanted: isinstance(wanted, str) and str(value).startswith(wanted),
        "ew": lambda value, wanted: isinstance(wanted, str) and str(value).endswith(wanted),
    }
    if operator not in tests:
        raise ValueError(operator)
    test, exact = tests[operator], name.lower() in ("externalid", "id", "members.value")

    def holds(entry: Mapping[str, Any]) -> bool:
        values = _values(entry, name)
        if operator == "ne":
            return all(test(_folded(value, exact), _folded(given, exact)) for value in values)
        return any(test(_folded(value, exact), _folded(given, exact)) for value in values)

    return holds, words[3:]


def _folded(value: Any, exact: bool) -> Any:
    """A value as it is compared: names without case, ids with it."""
    return value.casefold() if isinstance(value, str) and not exact else value


def _values(entry: Mapping[str, Any], path: str) -> list[Any]:
    """The values at an attribute, whose name counts without case."""
    found: list[Any] = [entry]
    for part in path.split("."):
        inner: list[Any] = []
        for one in found:
            for name, value in one.items() if isinstance(one, Mapping) else ():
                if name.lower() == part.lower():
                    inner += value if isinstance(value, list) else [value]
        found = inner
    return [value for value in found if value not in (None, "")]


def _any(first: Holds, other: Holds) -> Holds:
    return lambda entry: first(entry) or other(entry)


def _all(first: Holds, other: Holds) -> Holds:
    return lambda entry: first(entry) and other(entry)

"""The OpenAPI 3.1 document of a cloud."""

from typing import Any

from enthesis.lab.forms import FIELDS, REQUIRED

JSON = "application/json"
PROBLEM = {"description": "problem details (RFC 9457)", "content": {"application/problem+json": {"schema": {}}}}
FORMS: dict[str, dict[str, Any]] = {
    "labels": {"type": "object", "additionalProperties": {"type": "string"}},
    "members": {"type": "array", "items": {"$ref": "#/components/schemas/reference"}},
    "where": {"type": "object"},
    "allows": {"type": "object"},
    "bars": {"type": "object"},
    "only": {"type": "object"},
    "when": {"type": "object"},
    "admits": {"type": "object"},
    "includes": {"type": "array", "items": {"type": "string"}},
    "runs_as": {"type": "array", "items": {"type": "string"}},
    "except": {"type": "array"},
    "to": {"$ref": "#/components/schemas/reference"},
    "what": {"type": ["string", "object"]},
    "disabled": {"type": "boolean"},
    "until": {"type": "string", "format": "date-time"},
}


def document(title: str, url: str) -> dict[str, Any]:
    """The description of every path that a cloud answers at."""
    paths: dict[str, Any] = {}
    schemas: dict[str, Any] = {
        "reference": {
            "type": "object",
            "properties": {name: {"type": "string"} for name in ("identity", "group", "gone")},
        }
    }
    for collection, fields in FIELDS.items():
        properties = {name: FORMS.get(name, {"type": "string"}) for name in sorted(fields)}
        properties |= {name: {"type": "string"} for name in ("id", "holder", "etag")}
        properties["mark"] = {"type": ["string", "null"]}
        schemas[collection] = {"type": "object", "properties": properties, "required": sorted(REQUIRED[collection])}
        paths[f"/administration/{collection}"] = _collection_paths(collection)
        paths[f"/administration/{collection}/{{id}}"] = _item_paths(collection)
    paths["/administration/inventory"] = {"get": _operation("what exists already, as far as this session sees it")}
    paths["/administration/resources"] = {"post": _operation("lets resources come to be", body=JSON, status="201")}
    paths["/administration/resources/{address}"] = {
        "parameters": [_in_path("address")],
        "delete": _operation("lets a resource go, and whoever is tied to it", status="204"),
    }
    paths["/administration/credentials"] = {
        "get": _operation("keyed credentials, without any value"),
        "post": _operation("makes one; its value is in this answer and nowhere else", body=JSON, status="201"),
    }
    paths["/administration/ids"] = {"get": _operation("the ids of identities and groups, by their addresses")}
    paths["/administration/concerning"] = {"get": _operation("what others hold that names what is the session's own")}
    paths["/administration/sessions"] = {
        "get": _operation("the sessions that have not ended, and the sign-ins of people"),
        "post": _operation("a session as an identity, for whoever may issue for it", body=JSON),
    }
    paths["/administration/usage"] = {"get": _operation("requests that were decided, the oldest first")}
    paths["/administration/sessions/{id}"] = {
        "parameters": [_in_path("id")],
        "get": _operation("one that has not ended"),
        "delete": _operation("it ends now, and with it what was obtained by it", status="204"),
    }
    paths["/administration/credentials/{id}"] = {
        "parameters": [_in_path("id")],
        "get": _operation("one keyed credential, without its value"),
        "put": _operation("disables it, or lets it work again", body=JSON),
        "delete": _operation("it opens nothing from now on", status="204"),
    }
    tokens = "token exchange (RFC 8693), or a session for a key (RFC 6749, section 4.4)"
    paths["/token"] = {"post": _operation(tokens, body="application/x-www-form-urlencoded")}
    revoking = "a session is over, and what was obtained with it (RFC 7009)"
    paths["/revoke"] = {"post": _operation(revoking, body="application/x-www-form-urlencoded")}
    paths["/places/{address}"] = {
        "parameters": [_in_path("address")],
        "get": _operation("reads, or with `list` lists what is stored below"),
        "put": _operation("writes; with `trial` it is put back when the trial ends", body="application/octet-stream"),
        "delete": _operation("deletes; with `trial` it is put back when the trial ends"),
        "post": _operation("does another verb of the place's kind, named in `verb`"),
    }
    paths["/trials/{id}"] = {
        "parameters": [_in_path("id")],
        "get": _operation("whether what was tried is really there"),
        "delete": _operation("ends a trial and puts back what was there before"),
    }
    return {
        "openapi": "3.1.0",
        "info": {"title": title, "version": "1"},
        "servers": [{"url": url}],
        "paths": paths,
        "components": {
            "schemas": schemas,
            "securitySchemes": {"session": {"type": "http", "scheme": "bearer", "bearerFormat": "JWT"}},
        },
        "security": [{"session": []}],
    }


def _collection_paths(collection: str) -> dict[str, Any]:
    query = [{"name": name, "in": "query", "schema": {"type": "string"}} for name in ("after", "limit")]
    return {
        "get": {**_operation(f"lists {collection}, in pages by Link (RFC 8288)"), "parameters": query},
        "post": _operation(f"makes one of {collection}", body=JSON, schema=collection, status="201"),
    }


def _item_paths(collection: str) -> dict[str, Any]:
    match = [{"name": "If-Match", "in": "header", "required": True, "schema": {"type": "string"}}]
    return {
        "parameters": [_in_path("id")],
        "get": _operation(f"shows one of {collection}"),
        "put": {**_operation("changes it", body=JSON, schema=collection), "parameters": match},
        "delete": {**_operation("removes it", status="204"), "parameters": match},
    }


def _in_path(name: str) -> dict[str, Any]:
    return {"name": name, "in": "path", "required": True, "schema": {"type": "string"}}


def _operation(says: str, *, body: str = "", schema: str = "", status: str = "200") -> dict[str, Any]:
    out: dict[str, Any] = {"summary": says, "responses": {status: {"description": "done"}, "default": PROBLEM}}
    if body:
        content = {"$ref": f"#/components/schemas/{schema}"} if schema else {}
        out["requestBody"] = {"content": {body: {"schema": content}}}
    return out

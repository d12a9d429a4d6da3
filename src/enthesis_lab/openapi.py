"""The OpenAPI 3.1 document of a cloud: every path with its parameters, what is sent and what is answered."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any

from enthesis_lab.access_keys import FORMS
from enthesis_lab.forms import FIELDS, REQUIRED

Schema = dict[str, Any]
JSON, FORM, BYTES = "application/json", "application/x-www-form-urlencoded", "application/octet-stream"
TEXT: Schema = {"type": "string"}
MOMENT: Schema = {"type": "string", "format": "date-time"}
OBJECT: Schema = {"type": "object"}
PROBLEM: Schema = {
    "description": "a refusal or fault, as problem details (RFC 9457)",
    "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/problem"}}},
}
OAUTH_ERROR: Schema = {
    "description": "a refusal (RFC 6749, section 5.2)",
    "content": {JSON: {"schema": {"$ref": "#/components/schemas/oauth-error"}}},
}
FIELD_FORMS: dict[str, Schema] = {
    "labels": {"type": "object", "additionalProperties": TEXT},
    "members": {"type": "array", "items": {"$ref": "#/components/schemas/reference"}},
    "where": OBJECT, "allows": OBJECT, "bars": OBJECT, "only": OBJECT, "when": OBJECT, "admits": OBJECT,
    "includes": {"type": "array", "items": TEXT},
    "runs_as": {"type": "array", "items": TEXT},
    "except": {"type": "array"},
    "to": {"$ref": "#/components/schemas/reference"},
    "what": {"type": ["string", "object"]},
    "disabled": {"type": "boolean"},
    "until": MOMENT,
}  # fmt: skip
RESOURCE: Schema = {
    "type": "object",
    "properties": {name: {} for name in ("labels", "encrypted_by", "managed_by", "tied")},
    "additionalProperties": False,
}
ASKED = (
    "grant_type", "subject_token", "subject_token_type", "requested_token_type", "resource", "audience",
    "authorization_details", "client_id", "client_secret",
)  # fmt: skip
REQUESTS: dict[str, Schema] = {
    "resources": {
        "type": "object",
        "properties": {"resources": {"type": "object", "additionalProperties": RESOURCE, "minProperties": 1}},
        "required": ["resources"],
    },
    "credential": {
        "type": "object",
        "properties": {
            "name": TEXT, "of": TEXT, "form": {"enum": list(FORMS)}, "expires": MOMENT, "when": OBJECT, "reason": TEXT,
        },
        "required": ["name", "of", "form"],
        "additionalProperties": False,
    },
    "credential-state": {
        "type": "object",
        "properties": {"disabled": {"type": "boolean"}},
        "required": ["disabled"],
        "additionalProperties": False,
    },
    "session-as": {"type": "object", "properties": {"of": TEXT}, "required": ["of"], "additionalProperties": False},
    "token": {"type": "object", "properties": dict.fromkeys(ASKED, TEXT), "required": ["grant_type"]},
    "about-a-token": {
        "type": "object",
        "properties": dict.fromkeys(("token", "token_type_hint", "client_id", "client_secret"), TEXT),
        "required": ["token"],
    },
}  # fmt: skip
"""What is sent besides statements."""
ANSWERS: dict[str, Schema] = {
    "problem": {
        "type": "object",
        "properties": {
            "type": TEXT, "title": TEXT, "status": {"type": "integer"}, "detail": TEXT,
            "refused_at": {"type": "array", "items": TEXT},
        },
        "required": ["type", "title", "status", "detail"],
    },
    "oauth-error": {
        "type": "object",
        "properties": {
            "error": TEXT, "error_description": TEXT, "refused_at": {"type": "array", "items": TEXT},
        },
        "required": ["error", "error_description"],
    },
    "inventory": {
        "type": "object",
        "properties": {
            "accounts": {"type": "array", "items": TEXT}, "resources": {"type": "array", "items": TEXT},
            "people": {"type": "object", "additionalProperties": TEXT}, "side": TEXT,
        },
        "required": ["accounts", "resources", "people", "side"],
    },
    "ids": {"type": "object", "properties": {"ids": {"type": "object", "additionalProperties": TEXT}}},
    "made": {"type": "object", "properties": {"made": {"type": "array", "items": TEXT}}, "required": ["made"]},
    "issued-token": {
        "type": "object",
        "properties": {
            "access_token": TEXT, "issued_token_type": TEXT, "token_type": TEXT, "expires_in": {"type": "integer"},
        },
        "required": ["access_token", "issued_token_type", "token_type", "expires_in"],
    },
    "introspection": {
        "type": "object", "properties": {"active": {"type": "boolean"}}, "required": ["active"],
    },
    "keyed-credential": {
        "type": "object",
        "properties": {
            "id": TEXT, "name": TEXT, "of": TEXT, "form": {"enum": list(FORMS)}, "disabled": {"type": "boolean"},
            "fingerprint": TEXT, "reason": TEXT, "made_by": TEXT, "created": MOMENT, "expires": MOMENT,
            "last_used": MOMENT, "value": TEXT,
        },
        "required": ["id", "name", "of", "form", "disabled", "fingerprint"],
    },
    "open-session": {
        "type": "object",
        "properties": {"id": TEXT, "at": TEXT, "of": TEXT, "origin": OBJECT, "began": MOMENT, "ends": MOMENT},
        "required": ["id", "of", "began", "ends"],
    },
    "recorded-use": {"type": "object", "properties": {"id": TEXT, "target": TEXT}, "required": ["id", "target"]},
    "decision": {
        "type": "object",
        "properties": {"decided": TEXT, "verb": TEXT, "place": TEXT, "runs": TEXT},
        "required": ["decided", "verb", "place"],
    },
    "stored-below": {"type": "object", "properties": {"items": {"type": "array", "items": TEXT}}},
    "trial": {"type": "object", "properties": {"trial": TEXT}, "required": ["trial"]},
    "trial-state": {
        "type": "object",
        "properties": {"place": TEXT, "stored": {"type": "boolean"}, "sha256": {"type": ["string", "null"]}},
        "required": ["place", "stored"],
    },
    "metadata": {
        "type": "object", "properties": {"issuer": TEXT, "jwks_uri": TEXT}, "required": ["issuer", "jwks_uri"],
    },
    "keys": {"type": "object", "properties": {"keys": {"type": "array", "items": OBJECT}}, "required": ["keys"]},
}  # fmt: skip


def document(title: str, url: str) -> dict[str, Any]:
    """The description of every path that a cloud answers at."""
    paths: dict[str, Any] = {}
    schemas: dict[str, Any] = {
        "reference": {
            "type": "object",
            "properties": dict.fromkeys(("identity", "group", "organisation", "gone"), TEXT),
        },
        **REQUESTS,
        **ANSWERS,
    }
    for collection, fields in FIELDS.items():
        properties = {name: FIELD_FORMS.get(name, TEXT) for name in sorted(fields)}
        sent = {**properties, "holder": TEXT, "mark": {"type": ["string", "null"]}}
        shown = {**sent, "id": TEXT, "etag": TEXT, "in_force": {"type": "boolean"}}
        schemas[f"new-{collection}"] = {
            "type": "object", "properties": sent, "required": sorted({*REQUIRED[collection], "holder"}),
        }  # fmt: skip
        schemas[collection] = {"type": "object", "properties": shown, "required": sorted(REQUIRED[collection])}
        paths[f"/administration/{collection}"] = _collection_paths(collection)
        paths[f"/administration/{collection}/{{id}}"] = _item_paths(collection)
    return {
        "openapi": "3.1.0",
        "info": {"title": title, "version": "1"},
        "servers": [{"url": url}],
        "paths": {**paths, **_administration_paths(), **_token_paths(), **_place_paths()},
        "components": {
            "schemas": schemas,
            "securitySchemes": {"session": {"type": "http", "scheme": "bearer", "bearerFormat": "JWT"}},
        },
        "security": [{"session": []}],
    }


def _administration_paths() -> dict[str, Any]:
    after = _query("after", {"type": "integer", "minimum": 0})
    addresses = _query("address", {"type": "array", "items": TEXT})
    return {
        "/administration/inventory": {
            "get": _operation("what exists already, as far as this session sees it", answers="inventory")
        },
        "/administration/resources": {
            "post": _operation("creates resources", sends="resources", answers="made", status="201")
        },
        "/administration/resources/{address}": {
            "parameters": [_in_path("address")],
            "delete": _operation("deletes a resource, and the identities that are tied to it", status="204"),
        },
        "/administration/credentials": {
            "get": _operation("keyed credentials, without any value", pages="keyed-credential"),
            "post": _operation(
                "creates one; its value is in this answer alone", sends="credential",
                answers="keyed-credential", status="201",
            ),
        },
        "/administration/credentials/{id}": {
            "parameters": [_in_path("id")],
            "get": _operation("one keyed credential, without its value", answers="keyed-credential"),
            "put": _operation(
                "disables or enables it", sends="credential-state", answers="keyed-credential"
            ),
            "delete": _operation("it opens nothing from now on", status="204"),
        },
        "/administration/ids": {
            "get": _operation("the ids of identities and groups, by their addresses", [addresses], answers="ids")
        },
        "/administration/concerning": {
            "get": _operation("what others hold that names what is the session's own", pages="")
        },
        "/administration/sessions": {
            "get": _operation("the sessions that have not ended, and the sign-ins of people", pages="open-session"),
            "post": _operation(
                "a session as an identity, for its issuers", sends="session-as", answers="issued-token"
            ),
        },
        "/administration/sessions/{id}": {
            "parameters": [_in_path("id")],
            "get": _operation("one that has not ended", answers="open-session"),
            "delete": _operation("it ends now, and with it what was obtained by it", status="204"),
        },
        "/administration/usage": {
            "get": _operation("requests that were decided, the oldest first", [after], pages="recorded-use")
        },
    }  # fmt: skip


def _token_paths() -> dict[str, Any]:
    tokens = "token exchange (RFC 8693), or a session for a key (RFC 6749, section 4.4)"
    asked = partial(_operation, sends="token", media=FORM, faults=OAUTH_ERROR, open_to_all=True)
    about = partial(_operation, sends="about-a-token", media=FORM, faults=OAUTH_ERROR)
    introspecting = about("what a session is (RFC 7662)", answers="introspection")
    introspecting["responses"]["401"] = {
        "description": "the caller has no session or key", "content": {**PROBLEM["content"], **OAUTH_ERROR["content"]},
    }  # fmt: skip
    known = [{"name": "If-None-Match", "in": "header", "schema": TEXT}]
    return {
        "/token": {"post": asked(tokens, _surroundings(), answers="issued-token")},
        "/revoke": {"post": about("a session is over (RFC 7009)", open_to_all=True)},
        "/introspect": {"post": introspecting},
        "/.well-known/oauth-authorization-server": {
            "get": _operation("what the token service is (RFC 8414)", known, answers="metadata", open_to_all=True)
        },
        "/jwks": {"get": _operation("its public keys (RFC 7517)", known, answers="keys", open_to_all=True)},
    }


def _place_paths() -> dict[str, Any]:
    trial = _query("trial", TEXT)
    asked = _surroundings()
    removed = _operation("deletes; with `trial` it is put back when the trial ends", [trial, *asked], status="204")
    removed["responses"]["201"] = _answered("a trial", "trial")
    removed["responses"]["200"] = _answered("decided, for a declared resource", "decision")
    written = _operation("writes; with `trial` it is put back when the trial ends", [trial, *asked], media=BYTES)
    written["responses"] = {"201": {"description": "written, or a trial begun"}, "default": PROBLEM}
    read = _operation("reads, or with `list` lists what is stored below", [_query("list", TEXT), *asked])
    read["responses"]["200"] = {
        "description": "what is stored, or a list",
        "content": {BYTES: {"schema": {}}, JSON: {"schema": {"$ref": "#/components/schemas/stored-below"}}},
    }
    verbs = [_query("verb", TEXT, required=True), _query("onto", TEXT), *asked]
    return {
        "/places/{address}": {
            "parameters": [_in_path("address")],
            "get": read,
            "put": written,
            "delete": removed,
            "post": _operation("does another verb of the place's kind", verbs, answers="decision"),
        },
        "/trials/{id}": {
            "parameters": [_in_path("id")],
            "get": _operation("whether what was tried is really there", answers="trial-state"),
            "delete": _operation("ends a trial and puts back what was there before", status="204"),
        },
    }


def _collection_paths(collection: str) -> dict[str, Any]:
    query = [
        _query("after", {"type": "integer"}), _query("limit", {"type": "integer"}), _query("holder", TEXT),
    ]  # fmt: skip
    making = f"makes one of {collection}"
    return {
        "get": _operation(f"lists {collection}, in pages by Link (RFC 8288)", query, pages=collection),
        "post": _operation(making, _once(), sends=f"new-{collection}", answers=collection, status="201"),
    }


def _item_paths(collection: str) -> dict[str, Any]:
    match = {"name": "If-Match", "in": "header", "required": True, "schema": TEXT}
    return {
        "parameters": [_in_path("id")],
        "get": _operation(f"shows one of {collection}", answers=collection),
        "put": _operation("changes it", [match, *_once()], sends=f"new-{collection}", answers=collection),
        "delete": _operation("removes it", [match, *_once()], status="204"),
    }


def _in_path(name: str) -> dict[str, Any]:
    return {"name": name, "in": "path", "required": True, "schema": TEXT}


def _query(name: str, schema: Schema, *, required: bool = False) -> dict[str, Any]:
    return {"name": name, "in": "query", "required": required, "schema": schema}


def _once() -> list[dict[str, Any]]:
    """The header of a change that may come twice and is done once."""
    return [{"name": "Idempotency-Key", "in": "header", "schema": TEXT}]


def _surroundings() -> list[dict[str, Any]]:
    """What a request says of itself besides: an agreed reference, and where it comes from (RFC 7239)."""
    return [{"name": name, "in": "header", "schema": TEXT} for name in ("Agreed-Reference", "Forwarded")]


def _answered(says: str, schema: str) -> dict[str, Any]:
    return {"description": says, "content": {JSON: {"schema": {"$ref": f"#/components/schemas/{schema}"}}}}


@dataclass(frozen=True)
class _Operation:
    """One operation. `sends` and `answers` name schemas, `pages` that of the items of a list ('' where it has none)."""

    says: str
    parameters: Sequence[Mapping[str, Any]] = ()
    sends: str = ""
    media: str = JSON
    answers: str = ""
    pages: str | None = None
    status: str = "200"
    faults: Mapping[str, Any] = field(default_factory=lambda: PROBLEM)
    open_to_all: bool = False

    def told(self) -> dict[str, Any]:
        done: dict[str, Any] = _answered("done", self.answers) if self.answers else {"description": "done"}
        if self.pages is not None:
            item = {"$ref": f"#/components/schemas/{self.pages}"} if self.pages else OBJECT
            listed = {
                "type": "object",
                "properties": {"items": {"type": "array", "items": item}},
                "required": ["items"],
            }
            done = {"description": "done", "content": {JSON: {"schema": listed}}}
        out: dict[str, Any] = {"summary": self.says, "responses": {self.status: done, "default": self.faults}}
        if any(parameter["name"] == "If-None-Match" for parameter in self.parameters):
            out["responses"]["304"] = {"description": "as the client has it"}
        if self.parameters:
            out["parameters"] = list(self.parameters)
        if self.sends or self.media == BYTES:
            schema = {"$ref": f"#/components/schemas/{self.sends}"} if self.sends else {}
            out["requestBody"] = {"required": bool(self.sends), "content": {self.media: {"schema": schema}}}
        if self.open_to_all:
            out["security"] = []
        return out


def _operation(says: str, parameters: Sequence[Mapping[str, Any]] = (), **more: Any) -> dict[str, Any]:
    return _Operation(says, parameters, **more).told()

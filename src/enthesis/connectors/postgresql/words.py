"""What the privileges of a database are called in an estate, and how its roles become identities and groups."""

import hashlib
import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from enthesis.model.foreign_names import word_of

READ, WRITE = "read", "write"
VERBS: Mapping[str, Mapping[str, str]] = {
    "database": {"CONNECT": "login", "CREATE": "create-schema", "TEMPORARY": "create-scratch"},
    "schema": {"USAGE": "describe", "CREATE": "create"},
    "table": {
        "SELECT": READ, "INSERT": "insert", "UPDATE": "update", "DELETE": "remove-rows", "TRUNCATE": "truncate",
        "REFERENCES": "reference", "TRIGGER": "add-trigger", "MAINTAIN": "maintain",
    },
}  # fmt: skip
"""By kind, the verb of each privilege. The catalogue's `write` on a table is three of them together."""
WRITING = ("insert", "update", "remove-rows")
FURTHER: Mapping[str, Mapping[str, str]] = {
    "database": {"create-schema": "manage", "create-scratch": "manage"},
    "table": {
        "insert": "write", "update": "write", "remove-rows": "write", "truncate": "write", "reference": "look",
        "add-trigger": "manage", "maintain": "manage",
    },
}  # fmt: skip
"""The verbs that the catalogue does not have, with their classes."""
OWNING = ("change-access", "configure", "delete")
PRIVILEGES = {kind: {verb: privilege for privilege, verb in verbs.items()} for kind, verbs in VERBS.items()}
MARK, STATEMENT = "enthesis", "statement"


@dataclass(frozen=True, slots=True)
class DatabaseRole:
    """A role of the server."""

    oid: int
    name: str
    login: bool
    superuser: bool
    makes_roles: bool
    valid_until: Any
    comment: str | None


def our_statement(name: str, comment: str | None) -> tuple[str, Mapping[str, Any]] | None:
    """The estate and the statement that the comment of a role of ours says it is for; None for any other role.

    A comment can be written on any role: it counts for one that has the name which we give to one for this statement.
    """
    try:
        said = json.loads(comment or "")
    except (ValueError, RecursionError):
        return None
    mark, body = (said.get(MARK), said.get(STATEMENT)) if isinstance(said, dict) else (None, None)
    if not isinstance(mark, str) or not isinstance(body, dict):
        return None
    names = [body.get("address")]
    names += [role_name(mark, body["name"])] if isinstance(body.get("name"), str) else []
    if isinstance(body.get("role"), str) and isinstance(body.get("at"), str):
        names.append(grant_name(mark, body["role"], body["at"]))
    return (mark, body) if name in names else None


def comment_for(mark: str, body: Mapping[str, object]) -> str:
    """What the comment of a role of ours says."""
    return json.dumps({MARK: mark, STATEMENT: body}, sort_keys=True, separators=(",", ":"))


PUBLIC_GROUP = "public"


def identity_address(database: str, role: str) -> str:
    """The identity that a role of the server is; its name is kept, whatever it holds."""
    return f"{database}/identity/{word_of(role)}"


def group_address(database: str, role: str) -> str:
    """The group of all who have what a role has. No role is named `public`: that is everybody (PostgreSQL, CREATE
    ROLE)."""
    return f"{database}/group/{word_of(role)}"


def table_address(database: str, schema: str, name: str) -> str:
    """A table's place, whatever its names hold."""
    return f"{database}/schema/{word_of(schema)}/table/{word_of(name)}"


def with_writing(verbs: Iterable[str]) -> list[str]:
    """Verbs on a table, `write` among them where all that it stands for are."""
    found = list(verbs)
    return [*found, WRITE] if set(WRITING) <= set(found) else found


IDLE, IDLE_FROM = "15min", 14  # after which a login in which nothing is done is ended; version that can do so
LOGINS = "enthesis logins"  # the role of all identities that log in by certificate
LONGEST_ID = 64  # characters of a common name (RFC 5280, appendix A)
LONGEST_ROLE = 63  # bytes of a name
MAP = "enthesis"  # of names in certificates to roles


def lines_for(database: str, domain: str) -> tuple[str, str]:
    """The lines that let workloads of a trust domain in, and nobody else: one of host-based access, one of the map of
    user names, which makes the path of a SPIFFE id the role."""
    return f"hostssl {_quoted(database)} +{_quoted(LOGINS)} all cert map={MAP}", f"{MAP} /^spiffe://{domain}/(.+)$ \\1"


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def role_name(mark: str, name: str) -> str:
    """The name of the server's role that says what a role of the estate allows."""
    return f"role {_short(mark, name)} {name}"[: LONGEST_ROLE // 2]


def grant_name(mark: str, role: str, at: str) -> str:
    """The name of the server's role that has the privileges of a role at one place."""
    return f"grant {_short(mark, role, at)} {role}"[: LONGEST_ROLE // 2]


def _short(*parts: str) -> str:
    return hashlib.sha256("\0".join(parts).encode()).hexdigest()[:10]

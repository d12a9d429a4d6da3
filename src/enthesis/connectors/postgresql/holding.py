"""What a database can hold of an estate's statements, seen without asking it."""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from enthesis.connectors.postgresql.words import LONGEST_ID, LONGEST_ROLE, PRIVILEGES, WRITE, WRITING
from enthesis.model.addresses import contains, organisation_named
from enthesis.model.errors import InnerError


class NotHeld(InnerError, ValueError):
    """A statement that a database has no words for; the message says why."""

    inner_code = "statement-not-held"


@dataclass(frozen=True, slots=True)
class KnownDatabase:
    """A database by its address: `domain` is the trust domain of the ids that log in, `organisation` the one that the
    database stands in ('' where it is in none)."""

    name: str
    domain: str
    organisation: str


def objection(at: KnownDatabase, collection: str, body: Mapping[str, Any], allows: Mapping[str, Any]) -> str:
    """Why a database cannot hold a statement; '' where it can."""
    try:
        if collection == "roles":
            if body.get("includes"):
                raise NotHeld("a role for a database includes no other")
            for kind, verbs in body["allows"].items():
                list(privileges_of(kind, verbs))
        elif collection == "grants":
            _holds(at, body, allows)
        else:
            raise NotHeld(f"{collection} at a database are its administrators' to make, and are only described here")
    except NotHeld as why:
        return str(why)
    return ""


def _holds(at: KnownDatabase, body: Mapping[str, Any], allows: Mapping[str, Any]) -> None:
    to = str(body["to"])
    if body.get("when") or body.get("until"):
        raise NotHeld("privileges of a database have no conditions and no end")
    if contains(at.name, to):
        raise NotHeld(f"{to} is the server's own: give it there, or grant to a workload instead")
    if "/group/" in to:
        raise NotHeld(f"{to} is a group, which a database does not know: grant to each identity by itself")
    if to.startswith("@") and organisation_named(to) != at.organisation:
        raise NotHeld(
            f"{to} is of another organisation than {at.name}, and a database does not ask whether it may enter: let it "
            "take on an identity, and grant to that"
        )
    if len(f"spiffe://{at.domain}/{to}") > LONGEST_ID:
        raise NotHeld(
            f"spiffe://{at.domain}/{to} has more than {LONGEST_ID} characters, and does not fit into the common "
            "name of a certificate, by which a database knows its logins: give the identity a shorter name"
        )
    if len(to.encode()) > LONGEST_ROLE:
        raise NotHeld(f"{to} has more than {LONGEST_ROLE} bytes, the longest name of a role")
    for kind, verbs in allows.items():
        list(privileges_of(kind, verbs))


def privileges_of(kind: str, verbs: str | Iterable[str]) -> Iterator[str]:
    """The privileges that verbs on a kind are; NotHeld where a database knows no such."""
    for verb in [verbs] if isinstance(verbs, str) else verbs:
        if kind == "table" and verb == WRITE:
            yield from (PRIVILEGES["table"][one] for one in WRITING)
        elif verb in PRIVILEGES.get(kind, {}):
            yield PRIVILEGES[kind][verb]
        else:
            known = ", ".join(f"{of} {one}" for of, its in PRIVILEGES.items() for one in its)
            raise NotHeld(f"a database gives no {verb} on a {kind} (it gives {known}, and table write)")

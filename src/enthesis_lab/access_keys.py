"""Keyed credentials of a cloud's identities: a value is shown once, when it is made, and kept as its digest only."""

import hashlib
import json
import secrets
import uuid
from collections.abc import Mapping
from typing import Any

from enthesis_lab.issued_secrets import remember
from enthesis_lab.store import Store

FORMS = ("access-key", "client-secret", "static-token")
COLUMNS = "id, cloud, name, of, form, created, expires, last_used, disabled, conditions, reason, made_by, digest"


class Keyed:
    """The credentials of one lab, all clouds' together."""

    def __init__(self, store: Store) -> None:
        self.store = store

    def make(
        self, cloud: str, name: str, identity: str, form: str, now: float, more: Mapping[str, Any]
    ) -> tuple[dict[str, Any], str]:
        """A new one and its value, which nobody sees again; sqlite3.IntegrityError where the name is taken."""
        identifier, value = str(uuid.uuid4()), remember("labkey." + secrets.token_urlsafe(32))
        row = (
            identifier, cloud, name, identity, form, now, more.get("expires"), None, 0,
            json.dumps(more.get("when", {})), more.get("reason", ""), more.get("made_by", ""), _digest(value),
        )  # fmt: skip
        with self.store.transaction():
            marks = ", ".join("?" * len(row))
            self.store.connection.execute(f"INSERT INTO credentials ({COLUMNS}) VALUES ({marks})", row)  # noqa: S608
        return self.all()[identifier], value

    def all(self) -> dict[str, dict[str, Any]]:
        """Every one by its id."""
        rows = self.store.connection.execute(f"SELECT {COLUMNS} FROM credentials ORDER BY created, id")  # noqa: S608
        found = {}
        for row in rows:
            one = dict(zip(COLUMNS.split(", "), row, strict=True))
            one["when"] = json.loads(one.pop("conditions"))
            one["fingerprint"] = fingerprint_of(one.pop("digest"))
            found[one["id"]] = {**one, "disabled": bool(one["disabled"])}
        return found

    def shown(self, cloud: str, value: str) -> dict[str, Any] | None:
        """The one whose value this is; a value that was never made is nobody's."""
        row = self.store.connection.execute(
            "SELECT id FROM credentials WHERE digest = ? AND cloud = ?", (_digest(value), cloud)
        ).fetchone()
        return self.all().get(row[0]) if row else None

    def used(self, identifier: str, now: float) -> None:
        """Remembers the use; no statement changes by that, so nothing is read anew."""
        self.store.connection.execute("UPDATE credentials SET last_used = ? WHERE id = ?", (now, identifier))

    def disable(self, identifier: str, *, disabled: bool) -> None:
        """Switches a keyed credential off, or on again."""
        with self.store.transaction():
            self.store.connection.execute(
                "UPDATE credentials SET disabled = ? WHERE id = ?", (int(disabled), identifier)
            )

    def remove(self, identifier: str) -> None:
        """Deletes a keyed credential for good."""
        with self.store.transaction():
            self.store.connection.execute("DELETE FROM credentials WHERE id = ?", (identifier,))


def _digest(value: str) -> str:
    return hashlib.sha256(value.encode()).hexdigest()


def fingerprint_of(digest: str) -> str:
    """What the same value has wherever it lies, and from which it cannot be found."""
    return f"sha256:{digest[:32]}"

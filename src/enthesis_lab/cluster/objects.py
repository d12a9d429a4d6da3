"""What a stand-in cluster stores: objects with uid and version, in the lab's file."""

import json
import sqlite3
import uuid
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from enthesis_lab.cluster.kinds import SERVED, Served
from enthesis_lab.store import Store

KEPT_CHANGES = 5000  # of each cluster
TOKEN_TYPE = "JWT"  # noqa: S105  a type, not a token
ADMINISTRATOR = "lab-administrator"


@dataclass(frozen=True)
class ObjectChange:
    """One change of an object: how it was, how it is now; None where it was or is not there."""

    version: int
    before: dict[str, Any] | None
    after: dict[str, Any] | None


class Objects:
    """The objects of one cluster. A uid is never used again; the version grows with every change of anything."""

    def __init__(self, store: Store, cluster: str) -> None:
        self.store = store
        self.cluster = cluster

    def add(self, served: Served, namespace: str, body: dict[str, Any], now: float) -> dict[str, Any] | None:
        """Stores a new object and answers it whole; None where its name is taken."""
        meta = body.setdefault("metadata", {})
        meta["uid"] = str(uuid.uuid4())
        meta["creationTimestamp"] = datetime.fromtimestamp(now, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        if served.namespaced:
            meta["namespace"] = namespace
        try:
            with self.store.transaction():
                version, kept = self._next(), json.dumps(body)
                self.store.connection.execute(
                    "INSERT INTO objects (cluster, api, plural, namespace, name, version, body) VALUES (?,?,?,?,?,?,?)",
                    (self.cluster, served.group, served.plural, namespace, meta["name"], version, kept),
                )
                self._changed(served, namespace, version, None, kept)
        except sqlite3.IntegrityError:
            return None
        return self.get(served, namespace, meta["name"])

    def put(self, served: Served, namespace: str, name: str, body: dict[str, Any]) -> dict[str, Any]:
        """Stores an object in place of one there is."""
        with self.store.transaction():
            version, kept = self._next(), json.dumps(body)
            before = self._row(served, namespace, name)
            self.store.connection.execute(
                "UPDATE objects SET version = ?, body = ?"
                " WHERE cluster = ? AND api = ? AND plural = ? AND namespace = ? AND name = ?",
                (version, kept, self.cluster, served.group, served.plural, namespace, name),
            )
            self._changed(served, namespace, version, before, kept)
        found = self.get(served, namespace, name)
        if found is None:
            raise LookupError(name)
        return found

    def remove(self, served: Served, namespace: str, name: str) -> None:
        """Deletes an object; with a namespace everything in it."""
        with self.store.transaction():
            inside = self._inside(name) if served.plural == "namespaces" else []
            for one, its_namespace, its_name in [*inside, (served, namespace, name)]:
                before = self._row(one, its_namespace, its_name)
                self.store.connection.execute(
                    "DELETE FROM objects WHERE cluster = ? AND api = ? AND plural = ? AND namespace = ? AND name = ?",
                    (self.cluster, one.group, one.plural, its_namespace, its_name),
                )
                self._changed(one, its_namespace, self._next(), before, None)

    def _inside(self, namespace: str) -> list[tuple[Served, str, str]]:
        """Everything that stands in a namespace."""
        rows = self.store.connection.execute(
            "SELECT api, plural, name FROM objects WHERE cluster = ? AND namespace = ?", (self.cluster, namespace)
        )
        return [(SERVED[api, plural], namespace, name) for api, plural, name in rows.fetchall()]

    def _row(self, served: Served, namespace: str, name: str) -> tuple[str, int] | None:
        found: tuple[str, int] | None = self.store.connection.execute(
            "SELECT body, version FROM objects"
            " WHERE cluster = ? AND api = ? AND plural = ? AND namespace = ? AND name = ?",
            (self.cluster, served.group, served.plural, namespace, name),
        ).fetchone()
        return found

    def _changed(
        self, served: Served, namespace: str, version: int, before: tuple[str, int] | None, after: str | None
    ) -> None:
        """Notes a change, inside its transaction; those of long ago are forgotten."""
        self.store.connection.execute(
            "INSERT INTO changes VALUES (?,?,?,?,?,?,?,?)",
            (self.cluster, version, served.group, served.plural, namespace, *(before or (None, None)), after),
        )
        if not version % 100:
            self.store.connection.execute(
                "DELETE FROM changes WHERE cluster = ? AND version <= ?", (self.cluster, version - KEPT_CHANGES)
            )

    def changes(self, served: Served, namespace: str | None, after: int) -> list[ObjectChange]:
        """What changed of one kind after a version, in its order."""
        rows = self.store.connection.execute(
            "SELECT version, before, before_version, after FROM changes WHERE cluster = ? AND api = ? AND plural = ?"
            " AND (? IS NULL OR namespace = ?) AND version > ? ORDER BY version",
            (self.cluster, served.group, served.plural, namespace, namespace, after),
        ).fetchall()
        return [
            ObjectChange(
                version,
                self._whole(served, (before, its)) if before is not None else None,
                self._whole(served, (now, version)) if now is not None else None,
            )
            for version, before, its, now in rows
        ]

    def forgotten(self) -> int:
        """The version before which changes are not known any more."""
        row = self.store.connection.execute(
            "SELECT MIN(version) FROM changes WHERE cluster = ?", (self.cluster,)
        ).fetchone()
        return int(row[0] or 1) - 1

    def get(self, served: Served, namespace: str, name: str) -> dict[str, Any] | None:
        """An object, or None where there is none of that name."""
        row = self._row(served, namespace, name)
        return self._whole(served, row) if row else None

    def listed(
        self, served: Served, namespace: str | None = None, after: int = 0, limit: int = -1
    ) -> tuple[list[dict[str, Any]], int | None]:
        """Objects in the order they were made, and the number to continue after; None where there are no more."""
        rows = self.store.connection.execute(
            "SELECT body, version, number FROM objects WHERE cluster = ? AND api = ? AND plural = ?"
            " AND (? IS NULL OR namespace = ?) AND number > ? ORDER BY number LIMIT ?",
            (self.cluster, served.group, served.plural, namespace, namespace, after, limit + 1 if limit > 0 else -1),
        ).fetchall()
        more = rows[limit - 1][2] if 0 < limit < len(rows) else None
        return [self._whole(served, row) for row in (rows[:limit] if limit > 0 else rows)], more

    def version(self) -> int:
        """The version of everything; it grows when something is removed, too."""
        return int(self.store.setting(f"version of {self.cluster}", 0))

    def _next(self) -> int:
        """The next version, inside the transaction that it is for."""
        version = self.version() + 1
        row = (f"version of {self.cluster}", json.dumps(version))
        self.store.connection.execute("INSERT OR REPLACE INTO settings VALUES (?, ?)", row)
        return version

    @staticmethod
    def _whole(served: Served, row: tuple[Any, ...]) -> dict[str, Any]:
        body: dict[str, Any] = json.loads(row[0])
        body["metadata"]["resourceVersion"] = str(row[1])
        return {"kind": served.kind, "apiVersion": served.version, **body}

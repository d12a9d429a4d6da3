"""What a stand-in cluster stores: objects with uid and version, in the lab's file."""

import json
import sqlite3
import uuid
from datetime import UTC, datetime
from typing import Any

from enthesis.lab.cluster.kinds import Served
from enthesis.lab.store import Store

TOKEN_TYPE = "JWT"  # noqa: S105  a type, not a token
ADMINISTRATOR = "lab-administrator"


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
                self.store.connection.execute(
                    "INSERT INTO objects (cluster, api, plural, namespace, name, version, body) VALUES (?,?,?,?,?,?,?)",
                    (
                        self.cluster,
                        served.group,
                        served.plural,
                        namespace,
                        meta["name"],
                        self._next(),
                        json.dumps(body),
                    ),
                )
        except sqlite3.IntegrityError:
            return None
        return self.get(served, namespace, meta["name"])

    def put(self, served: Served, namespace: str, name: str, body: dict[str, Any]) -> dict[str, Any]:
        """Stores an object in place of one there is."""
        with self.store.transaction():
            self.store.connection.execute(
                "UPDATE objects SET version = ?, body = ?"
                " WHERE cluster = ? AND api = ? AND plural = ? AND namespace = ? AND name = ?",
                (self._next(), json.dumps(body), self.cluster, served.group, served.plural, namespace, name),
            )
        found = self.get(served, namespace, name)
        if found is None:
            raise LookupError(name)
        return found

    def remove(self, served: Served, namespace: str, name: str) -> None:
        with self.store.transaction():
            self._next()
            self.store.connection.execute(
                "DELETE FROM objects WHERE cluster = ? AND api = ? AND plural = ? AND namespace = ? AND name = ?",
                (self.cluster, served.group, served.plural, namespace, name),
            )
            if served.plural == "namespaces":
                self.store.connection.execute(
                    "DELETE FROM objects WHERE cluster = ? AND namespace = ?", (self.cluster, name)
                )

    def get(self, served: Served, namespace: str, name: str) -> dict[str, Any] | None:
        row = self.store.connection.execute(
            "SELECT body, version FROM objects"
            " WHERE cluster = ? AND api = ? AND plural = ? AND namespace = ? AND name = ?",
            (self.cluster, served.group, served.plural, namespace, name),
        ).fetchone()
        return self._whole(served, row) if row else None

    def listed(
        self, served: Served, namespace: str | None = None, after: int = 0, limit: int = -1
    ) -> tuple[list[dict[str, Any]], int | None]:
        """Objects in the order they were made, and the number to go on after; None where there are no more."""
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

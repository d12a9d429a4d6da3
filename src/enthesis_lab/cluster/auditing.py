"""The stand-in cluster's audit log: every request that was decided, but for those of the lab's administrator.

Kubernetes documentation, "Auditing": an `Event` of audit.k8s.io/v1 each, at the level of metadata.
"""

import json
import uuid
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from enthesis_lab.cluster.access import Attributes, User
from enthesis_lab.cluster.objects import ADMINISTRATOR
from enthesis_lab.store import Store
from enthesis_lab.tokens import Clock

PAGE = 1000  # events
DECISION, REASON = "authorization.k8s.io/decision", "authorization.k8s.io/reason"


@dataclass(frozen=True)
class Audit:
    """The log of one cluster, kept in the lab's file for as long as its state is."""

    store: Store
    cluster: str
    clock: Clock

    def note(self, user: User, wanted: Attributes, why: str) -> None:
        """One request as it was decided; `why` is '' where it was refused."""
        if user.name == ADMINISTRATOR or wanted.verb == "impersonate":
            return
        resource, _, sub = wanted.resource.partition("/")
        about = {
            "resource": resource, "subresource": sub, "namespace": wanted.namespace, "name": wanted.name,
            "apiGroup": wanted.group, "apiVersion": "v1",
        }  # fmt: skip
        when = datetime.fromtimestamp(self.clock.now(), UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
        event = {
            "kind": "Event", "apiVersion": "audit.k8s.io/v1", "level": "Metadata", "auditID": str(uuid.uuid4()),
            "stage": "ResponseComplete", "verb": wanted.verb, "user": {"username": user.name, "groups": user.groups},
            "objectRef": {name: value for name, value in about.items() if value},
            "requestReceivedTimestamp": when, "stageTimestamp": when,
            "annotations": {DECISION: "allow" if why else "forbid", REASON: f"RBAC: allowed by {why}" if why else ""},
        }  # fmt: skip
        # not in a transaction of the store: nobody's access changes by it
        row = (self.cluster, json.dumps(event))
        self.store.connection.execute("INSERT INTO usage (cloud, record) VALUES (?, ?)", row)

    def after(self, number: int) -> dict[str, Any]:
        """The events behind a number, and the number to continue from; None where there are no more."""
        query = "SELECT number, record FROM usage WHERE cloud = ? AND number > ? ORDER BY number LIMIT ?"
        rows = self.store.connection.execute(query, (self.cluster, number, PAGE)).fetchall()
        more = rows[-1][0] if len(rows) == PAGE else None
        return {"items": [json.loads(record) for _, record in rows], "next": more}

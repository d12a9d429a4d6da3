"""The sessions that a cloud has given out and that have not ended: whose, from which origin, until when; and their end
before that."""

import json
import uuid
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from enthesis_lab.administration import Administration
from enthesis_lab.problems import Problem
from enthesis_lab.store import Store
from enthesis_lab.tokens import Clock


class Sessions:
    """The sessions of one cloud, and the sign-ins of people, which every cloud knows of."""

    def __init__(self, service: str, store: Store, clock: Clock) -> None:
        self.service = service
        self.store = store
        self.clock = clock

    def begin(self, subject: str, claims: Mapping[str, Any], ends: float) -> dict[str, Any]:
        """Notes a session that is about to be signed; the claim that tells it apart (RFC 7519, section 4.1.7)."""
        identifier = str(uuid.uuid4())
        told = {"origin": claims.get("origin", {}), "via": list(dict.fromkeys(_actors(claims.get("act"))))}
        row = (identifier, self.service, subject, json.dumps(told), self.clock.now(), ends)
        # not in a transaction of the store: nobody's access changes by it
        self.store.connection.execute("INSERT INTO sessions VALUES (?, ?, ?, ?, ?, ?)", row)
        return {"jti": identifier}

    def begin_login(
        self, subject: str, origin: Mapping[str, Any], host: str, ends: float, by: Sequence[str] = ()
    ) -> str:
        """Notes a login at a host that is about to be certified; its id. `by` are the ids of the sessions and of the
        sign-in that it is certified for: it ends with any of them."""
        identifier = str(uuid.uuid4())
        told = json.dumps({"origin": dict(origin), "via": [host], "login": host, "by": list(by)})
        row = (identifier, self.service, subject, told, self.clock.now(), ends)
        self.store.connection.execute("INSERT INTO sessions VALUES (?, ?, ?, ?, ?, ?)", row)
        return identifier

    def open(self) -> Iterator[dict[str, Any]]:
        """Those that have not ended."""
        query = (
            "SELECT id, service, subject, told, began, ends FROM sessions WHERE ends > ?"
            " AND (service = ? OR service LIKE '@%') AND id NOT IN (SELECT jti FROM revoked) ORDER BY began, id"
        )
        for row in self.store.connection.execute(query, (self.clock.now(), self.service)).fetchall():
            told = {name: value for name, value in json.loads(row[3]).items() if name != "by"}
            yield {"id": row[0], "at": row[1], "of": row[2], **told, "began": _time(row[4]), "ends": _time(row[5])}

    def end(self, identifier: str) -> None:
        """From now on it opens nothing, and nothing that was obtained with it does."""
        row = self.store.connection.execute("SELECT ends, told FROM sessions WHERE id = ?", (identifier,)).fetchone()
        if row is None:
            return
        logins = self._logins_by(identifier) | ({identifier: row[0]} if "login" in json.loads(row[1]) else {})
        over = {identifier: row[0], **logins}
        with self.store.transaction():
            self.store.connection.executemany("INSERT OR REPLACE INTO revoked VALUES (?, ?)", over.items())
        for login in logins:
            self.store.at_end_of_login(login)

    def _logins_by(self, identifier: str) -> dict[str, float]:
        """The open logins that were certified for a session or sign-in, with their ends."""
        query = "SELECT id, told, ends FROM sessions WHERE ends > ? AND told LIKE '%\"login\"%'"
        rows = self.store.connection.execute(query, (self.clock.now(),)).fetchall()
        return {name: ends for name, told, ends in rows if identifier in json.loads(told).get("by", ())}


class SessionHandlers:
    """The administration interface to the open sessions of one cloud."""

    def __init__(self, sessions: Sessions, administration: Administration) -> None:
        self.sessions = sessions
        self.administration = administration

    async def listed(self, request: Request) -> Response:
        """The open sessions of the identities and people below a boundary, and those that these began."""
        holder = self.administration.session(request)
        if not isinstance(holder, str):
            raise Problem(403, "not-an-administrator", "this session administers nothing")
        return JSONResponse({"items": [entry for entry in self.sessions.open() if self._is_of(holder, entry)]})

    async def one(self, request: Request) -> Response:
        """Shows an open session, or ends it."""
        holder = self.administration.session(request)
        found = next((entry for entry in self.sessions.open() if entry["id"] == request.path_params["id"]), None)
        if found is None or (isinstance(holder, str) and not self._is_of(holder, found)):
            raise Problem(404, "not-found", "no open session of yours has this id")
        self.administration.needs(request, [("issue", found["of"], "")], _boundary(found["of"]))
        if request.method == "DELETE":
            self.sessions.end(found["id"])
            return Response(status_code=204)
        return JSONResponse(found)

    def _is_of(self, holder: str, entry: Mapping[str, Any]) -> bool:
        return self.administration.is_below(holder, _boundary(entry["of"]))


def _boundary(address: str) -> str:
    """The account or organisation of an identity or a resource."""
    return address.split("/identity/", maxsplit=1)[0] if address.startswith("@") else address.split("/", 1)[0]


def _actors(act: Any) -> Iterator[str]:
    """Who acted before, the last first (RFC 8693, section 4.1)."""
    while isinstance(act, dict):
        if isinstance(act.get("sub"), str):
            yield act["sub"]
        act = act.get("act")


def _time(at: float) -> str:
    return datetime.fromtimestamp(at, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")

"""Recorded use: every request that a cloud decided, who made it, on what, and how it ended."""

import json
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from enthesis_lab.administration import Administration, whole_number
from enthesis_lab.deciding import Decision, LabCaller, LabSurroundings
from enthesis_lab.problems import Problem
from enthesis_lab.store import Store

PAGE = 1000  # records


class Records:
    """The records of one cloud, oldest first. They are kept for as long as the lab's state is."""

    def __init__(self, cloud: str, store: Store) -> None:
        self.cloud = cloud
        self.store = store

    def note(
        self, caller: LabCaller, verb: str, target: str, outcome: Decision, around: LabSurroundings, onto: str = ""
    ) -> None:
        """One request as it was decided; `onto` is what is attached to. What is not known of it is left out."""
        origin = {
            name: caller.origin[name] for name in ("kind", "address", "issuer", "credential") if caller.origin.get(name)
        }
        more: dict[str, Any] = {
            "onto": onto or None,
            "origin": origin or None,
            "through": _passed(caller) or None,
            "network": around.network,
            "reference": around.reference,
            "mfa": caller.origin.get("mfa"),
            "session_age": int(around.now - caller.started) if caller.started is not None else None,
            "refused_at": outcome.refused_at or None,
            "statement": outcome.counting[0].id if outcome.counting else None,
        }
        said = {
            "time": _time(around.now),
            "caller": str(caller.origin.get("address") or caller.claims.get("sub") or caller.address or caller.issuer),
            "identity": caller.address if caller.form in ("identity", "person") else None,
            "verb": verb,
            "target": target,
            "outcome": "allowed" if outcome.allowed else "refused",
            "at": self.cloud,
            **{name: value for name, value in more.items() if value is not None},
        }
        self.add([said])

    def note_sign_in(self, person: str, mfa: bool | None, now: float, *, refused: bool) -> None:
        """A sign-in at the directory of an organisation that a person agreed to, or refused."""
        row = {
            "time": _time(now), "caller": person, "identity": person, "verb": "enter", "target": self.cloud,
            "outcome": "refused" if refused else "allowed", "at": self.cloud,
            "origin": {"kind": "person", "address": person}, "mfa": mfa,
        }  # fmt: skip
        self.add([row])

    def add(self, records: Sequence[Mapping[str, Any]]) -> None:
        """Notes requests that were decided already. Nobody's access changes by it, so nothing is read again."""
        rows = [
            (self.cloud, json.dumps({name: record[name] for name in record if record[name] is not None}))
            for record in records
        ]
        self.store.connection.executemany("INSERT INTO usage (cloud, record) VALUES (?, ?)", rows)

    def after(self, number: int, limit: int) -> list[tuple[int, dict[str, Any]]]:
        """The records behind a number, with their own: the cloud's, and those of sign-ins, which every cloud knows."""
        known = "(cloud = ? OR cloud LIKE '@%')"
        query = f"SELECT number, record FROM usage WHERE {known} AND number > ? ORDER BY number LIMIT ?"  # noqa: S608
        rows = self.store.connection.execute(query, (self.cloud, number, limit)).fetchall()
        return [(row[0], json.loads(row[1])) for row in rows]


def _passed(caller: LabCaller) -> list[Any]:
    """The identities taken on since the origin, in order, the caller's own the last; `{on: ADDRESS}` where code was run
    on something that asked from then on."""
    names: list[str] = []
    actor: Any = caller.actor
    while isinstance(actor, Mapping) and actor:
        names.insert(0, str(actor.get("sub", "")))
        actor = actor.get("act")
    begun = str(caller.origin.get("address", ""))
    names = names[1:] if names[:1] == [begun] else names
    places = [name for name in names if name.count("/") >= 2]  # not the subject of a token, nor a person
    return [name if "/identity/" in name else {"on": name} for name in places if not name.startswith("@")]


class RecordHandlers:
    """The administration interface to the records: those of a boundary's own identities, and of its own places."""

    def __init__(self, records: Records, administration: Administration) -> None:
        self.records = records
        self.administration = administration

    async def listed(self, request: Request) -> Response:
        holder = self.administration.session(request)
        if not isinstance(holder, str):
            raise Problem(403, "not-an-administrator", "this session administers nothing")
        after = whole_number(request, "after", 0)
        found = self.records.after(after, PAGE)
        mine = [{"id": str(number), **one} for number, one in found if self._is_of(holder, one)]
        more = {"Link": f'</administration/usage?after={found[-1][0]}>; rel="next"'} if len(found) == PAGE else {}
        return JSONResponse({"items": mine}, headers=more)

    def _is_of(self, holder: str, entry: Mapping[str, Any]) -> bool:
        places = (entry.get("identity"), entry["target"])
        return any(self.administration.is_below(holder, _boundary(place)) for place in places if place)


def _boundary(address: str) -> str:
    return address.split("/identity/", maxsplit=1)[0] if address.startswith("@") else address.split("/", 1)[0]


def _time(at: float) -> str:
    return datetime.fromtimestamp(at, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")

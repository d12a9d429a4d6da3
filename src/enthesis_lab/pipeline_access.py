"""What a stand-in pipeline service keeps for its projects: the ways into identities that its runs may use."""

import sqlite3
from collections.abc import Mapping
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from enthesis_lab.administration import json_body
from enthesis_lab.conditions import NotUnderstood, understand
from enthesis_lab.forms import text
from enthesis_lab.guarding import owner_asks
from enthesis_lab.problems import Problem
from enthesis_lab.store import Statement, Store

KEPT = "pipeline_access"  # the collection in the store
FIELDS = ("name", "of", "admits", "credential")


class PipelineAccessKept:
    """The administration of one service's pipeline access, by the lab's owner: ids are never used again, and every
    version has an entity tag of its own (RFC 9110, section 8.8.3)."""

    def __init__(self, service: str, store: Store) -> None:
        self.service = service
        self.store = store

    def routes(self) -> list[Route]:
        """Where it is listed, made, changed and removed."""
        return [
            Route("/pipeline-access", self._all, methods=["GET", "POST"]),
            Route("/pipeline-access/{id}", self._one, methods=["GET", "PUT", "DELETE"]),
        ]

    def named(self, name: str) -> Mapping[str, Any] | None:
        """What is kept under a name, or None."""
        found = (one.body for one in self.store.statements(self.service, KEPT) if one.name == name)
        return next(found, None)

    async def _all(self, request: Request) -> Response:
        owner_asks(self.store, request)
        if request.method == "GET":
            items = [_shown(one) for one in self.store.statements(self.service, KEPT)]
            return JSONResponse({"items": items, "side": self.store.side()})
        body, mark = _understood(await json_body(request))
        try:
            made = self.store.add(self.service, KEPT, self.service, body["name"], mark, body)
        except sqlite3.IntegrityError:
            raise Problem(409, "exists", f"there is pipeline access called {body['name']} already") from None
        return JSONResponse(_shown(made), 201, {"Location": f"/pipeline-access/{made.id}", "ETag": made.etag})

    async def _one(self, request: Request) -> Response:
        owner_asks(self.store, request)
        found = self.store.statement(self.service, KEPT, request.path_params["id"])
        if found is None:
            raise Problem(404, "not-found", "no pipeline access has this id")
        if request.method == "GET":
            return JSONResponse(_shown(found), headers={"ETag": found.etag})
        if request.headers.get("if-match") is None:
            raise Problem(428, "precondition-required", "say which version with If-Match")
        if request.headers["if-match"] != found.etag:
            raise Problem(412, "changed-meanwhile", "the pipeline access was changed meanwhile")
        if request.method == "DELETE":
            self.store.remove(found)
            return Response(status_code=204)
        body, mark = _understood(await json_body(request))
        if body["name"] != found.name:
            raise Problem(422, "not-understood", "pipeline access keeps its name")
        changed = self.store.replace(found, mark, body)
        return JSONResponse(_shown(changed), headers={"ETag": changed.etag})


def _understood(said: Mapping[str, Any]) -> tuple[dict[str, Any], str | None]:
    """What is to be kept, and for which estate; a Problem where it is not understood."""
    body = {name: value for name, value in said.items() if name != "mark"}
    mark = said.get("mark")
    if set(body) - set(FIELDS) or not all(text(body.get(name)) for name in ("name", "of")):
        raise Problem(422, "not-understood", f"pipeline access has {', '.join(FIELDS)} and a mark")
    if not isinstance(mark, str | None) or not (body.get("credential") is None or text(body["credential"])):
        raise Problem(422, "not-understood", "`mark` and `credential` are texts")
    admits = body.get("admits")
    if not isinstance(admits, dict) or not admits:
        raise Problem(422, "not-understood", "`admits` says by tests of claims which runs may use it")
    try:
        understand(admits, claims=True)
    except (NotUnderstood, TypeError, KeyError, AttributeError, ValueError, OverflowError, RecursionError) as fault:
        raise Problem(422, "not-understood", "the lab does not understand `admits`") from fault
    return body, mark


def _shown(one: Statement) -> dict[str, Any]:
    return {"id": one.id, "etag": one.etag, "mark": one.mark, **one.body}

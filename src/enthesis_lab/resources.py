"""What comes and goes beside the statements: resources, and the keyed credentials of identities."""

import sqlite3
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from enthesis_lab.access_keys import FORMS, Keyed
from enthesis_lab.administration import Administration, json_body
from enthesis_lab.conditions import NotUnderstood, understand
from enthesis_lab.deciding import World, account_of, declared, place_of
from enthesis_lab.problems import Problem
from enthesis_lab.store import Store

MAX_AT_ONCE = 10_000  # resources in one request


class Things:
    """The handlers for one cloud."""

    def __init__(self, store: Store, keyed: Keyed, now: Callable[[], float], administration: Administration) -> None:
        self.store = store
        self.keyed = keyed
        self.now = now
        self.administration = administration

    # -- resources -------------------------------------------------------------------------------------------

    async def add(self, request: Request) -> Response:
        """New resources: addresses with what is known of each; `tied` names an identity that comes with one."""
        body = await json_body(request)
        world = self.administration.world()
        wanted = body.get("resources")
        if not isinstance(wanted, dict) or not 0 < len(wanted) <= MAX_AT_ONCE:
            raise Problem(422, "not-understood", f"`resources` maps addresses, {MAX_AT_ONCE} at the most")
        tied: list[dict[str, Any]] = []
        made: dict[str, dict[str, Any]] = {}
        for address, one in wanted.items():
            place = place_of(world, address)
            above = place is not None and (declared(world, place.parent) or place.parent in made)
            if place is None or not above or place.kind in ("account", "unit", "identity", "group", "organisation"):
                raise Problem(422, "not-understood", f"nothing can be made at {address}")
            if declared(world, address):
                raise Problem(409, "exists", f"there is one at {address} already")
            if not isinstance(one, dict) or set(one) - {"labels", "encrypted_by", "managed_by", "tied"}:
                raise Problem(422, "not-understood", f"what is said of {address}")
            self.administration.needs(request, [("create", account_of(address), "")], account_of(address))
            identity = one.pop("tied", None)
            made[address] = one
            if identity is not None:
                comes = {"address": identity, "kind": "managed-identity", "tied_to": address}
                self.administration.understand("identities", account_of(str(identity)), comes)
                if declared(world, identity):
                    raise Problem(409, "exists", f"there is an identity {identity} already")
                tied.append(comes)
        self.store.add_things(made)
        for identity in tied:  # it comes with its resource, and is nobody's statement
            name = identity["address"]
            self.store.add(world.provider, "identities", account_of(name), name, None, identity)
        return JSONResponse({"made": list(made)}, 201)

    async def remove(self, request: Request) -> Response:
        """A resource goes, and the identity that is tied to it goes with it. Grants that name that one stay behind."""
        address = request.path_params["address"]
        world = self.administration.world()
        self.administration.needs(request, [("delete", address, "")], account_of(address))
        if address not in world.inventory["resources"]:
            raise Problem(404, "not-found", f"there is no {address}")
        remove_resource(self.store, world, address)
        return Response(status_code=204)

    # -- keyed credentials -----------------------------------------------------------------------------------

    async def credentials(self, request: Request) -> Response:
        """Lists them, without any value; or makes one, whose value is in the answer and nowhere else."""
        world = self.administration.world()
        if request.method == "GET":
            holder = self.administration.session(request)
            names = {
                statement.id: statement.body["address"]
                for statement in world.of("identities")
                if isinstance(holder, str) and self.administration.is_below(holder, statement.holder)
            }
            every = [entry for entry in self.keyed.all().values() if entry["of"] in names]
            return JSONResponse({"items": [_shown(entry, names[entry["of"]]) for entry in every]})
        body = await json_body(request)
        identity = world.identity(str(body.get("of")))
        if identity is None or set(body) - {"name", "of", "form", "expires", "when", "reason"}:
            raise Problem(422, "not-understood", "a credential has name, of, form, expires, when and reason")
        address = identity.body["address"]
        self.administration.needs(request, [("issue", address, "")], identity.holder)
        if body.get("form") not in FORMS or not isinstance(body.get("name"), str):
            raise Problem(422, "not-understood", f"`form` is one of {', '.join(FORMS)}")
        try:
            understand(body.get("when", {}))
            expires = datetime.fromisoformat(body["expires"]).timestamp() if "expires" in body else None
            who = self.administration.session(request)
            made_by = f"the administrators of {who}" if isinstance(who, str) else who.address
            more = {**body, "expires": expires, "made_by": made_by}
            record, value = self.keyed.make(world.provider, body["name"], identity.id, body["form"], self.now(), more)
        except (NotUnderstood, ValueError, TypeError) as fault:
            raise Problem(422, "not-understood", f"the lab does not understand {fault}") from None
        except sqlite3.IntegrityError:
            raise Problem(409, "exists", f"a credential is called {body['name']} already") from None
        shown = {**_shown(record, address), "value": value}
        return JSONResponse(shown, 201, {"Cache-Control": "no-store"})

    async def credential(self, request: Request) -> Response:
        """Shows one; disables or enables it; or removes it."""
        world = self.administration.world()
        found = self.keyed.all().get(request.path_params["id"])
        identity = world.identity(found["of"]) if found else None
        if found is None or identity is None:
            raise Problem(404, "not-found", "there is no such credential")
        self.administration.needs(request, [("issue", identity.body["address"], "")], identity.holder)
        if request.method == "GET":
            return JSONResponse(_shown(found, identity.body["address"]))
        if request.method == "DELETE":
            self.keyed.remove(found["id"])
            return Response(status_code=204)
        body = await json_body(request)
        if not isinstance(body.get("disabled"), bool) or set(body) != {"disabled"}:
            raise Problem(422, "not-understood", "`disabled` is true or false")
        self.keyed.disable(found["id"], disabled=body["disabled"])
        return JSONResponse(_shown(self.keyed.all()[found["id"]], identity.body["address"]))


def remove_resource(store: Store, world: World, address: str) -> None:
    """Takes a resource away, with what is in it, the identities tied to those, and what they ran as."""

    def inside(other: object) -> bool:
        return isinstance(other, str) and (other == address or other.startswith(address + "/"))

    going = [statement for statement in world.of("identities") if inside(statement.body.get("tied_to"))]
    going += [statement for statement in world.of("attachments") if inside(statement.body["what"])]
    store.remove_thing(address, going)


def _shown(entry: dict[str, Any], address: str) -> dict[str, Any]:
    times = {
        name: datetime.fromtimestamp(entry[name], UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        for name in ("created", "expires", "last_used")
        if entry[name] is not None
    }
    kept = {name: entry[name] for name in ("id", "name", "form", "disabled", "fingerprint", "reason", "made_by")}
    return {**kept, "of": address, **times}

"""A cloud's administration interface: the statements about access, changed by the administrators of their holder."""

import json
import sqlite3
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime
from hashlib import sha256
from typing import Any
from urllib.parse import urlencode

from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from enthesis_lab.conditions import NotUnderstood, understand
from enthesis_lab.deciding import LabCaller, World, account_of, declared, exists, organisation_of, place_of, verbs_of
from enthesis_lab.forms import CHANGING, COLLECTIONS, well_formed
from enthesis_lab.problems import Problem
from enthesis_lab.store import Answered, Statement, Store

MOST_DIGITS = 18  # of a number in a query
MAX_BODY = 1_000_000  # bytes
PAGE = 200  # statements
KINDS = ("service-account", "instance-role", "managed-identity")
ADMITS = ("token", "assertion", "certificate", "identity", "group", "account", "person", "attached")
SHOWN_IN = {"token": "claims", "assertion": "attributes", "certificate": "subject"}
Needed = list[tuple[str, str, str]]
"""Verbs, what each is on, and for `attach` the resource that it is onto."""


class Administration:
    """The handlers for one cloud.

    `session` checks a bearer token and answers the boundary that it administers, or any other caller; for those `may`
    raises a refusal where a permission is missing. So callers that may make an identity need not be who may bind it.
    """

    def __init__(
        self,
        store: Store,
        world: Callable[[], World],
        session: Callable[[Request], str | LabCaller],
        may: Callable[[LabCaller, str, str, str, Request], None],
        page: Callable[[str, str, int], tuple[int, int]],
    ) -> None:
        self.page = page
        self.store = store
        self.world = world
        self.session = session
        self.may = may

    def needs(self, request: Request, needed: Needed, holder: str) -> None:
        """Continues for the administrators of a holder, and for callers with all these permissions."""
        who = self.session(request)
        if isinstance(who, str):
            if not self.is_below(who, holder):
                raise Problem(403, "not-your-boundary", f"this session administers {who} and nothing else")
            return
        for verb, target, onto in needed:
            self.may(who, verb, target, onto, request)

    async def collection(self, request: Request) -> Response:
        collection = _collection(request)
        if request.method == "POST":
            return await self._create(request, collection)
        who = self.session(request)
        holder = who if isinstance(who, str) else request.query_params.get("holder", "")
        self.needs(request, [("describe", holder, "")], holder)
        return self._listed(request, collection, holder)

    def _listed(self, request: Request, collection: str, holder: str) -> Response:
        after, limit = whole_number(request, "after", 0), min(PAGE, max(1, whole_number(request, "limit", PAGE)))
        limit, again = self.page(holder, request.url.path, limit)
        found, following = self._page(collection, holder, after, limit, again)
        headers = {}
        if following is not None:
            query = urlencode({"after": following, "limit": limit})
            headers["Link"] = f'<{request.url.path}?{query}>; rel="next"'
        return JSONResponse({"items": [self._shown(statement) for statement in found]}, headers=headers)

    def _page(
        self, collection: str, holder: str, after: int, limit: int, again: int
    ) -> tuple[list[Statement], int | None]:
        """One page of what a boundary holds, as it shows; and after what the next one starts. The next one may show the
        last items `again`, as where new ones push them on."""
        if not self.store.any_waits() and not again:
            return self.store.page(self.world().provider, collection, holder, after, limit)
        every = self.store.seen(self.world().provider, "shows", collection)
        mine = [statement for statement in every if self.is_below(holder, statement.holder)]
        following = after + limit - again if after + limit < len(mine) else None
        return mine[after : after + limit], following

    def _once(self, request: Request, body: Mapping[str, Any], done: Callable[[], Response]) -> Response:
        """Does something, or answers again what was answered before to the same request: one that says by its
        `Idempotency-Key` that it may have come already."""
        key = request.headers.get("idempotency-key")
        who = self.session(request)
        self.store.by = f"the administrators of {who}" if isinstance(who, str) else who.address
        if key is None:
            return done()
        kept = f"{self.world().provider} {who if isinstance(who, str) else who.address} {key}"
        same = sha256(json.dumps([request.method, request.url.path, body], sort_keys=True).encode()).hexdigest()
        before = self.store.answered(kept)
        if before is not None and before.request != same:
            raise Problem(422, "another-request", "a request with this key was another one")
        if before is not None:
            return Response(before.body, before.status, before.headers)
        with self.store.transaction():
            answer = done()
            told = {name: value for name, value in answer.headers.items() if name != "content-length"}
            self.store.keep_answer(kept, Answered(same, answer.status_code, told, bytes(answer.body)))
        return answer

    async def _create(self, request: Request, collection: str) -> Response:
        body = await json_body(request)
        return self._once(request, body, lambda: self._created(request, collection, dict(body)))

    def _created(self, request: Request, collection: str, body: dict[str, Any]) -> Response:
        holder = body.pop("holder", None)
        mark = body.pop("mark", None)
        if not isinstance(holder, str) or not isinstance(mark, str | None):
            raise Problem(422, "not-understood", "`holder` and `mark` are texts")
        self.needs(request, [], holder)
        self.understand(collection, holder, body)
        self.needs(request, self._needed(collection, holder, body, making=True), holder)
        name = body.get("address") if collection in ("identities", "groups") else body.get("name")
        self._alone(collection, holder, body)
        try:
            made = self.store.add(self.world().provider, collection, holder, name, mark, body)
        except sqlite3.IntegrityError:
            raise Problem(409, "exists", f"one of {collection} is called {name} already") from None
        location = {"Location": f"/administration/{collection}/{made.id}", "ETag": made.etag}
        return JSONResponse(self._shown(made), 201, location)

    async def item(self, request: Request) -> Response:
        collection = _collection(request)
        who = self.session(request)
        identifier = request.path_params["id"]
        if request.method == "GET":
            return self._one(request, collection, identifier, who)
        if "idempotency-key" not in request.headers:
            self._mine(collection, identifier, who)
        body = await json_body(request) if request.method == "PUT" else {}
        return self._once(request, body, lambda: self._changed(request, collection, identifier, who, dict(body)))

    def _one(self, request: Request, collection: str, identifier: str, who: str | LabCaller) -> Response:
        """A statement as it shows. One that was removed is there until that is enforced."""
        every = self.store.seen(self.world().provider, "shows", collection)
        found = next((statement for statement in every if statement.id == identifier), None)
        if found is None and self.store.waits(identifier):
            enforced = self.store.seen(self.world().provider, "acts", collection)
            found = next((statement for statement in enforced if statement.id == identifier), None)
        if found is None and isinstance(who, str) and (last := self.store.written_by(identifier)) is not None:
            by, at = last
            raise Problem(404, "removed", f"{by} removed it", changed_by=by, changed_at=_time(at))
        if found is None or (isinstance(who, str) and not self.is_below(who, found.holder)):
            raise Problem(404, "not-found", f"none of {collection} has this id, or it is not yours")
        self.needs(request, [("describe", found.holder, "")], found.holder)
        return JSONResponse(self._shown(found), headers={"ETag": found.etag})

    def _changed(
        self, request: Request, collection: str, identifier: str, who: str | LabCaller, body: dict[str, Any]
    ) -> Response:
        found = self._mine(collection, identifier, who)
        self.needs(request, self._needed(collection, found.holder, found.body, making=False), found.holder)
        wanted = request.headers.get("if-match")
        if wanted is None:
            raise Problem(428, "precondition-required", "say which version with If-Match")
        if wanted not in ("*", found.etag):
            raise Problem(412, "changed-meanwhile", "the statement was changed meanwhile")
        if request.method == "DELETE":
            self.store.remove(found)
            return Response(status_code=204)
        mark = body.pop("mark", found.mark)
        if body.pop("holder", found.holder) != found.holder:
            raise Problem(422, "not-understood", "a statement keeps its holder")
        self.understand(collection, found.holder, body)
        self.needs(request, self._needed(collection, found.holder, body, making=False), found.holder)
        for kept in ("address", "name"):
            if kept in found.body and body.get(kept) != found.body[kept]:
                raise Problem(422, "not-understood", f"a statement keeps its {kept}")
        self._alone(collection, found.holder, body, but=found.id)
        changed = self.store.replace(found, mark, body)
        return JSONResponse(self._shown(changed), headers={"ETag": changed.etag})

    def _mine(self, collection: str, identifier: str, who: str | LabCaller) -> Statement:
        """The statement with this id, if the caller may see it; otherwise a Problem (404)."""
        found = self.store.statement(self.world().provider, collection, identifier)
        if found is None or (isinstance(who, str) and not self.is_below(who, found.holder)):
            raise Problem(404, "not-found", f"none of {collection} has this id, or it is not yours")
        return found

    def _alone(self, collection: str, holder: str, body: Mapping[str, Any], but: str = "") -> None:
        """No two statements of one holder have one key, unless a lab is started with twins allowed: who narrows one
        would leave the other."""
        key = _key_of(collection, body)
        if key is None or self.world().inventory.get("twins_allowed"):
            return
        first = {"trusts": "of", "grants": "to"}.get(collection, "what")  # what is compared before all of it is
        for statement in self.store.statements(self.world().provider, collection, holder):
            near = statement.id != but and statement.body.get(first) == body.get(first)
            if near and _key_of(collection, statement.body) == key:
                raise Problem(409, "exists", f"{holder} has one of {collection} with the same key already")

    async def inventory(self, request: Request) -> Response:
        """The accounts and resources below the session's boundary, and everybody's people: what exists already."""
        holder = self.session(request)
        if not isinstance(holder, str):
            raise Problem(403, "not-an-administrator", "this session administers nothing")
        world = self.world()
        accounts = [
            name
            for name, one in world.inventory["accounts"].items()
            if one["provider"] == world.provider and (name == holder or self._below(holder, one["in"]))
        ]
        resources = [resource for resource in world.inventory["resources"] if account_of(resource) in accounts]
        people = {
            statement.body["address"]: statement.id
            for statement in world.of("identities")
            if statement.body["kind"] == "person"
        }
        shared = {one: on for one in resources if (on := self.store.setting(f"shared on {one}")) is not None}
        found = {
            "accounts": accounts, "resources": resources, "people": people, "shared_logins": shared,
            "side": self.store.side(),
        }  # fmt: skip
        return JSONResponse(found)

    async def ids(self, request: Request) -> Response:
        """The ids of identities and groups of any holder, for an administrator who knows their addresses."""
        if not isinstance(self.session(request), str):
            raise Problem(403, "not-an-administrator", "this session administers nothing")
        wanted, world = set(request.query_params.getlist("address")), self.world()
        every = (*world.of("identities"), *world.of("groups"))
        return JSONResponse(
            {
                "ids": {
                    statement.body["address"]: statement.id
                    for statement in every
                    if statement.body["address"] in wanted
                }
            }
        )

    async def concerning(self, request: Request) -> Response:
        """What others hold that names what is the session's own: trusts that admit its identities or account, grants to
        its identities or at its places. Who shares something is told to whom it is shared with."""
        who = self.session(request)
        if not isinstance(who, str):
            raise Problem(403, "not-an-administrator", "this session administers nothing")
        world = self.world()
        mine = {
            statement.id
            for statement in (*world.of("identities"), *world.of("groups"))
            if self.is_below(who, statement.holder)
        }
        roles = {statement.id: statement.name for statement in world.of("roles")}
        items = []
        for collection in ("trusts", "grants"):
            for statement in world.of(collection):
                named = set(_ids_in(statement.body)) & mine or statement.body.get("admits", {}).get("account") == who
                if self.is_below(who, statement.holder) or not (
                    named or account_of(str(statement.body.get("at", ""))) == who
                ):
                    continue
                more = {"role_name": roles.get(statement.body["role"])} if collection == "grants" else {}
                items.append({"collection": collection, **self._shown(statement), **more})
        return JSONResponse({"items": items})

    # -- who may, and what is understood ---------------------------------------------------------------------

    def _needed(self, collection: str, holder: str, body: Mapping[str, Any], *, making: bool) -> Needed:
        """The permissions that a change needs of a caller that is not an administrator."""
        boundary = holder.startswith("@")
        if making and collection in ("identities", "groups"):
            return [("configure" if boundary else "create", holder, "")]
        if boundary and collection == "roles":
            return [("change-access", holder, "")]
        verb, field = CHANGING[collection]
        if collection == "attachments":
            onto = body["what"] if isinstance(body["what"], str) else holder
            named = [self.world().identity(one) for one in body["runs_as"]]
            return [(verb, statement.body["address"] if statement else "", onto) for statement in named]
        at = body[field] if field else holder
        if field == "of":
            of = self.world().identity(at)
            at = of.body["address"] if of else ""
        if field == "at" and not self._is_holders(holder, at):
            at = holder  # at another person's place it is written by who may change the access of its holder
        return [(verb, at, "")]

    def _is_holders(self, holder: str, at: str) -> bool:
        """Whether a place is one that its holder keeps the statements of."""
        if not at.startswith("@"):
            return account_of(at) == holder
        return at == holder or ((place := place_of(self.world(), at)) is not None and place.parent == holder)

    def is_below(self, holder_of_session: str, holder: str) -> bool:
        """Whether a holder is the boundary that a session administers, or one in it."""
        return holder == holder_of_session or self._below(holder_of_session, holder)

    @staticmethod
    def _below(boundary: str, inner: str) -> bool:
        return boundary.startswith("@") and inner.startswith("@") and (inner + "/").startswith(boundary + "/")

    def understand(self, collection: str, holder: str, body: Mapping[str, Any]) -> None:
        """Refuses a statement that the cloud cannot hold, with the field that is wrong."""
        try:
            well_formed(collection, body)
            understand(body.get("when", {}))
            further = getattr(self, f"_understand_{collection}", None)  # what the form of its fields leaves open
            if further is not None:
                further(holder, body)
        except NotUnderstood as fault:
            raise Problem(422, "not-understood", f"the lab does not understand {fault}") from None
        except (TypeError, KeyError, AttributeError, ValueError, OverflowError, RecursionError) as fault:
            raise Problem(422, "not-understood", f"a field of {collection} is of the wrong form") from fault

    def _understand_identities(self, holder: str, body: Mapping[str, Any]) -> None:
        world, address = self.world(), body["address"]
        place = place_of(world, address)
        if place is None or place.kind != "identity" or not declared(world, place.parent):
            raise NotUnderstood(f"the address {address}")
        if body["kind"] not in KINDS or account_of(address) != holder or place.parent != holder:
            raise NotUnderstood(f"an identity of kind {body['kind']} at {address} held by {holder}")
        if world.inventory["accounts"][holder]["provider"] != world.provider:
            raise NotUnderstood(f"an identity in {holder}, which is at another provider")

    def _understand_groups(self, holder: str, body: Mapping[str, Any]) -> None:
        world, address = self.world(), body["address"]
        place = place_of(world, address)
        if place is None or place.kind != "group" or place.parent != holder:
            raise NotUnderstood(f"the address {address}")
        for member in body.get("members", []):
            self._known(member)
        rule = body.get("where")
        if rule is not None and not rule:
            raise NotUnderstood("this rule")
        if any(address == self._address_of(member) for member in body.get("members", [])):
            raise NotUnderstood("a group that contains itself")

    def _understand_roles(self, holder: str, body: Mapping[str, Any]) -> None:
        self._kind_verbs(body["allows"])
        mine = {statement.name for statement in self.world().of("roles") if statement.holder == holder}
        for name in body.get("includes", []):
            if name not in mine:
                raise NotUnderstood(f"the role {name}, which {holder} has not")

    def _understand_trusts(self, holder: str, body: Mapping[str, Any]) -> None:
        world = self.world()
        of = world.identity(body["of"])
        if of is None or of.holder != holder:
            raise NotUnderstood("a trust of an identity that is not this account's")
        admits = body["admits"]
        forms = [form for form in ADMITS if form in admits]
        said = SHOWN_IN.get(forms[0]) if forms else None
        if len(forms) != 1 or set(admits) - {forms[0], said}:
            raise NotUnderstood(f"a trust that admits {', '.join(sorted(admits)) or 'no caller'}")
        if said is not None:
            if admits[forms[0]] not in world.inventory["issuers"]:
                raise NotUnderstood(f"the issuer {admits[forms[0]]}")
            tests = {"subject": admits.get("subject")} if said == "subject" else admits.get(str(said), {})
            understand({name: test for name, test in tests.items() if test is not None}, claims=True)
        elif "account" in admits and admits["account"] not in world.inventory["accounts"]:
            raise NotUnderstood(f"the account {admits['account']}")
        elif "attached" in admits:
            what = admits["attached"]
            if what is not True and not isinstance(what, str) and list(what) != ["glob"]:
                raise NotUnderstood("what is attached")
        elif "group" in admits:
            self._known({"group": admits["group"]})
        elif forms[0] in ("identity", "person") and not isinstance(admits[forms[0]]["id"], str):
            raise NotUnderstood("an identity without its id")

    def _understand_grants(self, holder: str, body: Mapping[str, Any]) -> None:
        world = self.world()
        named = body["to"].get("organisation")
        if named is not None and named not in world.inventory["organisations"]:
            raise NotUnderstood(f"the organisation {named}")
        to = f"@{named}" if named is not None else str(self._known(body["to"]).body["address"])
        role = next((statement for statement in world.of("roles") if statement.id == body["role"]), None)
        if role is None or role.holder != holder:
            raise NotUnderstood(f"a role that {holder} has not")
        if exists(world, body["at"]) is None:
            raise NotUnderstood(f"the place {body['at']}")
        if holder.startswith("@"):
            sides = {organisation_of(world, body["at"]), organisation_of(world, to)}
            fits = organisation_of(world, holder) in sides
        else:
            fits = holder in (account_of(body["at"]), account_of(to)) or (
                named is not None and organisation_of(world, holder) == named
            )
        if not fits:
            raise NotUnderstood(f"a grant of which neither side is {holder}'s")

    def _understand_ceilings(self, holder: str, body: Mapping[str, Any]) -> None:
        world = self.world()
        at = body["at"]
        if body["over"] not in ("callers", "targets") or ("bars" in body) == ("only" in body):
            raise NotUnderstood("this ceiling")
        self._kind_verbs(body.get("bars", body.get("only", {})))
        fits = account_of(at) == holder if not holder.startswith("@") else at == holder
        if not fits or exists(world, at) is None:
            raise NotUnderstood(f"a ceiling at {at} held by {holder}")
        for entry in body.get("except", []):
            for_a_while = isinstance(entry, dict) and {"who", "until"} <= entry.keys()
            plain = isinstance(entry, str) or (isinstance(entry, dict) and list(entry) == ["glob"])
            if not plain and (not for_a_while or exists(world, entry.get("at", at)) is None):
                raise NotUnderstood("this exception")

    def _understand_attachments(self, holder: str, body: Mapping[str, Any]) -> None:
        what = body["what"]
        if isinstance(what, str):
            place = exists(self.world(), what)
            if account_of(what) != holder or place is None:
                raise NotUnderstood(f"the resource {what}")
            verbs = verbs_of(self.world(), place.kind).values()
            if place.kind != "cluster" and "run" not in verbs:
                raise NotUnderstood(f"that a {place.kind} should run")
        if not isinstance(what, str) and (list(what) != ["glob"] or not str(what["glob"]).startswith(f"{holder}/")):
            raise NotUnderstood(f"a pattern that is not of {holder} alone")
        for identifier in body["runs_as"]:
            self._known({"identity": identifier})

    def _known(self, reference: Mapping[str, str]) -> Statement:
        """The identity or group that a reference by id names."""
        world = self.world()
        ((form, identifier),) = reference.items()
        if form not in ("identity", "group"):
            raise NotUnderstood(f"a reference to a {form}")
        collection = "identities" if form == "identity" else "groups"
        found = next((statement for statement in world.of(collection) if statement.id == identifier), None)
        if found is None:
            raise NotUnderstood(f"an id that no {form} has")
        return found

    def _address_of(self, reference: Mapping[str, str]) -> str:
        return str(self._known(reference).body["address"])

    def _kind_verbs(self, listed: Mapping[str, Any]) -> None:
        world = self.world()
        kinds = world.inventory["catalogue"]["kinds"]
        for kind, verbs in listed.items():
            if kind != "*" and kind not in kinds:
                raise NotUnderstood(f"the kind {kind}")
            for verb in [verbs] if isinstance(verbs, str) else verbs:
                having = kinds if kind == "*" else [kind]
                if verb != "*" and not any(verb in verbs_of(world, one) for one in having):
                    raise NotUnderstood(f"the verb {verb} on {kind}")

    # -- what is shown ---------------------------------------------------------------------------------------

    def _shown(self, statement: Statement) -> dict[str, Any]:
        """A statement as the interface shows it; ids that nothing has any more are said to be gone."""
        shown: dict[str, Any] = {
            "id": statement.id,
            "holder": statement.holder,
            "mark": statement.mark,
            "etag": statement.etag,
            **statement.body,
        }
        last = self.store.written_by(statement.id)
        if last is not None and last[0]:
            shown |= {"changed_by": last[0], "changed_at": _time(last[1])}
        if self.store.waits(statement.id):
            shown["in_force"] = False  # it does not show everywhere yet, or is not enforced yet
        if statement.collection == "grants":
            shown["to"] = self._reference(statement.body["to"])
        if statement.collection == "attachments":
            gone = {one: self.store.address_gone(one) for one in statement.body["runs_as"]}
            shown["runs_as_gone"] = {one: address for one, address in gone.items() if address}
        return shown

    def _reference(self, reference: Mapping[str, str]) -> dict[str, Any]:
        ((form, identifier),) = reference.items()
        gone = self.store.address_gone(identifier)
        return {form: identifier, "gone": gone} if gone else {form: identifier}


def _ids_in(value: Any) -> Iterator[str]:
    """Every text in a statement that may be an id."""
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for inner in value.values():
            yield from _ids_in(inner)


def _time(at: float) -> str:
    return datetime.fromtimestamp(at, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def _key_of(collection: str, body: Mapping[str, Any]) -> str | None:
    """What makes a statement without a name the same statement while the rest of it changes; None for one with."""
    if body.get("name") is not None:
        return None
    if collection == "grants":
        return json.dumps([body["to"], body["role"], body["at"]], sort_keys=True)
    if collection == "trusts":
        whom = {form: value for form, value in body["admits"].items() if form != "claims"}
        return json.dumps([body["of"], whom], sort_keys=True)
    return json.dumps(body["what"], sort_keys=True) if collection == "attachments" else None


def _collection(request: Request) -> str:
    name: str = request.path_params["collection"]
    if name not in COLLECTIONS:
        raise Problem(404, "not-found", "there is no such collection")
    return name


def whole_number(request: Request, name: str, usual: int) -> int:
    """A parameter that is a number, from nothing on."""
    said = request.query_params.get(name)
    if said is None:
        return usual
    if not said.isascii() or not said.isdigit() or len(said) > MOST_DIGITS:
        raise Problem(400, "bad-request", f"{name} is a whole number")
    return int(said)


async def json_body(request: Request) -> dict[str, Any]:
    """The JSON object in a request, within bounds."""
    body = b""
    async for chunk in request.stream():
        body += chunk
        if len(body) > MAX_BODY:
            raise Problem(413, "too-large", f"more than {MAX_BODY} bytes")
    try:
        value = json.loads(body)
    except (ValueError, RecursionError):
        raise Problem(400, "bad-request", "the body is not JSON") from None
    if not isinstance(value, dict):
        raise Problem(400, "bad-request", "the body is not a JSON object")
    return value

"""A directory's people and groups by SCIM 2.0 (RFC 7643, RFC 7644): surveyed, and kept in step with the estate.

    a person       a user; `userName` is the name of the address, `active` whether they are not disabled
    a workload     a user whose `userName` is the address, and whose `userType` is the kind of the identity
    a group        a group; `displayName` is the name of the address

What Enthesis keeps is told by `externalId`, which belongs to who provisions: the estate's name, and the address.
Servers without PATCH get the whole entry, those without entity tags are looked at once more before a change, and where
nothing can be deleted an entry is made inactive and given up.
"""

import hashlib
import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any
from urllib.parse import urlencode

from enthesis.connectors.http import Client, HttpAnswer, understood
from enthesis.model.errors import MovedAway, RightMissing, UnexpectedAnswer
from enthesis.model.foreign_names import name_of, word_of
from enthesis.model.secrets import Secret
from enthesis.ports import Changed, Joined, Record, Right, ServiceHere
from enthesis.proposals.holding import directory_objection
from enthesis.proposals.steps import Step
from enthesis.surveys.statements import LiveObject, Surveyed, listed, records_of
from enthesis.surveys.unread import Unread

USERS, GROUPS = "Users", "Groups"
KINDS = {"identities": USERS, "groups": GROUPS}
NAMED_BY = {USERS: "userName", GROUPS: "displayName"}
SCHEMAS = {
    USERS: "urn:ietf:params:scim:schemas:core:2.0:User",
    GROUPS: "urn:ietf:params:scim:schemas:core:2.0:Group",
}
PATCH = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
MEDIA = "application/scim+json"
PAGE = 100  # entries that are asked for at a time
MOST = 1_000_000  # entries of one list
AGAIN = 3  # times that a list is read which changes meanwhile
NOT_DELETED = (403, 405, 501)  # what servers say that delete nothing


class KeptDirectory:
    """The directory of one organisation (`name`, with its `@`). Needs the right to read and to write its entries."""

    what = "directory"

    def __init__(self, name: str, client: Client, token: Secret, renew: Callable[[], Secret] | None = None) -> None:
        self.renew = renew  # gets a new token where one has ended
        self.name = name
        self.client = client
        self.url = client.url  # the base url of its SCIM service
        self.token = token
        self.left_out: list[Record] = []
        self._ids: dict[str, str] = {}  # by address
        self._kinds: dict[str, str] = {}  # the list that an id is in
        self._supports: Mapping[str, Any] | None = None

    # -- survey ----------------------------------------------------------------------------------------------

    @understood
    def survey(self, holders: Sequence[str], others: Sequence[str] = ()) -> Surveyed:
        """Its people, workloads and groups; UnexpectedAnswer where not all of it can be read."""
        del others
        found = self._surveyed(tuple(holders))
        if self.left_out:
            said = self.left_out[0]
            raise UnexpectedAnswer(f"{said['left_out']} cannot be read: {said['why']}", code="answer-incomplete")
        return found

    def _surveyed(self, holders: tuple[str, ...]) -> Surveyed:
        self.left_out = []
        users, groups = list(self._all(USERS)), list(self._all(GROUPS))
        addresses = {entry["id"]: self._address(USERS, entry) for entry in users}
        addresses |= {entry["id"]: self._address(GROUPS, entry) for entry in groups}
        self._ids = {address: identifier for identifier, address in addresses.items()}
        self._kinds = {entry["id"]: USERS for entry in users} | {entry["id"]: GROUPS for entry in groups}
        objects = [self._object(USERS, entry, addresses) for entry in users]
        objects += [self._object(GROUPS, entry, addresses) for entry in groups]
        return Surveyed(self.name, holders, tuple(objects))

    @understood
    def records(self, step: Callable[[str], None]) -> Iterator[Record]:
        """The same as the lines of a survey, with what could not be read."""
        step(self.name)
        yield from records_of(self._surveyed((self.name,)))
        yield from self.left_out

    def _all(self, kind: str) -> Iterator[dict[str, Any]]:
        """Every entry of a list (RFC 7644, section 3.4.2.4), read again where it changed while it was read."""
        for _ in range(AGAIN):
            found: dict[str, dict[str, Any]] = {}
            total, seen = 1, 0
            while seen < min(total, MOST):
                page = self._asked("GET", f"/{kind}?startIndex={seen + 1}&count={PAGE}")
                body = self.client.expect(page, 200).json(self.client.who)
                total, entries = int(body["totalResults"]), body.get("Resources") or []
                found |= {str(entry.get("id")): entry for entry in entries}
                seen += len(entries)
                if not entries:
                    break
            if len(found) == total:
                break
        else:
            why = f"{total} entries are said to be there and {len(found)} were read"
            self._miss(kind, why)
        for entry in found.values():
            if isinstance(entry.get("id"), str) and isinstance(entry.get(NAMED_BY[kind]), str):
                yield entry
            else:
                why = f"an entry has no id, or no {NAMED_BY[kind]}"
                self._miss(kind, why)

    def _miss(self, kind: str, why: str) -> None:
        """Takes note of what of a list could not be read."""
        self.left_out.append(Unread(f"{self.name} {kind}", why, self.name).record)

    def _address(self, kind: str, entry: Mapping[str, Any]) -> str:
        """What an entry is in the estate; a workload has its whole address as its name."""
        name = str(entry[NAMED_BY[kind]])
        if kind == GROUPS:
            return f"{self.name}/group/{word_of(name)}"
        return name if "/identity/" in name else f"{self.name}/identity/{word_of(name)}"

    def _object(self, kind: str, entry: Mapping[str, Any], addresses: Mapping[str, str]) -> LiveObject:
        address = addresses[entry["id"]]
        if kind == USERS:
            workload = not address.startswith("@")
            body: dict[str, Any] = {"address": address, "kind": entry.get("userType") if workload else "person"}
            body |= {"disabled": True} if _is_inactive(entry) else {}
            collection = "identities"
        else:
            members = [str(one.get("value")) for one in entry.get("members") or []]
            named = [addresses.get(one) or {"gone": "a member"} for one in members]
            body, collection = {"address": address, **({"members": named} if named else {})}, "groups"
        mark, said = str(entry.get("externalId") or "").partition(" ")[::2]
        ours = mark if said == address else None
        return LiveObject(self.name, collection, self.name, str(entry["id"]), _tag(entry), ours, body)

    # -- change ----------------------------------------------------------------------------------------------

    @understood
    def change(self, step: Step, ids: dict[str, str], key: str = "") -> Changed:
        """Carries one step out. What was made already is found by its name, so that no key is needed."""
        del ids, key
        kind = KINDS[step.collection]
        if step.body is None:
            return self._removed(kind, step)
        if step.id is None:
            return self._made(kind, step)
        self._unchanged(kind, step)
        wanted = self._entry(kind, step.body, step.mark)
        if self._can("patch"):
            operations = list(self._operations(kind, step, wanted))
            body = {"schemas": [PATCH], "Operations": operations}
            answer = self._asked("PATCH", f"/{kind}/{step.id}", body, step.etag)
        else:
            now = self.client.expect(self._asked("GET", f"/{kind}/{step.id}"), 200).json(self.client.who)
            kept = {name: value for name, value in now.items() if name not in ("meta", "groups", "members")}
            answer = self._asked("PUT", f"/{kind}/{step.id}", {**kept, **wanted}, step.etag)
        if answer.status == 204:
            answer = self._asked("GET", f"/{kind}/{step.id}")
        return self._changed(step, self.client.expect(answer, 200).json(self.client.who))

    def _made(self, kind: str, step: Step) -> Changed:
        wanted = self._entry(kind, step.body or {}, step.mark)
        answer = self._asked("POST", f"/{kind}", {"schemas": [SCHEMAS[kind]], **wanted})
        if answer.status == 409:  # of another, or of ours where the answer to an earlier try was lost
            there = self._named(kind, str(wanted[NAMED_BY[kind]]))
            if there is None or there.get("externalId") != wanted["externalId"]:
                raise MovedAway(
                    f"{self.name} has {wanted[NAMED_BY[kind]]} already, and it is not ours", code="name-taken",
                    remedy="propose again",
                )  # fmt: skip
            return self._changed(step, there)
        return self._changed(step, self.client.expect(answer, 201).json(self.client.who))

    def _removed(self, kind: str, step: Step) -> Changed:
        """Deleted, or where nothing can be: inactive, without members, and no longer ours."""
        self._unchanged(kind, step)
        answer = self._asked("DELETE", f"/{kind}/{step.id}", None, step.etag)
        if answer.status in NOT_DELETED:
            given_up: dict[str, Any] = {"active": False} if kind == USERS else {"members": []}
            if self._can("patch"):
                operations = [{"op": "replace", "path": name, "value": value} for name, value in given_up.items()]
                operations.append({"op": "remove", "path": "externalId"})
                body: dict[str, Any] = {"schemas": [PATCH], "Operations": operations}
                answer = self._asked("PATCH", f"/{kind}/{step.id}", body, step.etag)
            else:
                now = self.client.expect(self._asked("GET", f"/{kind}/{step.id}"), 200).json(self.client.who)
                kept = {name: value for name, value in now.items() if name not in ("meta", "groups", "externalId")}
                answer = self._asked("PUT", f"/{kind}/{step.id}", {**kept, **given_up}, step.etag)
        self.client.expect(answer, 200, 204, 404)
        return Changed(None, None)

    def _entry(self, kind: str, body: Mapping[str, Any], mark: str) -> dict[str, Any]:
        """The attributes of an entry that a statement is."""
        address = str(body["address"])
        out: dict[str, Any] = {"externalId": f"{mark} {address}"} if mark else {}  # else it stays whose it is
        if kind == GROUPS:
            out["displayName"] = name_of(address.rsplit("/", 1)[1])
            out["members"] = [{"value": self._id(name)} for name in listed(body.get("members"))]
        elif address.startswith("@"):
            out |= {"userName": name_of(address.rsplit("/", 1)[1]), "active": body.get("disabled") is not True}
        else:
            out |= {"userName": address, "userType": body["kind"], "active": body.get("disabled") is not True}
        return out

    def _operations(self, kind: str, step: Step, wanted: Mapping[str, Any]) -> Iterator[dict[str, Any]]:
        """What of an entry changes (RFC 7644, section 3.5.2): of members those that come and go, not the whole list."""
        for name, value in wanted.items():
            if name not in ("members", NAMED_BY[kind]):
                yield {"op": "replace", "path": name, "value": value}
        if kind != GROUPS:
            return
        before, after = (listed((body or {}).get("members")) for body in (step.before, step.body))
        added = [{"value": self._id(name)} for name in after if name not in before]
        if added:
            yield {"op": "add", "path": "members", "value": added}
        for name in before:
            if name not in after and name in self._ids:
                yield {"op": "remove", "path": f'members[value eq "{self._ids[name]}"]'}

    def _unchanged(self, kind: str, step: Step) -> None:
        """Where a server has no entity tags: MovedAway where an entry is not as it was. With tags it looks itself."""
        if step.etag is None or step.etag.startswith(('"', "W/")):
            return
        answer = self._asked("GET", f"/{kind}/{step.id}")
        if answer.status == 200 and _tag(answer.json(self.client.who)) != step.etag:
            raise MovedAway(
                f"meanwhile others changed {step.sentence}", code="changed-meanwhile", remedy="propose again"
            )

    def _changed(self, step: Step, entry: Mapping[str, Any]) -> Changed:
        made = Changed(str(entry["id"]), _tag(entry))
        self.learn(step, made, {})
        return made

    def learn(self, step: Step, made: Changed, ids: dict[str, str]) -> None:
        """Takes note of the id of what a step made."""
        del ids
        if step.body is not None and made.id is not None:
            self._ids[str(step.body["address"])] = made.id

    def _id(self, address: str) -> str:
        """The id of a member here; MovedAway where the directory has no such."""
        if address not in self._ids:
            kind = GROUPS if "/group/" in address else USERS
            name = name_of(address.rsplit("/", 1)[1]) if address.startswith("@") else address
            found = self._named(kind, name)
            if found is None:
                raise MovedAway(f"{self.name} does not have {address}", code="gone-meanwhile", remedy="propose again")
            self._ids[address] = str(found["id"])
        return self._ids[address]

    def _named(self, kind: str, name: str) -> dict[str, Any] | None:
        """The entry of a name: by a filter, or among all where the server has none."""
        if self._can("filter"):
            text = json.dumps(name, ensure_ascii=False)
            page = self._asked("GET", f"/{kind}?{urlencode({'filter': f'{NAMED_BY[kind]} eq {text}'})}")
            entries = self.client.expect(page, 200).json(self.client.who).get("Resources") or []
        else:
            entries = list(self._all(kind))
        wanted = name.casefold()  # RFC 7643, section 4.1.1: names count without case
        return next((entry for entry in entries if str(entry.get(NAMED_BY[kind])).casefold() == wanted), None)

    @understood
    def in_force(self, step: Step, made: Changed) -> bool:
        """Whether what a step wrote shows."""
        answer = self._asked("GET", f"/{KINDS[step.collection]}/{made.id or step.id}")
        if answer.status == 404:
            return step.body is None
        entry = self.client.expect(answer, 200).json(self.client.who)
        return step.body is not None or "externalId" not in entry

    def rights(self, holders: Sequence[str], steps: Sequence[Step]) -> list[Right]:
        """To read its entries; and for steps, to write them."""
        out = [Right("describe", holder, "survey") for holder in holders]
        may = {"identities": "configure", "groups": "change-members"}
        return [*out, *(Right(may[step.collection], self.name, "enact") for step in steps)]

    def lacking(self, steps: Sequence[Step]) -> list[str]:
        """What a server lets us do it does not say beforehand."""
        del steps
        return []

    def objection(self, collection: str, body: Mapping[str, Any], allows: Mapping[str, Any]) -> str:
        """Why a directory cannot hold a statement; '' where it can."""
        del allows
        said = directory_objection(self.name, collection, body)
        address = str(body.get("address", ""))
        spelt = next((one for one in self._ids if one != address and one.casefold() == address.casefold()), None)
        if not said and spelt is not None and address not in self._ids:
            said = f"names count without case at {self.name}, and it has {spelt}: write that"
        return said

    # -- requests --------------------------------------------------------------------------------------------

    def _can(self, what: str) -> bool:
        """Whether the server says that it can filter or patch (RFC 7643, section 5); it is taken to where it says
        nothing."""
        if self._supports is None:
            answer = self._asked("GET", "/ServiceProviderConfig")
            self._supports = answer.json(self.client.who) if answer.status == 200 else {}
        said = self._supports.get(what)
        return not isinstance(said, Mapping) or said.get("supported") is not False

    def _asked(
        self, method: str, path: str, body: Mapping[str, Any] | None = None, tag: str | None = None
    ) -> HttpAnswer:
        """A request; MovedAway where the entry has another version by now, RightMissing where we may not."""
        headers = {"Accept": MEDIA, **({"Content-Type": MEDIA} if body is not None else {})}
        if tag is not None and tag.startswith(('"', "W/")):
            headers["If-Match"] = tag
        more: dict[str, Any] = {"body": dict(body)} if body is not None else {}
        answer = self.client.ask(method, path, bearer=self.token, headers=headers, **more)
        if answer.status == 401 and self.renew is not None:
            self.token = self.renew()
            answer = self.client.ask(method, path, bearer=self.token, headers=headers, **more)
        if answer.status == 412:
            raise MovedAway(f"meanwhile others changed an entry of {self.name}", code="changed-meanwhile",
                            remedy="propose again")  # fmt: skip
        if answer.status == 401 or (answer.status == 403 and method != "DELETE"):
            raise RightMissing(
                f"{self.name} refuses: the token may not {'read' if method == 'GET' else 'change'} its entries",
                code="right-missing",
                remedy="use a token of its administrators",
            )
        if answer.status == 400 and method != "GET":
            said = answer.json(self.client.who).get("detail")
            raise UnexpectedAnswer(f"{self.name} does not take this: {said}", code="answer-unexpected")
        return answer


def _is_inactive(entry: Mapping[str, Any]) -> bool:
    """Whether an entry says that it is not active, be it as text."""
    return str(entry.get("active")).casefold() == "false"


def _tag(entry: Mapping[str, Any]) -> str:
    """The version of an entry: its entity tag, or where it has none a digest of what it says."""
    version = (entry.get("meta") or {}).get("version")
    if isinstance(version, str) and version:
        return version if version.startswith(('"', "W/")) else f'"{version}"'
    told = {name: value for name, value in entry.items() if name not in ("meta", "groups")}
    return hashlib.sha256(json.dumps(told, sort_keys=True).encode()).hexdigest()[:16]


SCIM = "/scim/v2"  # where a directory that stands in keeps people


def joined(service: ServiceHere) -> Joined:
    """A directory whose people the estate keeps."""
    if not service.estate.keeps_people(service.name):
        return {}

    def of_directory(listed: Sequence[Mapping[str, str]]) -> Secret:
        """The session of its administrators; an empty one, which opens nothing, where there is none."""
        return Secret(next((entry["session"] for entry in listed if entry.get("directory") == service.name), ""))

    url = f"{service.url}{SCIM}"
    client = Client(service.name, url, authority=service.authority, max_seconds=service.patience)
    session = of_directory(service.sessions())
    kept = KeptDirectory(service.name, client, session, lambda: of_directory(service.renewed()))
    return {"people": {service.name: kept}}

"""People and groups of a directory by SCIM: surveyed, kept in step, taken over; also at servers that do less."""

import json
import re
import ssl
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest

from enthesis.connectors.http import Client
from enthesis.connectors.scim import KeptDirectory
from enthesis.model.errors import EnthesisError, MovedAway, RightMissing, UnexpectedAnswer
from enthesis.model.secrets import Secret
from enthesis.ports import Changed
from enthesis.proposals.steps import CHANGE, MAKE, REMOVE, Step
from enthesis.surveys.statements import LiveObject

from .conftest import Lab, Program, start_lab, write_estate

ESTATE = """
estate: orchard
organisations: {orchard: {people: https://people.orchard.example/scim/v2}}
providers: {lowland: {style: one-sided}, upland: {style: one-sided}}
accounts: {press: {in: "@orchard", provider: lowland}, mill: {in: "@orchard", provider: upland}}
resources: {press/bucket/labels: {}}
identities:
  "@orchard/identity/carol": {kind: person}
  "@orchard/identity/dora": {kind: person}
  press/identity/printer: {kind: service-account}
  mill/identity/grinder: {kind: service-account}
groups:
  "@orchard/group/printers": {members: ["@orchard/identity/carol", press/identity/printer, mill/identity/grinder]}
  "@orchard/group/staff": {members: ["@orchard/group/printers", "@orchard/identity/dora"]}
roles: {printing: {allows: {object: [read, write]}}}
grants: [{to: "@orchard/group/printers", role: printing, at: press/bucket/labels}]
journeys:
  carol-prints:
    from: {person: "@orchard/identity/carol", mfa: true}
    attempt: write press/bucket/labels/object/x
    expect: allowed
"""
PATCH = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
PRINTERS = "@orchard/group/printers"


# -- at the lab -----------------------------------------------------------------------------------------------------


@pytest.fixture
def orchard(enthesis: Program, tmp_path: Path) -> Iterator[Lab]:
    place = write_estate(tmp_path / "orchard", {"estate.yaml": ESTATE})
    try:
        yield start_lab(enthesis, place)
    finally:
        enthesis("lab", "stop", "--clean", at=place)


def by_hand(lab: Lab) -> httpx.Client:
    """What an administrator of the directory works with."""
    listed = json.loads((lab.state / "administrators.json").read_text(encoding="utf-8"))
    token = next(one["session"] for one in listed if one.get("directory") == "@orchard")
    base, authority = f"{lab.services['@orchard']}/scim/v2", ssl.create_default_context(cafile=lab.authority)
    return httpx.Client(base_url=base, headers={"Authorization": f"Bearer {token}"}, verify=authority)


def entry(client: httpx.Client, kind: str, asked: str) -> dict[str, Any]:
    (found,) = client.get(f"/{kind}", params={"filter": asked}).json()["Resources"]
    return dict(found)


def patched(client: httpx.Client, kind: str, identifier: str, *operations: dict[str, Any]) -> int:
    body = {"schemas": [PATCH], "Operations": list(operations)}
    return client.patch(f"/{kind}/{identifier}", json=body).status_code


def changed(place: Path, old: str, new: str) -> None:
    text = (place / "estate.yaml").read_text()
    assert old in text
    (place / "estate.yaml").write_text(text.replace(old, new))


def test_a_directory_is_kept_in_step(enthesis: Program, orchard: Lab) -> None:
    place = orchard.folder
    said = enthesis("propose", at=place).out
    assert "@orchard at its directory" in said and "the service-account mill/identity/grinder" in said
    assert "the person" not in said, "people are there already"
    assert enthesis("enact", "--yes", at=place).code == 0
    assert enthesis("propose", "--expect-none", at=place).code == 0
    assert enthesis("prove", at=place).code == 0
    with by_hand(orchard) as client:
        printers = entry(client, "Groups", 'displayName eq "printers"')
        assert printers["externalId"] == f"orchard {PRINTERS}" and len(printers["members"]) == 3
        assert entry(client, "Users", 'userName eq "press/identity/printer"')["userType"] == "service-account"
        # somebody is put into the group by hand, and somebody switched off
        made = client.post("/Users", json={"userName": 'erin "b"/c', "active": True}).json()["id"]
        assert (
            patched(client, "Groups", printers["id"], {"op": "add", "path": "members", "value": [{"value": made}]})
            == 200
        )
        dora = entry(client, "Users", 'userName eq "DORA" and active eq true')["id"]
        assert patched(client, "Users", dora, {"op": "replace", "value": {"active": False}}) == 200
        ran = enthesis("propose", "--expect-none", at=place)
        assert ran.code == 1 and "the person @orchard/identity/dora: disabled" in ran.out and "erin" in ran.out
        assert enthesis("enact", "--yes", at=place).code == 0
        assert client.get(f"/Users/{dora}").json()["active"] is True
        assert len(client.get(f"/Groups/{printers['id']}").json()["members"]) == 3
        assert "externalId" not in client.get(f"/Users/{dora}").json(), "whose entry it is stays as it was"
        # who is taken out of the files is taken out of the groups there, and workloads of ours go
        changed(place, ", mill/identity/grinder]}", "]}")
        assert enthesis("enact", "--yes", "--prune", at=place).code == 0
        names = {one["userName"] for one in client.get("/Users").json()["Resources"]}
        assert names == {"carol", "dora", 'erin "b"/c', "press/identity/printer"}, "what others made is left"


def test_who_is_disabled_signs_in_no_more(enthesis: Program, orchard: Lab) -> None:
    place = orchard.folder
    assert enthesis("enact", "--yes", at=place).code == 0
    changed(place, 'carol": {kind: person}', 'carol": {kind: person, disabled: true}')
    changed(place, "expect: allowed", "expect: refused\n    refused_at: names")
    said = enthesis("propose", at=place).out
    assert "access lost" in said and "@orchard/identity/carol may read and write press/bucket/labels" in said
    assert enthesis("prove", at=place).code == 1, "not yet"
    assert enthesis("enact", "--yes", at=place).code == 0
    ran = enthesis("prove", at=place)
    assert ran.code == 0 and "refused at names" in ran.out, ran.out


def test_a_session_of_its_administrators_that_has_ended_is_renewed(enthesis: Program, orchard: Lab) -> None:
    place = orchard.folder
    assert enthesis("enact", "--yes", at=place).code == 0
    assert enthesis("lab", "clock", "--forward", "3h", at=place).code == 0
    assert enthesis("propose", "--expect-none", at=place).code == 0


def test_who_is_cut_off_signs_in_no_more(enthesis: Program, orchard: Lab) -> None:
    place = orchard.folder
    assert enthesis("enact", "--yes", at=place).code == 0
    ran = enthesis("cutoff", "@orchard/identity/carol", "--yes", "--because", "leaves", at=place)
    assert ran.code == 0 and "the person @orchard/identity/carol: disabled" in ran.out, ran.out + ran.err
    assert "at its directory" in ran.out and "stays" not in ran.out
    assert enthesis("cutoff", "@orchard/identity/carol", "--check", at=place).code == 0
    assert enthesis("propose", "--expect-none", at=place).code == 0, "the files say the same"
    with by_hand(orchard) as client:
        assert entry(client, "Users", 'userName eq "carol"')["active"] is False


def test_a_directory_set_up_by_hand_is_taken_over_as_it_is(enthesis: Program, orchard: Lab) -> None:
    place = orchard.folder
    with by_hand(orchard) as client:
        erin = client.post("/Users", json={"userName": "erin", "active": True, "title": "Miller"}).json()["id"]
        group = client.post("/Groups", json={"displayName": "millers", "members": [{"value": erin}]}).json()["id"]
        ran = enthesis("survey", "adopt", "@orchard", "--yes", at=place)
        assert ran.code == 0, ran.err
        text = (place / "estate.yaml").read_text()
        assert "@orchard/group/millers" in text and "@orchard/identity/erin" in text
        assert client.get(f"/Users/{erin}").json()["title"] == "Miller"
        assert client.get(f"/Groups/{group}").json()["members"] == [{"value": erin}]
        assert client.get(f"/Groups/{group}").json()["externalId"] == "orchard @orchard/group/millers"
        assert "millers" not in str([one for one in enthesis("propose", "--format", "json", at=place).json["steps"]
                                     if one["provider"] == "@orchard"])  # fmt: skip


def test_a_directory_is_surveyed_by_a_url_and_a_token_alone(enthesis: Program, orchard: Lab, tmp_path: Path) -> None:
    with by_hand(orchard) as client:
        token = client.headers["Authorization"].removeprefix("Bearer ")
        url = str(client.base_url).rstrip("/")
    file, bare = tmp_path / "access", tmp_path / "bare"
    file.write_text(json.dumps({"url": url, "token": token}))
    more = {"SSL_CERT_FILE": orchard.authority}
    ran = enthesis("survey", "--directory", f"@orchard={file}", "--out", "s.jsonl", at=tmp_path, **more)
    assert ran.code == 0, ran.err
    lines = [json.loads(line) for line in (tmp_path / "s.jsonl").read_text().splitlines()]
    assert {one["address"] for one in lines if one.get("section") == "identities"} == {
        "@orchard/identity/carol", "@orchard/identity/dora",
    }  # fmt: skip
    assert token not in (tmp_path / "s.jsonl").read_text() + ran.err
    for text, said in (("", "not what a directory"), ("{", "not what a directory"), ("x", "not what a directory")):
        bare.write_text(text)
        ran = enthesis("survey", "--directory", f"@orchard={bare}", at=tmp_path, **more)
        assert ran.code == 2 and said in ran.err
    file.write_text(json.dumps({"url": url, "token": "other"}))
    ran = enthesis("survey", "--directory", f"@orchard={file}", at=tmp_path, **more)
    assert ran.code == 3 and "refuses" in ran.err and "other" not in ran.err
    assert enthesis("survey", "--directory", f"orchard={file}", at=tmp_path, **more).code == 2
    changed(orchard.folder, "people: https://people.orchard.example/scim/v2", "outside: false")
    place = write_estate(tmp_path / "elsewhere", {"estate.yaml": (orchard.folder / "estate.yaml").read_text()})
    ran = enthesis("propose", "--directory", f"@orchard={file}", at=place)
    assert ran.code == 2 and "does not keep the people" in ran.err
    ran = enthesis("propose", "--directory", f"orchard={file}", at=place)
    assert ran.code == 2 and "name it with its @: @orchard" in ran.err


FILTERS = [
    ('userName eq "carol"', 1), ('USERNAME EQ "Carol"', 1), ('userName ne "carol"', 1), ('userName sw "c"', 1),
    ('userName ew "a" or userName co "aro"', 2), ('not (userName eq "carol")', 1), ("active eq true", 2),
    ('active eq true and not (userName eq "carol" or userName eq "dora")', 0), ("title pr", 0), ("userName pr", 2),
    ("", None), ("userName", None), ("userName eq", None), ('userName is "x"', None), ("(userName pr", None),
    ("userName pr)", None), ('userName eq "x', None), ("userName eq 'x'", None), ("not userName pr", None),
    ("(" * 100 + "userName pr" + ")" * 100, None), ('userName eq "a" userName eq "b"', None), ("; drop", None),
]  # fmt: skip


def test_the_lab_filters_pages_and_refuses_as_the_standard_says(orchard: Lab) -> None:
    with by_hand(orchard) as client:
        for asked, count in FILTERS:
            answer = client.get("/Users", params={"filter": asked})
            if count is None:
                assert answer.status_code == 400 and answer.json()["scimType"] == "invalidFilter", asked
            else:
                assert answer.json()["totalResults"] == count, asked
        page = client.get("/Users", params={"startIndex": "2", "count": "1"}).json()
        assert (page["totalResults"], page["itemsPerPage"], page["startIndex"]) == (2, 1, 2)
        carol = entry(client, "Users", 'userName eq "carol"')
        version = carol["meta"]["version"]
        assert client.get(f"/Users/{carol['id']}", headers={"If-None-Match": version}).status_code == 304
        wrong = {"userName": "carol", "active": False}
        assert client.put(f"/Users/{carol['id']}", json=wrong, headers={"If-Match": 'W/"9"'}).status_code == 412
        assert client.put(f"/Users/{carol['id']}", json=wrong, headers={"If-Match": version}).status_code == 200
        for kind, named in (("Users", {"userName": "carol"}), ("Users", {"userName": "CAROL"})):
            answer = client.post(f"/{kind}", json=named)
            assert answer.status_code == 409 and answer.json()["scimType"] == "uniqueness", "names count without case"
        for text, kept in (("False", False), ("true", True)):  # as some who provision write it
            assert patched(client, "Users", carol["id"], {"op": "replace", "path": "active", "value": text}) == 200
            assert client.get(f"/Users/{carol['id']}").json()["active"] is kept
        for body in ({}, {"userName": 7}, {"userName": "x", "shoe": 1}, {"userName": "x", "active": "yes"}):
            assert client.post("/Users", json=body).status_code == 400
        group = {"displayName": "g", "members": [{"value": "nobody"}]}
        assert client.post("/Groups", json=group).status_code == 400
        for one in ({"op": "turn", "path": "active"}, {"op": "add", "path": "shoe", "value": 1}, {"op": "remove"}):
            assert patched(client, "Users", carol["id"], one) == 400
        assert client.get("/Users/none").status_code == 404
        for path, names in (("/ResourceTypes", {"User", "Group"}), ("/Schemas", {"User", "Group"})):
            assert {one["name"] for one in client.get(path).json()["Resources"]} == names
            assert client.get(f"{path}/none").status_code == 404 and client.post(path, json={}).status_code == 405
        assert client.get("/Nothing").json()["schemas"] == ["urn:ietf:params:scim:api:messages:2.0:Error"]
        few = client.get(f"/Users/{carol['id']}", params={"attributes": "userName"}).json()
        assert set(few) == {"schemas", "id", "userName"}
        found = client.post("/.search", json={"filter": "userName pr", "excludedAttributes": ["active"]}).json()
        assert found["totalResults"] == 2 and all("active" not in one for one in found["Resources"])
        assert client.get("/Users", headers={"Authorization": "Bearer x"}).status_code == 401
        listed = json.loads((orchard.state / "administrators.json").read_text(encoding="utf-8"))
        cloud = next(one["session"] for one in listed if one.get("cloud") == "lowland")
        assert client.get("/Users", headers={"Authorization": f"Bearer {cloud}"}).status_code == 401


def test_names_that_differ_in_case_alone_are_one_name(enthesis: Program, orchard: Lab) -> None:
    place = orchard.folder
    assert enthesis("enact", "--yes", at=place).code == 0
    with by_hand(orchard) as client:
        assert client.post("/Users", json={"userName": "Erin", "active": True}).status_code == 201
    changed(place, '  "@orchard/identity/dora": {kind: person}\n',
            '  "@orchard/identity/dora": {kind: person}\n  "@orchard/identity/erin": {kind: person}\n')  # fmt: skip
    ran = enthesis("propose", at=place)
    assert "names count without case at @orchard, and it has @orchard/identity/Erin: write that" in ran.out, ran.out


def test_an_address_has_one_spelling(enthesis: Program, tmp_path: Path) -> None:
    """Another spelling of the same name would be told as different for ever."""
    for written, spelt in (("ann%2dmay", "ann-may"), ("x%40y.example", ""), ("x%4", "x%254"), ("a%2fb", "a%2Fb")):
        text = ESTATE.replace("@orchard/identity/carol", f"@orchard/identity/{written}")
        ran = enthesis("check", at=write_estate(tmp_path / written.replace("%", "_"), {"estate.yaml": text}))
        if spelt:
            assert ran.code == 2 and f"`@orchard/identity/{spelt}`" in ran.err + ran.out, ran.err + ran.out
        else:
            assert "another way" not in ran.err + ran.out


def test_one_member_that_cannot_be_one_yet_keeps_no_group_from_being_made(enthesis: Program, orchard: Lab) -> None:
    """What is there already stays in the group; what is missing is told by itself, with who can make it."""
    place = orchard.folder
    tied = "  press/identity/presser: {kind: managed-identity, tied_to: press/host/press-7}\n"
    grinder = "  mill/identity/grinder: {kind: service-account}\n"
    changed(place, "resources: {", "resources: {press/host/press-7: {}, ")  # which nobody has made yet
    changed(place, grinder, f"{grinder}{tied}")
    changed(place, "mill/identity/grinder]}", "mill/identity/grinder, press/identity/presser]}")
    ran = enthesis("propose", at=place)
    assert ran.code == 0, ran.err
    assert "press/identity/presser in the group @orchard/group/printers" in ran.out, ran.out
    assert enthesis("enact", "--yes", at=place).code == 0
    with by_hand(orchard) as client:
        assert len(entry(client, "Groups", 'displayName eq "printers"')["members"]) == 3
    ran = enthesis("propose", "--format", "json", at=place)
    assert not ran.json["steps"], "what is left undone is no difference for ever"


# -- servers that do less -------------------------------------------------------------------------------------------


class Small:
    """A SCIM server that pages by two and does what it is told to: patch, tags, filters, deletion."""

    def __init__(self, *, can: str = "patch etag filter delete") -> None:
        self.can = can.split()
        self.entries: dict[str, dict[str, Any]] = {}
        self.asked: list[str] = []

    def __call__(self, request: httpx.Request) -> httpx.Response:
        parts = urlsplit(str(request.url))
        self.asked.append(f"{request.method} {parts.path}")
        kind, identifier = [*parts.path.removeprefix("/scim/").split("/"), ""][:2]
        if kind == "ServiceProviderConfig":
            config = {name: {"supported": name in self.can} for name in ("patch", "filter")}
            return httpx.Response(200, json=config)
        body = json.loads(request.content or b"{}")
        if request.method == "POST":
            return self._made(kind, body)
        if not identifier:
            return self._listed(kind, parse_qs(parts.query))
        if identifier not in self.entries:
            return httpx.Response(404, json={})
        there = self.entries[identifier]
        if "etag" in self.can and request.headers.get("if-match") not in (None, there["meta"]["version"]):
            return httpx.Response(412, json={})
        return self._changed(request.method, identifier, body)

    def _made(self, kind: str, body: dict[str, Any]) -> httpx.Response:
        named = {"Users": "userName", "Groups": "displayName"}[kind]
        if any(one.get(named) == body[named] for one in self.entries.values()):
            return httpx.Response(409, json={"scimType": "uniqueness"})
        identifier = f"{kind}-{len(self.entries)}"
        self.entries[identifier] = {"id": identifier, **body}
        return httpx.Response(201, json=self._tagged(identifier))

    def _tagged(self, identifier: str) -> dict[str, Any]:
        there = self.entries[identifier]
        number = int(re.sub(r"\D", "", there.get("meta", {}).get("version", "0"))) + 1
        there["meta"] = {"version": f'W/"{number}"'} if "etag" in self.can else {}
        return there

    def _listed(self, kind: str, query: dict[str, list[str]]) -> httpx.Response:
        found = [one for name, one in sorted(self.entries.items()) if name.startswith(kind)]
        if "filter" in query:
            if "filter" not in self.can:
                return httpx.Response(403, json={})
            name, _, text = query["filter"][0].partition(" eq ")
            found = [one for one in found if one[name] == json.loads(text)]
        start = int(query.get("startIndex", ["1"])[0]) - 1
        return httpx.Response(200, json={"totalResults": len(found), "Resources": found[start : start + 2]})

    def _changed(self, method: str, identifier: str, body: dict[str, Any]) -> httpx.Response:
        there = self.entries[identifier]
        if method == "GET":
            return httpx.Response(200, json=there)
        if method == "DELETE":
            if "delete" not in self.can:
                return httpx.Response(501, json={})
            del self.entries[identifier]
            return httpx.Response(204)
        if method == "PUT":
            self.entries[identifier] = {**body, "id": identifier, "meta": there.get("meta", {})}
            return httpx.Response(200, json=self._tagged(identifier))
        assert "patch" in self.can
        for one in body["Operations"]:
            if one["op"] == "remove" and one["path"].startswith("members["):
                gone = one["path"].split('"')[1]
                there["members"] = [member for member in there["members"] if member["value"] != gone]
            elif one["op"] == "remove":
                there.pop(one["path"], None)
            elif one["op"] == "add":
                there["members"] = [*there.get("members", []), *one["value"]]
            else:
                there[one["path"]] = one["value"]
        self._tagged(identifier)
        return httpx.Response(204)


def at(server: Any) -> KeptDirectory:
    client = Client("@orchard", "https://people.example/scim", transport=httpx.MockTransport(server))
    client.sleep = lambda seconds: None
    return KeptDirectory("@orchard", client, Secret("word"))


def person(name: str, **more: Any) -> dict[str, Any]:
    return {"address": f"@orchard/identity/{name}", "kind": "person", **more}


def step(action: str, collection: str, body: dict[str, Any] | None, found: LiveObject | None = None) -> Step:
    before = dict(found.body) if found is not None else None
    identifier, etag = (found.id, found.etag) if found is not None else (None, None)
    return Step(action, "@orchard", collection, "@orchard", "it", "orchard", body, before, identifier, etag)


def live(directory: KeptDirectory) -> dict[str, LiveObject]:
    return {str(one.body["address"]): one for one in directory.survey(["@orchard"]).objects}


ABLE = ["patch etag filter delete", "etag filter delete", "patch filter", "", "patch etag"]


@pytest.mark.parametrize("can", ABLE)
def test_servers_of_every_ability_are_kept_in_step(can: str) -> None:
    server = Small(can=can)
    directory = at(server)
    for name in ("ann", "bo", "cy"):
        directory.change(step(MAKE, "identities", person(name)), {})
    members = [f"@orchard/identity/{name}" for name in ("ann", "bo")]
    directory.change(step(MAKE, "groups", {"address": PRINTERS, "members": members}), {})
    there = live(directory)
    assert there[PRINTERS].body["members"] == members and there[PRINTERS].mark == "orchard" and len(there) == 4
    fresh = at(server)  # another run, which has surveyed nothing
    wanted = {"address": PRINTERS, "members": [members[1], "@orchard/identity/cy"]}
    fresh = fresh if "patch" not in server.can else directory
    fresh.change(step(CHANGE, "groups", wanted, there[PRINTERS]), {})
    assert live(directory)[PRINTERS].body["members"] == wanted["members"]
    ann = there[members[0]]
    disabled = step(CHANGE, "identities", person("ann", disabled=True), ann)
    made = directory.change(disabled, {})
    assert live(directory)[members[0]].body.get("disabled") is True and directory.in_force(disabled, made)
    if "patch" in server.can or "etag" in server.can or not server.can:
        with pytest.raises(MovedAway):
            directory.change(step(CHANGE, "identities", person("ann"), ann), {})
    gone = step(REMOVE, "identities", None, live(directory)[members[0]])
    directory.change(gone, {})
    left = live(directory)
    assert directory.in_force(gone, Changed(None, None))
    assert (members[0] not in left) == ("delete" in server.can)
    if "delete" not in server.can:
        assert left[members[0]].mark is None and left[members[0]].body.get("disabled") is True


def test_what_was_made_already_is_found_again_and_what_is_anothers_left() -> None:
    server = Small()
    first = at(server).change(step(MAKE, "identities", person("ann")), {})
    assert at(server).change(step(MAKE, "identities", person("ann")), {}).id == first.id
    server.entries[str(first.id)]["externalId"] = "others 7"
    with pytest.raises(MovedAway, match="is not ours"):
        at(server).change(step(MAKE, "identities", person("ann")), {})
    with pytest.raises(MovedAway, match="does not have"):
        at(server).change(step(MAKE, "groups", {"address": PRINTERS, "members": ["@orchard/identity/zoe"]}), {})
    assert not at(server).objection("groups", {"address": PRINTERS}, {})
    assert "no rule" in at(server).objection("groups", {"address": PRINTERS, "where": {"kind": "person"}}, {})


NAMES = ['a "b"', "c\nd", "e/f", "' or 1=1 --", "ü", "%41", "..", "x@y.example"]


def test_names_of_all_kinds_go_there_and_come_back() -> None:
    server = Small()
    for name in NAMES:
        server._made("Users", {"userName": name})
    directory = at(server)
    found = live(directory)
    assert len(found) == len(NAMES) and all("\n" not in address and address.count("/") == 2 for address in found)
    directory.change(step(MAKE, "groups", {"address": PRINTERS, "members": list(found)}), {})
    assert sorted(live(directory)[PRINTERS].body["members"]) == sorted(found)


def endless(request: httpx.Request) -> httpx.Response:
    return httpx.Response(200, json={"totalResults": 10**9, "Resources": []})


def shrinking(request: httpx.Request) -> httpx.Response:
    entries = [{"id": "1", "userName": "ann"}]
    return httpx.Response(200, json={"totalResults": 3, "Resources": entries})


def nameless(request: httpx.Request) -> httpx.Response:
    return httpx.Response(200, json={"totalResults": 1, "Resources": [{"id": "1"}]})


def status(code: int, body: Any = None) -> Any:
    return lambda request: httpx.Response(code, json=body if body is not None else {})


@pytest.mark.parametrize(
    ("server", "kind", "said"),
    [
        (endless, UnexpectedAnswer, "0 were read"), (shrinking, UnexpectedAnswer, "3 entries are said"),
        (nameless, UnexpectedAnswer, "no userName"), (status(401), RightMissing, "may not read"),
        (status(403), RightMissing, "may not read"), (status(200, []), UnexpectedAnswer, "not a JSON object"),
        (status(200, {"totalResults": "x"}), UnexpectedAnswer, "not understood"),
        (status(200, {"totalResults": 1, "Resources": [7]}), UnexpectedAnswer, "not understood"),
        (status(500), EnthesisError, "500"),
    ],
)  # fmt: skip
def test_what_cannot_be_read_in_full_is_no_survey(server: Any, kind: type[Exception], said: str) -> None:
    with pytest.raises(kind, match=said):
        at(server).survey(["@orchard"])


def test_a_survey_says_what_it_left_out() -> None:
    lines = list(at(nameless).records(lambda name: None))
    assert any(one.get("incomplete") and "no userName" in str(one["why"]) for one in lines)

"""Statements that somebody else put on the live side, and what one account of the lab can do to another."""

import json
import shutil
import ssl
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import httpx
import pytest

from .conftest import Lab, Program, start_lab, write_estate

ESTATE = """\
estate: pair
organisations: {works: {units: [one]}}
providers: {north: {style: two-sided}, south: {style: one-sided}}
accounts:
  left: {in: "@works/one", provider: north}
  right: {in: "@works", provider: north}
  far: {in: "@works", provider: south}
issuers: {forge: {kind: oidc, claims: {sub: text}}}
resources:
  left/bucket/b: {}
  left/host/h: {}
  right/bucket/c: {}
  right/host/k: {}
identities:
  "@works/identity/ann": {kind: person}
  left/identity/runner: {kind: service-account}
  right/identity/other: {kind: service-account}
roles: {reading: {allows: {object: [read, list]}}}
trusts: [{of: left/identity/runner, admits: {token: forge, claims: {sub: main}}, session: 15m}]
grants: [{to: left/identity/runner, role: reading, at: left/bucket/b}]
"""


class Cloud:
    """The administration interface of one cloud of the lab, for the administrators of its accounts."""

    def __init__(self, lab: Lab, name: str) -> None:
        self.lab, self.url = lab, lab.services[name]
        self.tls = ssl.create_default_context(cafile=lab.authority)

    def ask(self, method: str, path: str, holder: str, body: Any = None, **headers: str) -> httpx.Response:
        shown = {"Authorization": f"Bearer {self.lab.administrator(holder)}", **headers}
        return self.sent(method, path, shown, json=body)

    def sent(self, method: str, path: str, headers: dict[str, str], **body: Any) -> httpx.Response:
        with httpx.Client(verify=self.tls, trust_env=False) as http:
            return http.request(method, f"{self.url}/administration/{path}", headers=headers, **body)

    def items(self, collection: str, holder: str) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = self.ask("GET", collection, holder).json()["items"]
        return found

    def id_of(self, collection: str, holder: str, name: str) -> str:
        found = self.items(collection, holder)
        return str(next(one["id"] for one in found if name in (one.get("address"), one.get("name"))))


@pytest.fixture
def pair(enthesis: Program, tmp_path: Path) -> Iterator[Path]:
    folder = write_estate(tmp_path / "pair", {"estate.yaml": ESTATE})
    yield folder
    enthesis("lab", "stop", "--clean", at=folder)


def twin_of(cloud: Cloud, collection: str, holder: str, **other: Any) -> dict[str, Any]:
    """The body of a statement that is there, with something of it another."""
    kept = {"identities": (), "trusts": ("of", "admits", "session"), "grants": ("to", "role", "at")}[collection]
    found = cloud.items(collection, holder)[0]
    return {**{name: found[name] for name in kept}, "holder": holder, "mark": None, **other}


@pytest.mark.attack("twins")
def test_every_statement_of_one_key_is_seen(enthesis: Program, pair: Path) -> None:
    assert enthesis("lab", "start", "--allow-twins", at=pair).code == 0
    lab = start_lab(enthesis, pair, "--allow-twins")
    assert enthesis("enact", "--yes", "--accept", "power-gained", at=pair).code == 0
    assert enthesis("propose", "--expect-none", at=pair).code == 0
    cloud = Cloud(lab, "north")
    wide = {"token": "forge"}
    ours = twin_of(cloud, "trusts", "left", admits=wide, mark="pair")
    assert cloud.ask("POST", "trusts", "left", ours).status_code == 201
    said = enthesis("propose", "--expect-none", "--format", "json", at=pair)
    assert said.code == 1 and [step["action"] for step in said.json["steps"]] == ["remove"], said.out
    assert any("forge" in one for one in said.json["takes"]), said.json  # what the wide one gives is lost
    assert enthesis("enact", "--yes", "--accept", "power-gained", at=pair).code == 0
    assert enthesis("propose", "--expect-none", at=pair).code == 0
    assert len(cloud.items("trusts", "left")) == 1
    unmarked = {**ours, "mark": None}
    assert cloud.ask("POST", "trusts", "left", unmarked).status_code == 201
    said = enthesis("propose", "--expect-none", "--format", "json", at=pair)
    assert (said.code, said.json["steps"], len(said.json["twins"])) == (1, [], 1)
    assert [len(one["opens"]) > 0 for one in said.json["openings"]] == [True]
    assert enthesis("prove", "--near-misses", at=pair).code == 1  # one that should be refused gets in
    assert enthesis("enact", "--yes", "--prune", at=pair).code == 0
    assert len(cloud.items("trusts", "left")) == 2  # never removed, since it is not ours
    text = (pair / "estate.yaml").read_text()
    (pair / "estate.yaml").write_text(text.replace("session: 15m", "session: 20m"))
    said = enthesis("propose", "--format", "json", at=pair)
    assert [(step["action"], step["id"]) for step in said.json["steps"]] == [
        ("change", next(one["id"] for one in cloud.items("trusts", "left") if one["mark"] == "pair"))
    ]


@pytest.mark.attack("twins")
def test_a_lab_refuses_a_second_statement_of_the_same_key(enthesis: Program, pair: Path) -> None:
    lab = start_lab(enthesis, pair)
    assert enthesis("enact", "--yes", "--accept", "power-gained", at=pair).code == 0
    cloud = Cloud(lab, "north")
    for collection, more in (("trusts", {"admits": {"token": "forge"}}), ("grants", {})):
        body = twin_of(cloud, collection, "left", **more)
        assert cloud.ask("POST", collection, "left", body).status_code == 409
        assert cloud.ask("POST", collection, "left", {**body, "name": "another"}).status_code == 201


@pytest.mark.attack("openings by others")
def test_what_others_open_is_told_until_it_is_accepted(enthesis: Program, pair: Path) -> None:
    lab = start_lab(enthesis, pair)
    assert enthesis("enact", "--yes", "--accept", "power-gained", at=pair).code == 0
    cloud = Cloud(lab, "north")
    runner = cloud.id_of("identities", "left", "left/identity/runner")
    opened = {"holder": "left", "name": "more", "of": runner, "admits": {"token": "forge"}, "session": "1h"}
    assert cloud.ask("POST", "trusts", "left", opened).status_code == 201
    idle = {"holder": "left", "name": "unused", "allows": {"object": "read"}}
    assert cloud.ask("POST", "roles", "left", idle).status_code == 201  # opens nothing by itself
    said = enthesis("propose", "--expect-none", at=pair)
    assert said.code == 1 and "1 statement of others opens more" in said.out, said.out
    listed = enthesis("propose", "--format", "json", at=pair).json["openings"]
    sentence = listed[0]["sentence"].removesuffix(" (left)")
    assert sentence == "the trust of left/identity/runner in a token of forge with any claims, for 1h"
    entry = {"risk": "not-ours", "of": sentence, "because": "a trial", "until": "2099-01-01T00:00:00Z"}
    for until, code in (("2099-01-01T00:00:00Z", 0), ("2020-01-01T00:00:00Z", 1)):
        (pair / "accepted.json").write_text(json.dumps({"accepted": [{**entry, "until": until}]}))
        said = enthesis("propose", "--expect-none", at=pair)
        assert said.code == code, said.out


# -- one account of the lab against another ---------------------------------------------------------------------------

REACHING = [
    ("identities", {"address": "left/identity/x", "kind": "service-account"}),
    ("identities", {"address": "far/identity/x", "kind": "service-account"}),
    ("groups", {"address": "left/group/x", "members": []}),
    ("trusts", {"of": "LEFT", "admits": {"token": "forge"}}),
    ("grants", {"to": {"identity": "RIGHT"}, "role": "ROLE", "at": "left/bucket/b"}),
    ("ceilings", {"name": "x", "over": "targets", "at": "left", "bars": {"object": "*"}}),
    ("attachments", {"what": "left/host/h", "runs_as": ["RIGHT"]}),
]


def filled(body: Any, ids: Mapping[str, str]) -> Any:
    if isinstance(body, dict):
        return {name: filled(value, ids) for name, value in body.items()}
    if isinstance(body, list):
        return [filled(one, ids) for one in body]
    return ids.get(body, body) if isinstance(body, str) else body


@pytest.mark.attack("one account on another")
def test_nobody_writes_what_another_account_holds(
    enthesis: Program, pair: Path, attempts: Callable[[int], None]
) -> None:
    lab = start_lab(enthesis, pair)
    assert enthesis("enact", "--yes", "--accept", "power-gained", at=pair).code == 0
    cloud = Cloud(lab, "north")
    ids = {
        "LEFT": cloud.id_of("identities", "left", "left/identity/runner"),
        "RIGHT": cloud.id_of("identities", "right", "right/identity/other"),
        "ROLE": cloud.id_of("roles", "left", "reading"),
    }
    attempts(4 * len(REACHING))
    for collection, body in REACHING:
        for holder in ("left", "right", "far", "@works"):
            asked = {"holder": holder, **filled(body, ids)}
            answer = cloud.ask("POST", collection, "right", asked)
            # a grant of its own side on another's place is its own; it opens nothing without the other half
            assert answer.status_code in (403, 422), (collection, holder, answer.text)
    for collection in ("identities", "trusts", "grants", "roles"):
        for one in cloud.items(collection, "left"):
            path = f"{collection}/{one['id']}"
            assert cloud.ask("DELETE", path, "right", None, **{"If-Match": "*"}).status_code in (403, 404)


@pytest.mark.attack("one account on another")
def test_whoever_may_change_the_access_of_a_place_writes_no_grant_of_another_holder(
    enthesis: Program, pair: Path
) -> None:
    """The right to change access at a bucket of right is none to write what left holds about it."""
    text = ESTATE.replace("roles: {", "roles: {keeping: {allows: {bucket: change-access}}, ").replace(
        "grants: [", "grants: [{to: right/identity/other, role: keeping, at: right/bucket/c}, "
    )
    (pair / "estate.yaml").write_text(text)
    lab = start_lab(enthesis, pair)
    assert enthesis("enact", "--yes", "--accept", "power-gained", at=pair).code == 0
    cloud = Cloud(lab, "north")
    made = cloud.ask("POST", "sessions", "right", {"of": cloud.id_of("identities", "right", "right/identity/other")})
    session = {"Authorization": f"Bearer {made.json()['access_token']}"}
    runner = cloud.id_of("identities", "left", "left/identity/runner")
    grant = {"to": {"identity": runner}, "at": "right/bucket/c"}
    outcomes = {}
    for holder in ("left", "right"):
        role = cloud.ask("POST", "roles", holder, {"holder": holder, "name": "r", "allows": {"object": "read"}}).json()
        body = {"holder": holder, "role": role["id"], **grant}
        answer = cloud.sent("POST", "grants", session, json=body)
        outcomes[holder] = answer.status_code
    assert outcomes == {"left": 403, "right": 201}


JUNK: list[Any] = [None, True, -1, 1e308, "", "\0", "\ud800", "x" * 5000, [], {}, [[]], {"a": 1}, ["x", 1], {"glob": 1}]


@pytest.mark.attack("malformed bodies")
def test_malformed_bodies_break_nothing_for_others(
    enthesis: Program, pair: Path, attempts: Callable[[int], None]
) -> None:
    lab = start_lab(enthesis, pair)
    assert enthesis("enact", "--yes", "--accept", "power-gained", at=pair).code == 0
    cloud = Cloud(lab, "north")
    other = cloud.id_of("identities", "right", "right/identity/other")
    role = cloud.ask("POST", "roles", "right", {"holder": "right", "name": "r", "allows": {"object": "read"}}).json()
    good: dict[str, dict[str, Any]] = {
        "identities": {
            "address": "right/identity/n", "kind": "service-account", "labels": {"a": "b"}, "tied_to": "right/host/k",
            "disabled": False, "owner": "o",
        },
        "groups": {"address": "right/group/g", "members": [{"identity": other}], "where": {"labels": {"a": "b"}}},
        "roles": {"name": "s", "allows": {"object": ["read"]}, "includes": ["r"]},
        "trusts": {
            "of": other, "admits": {"token": "forge", "claims": {"sub": "x"}}, "when": {"network": {"within": "::/0"}},
            "session": "1h", "until": "2099-01-01T00:00:00Z",
        },
        "grants": {
            "to": {"identity": other}, "role": role["id"], "at": "right/bucket/c", "until": "2099-01-01T00:00:00Z",
        },
        "ceilings": {"name": "c", "over": "targets", "at": "right", "bars": {"key": "*"}, "except": [{"glob": "a*"}]},
        "attachments": {"what": {"glob": "right/host/*"}, "runs_as": [other]},
    }  # fmt: skip
    deep: Any = "x"
    for _ in range(200):
        deep = {"not": deep}
    tried = 0
    for collection, body in good.items():
        for name in body:
            for junk in (*JUNK, deep):
                content = json.dumps({"holder": "right", **body, name: junk})
                shown = {"Authorization": f"Bearer {lab.administrator('right')}", "Content-Type": "application/json"}
                answer = cloud.sent("POST", collection, shown, content=content)
                tried += 1
                assert answer.status_code in (201, 409, 422), (collection, name, junk, answer.text)
                if answer.status_code == 201:
                    path = f"{collection}/{answer.json()['id']}"
                    assert cloud.ask("DELETE", path, "right", None, **{"If-Match": "*"}).status_code == 204
    assert tried > 400
    attempts(tried)
    assert enthesis("prove", at=pair).code == 0
    assert enthesis("propose", at=pair).code == 0


@pytest.mark.attack("one account on another")
def test_attachments_and_ties_reach_nothing_of_another_account(enthesis: Program, pair: Path) -> None:
    lab = start_lab(enthesis, pair)
    assert enthesis("enact", "--yes", "--accept", "power-gained", at=pair).code == 0
    cloud = Cloud(lab, "north")
    other = cloud.id_of("identities", "right", "right/identity/other")
    for pattern, status in (("left/host/*", 422), ("**", 422), ("*/host/*", 422), ("right/host/*", 201)):
        made = cloud.ask(
            "POST", "attachments", "right", {"holder": "right", "what": {"glob": pattern}, "runs_as": [other]}
        )
        assert made.status_code == status, made.text
    directly = {"Asked-Directly": "yes"}
    about = httpx.get(f"{lab.hosts('north')}/left/host/h/about", headers=directly, trust_env=False)
    assert about.json()["identities"] == []
    about = httpx.get(f"{lab.hosts('north')}/right/host/k/about", headers=directly, trust_env=False)
    assert [one["address"] for one in about.json()["identities"]] == ["right/identity/other"]


@pytest.mark.attack("other users of the machine")
def test_only_the_owner_of_a_lab_plays_its_people_runs_and_hosts(enthesis: Program, pair: Path) -> None:
    lab = start_lab(enthesis, pair)
    tls = ssl.create_default_context(cafile=lab.authority)
    forge, hosts = lab.services["forge"], lab.services["north/hosts"]
    with httpx.Client(verify=tls, trust_env=False) as http:
        run = {"claims": {"sub": "main"}}
        for headers in ({}, {"lab-owner": ""}, {"lab-owner": "x" * 32}):
            assert http.post(f"{forge}/runs", json=run, headers=headers).status_code == 401
            directory = http.post(
                f"{lab.services['@works']}/agree", data={"person": "@works/identity/ann"}, headers=headers
            )
            assert directory.status_code == 401
        assert http.post(f"{forge}/runs", json=run, headers=lab.owner).status_code == 201
        for word in ("", "x", "left"):
            about = http.get(f"{hosts}/{word}/left/host/h/about", headers={"Asked-Directly": "yes"})
            assert about.status_code in (401, 404)
        for headers in ({"Host": "evil.example"}, {"Origin": "https://evil.example"}, {"Origin": "null"}):
            answer = http.post(f"{forge}/runs", json=run, headers={**lab.owner, **headers})
            assert answer.status_code == 403, headers
        page = http.get(f"{lab.services['@works']}/agree")
        assert page.status_code == 200 and lab.owner["lab-owner"] not in page.text


@pytest.mark.attack("files without an end")
def test_what_is_too_large_is_refused_before_it_is_read(enthesis: Program, pair: Path) -> None:
    lab = start_lab(enthesis, pair)
    tls = ssl.create_default_context(cafile=lab.authority)
    with httpx.Client(verify=tls, trust_env=False) as http:
        for name, path in (
            ("north", "/token"),
            ("forge", "/runs"),
            ("@works", "/token"),
            ("north", "/administration/roles"),
        ):
            read = 0

            def endless() -> Iterator[bytes]:
                nonlocal read
                for _ in range(64):
                    read += 1
                    yield b"x" * 1_048_576

            headers = {"Content-Length": str(64 * 1_048_576)}
            try:
                answer = http.post(lab.services[name] + path, content=endless(), headers=headers)
                assert answer.status_code == 413, (name, answer.text)
            except httpx.HTTPError:
                assert read < 64  # it hung up while more was sent


@pytest.mark.attack("what outlives")
def test_a_session_ends_with_the_sign_in_that_it_began_with(enthesis: Program, pair: Path) -> None:
    text = ESTATE.replace(
        "trusts: [", "trusts: [{of: left/identity/runner, admits: {person: '@works/identity/ann'}, session: 20h}, "
    )
    (pair / "estate.yaml").write_text(text)
    lab = start_lab(enthesis, pair)
    assert enthesis("enact", "--yes", "--accept", "power-gained", at=pair).code == 0
    tls = ssl.create_default_context(cafile=lab.authority)
    url, directory = lab.services["north"], lab.services["@works"]
    with httpx.Client(verify=tls, trust_env=False) as http:
        began = http.post(f"{directory}/device", data={"client_id": "x"}).json()
        form = {"code": began["user_code"], "person": "@works/identity/ann", "mfa": "yes", "agreed": "yes"}
        assert http.post(f"{directory}/agree", data=form, headers=lab.owner).status_code == 200
        device = {"grant_type": "urn:ietf:params:oauth:grant-type:device_code", "device_code": began["device_code"]}
        device["client_id"] = "x"
        signed_in = http.post(f"{directory}/token", data=device).json()
        exchange = {
            "grant_type": "urn:ietf:params:oauth:grant-type:token-exchange", "subject_token": signed_in["access_token"],
            "subject_token_type": "urn:ietf:params:oauth:token-type:access_token",
            "resource": f"{url}/places/left/identity/runner",
        }  # fmt: skip
        got = http.post(f"{url}/token", data=exchange).json()
        assert got["expires_in"] <= signed_in["expires_in"]
        shown = {"Authorization": f"Bearer {got['access_token']}"}
        assert http.get(f"{url}/places/left/bucket/b/object/a?list", headers=shown).status_code == 200
        assert http.post(f"{directory}/revoke", data={"token": signed_in["access_token"]}).status_code == 200
        assert http.get(f"{url}/places/left/bucket/b/object/a?list", headers=shown).status_code == 401
        # keys that were rotated twice, and long ago, still verify what they signed
        run = http.post(f"{lab.services['forge']}/runs", json={"claims": {"sub": "main"}}, headers=lab.owner).json()
        token = http.post(run["token_endpoint"], json={"audience": "north"}, headers=lab.owner).json()["token"]
        for _ in range(2):
            assert enthesis("lab", "rotate", "forge", at=pair).code == 0
        exchange |= {"subject_token": token, "subject_token_type": "urn:ietf:params:oauth:token-type:jwt"}
        assert http.post(f"{url}/token", data=exchange).status_code == 200


# -- attachments by pattern, and enactments at once -----------------------------------------------------------------


def test_a_pattern_over_several_accounts_is_kept_by_each(enthesis: Program, pair: Path) -> None:
    """A cloud keeps no pattern that reaches beyond its holder; what is written over several accounts is split up."""
    cloud = Cloud(start_lab(enthesis, pair), "north")
    assert enthesis("enact", "--yes", at=pair).code == 0
    runner = cloud.id_of("identities", "left", "left/identity/runner")
    foreign = {"holder": "left", "what": {"glob": "right/host/*"}, "runs_as": [runner]}
    for pattern in ("right/host/*", "*/host/*", "**", "left*/host/h"):
        answer = cloud.ask("POST", "attachments", "left", {**foreign, "what": {"glob": pattern}})
        assert answer.status_code == 422 and "not of left alone" in answer.text, (pattern, answer.text)
    (pair / "more.yaml").write_text(
        "attachments: [{what: {glob: '*/host/*'}, runs_as: left/identity/runner}]\n"
        "trusts: [{name: hosts, of: left/identity/runner, admits: {attached: true}}]\n"
        "journeys:\n"
        "  on-h: {from: {host: left/host/h}, through: [left/identity/runner], expect: allowed}\n"
        "  on-k: {from: {host: right/host/k}, through: [left/identity/runner], expect: refused}\n"
    )
    assert "not possible" not in enthesis("check", at=pair).out
    assert enthesis("enact", "--yes", at=pair).code == 0
    kept = {holder: [one["what"] for one in cloud.items("attachments", holder)] for holder in ("left", "right")}
    assert kept == {"left": [{"glob": "left/host/*"}], "right": [{"glob": "right/host/*"}]}
    assert enthesis("propose", "--expect-none", at=pair).code == 0
    assert enthesis("prove", at=pair).code == 0


def test_of_two_enactments_at_once_only_the_last_lets_anybody_in(enthesis: Program, pair: Path, tmp_path: Path) -> None:
    """Two checkouts that want different subjects: whoever is last has its own subject alone in the trust."""
    cloud = Cloud(start_lab(enthesis, pair), "north")
    assert enthesis("enact", "--yes", at=pair).code == 0
    other = tmp_path / "other"
    shutil.copytree(pair, other, ignore=shutil.ignore_patterns("lab"))
    text = (other / "estate.yaml").read_text()
    (other / "estate.yaml").write_text(text.replace("{sub: main}", "{sub: side}"))
    assert enthesis("lab", "join", str(pair), at=other).code == 0
    for _ in range(3):
        with ThreadPoolExecutor(2) as both:
            ran = list(both.map(lambda place: enthesis("enact", "--yes", at=place), (pair, other)))
        assert all(one.code in (0, 4) for one in ran), [one.err for one in ran]
        subjects = [one["admits"]["claims"]["sub"] for one in cloud.items("trusts", "left")]
        assert subjects in (["main"], ["side"]), subjects
    assert enthesis("enact", "--yes", at=pair).code == 0
    assert [one["admits"]["claims"]["sub"] for one in cloud.items("trusts", "left")] == ["main"]

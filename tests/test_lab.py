"""The lab as its clients see it, none of them ours: discovery, keys, exchange, administration, crash and clock."""

import json
import os
import signal
import socket
import sqlite3
import ssl
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import jwt
import pytest

from enthesis_lab.__main__ import _logins
from enthesis_lab.store import Store

from .conftest import Lab, Program, start_lab

EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"
JWT_TYPE = "urn:ietf:params:oauth:token-type:jwt"
ACCESS = "urn:ietf:params:oauth:token-type:access_token"
MAIN = {"sub": "project/tides/bulletin/branch/main", "event": "push"}
PUBLISHER, WRITER = "build/identity/publisher", "bulletin/identity/page-writer"
PAGE = "bulletin/bucket/public-pages/object/test/page.html"


class Client:
    """A plain HTTP client of a lab."""

    def __init__(self, lab: Lab) -> None:
        self.lab = lab
        self.tls = ssl.create_default_context(cafile=lab.authority)
        self.http = httpx.Client(verify=self.tls, trust_env=False, headers=lab.owner)

    def token(self, claims: Any = None, audience: Any = "lowland", **more: str) -> str:
        run = self.http.post(f"{self.lab.services['forge']}/runs", json={"claims": MAIN if claims is None else claims})
        assert run.status_code == 201, run.text
        answer = self.http.post(run.json()["token_endpoint"], json={"audience": audience, **more})
        return str(answer.json()["token"])

    def exchange(self, subject: str, identity: str, cloud: str = "lowland", kind: str = JWT_TYPE) -> httpx.Response:
        url = self.lab.services[cloud]
        form = {"grant_type": EXCHANGE, "subject_token": subject, "subject_token_type": kind}
        return self.http.post(f"{url}/token", data={**form, "resource": f"{url}/places/{identity}"})

    def session(self, identity: str = WRITER) -> str:
        first = self.exchange(self.token(), PUBLISHER).json()["access_token"]
        if identity == PUBLISHER:
            return str(first)
        return str(self.exchange(first, identity, kind=ACCESS).json()["access_token"])

    def ask(self, method: str, path: str, bearer: str, cloud: str = "lowland", **more: Any) -> httpx.Response:
        headers = {"Authorization": f"Bearer {bearer}", **more.pop("headers", {})}
        return self.http.request(method, self.lab.services[cloud] + path, headers=headers, **more)


@pytest.fixture(scope="module")
def client(enacted_lab: Lab) -> Iterator[Client]:
    made = Client(enacted_lab)
    yield made
    made.http.close()


def decoded(client: Client, token: str, service: str, audience: str) -> dict[str, Any]:
    """What an independent library makes of a token, from the service's discovery document alone."""
    url = client.lab.services[service]
    kind = "openid-configuration" if service == "forge" else "oauth-authorization-server"
    discovery = client.http.get(f"{url}/.well-known/{kind}").json()
    assert discovery["issuer"] == url
    keys = jwt.PyJWKClient(discovery["jwks_uri"], ssl_context=client.tls)
    key = keys.get_signing_key_from_jwt(token)
    algorithms = ["ES256", "RS256"]
    claims: dict[str, Any] = jwt.decode(token, key.key, algorithms=algorithms, audience=audience, issuer=url)
    return claims


@pytest.mark.parametrize("algorithm", ["ES256", "RS256"])
def test_an_independent_client_accepts_the_issuers_tokens(client: Client, algorithm: str) -> None:
    claims = decoded(client, client.token(alg=algorithm), "forge", "lowland")
    assert claims["sub"] == MAIN["sub"]


def test_an_independent_client_accepts_a_session_with_its_chain_of_hops(client: Client) -> None:
    url = client.lab.services["lowland"]
    claims = decoded(client, client.session(), "lowland", url)
    assert claims["sub"] == WRITER
    assert claims["act"]["sub"] == PUBLISHER
    assert claims["act"]["act"] == {"iss": client.lab.services["forge"], "sub": MAIN["sub"]}
    assert 14 * 60 < claims["exp"] - claims["iat"] <= 15 * 60


def test_an_independent_client_rejects_wrong_audience_and_tampering(client: Client) -> None:
    token = client.token()
    with pytest.raises(jwt.InvalidAudienceError):
        decoded(client, token, "forge", "highmoor")
    head, _, signature = token.split(".")
    other = client.token({**MAIN, "sub": "project/other/branch/main"}).split(".")[1]
    with pytest.raises(jwt.InvalidSignatureError):
        decoded(client, f"{head}.{other}.{signature}", "forge", "lowland")


def test_the_issuer_has_keys_of_two_types_and_rotates_them(enthesis: Program, client: Client) -> None:
    def keys() -> list[Any]:
        return list(client.http.get(f"{client.lab.services['forge']}/jwks").json()["keys"])

    before = keys()
    assert {key["kty"] for key in before} >= {"EC", "RSA"}
    assert not any({"d", "p", "q"} & key.keys() for key in before)
    old = client.token()
    assert enthesis("lab", "rotate", "forge", at=client.lab.folder).code == 0
    after = {key["kid"] for key in keys()}
    assert after > {key["kid"] for key in before}
    new = client.token()
    assert jwt.get_unverified_header(new)["kid"] not in {key["kid"] for key in before}
    assert client.exchange(old, PUBLISHER).status_code == client.exchange(new, PUBLISHER).status_code == 200


def test_a_run_by_project_and_branch(client: Client) -> None:
    url = f"{client.lab.services['forge']}/runs"
    body = {"project": "tides/bulletin", "branch": "main", "event": "push", "environment": "production"}
    run = client.http.post(url, json=body).json()
    token = client.http.post(run["token_endpoint"], json={"audience": ["lowland", "highmoor"]}).json()["token"]
    claims = decoded(client, token, "forge", "highmoor")
    assert (claims["sub"], claims["environment"]) == (MAIN["sub"], "production")
    assert client.exchange(token, PUBLISHER).status_code == 200
    for wrong in ({"project": "a"}, {"claims": {"iss": "x"}}, {"claims": {"a": [1]}}, {"claims": 1}, {"branch": 1}):
        assert client.http.post(url, json=wrong).status_code == 422


@pytest.mark.parametrize(
    ("claims", "audience"),
    [
        ({**MAIN, "sub": "project/tides/bulletin/branch/main2"}, "lowland"),
        ({**MAIN, "sub": "project/tides/bulletin/branch/Main"}, "lowland"),
        ({**MAIN, "event": "fork-merge"}, "lowland"),
        ({"sub": MAIN["sub"]}, "lowland"),
        ({"event": "push"}, "lowland"),
        (MAIN, "highmoor"),
    ],
)
def test_other_callers_are_refused_by_the_owner(client: Client, claims: Any, audience: str) -> None:
    answer = client.exchange(client.token(claims, audience), PUBLISHER)
    assert (answer.status_code, answer.json()["refused_at"]) == (400, ["target-side"])
    assert answer.json()["error"] == "invalid_request"  # RFC 8693, section 2.2.2


def test_a_hop_cannot_be_left_out_and_a_bearer_opens_nothing(client: Client) -> None:
    assert client.exchange(client.token(), WRITER).json()["refused_at"] == ["target-side"]
    assert client.ask("PUT", f"/places/{PAGE}", client.session(PUBLISHER)).status_code == 403
    assert client.ask("PUT", f"/places/{PAGE}", client.token()).status_code == 401


def test_what_is_written_is_really_there_and_a_ceiling_keeps_it(client: Client) -> None:
    session = client.session()
    assert client.ask("PUT", f"/places/{PAGE}", session, content=b"high water").status_code == 201
    above = PAGE.rsplit("/", 1)[0]
    assert PAGE in client.ask("GET", f"/places/{above}?list", session).json()["items"]
    assert client.ask("GET", f"/places/{PAGE}", session).json()["refused_at"] == ["target-side"]
    assert client.ask("DELETE", f"/places/{PAGE}", session).json()["refused_at"] == ["ceilings", "target-side"]
    trial = client.ask("PUT", f"/places/{PAGE}?trial", session, content=b"low water")
    path = trial.headers["location"].removeprefix(client.lab.services["lowland"])
    assert client.ask("GET", path, session).json()["stored"] is True
    assert client.ask("DELETE", path, session).status_code == 204
    with sqlite3.connect(client.lab.state / "lab.db") as database:
        stored = database.execute("SELECT content FROM contents WHERE address = ?", (PAGE,)).fetchone()
    database.close()
    assert stored == (b"high water",)


def test_a_session_of_one_provider_is_refused_at_another(client: Client) -> None:
    session = client.session()
    answer = client.ask("PUT", "/places/surge/cluster/grid", session, cloud="highmoor")
    assert answer.status_code == 403
    answer = client.ask("GET", f"/places/{PAGE}", session, cloud="highmoor")
    assert "provider" in answer.json()["refused_at"]


def test_an_administrators_rights_end_at_their_own_account(client: Client) -> None:
    build = client.lab.administrator("build")
    shown = client.ask("GET", "/administration/identities", build).json()["items"]
    assert {one["holder"] for one in shown} == {"build"}
    role = {"name": "r", "allows": {"object": ["read"]}, "holder": "bulletin"}
    refused = client.ask("POST", "/administration/roles", build, json=role)
    assert (refused.status_code, refused.headers["content-type"]) == (403, "application/problem+json")
    theirs = client.ask("GET", "/administration/identities", client.lab.administrator("bulletin")).json()["items"][0]
    for method in ("GET", "PUT", "DELETE"):
        path = f"/administration/identities/{theirs['id']}"
        assert client.ask(method, path, build, headers={"If-Match": "*"}).status_code == 404
    assert client.ask("GET", "/administration/identities", build, cloud="highmoor").status_code == 403
    assert client.ask("PUT", f"/places/{PAGE}", build).status_code == 403
    assert client.ask("GET", "/administration/identities", client.session()).status_code == 403


def test_the_administration_interface_has_versions_and_pages(client: Client) -> None:
    session = client.lab.administrator("gauges")
    made = []
    for number in range(5):
        body = {"name": f"role-{number}", "allows": {"object": ["read"]}, "holder": "gauges"}
        answer = client.ask("POST", "/administration/roles", session, json=body)
        assert answer.status_code == 201
        made.append(answer)
    body = {"name": "role-0", "allows": {}, "holder": "gauges"}
    assert client.ask("POST", "/administration/roles", session, json=body).status_code == 409
    found: list[str] = []
    path = "/administration/roles?limit=2"
    while path:
        answer = client.ask("GET", path, session)
        found += [one["name"] for one in answer.json()["items"]]
        path = answer.links.get("next", {}).get("url", "")
    assert found == [f"role-{number}" for number in range(5)]
    place, etag = made[0].headers["location"], made[0].headers["etag"]
    body = {"name": "role-0", "allows": {"object": ["list"]}}
    assert client.ask("PUT", place, session, json=body).status_code == 428
    changed = client.ask("PUT", place, session, json=body, headers={"If-Match": etag})
    assert changed.status_code == 200 and changed.headers["etag"] != etag
    assert client.ask("PUT", place, session, json=body, headers={"If-Match": etag}).status_code == 412
    for one in made:
        where = one.headers["location"]
        assert client.ask("DELETE", where, session, headers={"If-Match": "*"}).status_code == 204
        assert client.ask("GET", where, session).status_code == 404


@pytest.mark.parametrize(
    ("collection", "body"),
    [
        ("trusts", {"of": "nobody", "admits": {"token": "forge"}}),
        ("identities", {"address": "gauges/identity/x", "kind": "robot"}),
        ("identities", {"address": "build/identity/x", "kind": "service-account"}),
        ("roles", {"name": "x", "allows": {"objekt": ["read"]}}),
        ("roles", {"name": "x", "allows": {"object": ["reed"]}}),
        ("roles", {"name": "x", "allows": {}, "colour": "red"}),
        ("grants", {"to": {"identity": "nobody"}, "role": "x", "at": "gauges"}),
        ("ceilings", {"name": "x", "over": "callers", "at": "gauges", "bars": {}, "when": {"weather": "fine"}}),
        ("ceilings", {"name": "x", "over": "callers", "at": "gauges", "bars": {}, "when": {"time": {"like": "x"}}}),
        ("ceilings", {"name": "x", "over": "callers", "at": "bulletin", "bars": {}}),
        ("attachments", {"what": "gauges/host/nowhere", "runs_as": []}),
    ],
)
def test_a_statement_that_is_not_understood_is_not_taken(client: Client, collection: str, body: Any) -> None:
    session = client.lab.administrator("gauges")
    answer = client.ask("POST", f"/administration/{collection}", session, json={**body, "holder": "gauges"})
    assert answer.status_code == 422, answer.text
    assert client.ask("GET", f"/administration/{collection}", session).json()["items"] == []


def test_the_openapi_document_lists_every_path(client: Client) -> None:
    found = client.http.get(f"{client.lab.services['lowland']}/openapi.json").json()
    assert found["openapi"] == "3.1.0"
    assert {"/token", "/places/{address}", "/administration/grants/{id}"} <= found["paths"].keys()
    for path in found["paths"]:
        if path.startswith("/administration/") and "{" not in path and "get" in found["paths"][path]:
            assert client.ask("GET", path, client.lab.administrator("build")).status_code == 200


def test_listeners_are_on_loopback_only(client: Client) -> None:
    ports = {int(url.rsplit(":", 1)[1]) for url in client.lab.services.values()}
    listening = [line.split() for line in Path("/proc/net/tcp").read_text().splitlines()[1:]]
    found = {int(row[1].split(":")[1], 16): row[1].split(":")[0] for row in listening if row[3] == "0A"}
    loopback = socket.inet_aton("127.0.0.1")[::-1].hex().upper()
    assert {found[port] for port in ports} == {loopback}


def test_its_folder_is_private(client: Client) -> None:
    assert oct(client.lab.state.stat().st_mode & 0o777) == "0o700"
    for name in ("administrators.json", "lab.db", "service.key"):
        assert oct((client.lab.state / name).stat().st_mode & 0o777) == "0o600", name
    for one in json.loads((client.lab.state / "administrators.json").read_text())[1:]:
        claims = jwt.decode(one["session"], options={"verify_signature": False})
        assert claims["exp"] - claims["iat"] <= 3600


def test_its_state_survives_a_crash_and_expiry_comes_with_the_clock(enthesis: Program, fresh_lab: Lab) -> None:
    folder = fresh_lab.folder
    assert enthesis("enact", "--yes", at=folder).code == 0
    client = Client(fresh_lab)
    session = client.session()
    assert client.ask("PUT", f"/places/{PAGE}", session, content=b"kept").status_code == 201
    trial = client.ask("PUT", f"/places/{PAGE}?trial", session, content=b"left open")
    assert trial.status_code == 201
    os.kill(int((fresh_lab.state / "lock").read_text()), signal.SIGKILL)
    deadline = time.monotonic() + 10
    while enthesis("lab", "status", at=folder).code != 1:
        assert time.monotonic() < deadline
    assert enthesis("prove", at=folder).code == 3
    assert enthesis("lab", "start", at=folder).code == 0
    listed = enthesis("lab", "status", "--format", "json", at=folder).json["services"]
    assert {one["name"]: one["url"] for one in listed} == fresh_lab.services
    again = Client(fresh_lab)
    assert again.ask("PUT", f"/places/{PAGE}x", session).status_code == 201
    with sqlite3.connect(fresh_lab.state / "lab.db") as database:
        stored = database.execute("SELECT content FROM contents WHERE address = ?", (PAGE,)).fetchone()
    database.close()
    assert stored == (b"kept",)
    assert enthesis("propose", "--expect-none", at=folder).code == 0
    assert "14m59s" in enthesis("lab", "clock", "--forward", "14m59s", at=folder).out
    assert enthesis("lab", "clock", "--forward", "2s", at=folder).code == 0
    expired = again.ask("PUT", f"/places/{PAGE}", session)
    assert (expired.status_code, expired.json()["detail"]) == (401, "the token has expired")
    assert again.exchange(session, WRITER, kind=ACCESS).json()["error"] == "invalid_request"
    assert enthesis("prove", at=folder).code == 0
    assert enthesis("lab", "clock", "--forward", "2h", at=folder).code == 0
    ran = enthesis("propose", at=folder)  # which renews the sessions of the lab's administrators
    assert ran.code == 0, ran.err
    assert enthesis("lab", "start", at=folder).code == 0
    assert enthesis("propose", "--expect-none", at=folder).code == 0
    client.http.close()
    again.http.close()


@pytest.mark.parametrize("words", [("clock",), ("rotate", "forge"), ("status",)])
def test_without_a_lab_it_is_said(enthesis: Program, saltmarsh: Path, words: tuple[str, ...]) -> None:
    ran = enthesis("lab", *words, at=saltmarsh)
    assert ran.code in (1, 3)
    assert "no lab runs" in ran.err.lower()


def test_wrong_requests_to_the_lab_command(enthesis: Program, enacted_lab: Lab) -> None:
    ran = enthesis("lab", "rotate", "forgee", at=enacted_lab.folder)
    assert (ran.code, "did you mean forge" in ran.err) == (2, True)
    ran = enthesis("lab", "clock", "--forward", "soon", at=enacted_lab.folder)
    assert (ran.code, "not a duration" in ran.err) == (2, True)


def test_servers_that_do_not_run_are_told_with_the_reason(
    enthesis: Program, saltmarsh: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("enthesis_lab.logins.PLACES", ())
    monkeypatch.setenv("PATH", "")
    absent: dict[str, str] = {}
    hosts = {"surge/host/bastion": {"url": "ssh://bastion.example", "certificates": "people"}}
    authorities: Any = {"people": None}
    inventory = {"resources": hosts, "accounts": {"surge": {"provider": "highmoor"}}}
    urls = {"highmoor/hosts": "http://127.0.0.1:1"}
    assert _logins(inventory, Store(tmp_path / "lab.db"), authorities, absent, urls) == []
    assert list(absent) == ["surge/host/bastion"] and "openssh-server" in absent["surge/host/bastion"]
    monkeypatch.undo()
    start_lab(enthesis, saltmarsh)
    try:
        file = saltmarsh / ".enthesis" / "lab" / "services.json"
        file.write_text(json.dumps({**json.loads(file.read_text()), "absent": absent}))
        ran = enthesis("lab", "status", at=saltmarsh)
        assert ran.code == 0 and "surge/host/bastion does not run here: OpenSSH's server is not installed" in ran.err
        said = enthesis("lab", "status", "--format", "json", at=saltmarsh).json
        assert said["not_running"] == [{"name": "surge/host/bastion", "why": absent["surge/host/bastion"]}]
    finally:
        enthesis("lab", "stop", "--clean", at=saltmarsh)

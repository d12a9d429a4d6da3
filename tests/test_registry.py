"""Images: pulled and pushed with the identity's own session, at a registry that speaks the public distribution API."""

import base64
import hashlib
import json
import re
import ssl
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest

from enthesis.connectors.http import Client
from enthesis.connectors.registry import ImageRegistry
from enthesis.model.errors import UnexpectedAnswer
from enthesis.model.estate import Attempt
from enthesis.model.secrets import Secret
from enthesis.ports import HeldCredential, Refusal, Surroundings

from .conftest import Lab, Program, lab_of, write_estate

ESTATE = """
estate: works
organisations: {home: {}}
providers: {cloud: {style: two-sided}, other: {style: one-sided}}
accounts: {works: {in: "@home", provider: cloud}, far: {in: "@home", provider: other}}
issuers:
  main-cluster: {kind: oidc, cluster: works/cluster/main}
resources:
  works/cluster/main: {}
  works/cluster/main/namespace/web: {}
  works/cluster/main/namespace/web/workload/shop: {runs_as: works/cluster/main/namespace/web/identity/shop}
  works/pool/nodes: {runs_as: works/identity/image-puller}
  works/pool/nodes/host/n: {}
  works/registry/images: {url: "https://images.works.example", shared_login: off}
identities:
  works/cluster/main/namespace/web/identity/shop: {kind: cluster-service-account, owner: web-team, purpose: the shop}
  works/identity/image-puller: {kind: instance-role, owner: platform-team, purpose: pulls images for the cluster}
  works/identity/image-maker: {kind: service-account, owner: platform-team, purpose: pushes images}
  far/identity/stranger: {kind: service-account, owner: web-team, purpose: another cloud}
trusts:
  - of: works/identity/image-puller
    admits: {token: main-cluster, claims: {sub: "system:serviceaccount:web:shop", aud: cloud}}
    session: 15m
  - {of: works/identity/image-puller, admits: {attached: true}}
roles:
  pulling: {allows: {image: [pull, list]}}
  pushing: {allows: {image: [push]}}
grants:
  - {to: works/identity/image-puller, role: pulling, at: works/registry/images}
  - {to: works/identity/image-maker, role: pushing, at: works/registry/images/image/web}
journeys:
  the-shop-pulls:
    from: {workload: works/cluster/main/namespace/web/workload/shop}
    through: [works/identity/image-puller]
    attempt: pull works/registry/images/image/web/shop
    expect: allowed
    keyless: true
  a-node-pulls:
    from: {host: works/pool/nodes}
    through: [works/identity/image-puller]
    attempt: list works/registry/images/image/web/shop
    expect: allowed
    keyless: true
  the-shop-does-not-push:
    from: {workload: works/cluster/main/namespace/web/workload/shop}
    through: [works/identity/image-puller]
    attempt: push works/registry/images/image/web/shop
    expect: refused
    refused_at: target-side
  the-maker-pushes:
    from: {identity: works/identity/image-maker}
    attempt: push works/registry/images/image/web/shop
    expect: allowed
  nowhere-else:
    from: {identity: works/identity/image-maker}
    attempt: push works/registry/images/image/tools
    expect: refused
    refused_at: target-side
  another-cloud-does-not:
    from: {identity: far/identity/stranger}
    attempt: pull works/registry/images/image/web/shop
    expect: refused
    refused_at: [provider, target-side]
"""
REGISTRY = "works/registry/images"


@pytest.fixture(scope="module")
def works(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    place = write_estate(tmp_path_factory.mktemp("works") / "estate", {"estate.yaml": ESTATE})
    with lab_of(enthesis, place) as lab:
        yield lab


@pytest.fixture
def client(works: Lab) -> Iterator[httpx.Client]:
    verify = ssl.create_default_context(cafile=works.authority)
    with httpx.Client(base_url=works.services[REGISTRY], verify=verify) as client:
        yield client


def session(enthesis: Program, works: Lab, identity: str) -> str:
    """A session as an identity, by the right of its administrators."""
    cloud, verify = works.services["cloud"], ssl.create_default_context(cafile=works.authority)
    with httpx.Client(verify=verify, headers={"Authorization": f"Bearer {works.administrator('works')}"}) as asking:
        items = asking.get(f"{cloud}/administration/identities").json()["items"]
        of = next(one["id"] for one in items if one["address"] == identity)
        return str(asking.post(f"{cloud}/administration/sessions", json={"of": of}).json()["access_token"])


def token(client: httpx.Client, user: str, password: str, scope: str) -> httpx.Response:
    return client.get("/token", params={"service": REGISTRY, "scope": scope}, auth=(user.replace("/", "%2F"), password))


def test_every_journey_of_images_ends_as_expected(enthesis: Program, works: Lab) -> None:
    ran = enthesis("prove", at=works.folder)
    assert ran.code == 0 and "all 6 journeys ended as expected" in ran.out, ran.out + ran.err
    said = enthesis("prove", "the-maker-pushes", "--format", "json", at=works.folder).json["journeys"][0]
    assert said["evidence"][-1]["said"] == "an upload was begun, seen and cancelled"
    assert "its own server is https://images.works.example" in enthesis("card", REGISTRY, at=works.folder).out


def test_an_image_is_pushed_and_pulled_by_any_client_of_the_api(
    enthesis: Program, works: Lab, client: httpx.Client
) -> None:
    maker = session(enthesis, works, "works/identity/image-maker")
    asked = client.post("/v2/web/shop/blobs/uploads/")
    assert asked.status_code == 401 and asked.json()["errors"][0]["code"] == "UNAUTHORIZED"
    challenge = dict(re.findall(r'(\w+)="([^"]*)"', asked.headers["www-authenticate"]))
    assert challenge["scope"] == "repository:web/shop:push,pull" and challenge["realm"].endswith("/token")
    got = token(client, "works/identity/image-maker", maker, challenge["scope"])
    pushing = {"Authorization": f"Bearer {got.json()['token']}"}
    config, layer = b"{}", b"a layer" * 1000
    digests = []
    for content in (config, layer):
        digests.append(f"sha256:{hashlib.sha256(content).hexdigest()}")
        at = client.post("/v2/web/shop/blobs/uploads/", headers=pushing).headers["location"]
        assert client.patch(at, content=content[:1], headers=pushing).status_code == 202
        assert client.put(at, params={"digest": "sha256:00"}, content=content[1:], headers=pushing).status_code == 400
        at = client.post("/v2/web/shop/blobs/uploads/", headers=pushing).headers["location"]
        done = client.put(at, params={"digest": digests[-1]}, content=content, headers=pushing)
        assert done.status_code == 201
    media = "application/vnd.oci.image.manifest.v1+json"
    manifest = json.dumps({
        "schemaVersion": 2, "mediaType": media, "config": {"digest": digests[0]}, "layers": [{"digest": digests[1]}],
    }).encode()  # fmt: skip
    put = client.put("/v2/web/shop/manifests/latest", content=manifest, headers={**pushing, "Content-Type": media})
    assert put.status_code == 201
    wrong = json.dumps({"config": {"digest": "sha256:none"}}).encode()
    assert client.put("/v2/web/shop/manifests/x", content=wrong, headers=pushing).status_code == 404
    assert client.get("/v2/web/shop/manifests/latest", headers=pushing).status_code == 403, "it may push, not pull"
    puller = session(enthesis, works, "works/identity/image-puller")
    got = token(client, "works/identity/image-puller", puller, "repository:web/shop:pull,push")
    pulling = {"Authorization": f"Bearer {got.json()['token']}"}
    found = client.get("/v2/web/shop/manifests/latest", headers=pulling)
    assert found.content == manifest and found.headers["content-type"] == media
    assert client.get("/v2/web/shop/tags/list", headers=pulling).json()["tags"] == ["latest"]
    assert client.get(f"/v2/web/shop/blobs/{digests[1]}", headers=pulling).content == layer
    other = token(client, "works/identity/image-puller", puller, "repository:web/tools:pull").json()["token"]
    elsewhere = client.get(f"/v2/web/tools/blobs/{digests[1]}", headers={"Authorization": f"Bearer {other}"})
    assert elsewhere.status_code == 404, "what one image holds is not read by way of another"
    denied = client.post("/v2/web/shop/blobs/uploads/", headers=pulling)
    assert denied.status_code == 403 and denied.json()["errors"][0]["detail"]["refused_at"] == ["target-side"]
    wider = client.get("/v2/web/tools/tags/list", headers=pulling)
    assert wider.status_code == 401 and "insufficient_scope" in wider.headers["www-authenticate"]
    ran = enthesis("prove", "the-shop-pulls", "--format", "json", at=works.folder)
    assert ran.json["journeys"][0]["evidence"][-1]["said"] == "pulled"


def test_only_the_caller_s_own_session_gets_a_token(enthesis: Program, works: Lab, client: httpx.Client) -> None:
    puller, scope = session(enthesis, works, "works/identity/image-puller"), "repository:web/shop:pull"
    assert token(client, "works/identity/image-puller", puller, scope).status_code == 200
    assert token(client, "works/identity/image-maker", puller, scope).status_code == 401
    for user, password in (
        ("works/identity/image-puller", "x"),
        ("", ""),
        ("works/identity/image-puller", puller[:-2]),
    ):
        assert token(client, user, password, scope).status_code == 401
    for scope in ("web/shop", "registry:catalog:*", "repository::pull"):
        assert token(client, "works/identity/image-puller", puller, scope).status_code == 400
    forged = {"Authorization": f"Bearer {puller}"}
    assert client.get("/v2/", headers=forged).status_code == 401, "a session of the cloud is no token of the registry"


def test_a_shared_login_is_proved_off_and_found_on(enthesis: Program, works: Lab, client: httpx.Client) -> None:
    ran = enthesis("prove", "--near-misses", "--format", "json", at=works.folder)
    about = next(one for one in ran.json["trials"] if one["about"] == REGISTRY)
    assert about["met"] and about["trials"][0]["refused_at"] == ["names"], about
    assert client.get("/shared-login").status_code == 401
    client.put("/shared-login", json={"on": True}, headers=works.owner)
    try:
        ran = enthesis("prove", "--near-misses", at=works.folder)
        assert ran.code == 1 and "expected refused, got allowed" in ran.out and REGISTRY in ran.out
        password = client.get("/shared-login", headers=works.owner).json()["password"]
        assert password not in ran.out + ran.err
        got = token(client, "shared", password, "repository:web/shop:pull,push").json()["token"]
        assert client.get("/v2/web/none/tags/list", headers={"Authorization": f"Bearer {got}"}).status_code == 401
        assert client.get("/v2/", headers={"Authorization": f"Bearer {got}"}).status_code == 200
    finally:
        client.put("/shared-login", json={"on": False}, headers=works.owner)
    assert enthesis("prove", "--near-misses", "--allow-untried", at=works.folder).code == 0


def test_a_shared_login_that_others_switched_on_is_told_everywhere(
    enthesis: Program, works: Lab, client: httpx.Client, tmp_path: Path
) -> None:
    assert enthesis("propose", "--expect-none", at=works.folder).code == 0
    client.put("/shared-login", json={"on": True}, headers=works.owner)
    try:
        ran = enthesis("propose", "--expect-none", at=works.folder)
        assert ran.code == 1 and f"the login that people share at {REGISTRY} is on" in ran.out
        assert "can describe, list, pull and push there" in ran.out
        ran = enthesis("sweep", "--ask", "--format", "json", at=works.folder)
        found = next(one for one in ran.json["findings"] if one["code"] == "shared-login")
        assert ran.code == 1 and found["severity"] == "high" and found["reaches"]["verb"] == "push"
        survey = tmp_path / "survey.jsonl"
        assert enthesis("survey", "--out", str(survey), at=works.folder).code == 0
        for asked, told in ((("--survey", str(survey)), [REGISTRY]), ((), [])):
            ran = enthesis("reach", "--to", REGISTRY, "--verb", "push", "--format", "json", *asked, at=works.folder)
            assert [one["at"] for one in ran.json["shared_logins"]] == told
    finally:
        client.put("/shared-login", json={"on": False}, headers=works.owner)
    assert enthesis("propose", "--expect-none", at=works.folder).code == 0


def test_an_accepted_shared_login_is_lived_with(enthesis: Program, works: Lab, client: httpx.Client) -> None:
    until = '"2099-01-01T00:00:00Z"'
    entry = f"accepted:\n  - {{risk: shared-login, of: {REGISTRY}, because: the scanner, until: {until}}}\n"
    file = works.folder / "accepted.yaml"
    client.put("/shared-login", json={"on": True}, headers=works.owner)
    try:
        file.write_text(entry)
        ran = enthesis("propose", "--expect-none", at=works.folder)
        assert ran.code == 0 and "made by others, and accepted" in ran.out, ran.out
    finally:
        file.unlink()
        client.put("/shared-login", json={"on": False}, headers=works.owner)


def test_a_shared_login_breaks_claims_about_everybody(enthesis: Program, tmp_path: Path) -> None:
    """Nobody knows who uses it: a claim about some callers says nothing of it, and one about everybody is broken."""
    claims = f"""
invariants:
  - {{name: nobody-else, only: {{by: works/identity/image-maker, can: push, at: {REGISTRY}}}}}
  - {{name: never-at-all, never: {{can: push, at: works, on: image}}}}
  - {{name: not-the-shop, never: {{by: works/identity/image-puller, can: push, at: {REGISTRY}}}}}
  - {{name: no-deleting, never: {{can: delete, at: {REGISTRY}}}}}
accepted:
  - {{invariant: never-at-all, by: {REGISTRY}, because: known, until: "2099-01-01T00:00:00Z"}}
"""
    without_grant = ESTATE.replace(
        "  - {to: works/identity/image-maker, role: pushing, at: works/registry/images/image/web}\n", ""
    )
    on = without_grant.replace("shared_login: off", "shared_login: on")
    folder = write_estate(tmp_path, {"estate.yaml": on, "claims.yaml": claims})
    said = {one["invariant"]: one for one in enthesis("check", "--format", "json", at=folder).json["invariants"]}
    assert {name: one["outcome"] for name, one in said.items()} == {
        "nobody-else": "broken", "never-at-all": "accepted", "not-the-shop": "holds", "no-deleting": "holds",
    }  # fmt: skip
    assert "the password that people share" in said["nobody-else"]["why"]
    rows = enthesis("reach", "--to", REGISTRY, "--verb", "push", "--format", "csv", at=folder).out.splitlines()
    assert rows[1:] == [f"{REGISTRY},shared-login,keyed,{REGISTRY},push,,0,no,"], rows
    write_estate(tmp_path, {"estate.yaml": without_grant})
    said = {one["invariant"]: one for one in enthesis("check", "--format", "json", at=folder).json["invariants"]}
    assert {one["outcome"] for one in said.values()} == {"holds"}


def test_a_survey_says_what_workloads_run_as(enthesis: Program, works: Lab, tmp_path: Path) -> None:
    """What the files say of a resource stands first in a survey; what its cluster says of it must still count."""
    survey = str(tmp_path / "survey.jsonl")
    assert enthesis("survey", "--out", survey, at=works.folder).code == 0
    ran = enthesis("trace", "--journey", "the-shop-pulls", "--survey", survey, at=works.folder)
    assert ran.code == 0, ran.out


# -- registries that are not as they should be ----------------------------------------------------------------------


def jwt(sub: str) -> HeldCredential:
    parts = ({"alg": "ES256"}, {"sub": sub})
    text = ".".join(base64.urlsafe_b64encode(json.dumps(one).encode()).decode().rstrip("=") for one in parts)
    return HeldCredential(Secret(f"{text}.AA"), "session", timedelta(hours=1))


def registry(answers: dict[str, httpx.Response]) -> tuple[ImageRegistry, list[httpx.Request]]:
    seen: list[httpx.Request] = []

    def answer(request: httpx.Request) -> httpx.Response:
        seen.append(request)
        known = "authorization" in request.headers
        return answers.get(f"{request.method} {request.url.path}{'' if known else ' ?'}", httpx.Response(404, json={}))

    client = Client("images", "https://images.example", transport=httpx.MockTransport(answer))
    return ImageRegistry("a/registry/r", client), seen


def asks(realm: str) -> httpx.Response:
    return httpx.Response(
        401, headers={"WWW-Authenticate": f'Bearer realm="{realm}",service="s",scope="repository:i:pull"'}
    )


GOOD = {
    "GET /v2/i/manifests/latest ?": asks("https://images.example/token"),
    "GET /token": httpx.Response(200, json={"token": "t"}),
    "GET /v2/i/manifests/latest": httpx.Response(200, content=b"x"),
}
PULL = Attempt("pull", "a/registry/r/image/i")
WRONG: list[tuple[dict[str, httpx.Response], str]] = [
    ({"GET /v2/i/manifests/latest ?": asks("https://elsewhere.example/token")}, "go elsewhere"),
    ({"GET /v2/i/manifests/latest ?": asks("https://images.example.evil/token")}, "go elsewhere"),
    ({"GET /v2/i/manifests/latest ?": httpx.Response(200)}, "does not ask who calls"),
    ({"GET /token": httpx.Response(200, json={})}, "without a token"),
    ({"GET /v2/i/manifests/latest": httpx.Response(200, content=b"x", headers={"Docker-Content-Digest": "sha256:0"})},
     "another image"),
]  # fmt: skip


@pytest.mark.parametrize(("change", "said"), WRONG)
def test_a_registry_that_is_not_as_it_should_be_gets_nothing(change: dict[str, httpx.Response], said: str) -> None:
    images, seen = registry({**GOOD, **change})
    with pytest.raises(UnexpectedAnswer, match=said):
        images.attempt(jwt("a/identity/b"), PULL, Surroundings())
    assert all(request.url.host == "images.example" for request in seen)


def test_a_session_is_shown_to_the_token_service_alone() -> None:
    images, seen = registry(GOOD)
    assert not isinstance(images.attempt(jwt("a/identity/b"), PULL, Surroundings("192.0.2.7", "x")), Refusal)
    shown = [request.headers.get("authorization", "") for request in seen]
    assert [text.split(" ")[0] for text in shown] == ["", "Basic", "Bearer"] and shown[2] == "Bearer t"
    assert seen[1].headers["forwarded"] == "for=192.0.2.7" and seen[1].headers["agreed-reference"] == "x"


def test_a_registry_without_a_server_is_left_to_its_cloud(enthesis: Program, tmp_path: Path) -> None:
    text = ESTATE.replace('url: "https://images.works.example", ', "")
    place = write_estate(tmp_path / "plain", {"estate.yaml": text})
    assert enthesis("check", at=place).code == 0
    for wrong in ("ssh://x/y", "https://u:p@x", "https://x/y/z", "images"):
        write_estate(place, {"estate.yaml": ESTATE.replace("https://images.works.example", wrong)})
        ran: Any = enthesis("check", at=place)
        assert ran.code == 2 and "wrong-url" in ran.out

"""Servers of which nothing is known but their url: spoken to by open standards alone, and told what they lack."""

import base64
import json
import time
from collections.abc import Callable, Mapping
from datetime import timedelta
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs

import httpx
import jwt
import pytest
from joserfc.jwk import ECKey

from enthesis.connectors.http import Client
from enthesis.connectors.oauth import GivenToken, OAuthClient, OAuthProvider, Server, client_entry
from enthesis.model.errors import EnthesisError, InvalidInput, NotIssued, UnexpectedAnswer
from enthesis.model.estate import Exchange
from enthesis.model.secrets import Secret
from enthesis.ports import HeldCredential, Refusal, Surroundings

from .conftest import Lab, Program, write_estate
from .test_lab import Client as LabClient

URL = "https://desk.example"
WHOLE: dict[str, Any] = {
    "issuer": URL,
    "token_endpoint": f"{URL}/token",
    "grant_types_supported": ["client_credentials", "urn:ietf:params:oauth:grant-type:token-exchange"],
    "token_endpoint_auth_methods_supported": ["private_key_jwt", "client_secret_post"],
}
GOOD = {"access_token": "abc", "expires_in": 600, "token_type": "Bearer"}


def server(metadata: Mapping[str, Any], answer: Callable[[dict[str, str]], httpx.Response] | None = None) -> Server:
    """A server that never leaves this process."""

    def answering(request: httpx.Request) -> httpx.Response:
        if request.url.path.startswith("/.well-known/"):
            return httpx.Response(200, json=dict(metadata))
        form = {name: values[0] for name, values in parse_qs(request.content.decode()).items()}
        return answer(form) if answer else httpx.Response(200, json=GOOD)

    return Server("desk", Client("desk", URL, transport=httpx.MockTransport(answering)))


def without(name: str) -> dict[str, Any]:
    return {key: value for key, value in WHOLE.items() if key != name}


KEY = ECKey.generate_key("P-256", {"kid": "mine"})
CLIENT = {"client_id": "tide-job", "private_key": KEY.as_dict(private=True)}
SECRET = {"client_id": "tide-job", "client_secret": "wrung-from-nobody"}


def test_a_client_signs_its_own_assertion_for_this_server_and_for_a_moment() -> None:
    seen: list[dict[str, str]] = []

    def answer(form: dict[str, str]) -> httpx.Response:
        seen.append(form)
        return httpx.Response(200, json=GOOD)

    got = OAuthClient("desk", server(WHOLE, answer), CLIENT).obtain({"aud": "lowland"})
    assert got.secret.reveal() == "abc" and got.life.total_seconds() == 600
    (form,) = seen
    assert (form["grant_type"], form["audience"]) == ("client_credentials", "lowland")
    assert form["client_assertion_type"] == "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
    claims = jwt.decode(form["client_assertion"], KEY.public_key, algorithms=["ES256"], audience=URL)
    assert claims["iss"] == claims["sub"] == "tide-job" and claims["exp"] - time.time() <= 60
    OAuthClient("desk", server(WHOLE, answer), SECRET).obtain({})
    assert seen[1]["client_secret"] == SECRET["client_secret"] and "client_assertion" not in seen[1]
    assert "wrung" not in repr(OAuthClient("desk", server(WHOLE), SECRET))


@pytest.mark.parametrize(
    ("metadata", "entry", "says"),
    [
        ({**WHOLE, "issuer": "https://other.example"}, CLIENT, "says that it is another server"),
        (without("token_endpoint"), CLIENT, "has no token endpoint"),
        ({**WHOLE, "token_endpoint": "http://desk.example/token"}, CLIENT, "has no token endpoint"),
        ({**WHOLE, "grant_types_supported": ["password"]}, CLIENT, "does not offer client credentials"),
        (without("grant_types_supported"), CLIENT, "does not offer client credentials"),
        (without("token_endpoint_auth_methods_supported"), CLIENT, "takes no client assertions"),
        ({**WHOLE, "token_endpoint_auth_methods_supported": ["none"]}, SECRET, "takes no client secret"),
        (WHOLE, {"client_id": "x"}, "neither a private_key nor a client_secret"),
        (WHOLE, {"private_key": {}}, "has no client_id"),
        (WHOLE, {"client_id": "x", "private_key": {"kty": "oct", "k": "AA"}}, "cannot be used"),
    ],
)
def test_what_a_server_or_a_client_lacks_is_said(metadata: Any, entry: Any, says: str) -> None:
    with pytest.raises(EnthesisError, match=says):
        OAuthClient("desk", server(metadata), entry).obtain({})


@pytest.mark.parametrize(
    ("status", "body", "fault"),
    [
        (400, {"error": "invalid_grant", "error_description": "no"}, NotIssued),
        (200, {"access_token": "abc"}, UnexpectedAnswer),
        (200, {"expires_in": 5}, UnexpectedAnswer),
        (500, {}, UnexpectedAnswer),
        (400, {"error": "server_error"}, UnexpectedAnswer),
    ],
)
def test_answers_that_are_no_tokens(status: int, body: Any, fault: type[Exception]) -> None:
    asked = OAuthClient("desk", server(WHOLE, lambda form: httpx.Response(status, json=body)), SECRET)
    with pytest.raises(fault):
        asked.obtain({})


def test_a_provider_is_asked_as_the_estate_says() -> None:
    seen: list[tuple[dict[str, str], str]] = []

    def answering(request: httpx.Request) -> httpx.Response:
        if request.url.path.startswith("/.well-known/"):
            return httpx.Response(200, json={**WHOLE, "token_endpoint_auth_methods_supported": ["client_secret_basic"]})
        form = {name: values[0] for name, values in parse_qs(request.content.decode()).items()}
        seen.append((form, request.headers.get("authorization", "")))
        return httpx.Response(200, json=GOOD)

    there = Server("desk", Client("desk", URL, transport=httpx.MockTransport(answering)))
    shown = HeldCredential(Secret("t"), "token", timedelta(0))
    exchange = Exchange(
        names_in="audience", named="//desk/{account}/{name}", names={"left/identity/b": "other"}, client="basic",
        shown_as="id-token", wanted="none", more={"options": "all"},
    )  # fmt: skip
    provider = OAuthProvider("desk", there, exchange, {"client_id": "a:b", "client_secret": "wrung from nobody"})
    for name in ("a", "b"):
        assert isinstance(provider.take_on(shown, f"left/identity/{name}", None, Surroundings()), HeldCredential)
    (first, header), (second, _) = seen
    assert first["audience"] == "//desk/left/a" and second["audience"] == "other" and "resource" not in first
    assert first["subject_token_type"].endswith(":id_token") and "requested_token_type" not in first
    assert first["options"] == "all" and "client_secret" not in first
    assert base64.b64decode(header.removeprefix("Basic ")) == b"a%3Ab:wrung+from+nobody"
    with pytest.raises(InvalidInput, match="wants to know which client asks"):
        OAuthProvider("desk", there, exchange).take_on(shown, "left/identity/a", None, Surroundings())
    issuer = OAuthClient("desk", there, SECRET, Exchange(names_in="scope", more={"tenant": "tides"}))
    issuer.obtain({"aud": "lowland"})
    assert seen[-1][0]["scope"] == "lowland" and seen[-1][0]["tenant"] == "tides"


def test_a_token_for_several_audiences_is_for_each_of_them() -> None:
    claims = {"sub": "a", "aud": ["one", "two"], "exp": time.time() + 60}
    token = GivenToken("forge", Secret(jwt.encode(claims, KEY.as_pem(private=True), algorithm="ES256")))
    for audience in ("one", "two", ("one", "two")):
        assert token.obtain({"sub": "a", "aud": audience}).form == "token"
    for other in ({"aud": "three"}, {"sub": "b", "aud": "one"}, {"aud": ("two", "one")}):
        with pytest.raises(NotIssued):
            token.obtain(other)


@pytest.mark.parametrize(
    ("exchange", "says"),
    [
        ("{names_in: target}", "expected one of resource, audience, scope"),
        ("{client: password}", "expected one of none, basic, body, assertion"),
        ("{more: {client_secret: x}}", "is a parameter that Enthesis sets itself"),
        ("{names: {left/identity/nobody: x}}", "left/identity/nobody"),
        ("{wanted: all}", "expected one of jwt, id-token, access-token, none"),
    ],
)
def test_file_errors_in_how_a_service_is_asked_are_found(
    enthesis: Program, tmp_path: Path, exchange: str, says: str
) -> None:
    text = f"estate: e\nproviders: {{north: {{style: one-sided, url: 'https://n.example', exchange: {exchange}}}}}\n"
    ran = enthesis("check", at=write_estate(tmp_path, {"estate.yaml": text}))
    assert ran.code == 2 and says in ran.err + ran.out, ran.err + ran.out


def test_an_exchange_is_refused_as_access_or_is_no_answer() -> None:
    shown = HeldCredential(Secret("t"), "token", timedelta(0))
    provider = OAuthProvider("desk", server(WHOLE))
    got = provider.take_on(shown, "left/identity/a", None, Surroundings())
    assert isinstance(got, HeldCredential)
    refusing = server(WHOLE, lambda form: httpx.Response(400, json={"error": "invalid_target"}))
    refused = OAuthProvider("desk", refusing).take_on(shown, "left/identity/a", None, Surroundings())
    assert isinstance(refused, Refusal) and refused.steps == ("target-side",)
    lacking = server({**WHOLE, "grant_types_supported": ["client_credentials"]})
    with pytest.raises(InvalidInput, match="does not offer token exchange"):
        OAuthProvider("desk", lacking).take_on(shown, "left/identity/a", None, Surroundings())
    with pytest.raises(EnthesisError):
        client_entry(b"[]", "desk")


def test_a_journey_over_two_servers_with_a_token_at_hand_and_no_lab_of_its_own(
    enthesis: Program, enacted_lab: Lab, tmp_path: Path
) -> None:
    """The lab of another estate stands for somebody's own servers: only their urls and their authority are known."""
    estate = (enacted_lab.folder / "estate.yaml").read_text()
    urls = enacted_lab.services
    estate = estate.replace("lowland:  {style: two-sided}", f"lowland: {{style: two-sided, url: '{urls['lowland']}'}}")
    estate = estate.replace("https://forge.saltmarsh.example", urls["forge"])
    journeys = """
journeys:
  takes-on: {from: {token: forge, claims: {sub: project/tides/bulletin/branch/main, aud: lowland, event: push}},
    through: [build/identity/publisher, bulletin/identity/page-writer], expect: allowed, keyless: true}
  another-branch: {from: {token: forge, claims: {sub: project/tides/bulletin/branch/other, aud: lowland, event: push}},
    through: [build/identity/publisher], expect: refused}
"""
    files = {
        "estate.yaml": estate, "expected.yaml": journeys,
        "publishing.yaml": (enacted_lab.folder / "publishing.yaml").read_text(),
    }  # fmt: skip
    folder = write_estate(tmp_path / "mine", files)
    client = LabClient(enacted_lab)
    with client.http:
        token = client.token()
    (folder / "token").write_text(token)
    more = {"SSL_CERT_FILE": enacted_lab.authority}
    ran = enthesis("prove", "takes-on", "--token", "forge=token", at=folder, **more)
    assert ran.code == 0, ran.out + ran.err
    assert "Tried at the servers of this estate." in ran.err
    ran = enthesis("prove", "another-branch", "--token", "forge=token", at=folder, **more)
    assert ran.code == 1 and "shows another sub" in ran.out
    assert token not in ran.out + ran.err
    ran = enthesis("prove", "takes-on", "--token", "forge=token", at=folder)  # whose authority nobody knows here
    assert ran.code == 1 and "cannot be reached" in ran.out
    (tmp_path / "client.json").write_text(json.dumps(CLIENT))
    ran = enthesis("prove", "takes-on", "--client", "forge=../client.json", at=folder, **more)
    assert ran.code == 1 and "has no token endpoint" in ran.out, ran.out + ran.err
    for wrong in (("--token", "forge"), ("--token", "nobody=token"), ("--client", "forge=none.json")):
        assert enthesis("prove", *wrong, at=folder, **more).code == 2
    ran = enthesis("prove", at=folder)
    assert ran.code == 3 and "no other connection is configured" in ran.err

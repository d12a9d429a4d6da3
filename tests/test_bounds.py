"""Nothing of ours and nothing of a library escapes: bounds on work become answers, answers of live systems are read.

Each bound is set so low that it is met, and each port is asked of servers that answer with anything at all.
"""

import base64
import json
import os
import ssl
import sys
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs

import httpx
import pytest

from enthesis.cli.main import run as run_commands
from enthesis.connectors.cloud import Cloud
from enthesis.connectors.cluster.changing import AdministeredCluster
from enthesis.connectors.cluster.surveying import Cluster
from enthesis.connectors.directory import Directory, LabDirectory
from enthesis.connectors.hosts import Hosts
from enthesis.connectors.http import Client, Connection, told
from enthesis.connectors.keys import IssuerKeys
from enthesis.connectors.oauth import OAuthClient, OAuthProvider, Server
from enthesis.connectors.pipeline import Pipeline
from enthesis.model.errors import EnthesisError, Unreachable
from enthesis.model.estate import Attempt
from enthesis.model.secrets import Secret, redacted
from enthesis.ports import HeldCredential, HeldKey, Surroundings, WantedKey
from enthesis.proposals.steps import MAKE, Step

from .conftest import copied

# -- bounds on work ---------------------------------------------------------------------------------------------------

BOUNDS = (
    ("chains.chains", "MAX_LABELS"), ("access.requirements", "MAX_CHOICES"), ("chains.differences", "MAX_TRIPLES"),
    ("chains.differences", "MAX_TRIED"), ("chains.differences", "MAX_WALKED"), ("chains.changes", "MAX_REQUESTS"),
    ("conditions.patterns", "MAX_STATES"), ("conditions.values", "MAX_WAYS"), ("conditions.callers", "MAX_STEPS"),
)  # fmt: skip
PAGES = "bulletin/bucket/public-pages"
ASKED = (
    ("check",),
    ("check", "--by-change"),
    ("check", "--compared-with", "../other"),
    ("check", "--compared-with", "../other", "--fail-on-gain", f"write {PAGES}"),
    ("trace", "--journey", "publish-from-main"),
    ("trace", "--journey", "publish-from-a-side-branch"),
    ("reach", "--from", "forge"),
    ("reach", "--to", f"{PAGES}/object/a", "--by-change"),
    ("admit", "build/identity/publisher"),
    ("card", "build/identity/publisher"),
)
TOLD = {"MAX_LABELS", "MAX_CHOICES", "MAX_TRIPLES", "MAX_WALKED", "MAX_REQUESTS"}  # met by these questions


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """The worked example with a condition at every step, and another version of it."""
    other = copied(tmp_path / "other")
    folder = copied(tmp_path / "saltmarsh")
    for place, network in ((other, "10.0.0.0/8"), (folder, "10.1.0.0/16")):
        text = (place / "publishing.yaml").read_text(encoding="utf-8")
        text = text.replace(
            f"at: {PAGES}}}", f"at: {PAGES}, when: {{network: {{within: [{network}, 192.0.2.0/24]}}}}}}"
        )
        text = text.replace("sub: project/tides/bulletin/branch/main", "sub: {glob: 'project/tides/*/branch/m*'}")
        (place / "publishing.yaml").write_text(text, encoding="utf-8")
    return folder


@pytest.mark.parametrize(("module", "bound"), BOUNDS)
@pytest.mark.attack("work without an end")
def test_a_bound_on_work_is_an_answer_in_every_command(
    module: str, bound: str, folder: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(folder)
    monkeypatch.setenv("XDG_CACHE_HOME", str(folder.parent / "cache"))
    monkeypatch.setattr(f"enthesis.{module}.{bound}", 0)
    said = ""
    for words in ASKED:
        monkeypatch.setattr(sys, "argv", ["enthesis", *words])
        try:
            run_commands()
            code: Any = 0
        except SystemExit as ended:
            code = ended.code
        captured = capsys.readouterr()
        assert code in (0, 1, 5, None), (words, code, captured.err)
        said += captured.out + captured.err
    assert ("ot decided" in said) or bound not in TOLD, said
    assert os.environ["XDG_CACHE_HOME"]


# -- servers that answer with anything --------------------------------------------------------------------------------

URL = "https://x.example"
WELL = {
    "issuer": URL, "token_endpoint": f"{URL}/token", "jwks_uri": f"{URL}/keys", "revocation_endpoint": f"{URL}/revoke",
    "device_authorization_endpoint": f"{URL}/device",
    "grant_types_supported": ["client_credentials", "urn:ietf:params:oauth:grant-type:token-exchange"],
    "token_endpoint_auth_methods_supported": ["client_secret_post"],
}  # fmt: skip
HUGE = 10**40
NAMES = (
    "items", "accounts", "people", "resources", "access_token", "expires_in", "identities", "keys", "status",
    "metadata", "host", "token",
)  # fmt: skip
LONG = {
    "access_token": "t", "token": "t", "expires_in": HUGE, "renew_in": HUGE, "host": "a/host/h", "interval": -HUGE,
    "identity": "a/identity/i", "status": {"token": "t", "expirationTimestamp": "9"}, "device_code": "d",
    "user_code": "u", "verification_uri": URL,
}  # fmt: skip
ITEM = {"id": "1", "holder": "a", "address": "a/identity/i"}
VALUES: dict[str, Any] = {
    "a list": [1, 2], "nothing in it": {}, "texts": dict.fromkeys(NAMES, "text"), "numbers": dict.fromkeys(NAMES, HUGE),
    "huge life": LONG, "wrong items": {"items": [None, 7, {}, {"metadata": None}, {"metadata": {}}, {"id": 3}]},
    "half items": {"items": [ITEM], "accounts": None, "resources": [[]], "people": 4},
}  # fmt: skip
BODIES = {
    "empty": b"", "no JSON": b"\xff\xfe<html>", "nested": b"[" * 50_000,
    **{name: json.dumps(value).encode() for name, value in VALUES.items()},
}  # fmt: skip
STATUSES = (200, 201, 302, 401, 404, 500)
CONTEXT = ssl.create_default_context()


def answers() -> Iterator[tuple[str, Callable[[httpx.Request], httpx.Response]]]:
    """Every way to answer, with its name; discovery is well-formed unless everything is wrong."""

    def fails(kind: type[Exception]) -> Callable[[httpx.Request], httpx.Response]:
        def answer(request: httpx.Request) -> httpx.Response:
            raise kind("broken")

        return answer

    for kind in (httpx.ConnectError, httpx.ReadTimeout, httpx.RemoteProtocolError, httpx.ReadError):
        yield kind.__name__, fails(kind)
    for name, body in BODIES.items():
        for status in STATUSES:

            def answer(request: httpx.Request, body: bytes = body, status: int = status) -> httpx.Response:
                if "well-known" in request.url.path and status != 500:
                    return httpx.Response(200, json=WELL)
                return httpx.Response(status, content=body, headers={"Location": f"{URL}/trials/1"})

            yield f"{status} {name}", answer


CREDENTIAL = HeldCredential(Secret("what-is-shown-here"), "session", timedelta(minutes=5))
TOKEN = HeldCredential(Secret("what-is-shown-here"), "token", timedelta(minutes=5))
NOW = datetime(2026, 11, 24, tzinfo=UTC)
IDENTITY = {"address": "a/identity/i", "kind": "service-account"}
STEP = Step(MAKE, "x", "identities", "a", "the service-account a/identity/i", "mark", IDENTITY)
READ, WRITE = Attempt("read", "a/bucket/b/object/o"), Attempt("write", "a/bucket/b/object/o")
SECRET = Attempt("read", "a/cluster/c/namespace/n/secret/s")
ACCOUNT = "a/cluster/c/namespace/n/identity/i"


def asked_of(client: Client, transport: httpx.BaseTransport) -> Iterator[tuple[str, Callable[[], object]]]:
    """Every method of every port that a connector of ours has, as a question to one server."""
    cloud = Cloud("x", client, {"a": Secret("session-of-administrators")})
    asked = Surroundings("10.0.0.1", "r")
    yield "Administered.survey", lambda: cloud.survey(["a"])
    yield "Administered.change", lambda: cloud.change(STEP, {})
    yield "TakesOn.take_on", lambda: cloud.take_on(TOKEN, "a/identity/i", {"object": ("read",)}, asked)
    yield "TakesKeys.by_key", lambda: cloud.by_key(HeldKey("1", "access-key", Secret("value-of-a-key")))
    yield "RunsCode.run_on", lambda: cloud.run_on(CREDENTIAL, "a/host/h", "login", asked)
    yield "Attempts.attempt read", lambda: cloud.attempt(CREDENTIAL, READ, asked)
    yield "Attempts.attempt write", lambda: cloud.attempt(CREDENTIAL, WRITE, asked)
    yield "KeepsKeys.make_key", lambda: cloud.make_key("a", WantedKey("k", "a/identity/i", "access-key", NOW, "why"))
    yield "KeepsKeys.keys", lambda: cloud.keys(["a"])
    yield "KeepsKeys.revoke_credential", lambda: cloud.revoke_credential("a", "1")
    pipeline = Pipeline("x", client)
    yield "Issues.obtain", lambda: pipeline.obtain({"sub": "s", "aud": "a"})
    yield "KeepsPipelineAccess.use_pipeline_access", lambda: pipeline.use_pipeline_access("l", {"sub": "s"})
    hosts = Hosts(client)
    yield "RunsHosts.take_on", lambda: hosts.take_on(hosts.seat("a/host/h"), "a/identity/i", None, asked)
    directory, acting = Directory("@x", client), LabDirectory("@x", client, {})
    yield "SignsIn.sign_in", lambda: directory.sign_in(lambda code, page: None, waits)
    yield "SignsIn.sign_in_as", lambda: acting.sign_in_as("@x/identity/p", None)
    yield "SignsIn.forget", lambda: directory.forget(Secret("sign-in-of-somebody"))
    server = Server("x", client)
    yield "OAuth take_on", lambda: OAuthProvider("x", server).take_on(TOKEN, "a/identity/i", None, asked)
    entry = {"client_id": "c", "client_secret": "secret-of-a-client"}
    yield "OAuth obtain", lambda: OAuthClient("x", server, entry).obtain({"aud": "a"})
    cluster = Cluster("a/cluster/c", "here", client, Secret("token-of-a-cluster"))
    live = AdministeredCluster(cluster)
    yield "Surveys.records of a cluster", lambda: list(cluster.records(lambda what: None))
    yield "cluster survey", lambda: live.survey(["a"])
    yield "cluster change", lambda: live.change(STEP, {})
    yield "cluster take_on", lambda: live.take_on(live.seat("a/cluster/c/namespace/n/workload/w"), ACCOUNT, None, asked)
    yield "cluster token_for", lambda: live.token_for(ACCOUNT, timedelta(minutes=5))
    yield "cluster obtain", lambda: live.obtain({"sub": "system:serviceaccount:n:i", "aud": "a"})
    yield "cluster attempt", lambda: live.attempt(CREDENTIAL, SECRET, asked)
    keys = IssuerKeys("x", URL, lambda: 0.0, transport=transport)
    yield "issuer keys", lambda: keys.keys_for("one")
    yield "Surveys.records of an issuer", lambda: list(keys.records(lambda what: None))


def waits(seconds: float) -> None:
    """Waits for somebody to agree, and is tired of it at once."""
    assert 0 < seconds < 3600
    raise Unreachable("nobody waits as long", code="timeout")


def port_names() -> list[str]:
    with Client("x", URL, way=Connection(CONTEXT)) as client:
        return [name for name, _ in asked_of(client, httpx.MockTransport(lambda request: httpx.Response(200)))]


@pytest.mark.parametrize("port", port_names())
@pytest.mark.attack("servers that answer with anything")
def test_no_foreign_exception_escapes_a_port(
    monkeypatch: pytest.MonkeyPatch, port: str, attempts: Callable[[int], None]
) -> None:
    monkeypatch.setattr(Client, "sleep", lambda seconds: None)
    outcomes = set()
    every = list(answers())
    for how, answer in every[:: 5 if "issuer" in port else 1]:  # which sets up TLS anew for each
        transport = httpx.MockTransport(answer)
        with Client("x", URL, way=Connection(CONTEXT), transport=transport) as client:
            ask = dict(asked_of(client, transport))[port]
            try:
                ask()
                outcomes.add("answered")
            except EnthesisError as fault:
                assert fault.message, how
                outcomes.add(fault.code)
            except Exception as fault:
                raise AssertionError(f"{port}, {how}: {type(fault).__name__}: {fault}") from fault
    assert outcomes, port
    attempts(len(every[:: 5 if "issuer" in port else 1]))


SECRETS = (
    "session-of-administrators", "what-is-shown-here", "value-of-a-key", "secret-of-a-client", "token-of-a-cluster",
    "sign-in-of-somebody", base64.b64encode(b"1:value-of-a-key").decode(),
)  # fmt: skip


def test_no_half_of_a_secret_is_told() -> None:
    secret = Secret("abcdefgh" * 40)
    for before in range(0, 300, 7):
        assert "abcdefgh" not in told("x" * before + secret.reveal())


def echo(request: httpx.Request) -> httpx.Response:
    """Repeats everything that it was sent, and refuses."""
    if "well-known" in request.url.path:
        return httpx.Response(200, json=WELL)
    shown = request.headers.get("authorization", "")
    basic = base64.b64decode(shown.removeprefix("Basic ")).decode() if shown.startswith("Basic ") else ""
    form = dict(
        sorted(parse_qs(request.content.decode(errors="replace")).items(), key=lambda one: "secret" not in one[0])
    )
    said = f"{shown} {basic} {form} {request.content.decode(errors='replace')} {request.url} {dict(request.headers)}"
    body = {"type": "x", "title": said, "detail": said, "message": said, "error": "x", "error_description": said}
    return httpx.Response(400, json=body)


@pytest.mark.attack("echoed secrets")
@pytest.mark.parametrize("port", [name for name in port_names() if "issuer" not in name])
def test_what_a_server_repeats_is_masked_at_every_client(
    monkeypatch: pytest.MonkeyPatch, port: str, attempts: Callable[[int], None]
) -> None:
    monkeypatch.setattr(Client, "sleep", lambda seconds: None)
    statuses = (400, 401, 403, 404, 409, 422, 500)
    attempts(len(statuses))
    for status in statuses:

        def answer(request: httpx.Request, status: int = status) -> httpx.Response:
            echoed = echo(request)
            return echoed if "well-known" in request.url.path else httpx.Response(status, content=echoed.content)

        transport = httpx.MockTransport(answer)
        with Client("x", URL, way=Connection(CONTEXT), transport=transport) as client:
            try:
                said = repr(dict(asked_of(client, transport))[port]())
            except EnthesisError as fault:
                said = f"{fault.message} {fault.remedy}"
        shown = redacted(said)
        assert not [one for one in SECRETS if one in shown], (status, shown)

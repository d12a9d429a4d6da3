"""A registry of one's own, for real: tokens of our provider open it, and no lab is needed."""

import base64
import datetime
import json
import os
import shutil
import subprocess
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

import httpx
import jwt
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from .conftest import Program, write_estate
from .test_own_hosts import free_port

ESTATE = """
estate: crates
organisations: {{home: {{}}}}
providers: {{cloud: {{style: one-sided, url: "{cloud}"}}}}
accounts: {{works: {{in: "@home", provider: cloud}}}}
issuers: {{forge: {{kind: oidc, url: "https://forge.example"}}}}
resources: {{works/registry/crates: {{url: "{registry}", shared_login: off}}}}
identities:
  works/identity/packer: {{kind: service-account, owner: us, purpose: pushes images}}
  works/identity/reader: {{kind: service-account, owner: us, purpose: pulls images}}
roles:
  packing: {{allows: {{image: [list, pull, push]}}}}
  pulling: {{allows: {{image: [list, pull]}}}}
grants:
  - {{to: works/identity/packer, role: packing, at: works/registry/crates}}
  - {{to: works/identity/reader, role: pulling, at: works/registry/crates}}
trusts:
  - {{of: works/identity/packer, admits: {{token: forge, claims: {{sub: main, aud: cloud}}}}}}
  - {{of: works/identity/reader, admits: {{token: forge, claims: {{sub: main, aud: cloud}}}}}}
journeys:
  packs:
    from: {{token: forge, claims: {{sub: main, aud: cloud}}}}
    through: [works/identity/packer]
    attempt: push works/registry/crates/image/team/app
    expect: allowed
  reads:
    from: {{token: forge, claims: {{sub: main, aud: cloud}}}}
    through: [works/identity/reader]
    attempt: pull works/registry/crates/image/team/app
    expect: allowed
  only-reads:
    from: {{token: forge, claims: {{sub: main, aud: cloud}}}}
    through: [works/identity/reader]
    attempt: push works/registry/crates/image/team/app
    expect: refused
"""
CONFIG = """
version: 0.1
storage: {{filesystem: {{rootdirectory: {folder}/data}}}}
http: {{addr: "127.0.0.1:{port}", secret: made-up}}
auth: {{token: {{realm: "{realm}", service: crates, issuer: cloud, rootcertbundle: {bundle}}}}}
"""
MAY = {"works/identity/packer": ("pull", "push", "delete"), "works/identity/reader": ("pull",)}


class Provider:
    """A provider that knows token exchange (RFC 8693), and gives the tokens that the registry asks for."""

    def __init__(self) -> None:
        self.key = ec.generate_private_key(ec.SECP256R1())
        self.certificate = self._certified()
        server = self.server = ThreadingHTTPServer(("127.0.0.1", 0), self._handler())
        self.url = f"http://127.0.0.1:{server.server_port}"
        threading.Thread(target=server.serve_forever, daemon=True).start()

    def _certified(self) -> bytes:
        name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "cloud")])
        now = datetime.datetime.now(datetime.UTC)
        built = x509.CertificateBuilder(
            name, name, self.key.public_key(), 1, now - datetime.timedelta(1), now + datetime.timedelta(1)
        )
        return built.sign(self.key, hashes.SHA256()).public_bytes(serialization.Encoding.DER)

    def end(self) -> None:
        self.server.shutdown()
        self.server.server_close()

    def signed(self, claims: dict[str, Any]) -> str:
        shown = [base64.b64encode(self.certificate).decode()]
        return jwt.encode({**claims, "exp": int(time.time()) + 60}, self.key, "ES256", {"x5c": shown})

    def _handler(self) -> type[BaseHTTPRequestHandler]:
        provider = self

        class Handler(BaseHTTPRequestHandler):
            def log_message(self, *said: object) -> None: ...

            def answer(self, body: dict[str, Any], status: int = 200) -> None:
                content = json.dumps(body).encode()
                self.send_response(status)
                self.send_header("Content-Type", "application/json")
                self.send_header("Content-Length", str(len(content)))
                self.end_headers()
                self.wfile.write(content)

            def do_POST(self) -> None:
                form = parse_qs(self.rfile.read(int(self.headers["Content-Length"])).decode())
                body = {"access_token": provider.signed({"sub": form["resource"][0]}), "token_type": "Bearer"}
                self.answer({**body, "expires_in": 60, "issued_token_type": form["requested_token_type"][0]})

            def do_GET(self) -> None:
                asked = urlsplit(self.path)
                if asked.path.startswith("/.well-known/"):
                    grants = ["urn:ietf:params:oauth:grant-type:token-exchange"]
                    self.answer(
                        {
                            "issuer": provider.url, "token_endpoint": f"{provider.url}/token",
                            "grant_types_supported": grants,
                        }
                    )  # fmt: skip
                    return
                shown = base64.b64decode(self.headers.get("Authorization", "").removeprefix("Basic ")).decode()
                user, _, session = shown.partition(":")
                who = jwt.decode(session, provider.key.public_key(), ["ES256"])["sub"]
                if who != unquote(user):
                    self.answer({"details": "incorrect username or password"}, 401)
                    return
                query, access = parse_qs(asked.query), []
                for scope in query.get("scope", []):
                    kind, name, wanted = scope.split(":")
                    actions = [one for one in wanted.split(",") if one in MAY[who.partition("/places/")[2]]]
                    access.append({"type": kind, "name": name, "actions": actions})
                self.answer({"token": provider.signed({"iss": "cloud", "aud": query["service"][0], "access": access})})

        return Handler


def started(folder: Path, realm: str, bundle: bytes) -> Iterator[str]:
    """The real server with tokens from `realm`, which a key in `bundle` must have signed."""
    program = shutil.which("docker-registry")
    if program is None:
        if "TESTS_NEED_REGISTRY" in os.environ:
            pytest.fail("no registry server is installed")
        pytest.skip("no registry server is installed")
    (folder / "bundle.pem").write_bytes(bundle)
    port = free_port()
    said = CONFIG.format(folder=folder, port=port, realm=realm, bundle=folder / "bundle.pem")
    (folder / "config.yml").write_text(said)
    with (folder / "log").open("wb") as log:
        process = subprocess.Popen([program, "serve", str(folder / "config.yml")], stdout=log, stderr=log)
    try:
        for _ in range(200):
            try:
                httpx.get(f"http://127.0.0.1:{port}/v2/")
                break
            except httpx.HTTPError:
                time.sleep(0.05)
        yield f"http://127.0.0.1:{port}"
    finally:
        process.kill()
        process.wait()


@pytest.fixture
def provider() -> Iterator[Provider]:
    made = Provider()
    yield made
    made.end()


@pytest.fixture
def registry(provider: Provider, tmp_path: Path) -> Iterator[str]:
    (tmp_path / "server").mkdir()
    yield from started(tmp_path / "server", f"{provider.url}/images", in_pem(provider.certificate))


def stranger() -> bytes:
    other = Provider()
    other.end()
    return other.certificate


def in_pem(certificate: bytes) -> bytes:
    return x509.load_der_x509_certificate(certificate).public_bytes(serialization.Encoding.PEM)


def prepared(folder: Path, cloud: str, registry: str) -> Path:
    claims = {"sub": "main", "aud": "cloud", "exp": int(time.time()) + 600}
    token = jwt.encode(claims, ec.generate_private_key(ec.SECP256R1()), "ES256")
    return write_estate(folder / "mine", {"estate.yaml": ESTATE.format(cloud=cloud, registry=registry), "token": token})


def test_it_is_pushed_to_and_pulled_from_for_real(
    enthesis: Program, provider: Provider, registry: str, tmp_path: Path
) -> None:
    folder = prepared(tmp_path, provider.url, registry)
    ran = enthesis("prove", "--token", "forge=token", "--format", "json", at=folder)
    assert ran.code == 0, ran.out + ran.err
    told = {evidence["said"] for one in ran.json["journeys"] for evidence in one["evidence"]}
    assert "an upload was begun, seen and cancelled" in told, told
    ends = {one["journey"]: one for one in ran.json["journeys"]}
    assert [ends[name]["outcome"] for name in ("packs", "reads", "only-reads")] == ["allowed", "allowed", "refused"]
    kept = tmp_path / "server" / "data/docker/registry/v2/repositories/team/app"
    assert not list(kept.glob("_uploads/*/data")), "what was begun is cancelled"


def test_what_it_does_not_let_be_cancelled_is_said(
    enthesis: Program, provider: Provider, registry: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setitem(MAY, "works/identity/packer", ("pull", "push"))
    folder = prepared(tmp_path, provider.url, registry)
    ran = enthesis("prove", "packs", "--token", "forge=token", "--format", "json", at=folder)
    assert ran.code == 0 and "may not cancel it" in ran.out, ran.out + ran.err


def test_what_it_does_not_trust_is_no_refusal_of_access(enthesis: Program, provider: Provider, tmp_path: Path) -> None:
    (tmp_path / "server").mkdir()
    for url in started(tmp_path / "server", f"{provider.url}/images", in_pem(stranger())):
        ran = enthesis("prove", "only-reads", "--token", "forge=token", at=prepared(tmp_path, provider.url, url))
        assert ran.code == 1 and "does not trust the tokens of its own token service" in ran.out, ran.out + ran.err


def test_a_session_goes_to_its_provider_and_the_registry_alone(
    enthesis: Program, provider: Provider, tmp_path: Path
) -> None:
    (tmp_path / "server").mkdir()
    elsewhere = f"http://127.0.0.1:{free_port()}/images"
    for url in started(tmp_path / "server", elsewhere, in_pem(provider.certificate)):
        ran = enthesis("prove", "packs", "--token", "forge=token", at=prepared(tmp_path, provider.url, url))
        assert ran.code == 1 and "wants sessions to go elsewhere" in ran.out, ran.out + ran.err


@pytest.mark.parametrize("url", ["http://127.0.0.1.example:5000", "http://images.example", "ftp://127.0.0.1"])
def test_elsewhere_than_on_this_machine_it_needs_tls(enthesis: Program, tmp_path: Path, url: str) -> None:
    folder = prepared(tmp_path, "https://cloud.example", url)
    ran = enthesis("check", at=folder)
    assert ran.code == 2 and "wrong-url" in ran.err + ran.out

"""The lab's authorization servers, asked as their texts say: RFC 6749, 6750, 7009, 7662, 8414, 8628, 8693."""

import base64
import json
import ssl
from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import urlencode

import httpx
import pytest

from .conftest import Lab, Program, start_lab, write_estate

EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"
DEVICE = "urn:ietf:params:oauth:grant-type:device_code"
ACCESS = "urn:ietf:params:oauth:token-type:access_token"
JWT = "urn:ietf:params:oauth:token-type:jwt"
ESTATE = """
estate: works
organisations: {works: {}}
providers: {north: {style: two-sided}}
accounts: {yard: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc}}
identities:
  "@works/identity/ada": {kind: person, owner: works}
  yard/identity/runner: {kind: service-account, owner: web, purpose: runs}
trusts:
  - {of: yard/identity/runner, admits: {token: forge, claims: {sub: project/a/branch/main, aud: north}}}
"""


@pytest.fixture(scope="module")
def lab(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    folder = write_estate(tmp_path_factory.mktemp("oauth"), {"estate.yaml": ESTATE})
    try:
        started = start_lab(enthesis, folder)
        assert enthesis("enact", "--yes", at=folder).code == 0
        yield started
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


class Asked:
    """One service of the lab, asked in plain HTTP."""

    def __init__(self, lab: Lab, service: str) -> None:
        self.url = lab.services[service]
        verify = ssl.create_default_context(cafile=lab.authority)
        self.http = httpx.Client(base_url=self.url, verify=verify, trust_env=False)

    def form(self, path: str, *pairs: tuple[str, str], **more: Any) -> httpx.Response:
        headers = {"Content-Type": "application/x-www-form-urlencoded", **more.pop("headers", {})}
        return self.http.post(path, content=urlencode([*pairs, *more.items()]), headers=headers)


@pytest.fixture
def cloud(lab: Lab) -> Iterator[Asked]:
    found = Asked(lab, "north")
    with found.http:
        yield found


@pytest.fixture
def directory(lab: Lab) -> Iterator[Asked]:
    found = Asked(lab, "@works")
    with found.http:
        yield found


@pytest.fixture
def session(lab: Lab, cloud: Asked) -> str:
    """A session of the runner, for a run's token."""
    answer = cloud.form("/token", **exchange(lab, cloud))
    assert answer.status_code == 200, answer.text
    return str(answer.json()["access_token"])


def owner(lab: Lab) -> str:
    listed = json.loads((lab.folder / ".enthesis" / "lab" / "administrators.json").read_text())
    return str(next(one["lab-owner"] for one in listed if "lab-owner" in one))


def exchange(lab: Lab, cloud: Asked) -> dict[str, str]:
    """The parameters of an exchange that is granted."""
    forge = Asked(lab, "forge")
    with forge.http:
        headers = {"Lab-Owner": owner(lab)}
        run = forge.http.post("/runs", json={"project": "a", "branch": "main"}, headers=headers).json()
        token = forge.http.post(run["token_endpoint"], json={"audience": "north"}, headers=headers).json()["token"]
    return {
        "grant_type": EXCHANGE, "subject_token": token, "subject_token_type": JWT,
        "resource": f"{cloud.url}/places/yard/identity/runner",
    }  # fmt: skip


def error(answer: httpx.Response) -> tuple[int, str]:
    assert answer.headers["cache-control"] == "no-store"
    return answer.status_code, answer.json()["error"]


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        ({"grant_type": None}, "invalid_request"), ({"grant_type": "password"}, "unsupported_grant_type"),
        ({"subject_token": None}, "invalid_request"), ({"subject_token_type": None}, "invalid_request"),
        ({"subject_token_type": "x"}, "invalid_request"), ({"subject_token": "x"}, "invalid_request"),
        ({"resource": None}, "invalid_request"), ({"resource": "https://elsewhere.example"}, "invalid_target"),
        ({"audience": "https://elsewhere.example"}, "invalid_target"), ({"scope": "all"}, "invalid_scope"),
        ({"requested_token_type": JWT}, "invalid_request"), ({"requested_token_type": ACCESS}, ""),
        ({"actor_token": "x"}, "invalid_request"), ({"actor_token_type": JWT}, "invalid_request"),
        ({"actor_token": "x", "actor_token_type": JWT}, "invalid_request"), ({"grant_type": ""}, "invalid_request"),
        ({"client_id": "x", "client_secret": "y"}, "invalid_client"), ({"client_assertion": "x"}, "invalid_client"),
        ({"authorization_details": "nonsense"}, "invalid_request"), ({"unknown": "is passed over"}, ""),
    ],
)  # fmt: skip
def test_an_exchange_is_granted_or_refused_for_what_it_asks(
    lab: Lab, cloud: Asked, change: Mapping[str, str | None], expected: str
) -> None:
    form = {name: value for name, value in {**exchange(lab, cloud), **change}.items() if value is not None}
    answer = cloud.form("/token", **form)
    if expected:
        assert error(answer) == (401 if expected == "invalid_client" else 400, expected)
    else:
        assert answer.status_code == 200 and answer.json()["issued_token_type"] == ACCESS


def test_parameters_stand_once_and_come_as_a_form(lab: Lab, cloud: Asked) -> None:
    form = exchange(lab, cloud)
    for name, expected in (("subject_token", "invalid_request"), ("resource", "invalid_target")):
        assert error(cloud.form("/token", *form.items(), (name, form[name]))) == (400, expected)
    assert error(cloud.http.post("/token", json=form)) == (400, "invalid_request")


def test_a_client_that_is_not_who_it_says_is_refused_on_every_grant(lab: Lab, cloud: Asked, directory: Asked) -> None:
    wrong = {"Authorization": f"Basic {base64.b64encode(b'a:b').decode()}"}
    for form in (exchange(lab, cloud), {"grant_type": "client_credentials"}):
        answer = cloud.form("/token", **form, headers=wrong)
        assert error(answer) == (401, "invalid_client") and answer.headers["www-authenticate"].startswith("Basic")
    assert error(cloud.form("/token", **exchange(lab, cloud), client_secret="x", headers=wrong))[1] == "invalid_request"
    assert error(cloud.form("/token", grant_type="client_credentials")) == (401, "invalid_client")
    for path in ("/revoke", "/introspect"):
        assert error(cloud.form(path, token="x", headers=wrong)) == (401, "invalid_client")
    assert error(directory.form("/device", client_id="x", client_secret="y")) == (401, "invalid_client")


def test_a_device_code_is_for_its_client_and_user_codes_are_read_leniently(lab: Lab, directory: Asked) -> None:
    assert error(directory.form("/device")) == (400, "invalid_request")
    for name in ("a b", "ü", "x\n", "x" * 300):
        assert error(directory.form("/device", client_id=name)) == (401, "invalid_client")
    begun = directory.form("/device", client_id="one").json()
    asking = {"grant_type": DEVICE, "device_code": begun["device_code"]}
    assert error(directory.form("/token", **asking)) == (400, "invalid_request")
    assert error(directory.form("/token", **asking, client_id="two")) == (400, "invalid_grant")
    assert error(directory.form("/token", **asking, client_id="one")) == (400, "authorization_pending")
    typed = " ".join(begun["user_code"].lower().replace("-", ""))
    agreed = {"code": typed, "person": "@works/identity/ada", "agreed": "yes", "owner": owner(lab)}
    assert directory.form("/agree", **agreed).status_code == 200
    assert error(directory.form("/token", **asking, client_id="two")) == (400, "invalid_grant")
    signed_in = directory.form("/token", **asking, client_id="one").json()["access_token"]
    assert error(directory.form("/token", **asking, client_id="one")) == (400, "invalid_grant")
    # introspected and revoked
    bearer = {"Authorization": f"Bearer {signed_in}"}
    told = directory.form("/introspect", token=signed_in, headers=bearer).json()
    assert (told["active"], told["client_id"], told["sub"]) == (True, "one", "@works/identity/ada")
    assert directory.form("/introspect", token="other", headers=bearer).json() == {"active": False}
    assert directory.form("/revoke", token=signed_in).status_code == 200
    assert directory.form("/introspect", token=signed_in, headers=bearer).status_code == 401


def test_sessions_are_introspected_and_revoked_where_they_were_issued(cloud: Asked, session: str) -> None:
    bearer = {"Authorization": f"Bearer {session}"}
    told = cloud.form("/introspect", token=session, headers=bearer).json()
    assert told["active"] and told["sub"] == "yard/identity/runner" and told["token_type"] == "Bearer"
    assert "sub_id" not in told and cloud.form("/introspect", token="x", headers=bearer).json() == {"active": False}
    unknown = cloud.form("/introspect", token=session)
    assert (unknown.status_code, unknown.headers["www-authenticate"]) == (401, "Bearer")
    assert error(cloud.form("/revoke")) == (400, "invalid_request")
    assert cloud.form("/revoke", token="unknown").status_code == 200
    assert cloud.form("/revoke", token=session, token_type_hint="access_token").status_code == 200
    again = cloud.form("/introspect", token=session, headers=bearer)
    assert again.status_code == 401 and 'error="invalid_token"' in again.headers["www-authenticate"]


def test_tokens_are_challenged_as_bearer_tokens_are(cloud: Asked, session: str) -> None:
    place = "/places/yard/identity/runner"
    assert cloud.http.get(place).headers["www-authenticate"] == "Bearer"
    wrong = cloud.http.get(place, headers={"Authorization": "Bearer nothing"})
    assert wrong.status_code == 401 and 'error="invalid_token"' in wrong.headers["www-authenticate"]
    refused = cloud.http.post(f"{place}?verb=issue", headers={"Authorization": f"Bearer {session}"})
    assert refused.status_code == 403 and 'error="insufficient_scope"' in refused.headers["www-authenticate"]


@pytest.mark.parametrize("service", ["north", "forge", "@works"])
def test_what_is_published_may_be_kept_and_is_described_whole(lab: Lab, service: str) -> None:
    asked = Asked(lab, service)
    with asked.http:
        place = "openid-configuration" if service == "forge" else "oauth-authorization-server"
        metadata = asked.http.get(f"/.well-known/{place}")
        said = metadata.json()
        assert said["issuer"] == asked.url and "max-age" in metadata.headers["cache-control"]
        for path in (f"/.well-known/{place}", said["jwks_uri"]):
            first = asked.http.get(path)
            again = asked.http.get(path, headers={"If-None-Match": first.headers["etag"]})
            assert (again.status_code, again.content) == (304, b"")
            assert asked.http.get(path, headers={"If-None-Match": '"other"'}).status_code == 200
        if service != "forge":
            for name in ("token", "revocation", "introspection"):
                assert asked.http.post(said[f"{name}_endpoint"]).status_code in (400, 401)
        # what is not there, and what is not done
        gone = asked.http.get("/nothing/here")
        assert gone.status_code == 404 and gone.headers["content-type"] == "application/problem+json"
        wrong = asked.http.delete(said["jwks_uri"])
        assert (wrong.status_code, wrong.json()["status"]) == (405, 405) and "GET" in wrong.headers["allow"]

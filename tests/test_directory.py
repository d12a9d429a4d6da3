"""The lab's directory and keyed credentials by their own interfaces, as any client of the standards meets them."""

import base64
import ssl
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import httpx
import jwt
import pytest

from enthesis.connectors.directory import Directory, LabDirectory
from enthesis.connectors.http import Client
from enthesis.model.errors import RightMissing, UnexpectedAnswer, Unreachable
from enthesis.ports import HeldCredential

from .conftest import Lab, Program, copied, lab_of

DEVICE = "urn:ietf:params:oauth:grant-type:device_code"
EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"
ACCESS = "urn:ietf:params:oauth:token-type:access_token"
MAREN = "@saltmarsh/identity/maren"


@pytest.fixture(scope="module")
def lab(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    folder = copied(tmp_path_factory.mktemp("directory") / "estate", "estate.yaml", "people.yaml", "archive.yaml")
    with lab_of(enthesis, folder) as lab:
        yield lab


@pytest.fixture
def http(lab: Lab) -> Iterator[httpx.Client]:
    with httpx.Client(verify=ssl.create_default_context(cafile=lab.authority), trust_env=False) as client:
        yield client


class Flow:
    """A device grant under way at the directory of Saltmarsh."""

    def __init__(self, http: httpx.Client, url: str, owner: dict[str, str]) -> None:
        self.http = http
        self.owner = owner
        self.said = http.get(f"{url}/.well-known/oauth-authorization-server").json()
        self.began = http.post(self.said["device_authorization_endpoint"], data={"client_id": "x"}).json()

    def token(self, **more: str) -> httpx.Response:
        form = {"grant_type": DEVICE, "device_code": self.began["device_code"], "client_id": "x", **more}
        return self.http.post(self.said["token_endpoint"], data=form)

    def agree(self, **more: str) -> int:
        form = {"code": self.began["user_code"], "person": MAREN, "mfa": "yes", "agreed": "yes", **more}
        return self.http.post(self.began["verification_uri"], data=form, headers=self.owner).status_code

    def signed_in(self, **more: str) -> str:
        assert self.agree(**more) == 200
        token: str = self.token().json()["access_token"]
        return token


@pytest.fixture
def flow(lab: Lab, http: httpx.Client) -> Flow:
    return Flow(http, lab.services["@saltmarsh"], lab.owner)


def test_the_grant_waits_for_the_person_and_is_used_once(flow: Flow) -> None:
    assert flow.began["verification_uri_complete"].endswith(flow.began["user_code"])
    assert flow.token().json()["error"] == "authorization_pending"
    assert flow.token().json()["error"] == "slow_down"
    assert flow.agree(code=flow.began["user_code"].lower()) == 200
    assert flow.agree() == 404  # agreed already
    got = flow.token()
    assert got.status_code == 200 and got.headers["cache-control"] == "no-store"
    assert got.json()["expires_in"] == 8 * 3600
    assert flow.token().json()["error"] == "invalid_grant"


def test_what_a_sign_in_says_of_the_person(flow: Flow, lab: Lab, http: httpx.Client) -> None:
    token = flow.signed_in()
    keys = jwt.PyJWKSet.from_dict(http.get(flow.said["jwks_uri"]).json())
    key = next(one for one in keys.keys if one.key_id == jwt.get_unverified_header(token)["kid"])
    claims = jwt.decode(
        token, key.key, algorithms=["ES256"], audience=lab.services["lowland"], issuer=flow.said["issuer"]
    )
    assert (claims["sub"], claims["amr"]) == (MAREN, ["mfa"])
    assert jwt.get_unverified_header(token)["typ"] == "at+jwt"
    other = Flow(http, lab.services["@saltmarsh"], lab.owner).signed_in(mfa="no")
    assert jwt.decode(other, options={"verify_signature": False})["amr"] == ["pwd"]
    unsaid = Flow(http, lab.services["@saltmarsh"], lab.owner).signed_in(mfa="unsaid")
    assert "amr" not in jwt.decode(unsaid, options={"verify_signature": False})


def test_nobody_is_signed_in_who_refused_is_late_or_is_somebody_elses(
    flow: Flow, enthesis: Program, lab: Lab, http: httpx.Client
) -> None:
    assert flow.agree(person="@harbourline/identity/ines") == 422
    assert flow.agree(code="AAAA-AAAA") == 404
    assert flow.agree(agreed="no") == 200
    assert flow.token().json()["error"] == "access_denied"
    assert flow.token(grant_type="password").json()["error"] == "unsupported_grant_type"
    other = Flow(http, lab.services["@harbourline"], lab.owner)
    assert flow.token(device_code=other.began["device_code"]).json()["error"] == "invalid_grant"
    late = Flow(http, lab.services["@saltmarsh"], lab.owner)
    assert enthesis("lab", "clock", "--forward", "11m", at=lab.folder).code == 0
    assert late.agree() == 404
    assert late.token().json()["error"] == "expired_token"
    page = http.get(late.began["verification_uri"], params={"code": '"><script>x</script>'})
    assert "<script>x" not in page.text and MAREN in page.text


def take_on(http: httpx.Client, lab: Lab, token: str) -> dict[str, Any]:
    cloud = lab.services["lowland"]
    form = {"grant_type": EXCHANGE, "subject_token": token, "subject_token_type": ACCESS}
    form["resource"] = f"{cloud}/places/gauges/identity/calibrator"
    answer: dict[str, Any] = http.post(f"{cloud}/token", data=form).json()
    return answer


def test_a_sign_in_that_is_ended_opens_nothing(flow: Flow, lab: Lab, http: httpx.Client) -> None:
    token = flow.signed_in()
    assert "access_token" in take_on(http, lab, token)
    assert http.post(flow.said["revocation_endpoint"], data={"token": "no-token"}).status_code == 200
    assert "access_token" in take_on(http, lab, token)
    assert http.post(flow.said["revocation_endpoint"], data={"token": token}).status_code == 200
    assert take_on(http, lab, token)["refused_at"] == ["session"]
    place = f"{lab.services['lowland']}/places/gauges/host/bench?verb=login"
    direct = http.post(place, headers={"Authorization": f"Bearer {token}"})
    assert direct.status_code == 401 and direct.json()["refused_at"] == ["session"]


def test_a_sign_in_has_no_rights_that_the_person_has_not(flow: Flow, lab: Lab, http: httpx.Client) -> None:
    token = {"Authorization": f"Bearer {flow.signed_in()}"}
    cloud = lab.services["lowland"]
    assert http.post(f"{cloud}/places/gauges/host/bench?verb=login", headers=token).status_code == 200
    assert http.get(f"{cloud}/administration/grants?holder=gauges", headers=token).status_code == 403
    assert http.get(f"{cloud}/administration/credentials", headers=token).json()["items"] == []
    body: dict[str, Any] = {"resources": {"build/host/x": {}}}
    assert http.post(f"{cloud}/administration/resources", headers=token, json=body).status_code == 403
    assert http.delete(f"{cloud}/administration/resources/gauges/host/bench", headers=token).status_code == 403


# -- the connector -------------------------------------------------------------------------------------------------


def directory(handler: Any) -> Directory:
    return Directory("@x", Client("@x", "https://x.example", transport=httpx.MockTransport(handler)))


METADATA = {
    "issuer": "https://x.example",
    "device_authorization_endpoint": "https://x.example/device",
    "token_endpoint": "https://x.example/token",
    "revocation_endpoint": "https://x.example/revoke",
}
BEGAN = {
    "device_code": "d",
    "user_code": "U",
    "verification_uri": "https://x.example/a",
    "expires_in": 60,
    "interval": 1,
}


def test_the_connector_waits_as_it_is_told() -> None:
    answers: Iterator[dict[str, Any]] = iter(
        [{"error": "authorization_pending"}, {"error": "slow_down"}, {"access_token": "t", "expires_in": 9}]
    )

    def answering(request: httpx.Request) -> httpx.Response:
        if request.url.path == "/token":
            body: Mapping[str, Any] = next(answers)
            return httpx.Response(200 if "access_token" in body else 400, json=body)
        return httpx.Response(200, json=BEGAN if request.url.path == "/device" else METADATA)

    told: list[tuple[str, str]] = []
    waits: list[float] = []
    one = directory(answering)
    got = one.sign_in(lambda code, page: told.append((code, page)), waits.append)
    one.client.close()
    assert (got.form, got.secret.reveal(), told, waits) == ("person", "t", [("U", "https://x.example/a")], [1.0, 6.0])


@pytest.mark.parametrize(
    ("metadata", "began", "token", "fault"),
    [
        ({**METADATA, "issuer": "https://y.example"}, BEGAN, {}, UnexpectedAnswer),
        ({"issuer": "https://x.example"}, BEGAN, {}, Unreachable),
        ({**METADATA, "device_authorization_endpoint": "https://evil.example/device"}, BEGAN, {}, Unreachable),
        (METADATA, {"device_code": 7}, {}, UnexpectedAnswer),
        (METADATA, BEGAN, {"error": "access_denied", "error_description": "no"}, RightMissing),
        (METADATA, BEGAN, {"error": "server_on_fire"}, UnexpectedAnswer),
        (METADATA, {**BEGAN, "expires_in": 0}, {}, RightMissing),
    ],
)
def test_a_directory_that_is_not_right_signs_nobody_in(
    metadata: dict[str, Any], began: dict[str, Any], token: dict[str, Any], fault: type[Exception]
) -> None:
    bodies = {"/device": (200, began), "/token": (400, token)}

    def answering(request: httpx.Request) -> httpx.Response:
        status, body = bodies.get(request.url.path, (200, metadata))
        return httpx.Response(status, json=body)

    one = directory(answering)
    with pytest.raises(fault):
        one.sign_in(lambda code, page: None, lambda seconds: None)
    one.client.close()


# -- keys ----------------------------------------------------------------------------------------------------------


@pytest.fixture
def archiver(lab: Lab, http: httpx.Client) -> dict[str, Any]:
    admin = {"Authorization": f"Bearer {lab.administrator('gauges')}"}
    listed = http.get(f"{lab.services['lowland']}/administration/identities", headers=admin).json()["items"]
    return next(one for one in listed if one["address"] == "gauges/identity/archiver")


def made(http: httpx.Client, lab: Lab, of: str, name: str, form: str = "access-key", **more: Any) -> httpx.Response:
    admin = {"Authorization": f"Bearer {lab.administrator('gauges')}"}
    body = {"name": name, "of": of, "form": form, **more}
    return http.post(f"{lab.services['lowland']}/administration/credentials", headers=admin, json=body)


def session(http: httpx.Client, lab: Lab, identifier: str, value: str) -> httpx.Response:
    basic = base64.b64encode(f"{identifier}:{value}".encode()).decode()
    form = {"grant_type": "client_credentials"}
    return http.post(f"{lab.services['lowland']}/token", data=form, headers={"Authorization": f"Basic {basic}"})


def test_a_key_is_shown_once_used_and_retired(
    lab: Lab, http: httpx.Client, archiver: dict[str, Any], enthesis: Program
) -> None:
    cloud = lab.services["lowland"]
    admin = {"Authorization": f"Bearer {lab.administrator('gauges')}"}
    key = made(http, lab, archiver["id"], "one", reason="why").json()
    assert made(http, lab, archiver["id"], "one").status_code == 409
    assert made(http, lab, archiver["id"], "bad", "password").status_code == 422
    assert made(http, lab, archiver["id"], "bad", expires="soon").status_code == 422
    assert made(http, lab, archiver["id"], "bad", when={"weather": "fine"}).status_code == 422
    listed = http.get(f"{cloud}/administration/credentials", headers=admin)
    assert key["value"] not in listed.text and "last_used" not in listed.json()["items"][0]
    assert b"labkey" not in (lab.state / "lab.db").read_bytes()
    for identifier, value in ((key["id"], "labkey.no"), ("another", key["value"]), (key["id"], "")):
        wrong = session(http, lab, identifier, value)
        assert (wrong.status_code, wrong.json()["error"]) == (401, "invalid_client")
    assert wrong.headers["www-authenticate"].startswith("Basic")
    got = session(http, lab, key["id"], key["value"]).json()
    place = f"{cloud}/places/gauges/bucket/raw-levels/object/a"
    bearer = {"Authorization": f"Bearer {got['access_token']}"}
    assert http.get(place, headers=bearer).status_code in (200, 404)
    assert "last_used" in http.get(f"{cloud}/administration/credentials", headers=admin).json()["items"][0]
    item = f"{cloud}/administration/credentials/{key['id']}"
    assert http.put(item, headers=admin, json={"disabled": "yes"}).status_code == 422
    assert http.put(item, headers=admin, json={"disabled": True}).status_code == 200
    assert session(http, lab, key["id"], key["value"]).json()["refused_at"] == ["names"]
    assert http.get(place, headers=bearer).json()["refused_at"][0] == "names"  # what came of it opens nothing either
    assert http.put(item, headers=admin, json={"disabled": False}).status_code == 200
    assert http.get(place, headers=bearer).status_code in (200, 404)
    assert http.delete(item, headers=admin).status_code == 204
    assert http.get(place, headers=bearer).json()["refused_at"][0] == "names"


def test_a_static_token_works_as_it_is_where_and_while_it_may(
    lab: Lab, http: httpx.Client, archiver: dict[str, Any], enthesis: Program
) -> None:
    cloud = lab.services["lowland"]
    place = f"{cloud}/places/gauges/bucket/raw-levels/object/a"
    when = {"network": {"within": "192.0.2.0/24"}}
    key = made(http, lab, archiver["id"], "static", "static-token", expires="2999-01-01T00:00:00Z", when=when).json()
    bearer = {"Authorization": f"Bearer {key['value']}"}
    assert "names" in http.get(place, headers=bearer).json()["refused_at"]
    assert http.get(place, headers={**bearer, "Forwarded": "for=192.0.2.9"}).status_code in (200, 404)
    assert session(http, lab, key["id"], key["value"]).json()["error"] == "invalid_client"
    other = f"{lab.services['highmoor']}/places/gauges/bucket/raw-levels/object/a"
    assert http.get(other, headers=bearer).status_code == 401


def test_the_sign_in_of_a_person_in_a_journey_is_the_same_grant(lab: Lab) -> None:
    with Client("@saltmarsh", lab.services["@saltmarsh"], authority=Path(lab.authority)) as client:
        got = LabDirectory("@saltmarsh", client, lab.owner).sign_in_as(MAREN, None)
        assert isinstance(got, HeldCredential)
    claims = jwt.decode(got.secret.reveal(), options={"verify_signature": False})
    assert (claims["sub"], "amr" in claims, repr(got.secret)) == (MAREN, False, "<secret>")

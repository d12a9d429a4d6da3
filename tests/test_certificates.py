"""Certificates that callers show to a cloud: by a statement that only their key can sign, once, for one cloud."""

import ssl
import time
from collections.abc import Iterator
from datetime import timedelta
from typing import Any

import httpx
import pytest

from enthesis.model.secrets import Secret
from enthesis.ports import HeldCredential
from enthesis.tokens.certificate_assertions import stated

from .conftest import Lab, Program
from .test_database_door import certificate, door  # noqa: F401  the same lab

WRITER = "gauges/identity/level-writer"
HOST = "spiffe://saltmarsh/gauges/host/collector-1"
MINUTE = timedelta(minutes=1)


@pytest.fixture
def client(door: Lab) -> Iterator[httpx.Client]:  # noqa: F811  the fixture
    with httpx.Client(verify=ssl.create_default_context(cafile=door.authority)) as client:
        yield client


def shown(client: httpx.Client, door: Lab, statement: str) -> tuple[int, Any]:  # noqa: F811  the fixture
    cloud = door.services["lowland"]
    form = {
        "grant_type": "urn:ietf:params:oauth:grant-type:token-exchange", "subject_token": statement,
        "subject_token_type": "urn:ietf:params:oauth:token-type:jwt", "resource": f"{cloud}/places/{WRITER}",
    }  # fmt: skip
    answer = client.post(f"{cloud}/token", data=form)
    return answer.status_code, answer.json()


def pem(held: HeldCredential) -> str:
    return held.secret.reveal()


def test_a_statement_opens_once_and_for_its_own_cloud_alone(client: httpx.Client, door: Lab) -> None:  # noqa: F811
    cloud, mine = door.services["lowland"], pem(certificate(door, HOST, -MINUTE, MINUTE))
    good = stated(mine, cloud, time.time(), "one")
    assert shown(client, door, good)[0] == 200
    status, again = shown(client, door, good)
    assert status == 400 and "shown before" in again["error_description"]
    status, other = shown(client, door, stated(mine, "https://elsewhere.example", time.time(), "two"))
    assert status == 400 and "another audience" in other["error_description"]
    status, early = shown(client, door, stated(mine, cloud, time.time() + 3600, "three"))
    assert status == 400 and "not valid yet" in early["error_description"]
    status, late = shown(client, door, stated(mine, cloud, time.time() - 3600, "four"))
    assert status == 400 and late["refused_at"] == ["session"]


def test_only_the_key_of_a_certificate_of_the_authority_counts(client: httpx.Client, door: Lab) -> None:  # noqa: F811
    cloud, mine = door.services["lowland"], pem(certificate(door, HOST, -MINUTE, MINUTE))
    other = pem(certificate(door, HOST, -MINUTE, MINUTE))
    key = other[: other.index("-----BEGIN CERTIFICATE")]
    stolen = key + mine[mine.index("-----BEGIN CERTIFICATE") :]
    assert (
        "not signed with the certificate's key"
        in shown(client, door, stated(stolen, cloud, time.time(), "a"))[1]["error_description"]
    )
    forged = pem(certificate(door, HOST, -MINUTE, MINUTE, forged=True))
    assert "no authority" in shown(client, door, stated(forged, cloud, time.time(), "b"))[1]["error_description"]
    ended = pem(certificate(door, HOST, -2 * MINUTE, -MINUTE))
    assert shown(client, door, stated(ended, cloud, time.time(), "c"))[1]["refused_at"] == ["session"]


def test_a_certificate_at_hand_is_lent_from(enthesis: Program, door: Lab) -> None:  # noqa: F811
    held = certificate(door, HOST, -MINUTE, timedelta(days=1))
    file = door.folder.parent / "workload.pem"
    file.write_text(pem(held))
    file.chmod(0o600)
    more = {"ENTHESIS_CERTIFICATE_FILE": str(file)}
    assert HOST in enthesis("whoami", at=door.folder, **more).out
    ran = enthesis("lend", WRITER, "--", "sh", "-c", "echo $ENTHESIS_IDENTITY", at=door.folder, **more)
    assert ran.code == 0 and ran.out.strip() == WRITER, ran.err
    assert Secret(pem(held)).reveal() not in ran.out + ran.err


def test_callers_near_an_admitted_certificate_are_refused(enthesis: Program, door: Lab) -> None:  # noqa: F811
    ran = enthesis("prove", "--near-misses", "--format", "json", at=door.folder)
    assert ran.code == 0, ran.out + ran.err
    about = next(one for one in ran.json["trials"] if one["about"] == WRITER)
    assert about["refused"] >= 8 and about["not_tried"] is None
    for option in ("--replay", "--expiry"):
        ran = enthesis("prove", option, "a-collector-adds-readings", at=door.folder)
        assert ran.code == 0, ran.out

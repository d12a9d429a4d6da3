"""Hostile tokens are refused one and all: by the checking itself, by the program, and by the lab's clouds."""

import json
import sqlite3
import ssl
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import httpx
import pytest
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from joserfc.jwk import ECKey, RSAKey

from enthesis.conditions.callers import Callers
from enthesis.tokens.checking import Expected, Key, Refused, believed, keys_of

from .conftest import PUBLISHING, SALTMARSH, Lab, Program, write_estate
from .corpora_read import conditions_of
from .hostile import Signing, hostile

PUBLISHER = "build/identity/publisher"
MAIN = "project/tides/bulletin/branch/main"
EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"
URL = "https://forge.saltmarsh.example"


def signing(ec_key: object, ec_kid: str, rsa_key: object, rsa_kid: str, url: str) -> Signing:
    now = int(time.time())
    claims = {
        "iss": url, "sub": MAIN, "aud": "lowland", "event": "push", "jti": "1",
        "iat": now, "nbf": now, "exp": now + 600,
    }  # fmt: skip
    assert isinstance(ec_key, ec.EllipticCurvePrivateKey) and isinstance(rsa_key, rsa.RSAPrivateKey)
    return Signing(ec_key, ec_kid, rsa_key, rsa_kid, claims, now)


@pytest.fixture(scope="module")
def forged(tmp_path_factory: pytest.TempPathFactory) -> tuple[Signing, Path, list[tuple[str, str]]]:
    """An issuer that nothing runs for, its key set in a file, and the corpus."""
    one, two = ECKey.generate_key("P-256", {"kid": "one"}), RSAKey.generate_key(2048, {"kid": "two"})
    published = [{**key.as_dict(private=False), "alg": alg} for key, alg in ((one, "ES256"), (two, "RS256"))]
    place = tmp_path_factory.mktemp("keys") / "keys.json"
    place.write_text(json.dumps({"keys": published}))
    by = signing(one.private_key, "one", two.private_key, "two", URL)
    return by, place, list(hostile(by))


def test_the_corpus_is_large_and_its_good_token_is_good(forged: tuple[Signing, Path, list[tuple[str, str]]]) -> None:
    by, place, corpus = forged
    assert len(corpus) == len({name for name, _ in corpus}) == len({token for _, token in corpus})
    assert len(corpus) > 100
    keys = keys_of(json.loads(place.read_text()))
    expected = Expected(URL, datetime.now(UTC))
    for token in (by.token(), by.token({"typ": "application/jwt"}), by.token(claims={"aud": ["lowland", "x"]})):
        assert believed(token.encode(), keys, expected)["sub"] == MAIN


@pytest.mark.attack("hostile tokens")
def test_every_hostile_token_is_refused_by_the_checking_or_its_trust(
    forged: tuple[Signing, Path, list[tuple[str, str]]], attempts: Callable[[int], None]
) -> None:
    _, place, corpus = forged
    attempts(len(corpus))
    keys = keys_of(json.loads(place.read_text()))
    trust = Callers((conditions_of({"sub": MAIN, "aud": "lowland", "event": {"not": "fork-merge"}}),))
    codes: dict[str, int] = {}
    for name, token in corpus:
        try:
            claims = believed(token.encode(), keys, Expected(URL, datetime.now(UTC)))
        except Refused as why:
            codes[why.code] = codes.get(why.code, 0) + 1
            continue
        assert not trust.has(claims), name
        codes["trust"] = codes.get("trust", 0) + 1
    assert set(codes) == {
        "algorithm", "audience", "critical", "expired", "half-a-character", "issuer", "duplicate-key", "no-number",
        "claim-not-string", "no-token", "not-json", "own-key", "signature", "time", "too-deep", "too-long", "trust",
        "type", "unknown-key", "wrapped", "invalid-base64url",
    }  # fmt: skip


@pytest.mark.attack("hostile tokens")
def test_every_hostile_token_is_refused_by_the_program(
    enthesis: Program, forged: tuple[Signing, Path, list[tuple[str, str]]], tmp_path: Path,
    attempts: Callable[[int], None],
) -> None:  # fmt: skip
    by, place, corpus = forged
    attempts(len(corpus))
    files = {name: (SALTMARSH / name).read_text() for name in PUBLISHING}
    folder = write_estate(tmp_path / "estate", files)

    def refused(pair: tuple[str, str]) -> str:
        ran = enthesis("admit", PUBLISHER, "--token", "-", "--keys", str(place), at=folder, stdin=pair[1])
        said = "" if ran.code in (1, 2) else f"{pair[0]}: {ran.code} {ran.out}"
        return said or ("" if pair[1] not in ran.out + ran.err else f"{pair[0]}: repeated")

    with ThreadPoolExecutor(4) as pool:
        assert not [said for said in pool.map(refused, corpus) if said]
    good = enthesis("admit", PUBLISHER, "--token", "-", "--keys", str(place), at=folder, stdin=by.token())
    assert good.code == 0, good.out
    assert "signed  with a key in" in good.out


@pytest.mark.attack("hostile tokens")
def test_every_hostile_token_is_refused_by_the_lab(enacted_lab: Lab, attempts: Callable[[int], None]) -> None:
    with closing(sqlite3.connect(enacted_lab.state / "lab.db")) as store:
        rows = store.execute("SELECT private FROM keys WHERE service = 'forge'").fetchall()
    keys = {data["kty"]: data for data in (json.loads(row[0]) for row in rows)}
    one, two = ECKey.import_key(keys["EC"]), RSAKey.import_key(keys["RSA"])
    by = signing(one.private_key, keys["EC"]["kid"], two.private_key, keys["RSA"]["kid"], enacted_lab.services["forge"])
    cloud = enacted_lab.services["lowland"]

    def exchanged(http: httpx.Client, token: str) -> httpx.Response:
        form = {
            "grant_type": EXCHANGE, "subject_token": token, "resource": f"{cloud}/places/{PUBLISHER}",
            "subject_token_type": "urn:ietf:params:oauth:token-type:jwt",
        }  # fmt: skip
        return http.post(f"{cloud}/token", data=form)

    tls = ssl.create_default_context(cafile=enacted_lab.authority)
    with httpx.Client(verify=tls, trust_env=False) as http:
        assert exchanged(http, by.token()).status_code == 200
        corpus = list(hostile(by))
        attempts(len(corpus))
        for name, token in corpus:
            answer = exchanged(http, token)
            assert answer.status_code in (400, 413), f"{name} {answer.status_code} {answer.text}"
            assert "access_token" not in answer.text


# -- keys -----------------------------------------------------------------------------------------------------------


def test_keys_that_cannot_be_used_are_left_out_and_said() -> None:
    good = {**ECKey.generate_key("P-256", {"kid": "good"}).as_dict(private=False)}
    secret = ECKey.generate_key("P-256", {"kid": "secret"}).as_dict(private=True)
    short = {"kty": "RSA", "kid": "short", "e": "AQAB", "n": "x" * 171}
    listed = [
        good, secret, short, {"kty": "oct", "k": "AAAA", "kid": "oct"}, {**good, "kid": "enc", "use": "enc"},
        {**good, "kid": 7}, {**good, "kid": "hs", "alg": "HS256"}, {"kty": "EC"}, "key",
        {**good, "kid": "o", "key_ops": 1},
        {**good, "kid": "curve", "crv": "P-255"},
    ]  # fmt: skip
    keys = keys_of({"keys": listed})
    assert [key.kid for key in keys.usable] == ["good"]
    assert isinstance(keys.usable[0], Key)
    assert len(keys.left_out) == len(listed) - 1
    assert any("secret" in one for one in keys.left_out) and any("2048 bits" in one for one in keys.left_out)
    nothing: list[Any] = [{}, {"keys": {}}, [], None, {"keys": [good, good]}, {"keys": [good] * 101}]
    for none in nothing:
        with pytest.raises(Refused):
            keys_of(none)


def test_a_token_without_a_key_id_is_taken_only_where_one_key_can_be_meant(
    forged: tuple[Signing, Path, list[tuple[str, str]]],
) -> None:
    by, _, _ = forged
    nameless = by.token(json.dumps({"alg": "ES256"}).encode()).encode()
    pem = by.ec_key.public_key().public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo)
    public = ECKey.import_key(pem).as_dict(private=False)
    public.pop("kid", None)
    other = ECKey.generate_key("P-256").as_dict(private=False)
    other.pop("kid", None)
    expected = Expected(URL, datetime.now(UTC))
    assert believed(nameless, keys_of({"keys": [public]}), expected)
    for several in ([public, other], [{**public, "kid": "one"}]):
        with pytest.raises(Refused, match="names a key"):
            believed(nameless, keys_of({"keys": several}), expected)

"""Fetching an issuer's keys: within bounds, kept, fetched anew for an unknown id, and never too often."""

import json
from collections.abc import Callable
from pathlib import Path

import httpx
import pytest
from joserfc.jwk import ECKey

from enthesis.connectors import keys as module
from enthesis.connectors.keys import IssuerKeys, keys_in_file
from enthesis.model.errors import EnthesisError, UnexpectedAnswer, Unreachable

URL = "https://forge.example"
Answering = Callable[[httpx.Request], httpx.Response]


def key(kid: str) -> dict[str, object]:
    return dict(ECKey.generate_key("P-256", {"kid": kid}).as_dict(private=False))


class Issuer:
    """An issuer that never leaves this process; it counts what it was asked for."""

    def __init__(self, **places: Answering) -> None:
        self.asked: list[str] = []
        self.published = [key("one")]
        self.time = 1000.0
        self.places = places

    def answer(self, request: httpx.Request) -> httpx.Response:
        self.asked.append(request.url.path)
        for part, answering in self.places.items():
            if part in request.url.path:
                return answering(request)
        if request.url.path.endswith("openid-configuration"):
            return httpx.Response(200, json={"issuer": URL, "jwks_uri": f"{URL}/keys/"})
        return httpx.Response(200, json={"keys": self.published})

    def keys(self, url: str = URL) -> IssuerKeys:
        return IssuerKeys("forge", url, lambda: self.time, transport=httpx.MockTransport(self.answer))


def test_keys_are_kept_and_fetched_anew_for_an_unknown_id_at_a_bounded_rate() -> None:
    issuer = Issuer()
    keys = issuer.keys()
    assert keys.keys_for("one").named("one")
    assert issuer.asked == ["/.well-known/openid-configuration", "/keys/"]
    for number in range(50):  # a flood of unknown ids
        assert not keys.keys_for(f"unknown-{number}").named(f"unknown-{number}")
    assert len(issuer.asked) == 2
    issuer.published.append(key("two"))
    issuer.time += module.BETWEEN
    assert keys.keys_for("two").named("two")
    assert len(issuer.asked) == 4
    issuer.time += module.FRESH_FOR - 1
    assert keys.keys_for("two").named("two")
    assert len(issuer.asked) == 4
    issuer.time += 2
    keys.keys_for("two")
    assert len(issuer.asked) == 6


def test_a_failure_is_not_tried_again_at_once() -> None:
    issuer = Issuer(well=lambda request: httpx.Response(500))
    keys = issuer.keys()
    for _ in range(20):
        with pytest.raises(UnexpectedAnswer, match="answered 500"):
            keys.keys_for("one")
    assert len(issuer.asked) == 2  # both known places, once


def other_issuer(request: httpx.Request) -> httpx.Response:
    return httpx.Response(200, json={"issuer": "https://elsewhere.example", "jwks_uri": f"{URL}/keys"})


def sent_to(place: str) -> Answering:
    return lambda request: httpx.Response(302, headers={"Location": place})


def documented(address: object) -> Answering:
    return lambda request: httpx.Response(200, json={"issuer": URL, "jwks_uri": address})


@pytest.mark.parametrize(
    ("places", "says"),
    [
        ({"well": other_issuer}, "says that it is another issuer"),
        ({"well": documented("http://forge.example/keys")}, "does not say where its keys are"),
        ({"well": documented("file:///etc/passwd")}, "does not say where its keys are"),
        ({"well": documented(None)}, "does not say where its keys are"),
        ({"well": documented(7)}, "does not say where its keys are"),
        ({"well": lambda request: httpx.Response(200, content=b"[]")}, "not a JSON object"),
        ({"well": lambda request: httpx.Response(200, content=b"[" * 100_000)}, "not JSON"),
        ({"keys": lambda request: httpx.Response(200, content=b" " * (module.MAX_DOCUMENT + 1))}, "more than"),
        ({"keys": lambda request: httpx.Response(200, json={"keys": "none"})}, "not a key set"),
        ({"keys": sent_to("http://forge.example/keys")}, "sends us on to an address that is not followed"),
        ({"keys": sent_to("http://127.0.0.1/keys")}, "sends us on to an address that is not followed"),
        ({"keys": sent_to("https://localhost/keys")}, "sends us on to an address that is not followed"),
        ({"keys": sent_to(f"{URL}/keys")}, "answered 302"),
    ],
)
def test_what_cannot_be_trusted_is_refused_and_said(places: dict[str, Answering], says: str) -> None:
    with pytest.raises(EnthesisError, match=says):
        Issuer(**places).keys().keys_for("one")


def test_it_is_followed_over_tls_and_no_further_than_twice() -> None:
    issuer = Issuer(keys=sent_to("https://elsewhere.example/set"))
    assert issuer.keys().keys_for("one").named("one")
    with pytest.raises(Unreachable, match="not https"):
        issuer.keys("http://forge.example").keys_for("one")


def test_time_is_bounded_however_slowly_an_answer_drips(monkeypatch: pytest.MonkeyPatch) -> None:
    ticks = iter(range(0, 10_000, 6))
    monkeypatch.setattr("enthesis.connectors.http.time.monotonic", lambda: next(ticks))

    class Dripping(httpx.SyncByteStream):
        def __iter__(self):  # type: ignore[no-untyped-def]
            yield from (b" " for _ in range(100_000))

    with pytest.raises(Unreachable, match="in time"):
        Issuer(keys=lambda request: httpx.Response(200, stream=Dripping())).keys().keys_for("one")


def test_keys_from_a_file(tmp_path: Path) -> None:
    place = tmp_path / "keys.json"
    place.write_text(json.dumps({"keys": [key("one")]}))
    assert keys_in_file(place).named("one")
    for content, says in (("{", "no JSON"), ("{}", "not a key set"), (" " * 600_000, "longer than")):
        place.write_text(content)
        with pytest.raises(UnexpectedAnswer, match=says):
            keys_in_file(place)
    with pytest.raises(UnexpectedAnswer, match="cannot be read"):
        keys_in_file(tmp_path / "nothing")

"""The one way to a server: deadlines, bounds, second tries, discovery, and no secret in any text."""

import gzip
import itertools
import socket
import ssl
import threading
import time
import tracemalloc
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path

import httpx
import pytest

from enthesis.connectors.cluster.surveying import Cluster
from enthesis.connectors.http import ATTEMPTS, LONGEST_SAID, MAX_ANSWER, Client, Connection, problem_said
from enthesis.connectors.keys import IssuerKeys
from enthesis.live.surveying import Writing, _line
from enthesis.model.errors import InvalidInput, UnexpectedAnswer, Unreachable
from enthesis.model.secrets import Secret, holds_secret, redacted
from enthesis.output.lines import csv_cell, json_text, visible
from enthesis.tokens.discovery import places

from .campaign import Quiet

URL = "https://desk.example"
CONTEXT = ssl.create_default_context()


def client(
    answer: Callable[[httpx.Request], httpx.Response], url: str = URL, **more: float
) -> tuple[Client, list[float]]:
    """A client of a server that answers so, and the seconds that it waits between tries."""
    made = Client("desk", url, transport=httpx.MockTransport(answer), **more)  # type: ignore[arg-type]
    waited: list[float] = []
    made.sleep = waited.append
    return made, waited


@pytest.mark.parametrize("status", [429, 502, 503, 504])
def test_a_safe_request_is_sent_again_while_the_server_says_later(status: int) -> None:
    answers = iter([httpx.Response(status), httpx.Response(status, headers={"retry-after": "7"}), httpx.Response(200)])
    made, waited = client(lambda request: next(answers))
    assert made.ask("GET", "/x").status == 200
    assert len(waited) == 2 and 0 < waited[0] < 2 and waited[1] == 7


def test_it_is_sent_a_bounded_number_of_times_and_the_last_answer_counts() -> None:
    seen: list[str] = []

    def busy(request: httpx.Request) -> httpx.Response:
        seen.append(request.method)
        return httpx.Response(503, headers={"retry-after": "86400"}, json={"detail": "too busy"})

    made, waited = client(busy)
    answer = made.ask("GET", "/x")
    assert (answer.status, len(seen)) == (503, ATTEMPTS) and max(waited) == LONGEST_SAID
    with pytest.raises(UnexpectedAnswer, match="too busy"):
        made.expect(answer, 200)


@pytest.mark.parametrize("method", ["GET", "POST"])
def test_a_connection_that_is_cut_before_anything_was_asked_is_made_again(method: str) -> None:
    door = socket.create_server(("127.0.0.1", 0))
    cut: list[str] = []

    def close_each() -> None:
        while True:
            try:
                door.accept()[0].close()
            except OSError:
                return
            cut.append(method)

    threading.Thread(target=close_each, daemon=True).start()
    made = Client("desk", f"https://127.0.0.1:{door.getsockname()[1]}")
    made.sleep = lambda seconds: None
    with pytest.raises(Unreachable):
        made.ask(method, "/x")
    made.close()
    door.close()
    assert len(cut) == ATTEMPTS


@pytest.mark.parametrize("method", ["POST", "PUT", "DELETE", "PATCH"])
@pytest.mark.attack("servers that answer with anything")
def test_a_request_that_changes_something_is_never_sent_twice(method: str) -> None:
    seen: list[str] = []

    def lost(request: httpx.Request) -> httpx.Response:
        seen.append(request.method)
        raise httpx.ReadError("gone")

    made, waited = client(lost)
    with pytest.raises(Unreachable):
        made.ask(method, "/x")
    assert (len(seen), waited) == (1, [])
    busy, waited = client(lambda request: httpx.Response(503))
    assert busy.ask(method, "/x").status == 503 and not waited


def test_a_lost_connection_is_made_anew_and_a_refused_one_is_not() -> None:
    faults: Iterator[Exception] = iter([httpx.ReadError("gone"), httpx.RemoteProtocolError("cut")])

    def sometimes(request: httpx.Request) -> httpx.Response:
        for fault in faults:
            raise fault
        return httpx.Response(200)

    made, waited = client(sometimes)
    assert made.ask("GET", "/x").status == 200 and len(waited) == 2

    def refused(request: httpx.Request) -> httpx.Response:
        raise httpx.ConnectError("refused")

    made, waited = client(refused)
    with pytest.raises(Unreachable, match="cannot be reached"):
        made.ask("GET", "/x")
    assert not waited


def dripping(send: Callable[[socket.socket], None]) -> str:
    """The url of a server that answers each connection so, on and on."""
    listening = socket.create_server(("127.0.0.1", 0))

    def serve() -> None:
        while True:
            connection, _ = listening.accept()
            with connection:
                connection.recv(65536)
                try:
                    while True:
                        send(connection)
                        time.sleep(0.05)
                except OSError:
                    continue

    threading.Thread(target=serve, daemon=True).start()
    return f"http://127.0.0.1:{listening.getsockname()[1]}"


@pytest.mark.parametrize("what", [b"H", b"HTTP/1.1 103 Early Hints\r\n\r\n", b"HTTP/1.1 200 OK\r\nx: y\r\n"])
@pytest.mark.attack("answers that drip")
def test_an_answer_that_drips_ends_at_the_deadline(what: bytes) -> None:
    """A status line, interim responses and headers without an end; each part comes well within the time-out."""
    made = Client("desk", dripping(lambda connection: connection.sendall(what)), max_seconds=0.6)
    begun = time.monotonic()
    with pytest.raises(Unreachable):
        made.ask("GET", "/x")
    assert time.monotonic() - begun < 15  # of the 20 seconds for each part alone


SECRET = "tiddly-pom-9041"


@pytest.mark.parametrize("body", [
    {"detail": f"no such token: {SECRET}"}, {"error_description": f"Bearer {SECRET}\\nis wrong"}, {"title": SECRET},
])  # fmt: skip
@pytest.mark.attack("echoed secrets")
def test_what_a_server_repeats_of_a_secret_is_masked(body: dict[str, str]) -> None:
    made, _ = client(lambda request: httpx.Response(400, json=body))
    answer = made.ask("POST", "/x", bearer=Secret(SECRET))
    with pytest.raises(UnexpectedAnswer) as raised:
        made.expect(answer, 200)
    assert SECRET not in str(raised.value) and "<secret>" in raised.value.message
    assert SECRET not in visible(problem_said(answer)) and SECRET not in json_text({"said": problem_said(answer)})


@pytest.mark.attack("echoed secrets")
def test_a_line_of_a_survey_masks_what_a_live_system_repeats() -> None:
    Secret(SECRET)
    assert holds_secret(f"x {SECRET}".encode()) and not holds_secret(b"x tiddly")
    says = b'{"section":"findings","says":"it is %s"}\n'
    assert _line(says % SECRET.encode()) == says % b"<secret>"
    writing = Writing("e", datetime(2026, 1, 1, tzinfo=UTC), [])
    lines = list(writing.lines([{"says": f"it is {SECRET} \x9b"}, {"says": "nothing"}], Quiet()))
    assert SECRET.encode() not in b"".join(lines) and b"\\u009b" in lines[1] and len(lines) == 4


@pytest.mark.attack("echoed secrets")
def test_a_secret_of_several_lines_is_masked_in_each_form() -> None:
    secret = Secret("first-line-of-it\nsecond/line=of-it")
    assert repr(secret) == str(secret) == "<secret>"
    for text in (secret.reveal(), repr(secret.reveal()), "x second/line=of-it", "second%2Fline%3Dof-it"):
        assert "line" not in redacted(text), text
    assert "second/line" not in InvalidInput("bad second/line=of-it", code="file-unreadable", remedy="-").message
    assert redacted("a short one") == "a short one"


@pytest.mark.parametrize("text", ["=1+1", "+1", "-1", "@works/identity/p", "\tx", "\rx", "=1\r\n=2"])
@pytest.mark.attack("injection")
def test_no_cell_is_a_formula(text: str) -> None:
    cell = csv_cell(text)
    assert cell.startswith("'") and not set(cell) & {"\t", "\r", "\n"}


@pytest.mark.parametrize(("issuer", "oidc", "oauth"), [
    ("https://a.example", "https://a.example/.well-known/openid-configuration",
     "https://a.example/.well-known/oauth-authorization-server"),
    ("https://a.example/t/1", "https://a.example/t/1/.well-known/openid-configuration",
     "https://a.example/.well-known/oauth-authorization-server/t/1"),
])  # fmt: skip
def test_an_issuer_is_asked_where_the_standards_say(issuer: str, oidc: str, oauth: str) -> None:
    assert places(issuer) == (oidc, oauth)
    for place in (oidc, oauth):

        def answer(request: httpx.Request, place: str = place) -> httpx.Response:
            if str(request.url) == place:
                return httpx.Response(200, json={"issuer": issuer, "jwks_uri": issuer + "/keys"})
            return httpx.Response(200, json={"keys": []}) if str(request.url).endswith("/keys") else httpx.Response(404)

        made, _ = client(answer, issuer)
        assert made.metadata("desk")["issuer"] == issuer
        keys = IssuerKeys("desk", issuer, time.monotonic, transport=httpx.MockTransport(answer))
        assert keys.published()[0] == {"keys": []}


@pytest.mark.attack("credentials to strangers")
def test_metadata_of_another_issuer_is_refused() -> None:
    made, _ = client(lambda request: httpx.Response(200, json={"issuer": "https://b.example"}))
    with pytest.raises(UnexpectedAnswer, match="another server"):
        made.metadata("desk")


def packed(content: bytes, encoding: str) -> httpx.MockTransport:
    def answer(request: httpx.Request) -> httpx.Response:
        return httpx.Response(200, headers={"content-encoding": encoding}, stream=httpx.ByteStream(content))

    return httpx.MockTransport(answer)


@pytest.mark.attack("a hostile server")
def test_no_more_is_unpacked_than_is_read() -> None:
    blanks = gzip.compress(b" " * (200 << 20), 9)
    tracemalloc.start()
    try:
        client = Client("x", "https://x.example", transport=packed(blanks, "gzip"), way=Connection(CONTEXT))
        with client, pytest.raises(UnexpectedAnswer, match="more than"):
            client.ask("GET", "/")
        assert tracemalloc.get_traced_memory()[1] < 5 * MAX_ANSWER
    finally:
        tracemalloc.stop()


@pytest.mark.parametrize(("content", "encoding"), [(b"nothing packed", "gzip"), (b"{}", "br"), (b"{}", "gzip, gzip")])
def test_what_cannot_be_unpacked_is_said(content: bytes, encoding: str) -> None:
    client = Client("x", "https://x.example", transport=packed(content, encoding), way=Connection(CONTEXT))
    with client, pytest.raises(UnexpectedAnswer, match="pack"):
        client.ask("GET", "/")


def test_a_packed_answer_is_read() -> None:
    transport = packed(gzip.compress(b'{"a": 1}'), "gzip")
    with Client("x", "https://x.example", transport=transport, way=Connection(CONTEXT)) as client:
        assert client.ask("GET", "/").json("x") == {"a": 1}


@pytest.mark.attack("a hostile server")
def test_pages_that_bring_nothing_end_the_reading() -> None:
    asked = itertools.count()

    def answer(request: httpx.Request) -> httpx.Response:
        number = next(asked)
        if "/api/" in request.url.path:
            meta = {"continue": f"more-{number}", "resourceVersion": "1"}
            return httpx.Response(200, json={"items": [{"metadata": {"name": "one"}}], "metadata": meta})
        return httpx.Response(200, json={"items": []}, headers={"link": f'</more?{number}>; rel="next"'})

    with Client("x", "https://x.example", transport=httpx.MockTransport(answer), way=Connection(CONTEXT)) as client:
        with pytest.raises(UnexpectedAnswer, match="bring nothing"):
            list(client.get_all("/", bearer=Secret("s")))
        with pytest.raises(UnexpectedAnswer, match="bring nothing new"):
            list(Cluster("a/cluster/c", "o", client, None).items("/api/v1/namespaces"))
    assert next(asked) < 40


def test_a_certificate_that_cannot_be_used_is_an_error_of_its_own(tmp_path: Path) -> None:
    (tmp_path / "none.pem").write_text("no certificate")
    for name in ("none.pem", "missing.pem"):
        with pytest.raises(Unreachable, match="cannot be used") as raised:
            Client("x", "https://x.example", authority=tmp_path / name)
        assert raised.value.code == "authority-unusable"

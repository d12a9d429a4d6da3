"""What comes from outside, mangled: whatever it is, it is read, or refused as ours. Shared with `bench/fuzz.py`."""

import json
import tempfile
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from typing import Any

import httpx
import yaml

from enthesis.access.compiling import compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.ends import wanted_permissions
from enthesis.chains.reach import coming_to
from enthesis.change.enacting import refuse_if_different
from enthesis.connectors.cluster.kubeconfig import from_kubeconfigs
from enthesis.connectors.http import Client, Connection
from enthesis.connectors.oauth import client_entry
from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue, read_texts
from enthesis.live.connecting import database_access, directory_at, key_at
from enthesis.live.stand_ins import sessions_of
from enthesis.live.usage_logs import read_usage
from enthesis.model.catalogue import Catalogue
from enthesis.model.errors import EnthesisError, InnerError
from enthesis.output.handoffs import handoff_lines, handoff_markdown, life_lines
from enthesis.output.proposals import proposal_lines, proposal_markdown
from enthesis.proposals.handoff_life import HandoffAnswer, TakenAnswer, answer_from, lives
from enthesis.proposals.handoffs import additions, unchecked_handoff
from enthesis.proposals.steps import Blocked, Danger, Opening, Proposal, Step, digest_of, proposal_from
from enthesis.surveys.survey import beside, read_survey
from enthesis.tokens.checking import keys_of, parsed
from enthesis.tokens.saml import asserted
from enthesis_lab.running import Running
from enthesis_lab.tokens import TokenRefused

from .conftest import SALTMARSH
from .test_assertions import sent, signed
from .test_assertions import service as asserting
from .test_bounds import CONTEXT, URL, WELL, asked_of
from .test_handoff import THEIRS, estate, made
from .test_people_kept import at as kept_directory

JUNK: list[Any] = [
    None, True, 0, -1, 1e308, 10**40, "", "/", "a//b", "@", "@x/", "..", "a/../b", [], {}, [[]], {"a": 1}, "é\u202e",
    "*", "x" * 3000, "2026-99-99", "1h", "gauges", "@saltmarsh", "gauges/host", "gauges/nokind/x", "\ud800", "\0",
]  # fmt: skip
WORDS = ("x", "when", "until", "name", "glob", "not", "enthesis", "section", "admits", "claims", "kind")
EXPECTED = (EnthesisError, InnerError)
NOW = 1_800_000_000.0


def mangled(value: Any, rng: Random) -> Any:
    """The same data with one thing in it another, missing, or there besides."""
    if rng.random() < 0.3 or not isinstance(value, dict | list) or not value:
        return rng.choice(JUNK)
    if isinstance(value, list):
        at = rng.randrange(len(value))
        return [*value[:at], mangled(value[at], rng), *value[at + 1 :]]
    key, draw = rng.choice(list(value)), rng.random()
    if draw < 0.15:
        return {name: one for name, one in value.items() if name != key}
    if draw < 0.25:
        return {**value, rng.choice(WORDS): rng.choice(JUNK)}
    return {**value, key: mangled(value[key], rng)}


def bytes_mangled(data: bytes, rng: Random) -> bytes:
    """The same bytes with a few of them others, gone, or twice."""
    out = bytearray(data)
    for _ in range(rng.randint(1, 4)):
        at = rng.randrange(len(out) + 1)
        draw = rng.random()
        if draw < 0.4:
            out[at:at] = bytes([rng.randrange(256)]) * rng.choice([1, 1, 1, 50])
        elif draw < 0.7:
            del out[at : at + rng.choice([1, 1, 10])]
        else:
            out[at:at] = out[max(0, at - 20) : at]
    return bytes(out)


def catalogue() -> Catalogue:
    return packaged_catalogue(TreeCache(None))


def _texts() -> dict[str, str]:
    return {path.name: path.read_text(encoding="utf-8") for path in sorted(SALTMARSH.glob("*.yaml"))}


def asked_everything(estate: Any) -> None:
    """Compiles an estate and asks who comes to something, as commands do."""
    compiled = compile_estate(estate)
    web = Web(compiled, NOW)
    for place in compiled.identity_places[:2]:
        coming_to(web, web.rows_on(int(place), wanted_permissions(compiled, ["take-on"], [])))


class Targets:
    """One method for each parser of outside data: mangles something good, and reads it."""

    def __init__(self) -> None:
        self.catalogue = catalogue()
        self.texts = _texts()
        read = read_texts(self.texts).estate
        assert read is not None
        self.estate = read
        self.records = [json.loads(line) for line in SURVEY.read_text(encoding="utf-8").splitlines()]
        del self.records[-1]["digest"]  # which would refuse every change before anything is looked at
        self.folder = Path(tempfile.mkdtemp())
        self.asked = estate(THEIRS)

    def estate_data(self, rng: Random) -> None:
        name = rng.choice(list(self.texts))
        text = yaml.safe_dump(json.loads(json.dumps(mangled(yaml.safe_load(self.texts[name]), rng), default=str)))
        found = read_texts({**self.texts, name: text})
        if found.estate is not None:
            asked_everything(found.estate)

    def estate_bytes(self, rng: Random) -> None:
        name = rng.choice(list(self.texts))
        text = bytes_mangled(self.texts[name].encode(), rng).decode(errors="replace")
        found = read_texts({**self.texts, name: text})
        if found.estate is not None:
            asked_everything(found.estate)

    def survey(self, rng: Random) -> None:
        records = list(self.records)
        for _ in range(rng.choice([1, 1, 3])):
            at = rng.randrange(len(records))
            records[at] = mangled(records[at], rng) if rng.random() < 0.9 else records[rng.randrange(len(records))]
        found = read_survey([json.dumps(one) for one in records], "live", self.catalogue)
        asked_everything(found.estate)
        asked_everything(beside(self.estate, found))

    def survey_bytes(self, rng: Random) -> None:
        lines = SURVEY.read_bytes().splitlines()
        at = rng.randrange(len(lines))
        lines[at] = bytes_mangled(lines[at], rng)
        read_survey([one.decode(errors="replace") for one in lines], "live", self.catalogue)

    def proposal(self, rng: Random) -> None:
        try:
            plan = mangled(PROPOSAL, rng)
            read = proposal_from({**plan, "digest": digest_of(plan)} if isinstance(plan, dict) else plan)
        except ValueError as fault:  # said as an error of the file
            assert str(fault)
            return
        list(proposal_lines(read))
        list(proposal_markdown(read))
        try:
            refuse_if_different(read, proposal_from(PROPOSAL), ())
        except EnthesisError as fault:
            assert fault.message

    def handoff(self, rng: Random) -> None:
        try:
            read = unchecked_handoff(mangled(HANDOFF, rng))
            list(handoff_lines(read))
            list(handoff_markdown(read))
            additions(self.asked, read)
        except ValueError as fault:
            assert str(fault)

    def answer(self, rng: Random) -> None:
        try:
            taken = TakenAnswer(answer_from(mangled(ANSWER, rng)), verified=True)
            list(life_lines("x", list(lives([("t", ASKED)], [taken], (), ()))))
        except ValueError as fault:
            assert str(fault)

    def usage(self, rng: Random) -> None:
        place = self.folder / "usage.jsonl"
        rows = [json.dumps(mangled(one, rng) if rng.random() < 0.5 else one) for one in USAGE]
        place.write_text("\n".join([json.dumps(USAGE_HEAD), *rows]), encoding="utf-8", errors="replace")
        if rng.random() < 0.2:
            place.write_bytes(bytes_mangled(place.read_bytes(), rng))
        read_usage([place], self.estate, datetime.fromtimestamp(NOW, UTC), chains=rng.random() < 0.5)

    def token(self, rng: Random) -> None:
        parsed(bytes_mangled(TOKEN, rng))

    def kubeconfig(self, rng: Random) -> None:
        place = self.folder / "config"
        data = json.dumps(mangled(KUBECONFIG, rng)).encode()
        place.write_bytes(data if rng.random() < 0.7 else bytes_mangled(data, rng))
        from_kubeconfigs([place])

    def connection(self, rng: Random) -> None:
        """The files by which a person says how something is reached."""
        name = rng.choice(list(CONNECTIONS))
        place = self.folder / name
        data = json.dumps(mangled(CONNECTIONS[name], rng)).encode()
        place.write_bytes(data if rng.random() < 0.7 else bytes_mangled(data, rng))
        if name == "directory":
            directory_at("@saltmarsh", place, "https://people.example/scim/v2").client.close()
        elif name == "client":
            client_entry(place.read_bytes(), "forge")
        elif name == "database":
            database_access(place)
        elif name == "key":
            key_at(place)
        else:
            state = self.folder / "lab"
            state.mkdir(exist_ok=True)
            place.replace(state / "administrators.json")
            sessions_of(Running(state, "tides", 0, state / "authority.pem", ()))

    def keys(self, rng: Random) -> None:
        keys_of(mangled(KEY_SET, rng))

    def assertion(self, rng: Random) -> None:
        data = bytes_mangled(ASSERTION, rng)
        try:
            assert asserting().attributes_in(sent(data)) == ASSERTED  # what was signed, or nothing
        except TokenRefused as refused:
            assert str(refused)
        asserted(data)

    def directory(self, rng: Random) -> None:
        def answer(request: httpx.Request) -> httpx.Response:
            entries = [mangled(one, rng) if rng.random() < 0.5 else one for one in ENTRIES]
            body = {"totalResults": len(entries), "Resources": entries}
            return httpx.Response(200, json=mangled(body, rng) if rng.random() < 0.3 else body)

        list(kept_directory(answer).records(lambda name: None))

    def answers(self, rng: Random) -> None:
        def answer(request: httpx.Request) -> httpx.Response:
            if "well-known" in request.url.path and rng.random() < 0.8:
                return httpx.Response(200, json=WELL)
            status = rng.choice([200, 200, 200, 201, 204, 302, 400, 401, 403, 404, 409, 412, 422, 500])
            body = json.dumps(mangled(rng.choice(ANSWERS), rng)).encode()
            return httpx.Response(status, content=body if rng.random() < 0.8 else bytes_mangled(body, rng))

        transport = httpx.MockTransport(answer)
        with Client("x", URL, way=Connection(CONTEXT), transport=transport) as client:
            ports = [(name, ask) for name, ask in asked_of(client, transport) if "issuer" not in name]
            rng.choice(ports)[1]()


SURVEY = Path(__file__).parent / "corpora" / "survey.jsonl"
TOKEN = (
    b"eyJhbGciOiJFUzI1NiIsImtpZCI6IjEiLCJ0eXAiOiJKV1QifQ."
    b"eyJpc3MiOiJodHRwczovL2ZvcmdlLmV4YW1wbGUiLCJzdWIiOiJhIiwiYXVkIjoiYiIsImV4cCI6MTgwMDAwMDAwMH0."
    b"c2lnbmF0dXJlLXRoYXQtaXMtbm9uZS1idXQtbG9uZy1lbm91Z2gtdG8tYmUtb25lLW9mLTY0LWJ5dGVzLWhlcmU"
)
KEY_SET = {
    "keys": [
        {"kty": "EC", "kid": "1", "crv": "P-256", "alg": "ES256", "use": "sig",
         "x": "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU", "y": "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0"},
        {"kty": "OKP", "kid": "2", "crv": "Ed25519", "x": "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"},
    ]
}  # fmt: skip
KUBECONFIG = {
    "apiVersion": "v1", "kind": "Config", "current-context": "c",
    "clusters": [{"name": "k", "cluster": {"server": "https://k.example", "certificate-authority": "missing.pem"}}],
    "users": [{"name": "u", "user": {"token": "secret-token", "tokenFile": "none"}}],
    "contexts": [{"name": "c", "context": {"cluster": "k", "user": "u", "namespace": "n"}}],
}  # fmt: skip
PROPOSAL: dict[str, Any] = json.loads(json.dumps(Proposal(
    "x",
    steps=(Step("make", "p", "grants", "a", "s", "x", {"to": "a/identity/i", "role": "r", "at": "a"}),),
    blocked=(Blocked("s", "w", "h"),),
    lives_on=(("a/identity/i", "1h"),),
    seen={"p": {"1": "e"}},
    dangers=(Danger("n", ("s",)),),
    openings=(Opening("s", ("o",)),),
    gives=("g",),
).as_json()))  # fmt: skip
CONNECTIONS: dict[str, Any] = {
    "key": {"id": "1", "form": "access-key", "value": "v", "expires": "2099-01-01T00:00:00Z"},
    "client": {"client_id": "c", "private_key": {"kty": "EC", "crv": "P-256", "x": "a", "y": "b", "d": "c"}},
    "directory": {"url": "https://people.example/scim/v2", "token": "t"},
    "database": "postgresql://name@host.example/levels",
    "administrators": [{"cloud": "lowland", "holder": "gauges", "session": "s"}, {"lab-owner": "w"}],
}  # fmt: skip
ASKED = made()
HANDOFF: dict[str, Any] = json.loads(json.dumps(ASKED.as_json()))
ANSWER = HandoffAnswer(ASKED.reference, "@harbour", "done", "all of it", "2026-12-01T00:00:00Z").as_json()
USAGE_HEAD: dict[str, Any] = {"enthesis": "usage", "version": 1, "taken": "2027-01-01T00:00:00Z"}
USAGE: list[Any] = [
    {"time": "2026-12-01T00:00:00Z", "caller": "gauges/host/collector-1", "identity": "gauges/identity/collector",
     "verb": "write", "target": "gauges/bucket/raw-levels/object/x", "outcome": "allowed",
     "origin": {"kind": "host", "address": "gauges/host/collector-1"}, "through": ["gauges/identity/collector"]},
    {"time": "2026-12-01T00:00:00Z", "caller": "@saltmarsh/identity/jonas", "identity": "@saltmarsh/identity/jonas",
     "verb": "take-on", "target": "gauges/identity/calibrator", "outcome": "refused"},
]  # fmt: skip
META = {"name": "n", "namespace": "n", "uid": "1", "resourceVersion": "1"}
ASSERTION = signed()
ASSERTED = asserting().attributes_in(sent(ASSERTION))
ENTRIES: list[Any] = [
    {"id": "1", "userName": "ann", "active": False, "externalId": "x @orchard/identity/ann", "meta": {"version": "1"}},
    {"id": "2", "userName": "press/identity/printer", "userType": "service-account"},
    {"id": "3", "displayName": "printers", "members": [{"value": "1"}, {"value": "9"}]},
]
ANSWERS: list[Any] = [
    {"items": [{"id": "1", "holder": "a", "etag": "e", "mark": None, "address": "a/identity/i", "kind": "person"}]},
    {"accounts": ["a"], "resources": ["a/bucket/b"], "people": {"@x/identity/p": "1"},
     "shared_logins": {"a/registry/r": True}, "side": "1"},
    {"access_token": "t.t.t", "expires_in": 60, "token_type": "Bearer", "host": "a/host/h", "identity": "a/identity/i"},
    {"items": [{"id": "1", "name": "k", "of": "a/identity/i", "form": "access-key", "fingerprint": "f"}]},
    {"kind": "List", "metadata": {"resourceVersion": "1", "continue": ""}, "items": [
        {"metadata": META, "rules": [{"verbs": ["get"], "apiGroups": [""], "resources": ["secrets"]}],
         "roleRef": {"kind": "Role", "name": "r", "apiGroup": "rbac.authorization.k8s.io"},
         "subjects": [{"kind": "ServiceAccount", "name": "s", "namespace": "n"}]}]},
    {"status": {"token": "t.t.t", "expirationTimestamp": "2030-01-01T00:00:00Z"}, "metadata": META},
    {"id": "1", "token_endpoint": "/runs/1/token", "token": "t.t.t", "expires_in": 60},
    {"device_code": "d", "user_code": "u", "verification_uri": URL, "expires_in": 60, "interval": 1},
    KEY_SET, WELL,
]  # fmt: skip


def tried(targets: Targets, name: str, seed: int) -> str:
    """One attempt: '' where it was read or refused as ours, else what escaped."""
    try:
        getattr(targets, name)(Random(seed))
    except EXPECTED:
        return ""
    except Exception as fault:
        return f"{name} {seed}: {type(fault).__name__}: {str(fault)[:200]}"
    return ""


NAMES = tuple(name for name in vars(Targets) if not name.startswith("_"))

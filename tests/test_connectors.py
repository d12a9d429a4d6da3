"""What every connector keeps: records are lines of a survey that reads back, nothing escapes, no secret is in them."""

import ast
import json
import re
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import httpx
import pytest

from enthesis.connectors.cluster.surveying import Cluster
from enthesis.connectors.http import Client
from enthesis.connectors.keys import IssuerKeys
from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue
from enthesis.live.surveying import SurveyedCloud, Writing
from enthesis.model.errors import EnthesisError
from enthesis.model.secrets import Secret
from enthesis.output.progress import Silent
from enthesis.ports import Record, Surveys
from enthesis.surveys.statements import LiveObject, Surveyed
from enthesis.surveys.survey import read_survey

from .clusters import RBAC
from .conftest import Program, write_estate
from .test_asking import MAIN
from .test_keys import key

DOCUMENT = (Path(__file__).parent.parent / "docs" / "concepts" / "connectors.md").read_text(encoding="utf-8")
TOKEN = Secret("a-token-that-must-not-be-seen")
HEAD: list[Record] = [
    {"section": "organisations", "name": "here"},
    {"section": "providers", "name": "lowland", "style": "two-sided"},
    {"section": "accounts", "name": "a", "in": "@here", "provider": "lowland"},
]
LISTS: Mapping[str, Any] = {
    "/api/v1/namespaces": [{"metadata": {"name": "n"}}],
    "/api/v1/serviceaccounts": [{"metadata": {"name": "s", "namespace": "n", "uid": "1"}}],
    f"/apis/{RBAC}/v1/clusterroles": [
        {"metadata": {"name": "r"}, "rules": [{"apiGroups": [""], "resources": ["*"], "verbs": ["*"]}]}
    ],
    f"/apis/{RBAC}/v1/rolebindings": [
        {"metadata": {"name": "b", "namespace": "n"}, "roleRef": {"kind": "ClusterRole", "name": "r"},
         "subjects": [{"kind": "ServiceAccount", "name": "s", "namespace": "n"}, {"kind": "Odd", "name": "x"}]}
    ],
}  # fmt: skip

SOURCES = Path(__file__).parent.parent / "src" / "enthesis"


def answering(request: httpx.Request) -> httpx.Response:
    if request.url.path.endswith("openid-configuration"):
        return httpx.Response(200, json={"issuer": "https://x.example", "jwks_uri": "https://x.example/keys"})
    if request.url.path == "/keys":
        return httpx.Response(200, json={"keys": [key("one")]})
    return httpx.Response(200, json={"items": LISTS.get(request.url.path, [])})


def broken(request: httpx.Request) -> httpx.Response:
    bodies = (b"", b"[]", b'{"items": 7}', b'{"items": [{}]}', b"{" * 5000)
    return httpx.Response(200, content=bodies[len(request.url.path) % len(bodies)])


def connectors(answer: Any) -> Iterator[Surveys]:
    """One of each of ours, answered in this process."""
    transport = httpx.MockTransport(answer)
    yield Cluster("a/cluster/c", "here", Client("c", "https://x.example", transport=transport), TOKEN)
    yield IssuerKeys("x", "https://x.example", lambda: 0.0, transport=transport)
    trust = {"of": "a/identity/i", "admits": {"token": "forge", "claims": {"sub": MAIN}}}
    objects = (
        LiveObject("lowland", "identities", "a", "1", "e", "m", {"address": "a/identity/i", "kind": "service-account"}),
        LiveObject("lowland", "trusts", "a", "2", "e", None, trust),
        LiveObject("lowland", "trusts", "a", "3", "e", None, {**trust, "of": {"gone": "a/identity/j"}}),
    )
    yield SurveyedCloud(Surveyed("lowland", ("a",), objects), "https://x.example")


NAMES = ["cluster", "issuer", "provider"]


@pytest.mark.parametrize("number", range(3), ids=NAMES)
def test_records_are_lines_of_a_survey_that_reads_back_and_hold_no_secret(number: int) -> None:
    connector = list(connectors(answering))[number]
    assert (connector.what, bool(connector.name), connector.url) == (NAMES[number], True, "https://x.example")
    steps: list[str] = []
    records = list(connector.records(steps.append))
    assert records and steps
    for record in records:
        assert {"section", "left_out", "finding", "keys_of", "listed", "read_up_to"} & record.keys(), record
        assert "why" in record or "left_out" not in record
    writing = Writing(None, datetime.now(UTC), [connector])
    lines = [line.decode() for line in writing.lines(HEAD, Silent())]
    assert TOKEN.reveal() not in "".join(lines)
    survey = read_survey(lines, "live", packaged_catalogue(TreeCache(None)))
    assert survey.complete and survey.of == (connector.name,)
    assert json.loads(lines[-1])["counts"] == dict(writing.counts)


@pytest.mark.parametrize("number", range(3), ids=NAMES)
@pytest.mark.parametrize(
    "answer",
    [
        broken,
        lambda request: httpx.Response(500),
        lambda request: httpx.Response(403, json={"message": "no"}),
        lambda request: (_ for _ in ()).throw(httpx.ConnectError("gone")),
        lambda request: (_ for _ in ()).throw(httpx.ReadTimeout("late")),
    ],
    ids=["broken", "failing", "refused_at", "away", "late"],
)
def test_whatever_a_system_does_only_our_errors_come_out(number: int, answer: Any) -> None:
    connector = list(connectors(answer))[number]
    try:
        records = list(connector.records(lambda what: None))
    except EnthesisError as fault:
        assert TOKEN.reveal() not in fault.message
    else:
        assert number == 2 or any(record.get("incomplete") for record in records)


def test_a_cluster_of_another_version_is_read_as_far_as_it_goes_and_said() -> None:
    def older(request: httpx.Request) -> httpx.Response:
        if request.url.path.startswith("/apis/"):
            return httpx.Response(404, json={"kind": "Status", "message": "the server could not find that"})
        return answering(request)

    connector = next(connectors(older))
    records = list(connector.records(lambda what: None))
    left = {record["left_out"]: record["why"] for record in records if record.get("incomplete")}
    assert {what.split()[0] for what in left} == {"roles", "bindings"} and len(left) == 4
    assert all("answered 404" in why for why in left.values())
    assert any(record.get("section") == "identities" for record in records)


def test_the_documented_connector_is_complete_and_is_found(enthesis: Program, tmp_path: Path) -> None:
    code, _ = re.findall(r"```python\n(.*?)```", DOCUMENT, re.DOTALL)
    (tmp_path / "sheds.py").write_text(code)
    (tmp_path / "keys.json").write_text(json.dumps({"boats": ["ines", "a/b"], "nets": ["tomas"]}))
    place = tmp_path / "sheds-1.0.dist-info"
    place.mkdir()
    (place / "METADATA").write_text("Metadata-Version: 2.1\nName: sheds\nVersion: 1.0\n")
    (place / "entry_points.txt").write_text("[enthesis.surveys]\nsheds = sheds:Sheds\n")
    more = {"PYTHONPATH": str(tmp_path)}
    ran = enthesis("survey", "--with", "sheds=keys.json", "--out", "live.jsonl", at=tmp_path, **more)
    assert ran.code == 0, ran.err
    assert "'a/b' is not a name for an address" in ran.err
    ran = enthesis("reach", "--survey", "live.jsonl", "--to", "sheds/shed/boats", at=tmp_path)
    assert ran.code == 0 and "ines" in ran.out and "tomas" not in ran.out
    ran = enthesis("survey", "--with", "barns=x", at=tmp_path, **more)
    assert ran.code == 2 and "installed: sheds" in ran.err


ELSEWHERE = """
from dataclasses import dataclass, field
from pathlib import Path

from enthesis.ports import Changed
from enthesis.surveys.statements import Surveyed


@dataclass
class Dunes:
    services: list = field(default_factory=lambda: [{"name": "lowland", "kind": "dune", "url": "https://x.example"}])
    authority: Path = Path("none.pem")
    absent: dict = field(default_factory=dict)

    def url_of(self, service):
        return None

    def sessions(self):
        return []

    def shown_by_owner(self):
        return {}


def of_estate(folder):
    return Dunes() if (folder / ".enthesis" / "dunes").exists() else None


class Dune:
    name = "lowland"

    def take_on(self, shown, identity, narrowed, asked):
        raise AssertionError

    def survey(self, holders, others=()):
        return Surveyed("lowland", tuple(holders), accounts=frozenset(holders))

    def change(self, step, ids, key=""):
        return Changed("1", "1")

    def learn(self, step, made, ids):
        pass

    def in_force(self, step, made):
        return True

    def rights(self, holders, steps):
        return []

    def lacking(self, steps):
        return []

    def objection(self, collection, body, allows):
        return ""


def joined(service):
    return {"providers": {service.name: Dune()}}
"""


def test_a_stand_in_and_the_connector_of_its_kind_come_from_elsewhere(enthesis: Program, tmp_path: Path) -> None:
    """Without a change to any file of the tool."""
    text = """\
estate: shop
organisations: {home: {}}
providers: {lowland: {style: one-sided}}
accounts: {shop: {in: "@home", provider: lowland}}
identities: {shop/identity/worker: {kind: service-account}}
"""
    folder = write_estate(tmp_path / "estate", {"estate.yaml": text})
    (tmp_path / "dunes.py").write_text(ELSEWHERE)
    place = tmp_path / "dunes-1.0.dist-info"
    place.mkdir()
    (place / "METADATA").write_text("Metadata-Version: 2.1\nName: dunes\nVersion: 1.0\n")
    groups = "[enthesis.stand_ins]\ndunes = dunes:of_estate\n[enthesis.connectors]\ndune = dunes:joined\n"
    (place / "entry_points.txt").write_text(groups)
    more = {"PYTHONPATH": str(tmp_path)}
    assert enthesis("propose", at=folder, **more).code == 3  # nothing stands in yet
    (folder / ".enthesis").mkdir()
    (folder / ".enthesis" / "dunes").touch()
    ran = enthesis("propose", at=folder, **more)
    assert ran.code == 0 and "the service-account shop/identity/worker" in ran.out, ran.out + ran.err
    assert enthesis("enact", "--yes", at=folder, **more).code == 0


def test_no_connector_has_a_method_that_only_refuses_or_agrees() -> None:
    """A port that a connector cannot serve is a port that it has not. To take no note is no answer (`learn`)."""
    silent = []
    for path in sorted((SOURCES / "connectors").rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            its = (
                [one for one in node.body if isinstance(one, ast.FunctionDef)] if isinstance(node, ast.ClassDef) else []
            )
            is_port = isinstance(node, ast.ClassDef) and any("Protocol" in ast.unparse(one) for one in node.bases)
            silent += [f"{path.name} {one.name}" for one in its if not is_port and says_nothing(one)]
    assert silent == []
    planted = ast.parse("def change(self):\n    '''Does.'''\n    raise InvalidInput('no')").body[0]
    assert isinstance(planted, ast.FunctionDef) and says_nothing(planted)


def says_nothing(method: ast.FunctionDef) -> bool:
    """Whether a public method is a single refusal or a constant answer."""
    left = [one for one in method.body if not (isinstance(one, ast.Expr) and isinstance(one.value, ast.Constant))]
    if method.name.startswith("_") or method.name == "learn" or len(left) > 1:
        return False
    return (
        not left
        or isinstance(left[0], ast.Raise)
        or (isinstance(left[0], ast.Return) and isinstance(left[0].value, ast.Constant))
    )

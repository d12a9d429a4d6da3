"""A survey that reads on from an earlier one says what one from the beginning says."""

import json
import ssl
from collections.abc import Iterator
from pathlib import Path
from random import Random
from typing import Any

import httpx
import pytest

from enthesis.connectors.cluster.refreshing import Refreshed
from enthesis.connectors.cluster.surveying import Cluster
from enthesis.connectors.http import Client
from enthesis.model.secrets import Secret

from .clusters import GRID, NAMESPACES, RBAC, Api, cluster_lab, grid_estate, group, service_account
from .conftest import Program

SPEC = {"containers": [{"name": "main", "image": "lab"}]}
PATCH = {"Content-Type": "application/merge-patch+json"}


@pytest.fixture
def own(enthesis: Program, tmp_path: Path) -> Iterator[tuple[Path, Api]]:
    place = grid_estate(tmp_path / "own")
    with cluster_lab(enthesis, place) as api:
        yield place, api


def said(path: Path) -> set[str]:
    """What a survey says besides when, in no order."""
    lines = [json.loads(line) for line in path.read_text().splitlines()[1:-1]]
    entries = [{"of": one["listed"], **entry} for one in lines if "listed" in one for entry in one["objects"]]
    entries += [one for one in lines if "read_up_to" not in one and "listed" not in one]
    return {json.dumps(one, sort_keys=True) for one in entries}


class Noting(httpx.HTTPTransport):
    """Notes what is asked for."""

    def __init__(self, into: list[httpx.URL], authority: str) -> None:
        super().__init__(verify=ssl.create_default_context(cafile=authority))
        self.into = into

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        self.into.append(request.url)
        return super().handle_request(request)


def change(api: Api, rng: Random, number: int) -> None:
    """One change of one thing, of any kind."""
    space = rng.choice(NAMESPACES[:3])
    base = f"/api/v1/namespaces/{space}"
    kind = rng.randrange(10)
    if kind == 0:
        spec = {**SPEC, "serviceAccountName": rng.choice(("default", "a1"))}
        api.made(f"{base}/pods", {"metadata": {"name": f"p{number}"}, "spec": spec})
    elif kind == 1:
        api.account(space, f"a{number}")
    elif kind == 2:
        notes = {"kubernetes.io/service-account.name": "default"} if rng.random() < 0.4 else {}
        api.made(f"{base}/secrets", {"metadata": {"name": f"s{number}", "annotations": notes}})
    elif kind == 3:
        names = rng.choice(({}, {"resourceNames": ["db"]}))
        verbs = [rng.choice(("get", "create", "impersonate"))]
        what = rng.choice((["secrets"], ["serviceaccounts"], ["pods"], ["*"]))
        api.role(f"r{number}", [{"apiGroups": [""], "resources": what, "verbs": verbs, **names}])
    elif kind == 4:
        whom = rng.choice((service_account(space, "default"), group("ops"), {"kind": "User", "name": f"u{number}"}))
        api.binding(f"b{number}", rng.choice(("view", "edit", "cluster-admin")), [whom], rng.choice(("", space)))
    elif kind == 5:
        path = f"{base}/serviceaccounts/default"
        api.http.patch(path, content=json.dumps({"metadata": {"labels": {"x": f"v{number}"}}}), headers=PATCH)
    elif kind == 6:
        api.made("/api/v1/namespaces", {"metadata": {"name": f"n{number}"}})
    else:  # something goes
        path, of_namespace = rng.choice((
            ("pods", True), ("secrets", True), ("serviceaccounts", True), (f"{RBAC}/clusterroles", False),
            (f"{RBAC}/clusterrolebindings", False), (f"{RBAC}/rolebindings", True), ("namespaces", False),
        ))  # fmt: skip
        group_of, _, plural = path.rpartition("/")
        root = f"/apis/{group_of}/v1" if group_of else "/api/v1"
        where = f"{root}/namespaces/{space}/{plural}" if of_namespace else f"{root}/{plural}"
        there = [one["metadata"]["name"] for one in api.http.get(where).json()["items"]]
        chosen = [one for one in there if one not in (*NAMESPACES, "kube-system", "default")]
        if chosen:
            assert api.http.delete(f"{where}/{rng.choice(chosen)}").status_code == 200


def test_reading_on_says_what_reading_anew_says(enthesis: Program, own: tuple[Path, Api], tmp_path: Path) -> None:
    folder, api = own
    rng, number = Random(5), 0

    def survey(*words: str) -> str:
        ran = enthesis("survey", "--cluster", GRID, *words, at=folder)
        assert ran.code == 0, ran.err
        return ran.err

    survey("--out", "live.jsonl")
    for count in (0, 1, 1, 3, 12, 40):
        for _ in range(count):
            number += 1
            change(api, rng, number)
        told = survey("--since", "live.jsonl", "--out", "live.jsonl")
        assert "from the beginning" not in told
        survey("--out", "anew.jsonl")
        assert said(folder / "live.jsonl") == said(folder / "anew.jsonl"), count
    # of some namespaces, of another cluster's survey, and of what is not a survey
    told = survey("--namespace", "tiles", "--since", "live.jsonl", "--out", "part.jsonl")
    assert "from the beginning" in told
    assert "from the beginning" not in survey("--namespace", "tiles", "--since", "part.jsonl", "--out", "part.jsonl")
    (folder / "no.jsonl").write_text('{"enthesis": "survey"}\n')
    assert enthesis("survey", "--cluster", GRID, "--since", "no.jsonl", at=folder).code == 2
    assert enthesis("survey", "--cluster", GRID, "--since", "nowhere.jsonl", at=folder).code == 2


def test_only_what_changed_is_asked_for(own: tuple[Path, Api]) -> None:
    """Also where access changed: a survey keeps roles and bindings as they are listed, without what they are marked
    with."""
    _, api = own
    asked: list[httpx.URL] = []
    rule = {"apiGroups": [""], "resources": ["secrets"], "verbs": ["get"]}
    note = {"note": "secret-note-of-nobody"}
    for name in ("before", "after"):
        with Client(GRID, api.url, transport=Noting(asked, api.authority)) as client:
            cluster = Cluster(GRID, "saltmarsh", client, Secret(api.token))
            if name == "before":
                before = list(cluster.records(lambda what: None))
                api.role("new", [rule], metadata={"annotations": note})
                api.binding("b", "new", [{"kind": "User", "name": "ann"}], "tiles")
                continue
            asked.clear()
            after = list(Refreshed(cluster, before[-1], iter(before[:-1])).records(lambda what: None))
    assert any(one.get("role") == "grid:new" for one in after) and "secret-note" not in json.dumps(after)
    others = {url.path for url in asked if "watch" not in url.params}
    assert not any(path.endswith(("roles", "bindings", "pods", "secrets", "accounts")) for path in others)
    assert sum("watch" in url.params for url in asked) == 8


@pytest.mark.parametrize("damage", ["a line", "a bracket", "the end"])
def test_a_survey_that_was_changed_is_not_read_on_from(
    enthesis: Program, own: tuple[Path, Api], tmp_path: Path, damage: str
) -> None:
    folder, _ = own
    file = folder / "live.jsonl"
    assert enthesis("survey", "--cluster", GRID, "--out", file.name, at=folder).code == 0
    lines = file.read_bytes().splitlines(keepends=True)
    if damage == "a line":
        del lines[20]
    elif damage == "a bracket":
        lines[20] = lines[20].replace(b"}", b"", 1)
    else:
        lines.pop()
    file.write_bytes(b"".join(lines))
    before = file.read_bytes()
    ran = enthesis("survey", "--cluster", GRID, "--since", file.name, "--out", file.name, at=folder)
    assert (ran.code, file.read_bytes()) == (2, before)
    assert "not those that were written" in ran.err if damage != "the end" else "is not a survey" in ran.err


@pytest.mark.parametrize(
    "forgotten", ["nothing", "an event", "an answer", "a right", "a partial survey", "another version", "lists"]
)
def test_what_cannot_be_read_on_is_read_anew(forgotten: str) -> None:
    pod: dict[str, Any] = {"metadata": {"name": "p", "namespace": "n", "resourceVersion": "7"}}
    there = {"pods": [pod], "clusterroles": [{"metadata": {"name": "r"}, "rules": []}]}

    def answer(request: httpx.Request) -> httpx.Response:
        if "watch" in request.url.params:
            if forgotten in ("an answer", "a right"):
                return httpx.Response(410 if forgotten == "an answer" else 403, json={"kind": "Status"})
            error = {"type": "ERROR", "object": {"kind": "Status", "code": 410}}
            return httpx.Response(200, content=json.dumps(error) if forgotten == "an event" else "")
        if request.url.path in {"/apis", "/api/v1"}:
            return httpx.Response(200, json={})
        items = there.get(request.url.path.rpartition("/")[2], [])
        return httpx.Response(200, json={"items": items, "metadata": {"resourceVersion": "7"}})

    told: list[str] = []
    with Client(GRID, "https://grid.example", transport=httpx.MockTransport(answer)) as client:
        cluster = Cluster(GRID, "saltmarsh", client, None)
        before = list(cluster.records(lambda what: None))
        if forgotten == "a partial survey":
            before.insert(0, {"left_out": "x", "why": "y", "incomplete": True})
        elif forgotten == "another version":
            before.pop()
        elif forgotten == "lists":
            before = [one for one in before if "listed" not in one]
        again = list(Refreshed(cluster, before[-1], before[:-1], told.append).records(lambda what: None))
        if forgotten == "nothing":
            assert not told and again == before
            return
    assert len(told) == 1 and "read from the beginning" in told[0]
    assert any(str(one.get("address")).endswith("workload/p") for one in again)

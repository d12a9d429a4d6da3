"""Awkward clusters, read in this process: hostile names, missing fields, unknown subjects, a part that is down."""

import json
from collections.abc import Mapping
from datetime import UTC, datetime
from random import Random
from types import SimpleNamespace
from typing import Any

import httpx

from enthesis.connectors.cluster.paths import name_of, word_of
from enthesis.connectors.cluster.surveying import Cluster
from enthesis.connectors.http import Client
from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue, read_texts
from enthesis.live.surveying import Writing, head_of
from enthesis.model.estate import Attempt, Context, Origin
from enthesis.surveys.survey import Survey, read_survey
from enthesis.verdicts.compiling import compile_estate
from enthesis.verdicts.judge import Judge
from enthesis.verdicts.questions import Question

from .campaign import Quiet
from .clusters import GRID, HEAD, RBAC
from .rbac import Caller, Documented

NOW = datetime(2026, 11, 25, tzinfo=UTC)

HOSTILE = (
    "dora", "a/b", "..", ".", "*", "a?b", "%", "%2F", "@saltmarsh", "a b", "a\u202eb", "a\nb", "x=y", "\\", "https://i#c",
    "system:serviceaccount:nowcast:reader", "system:serviceaccount:x", "system:nodes", "anybody else", "käthe", "'; --",
)  # fmt: skip


def awkward(rng: Random) -> dict[str, list[dict[str, Any]]]:
    """The lists of a random cluster whose users and groups have hostile names; now and then a field is missing."""
    verbs = ("get", "list", "*", "create", "impersonate")
    rules: list[dict[str, Any]] = [
        {"apiGroups": rng.choice(([""], ["*"])), "verbs": [rng.choice(verbs)],
         "resources": rng.choice((["secrets"], ["*"], ["pods"], ["secrets", "x/y"])),
         **({"resourceNames": [rng.choice(("db", *HOSTILE))]} if rng.random() < 0.2 else {})}
        for _ in range(12)
    ]  # fmt: skip
    roles: list[dict[str, Any]] = [
        {"metadata": {"name": f"r{number}"}, "rules": [one]} for number, one in enumerate(rules)
    ]
    roles.append({"metadata": {"name": "none"}})
    bindings: list[dict[str, Any]] = []
    for number in range(18):
        kind = rng.choice(("User", "User", "Group", "ServiceAccount", "Robot"))
        name = rng.choice(HOSTILE) if kind != "ServiceAccount" else rng.choice(("reader", "gone"))
        subject = {"kind": kind, "name": name, **({"namespace": "nowcast"} if kind == "ServiceAccount" else {})}
        subjects = {"subjects": [subject]} if rng.random() < 0.95 else {}
        meta: dict[str, Any] = {"name": f"b{number}", **({"namespace": "nowcast"} if number % 2 else {})}
        role = {"kind": "ClusterRole", "name": rng.choice(roles)["metadata"]["name"]}
        bindings.append({"metadata": meta, "roleRef": role, **subjects, "unknownField": {"a": [1]}})
    return {
        "/api/v1/namespaces": [{"metadata": {"name": "nowcast"}}],
        "/api/v1/serviceaccounts": [{"metadata": {"name": "reader", "namespace": "nowcast"}}],
        "/api/v1/secrets": [{"metadata": {"name": "db", "namespace": "nowcast"}}],
        "/api/v1/pods": [{"metadata": {"name": "p", "namespace": "nowcast"}}],
        f"/apis/{RBAC}/v1/clusterroles": roles,
        f"/apis/{RBAC}/v1/roles": [],
        f"/apis/{RBAC}/v1/clusterrolebindings": [one for one in bindings if "namespace" not in one["metadata"]],
        f"/apis/{RBAC}/v1/rolebindings": [one for one in bindings if "namespace" in one["metadata"]],
    }


def records_of(lists: Mapping[str, list[dict[str, Any]]], broken: Mapping[str, int] = {}) -> list[dict[str, Any]]:
    """What a survey says of a cluster with these lists; `broken` are paths with the status that they answer."""

    def answer(request: httpx.Request) -> httpx.Response:
        path = request.url.path
        if path in broken:
            return httpx.Response(broken[path], json={"kind": "Status", "message": "down"})
        if path in lists:
            return httpx.Response(200, json={"items": lists[path], "metadata": {}})
        if path == "/apis":
            groups = [{"name": "metrics.example", "preferredVersion": {"groupVersion": "metrics.example/v1beta1"}}]
            return httpx.Response(200, json={"groups": groups})
        if path in ("/api/v1", "/apis/metrics.example/v1beta1"):
            return httpx.Response(200, json={"resources": [{"name": "gauges", "namespaced": True, "verbs": ["get"]}]})
        return httpx.Response(404, json={"kind": "Status", "message": "not found"})

    client = Client(GRID, "https://grid.example", transport=httpx.MockTransport(answer))
    client.sleep = lambda seconds: None
    with client:
        return [dict(one) for one in Cluster(GRID, "saltmarsh", client, None).records(lambda what: None)]


def estate_of(records: list[dict[str, Any]]) -> Survey:
    """The survey that these records are, as a file has it and as it is read again."""
    described = read_texts({"estate.yaml": HEAD.partition("resources:")[0]}).estate
    assert described is not None
    system = SimpleNamespace(
        what="cluster", name=GRID, url="https://grid.example", about={}, records=lambda step: records
    )
    writing = Writing("grid", NOW, [system])
    lines = writing.lines([one for one in head_of(described) if one["section"] != "resources"], Quiet())
    return read_survey((line.decode() for line in lines), "live.jsonl", packaged_catalogue(TreeCache(None)))


def test_nobody_who_may_read_a_secret_is_missed_whatever_the_names_are() -> None:
    found = 0
    for seed in range(60):
        lists = awkward(Random(seed))
        survey = estate_of(records_of(lists))
        paths = [f"/apis/{RBAC}/v1/{one}" for one in ("clusterroles", "roles", "clusterrolebindings", "rolebindings")]
        documented = Documented(*(lists[path] for path in paths))
        judge = Judge(compile_estate(survey.estate))
        missing = " ".join(f"{one.what} {one.why}" for one in survey.left_out)
        for name in HOSTILE:
            for caller in (
                Caller("", name, ("system:authenticated",)),
                Caller("", "x", (name, "system:authenticated")),
            ):
                asked = {"verb": "get", "group": "", "resource": "secrets", "namespace": "nowcast", "name": "db"}
                if not documented.allows(caller, asked):
                    continue
                found += 1
                word = word_of(name)
                known = [f"@saltmarsh/identity/{word}", f"surge/identity/{word}"] if caller.user == name else []
                if name == "system:serviceaccount:nowcast:reader" and known:
                    known = [f"{GRID}/namespace/nowcast/identity/reader"]
                elif not known:
                    known = [f"@saltmarsh/identity/anybody of {word}"]
                who = [one for one in known if one in survey.estate.identities]
                assert who, (seed, caller, missing)
                form = "person" if who[0].startswith("@") else "identity"
                attempt = Attempt("fetch", f"{GRID}/namespace/nowcast/secret/db")
                verdict = judge.judge(Question(Origin(form, who[0]), (), attempt, Context(), NOW))
                assert verdict.allowed, (seed, caller, verdict.refused_at)
        assert "Robot" not in json.dumps(lists) or "Robot" in missing or not any(
            "Robot" in json.dumps(one) for path in paths[2:] for one in lists[path]
        )  # fmt: skip
    assert found > 100


def test_one_group_of_the_interface_that_is_down_is_missing_and_nothing_else() -> None:
    lists = awkward(Random(3))
    whole = records_of(lists)
    part = records_of(lists, {"/apis/metrics.example/v1beta1": 503})
    gone = [one for one in part if one.get("incomplete")]
    assert [one["left_out"] for one in gone] == ["the resources of metrics.example"]
    kept = [one for one in whole if "metrics.example" not in json.dumps(one)]
    assert len(kept) < len(whole)
    for fields in (("section", "address"), ("section", "to", "at")):
        read, left = ({tuple(map(one.get, fields)) for one in those if fields[1] in one} for those in (kept, part))
        assert read == left


def test_names_and_paths_are_said_in_addresses_and_found_again() -> None:
    for name in (*HOSTILE, ""):
        word = word_of(name)
        assert name_of(word) == name and "/" not in word and word not in ("", ".", "..")
        assert not set("*?\\=@") & set(word)
    assert len({word_of(name) for name in HOSTILE}) == len(HOSTILE)

"""Awkward clusters, read in this process: hostile names, missing fields, unknown subjects, a part that is down."""

import json
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from types import SimpleNamespace
from typing import Any

import httpx
import pytest

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.connectors.cluster.surveying import Cluster
from enthesis.connectors.http import Client, Connection
from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue, read_texts
from enthesis.live.surveying import Writing, head_of
from enthesis.model.estate import Attempt, Context, Origin
from enthesis.model.foreign_names import name_of, word_of
from enthesis.model.vocabulary import Form
from enthesis.surveys.survey import Survey, read_survey
from enthesis.verdicts.judge import Judge

from .campaign import Quiet
from .clusters import GRID, HEAD, RBAC
from .conftest import LONG, Program
from .rbac import Caller, Documented

CERTIFICATES = "certificates.k8s.io"
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


def of(group: str, resource: str, verb: str, *names: str) -> dict[str, Any]:
    """A rule for one verb on one resource, or on some of its name."""
    more = {"resourceNames": list(names)} if names else {}
    return {"apiGroups": [group], "resources": [resource], "verbs": [verb], **more}


def bound(role: str, subject: Mapping[str, str], namespace: str = "") -> dict[str, Any]:
    """A binding of a cluster role, in the whole cluster or in a namespace."""
    meta = {"name": f"{role}-{subject['name']}", **({"namespace": namespace} if namespace else {})}
    return {"metadata": meta, "roleRef": {"kind": "ClusterRole", "name": role}, "subjects": [dict(subject)]}


def records_of(
    lists: Mapping[str, list[dict[str, Any]]],
    broken: Mapping[str, int] = {},
    *,
    failing: Random | None = None,
    page: int = 0,
) -> list[dict[str, Any]]:
    """What a survey says of a cluster with these lists; `broken` are paths with the status that they answer.

    `failing` has three calls of ten fail for a while, and places in lists, of `page` objects, be forgotten.
    """

    def answer(request: httpx.Request) -> httpx.Response:
        path = request.url.path
        if path in broken:
            return httpx.Response(broken[path], json={"kind": "Status", "message": "down"})
        if failing is not None and failing.random() < 0.3:
            return httpx.Response(
                failing.choice((429, 500, 503)), headers={"Retry-After": "1"}, json={"message": "later"}
            )
        if path in lists:
            begin, size = int(request.url.params.get("continue", 0)), page or len(lists[path]) or 1
            if failing is not None and begin and failing.random() < 0.1:
                return httpx.Response(410, json={"kind": "Status", "reason": "Expired"})
            more = {"continue": str(begin + size)} if begin + size < len(lists[path]) else {}
            again = max(0, begin - 1) if failing is not None else begin  # lists that shift between two pages
            return httpx.Response(200, json={"items": lists[path][again : begin + size], "metadata": more})
        if path == "/apis":
            groups = [{"name": "metrics.example", "preferredVersion": {"groupVersion": "metrics.example/v1beta1"}}]
            return httpx.Response(200, json={"groups": groups})
        if path in ("/api/v1", "/apis/metrics.example/v1beta1"):
            return httpx.Response(200, json={"resources": [{"name": "gauges", "namespaced": True, "verbs": ["get"]}]})
        return httpx.Response(404, json={"kind": "Status", "message": "not found"})

    client = Client(
        GRID, "https://grid.example", transport=httpx.MockTransport(answer), way=Connection(after_faults=True)
    )
    client.sleep = lambda seconds: None
    with client:
        return [dict(one) for one in Cluster(GRID, "saltmarsh", client, None).records(lambda what: None)]


def lines_of(records: list[dict[str, Any]]) -> list[bytes]:
    """The file of a survey with these records."""
    described = read_texts({"estate.yaml": HEAD.partition("resources:")[0]}).estate
    assert described is not None
    system = SimpleNamespace(
        what="cluster", name=GRID, url="https://grid.example", about={}, records=lambda step: records
    )
    writing = Writing("grid", NOW, [system])
    return list(writing.lines([one for one in head_of(described) if one["section"] != "resources"], Quiet()))


def estate_of(records: list[dict[str, Any]]) -> Survey:
    """The survey that these records are, as it is read again from its file."""
    lines = (line.decode() for line in lines_of(records))
    return read_survey(lines, "live.jsonl", packaged_catalogue(TreeCache(None)))


def test_nobody_who_may_read_a_secret_is_missed_whatever_the_names_are() -> None:
    found = 0
    for seed in range(200 if LONG else 40):
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
                form = Form.PERSON if who[0].startswith("@") else Form.IDENTITY
                attempt = Attempt("fetch", f"{GRID}/namespace/nowcast/secret/db")
                verdict = judge.judge(Question(Origin(form, who[0]), (), attempt, Context(), NOW))
                assert verdict.allowed, (seed, caller, verdict.refused_at)
        assert "Robot" not in json.dumps(lists) or "Robot" in missing or not any(
            "Robot" in json.dumps(one) for path in paths[2:] for one in lists[path]
        )  # fmt: skip
    assert found > (350 if LONG else 70)


WAYS: dict[str, list[dict[str, Any]]] = {
    "as-dora": [of("", "users", "impersonate", "https://i#dora")],
    "as-helper": [of("", "users", "impersonate", "system:helper")],
    "as-ops": [of("", "groups", "impersonate", "ops"), of("", "users", "impersonate", "x")],
    "as-any-group": [of("", "groups", "impersonate"), of("", "serviceaccounts", "impersonate", "gone")],
    "as-any-user": [of("", "users", "impersonate")],
    "approving": [
        of(CERTIFICATES, "certificatesigningrequests", "create"),
        of(CERTIFICATES, "certificatesigningrequests/approval", "update"),
        of(CERTIFICATES, "signers", "approve", "kubernetes.io/*"),
    ],
    "signing": [
        of(CERTIFICATES, "certificatesigningrequests", "create"),
        of(CERTIFICATES, "certificatesigningrequests/status", "patch"),
        of(CERTIFICATES, "signers", "*"),
    ],
    "hooking": [of("admissionregistration.k8s.io", "mutatingwebhookconfigurations", "patch")],
    "binding": [of(RBAC, "clusterrolebindings", "create"), of(RBAC, "clusterroles", "bind")],
}
"""Rules with which somebody comes to a secret by changing access first, or by acting as somebody."""
SHORT: dict[str, list[dict[str, Any]]] = {
    "group-without-user": [of("", "groups", "impersonate", "ops")],
    "other-user": [of("", "users", "impersonate", "nobody-known")],
    "account-as-user": [of("", "users", "impersonate", "system:serviceaccount:nowcast:reader")],
    "approving-unsigned": WAYS["approving"][:2],
    "other-signer": [*WAYS["approving"][:2], of(CERTIFICATES, "signers", "approve", "tides.example/gauges")],
    "uids": [of("authentication.k8s.io", "uids", "impersonate"), of("authentication.k8s.io", "userextras", "*")],
    "binding-what-it-has": [of(RBAC, "clusterrolebindings", "create")],
}
"""Rules that fall short of that."""


def test_acting_as_others_certificates_and_webhooks_count_where_access_is_changed_first(
    enthesis: Program, tmp_path: Path
) -> None:
    reading = [of("", "secrets", "get")]
    bindings = [bound(name, {"kind": "User", "name": name}) for name in (*WAYS, *SHORT)]
    # acting as users is of the whole cluster, so that a binding in a namespace gives none of it
    bindings += [bound(name, {"kind": "User", "name": f"{name}-here"}, "nowcast") for name in ("as-dora", "approving")]
    # two halves: one bound to a service account, the other to the group of its namespace
    bindings.append(bound("half-making", {"kind": "ServiceAccount", "name": "reader", "namespace": "nowcast"}))
    bindings.append(bound("half-binding", {"kind": "Group", "name": "system:serviceaccounts:nowcast"}))
    bindings += [bound("reading", {"kind": "User", "name": name}) for name in ("https://i#dora", "system:helper")]
    bindings.append(bound("reading", {"kind": "Group", "name": "ops"}))
    making, binding = WAYS["binding"]
    rules = {**WAYS, **SHORT, "reading": reading, "half-making": [making], "half-binding": [binding]}
    lists = awkward(Random(1)) | {
        f"/apis/{RBAC}/v1/clusterroles": [{"metadata": {"name": name}, "rules": one} for name, one in rules.items()],
        f"/apis/{RBAC}/v1/clusterrolebindings": [one for one in bindings if "namespace" not in one["metadata"]],
        f"/apis/{RBAC}/v1/rolebindings": [one for one in bindings if "namespace" in one["metadata"]],
    }
    (tmp_path / "live.jsonl").write_bytes(b"".join(lines_of(records_of(lists))))

    def reaching(*more: str) -> set[str]:
        words = ("reach", "--survey", "live.jsonl", "--to", f"{GRID}/namespace/nowcast/secret/db", "--verb", "read")
        ran = enthesis(*words, "--format", "json", *more, at=tmp_path)
        assert ran.code == 0, ran.err
        return {name_of(one["steps"][0]["caller"].rsplit("/", 1)[1]) for one in ran.json["found"]}

    plainly = {"https://i#dora", "system:helper", "anybody of ops", "anybody of system:masters"}
    plainly |= {name for name in WAYS if name.startswith("as-")}
    assert {one for one in reaching() if not one.startswith("anybody acting")} == plainly
    found = reaching("--by-change") - plainly - {"p"}
    assert {one for one in found if not one.startswith("anybody acting")} == {*WAYS, "reader"} - plainly


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


def test_a_survey_is_whole_though_calls_fail_lists_shift_and_places_in_them_are_forgotten() -> None:
    lists = awkward(Random(7))
    whole = records_of(lists)
    for seed in range(20):
        assert records_of(lists, failing=Random(seed), page=4) == whole, seed


def test_names_and_paths_are_said_in_addresses_and_found_again() -> None:
    for name in (*HOSTILE, ""):
        word = word_of(name)
        assert name_of(word) == name and "/" not in word and word not in ("", ".", "..")
        assert not set("*?\\=@") & set(word)
    assert len({word_of(name) for name in HOSTILE}) == len(HOSTILE)


@pytest.mark.parametrize(
    ("path", "entry", "left_out"),
    [
        ("/api/v1/pods", {"metadata": {"name": 7, "namespace": "nowcast"}}, "workloads"),
        ("/api/v1/pods", {"metadata": {"name": "p", "namespace": "nowcast"}, "spec": ["x"]}, "workloads"),
        ("/api/v1/secrets", {"metadata": {"name": "s", "labels": {"n": 10**30}}}, "secrets (names only)"),
        ("/api/v1/serviceaccounts", {"metadata": {"name": "s", "resourceVersion": 10**30}}, "service accounts"),
        ("/api/v1/namespaces", "nowcast", "namespaces"),
        (f"/apis/{RBAC}/v1/clusterroles", {"metadata": {"name": "r"}, "rules": [{"verbs": [10**30]}]},
         "roles of the whole cluster"),
        (f"/apis/{RBAC}/v1/roles", {"metadata": {"name": "r"}, "rules": "all"}, "roles of namespaces"),
        (f"/apis/{RBAC}/v1/rolebindings", {"metadata": {"name": "b"}, "subjects": [{"name": 7}]},
         "bindings in namespaces"),
        (f"/apis/{RBAC}/v1/clusterrolebindings", {"metadata": None}, "bindings in the whole cluster"),
    ],
)  # fmt: skip
def test_a_list_with_an_object_of_another_shape_is_left_out_by_name_and_the_rest_is_read(
    path: str, entry: Any, left_out: str
) -> None:
    lists = awkward(Random(3))
    whole, part = records_of(lists), records_of({**lists, path: [*lists.get(path, []), entry]})
    assert [one["left_out"] for one in part if one.get("incomplete")] == [left_out]
    assert lines_of(part)

    def things(records: list[dict[str, Any]]) -> set[str]:
        return {one["address"] for one in records if one.get("section") == "resources"}

    gone = {address.split("/")[-2] for address in things(whole) - things(part)}
    assert gone <= {"workload", "secret", "namespace"} and len(gone) <= 1 and (RBAC not in path or not gone)

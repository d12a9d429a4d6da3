"""Access in a cluster that no review of its shows, by hand: what follows from starting, entering, posing and making."""

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

import httpx
import pytest

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.connectors.cluster.surveying import Cluster
from enthesis.connectors.http import Client, Connection
from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue
from enthesis.model.estate import Attempt, Context, Origin
from enthesis.model.vocabulary import Form
from enthesis.surveys.survey import VERSION, Survey, read_survey
from enthesis.verdicts.judge import Judge

from .test_bounds import CONTEXT

GRID, NOW = "surge/cluster/grid", datetime(2026, 12, 1, tzinfo=UTC)
RBAC, APPS, BATCH = "rbac.authorization.k8s.io", "apps", "batch"
HEAD = (
    {"section": "organisations", "name": "works"},
    {"section": "providers", "name": "here", "style": "one-sided"},
    {"section": "accounts", "name": "surge", "in": "@works", "provider": "here"},
)
RULES = dict[str, Any]


def rule(group: str, resource: str, *verbs: str, names: tuple[str, ...] = ()) -> RULES:
    return {"apiGroups": [group], "resources": [resource], "verbs": list(verbs),
            **({"resourceNames": list(names)} if names else {})}  # fmt: skip


@dataclass(frozen=True)
class Hidden:
    """What one caller may, in a namespace or in the whole cluster, and what it can do by that: verbs and places, `NS`
    being the namespace of the case. `never` is what it cannot."""

    rules: tuple[RULES, ...]
    can: tuple[tuple[str, str], ...] = ()
    never: tuple[tuple[str, str], ...] = ()
    whole: bool = False
    pod: Mapping[str, Any] = field(default_factory=dict)
    labels: Mapping[str, str] = field(default_factory=dict)


PRIZE, MOUNTED, WORKER = ("read", "NS/secret/prize"), ("read", "NS/secret/mounted"), ("run-as", "NS/identity/worker")
EVERYTHING = ("change-access", GRID)
GUARDED = {"pod-security.kubernetes.io/enforce": "restricted"}
MOUNTS = {"volumes": [{"name": "v", "secret": {"secretName": "mounted"}}]}
EXEC = rule("", "pods/exec", "create")
SIGNERS = "certificates.k8s.io"
REQUESTING = (
    rule(SIGNERS, "certificatesigningrequests", "create"),
    rule(SIGNERS, "certificatesigningrequests/approval", "update"),
)
CASES: Mapping[str, Hidden] = {
    "starts pods": Hidden((rule("", "pods", "create"),), (PRIZE, WORKER, EVERYTHING)),
    "changes one deployment": Hidden((rule(APPS, "deployments", "patch", names=("web",)),), (PRIZE, WORKER)),
    "makes cron jobs": Hidden((rule(BATCH, "cronjobs", "create"),), (PRIZE, WORKER)),
    "makes jobs": Hidden((rule(BATCH, "jobs", "create"),), (PRIZE, WORKER)),
    "makes stateful sets": Hidden((rule(APPS, "statefulsets", "update"),), (PRIZE, WORKER)),
    "makes daemon sets": Hidden((rule(APPS, "daemonsets", "create"),), (PRIZE, WORKER)),
    "makes controllers": Hidden((rule("", "replicationcontrollers", "create"),), (PRIZE, WORKER)),
    "starts where it is forbidden to have the node": Hidden(
        (rule("", "pods", "create"),), (PRIZE,), (EVERYTHING,), labels=GUARDED),
    "starts, and changes what forbids": Hidden(
        (rule("", "pods", "create"), rule("", "namespaces", "patch")), (EVERYTHING,), labels=GUARDED),
    "enters what mounts": Hidden((EXEC,), (MOUNTED, WORKER), (PRIZE, EVERYTHING), pod=MOUNTS),
    "enters one that mounts": Hidden(
        (rule("", "pods/exec", "create", names=("job",)),), (MOUNTED,), (PRIZE,), pod=MOUNTS),
    "enters another one": Hidden(
        (rule("", "pods/exec", "create", names=("other",)),), (), (MOUNTED, PRIZE), pod=MOUNTS),
    "attaches": Hidden((rule("", "pods/attach", "get"),), (MOUNTED,), (PRIZE,), pod=MOUNTS),
    "adds a container": Hidden((rule("", "pods/ephemeralcontainers", "patch"),), (MOUNTED, EVERYTHING), pod=MOUNTS),
    "enters a variable's": Hidden((EXEC,), (MOUNTED,), (PRIZE,), pod={
        "containers": [{"env": [{"name": "A", "valueFrom": {"secretKeyRef": {"name": "mounted", "key": "k"}}}]}]}),
    "enters all variables'": Hidden((EXEC,), (MOUNTED,), (PRIZE,), pod={
        "initContainers": [{"envFrom": [{"secretRef": {"name": "mounted"}}]}]}),
    "enters a volume of several": Hidden((EXEC,), (MOUNTED,), (PRIZE,), pod={
        "volumes": [{"projected": {"sources": [{"secret": {"name": "mounted"}}]}}]}),
    "enters one with privileges": Hidden((EXEC,), (EVERYTHING,), pod={
        "containers": [{"securityContext": {"privileged": True}}]}),
    "enters one with a folder of its node": Hidden((EXEC,), (EVERYTHING,), pod={
        "volumes": [{"hostPath": {"path": "/"}}]}),
    "enters one with its node's processes": Hidden((EXEC,), (EVERYTHING,), pod={"hostPID": True}),
    "commands nodes": Hidden((rule("", "nodes/proxy", "get"),), (EVERYTHING,), whole=True),
    "commands no nodes in a namespace": Hidden((rule("", "nodes/proxy", "get"),), (), (EVERYTHING,)),
    "makes volumes of nodes": Hidden((rule("", "persistentvolumes", "create"),), (EVERYTHING,), whole=True),
    "serves a part of the interface": Hidden(
        (rule("apiregistration.k8s.io", "apiservices", "update"),), (EVERYTHING,), whole=True),
    "is asked about changes": Hidden((rule("admissionregistration.k8s.io", "mutatingwebhookconfigurations", "patch"),),
                                     (EVERYTHING,), whole=True),
    "requests tokens": Hidden((rule("", "serviceaccounts/token", "create", names=("worker",)),), (WORKER,),
                              (("run-as", "NS/identity/actor"),)),
    "poses as an account": Hidden((rule("", "serviceaccounts", "impersonate"),), (WORKER,)),
    "poses as any group": Hidden((rule("", "users", "impersonate"), rule("", "groups", "impersonate")), (EVERYTHING,),
                                 whole=True),
    "widens roles": Hidden((rule(RBAC, "roles", "update", "escalate"),), (("change-access", "NS"),), (EVERYTHING,)),
    "binds": Hidden((rule(RBAC, "rolebindings", "create"), rule(RBAC, "clusterroles", "bind")),
                    (("change-access", "NS"),), (EVERYTHING,)),
    "certifies users": Hidden((*REQUESTING, rule(SIGNERS, "signers", "approve",
                               names=("kubernetes.io/kube-apiserver-client",))), (EVERYTHING,), whole=True),
    "certifies nodes": Hidden((*REQUESTING, rule(SIGNERS, "signers", "approve",
                               names=("kubernetes.io/kube-apiserver-client-kubelet",))), (EVERYTHING,), whole=True),
    "makes a token's secret": Hidden((rule("", "secrets", "create", "get"),), (PRIZE, WORKER)),
    "lists secrets": Hidden((rule("", "secrets", "list"),), (PRIZE, ("run-as", "NS/identity/kept"))),
    "makes accounts": Hidden((rule("", "serviceaccounts", "create"),), (("change-trust", "NS/identity/gone"),),
                             (("change-trust", "NS/identity/worker"),)),
    "sees what runs": Hidden((rule("", "pods", "get", "list"), rule("", "pods/log", "get")), (),
                             (PRIZE, MOUNTED, WORKER, EVERYTHING), pod=MOUNTS),
}  # fmt: skip
NAMES = list(CASES)


def space(name: str) -> str:
    return f"case-{NAMES.index(name)}"


def objects() -> dict[str, list[dict[str, Any]]]:
    """The lists of a cluster in which every case has a namespace."""
    found: dict[str, list[dict[str, Any]]] = {name: [] for name in (
        "namespaces", "serviceaccounts", "secrets", "pods", "roles", "clusterroles", "rolebindings",
        "clusterrolebindings")}  # fmt: skip
    for name, case in CASES.items():
        ns = space(name)

        def put(plural: str, called: str, ns: str = ns, **more: Any) -> None:
            meta = {"name": called, "namespace": ns, **more.pop("metadata", {})}
            found[plural].append({"metadata": meta, **more})

        found["namespaces"].append({"metadata": {"name": ns, "labels": dict(case.labels)}})
        for account in ("actor", "worker", "kept"):
            put("serviceaccounts", account)
        for secret in ("prize", "mounted"):
            put("secrets", secret)
        put("secrets", "token", metadata={"annotations": {"kubernetes.io/service-account.name": "kept"}})
        put("pods", "job", spec={"serviceAccountName": "worker", **case.pod})
        put("roles", "for-gone", rules=[rule("", "secrets", "get")])
        gone = {"kind": "ServiceAccount", "name": "gone", "namespace": ns}
        reference = {"apiGroup": RBAC, "kind": "Role", "name": "for-gone"}
        put("rolebindings", "for-gone", roleRef=reference, subjects=[gone])
        actor = {"kind": "ServiceAccount", "name": "actor", "namespace": ns}
        if case.whole:
            found["clusterroles"].append({"metadata": {"name": ns}, "rules": list(case.rules)})
            reference = {"apiGroup": RBAC, "kind": "ClusterRole", "name": ns}
            found["clusterrolebindings"].append({"metadata": {"name": ns}, "roleRef": reference, "subjects": [actor]})
        else:
            put("roles", "acts", rules=list(case.rules))
            put("rolebindings", "acts", roleRef={"apiGroup": RBAC, "kind": "Role", "name": "acts"}, subjects=[actor])
    collector = {"apiGroup": RBAC, "kind": "User", "name": "system:serviceaccount:case-0:collector"}
    found["clusterroles"].append({"metadata": {"name": "collects"}, "rules": [rule("", "secrets", "get", "list")]})
    found["clusterrolebindings"].append({
        "metadata": {"name": "collects"}, "roleRef": {"apiGroup": RBAC, "kind": "ClusterRole", "name": "collects"},
        "subjects": [collector]})  # fmt: skip
    return found


@pytest.fixture(scope="module")
def survey() -> Survey:
    lists = objects()

    def answer(request: httpx.Request) -> httpx.Response:
        plural = request.url.path.rsplit("/", 1)[1]
        if plural in lists:
            return httpx.Response(200, json={"metadata": {"resourceVersion": "1"}, "items": lists[plural]})
        return httpx.Response(200, json={"groups": [], "resources": []})

    with Client(
        "grid", "https://grid.example", way=Connection(CONTEXT), transport=httpx.MockTransport(answer)
    ) as client:
        records = list(Cluster(GRID, "works", client, None).records(lambda what: None))
    lines = [{"enthesis": "survey", "version": VERSION, "taken": NOW.isoformat(), "of": []}, *HEAD, *records,
             {"end": True, "complete": True}]  # fmt: skip
    return read_survey([json.dumps(one) for one in lines], "grid", packaged_catalogue(TreeCache(None)))


@pytest.fixture(scope="module")
def judge(survey: Survey) -> Judge:
    return Judge(compile_estate(survey.estate))


def allowed(judge: Judge, caller: str, verb: str, target: str) -> bool:
    question = Question(Origin(Form.IDENTITY, caller), (), Attempt(verb, target), Context(), NOW)
    return judge.judge(question).allowed


@pytest.mark.parametrize("name", NAMES)
def test_what_no_review_shows_is_told(judge: Judge, name: str) -> None:
    ns = f"{GRID}/namespace/{space(name)}"
    for expected, cases in ((True, CASES[name].can), (False, CASES[name].never)):
        for verb, place in cases:
            target = place.replace("NS", ns)
            assert allowed(judge, f"{ns}/identity/actor", verb, target) is expected, (verb, target)


def test_an_account_that_is_not_there_has_what_is_bound_to_it(survey: Survey, judge: Judge) -> None:
    collector = f"{GRID}/namespace/case-0/identity/collector"
    assert survey.estate.identities[collector].absent
    assert allowed(judge, collector, "read", f"{GRID}/namespace/case-3/secret/prize")
    absent = {address for address, one in survey.estate.identities.items() if one.absent}
    assert absent == {collector, *(f"{GRID}/namespace/{space(name)}/identity/gone" for name in NAMES)}


def test_there_are_thirty_cases() -> None:
    assert len(CASES) >= 30

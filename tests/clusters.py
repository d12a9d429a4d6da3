"""Random policies for the lab's cluster, and a plain client that sets them up."""

import json
import ssl
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from random import Random
from typing import Any

import httpx

from .conftest import Program, start_lab, write_estate
from .rbac import Caller, Documented

RBAC = "rbac.authorization.k8s.io"
GRID = "surge/cluster/grid"
NAMESPACES = ("nowcast", "hindcast", "tiles", "edge")
ACCOUNTS = ("runner", "reader", "default")
SECRETS = ("db", "feed")
PEOPLE = {
    "dora": "dora", "https://issuer.example#carol": "https:%2F%2Fissuer.example#carol", "a*b?": "a%2Ab%3F",
    "kubeadm:cluster-admins": "kubeadm:cluster-admins", ".": "%2E", "a stranger": "anybody else",
}  # fmt: skip
"""People by the names that the cluster has for them, with what stands for each in a survey."""
TEAMS = ("ops", "kubeadm:cluster-admins", "system:masters")
PATHS = ("/healthz", "/healthz/etcd", "/metrics", "/apis", "/apis/", "/apis/tides.example", "/version/", "/")
HEAD = """
estate: grid
organisations: {saltmarsh: {}}
providers: {highmoor: {style: one-sided}}
accounts: {surge: {in: "@saltmarsh", provider: highmoor}}
resources:
  surge/cluster/grid: {}
"""
RESOURCES = (
    ("", "pods"), ("", "secrets"), ("", "configmaps"), ("", "serviceaccounts"), ("", "pods/log"), ("", "pods/exec"),
    ("", "serviceaccounts/token"), ("apps", "deployments"), ("batch", "jobs"), (RBAC, "rolebindings"), (RBAC, "roles"),
    ("", "namespaces"), ("", "nodes"), ("tides.example", "gauges"), ("", "users"), ("", "groups"),
)  # fmt: skip
VERBS = ("get", "list", "watch", "create", "update", "patch", "delete", "deletecollection")
LATER = {
    (RBAC, "roles"): ("bind", "escalate"), ("", "serviceaccounts"): ("impersonate",), ("", "users"): ("impersonate",),
    ("", "groups"): ("impersonate",),
}  # fmt: skip


def grid_estate(folder: Path) -> Path:
    """An estate with one cluster, its namespaces and secrets."""
    lines = [f"  {GRID}/namespace/{name}: {{}}\n" for name in NAMESPACES]
    lines += [f"  {GRID}/namespace/{name}/secret/{secret}: {{}}\n" for name in NAMESPACES for secret in SECRETS]
    lines += [f"  {GRID}/namespace/{name}/workload/job-1: {{}}\n" for name in NAMESPACES]
    return write_estate(folder, {"estate.yaml": HEAD + "".join(lines)})


@dataclass
class Api:
    """The cluster of a lab, asked with plain HTTP as its administrator."""

    url: str
    authority: str
    token: str
    http: httpx.Client = field(init=False)

    def __post_init__(self) -> None:
        tls = ssl.create_default_context(cafile=self.authority)
        headers = {"Authorization": f"Bearer {self.token}"}
        self.http = httpx.Client(base_url=self.url, verify=tls, trust_env=False, headers=headers)

    @classmethod
    def of(cls, enthesis: Program, folder: Path) -> "Api":
        """The API of the lab that runs for an estate."""
        said = enthesis("lab", "status", "--format", "json", at=folder).json
        url = next(one["url"] for one in said["services"] if one["kind"] == "cluster")
        listed = json.loads((folder / ".enthesis" / "lab" / "administrators.json").read_text())
        return cls(url, said["authority"], next(one["session"] for one in listed if one.get("cluster")))

    def made(self, path: str, body: Mapping[str, Any]) -> Any:
        answer = self.http.post(path, json=body)
        assert answer.status_code == 201, answer.text
        return answer.json()

    def account(self, namespace: str, name: str) -> None:
        self.made(f"/api/v1/namespaces/{namespace}/serviceaccounts", {"metadata": {"name": name}})

    def role(self, name: str, rules: list[Any], namespace: str = "", **more: Any) -> None:
        where = f"namespaces/{namespace}/roles" if namespace else "clusterroles"
        meta = {"name": name, **more.pop("metadata", {})}
        self.made(f"/apis/{RBAC}/v1/{where}", {"metadata": meta, "rules": rules, **more})

    def binding(
        self, name: str, role: str, subjects: list[Any], namespace: str = "", *, of_cluster: bool = True
    ) -> None:
        where = f"namespaces/{namespace}/rolebindings" if namespace else "clusterrolebindings"
        reference = {"apiGroup": RBAC, "kind": "ClusterRole" if of_cluster else "Role", "name": role}
        self.made(f"/apis/{RBAC}/v1/{where}", {"metadata": {"name": name}, "roleRef": reference, "subjects": subjects})

    def documented(self) -> Documented:
        """The roles and bindings, for an evaluator of the tests' own."""
        kinds = ("clusterroles", "roles", "clusterrolebindings", "rolebindings")
        return Documented(*(self.http.get(f"/apis/{RBAC}/v1/{kind}").json()["items"] for kind in kinds))

    def may(self, caller: Caller, wanted: Mapping[str, str]) -> str:
        """Why the cluster's own review allows a caller something; '' where it does not."""
        spec: dict[str, Any] = {"user": caller.user, "groups": list(caller.groups)}
        if "path" in wanted:
            spec["nonResourceAttributes"] = wanted
        else:
            resource, _, sub = wanted["resource"].partition("/")
            spec["resourceAttributes"] = {**wanted, "resource": resource, "subresource": sub}
        said = self.made("/apis/authorization.k8s.io/v1/subjectaccessreviews", {"spec": spec})
        return str(said["status"]["reason"]) if said["status"]["allowed"] else ""


@contextmanager
def cluster_lab(enthesis: Program, place: Path) -> Iterator[Api]:
    """The API of a cluster at a lab that runs for an estate with one, and is ended afterwards."""
    try:
        start_lab(enthesis, place)
        api = Api.of(enthesis, place)
        with api.http:
            yield api
    finally:
        enthesis("lab", "stop", "--clean", at=place)


def callers() -> list[Caller]:
    """Service accounts, people with odd names too, members of groups, strangers, and whoever shows nothing."""
    signed_in = "system:authenticated"
    out = [
        Caller(
            f"{GRID}/namespace/{namespace}/identity/{name}", f"system:serviceaccount:{namespace}:{name}",
            ("system:serviceaccounts", f"system:serviceaccounts:{namespace}", signed_in),
        )
        for namespace in NAMESPACES for name in ACCOUNTS
    ]  # fmt: skip
    out += [Caller(f"@saltmarsh/identity/{word}", name, (signed_in,)) for name, word in PEOPLE.items()]
    out += [Caller(f"@saltmarsh/identity/anybody of {name}", "somebody", (name, signed_in)) for name in TEAMS]
    out.append(Caller("surge/identity/system:kube-proxy", "system:kube-proxy", ("system:node-proxiers", signed_in)))
    out.append(Caller("surge/identity/system:anonymous", "system:anonymous", ("system:unauthenticated",)))
    return out


def service_account(namespace: str, name: str) -> dict[str, str]:
    return {"kind": "ServiceAccount", "namespace": namespace, "name": name}


def group(name: str) -> dict[str, str]:
    return {"kind": "Group", "apiGroup": RBAC, "name": name}


def rule(rng: Random, *, paths: bool = True) -> dict[str, Any]:
    """One rule; now and then with wildcards, names, a subresource of everything, or about paths."""
    if rng.random() < 0.12 and paths:
        urls = rng.sample([*PATHS, "/apis/*", "/healthz/*", "*"], rng.choice((1, 2)))
        return {"nonResourceURLs": urls, "verbs": rng.choice((["get"], ["get", "post"], ["*"]))}
    group_of, resource = rng.choice(RESOURCES)
    verbs: list[str] = rng.sample([*VERBS, *LATER.get((group_of, resource), ())], rng.choice((1, 2, 3)))
    out: dict[str, Any] = {"apiGroups": [group_of], "resources": [resource], "verbs": verbs}
    kind = rng.random()
    if kind < 0.07:
        out["verbs"] = ["*"]
    elif kind < 0.12:
        out["resources"] = ["*"]
    elif kind < 0.15:
        out["apiGroups"] = ["*"]
    elif kind < 0.18:
        out["resources"] = ["*/exec"]
    elif kind < 0.35:
        out["resourceNames"] = [rng.choice(("db", "runner", "job-1", "nowcast", "a-node"))]
    elif kind < 0.45:
        more = rng.choice(RESOURCES)
        out["apiGroups"], out["resources"] = [group_of, more[0]], [resource, more[1]]
    return out


def set_up(api: Api, rng: Random) -> None:
    """Roles of both scopes, aggregated ones among them, and bindings to service accounts and groups of them."""
    for namespace in NAMESPACES:
        for name in ACCOUNTS[:2]:
            api.account(namespace, name)
    for number in range(14):
        labels = {"labels": {"tier": rng.choice("ab")}} if number < 5 else {}
        api.role(f"wide-{number}", [rule(rng) for _ in range(rng.choice((1, 2, 3)))], metadata=labels)
    for tier in "ab":
        api.role(f"sum-{tier}", [], aggregationRule={"clusterRoleSelectors": [{"matchLabels": {"tier": tier}}]})
    api.role("tide-everything", [{"apiGroups": ["*"], "resources": ["*"], "verbs": ["*"]}])
    for namespace in NAMESPACES:
        for number in range(5):
            api.role(f"narrow-{number}", [rule(rng, paths=False) for _ in range(rng.choice((1, 2)))], namespace)
    for number in range(16):
        name = rng.choice([f"wide-{rng.randrange(14)}", "sum-a", "sum-b"])
        api.binding(f"everywhere-{number}", name, [_subject(rng)])
    for number in range(26):
        namespace = rng.choice(NAMESPACES)
        own = rng.random() < 0.5
        name = f"narrow-{rng.randrange(5)}" if own else rng.choice([f"wide-{rng.randrange(14)}", "sum-a", "view"])
        subjects = [_subject(rng) for _ in range(rng.choice((1, 1, 2)))]
        api.binding(f"here-{number}", name, subjects, namespace, of_cluster=not own)
    api.binding("target-side", "tide-everything", [service_account("edge", "runner")], "edge")


def _subject(rng: Random) -> dict[str, str]:
    kind = rng.random()
    if kind < 0.5:
        return service_account(rng.choice(NAMESPACES), rng.choice(ACCOUNTS))
    if kind < 0.6:
        return group(f"system:serviceaccounts:{rng.choice(NAMESPACES)}")
    if kind < 0.7:
        return group(rng.choice(("system:serviceaccounts", "system:authenticated", "system:unauthenticated")))
    if kind < 0.8:
        return group(rng.choice(TEAMS))
    named = (*PEOPLE, "system:anonymous", "system:kube-proxy", "system:serviceaccount:tiles:reader")
    return {"kind": "User", "apiGroup": RBAC, "name": rng.choice([one for one in named if one != "a stranger"])}


def wanted(rng: Random) -> Iterator[dict[str, str]]:
    """Requests without end: verb, group, resource, namespace and name."""
    while True:
        if rng.random() < 0.1:
            yield {"verb": rng.choice(("get", "get", "post")), "path": rng.choice(PATHS)}
            continue
        group_of, resource = rng.choice(RESOURCES)
        verb = rng.choice([*VERBS, *LATER.get((group_of, resource), ())])
        namespace = rng.choice(NAMESPACES)
        name = rng.choice(("db", "feed", "runner", "job-1", "anything"))
        if resource == "namespaces":
            name = namespace
        elif resource == "nodes":
            namespace, name = "", rng.choice(("a-node", "b-node"))
        elif resource == "secrets":
            name = rng.choice(SECRETS)
        elif resource.startswith("serviceaccounts"):
            name = rng.choice(ACCOUNTS)
        elif resource in ("users", "groups"):
            namespace, name = "", rng.choice(("dora", "ops", "system:masters"))
        yield {"verb": verb, "group": group_of, "resource": resource, "namespace": namespace, "name": name}

"""The resources that the stand-in cluster serves: names, groups, and whether they stand in a namespace."""

from dataclasses import dataclass
from typing import Any

RBAC = "rbac.authorization.k8s.io"


@dataclass(frozen=True)
class Served:
    """One resource of the API."""

    group: str
    plural: str
    kind: str
    namespaced: bool = True
    short: str = ""
    runs: bool = False  # whether it is among what a client means by `all`

    @property
    def version(self) -> str:
        """The group and version, as objects carry them in `apiVersion`."""
        return f"{self.group}/v1" if self.group else "v1"


SERVED = {
    (served.group, served.plural): served
    for served in (
        Served("", "namespaces", "Namespace", namespaced=False, short="ns"),
        Served("", "nodes", "Node", namespaced=False, short="no"),
        Served("", "serviceaccounts", "ServiceAccount", short="sa"),
        Served("", "pods", "Pod", short="po", runs=True),
        Served("", "secrets", "Secret"),
        Served("", "configmaps", "ConfigMap", short="cm"),
        Served("apps", "deployments", "Deployment", short="deploy", runs=True),
        Served("batch", "jobs", "Job", runs=True),
        Served(RBAC, "roles", "Role"),
        Served(RBAC, "rolebindings", "RoleBinding"),
        Served(RBAC, "clusterroles", "ClusterRole", namespaced=False),
        Served(RBAC, "clusterrolebindings", "ClusterRoleBinding", namespaced=False),
    )
}
SUBRESOURCES = {
    ("", "serviceaccounts"): {"token": ("TokenRequest", "authentication.k8s.io", ["create"])},
    ("", "pods"): {"exec": ("PodExecOptions", "", ["create", "get"]), "log": ("Pod", "", ["get"])},
}
REVIEWS = {
    ("authorization.k8s.io", "subjectaccessreviews"): "SubjectAccessReview",
    ("authorization.k8s.io", "localsubjectaccessreviews"): "LocalSubjectAccessReview",
    ("authorization.k8s.io", "selfsubjectaccessreviews"): "SelfSubjectAccessReview",
    ("authorization.k8s.io", "selfsubjectrulesreviews"): "SelfSubjectRulesReview",
    ("authentication.k8s.io", "tokenreviews"): "TokenReview",
    ("authentication.k8s.io", "selfsubjectreviews"): "SelfSubjectReview",
}
LOCAL = "LocalSubjectAccessReview"
VERBS = ["create", "delete", "deletecollection", "get", "list", "patch", "update", "watch"]


def groups() -> list[str]:
    """The API groups besides the core one."""
    return sorted({group for group, _ in (*SERVED, *REVIEWS) if group})


def group_list() -> dict[str, Any]:
    """The body of /apis."""
    return {"kind": "APIGroupList", "apiVersion": "v1", "groups": [api_group(name) for name in groups()]}


def api_group(name: str) -> dict[str, Any]:
    """The body of /apis/GROUP."""
    version = {"groupVersion": f"{name}/v1", "version": "v1"}
    return {"kind": "APIGroup", "apiVersion": "v1", "name": name, "versions": [version], "preferredVersion": version}


def resource_list(group: str) -> dict[str, Any]:
    """The body of /api/v1 or /apis/GROUP/v1."""
    listed: list[dict[str, Any]] = []
    for (its_group, plural), one in SERVED.items():
        if its_group != group:
            continue
        common = {"singularName": one.kind.lower(), "namespaced": one.namespaced}
        short: dict[str, Any] = {"shortNames": [one.short]} if one.short else {}
        short |= {"categories": ["all"]} if one.runs else {}
        listed.append({"name": plural, "kind": one.kind, "verbs": VERBS, **common, **short})
        for name, (kind, kind_group, verbs) in SUBRESOURCES.get((group, plural), {}).items():
            more = {"group": kind_group, "version": "v1"} if kind_group else {}
            listed.append({"name": f"{plural}/{name}", "kind": kind, "verbs": verbs, **common, **more})
    for (its_group, plural), kind in REVIEWS.items():
        if its_group == group:
            local = kind == LOCAL
            listed.append(
                {"name": plural, "kind": kind, "verbs": ["create"], "singularName": kind.lower(), "namespaced": local}
            )
    version = f"{group}/v1" if group else "v1"
    return {"kind": "APIResourceList", "apiVersion": "v1", "groupVersion": version, "resources": listed}

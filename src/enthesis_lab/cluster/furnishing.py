"""What is in a stand-in cluster from the start: roles that come along, and what the estate says exists there."""

import copy
from collections.abc import Mapping
from typing import Any

from enthesis_lab.cluster.kinds import RBAC, SERVED
from enthesis_lab.cluster.objects import Objects

EVERY_VERB = ["get", "list", "watch", "create", "update", "patch", "delete", "deletecollection"]
VIEWING, EDITING = "rbac.authorization.k8s.io/aggregate-to-view", "rbac.authorization.k8s.io/aggregate-to-edit"
DEFAULT_ROLES: tuple[dict[str, Any], ...] = (
    {
        "metadata": {"name": "cluster-admin"},
        "rules": [
            {"apiGroups": ["*"], "resources": ["*"], "verbs": ["*"]},
            {"nonResourceURLs": ["*"], "verbs": ["*"]},
        ],
    },
    {
        "metadata": {"name": "view"},
        "aggregationRule": {"clusterRoleSelectors": [{"matchLabels": {VIEWING: "true"}}]},
    },
    {
        "metadata": {"name": "edit"},
        "aggregationRule": {
            "clusterRoleSelectors": [{"matchLabels": {VIEWING: "true"}}, {"matchLabels": {EDITING: "true"}}]
        },
    },
    {
        "metadata": {"name": "system:aggregate-to-view", "labels": {VIEWING: "true"}},
        "rules": [
            {
                "apiGroups": [""],
                "resources": ["pods", "configmaps", "serviceaccounts"],
                "verbs": ["get", "list", "watch"],
            },
            {"apiGroups": ["apps", "batch"], "resources": ["*"], "verbs": ["get", "list", "watch"]},
        ],
    },
    {
        "metadata": {"name": "system:aggregate-to-edit", "labels": {EDITING: "true"}},
        "rules": [
            {"apiGroups": [""], "resources": ["pods", "configmaps", "secrets"], "verbs": EVERY_VERB},
            {"apiGroups": ["apps"], "resources": ["deployments"], "verbs": EVERY_VERB},
        ],
    },
)


def furnish(objects: Objects, resources: Mapping[str, Any], now: float) -> None:
    """Makes what the estate says exists already beneath a cluster: namespaces, secrets, workloads that run."""
    for role in DEFAULT_ROLES:
        _ensure(objects, "clusterroles", "", copy.deepcopy(role), now, RBAC)
    stem = f"{objects.cluster}/namespace/"
    beneath = sorted(address.removeprefix(stem) for address in resources if address.startswith(stem))
    for address in ("kube-system", *beneath):
        namespace, _, rest = address.partition("/")
        _ensure(objects, "namespaces", "", {"metadata": {"name": namespace}}, now)
        ensure_default_account(objects, namespace, now)
        kind, _, name = rest.partition("/")
        if kind == "secret":
            _ensure(objects, "secrets", namespace, {"metadata": {"name": name}, "type": "Opaque", "data": {}}, now)
        elif kind == "workload":
            account = resources[stem + address].get("service_account", "default")
            spec = {"serviceAccountName": account, "containers": [{"name": "main", "image": "lab"}]}
            there = objects.get(SERVED["", "pods"], namespace, name)
            if there is not None and (there.get("spec") or {}).get("serviceAccountName", "default") != account:
                objects.remove(SERVED["", "pods"], namespace, name)  # it is deployed anew
            _ensure(objects, "pods", namespace, {"metadata": {"name": name}, "spec": spec}, now)


def ensure_default_account(objects: Objects, namespace: str, now: float) -> None:
    """Every namespace has a service account that is used where none is named."""
    _ensure(objects, "serviceaccounts", namespace, {"metadata": {"name": "default"}}, now)


def _ensure(objects: Objects, plural: str, namespace: str, body: dict[str, Any], now: float, group: str = "") -> None:
    served = SERVED[group, plural]
    if objects.get(served, namespace, body["metadata"]["name"]) is None:
        objects.add(served, namespace, body, now)

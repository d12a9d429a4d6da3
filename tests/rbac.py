"""Who may do what in a cluster, written from the public documentation of role-based access alone; shares no code.

Kubernetes documentation, "Using RBAC Authorization": a request is allowed where some rule of a role that is bound to
the caller, in the whole cluster or in the request's namespace, matches its verb, group, resource and name, or its path.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

Object = Mapping[str, Any]


@dataclass(frozen=True)
class Caller:
    """A user with its groups, and the address that stands for it in a survey."""

    address: str
    user: str
    groups: tuple[str, ...]


@dataclass
class Documented:
    """The roles and bindings of a cluster, as its API lists them."""

    cluster_roles: Sequence[Object]
    roles: Sequence[Object]
    cluster_bindings: Sequence[Object]
    bindings: Sequence[Object]

    def allows(self, caller: Caller, asked: Mapping[str, str]) -> bool:
        if "system:masters" in caller.groups:
            return True
        return any(_matches(rule, asked) for rule in self._rules(caller, asked.get("namespace", "")))

    def _rules(self, caller: Caller, namespace: str) -> Iterator[Object]:
        for binding in self.cluster_bindings:
            if _is_bound(binding, caller, ""):
                yield from self._of(binding["roleRef"], "")
        for binding in self.bindings:
            here = binding["metadata"]["namespace"]
            if namespace and here == namespace and _is_bound(binding, caller, here):
                yield from self._of(binding["roleRef"], here)

    def _of(self, reference: Object, namespace: str) -> Iterator[Object]:
        wide = reference["kind"] == "ClusterRole"
        for role in self.cluster_roles if wide else self.roles:
            same = role["metadata"]["name"] == reference["name"]
            if same and (wide or role["metadata"]["namespace"] == namespace):
                yield from role.get("rules") or ()


def _is_bound(binding: Object, caller: Caller, namespace: str) -> bool:
    for subject in binding.get("subjects") or ():
        name = subject["name"]
        if subject["kind"] == "User" and name == caller.user:
            return True
        if subject["kind"] == "Group" and name in caller.groups:
            return True
        home = subject.get("namespace") or namespace
        if subject["kind"] == "ServiceAccount" and caller.user == f"system:serviceaccount:{home}:{name}":
            return True
    return False


def _matches(rule: Object, asked: Mapping[str, str]) -> bool:
    if not _one_of(asked["verb"], rule.get("verbs")):
        return False
    if "path" in asked:
        return any(
            url == asked["path"] or (url.endswith("*") and asked["path"].startswith(url[:-1]))
            for url in rule.get("nonResourceURLs") or ()
        )
    names = rule.get("resourceNames") or ()
    if names and asked["name"] not in names:
        return False
    return _one_of(asked["group"], rule.get("apiGroups")) and _is_resource(asked["resource"], rule.get("resources"))


def _one_of(wanted: str, listed: Sequence[str] | None) -> bool:
    return "*" in (listed or ()) or wanted in (listed or ())


def _is_resource(wanted: str, listed: Sequence[str] | None) -> bool:
    _, _, sub = wanted.partition("/")
    return _one_of(wanted, listed) or bool(sub and f"*/{sub}" in (listed or ()))

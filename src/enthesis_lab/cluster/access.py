"""The stand-in cluster's own authorisation: role-based access, evaluated with loops from its public description.

Kubernetes documentation, "Using RBAC Authorization" and "Authorization overview": a request is allowed when some rule
of some role bound to the user matches; nothing denies. Nothing here is shared with the tool.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

MASTERS = "system:masters"
Object = Mapping[str, Any]
Rule = Mapping[str, Any]


@dataclass(frozen=True)
class User:
    """Who asks, as authentication found."""

    name: str
    groups: tuple[str, ...] = ()
    uid: str = ""

    @classmethod
    def service_account(cls, namespace: str, name: str, uid: str = "") -> "User":
        """The user that a service account is, with the groups that it is always in."""
        groups = ("system:serviceaccounts", f"system:serviceaccounts:{namespace}", "system:authenticated")
        return cls(f"system:serviceaccount:{namespace}:{name}", groups, uid)


@dataclass(frozen=True)
class Attributes:
    """One request for something; `resource` may be followed by a stroke and a subresource."""

    verb: str
    group: str = ""
    resource: str = ""
    namespace: str = ""
    name: str = ""
    path: str = ""  # of a request that is for no resource


@dataclass(frozen=True)
class Policy:
    """All roles and bindings there are, as the API has them."""

    roles: Sequence[Object] = ()
    role_bindings: Sequence[Object] = ()
    cluster_roles: Sequence[Object] = ()
    cluster_role_bindings: Sequence[Object] = ()

    def allowed(self, user: User, wanted: Attributes) -> str:
        """Why a request is allowed; '' where it is not."""
        if MASTERS in user.groups:
            return f"in the group {MASTERS}"
        for binding in self.cluster_role_bindings:
            if self._binds(binding, user, "") and self._matches(self.rules_of(binding), wanted):
                return f"ClusterRoleBinding {binding['metadata']['name']}"
        for binding in self.role_bindings:
            namespace = binding["metadata"]["namespace"]
            here = namespace == wanted.namespace and self._binds(binding, user, namespace)
            if here and self._matches(self.rules_of(binding), wanted):
                return f"RoleBinding {namespace}/{binding['metadata']['name']}"
        return ""

    def rules_of(self, binding: Object) -> list[Rule]:
        """The rules of the role that a binding names; none where it no longer exists."""
        reference = binding["roleRef"]
        if reference["kind"] == "ClusterRole":
            return self.cluster_rules(reference["name"])
        namespace = binding["metadata"].get("namespace")
        for role in self.roles:
            if role["metadata"]["name"] == reference["name"] and role["metadata"]["namespace"] == namespace:
                return list(role.get("rules") or ())
        return []

    def cluster_rules(self, name: str) -> list[Rule]:
        """The rules of a cluster role; one that is aggregated has those of every role with the labels it selects."""
        role = next(
            (cluster_role for cluster_role in self.cluster_roles if cluster_role["metadata"]["name"] == name), None
        )
        return self.aggregated(role) if role is not None else []

    def aggregated(self, role: Object) -> list[Rule]:
        """The rules of a role as the cluster keeps them up to date."""
        selectors = (role.get("aggregationRule") or {}).get("clusterRoleSelectors") or ()
        if not selectors:
            return list(role.get("rules") or ())
        found: list[Rule] = []
        for cluster_role in self.cluster_roles:
            labels = cluster_role["metadata"].get("labels") or {}
            if cluster_role is not role and any(_selected(selector, labels) for selector in selectors):
                found += [rule for rule in self.aggregated(cluster_role) if rule not in found]
        return found

    def rules_for(self, user: User, namespace: str) -> Iterator[Rule]:
        """Every rule that a user has in a namespace."""
        if MASTERS in user.groups:
            yield {"verbs": ["*"], "apiGroups": ["*"], "resources": ["*"]}
            yield {"verbs": ["*"], "nonResourceURLs": ["*"]}
        for binding in self.cluster_role_bindings:
            if self._binds(binding, user, ""):
                yield from self.rules_of(binding)
        for binding in self.role_bindings:
            if binding["metadata"]["namespace"] == namespace and self._binds(binding, user, namespace):
                yield from self.rules_of(binding)

    def missing(self, user: User, namespace: str, rules: Iterable[Rule]) -> list[str]:
        """What of these rules a user does not have itself, and so cannot give away."""
        return [
            f"{attributes.verb} {attributes.resource or attributes.path}"
            for attributes in _spelled(rules, namespace)
            if not self.allowed(user, attributes)
        ]

    @staticmethod
    def _binds(binding: Object, user: User, namespace: str) -> bool:
        for subject in binding.get("subjects") or ():
            if subject["kind"] == "Group" and subject["name"] in user.groups:
                return True
            if subject["kind"] == "User" and subject["name"] == user.name:
                return True
            if subject["kind"] == "ServiceAccount":
                home = subject.get("namespace") or namespace
                if user.name == f"system:serviceaccount:{home}:{subject['name']}":
                    return True
        return False

    @staticmethod
    def _matches(rules: Iterable[Rule], wanted: Attributes) -> bool:
        return any(_rule_matches(rule, wanted) for rule in rules)


def _rule_matches(rule: Rule, wanted: Attributes) -> bool:
    if not _has(rule.get("verbs"), wanted.verb):
        return False
    if wanted.path:
        return any(_path_matches(nonResourceURL, wanted.path) for nonResourceURL in rule.get("nonResourceURLs") or ())
    if not _has(rule.get("apiGroups"), wanted.group) or not _resource_matches(rule, wanted.resource):
        return False
    names = rule.get("resourceNames") or ()
    return not names or wanted.name in names


def _resource_matches(rule: Rule, resource: str) -> bool:
    """`*` is everything, a name itself alone, and `*/sub` the subresource of everything."""
    for one in rule.get("resources") or ():
        if one in ("*", resource):
            return True
        if one.startswith("*/") and "/" in resource and one[2:] == resource.split("/", 1)[1]:
            return True
    return False


def _path_matches(pattern: str, path: str) -> bool:
    return path.startswith(pattern[:-1]) if pattern.endswith("*") else path == pattern


def _has(values: Sequence[str] | None, wanted: str) -> bool:
    return bool(values) and ("*" in values or wanted in values)  # type: ignore[operator]


def _selected(selector: Object, labels: Mapping[str, str]) -> bool:
    matching = selector.get("matchLabels") or {}
    if not all(labels.get(name) == value for name, value in matching.items()):
        return False
    for expression in selector.get("matchExpressions") or ():
        value, values = labels.get(expression["key"]), expression.get("values") or ()
        held = {
            "In": value in values,
            "NotIn": value not in values,
            "Exists": value is not None,
            "DoesNotExist": value is None,
        }
        if not held.get(expression["operator"], False):
            return False
    return True


def _spelled(rules: Iterable[Rule], namespace: str) -> Iterator[Attributes]:
    """Each single request that some rules allow, wildcards as themselves."""
    for rule in rules:
        for verb in rule.get("verbs") or ():
            for path in rule.get("nonResourceURLs") or ():
                yield Attributes(verb, path=path)
            for group in rule.get("apiGroups") or ():
                for resource in rule.get("resources") or ():
                    for name in rule.get("resourceNames") or ("",):
                        yield Attributes(verb, group, resource, namespace, name)

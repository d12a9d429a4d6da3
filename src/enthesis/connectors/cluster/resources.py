"""Which kinds and verbs of the estate the resources and verbs of a cluster are, one for one.

Every resource is a kind and every verb of it a verb, so that nothing is lost either way. Pods, secrets, service
accounts and namespaces are the catalogue's own kinds, with the cluster's verbs beside those they have; any other
resource is a kind of its own name, and a subresource one named after both.
"""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from hashlib import sha256
from typing import Any

from enthesis.connectors.cluster.paths import PATH

RBAC, CERTIFICATES = "rbac.authorization.k8s.io", "certificates.k8s.io"
ADMISSION, AUTHENTICATION = "admissionregistration.k8s.io", "authentication.k8s.io"
OWN_KINDS = {"pods": "workload", "secrets": "secret", "serviceaccounts": "identity", "namespaces": "namespace"}
VERBS = {
    "get": "fetch", "list": "list", "watch": "watch", "create": "create", "update": "replace", "patch": "amend",
    "delete": "delete", "deletecollection": "clear",
}  # fmt: skip
CLASSES = {
    "fetch": "look",
    "list": "look",
    "watch": "look",
    "bind": "power",
    "escalate": "power",
    "impersonate": "power",
    "approve": "power",
    "sign": "power",
}
FURTHER_VERBS = {
    ("", "serviceaccounts"): ("impersonate",),
    ("", "users"): ("impersonate",),
    ("", "groups"): ("impersonate",),
    (AUTHENTICATION, "uids"): ("impersonate",),
    (AUTHENTICATION, "userextras"): ("impersonate",),
    (CERTIFICATES, "signers"): ("approve", "sign"),
    (RBAC, "roles"): ("bind", "escalate"),
    (RBAC, "clusterroles"): ("bind", "escalate"),
}  # verbs that stand for no request of their own
BUILT_IN = {
    ("", "namespaces"): False, ("", "pods"): True, ("", "secrets"): True, ("", "serviceaccounts"): True,
    ("", "users"): False, ("", "groups"): False, (RBAC, "roles"): True, (RBAC, "rolebindings"): True,
    (RBAC, "clusterroles"): False, (RBAC, "clusterrolebindings"): False, ("", "pods/exec"): True,
    ("", "pods/attach"): True, ("", "serviceaccounts/token"): True, ("", "nodes"): False, ("", "nodes/proxy"): False,
    (AUTHENTICATION, "uids"): False, (AUTHENTICATION, "userextras"): False,
    (CERTIFICATES, "certificatesigningrequests"): False, (CERTIFICATES, "certificatesigningrequests/approval"): False,
    (CERTIFICATES, "certificatesigningrequests/status"): False, (CERTIFICATES, "signers"): False,
    (ADMISSION, "mutatingwebhookconfigurations"): False, (ADMISSION, "validatingwebhookconfigurations"): False,
}  # fmt: skip
PATH_VERBS = ("get", "head", "options", "post", "put", "patch", "delete")
Resource = tuple[str, str]
"""API group, and plural name with perhaps a stroke and a subresource."""
Allows = dict[str, set[str]]


@dataclass
class Resources:
    """The resources of one cluster: those it serves, and those that only rules name."""

    namespaced: dict[Resource, bool] = field(default_factory=lambda: dict(BUILT_IN))
    verbs: dict[Resource, set[str]] = field(default_factory=dict)
    of_paths: set[str] = field(default_factory=set)  # verbs of rules about paths of the interface

    def digest(self) -> str:
        """What tells these resources from others."""
        served = sorted((*resource, namespaced) for resource, namespaced in self.namespaced.items())
        return sha256(repr(served).encode()).hexdigest()[:16]

    def serve(self, group: str, listed: Iterable[Mapping[str, Any]]) -> None:
        """Takes in the resources of a group, as discovery lists them."""
        for entry in listed:
            resource = (entry.get("group") if "/" not in entry["name"] and entry.get("group") else group, entry["name"])
            self.namespaced[resource[0] or "", resource[1]] = bool(entry.get("namespaced"))

    def mention(self, rules: Iterable[Mapping[str, Any]]) -> None:
        """Takes in what rules name besides: resources that are not served (any more), and verbs of their own."""
        for rule in rules:
            if rule.get("nonResourceURLs"):
                self.of_paths.update(verb for verb in rule.get("verbs") or () if verb != "*")
            for group in rule.get("apiGroups") or ():
                for name in rule.get("resources") or ():
                    if "*" in (group, name) or name.startswith("*/"):
                        continue
                    self.namespaced.setdefault((group, name), True)
                    further = {verb for verb in rule.get("verbs") or () if verb != "*" and verb not in VERBS}
                    if further:
                        self.verbs.setdefault((group, name), set()).update(further)

    def verbs_of(self, resource: Resource) -> set[str]:
        """Every verb, in the cluster's words, that is known of a resource."""
        return {*VERBS, *FURTHER_VERBS.get(resource, ()), *self.verbs.get(resource, ())}

    def matching(self, rule: Mapping[str, Any]) -> Iterator[Resource]:
        """The known resources that a rule is for."""
        groups, names = rule.get("apiGroups") or (), rule.get("resources") or ()
        if "*" not in groups and not any("*" in name for name in names):
            yield from ((group, name) for group in groups for name in names)
            return
        for resource in self.namespaced:
            if ("*" in groups or resource[0] in groups) and any(_named(name, resource[1]) for name in names):
                yield resource

    def allows(self, rule: Mapping[str, Any]) -> Allows:
        """What a rule allows, in the estate's words."""
        out: Allows = {}
        listed = rule.get("verbs") or ()
        for resource in self.matching(rule):
            verbs = self.verbs_of(resource) if "*" in listed else listed
            out.setdefault(kind_of(resource), set()).update(map(verb_of, verbs))
        return out

    def path_verbs(self, rule: Mapping[str, Any]) -> set[str]:
        """What a rule about paths of the interface allows, in the estate's words."""
        listed = rule.get("verbs") or ()
        return {verb_of(verb) for verb in ({*PATH_VERBS, *self.of_paths} if "*" in listed else listed)}

    def kinds(self) -> Iterator[dict[str, Any]]:
        """The kinds that the catalogue needs for all of these, as records of a survey."""
        verbs = {verb_of(verb): CLASSES.get(verb_of(verb), "manage") for verb in sorted({*PATH_VERBS, *self.of_paths})}
        yield {"section": "kinds", "name": PATH, "in": ["cluster"], "leaf": True, "verbs": verbs}
        for resource, namespaced in self.namespaced.items():
            kind = kind_of(resource)
            verbs = {verb_of(verb): CLASSES.get(verb_of(verb), "manage") for verb in sorted(self.verbs_of(resource))}
            own = resource[0] == "" and resource[1] in OWN_KINDS
            if own:
                verbs = {verb: its for verb, its in verbs.items() if (kind, verb) not in KEPT}
                yield {"section": "kinds", "name": kind, "verbs": verbs}
            else:
                stands = ["namespace"] if namespaced else ["cluster"]
                yield {"section": "kinds", "name": kind, "in": stands, "leaf": True, "verbs": verbs}


KEPT = {("workload", "create"), ("workload", "list"), ("secret", "list"), ("namespace", "create")} | {
    (kind, "delete") for kind in OWN_KINDS.values()
}  # verbs that the catalogue's own kinds have already, and of the same meaning


def kind_of(resource: Resource) -> str:
    """The kind that a resource is."""
    group, name = resource
    base, _, sub = name.partition("/")
    kind = OWN_KINDS.get(base, base) if not group else f"{base}.{group}"
    return f"{kind}-{sub}" if sub else kind


def verb_of(verb: str) -> str:
    """The estate's word for a verb; one that only this cluster has keeps its own."""
    return VERBS.get(verb, verb)


def _named(pattern: str, name: str) -> bool:
    """`*` is everything, `*/sub` the subresource of everything, anything else itself."""
    if pattern in ("*", name):
        return True
    return pattern.startswith("*/") and "/" in name and name.split("/", 1)[1] == pattern[2:]

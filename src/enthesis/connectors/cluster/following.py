"""What follows from what rules allow, as a caller who knows clusters reads them; in the estate's words.

Reading a list of secrets is reading them. Callers that may start a workload in a namespace, or run a command in one,
have every identity of that namespace; callers that may request a token or impersonate have that identity. Bindings
may be made by those who may bind, and roles widened by those who may escalate: both change access. So do
certificates that one approves oneself, and webhooks that the cluster asks about every change.
(Kubernetes documentation, "Role Based Access Control Good Practices" and "User impersonation".)
"""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from enthesis.connectors.cluster.resources import ADMISSION, CERTIFICATES, RBAC, Resources

MAKING, CHANGING, SEEING = ("create",), ("create", "update", "patch"), ("get", "list", "watch")
STARTERS = (
    ("", "pods"), ("", "replicationcontrollers"), ("apps", "deployments"), ("apps", "daemonsets"),
    ("apps", "statefulsets"), ("apps", "replicasets"), ("batch", "jobs"), ("batch", "cronjobs"),
)  # fmt: skip
WEBHOOKS = {
    (ADMISSION, "mutatingwebhookconfigurations"), (ADMISSION, "validatingwebhookconfigurations"),
}  # fmt: skip
REGISTERED = "apiregistration.k8s.io"
SIGNER_OF_CLIENTS = {
    "kubernetes.io/kube-apiserver-client", "kubernetes.io/kube-apiserver-client-kubelet", "kubernetes.io/*",
}  # fmt: skip
ANY = ""  # among names: every one
ENTERING = {
    ("", "pods/exec"): ("create", "get"), ("", "pods/attach"): ("create", "get"),
    ("", "pods/ephemeralcontainers"): ("update", "patch"), ("", "nodes/proxy"): ("create", "get"),
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Follows:
    """Something that follows: verbs on a kind, everywhere in the place of the binding, or on one thing in it."""

    kind: str
    verbs: tuple[str, ...]
    name: str = ""
    why: str = ""
    whole: bool = False  # in the whole cluster, wherever the binding is


@dataclass
class ClusterPowers:
    """What one caller can do about access itself in one place, gathered over all bindings.

    What is of the whole cluster (certificates, webhooks, users, groups) counts only where the place is that.
    """

    makes_bindings: bool = False
    binds: bool = False
    widens_roles: bool = False
    escalates: bool = False
    makes_secrets: bool = False
    sees_secrets: bool = False
    requests_certificates: bool = False
    approves_requests: bool = False
    approves_clients: bool = False
    fills_requests: bool = False
    signs_clients: bool = False
    sets_webhooks: bool = False
    serves_interfaces: bool = False
    makes_volumes: bool = False
    enters_nodes: bool = False
    starts: bool = False
    labels_namespaces: bool = False
    makes_accounts: bool = False
    poses_as_account: bool = False
    users: frozenset[str] = frozenset()  # names of users that it may act as, ANY among them
    groups: frozenset[str] = frozenset()  # likewise of groups

    def follows(self, *, whole: bool, guarded: bool) -> Iterator[Follows]:
        """What these give together, in a namespace or in the whole cluster. `guarded`: no workload may be started there
        that has its node."""
        why = next(self._changing(whole=whole), "")
        if why:
            yield Follows("", ("change-access",), why=why)
        if self.starts and (not guarded or self.labels_namespaces):
            more = ", and change what forbids it" if guarded else ", which nothing there forbids"
            yield Follows("", ("change-access",), why=f"may start a workload that has its node{more}", whole=True)
        if self.makes_secrets and self.sees_secrets:
            yield Follows("identity", ("run-as",), why="may make a secret that holds a token, and see it")

    def _changing(self, *, whole: bool) -> Iterator[str]:
        """Ways to change any access in the place."""
        if self.makes_bindings and self.binds:
            yield "may make bindings and bind"
        if self.widens_roles and self.escalates:
            yield "may change roles and escalate"
        if not whole:
            return
        if ANY in self.groups and (self.users or self.poses_as_account):
            yield "may act as any group"
        if self.requests_certificates and self.approves_requests and self.approves_clients:
            yield "may request a certificate of a user and approve it"
        if self.requests_certificates and self.fills_requests and self.signs_clients:
            yield "may request a certificate of a user and sign it, with the key of the signer"
        if self.enters_nodes:
            yield "may command the nodes themselves"
        if self.makes_volumes:
            yield "may make a volume of a folder of a node"
        if self.serves_interfaces:
            yield "may have requests for a part of the interface go elsewhere"
        if self.sets_webhooks:
            yield "may have the cluster ask a webhook about every change"

    def any(self) -> bool:
        """Whether there is any of them."""
        return any(getattr(self, name) for name in self.__dataclass_fields__)

    def joined(self, other: "ClusterPowers") -> "ClusterPowers":
        """Both together, as one more."""
        out = ClusterPowers()
        out.join(self)
        out.join(other)
        return out

    def join(self, other: "ClusterPowers") -> None:
        """Adds the powers of another set to these, in place."""
        for name in self.__dataclass_fields__:
            setattr(self, name, getattr(self, name) | getattr(other, name))


@dataclass
class Following:
    """Reads rules for what follows from them. `token_secrets` maps namespaces to secrets and whose token each holds;
    `mounts` namespaces to what runs and takes something from secrets, `on_node` to what has its node."""

    resources: Resources
    token_secrets: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    mounts: Mapping[str, Mapping[str, set[str]]] = field(default_factory=dict)
    on_node: Mapping[str, Iterable[str]] = field(default_factory=dict)

    def of(self, rules: Iterable[Mapping[str, Any]]) -> Iterator[Follows]:
        """What follows from rules in the place where they are bound, whichever that is."""
        for rule in rules:
            verbs, found = set(rule.get("verbs") or ()), set(self.resources.matching(rule))
            for name in rule.get("resourceNames") or ("",):
                yield from self._of_one(found, verbs, name)

    def stored_tokens(self, rules: Iterable[Mapping[str, Any]], namespaces: Iterable[str]) -> Iterator[Follows]:
        """The identities whose tokens are kept in secrets that rules let be seen in some namespaces."""
        seen: set[str] = set()
        for rule in rules:
            if ("", "secrets") in self.resources.matching(rule) and _any(set(rule.get("verbs") or ()), SEEING):
                seen.update(rule.get("resourceNames") or ("",))
        if not seen:
            return
        for namespace in namespaces:
            for secret, identity in self.token_secrets.get(namespace, {}).items():
                if "" in seen or secret in seen:
                    yield Follows("identity", ("run-as",), f"{namespace}/{identity}", f"sees its token in {secret}")

    def entered(self, rules: Iterable[Mapping[str, Any]], namespaces: Iterable[str]) -> Iterator[Follows]:
        """What is had by who may run commands in what runs: the secrets that it takes something from, and its node."""
        entered: set[str] = set()
        for rule in rules:
            verbs, found = set(rule.get("verbs") or ()), set(self.resources.matching(rule))
            if any(one in found and _any(verbs, entering) for one, entering in ENTERING.items()):
                entered.update(rule.get("resourceNames") or ("",))
        if not entered:
            return
        for namespace in namespaces:
            for workload, secrets in self.mounts.get(namespace, {}).items():
                for secret in sorted(secrets) if {"", workload} & entered else ():
                    why = f"may run commands in {workload}, which has it"
                    yield Follows("secret", ("read",), f"{namespace}/{secret}", why)
            for workload in self.on_node.get(namespace, ()):
                if {"", workload} & entered:
                    why = f"may run commands in {namespace}/{workload}, which has its node"
                    yield Follows("", ("change-access",), why=why, whole=True)

    def _of_one(self, found: set[tuple[str, str]], verbs: set[str], name: str) -> Iterator[Follows]:
        if ("", "secrets") in found:
            if _any(verbs, SEEING):
                yield Follows("secret", ("read",), name, "sees what is in them")
            if _any(verbs, CHANGING):
                yield Follows("secret", ("write",), name, "changes what is in them")
        if any(resource in found and _any(verbs, CHANGING) for resource in STARTERS):
            yield Follows("identity", ("run-as",), why="may start a workload that runs as any identity there")
            yield Follows("secret", ("read",), why="may start a workload that mounts any secret there")
        if any(resource in found and _any(verbs, entering) for resource, entering in ENTERING.items()):
            yield Follows("workload", ("login",), name, "may run commands in what runs there")
            yield Follows("identity", ("run-as",), why="may run commands in what runs there")
        if ("", "serviceaccounts/token") in found and _any(verbs, MAKING):
            yield Follows("identity", ("issue", "run-as"), name, "may request its tokens")
        if ("", "serviceaccounts") in found and _any(verbs, ("impersonate",)):
            yield Follows("identity", ("run-as",), name, "may impersonate it")

    def powers(self, rules: Iterable[Mapping[str, Any]]) -> ClusterPowers:
        """What rules give towards changing access."""
        out = ClusterPowers()
        for rule in rules:
            verbs, found = set(rule.get("verbs") or ()), set(self.resources.matching(rule))
            bindings = {(RBAC, "rolebindings"), (RBAC, "clusterrolebindings")} & found
            roles = {(RBAC, "roles"), (RBAC, "clusterroles")} & found
            unnamed = not rule.get("resourceNames")
            out.makes_bindings |= bool(bindings) and _any(verbs, CHANGING)
            out.binds |= bool(roles) and _any(verbs, ("bind",))
            out.widens_roles |= bool(roles) and _any(verbs, CHANGING)
            out.escalates |= bool(roles) and _any(verbs, ("escalate",))
            if unnamed and ("", "secrets") in found:
                out.makes_secrets |= _any(verbs, CHANGING)
                out.sees_secrets |= _any(verbs, SEEING)
            out.serves_interfaces |= (REGISTERED, "apiservices") in found and _any(verbs, CHANGING)
            out.makes_volumes |= ("", "persistentvolumes") in found and _any(verbs, CHANGING)
            out.enters_nodes |= ("", "nodes/proxy") in found and _any(verbs, ("create", "get"))
            out.starts |= any(one in found and _any(verbs, CHANGING) for one in STARTERS)
            out.starts |= ("", "pods/ephemeralcontainers") in found and _any(verbs, CHANGING[1:])
            out.labels_namespaces |= ("", "namespaces") in found and _any(verbs, CHANGING[1:])
            out.makes_accounts |= unnamed and ("", "serviceaccounts") in found and _any(verbs, MAKING)
            out.sets_webhooks |= bool(WEBHOOKS & found) and _any(verbs, CHANGING)
            self._certificates(rule, verbs, found, out)
            if _any(verbs, ("impersonate",)):
                names = frozenset(rule.get("resourceNames") or (ANY,))
                out.users |= names if ("", "users") in found else frozenset()
                out.groups |= names if ("", "groups") in found else frozenset()
                out.poses_as_account |= ("", "serviceaccounts") in found
        return out

    def _certificates(
        self, rule: Mapping[str, Any], verbs: set[str], found: set[tuple[str, str]], out: ClusterPowers
    ) -> None:
        """What a rule gives towards a certificate of a user."""
        requests = "certificatesigningrequests"
        out.requests_certificates |= (CERTIFICATES, requests) in found and _any(verbs, MAKING)
        out.approves_requests |= (CERTIFICATES, f"{requests}/approval") in found and _any(verbs, CHANGING[1:])
        out.fills_requests |= (CERTIFICATES, f"{requests}/status") in found and _any(verbs, CHANGING[1:])
        names = rule.get("resourceNames")
        if (CERTIFICATES, "signers") in found and (not names or SIGNER_OF_CLIENTS.intersection(names)):
            out.approves_clients |= _any(verbs, ("approve",))
            out.signs_clients |= _any(verbs, ("sign",))


def _any(verbs: set[str], wanted: Iterable[str]) -> bool:
    return "*" in verbs or any(verb in verbs for verb in wanted)

"""What follows from what rules allow, as somebody who knows clusters reads them; in the estate's words.

Reading a list of secrets is reading them. Whoever may start something in a namespace, or run a command in what runs
there, has every identity of that namespace; whoever may request a token or impersonate has that identity. Bindings may
be made by those who may bind, and roles widened by those who may escalate: both change access.
"""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from enthesis.connectors.cluster.resources import RBAC, Resources

MAKING, CHANGING, SEEING = ("create",), ("create", "update", "patch"), ("get", "list", "watch")
STARTERS = (
    ("", "pods"), ("", "replicationcontrollers"), ("apps", "deployments"), ("apps", "daemonsets"),
    ("apps", "statefulsets"), ("apps", "replicasets"), ("batch", "jobs"), ("batch", "cronjobs"),
)  # fmt: skip
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


@dataclass
class Powers:
    """What one subject can do about access itself in one place, gathered over all of its bindings."""

    makes_bindings: bool = False
    binds: bool = False
    widens_roles: bool = False
    escalates: bool = False
    makes_secrets: bool = False
    sees_secrets: bool = False

    def follows(self) -> Iterator[Follows]:
        """What these give together."""
        if self.makes_bindings and self.binds:
            yield Follows("", ("change-access",), why="may make bindings and bind")
        elif self.widens_roles and self.escalates:
            yield Follows("", ("change-access",), why="may change roles and escalate")
        if self.makes_secrets and self.sees_secrets:
            yield Follows("identity", ("run-as",), why="may make a secret that holds a token, and see it")

    def any(self) -> bool:
        """Whether there is any of them."""
        return any(getattr(self, name) for name in self.__dataclass_fields__)

    def join(self, other: "Powers") -> None:
        for name in self.__dataclass_fields__:
            setattr(self, name, getattr(self, name) or getattr(other, name))


@dataclass
class Following:
    """Reads rules for what follows from them. `token_secrets` maps namespaces to secrets and whose token each holds."""

    resources: Resources
    token_secrets: Mapping[str, Mapping[str, str]] = field(default_factory=dict)

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

    def _of_one(self, found: set[tuple[str, str]], verbs: set[str], name: str) -> Iterator[Follows]:
        if ("", "secrets") in found:
            if _any(verbs, SEEING):
                yield Follows("secret", ("read",), name, "sees what is in them")
            if _any(verbs, CHANGING):
                yield Follows("secret", ("write",), name, "changes what is in them")
        if any(resource in found and _any(verbs, CHANGING) for resource in STARTERS):
            yield Follows("identity", ("run-as",), why="may start something that runs as any identity there")
        if any(resource in found and _any(verbs, entering) for resource, entering in ENTERING.items()):
            yield Follows("workload", ("login",), name, "may run commands in what runs there")
            yield Follows("identity", ("run-as",), why="may run commands in what runs there")
        if ("", "serviceaccounts/token") in found and _any(verbs, MAKING):
            yield Follows("identity", ("issue", "run-as"), name, "may request its tokens")
        if ("", "serviceaccounts") in found and _any(verbs, ("impersonate",)):
            yield Follows("identity", ("run-as",), name, "may impersonate it")
        if not name and {("", "users"), ("", "groups")} & found and _any(verbs, ("impersonate",)):
            yield Follows("", ("change-access",), why="may impersonate anybody")
            yield Follows("identity", ("run-as",), why="may impersonate anybody")

    def powers(self, rules: Iterable[Mapping[str, Any]]) -> Powers:
        """What rules without names give towards changing access."""
        out = Powers()
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
        return out


def _any(verbs: set[str], wanted: Iterable[str]) -> bool:
    return "*" in verbs or any(verb in verbs for verb in wanted)

"""The reviews of a stand-in cluster: may a caller do something, what may I do, whose token is this."""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from enthesis_lab.cluster.access import Attributes, Policy, User
from enthesis_lab.cluster.refusals import bad

AUTHENTICATION, AUTHORIZATION = "authentication.k8s.io", "authorization.k8s.io"
TEXTS = (str,)
ASKED: Mapping[str, type | tuple[type, ...]] = {
    "user": str, "groups": TEXTS, "token": str, "audiences": TEXTS, "namespace": str, "uid": str,
}  # fmt: skip
OF_ATTRIBUTES = dict.fromkeys(("namespace", "verb", "group", "version", "resource", "subresource", "name", "path"), str)


@dataclass(frozen=True)
class Reviews:
    """Answers reviews by a policy. `authenticated` finds the user of a token, and which of some audiences it is for."""

    policy: Policy
    issuer: str
    authenticated: Callable[[str, Iterable[str]], tuple[User, list[str]] | None]

    def answer(self, kind: str, user: User, namespace: str, spec: Mapping[str, Any]) -> dict[str, Any]:
        """The review with its status; `namespace` is that of the path, for a local one."""
        group = AUTHENTICATION if kind in ("TokenReview", "SelfSubjectReview") else AUTHORIZATION
        whole = {"kind": kind, "apiVersion": f"{group}/v1", "metadata": {}, "spec": spec}
        if kind == "SelfSubjectReview":
            del whole["spec"]
            return {**whole, "status": {"userInfo": _told(user)}}
        must_be(spec, "spec", **ASKED)
        for name in ("resourceAttributes", "nonResourceAttributes"):
            must_be(spec.get(name) or {}, f"spec.{name}", **OF_ATTRIBUTES)
        if kind == "TokenReview":
            return {**whole, "status": self._token(spec)}
        if kind == "SelfSubjectRulesReview":
            return {**whole, "status": self._rules(user, spec)}
        if ("resourceAttributes" in spec) == ("nonResourceAttributes" in spec):
            raise bad("exactly one of resourceAttributes and nonResourceAttributes must be specified")
        if kind != "SelfSubjectAccessReview":
            if not spec.get("user") and not spec.get("groups"):
                raise bad("spec.user: Required value: at least one of user or group must be specified")
            user = User(str(spec.get("user") or ""), tuple(spec.get("groups") or ()))
        if kind == "LocalSubjectAccessReview":
            asked = (spec.get("resourceAttributes") or {}).get("namespace")
            if asked != namespace:
                raise bad("spec.resourceAttributes.namespace: must match the namespace of the request")
        return {**whole, "status": self._access(user, spec)}

    def _access(self, user: User, spec: Mapping[str, Any]) -> dict[str, Any]:
        plain = spec.get("nonResourceAttributes")
        if plain:
            wanted = Attributes(plain.get("verb", ""), path=plain.get("path", ""))
        else:
            asked = spec["resourceAttributes"]
            resource = asked.get("resource", "") + (f"/{asked['subresource']}" if asked.get("subresource") else "")
            wanted = Attributes(
                asked.get("verb", ""),
                asked.get("group", ""),
                resource,
                asked.get("namespace", ""),
                asked.get("name", ""),
            )
        why = self.policy.allowed(user, wanted)
        return {"allowed": bool(why), **({"reason": f"RBAC: allowed by {why}"} if why else {})}

    def _rules(self, user: User, spec: Mapping[str, Any]) -> dict[str, Any]:
        if not spec.get("namespace"):
            raise bad("no namespace on request")
        rules = list(self.policy.rules_for(user, spec["namespace"]))
        return {
            "resourceRules": [rule for rule in rules if rule.get("resources")],
            "nonResourceRules": [rule for rule in rules if rule.get("nonResourceURLs")],
            "incomplete": False,
        }

    def _token(self, spec: Mapping[str, Any]) -> dict[str, Any]:
        wanted = spec.get("audiences") or [self.issuer]
        if not spec.get("token"):
            raise bad("spec.token: Required value: token is required for TokenReview in authentication")
        found = self.authenticated(str(spec["token"]), wanted)
        if found is None:
            return {"authenticated": False, "user": {}, "error": "the token is not one of this cluster's for them"}
        user, audiences = found
        return {"authenticated": True, "user": _told(user), "audiences": audiences}


def _told(user: User) -> dict[str, Any]:
    return {"username": user.name, "groups": list(user.groups), **({"uid": user.uid} if user.uid else {})}


def must_be(said: object, where: str, **forms: type | tuple[type, ...]) -> None:
    """400 where something is no object, or a field of it is not of its form: a type, or a list of one in a tuple."""
    if not isinstance(said, Mapping):
        raise bad(f"{where} is not an object")
    for name, form in forms.items():
        value = said.get(name)
        if value is None:
            continue
        listed = isinstance(form, tuple)
        items = value if listed and isinstance(value, list) else [value]
        wanted = form[0] if isinstance(form, tuple) else form
        if listed is not isinstance(value, list) or not all(type(one) is wanted for one in items):
            raise bad(f"{where}.{name} is not of its type")

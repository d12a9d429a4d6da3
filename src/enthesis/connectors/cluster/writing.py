"""Statements of the estate as a cluster's objects: service accounts, roles defined once, bindings in chosen places.

Everything made carries a label that says who made it, the estate that it was made for, and the statement itself, so
that it can be found again and compared. What a cluster cannot hold is objected to before anything is done.
"""

import hashlib
import json
import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from enthesis.connectors.cluster.resources import OWN_KINDS, RBAC, VERBS
from enthesis.model.errors import InnerError
from enthesis.model.foreign_names import MADE_BY, OURS

MARK, STATEMENT = "enthesis.example/estate", "enthesis.example/statement"
LABEL_NAME = re.compile(r"([a-z0-9.-]{1,253}/)?[A-Za-z0-9]([A-Za-z0-9._-]{0,61}[A-Za-z0-9])?")
LABEL_VALUE = re.compile(r"([A-Za-z0-9]([A-Za-z0-9._-]{0,61}[A-Za-z0-9])?)?")
OBJECT_NAME = re.compile(r"[a-z0-9]([a-z0-9.-]{0,251}[a-z0-9])?")
PLAIN = {word: (verb,) for verb, word in VERBS.items()}
IN_REQUESTS: Mapping[str, Mapping[str, tuple[str, tuple[str, ...]]]] = {
    "secret": {"read": ("secrets", ("get",)), "write": ("secrets", ("create", "update", "patch"))},
    "workload": {
        "login": ("pods/exec", ("create", "get")), "configure": ("pods", ("update", "patch")),
        "create": ("pods", ("create",)),
    },
    "identity": {"describe": ("serviceaccounts", ("get", "list")), "issue": ("serviceaccounts/token", ("create",))},
    "namespace": {"describe": ("namespaces", ("get",)), "create": ("namespaces", ("create",))},
}  # fmt: skip
Body = Mapping[str, Any]
Rule = dict[str, Any]


class CannotHold(InnerError, ValueError):
    """A statement that a cluster has no words for; the message says why."""

    inner_code = "statement-not-held"


def rules_for(allows: Mapping[str, Any]) -> list[Rule]:
    """The rules that say what a role allows; CannotHold where a cluster cannot say it."""
    wanted: dict[tuple[str, str], dict[str, None]] = {}
    for kind, verbs in allows.items():
        for verb in [verbs] if isinstance(verbs, str) else verbs:
            group, resource, requests = _requests(kind, verb)
            wanted.setdefault((group, resource), {}).update(dict.fromkeys(requests))
    return [
        {"apiGroups": [group], "resources": [resource], "verbs": list(verbs)}
        for (group, resource), verbs in wanted.items()
    ]


def allows_now(rules: Iterable[Mapping[str, Any]]) -> dict[str, list[str]]:
    """What rules allow of what a role of ours can say; for a role that a caller changed by hand."""
    out: dict[str, list[str]] = {}
    for kind, words in {**{kind: {} for kind in OWN_KINDS.values()}, **IN_REQUESTS}.items():
        plain = {word: (resource, requests) for resource, own in OWN_KINDS.items() if own == kind
                 for word, requests in PLAIN.items() if word in ("list", "delete")}  # fmt: skip
        for verb, (resource, requests) in {**plain, **words}.items():
            if any(
                resource in (rule.get("resources") or ()) and set(requests) <= set(rule.get("verbs") or ())
                for rule in rules
            ):
                out.setdefault(kind, []).append(verb)
    return out


def _requests(kind: str, verb: str) -> tuple[str, str, tuple[str, ...]]:
    """Group, resource and verbs of a permission, in the cluster's words."""
    if "*" in (kind, verb):
        raise CannotHold("a role for a cluster names its kinds and verbs, one by one")
    if verb in IN_REQUESTS.get(kind, {}):
        resource, requests = IN_REQUESTS[kind][verb]
        return "", resource, requests
    if verb not in PLAIN:
        raise CannotHold(f"a cluster knows no {verb} on a {kind}")
    own = {name: resource for resource, name in OWN_KINDS.items()}
    base, _, sub = kind.partition("-")
    plural, _, group = base.partition(".")
    resource = own.get(base, plural) + (f"/{sub}" if sub else "")
    return ("" if base in own else group), resource, PLAIN[verb]


def objection(cluster: str, collection: str, body: Body, allows: Mapping[str, Any]) -> str:
    """Why a cluster cannot hold a statement; '' where it can. `allows` is what its role allows, for a grant."""
    try:
        if collection == "roles":
            rules_for(body["allows"])
            if body.get("includes"):
                raise CannotHold("a role for a cluster includes no other")
        elif collection == "grants":
            _grant(cluster, body, allows)
        elif collection == "identities":
            _identity(cluster, body)
        else:
            raise CannotHold(f"a cluster holds no {collection}")
    except CannotHold as why:
        return str(why)
    return ""


def _grant(cluster: str, body: Body, allows: Mapping[str, Any]) -> None:
    if body.get("when") or body.get("until"):
        raise CannotHold("a cluster's bindings have no conditions and no end")
    subject_of(cluster, str(body["to"]))
    place_of(cluster, str(body["at"]))
    rules_for(allows)


def _identity(cluster: str, body: Body) -> None:
    namespace, kind, name = parts_of(cluster, str(body["address"]))
    if not namespace or kind != "identity" or not OBJECT_NAME.fullmatch(name):
        raise CannotHold(f"{body['address']} is not a name of a service account")
    for label, value in (body.get("labels") or {}).items():
        if not LABEL_NAME.fullmatch(label) or not LABEL_VALUE.fullmatch(str(value)):
            raise CannotHold(f"a cluster takes no label {label}: {value}")


def parts_of(cluster: str, address: str) -> tuple[str, str, str]:
    """Namespace, kind and name of a place in a cluster; '' for what it has not."""
    if address == cluster:
        return "", "", ""
    parts = address.removeprefix(f"{cluster}/").split("/")
    if not address.startswith(f"{cluster}/") or len(parts) < 2:
        raise CannotHold(f"{address} is not in {cluster}")
    if parts[0] != "namespace":
        return "", parts[0], "/".join(parts[1:])
    return parts[1], parts[2] if len(parts) > 2 else "", "/".join(parts[3:])


def place_of(cluster: str, address: str) -> tuple[str, str]:
    """The namespace that a binding stands in ('' for the whole cluster), and the name of the one thing it is for."""
    namespace, kind, name = parts_of(cluster, address)
    if kind and not namespace:
        raise CannotHold("a binding to one thing of the whole cluster is not made")
    return namespace, name


def subject_of(cluster: str, to: str) -> dict[str, str]:
    """Whom a binding is for: a service account of this cluster, or a person by name."""
    if to.startswith("@") and "/identity/" in to:
        return {"kind": "User", "apiGroup": RBAC, "name": to.split("/identity/", 1)[1]}
    try:
        namespace, kind, name = parts_of(cluster, to)
    except CannotHold:
        raise CannotHold(f"{to} is unknown to {cluster}: it knows its own service accounts, and people") from None
    if kind != "identity":
        raise CannotHold(f"{to} is not a service account: grant to each identity by itself")
    return {"kind": "ServiceAccount", "namespace": namespace, "name": name}


def meta_for(name: str, mark: str, body: Body, labels: Mapping[str, str] | None = None) -> dict[str, Any]:
    """The metadata of something that we make."""
    statement = json.dumps(body, sort_keys=True, separators=(",", ":"))
    return {
        "name": name,
        "labels": {**(labels or {}), MADE_BY: OURS},
        "annotations": {MARK: mark, STATEMENT: statement},
    }


def objects_for(
    cluster: str, collection: str, body: Body, mark: str, allows: Mapping[str, Any]
) -> Iterator[tuple[str, dict[str, Any]]]:
    """The objects that a statement is, each with the path of its collection; for a grant, the binding comes last."""
    roles, bindings = f"/apis/{RBAC}/v1/clusterroles", f"/apis/{RBAC}/v1/clusterrolebindings"
    if collection == "identities":
        namespace, _, name = parts_of(cluster, str(body["address"]))
        meta = {**meta_for(name, mark, body, body.get("labels")), "namespace": namespace}
        yield f"/api/v1/namespaces/{namespace}/serviceaccounts", _whole("v1", "ServiceAccount", meta)
    elif collection == "roles":
        meta = meta_for(role_name(mark, str(body["name"])), mark, body)
        yield roles, _whole(f"{RBAC}/v1", "ClusterRole", meta, rules=rules_for(body["allows"]))
    elif collection == "grants":
        namespace, thing = place_of(cluster, str(body["at"]))
        name = binding_name(body)
        reference = reference_to(cluster, mark, str(body["role"]))
        meta = {**meta_for(name, mark, body), **({"namespace": namespace} if namespace else {})}
        if thing:
            rules = [{**rule, "resourceNames": [thing]} for rule in rules_for(allows)]
            own = {**meta, "annotations": {MARK: mark}}
            yield f"/apis/{RBAC}/v1/namespaces/{namespace}/roles", _whole(f"{RBAC}/v1", "Role", own, rules=rules)
            reference = {"apiGroup": RBAC, "kind": "Role", "name": name}
        where = f"/apis/{RBAC}/v1/namespaces/{namespace}/rolebindings" if namespace else bindings
        kind = "RoleBinding" if namespace else "ClusterRoleBinding"
        subjects = [subject_of(cluster, str(body["to"]))]
        yield where, _whole(f"{RBAC}/v1", kind, meta, roleRef=reference, subjects=subjects)


def _whole(version: str, kind: str, meta: dict[str, Any], **more: Any) -> dict[str, Any]:
    return {"apiVersion": version, "kind": kind, "metadata": meta, **more}


def reference_to(cluster: str, mark: str, role: str) -> dict[str, str]:
    """A role as a binding refers to it: one that we make, or one that is there, which a survey calls by the cluster."""
    there = role.removeprefix(cluster.rsplit("/", 1)[1] + ":")
    if there == role:
        return {"apiGroup": RBAC, "kind": "ClusterRole", "name": role_name(mark, role)}
    _, stroke, name = there.partition("/")
    return {"apiGroup": RBAC, "kind": "Role" if stroke else "ClusterRole", "name": name or there}


def role_name(mark: str, role: str) -> str:
    """The name of a role's object: the estate's, since two estates may have roles of one name."""
    return f"{mark}:{role}".replace("/", "-")


def binding_name(body: Body) -> str:
    """The name of a grant's object, always the same for the same grant."""
    key = json.dumps([body.get("name"), body["to"], body["role"], body["at"]])
    return f"enthesis-{hashlib.sha256(key.encode()).hexdigest()[:20]}"

"""A cluster as its administrators see it: what we made there, compared with what it is now, and changed by steps."""

import base64
import json
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import quote

from enthesis.connectors.cluster.resources import RBAC
from enthesis.connectors.cluster.surveying import NAMES_ONLY, Cluster
from enthesis.connectors.cluster.using import LiveCluster, said_by
from enthesis.connectors.cluster.writing import (
    MARK,
    STATEMENT,
    CannotHold,
    allows_now,
    objection,
    objects_for,
)
from enthesis.connectors.http import Client, Connection, HttpAnswer, understood
from enthesis.model.errors import MovedAway, RightMissing, UnexpectedAnswer
from enthesis.model.foreign_names import MADE_BY, OURS
from enthesis.model.secrets import Secret
from enthesis.ports import Changed, Joined, Right, ServiceHere
from enthesis.proposals.steps import CHANGE, MAKE, REMOVE, Step
from enthesis.surveys.statements import LiveObject, Surveyed

MADE = f"labelSelector={quote(f'{MADE_BY}={OURS}')}"
BINDINGS = ("rolebindings", "clusterrolebindings")
OLDEST = "kube-system"  # the namespace that every cluster has from its beginning: its uid is the cluster's own
READ = ("namespaces", "serviceaccounts", "secrets", "pods", "roles", "clusterroles", *BINDINGS)
GIVING = ("escalate", "bind")  # needed only by who has not all that is given


class AdministeredCluster(LiveCluster):
    """The survey and change ports of a cluster, beside those of its use."""

    @understood
    def survey(self, holders: Sequence[str], others: Sequence[str] = ()) -> Surveyed:
        """What we made, and every service account; needs the right to list them, and namespaces, secrets and pods."""
        address, account = self.name, self.cluster.account
        listed = [entry["metadata"] for entry in self.cluster.items("/api/v1/namespaces", accept=NAMES_ONLY)]
        namespaces = [entry["name"] for entry in listed]
        side = next((str(entry.get("uid", "")) for entry in listed if entry["name"] == OLDEST), "")
        there = {address, *(f"{address}/namespace/{name}" for name in namespaces)}
        for plural, kind in (("secrets", "secret"), ("pods", "workload")):
            for entry in self.cluster.items(f"/api/v1/{plural}", accept=NAMES_ONLY):
                there.add(f"{address}/namespace/{entry['metadata']['namespace']}/{kind}/{entry['metadata']['name']}")
        accounts = list(self.cluster.items("/api/v1/serviceaccounts"))
        ids = {self._address(account["metadata"]): account["metadata"]["uid"] for account in accounts}
        objects = [self._account_now(account) for account in accounts]
        objects += self._roles_now()
        objects += self._grants_now(
            {
                statement.body["name"]: statement.body["allows"]
                for statement in objects
                if statement.collection == "roles"
            }
        )
        objects += self._by_hand()
        return Surveyed(address, tuple(holders), tuple(objects), frozenset([account]), frozenset(there), ids, side=side)

    def objection(self, collection: str, body: Mapping[str, Any], allows: Mapping[str, Any]) -> str:
        """Why this cluster cannot hold a statement; '' where it can."""
        return objection(self.name, collection, body, allows)

    @understood
    def change(self, step: Step, ids: dict[str, str], key: str = "") -> Changed:
        """Needs the right to change service accounts, roles or bindings, and to give what a binding gives. What is
        there already as it is wanted is left, so that no key is needed."""
        del key
        allows = (step.body or step.before or {}).get("allows") or {}
        if step.collection == "grants":
            allows = self._allows(step)
        if step.body is None:
            self._remove(step, allows)
            return Changed(None, None)
        made: dict[str, Any] = {}
        for path, wanted in objects_for(self.name, step.collection, step.body, step.mark, allows):
            made = self._put(path, wanted, step)
        changed = Changed(made["metadata"]["uid"], made["metadata"]["resourceVersion"])
        self.learn(step, changed, ids)
        return changed

    def learn(self, step: Step, made: Changed, ids: dict[str, str]) -> None:
        """Takes note of the id of a service account that a step made."""
        if step.collection == "identities" and step.body is not None and made.id is not None:
            ids[str(step.body["address"])] = made.id

    def in_force(self, step: Step, made: Changed) -> bool:
        """A cluster shows and enforces what it has answered."""
        del step, made
        return True

    def rights(self, holders: Sequence[str], steps: Sequence[Step]) -> list[Right]:
        """As its own role-based authorisation asks for them."""
        del holders
        out = [Right(f"list {plural}", self.name, "survey") for plural in READ]
        return [*out, *(Right(f"{verb} {plural}", where, "enact") for verb, plural, where in self._needed(steps))]

    @understood
    def lacking(self, steps: Sequence[Step]) -> list[str]:
        """Asked of its access reviews, once for each verb, resource and namespace."""
        out = []
        for verb, plural, where in self._needed(steps):
            if verb in GIVING:
                continue
            group = "" if plural == "serviceaccounts" else RBAC
            namespace = where.rpartition("/namespace/")[2] if "/namespace/" in where else ""
            attributes = {"verb": verb, "resource": plural, "group": group}
            body = {
                "apiVersion": "authorization.k8s.io/v1", "kind": "SelfSubjectAccessReview",
                "spec": {"resourceAttributes": {**attributes, **({"namespace": namespace} if namespace else {})}},
            }  # fmt: skip
            path = "/apis/authorization.k8s.io/v1/selfsubjectaccessreviews"
            answer = self._asked("POST", path, self.cluster.token, body)
            if answer.status == 201 and answer.json(self.name).get("status", {}).get("allowed") is not True:
                out.append(f"{verb} {plural} in {where}")
        return out

    def _needed(self, steps: Sequence[Step]) -> list[tuple[str, str, str]]:
        """Verbs on resources, and where."""
        verbs = {MAKE: ("get", "create"), CHANGE: ("get", "update"), REMOVE: ("get", "delete")}
        found: dict[tuple[str, str, str], None] = {}
        for step in steps:
            for path, _ in objects_for(self.name, step.collection, step.body or step.before or {}, step.mark, {}):
                parts = path.split("/")
                namespace = parts[parts.index("namespaces") + 1] if "namespaces" in parts else ""
                where = f"{self.name}/namespace/{namespace}" if namespace else self.name
                found |= dict.fromkeys((verb, parts[-1], where) for verb in verbs[step.action])
                if parts[-1].endswith("roles") and step.body is not None:
                    found["escalate", parts[-1], where] = None  # or all that the role gives
                if parts[-1].endswith("bindings") and step.body is not None:
                    found["bind", "clusterroles", self.name] = None
        return list(found)

    # -- as it is now ----------------------------------------------------------------------------------------

    def _address(self, meta: Mapping[str, Any]) -> str:
        return f"{self.name}/namespace/{meta['namespace']}/identity/{meta['name']}"

    def _account_now(self, entry: Mapping[str, Any]) -> LiveObject:
        meta = entry["metadata"]
        labels = {name: value for name, value in (meta.get("labels") or {}).items() if name != MADE_BY}
        said = _statement(meta)
        body = {**said, "address": self._address(meta), "kind": "cluster-service-account"}
        body = {name: value for name, value in body.items() if name != "labels"} | (
            {"labels": labels} if labels else {}
        )
        return self._object("identities", meta, body)

    def _roles_now(self) -> Iterator[LiveObject]:
        for our in self._ours("clusterroles"):
            body = _statement(our["metadata"])
            if "name" in body and "allows" in body:
                yield self._object("roles", our["metadata"], _as_it_is(self.name, "roles", body, our, body["allows"]))

    def _grants_now(self, allows: Mapping[str, Any]) -> Iterator[LiveObject]:
        for plural in BINDINGS:
            for our in self._ours(plural):
                body = _statement(our["metadata"])
                if {"to", "role", "at"} <= body.keys():
                    own = allows.get(str(body["role"]), {})
                    yield self._object("grants", our["metadata"], _as_it_is(self.name, "grants", body, our, own))

    def _by_hand(self) -> Iterator[LiveObject]:
        """Roles and bindings that others made, as the survey's own reading has them; never altered."""
        seen: set[str] = set()
        for record in self.cluster.records(lambda what: None, but=_is_ours):
            section, live = record.get("section"), record.get("live") or {}
            if section not in ("roles", "grants") or "follows" in live or "id" not in live:
                continue
            body = {name: value for name, value in record.items() if name not in ("section", "live")}
            told = f"{section} {body.get('name') or (body['to'], body['role'], body['at'])}"
            if told in seen:
                continue  # two bindings that give the same
            seen.add(told)
            identifier = f"{live['id']} {len(seen)}"
            account, version = self.cluster.account, str(live["version"])
            came_along = bool(live.get("came_along"))
            yield LiveObject(self.name, section, account, identifier, version, None, body, came_along)

    def _ours(self, plural: str) -> Iterator[dict[str, Any]]:
        for entry in self.cluster.items(f"/apis/{RBAC}/v1/{plural}", query=MADE):
            if _is_ours(entry["metadata"]):
                yield entry

    def _object(self, collection: str, meta: Mapping[str, Any], body: Mapping[str, Any]) -> LiveObject:
        mark = (meta.get("annotations") or {}).get(MARK) if _is_ours(meta) else None
        came_along = mark is None and meta["name"] == "default"  # every namespace has this service account by itself
        account, version = self.cluster.account, meta["resourceVersion"]
        return LiveObject(self.name, collection, account, meta["uid"], version, mark, body, came_along)

    # -- changed ---------------------------------------------------------------------------------------------

    def _allows(self, step: Step) -> Mapping[str, Any]:
        """What the role of a grant allows, as it was made in this cluster."""
        role = str((step.body or step.before or {})["role"])
        for our in self._ours("clusterroles"):
            said = _statement(our["metadata"])
            if said.get("name") == role and (our["metadata"].get("annotations") or {}).get(MARK) == step.mark:
                allows: Mapping[str, Any] = said["allows"]
                return allows
        raise MovedAway(f"{self.name} has no role {role} any more", code="gone-meanwhile", remedy="propose again")

    def _put(self, path: str, wanted: dict[str, Any], step: Step) -> dict[str, Any]:
        """Makes an object, or changes the one that we made; anything else of that name is left alone."""
        name = wanted["metadata"]["name"]
        found = self._asked("GET", f"{path}/{quote(name)}", self.cluster.token)
        if found.status == 404:
            return self._done(self._asked("POST", path, self.cluster.token, wanted), 201, step)
        there = self._read(found, 200)["metadata"]
        if not _is_ours(there) or (there.get("annotations") or {}).get(MARK) != step.mark:
            raise MovedAway(
                f"{self.name} has an object named {name} that is not ours", code="name-taken", remedy="propose again"
            )
        if _holds(found.json(self.name), wanted):  # an earlier try has done it
            return found.json(self.name)
        if step.etag is not None and step.id == there["uid"] and there["resourceVersion"] != step.etag:
            raise MovedAway(
                f"meanwhile others changed {step.sentence}", code="changed-meanwhile", remedy="propose again"
            )
        wanted["metadata"]["resourceVersion"] = there["resourceVersion"]
        return self._done(self._asked("PUT", f"{path}/{quote(name)}", self.cluster.token, wanted), 200, step)

    def _remove(self, step: Step, allows: Mapping[str, Any]) -> None:
        """Removes what a statement is, the binding first; what no longer exists needs no step."""
        body = step.before or {}
        for path, wanted in reversed(list(objects_for(self.name, step.collection, body, step.mark, allows))):
            name = quote(wanted["metadata"]["name"])
            found = self._asked("GET", f"{path}/{name}", self.cluster.token)
            if found.status == 404 or not _is_ours(self._read(found, 200)["metadata"]):
                continue
            meta = found.json(self.name)["metadata"]
            conditions = {"uid": meta["uid"]}
            if step.id == meta["uid"] and step.etag is not None:
                conditions["resourceVersion"] = step.etag
            self._done(
                self._asked("DELETE", f"{path}/{name}", self.cluster.token, {"preconditions": conditions}), 200, step
            )

    def _done(self, answer: HttpAnswer, status: int, step: Step) -> dict[str, Any]:
        if answer.status == 409:
            raise MovedAway(
                f"meanwhile others changed {step.sentence}", code="changed-meanwhile", remedy="propose again"
            )
        if answer.status in (401, 403):
            raise RightMissing(f"{self.name} refused us: {said_by(answer)}", code="right-missing")
        if answer.status != status:
            raise UnexpectedAnswer(f"{self.name} answered {answer.status}: {said_by(answer)}", code="answer-unexpected")
        return answer.json(self.name)


def _holds(found: Mapping[str, Any], wanted: Mapping[str, Any]) -> bool:
    """Whether an object has all that is wanted of it."""
    for name, value in wanted.items():
        there = found.get(name)
        if name == "metadata" and isinstance(there, Mapping):
            if not _holds(there, value):
                return False
        elif _in_any_order(there) != _in_any_order(value):
            return False
    return True


def _is_ours(meta: Mapping[str, Any]) -> bool:
    return (meta.get("labels") or {}).get(MADE_BY) == OURS and MARK in (meta.get("annotations") or {})


def _statement(meta: Mapping[str, Any]) -> dict[str, Any]:
    """The statement that something we made says it is; empty where it says none."""
    try:
        said = json.loads((meta.get("annotations") or {}).get(STATEMENT, "{}"))
    except (ValueError, TypeError, RecursionError):
        return {}
    return said if isinstance(said, dict) else {}


def _as_it_is(
    cluster: str, collection: str, body: dict[str, Any], entry: Mapping[str, Any], allows: Mapping[str, Any]
) -> dict[str, Any]:
    """The statement, or where its object was changed by hand, the statement with that said in place of what differs."""
    mark = entry["metadata"]["annotations"][MARK]
    try:
        wanted = list(objects_for(cluster, collection, body, mark, allows))[-1][1]
    except (CannotHold, KeyError):
        return body
    if all(
        _in_any_order(entry.get(part)) == _in_any_order(wanted.get(part)) for part in ("rules", "roleRef", "subjects")
    ):
        return body
    if collection == "roles":
        return {**body, "allows": allows_now(entry.get("rules") or ())}
    return {**body, "when": {"reference": "changed by hand"}}


def _in_any_order(value: Any) -> Any:
    """A part of an object with its lists sorted: in rules and subjects the order says nothing."""
    if isinstance(value, Mapping):
        return {name: _in_any_order(inner) for name, inner in value.items()}
    if isinstance(value, list):
        return sorted(map(_in_any_order, value), key=lambda one: json.dumps(one, sort_keys=True))
    return value


def joined(service: ServiceHere) -> Joined:
    """A cluster of ours that stands in; its service accounts' tokens are of whichever issuer the estate says."""
    if service.estate.administered_by_others(service.name):
        return {}
    name, organisation = service.name, service.estate.organisation_of(service.name)
    cluster = AdministeredCluster(cluster_here(name, organisation, service.url, service.authority, service.sessions()))
    issuers = {name: cluster for name, one in service.estate.issuers.items() if one.cluster == service.name}
    return {"clusters": {service.name: cluster}, "issuers": issuers}


def cluster_here(
    address: str, organisation: str, url: str, authority: Path, sessions: Sequence[Mapping[str, str]]
) -> Cluster:
    """A cluster that stands in, with the session of its administrators."""
    token = next((Secret(entry["session"]) for entry in sessions if entry.get("cluster") == address), None)
    client = Client(address, url, authority=authority, way=Connection(after_faults=True))
    return Cluster(address, organisation, client, token, base64.b64encode(authority.read_bytes()).decode())

"""A cluster's audit log as recorded use: who did what on what, in the words of a usage log.

Kubernetes documentation, "Auditing": an `Event` of audit.k8s.io/v1 a line. Of the stages of a request only the last
counts, and the decision stands in an annotation.
"""

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from enthesis.connectors.cluster.paths import exact_place
from enthesis.connectors.cluster.resources import kind_of, verb_of
from enthesis.connectors.cluster.subjects import user_address
from enthesis.connectors.cluster.surveying import Cluster
from enthesis.model.foreign_names import word_of
from enthesis.ports import Record

DECISION, REASON = "authorization.k8s.io/decision", "authorization.k8s.io/reason"
ALLOWED = {"allow": "allowed", "forbid": "refused"}
LAST = ("ResponseComplete", "ResponseStarted", "Panic")
NO_NAME = "any"  # in the place of a name, where a request is for none
WORDS = {
    ("secrets", "get"): "read", ("secrets", "watch"): "read", ("secrets", "create"): "write",
    ("secrets", "update"): "write", ("secrets", "patch"): "write", ("pods", "update"): "configure",
    ("pods", "patch"): "configure", ("serviceaccounts", "get"): "describe", ("serviceaccounts", "list"): "describe",
}  # fmt: skip
"""The catalogue's words for what is done to its own kinds; any other verb is said as in a survey."""
SUBRESOURCES = {("pods", "exec"): ("pods", "login"), ("serviceaccounts", "token"): ("serviceaccounts", "issue")}


def usage_rows(events: Iterable[Any], cluster: Cluster) -> Iterator[Record]:
    """The rows for events; one that is not one, or not the last of its request, leads to nothing."""
    for event in events:
        row = _row(event, cluster) if isinstance(event, Mapping) else None
        if row is not None:
            yield row


def _row(event: Mapping[str, Any], cluster: Cluster) -> Record | None:
    notes, user = event.get("annotations") or {}, event.get("user") or {}
    acting = event.get("impersonatedUser") or user
    when = str(event.get("requestReceivedTimestamp") or "")
    outcome = ALLOWED.get(str(notes.get(DECISION)))
    if event.get("stage") not in LAST or outcome is None or not acting.get("username") or not when:
        return None
    verb, target = _what(event, cluster.address)
    sources = event.get("sourceIPs") or [None]
    more = {"network": sources[0], "statement": notes.get(REASON) if outcome == "allowed" else None}
    return {
        "time": when.partition(".")[0].removesuffix("Z") + "Z",
        "caller": _who(str(user.get("username")), cluster),
        "identity": _who(str(acting["username"]), cluster),
        "verb": verb,
        "target": target,
        "outcome": outcome,
        "at": cluster.address,
        **{name: value for name, value in more.items() if value},
    }


def _who(name: str, cluster: Cluster) -> str:
    """The address of a user, as in a survey."""
    return user_address(cluster.address, cluster.account, cluster.organisation, name)


def _what(event: Mapping[str, Any], address: str) -> tuple[str, str]:
    """The verb and the place of a request."""
    verb, about = str(event.get("verb")), event.get("objectRef")
    if not isinstance(about, Mapping):
        return verb_of(verb), f"{address}{exact_place(str(event.get('requestURI') or '/').partition('?')[0])}"
    resource, sub = str(about.get("resource")), str(about.get("subresource") or "")
    group, name = str(about.get("apiGroup") or ""), word_of(str(about.get("name") or NO_NAME))
    said = verb_of(verb)
    if not group and (resource, sub) in SUBRESOURCES:
        (resource, said), sub = SUBRESOURCES[resource, sub], ""
    elif not group and not sub:
        said = WORDS.get((resource, verb), said)
    namespace = about.get("namespace")
    if not group and resource == "namespaces" and not sub:
        return said, f"{address}/namespace/{name}"
    where = f"{address}/namespace/{word_of(str(namespace))}" if namespace else address
    return said, f"{where}/{kind_of((group, f'{resource}/{sub}' if sub else resource))}/{name}"

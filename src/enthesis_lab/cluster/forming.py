"""Whether an object is well formed, as the public description of the cluster's interface has it.

Kubernetes documentation, "Object Names and IDs", "Labels and Selectors", "Using RBAC Authorization", "Secrets", "Pods".
"""

import base64
import binascii
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from enthesis_lab.cluster.kinds import RBAC, Served

Object = Mapping[str, Any]
Fault = tuple[str, str]
"""A field, and what is wrong with it."""
LABEL = re.compile(r"[a-z0-9](?:[-a-z0-9]{0,61}[a-z0-9])?")
SUBDOMAIN = re.compile(r"[a-z0-9](?:[-a-z0-9]*[a-z0-9])?(?:\.[a-z0-9](?:[-a-z0-9]*[a-z0-9])?)*")
KEY = re.compile(r"(?:[^/]{1,253}/)?[A-Za-z0-9](?:[-A-Za-z0-9_.]{0,61}[A-Za-z0-9])?")
VALUE = re.compile(r"(?:[A-Za-z0-9](?:[-A-Za-z0-9_.]{0,61}[A-Za-z0-9])?)?")
DATA_KEY = re.compile(r"[-._a-zA-Z0-9]{1,253}")
LONGEST_NAME, LONGEST_ANNOTATIONS = 253, 256 * 1024
REQUIRED, INVALID = "Required value", "Invalid value"


@dataclass(frozen=True)
class Forming:
    """One object that is to be stored, of a kind, in a namespace ('' where it stands in none)."""

    served: Served
    body: Object
    namespace: str

    def faults(self) -> Iterator[Fault]:
        """Everything that is wrong with it, the name first."""
        meta = self.body.get("metadata")
        if not isinstance(meta, Mapping):
            yield "metadata", REQUIRED
            return
        yield from self._name(meta.get("name"))
        yield from _labels(meta.get("labels"), "metadata.labels", VALUE)
        yield from _labels(meta.get("annotations"), "metadata.annotations", None)
        yield from getattr(self, f"_{self.served.plural}", tuple)()

    def _name(self, name: Any) -> Iterator[Fault]:
        if not isinstance(name, str) or not name:
            yield "metadata.name", f"{REQUIRED}: name or generateName is required"
        elif self.served.group == RBAC:  # any part of a path will do
            if name in (".", "..") or "/" in name or "%" in name:
                yield "metadata.name", f'{INVALID}: "{name}": may not be or contain a part of a path'
        elif len(name) > LONGEST_NAME or not SUBDOMAIN.fullmatch(name):
            yield "metadata.name", f'{INVALID}: "{name}": a lowercase RFC 1123 subdomain must consist of lower case'
        elif self.served.plural in ("namespaces",) and not LABEL.fullmatch(name):
            yield "metadata.name", f'{INVALID}: "{name}": a lowercase RFC 1123 label must consist of lower case'

    def _pods(self) -> Iterator[Fault]:
        spec = self.body.get("spec")
        containers = spec.get("containers") if isinstance(spec, Mapping) else None
        if not isinstance(containers, Sequence) or not containers:
            yield "spec.containers", REQUIRED
            return
        names = [str(container.get("name", "")) if isinstance(container, Mapping) else "" for container in containers]
        for at, name in enumerate(names):
            if not LABEL.fullmatch(name):
                yield f"spec.containers[{at}].name", f'{INVALID}: "{name}"' if name else REQUIRED
            elif name in names[:at]:
                yield f"spec.containers[{at}].name", f'Duplicate value: "{name}"'
            if isinstance(containers[at], Mapping) and not containers[at].get("image"):
                yield f"spec.containers[{at}].image", REQUIRED

    def _secrets(self) -> Iterator[Fault]:
        for field, decoded in (("data", True), ("stringData", False)):
            for name, value in (self.body.get(field) or {}).items():
                yield from _data(field, name, value, decoded=decoded)

    def _configmaps(self) -> Iterator[Fault]:
        for field, decoded in (("data", False), ("binaryData", True)):
            for name, value in (self.body.get(field) or {}).items():
                yield from _data(field, name, value, decoded=decoded)

    def _roles(self) -> Iterator[Fault]:
        for at, rule in enumerate(self.body.get("rules") or ()):
            where = f"rules[{at}]"
            if not rule.get("verbs"):
                yield f"{where}.verbs", f"{REQUIRED}: verbs must contain at least one value"
            if rule.get("nonResourceURLs"):
                if self.served.namespaced:
                    yield f"{where}.nonResourceURLs", f"{INVALID}: namespaced rules cannot apply to non-resource URLs"
                if rule.get("resources") or rule.get("apiGroups") or rule.get("resourceNames"):
                    yield f"{where}.nonResourceURLs", f"{INVALID}: rules cannot apply to both resources and URLs"
            else:
                for field in ("apiGroups", "resources"):
                    if not rule.get(field):
                        yield f"{where}.{field}", f"{REQUIRED}: resource rules must supply at least one"

    _clusterroles = _roles

    def _rolebindings(self) -> Iterator[Fault]:
        reference = self.body.get("roleRef")
        reference = reference if isinstance(reference, Mapping) else {}
        kinds = ("Role", "ClusterRole") if self.served.namespaced else ("ClusterRole",)
        if reference.get("kind") not in kinds:
            yield "roleRef.kind", f"Unsupported value: {reference.get('kind')!r}: supported values: {', '.join(kinds)}"
        if not reference.get("name"):
            yield "roleRef.name", REQUIRED
        if reference.get("apiGroup") not in (None, "", RBAC):
            yield "roleRef.apiGroup", f"Unsupported value: {reference['apiGroup']!r}: supported values: {RBAC}"
        for at, subject in enumerate(self.body.get("subjects") or ()):
            where = f"subjects[{at}]"
            if subject.get("kind") not in ("User", "Group", "ServiceAccount"):
                yield f"{where}.kind", f"Unsupported value: {subject.get('kind')!r}"
            if not subject.get("name"):
                yield f"{where}.name", REQUIRED
            if subject.get("kind") == "ServiceAccount" and not (subject.get("namespace") or self.namespace):
                yield f"{where}.namespace", REQUIRED

    _clusterrolebindings = _rolebindings


def _labels(said: Any, where: str, value: re.Pattern[str] | None) -> Iterator[Fault]:
    """Faults of labels, or of annotations, whose values may be any text."""
    if said is None:
        return
    if not isinstance(said, Mapping):
        yield where, f"{INVALID}: no map"
        return
    for name, its in said.items():
        prefix, stroke, _ = str(name).rpartition("/")
        if not KEY.fullmatch(str(name)) or (stroke and not SUBDOMAIN.fullmatch(prefix)):
            yield where, f'{INVALID}: "{name}": name part must consist of alphanumeric characters'
        if not isinstance(its, str) or (value is not None and not value.fullmatch(its)):
            yield where, f'{INVALID}: "{its}": must be an alphanumeric text of 63 characters at most'
    if value is None and sum(len(str(one)) for pair in said.items() for one in pair) > LONGEST_ANNOTATIONS:
        yield where, "Too long: must have at most 262144 bytes"


def _data(field: str, name: Any, value: Any, *, decoded: bool) -> Iterator[Fault]:
    if not DATA_KEY.fullmatch(str(name)) or str(name) in (".", ".."):
        yield f"{field}[{name}]", f"{INVALID}: a valid key must consist of alphanumeric characters, '-', '_' or '.'"
    if not isinstance(value, str):
        yield f"{field}[{name}]", f"{INVALID}: no text"
    elif decoded:
        try:
            base64.b64decode(value, validate=True)
        except (binascii.Error, ValueError):
            yield f"{field}[{name}]", f"{INVALID}: illegal base64 data"

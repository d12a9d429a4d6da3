"""Objects as the cluster's clients send them in protocol buffers: read into what JSON would say.

The wire form is that of Protocol Buffers ("Encoding"), in an envelope of the cluster's own (Kubernetes documentation,
"API Concepts", "Protobuf encoding"); the numbers of the fields are those of the interface's public descriptions.
Answers are JSON, which every such client reads. What is not in the tables below is refused, so that nothing is lost.
"""

import base64
from collections.abc import Iterator, Mapping
from typing import Any

MEDIA = "application/vnd.kubernetes.protobuf"
MAGIC = b"k8s\x00"
VARINT, FIXED64, BYTES, FIXED32 = 0, 1, 2, 5
MOST_LEVELS = 20

Fields = Mapping[int, tuple[str, str]]
"""A field's number with its name and its type: text, bytes, number, truth, map or bytes-map, left (read and left out),
or another message; with `*` before it, a list."""

META: Fields = {
    1: ("name", "text"), 2: ("generateName", "text"), 3: ("namespace", "text"), 4: ("selfLink", "left"),
    5: ("uid", "text"), 6: ("resourceVersion", "text"), 7: ("generation", "left"), 8: ("creationTimestamp", "left"),
    9: ("deletionTimestamp", "left"), 11: ("labels", "map"), 12: ("annotations", "map"), 14: ("finalizers", "*text"),
    17: ("managedFields", "left"),
}  # fmt: skip
OF_RESOURCE: Fields = {
    1: ("namespace", "text"), 2: ("verb", "text"), 3: ("group", "text"), 4: ("version", "text"),
    5: ("resource", "text"), 6: ("subresource", "text"), 7: ("name", "text"),
}  # fmt: skip
MESSAGES: Mapping[str, Fields] = {
    "Meta": META,
    "OfResource": OF_RESOURCE,
    "OfPath": {1: ("path", "text"), 2: ("verb", "text")},
    "OfMe": {1: ("resourceAttributes", "OfResource"), 2: ("nonResourceAttributes", "OfPath")},
    "OfSubject": {
        1: ("resourceAttributes", "OfResource"), 2: ("nonResourceAttributes", "OfPath"), 3: ("user", "text"),
        4: ("groups", "*text"), 6: ("uid", "text"),
    },
    "OfNamespace": {1: ("namespace", "text")},
    "OfToken": {1: ("token", "text"), 2: ("audiences", "*text")},
    "Bound": {1: ("kind", "text"), 2: ("apiVersion", "text"), 3: ("name", "text"), 4: ("uid", "text")},
    "Wanted": {1: ("audiences", "*text"), 3: ("boundObjectRef", "Bound"), 4: ("expirationSeconds", "number")},
    "Named": {1: ("name", "text")},
    "Reference": {1: ("kind", "text"), 2: ("namespace", "text"), 3: ("name", "text"), 4: ("uid", "text"),
                  5: ("apiVersion", "text")},
    "Rule": {1: ("verbs", "*text"), 2: ("apiGroups", "*text"), 3: ("resources", "*text"),
             4: ("resourceNames", "*text"), 5: ("nonResourceURLs", "*text")},
    "Expression": {1: ("key", "text"), 2: ("operator", "text"), 3: ("values", "*text")},
    "Selector": {1: ("matchLabels", "map"), 2: ("matchExpressions", "*Expression")},
    "Aggregation": {1: ("clusterRoleSelectors", "*Selector")},
    "Subject": {1: ("kind", "text"), 2: ("apiGroup", "text"), 3: ("name", "text"), 4: ("namespace", "text")},
    "RoleRef": {1: ("apiGroup", "text"), 2: ("kind", "text"), 3: ("name", "text")},
    "Variable": {1: ("name", "text"), 2: ("value", "text")},
    "Port": {1: ("name", "text"), 2: ("hostPort", "number"), 3: ("containerPort", "number"), 4: ("protocol", "text")},
    "Container": {
        1: ("name", "text"), 2: ("image", "text"), 3: ("command", "*text"), 4: ("args", "*text"),
        5: ("workingDir", "text"), 6: ("ports", "*Port"), 7: ("env", "*Variable"), 8: ("resources", "left"),
        13: ("terminationMessagePath", "text"), 14: ("imagePullPolicy", "text"),
        20: ("terminationMessagePolicy", "text"),
    },
    "PodSpec": {
        2: ("containers", "*Container"), 3: ("restartPolicy", "text"), 4: ("terminationGracePeriodSeconds", "number"),
        6: ("dnsPolicy", "text"), 7: ("nodeSelector", "map"), 8: ("serviceAccountName", "text"),
        9: ("serviceAccount", "text"), 10: ("nodeName", "text"), 14: ("securityContext", "left"),
        15: ("imagePullSecrets", "*Named"), 19: ("schedulerName", "text"),
        21: ("automountServiceAccountToken", "truth"),
    },
    "Template": {1: ("metadata", "Meta"), 2: ("spec", "PodSpec")},
    "DeploymentSpec": {1: ("replicas", "number"), 2: ("selector", "Selector"), 3: ("template", "Template"),
                       4: ("strategy", "left"), 5: ("minReadySeconds", "left")},
    "JobSpec": {1: ("parallelism", "number"), 2: ("completions", "number"), 6: ("template", "Template"),
                7: ("backoffLimit", "number")},
    "Preconditions": {1: ("uid", "text"), 2: ("resourceVersion", "text")},
    # -- what stands in an envelope
    "SelfSubjectAccessReview": {1: ("metadata", "Meta"), 2: ("spec", "OfMe"), 3: ("status", "left")},
    "SubjectAccessReview": {1: ("metadata", "Meta"), 2: ("spec", "OfSubject"), 3: ("status", "left")},
    "LocalSubjectAccessReview": {1: ("metadata", "Meta"), 2: ("spec", "OfSubject"), 3: ("status", "left")},
    "SelfSubjectRulesReview": {1: ("metadata", "Meta"), 2: ("spec", "OfNamespace"), 3: ("status", "left")},
    "SelfSubjectReview": {1: ("metadata", "Meta"), 2: ("status", "left")},
    "TokenReview": {1: ("metadata", "Meta"), 2: ("spec", "OfToken"), 3: ("status", "left")},
    "TokenRequest": {1: ("metadata", "Meta"), 2: ("spec", "Wanted"), 3: ("status", "left")},
    "Namespace": {1: ("metadata", "Meta"), 2: ("spec", "left"), 3: ("status", "left")},
    "ServiceAccount": {1: ("metadata", "Meta"), 2: ("secrets", "*Reference"), 3: ("imagePullSecrets", "*Named"),
                       4: ("automountServiceAccountToken", "truth")},
    "ConfigMap": {1: ("metadata", "Meta"), 2: ("data", "map"), 3: ("binaryData", "bytes-map"),
                  4: ("immutable", "truth")},
    "Secret": {1: ("metadata", "Meta"), 2: ("data", "bytes-map"), 3: ("type", "text"), 4: ("stringData", "map"),
               5: ("immutable", "truth")},
    "Role": {1: ("metadata", "Meta"), 2: ("rules", "*Rule")},
    "ClusterRole": {1: ("metadata", "Meta"), 2: ("rules", "*Rule"), 3: ("aggregationRule", "Aggregation")},
    "RoleBinding": {1: ("metadata", "Meta"), 2: ("subjects", "*Subject"), 3: ("roleRef", "RoleRef")},
    "ClusterRoleBinding": {1: ("metadata", "Meta"), 2: ("subjects", "*Subject"), 3: ("roleRef", "RoleRef")},
    "Pod": {1: ("metadata", "Meta"), 2: ("spec", "PodSpec"), 3: ("status", "left")},
    "Deployment": {1: ("metadata", "Meta"), 2: ("spec", "DeploymentSpec"), 3: ("status", "left")},
    "Job": {1: ("metadata", "Meta"), 2: ("spec", "JobSpec"), 3: ("status", "left")},
    "DeleteOptions": {1: ("gracePeriodSeconds", "number"), 2: ("preconditions", "Preconditions"),
                      3: ("orphanDependents", "truth"), 4: ("propagationPolicy", "text"), 5: ("dryRun", "*text")},
}  # fmt: skip


class NotRead(ValueError):
    """What is sent is no such message, or says what is not read here."""


def read_message(data: bytes) -> dict[str, Any]:
    """The object in an envelope, as JSON would say it; NotRead where it is not read in full."""
    if not data.startswith(MAGIC):
        raise NotRead("it does not begin as one")
    type_meta, raw = b"", b""
    for number, value in _fields(data[len(MAGIC) :]):
        if number == 1 and isinstance(value, bytes):
            type_meta = value
        elif number == 2 and isinstance(value, bytes):
            raw = value
    named = {number: _text(value) for number, value in _fields(type_meta)}
    version, kind = named.get(1, ""), named.get(2, "")
    if kind not in MESSAGES:
        raise NotRead(f"a {kind or 'message without a kind'} is read as JSON alone")
    return {"kind": kind, "apiVersion": version, **_message(raw, kind, 0)}


def _message(data: bytes, kind: str, level: int) -> dict[str, Any]:
    if level > MOST_LEVELS:
        raise NotRead("it is nested too deeply")
    known = MESSAGES[kind]
    out: dict[str, Any] = {}
    for number, value in _fields(data):
        name, form = known.get(number, ("", ""))
        if not name and value not in (b"", 0):
            raise NotRead(f"field {number} of {kind} is read as JSON alone")
        if not name or form == "left":
            continue
        if form.endswith("map"):
            entry = dict(_fields(_bytes(value)))
            held = _bytes(entry.get(2, b""))
            text = base64.b64encode(held).decode() if form == "bytes-map" else _text(held)
            out.setdefault(name, {})[_text(entry.get(1, b""))] = text
        elif form.startswith("*"):
            out.setdefault(name, []).append(_value(value, form[1:], level))
        else:
            out[name] = _value(value, form, level)
    return {name: value for name, value in out.items() if value not in ("", {})}


def _value(value: bytes | int, form: str, level: int) -> Any:
    if form == "text":
        return _text(value)
    if form in ("number", "truth"):
        if not isinstance(value, int):
            raise NotRead("a number is expected")
        signed = value - (1 << 64) if value >> 63 else value
        return signed if form == "number" else bool(value)
    return _message(_bytes(value), form, level + 1)


def _bytes(value: bytes | int) -> bytes:
    if not isinstance(value, bytes):
        raise NotRead("bytes are expected")
    return value


def _text(value: bytes | int) -> str:
    try:
        return _bytes(value).decode()
    except UnicodeDecodeError:
        raise NotRead("a text is not UTF-8") from None


def _fields(data: bytes) -> Iterator[tuple[int, bytes | int]]:
    """The fields of a message in their order: number, and what stands there."""
    at = 0
    while at < len(data):
        tag, at = _varint(data, at)
        number, form = tag >> 3, tag & 7
        if form == VARINT:
            value, at = _varint(data, at)
            yield number, value
            continue
        if form == BYTES:
            size, at = _varint(data, at)
        elif form in (FIXED64, FIXED32):
            size = 8 if form == FIXED64 else 4
        else:
            raise NotRead(f"a field of form {form}")
        if at + size > len(data):
            raise NotRead("it ends in the middle of a field")
        held = data[at : at + size]
        yield number, held if form == BYTES else int.from_bytes(held, "little")
        at += size


def _varint(data: bytes, at: int) -> tuple[int, int]:
    value = 0
    for shift in range(0, 70, 7):
        if at >= len(data):
            raise NotRead("it ends in the middle of a number")
        value |= (data[at] & 0x7F) << shift
        at += 1
        if not data[at - 1] & 0x80:
            return value & ((1 << 64) - 1), at
    raise NotRead("a number is too long")

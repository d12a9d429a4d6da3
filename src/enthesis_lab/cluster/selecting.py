"""Which objects label and field selectors choose, as the public description of the cluster's interface has them.

Kubernetes documentation, "Labels and Selectors" and "Field Selectors". A selector that is not understood is refused:
one that is passed over would choose everything.
"""

import re
from collections.abc import Callable, Iterator, Mapping
from typing import Any

Object = Mapping[str, Any]
Chooses = Callable[[Object], bool]

KEY = r"(?:[a-z0-9](?:[-a-z0-9.]*[a-z0-9])?/)?[A-Za-z0-9](?:[-A-Za-z0-9_.]{0,61}[A-Za-z0-9])?"
VALUE = r"(?:[A-Za-z0-9](?:[-A-Za-z0-9_.]{0,61}[A-Za-z0-9])?)?"
EXISTS = re.compile(rf"(!?)\s*({KEY})")
EQUALS = re.compile(rf"({KEY})\s*(==|=|!=)\s*({VALUE})")
AMONG = re.compile(rf"({KEY})\s+(in|notin)\s+\(([^()]*)\)")
FIELDS = {
    "pods": ("spec.nodeName", "spec.restartPolicy", "spec.schedulerName", "spec.serviceAccountName", "status.phase"),
    "secrets": ("type",),
    "namespaces": ("status.phase",),
    "nodes": ("spec.unschedulable",),
    "jobs": ("status.successful",),
}
"""Fields that can be selected by, beside the name and the namespace."""
USUAL = {"spec.serviceAccountName": "default", "status.phase": "Active"}
MISSING = {"spec.unschedulable": "false", "status.successful": "0"}


class InvalidSelector(ValueError):
    """A selector that is not a selector, or is for a field that cannot be selected by."""


def by_labels(selector: str) -> Chooses:
    """Whether an object's labels meet all requirements of a selector."""
    required = [_requirement(name.strip()) for name in _split(selector)]

    def chooses(one: Object) -> bool:
        labels = one["metadata"].get("labels") or {}
        return all(holds(labels) for holds in required)

    return chooses


def by_fields(selector: str, plural: str) -> Chooses:
    """Whether an object's fields are as a selector wants them."""
    required = [_field(one, plural) for one in _unescaped(selector) if one != ["", "", ""]]

    def chooses(one: Object) -> bool:
        return all((_value(one, name) == value) is equal for name, equal, value in required)

    return chooses


def _requirement(text: str) -> Callable[[Mapping[str, str]], bool]:
    if found := EQUALS.fullmatch(text):
        name, sign, value = found.groups()
        return lambda labels: (labels.get(name) == value) is (sign != "!=")
    if found := AMONG.fullmatch(text):
        name, word, listed = found.groups()
        values = {one.strip() for one in listed.split(",")}
        if not all(re.fullmatch(VALUE, one) for one in values):
            raise InvalidSelector(f"unable to parse requirement: invalid value in {text!r}")
        return lambda labels: (name in labels and labels[name] in values) is (word == "in")
    if found := EXISTS.fullmatch(text):
        negated, name = found.groups()
        return lambda labels: (name in labels) is (not negated)
    raise InvalidSelector(f"unable to parse requirement: {text!r}")


def _split(selector: str) -> Iterator[str]:
    """The requirements of a selector, apart at commas outside of brackets."""
    depth, begun = 0, 0
    for at, sign in enumerate(selector):
        depth += (sign == "(") - (sign == ")")
        if sign == "," and depth == 0:
            yield selector[begun:at]
            begun = at + 1
    if selector[begun:].strip() or begun:
        yield selector[begun:]


def _unescaped(selector: str) -> Iterator[list[str]]:
    """The terms of a field selector as (field, sign, value); a backslash takes the meaning from what comes after it."""
    term, signs = ["", "", ""], iter(selector)
    for sign in signs:
        if sign == "\\":
            term[2 if term[1] else 0] += next(signs, "")
        elif sign == ",":
            yield term
            term = ["", "", ""]
        elif sign in "=!" and (not term[1] or (len(term[1]) == 1 and not term[2] and sign == "=")):
            term[1] += sign
        else:
            term[2 if term[1] else 0] += sign
    yield term


def _field(term: list[str], plural: str) -> tuple[str, bool, str]:
    name, sign, value = term
    if sign not in ("=", "==", "!="):
        raise InvalidSelector(f"invalid selector: {''.join(term)!r}; can't understand {name!r}")
    if name not in ("metadata.name", "metadata.namespace", *FIELDS.get(plural, ())):
        raise InvalidSelector(f'field label not supported: "{name}"')
    return name, sign != "!=", value


def _value(one: Object, name: str) -> str:
    found: Any = one
    for part in name.split("."):
        found = found.get(part) if isinstance(found, Mapping) else None
    if found is None and name in USUAL and (name != "status.phase" or one.get("kind") == "Namespace"):
        return USUAL[name]
    return MISSING.get(name, "") if found is None else str(found).lower() if isinstance(found, bool) else str(found)

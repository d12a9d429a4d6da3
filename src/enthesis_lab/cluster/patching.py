"""How a patch changes an object: by RFC 7396, RFC 6902, or the cluster's own way, which knows what names an item."""

import copy
from collections.abc import Callable, Mapping
from typing import Any

NAMED_BY = {
    "containers": "name", "initContainers": "name", "ephemeralContainers": "name", "volumes": "name", "env": "name",
    "secrets": "name", "imagePullSecrets": "name", "volumeMounts": "mountPath", "ports": "containerPort",
    "conditions": "type", "ownerReferences": "uid",
}  # fmt: skip
"""The lists whose items are the same where a field of them is; any other list is put in place whole."""
SETS = ("finalizers",)
DIRECTIVE = "$patch"


class NotApplicable(ValueError):
    """A patch that is not one, or that does not fit the object."""


def merged(found: Any, patch: Any) -> Any:
    """JSON merge patch (RFC 7396)."""
    if not isinstance(patch, dict):
        return patch
    out = dict(found) if isinstance(found, dict) else {}
    for name, value in patch.items():
        if value is None:
            out.pop(name, None)
        else:
            out[name] = merged(out.get(name), value)
    return out


def merged_by_names(found: Any, patch: Any, field: str = "") -> Any:
    """The cluster's own patch (Kubernetes documentation, "Update API Objects in Place Using kubectl patch")."""
    if isinstance(patch, list):
        return _merged_list(found, patch, field)
    if not isinstance(patch, dict):
        return patch
    directive = patch.get(DIRECTIVE)
    if directive not in (None, "replace", "delete", "merge"):
        raise NotApplicable(f"unknown patch directive {directive!r}")
    rest = {name: value for name, value in patch.items() if not name.startswith("$")}
    if directive == "replace":
        return rest
    if directive == "delete":
        return {}
    out = dict(found) if isinstance(found, dict) else {}
    if isinstance(patch.get("$retainKeys"), list):
        out = {name: value for name, value in out.items() if name in patch["$retainKeys"]}
    for name, value in patch.items():
        if name.startswith("$deleteFromPrimitiveList/"):
            name = name.partition("/")[2]  # noqa: PLW2901  the list that it is about
            out[name] = [one for one in out.get(name) or () if one not in value]
    for name, value in rest.items():
        if value is None:
            out.pop(name, None)
        else:
            out[name] = merged_by_names(out.get(name), value, name)
    return out


def _merged_list(found: Any, patch: list[Any], field: str) -> list[Any]:
    there = list(found) if isinstance(found, list) else []
    if field in SETS:
        return [*there, *(one for one in patch if one not in there)]
    key = NAMED_BY.get(field)
    if key is None:
        return patch
    if {DIRECTIVE: "replace"} in patch:
        return [one for one in patch if one != {DIRECTIVE: "replace"}]
    for entry in patch:
        if not isinstance(entry, dict) or key not in entry:
            raise NotApplicable(f"map: {entry} does not contain declared merge key: {key}")
        same = next((at for at, its in enumerate(there) if its.get(key) == entry[key]), None)
        if entry.get(DIRECTIVE) == "delete":
            if same is not None:
                del there[same]
        elif same is None:
            there.append(merged_by_names({}, entry))
        else:
            there[same] = merged_by_names(there[same], entry)
    return there


def operated(found: Any, operations: Any) -> Any:
    """JSON Patch (RFC 6902): one operation after another; where one does not fit, nothing is changed."""
    if not isinstance(operations, list):
        raise NotApplicable("a JSON patch is a list of operations")
    out = copy.deepcopy(found)
    for operation in operations:
        if (
            not isinstance(operation, Mapping)
            or operation.get("op") not in OPERATIONS
            or not isinstance(operation.get("path"), str)
        ):
            raise NotApplicable(f"no operation of a JSON patch: {operation}")
        out = OPERATIONS[operation["op"]](out, operation)
    return out


def _parts(pointer: str) -> list[str]:
    """The parts of a JSON pointer (RFC 6901)."""
    if pointer and not pointer.startswith("/"):
        raise NotApplicable(f"no JSON pointer: {pointer}")
    return [part.replace("~1", "/").replace("~0", "~") for part in pointer.split("/")[1:]]


def _at(whole: Any, parts: list[str]) -> Any:
    for part in parts:
        if isinstance(whole, dict) and part in whole:
            whole = whole[part]
        elif isinstance(whole, list) and part.isdigit() and int(part) < len(whole):
            whole = whole[int(part)]
        else:
            raise NotApplicable(f"there is nothing at /{'/'.join(parts)}")
    return whole


def _add(whole: Any, entry: Mapping[str, Any]) -> Any:
    return _put(whole, entry["path"], _given(entry))


def _put(whole: Any, pointer: str, value: Any) -> Any:
    parts = _parts(pointer)
    if not parts:
        return value
    above, last = _at(whole, parts[:-1]), parts[-1]
    if isinstance(above, dict):
        above[last] = value
    elif isinstance(above, list) and (last == "-" or (last.isdigit() and int(last) <= len(above))):
        above.insert(len(above) if last == "-" else int(last), value)
    else:
        raise NotApplicable(f"nothing can be added at {pointer}")
    return whole


def _remove(whole: Any, entry: Mapping[str, Any]) -> Any:
    parts = _parts(entry["path"])
    _at(whole, parts)
    if not parts:
        return None
    above = _at(whole, parts[:-1])
    del above[int(parts[-1]) if isinstance(above, list) else parts[-1]]
    return whole


def _replace(whole: Any, entry: Mapping[str, Any]) -> Any:
    value = _given(entry)
    return _put(_remove(whole, entry), entry["path"], value)


def _move(whole: Any, entry: Mapping[str, Any]) -> Any:
    value = _at(whole, _parts(str(entry.get("from"))))
    return _put(_remove(whole, {"path": entry["from"]}), entry["path"], value)


def _copy(whole: Any, entry: Mapping[str, Any]) -> Any:
    return _put(whole, entry["path"], copy.deepcopy(_at(whole, _parts(str(entry.get("from"))))))


def _test(whole: Any, entry: Mapping[str, Any]) -> Any:
    if _at(whole, _parts(entry["path"])) != _given(entry):
        raise NotApplicable(f"the test of {entry['path']} does not hold")
    return whole


def _given(entry: Mapping[str, Any]) -> Any:
    if "value" not in entry:
        raise NotApplicable(f"the operation {entry['op']} has no value")
    return entry["value"]


OPERATIONS: Mapping[str, Callable[[Any, Mapping[str, Any]], Any]] = {
    "add": _add, "remove": _remove, "replace": _replace, "move": _move, "copy": _copy, "test": _test,
}  # fmt: skip
PATCHES: Mapping[str, Callable[[Any, Any], Any]] = {
    "application/merge-patch+json": merged,
    "application/strategic-merge-patch+json": merged_by_names,
    "application/json-patch+json": operated,
}
"""How each media type of a patch changes an object."""

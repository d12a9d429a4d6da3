"""Who manages which field of an object, and what applying one does: fields of others are left, or it is a conflict.

Kubernetes documentation, "Server-Side Apply". A field is the path that leads to it: `f:` and a name, `k:` and what
names an item of a list, `v:` and an item of a set; `.` is an item itself. Other lists are one field.
"""

import copy
import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from enthesis_lab.cluster.patching import NAMED_BY, SETS, merged_by_names
from enthesis_lab.cluster.refusals import StatusRefusal

MEDIA = "application/apply-patch+yaml"
APPLY, UPDATE = "Apply", "Update"
FORM = "FieldsV1"
OF_THE_CLUSTER = ("name", "namespace", "uid", "resourceVersion", "creationTimestamp", "generation", "managedFields",
                  "selfLink")  # fmt: skip
ITSELF = "."

Path = tuple[str, ...]
Owner = tuple[str, str]
"""A manager, and whether it applies or updates."""


@dataclass(frozen=True)
class Managed:
    """Who manages what of one object."""

    fields: Mapping[Owner, frozenset[Path]]

    @classmethod
    def of(cls, found: Mapping[str, Any] | None) -> "Managed":
        """What an object says of itself."""
        listed = ((found or {}).get("metadata") or {}).get("managedFields") or ()
        return cls(
            {(one["manager"], one["operation"]): frozenset(_paths_in(one.get("fieldsV1") or {})) for one in listed}
        )

    def written(self, version: str, time: str) -> list[dict[str, Any]]:
        """The same as an object says it; who manages nothing is left out."""
        return [
            {
                "manager": manager, "operation": operation, "apiVersion": version, "time": time, "fieldsType": FORM,
                "fieldsV1": _nested(paths),
            }
            for (manager, operation), paths in sorted(self.fields.items()) if paths
        ]  # fmt: skip

    def after_update(self, manager: str, before: Mapping[str, Any] | None, after: Mapping[str, Any]) -> "Managed":
        """What is managed once somebody has put an object in place of another: who changes a field manages it."""
        was, now = dict(leaves(before or {})), dict(leaves(after))
        changed = frozenset(path for path, value in now.items() if path not in was or was[path] != value)
        out = {owner: (paths & now.keys()) - changed for owner, paths in self.fields.items()}
        mine = (manager, UPDATE)
        return Managed({**out, mine: out.get(mine, frozenset()) | changed})


def applied(
    found: Mapping[str, Any] | None, wanted: Mapping[str, Any], manager: str, *, force: bool
) -> tuple[dict[str, Any], Managed]:
    """An object as somebody applies it, and who manages what of it then. StatusRefusal where a field would change that
    another manages, and that is not forced."""
    managed, mine = Managed.of(found), (manager, APPLY)
    said, there = dict(leaves(wanted)), dict(leaves(found or {}))
    conflicts = [
        (owner, path)
        for owner, paths in managed.fields.items()
        if owner != mine
        for path in sorted(paths & said.keys())
        if path in there and there[path] != said[path]
    ]
    if conflicts and not force:
        raise _conflict(conflicts)
    lost = frozenset(path for _, path in conflicts)
    others = {owner: paths - lost for owner, paths in managed.fields.items() if owner != mine}
    out: dict[str, Any] = merged_by_names(copy.deepcopy(dict(found or {})), dict(wanted))
    kept = frozenset().union(*others.values()) if others else frozenset()
    gone = managed.fields.get(mine, frozenset()) - said.keys() - kept
    for path in sorted(gone, key=lambda path: (path[-1] != ITSELF, -len(path), path)):  # whole items first
        _taken_out(out, path, {one[: len(path)] for one in (*kept, *said)})
    return out, Managed({**others, mine: frozenset(said)})


def leaves(value: Any, path: Path = (), field: str = "") -> Iterator[tuple[Path, Any]]:
    """Every field of an object that somebody can manage, with what it holds."""
    if isinstance(value, Mapping) and (value or not path):
        for name, inner in value.items():
            own = (not path and name in ("kind", "apiVersion", "status")) or (
                path == ("f:metadata",) and name in OF_THE_CLUSTER
            )
            if not own:
                yield from leaves(inner, (*path, f"f:{name}"), name)
    elif isinstance(value, list) and field in NAMED_BY and all(isinstance(one, Mapping) for one in value):
        key = NAMED_BY[field]
        for one in value:
            item = (*path, f"k:{json.dumps({key: one.get(key)})}")
            yield (*item, ITSELF), one.get(key)
            yield from leaves(one, item)
    elif isinstance(value, list) and field in SETS:
        for one in value:
            yield (*path, f"v:{json.dumps(one)}"), one
    else:
        yield path, value


def _taken_out(out: Any, path: Path, others: set[Path]) -> None:
    """Takes one field out of an object; an item of a list where nobody manages anything in it."""
    above: list[tuple[Any, str]] = []
    here = out
    for step in path[:-1]:
        above.append((here, step))
        here = _inner(here, step)
        if here is None:
            return
    last = path[-1]
    if last == ITSELF:
        if not any(len(one) == len(path) and one[:-1] == path[:-1] for one in others) and above:
            parent, step = above[-1]
            key = json.loads(step[2:])
            parent[:] = [one for one in parent if not key.items() <= one.items()]
    elif last.startswith("f:") and isinstance(here, dict):
        here.pop(last[2:], None)
    elif last.startswith("v:") and isinstance(here, list):
        here[:] = [one for one in here if one != json.loads(last[2:])]
    while above and here in ({}, []):  # what holds nothing any more goes with its last field
        parent, step = above.pop()
        if step.startswith("f:") and isinstance(parent, dict) and step != "f:metadata":
            parent.pop(step[2:], None)
        here = parent


def _inner(value: Any, step: str) -> Any:
    if step.startswith("f:"):
        return value.get(step[2:]) if isinstance(value, dict) else None
    key = json.loads(step[2:])
    items = value if isinstance(value, list) else []
    return next((one for one in items if isinstance(one, dict) and key.items() <= one.items()), None)


def _nested(paths: frozenset[Path]) -> dict[str, Any]:
    out: dict[str, Any] = {}
    for path in sorted(paths):
        here = out
        for step in path:
            here = here.setdefault(step, {})
    return out


def _paths_in(nested: Mapping[str, Any], path: Path = ()) -> Iterator[Path]:
    for step, inner in nested.items():
        if inner:
            yield from _paths_in(inner, (*path, step))
        else:
            yield (*path, step)


def _conflict(conflicts: list[tuple[Owner, Path]]) -> StatusRefusal:
    causes = [
        {
            "reason": "FieldManagerConflict", "message": f'conflict with "{manager}"',
            "field": "".join(f".{step[2:]}" if step.startswith("f:") else f"[{step[2:]}]" for step in path),
        }
        for (manager, _), path in conflicts
    ]  # fmt: skip
    count = f"{len(causes)} conflict{'' if len(causes) == 1 else 's'}"
    told = ", ".join(f"{one['message']}: {one['field']}" for one in causes)
    return StatusRefusal(409, "Conflict", f"Apply failed with {count}: {told}", {"causes": causes})

"""The same for another environment: the entries about an account or identity under another name, and what differs.

Names are changed where they are addresses, and nowhere else: what an issuer says of a run stays as it is.
"""

import json
from collections.abc import Iterator, Mapping
from typing import Any

from enthesis.files.editing import Addition
from enthesis.files.writing import plain_estate
from enthesis.model.addresses import contains
from enthesis.model.estate import Estate
from enthesis.model.vocabulary import STATEMENT_SECTIONS

PLACED = {name: section.placed for name, section in STATEMENT_SECTIONS.items() if section.placed}
SPOKEN = ("journeys", "invariants")
PLAIN = ("labels", "claims", "attributes", "subject", "owner", "purpose", "environment", "role", "allows", "bars")
"""Fields in which no address stands."""


def about(estate: Estate, address: str) -> dict[tuple[str, str], Any]:
    """The entries that are about a place: what is in it, who reaches it, what is expected of it. No keyed credentials.

    Keys are section and name; a list's entries are known by what they say.
    """
    out: dict[tuple[str, str], Any] = {}
    plain = plain_estate(estate)
    for section, entries in plain.items():
        if section in ("estate", "credentials", "accepted"):
            continue
        if isinstance(entries, dict):
            for name, entry in entries.items():
                if _is_about(section, name, entry, address):
                    out[section, name] = entry
        else:
            for entry in entries:
                if _is_about(section, "", entry, address):
                    out[section, json.dumps(entry, sort_keys=True)] = entry
    return out


def _is_about(section: str, name: str, entry: Any, address: str) -> bool:
    if section in PLACED:
        return any(_mentions(entry.get(field), address) for field in PLACED[section])
    if section in SPOKEN:
        return _mentions(entry, address)
    return section in ("accounts", "resources", "identities", "groups") and contains(address, name)


def _mentions(value: Any, address: str) -> bool:
    if isinstance(value, Mapping):
        return any(_mentions(inner, address) for name, inner in value.items() if name not in PLAIN)
    if isinstance(value, list):
        return any(_mentions(inner, address) for inner in value)
    return isinstance(value, str) and any(contains(address, word) for word in value.split(" "))


def twin(estate: Estate, old: str, new: str) -> Iterator[Addition]:
    """The entries about a place, as they are about another one of the same kind."""
    for (section, name), entry in about(estate, old).items():
        if section == "invariants" and is_shared(entry, old):
            continue
        named = isinstance(getattr(estate, section), Mapping)
        its = _named(section, name, old, new) if named else ""
        changed = renamed(entry, old, new)
        if not named and isinstance(changed, dict) and "name" in changed:
            changed = {**changed, "name": _otherwise(changed["name"], old, new)}
        if section == "identities" and "environment" in changed:
            changed = {**changed, "environment": _last(new)}
        yield Addition(section, its, changed)


def is_shared(invariant: Mapping[str, Any], address: str) -> bool:
    """Whether an invariant says who alone may do it at a place that a twin has as well: that then may too."""
    only = invariant.get("only")
    return only is not None and not _mentions(only["at"], address) and _mentions(only["by"], address)


def _named(section: str, name: str, old: str, new: str) -> str:
    return _otherwise(name, old, new) if section in (*SPOKEN, "pipeline_access") else str(renamed(name, old, new))


def _otherwise(name: str, old: str, new: str) -> str:
    """The name of a statement about a place, as that of the same statement about another."""
    return name.replace(_last(old), _last(new)) if _last(old) in name else f"{name}-{_last(new)}"


def _last(address: str) -> str:
    return address.rsplit("/", 1)[-1]


def renamed(value: Any, old: str, new: str) -> Any:
    """A value with one place's address for another's."""
    if isinstance(value, Mapping):
        return {name: inner if name in PLAIN else renamed(inner, old, new) for name, inner in value.items()}
    if isinstance(value, list):
        return [renamed(inner, old, new) for inner in value]
    if not isinstance(value, str):
        return value
    return " ".join(new + word[len(old) :] if contains(old, word) else word for word in value.split(" "))


def apart_from_names(before: Estate, old: str, after: Estate, new: str) -> tuple[list[str], list[str]]:
    """What is said about one place and not about its twin, and the other way round; both empty where they are alike."""
    first = {_said(addition.section, addition.name, addition.entry) for addition in twin(before, old, new)}
    second = {
        _said(section, name if isinstance(getattr(after, section), Mapping) else "", entry)
        for (section, name), entry in about(after, new).items()
        if section != "invariants" or not is_shared(entry, new)
    }
    return sorted(first - second), sorted(second - first)


def _said(section: str, name: str, entry: Any) -> str:
    return f"{section}: {f'{name} ' if name else ''}{json.dumps(entry, sort_keys=True)}"

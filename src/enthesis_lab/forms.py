"""The form that a statement must have before anything looks at what it means: a wrong one is refused, and so never
breaks a later decision about another person."""

from collections.abc import Callable, Mapping
from datetime import UTC, datetime, timedelta
from typing import Any

from enthesis_lab.conditions import NotUnderstood, seconds

MAX_TEXT = 2048  # characters
MAX_LEVELS = 24
LONGEST = timedelta(days=3650)
Check = Callable[[Any], bool]


def text(value: Any) -> bool:
    """A text of a bounded length that can be written."""
    if not isinstance(value, str) or not 0 < len(value) <= MAX_TEXT or "\0" in value:
        return False
    try:
        value.encode()
    except UnicodeEncodeError:  # half a character
        return False
    return True


def texts(value: Any) -> bool:
    """Whether a value is a list of texts."""
    return isinstance(value, list) and all(map(text, value))


def some_texts(value: Any) -> bool:
    """Whether a value is a text or a list of at least one."""
    return text(value) or (texts(value) and bool(value))


def labels(value: Any) -> bool:
    """Whether a value maps names to texts."""
    return isinstance(value, dict) and all(text(name) and isinstance(one, str) for name, one in value.items())


def verbs(value: Any) -> bool:
    """Whether a value maps kinds to verbs."""
    return isinstance(value, dict) and all(text(kind) and some_texts(listed) for kind, listed in value.items())


def flag(value: Any) -> bool:
    """Whether a value is true or false."""
    return isinstance(value, bool)


def reference(value: Any) -> bool:
    """A person by id."""
    return isinstance(value, dict) and len(value) == 1 and all(map(text, (*value, *value.values())))


def references(value: Any) -> bool:
    """Whether a value is a list of references to identities or groups."""
    return isinstance(value, list) and all(map(reference, value))


def what(value: Any) -> bool:
    """A place, or a pattern of places."""
    return text(value) or (isinstance(value, dict) and list(value) == ["glob"] and text(value["glob"]))


def whats(value: Any) -> bool:
    """Whether a value is a list of addresses or globs."""
    return isinstance(value, list) and all(what(one) or exception(one) for one in value)


def exception(value: Any) -> bool:
    """Whether a value is an exception of a ceiling that ends."""
    forms: dict[str, Check] = {"who": what, "can": texts, "at": text, "until": text, "because": text}
    return isinstance(value, dict) and all(name in forms and forms[name](one) for name, one in value.items())


def rule(value: Any) -> bool:
    """Whether a value is a rule by which a group finds its members."""
    forms: dict[str, Check] = {"kind": text, "in": text, "labels": labels}
    return isinstance(value, dict) and all(name in forms and forms[name](one) for name, one in value.items())


def length(value: Any) -> bool:
    """Whether a value is a length of time that the lab accepts."""
    return text(value) and 0 < seconds(value) <= LONGEST.total_seconds()


def instant(value: Any) -> bool:
    """RFC 3339, with its offset, and far enough from the ends of time to be reckoned with."""
    if not text(value):
        return False
    read = datetime.fromisoformat(value.upper())
    return read.tzinfo is not None and datetime(1970, 1, 2, tzinfo=UTC) < read < datetime(9990, 1, 1, tzinfo=UTC)


def tree(value: Any, levels: int = MAX_LEVELS) -> bool:
    """Plain data that is not nested too deeply."""
    if levels == 0:
        return False
    if isinstance(value, dict):
        return all(text(name) and tree(one, levels - 1) for name, one in value.items())
    if isinstance(value, list):
        return all(tree(one, levels - 1) for one in value)
    return isinstance(value, int | float | bool) or value is None or value == "" or text(value)


FIELDS: dict[str, dict[str, Check]] = {
    "identities": {
        "address": text, "kind": text, "owner": text, "purpose": text, "labels": labels, "tied_to": text,
        "disabled": flag, "environment": text,
    },
    "groups": {"address": text, "members": references, "where": rule},
    "roles": {"name": text, "allows": verbs, "includes": texts},
    "trusts": {"name": text, "of": text, "admits": tree, "when": tree, "session": length, "until": instant},
    "grants": {"name": text, "to": reference, "role": text, "at": text, "when": tree, "until": instant},
    "ceilings": {
        "name": text, "over": text, "at": text, "bars": verbs, "only": verbs, "except": whats, "when": tree,
    },
    "attachments": {"what": what, "runs_as": texts},
}  # fmt: skip
COLLECTIONS = tuple(FIELDS)
CHANGING: dict[str, tuple[str, str]] = {
    "identities": ("configure", "address"), "groups": ("change-members", "address"), "roles": ("change-role", ""),
    "trusts": ("change-trust", "of"), "grants": ("change-access", "at"), "ceilings": ("change-ceiling", ""),
    "attachments": ("attach", "runs_as"),
}  # fmt: skip
"""The verb that a change needs, and the field that says at what; '' for the holder of the statement."""
REQUIRED = {
    "identities": {"address", "kind"},
    "groups": {"address"},
    "roles": {"name", "allows"},
    "trusts": {"of", "admits"},
    "grants": {"to", "role", "at"},
    "ceilings": {"name", "over", "at"},
    "attachments": {"what", "runs_as"},
}


def well_formed(collection: str, body: Mapping[str, Any]) -> None:
    """NotUnderstood where a field is unknown, missing or of the wrong form."""
    forms = FIELDS[collection]
    unknown, missing = sorted(set(body) - set(forms)), sorted(REQUIRED[collection] - set(body))
    if unknown:
        raise NotUnderstood(f"fields of {collection}, unknown: {', '.join(unknown)[:MAX_TEXT]}")
    if missing:
        raise NotUnderstood(f"fields of {collection}, missing: {', '.join(missing)}")
    for name, value in body.items():
        try:
            fits = forms[name](value)
        except (ValueError, TypeError, KeyError, OverflowError, RecursionError):
            fits = False
        if not fits:
            raise NotUnderstood(f"the field {name} of {collection}")

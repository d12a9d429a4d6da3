"""What an estate's files say about one name, and the edits that take all of it out."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from enthesis.files.editing import Edit, Removal, Replacement
from enthesis.files.sections import SECTIONS
from enthesis.model.addresses import contains
from enthesis.model.estate import Estate
from enthesis.model.file_errors import Source

TAKEN_OUT = ("trusts", "grants", "attachments", "pipeline_access", "journeys", "accepted", "credentials", "retiring")
"""Sections of which an entry about a name goes as a whole; of the others the name is taken out of a list."""
WITHIN = {
    "groups": ("members",), "resources": ("runs_as",), "ceilings": ("except",), "attachments": ("runs_as",),
    "invariants": ("never", "by"),
}  # fmt: skip
"""Where lists with names stand in an entry."""


@dataclass(frozen=True, slots=True)
class Mention:
    """An entry that is about a name, in words, with where it stands; `edit` takes it, or the name in it, out (None:
    that is done by hand)."""

    what: str
    source: Source
    edit: Edit | None


def mentions(estate: Estate, named_at: Mapping[tuple[str, str], Source], name: str) -> Iterator[Mention]:
    """Everything in the files that names an identity, person, resource or credential, or something in it."""
    for word, section in SECTIONS.items():
        entries = getattr(estate, word)
        for key, value in entries.items() if isinstance(entries, Mapping) else enumerate(entries):
            own = section.key is not None and key == name
            plain = section.record.plain(value)
            if (
                not own
                and not (isinstance(key, str) and word == "retiring" and key == name)
                and not _names(plain, name)
            ):
                continue
            at = named_at.get((word, key), value.source) if isinstance(key, str) else value.source
            what = f"{SECTION_WORDS.get(word, word)} {key if isinstance(key, str) else _short(plain)}"
            whole = own or (word in TAKEN_OUT and not _is_one_of_several(word, plain, name))
            yield Mention(what, at, Removal.at(at) if whole else _without(word, value.source, plain, name))


SECTION_WORDS = {
    "trusts": "a trust", "grants": "a grant", "attachments": "an attachment", "groups": "the group",
    "resources": "the resource", "identities": "the identity", "journeys": "the journey",
    "credentials": "the credential",
    "ceilings": "the ceiling", "invariants": "the invariant", "pipeline_access": "the pipeline access",
    "accepted": "an acceptance", "retiring": "the retiring of",
}  # fmt: skip


def _short(plain: Mapping[str, Any]) -> str:
    """An entry of a list by what tells it apart."""
    if "name" in plain:
        return str(plain["name"])
    told = {field: plain[field] for field in ("of", "to", "role", "what", "runs_as", "at", "risk") if field in plain}
    return ", ".join(f"{field} {value}" for field, value in told.items())


def _names(value: Any, name: str) -> bool:
    """Whether plain data names something: as a whole, as what it is in, or as a word of an attempt."""
    if isinstance(value, str):
        return value == name or ("/" in name and any(contains(name, word) for word in value.split()))
    if isinstance(value, Mapping):
        return any(_names(one, name) for one in value.values())
    return any(_names(one, name) for one in value) if isinstance(value, list) else False


def _is_one_of_several(word: str, plain: Mapping[str, Any], name: str) -> bool:
    """Whether an attachment names something among others that it runs as."""
    listed = plain.get("runs_as")
    return word == "attachments" and isinstance(listed, list) and name in listed and len(listed) > 1


def _without(word: str, source: Source, plain: Mapping[str, Any], name: str) -> Edit | None:
    """The edit that takes a name out of a list in an entry."""
    path = WITHIN.get(word, ())
    for found in (path, *(("only", "by"),) * (word == "invariants")):
        inner: Any = plain
        for field in found:
            inner = inner.get(field) if isinstance(inner, Mapping) else None
        listed = [inner] if isinstance(inner, str) else inner
        if isinstance(listed, list) and name in listed:
            left = [one for one in listed if one != name]
            empty: list[str] | None = None if word == "resources" else []
            return Replacement.at(source, found, left or empty) if left or word in ("resources", "groups") else None
    return None

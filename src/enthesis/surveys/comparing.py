"""What changed between two surveys: found by their lines, so that only those that differ are read."""

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from hashlib import sha256
from typing import Any

from enthesis.model.sentences import statement_sentence
from enthesis.model.vocabulary import STATEMENTS
from enthesis.surveys.survey import MAX_LINE, VERSION, InvalidSurvey
from enthesis.text.times import time_from

NEW, CHANGED, GONE = "new", "changed", "gone"
KEYS = {"identities": "address", "groups": "address", "resources": "address"}


@dataclass(frozen=True, slots=True)
class Differs:
    """One entry that is not the same in both. `fields` are those that differ, with what they were and are."""

    state: str
    section: str
    name: str
    sentence: str
    holder: str = ""
    fields: tuple[tuple[str, Any, Any], ...] = ()


@dataclass(frozen=True, slots=True)
class SurveyComparison:
    """What differs between two surveys, when each was taken, and whether each is complete."""

    before: str
    after: str
    complete: bool
    differs: tuple[Differs, ...] = ()


@dataclass(frozen=True, slots=True)
class _Read:
    """The lines of a survey, without its first and last, and what those say."""

    lines: frozenset[bytes]
    taken: str
    complete: bool


def compare(before: Iterable[bytes], after: Iterable[bytes], names: tuple[str, str]) -> SurveyComparison:
    """Compares the lines of two surveys; InvalidSurvey where one of them is not a survey, or was changed since.

    Called with a million lines each: takes about as long as hashing them.
    """
    first, second = _read(before, names[0]), _read(after, names[1])
    was = _by_key(first.lines - second.lines, names[0])
    is_now = _by_key(second.lines - first.lines, names[1])
    found = [_differs(key[0], was.get(key), is_now.get(key)) for key in {**was, **is_now}]
    differs = sorted(
        (differs for differs in found if differs is not None),
        key=lambda differs: (differs.holder, differs.section, differs.name),
    )
    return SurveyComparison(first.taken, second.taken, first.complete and second.complete, tuple(differs))


def _read(lines: Iterable[bytes], name: str) -> _Read:
    """The lines of a survey, as a set: two that are the same say the same."""
    digest, kept = sha256(), set[bytes]()
    rest = iter(lines)
    head = next(rest, b"")
    header = _parsed(head, name)
    if header.get("enthesis") != "survey" or header.get("version") != VERSION or time_from(header.get("taken")) is None:
        raise InvalidSurvey(f"{name} is not a survey of version {VERSION}")
    update, add, last = digest.update, kept.add, head
    for line in rest:
        update(last)
        add(last)
        last = line
    end = _parsed(last, name) if last is not head else {}
    if end.get("end") is True:
        said = end.get("digest")
        if said is not None and said != f"sha-256:{digest.hexdigest()}":
            raise InvalidSurvey(f"{name}: a line was changed, added or taken out since it was written")
    else:
        add(last)
    kept.discard(head)
    complete = end.get("end") is True and end.get("complete") is True and "digest" in end
    return _Read(frozenset(kept), str(header["taken"]), complete)


def _parsed(line: bytes, name: str) -> dict[str, Any]:
    try:
        value = json.loads(line) if len(line) <= MAX_LINE else None
    except (ValueError, RecursionError):
        value = None
    if not isinstance(value, dict):
        raise InvalidSurvey(f"a line of {name} is not a JSON object")
    return value


def _by_key(lines: frozenset[bytes], name: str) -> dict[tuple[str, str], dict[str, Any]]:
    """The entries of some lines, by section and by what makes them the same: the live id, else the name."""
    out: dict[tuple[str, str], dict[str, Any]] = {}
    for line in lines:
        record = _parsed(line, name)
        section = record.get("section")
        if not isinstance(section, str):
            continue  # what was left out, and findings
        live = record.get("live")
        identifier = live.get("id") if isinstance(live, dict) else None
        key = record.get(KEYS.get(section, "name"))
        out[section, str(identifier or key or line)] = record
    return out


def _differs(section: str, was: Mapping[str, Any] | None, is_now: Mapping[str, Any] | None) -> Differs | None:
    """How an entry differs; None where only its version does."""
    told = is_now if is_now is not None else was
    assert told is not None  # noqa: S101  it is in one of the two
    live = told.get("live")
    holder = str(live.get("holder", "")) if isinstance(live, dict) else ""
    name = str(told.get(KEYS.get(section, "name"), ""))
    said = _sentence(section, told, name)
    if was is None or is_now is None:
        return Differs(NEW if was is None else GONE, section, name, said, holder)
    fields = tuple(
        (field, was.get(field), is_now.get(field))
        for field in dict.fromkeys((*was, *is_now))
        if field != "live" and was.get(field) != is_now.get(field)
    )
    marks = [entry.get("mark") if isinstance(entry, dict) else None for entry in (was.get("live"), is_now.get("live"))]
    if marks[0] != marks[1]:
        fields = (*fields, ("made by", marks[0], marks[1]))
    return Differs(CHANGED, section, name, said, holder, fields) if fields else None


def _sentence(section: str, record: Mapping[str, Any], name: str) -> str:
    """An entry in words; for what is not a statement its section and name."""
    body = {field: value for field, value in record.items() if field not in ("section", "live")}
    if section in STATEMENTS:
        try:
            return statement_sentence(section, body)
        except (KeyError, TypeError, AttributeError, ValueError):
            pass
    return f"{name} in {section}"

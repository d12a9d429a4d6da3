"""Survey files: what live systems said at a time, as JSON Lines that every question can be asked of.

    {"enthesis": "survey", "version": 1, "taken": TIME, "of": [{"what": …, "name": …, "at": URL}]}
    {"section": "grants", "to": …, "role": …, "at": …, "live": {"id": …}}      an entry of a section, as in an estate
    {"left_out": WHAT, "why": …}                                               what the estate's words cannot say
    {"left_out": WHAT, "why": …, "incomplete": true}                           what could not be read
    {"finding": CODE, "at": ADDRESS, "says": …}
    {"keys_of": URL, "published": {…}}                                         the keys that an issuer publishes
    {"end": true, "complete": true, "counts": {…}}

The header stands first and the end last; a file without its end was cut short. Everything between is in any order.
"""

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

from enthesis.model.addresses import account_of, contains
from enthesis.model.catalogue import Catalogue
from enthesis.model.estate import Estate
from enthesis.reading.nodes import Node
from enthesis.reading.sections import SECTIONS
from enthesis.reading.shapes import MISSING, Notes, time_from

VERSION = 1
MAX_LINE = 4 * 1024 * 1024  # characters


class SurveyMistaken(ValueError):
    """A file that is no survey, or a line of one that is not understood; the message says which."""


@dataclass(frozen=True, slots=True)
class Said:
    """Something a survey says besides statements: what it left out, or a finding."""

    what: str
    why: str
    incomplete: bool = False


@dataclass(frozen=True, slots=True)
class Survey:
    """A survey as it was read. `of` are the names of what was surveyed: clusters by address, providers by name."""

    estate: Estate
    taken: datetime
    of: tuple[str, ...]
    complete: bool
    left_out: tuple[Said, ...] = ()
    findings: tuple[Said, ...] = ()
    keys: Mapping[str, Any] = field(default_factory=dict)  # key sets (RFC 7517) by the url of their issuer


@dataclass
class _Collected:
    named: dict[str, dict[str, Any]] = field(default_factory=dict)
    listed: dict[str, list[Any]] = field(default_factory=dict)
    left_out: list[Said] = field(default_factory=list)
    findings: list[Said] = field(default_factory=list)
    keys: dict[str, Any] = field(default_factory=dict)
    complete: bool = False


def read_survey(lines: Iterable[str], name: str, catalogue: Catalogue) -> Survey:
    """A survey from the lines of its file; SurveyMistaken with the line where one is not understood."""
    numbered = enumerate(lines, 1)
    header = _parsed(next(numbered, (1, ""))[1], name, 1)
    taken = time_from(header.get("taken"))
    if header.get("enthesis") != "survey" or taken is None:
        raise SurveyMistaken(f"{name} is no survey: its first line is no header of one")
    if header.get("version") != VERSION:
        raise SurveyMistaken(f"{name} is a survey of version {header.get('version')}; known is {VERSION}")
    into = _Collected()
    for number, line in numbered:
        if line.strip():
            _take(_parsed(line, name, number), name, number, into)
    kinds = into.named.get("kinds", {})
    sections: dict[str, Any] = {**into.named, **{section: tuple(found) for section, found in into.listed.items()}}
    estate = Estate(str(header.get("estate") or name), catalogue.extended(kinds.values()), **sections)
    of = tuple(str(one.get("name")) for one in header.get("of") or () if isinstance(one, dict))
    return Survey(estate, taken, of, into.complete, tuple(into.left_out), tuple(into.findings), into.keys)


def _parsed(line: str, name: str, number: int) -> dict[str, Any]:
    try:
        value = json.loads(line) if len(line) <= MAX_LINE else None
    except (ValueError, RecursionError):
        value = None
    if not isinstance(value, dict):
        raise SurveyMistaken(f"line {number} of {name} is no JSON object")
    return value


def _take(record: dict[str, Any], name: str, number: int, into: _Collected) -> None:
    if "section" in record:
        _entry(record, name, number, into)
    elif "left_out" in record:
        incomplete = record.get("incomplete") is True
        into.left_out.append(Said(str(record["left_out"]), str(record.get("why", "")), incomplete))
    elif "finding" in record:
        into.findings.append(Said(str(record["finding"]), f"{record.get('at', '')}: {record.get('says', '')}"))
    elif isinstance(record.get("keys_of"), str):
        into.keys[record["keys_of"]] = record.get("published")
    elif record.get("end") is True:
        into.complete = record.get("complete") is True
    else:
        raise SurveyMistaken(f"line {number} of {name} says nothing that is understood")


def _entry(record: dict[str, Any], name: str, number: int, into: _Collected) -> None:
    section = SECTIONS.get(record["section"])
    if section is None:
        raise SurveyMistaken(f"line {number} of {name}: `{record['section']}` is no section of an estate")
    key = section.key or ""
    rest = {field: value for field, value in record.items() if field not in ("section", "live", key)}
    if key and not isinstance(record.get(key), str):
        raise SurveyMistaken(f"line {number} of {name}: this entry has no {key}")
    notes = Notes(name)
    value = section.record.read(tree_of(rest, number), notes, **({key: record[key]} if key else {}))
    if value is MISSING:
        raise SurveyMistaken(f"line {number} of {name}: {notes.mistakes[0].message}")
    if key:
        into.named.setdefault(record["section"], {}).setdefault(record[key], value)
    else:
        into.listed.setdefault(record["section"], []).append(value)


def tree_of(value: Any, line: int = 1) -> Node:
    """Plain data as a tree that stands on one line."""
    if isinstance(value, Mapping):
        entries = {str(key): tree_of(item, line) for key, item in value.items()}
        return Node(entries, line, 1, dict.fromkeys(entries, (line, 1)))
    if isinstance(value, list):
        return Node([tree_of(item, line) for item in value], line, 1)
    return Node(value, line, 1)


# -- beside an estate -----------------------------------------------------------------------------------------------

BY_PLACE = {"identities": None, "groups": None, "trusts": "of", "grants": "at", "ceilings": "at"}
"""Sections of access, and the field that says where an entry is; None: the address that it has itself."""


def beside(estate: Estate, survey: Survey) -> Estate:
    """The estate with what the survey says in place of what it describes, wherever the survey has looked."""

    def surveyed(address: str) -> bool:
        account = estate.accounts.get(account_of(address))
        by_provider = account is not None and account.provider in survey.of
        return by_provider or any(contains(one, address) for one in survey.of)

    live = survey.estate
    sections: dict[str, Any] = {}
    for section, field_name in BY_PLACE.items():
        described, found = getattr(estate, section), getattr(live, section)
        if field_name is None:
            kept = {address: one for address, one in described.items() if not surveyed(address)}
            sections[section] = {**kept, **found}
        else:
            left = tuple(one for one in described if not surveyed(getattr(one, field_name)))
            sections[section] = (*left, *found)
    for section in ("organisations", "providers", "accounts", "issuers", "roles", "resources", "credentials", "kinds"):
        sections[section] = {**getattr(live, section), **getattr(estate, section)}
    sections["resources"] |= {address: one for address, one in live.resources.items() if surveyed(address)}
    attached = [one for one in estate.attachments if not (isinstance(one.what, str) and surveyed(one.what))]
    sections["attachments"] = (*attached, *live.attachments)
    return replace(estate, catalogue=estate.catalogue.extended(live.kinds.values()), **sections)

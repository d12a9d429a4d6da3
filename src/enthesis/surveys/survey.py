"""Survey files: what live systems said at a time, as JSON Lines that every question can be asked of.

    {"enthesis": "survey", "version": 2, "taken": TIME, "of": [{"what": …, "name": …, "at": URL, …}]}
    {"section": "grants", "to": …, "role": …, "at": …, "live": {"id": …}}      an entry of a section, as in an estate
    {"left_out": WHAT, "why": …}                                               what the estate's words cannot say
    {"left_out": WHAT, "why": …, "incomplete": true, "at": …, "by": […]}       what could not be read: where it could
                                                                               give access ("about": "credentials" if
                                                                               only what opens it), and to whom
    {"finding": CODE, "at": ADDRESS, "says": …}
    {"keys_of": URL, "published": {…}}                                         the keys that an issuer publishes
    {"listed": RESOURCE, "objects": […]}; {"read_up_to": {…}}                  of a cluster, to read on from
    {"end": true, "complete": true, "counts": {…}, "lines": 90, "digest": "sha-256:…"}

The header stands first and the end last; a file without its end was cut short. Everything between is in any order.
The digest is of all lines before the end, each with its line break: a line that was changed or taken out is noticed.
"""

import gc
import json
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, fields, replace
from datetime import datetime
from hashlib import sha256
from operator import attrgetter
from pathlib import Path
from typing import Any, NamedTuple, TextIO

from msgspec.json import decode

from enthesis.files.field_types import MISSING, Notes
from enthesis.files.sections import SECTIONS
from enthesis.files.yaml_tree import tree_of
from enthesis.model.addresses import account_of, contains, is_organisation, is_simple_name, is_well_formed, parse
from enthesis.model.catalogue import EVERYTHING, Catalogue
from enthesis.model.conditions import Glob
from enthesis.model.errors import InnerError, InvalidAddress, InvalidInput
from enthesis.model.estate import Attachment, Estate, Grant, Resource, Trust, boundary_of
from enthesis.model.file_errors import Source
from enthesis.model.vocabulary import STATEMENT_SECTIONS, Form
from enthesis.surveys.statements import one_group
from enthesis.surveys.unread import Unread
from enthesis.text.times import time_from

VERSION = 2  # 1 had words that were renamed since
ASKED_NOW = "the live side"  # the name of a survey that was taken for one question and is in no file
MAX_LINE = 4 * 1024 * 1024  # characters
DIGESTED = 500  # lines at once
SOURCE = tuple.__new__  # the quickest way to one
PARSE = decode


MORE = {key: {"section": "", "live": "", **({key: key} if key else {})} for key in (None, "name", "address")}
"""What an entry has beside its fields, by the key of its section; see `Record.quick`."""


class InvalidSurvey(InnerError, ValueError):
    """A file that is not a survey, or a line of one that is not understood; the message says which."""

    inner_code = "survey-invalid"


@dataclass(frozen=True, slots=True)
class Said:
    """Something a survey says besides statements: what it left out, or a finding."""

    what: str
    why: str


@dataclass(frozen=True, slots=True)
class LookedAt:
    """How much of one system was surveyed: of a provider the statements of these holders (accounts, organisations),
    with their keyed credentials or without; of a cluster all of it, or some namespaces."""

    name: str
    holders: frozenset[str] = frozenset()
    keys: bool = False
    namespaces: tuple[str, ...] = ()
    what: str = ""


@dataclass(frozen=True, slots=True)
class Survey:
    """A survey as it was read. `of` are the names of what was surveyed: clusters by address, providers by name."""

    estate: Estate
    taken: datetime
    of: tuple[str, ...]
    complete: bool
    left_out: tuple[Said, ...] = ()
    not_read: tuple[Unread, ...] = ()  # of what was left out
    findings: tuple[Said, ...] = ()
    keys: Mapping[str, Any] = field(default_factory=dict)  # key sets (RFC 7517) by the url of their issuer
    looked_at: tuple[LookedAt, ...] = ()

    @property
    def unread(self) -> tuple[Unread, ...]:
        """What could not be read; that there may be more, where the survey does not say what."""
        return self.not_read if self.complete or self.not_read else (Unread("the end of the survey"),)

    @property
    def of_statements(self) -> bool:
        """Whether it is of more than the keys that issuers publish."""
        return not self.looked_at or any(one.what != "issuer" or one.holders for one in self.looked_at)


class _Section(NamedTuple):
    """How the entries of a section are read, and where they are put."""

    key: str | None
    more: Mapping[str, str]
    quick: Callable[..., Any]
    named: dict[str, Any]
    listed: list[Any]


@dataclass
class _Collected:
    notes: Notes
    sections: dict[str, _Section] = field(default_factory=dict)
    named: dict[str, dict[str, Any]] = field(default_factory=dict)
    listed: dict[str, list[Any]] = field(default_factory=dict)
    left_out: list[Said] = field(default_factory=list)
    not_read: list[Unread] = field(default_factory=list)
    findings: list[Said] = field(default_factory=list)
    keys: dict[str, Any] = field(default_factory=dict)
    complete: bool = False
    ended: bool = False

    def begun(self, word: object, name: str, number: int) -> _Section:
        """A section at its first entry; InvalidSurvey where an estate has none of this name."""
        found = SECTIONS.get(word) if isinstance(word, str) else None
        if found is None or not isinstance(word, str):
            raise InvalidSurvey(f"line {number} of {name}: an estate has no section `{word}`")
        places: tuple[dict[str, Any], list[Any]] = {}, []
        if found.key is not None:
            self.named[word] = places[0]
        else:
            self.listed[word] = places[1]
        self.sections[word] = _Section(found.key, MORE[found.key], found.record.quick, *places)
        return self.sections[word]


def read_survey(lines: Iterable[str], name: str, catalogue: Catalogue) -> Survey:
    """A survey from the lines of its file; InvalidSurvey with the line where one is not understood, and where they are
    not those that were written."""
    numbered = enumerate(lines, 1)
    first, digest = next(numbered, (1, ""))[1], sha256()
    digest.update(first.rstrip("\r\n").encode(errors="replace") + b"\n")
    header = _parsed(first.strip(), name, 1)
    taken = time_from(header.get("taken"))
    if header.get("enthesis") != "survey" or taken is None:
        raise InvalidSurvey(f"{name} is not a survey: its first line is not a header of one")
    if header.get("version") != VERSION:
        raise InvalidSurvey(f"{name} is a survey of version {header.get('version')} (expected {VERSION})")
    looked_at = _all_looked_at(header, name)
    into = _Collected(Notes(name))
    undigested: list[str] = []
    with no_collecting():
        for number, line in numbered:
            try:
                record = PARSE(line) if len(line) <= MAX_LINE else None
            except ValueError:
                record = None
            if type(record) is not dict:
                text = line.strip()
                if not text:
                    continue
                record = _parsed(text, name, number)
            if into.ended:
                raise InvalidSurvey(f"line {number} of {name} comes after the end of the survey")
            if "section" in record:
                _entry(record, name, number, into, "\\" in line or "*" in line or "?" in line)
            elif record.get("end") is True:
                _digest(digest, undigested)
                _end(record, name, number, digest.hexdigest(), into)
            else:
                _take(record, name, number, into)
            undigested.append(line)
            if len(undigested) == DIGESTED:
                _digest(digest, undigested)
    kinds = into.named.get("kinds", {})
    sections: dict[str, Any] = {**into.named, **{section: tuple(found) for section, found in into.listed.items()}}
    estate = Estate(str(header.get("estate") or name), catalogue.extended(kinds.values()), **sections)
    estate = _sound(estate, name)
    of = tuple(one.name for one in looked_at)
    out, unread, findings = tuple(into.left_out), tuple(into.not_read), tuple(into.findings)
    return Survey(estate, taken, of, into.complete, out, unread, findings, into.keys, looked_at)


def _digest(digest: Any, lines: list[str]) -> None:
    """Adds lines to the digest of a survey, without what ends them, and empties the list."""
    if lines:
        text = "".join(lines)
        ends = text.count("\n")
        if "\r" not in text and ends == 0:
            text = "\n".join([*lines, ""])
        elif "\r" in text or ends != len(lines) or text[-1] != "\n":  # not as a file of ours is read
            text = "\n".join([*(line.rstrip("\r\n") for line in lines), ""])
        digest.update(text.encode(errors="replace"))
        lines.clear()


def survey_in(path: Path, catalogue: Catalogue) -> Survey:
    """The survey in a file; InvalidInput where it cannot be read or is not one."""
    try:
        with path.open(encoding="utf-8") as lines:
            return read_survey(bounded(lines), path.name, catalogue)
    except OSError as fault:
        raise InvalidInput(f"{path} cannot be read: {fault.strerror}", code="file-unreadable") from None
    except UnicodeDecodeError:
        raise InvalidInput(f"{path} is not text", code="file-not-text") from None
    except InvalidSurvey as fault:
        raise InvalidInput(
            str(fault), code="survey-invalid", remedy="make one with `enthesis survey --out FILE`"
        ) from None


def bounded(file: TextIO) -> Iterator[str]:
    """The lines of a file, none read further than the longest that is understood."""
    while line := file.readline(MAX_LINE + 1):
        yield line


@contextmanager
def no_collecting() -> Iterator[None]:
    """Without the search for cycles, which would walk all that was read over and over: what is read here has none."""
    on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if on:
            gc.enable()


def _all_looked_at(header: dict[str, Any], name: str) -> tuple[LookedAt, ...]:
    """The systems that the first line of a survey lists; InvalidSurvey where it does not list them as we do."""
    listed = header.get("of") or []
    if not isinstance(listed, list) or not all(isinstance(one, dict) for one in listed):
        raise InvalidSurvey(f"line 1 of {name}: `of` is not a list of what was looked at")
    out = []
    for one in listed:
        holders, namespaces = one.get("holders") or [], one.get("namespaces") or []
        if not (isinstance(holders, list) and isinstance(namespaces, list)):
            raise InvalidSurvey(f"line 1 of {name}: `holders` and `namespaces` are lists")
        texts = (frozenset(map(str, holders)), one.get("keys") is True, tuple(map(str, namespaces)))
        out.append(LookedAt(str(one.get("name")), *texts, what=str(one.get("what"))))
    return tuple(out)


def _parsed(line: str, name: str, number: int) -> dict[str, Any]:
    if len(line) <= MAX_LINE:
        try:
            value: Any = PARSE(line)
        except ValueError:  # also what is JSON and not text: a half of a surrogate pair
            try:
                value = json.loads(line)
            except (ValueError, RecursionError):
                value = None
    else:
        value = None
    if not isinstance(value, dict):
        raise InvalidSurvey(f"line {number} of {name} is not a JSON object")
    return value


def _take(record: dict[str, Any], name: str, number: int, into: _Collected) -> None:
    if "left_out" in record:
        into.left_out.append(Said(str(record["left_out"]), str(record.get("why", ""))))
        into.not_read.extend(filter(None, [Unread.of(record)]))
    elif "finding" in record:
        into.findings.append(Said(str(record["finding"]), f"{record.get('at', '')}: {record.get('says', '')}"))
    elif isinstance(record.get("read_up_to"), dict) or isinstance(record.get("listed"), str):
        pass  # for readers that continue from there
    elif isinstance(record.get("keys_of"), str):
        into.keys[record["keys_of"]] = record.get("published")
    else:
        raise InvalidSurvey(f"line {number} of {name} says nothing that is understood")


def _end(record: dict[str, Any], name: str, number: int, digest: str, into: _Collected) -> None:
    """The end of a survey: whether it is whole, and whether the lines before are those that were written."""
    into.ended, said = True, record.get("digest")
    if said is not None and said != f"sha-256:{digest}":
        message = "the lines are not those that were written: one was changed, added or taken out since"
        raise InvalidSurvey(f"line {number} of {name}: {message}")
    into.complete = record.get("complete") is True and said is not None


def _sound(estate: Estate, name: str) -> Estate:
    """The estate in a survey if what is there has addresses and roles refer to kinds; InvalidSurvey where not.

    Names that nothing has are left: they refuse as such. Nothing runs as an identity that is not there.
    """
    catalogue = estate.catalogue
    for named in (estate.organisations, estate.accounts):
        for called, one in named.items():
            if not is_simple_name(called):
                raise InvalidSurvey(f"line {one.source.line} of {name}: `{called}` cannot be a name")
    for section in ("identities", "groups", "resources"):
        for address, one in getattr(estate, section).items():
            try:
                kind = parse(address, catalogue).kind
            except InvalidAddress as fault:
                raise InvalidSurvey(f"line {one.source.line} of {name}: `{address}`: {fault}") from None
            wanted = {"identities": kind == "identity", "groups": kind == "group"}.get(section, True)
            if not wanted:
                raise InvalidSurvey(f"line {one.source.line} of {name}: `{address}` is none of the {section}")
    allowed = [(role.allows, role.source) for role in estate.roles.values()]
    allowed += [(ceiling.bars or ceiling.only or {}, ceiling.source) for ceiling in estate.ceilings]
    for listed, source in allowed:
        unknown = next((kind for kind in listed if kind != EVERYTHING and kind not in catalogue.kinds), None)
        if unknown is not None:
            raise InvalidSurvey(f"line {source.line} of {name}: there is no kind `{unknown}`")
    for attachment in estate.attachments:
        if isinstance(attachment.what, str) and not is_well_formed(attachment.what, catalogue):
            raise InvalidSurvey(f"line {attachment.source.line} of {name}: `{attachment.what}` is not an address")
    known = estate.identities.keys()
    running = [
        *(resource.runs_as for resource in estate.resources.values()),
        *(one.runs_as for one in estate.attachments),
    ]
    if all(known >= set(named) for named in running):
        return estate
    return replace(estate, resources=_running(estate, known), attachments=_attached(estate, known))


def _running(estate: Estate, known: Collection[str]) -> dict[str, Resource]:
    """The resources without what they run as that is not there."""
    return {
        address: replace(one, runs_as=tuple(filter(known.__contains__, one.runs_as)))
        for address, one in estate.resources.items()
    }


def _attached(estate: Estate, known: Collection[str]) -> tuple[Attachment, ...]:
    """The attachments without identities that are not there."""
    kept = [
        replace(attachment, runs_as=tuple(filter(known.__contains__, attachment.runs_as)))
        for attachment in estate.attachments
    ]
    return tuple(attachment for attachment in kept if attachment.runs_as)


def _entry(record: dict[str, Any], name: str, number: int, into: _Collected, escapes: bool) -> None:
    word = record["section"]
    section = into.sections.get(word) if type(word) is str else None
    if section is None:
        section = into.begun(word, name, number)
    key, more, quick, named, listed = section
    if key is not None and type(record.get(key)) is not str:
        raise InvalidSurvey(f"line {number} of {name}: this entry has no {key}")
    value = quick(record, into.notes, SOURCE(Source, (name, number, 1, ())), more, escapes=escapes)
    if value is MISSING or into.notes.errors:
        notes, given = Notes(name), {key: record[key]} if key else {}
        rest = {field: item for field, item in record.items() if field not in more}
        value = SECTIONS[word].record.read(tree_of(rest, number), notes, **given)
        if notes.errors:
            raise InvalidSurvey(f"line {number} of {name}: {notes.errors[0].message}")
    if key is None:
        listed.append(value)
        return
    first = named.setdefault(record[key], value)
    if first is value:
        return
    if word == "groups":
        named[record[key]] = one_group(first, value)
    elif word == "resources":
        named[record[key]] = _one_resource(first, value)
    elif word == "identities" and value.is_person and value.disabled:
        named[record[key]] = value  # as the directory says


def _one_resource(first: Resource, then: Resource) -> Resource:
    """One resource of two lines: what the later one says of it, and else what the first does. An estate's own words
    stand first, what its live system says comes after."""
    said = {one.name: getattr(then, one.name) for one in fields(then) if one.compare}
    return replace(first, **{name: value for name, value in said.items() if value})


# -- beside an estate -----------------------------------------------------------------------------------------------


def beside(estate: Estate, survey: Survey) -> Estate:
    """The estate with what the survey says in place of what it describes, wherever the survey has looked.

    What was looked at and is not in the survey is not there: identities that were removed, keys that were retired.
    """
    covered, live = _Covered(estate, survey), survey.estate
    sections: dict[str, Any] = {}
    for section in ("organisations", "providers", "accounts", "issuers", "roles", "kinds"):
        sections[section] = {**getattr(live, section), **getattr(estate, section)}
    for section in ("identities", "groups", "resources"):
        kept = {address: one for address, one in getattr(estate, section).items() if not covered.place(address)}
        sections[section] = {**kept, **getattr(live, section)}
    left: dict[str, list[Any]] = {"grants": [grant for grant in estate.grants if not covered.grant(grant)]}
    for name, described in STATEMENT_SECTIONS.items():
        if name not in left and described.placed and not described.at_issuers:
            at = attrgetter(described.placed[0])
            left[name] = [entry for entry in getattr(estate, name) if not covered.place(_what(at(entry)))]
    for section, kept_ones in left.items():
        sections[section] = (*kept_ones, *_with_reasons(estate, section, getattr(live, section)))
    access = {name: one for name, one in estate.pipeline_access.items() if not covered.issuer(one.at)}
    sections["pipeline_access"] = {**access, **live.pipeline_access}
    kept = {name: one for name, one in estate.credentials.items() if not covered.keys(one.of)}
    sections["credentials"] = {**_as_described(estate, live), **kept}
    return without_what_is_gone(replace(estate, catalogue=estate.catalogue.extended(live.kinds.values()), **sections))


def _with_reasons(estate: Estate, section: str, live: Iterable[Any]) -> Iterator[Any]:
    """Live statements with the reasons that the files give for the same ones: live systems keep none."""
    keys: dict[str, Callable[[Any], Any]] = {
        "trusts": lambda one: (one.of, one.admits.form, one.admits.whom),
        "grants": lambda one: (
            one.to,
            one.role.removeprefix(f"{estate.holder_of(one)} "),
            one.at,
            estate.holder_of(one),
        ),
        "attachments": lambda one: one.what,
    }
    key = keys.get(section)
    if key is None:
        yield from live
        return
    reasons = {key(one): one.because for one in getattr(estate, section) if one.because is not None}
    for one in live:
        yield replace(one, because=reasons.get(key(one), one.because))


class _Covered:
    """What a survey has looked at."""

    def __init__(self, estate: Estate, survey: Survey) -> None:
        self.estate = estate
        self.by_name = {looked_at.name: looked_at for looked_at in survey.looked_at}

    def place(self, address: str) -> bool:
        """Whether the statements about a place were looked at, wherever they are kept."""
        if address.startswith("@"):
            return "/identity/" not in address and self._holder(boundary_of(address))
        system = self.estate.system_of(address)
        found = self.by_name.get(system)
        if found is None and system not in self.estate.providers:  # a cluster that the estate does not describe
            found = next((one for name, one in self.by_name.items() if contains(name, address)), None)
        if found is None:
            return False
        if system in self.estate.providers and not contains(found.name, address):
            return account_of(address) in found.holders
        return not found.namespaces or any(
            contains(f"{found.name}/namespace/{namespace}", address) for namespace in found.namespaces
        )

    def grant(self, grant: Grant) -> bool:
        """Whether a grant would be in the survey: it is kept by its holder, or by the cluster that it is in."""
        system = self.estate.system_of(grant.at)
        if system and system not in self.estate.providers:
            return self.place(grant.at)
        return self._holder(self.estate.holder_of(grant))

    def issuer(self, name: str) -> bool:
        """Whether what an issuer keeps for its runs was looked at, and not its keys alone."""
        found = self.by_name.get(name)
        return found is not None and name in found.holders

    def keys(self, identity: str) -> bool:
        """Whether the keyed credentials of an identity were looked at."""
        found = self.by_name.get(self.estate.system_of(identity))
        return found is not None and found.keys and account_of(identity) in found.holders

    def _holder(self, holder: str) -> bool:
        """Whether all that an account or boundary holds was looked at: at every provider where it holds anything."""
        top = holder.split("/", 1)[0] if holder.startswith("@") else holder
        systems = [self.by_name.get(name) for name in self.estate.providers_of(holder)]
        return bool(systems) and all(system is not None and top in system.holders for system in systems)


def _what(what: str | Glob) -> str:
    """Whose an attachment is: its resource, or the account that its pattern begins with."""
    return what if isinstance(what, str) else what.pattern


def _as_described(estate: Estate, live: Estate) -> dict[str, Any]:
    """The credentials of the live side, under the names that the estate has for them: by fingerprint, or by name."""
    by_print = {one.fingerprint: name for name, one in estate.credentials.items() if one.fingerprint is not None}
    out: dict[str, Any] = {}
    for name, one in live.credentials.items():
        known = by_print.get(one.fingerprint) if one.fingerprint is not None else None
        described = estate.credentials.get(known or name)
        if known is not None or (described is not None and described.of == one.of):
            out[known or name] = replace(one, name=known or name, held_in=described.held_in if described else ())
        else:
            out[name if name not in estate.credentials else f"{name} of {one.of}"] = one
    return out


def without_what_is_gone(estate: Estate) -> Estate:
    """The estate without references to identities and groups that it no longer has; journeys keep theirs, and are
    refused at names."""
    known = {*estate.identities, *estate.groups}

    def named(address: str) -> bool:
        return address in known or not ("/identity/" in address or "/group/" in address)

    def admitted(trust: Trust) -> bool:
        whom = trust.admits.whom
        return trust.of in known and (
            trust.admits.form not in (Form.IDENTITY, Form.GROUP, Form.PERSON) or str(whom) in known
        )

    groups = {
        address: replace(one, members=tuple(filter(known.__contains__, one.members)))
        for address, one in estate.groups.items()
    }
    estate = estate.with_credentials({name: one for name, one in estate.credentials.items() if one.of in known})
    return replace(
        estate,
        groups=groups,
        resources=_running(estate, known),
        attachments=_attached(estate, known),
        pipeline_access={
            name: one for name, one in estate.pipeline_access.items() if one.of in known and one.at in estate.issuers
        },
        trusts=tuple(filter(admitted, estate.trusts)),
        grants=tuple(
            grant for grant in estate.grants if (grant.to in known or is_organisation(grant.to)) and named(grant.at)
        ),
        ceilings=tuple(ceiling for ceiling in estate.ceilings if named(ceiling.at)),
    )

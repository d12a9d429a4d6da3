"""The half of a crossing that another party has to write: what they are asked for, as data, and taken back in."""

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from hashlib import sha256
from typing import Any

from enthesis.access.answers import Request
from enthesis.access.compiling import NONE, Compiled, compile_estate
from enthesis.access.questions import question_of
from enthesis.files.editing import Addition
from enthesis.files.field_types import MISSING, Notes
from enthesis.files.sections import SECTIONS
from enthesis.files.writing import plain_statement
from enthesis.files.yaml_tree import tree_of
from enthesis.model.addresses import account_of, is_well_formed, parse
from enthesis.model.estate import Estate, Grant, Journey, Trust
from enthesis.model.sentences import statement_sentence, verb_words
from enthesis.model.vocabulary import Outcome, VerbClass, VerdictStep
from enthesis.proposals.wanted import wanted
from enthesis.surveys.statements import normalised
from enthesis.text.times import time_from
from enthesis.verdicts.judge import Judge

DOCUMENT, FORMAT = "handoff", 2
KNOWN = ("organisations", "accounts", "resources", "identities", "groups")
ASKABLE = ("identities", "groups", "roles", "trusts", "grants")
WORDS_OF_DATA = (VerbClass.READ, VerbClass.WRITE)  # classes of verbs that need the key of what is encrypted


class Priority(StrEnum):
    """How soon a handoff is wanted."""

    LOW = "low"
    NORMAL = "normal"
    URGENT = "urgent"


@dataclass(frozen=True, slots=True)
class AskedStatement:
    """One statement that the other party is asked to write: in which account, and why."""

    section: str
    account: str
    body: Mapping[str, Any]
    sentence: str
    why: str = ""


@dataclass(frozen=True, slots=True)
class Handoff:
    """What one party asks of another. `impossible` is what cannot work whatever they write, `unneeded` what they might
    expect and need not do; `known` are the entries of ours that theirs name, by section and name. `window` is when the
    change may be made, in words, `priority` how soon it is wanted: neither belongs to what is asked."""

    estate: str
    ours: str
    theirs: str
    by: str = ""
    why: tuple[str, ...] = ()
    asked: tuple[AskedStatement, ...] = ()
    we_do: tuple[str, ...] = ()
    unneeded: tuple[str, ...] = ()
    impossible: tuple[str, ...] = ()
    checks: tuple[str, ...] = ()
    known: Mapping[str, Mapping[str, Any]] | None = None
    window: str = ""
    priority: str = ""

    @property
    def reference(self) -> str:
        """What links the two halves: the same wherever the same is asked, with the same of us declared."""
        said = [[request.section, request.account, dict(request.body)] for request in self.asked]
        known = {section: dict(entries) for section, entries in (self.known or {}).items()}
        digest = sha256(json.dumps([self.estate, self.ours, self.theirs, said, known], sort_keys=True).encode())
        return f"handoff-{digest.hexdigest()[:12]}"

    def as_json(self) -> dict[str, Any]:
        """The document as data. It contains no secrets."""
        return {
            "enthesis": DOCUMENT,
            "format": FORMAT,
            "reference": self.reference,
            "estate": self.estate,
            "from": self.ours,
            "to": self.theirs,
            "by": self.by or None,
            "window": self.window or None,
            "priority": self.priority or None,
            "why": list(self.why),
            "asked": [
                {
                    "section": request.section, "account": request.account, "statement": dict(request.body),
                    "sentence": request.sentence, "why": request.why,
                }
                for request in self.asked
            ],
            "we_do": list(self.we_do),
            "not_asked": list(NOT_ASKED),
            "not_needed": list(self.unneeded),
            "not_possible": list(self.impossible),
            "check": list(self.checks),
            "known": {section: dict(entries) for section, entries in (self.known or {}).items()},
        }  # fmt: skip


NOT_ASKED = (
    "no access key, password or token: our callers show short-lived credentials",
    "no right to change access, roles or trusts of yours",
    "no access to anything that is not named here",
)


def handoff(estate: Estate, party: str, now: datetime, by: str = "") -> Handoff:
    """What an estate needs of another party (an organisation, with its @, or one account), at a time."""
    ours, theirs = wanted(estate)
    mine = [their for their in theirs if _is_of(estate, their.holder, party)]
    compiled = compile_estate(estate)
    judged = list(_crossing(compiled, party, now))
    asked = [
        AskedStatement(
            statement.collection,
            statement.holder,
            normalised(statement.collection, statement.body),
            statement_sentence(statement.collection, statement.body),
        )
        for statement in mine
        if statement.collection in ASKABLE
    ]
    for role, grant in _counted_as_given(estate, judged):
        if not _has(asked, grant):
            asked += [grant] if _has(asked, role) else [role, grant]
    named = {text for request in asked for text in _texts(request.body)}
    us = {name for name in named if account_of(name) in estate.accounts and not _is_of(estate, account_of(name), party)}
    accounts = {account_of(name) for name in us}
    we_do = [
        statement_sentence(our.collection, our.body)
        for our in ours
        if our.collection in ("trusts", "grants", "identities")
        and any(_is_of(estate, account_of(text) or text, party) or text in us for text in _texts(our.body))
    ]
    reasoned: tuple[Grant | Trust, ...] = (*estate.grants, *estate.trusts)
    whys = [one.because for one in reasoned if one.because and _concerns(estate, one, party)]
    whys += [f"{address}: {estate.identities[address].purpose}" for address in sorted(us) if _purpose(estate, address)]
    return Handoff(
        estate.name,
        " and ".join(dict.fromkeys(f"@{estate.organisation_of(account)}" for account in sorted(accounts)))
        or estate.name,
        party,
        by,
        tuple(dict.fromkeys(map(str, whys))),
        tuple(asked),
        tuple(dict.fromkeys(we_do)),
        tuple(dict.fromkeys(_unneeded(compiled, judged))),
        tuple(dict.fromkeys(_impossible(compiled, judged))),
        tuple(dict.fromkeys(_checks(journey) for journey, _ in judged)),
        _known(estate, us),
    )


def _is_of(estate: Estate, holder: str, party: str) -> bool:
    """Whether an account, boundary or address is the party's."""
    if not party.startswith("@"):
        return account_of(holder) == party or holder == party
    return f"@{estate.organisation_of(holder)}" == party


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, Mapping):
        for inner in value.values():
            yield from _texts(inner)
    elif isinstance(value, list | tuple):
        for inner in value:
            yield from _texts(inner)


def _concerns(estate: Estate, entry: Any, party: str) -> bool:
    places = (getattr(entry, "at", ""), getattr(entry, "of", ""), getattr(entry, "to", ""))
    return any(_is_of(estate, place, party) for place in places if place)


def _purpose(estate: Estate, address: str) -> str:
    identity = estate.identities.get(address)
    return identity.purpose or "" if identity is not None else ""


def _crossing(compiled: Compiled, party: str, now: datetime) -> Iterator[tuple[Journey, list[Request]]]:
    """The journeys that must work and cross to or from the party, with the requests that do."""
    judge, estate = Judge(compiled), compiled.estate
    for journey in estate.journeys.values():
        if journey.expect != "allowed":
            continue
        requests = [
            request
            for request in judge.judge(question_of(journey, now)).requests
            if _is_of(estate, account_of(request.target) or request.target, party)
            != _is_of(estate, account_of(request.caller) or "", party)
            and account_of(request.caller)
        ]
        if requests:
            yield journey, requests


def _counted_as_given(
    estate: Estate, judged: Sequence[tuple[Journey, list[Request]]]
) -> Iterator[tuple[AskedStatement, AskedStatement]]:
    """The caller's half, as a role and a grant, where that is theirs: a journey counts it as given."""
    for journey, requests in judged:
        for request in requests:
            theirs = any(
                step.name is VerdictStep.CALLER_SIDE and step.outcome is Outcome.THEIRS for step in request.steps
            )
            if not theirs:
                continue
            account = account_of(request.caller)
            kind = _kind(estate, request.target)
            role = {"name": f"{request.verb}-{kind}", "allows": {kind: [request.verb]}}
            grant = {"to": request.caller, "role": role["name"], "at": request.target, "held_by": account}
            why = f"the journey {journey.name}: {request.caller} is to {verb_words(request.verb)} {request.target}"
            yield (
                AskedStatement("roles", account, role, statement_sentence("roles", role), why),
                AskedStatement("grants", account, grant, statement_sentence("grants", grant), why),
            )


def _has(asked: Sequence[AskedStatement], more: AskedStatement) -> bool:
    """Whether the same is asked already, or a grant to the same caller at the same place or above."""
    for request in asked:
        if request.section == more.section == "grants" and request.body.get("to") == more.body.get("to"):
            at, place = str(request.body.get("at")), str(more.body.get("at"))
            if place == at or place.startswith(at + "/"):
                return True
        if (request.section, request.body) == (more.section, more.body):
            return True
    return False


def _kind(estate: Estate, address: str) -> str:
    return parse(address, estate.catalogue).kind if is_well_formed(address, estate.catalogue) else ""


def _key_above(compiled: Compiled, target: str) -> str:
    """The key that what is at a target is encrypted by; '' where none is named."""
    keys = (compiled.key_above[place] for place in compiled.chain_of(target) if place in compiled.key_above)
    return next((compiled.places.names[key] for key in keys if key != NONE), "")


def _touching_data(estate: Estate, judged: Sequence[tuple[Journey, list[Request]]]) -> Iterator[Request]:
    verbs = estate.catalogue
    for _, requests in judged:
        for request in requests:
            if verbs.verbs_of(_kind(estate, request.target)).get(request.verb) in WORDS_OF_DATA:
                yield request


def _unneeded(compiled: Compiled, judged: Sequence[tuple[Journey, list[Request]]]) -> Iterator[str]:
    for request in _touching_data(compiled.estate, judged):
        if not _key_above(compiled, request.target):
            yield f"no grant at a key: what is in {request.target} is sealed by the store itself"


def _impossible(compiled: Compiled, judged: Sequence[tuple[Journey, list[Request]]]) -> Iterator[str]:
    for request in _touching_data(compiled.estate, judged):
        key = _key_above(compiled, request.target)
        resource = compiled.estate.resources.get(key)
        abroad = account_of(key) != account_of(request.caller)
        if resource is not None and resource.by_provider and abroad:
            whose = account_of(key)
            why = f"{key} is the provider's own key, which no caller outside {whose} can use"
            yield f"{why}: {request.target} must be encrypted by a key of {whose}'s own first"


def _checks(journey: Journey) -> str:
    attempt = journey.attempt
    what = f"{verb_words(attempt.verb)} {attempt.target}" if attempt is not None else "get a session"
    hops = [hop.identity or hop.on for hop in journey.through]
    way = f" through {', '.join(hops)}" if hops else ""
    who = f"{journey.origin.form} {journey.origin.whom}{way}"
    return f"{journey.name}: {who} must {what}; tried with: enthesis prove {journey.name}"


def _known(estate: Estate, named: set[str]) -> dict[str, dict[str, Any]]:
    """The entries of ours that the other party's statements name, as their estate needs them."""
    out: dict[str, dict[str, Any]] = {section: {} for section in KNOWN}
    for address in sorted(named):
        account = estate.accounts.get(account_of(address))
        if account is None:
            continue
        organisation = estate.organisation_of(account.name)
        out["organisations"][organisation] = {"outside": True}
        out["accounts"][account.name] = {"in": f"@{organisation}", "provider": account.provider}
        if address in estate.identities:
            identity = estate.identities[address]
            out["identities"][address] = {"kind": identity.kind}
        elif address in estate.groups:
            out["groups"][address] = plain_statement("groups", estate.groups[address])
        elif address in estate.resources:
            out["resources"][address] = {}
    return {section: entries for section, entries in out.items() if entries}


# -- taken in -------------------------------------------------------------------------------------------------------


def handoff_from(data: Any) -> Handoff:
    """The handoff that a document holds; ValueError where it holds none, or not the one that its reference names."""
    found = unchecked_handoff(data)
    if found.reference != data.get("reference"):
        raise ValueError("what this handoff asks for is not what its reference says: it was changed since")
    return found


def unchecked_handoff(data: Any) -> Handoff:
    """The same, whatever its reference is."""
    if not isinstance(data, dict) or (data.get("enthesis"), data.get("format")) != (DOCUMENT, FORMAT):
        raise ValueError(f"not a handoff of format {FORMAT}")
    try:
        asked = tuple(map(_asked_from, data["asked"]))
        lists = {name: tuple(map(str, data[word])) for name, word in LISTS.items()}
        known = {str(section): dict(entries) for section, entries in data["known"].items()}
        found = Handoff(
            str(data["estate"]), str(data["from"]), str(data["to"]), str(data["by"] or ""), asked=asked, known=known,
            window=str(data.get("window") or ""), priority=str(data.get("priority") or ""), **lists,
        )  # fmt: skip
        json.dumps(found.as_json(), ensure_ascii=False).encode()  # half a character cannot be shown
    except (TypeError, KeyError, AttributeError, ValueError, RecursionError) as fault:
        raise ValueError("this handoff is not understood") from fault
    return found


def _asked_from(said: Mapping[str, Any]) -> AskedStatement:
    """What is asked, in a sentence of ours: what the sender says that a statement is, is not looked at."""
    section, account, why = (str(said[name]) for name in ("section", "account", "why"))
    if section not in ASKABLE:
        raise ValueError(f"`{section}` cannot be asked for")
    body = dict(said["statement"])
    key = SECTIONS[section].key
    _sound(section, {name: value for name, value in body.items() if name != key}, str(body[key]) if key else "")
    return AskedStatement(section, account, body, statement_sentence(section, body), why)


LISTS = {"why": "why", "we_do": "we_do", "unneeded": "not_needed", "impossible": "not_possible", "checks": "check"}


def additions(estate: Estate, taken: Handoff) -> list[Addition]:
    """The entries to add to an estate so that it does what the handoff asks.

    Raises ValueError if an entry is invalid, declares what is not the asking party's, or is for an account that others
    administer.
    """
    out = list(_declared(estate, taken))
    roles = {str(one.body.get("name")): _role_name(estate, taken, one) for one in taken.asked if one.section == "roles"}
    for request in taken.asked:
        if estate.administered_by_others(request.account) or account_of(request.account) not in estate.accounts:
            raise ValueError(f"{request.sentence}: {request.account} is not administered here")
        body = dict(request.body)
        if request.section == "roles":
            body |= {"name": roles[str(body["name"])], "includes": [roles.get(one, one) for one in _listed(body)]}
            body = {name: value for name, value in body.items() if value != []}
        elif request.section == "grants":
            if body.get("role") not in roles:
                raise ValueError(f"{request.sentence}: what the role allows is not said")
            body |= {"role": roles[str(body["role"])], "held_by": request.account}
        key = SECTIONS[request.section].key
        name = str(body.pop(key)) if key else ""
        body = _sound(request.section, body, name)
        if request.section in ("grants", "trusts"):
            body["because"] = f"asked by {taken.ours}, {taken.reference}"
        if not _is_there(estate, request.section, name, body):
            out.append(Addition(request.section, name, body))
    return out


def _listed(body: Mapping[str, Any]) -> list[str]:
    """The roles that a role includes."""
    found = body.get("includes") or []
    return [found] if isinstance(found, str) else list(map(str, found))


def _role_name(estate: Estate, taken: Handoff, asked: AskedStatement) -> str:
    """What a role that is asked for is called here: a role of ours that has its name is never taken for it, even where
    it allows the same today."""
    name = str(asked.body["name"])
    bound = [grant.because or "" for grant in estate.grants if grant.role == name]
    theirs = bool(bound) and all(because.startswith(f"asked by {taken.ours}, ") for because in bound)
    if name not in estate.roles or theirs:
        return name
    return f"{name}-for-{taken.ours.split(' and ')[0].removeprefix('@').replace('/', '-')}"


def _declared(estate: Estate, taken: Handoff) -> Iterator[Addition]:
    """What the asking party tells of itself, as far as this estate does not know it; ValueError where it tells of
    anybody else, or does not say that it is outside."""
    known = taken.known or {}
    asking = set(taken.ours.split(" and "))
    theirs = {
        str(name) for name, entry in known.get("accounts", {}).items()
        if isinstance(entry, Mapping) and "/".join(str(entry.get("in")).split("/")[:1]) in asking
    }  # fmt: skip
    for section, entries in known.items():
        if section not in KNOWN:
            raise ValueError(f"`{section}` cannot be handed over")
        for name, entry in entries.items():
            if not isinstance(entry, Mapping):
                raise ValueError(f"{name}: what is said of it is not understood")
            there = getattr(estate, section)
            whose = f"@{name}" if section == "organisations" else name.split("/", 1)[0]
            own = whose in asking if section == "organisations" or name.startswith("@") else whose in theirs
            if not own:
                raise ValueError(f"{name} is not of {taken.ours}, who may declare nothing else")
            ours = name in there and not (estate.is_outside(whose) or estate.administered_by_others(whose))
            if ours or (section == "organisations" and dict(entry) != {"outside": True}):
                raise ValueError(f"{name}: {taken.ours} has to be another party here, outside of this estate")
            if name not in there:
                yield Addition(section, name, _sound(section, {**entry}, name))


def _sound(section: str, entry: dict[str, Any], name: str) -> dict[str, Any]:
    """An entry as the estate would write it; ValueError where it is not one."""
    shape, notes = SECTIONS[section], Notes("")
    given: dict[str, Any] = {shape.key: name} if shape.key else {}
    value = shape.record.read(tree_of(entry), notes, **given)
    if value is MISSING or notes.errors:
        said = notes.errors[0].message if notes.errors else "it is not understood"
        raise ValueError(f"{name or section}: {said}")
    plain: dict[str, Any] = shape.record.plain(value)
    return plain


def _is_there(estate: Estate, section: str, name: str, body: Mapping[str, Any]) -> bool:
    if name:
        return name in getattr(estate, section)
    without = {field: value for field, value in body.items() if field != "because"}
    there = ({**plain_statement(section, one)} for one in getattr(estate, section))
    return any({field: value for field, value in entry.items() if field != "because"} == without for entry in there)


def end_of(text: str | None) -> str:
    """A date by which something is wanted, as the document has it; ValueError where it is not one."""
    if text is None:
        return ""
    if time_from(text) is None and time_from(f"{text}T00:00:00Z") is None:
        raise ValueError(f"{text}: not a date")
    return text

"""Whether what a request names is there, and stands: for one request, with what is wrong."""

from collections.abc import Iterator

from enthesis.access.answers import NearMiss, Reason, StepOutcome
from enthesis.access.asked import Asked, Asker, Caller, unmet
from enthesis.access.attributes import kind_name
from enthesis.access.compiling import NONE, Compiled
from enthesis.access.names.standing import why_fallen
from enthesis.access.questions import Question
from enthesis.conditions.truth import hold
from enthesis.model.addresses import account_of, article, parse
from enthesis.model.errors import InvalidAddress
from enthesis.model.vocabulary import BEARERS, RUNNING, STEPS, Form, Outcome, VerdictStep
from enthesis.text.nearest import nearest
from enthesis.text.times import time_text

Missing = tuple[str, tuple[str, ...]]
"""What is wrong with a name, and the nearest known ones."""


def missing_names(
    compiled: Compiled, question: Question, caller: Caller, verb: str, address: str, onto: str | None, *, first: bool
) -> list[Missing]:
    """What a request names and is not there. `first`: the request shows what the origin has."""
    found = [_missing_origin(compiled, question, caller) if first else _missing_caller(compiled, caller)]
    return [one for one in (*found, *_missing_target(compiled, verb, address, onto)) if one is not None]


def not_there(missing: list[Missing]) -> tuple[StepOutcome, ...]:
    """The seven steps where a name does not exist: the rest is unknown."""
    texts = tuple(Reason(text) for text, _ in missing)
    close = tuple(dict.fromkeys(name for _, names in missing for name in names))
    refused = StepOutcome(VerdictStep.NAMES, Outcome.REFUSED, texts, nearest=close)
    return (refused, *(StepOutcome(name, Outcome.UNKNOWN) for name in STEPS[1:]))


def decide(asked: Asked) -> StepOutcome:
    """Whether the caller, the target and what the origin shows stand: not disabled, tied to what exists, not lapsed."""
    compiled = asked.compiled
    faults: list[Reason] = []
    misses: list[NearMiss] = []
    for address in dict.fromkeys((asked.caller.address, asked.target.address)):
        fallen = why_fallen(compiled, address)
        if fallen:
            found = compiled.estate.identities.get(address)
            faults.append(Reason(f"{address} {fallen}", found.source if found is not None else None))
    if asked.permission in compiled.not_of_people and compiled.is_person[asked.place]:
        faults.append(Reason(f"{asked.target.address} is a person: nothing runs as a person"))
    origin = asked.question.origin
    if origin.form == Form.CREDENTIAL and asked.first:
        credential = compiled.estate.credentials[origin.whom]
        if credential.disabled:
            faults.append(Reason(f"the credential {origin.whom} is disabled", credential.source))
        if credential.expires is not None and not credential.in_force(asked.question.time):
            text = f"the credential {origin.whom} lapsed at {time_text(credential.expires)}"
            faults.append(Reason(text, credential.source))
        if hold(credential.when, asked.facts.get) is not True:
            ground = Reason(f"the credential {origin.whom} is bound to a condition", credential.source)
            faults.append(ground)
            misses.append(NearMiss(ground, unmet=tuple(unmet(credential.when, asked.facts.get))))
    return StepOutcome(VerdictStep.NAMES, Outcome.REFUSED if faults else Outcome.ALLOWED, tuple(faults), tuple(misses))


def _missing_origin(compiled: Compiled, question: Question, caller: Caller) -> Missing | None:
    origin, estate = question.origin, compiled.estate
    if origin.form in BEARERS and origin.whom not in estate.issuers:
        return f"unknown issuer {origin.whom}", nearest(origin.whom, estate.issuers)
    if origin.form == Form.CREDENTIAL and origin.whom not in estate.credentials:
        return f"unknown credential {origin.whom}", nearest(origin.whom, estate.credentials)
    if caller.form is Asker.IDENTITY and not _is_identity(compiled, caller.address):
        return f"unknown identity {caller.address}", _close(compiled, caller.address, identities=True)
    if origin.form in RUNNING and not compiled.exists(origin.whom):
        return f"unknown address {origin.whom}", _close(compiled, origin.whom)
    return None


def _missing_caller(compiled: Compiled, caller: Caller) -> Missing | None:
    if caller.form is Asker.IDENTITY and not _is_identity(compiled, caller.address):
        return f"unknown identity {caller.address}", _close(compiled, caller.address, identities=True)
    if caller.form is Asker.RESOURCE and not compiled.exists(caller.address):
        return f"no such resource: {caller.address}", _close(compiled, caller.address)
    return None


def _missing_target(compiled: Compiled, verb: str, address: str, onto: str | None) -> Iterator[Missing]:
    if verb == "take-on" and not _is_identity(compiled, address):
        yield f"unknown identity {address}", _close(compiled, address, identities=True)
        return
    if not compiled.exists(address):
        yield f"unknown address {address}", _close(compiled, address)
        return
    kind = kind_name(compiled, address) or ""
    verbs = compiled.catalogue.verbs_of(kind)
    if verb not in verbs:
        text = f"{verb} is not a verb of {article(kind)}; those are {', '.join(sorted(verbs))}"
        yield text, nearest(verb, verbs)
    if onto is not None and not compiled.exists(onto):
        yield f"unknown address {onto}", _close(compiled, onto)


def _is_identity(compiled: Compiled, address: str) -> bool:
    number = compiled.find(address)
    return number != NONE and number in compiled.identity_kind


def _close(compiled: Compiled, address: str, *, identities: bool = False) -> tuple[str, ...]:
    """The nearest known names: those that share an account or their last word first. A leaf keeps its own name."""
    try:
        place = parse(address, compiled.catalogue)
        kind = compiled.catalogue.kinds.get(place.kind)
        if kind is not None and kind.leaf and not compiled.exists(place.parent):
            rest = address[len(place.parent) :]
            return tuple(name + rest for name in _close(compiled, place.parent) if compiled.exists(name + rest))
    except InvalidAddress:
        pass
    account, last = account_of(address), address.rsplit("/", 1)[-1]
    names = compiled.tables.identities if identities else compiled.places.names
    alike = [name for name in names if name.endswith("/" + last) or (account and name.startswith(account + "/"))]
    return nearest(address, alike[:2000]) or nearest(address, names[:5000])

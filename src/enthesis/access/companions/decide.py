"""What else must be allowed with one request, as judged."""

from collections.abc import Callable, Iterator

from enthesis.access.answers import Request, StepOutcome
from enthesis.access.asked import Asked, Asker, Caller
from enthesis.access.attributes import organisation_at, provider_at
from enthesis.access.compiling import NONE, Compiled, companion_places
from enthesis.access.questions import Question
from enthesis.model.catalogue import ORGANISATION, RESOURCE
from enthesis.model.vocabulary import Form, Outcome, VerdictStep

Judged = Callable[[Caller, str, str, str | None], Request]
"""Judges a request of a caller, by its verb and target; last at which provider the request is that it goes with."""


def decide(asked: Asked, judged: Judged) -> StepOutcome:
    """Allowed where every companion is; each is a full request of the same caller, or of the person behind it."""
    requests = tuple(_requests(asked, judged))
    if not requests:
        return StepOutcome(VerdictStep.COMPANIONS, Outcome.NOT_NEEDED)
    refused = any(request.refused_at for request in requests)
    allowed = all(request.allowed for request in requests)
    outcome = Outcome.REFUSED if refused else Outcome.ALLOWED if allowed else Outcome.UNKNOWN
    return StepOutcome(VerdictStep.COMPANIONS, outcome, within=requests)


def identity_caller(compiled: Compiled, address: str, *, has_session: bool = False) -> Caller:
    """An identity as a caller, with the groups it is in."""
    number = compiled.find(address)
    principals = (number, *compiled.groups_of(number)) if number != NONE else ()
    return Caller(Asker.IDENTITY, address, number, principals, has_session=has_session)


def _requests(asked: Asked, judged: Judged) -> Iterator[Request]:
    compiled, names, chain = asked.compiled, asked.compiled.places.names, asked.target.chain
    for companion in compiled.catalogue.companions_of(asked.target.kind, asked.verb):
        if companion.on == RESOURCE:
            if asked.onto is not None:
                yield judged(asked.caller, companion.also, asked.onto, None)
        elif companion.on == ORGANISATION:
            person, there = person_behind(compiled, asked.question), compiled.places.organisation[chain[0]]
            if person and there != NONE and names[there][1:] != organisation_at(compiled, person):
                at = provider_at(compiled, asked.caller.address, chain)
                yield judged(identity_caller(compiled, person), companion.also, names[there], at)
        else:
            for place in companion_places(compiled, companion, chain, asked.target.address):
                yield judged(asked.caller, companion.also, names[place], None)


def person_behind(compiled: Compiled, question: Question) -> str:
    """The person whose sign-in or keyed credential a chain began with; '' where there is none."""
    origin = question.origin
    if origin.form == Form.PERSON:
        return origin.whom
    credential = compiled.estate.credentials.get(origin.whom) if origin.form == Form.CREDENTIAL else None
    if credential is None:
        return ""
    number = compiled.find(credential.of)
    return credential.of if number != NONE and compiled.is_person[number] else ""

"""What an allowed request still waits for: the halves that the administrators of others write, and we cannot."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

from enthesis.access.answers import Request
from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.model.addresses import account_of
from enthesis.model.estate import Estate
from enthesis.model.vocabulary import Outcome, VerdictStep
from enthesis.surveys.survey import without_what_is_gone
from enthesis.verdicts.judge import Judge


@dataclass(frozen=True, slots=True)
class Waiting:
    """The steps at which a request is refused until others have acted, and whose administrators those are."""

    steps: frozenset[VerdictStep] = frozenset()
    others: tuple[str, ...] = ()


def waiting_for(estate: Estate, question: Question) -> Waiting:
    """What a question waits for that is allowed once everybody has written what the estate describes; nothing where it
    is refused anyway, or where all of it is up to us."""
    if not Judge(compile_estate(estate)).judge(question).allowed:
        return Waiting()
    steps: set[VerdictStep] = set()
    others: dict[str, None] = {}
    for ours in (_without_their_statements(estate), _without_their_identities(estate)):
        for request in Judge(compile_estate(ours)).judge(question).requests:
            found = set(_lacking(request))
            if not found:
                continue
            steps |= found
            for address in (request.caller, request.target):
                if estate.administered_by_others(address):
                    others[_party(estate, address)] = None
            break  # the live side shows the first refused request alone
    return Waiting(frozenset(steps), tuple(others)) if others else Waiting()


def _party(estate: Estate, address: str) -> str:
    """Who administers an address: an outside organisation, else the account."""
    return f"@{estate.organisation_of(address)}" if estate.is_outside(address) else account_of(address) or address


def _lacking(request: Request) -> Iterator[VerdictStep]:
    """The steps that others have to see to: those that refuse without them, and those that count as given."""
    for step in request.steps:
        if step.name in request.refused_at or step.outcome is Outcome.THEIRS:
            yield step.name


def _without_their_statements(estate: Estate) -> Estate:
    return replace(
        estate,
        grants=tuple(grant for grant in estate.grants if not estate.administered_by_others(estate.holder_of(grant))),
        trusts=tuple(trust for trust in estate.trusts if not estate.administered_by_others(trust.of)),
    )


def _without_their_identities(estate: Estate) -> Estate:
    ours = _without_their_statements(estate)
    return without_what_is_gone(
        replace(
            ours,
            identities={
                address: one
                for address, one in ours.identities.items()
                if one.is_person or not ours.administered_by_others(address)
            },
            groups={address: one for address, one in ours.groups.items() if not ours.administered_by_others(address)},
        )
    )

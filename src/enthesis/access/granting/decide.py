"""Which grants on one side let one request, and which all but do."""

from enthesis.access.answers import NearMiss, Reason, StepOutcome
from enthesis.access.asked import MISSES, Asked, unmet
from enthesis.access.compiling import NONE
from enthesis.model.addresses import article
from enthesis.model.vocabulary import Outcome, VerdictStep

LOOKED_AT = 60  # grants of one principal that are looked at for near-misses
ENDED = "it has ended"


def granted(asked: Asked, side: VerdictStep) -> StepOutcome:
    """Allowed by a grant on this side whose role allows it, in force, conditions holding."""
    compiled = asked.compiled
    grounds: list[Reason] = []
    misses: list[NearMiss] = []
    for number in compiled.grants_between(asked.caller.principals, asked.target.chain):
        lacks: list[str] = []
        if not _role_allows(asked, number):
            kind, verb = compiled.permission_pairs[asked.permission]
            lacks.append(f"{compiled.tables.grant_role[number]} does not allow {verb} on {article(kind)}")
        if not compiled.held_on(side, number, asked.caller.number, asked.place):
            holder = compiled.tables.grant_holder[number]
            lacks.append(f"it is held by {holder}, which is not on the {side.removesuffix('-side')} side")
        if not compiled.grant_in_force(number, asked.instant):
            lacks.append(ENDED)
        missing = unmet(compiled.grant_when(number), asked.facts.get)
        if lacks or missing:
            misses.append(NearMiss(_ground(asked, number), tuple(lacks), tuple(missing)))
        else:
            grounds.append(_ground(asked, number))
    if grounds:
        return StepOutcome(side, Outcome.ALLOWED, tuple(grounds))
    misses += _elsewhere(asked, len(misses))
    misses.sort(key=lambda miss: len(miss.lacks) + len(miss.unmet))
    return StepOutcome(side, Outcome.REFUSED, (), tuple(misses[:MISSES]))


def _role_allows(asked: Asked, number: int) -> bool:
    return bool(asked.compiled.role_allows[asked.compiled.grant_role[number], asked.permission])


def _ground(asked: Asked, number: int) -> Reason:
    tables = asked.compiled.tables
    text = f"the grant of {tables.grant_role[number]} to {tables.grant_to[number]} at {tables.grant_at[number]}"
    return Reason(text, asked.compiled.estate.grants[number].source, number)


def _elsewhere(asked: Asked, known: int) -> list[NearMiss]:
    """Grants to the caller that would do, but for the place they are at."""
    compiled = asked.compiled
    found: list[NearMiss] = []
    for principal in asked.caller.principals[:LOOKED_AT] if known < MISSES else ():
        for number in compiled.grants_to(principal, LOOKED_AT):
            place = int(compiled.grant_at[number])
            if place in asked.target.chain or place == NONE or not _role_allows(asked, number):
                continue
            lacks = [f"it is at {compiled.places.names[place]}"]
            lacks += [] if compiled.grant_in_force(number, asked.instant) else [ENDED]
            found.append(NearMiss(_ground(asked, number), tuple(lacks)))
            if len(found) >= MISSES:
                return found
    return found

"""Which ceilings bar one request."""

from enthesis.access.answers import NearMiss, Reason, StepOutcome
from enthesis.access.asked import Asked, unmet
from enthesis.conditions.truth import hold
from enthesis.model.vocabulary import Outcome, VerdictStep


def decide(asked: Asked) -> StepOutcome:
    """Refused where a ceiling over the caller or the target bars it; a condition that is unknown applies."""
    compiled, caller = asked.compiled, asked.caller
    if not compiled.ceilings_at:
        return StepOutcome(VerdictStep.CEILINGS, Outcome.NOT_NEEDED)
    callers = compiled.chain_of(caller.address) if caller.address else []
    own = compiled.takes_its_own(asked.permission, caller.address, asked.place)
    over = list(compiled.ceilings_over(() if own else callers, asked.target.chain))
    barring: list[Reason] = []
    misses: list[NearMiss] = []
    for barred in over:
        if not barred.bars(asked.permission, caller.address, inside=barred.place in callers):
            continue
        inside = barred.place in callers
        if compiled.spared_until(barred, asked.permission, caller.address, asked.place, inside=inside) > asked.instant:
            continue
        when = barred.ceiling.when
        truth = hold(when, asked.facts.get)
        if truth is False:
            continue
        ceiling = barred.ceiling
        ground = Reason(f"the ceiling {ceiling.name} over {ceiling.over} at {ceiling.at}", ceiling.source)
        barring.append(ground)
        if truth is None:
            misses.append(NearMiss(ground, unmet=tuple(unmet(when, asked.facts.get, unknown_only=True))))
    if barring:
        return StepOutcome(VerdictStep.CEILINGS, Outcome.REFUSED, tuple(barring), tuple(misses))
    return StepOutcome(VerdictStep.CEILINGS, Outcome.ALLOWED if over else Outcome.NOT_NEEDED)

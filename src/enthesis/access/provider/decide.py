"""Whether a session works at the provider of the target: for one request, with what it would take."""

from enthesis.access.answers import Reason, StepOutcome
from enthesis.access.asked import Asked, Asker
from enthesis.access.compiling import NONE
from enthesis.model.addresses import article
from enthesis.model.vocabulary import Outcome, VerdictStep


def decide(asked: Asked) -> StepOutcome:
    """Allowed where the caller is known at the target's provider; taking on an identity is how one gets there."""
    compiled, caller = asked.compiled, asked.caller
    if asked.verb == "take-on":
        return StepOutcome(VerdictStep.PROVIDER, Outcome.ALLOWED)
    wanted = int(compiled.provider[asked.place])
    if wanted == NONE:
        return StepOutcome(VerdictStep.PROVIDER, Outcome.NOT_NEEDED)
    there = compiled.provider_names[wanted]
    if caller.form is Asker.BEARER:
        shown = article(asked.question.origin.form)
        text = f"{shown} opens nothing at {there} by itself: take on an identity there first"
        return StepOutcome(VerdictStep.PROVIDER, Outcome.REFUSED, (Reason(text),))
    chain = compiled.chain_of(caller.address)
    if chain and compiled.known_at(caller.number if caller.number != NONE else chain[0], wanted):
        return StepOutcome(VerdictStep.PROVIDER, Outcome.ALLOWED)
    own = int(compiled.provider[chain[0]]) if chain else NONE
    known = compiled.provider_names[own] if own != NONE else "no provider"
    text = f"{caller.address} is known at {known} and not at {there}: take on an identity there first"
    return StepOutcome(VerdictStep.PROVIDER, Outcome.REFUSED, (Reason(text),))

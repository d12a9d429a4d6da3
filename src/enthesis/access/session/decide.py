"""Whether the caller's session still lives, and what it may do is left in it: for one request."""

from enthesis.access.answers import Reason, StepOutcome
from enthesis.access.asked import Asked
from enthesis.model.addresses import article
from enthesis.model.vocabulary import Outcome, VerdictStep
from enthesis.text.times import duration_text


def decide(asked: Asked) -> StepOutcome:
    """Refused where it has run out, or where a narrowing of a hop leaves the permission out."""
    kind, verb = asked.compiled.permission_pairs[asked.permission]
    caller, faults = asked.caller, []
    if any(not narrowing >> asked.permission & 1 for narrowing in caller.narrowings):
        faults.append(Reason(f"the session is narrowed, and {verb} on {article(kind)} is not left in it"))
    if caller.runs_out is not None and asked.age >= caller.runs_out:
        text = f"the session lasts {duration_text(caller.runs_out)}, and is {duration_text(asked.age)} old"
        faults.append(Reason(text))
    if faults:
        return StepOutcome(VerdictStep.SESSION, Outcome.REFUSED, tuple(faults))
    return StepOutcome(VerdictStep.SESSION, Outcome.ALLOWED if caller.has_session else Outcome.NOT_NEEDED)

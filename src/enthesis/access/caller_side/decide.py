"""What the caller's account lets out: for one request."""

from enthesis.access.answers import Reason, StepOutcome
from enthesis.access.asked import Asked, Asker
from enthesis.access.compiling import NONE
from enthesis.access.granting.decide import granted
from enthesis.model.vocabulary import Form, Outcome, VerdictStep


def decide(asked: Asked, target_side: StepOutcome) -> StepOutcome:
    """Needed in a crossing, and where nothing but a trust in a whole account admits."""
    compiled, caller = asked.compiled, asked.caller
    if caller.form is not Asker.IDENTITY or caller.number == NONE or compiled.places.account[caller.number] == NONE:
        return StepOutcome(VerdictStep.CALLER_SIDE, Outcome.NOT_NEEDED)
    if not compiled.crosses(caller.number, asked.place) and not _whole_account_alone(asked, target_side):
        return StepOutcome(VerdictStep.CALLER_SIDE, Outcome.NOT_NEEDED)
    return let_out(asked)


def let_out(asked: Asked) -> StepOutcome:
    """The caller's side, whether it is needed or not, of an identity of an account."""
    compiled = asked.compiled
    own = compiled.places.account[asked.caller.number] if asked.caller.number != NONE else NONE
    if compiled.is_given(own):
        text = f"{compiled.places.names[own]} is administered by others; its half is taken as given"
        return StepOutcome(VerdictStep.CALLER_SIDE, Outcome.THEIRS, (Reason(text),))
    return granted(asked, VerdictStep.CALLER_SIDE)


def _whole_account_alone(asked: Asked, target_side: StepOutcome) -> bool:
    if asked.verb != "take-on":
        return False
    admitting = [ground.number for ground in target_side.grounds if ground.number is not None]
    return {asked.compiled.tables.trust_form[number] for number in admitting} == {Form.ACCOUNT}

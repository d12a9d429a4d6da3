"""What a person who carries a proposal out may not do of it: found before the first step."""

from collections.abc import Iterable, Sequence
from datetime import datetime

from enthesis.access.answers import Verdict
from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.model.estate import Attempt, Context, Estate, Origin
from enthesis.proposals.effects import afterwards, as_estate, live_of
from enthesis.proposals.steps import MAKE, Step
from enthesis.surveys.statements import Surveyed
from enthesis.verdicts.judge import Judge


def not_allowed(
    described: Estate, surveys: Sequence[Surveyed], steps: Sequence[Step], needed: Iterable[tuple[str, str]],
    person: Origin, now: datetime,
) -> list[str]:  # fmt: skip
    """Sentences for the permissions (a verb and a place each) that steps need and the person has not, on the live side
    as it is now.

    What the steps make exists already for this: a trust of a new identity needs a permission at that identity. What
    they grant is not granted yet. A permission that only hangs on what is not known here, such as the network, is left
    to the provider, which decides when it is asked.
    """
    made = [step for step in steps if step.action == MAKE and step.collection in ("identities", "groups")]
    judge = Judge(compile_estate(as_estate(described, afterwards(live_of(described, surveys), made))))
    out: dict[str, None] = {}
    for verb, place in needed:
        verdict = judge.judge(Question(person, (), Attempt(verb, place), Context(), now))
        if verdict.refused_at and not _hangs_on_what_is_unknown(verdict):
            out[f"{person.whom} lacks the right `{verb}` at {place}"] = None
    return list(out)


def _hangs_on_what_is_unknown(verdict: Verdict) -> bool:
    """Whether each step that refuses would allow it, were a condition decided that cannot be decided here."""
    refusing = [request.step(name) for request in verdict.requests for name in request.refused_at]
    return all(
        any(miss.unmet and not miss.lacks and all(unmet.truth is None for unmet in miss.unmet) for miss in step.misses)
        for step in refusing
    )

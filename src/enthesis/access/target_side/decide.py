"""What the target's side lets in: for one request, by a grant, or by a trust where an identity is taken on."""

from collections.abc import Iterator, Mapping

from enthesis.access.answers import NearMiss, Reason, StepOutcome, Unmet
from enthesis.access.asked import MISSES, Asked, Asker, unmet
from enthesis.access.attributes import audiences_for, service_account_subjects, shown_by_workload
from enthesis.access.compiling import NONE
from enthesis.access.granting.decide import ENDED, granted
from enthesis.access.target_side.admission import Applicant, Lack, lacks
from enthesis.access.target_side.keys import foreign_to_key
from enthesis.conditions.truth import Value
from enthesis.model.addresses import article
from enthesis.model.conditions import Conditions, Glob
from enthesis.model.sentences import admitted_words
from enthesis.model.vocabulary import BEARERS, Outcome, VerdictStep

LACK_WORDS = {
    Lack.SHOWS_NOTHING: "it admits bearers of {form}, and {here} shows none",
    Lack.OTHER_ISSUER: "it admits bearers of {form} of {whom}, and this is {shown}",
    Lack.NOT_NAMED: "it does not admit {here}",
    Lack.POOL: "{here} is a pool: its members ask, and it never does",
    Lack.NO_RESOURCE: "it admits what runs as it, and {here} is not a resource",
    Lack.DOES_NOT_RUN_AS_IT: "{here} does not run as it",
    Lack.OTHER_ACCOUNT_RUNS: "{here} is of another account",
    Lack.NO_MATCH: "{here} {fits} {whom}",
    Lack.OTHER_PROVIDER: "{here} is of another provider, which vouches for single identities only",
    Lack.NOT_IN_GROUP: "{here} is not in {whom}",
    Lack.NOT_IN_ACCOUNT: "{here} is not of the account {whom}",
}


def decide(asked: Asked) -> StepOutcome:
    """Allowed by a trust for `take-on`, by a grant for any other verb; never for a key that is the provider's."""
    if asked.verb == "take-on":
        return _admitted(asked)
    target = asked.target.address
    if foreign_to_key(asked.compiled, asked.permission, asked.place, asked.caller.address, target):
        text = f"{target} is managed by the provider: no caller of another account, or of none, can use it"
        found = asked.compiled.estate.resources.get(target)
        ground = Reason(text, found.source if found is not None else None)
        return StepOutcome(VerdictStep.TARGET_SIDE, Outcome.REFUSED, (ground,))
    return granted(asked, VerdictStep.TARGET_SIDE)


def _admitted(asked: Asked) -> StepOutcome:
    grounds: list[Reason] = []
    misses: list[NearMiss] = []
    for number in asked.compiled.trusts_of(asked.place):
        ground, missing, not_met = _admits(asked, number)
        if missing or not_met:
            misses.append(NearMiss(ground, tuple(missing), tuple(not_met)))
        else:
            grounds.append(ground)
    if grounds:
        return StepOutcome(VerdictStep.TARGET_SIDE, Outcome.ALLOWED, tuple(grounds))
    misses.sort(key=lambda miss: (len(miss.lacks), len(miss.unmet)))
    if not misses:
        none = Reason(f"{asked.target.address} has no trust at all")
        return StepOutcome(VerdictStep.TARGET_SIDE, Outcome.REFUSED, (none,))
    return StepOutcome(VerdictStep.TARGET_SIDE, Outcome.REFUSED, (), tuple(misses[:MISSES]))


def _admits(asked: Asked, number: int) -> tuple[Reason, list[str], list[Unmet]]:
    """The trust, and what keeps it from admitting this caller."""
    compiled, tables = asked.compiled, asked.compiled.tables
    form, whom = tables.trust_form[number], tables.trust_whom[number]
    named = {"glob": whom.pattern} if isinstance(whom, Glob) else whom
    text = f"the trust of {asked.target.address} in {admitted_words(form, named)}"
    ground = Reason(text, compiled.estate.trusts[number].source, number)
    missing = list(_not_admitted(asked, number))
    if not compiled.trust_in_force(number, asked.instant):
        missing.append(ENDED)
    shown, when = compiled.trust_shown(number), compiled.trust_when(number)
    if form in BEARERS and asked.caller.form is Asker.RESOURCE and not missing:
        return ground, missing, _unmet_by_service_account(asked, shown, when)
    not_met: list[Unmet] = []
    if form in BEARERS and not missing:
        missing += _out_of_time(asked)
        not_met += unmet(shown, asked.facts.get, claims=True)
    not_met += unmet(when, asked.facts.get)
    return ground, missing, not_met


def _unmet_by_service_account(asked: Asked, shown: Conditions, when: Conditions) -> list[Unmet]:
    """What keeps a workload's tokens of its service accounts from passing, by the one that comes nearest.

    It asks its cluster for a token for whatever audience is wanted.
    """
    found: list[list[Unmet]] = []
    for subject in service_account_subjects(asked.compiled, asked.caller.address):
        for audience in audiences_for((*shown, *when), asked.facts.get):
            claims = shown_by_workload(subject, audience)

            def get(name: str, claims: Mapping[str, Value] = claims) -> Value:
                return claims.get(name) if name.startswith("claims.") else asked.facts.get(name)

            found.append([*unmet(shown, get, claims=True), *unmet(when, get)])
    return min(found, key=len)


def _not_admitted(asked: Asked, number: int) -> Iterator[str]:
    """Why a trust does not admit this caller, in words; nothing where it does."""
    origin, tables = asked.question.origin, asked.compiled.tables
    for lack in lacks(asked.compiled, number, _applicant(asked), asked.place, asked.target.address):
        form, whom = tables.trust_form[number], tables.trust_whom[number]
        here = asked.caller.address or f"the bearer of {article(origin.form)} of {origin.whom}"
        named = whom.pattern if isinstance(whom, Glob) else whom
        yield LACK_WORDS[lack].format(
            here=here, form=article(form), whom=named, shown=f"{article(origin.form)} of {origin.whom}",
            fits="does not match" if isinstance(whom, Glob) else "is not",
        )  # fmt: skip


def _applicant(asked: Asked) -> Applicant:
    caller, origin = asked.caller, asked.question.origin
    if caller.form is Asker.BEARER:
        return Applicant(origin.form, "", NONE, issuer=origin.whom)
    return Applicant(caller.form, caller.address, caller.number, caller.principals[1:])


def _out_of_time(asked: Asked) -> Iterator[str]:
    """RFC 7519, sections 4.1.4 and 4.1.5: a token that has ended, or is not good yet, admits nobody."""
    shown = asked.question.origin.shows
    ends, begins = shown.get("exp"), shown.get("nbf")
    if isinstance(ends, int | float) and not isinstance(ends, bool) and ends <= asked.instant:
        yield "the token has ended"
    if isinstance(begins, int | float) and not isinstance(begins, bool) and begins > asked.instant:
        yield "the token is not good yet"

"""Holds a journey's expectation against its verdict; every way in which it is not met, in words."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from itertools import product
from typing import Any

from enthesis.access.answers import Request, Verdict
from enthesis.access.compared import tests_of
from enthesis.access.compiling import Compiled
from enthesis.access.questions import Question, is_keyless, question_of
from enthesis.conditions.values import ROOMS, Room, cells
from enthesis.model.errors import Undecided
from enthesis.model.estate import Estate, Journey
from enthesis.model.sentences import verb_words
from enthesis.model.vocabulary import Ending, Form, VerdictStep
from enthesis.text.times import duration_text
from enthesis.verdicts.judge import Judge
from enthesis.verdicts.pools import MemberAnswer, answers_for_members, ending_of, pools_of, some_member_let_in

MOST_TOLD = 6  # members that are not as expected, as one journey tells them
MAX_TRIED = 200  # values of what a journey forgets that are tried


@dataclass(frozen=True, slots=True)
class Judged:
    """A journey with its verdict; `unmet` is empty where all is as expected. Where it is about the members of a pool,
    the answer for each is in `members`, and `verdict` is the first that is not as expected."""

    journey: Journey
    verdict: Verdict
    unmet: tuple[str, ...]
    members: tuple[MemberAnswer, ...] = ()

    @property
    def ending(self) -> Ending:
        """What came of it: of a pool what came of every member, not decided where they differ."""
        return ending_of(list(self.members)) if self.members else self.verdict.ending

    @property
    def met(self) -> bool:
        """Whether the journey ends as expected."""
        return not self.unmet

    @property
    def unseen_live(self) -> tuple[VerdictStep, ...]:
        """The steps of `refused_at` that only a later request refuses at; a live system stops at the first."""
        first = self.verdict.first_refused
        return tuple(step for step in self.journey.refused_at if first is not None and step not in first.refused_at)


def judge_journey(compiled: Compiled, journey: Journey, now: datetime) -> Judged:
    """The verdict on a journey, judged now where it says no time, and what of its expectation is not met."""
    question = question_of(journey, now)
    if pools_of(compiled, question):
        return _of_members(compiled, journey, question)
    verdict = Judge(compiled).judge(question)
    return Judged(journey, verdict, tuple(_unmet(compiled, journey, verdict)))


def _of_members(compiled: Compiled, journey: Journey, question: Question) -> Judged:
    """A journey about the members of a pool: each must end as expected, and one to come too."""
    try:
        answers = answers_for_members(compiled, question)
        each = [(answer, tuple(_unmet(compiled, journey, answer.verdict))) for answer in answers]
        alike: dict[str, list[str]] = {}
        for answer, found in each:
            for one in found:
                alike.setdefault(one, []).append(answer.whom)
        unmet = [f"{some(whom)}: {one}" for one, whom in alike.items()]
        if not unmet and journey.expect is Ending.REFUSED:
            let_in = some_member_let_in(compiled, question)
            unmet += [f"expected refused, but a member to come would be allowed: {let_in}"] if let_in else []
    except Undecided as bound:
        return Judged(journey, Judge(compiled).judge(question), (f"not decided: {bound}",))
    first = next((answer for answer, found in each if found), answers[0])
    return Judged(journey, first.verdict, tuple(unmet), tuple(answers))


def some(whom: Sequence[str]) -> str:
    """Members by name, the first few of many."""
    more = len(whom) - MOST_TOLD
    return ", ".join(whom[:MOST_TOLD]) + (f" and {more} more" if more > 0 else "")


@dataclass(frozen=True, slots=True)
class Seen:
    """What came of a journey, judged or tried.

    `lives` are those of the sessions that its requests gave, each with its identity; `first` says where it was refused
    first, in words.
    """

    outcome: Ending
    refused_at: tuple[VerdictStep, ...]
    lives: tuple[tuple[str, timedelta], ...]
    first: str = ""
    missing: str = ""  # what is wrong with the names, where they refuse first


def expectation_unmet(estate: Estate, journey: Journey, seen: Seen) -> Iterator[str]:
    """Every way in which what came of a journey is not what it expects, a sentence each; for check and prove alike."""
    if seen.outcome is not journey.expect:
        yield f"expected {journey.expect}, got {seen.outcome}{seen.first}"
    elif seen.outcome is Ending.REFUSED:
        missing = [step for step in journey.refused_at if step not in seen.refused_at]
        if VerdictStep.NAMES in seen.refused_at and VerdictStep.NAMES not in journey.refused_at:
            why = seen.missing or "a name in it does not exist, is disabled or has ended"
            yield f"inconclusive: {why}, so this refusal proves nothing about access"
        elif missing:
            yield f"expected refused at {', '.join(missing)}, got refused at {', '.join(seen.refused_at)}"
    if journey.keyless and is_keyless(journey.origin.form) is not True:
        how = "is a credential" if journey.origin.form == Form.CREDENTIAL else "is an identity itself"
        yield f"expected keyless, but its origin {how}"
    if journey.within is not None:
        yield from _too_long(estate, journey, seen, journey.within)


def _unmet(compiled: Compiled, journey: Journey, verdict: Verdict) -> Iterator[str]:
    forgotten = rests_on(compiled, verdict) if not verdict.allowed else ""
    if forgotten:
        yield f"it is refused only because {forgotten}: write a value, or null for absent on purpose"
    lives = tuple((request.target, request.life) for request in verdict.requests if request.life is not None)
    seen = Seen(verdict.ending, verdict.refused_at, lives, _first(verdict), _missing(verdict))
    yield from expectation_unmet(compiled.estate, journey, seen)


def _missing(verdict: Verdict) -> str:
    """What the first request that names refuse lacks, in words."""
    request = next((one for one in verdict.requests if VerdictStep.NAMES in one.refused_at), None)
    return ", ".join(ground.text for ground in request.step(VerdictStep.NAMES).grounds) if request is not None else ""


def _first(verdict: Verdict) -> str:
    """Where a chain is first refused, in words."""
    request = verdict.first_refused
    if request is None:
        return ""
    return f" at {', '.join(request.refused_at)}, to {attempt_words(request)}"


def attempt_words(request: Request) -> str:
    """A request in words: `take on build/identity/publisher`."""
    verb = verb_words(request.verb)
    return f"{verb} {request.target}" + (f" to {request.onto}" if request.onto else "")


def _too_long(estate: Estate, journey: Journey, seen: Seen, within: timedelta) -> Iterator[str]:
    for whose, life in seen.lives:
        if life > within:
            yield f"the session as {whose} lives {duration_text(life)}, longer than {duration_text(within)}"
    credential = estate.credentials.get(journey.origin.whom) if journey.origin.form == Form.CREDENTIAL else None
    if credential is None:
        return
    if credential.created is None or credential.expires is None:
        what = "end" if credential.expires is None else "beginning"
        yield f"the credential {credential.name} has no known {what}, so it counts as endless"
    elif credential.expires - credential.created > within:
        whole = duration_text(credential.expires - credential.created)
        yield f"the credential {credential.name} lives {whole}, longer than {duration_text(within)}"


def rests_on(compiled: Compiled, verdict: Verdict) -> str:
    """What a question left out, where with some value of it the answer would be that it is allowed; '' otherwise."""
    asked = verdict.question
    names = [name for name in ("network", "reference") if name not in asked.context.said]
    if asked.origin.form == Form.PERSON and not asked.origin.mfa_said:
        names.append("mfa")
    tests = {name: tests_of(compiled.tables, name) for name in names}
    names = [name for name in names if tests[name]]
    if not names:
        return ""
    try:
        rooms = [(None, *cells(tests[name], replace(ROOMS.get(name, Room()), absent=False))) for name in names]
    except Undecided:
        return ""
    judge = Judge(compiled)
    for number, values in enumerate(product(*rooms)):
        if number >= MAX_TRIED:
            break
        if judge.judge(_with(verdict, dict(zip(names, values, strict=True)))).allowed:
            said = [name for name, value in zip(names, values, strict=True) if value is not None]
            return f"{' and '.join(said)} {'is' if len(said) == 1 else 'are'} left out"
    return ""


def _with(verdict: Verdict, values: dict[str, Any]) -> Any:
    question = verdict.question
    mfa = values.pop("mfa", question.origin.mfa)
    return replace(question, origin=replace(question.origin, mfa=mfa), context=replace(question.context, **values))

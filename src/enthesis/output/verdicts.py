"""A verdict as a ladder: a rung a hop, under it the seven steps in words; near-misses; and what would turn it."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from enthesis.access.answers import (
    NearMiss,
    Reason,
    Request,
    StepOutcome,
    Unmet,
    Verdict,
)
from enthesis.access.value_words import shown
from enthesis.files.conditions import plain_test
from enthesis.model.addresses import account_of, article
from enthesis.model.conditions import Equal
from enthesis.model.estate import Estate, boundary_of
from enthesis.model.sentences import tested
from enthesis.model.vocabulary import BEARERS, STEPS, Ending, Form, Outcome, VerdictStep
from enthesis.output.lines import Line, Span, line
from enthesis.text.times import duration_text, time_text
from enthesis.verdicts.expectations import attempt_words
from enthesis.verdicts.pools import MemberAnswer
from enthesis.verdicts.remedies import Change, Remedies

STYLES = {
    Outcome.ALLOWED: "good", Outcome.REFUSED: "bad", Outcome.UNKNOWN: "doubt", Outcome.THEIRS: "doubt"
}  # fmt: skip
ENDINGS = {Ending.ALLOWED: "good", Ending.REFUSED: "bad", Ending.UNDECIDED: "doubt", Ending.WAITING: "doubt"}
OPTIONS = {
    "time": "--at-time TIME",
    "network": "--network ADDRESS",
    "reference": "--reference TEXT",
    "mfa": "--mfa or --no-mfa",
    "session.age": "--session-age DURATION",
}
WIDTH = max(map(len, STEPS))
MEMBERS_TOLD = 5  # members of a pool who are not allowed, by name
ALSO = 3  # sentences of what else a remedy allows
TOLD = 4  # remedies that are told in text, and looked at for what else they allow


# -- the first line -------------------------------------------------------------------------------------------------


def first_sentence(estate: Estate, verdict: Verdict) -> str:
    """The cause in one sentence, and who can fix it."""
    request = verdict.first_refused
    if verdict.allowed:
        return f"Allowed: {chain_words(verdict)}."
    if request is None:
        return f"Not decided: whether {chain_words(verdict)}; {_unknown_steps(verdict)}."
    step = request.step(request.refused_at[0])
    others = [name for name in verdict.refused_at if name != step.name]
    more = f" (refused at {', '.join(others)} too)" if others else ""
    return f"Refused at {step.name}: {cause(request, step)}{more}; up to {_everybody(estate, verdict)}."


def _unknown_steps(verdict: Verdict) -> str:
    """Why nothing refuses and yet nothing is allowed."""
    open_ones = [step.name for request in verdict.requests for step in request.steps if not step.earned]
    found = ", ".join(dict.fromkeys(open_ones))
    return f"unknown at {found}" if found else "not every step was judged"


def _everybody(estate: Estate, verdict: Verdict) -> str:
    """All who have to act for the whole chain to be allowed, those of the first refusal first."""
    parties: dict[str, None] = {}
    for request in verdict.requests:
        for name in request.refused_at:
            for text in whose(estate, request, request.step(name)):
                parties[text] = None
    return " and ".join(parties)


def chain_words(verdict: Verdict) -> str:
    """Origin, hops and attempt in a few words."""
    hops = [request.target for request in verdict.requests if request.is_hop]
    through = f" through {', then '.join(hops)}" if hops else ""
    last = verdict.requests[-1] if verdict.requests else None
    does = f" {attempt_words(last)}" if last is not None and not last.is_hop else ""
    return f"{origin_words(verdict)} may{does}{through}" if does else f"{origin_words(verdict)} gets{through}"


def absent_lines(estate: Estate, named: Iterable[str]) -> Iterator[Line]:
    """Which of these identities are named by statements and not there."""
    for address in absent_among(estate, named):
        yield line(
            Span("not there  ", "doubt"), f"{address}: statements name it, and whoever creates it gets what they allow"
        )


def absent_among(estate: Estate, named: Iterable[str]) -> list[str]:
    """Those of these identities that are named by statements and not there."""
    known = estate.identities
    return sorted({one for one in named if one in known and known[one].absent})


def origin_words(verdict: Verdict) -> str:
    """The origin in words."""
    origin = verdict.question.origin
    if origin.form in BEARERS:
        return f"the bearer of {article(origin.form)} of {origin.whom}"
    return f"the credential {origin.whom}" if origin.form == Form.CREDENTIAL else origin.whom


def cause(request: Request, step: StepOutcome) -> str:
    """Why a step refuses, in one clause."""
    caller = request.caller or "the bearer"
    if step.name is VerdictStep.COMPANIONS:
        inner = next((request for request in step.within if not request.allowed), None)
        if inner is not None and not step.grounds:
            deeper = inner.step(inner.refused_at[0])
            return (
                f"it also takes `{attempt_words(inner)}`, and that is refused at {deeper.name}: {cause(inner, deeper)}"
            )
    if step.grounds:
        text = "; ".join(ground.text for ground in step.grounds)
        return f"{text} bars it" if step.name is VerdictStep.CEILINGS else text
    if request.verb == "take-on" and step.name is VerdictStep.TARGET_SIDE:
        return f"no trust of {request.target} admits {caller}{_but_for(step)}"
    side = "" if step.name is VerdictStep.TARGET_SIDE else f"on the side of {account_of(caller)} "
    return f"{side}no grant lets {caller} {attempt_words(request)}{_but_for(step)}"


def _but_for(step: StepOutcome) -> str:
    """The nearest miss, where one test or one lack is all that keeps it from counting."""
    if not step.misses:
        return ""
    miss = step.misses[0]
    if len(miss.lacks) == 1 and not miss.unmet:
        return f" ({miss.lacks[0]})"
    if len(miss.unmet) == 1 and not miss.lacks:
        unmet = miss.unmet[0]
        name = unmet.attribute.removeprefix("claims.")
        if unmet.truth is None:
            return f" ({name} is not known, and is to be {tested(plain_test(unmet.test))})"
        return f" ({name} is {shown(unmet.found)}, and is to be {tested(plain_test(unmet.test))})"
    return ""


def whose(estate: Estate, request: Request, step: StepOutcome) -> list[str]:
    """Who can fix a step that refuses."""
    if step.name in (VerdictStep.NAMES, VerdictStep.PROVIDER, VerdictStep.SESSION):
        disabled = any("disabled" in ground.text or "tied" in ground.text for ground in step.grounds)
        if step.name is VerdictStep.NAMES and disabled:
            return [f"the administrators of {boundary_of(request.target)}"]
        return ["the caller"]
    if step.name is VerdictStep.CEILINGS:
        sources = {ground.source for ground in step.grounds}
        return [
            f"the administrators of {boundary_of(ceiling.at)}"
            for ceiling in estate.ceilings
            if ceiling.source in sources
        ]
    if step.name is VerdictStep.COMPANIONS:
        found = ["the owner of the key"] if step.grounds else []
        for inner in step.within:
            for name in inner.refused_at:
                found += whose(estate, inner, inner.step(name))
        return list(dict.fromkeys(found))
    side = request.target if step.name is VerdictStep.TARGET_SIDE else request.caller
    return [f"the administrators of {boundary_of(side)}"]


# -- the ladder -----------------------------------------------------------------------------------------------------


def verdict_lines(estate: Estate, verdict: Verdict) -> Iterable[Line]:
    """The whole answer but the remedies."""
    style = ENDINGS[verdict.ending]
    first = first_sentence(estate, verdict)
    word, _, rest = first.partition(" ")
    yield line(Span(word, style), " " + rest)
    yield line()
    yield from _origin_lines(verdict)
    for number, request in enumerate(verdict.requests):
        last = number == len(verdict.requests) - 1
        yield line("│")
        yield _rung(request, "└─ " if last else "├─ ")
        for inner in _step_lines(request):
            yield [Span("   " if last else "│  "), *inner]


def _origin_lines(verdict: Verdict) -> Iterator[Line]:
    question = verdict.question
    shows = ", ".join(f"{name} {shown(value)}" for name, value in question.origin.shows.items())
    yield line(Span(origin_words(verdict), "strong"), f": {shows}" if shows else "")
    context = question.context
    said = [f"at {time_text(question.time)}"]
    said += [f"from {context.network}"] if context.network is not None else []
    said += [f"reference {context.reference}"] if context.reference is not None else []
    said += [f"session {duration_text(context.session_age)} old"] if context.session_age else []
    yield line(Span("│  " + ", ".join(said), "quiet"))


def _rung(request: Request, mark: str) -> Line:
    word = request.ending
    lives = f"  the session lives {duration_text(request.life)}" if request.life and request.allowed else ""
    return line(mark, Span(attempt_words(request), "strong"), "  ", Span(word, ENDINGS[word]), Span(lives, "quiet"))


def _step_lines(request: Request) -> Iterator[Line]:
    for step in request.steps:
        head = line("  ", step.name.ljust(WIDTH), "  ", Span(step.outcome, STYLES.get(step.outcome, "quiet")))
        told = step.grounds[:1] if not _companion_names(step) else ()
        if step.outcome is Outcome.REFUSED and not (step.grounds or step.misses or step.within):
            told = (Reason(f"no grant to {request.caller or 'a bearer'}, or to a group of it, says so"),)
        for ground in told:
            head += line("  ", *_ground(ground))
        yield head
        for ground in step.grounds[len(told) :]:
            yield line(" " * (WIDTH + 4), *_ground(ground))
        if step.nearest:
            yield line(" " * (WIDTH + 4), "did you mean ", Span(" or ".join(step.nearest), "good"), "?")
        for miss in step.misses:
            for inner in _miss_lines(miss):
                yield line(" " * (WIDTH + 4), *inner)
        for companion in step.within:
            yield line(" " * (WIDTH + 4), *_rung(companion, "also "))
            if not companion.allowed:
                for inner in _step_lines(companion):
                    yield line(" " * (WIDTH + 4), *inner)


def _companion_names(step: StepOutcome) -> bool:
    return step.name is VerdictStep.COMPANIONS and bool(step.within) and not step.grounds


def _ground(ground: Reason) -> Line:
    where = f"  {ground.source}" if ground.source and ground.source.line else ""
    return line(ground.text, Span(where, "quiet"))


def _miss_lines(miss: NearMiss) -> Iterator[Line]:
    nearly = "nearly: " if miss.lacks or miss.unmet else ""
    yield line(Span(nearly, "doubt"), *_ground(miss.ground))
    for lack in miss.lacks:
        yield line("  but ", lack)
    for unmet in miss.unmet:
        yield from _unmet_lines(unmet)


def _unmet_lines(unmet: Unmet) -> Iterator[Line]:
    """What was wanted and what was found, one above the other, what differs underlined."""
    name = unmet.attribute.removeprefix("claims.")
    wanted = tested(plain_test(unmet.test))
    if unmet.truth is None:
        why = "nothing says it" if unmet.found is None else f"{shown(unmet.found)} is of another type"
        yield line(f"  {name}  wanted  {wanted}")
        option = OPTIONS.get(unmet.attribute, f"--claim {name}=VALUE" if unmet.attribute.startswith("claims.") else "")
        give = f"; give {option}" if option and unmet.found is None else ""
        yield line("  ", " " * len(name), "  found   ", Span("unknown", "doubt"), f", since {why}{give}")
        return
    found = shown(unmet.found)
    yield line(f"  {name}  wanted  {wanted}")
    yield line(f"  {' ' * len(name)}  found   {found}")
    if isinstance(unmet.test, Equal):
        start, end = _difference(wanted, found)
        yield line("  ", " " * (len(name) + 10 + start), Span("^" * max(1, end - start), "bad"))


def _difference(wanted: str, found: str) -> tuple[int, int]:
    """The part of `found` that is not as wanted: from the first difference to the last."""
    start = next((at for at, (one, two) in enumerate(zip(wanted, found, strict=False)) if one != two), None)
    start = min(len(wanted), len(found)) if start is None else start
    tail = 0
    while tail < min(len(wanted), len(found)) - start and wanted[-1 - tail] == found[-1 - tail]:
        tail += 1
    return start, len(found) - tail


# -- remedies -------------------------------------------------------------------------------------------------------


def remedy_lines(remedies: Remedies, also: Sequence[Sequence[str]]) -> Iterator[Line]:
    """The remedies, narrowest first; `also` says for each what else it would newly allow."""
    yield line()
    if not remedies.found:
        yield line(Span("No change to the estate was found that would allow this.", "doubt"))
    for number, (remedy, more) in enumerate(list(zip(remedies.found, also, strict=True))[:TOLD], 1):
        if number == 1:
            yield line(
                Span("Ways to allow it, narrowest first", "strong"), Span("  (--write N puts it there)", "quiet")
            )
        for at, change in enumerate(remedy.changes):
            yield line(f"  {number if not at else ' '}  {change.sentence}", Span(f"  up to {_whom(change)}", "doubt"))
            if change.line():
                yield line("       ", Span(change.line(), "command"))
        if more:
            yield line("     ", Span("besides what is asked, this newly allows:", "quiet"))
        yield from (line("       ", name) for name in more[:ALSO])
        if len(more) > ALSO:
            yield line(Span(f"       … and {len(more) - ALSO} more", "quiet"))
    if len(remedies.found) > TOLD:
        yield line(Span(f"  … and {len(remedies.found) - TOLD} more: --format json has them all", "quiet"))
    for text in remedies.unmendable:
        yield line("  cannot be fixed by granting access: ", text)
    if not remedies.complete:
        yield line(Span("  there may be more: the search was stopped at its bound", "quiet"))


def _whom(change: Change) -> str:
    return change.whose if change.whose.startswith("the ") else f"the administrators of {change.whose}"


# -- the same for a program -----------------------------------------------------------------------------------------


def verdict_json(estate: Estate, verdict: Verdict) -> dict[str, Any]:
    """The verdict with everything the ladder says."""
    question = verdict.question
    return {
        "allowed": verdict.allowed,
        "outcome": verdict.ending,
        "says": first_sentence(estate, verdict),
        "refused_at": list(verdict.refused_at),
        "keyless": verdict.keyless,
        "time": time_text(question.time),
        "origin": {question.origin.form: question.origin.whom, "shows": jsonable(question.origin.shows)},
        "requests": [_request_json(estate, request) for request in verdict.requests],
    }


def _request_json(estate: Estate, request: Request) -> dict[str, Any]:
    life = request.life
    return {
        "caller": request.caller or None,
        "verb": request.verb,
        "target": request.target,
        "onto": request.onto,
        "allowed": request.allowed,
        "refused_at": list(request.refused_at),
        "session_seconds": int(life.total_seconds()) if life is not None else None,
        "steps": [
            {
                "step": step.name,
                "outcome": step.outcome,
                "administered_by": whose(estate, request, step) if step.outcome is Outcome.REFUSED else [],
                "grounds": [_ground_json(ground) for ground in step.grounds],
                "nearest": list(step.nearest),
                "near_misses": [
                    {
                        "statement": _ground_json(miss.ground),
                        "lacks": list(miss.lacks),
                        "unmet": [
                            {
                                "attribute": unmet.attribute,
                                "wanted": plain_test(unmet.test),
                                "found": jsonable(unmet.found),
                                "unknown": unmet.truth is None,
                            }
                            for unmet in miss.unmet
                        ],
                    }
                    for miss in step.misses
                ],
                "companions": [_request_json(estate, request) for request in step.within],
            }
            for step in request.steps
        ],
    }


def _ground_json(ground: Reason) -> dict[str, Any]:
    return {"text": ground.text, "source": str(ground.source) if ground.source and ground.source.line else None}


def remedies_json(remedies: Remedies, also: Sequence[Sequence[str]]) -> dict[str, Any]:
    """The remedies for a program."""
    return {
        "complete": remedies.complete,
        "not_mended_by_access": list(remedies.unmendable),
        "remedies": [
            {
                "changes": [
                    {"sentence": change.sentence, "administered_by": _whom(change), "line": change.line() or None}
                    for change in remedy.changes
                ],
                "also_newly_allowed": list(more),
            }
            for remedy, more in zip(remedies.found, also, strict=True)
        ],
    }


def member_lines(answers: Sequence[MemberAnswer]) -> Iterator[Line]:
    """How many members of a pool a question is allowed for, and which not; nothing where it names no pool."""
    if not answers:
        return
    not_so = [answer.whom for answer in answers if not answer.verdict.allowed]
    if not not_so:
        declared = sum(not answer.to_come for answer in answers)
        yield line(f"  so for every member: {declared} declared, and one to come")
        return
    whom = ", ".join(not_so[:MEMBERS_TOLD]) + (f" and {len(not_so) - MEMBERS_TOLD} more" * (len(not_so) > MEMBERS_TOLD))
    yield line(f"  so for {len(not_so)} of {len(answers)} members: {whom}; the first of them is shown")


def members_json(answers: Sequence[MemberAnswer]) -> list[dict[str, Any]]:
    """What is answered for each member of a pool, for a program."""
    return [
        {"members": list(one.members), "to_come": one.to_come, "outcome": str(one.verdict.ending)} for one in answers
    ]


def jsonable(value: Any) -> Any:
    """A value of an attribute as JSON has it."""
    if isinstance(value, dict):
        return {name: jsonable(one) for name, one in value.items()}
    if isinstance(value, tuple | list):
        return [jsonable(one) for one in value]
    if isinstance(value, str | int | float | bool) or value is None:
        return value
    return shown(value)

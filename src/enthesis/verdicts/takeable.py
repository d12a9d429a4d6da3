"""Which identities an origin can take on, and by which hops it reaches one."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta

from enthesis.access.answers import Request, Verdict
from enthesis.access.questions import Question
from enthesis.model.estate import Context, Estate, Hop, Origin, Trust
from enthesis.model.file_errors import Source
from enthesis.model.vocabulary import BEARERS, VerdictStep
from enthesis.verdicts.judge import Judge

LONGEST = 4  # hops


@dataclass(frozen=True, slots=True)
class Taken:
    """An identity that can be taken on at once, for how long, and where the trust that admits stands."""

    identity: str
    life: timedelta | None
    source: Source | None


def can_take_on(estate: Estate, judge: Judge, origin: Origin, context: Context, now: datetime) -> Iterator[Taken]:
    """Every identity that an origin can take on with one hop, in the order of the estate's trusts."""
    for identity in _candidates(estate, origin, ""):
        verdict = judge.judge(Question(origin, (Hop(identity),), None, context, now))
        if verdict.allowed:
            request = verdict.requests[0]
            yield Taken(identity, request.life, _admitting(request))


def way_onto(
    estate: Estate, judge: Judge, origin: Origin, identity: str, context: Context, now: datetime
) -> tuple[str, ...] | None:
    """The fewest hops by which an origin can take on an identity, at most four; None where there is no such way."""
    seen: set[str] = set()
    paths: list[tuple[str, ...]] = [()]
    for _ in range(LONGEST):
        following: list[tuple[str, ...]] = []
        for path in paths:
            for candidate in _candidates(estate, origin, path[-1] if path else ""):
                if candidate in seen:
                    continue
                hops = tuple(Hop(name) for name in (*path, candidate))
                if judge.judge(Question(origin, hops, None, context, now)).allowed:
                    if candidate == identity:
                        return (*path, candidate)
                    seen.add(candidate)
                    following.append((*path, candidate))
        paths = following
    return None


def refused_by(judge: Judge, origin: Origin, identity: str, context: Context, now: datetime) -> Verdict:
    """Why an origin cannot take an identity on at once."""
    return judge.judge(Question(origin, (Hop(identity),), None, context, now))


def _candidates(estate: Estate, origin: Origin, last: str) -> list[str]:
    """Identities of which a trust might admit the present caller: the origin, or the identity last taken on."""
    return list(dict.fromkeys(trust.of for trust in estate.trusts if _might_admit(trust, origin, last)))


def _might_admit(trust: Trust, origin: Origin, last: str) -> bool:
    form, whom = trust.admits.form, trust.admits.whom
    bearer = origin.form in BEARERS and not last
    if form in BEARERS:
        return bearer and (form, whom) == (origin.form, origin.whom)
    if bearer:
        return False
    return whom == (last or origin.whom) if form in ("identity", "person") else True


def _admitting(request: Request) -> Source | None:
    return next(
        (ground.source for ground in request.step(VerdictStep.TARGET_SIDE).grounds if ground.source is not None), None
    )

"""What identities need, as recorded use and the estate's own journeys say: permissions at declared places."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from datetime import datetime

from enthesis.access.answers import Request
from enthesis.access.attributes import kind_name
from enthesis.access.compiling import NONE, Compiled, compile_estate
from enthesis.access.questions import Question, question_of
from enthesis.cleaning.usage import Triple, Usage
from enthesis.model.estate import Attempt, Context, Estate, Origin
from enthesis.model.words import Form
from enthesis.verdicts.judge import Judge

Permission = tuple[str, str]
"""A kind and a verb."""
Unit = tuple[str, Permission, str]
"""An identity, a permission, and the declared place where it is used."""


@dataclass(frozen=True, slots=True)
class Need:
    """Something that an identity does: the very request, and the unit that it counts as."""

    identity: str
    verb: str
    target: str
    permission: Permission
    place: str

    @property
    def unit(self) -> Unit:
        """What is counted: the identity, the permission and the declared place."""
        return self.identity, self.permission, self.place


@dataclass(slots=True)
class Needs:
    """All that is needed; `rare` are units that were used, and not in the window; `unplaced` counts requests whose
    target the estate does not know."""

    every: dict[Triple, Need] = field(default_factory=dict)
    rare: dict[Unit, float] = field(default_factory=dict)
    unplaced: int = 0
    used: set[str] = field(default_factory=set)  # identities of which something was recorded

    def units(self) -> set[Unit]:
        """The units that are needed by use or by what the estate states."""
        return {need.unit for need in self.every.values()}


def needs_of(estate: Estate, usage: Usage, since: datetime, now: datetime) -> Needs:
    """What a log says is needed, what the journeys say, and what goes along with each (keys, and the like)."""
    compiled = compile_estate(estate)
    judge = Judge(compiled)
    out = Needs()
    last: dict[Unit, float] = {}
    for (identity, verb, target), used in usage.used.items():
        found = _need(compiled, identity, verb, target)
        if found is None:
            out.unplaced += 1
            continue
        out.used.add(identity)
        last[found.unit] = max(last.get(found.unit, used.last), used.last)
        for need in _with_companions(estate, compiled, judge, found, now):
            out.every.setdefault((need.identity, need.verb, need.target), need)
    out.rare = {unit: at for unit, at in last.items() if at < since.timestamp()}
    for journey in estate.journeys.values():
        if journey.expect != "allowed":
            continue
        for request in judge.judge(question_of(journey, now)).requests:
            for each in flat([request]):
                asked = _need(compiled, each.caller, each.verb, each.target) if each.caller else None
                if asked is not None:
                    out.every.setdefault((asked.identity, asked.verb, asked.target), asked)
    return out


def origin_of(estate: Estate, identity: str) -> Origin:
    """The origin of a request by an identity, where its chain is unknown."""
    found = estate.identities.get(identity)
    return Origin(found.form if found is not None else Form.IDENTITY, identity)


def _with_companions(estate: Estate, compiled: Compiled, judge: Judge, need: Need, now: datetime) -> Iterator[Need]:
    yield need
    question = Question(origin_of(estate, need.identity), (), Attempt(need.verb, need.target), Context(), now)
    for request in judge.judge(question).requests:
        for each in flat([inner for step in request.steps for inner in step.within]):
            found = _need(compiled, each.caller, each.verb, each.target) if each.caller else None
            if found is not None:
                yield found


def flat(requests: Iterable[Request]) -> Iterator[Request]:
    """Requests with their companions, and those of these."""
    for request in requests:
        yield request
        yield from flat(inner for step in request.steps for inner in step.within)


def _need(compiled: Compiled, identity: str, verb: str, target: str) -> Need | None:
    """A request as a need; None where its identity, verb or target is not known."""
    if compiled.find(identity) == NONE or not compiled.exists(target):
        return None
    kind = kind_name(compiled, target)
    if kind is None or (kind, verb) not in compiled.permission:
        return None
    place = declared_place(compiled, target)
    return Need(identity, verb, target, (kind, verb), place) if place else None


def declared_place(compiled: Compiled, address: str) -> str:
    """The nearest place that the estate declares, at an address or above it; '' where there is none."""
    estate = compiled.estate
    for number in compiled.chain_of(address):
        name = compiled.places.names[number]
        if name in estate.resources or name in estate.identities or name in estate.groups:
            return name
        if name in estate.accounts or name.startswith("@"):
            return name
    return ""

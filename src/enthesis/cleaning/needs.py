"""What identities need, as recorded use and the estate's own journeys say: permissions at declared places."""

from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import datetime

from enthesis.access.answers import Request
from enthesis.access.attributes import kind_name
from enthesis.access.compiling import NONE, Compiled, compile_estate
from enthesis.access.questions import Question, question_of
from enthesis.cleaning.usage import ON, Deed, Usage
from enthesis.model.estate import Attempt, Context, Estate, Hop, Origin
from enthesis.model.vocabulary import Form
from enthesis.verdicts.judge import Judge

Permission = tuple[str, str]
"""A kind and a verb."""
Unit = tuple[str, Permission, str]
"""An identity, a permission, and the declared place where it is used."""


@dataclass(frozen=True, slots=True)
class Need:
    """Something that an identity does: the very request (with `onto` what is attached to, a `person` who began the
    chain, and what it passed, as in `Deed`), and the unit that it counts as."""

    deed: Deed
    permission: Permission
    place: str

    @property
    def identity(self) -> str:
        """Who does it."""
        return self.deed.identity

    @property
    def verb(self) -> str:
        """What is done."""
        return self.deed.verb

    @property
    def target(self) -> str:
        """On what."""
        return self.deed.target

    @property
    def unit(self) -> Unit:
        """What is counted: the identity, the permission and the declared place."""
        return self.identity, self.permission, self.place


@dataclass(slots=True)
class Needs:
    """All that is needed; `rare` are units that were used, and not in the window; `unplaced` counts requests whose
    target the estate does not know, `onto_unknown` those that attached something without saying to what."""

    every: dict[Deed, Need] = field(default_factory=dict)
    rare: dict[Unit, float] = field(default_factory=dict)
    unplaced: int = 0
    onto_unknown: int = 0
    used: set[str] = field(default_factory=set)  # identities of which something was recorded

    def units(self) -> set[Unit]:
        """The units that are needed by use or by what the estate states."""
        return {need.unit for need in self.every.values()}

    def add(self, need: Need) -> None:
        """One more; the same by another chain is another one, since more may be asked of it."""
        self.every.setdefault(need.deed, need)


def needs_of(estate: Estate, usage: Usage, since: datetime, now: datetime) -> Needs:
    """What a log says is needed, what the journeys say, and what goes along with each (keys, and the like)."""
    looking = _Looking(estate, now)
    out = Needs()
    last: dict[Unit, float] = {}
    for deed, used in usage.used.items():
        found = looking.need(deed)
        if found is None:
            out.unplaced += 1
            continue
        out.used |= {deed.identity, deed.person} - {""}
        last[found.unit] = max(last.get(found.unit, used.last), used.last)
        for need in looking.with_companions(found):
            out.add(need)
        if deed.verb == "attach" and not deed.onto:
            out.onto_unknown += used.count
            for need in looking.configuring(deed.identity):
                out.add(need)
    out.rare = {unit: at for unit, at in last.items() if at < since.timestamp()}
    for journey in estate.journeys.values():
        if journey.expect != "allowed":
            continue
        for request in looking.judge.judge(question_of(journey, now)).requests:
            for each in flat([request]):
                asked = looking.need(_deed(each))
                if asked is not None:
                    out.add(asked)
    return out


def question_about(estate: Estate, need: Need, now: datetime) -> Question:
    """The whole journey of a need as it was recorded: from the person who began it, through what it passed; from the
    identity alone where no person did."""
    deed = need.deed
    attempt = Attempt(deed.verb, deed.target, deed.onto or None)
    found = estate.identities.get(deed.person)
    if found is None or deed.person == deed.identity:
        return Question(origin_of(estate, deed.identity), (), attempt, Context(), now)
    hops = tuple(Hop(on=one.removeprefix(ON)) if one.startswith(ON) else Hop(one) for one in deed.through)
    if not hops or hops[-1].identity != deed.identity:
        hops = (Hop(deed.identity),)
    return Question(Origin(found.form, deed.person), hops, attempt, Context(), now)


def origin_of(estate: Estate, identity: str) -> Origin:
    """The origin of a request by an identity, where its chain is unknown."""
    found = estate.identities.get(identity)
    return Origin(found.form if found is not None else Form.IDENTITY, identity)


def _deed(request: Request) -> Deed:
    return Deed(request.caller or "", request.verb, request.target, request.onto or "")


class _Looking:
    """Turns what was done into needs, at the places of an estate and of its grants."""

    def __init__(self, estate: Estate, now: datetime) -> None:
        self.estate = estate
        self.now = now
        self.compiled = compile_estate(estate)
        self.judge = Judge(self.compiled)
        self.granted = {grant.at for grant in estate.grants}

    def need(self, deed: Deed) -> Need | None:
        """A request as a need; None where its identity, verb or target is not known."""
        compiled = self.compiled
        if compiled.find(deed.identity) == NONE or not compiled.exists(deed.target):
            return None
        kind = kind_name(compiled, deed.target)
        if kind is None or (kind, deed.verb) not in compiled.permission:
            return None
        place = declared_place(compiled, deed.target, self.granted)
        return Need(deed, (kind, deed.verb), place) if place else None

    def with_companions(self, need: Need) -> Iterator[Need]:
        """A need with what must be allowed with it: of the last request of its journey."""
        yield need
        last = self.judge.judge(question_about(self.estate, need, self.now)).requests[-1]
        for each in flat(inner for step in last.steps for inner in step.within):
            found = self.need(_deed(each))
            if found is not None:
                yield found

    def configuring(self, identity: str) -> Iterator[Need]:
        """All that an identity may configure and that something can be attached to: what it attached to is unknown."""
        compiled = self.compiled
        principals = {compiled.places.names[one] for one in compiled.groups_of(compiled.find(identity))} | {identity}
        for grant in self.estate.grants:
            if grant.to not in principals:
                continue
            kinds = {kind for kind, verb in self.estate.permissions_of(grant.role) if verb == "configure"}
            for address in self.estate.resources:
                kind = kind_name(compiled, address)
                if kind in kinds and self.estate.catalogue.acts(kind) and self.estate.is_at(grant.at, address):
                    found = self.need(Deed(identity, "configure", address))
                    if found is not None:
                        yield found


def flat(requests: Iterable[Request]) -> Iterator[Request]:
    """Requests with their companions, and those of these."""
    for request in requests:
        yield request
        yield from flat(inner for step in request.steps for inner in step.within)


def declared_place(compiled: Compiled, address: str, granted: Collection[str] = ()) -> str:
    """The nearest place at an address or above it that the estate declares, or that something is `granted` at; '' where
    there is none."""
    estate = compiled.estate
    for number in compiled.chain_of(address):
        name = compiled.places.names[number]
        if name in granted or name in estate.resources or name in estate.identities or name in estate.groups:
            return name
        if name in estate.accounts or name.startswith("@"):
            return name
    return ""

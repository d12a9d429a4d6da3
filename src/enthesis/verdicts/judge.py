"""Judges a question: every hop and the attempt, in seven steps each, on after a refusal, with the grounds."""

from collections.abc import Iterator
from dataclasses import replace
from datetime import timedelta

from enthesis.access.answers import Request, StepOutcome, Verdict
from enthesis.access.asked import Asked, Asker, Caller, Target
from enthesis.access.attributes import RequestAttributes, kind_name
from enthesis.access.caller_side import decide as caller_side
from enthesis.access.ceilings import decide as ceilings
from enthesis.access.companions import decide as companions
from enthesis.access.companions.decide import identity_caller
from enthesis.access.compiling import ENDLESS, NONE, Compiled
from enthesis.access.names import decide as names
from enthesis.access.names.decide import missing_names, not_there
from enthesis.access.provider import decide as provider
from enthesis.access.questions import Question
from enthesis.access.session import decide as session
from enthesis.access.target_side import decide as target_side
from enthesis.model.estate import Hop
from enthesis.model.vocabulary import BEARERS, RUNNING, Form, Outcome

NOTHING = timedelta(0)


class Judge:
    """Judges questions about one compiled estate."""

    def __init__(self, compiled: Compiled) -> None:
        self.compiled = compiled

    def judge(self, question: Question) -> Verdict:
        """The verdict. Cost grows with the chain and with the statements about its places, not with the estate."""
        return _Chain(self.compiled, question).verdict()


def _age(context_age: timedelta | None, *, last: bool) -> timedelta:
    return (context_age or NOTHING) if last else NOTHING


class _Chain:
    """One question under way."""

    def __init__(self, compiled: Compiled, question: Question) -> None:
        self.compiled = compiled
        self.question = question
        self.instant = question.time.timestamp()
        self.age = NOTHING
        self.first = True

    def verdict(self) -> Verdict:
        question = self.question
        caller = self._bearer()
        asked: list[tuple[str, str, str | None]] = [self._asked(hop) for hop in question.through]
        if question.attempt is not None:
            asked.append((question.attempt.verb, question.attempt.target, question.attempt.onto))
        requests: list[Request] = []
        for number, (verb, target, onto) in enumerate(asked):
            self.first = number == 0
            last = number == len(asked) - 1
            self.age = _age(question.context.session_age, last=last)
            request = self.request(caller, verb, target, onto, is_hop=number < len(question.through))
            if verb == "take-on":
                request = replace(request, life=self._life(caller, request, last=last))
            if number < len(question.through):
                caller = self._after(caller, question.through[number], request)
            requests.append(request)
        return Verdict(question, tuple(requests))

    def _asked(self, hop: Hop) -> tuple[str, str, str | None]:
        """What a hop asks for: to take an identity on, or to run code on a resource."""
        if not hop.on:
            return "take-on", hop.identity, None
        kind = kind_name(self.compiled, hop.on) or ""
        return self.compiled.catalogue.running_verb(kind) or "login", hop.on, None

    # -- callers --------------------------------------------------------------------------------------------------

    def _bearer(self) -> Caller:
        origin = self.question.origin
        if origin.form in BEARERS:
            return Caller(Asker.BEARER, "", NONE)
        if origin.form in RUNNING:
            return Caller(Asker.RESOURCE, origin.whom, self.compiled.find(origin.whom))
        if origin.form == Form.CREDENTIAL:
            credential = self.compiled.estate.credentials.get(origin.whom)
            return identity_caller(self.compiled, credential.of if credential else origin.whom)
        return identity_caller(self.compiled, origin.whom, has_session=origin.form == Form.IDENTITY)

    def _after(self, caller: Caller, hop: Hop, request: Request) -> Caller:
        """The caller that a hop gives, whether or not it was allowed. A resource's session is nobody's child."""
        if hop.on:
            runs = hop.member or hop.on
            return Caller(Asker.RESOURCE, runs, self.compiled.find(runs))
        if not self._is_identity(hop.identity) and self.compiled.exists(hop.identity):
            # A resource was named without `on:`. That hop is refused at names; the rest is judged as if it were there.
            return Caller(Asker.RESOURCE, hop.identity, self.compiled.find(hop.identity))
        lengths = [timedelta(seconds=self.compiled.tables.trust_session[trust]) for trust in request.counting]
        runs_out = caller.runs_out
        if lengths:
            runs_out = min(max(lengths), runs_out) if runs_out is not None else max(lengths)
        narrowings = caller.narrowings
        if hop.narrowed is not None:
            listed = self.compiled.catalogue.permissions(hop.narrowed, power_included=False)
            narrowings = (*narrowings, self.compiled.mask(listed))
        return replace(
            identity_caller(self.compiled, hop.identity),
            narrowings=narrowings,
            runs_out=runs_out,
            life=request.life,
            has_session=True,
        )

    def _life(self, caller: Caller, request: Request, *, last: bool) -> timedelta | None:
        """How long a session that is got here lives, from when it is obtained: now for the last request, else as long
        ago as the sessions are old. None where nothing bounds it."""
        age = self.question.context.session_age or NOTHING
        tables = self.compiled.tables
        began = self.instant if last else self.instant - age.total_seconds()
        parent = caller.life
        if parent is not None and last:
            parent -= age
        if not request.counting:
            return parent
        own = max(
            min(tables.trust_session[trust], tables.trust_until.get(trust, ENDLESS) - began)
            for trust in request.counting
        )
        return min(timedelta(seconds=own), parent) if parent is not None else timedelta(seconds=own)

    def _is_identity(self, address: str) -> bool:
        return self.compiled.find(address) in self.compiled.identity_kind

    # -- one request ----------------------------------------------------------------------------------------------

    def request(
        self, caller: Caller, verb: str, address: str, onto: str | None, *, is_hop: bool = False,
        beside: str | None = None,
    ) -> Request:  # fmt: skip
        """All seven steps, whatever the earlier ones say. `beside`: at which provider the request is that this one goes
        with."""
        compiled = self.compiled
        missing = missing_names(compiled, self.question, caller, verb, address, onto, first=self.first)
        if missing:
            return Request(caller.address, verb, address, onto, not_there(missing), is_hop)
        chain = tuple(compiled.chain_of(address))
        target = Target(address, kind_name(compiled, address) or "", chain)
        facts = RequestAttributes(
            compiled, self.question, caller.address, list(chain), first=self.first, age=self.age, beside=beside
        )
        asked = Asked(
            compiled, self.question, caller, verb, target, compiled.permission[target.kind, verb], facts, self.first,
            self.age, self.instant, onto,
        )  # fmt: skip
        owner = target_side.decide(asked)
        steps = (
            names.decide(asked),
            provider.decide(asked),
            ceilings.decide(asked),
            owner,
            caller_side.decide(asked, owner),
            companions.decide(asked, self._companion),
            session.decide(asked),
        )
        counting = tuple(_counting(asked, owner)) if verb == "take-on" else ()
        return Request(caller.address, verb, address, onto, steps, is_hop, counting=counting)

    def _companion(self, caller: Caller, verb: str, address: str, beside: str | None) -> Request:
        return self.request(caller, verb, address, None, beside=beside)


def _counting(asked: Asked, owner: StepOutcome) -> Iterator[int]:
    """The trusts that admit; one in a whole account only where that lets its identity."""
    let: bool | None = None
    for ground in owner.grounds:
        if ground.number is None:
            continue
        if asked.compiled.tables.trust_form[ground.number] == Form.ACCOUNT:
            if let is None:
                let = caller_side.let_out(asked).outcome != Outcome.REFUSED
            if not let:
                continue
        yield ground.number

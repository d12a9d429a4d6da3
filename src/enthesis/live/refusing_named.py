"""Who is near those that a trust admits by name, as journeys to be tried: other identities, people, hosts, accounts.

A trust that admits an issuer's statements has near-misses in its claims; one that admits by name has them among the
estate's own callers, and in what its request says besides.
"""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime
from ipaddress import ip_network

from enthesis.access.questions import Question
from enthesis.model.addresses import account_of, parse
from enthesis.model.errors import Undecided
from enthesis.model.estate import Attempt, Context, Estate, Journey, Origin, Trust
from enthesis.model.vocabulary import BEARERS, RUNNING, Ending, Form, VerdictStep, origin_form
from enthesis.verdicts.judge import Judge

MOST_OF_A_SORT = 2  # near callers that differ in the same way
ELSEWHERE = ip_network("203.0.113.77/32")  # of a network for documentation (RFC 5737)


@dataclass(frozen=True)
class Named:
    """A caller that asks to take on the identity of a trust; `what` says who it is beside those that are admitted."""

    what: str
    journey: Journey


@dataclass(frozen=True)
class NamedCallers:
    """Those whom a trust admits by name or belonging, and those near them that it must not."""

    judge: Judge
    trust: Trust
    instant: datetime

    @property
    def estate(self) -> Estate:
        """The estate that is judged."""
        return self.judge.compiled.estate

    def meant(self) -> list[Named]:
        """Those who are admitted by this trust, the first of them to be the control."""
        return [
            Named("an intended caller", journey)
            for origin in self._origins()
            if self._is_meant(origin)
            for journey in self._asking(origin)
            if self._refused_at(journey) == ()
        ]

    def near(self, control: Journey) -> list[Named]:
        """Those near a control whom the trust itself refuses: of its account, of others, and asking otherwise."""
        out: list[Named] = []
        counts: dict[str, int] = {}
        for origin in self._origins():
            what = self._how_near(origin, control.origin)
            if self._is_meant(origin) or counts.get(what, 0) >= MOST_OF_A_SORT:
                continue
            one = replace(control, origin=origin)
            if VerdictStep.TARGET_SIDE in (self._refused_at(one) or ()):
                counts[what] = counts.get(what, 0) + 1
                out.append(Named(f"{what}, {origin.whom}", one))
        for what, asking in (*_otherwise(control), *self._straight(control)):
            if VerdictStep.TARGET_SIDE in (self._refused_at(asking) or ()):
                out.append(Named(what, asking))
        return out

    def _straight(self, control: Journey) -> Iterator[tuple[str, Journey]]:
        """The origins of journeys that come by the trust, each without the identity on the way that it admits."""
        done: set[tuple[str, str]] = set()
        for journey in self.estate.journeys.values():
            on_the_way = [hop.identity for hop in journey.through]
            before = on_the_way.index(self.trust.of) - 1 if self.trust.of in on_the_way else -1
            origin = journey.origin
            if before >= 0 and journey.expect is Ending.ALLOWED and (origin.form, origin.whom) not in done:
                done.add((origin.form, origin.whom))
                what = f"who comes by {on_the_way[before] or 'what it runs code on'}, without it"
                yield what, replace(control, origin=origin, context=journey.context)

    def _origins(self) -> Iterator[Origin]:
        """Callers of the estate of the forms that a trust admits by name, those of its own account first."""
        estate, form = self.estate, self.trust.admits.form
        own = account_of(self.trust.of)
        if form == "attached":
            kinds = {
                parse(resource, estate.catalogue).kind
                for resource in estate.resources
                if self.judge.compiled.runs(resource)
            }
            for address in sorted(estate.resources, key=lambda name: (account_of(name) != own, name)):
                kind = parse(address, estate.catalogue).kind
                if kind in kinds and estate.catalogue.acts(kind):  # an attachment may name more
                    yield Origin(origin_form(kind, person=False), address)
            return
        for address in sorted(estate.identities, key=lambda name: (account_of(name) != own, name)):
            person = estate.identities[address].is_person
            if person and form in (Form.PERSON, Form.GROUP):
                yield Origin(Form.PERSON, address, mfa=True, mfa_said=True)
                continue
            ours = not person and address != self.trust.of and not estate.administered_by_others(address)
            if ours and form in (Form.IDENTITY, Form.GROUP, Form.ACCOUNT):
                yield Origin(Form.IDENTITY, address)

    def _is_meant(self, origin: Origin) -> bool:
        """Whether a caller is one that the trust names, or of what it names."""
        form, whom = self.trust.admits.form, str(self.trust.admits.whom)
        compiled = self.judge.compiled
        if form == "attached":
            place = compiled.places.index[self.trust.of]
            return place in compiled.runs(origin.whom) and whom in ("True", origin.whom)
        if form == "account":
            return account_of(origin.whom) == whom
        if form == "group":
            group = compiled.places.index.get(whom, -1)
            return group in compiled.groups_of(compiled.places.index[origin.whom])
        return origin.whom == whom

    def _asking(self, origin: Origin) -> Iterator[Journey]:
        """The request of a caller, as it is asked in the estate's journeys and as plainly as can be."""
        contexts = [Context()]
        for journey in self.estate.journeys.values():
            identities = [hop.identity for hop in journey.through]
            if journey.attempt is not None and journey.attempt.verb == "take-on":
                identities.append(journey.attempt.target)
            if self.trust.of in identities and journey.expect is Ending.ALLOWED:
                contexts.append(replace(journey.context, time=None, session_age=None, said=frozenset()))
        for context in dict.fromkeys(contexts):
            yield Journey("", origin, Ending.ALLOWED, (), Attempt("take-on", self.trust.of), context)

    def _refused_at(self, journey: Journey) -> tuple[str, ...] | None:
        """Where the request of a caller is refused; None where that is not decided."""
        assert journey.attempt is not None  # noqa: S101  as they are made here
        question = Question(journey.origin, journey.through, journey.attempt, journey.context, self.instant)
        try:
            verdict = self.judge.judge(question)
        except Undecided:
            return None
        return () if verdict.allowed else tuple(verdict.refused_at)

    def _how_near(self, origin: Origin, meant: Origin) -> str:
        """In which way a caller is near one who is meant."""
        home = "organisation" if origin.form == Form.PERSON else "account"
        if origin.form == meant.form and account_of(origin.whom) == account_of(meant.whom):
            return f"another {origin.form} of the same {home}"
        return f"{'an' if origin.form == 'identity' else 'a'} {origin.form} of another {home}"


def is_by_name(trust: Trust) -> bool:
    """Whether a trust admits callers of the estate, and no statements of an issuer."""
    return trust.admits.form not in BEARERS


def is_come_by(estate: Estate, trust: Trust, journeys: list[Journey]) -> bool:
    """Whether any of these journeys takes on the identity of a trust as a caller that it admits."""
    form, whom = trust.admits.form, str(trust.admits.whom)
    for journey in journeys:
        caller, its_form = journey.origin.whom, str(journey.origin.form)
        attempt = journey.attempt
        last = [attempt.target] if attempt is not None and attempt.verb == "take-on" else []
        for identity in [*(hop.identity for hop in journey.through), *last]:
            if identity == trust.of:
                admitted = {
                    "attached": its_form in RUNNING or its_form == "",
                    "account": account_of(caller) == whom,
                    "group": whom in estate.groups and its_form in ("identity", "person"),
                }.get(form, its_form == form and caller == whom)
                if admitted:
                    return True
            caller, its_form = identity, "identity" if identity else ""
    return False


def _otherwise(control: Journey) -> Iterator[tuple[str, Journey]]:
    """The request of the control, with something besides said otherwise."""
    context = control.context
    if context.reference is not None:
        other = replace(context, reference=f"{context.reference}-other")
        yield "the same caller with another reference", replace(control, context=other)
        yield "the same caller without a reference", replace(control, context=replace(context, reference=None))
    if context.network is not None:
        elsewhere = replace(context, network=ELSEWHERE)
        yield "the same caller from another network", replace(control, context=elsewhere)
    if control.origin.form == Form.PERSON:
        without = replace(control.origin, mfa=False)
        yield "the same person without a second factor", replace(control, origin=without)

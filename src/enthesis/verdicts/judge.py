"""Judges a question: every hop and the attempt, in seven steps each, on after a refusal, with the grounds."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta

from enthesis.conditions.truth import Value, hold, passes
from enthesis.files.shapes import duration_text, nearest, time_text
from enthesis.model.addresses import account_of, article, parse
from enthesis.model.catalogue import ORGANISATION, RESOURCE
from enthesis.model.conditions import Conditions, Glob
from enthesis.model.errors import InvalidAddress
from enthesis.model.estate import Hop
from enthesis.model.file_errors import Source
from enthesis.model.sentences import admitted_words
from enthesis.model.words import BEARERS, RUNNING, STEPS, Form, Outcome, VerdictStep
from enthesis.verdicts.admission import Applicant, Lack, lacks
from enthesis.verdicts.answers import (
    Ground,
    Miss,
    Request,
    StepOutcome,
    Unmet,
    Verdict,
)
from enthesis.verdicts.attributes import (
    Facts,
    audiences_for,
    kind_name,
    organisation_at,
    provider_at,
    service_account_subjects,
)
from enthesis.verdicts.compiling import ENDLESS, NONE, Barred, Compiled, companion_places
from enthesis.verdicts.questions import Question

MISSES = 4  # near-misses told at the most, a step
LOOKED_AT = 60  # grants of one principal that are looked at for near-misses
NOTHING = timedelta(0)
USES_OF_KEYS = ("encrypt", "decrypt", "sign")


@dataclass(frozen=True, slots=True)
class Caller:
    """Who asks now. `principals` are its number and those of its groups; empty for a bearer or a resource."""

    form: str  # bearer, resource, identity
    address: str
    number: int
    principals: tuple[int, ...] = ()
    narrowings: tuple[int, ...] = ()
    runs_out: timedelta | None = None
    life: timedelta | None = None
    has_session: bool = False


@dataclass(frozen=True, slots=True)
class Target:
    """What is asked about, with the numbers of the places at and above it."""

    address: str
    kind: str
    chain: tuple[int, ...]
    account: int
    provider: int


LACK_WORDS = {
    Lack.SHOWS_NOTHING: "it admits bearers of {form}, and {here} shows none",
    Lack.OTHER_ISSUER: "it admits bearers of {form} of {whom}, and this is {shown}",
    Lack.NOT_NAMED: "it does not admit {here}",
    Lack.NO_RESOURCE: "it admits what runs as it, and {here} is not a resource",
    Lack.DOES_NOT_RUN_AS_IT: "{here} does not run as it",
    Lack.OTHER_ACCOUNT_RUNS: "{here} is of another account",
    Lack.NO_MATCH: "{here} {fits} {whom}",
    Lack.OTHER_PROVIDER: "{here} is of another provider, which vouches for single identities only",
    Lack.NOT_IN_GROUP: "{here} is not in {whom}",
    Lack.NOT_IN_ACCOUNT: "{here} is not of the account {whom}",
}


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
            return Caller("bearer", "", NONE)
        if origin.form in RUNNING:
            return Caller("resource", origin.whom, self.compiled.find(origin.whom))
        if origin.form == Form.CREDENTIAL:
            credential = self.compiled.estate.credentials.get(origin.whom)
            return self._identity(credential.of if credential else origin.whom)
        return self._identity(origin.whom, has_session=origin.form == Form.IDENTITY)

    def _identity(self, address: str, *, has_session: bool = False) -> Caller:
        number = self.compiled.find(address)
        principals = (number, *self.compiled.groups_of(number)) if number != NONE else ()
        return Caller("identity", address, number, principals, has_session=has_session)

    def _after(self, caller: Caller, hop: Hop, request: Request) -> Caller:
        """The caller that a hop gives, whether or not it was allowed. A resource's session is nobody's child."""
        if hop.on:
            return Caller("resource", hop.on, self.compiled.find(hop.on))
        lengths = [timedelta(seconds=self.compiled.tables.trust_session[trust]) for trust in request.counting]
        runs_out = caller.runs_out
        if lengths:
            runs_out = min(max(lengths), runs_out) if runs_out is not None else max(lengths)
        narrowings = caller.narrowings
        if hop.narrowed is not None:
            listed = self.compiled.catalogue.permissions(hop.narrowed, power_included=False)
            narrowings = (*narrowings, self.compiled.mask(listed))
        return replace(
            self._identity(hop.identity), narrowings=narrowings, runs_out=runs_out, life=request.life, has_session=True
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

    # -- one request ----------------------------------------------------------------------------------------------

    def request(
        self, caller: Caller, verb: str, address: str, onto: str | None, *, is_hop: bool = False,
        beside: str | None = None,
    ) -> Request:  # fmt: skip
        """All seven steps, whatever the earlier ones say. `beside`: at which provider the request is that this one goes
        with."""
        compiled = self.compiled
        unknown = list(self._unknown_names(caller, verb, address, onto))
        if unknown:
            texts = tuple(Ground(text) for text, _ in unknown)
            close = tuple(dict.fromkeys(name for _, names in unknown for name in names))
            steps = [StepOutcome(VerdictStep.NAMES, Outcome.REFUSED, texts, nearest=close)]
            steps += [StepOutcome(name, Outcome.UNKNOWN) for name in STEPS[1:]]
            return Request(caller.address, verb, address, onto, tuple(steps), is_hop)
        chain = tuple(compiled.chain_of(address))
        account = compiled.places.account[chain[0]]
        target = Target(address, kind_name(compiled, address) or "", chain, account, int(compiled.provider[chain[0]]))
        facts = Facts(
            compiled, self.question, caller.address, list(chain), first=self.first, age=self.age, beside=beside
        )
        permission = compiled.permission[target.kind, verb]
        owner = self._owner(caller, verb, target, permission, facts)
        steps = [
            self._names(caller, target, facts),
            self._provider(caller, verb, target),
            self._ceilings(caller, target, permission, facts),
            owner,
            self._callers_side(caller, verb, target, permission, facts, owner),
            self._companions(caller, verb, target, onto),
            self._session(caller, permission),
        ]
        counting = tuple(self._counting(caller, target, permission, facts, owner)) if verb == "take-on" else ()
        return Request(caller.address, verb, address, onto, tuple(steps), is_hop, counting=counting)

    def _counting(
        self, caller: Caller, target: Target, permission: int, facts: Facts, owner: StepOutcome
    ) -> Iterator[int]:
        """The trusts that admit; one in a whole account only where that lets its identity."""
        let: bool | None = None
        for ground in owner.grounds:
            if ground.number is None:
                continue
            if self.compiled.tables.trust_form[ground.number] == "account":
                if let is None:
                    let = self._let_out(caller, target, permission, facts).outcome != Outcome.REFUSED
                if not let:
                    continue
            yield ground.number

    # names

    def _unknown_names(
        self, caller: Caller, verb: str, address: str, onto: str | None
    ) -> Iterator[tuple[str, tuple[str, ...]]]:
        """What is named and is not there, each with the nearest known names."""
        compiled, origin = self.compiled, self.question.origin
        estate = compiled.estate
        if not self.first:
            if caller.form == "identity" and not self._is_identity(caller.address):
                yield f"unknown identity {caller.address}", self._close(caller.address, identities=True)
            elif caller.form == "resource" and not compiled.exists(caller.address):
                yield f"no such resource: {caller.address}", self._close(caller.address)
        elif origin.form in BEARERS and origin.whom not in estate.issuers:
            yield f"unknown issuer {origin.whom}", nearest(origin.whom, estate.issuers)
        elif origin.form == Form.CREDENTIAL and origin.whom not in estate.credentials:
            yield f"unknown credential {origin.whom}", nearest(origin.whom, estate.credentials)
        elif caller.form == "identity" and not self._is_identity(caller.address):
            yield f"unknown identity {caller.address}", self._close(caller.address, identities=True)
        elif origin.form in (*RUNNING, "person", "identity") and not self._origin_exists():
            yield f"unknown address {origin.whom}", self._close(origin.whom)
        if verb == "take-on" and not self._is_identity(address):
            yield f"unknown identity {address}", self._close(address, identities=True)
            return
        if not compiled.exists(address):
            yield f"unknown address {address}", self._close(address)
            return
        kind = kind_name(compiled, address) or ""
        verbs = compiled.catalogue.verbs_of(kind)
        if verb not in verbs:
            text = f"{verb} is not a verb of {article(kind)}; those are {', '.join(sorted(verbs))}"
            yield text, nearest(verb, verbs)
        if onto is not None and not compiled.exists(onto):
            yield f"unknown address {onto}", self._close(onto)

    def _origin_exists(self) -> bool:
        origin = self.question.origin
        if origin.form in RUNNING:
            return self.compiled.exists(origin.whom)
        return self._is_identity(origin.whom)

    def _is_identity(self, address: str) -> bool:
        number = self.compiled.find(address)
        return number != NONE and number in self.compiled.identity_kind

    def _close(self, address: str, *, identities: bool = False) -> tuple[str, ...]:
        """The nearest known names: those that share an account or their last word first. A leaf keeps its own name."""
        compiled = self.compiled
        try:
            place = parse(address, compiled.catalogue)
            kind = compiled.catalogue.kinds.get(place.kind)
            if kind is not None and kind.leaf and not compiled.exists(place.parent):
                rest = address[len(place.parent) :]
                return tuple(name + rest for name in self._close(place.parent) if compiled.exists(name + rest))
        except InvalidAddress:
            pass
        account, last = account_of(address), address.rsplit("/", 1)[-1]
        names = compiled.tables.identities if identities else compiled.places.names
        alike = [name for name in names if name.endswith("/" + last) or (account and name.startswith(account + "/"))]
        return nearest(address, alike[:2000]) or nearest(address, names[:5000])

    def _names(self, caller: Caller, target: Target, facts: Facts) -> StepOutcome:
        compiled = self.compiled
        faults: list[Ground] = []
        misses: list[Miss] = []
        for address in dict.fromkeys((caller.address, target.address)):
            number = compiled.find(address) if address else NONE
            if number == NONE or compiled.stands[number]:
                continue
            tied = compiled.tables.tied.get(address)
            text = f"{address} is disabled"
            if address not in compiled.tables.disabled:
                text = f"{address} is tied to {tied}, which does not exist"
            faults.append(Ground(text, self._source("identities", address)))
        origin = self.question.origin
        if origin.form == Form.CREDENTIAL and self.first:
            credential = compiled.estate.credentials[origin.whom]
            if credential.disabled:
                faults.append(Ground(f"the credential {origin.whom} is disabled", credential.source))
            if credential.expires is not None and credential.expires <= self.question.time:
                text = f"the credential {origin.whom} lapsed at {time_text(credential.expires)}"
                faults.append(Ground(text, credential.source))
            if hold(credential.when, facts.get) is not True:
                ground = Ground(f"the credential {origin.whom} is bound to a condition", credential.source)
                faults.append(ground)
                misses.append(Miss(ground, unmet=tuple(_unmet(credential.when, facts.get))))
        return StepOutcome(
            VerdictStep.NAMES, Outcome.REFUSED if faults else Outcome.ALLOWED, tuple(faults), tuple(misses)
        )

    def _source(self, section: str, name: str) -> Source | None:
        found = getattr(self.compiled.estate, section).get(name)
        source: Source | None = found.source if found is not None else None
        return source

    # provider

    def _provider(self, caller: Caller, verb: str, target: Target) -> StepOutcome:
        compiled = self.compiled
        if verb == "take-on":
            return StepOutcome(VerdictStep.PROVIDER, Outcome.ALLOWED)
        if target.provider == NONE:
            return StepOutcome(VerdictStep.PROVIDER, Outcome.NOT_NEEDED)
        there = compiled.provider_names[target.provider]
        if caller.form == "bearer":
            shown = article(self.question.origin.form)
            text = f"{shown} opens nothing at {there} by itself: take on an identity there first"
            return StepOutcome(VerdictStep.PROVIDER, Outcome.REFUSED, (Ground(text),))
        if caller.number != NONE and compiled.is_person[caller.number]:
            return StepOutcome(VerdictStep.PROVIDER, Outcome.ALLOWED)
        chain = compiled.chain_of(caller.address)
        own = int(compiled.provider[chain[0]]) if chain else NONE
        if own == target.provider:
            return StepOutcome(VerdictStep.PROVIDER, Outcome.ALLOWED)
        known = compiled.provider_names[own] if own != NONE else "no provider"
        text = f"{caller.address} is known at {known} and not at {there}: take on an identity there first"
        return StepOutcome(VerdictStep.PROVIDER, Outcome.REFUSED, (Ground(text),))

    # ceilings

    def _ceilings(self, caller: Caller, target: Target, permission: int, facts: Facts) -> StepOutcome:
        compiled = self.compiled
        if not compiled.ceilings_at:
            return StepOutcome(VerdictStep.CEILINGS, Outcome.NOT_NEEDED)
        callers = compiled.chain_of(caller.address) if caller.address else []
        found = False
        barring: list[Ground] = []
        misses: list[Miss] = []
        for over, chain in (("callers", callers), ("targets", target.chain)):
            for place in chain:
                for barred in compiled.ceilings_at.get(place, ()):
                    if barred.ceiling.over != over:
                        continue
                    found = True
                    if not barred.refuses >> permission & 1 or self._excepted(barred, caller, callers):
                        continue
                    truth = hold(barred.ceiling.when, facts.get)
                    if truth is False:
                        continue
                    ground = self._ceiling_ground(barred)
                    barring.append(ground)
                    if truth is None:
                        misses.append(
                            Miss(ground, unmet=tuple(_unmet(barred.ceiling.when, facts.get, unknown_only=True)))
                        )
        if barring:
            return StepOutcome(VerdictStep.CEILINGS, Outcome.REFUSED, tuple(barring), tuple(misses))
        return StepOutcome(VerdictStep.CEILINGS, Outcome.ALLOWED if found else Outcome.NOT_NEEDED)

    @staticmethod
    def _excepted(barred: Barred, caller: Caller, callers: Sequence[int]) -> bool:
        return bool(caller.address) and barred.leaves_alone(caller.address, barred.place in callers)

    @staticmethod
    def _ceiling_ground(barred: Barred) -> Ground:
        ceiling = barred.ceiling
        return Ground(f"the ceiling {ceiling.name} over {ceiling.over} at {ceiling.at}", ceiling.source)

    # owner

    def _owner(self, caller: Caller, verb: str, target: Target, permission: int, facts: Facts) -> StepOutcome:
        if verb == "take-on":
            return self._admitted(caller, target, facts)
        if self._is_foreign_to_key(caller, verb, target):
            text = f"{target.address} is managed by the provider: no caller of another account, or of none, can use it"
            return StepOutcome(
                VerdictStep.TARGET_SIDE, Outcome.REFUSED, (Ground(text, self._source("resources", target.address)),)
            )
        return self._granted(VerdictStep.TARGET_SIDE, caller, target, permission, facts)

    def _is_foreign_to_key(self, caller: Caller, verb: str, target: Target) -> bool:
        """Whether a key that the provider manages is to be used from outside of its account."""
        used = target.kind == "key" and verb in USES_OF_KEYS
        return (
            used
            and target.chain[0] in self.compiled.key_by_provider
            and account_of(caller.address) != account_of(target.address)
        )

    def _admitted(self, caller: Caller, target: Target, facts: Facts) -> StepOutcome:
        compiled = self.compiled
        grounds: list[Ground] = []
        misses: list[Miss] = []
        for number in compiled.trusts_of(target.chain[0]):
            ground, missing, unmet = self._admits(number, caller, target, facts)
            if missing or unmet:
                misses.append(Miss(ground, tuple(missing), tuple(unmet)))
            else:
                grounds.append(ground)
        if grounds:
            return StepOutcome(VerdictStep.TARGET_SIDE, Outcome.ALLOWED, tuple(grounds))
        misses.sort(key=lambda miss: (len(miss.lacks), len(miss.unmet)))
        if not misses:
            return StepOutcome(
                VerdictStep.TARGET_SIDE, Outcome.REFUSED, (Ground(f"{target.address} has no trust at all"),)
            )
        return StepOutcome(VerdictStep.TARGET_SIDE, Outcome.REFUSED, (), tuple(misses[:MISSES]))

    def _admits(
        self, number: int, caller: Caller, target: Target, facts: Facts
    ) -> tuple[Ground, list[str], list[Unmet]]:
        """The trust, and what keeps it from admitting this caller."""
        tables = self.compiled.tables
        form, whom = tables.trust_form[number], tables.trust_whom[number]
        source = self.compiled.estate.trusts[number].source
        named = {"glob": whom.pattern} if isinstance(whom, Glob) else whom
        text = f"the trust of {target.address} in {admitted_words(form, named)}"
        ground = Ground(text, source, number)
        missing = list(self._not_admitted(number, caller, target))
        unmet: list[Unmet] = []
        if tables.trust_until.get(number, float("inf")) <= self.instant:
            missing.append("it has ended")
        shown, when = self.compiled.trust_shown(number), self.compiled.trust_when(number)
        if form in BEARERS and caller.form == "resource" and not missing:
            return ground, missing, self._unmet_by_service_account(caller, shown, when, facts)
        if form in BEARERS and not missing:
            missing += self._out_of_time()
            unmet += _unmet(shown, facts.get, claims=True)
        unmet += _unmet(when, facts.get)
        return ground, missing, unmet

    def _unmet_by_service_account(
        self, caller: Caller, shown: Conditions, when: Conditions, facts: Facts
    ) -> list[Unmet]:
        """What keeps a workload's tokens of its service accounts from passing, by the one that comes nearest.

        It asks its cluster for a token for whatever audience is wanted.
        """
        found: list[list[Unmet]] = []
        for subject in service_account_subjects(self.compiled, caller.address):
            for audience in audiences_for((*shown, *when)):
                claims = {"claims.sub": subject, "claims.aud": audience}

                def get(name: str, claims: Mapping[str, Value] = claims) -> Value:
                    return claims.get(name) if name.startswith("claims.") else facts.get(name)

                found.append([*_unmet(shown, get, claims=True), *_unmet(when, get)])
        return min(found, key=len)

    def _not_admitted(self, number: int, caller: Caller, target: Target) -> Iterator[str]:
        """Why a trust does not admit this caller, in words; nothing where it does."""
        for lack in lacks(self.compiled, number, self._applicant(caller), target.chain[0], target.address):
            form, whom = self.compiled.tables.trust_form[number], self.compiled.tables.trust_whom[number]
            origin = self.question.origin
            here = caller.address or f"the bearer of {article(origin.form)} of {origin.whom}"
            named = whom.pattern if isinstance(whom, Glob) else whom
            yield LACK_WORDS[lack].format(
                here=here, form=article(form), whom=named, shown=f"{article(origin.form)} of {origin.whom}",
                fits="does not match" if isinstance(whom, Glob) else "is not",
            )  # fmt: skip

    def _applicant(self, caller: Caller) -> Applicant:
        if caller.form == "bearer":
            return Applicant(self.question.origin.form, "", NONE, issuer=self.question.origin.whom)
        return Applicant(caller.form, caller.address, caller.number, caller.principals[1:])

    def _out_of_time(self) -> Iterator[str]:
        """RFC 7519, sections 4.1.4 and 4.1.5: a token that has ended, or is not good yet, admits nobody."""
        shown = self.question.origin.shows
        ends, begins = shown.get("exp"), shown.get("nbf")
        if isinstance(ends, int | float) and not isinstance(ends, bool) and ends <= self.instant:
            yield "the token has ended"
        if isinstance(begins, int | float) and not isinstance(begins, bool) and begins > self.instant:
            yield "the token is not good yet"

    def _granted(self, side: VerdictStep, caller: Caller, target: Target, permission: int, facts: Facts) -> StepOutcome:
        """A grant on the owner's or on the caller's side."""
        compiled = self.compiled
        grounds: list[Ground] = []
        misses: list[Miss] = []
        candidates = compiled.grants_between(caller.principals, target.chain)
        own = compiled.places.account[caller.number] if caller.number != NONE else NONE
        for number in candidates:
            lacks: list[str] = []
            if not self._role_allows(number, permission):
                lacks.append(self._role_lack(number, permission))
            if not self._held_on(side, number, target, own):
                holder = compiled.tables.grant_holder[number]
                lacks.append(f"it is held by {holder}, which is not on the {side.removesuffix('-side')} side")
            if compiled.grant_until[number] <= self.instant:
                lacks.append("it has ended")
            unmet = _unmet(compiled.grant_when(number), facts.get)
            if lacks or unmet:
                misses.append(Miss(self._grant_ground(number), tuple(lacks), tuple(unmet)))
            else:
                grounds.append(self._grant_ground(number))
        if grounds:
            return StepOutcome(side, Outcome.ALLOWED, tuple(grounds))
        misses += self._elsewhere(caller, target, permission, len(misses))
        misses.sort(key=lambda miss: len(miss.lacks) + len(miss.unmet))
        return StepOutcome(side, Outcome.REFUSED, (), tuple(misses[:MISSES]))

    def _role_allows(self, number: int, permission: int) -> bool:
        return bool(self.compiled.role_allows[self.compiled.grant_role[number], permission])

    def _role_lack(self, number: int, permission: int) -> str:
        kind, verb = self.compiled.permission_pairs[permission]
        return f"{self.compiled.tables.grant_role[number]} does not allow {verb} on {article(kind)}"

    def _held_on(self, side: VerdictStep, number: int, target: Target, own: int) -> bool:
        """Whether a grant's holder is on the owner's side of a target, or on the side of the caller's account."""
        compiled = self.compiled
        holder = int(compiled.grant_holder[number])
        if side is VerdictStep.TARGET_SIDE:
            return compiled.inside(holder, target.chain[0])
        return own != NONE and compiled.inside(holder, own)

    def _grant_ground(self, number: int) -> Ground:
        tables = self.compiled.tables
        text = f"the grant of {tables.grant_role[number]} to {tables.grant_to[number]} at {tables.grant_at[number]}"
        return Ground(text, self.compiled.estate.grants[number].source, number)

    def _elsewhere(self, caller: Caller, target: Target, permission: int, known: int) -> list[Miss]:
        """Grants to the caller that would do, but for the place they are at."""
        if known >= MISSES:
            return []
        compiled = self.compiled
        found: list[Miss] = []
        for principal in caller.principals[:LOOKED_AT]:
            for number in compiled.grants_to(principal, LOOKED_AT):
                place = int(compiled.grant_at[number])
                if place in target.chain or not self._role_allows(number, permission):
                    continue
                lacks = [f"it is at {compiled.places.names[place]}"]
                lacks += ["it has ended"] if compiled.grant_until[number] <= self.instant else []
                found.append(Miss(self._grant_ground(number), tuple(lacks)))
                if len(found) >= MISSES:
                    return found
        return found

    # caller

    def _callers_side(
        self, caller: Caller, verb: str, target: Target, permission: int, facts: Facts, owner: StepOutcome
    ) -> StepOutcome:
        compiled = self.compiled
        own = compiled.places.account[caller.number] if caller.number != NONE else NONE
        if caller.form != "identity" or own == NONE:
            return StepOutcome(VerdictStep.CALLER_SIDE, Outcome.NOT_NEEDED)
        same_provider = int(compiled.provider[caller.number]) == target.provider != NONE
        crossing = same_provider and target.account not in (NONE, own) and bool(compiled.two_sided[target.provider])
        admitting = [ground.number for ground in owner.grounds if ground.number is not None]
        forms = {compiled.tables.trust_form[number] for number in admitting} if verb == "take-on" else set()
        if not crossing and forms != {"account"}:
            return StepOutcome(VerdictStep.CALLER_SIDE, Outcome.NOT_NEEDED)
        return self._let_out(caller, target, permission, facts)

    def _let_out(self, caller: Caller, target: Target, permission: int, facts: Facts) -> StepOutcome:
        """The caller's side, whether it is needed or not, of an identity of an account."""
        compiled = self.compiled
        own = compiled.places.account[caller.number] if caller.number != NONE else NONE
        if own in compiled.theirs:
            text = f"{compiled.places.names[own]} is administered by others; its half is taken as given"
            return StepOutcome(VerdictStep.CALLER_SIDE, Outcome.THEIRS, (Ground(text),))
        return self._granted(VerdictStep.CALLER_SIDE, caller, target, permission, facts)

    # companions

    def _companions(self, caller: Caller, verb: str, target: Target, onto: str | None) -> StepOutcome:
        requests = tuple(self._companion_requests(caller, verb, target, onto))
        if not requests:
            return StepOutcome(VerdictStep.COMPANIONS, Outcome.NOT_NEEDED)
        refused = any(request.refused_at for request in requests)
        allowed = all(request.allowed for request in requests)
        outcome = Outcome.REFUSED if refused else Outcome.ALLOWED if allowed else Outcome.UNKNOWN
        return StepOutcome(VerdictStep.COMPANIONS, outcome, within=requests)

    def _companion_requests(self, caller: Caller, verb: str, target: Target, onto: str | None) -> Iterator[Request]:
        """What else must be allowed, as judged."""
        compiled, names = self.compiled, self.compiled.places.names
        for companion in compiled.catalogue.companions_of(target.kind, verb):
            if companion.on == RESOURCE:
                if onto is not None:
                    yield self.request(caller, companion.also, onto, None)
            elif companion.on == ORGANISATION:
                person, there = self._person_behind(), compiled.places.organisation[target.chain[0]]
                if person and there != NONE and names[there][1:] != organisation_at(compiled, person):
                    at = provider_at(compiled, caller.address, target.chain)
                    yield self.request(self._identity(person), companion.also, names[there], None, beside=at)
            else:
                for place in companion_places(compiled, companion, target.chain, target.address):
                    yield self.request(caller, companion.also, names[place], None)

    def _person_behind(self) -> str:
        """The person whose sign-in or keyed credential the chain began with; '' where there is none."""
        origin = self.question.origin
        if origin.form == Form.PERSON:
            return origin.whom
        credential = self.compiled.estate.credentials.get(origin.whom) if origin.form == Form.CREDENTIAL else None
        if credential is None:
            return ""
        number = self.compiled.find(credential.of)
        return credential.of if number != NONE and self.compiled.is_person[number] else ""

    # session

    def _session(self, caller: Caller, permission: int) -> StepOutcome:
        kind, verb = self.compiled.permission_pairs[permission]
        faults = []
        if any(not narrowing >> permission & 1 for narrowing in caller.narrowings):
            faults.append(Ground(f"the session is narrowed, and {verb} on {article(kind)} is not left in it"))
        if caller.runs_out is not None and self.age >= caller.runs_out:
            text = f"the session lasts {duration_text(caller.runs_out)}, and is {duration_text(self.age)} old"
            faults.append(Ground(text))
        if faults:
            return StepOutcome(VerdictStep.SESSION, Outcome.REFUSED, tuple(faults))
        return StepOutcome(VerdictStep.SESSION, Outcome.ALLOWED if caller.has_session else Outcome.NOT_NEEDED)


def _unmet(
    conditions: Conditions, get: Callable[[str], Value], *, claims: bool = False, unknown_only: bool = False
) -> list[Unmet]:
    """The tests that do not hold, with what was found."""
    out = []
    for attribute, test in conditions:
        name = f"claims.{attribute}" if claims else attribute
        found = get(name)
        truth = passes(test, found)
        if truth is None or (truth is False and not unknown_only):
            out.append(Unmet(name, test, found, truth))
    return out

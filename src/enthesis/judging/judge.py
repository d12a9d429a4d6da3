"""Judges a question: every hop and the attempt, in seven steps each, on after a refusal, with the grounds."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta

from enthesis.judging.compiling import NONE, Barred, Compiled
from enthesis.judging.facts import Facts, kind_name, organisation_at
from enthesis.judging.questions import BEARERS, RESOURCES, Question
from enthesis.judging.verdicts import (
    ALLOWED,
    NOT_NEEDED,
    REFUSED,
    STEPS,
    THEIRS,
    UNKNOWN,
    Ground,
    Miss,
    Request,
    Step,
    Unmet,
    Verdict,
)
from enthesis.model.addresses import account_of, article, parse
from enthesis.model.conditions import Conditions, Glob
from enthesis.model.mistakes import AddressMistake, Source
from enthesis.reading.shapes import duration_text, nearest, time_text
from enthesis.trusting.patterns import matcher
from enthesis.trusting.truth import hold, passes

MISSES = 4  # near-misses told at the most, a step
LOOKED_AT = 60  # grants of one principal that are looked at for near-misses
NOTHING = timedelta(0)


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
        asked: list[tuple[str, str, str | None]] = [("take-on", hop.identity, None) for hop in question.through]
        if question.attempt is not None:
            asked.append((question.attempt.verb, question.attempt.target, question.attempt.onto))
        requests: list[Request] = []
        for number, (verb, target, onto) in enumerate(asked):
            self.first = number == 0
            self.age = _age(question.context.session_age, last=number == len(asked) - 1)
            request = self.request(caller, verb, target, onto, is_hop=number < len(question.through))
            if number < len(question.through):
                caller, request = self._taken_on(caller, number, request)
            requests.append(request)
        return Verdict(question, tuple(requests))

    # -- callers --------------------------------------------------------------------------------------------------

    def _bearer(self) -> Caller:
        origin = self.question.origin
        if origin.form in BEARERS:
            return Caller("bearer", "", NONE)
        if origin.form in RESOURCES:
            return Caller("resource", origin.whom, self.compiled.find(origin.whom))
        if origin.form == "credential":
            credential = self.compiled.estate.credentials.get(origin.whom)
            return self._identity(credential.of if credential else origin.whom)
        return self._identity(origin.whom, has_session=origin.form == "identity")

    def _identity(self, address: str, *, has_session: bool = False) -> Caller:
        number = self.compiled.find(address)
        principals = (number, *self.compiled.groups_of(number)) if number != NONE else ()
        return Caller("identity", address, number, principals, has_session=has_session)

    def _taken_on(self, caller: Caller, number: int, request: Request) -> tuple[Caller, Request]:
        """The caller that a hop gives, whether or not it was allowed, and the request with the life it got."""
        hop = self.question.through[number]
        tables = self.compiled.tables
        runs_out, life = caller.runs_out, caller.life
        admitting = [ground.number for ground in request.step("owner").grounds if ground.number is not None]
        if admitting:
            lengths = [timedelta(seconds=tables.trust_session[trust]) for trust in admitting]
            runs_out = min(max(lengths), runs_out) if runs_out is not None else max(lengths)
            own = max(
                min(length, timedelta(seconds=tables.trust_until[trust] - self.instant))
                if trust in tables.trust_until
                else length
                for trust, length in zip(admitting, lengths, strict=True)
            )
            life = min(own, life) if life is not None else own
            request = replace(request, life=life)
        narrowings = caller.narrowings
        if hop.narrowed is not None:
            listed = self.compiled.catalogue.permissions(hop.narrowed, power_included=False)
            narrowings = (*narrowings, self.compiled.mask(listed))
        after = replace(
            self._identity(hop.identity), narrowings=narrowings, runs_out=runs_out, life=life, has_session=True
        )
        return after, request

    # -- one request ----------------------------------------------------------------------------------------------

    def request(self, caller: Caller, verb: str, address: str, onto: str | None, *, is_hop: bool = False) -> Request:
        """All seven steps, whatever the earlier ones say."""
        compiled = self.compiled
        unknown = list(self._unknown_names(caller, verb, address, onto))
        if unknown:
            texts = tuple(Ground(text) for text, _ in unknown)
            close = tuple(dict.fromkeys(name for _, names in unknown for name in names))
            steps = [Step("names", REFUSED, texts, nearest=close)]
            steps += [Step(name, UNKNOWN) for name in STEPS[1:]]
            return Request(caller.address, verb, address, onto, tuple(steps), is_hop)
        chain = tuple(compiled.chain_of(address))
        account = compiled.places.account[chain[0]]
        target = Target(address, kind_name(compiled, address) or "", chain, account, int(compiled.provider[chain[0]]))
        facts = Facts(compiled, self.question, caller.address, list(chain), first=self.first, age=self.age)
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
        return Request(caller.address, verb, address, onto, tuple(steps), is_hop)

    # names

    def _unknown_names(
        self, caller: Caller, verb: str, address: str, onto: str | None
    ) -> Iterator[tuple[str, tuple[str, ...]]]:
        """What is named and is not there, each with the nearest known names."""
        compiled, origin = self.compiled, self.question.origin
        estate = compiled.estate
        if origin.form in BEARERS and origin.whom not in estate.issuers:
            yield f"no issuer is called {origin.whom}", nearest(origin.whom, estate.issuers)
        elif origin.form == "credential" and origin.whom not in estate.credentials:
            yield f"no credential is called {origin.whom}", nearest(origin.whom, estate.credentials)
        elif caller.form == "identity" and not self._is_identity(caller.address):
            yield f"no identity is called {caller.address}", self._close(caller.address, identities=True)
        elif origin.form in (*RESOURCES, "person", "identity") and not self._origin_exists():
            yield f"nothing is called {origin.whom}", self._close(origin.whom)
        if verb == "take-on" and not self._is_identity(address):
            yield f"no identity is called {address}", self._close(address, identities=True)
            return
        if not compiled.exists(address):
            yield f"nothing is called {address}", self._close(address)
            return
        kind = kind_name(compiled, address) or ""
        verbs = compiled.catalogue.verbs_of(kind)
        if verb not in verbs:
            text = f"{verb} is no verb of {article(kind)}; those are {', '.join(sorted(verbs))}"
            yield text, nearest(verb, verbs)
        if onto is not None and not compiled.exists(onto):
            yield f"nothing is called {onto}", self._close(onto)

    def _origin_exists(self) -> bool:
        origin = self.question.origin
        if origin.form in RESOURCES:
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
                return tuple(one + rest for one in self._close(place.parent) if compiled.exists(one + rest))
        except AddressMistake:
            pass
        account, last = account_of(address), address.rsplit("/", 1)[-1]
        names = compiled.tables.identities if identities else compiled.places.names
        alike = [name for name in names if name.endswith("/" + last) or (account and name.startswith(account + "/"))]
        return nearest(address, alike[:2000]) or nearest(address, names[:5000])

    def _names(self, caller: Caller, target: Target, facts: Facts) -> Step:
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
        if origin.form == "credential":
            credential = compiled.estate.credentials[origin.whom]
            if credential.disabled:
                faults.append(Ground(f"the credential {origin.whom} is disabled", credential.source))
            if credential.expires is not None and credential.expires <= self.question.time:
                text = f"the credential {origin.whom} lapsed at {time_text(credential.expires)}"
                faults.append(Ground(text, credential.source))
            if hold(credential.when, facts.get) is not True:
                ground = Ground(f"the credential {origin.whom} is bound to a condition", credential.source)
                faults.append(ground)
                misses.append(Miss(ground, unmet=tuple(_unmet(credential.when, facts))))
        return Step("names", REFUSED if faults else ALLOWED, tuple(faults), tuple(misses))

    def _source(self, section: str, name: str) -> Source | None:
        found = getattr(self.compiled.estate, section).get(name)
        source: Source | None = found.source if found is not None else None
        return source

    # provider

    def _provider(self, caller: Caller, verb: str, target: Target) -> Step:
        compiled = self.compiled
        if verb == "take-on":
            return Step("provider", ALLOWED)
        if target.provider == NONE:
            return Step("provider", NOT_NEEDED)
        there = compiled.provider_names[target.provider]
        if caller.form == "bearer":
            text = f"a {self.question.origin.form} opens nothing at {there} by itself: take on an identity there first"
            return Step("provider", REFUSED, (Ground(text),))
        if caller.number != NONE and compiled.is_person[caller.number]:
            return Step("provider", ALLOWED)
        chain = compiled.chain_of(caller.address)
        own = int(compiled.provider[chain[0]]) if chain else NONE
        if own == target.provider:
            return Step("provider", ALLOWED)
        known = compiled.provider_names[own] if own != NONE else "no provider"
        text = f"{caller.address} is known at {known} and not at {there}: take on an identity there first"
        return Step("provider", REFUSED, (Ground(text),))

    # ceilings

    def _ceilings(self, caller: Caller, target: Target, permission: int, facts: Facts) -> Step:
        compiled = self.compiled
        if not compiled.ceilings_at:
            return Step("ceilings", NOT_NEEDED)
        callers = compiled.chain_of(caller.address) if caller.address else []
        found = False
        barring: list[Ground] = []
        misses: list[Miss] = []
        for over, chain in (("callers", callers), ("resources", target.chain)):
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
                        misses.append(Miss(ground, unmet=tuple(_unmet(barred.ceiling.when, facts, unknown_only=True))))
        if barring:
            return Step("ceilings", REFUSED, tuple(barring), tuple(misses))
        return Step("ceilings", ALLOWED if found else NOT_NEEDED)

    @staticmethod
    def _excepted(barred: Barred, caller: Caller, callers: Sequence[int]) -> bool:
        return bool(caller.address) and barred.leaves_alone(caller.address, barred.place in callers)

    @staticmethod
    def _ceiling_ground(barred: Barred) -> Ground:
        ceiling = barred.ceiling
        return Ground(f"the ceiling {ceiling.name} over {ceiling.over} at {ceiling.at}", ceiling.source)

    # owner

    def _owner(self, caller: Caller, verb: str, target: Target, permission: int, facts: Facts) -> Step:
        if verb == "take-on":
            return self._admitted(caller, target, facts)
        return self._granted("owner", caller, target, permission, facts)

    def _admitted(self, caller: Caller, target: Target, facts: Facts) -> Step:
        compiled = self.compiled
        grounds: list[Ground] = []
        misses: list[Miss] = []
        for number in compiled.trusts_of(target.chain[0]):
            ground, lacks, unmet = self._admits(number, caller, target, facts)
            if lacks or unmet:
                misses.append(Miss(ground, tuple(lacks), tuple(unmet)))
            else:
                grounds.append(ground)
        if grounds:
            return Step("owner", ALLOWED, tuple(grounds))
        misses.sort(key=lambda miss: (len(miss.lacks), len(miss.unmet)))
        if not misses:
            return Step("owner", REFUSED, (Ground(f"{target.address} has no trust at all"),))
        return Step("owner", REFUSED, (), tuple(misses[:MISSES]))

    def _admits(
        self, number: int, caller: Caller, target: Target, facts: Facts
    ) -> tuple[Ground, list[str], list[Unmet]]:
        """The trust, and what keeps it from admitting this caller."""
        tables = self.compiled.tables
        form, whom = tables.trust_form[number], tables.trust_whom[number]
        source = tables.trust(number).source
        ground = Ground(f"the trust of {target.address} in {_admitted_words(form, whom)}", source, number)
        lacks = list(self._not_admitted(form, whom, caller, target))
        unmet: list[Unmet] = []
        if tables.trust_until.get(number, float("inf")) <= self.instant:
            lacks.append("it has ended")
        if form in BEARERS and not lacks:
            lacks += self._out_of_time()
            unmet += _unmet(self.compiled.trust_shown(number), facts, claims=True)
        unmet += _unmet(self.compiled.trust_when(number), facts)
        return ground, lacks, unmet

    def _not_admitted(self, form: str, whom: str | Glob | bool, caller: Caller, target: Target) -> Iterator[str]:
        """Why a trust of this form does not admit this caller; nothing where it does."""
        compiled, origin = self.compiled, self.question.origin
        here = caller.address or f"the bearer of a {origin.form} of {origin.whom}"
        if form in BEARERS:
            if caller.form != "bearer":
                yield f"it admits bearers of a {form}, and {here} shows none"
            elif (origin.form, origin.whom) != (form, whom):
                yield f"it admits bearers of a {form} of {whom}, and this is a {origin.form} of {origin.whom}"
        elif form == "attached":
            yield from self._not_attached(whom, caller, target)
        elif caller.form != "identity":
            yield f"it does not admit {here}"
        elif form in ("identity", "person"):
            if caller.address != whom:
                yield f"it does not admit {here}"
        elif not self._at_home(caller, target):
            yield f"{here} is of another provider, which vouches for single identities only"
        elif form == "group":
            if compiled.find(str(whom)) not in caller.principals[1:]:
                yield f"{here} is not in {whom}"
        elif account_of(caller.address) != whom:
            yield f"{here} is not of the account {whom}"

    def _at_home(self, caller: Caller, target: Target) -> bool:
        if self.compiled.is_person[caller.number]:
            return True
        return int(self.compiled.provider[caller.number]) == target.provider

    def _not_attached(self, whom: str | Glob | bool, caller: Caller, target: Target) -> Iterator[str]:
        here = caller.address or f"the bearer of a {self.question.origin.form}"
        if caller.form != "resource":
            yield f"it admits what runs as it, and {here} is no resource"
            return
        if target.chain[0] not in self.compiled.runs(caller.address):
            yield f"{here} does not run as it"
        if whom is True:
            if account_of(caller.address) != account_of(target.address):
                yield f"{here} is of another account"
        elif isinstance(whom, Glob):
            if not matcher(whom.pattern)(caller.address):
                yield f"{here} does not match {whom.pattern}"
        elif whom != caller.address:
            yield f"{here} is not {whom}"

    def _out_of_time(self) -> Iterator[str]:
        """RFC 7519, sections 4.1.4 and 4.1.5: a token that has ended, or is not good yet, admits nobody."""
        shown = self.question.origin.shows
        ends, begins = shown.get("exp"), shown.get("nbf")
        if isinstance(ends, int | float) and not isinstance(ends, bool) and ends <= self.instant:
            yield "the token has ended"
        if isinstance(begins, int | float) and not isinstance(begins, bool) and begins > self.instant:
            yield "the token is not good yet"

    def _granted(self, side: str, caller: Caller, target: Target, permission: int, facts: Facts) -> Step:
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
                lacks.append(f"it is held by {holder}, which is not on the {side}'s side")
            if compiled.grant_until[number] <= self.instant:
                lacks.append("it has ended")
            unmet = _unmet(compiled.grant_when(number), facts)
            if lacks or unmet:
                misses.append(Miss(self._grant_ground(number), tuple(lacks), tuple(unmet)))
            else:
                grounds.append(self._grant_ground(number))
        if grounds:
            return Step(side, ALLOWED, tuple(grounds))
        misses += self._elsewhere(caller, target, permission, len(misses))
        misses.sort(key=lambda miss: len(miss.lacks) + len(miss.unmet))
        return Step(side, REFUSED, (), tuple(misses[:MISSES]))

    def _role_allows(self, number: int, permission: int) -> bool:
        return bool(self.compiled.role_allows[self.compiled.grant_role[number], permission])

    def _role_lack(self, number: int, permission: int) -> str:
        kind, verb = self.compiled.permission_pairs[permission]
        return f"{self.compiled.tables.grant_role[number]} does not allow {verb} on {article(kind)}"

    def _held_on(self, side: str, number: int, target: Target, own: int) -> bool:
        """Whether a grant's holder is on the owner's side of a target, or on the side of the caller's account."""
        compiled = self.compiled
        holder = int(compiled.grant_holder[number])
        if side == "owner":
            return compiled.inside(holder, target.chain[0])
        return own != NONE and compiled.inside(holder, own)

    def _grant_ground(self, number: int) -> Ground:
        tables = self.compiled.tables
        text = f"the grant of {tables.grant_role[number]} to {tables.grant_to[number]} at {tables.grant_at[number]}"
        return Ground(text, tables.grant(number).source, number)

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
        self, caller: Caller, verb: str, target: Target, permission: int, facts: Facts, owner: Step
    ) -> Step:
        compiled = self.compiled
        own = compiled.places.account[caller.number] if caller.number != NONE else NONE
        if caller.form != "identity" or own == NONE:
            return Step("caller", NOT_NEEDED)
        same_provider = int(compiled.provider[caller.number]) == target.provider != NONE
        crossing = same_provider and target.account not in (NONE, own) and bool(compiled.two_sided[target.provider])
        admitting = [ground.number for ground in owner.grounds if ground.number is not None]
        forms = {compiled.tables.trust_form[number] for number in admitting} if verb == "take-on" else set()
        if not crossing and forms != {"account"}:
            return Step("caller", NOT_NEEDED)
        if own in compiled.theirs:
            text = f"{compiled.places.names[own]} is administered by others; its half is taken as given"
            return Step("caller", THEIRS, (Ground(text),))
        return self._granted("caller", caller, target, permission, facts)

    # companions

    def _companions(self, caller: Caller, verb: str, target: Target, onto: str | None) -> Step:
        asked = list(self._companion_requests(caller, verb, target, onto))
        never = [ground for ground, _ in asked if ground is not None]
        requests = tuple(request for _, request in asked if request is not None)
        if not asked:
            return Step("companions", NOT_NEEDED)
        allowed = not never and all(request.allowed for request in requests)
        return Step("companions", ALLOWED if allowed else REFUSED, tuple(never), within=requests)

    def _companion_requests(
        self, caller: Caller, verb: str, target: Target, onto: str | None
    ) -> Iterator[tuple[Ground | None, Request | None]]:
        """What else must be allowed: the reason why it never is, or the request as judged."""
        compiled = self.compiled
        its_class = compiled.catalogue.verbs_of(target.kind)[verb]
        if its_class in ("read", "write"):
            key = next((compiled.key_above[place] for place in target.chain if place in compiled.key_above), NONE)
            if key != NONE:
                name = compiled.places.names[key]
                own = account_of(caller.address)
                if key in compiled.key_by_provider and own != account_of(name):
                    text = f"{name} is managed by the provider: no caller of another account, or of none, can use it"
                    yield Ground(text, self._source("resources", name)), None
                yield None, self.request(caller, "decrypt" if its_class == "read" else "encrypt", name, None)
        if its_class == "run":
            for identity in compiled.runs(target.address):
                yield None, self.request(caller, "use", compiled.places.names[identity], None)
        if verb == "attach" and onto is not None:
            yield None, self.request(caller, "configure", onto, None)
        origin = self.question.origin
        if origin.form == "person" and verb != "enter":
            there = compiled.places.organisation[target.chain[0]]
            mine = organisation_at(compiled, origin.whom)
            if there != NONE and compiled.places.names[there][1:] != mine:
                person = self._identity(origin.whom)
                yield None, self.request(person, "enter", compiled.places.names[there], None)

    # session

    def _session(self, caller: Caller, permission: int) -> Step:
        kind, verb = self.compiled.permission_pairs[permission]
        faults = []
        if any(not narrowing >> permission & 1 for narrowing in caller.narrowings):
            faults.append(Ground(f"the session is narrowed, and {verb} on {article(kind)} is not left in it"))
        if caller.runs_out is not None and self.age >= caller.runs_out:
            text = f"the session lasts {duration_text(caller.runs_out)}, and is {duration_text(self.age)} old"
            faults.append(Ground(text))
        if faults:
            return Step("session", REFUSED, tuple(faults))
        return Step("session", ALLOWED if caller.has_session else NOT_NEEDED)


def _unmet(conditions: Conditions, facts: Facts, *, claims: bool = False, unknown_only: bool = False) -> list[Unmet]:
    """The tests that do not hold, with what was found."""
    out = []
    for attribute, test in conditions:
        name = f"claims.{attribute}" if claims else attribute
        found = facts.get(name)
        truth = passes(test, found)
        if truth is None or (truth is False and not unknown_only):
            out.append(Unmet(name, test, found, truth))
    return out


def _admitted_words(form: str, whom: str | Glob | bool) -> str:
    """Whom a trust admits, in words, without its claims."""
    if form in BEARERS:
        return f"{article(form)} of {whom}"
    if form == "account":
        return f"any identity that {whom} lets"
    if form == "attached":
        return "whatever runs as it" if whom is True else f"{whom.pattern if isinstance(whom, Glob) else whom}"
    return f"anyone in {whom}" if form == "group" else str(whom)

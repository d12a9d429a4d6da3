"""Runs journeys with real credentials, those that must fail too, and says whether each ended as expected."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from time import monotonic
from typing import Any, Protocol

from enthesis.access.attributes import audiences_for, service_accounts_of
from enthesis.access.compiling import compile_estate
from enthesis.access.questions import is_keyless, question_of
from enthesis.live.credential_release import shown_to, take_on
from enthesis.model.addresses import (
    account_of,
    article,
    contains,
    is_pool,
    parse,
    pool_of,
    service_account_subject,
)
from enthesis.model.errors import EnthesisError, InvalidInput, Unreachable
from enthesis.model.escapes import word
from enthesis.model.estate import Attempt, Claims, Context, Estate, Hop, Journey, KindVerbs
from enthesis.model.vocabulary import Ending, Form, Outcome, VerdictStep
from enthesis.ports import (
    CertifiesLogins,
    Connected,
    Done,
    HeldCredential,
    IssuesAssertions,
    ListsResources,
    LiveClusterPorts,
    LiveDatabase,
    Refusal,
    Reporter,
    RunsCode,
    RunsHosts,
    StartsSessions,
    Surroundings,
    TakesAssertions,
    TakesKeys,
    TakesOn,
    attempting,
)
from enthesis.text.times import duration_text
from enthesis.verdicts.expectations import Seen, expectation_unmet, judge_journey, some
from enthesis.verdicts.judge import Judge
from enthesis.verdicts.waiting import waiting_for

SEATS = ("workload", "host", "resource")
ORIGINS = {
    "workload": "the workload",
    "host": "the host",
    "person": "the sign-in of",
    "credential": "the credential",
    "identity": "a session as",
}
TAKE_ON = "take on "
BY_REGISTRY = ("pull", "list", "push")  # what is done to an image at its registry, where that has a server
MEMBERS = 50  # of a pool, that a journey is tried from without being told how many
HALF_WAY = timedelta(minutes=10)  # how long a session lives that a journey starts with
NO_SERVER = "server-absent"  # what says that a server which is needed does not run
REFUSED_PLAINLY = "access is refused"  # what a lab says of a refusal without more


@dataclass(frozen=True, slots=True)
class Evidence:
    """One thing a proof saw: a hop or an attempt, and what came of it. It holds no secret."""

    what: str
    outcome: Ending
    said: str
    life: timedelta | None = None


@dataclass(frozen=True, slots=True)
class Proof:
    """What came of one journey. `unmet` is empty where it ended as expected, or waits for `others` to write a half."""

    journey: str
    expected: Ending
    outcome: Ending
    refused_at: tuple[VerdictStep, ...]
    keyless: bool | None
    shortest_life: timedelta | None
    evidence: tuple[Evidence, ...]
    unmet: tuple[str, ...]
    source: str
    others: tuple[str, ...] = ()
    took: float = 0.0  # seconds
    not_tried: str = ""  # why nothing was tried, where a server that it needs does not run
    members: str = ""  # of a journey about a pool, how many of its members it was tried from, and which differ

    @property
    def met(self) -> bool:
        """Whether it ended as expected; one that waits did not yet."""
        return not self.unmet and self.outcome != Ending.WAITING

    @property
    def told(self) -> str:
        """Why the live system says that it refused, as the end of a sentence; '' where it says no more than that."""
        steps = _at_steps(self.refused_at)
        refused = (seen.said.removesuffix(steps) for seen in self.evidence if seen.outcome == Ending.REFUSED)
        return "".join(f" ({said})" for said in refused if said != REFUSED_PLAINLY)

    def as_json(self) -> dict[str, Any]:
        """The proof as plain data; lives in seconds."""

        def seconds(life: timedelta | None) -> int | None:
            return None if life is None else int(life.total_seconds())

        return {
            "journey": self.journey,
            "source": self.source,
            "expected": self.expected,
            "outcome": self.outcome,
            "met": self.met,
            "unmet": list(self.unmet),
            **({"not_tried": self.not_tried} if self.not_tried else {}),
            "waiting_for": list(self.others),
            **({"members": self.members} if self.members else {}),
            "refused_at": list(self.refused_at),
            "keyless": self.keyless,
            "shortest_life_seconds": seconds(self.shortest_life),
            "evidence": [
                {
                    "what": evidence.what,
                    "outcome": evidence.outcome,
                    "said": evidence.said,
                    "life_seconds": seconds(evidence.life),
                }
                for evidence in self.evidence
            ],
        }


@dataclass(slots=True)
class _Run:
    """A journey under way."""

    evidence: list[Evidence] = field(default_factory=list)
    lives: list[timedelta] = field(default_factory=list)
    sessions: list[tuple[str, timedelta]] = field(default_factory=list)  # what hops gave, with the identity

    def got(self, what: str, credential: HeldCredential) -> None:
        if credential.form in SEATS:
            self.evidence.append(Evidence(what, Ending.ALLOWED, "where it runs, and nothing else"))
            return
        self.lives.append(credential.life)
        if what.startswith(TAKE_ON):
            self.sessions.append((what.removeprefix(TAKE_ON), credential.life))
        said = f"{article(credential.form)} that lives {duration_text(credential.life)}"
        self.evidence.append(Evidence(what, Ending.ALLOWED, said, credential.life))

    def ended(self, what: str, outcome: Done | Refusal) -> None:
        if isinstance(outcome, Done):
            self.evidence.append(Evidence(what, Ending.ALLOWED, outcome.said))
        else:
            self.evidence.append(Evidence(what, Ending.REFUSED, f"{outcome.said}{_at_steps(outcome.steps)}"))


def _at_steps(steps: Sequence[VerdictStep]) -> str:
    return f" at {', '.join(steps)}" if steps else ""


def prove(
    estate: Estate,
    journeys: Iterable[Journey],
    connected: Connected,
    instant: datetime,
    reporter: Reporter,
    members: int | None = None,
) -> tuple[Proof, ...]:
    """One proof a journey. One that could not be tried is undecided, which meets no expectation; one that was to be
    allowed and is refused for want of a half that others write is waiting. One about a pool is tried from every live
    member, or from so many `members`: InvalidInput where there are more than 50 and none is said."""
    listed = list(journeys)
    reporter.begin("proving", len(listed))
    proofs = []
    try:
        for journey in listed:
            reporter.step(journey.name)
            began = monotonic()
            if any(map(is_pool, (journey.origin.whom, *(hop.on for hop in journey.through)))):
                proof = _prove_pool(estate, journey, connected, instant, members)
            else:
                proof = _prove(estate, journey, connected, instant)
            proofs.append(replace(proof, took=monotonic() - began))
    finally:
        reporter.end()
    return tuple(proofs)


def _prove(estate: Estate, journey: Journey, connected: Connected, instant: datetime) -> Proof:
    run = _Run()
    refused_at: tuple[VerdictStep, ...] = ()
    not_tried = ""
    origin = journey.origin
    if origin.form == Form.IDENTITY and origin.whom in estate.identities and estate.administered_by_others(origin.whom):
        account = account_of(origin.whom)
        said = f"the administrators of {account} alone can call as it (at a lab: enthesis lab as {word(account)} -- …)"
        run.evidence.append(Evidence(f"{ORIGINS['identity']} {origin.whom}", Ending.WAITING, said))
        evidence, source = tuple(run.evidence), str(journey.source)
        return Proof(journey.name, journey.expect, Ending.WAITING, (), None, None, evidence, (), source, (account,))
    try:
        question_of(journey, instant)  # which refuses a journey that asks for nothing
        refusal = walk(estate, journey, connected, run)
        outcome = Ending.REFUSED if refusal else Ending.ALLOWED
        refused_at = refusal.steps if refusal else ()
    except EnthesisError as fault:
        outcome = Ending.UNDECIDED
        not_tried = fault.message if fault.code == NO_SERVER else ""
        run.evidence.append(Evidence("the proof itself", Ending.UNDECIDED, fault.message))
    keyless = is_keyless(journey.origin.form)
    unmet = tuple(_unmet(estate, journey, Seen(outcome, refused_at, tuple(run.sessions))))
    others: tuple[str, ...] = ()
    if outcome is Ending.REFUSED and journey.expect is Ending.ALLOWED:
        waiting = waiting_for(estate, question_of(journey, instant))
        if waiting.steps and set(refused_at) <= waiting.steps:
            outcome, unmet, others = Ending.WAITING, (), waiting.others
        elif VerdictStep.CEILINGS in refused_at:
            unmet = (*unmet, _which_ceiling(estate, journey, instant))
    return Proof(
        journey.name,
        journey.expect,
        outcome,
        refused_at,
        keyless,
        min(run.lives, default=None),
        tuple(run.evidence),
        unmet,
        str(journey.source),
        others,
        not_tried=not_tried,
    )


def _prove_pool(estate: Estate, journey: Journey, connected: Connected, instant: datetime, most: int | None) -> Proof:
    """One proof for every live member of a pool that a journey starts from, or runs code on. The one to come is
    judged."""
    source, keyless = str(journey.source), is_keyless(journey.origin.form)
    pool, *further = dict.fromkeys(filter(is_pool, (journey.origin.whom, *(hop.on for hop in journey.through))))
    judged = judge_journey(compile_estate(estate), journey, instant)
    come = [f"{one.whom} is judged, not tried: {one.verdict.ending}" for one in judged.members if one.to_come]
    if further:
        why = f"each member of {pool} with each of {further[0]} is not tried: name a member of one"
        seen = Evidence("the proof itself", Ending.UNDECIDED, why)
        return Proof(
            journey.name,
            journey.expect,
            Ending.UNDECIDED,
            (),
            keyless,
            None,
            (seen,),
            ("it could not be tried",),
            source,
        )
    live = _live_members(estate, pool, connected)
    if len(live) > MEMBERS and most is None:
        raise InvalidInput(
            f"{pool} has {len(live)} live members",
            code="members-many",
            remedy=f"say how many to try: --members {MEMBERS}",
        )
    chosen = live[:most] if most is not None else live
    if not chosen:
        seen = Evidence(pool, Ending.UNDECIDED, "not tried: it has no live member")
        return Proof(
            journey.name, journey.expect, Ending.UNDECIDED, (), keyless, None, (seen,),
            (f"not tried: {pool} has no live member",), source, members="; ".join(come),
        )  # fmt: skip
    proofs = {one: _prove(estate, _by_member(journey, pool, one), connected, instant) for one in chosen}
    doubtful = [one for one, proof in proofs.items() if not proof.met]
    there = set(_live_members(estate, pool, connected)) if doubtful else set(chosen)
    gone = [one for one in doubtful if one not in there]
    differ = {one: proofs[one] for one in doubtful if one in there}
    well = len(chosen) - len(doubtful)
    said = [f"{well} of {len(chosen)}" + (f" tried, of {len(live)}" if len(live) > len(chosen) else "")]
    said += [f"{one} is gone" for one in gone] + come
    first = next(iter(differ.values()), proofs[chosen[0]])
    alike: dict[str, list[str]] = {}
    for one, proof in differ.items():
        for why in proof.unmet:
            alike.setdefault(f"{why}{proof.told}", []).append(one.rpartition("/")[2])
    unmet = tuple(f"{some(whom)}: {why}" for why, whom in alike.items())
    more = tuple(why for why in judged.unmet if not differ and "member to come" in why)
    if not differ and len(gone) == len(chosen):
        unmet = (f"not tried: every member of {pool} was gone meanwhile",)
    return replace(first, journey=journey.name, unmet=(*unmet, *more), members="; ".join(said))


def _by_member(journey: Journey, pool: str, member: str) -> Journey:
    """A journey about a pool as one about a member of it."""
    origin = replace(journey.origin, whom=member) if journey.origin.whom == pool else journey.origin
    through = tuple(replace(hop, on=member) if hop.on == pool else hop for hop in journey.through)
    return replace(journey, origin=origin, through=through)


def from_one_member(estate: Estate, journey: Journey, connected: Connected) -> Journey:
    """The same journey from one live member, where it starts from a pool that has any."""
    if journey.origin.form != Form.HOST or not is_pool(journey.origin.whom):
        return journey
    live = _live_members(estate, journey.origin.whom, connected)
    return replace(journey, origin=replace(journey.origin, whom=live[0])) if live else journey


def _live_members(estate: Estate, pool: str, connected: Connected) -> list[str]:
    """The members that a pool has now; those that the files declare where no live system tells."""
    provider = provider_of(estate, pool, connected)
    there = provider.resources_in(account_of(pool)) if isinstance(provider, ListsResources) else estate.resources
    return sorted(one for one in there if pool_of(one) == pool)


class Seeing(Protocol):
    """Told what a walk sees, in its order."""

    def got(self, what: str, credential: HeldCredential) -> None:
        """Called with every credential that was obtained."""
        ...

    def ended(self, what: str, outcome: Done | Refusal) -> None:
        """Called with the outcome of every attempt."""
        ...


def walk(estate: Estate, journey: Journey, connected: Connected, seeing: Seeing) -> Refusal | None:
    """Origin, hops, attempt; answers the first refusal."""
    asked = asked_of(journey.context)
    credential = _obtained(estate, journey, connected)
    origin = f"{ORIGINS.get(journey.origin.form, f'{article(journey.origin.form)} from')} {journey.origin.whom}"
    if isinstance(credential, Refusal):
        seeing.ended(origin, credential)
        return credential
    seeing.got(origin, credential)
    taking_on = journey.attempt is not None and journey.attempt.verb == "take-on"
    last = (Hop(journey.attempt.target),) if journey.attempt is not None and taking_on else ()
    for hop in (*journey.through, *last):
        what = f"run code on {hop.on}" if hop.on else f"{TAKE_ON}{hop.identity}"
        got = _hopped(estate, journey, hop, credential, connected, asked)
        if isinstance(got, Refusal):
            seeing.ended(what, got)
            return got
        seeing.got(what, got)
        credential = got
    if journey.attempt is None or taking_on:
        return None
    if credential.form == "host":
        raise InvalidInput(
            f"{journey.origin.whom} has nothing to show before it takes on what it runs as: say `through`",
            code="journey-without-hop",
        )
    outcome = tried(estate, credential, journey.attempt, asked, connected)
    seeing.ended(f"{journey.attempt.verb} {journey.attempt.target}", outcome)
    return outcome if isinstance(outcome, Refusal) else None


def _hopped(
    estate: Estate, journey: Journey, hop: Hop, credential: HeldCredential, connected: Connected, asked: Surroundings
) -> HeldCredential | Refusal:
    """What a hop gives: by the service of a host where that asks, else by the provider."""
    if hop.on:
        return _run_on(estate, hop.on, credential, connected, asked)
    if credential.form == "host":
        taking: TakesOn = _hosts_of(estate, journey.origin.whom, connected)
    else:
        taking = provider_of(estate, hop.identity, connected)
    if credential.form == "workload" and estate.system_of(hop.identity) in estate.providers:
        return _by_service_account(estate, journey.origin.whom, hop, connected, asked)
    return take_on(taking, credential, hop.identity, hop.narrowed, asked, connected)


def _by_service_account(
    estate: Estate, workload: str, hop: Hop, connected: Connected, asked: Surroundings
) -> HeldCredential | Refusal:
    """What a workload gets at a cloud with the tokens that its cluster gives it for the service accounts it runs as.

    It asks for whatever audience a trust of the identity wants; the first token that is admitted counts.
    """
    compiled, provider = compile_estate(estate), provider_of(estate, hop.identity, connected)
    name = estate.issuer_of_workload(workload) or ""
    issuer, accounts = connected.issuers.get(name), service_accounts_of(compiled, workload)
    if issuer is None or not accounts:
        if compiled.places.index.get(hop.identity) in compiled.runs(workload):
            raise InvalidInput(
                f"nothing here hands {workload} a session as {hop.identity}, which it runs as", code="proof-impossible"
            )
        return Refusal((VerdictStep.TARGET_SIDE,), f"{workload} has no token of a service account to show")
    trusts = [trust for trust in estate.trusts if trust.of == hop.identity and trust.admits.whom == name]
    conditions_of = [(*trust.admits.conditions, *trust.when) for trust in trusts]
    wanted = [audience for conditions in conditions_of for audience in audiences_for(conditions, lambda name: None)]
    refusal: HeldCredential | Refusal = Refusal(
        (VerdictStep.TARGET_SIDE,), f"no trust of {hop.identity} admits {workload}"
    )
    cluster = connected.clusters.get(estate.issuers[name].cluster or "")
    for account in accounts:
        for audience in dict.fromkeys((*wanted, estate.system_of(hop.identity))):
            shown: HeldCredential | Refusal
            if cluster is not None and cluster is issuer:  # what runs as something else is given none
                shown = cluster.token_of(workload, account, str(audience))
            else:
                shown = issuer.obtain({"sub": service_account_subject(account), "aud": str(audience)})
            if isinstance(shown, Refusal):
                refusal = shown
                continue
            refusal = take_on(provider, shown, hop.identity, hop.narrowed, asked, connected)
            if not isinstance(refusal, Refusal):
                return refusal
    return refusal


def _run_on(
    estate: Estate, resource: str, credential: HeldCredential, connected: Connected, asked: Surroundings
) -> HeldCredential | Refusal:
    """Runs code on a resource: by login, or by the only verb that does."""
    if credential.form in ("host", "workload", "token", "assertion"):
        raise InvalidInput(
            f"{article(credential.form)} cannot run code on {resource}",
            code="proof-impossible",
            remedy="take on an identity first: name it in `through`",
        )
    _must_run(resource, connected)
    provider = provider_of(estate, resource, connected)
    if not isinstance(provider, RunsCode):
        raise InvalidInput(f"nothing known runs code on {resource} for a proof", code="system-not-connected")
    kind = parse(resource, estate.catalogue).kind
    fitting = shown_to(provider, credential, connected)
    if isinstance(fitting, Refusal):
        return fitting
    if resource in connected.logins:
        done = _logged_in(resource, provider, fitting, asked, connected)
        if isinstance(done, Refusal):
            return done
    return provider.run_on(fitting, resource, estate.catalogue.running_verb(kind) or "login", asked)


def _must_run(place: str, connected: Connected) -> None:
    """Continues where no server of its own that a place stands in failed to start; Unreachable where one did."""
    for address, why in connected.absent.items():
        if contains(address, place):
            raise Unreachable(
                f"not tried: {why}", code="server-absent", remedy="find the cause in its log, then: enthesis lab start"
            )


def _logged_in(
    host: str, provider: object, session: HeldCredential, asked: Surroundings, connected: Connected
) -> Done | Refusal:
    """A login at a host's own server, with a certificate of its provider."""
    if not isinstance(provider, CertifiesLogins):
        raise InvalidInput(f"nothing known certifies logins at {host}", code="system-not-connected")
    return connected.logins[host].log_in(provider, session, asked)


def tried(
    estate: Estate,
    credential: HeldCredential,
    attempt: Attempt,
    asked: Surroundings,
    connected: Connected,
    narrowed: KindVerbs | None = None,
) -> Done | Refusal:
    """An attempt with a credential; taking on is let go of at once."""
    if attempt.verb != "take-on":
        _must_run(attempt.target, connected)
        system = _database_at(estate, attempt.target, connected) or provider_of(estate, attempt.target, connected)
        fitting = shown_to(system, credential, connected)
        if isinstance(fitting, Refusal):
            return fitting
        if attempt.verb == "login" and attempt.target in connected.logins:
            return _logged_in(attempt.target, system, fitting, asked, connected)
        registry = next((one for name, one in connected.registries.items() if contains(name, attempt.target)), None)
        if registry is not None and attempt.verb in BY_REGISTRY:
            return registry.attempt(fitting, attempt, asked)
        name = estate.system_of(attempt.target)
        return attempting(system, name).attempt(fitting, attempt, asked)
    provider = provider_of(estate, attempt.target, connected)
    taken = take_on(provider, credential, attempt.target, narrowed, asked, connected)
    return taken if isinstance(taken, Refusal) else Done("a session was got, and let go")


def asked_of(context: Context) -> Surroundings:
    """What a journey says of its surroundings, as a request carries it.

    Raises:
        InvalidInput: The journey states a time or an age of sessions, which cannot be tried now.
    """
    for name in ("time", "session_age"):
        if name in context.said:
            raise InvalidInput(
                f"the journey is about another {name.replace('_', ' ')}, which cannot be tried now",
                code="journey-context-not-now",
            )
    network = str(context.network.network_address) if context.network is not None else None
    return Surroundings(network, context.reference)


def _obtained(estate: Estate, journey: Journey, connected: Connected) -> HeldCredential | Refusal:
    origin = journey.origin
    if origin.form == Form.HOST:
        return _hosts_of(estate, origin.whom, connected).seat(origin.whom)
    if origin.form == Form.PERSON:
        directory = connected.directories.get(origin.whom.split("/", 1)[0])
        if directory is None:
            raise InvalidInput(
                f"no connection is configured for the directory of {origin.whom}", code="system-not-connected"
            )
        return directory.sign_in_as(origin.whom, origin.mfa)
    if origin.form == Form.CREDENTIAL:
        return _by_key(estate, journey, connected)
    if journey.origin.form == Form.WORKLOAD:
        cluster = cluster_at(journey.origin.whom, connected)
        if cluster is None:
            raise InvalidInput(
                f"no connection is configured for the cluster of {journey.origin.whom}", code="system-not-connected"
            )
        return cluster.seat(journey.origin.whom)
    cluster = cluster_at(journey.origin.whom, connected)
    if journey.origin.form == Form.IDENTITY and cluster is not None:
        return replace(cluster.token_for(journey.origin.whom, HALF_WAY)[0], form="session")
    if journey.origin.form == Form.IDENTITY:
        return _session_as(estate, journey.origin.whom, connected)
    first = next((hop.identity for hop in journey.through if hop.identity), "")
    first = first or (journey.attempt.target if journey.attempt is not None else "")
    return token_from(estate, connected, journey.origin.whom, journey.origin.shows, first)


def _session_as(estate: Estate, identity: str, connected: Connected) -> HeldCredential | Refusal:
    """A session that begins at an identity, by the right of its administrators."""
    if identity not in estate.identities:
        return Refusal((VerdictStep.NAMES,), f"unknown identity {identity}")
    provider = provider_of(estate, identity, connected)
    if not isinstance(provider, StartsSessions):
        raise InvalidInput(f"nothing here obtains a session as {identity}", code="system-not-connected")
    return provider.session_as(identity)


def _by_key(estate: Estate, journey: Journey, connected: Connected) -> HeldCredential | Refusal:
    name = journey.origin.whom
    known, key = estate.credentials.get(name), connected.keys.get(name)
    if known is None:
        return Refusal((VerdictStep.NAMES,), f"unknown credential {name}")
    if key is None:
        raise InvalidInput(
            f"the value of the credential {name} is not at hand",
            code="system-not-connected",
            remedy=f"name its file with --credential {name}=FILE",
        )
    if known.of.startswith("@"):  # people are known at several providers: this one is asked first
        first = next((hop.identity or hop.on for hop in journey.through), "")
        provider = provider_of(estate, first or (journey.attempt.target if journey.attempt else known.of), connected)
    else:
        provider = provider_of(estate, known.of, connected)
    if not isinstance(provider, TakesKeys):
        raise InvalidInput(f"a cluster takes no keyed credential: {known.of} has none", code="proof-impossible")
    return provider.by_key(key)


def _hosts_of(estate: Estate, host: str, connected: Connected) -> RunsHosts:
    """The services of the hosts where a host is."""
    account = estate.accounts.get(account_of(host))
    found = connected.hosts.get(account.provider) if account is not None else None
    if found is None:
        raise InvalidInput(
            f"no connection is configured for the metadata service of {host}", code="system-not-connected"
        )
    return found


def token_from(estate: Estate, connected: Connected, issuer: str, claims: Claims, shown_at: str) -> HeldCredential:
    """What an issuer signs that shows these claims, to be shown for the place `shown_at`: an assertion is made for one
    recipient. NotIssued where there can be none."""
    found = connected.issuers.get(issuer)
    if found is None:
        raise InvalidInput(f"no connection is configured for the issuer {issuer}", code="system-not-connected")
    if not isinstance(found, IssuesAssertions):
        return found.obtain(claims)
    taking = provider_of(estate, shown_at, connected)
    if not isinstance(taking, TakesAssertions):
        raise InvalidInput(
            f"{estate.system_of(shown_at)} takes no assertions",
            code="proof-impossible",
            remedy="take on an identity of a provider first: name it in `through`",
        )
    return found.obtain_for(claims, taking.recipient)


def cluster_at(address: str, connected: Connected) -> LiveClusterPorts | None:
    """The cluster that a place is in, if one is known to speak to."""
    return next((one for name, one in connected.clusters.items() if contains(name, address)), None)


def _database_at(estate: Estate, address: str, connected: Connected) -> LiveDatabase | None:
    """The database with a server of its own that a place is in; None where it is in none."""
    system = estate.system_of(address) if account_of(address) in estate.accounts else ""
    if "/database/" not in system:
        return None
    if system not in connected.databases:
        raise InvalidInput(
            f"no connection is configured for the database {system}",
            code="system-not-connected",
            remedy=f"name a file with its connection string: --database {word(system)}=FILE",
        )
    return connected.databases[system]


def provider_of(estate: Estate, address: str, connected: Connected) -> TakesOn:
    """What a place is asked of: the cluster that it is in, or else the provider of its account."""
    cluster = cluster_at(address, connected)
    if cluster is not None:
        return cluster
    account = estate.accounts.get(account_of(address))
    if account is None:
        raise InvalidInput(f"no provider has {address}: its account is not in the estate", code="system-not-connected")
    found = connected.providers.get(account.provider)
    if found is None:
        raise InvalidInput(
            f"no connection is configured for the provider {account.provider}", code="system-not-connected"
        )
    return found


def _which_ceiling(estate: Estate, journey: Journey, instant: datetime) -> str:
    """Which ceiling refused, as far as the files say it, and what shows one that others wrote."""
    verdict = Judge(compile_estate(estate)).judge(question_of(journey, instant))
    steps = [step for request in verdict.requests for step in request.steps if step.name == VerdictStep.CEILINGS]
    grounds = [ground for step in steps if step.outcome is Outcome.REFUSED for ground in step.grounds]
    if grounds:
        return f"{grounds[0].text} refuses it ({grounds[0].source})"
    return (
        "no ceiling of these files refuses it, so one on the live side does that others wrote: `enthesis survey --out"
        f" live.jsonl`, then `enthesis trace --journey {word(journey.name)} --survey live.jsonl` names it"
    )


def _unmet(estate: Estate, journey: Journey, seen: Seen) -> Iterable[str]:
    """Why the expectation is not met, a sentence each."""
    if seen.outcome is Ending.UNDECIDED:
        return ("it could not be tried",)
    return expectation_unmet(estate, journey, seen)

"""Runs journeys with real credentials, those that must fail too, and says whether each ended as expected."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

from enthesis.errors import EnthesisError, Mistaken
from enthesis.model.addresses import account_of
from enthesis.model.estate import Context, Estate, Journey
from enthesis.ports import Asked, Connected, Credential, Done, LiveProvider, Refusal, Reporter
from enthesis.reading.shapes import duration_text

ALLOWED, REFUSED, UNDECIDED = "allowed", "refused", "undecided"
KEYED = ("credential", "identity")


@dataclass(frozen=True, slots=True)
class Evidence:
    """One thing a proof saw: a hop or an attempt, and what came of it. It holds no secret."""

    what: str
    outcome: str
    said: str
    life: timedelta | None = None


@dataclass(frozen=True, slots=True)
class Proof:
    """What came of one journey. `unmet` is empty where it ended as expected."""

    journey: str
    expected: str
    outcome: str
    refused_at: tuple[str, ...]
    keyless: bool
    shortest_life: timedelta | None
    evidence: tuple[Evidence, ...]
    unmet: tuple[str, ...]
    source: str

    @property
    def met(self) -> bool:
        return not self.unmet

    def as_json(self) -> dict[str, Any]:
        def seconds(life: timedelta | None) -> int | None:
            return None if life is None else int(life.total_seconds())

        return {
            "journey": self.journey,
            "source": self.source,
            "expected": self.expected,
            "outcome": self.outcome,
            "met": self.met,
            "unmet": list(self.unmet),
            "refused_at": list(self.refused_at),
            "keyless": self.keyless,
            "shortest_life_seconds": seconds(self.shortest_life),
            "evidence": [
                {"what": one.what, "outcome": one.outcome, "said": one.said, "life_seconds": seconds(one.life)}
                for one in self.evidence
            ],
        }


@dataclass(slots=True)
class _Run:
    """A journey under way."""

    evidence: list[Evidence] = field(default_factory=list)
    lives: list[timedelta] = field(default_factory=list)
    sessions: list[timedelta] = field(default_factory=list)

    def got(self, what: str, credential: Credential) -> None:
        self.lives.append(credential.life)
        if credential.form == "session":
            self.sessions.append(credential.life)
        said = f"a {credential.form} that lives {duration_text(credential.life)}"
        self.evidence.append(Evidence(what, ALLOWED, said, credential.life))


def prove(estate: Estate, journeys: Iterable[Journey], connected: Connected, reporter: Reporter) -> tuple[Proof, ...]:
    """One proof a journey. A journey that could not be tried is undecided, which meets no expectation."""
    listed = list(journeys)
    reporter.begin("proving", len(listed))
    proofs = []
    try:
        for journey in listed:
            reporter.step(journey.name)
            proofs.append(_prove(estate, journey, connected))
    finally:
        reporter.end()
    return tuple(proofs)


def _prove(estate: Estate, journey: Journey, connected: Connected) -> Proof:
    run = _Run()
    refused_at: tuple[str, ...] = ()
    try:
        refusal = _walk(estate, journey, connected, run)
        outcome = REFUSED if refusal else ALLOWED
        refused_at = refusal.steps if refusal else ()
    except EnthesisError as fault:
        outcome = UNDECIDED
        run.evidence.append(Evidence("the proof itself", UNDECIDED, fault.message))
    keyless = journey.origin.form not in KEYED
    return Proof(
        journey.name,
        journey.expect,
        outcome,
        refused_at,
        keyless,
        min(run.lives, default=None),
        tuple(run.evidence),
        tuple(_unmet(journey, outcome, refused_at, keyless, run)),
        str(journey.source),
    )


def _walk(estate: Estate, journey: Journey, connected: Connected, run: _Run) -> Refusal | None:
    """Origin, hops, attempt; answers the first refusal."""
    asked = _asked(journey.context)
    credential = _origin(journey, connected, run)
    for hop in journey.through:
        provider = _provider(estate, hop.identity, connected)
        got = provider.take_on(credential, hop.identity, hop.narrowed, asked)
        what = f"take on {hop.identity}"
        if isinstance(got, Refusal):
            run.evidence.append(_refused(what, got))
            return got
        run.got(what, got)
        credential = got
    if journey.attempt is None:
        return None
    what = f"{journey.attempt.verb} {journey.attempt.target}"
    provider = _provider(estate, journey.attempt.target, connected)
    if journey.attempt.verb == "take-on":
        taken = provider.take_on(credential, journey.attempt.target, None, asked)
        done: Done | Refusal = taken if isinstance(taken, Refusal) else Done("a session was got, and let go")
    else:
        done = provider.attempt(credential, journey.attempt, asked)
    if isinstance(done, Done):
        run.evidence.append(Evidence(what, ALLOWED, done.said))
        return None
    run.evidence.append(_refused(what, done))
    return done


def _refused(what: str, refusal: Refusal) -> Evidence:
    steps = f" at {', '.join(refusal.steps)}" if refusal.steps else ""
    return Evidence(what, REFUSED, f"{refusal.said}{steps}")


def _asked(context: Context) -> Asked:
    for name in ("time", "session_age"):
        if name in context.said:
            raise Mistaken(f"the journey is about another {name.replace('_', ' ')}, which cannot be tried now")
    network = str(context.network.network_address) if context.network is not None else None
    return Asked(network, context.reference)


def _origin(journey: Journey, connected: Connected, run: _Run) -> Credential:
    origin = journey.origin
    if origin.form != "token":
        raise Mistaken(f"nothing here obtains a credential for an origin of form {origin.form}")
    issuer = connected.issuers.get(origin.whom)
    if issuer is None:
        raise Mistaken(f"nothing is known to speak to for the issuer {origin.whom}")
    credential = issuer.obtain(origin.shows)
    run.got(f"a token from {origin.whom}", credential)
    return credential


def _provider(estate: Estate, address: str, connected: Connected) -> LiveProvider:
    account = estate.accounts.get(account_of(address))
    if account is None:
        raise Mistaken(f"no provider has {address}: its account is not in the estate")
    found = connected.providers.get(account.provider)
    if found is None:
        raise Mistaken(f"nothing is known to speak to for the provider {account.provider}")
    return found


def _unmet(journey: Journey, outcome: str, refused_at: tuple[str, ...], keyless: bool, run: _Run) -> Iterable[str]:
    """Why the expectation is not met, a sentence each."""
    if outcome == UNDECIDED:
        yield "it could not be tried"
        return
    if outcome != journey.expect:
        yield f"it was to be {journey.expect} and was {outcome}"
    elif outcome == REFUSED:
        missing = [step for step in journey.because if step not in refused_at]
        if "names" in refused_at and "names" not in journey.because:
            yield "a name does not exist, so the refusal shows nothing about access"
        elif missing:
            yield f"it was to be refused at {', '.join(missing)} and was refused at {', '.join(refused_at)}"
    if journey.keyless and not keyless:
        yield "its origin is keyed"
    if journey.within is not None:
        longest = max(run.sessions, default=None)
        if longest is not None and longest > journey.within:
            yield f"a session lives {duration_text(longest)}, longer than {duration_text(journey.within)}"

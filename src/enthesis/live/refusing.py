"""Proves that the wrong caller is refused: near-misses of every trust, sessions past their end, credentials replayed.

Every proof has a control that must succeed first, so that a refusal is one of access and not of a broken set-up.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from functools import partial, wraps
from time import monotonic
from typing import Any, ParamSpec

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.conditions.truth import Value
from enthesis.live.credential_release import shown_to, take_on
from enthesis.live.proving import SEATS, asked_of, provider_of, token_from, tried, walk
from enthesis.live.refusing_named import NamedCallers, is_by_name, is_come_by
from enthesis.model.addresses import account_of, parse
from enthesis.model.errors import EnthesisError, InvalidInput, NotIssued, Undecided
from enthesis.model.estate import Attempt, Claims, Context, Estate, Hop, Journey, Origin, PipelineAccess, Trust
from enthesis.model.vocabulary import Ending, VerdictStep
from enthesis.ports import (
    CertifiesLogins,
    Connected,
    Done,
    HeldCredential,
    KeepsPipelineAccess,
    MovableClock,
    OpenLogin,
    Refusal,
    Reporter,
    Surroundings,
    attempting,
)
from enthesis.text.times import duration_text
from enthesis.trusts.admitting import BESIDES, Admissions, Near, near_misses
from enthesis.verdicts.judge import Judge
from enthesis.verdicts.pipeline_access import pipeline_access_trust

JUST = timedelta(seconds=1)  # past an end, which must be enough
BEFORE = timedelta(seconds=30)  # ahead of an end: the credential must still work
FIRST = {"identity": "the session as", "certificate": "the certificate of", "assertion": "the assertion of"}
OTHER_AUDIENCE = "elsewhere.example"


@dataclass(frozen=True, slots=True)
class Trial:
    """One thing that must be refused (`expected` says so), and what came of it. `shows` are the claims of its token."""

    what: str
    expected: Ending
    outcome: Ending
    refused_at: tuple[VerdictStep, ...] = ()
    said: str = ""
    shows: Mapping[str, Value] | None = None
    wanted_at: tuple[VerdictStep, ...] = ()
    took: float = 0.0  # seconds

    @property
    def unmet(self) -> str:
        """Why it is not as it must be; '' where it is."""
        if self.outcome is Ending.UNDECIDED:
            return f"not tried: {self.said}"
        if self.outcome is not self.expected:
            return f"expected {self.expected}, got {self.outcome}"
        missing = [step for step in self.wanted_at if step not in self.refused_at]
        if self.outcome is Ending.REFUSED and missing:
            return f"expected refused at {', '.join(missing)}, got refused at {', '.join(self.refused_at)}"
        return ""


@dataclass(frozen=True, slots=True)
class Trials:
    """The trials about one thing. `left_out` counts what nobody can show, since its issuer signs no such statement;
    `not_tried` says why nothing was tried of it at all."""

    about: str
    source: str
    trials: tuple[Trial, ...]
    left_out: int = 0
    not_tried: str = ""
    told: tuple[str, ...] = ()  # what was seen besides, and is as it should be

    @property
    def unmet(self) -> tuple[Trial, ...]:
        """The trials that did not end as expected."""
        return tuple(trial for trial in self.trials if trial.unmet)

    @property
    def refused(self) -> int:
        """How many trials were refused, as expected."""
        return sum(trial.expected is Ending.REFUSED and not trial.unmet for trial in self.trials)


# -- near-misses ----------------------------------------------------------------------------------------------------


def near_miss_trials(
    estate: Estate, trusts: Sequence[Trust], connected: Connected, instant: datetime, reporter: Reporter
) -> Iterator[Trials]:
    """For every trust: a caller that is admitted, and everybody near that must not, or why none can be tried."""
    admissions = Admissions(compile_estate(estate), instant, just_now=True)
    judge = Judge(admissions.compiled)
    reporter.begin("near-misses", len(trusts))
    try:
        for trust in trusts:
            reporter.step(trust.name or trust.of)
            why = _untried(admissions, trust, connected)
            if why:
                yield Trials(trust.name or trust.of, str(trust.source), (), not_tried=why)
                continue
            if is_by_name(trust):
                yield _of_named(judge, trust, instant, connected)
                continue
            gets_in = partial(_admitted, judge, trust, instant)
            showing = partial(_shown, estate, trust, connected=connected)
            yield _of_trust(admissions, trust, gets_in, showing, partial(_with_audience, estate, trust))
    finally:
        reporter.end()


def _untried(admissions: Admissions, trust: Trust, connected: Connected) -> str:
    """Why no near-miss of a trust can be tried here; '' where they can."""
    estate = admissions.estate
    by_name = is_by_name(trust)
    if not by_name and str(trust.admits.whom) not in connected.issuers:
        return f"no connection is configured for the issuer {trust.admits.whom}"
    if estate.system_of(trust.of) not in connected.administered:
        return f"no connection is configured for {estate.system_of(trust.of)}"
    if estate.administered_by_others(trust.of):
        return f"it is up to the administrators of {account_of(trust.of)} to write it"
    if by_name:
        return "" if trust.in_force(admissions.instant) else "it has ended"
    try:
        why = admissions.nobody_because(trust)
        if why or admissions.example(trust) is not None:
            return why
        later = replace(admissions, just_now=False).example(trust) is not None
        return "no caller is admitted at this time" if later else "no caller can ever meet all of its conditions"
    except Undecided:
        return ""


def _of_named(judge: Judge, trust: Trust, instant: datetime, connected: Connected) -> Trials:
    """A caller whom a trust admits by name, and those near that are another caller or ask otherwise."""
    estate, about, source = judge.compiled.estate, trust.name or trust.of, str(trust.source)
    callers, why = NamedCallers(judge, trust, instant), "no caller that it admits is known here"
    for meant in callers.meant():
        try:
            control = _asked_for_real(estate, meant.what, meant.journey, Ending.ALLOWED, connected)
        except EnthesisError as fault:
            why = f"no caller that it admits can be obtained here: {fault.message}"
            continue
        near = callers.near(meant.journey) if control.outcome is Ending.ALLOWED else []
        trials, out_of_reach = [control], 0
        for named in near:
            try:
                trials.append(_asked_for_real(estate, named.what, named.journey, Ending.REFUSED, connected))
            except EnthesisError:
                out_of_reach += 1
        if control.outcome is Ending.ALLOWED and len(trials) == 1:
            why = (
                "none of the near-miss callers can be obtained here"
                if near
                else "the estate describes no caller near it"
            )
            return Trials(about, source, (), not_tried=why)
        return Trials(about, source, tuple(trials), out_of_reach)
    return Trials(about, source, (), not_tried=why)


_Given = ParamSpec("_Given")


def _timed(trying: Callable[_Given, Trial]) -> Callable[_Given, Trial]:
    """What tries something, with how long that took."""

    @wraps(trying)
    def timed(*given: _Given.args, **more: _Given.kwargs) -> Trial:
        began = monotonic()
        return replace(trying(*given, **more), took=monotonic() - began)

    return timed


@_timed
def _asked_for_real(estate: Estate, what: str, journey: Journey, expected: Ending, connected: Connected) -> Trial:
    """Walks a short journey; what came of its last step. EnthesisError where its caller cannot be had."""
    wanted = (VerdictStep.TARGET_SIDE,) if expected is Ending.REFUSED else ()
    seeing = _LastSeen()
    refusal = walk(estate, journey, connected, seeing)
    if refusal is None:
        return Trial(what, expected, Ending.ALLOWED, said="a session was got, and let go", wanted_at=wanted)
    return Trial(what, expected, Ending.REFUSED, refusal.steps, refusal.said, wanted_at=wanted)


class _LastSeen:
    """Told what a walk sees; its end says enough."""

    def got(self, what: str, credential: HeldCredential) -> None: ...
    def ended(self, what: str, outcome: Done | Refusal) -> None: ...


def shared_login_trials(estate: Estate, connected: Connected) -> Iterator[Trials]:
    """For every registry whose shared login is said to be off: that login, with the password that it last had."""
    for address, resource in estate.resources.items():
        registry = connected.registries.get(address)
        if resource.shared_login == "off" and registry is not None and not registry.tells_shared_login:
            why = "nothing here knows the password that it last had"
            yield Trials(address, str(resource.source), (), not_tried=why)
        elif resource.shared_login == "off" and registry is not None:
            trial = _tried_for_real(registry.shared_login, "the login that people share", {}, Ending.REFUSED)
            yield Trials(address, str(resource.source), (replace(trial, shows=None, wanted_at=(VerdictStep.NAMES,)),))


def untried_trusts(estate: Estate, journeys: Sequence[Journey]) -> Iterator[Trials]:
    """The trusts that none of these journeys comes by, so that they are not tried with them."""
    for trust in estate.trusts:
        if not is_come_by(estate, trust, list(journeys)):
            why = "no journey that is expected to be allowed uses it: write one"
            yield Trials(trust.name or trust.of, str(trust.source), (), not_tried=why)


def pipeline_access_trials(
    estate: Estate,
    access: Sequence[PipelineAccess],
    connected: Connected,
    instant: datetime,
    reporter: Reporter,
) -> Iterator[Trials]:
    """For every pipeline access: a run that may use it, and those near that may not."""
    admissions = Admissions(compile_estate(estate), instant, just_now=True)
    reporter.begin("near-misses", len(access))
    try:
        for pipeline_access in access:
            reporter.step(pipeline_access.name)
            trust = pipeline_access_trust(estate, pipeline_access)
            yield _of_trust(admissions, trust, _is_let_in, partial(_used, pipeline_access, connected=connected))
    finally:
        reporter.end()


def _used(
    access: PipelineAccess, what: str, shown: Mapping[str, Value], expected: Ending, connected: Connected
) -> Trial:
    """Has a run with these claims use pipeline access."""

    def use() -> Done | Refusal:
        service = connected.issuers.get(access.at)
        if not isinstance(service, KeepsPipelineAccess):
            raise InvalidInput(
                f"{access.at} is not connected, so its pipeline access cannot be tried", code="system-not-connected"
            )
        return service.use_pipeline_access(access.name, _split(shown)[0])

    return _tried_for_real(use, what, shown, expected)


@_timed
def _tried_for_real(
    trying: Callable[[], Done | HeldCredential | Refusal], what: str, shown: Mapping[str, Value], expected: Ending
) -> Trial:
    """What comes of showing a token with these claims. NotIssued where there can be none."""
    wanted = (VerdictStep.TARGET_SIDE,) if expected is Ending.REFUSED else ()
    try:
        got = trying()
    except NotIssued:
        raise
    except EnthesisError as fault:
        return Trial(what, expected, Ending.UNDECIDED, said=fault.message, shows=shown, wanted_at=wanted)
    if isinstance(got, Refusal):
        return Trial(what, expected, Ending.REFUSED, got.steps, got.said, shown, wanted)
    said = got.said if isinstance(got, Done) else "a session was got, and let go"
    return Trial(what, expected, Ending.ALLOWED, said=said, shows=shown, wanted_at=wanted)


def _of_trust(
    admissions: Admissions,
    trust: Trust,
    gets_in: Callable[[Near], bool],
    show: Callable[[str, Mapping[str, Value], str], Trial],
    whole: Callable[[Mapping[str, Value]], Mapping[str, Value]] = dict,
) -> Trials:
    """`gets_in`: by this trust or another one of the same identity; `show` tries a caller for real; `whole` adds what
    an issuer says even where nobody asks for it."""
    about, source = trust.name or trust.of, str(trust.source)
    try:
        caller = admissions.example(trust)
        near = near_misses(admissions, trust, caller) if caller is not None else []
    except Undecided as bound:
        return Trials(about, source, (Trial("who is admitted", Ending.ALLOWED, Ending.UNDECIDED, said=str(bound)),))
    if caller is None:
        return Trials(about, source, (Trial("who is admitted", Ending.ALLOWED, Ending.UNDECIDED, said="nobody can"),))
    near = [replace(near_miss, shown=whole(near_miss.shown)) for near_miss in near]
    try:
        control = show("an intended caller", whole(caller), Ending.ALLOWED)
    except NotIssued as fault:
        return Trials(about, source, (), not_tried=f"no token that it admits can be obtained here: {fault.message}")
    trials, left_out = [control], 0
    for near_miss in near if control.outcome is Ending.ALLOWED else ():
        if gets_in(near_miss):
            continue  # no near-miss, and `admit` tells of it
        try:
            trials.append(show(near_miss.what, near_miss.shown, Ending.REFUSED))
        except NotIssued:
            left_out += 1
    return Trials(about, source, tuple(trials), left_out)


def _with_audience(estate: Estate, trust: Trust, shown: Mapping[str, Value]) -> Mapping[str, Value]:
    """What a caller shows, with an audience, which every token and assertion has: other trusts may test it."""
    issuer = estate.issuers[str(trust.admits.whom)]
    if shown.get("aud") is not None or issuer.kind not in ("oidc", "saml"):
        return shown
    return {**shown, "aud": issuer.audiences[0] if issuer.audiences else OTHER_AUDIENCE}


def _is_let_in(near: Near) -> bool:
    return near.admitted


def _admitted(judge: Judge, trust: Trust, instant: datetime, near: Near) -> bool:
    claims, asked = _split(near.shown)
    origin = Origin(trust.admits.form, str(trust.admits.whom), claims)
    context = Context(network=asked.get("network"), reference=asked.get("reference"))
    return judge.judge(Question(origin, (), Attempt("take-on", trust.of), context, instant)).allowed


def _split(shown: Mapping[str, Value]) -> tuple[dict[str, Any], dict[str, Any]]:
    """The claims of a caller, and what its request says besides."""
    claims = {name: value for name, value in shown.items() if not name.startswith(BESIDES)}
    besides = {name.removeprefix(BESIDES): value for name, value in shown.items() if name.startswith(BESIDES)}
    return claims, besides


def _shown(
    estate: Estate, trust: Trust, what: str, shown: Mapping[str, Value], expected: Ending, connected: Connected
) -> Trial:
    """Shows a token with these claims to the provider of a trust's identity. NotIssued where there can be none."""
    claims, besides = _split(shown)
    network = besides.get("network")
    asked = Surroundings(str(network.network_address) if network is not None else None, besides.get("reference"))

    def show() -> HeldCredential | Refusal:
        token = token_from(estate, connected, str(trust.admits.whom), claims, trust.of)
        return take_on(provider_of(estate, trust.of, connected), token, trust.of, None, asked, connected)

    return _tried_for_real(show, what, shown, expected)


# -- what a journey leaves behind -----------------------------------------------------------------------------------


@dataclass(slots=True)
class _Kept:
    """A credential of a journey, and what it could do when it was new: take on the next identity, or the attempt."""

    journey: Journey
    what: str
    credential: HeldCredential
    following: Hop | Attempt
    ends: timedelta  # after the walk began
    once: HeldCredential | None = None  # another like it, where each may be shown once
    trials: list[Trial] = field(default_factory=list)


@dataclass(slots=True)
class _Keeping:
    """Keeps the credentials that a walk gets."""

    credentials: list[HeldCredential] = field(default_factory=list)

    def got(self, what: str, credential: HeldCredential) -> None:
        self.credentials.append(credential)

    def ended(self, what: str, outcome: Done | Refusal) -> None:
        if isinstance(outcome, Refusal):
            raise InvalidInput(
                f"it is refused, so it leaves nothing to try ({what}: {outcome.said})", code="proof-without-control"
            )


def _walk(estate: Estate, journey: Journey, connected: Connected) -> list[_Kept]:
    """Walks an allowed journey and keeps its credentials with what each was for; InvalidInput where it is refused."""
    keeping = _Keeping()
    walk(estate, journey, connected, keeping)
    first = FIRST.get(journey.origin.form, "the token of")
    whats = [f"{first} {journey.origin.whom}", *(f"the session as {hop.identity or hop.on}" for hop in journey.through)]
    followings: list[Hop | Attempt] = [*journey.through, *([journey.attempt] if journey.attempt else [])]
    kept = [
        _Kept(journey, what, credential, following, credential.life)
        for what, credential, following in zip(whats, keeping.credentials, followings, strict=False)
        if credential.form not in SEATS  # where something runs is not a credential
    ]
    for one in kept:
        if one.credential.form == "assertion":  # the walk has shown it
            one.credential, one.once = (_signed_again(estate, one, connected, journey.origin.shows) for _ in range(2))
    return kept


def _signed_again(estate: Estate, kept: _Kept, connected: Connected, claims: Claims) -> HeldCredential:
    """Another token or assertion of the issuer that a journey starts at, for whom the kept one is shown to."""
    following = kept.following
    place = following.target if isinstance(following, Attempt) else following.identity
    return token_from(estate, connected, kept.journey.origin.whom, claims, place)


@_timed
def _try(
    estate: Estate, kept: _Kept, connected: Connected, what: str, expected: Ending, wanted: tuple[VerdictStep, ...]
) -> Trial:
    """Does again, with a credential that was kept, what it could do when it was new."""
    asked = asked_of(kept.journey.context)
    following = kept.following
    attempt = following if isinstance(following, Attempt) else _as_attempt(estate, following)
    narrowed = None if isinstance(following, Attempt) else following.narrowed
    try:
        done = tried(estate, kept.credential, attempt, asked, connected, narrowed)
    except EnthesisError as fault:
        return Trial(what, expected, Ending.UNDECIDED, said=fault.message, wanted_at=wanted)
    if isinstance(done, Refusal):
        return Trial(what, expected, Ending.REFUSED, done.steps, done.said, wanted_at=wanted)
    return Trial(what, expected, Ending.ALLOWED, said=done.said, wanted_at=wanted)


def _as_attempt(estate: Estate, hop: Hop) -> Attempt:
    """What a hop asks for."""
    if not hop.on:
        return Attempt("take-on", hop.identity)
    kind = parse(hop.on, estate.catalogue).kind
    return Attempt(estate.catalogue.running_verb(kind) or "login", hop.on)


def _walked(
    estate: Estate, journeys: Iterable[Journey], connected: Connected
) -> Iterator[tuple[Journey, list[_Kept], Trial | None]]:
    """Every journey with what it left behind, or why it could not be walked."""
    for journey in journeys:
        try:
            yield journey, _walk(estate, journey, connected), None
        except EnthesisError as fault:
            yield journey, [], Trial("the journey itself", Ending.ALLOWED, Ending.UNDECIDED, said=fault.message)


def expiry_trials(
    estate: Estate, journeys: Sequence[Journey], connected: Connected, reporter: Reporter
) -> list[Trials]:
    """Moves the time past the end of every credential of the journeys, and shows that each opens nothing new then."""
    clock = connected.clock
    if clock is None:
        raise InvalidInput("their time cannot be moved", code="time-not-movable", remedy="expiry is proved at a lab")
    walked = list(_walked(estate, journeys, connected))
    groups = _ending_together(kept for _, ended, _ in walked for kept in ended)
    reporter.begin("ends", len(groups))
    moved = timedelta(0)
    doors = {journey.name: list(_opened(estate, ended, connected)) for journey, ended, _ in walked}
    told: dict[str, list[str]] = {}
    try:
        for group in groups:
            first, last = group[0].ends, group[-1].ends
            reporter.step(duration_text(last))
            moved = _move(clock, moved, first - BEFORE)
            for kept in group:
                before = replace(kept, credential=kept.once or kept.credential)
                kept.trials.append(
                    _try(estate, before, connected, f"{kept.what} just before its end", Ending.ALLOWED, ())
                )
            moved = _move(clock, moved, last + JUST)
            for kept in group:
                name = f"{kept.what}, {duration_text(kept.ends)} old"
                kept.trials.append(_try(estate, kept, connected, name, Ending.REFUSED, (VerdictStep.SESSION,)))
        for name, opened in doors.items():
            told[name] = [_outlives(place, door) for place, door in opened]
    finally:
        for _, door in (one for opened in doors.values() for one in opened):
            door.close()
        reporter.end()
    return [
        Trials(
            journey.name, str(journey.source), tuple([fault] if fault else [t for kept in ended for t in kept.trials]),
            told=tuple(told.get(journey.name, ())),
        )
        for journey, ended, fault in walked
    ]  # fmt: skip


def _opened(estate: Estate, ended: Iterable[_Kept], connected: Connected) -> Iterator[tuple[str, OpenLogin]]:
    """The logins of a journey at servers, made with what it kept and left open; none where none comes about."""
    for kept in ended:
        following = kept.following
        place = following.target if isinstance(following, Attempt) else following.on
        try:
            door = _open_at(estate, place, kept, connected)
        except EnthesisError:
            continue  # what the journey itself shows is told elsewhere
        if door is not None and not isinstance(door, Refusal):
            yield place if place in connected.logins else estate.system_of(place), door


def _open_at(estate: Estate, place: str, kept: _Kept, connected: Connected) -> OpenLogin | Refusal | None:
    """A login at the server that a place is at; None where that has none."""
    database = connected.databases.get(estate.system_of(place)) if account_of(place) in estate.accounts else None
    if database is not None:
        fitting = shown_to(database, kept.credential, connected)
        return fitting if isinstance(fitting, Refusal) else database.opened(fitting)
    if place not in connected.logins:
        return None
    provider = provider_of(estate, place, connected)
    fitting = shown_to(provider, kept.credential, connected)
    if isinstance(fitting, Refusal) or not isinstance(provider, CertifiesLogins):
        return None
    return connected.logins[place].opened(provider, fitting, asked_of(kept.journey.context))


def _outlives(place: str, door: OpenLogin) -> str:
    """Whether a login that is open goes on after what it was made with has ended."""
    if not door.goes_on():
        return f"a login at {place} that was open ended too"
    return f"a login at {place} that was open goes on after its certificate has ended: {door.ended_by}"


def _ending_together(every: Iterable[_Kept]) -> list[list[_Kept]]:
    """The credentials by when they end, those that end within moments of one another together."""
    groups: list[list[_Kept]] = []
    for kept in sorted(every, key=lambda kept: kept.ends):
        if groups and kept.ends - groups[-1][0].ends < BEFORE / 2:
            groups[-1].append(kept)
        else:
            groups.append([kept])
    return groups


def _move(clock: MovableClock, moved: timedelta, to: timedelta) -> timedelta:
    if to > moved:
        clock.forward(to - moved)
    return max(moved, to)


def replay_trials(
    estate: Estate, journeys: Sequence[Journey], connected: Connected, reporter: Reporter
) -> Iterator[Trials]:
    """Shows every session of the journeys to the other providers, and every token with another audience."""
    reporter.begin("replays", len(journeys))
    try:
        for journey, kept, fault in _walked(estate, journeys, connected):
            reporter.step(journey.name)
            trials = [fault] if fault else []
            for trial in kept:
                if trial.credential.form in ("token", "assertion"):
                    trials += _other_audience(estate, trial, connected)
                elif trial.credential.form == "certificate":  # it is shown by its key alone, and never handed over
                    trials.append(
                        _try(estate, trial, connected, f"{trial.what} for what it is for", Ending.ALLOWED, ())
                    )
                else:
                    trials += _elsewhere(estate, trial, connected)
            yield Trials(journey.name, str(journey.source), tuple(trials))
    finally:
        reporter.end()


def _elsewhere(estate: Estate, kept: _Kept, connected: Connected) -> Iterator[Trial]:
    """A session at the providers that it was not obtained from, each asked for an account of ours there."""
    yield _try(estate, kept, connected, f"{kept.what} where it was obtained", Ending.ALLOWED, ())
    identity = kept.what.removeprefix("the session as ")
    own = estate.system_of(identity)
    wanted = (
        (VerdictStep.PROVIDER,) if own in connected.providers else ()
    )  # a cloud does not even know a cluster's tokens
    for name, provider in connected.providers.items():
        account = next((account.name for account in estate.accounts.values() if account.provider == name), None)
        if name == own or account is None:
            continue
        what = f"{kept.what} ({own}) at {name}"
        if connected.clock is None:
            yield Trial(
                what, Ending.REFUSED, Ending.UNDECIDED, said="not tried: a session is shown to others at a lab alone"
            )
            continue
        try:
            trying = attempting(provider, name)
            done = trying.attempt(kept.credential, Attempt("describe", account), Surroundings())
        except EnthesisError as fault:
            yield Trial(what, Ending.REFUSED, Ending.UNDECIDED, said=fault.message)
            continue
        if isinstance(done, Refusal):
            yield Trial(what, Ending.REFUSED, Ending.REFUSED, done.steps, done.said, wanted_at=wanted)
        else:
            yield Trial(what, Ending.REFUSED, Ending.ALLOWED, said=done.said)


def _other_audience(estate: Estate, kept: _Kept, connected: Connected) -> Iterator[Trial]:
    """The same token, made for another caller."""
    yield _try(estate, kept, connected, f"{kept.what} for its own audience", Ending.ALLOWED, ())
    if kept.once is not None:
        yield _try(estate, kept, connected, f"{kept.what} once more", Ending.REFUSED, (VerdictStep.SESSION,))
    claims = {**kept.journey.origin.shows, "aud": OTHER_AUDIENCE}
    what = f"{kept.what} for {OTHER_AUDIENCE}"
    try:
        token = _signed_again(estate, kept, connected, claims)
    except NotIssued:
        return
    except EnthesisError as fault:
        yield Trial(what, Ending.REFUSED, Ending.UNDECIDED, said=fault.message)
        return
    yield _try(estate, replace(kept, credential=token), connected, what, Ending.REFUSED, (VerdictStep.TARGET_SIDE,))

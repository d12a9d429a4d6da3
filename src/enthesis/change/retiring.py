"""Carries a keyed credential on its way to keyless: what is known live, the proof, and switching the key."""

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime, timedelta

from enthesis.chains.differences import difference
from enthesis.cleaning.retiring import DELETED, LiveKeys, RetiringBounds, Standing, Use, last_use
from enthesis.cleaning.usage import Usage
from enthesis.live.proving import Proof, prove, provider_of
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Attempt, Estate, Hop, Journey, boundary_of
from enthesis.model.vocabulary import Ending, VerbClass
from enthesis.ports import Connected, KeepsKeys, Reporter
from enthesis.proposals.credentials import Credentialed, matching
from enthesis.proposals.dangers import dangers
from enthesis.proposals.steps import CHANGE, CREDENTIALS, REMOVE, Danger, Proposal, Step
from enthesis.proposals.wanted import holders
from enthesis.surveys.survey import Survey, beside
from enthesis.text.times import time_from, time_text

TRIED_CLASSES = (
    VerbClass.LOOK,
    VerbClass.READ,
    VerbClass.WRITE,
)  # what is tried and put back; what changes access or things is not
PAUSE = 0.05  # seconds
MOST_TRIED = 20  # of one key's uses


def keys_of(estate: Estate, connected: Connected) -> dict[str, Credentialed]:
    """The keyed credentials that providers keep, by the names that the files have for them; last uses by our clock."""
    out: dict[str, Credentialed] = {}
    for name, provider in connected.providers.items():
        for credential in provider.keys(holders(estate, name)) if isinstance(provider, KeepsKeys) else ():
            described = matching(estate, credential)
            if described is not None:
                out[described.name] = _by_our_clock(credential, provider)
    return out


def _by_our_clock(credential: Credentialed, provider: object) -> Credentialed:
    """A key with its last use by this machine's clock, so that it can be held against what was done from here."""
    ahead = getattr(getattr(provider, "client", None), "ahead", None) or timedelta(0)
    last = time_from(credential.last_used) if credential.last_used else None
    return replace(credential, last_used=time_text(last - ahead)) if last is not None else credential


def known_of(
    estate: Estate, now: datetime, bounds: RetiringBounds, connected: Connected | None, usage: Usage | None,
    survey: Survey | None,
) -> LiveKeys:  # fmt: skip
    """What is known beside the files; a survey tells whether a keyless way is in place live."""
    keys = keys_of(estate, connected) if connected is not None else None
    live = beside(estate, survey) if survey is not None else None
    return LiveKeys(now, live, keys, _used(estate, usage, keys) if usage is not None else None, bounds)


def _used(estate: Estate, usage: Usage, keys: Mapping[str, Credentialed] | None) -> dict[str, dict[Use, float]]:
    """What each key did as the identity that it is of, by the name of the key; ids of a log are those of live keys."""
    names = {one.id: name for name, one in (keys or {}).items()}
    out: dict[str, dict[Use, float]] = {}
    for key, uses in usage.by_key.items():
        name = names.get(key, key)
        if name in estate.credentials:
            mine = {
                (verb, target): at
                for (identity, verb, target), at in uses.items()
                if identity == estate.credentials[name].of
            }
            out.setdefault(name, {}).update(mine)
    return out


def after_last_use(found: Sequence[Standing], known: LiveKeys, clock: Callable[[], datetime]) -> datetime:
    """The time, as soon as it is later than every last use that is known: uses are told to the second."""
    latest = max((used for standing in found if (used := last_use(standing, known)) is not None), default=None)
    while latest is not None and clock() == latest:
        time.sleep(PAUSE)
    return clock()


def prove_ways(
    estate: Estate, found: Sequence[Standing], connected: Connected, now: datetime, reporter: Reporter
) -> dict[str, list[Proof]]:
    """Takes the keyless way of each for real, and does what its key was used for, as far as that can be put back."""
    journeys: dict[str, list[Journey]] = {standing.name: _journeys(estate, standing) for standing in found}
    proofs = iter(prove(estate, [each for its in journeys.values() for each in its], connected, now, reporter))
    return {name: [next(proofs) for _ in its] for name, its in journeys.items()}


def _journeys(estate: Estate, found: Standing) -> list[Journey]:
    person = found.of.startswith("@")
    through = () if person else (Hop(found.takes_on),)
    attempts = [
        Attempt(verb, target)
        for verb, target in found.uses
        if any(kind.verbs.get(verb) in TRIED_CLASSES for kind in estate.catalogue.kinds.values())
    ]
    return [
        Journey(f"{found.name}, from {origin.whom}", origin, Ending.ALLOWED, through, attempt)
        for origin in found.origins
        for attempt in (*attempts[:MOST_TRIED],) or ((None,) if through else ())  # a person who does nothing proves it
    ]


def retiring_dangers(
    estate: Estate, after: Estate, found: Sequence[Standing], by: str, now: datetime
) -> tuple[Danger, ...]:
    """What is dangerous in disabling and deleting these keys, by whom; `after` is the estate as the files will say it.
    The other stages change nothing on the live side."""
    steps = [
        Step(
            REMOVE if standing.to == DELETED else CHANGE, estate.system_of(standing.of), CREDENTIALS,
            boundary_of(standing.of), f"the key {standing.name} of {standing.of}", estate.name,
        )
        for standing in found
    ]  # fmt: skip
    change = difference(estate, after, now.timestamp())
    return dangers(estate, Proposal(estate.name, tuple(steps)), (), change, by)


def switched(estate: Estate, found: Standing, connected: Connected, known: LiveKeys, *, disabled: bool) -> str:
    """Disables the key, or lets it work again; why that was taken back, where it was in use after all."""
    if found.kept is None:
        raise InvalidInput(f"no live system has {found.name}", code="credential-unknown")
    keeper = _keeper(estate, found, connected)
    retiring = estate.retiring[found.name]
    now_is = keeper.switch_credential(boundary_of(found.of), found.kept.id, disabled=disabled)
    used = last_use(replace(found, kept=_by_our_clock(now_is, keeper)), known) if disabled else None
    if used is not None and used >= (retiring.proved or retiring.since or known.now):
        keeper.switch_credential(boundary_of(found.of), found.kept.id, disabled=False)
        return f"used on {time_text(used)}, just now: it works again"
    return ""


def deleted(estate: Estate, found: Standing, connected: Connected) -> None:
    """Deletes the key where it is kept."""
    if found.kept is not None:
        _keeper(estate, found, connected).revoke_credential(boundary_of(found.of), found.kept.id)


def _keeper(estate: Estate, found: Standing, connected: Connected) -> KeepsKeys:
    """What keeps a key; of a person, the provider that has it."""
    if not found.of.startswith("@"):
        one = provider_of(estate, found.of, connected)
        if isinstance(one, KeepsKeys):
            return one
    for name, provider in connected.providers.items():
        kept = provider.keys(holders(estate, name)) if isinstance(provider, KeepsKeys) else ()
        if isinstance(provider, KeepsKeys) and found.kept is not None and found.kept.id in {one.id for one in kept}:
            return provider
    raise InvalidInput(f"what keeps {found.of} keeps no keyed credentials", code="credentials-not-made")

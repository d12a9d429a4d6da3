"""Obtains a session for an identity from an origin at hand, hop by hop."""

from collections.abc import Sequence
from dataclasses import dataclass

from enthesis.live.credential_release import take_on
from enthesis.live.proving import provider_of
from enthesis.model.estate import Estate
from enthesis.ports import Connected, HeldCredential, Refusal, Surroundings


@dataclass(frozen=True, slots=True)
class NotLent:
    """The hop that was refused, and the refusal."""

    identity: str
    refusal: Refusal


def lent(estate: Estate, shown: HeldCredential, hops: Sequence[str], connected: Connected) -> HeldCredential | NotLent:
    """The session of the last hop. Needs no right of ours: what is shown is the origin's own."""
    for hop in hops:
        got = take_on(provider_of(estate, hop, connected), shown, hop, None, Surroundings(), connected)
        if isinstance(got, Refusal):
            return NotLent(hop, got)
        shown = got
    return shown

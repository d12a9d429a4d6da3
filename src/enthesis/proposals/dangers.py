"""What in a proposal needs somebody to accept it by name: `--yes` alone is no such acceptance."""

from collections.abc import Iterator, Sequence

from enthesis.chains.differences import Difference, Gain
from enthesis.conditions.truth import passes
from enthesis.model.estate import Estate
from enthesis.model.words import BEARERS
from enthesis.proposals.effects import afterwards, as_estate, live_of
from enthesis.proposals.steps import Danger, Proposal
from enthesis.surveys.statements import Surveyed

DANGERS = {
    "outside-gains": "an outside party gains access",
    "last-administrator": "nobody is left who can change access at an account",
}
"""Stable names, each with what it means."""
MOST_TOLD = 10


def dangers(estate: Estate, proposal: Proposal, surveys: Sequence[Surveyed], change: Difference) -> tuple[Danger, ...]:
    """What a proposal does that each needs an acceptance of its own."""
    found = {
        "outside-gains": _outside(estate, change),
        "last-administrator": _without_administrators(estate, proposal, surveys),
    }
    return tuple(Danger(name, tuple(dict.fromkeys(says))) for name, says in found.items() if says)


def _outside(estate: Estate, change: Difference) -> list[str]:
    """Whom from outside the gains let in, and to what."""
    found: list[str] = []
    for gain in change.gains:
        if _is_outside(estate, gain):
            found.append(f"{gain.caller} may {gain.verb} {gain.target}")
        if len(found) == MOST_TOLD:
            break
    return found


def _is_outside(estate: Estate, gain: Gain) -> bool:
    if gain.form not in BEARERS:
        return estate.is_outside(gain.caller)
    issuer = estate.issuers.get(gain.caller)
    if issuer is None or not issuer.shared or not issuer.owned:
        return False
    return not all(passes(test, gain.values.get(f"claims.{name}")) is True for name, test in issuer.owned)


def _without_administrators(estate: Estate, proposal: Proposal, surveys: Sequence[Surveyed]) -> list[str]:
    """The accounts where somebody can change access now, and nobody can afterwards."""
    before = live_of(surveys)
    had, have = (set(_administered(as_estate(estate, side))) for side in (before, afterwards(before, proposal.steps)))
    return [f"nobody is left who can change access at {account}" for account in sorted(had - have)]


def _administered(live: Estate) -> Iterator[str]:
    """The accounts at which a grant lets somebody who is there change access."""
    there = {*live.identities, *live.groups}
    for grant in live.grants:
        changes = ("account", "change-access") in live.permissions_of(grant.role)
        if changes and grant.at in live.accounts and grant.to in there:
            yield grant.at

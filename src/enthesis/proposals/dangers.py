"""What in a proposal needs a person to accept it by name: `--yes` alone is no such acceptance."""

from collections.abc import Iterator, Mapping, Sequence

from enthesis.access.requirements import BEFORE_KEY
from enthesis.chains.differences import Difference, Gain
from enthesis.conditions.patterns import matches
from enthesis.conditions.truth import passes
from enthesis.model.addresses import contains
from enthesis.model.estate import Estate
from enthesis.model.sentences import verb_words
from enthesis.model.vocabulary import BEARERS, VerbClass
from enthesis.proposals.effects import afterwards, as_estate, live_of
from enthesis.proposals.ordering import BOTH, WIDENS, direction
from enthesis.proposals.steps import REMOVE, Danger, Proposal, Step
from enthesis.surveys.statements import Surveyed

OWN = "own-access"
DANGERS = {
    "outside-gains": "an outside party gains access",
    "power-gained": "a caller gains the right to change access",
    "last-administrator": "no administrator is left who can change access at an account",
    OWN: "the person who enacts this loses the right to change access",
    "rule-loosened": "changes of access want less approval from now on",
    "ceiling-loosened": "a ceiling is removed or made wider",
    "protected": "access to a protected resource changes",
    "many-removed": "many statements are removed at once",
}
"""Stable names, each with what it means."""
MOST_TOLD = 10
MANY = 10  # statements that one proposal may remove without being asked
LEADING_ON = ("take-on", "run-as", "attach")  # power verbs that lead somewhere and change no access


def dangers(
    estate: Estate, proposal: Proposal, surveys: Sequence[Surveyed], change: Difference, by: str = "",
    loosened: Sequence[str] = (),
) -> tuple[Danger, ...]:  # fmt: skip
    """What a proposal does that each needs an acceptance of its own; `by` is the person who would enact it, `loosened`
    in which ways the rule for changes asks for less than the one that was last enacted."""
    changing = _changing(estate)
    removed = [step.sentence for step in proposal.steps if step.action == REMOVE]
    found = {
        "outside-gains": _outside(estate, change),
        "power-gained": [_said(gain) for gain in change.gains if gain.verb in changing],
        "last-administrator": _without_administrators(estate, proposal, surveys),
        OWN: [_said(gain) for gain in change.losses if gain.caller == by and gain.verb in changing],
        "rule-loosened": list(loosened),
        "ceiling-loosened": [
            step.sentence
            for step in proposal.steps
            if step.collection == "ceilings" and direction(step) in (WIDENS, BOTH)
        ],
        "protected": [step.sentence for step in proposal.steps if _protected(estate, step)],
        "many-removed": removed if len(removed) > MANY else [],
    }
    return tuple(Danger(name, tuple(dict.fromkeys(says))[:MOST_TOLD]) for name, says in found.items() if says)


def outside_gains(estate: Estate, change: Difference) -> tuple[Danger, ...]:
    """The danger that outsiders gain access by a change; nothing where none does."""
    says = _outside(estate, change)
    return (Danger("outside-gains", tuple(dict.fromkeys(says))),) if says else ()


def _said(gain: Gain) -> str:
    return f"{gain.caller} may {verb_words(gain.verb)} {gain.target}"


def _changing(estate: Estate) -> set[str]:
    """The verbs that change access."""
    kinds = (*estate.catalogue.kinds.values(), *estate.kinds.values())
    named = {verb for kind in kinds for verb, its_class in kind.verbs.items() if its_class == VerbClass.POWER}
    named |= {verb for verb, its_class in estate.catalogue.everywhere.items() if its_class == VerbClass.POWER}
    return named - set(LEADING_ON)


def _protected(estate: Estate, step: Step) -> bool:
    """Whether a statement is about something protected, or about what it stands in."""
    body = {**(step.before or {}), **(step.body or {})}
    marked = [address for address, resource in estate.resources.items() if resource.protected]
    what = body.get("what")
    if isinstance(what, Mapping):
        return any(matches(str(what.get("glob")), address) for address in marked)
    places = [place for place in (body.get("at"), what) if isinstance(place, str)]
    return any(contains(place, address) or contains(address, place) for place in places for address in marked)


def _outside(estate: Estate, change: Difference) -> list[str]:
    """Which outsiders gain access, and to what."""
    found: list[str] = []
    for gain in change.gains:
        if _is_outside(estate, gain):
            found.append(_said(gain))
        if len(found) == MOST_TOLD:
            break
    return found


def _is_outside(estate: Estate, gain: Gain) -> bool:
    if gain.form not in BEARERS:
        return estate.is_outside(gain.caller)
    issuer = estate.issuers.get(gain.caller)
    if issuer is None or not issuer.shared or not issuer.owned:
        return False
    shown = {name.partition(BEFORE_KEY)[0]: value for name, value in gain.values.items()}
    return not all(passes(test, shown.get(f"claims.{name}")) is True for name, test in issuer.owned)


def _without_administrators(estate: Estate, proposal: Proposal, surveys: Sequence[Surveyed]) -> list[str]:
    """The accounts where a person can change access now, and nobody can afterwards."""
    if not proposal.steps:
        return []
    before = live_of(estate, surveys)
    had, have = (set(_administered(as_estate(estate, side))) for side in (before, afterwards(before, proposal.steps)))
    return [f"no administrator is left who can change access at {account}" for account in sorted(had - have)]


def _administered(live: Estate) -> Iterator[str]:
    """The accounts at which a grant lets a person who is there change access."""
    there = {*live.identities, *live.groups}
    for grant in live.grants:
        changes = ("account", "change-access") in live.permissions_of(grant.role)
        if changes and grant.at in live.accounts and grant.to in there:
            yield grant.at

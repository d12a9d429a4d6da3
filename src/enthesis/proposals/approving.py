"""Which approvals a proposal needs, and which of them are missing. Signatures are verified in `live/approving.py`."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from enthesis.access.compiling import compile_estate
from enthesis.model.addresses import account_of, contains
from enthesis.model.estate import Approval, Estate
from enthesis.proposals.steps import Proposal, Step


@dataclass(frozen=True, slots=True)
class Lacking:
    """Approvals that are missing: how many more, of which group, for changes at which place."""

    at: str
    more: int
    of: str
    who: tuple[str, ...]


def wanted_approvals(estate: Estate, steps: Sequence[Step]) -> list[Approval]:
    """The approvals that the estate asks for at places that steps touch."""
    places = {place for step in steps for place in _places(step)}
    return [
        approval for approval in estate.approvals if any(_stands_in(estate, place, approval.at) for place in places)
    ]


def lacking(estate: Estate, proposal: Proposal, approved_by: Sequence[str]) -> list[Lacking]:
    """What is missing of the approvals that are wanted; the author's own never counts."""
    wanted = wanted_approvals(estate, proposal.steps)
    if not wanted:
        return []
    compiled = compile_estate(estate)
    names = compiled.places.names
    agreed = set(approved_by) - {proposal.author}
    out = []
    for approval in wanted:
        members = {names[at] for at in compiled.members.get(compiled.find(approval.of), ())}
        more = approval.by - len(agreed & members)
        if more > 0:
            who = sorted(members - agreed - {proposal.author})
            out.append(Lacking(approval.at, more, approval.of, tuple(who)))
    return out


def _places(step: Step) -> list[str]:
    """What a step is about: the places that it names, and whose statement it is."""
    body: dict[str, Any] = {**(step.before or {}), **(step.body or {})}
    named = (body.get(field) for field in ("at", "of", "address", "what"))
    return [step.holder, *(name for name in named if isinstance(name, str))]


def _stands_in(estate: Estate, place: str, boundary: str) -> bool:
    """Whether a place is a boundary, or stands in it: an account, an organisation, or a place of either."""
    account = estate.accounts.get(account_of(place))
    return contains(boundary, place) or (account is not None and contains(boundary, account.within))

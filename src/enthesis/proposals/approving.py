"""Which approvals a proposal needs, and which of them are missing; and whether a proposal from a file says what is made
anew. Signatures are verified in `change/approving.py`."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from enthesis.model.addresses import account_of, contains
from enthesis.model.estate import Approval
from enthesis.proposals.rules import ChangeRule
from enthesis.proposals.steps import Danger, Opening, Proposal, Step

EFFECTS = {
    "gives": "the access gained", "takes": "the access lost", "dangers": "the dangers", "openings": "what others open",
    "outages": "what is refused for a while",
}  # fmt: skip
"""What a proposal says that its steps do, each in words."""


@dataclass(frozen=True, slots=True)
class Lacking:
    """Approvals that are missing: how many more, of which group, for changes at which place."""

    at: str
    more: int
    of: str
    who: tuple[str, ...]


def wanted_approvals(rule: ChangeRule, steps: Sequence[Step], *, loosens: bool = False) -> list[Approval]:
    """The approvals that a rule asks for at places that steps touch; all of them where the rule itself is loosened."""
    places = {place for step in steps for place in _places(step)}
    return [one for one in rule.asked() if loosens or any(_stands_in(rule, place, one.at) for place in places)]


def lacking(
    rule: ChangeRule, steps: Sequence[Step], author: str, approved_by: Sequence[str], *, loosens: bool = False,
    there: Sequence[str] | None = None,
) -> list[Lacking]:  # fmt: skip
    """What is missing of the approvals that are wanted. The author's own never counts, and where it is not known who
    the author is, nobody's does.

    `there` are the people who can still sign in: where too few are left to loosen a rule, all who are left may.
    """
    agreed = set(approved_by) - {author} if author else set[str]()
    out = []
    for approval in wanted_approvals(rule, steps, loosens=loosens):
        members = set(rule.members.get(approval.of, ()))
        wanted = approval.by
        if loosens and there is not None:
            wanted = min(wanted, len(members & set(there) - {author}))
        more = wanted - len(agreed & members)
        if more > 0:
            out.append(Lacking(approval.at, more, approval.of, tuple(sorted(members - agreed - {author}))))
    return out


def _places(step: Step) -> list[str]:
    """What a step is about: the places that it names, and whose statement it is."""
    body: dict[str, Any] = {**(step.before or {}), **(step.body or {})}
    named = (body.get(field) for field in ("at", "of", "address", "what"))
    return [step.holder, *(name for name in named if isinstance(name, str))]


def _stands_in(rule: ChangeRule, place: str, boundary: str) -> bool:
    """Whether a place is a boundary, or stands in it: an account, an organisation, or a place of either."""
    within = rule.within.get(account_of(place))
    return contains(boundary, place) or (within is not None and contains(boundary, within))


def contradictions(read: Proposal, made: Proposal, *, begun: bool) -> Iterator[str]:
    """In what a proposal from a file says otherwise of its effects than one that is made anew; where some of its steps
    are done already (`begun`), it may say more."""
    for name, words in EFFECTS.items():
        said, now = (list(map(_text, getattr(one, name))) for one in (read, made))
        differ = [one for one in now if one not in said]
        differ += [] if begun else [one for one in said if one not in now]
        if differ:
            yield f"{words} ({'; '.join(differ[:3])})"


def _text(one: str | Danger | Opening) -> str:
    if isinstance(one, Danger):
        return f"{one.name}: {', '.join(one.says)}"
    return one if isinstance(one, str) else f"{one.sentence}: {', '.join(one.opens)}; {one.accepted or 'not accepted'}"

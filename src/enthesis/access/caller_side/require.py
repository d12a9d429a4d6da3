"""What it takes that the caller's account lets a request of a chain out."""

from enthesis.access.granting.require import grants
from enthesis.access.needed import Needed
from enthesis.access.requirements import ALWAYS, Requirement, any_of, joined
from enthesis.access.target_side.require import require as target_side
from enthesis.access.target_side.require import trusts
from enthesis.model.vocabulary import VerdictStep


def both_sides(needed: Needed) -> Requirement | None:
    """What the target's and the caller's side take together: they hang together where a whole account is trusted."""
    crossing = needed.node.form == "identity" and needed.compiled.crosses(needed.node.place, needed.place)
    if needed.verb != "take-on":
        sides = target_side(needed)
        return joined((sides, require(needed))) if sides is not None and crossing else sides
    alone, whole = trusts(needed)
    side = require(needed) if crossing or whole else ALWAYS
    if crossing:
        return joined((any_of((*alone, *whole)), side))
    if side is None or not whole:
        return any_of(alone)
    let = [(*trusted, *more) for trusted in whole if trusted is not None for more in (side[0] if side else ((),))]
    return any_of((*alone, *let))


def require(needed: Needed) -> Requirement | None:
    """One of the grants that let it out; nothing where others administer the account, whose half counts as given."""
    compiled = needed.compiled
    if compiled.is_given(compiled.places.account[needed.node.place]):
        return ALWAYS
    return any_of(grants(needed, VerdictStep.CALLER_SIDE))

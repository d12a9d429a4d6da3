"""What it takes that what a request of a chain names stands."""

from enthesis.access.needed import Needed
from enthesis.access.requirements import Requirement, any_of


def require(needed: Needed) -> Requirement | None:
    """The conditions of the credential that is shown; None where caller or target do not stand."""
    stands = needed.compiled.stands
    if not needed.node.bearer and not stands[needed.node.place]:
        return None
    if needed.goal.kind == "identity" and not stands[needed.place]:
        return None
    if needed.permission in needed.compiled.not_of_people and needed.compiled.is_person[needed.place]:
        return None
    return any_of(needed.holding(needed.asking.when))

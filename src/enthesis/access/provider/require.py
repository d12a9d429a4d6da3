"""Whether a caller of a chain is known at the provider of the target."""

from enthesis.access.compiling import NONE
from enthesis.access.needed import Needed
from enthesis.access.requirements import ALWAYS, Requirement


def require(needed: Needed) -> Requirement | None:
    """ALWAYS or None: no condition is asked about it."""
    compiled = needed.compiled
    there = int(compiled.provider[needed.place])
    if needed.verb == "take-on" or there == NONE:
        return ALWAYS
    return ALWAYS if not needed.node.bearer and compiled.known_at(needed.node.place, there) else None

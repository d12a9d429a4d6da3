"""What it takes that the session of a hop still lives at the end of a chain."""

from datetime import timedelta

from enthesis.access.needed import Needed, before
from enthesis.access.requirements import Alternative
from enthesis.conditions.values import Want
from enthesis.model.conditions import LongerThan

JUST_LESS = timedelta(seconds=1)  # ages are told in whole seconds


def require(needed: Needed, trust: int) -> Alternative:
    """What it takes of the time, and of the age of a session that a trust gives, that it has not ended."""
    compiled = needed.compiled
    ends = before(float(compiled.trust_until[trust]))
    if needed.asking.hop and needed.ages:
        lives = timedelta(seconds=compiled.tables.trust_session[trust]) - JUST_LESS
        ends = (*ends, ("session.age", LongerThan(lives), Want.FAILS))
    return ends

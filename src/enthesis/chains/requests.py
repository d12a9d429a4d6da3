"""What a single request takes where the surroundings are free: its requirement, or None where it is never allowed.

The same seven steps as in `verdicts.judge`, but conditions on what is free are left standing instead of judged. What
ends (`until`, and how long sessions live) is left standing too, as conditions on the time and on the sessions' age.
"""

from enthesis.access.caller_side.require import both_sides
from enthesis.access.ceilings import require as ceilings
from enthesis.access.companions import require as companions
from enthesis.access.compiling import Compiled
from enthesis.access.names import require as names
from enthesis.access.needed import LAST, NO_POWERS, Asking, CallerNode, Goal, Needed, Powers, goal_at
from enthesis.access.provider import require as provider
from enthesis.access.requirements import Alternative, Requirement, joined


class Requests:
    """Requirements of single requests on one compiled estate, at or after one instant.

    `ages` says whether any condition asks how old a session is: where none does, sessions are as good as new.
    """

    def __init__(self, compiled: Compiled, now: float, powers: Powers = NO_POWERS, *, ages: bool = True) -> None:
        self.compiled = compiled
        self.now = now
        self.powers = powers
        self.ages = ages

    def request(self, node: CallerNode, permission: int, goal: Goal, asking: Asking = LAST) -> Requirement | None:
        """What it takes that this node does this there; ALWAYS where it takes nothing, None where it never may."""
        needed = self.needed(node, permission, goal, asking)
        named = names.require(needed)
        if named is None or provider.require(needed) is None:
            return None
        below = ceilings.require(needed)
        if below is None:
            return None
        sides = both_sides(needed)
        if sides is None:
            return None

        def also(caller: CallerNode, verb: int, there: Goal) -> Requirement | None:
            return self.request(caller, verb, there, asking)

        entering = companions.entering(needed, also)
        return joined((named, entering, below, sides, *companions.require(needed, also)))

    def needed(self, node: CallerNode, permission: int, goal: Goal, asking: Asking = LAST) -> Needed:
        """A request, with what is known of it."""
        return Needed(self.compiled, self.now, self.powers, self.ages, node, permission, goal, asking)

    def joining(self, member: CallerNode, group: int) -> list[Alternative]:
        """The ways in which a member to come is in a group, as literals on its kind and labels."""
        return self.needed(member, self.compiled.take_on, goal_at(self.compiled, member.place)).joining(group)

"""What else a request of a chain takes."""

from collections.abc import Callable, Iterator

from enthesis.access.attributes import provider_at
from enthesis.access.compiling import NONE, companion_places
from enthesis.access.needed import CallerNode, Goal, Needed, goal_at
from enthesis.access.requirements import ALWAYS, Requirement

Required = Callable[[CallerNode, int, Goal], Requirement | None]
"""What a further request takes, asked as the one that it goes with."""


def entering(needed: Needed, required: Required) -> Requirement | None:
    """What it takes of the person behind a chain to reach something of another organisation."""
    compiled, person = needed.compiled, needed.asking.person
    there = compiled.places.organisation[needed.place]
    if person == NONE or needed.verb == "enter" or there in (NONE, compiled.places.organisation[person]):
        return ALWAYS
    at = provider_at(compiled, needed.node.address, needed.goal.chain)
    who = CallerNode("identity", person, compiled.places.names[person])
    return required(who, compiled.permission["organisation", "enter"], goal_at(compiled, there, at))


def require(needed: Needed, required: Required) -> Iterator[Requirement | None]:
    """What the companions at the nearest key, and at what runs there, take."""
    compiled = needed.compiled
    for companion in compiled.companions[needed.permission]:
        for place in companion_places(compiled, companion, needed.goal.chain, needed.goal.address):
            there = goal_at(compiled, place)
            yield required(needed.node, compiled.permission[there.kind, companion.also], there)

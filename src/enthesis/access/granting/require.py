"""What it takes that a grant on one side lets a request of a chain."""

from collections.abc import Iterator
from itertools import product

from enthesis.access.compiling import NONE
from enthesis.access.needed import Needed, before
from enthesis.access.requirements import Alternative
from enthesis.model.vocabulary import VerdictStep


def grants(needed: Needed, side: VerdictStep) -> Iterator[Alternative | None]:
    """One alternative for each grant that may let it, and one for a grant that the chain can write itself."""
    compiled, node, goal, powers = needed.compiled, needed.node, needed.goal, needed.powers
    if node.form == "identity" and _writable(needed, side):
        yield ()
    for number in compiled.grants_between(needed.principals(), goal.chain):
        allows = compiled.role_allows[compiled.grant_role[number], needed.permission]
        if not allows and int(compiled.grant_holder[number]) not in powers.roles:
            continue
        if not compiled.grant_in_force(number, needed.now):
            continue
        if not compiled.held_on(side, number, node.place, needed.place):
            continue
        to = int(compiled.grant_to[number])
        joining = needed.joining(to) if to != node.place else [()]
        for joins, held in product(joining, needed.holding(compiled.grant_when(number))):
            yield (*joins, *held, *before(float(compiled.grant_until[number])))


def _writable(needed: Needed, side: VerdictStep) -> bool:
    """Whether the chain can write the grant itself: on the target's side at the place, on the other its account."""
    places = needed.powers.places
    if not places:
        return False
    if side is VerdictStep.TARGET_SIDE:
        return any(place in places for place in needed.goal.chain)
    compiled = needed.compiled
    own = compiled.places.account[needed.node.place] if needed.node.place != NONE else NONE
    return any(place in places for place in compiled.places.chain(own))

"""What it takes that no ceiling bars a request of a chain."""

from enthesis.access.needed import Needed, before
from enthesis.access.requirements import Requirement, escaping


def require(needed: Needed) -> Requirement | None:
    """A clause for each ceiling with a condition that would bar it; None where one bars it whatever happens."""
    compiled, node = needed.compiled, needed.node
    callers = () if node.bearer else tuple(compiled.places.chain(node.place))
    own = compiled.takes_its_own(needed.permission, node.address, needed.place)
    clauses = []
    for barred in compiled.ceilings_over(() if own else callers, needed.goal.chain):
        if barred.place in needed.powers.ceilings:
            continue
        if not barred.bars(needed.permission, "" if node.bearer else node.name, inside=barred.place in callers):
            continue
        clause = escaping(barred.ceiling.when, needed.get, needed.free, needed.otherwise)
        inside = barred.place in callers
        until = compiled.spared_until(barred, needed.permission, node.address, needed.place, inside=inside)
        if until > needed.now and clause != ():
            clause = (*(clause or ()), before(until))
        if clause is None:
            return None
        if clause:
            clauses.append(clause)
    return tuple(clauses)

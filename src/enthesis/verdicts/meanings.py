"""What of an estate means something else than it did by an earlier version: told once, before anything is enacted."""

from collections.abc import Iterator, Sequence

from enthesis.access.compiling import Compiled
from enthesis.access.target_side.admission import names_attached
from enthesis.model.addresses import is_pool, pool_of
from enthesis.model.vocabulary import Form

CHANGED_ON = "2026-12-02T00:00:00Z"
"""When meanings changed last: what was enacted before that was enacted with the former ones."""


def changed_meanings(compiled: Compiled, by_key: Sequence[str]) -> Iterator[str]:
    """The trusts, journeys and invariants of an estate that mean more than before; `by_key` are the invariants that are
    broken by way of a stored key."""
    estate = compiled.estate
    pools = [address for address in estate.resources if is_pool(address)]
    for trust in estate.trusts:
        if trust.admits.form != Form.ATTACHED:
            continue
        for pool in pools:
            runs = {compiled.places.names[one] for one in compiled.runs_as.get(compiled.find(pool), ())}
            whom = trust.admits.whom
            meant = trust.of in runs and (whom is True or names_attached(whom, pool))
            if meant:
                count = sum(pool_of(address) == pool for address in estate.resources)
                members = f"{count} declared and those to come" if count else "those to come"
                yield f"the trust of {trust.of} ({trust.source}) admits the members of {pool}: {members}"
    for journey in estate.journeys.values():
        named = [journey.origin.whom, *(hop.on for hop in journey.through)]
        for pool in dict.fromkeys(one for one in named if one in pools):
            yield f"the journey {journey.name} ({journey.source}) is about each member of {pool}, and about one to come"
    for name in by_key:
        yield f"the invariant {name} is broken by way of a stored key, which leads on to what it opens"

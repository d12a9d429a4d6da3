"""How chains end: which permissions are wanted at which place, and the direct requests that this comes to."""

from collections.abc import Sequence

import numpy as np

from enthesis.access.arrays import Bools
from enthesis.access.compiling import NONE, Compiled
from enthesis.access.many import Many, Rows
from enthesis.model.catalogue import EVERYTHING


def wanted_permissions(compiled: Compiled, verbs: Sequence[str], kinds: Sequence[str]) -> Bools:
    """The permissions that some verbs on some kinds are; `*` or no kinds at all stand for every one."""
    return np.array(
        [
            (EVERYTHING in verbs or verb in verbs) and (not kinds or EVERYTHING in kinds or kind in kinds)
            for kind, verb in compiled.permission_pairs
        ],
        bool,
    )


def ends_at(many: Many, address: str, wanted: Bools) -> tuple[Rows, Bools]:
    """The direct requests that end at a place, which means at it or in it, and the identities whose being taken on
    does: that is by trust, whatever is granted."""
    compiled = many.compiled
    rows = many.rows_at_or_in(address, wanted)
    taken = np.zeros(many.nodes, bool)
    place = compiled.find(address)
    if place != NONE and wanted[compiled.take_on]:
        numbers = np.flatnonzero(compiled.is_identity)
        first = compiled.first[numbers]
        inside = (first >= compiled.first[place]) & (first < compiled.end[place])
        taken[numbers[inside]] = True
    return rows.where(rows.permission != compiled.take_on), taken

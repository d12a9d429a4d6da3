"""How chains end: which permissions are wanted at which place, and the direct requests that this comes to."""

from collections.abc import Sequence

import numpy as np

from enthesis.access.arrays import Bools, Ints
from enthesis.access.compiling import NONE, Compiled
from enthesis.access.many import Many, Rows
from enthesis.chains.access_graph import Web
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


def ends_by_caller(web: Web, rows: Rows, edges: Ints) -> dict[int, list[tuple[int, int, int]]]:
    """What ends chains, as (caller, permission, target) by caller: direct requests, and taking on by these edges."""
    out: dict[int, list[tuple[int, int, int]]] = {}
    for who, permission, target in zip(rows.who.tolist(), rows.permission.tolist(), rows.target.tolist(), strict=True):
        out.setdefault(who, []).append((who, permission, target))
    for who, target in zip(web.edge_from[edges].tolist(), web.edge_target[edges].tolist(), strict=True):
        out.setdefault(who, []).append((who, web.compiled.take_on, target))
    return out


def takings(web: Web, taken: Bools) -> Ints:
    """The edges by which some identities (by node) are taken on."""
    return np.flatnonzero(taken[web.edge_to] & (web.edge_permission == web.compiled.take_on))

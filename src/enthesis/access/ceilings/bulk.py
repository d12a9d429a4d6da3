"""Which of many requests a ceiling bars."""

import numpy as np

from enthesis.access.arrays import Bools, Ints
from enthesis.access.compiling import Compiled, CompiledCeiling
from enthesis.access.states import LOOK, NO, Batch, States


def lower(compiled: Compiled, batch: Batch, state: States) -> None:
    """Lowers the states of requests that a ceiling bars: to LOOK where that hangs on a condition."""
    for at, found in compiled.ceilings_at.items():
        for barred in found:
            over_callers = barred.ceiling.over == "callers"
            if over_callers and batch.who is None:
                continue
            bits = np.array([barred.refuses >> bit & 1 for bit in range(len(compiled.permission_pairs))], bool)
            beneath = batch.who if over_callers and batch.who is not None else batch.place
            hit = bits[batch.permission] & (state > NO)
            hit &= (compiled.first[beneath] >= compiled.first[at]) & (compiled.first[beneath] < compiled.end[at])
            rows = np.flatnonzero(hit)
            if over_callers and batch.who is not None:
                rows = rows[~_takes_its_own(compiled, batch, rows)]
            if batch.who is not None and (barred.excepted or barred.patterns):
                rows = rows[~_spared(compiled, barred, batch.who[rows])]
            state[rows] = np.minimum(state[rows], LOOK if barred.ceiling.when or barred.for_a_while else NO)


def _takes_its_own(compiled: Compiled, batch: Batch, rows: Ints) -> Bools:
    """Which of some requests are a resource's to take on what it runs as."""
    who = batch.who if batch.who is not None else rows
    may = (batch.permission[rows] == compiled.take_on) & ~compiled.is_identity[who[rows]]
    own = [
        bool(one)
        and compiled.takes_its_own(compiled.take_on, compiled.places.names[int(who[row])], int(batch.place[row]))
        for row, one in zip(rows.tolist(), may.tolist(), strict=True)
    ]
    return np.array(own, bool)


def _spared(compiled: Compiled, barred: CompiledCeiling, who: Ints) -> Bools:
    names = compiled.places.names
    different, back = np.unique(who, return_inverse=True)
    inside = [compiled.inside(barred.place, one) for one in different.tolist()]
    spared = [barred.leaves_alone(names[one], near) for one, near in zip(different.tolist(), inside, strict=True)]
    return np.array(spared, bool)[back] if spared else np.zeros(0, bool)

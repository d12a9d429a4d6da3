"""Which of many requests the caller's account does not let out."""

import numpy as np

from enthesis.access.compiling import Compiled
from enthesis.access.granting.bulk import covered
from enthesis.access.states import NO, Batch, States, lowered
from enthesis.model.vocabulary import VerdictStep


def lower(compiled: Compiled, batch: Batch, state: States, now: float) -> None:
    """Lowers the states of crossings by what grants on the caller's side amount to, but of accounts of others."""
    who = batch.who
    if who is None:
        return
    crossing = compiled.crossing(who, batch.place) & (state > NO) & ~compiled.given(who)
    rows = np.flatnonzero(crossing)
    if len(rows):
        side = VerdictStep.CALLER_SIDE
        lowered(state, rows, covered(compiled, now, side, who[rows], batch.permission[rows], batch.place[rows]))

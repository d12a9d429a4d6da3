"""Which of many requests name what does not stand."""

import numpy as np

from enthesis.access.compiling import Compiled
from enthesis.access.states import LOOK, NO, Batch, States


def lower(compiled: Compiled, batch: Batch, state: States) -> None:
    """Lowers the states of requests of or about identities that do not stand; what members to come are like is free."""
    about = batch.kind == compiled.kind_number["identity"]
    state[about & ~compiled.stands[batch.place]] = NO
    of_people = np.isin(batch.permission, list(compiled.not_of_people)) & compiled.is_person[batch.place]
    state[of_people] = NO
    if batch.who is None:
        return
    state[~compiled.stands[batch.who]] = NO
    if compiled.to_come:
        state[compiled.is_to_come[batch.who] & compiled.is_identity[batch.who] & (state > NO)] = LOOK

"""Which of many requests are made where the caller's session does not work."""

from enthesis.access.compiling import NONE, Compiled
from enthesis.access.states import NO, Batch, States


def lower(compiled: Compiled, batch: Batch, state: States) -> None:
    """Lowers the states of requests at another provider than the caller's; a person is known at each."""
    if batch.who is None:
        return
    wanted = compiled.provider[batch.place]
    known = (compiled.provider[batch.who] == wanted) | compiled.is_person[batch.who]
    state[(wanted != NONE) & ~known & (batch.permission != compiled.take_on)] = NO

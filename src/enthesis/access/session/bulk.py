"""Which of many hops lead on for as long as their sessions live."""

from enthesis.access.arrays import Ints
from enthesis.access.compiling import Compiled
from enthesis.access.states import LOOK, YES, States


def lower(compiled: Compiled, permission: Ints, state: States, *, ages: bool) -> None:
    """What a hop leads to hangs on how old its session may get, where any condition asks for ages."""
    if ages:
        state[(permission == compiled.take_on) & (state == YES)] = LOOK

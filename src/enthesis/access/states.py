"""Many requests at a time: the columns they are given in, and the states they come out in."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from enthesis.access.arrays import Ints

NO, LOOK, YES = 0, 1, 2
States = NDArray[np.int8]
"""For each request whether it is allowed: LOOK hangs on a condition, and `require` says what it takes."""


@dataclass(frozen=True, slots=True)
class Batch:
    """Requests as columns: who asks (places by number; None for bearers), which permission, of what (its place, the
    number of its kind, its number among the targets)."""

    who: Ints | None
    permission: Ints
    place: Ints
    kind: Ints
    target: Ints


def lowered(state: States, rows: Ints, found: States) -> None:
    """Lowers states to what was found. A row may stand several times."""
    np.minimum.at(state, rows, found)

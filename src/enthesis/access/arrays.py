"""Sets of numbers as sorted arrays."""

import numpy as np
import numpy.typing as npt

Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]


def once(values: Ints) -> Ints:
    """Every value once, sorted. Sorting is quicker here than the library's hashing, which also
    imports its masked arrays."""
    if not len(values):
        return values
    values = np.sort(values)
    new = np.ones(len(values), bool)
    new[1:] = values[1:] != values[:-1]
    return values[new]


def among(values: Ints, known: Ints) -> Bools:
    """Which values are among those of a sorted array."""
    if not len(known):
        return np.zeros(len(values), bool)
    at = np.minimum(np.searchsorted(known, values), len(known) - 1)
    out: Bools = known[at] == values
    return out


def spread(low: Ints, count: Ints) -> tuple[Ints, Ints]:
    """For ranges that begin at `low` with `count` each: the range and the position of every element in turn."""
    total = int(count.sum())
    row = np.repeat(np.arange(len(low)), count)
    starts = np.repeat(np.cumsum(count) - count, count)
    return row, np.arange(total) - starts + np.repeat(low, count)

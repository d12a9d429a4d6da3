"""Which of many requests a grant on one side covers."""

import numpy as np

from enthesis.access.arrays import Ints, spread
from enthesis.access.compiling import NONE, Compiled
from enthesis.access.states import LOOK, NO, YES, States
from enthesis.model.vocabulary import VerdictStep


def principals(compiled: Compiled, who: Ints) -> tuple[Ints, Ints]:
    """Every number by which grants can name each of these, and its position among them."""
    low, high = np.searchsorted(compiled.member, who), np.searchsorted(compiled.member, who + 1)
    row, at = spread(low, high - low)
    here = np.arange(len(who))
    return np.concatenate([who, compiled.member_group[at]]), np.concatenate([here, row])


def covered(compiled: Compiled, now: float, side: VerdictStep, who: Ints, permission: Ints, place: Ints) -> States:
    """Whether some grant in force on one side covers each request: YES without a condition, LOOK only with one."""
    state = np.full(len(who), NO, np.int8)
    principal, row = principals(compiled, who)
    at = place[row]
    while len(at):
        wanted = (principal << 32) | at
        low, high = np.searchsorted(compiled.grant_keys, wanted), np.searchsorted(compiled.grant_keys, wanted + 1)
        pair, position = spread(low, high - low)
        if len(pair):
            grant, here = compiled.grants_by_key[position], row[pair]
            sound = compiled.role_allows[compiled.grant_role[grant], permission[here]]
            sound &= compiled.grants_in_force(now, grant)
            holder = compiled.grant_holder[grant]
            beneath = place[here] if side is VerdictStep.TARGET_SIDE else compiled.account[who[here]]
            sound &= beneath != NONE
            sound &= (compiled.first[holder] <= compiled.first[beneath]) & (
                compiled.first[beneath] < compiled.end[holder]
            )
            plain = sound & ~compiled.grant_open[grant]
            state[here[sound]] = np.maximum(state[here[sound]], LOOK)
            state[here[plain]] = YES
        above = compiled.parent[at]
        keep = (above != NONE) & (state[row] < YES)
        principal, row, at = principal[keep], row[keep], above[keep]
    return state

"""Which of many requests the target's side lets in, and whom each trust can admit."""

from collections.abc import Iterable

import numpy as np

from enthesis.access.arrays import Ints
from enthesis.access.attributes import service_account_subjects
from enthesis.access.compiling import NONE, Compiled
from enthesis.access.granting.bulk import covered
from enthesis.access.states import NO, Batch, States
from enthesis.access.target_side.admission import names_attached
from enthesis.access.target_side.keys import uses_key
from enthesis.model.addresses import is_pool
from enthesis.model.conditions import Glob
from enthesis.model.vocabulary import BEARERS, Form, VerdictStep


def lower(compiled: Compiled, batch: Batch, state: States, owner: States | None, now: float) -> None:
    """Lowers the states of requests by what grants on the target's side amount to (`owner`, where that is known), and
    of uses of a provider's key from outside of its account."""
    who = batch.who
    if who is None:
        return
    if compiled.key_by_provider:
        uses = np.array([uses_key(kind, verb) for kind, verb in compiled.permission_pairs], bool)
        foreign = uses[batch.permission] & (compiled.account[who] != compiled.account[batch.place])
        state[foreign & np.isin(batch.place, list(compiled.key_by_provider))] = NO
    if owner is None:
        owner = covered(compiled, now, VerdictStep.TARGET_SIDE, who, batch.permission, batch.place)
    np.minimum(state, owner, out=state)


def admitted(compiled: Compiled, now: float, issuers: dict[str, int]) -> tuple[Ints, Ints]:
    """Pairs of a node and the number of a trust that can admit it, the trust's conditions left aside.

    The same as `admission.lacks` for all callers at once; of an account only those that it lets. `issuers` are the
    nodes of bearers.
    """
    tables = compiled.tables
    index = compiled.places.index
    live = (compiled.trusts_in_force(now) & (compiled.trust_of != NONE)).tolist()
    running: dict[int, list[int]] = {}
    for place, identities in compiled.runs_as.items():
        for identity in identities if not is_pool(compiled.places.names[place]) else ():
            running.setdefault(identity, []).append(place)
    workloads = _workloads(compiled)
    who: list[int] = []
    by: list[int] = []
    for number, (form, whom) in enumerate(zip(tables.trust_form, tables.trust_whom, strict=True)):
        if not live[number]:
            continue
        found: Iterable[int]
        if form in (Form.IDENTITY, Form.PERSON):
            found = (index.get(str(whom), NONE),)
        elif form in BEARERS:
            found = (issuers.get(str(whom), NONE), *(workloads.get(str(whom), ()) if form == Form.TOKEN else ()))
        elif form == Form.GROUP:
            found = _of_group(compiled, number, str(whom))
        elif form == Form.ACCOUNT:
            found = _of_account(compiled, number, str(whom), now)
        else:
            found = _attached(compiled, number, whom, running)
        for one in found:
            if one != NONE:
                who.append(one)
                by.append(number)
    return np.array(who, np.int64), np.array(by, np.int64)


def _workloads(compiled: Compiled) -> dict[str, list[int]]:
    """By issuer of a cluster, the workloads there that can show a token of a service account of theirs."""
    out: dict[str, list[int]] = {}
    for place in compiled.runs_as:
        name = compiled.places.names[place]
        if "/workload/" in name and service_account_subjects(compiled, name):
            issuer = compiled.estate.issuer_of_workload(name)
            if issuer is not None:
                out.setdefault(issuer, []).append(place)
    return out


def _of_group(compiled: Compiled, number: int, group: str) -> list[int]:
    of = int(compiled.trust_of[number])
    found = compiled.members.get(compiled.find(group), np.zeros(0, np.int64))
    members: list[int] = found[compiled.is_person[found] | (compiled.provider[found] == compiled.provider[of])].tolist()
    return members


def _of_account(compiled: Compiled, number: int, name: str, now: float) -> list[int]:
    of, account = int(compiled.trust_of[number]), compiled.find(name)
    if account == NONE or compiled.provider[account] != compiled.provider[of]:
        return []
    mine = compiled.identity_places[compiled.account[compiled.identity_places] == account]
    if not compiled.is_given(account):
        take_on, there = np.full(len(mine), compiled.take_on, np.int64), np.full(len(mine), of, np.int64)
        mine = mine[covered(compiled, now, VerdictStep.CALLER_SIDE, mine, take_on, there) > NO]
    let: list[int] = mine.tolist()
    return let


def _attached(compiled: Compiled, number: int, whom: str | Glob | bool, running: dict[int, list[int]]) -> Iterable[int]:
    of, names = int(compiled.trust_of[number]), compiled.places.names
    for place in running.get(of, ()):
        if whom is True:
            fits = bool(compiled.account[place] == compiled.account[of])
        else:
            fits = names_attached(whom, names[place])
        if fits:
            yield place

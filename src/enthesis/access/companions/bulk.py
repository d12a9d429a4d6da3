"""What the companions of many requests amount to."""

from collections.abc import Callable, Sequence

import numpy as np

from enthesis.access.arrays import Bools, Ints
from enthesis.access.compiling import NONE, Compiled
from enthesis.access.states import NO, Batch, States, lowered
from enthesis.model.catalogue import IDENTITIES, NEAREST_KEY, Companion

Decided = Callable[[Ints, Ints, Ints], States]
"""The states of further requests: who, permission, target."""


class AlsoAsked:
    """The companions of one compiled estate that are asked at places of its own."""

    def __init__(self, compiled: Compiled, targets: int) -> None:
        self.compiled = compiled
        self.targets = targets
        on = (NEAREST_KEY, IDENTITIES) if compiled.key_above else (IDENTITIES,)
        self.at_places: list[tuple[Companion, Bools]] = [
            (companion, np.array([companion in listed for listed in compiled.companions], bool))
            for companion in compiled.catalogue.companions
            if companion.on in on
        ]
        key = [NONE] * len(compiled.places.names)
        parent, own = compiled.places.parent, compiled.key_above
        for place in range(len(key)):
            above = parent[place]
            key[place] = own.get(place, key[above] if above != NONE else NONE)
        self.nearest_key: Ints = np.array(key, np.int64)
        """The nearest encrypting key at or above every place; NONE where there is none."""

    def lower(self, batch: Batch, state: States, runs: Callable[[int], Sequence[int]], decided: Decided) -> None:
        """Lowers states by what the companions amount to. `runs` are the identities that a target runs as."""
        if batch.who is None:
            return
        for companion, goes_with in self.at_places:
            asked = np.flatnonzero(goes_with[batch.permission] & (state > NO))
            if not len(asked):
                continue
            if companion.on == NEAREST_KEY:
                key = self.nearest_key[batch.place[asked]]
                rows, there, kind = asked[key != NONE], key[key != NONE], "key"
            else:
                pairs = [(row, identity) for row in asked.tolist() for identity in runs(int(batch.target[row]))]
                rows, there = (
                    (np.array(column, np.int64) for column in zip(*pairs, strict=True)) if pairs else (asked[:0],) * 2
                )
                kind = "identity"
            if len(rows):
                further = np.full(len(rows), self.compiled.permission[kind, companion.also], np.int64)
                self._also(state, rows, (batch.who[rows], further, there), decided)

    def _also(self, state: States, rows: Ints, asked: tuple[Ints, Ints, Ints], decided: Decided) -> None:
        """Lowers states by further requests; equal ones are decided once."""
        who, permission, target = asked
        code = (who * len(self.compiled.permission_pairs) + permission) * self.targets + target
        order = np.argsort(code)
        new = np.ones(len(code), bool)
        new[1:] = code[order][1:] != code[order][:-1]
        first = order[new]
        found = decided(who[first], permission[first], target[first])
        back = np.empty(len(code), np.int64)
        back[order] = np.cumsum(new) - 1
        lowered(state, rows, found[back])

"""A state between two versions: what it allows that neither of them does, and what it refuses though both allow it.

Both are found value by value: a caller whom one version admits and a caller whom the other does are not the same one.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from enthesis.access.arrays import Ints, among
from enthesis.access.compiling import NONE
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import ChainStart
from enthesis.chains.differences import (
    Compared,
    RequestWay,
    Sides,
    decoded,
    had_by,
    mentioned_in,
    start_of,
    triples,
    web_like,
    webs_of,
)
from enthesis.model.errors import Undecided
from enthesis.model.estate import Estate
from enthesis.model.vocabulary import Form

Ends = dict[int, set[tuple[int, int]]]
"""By the node of a caller, permissions and targets."""


@dataclass(frozen=True, slots=True)
class Meant:
    """A caller, by its form, and what it does to what."""

    form: Form
    caller: str
    verb: str
    target: str


@dataclass(frozen=True, slots=True)
class Between:
    """What a state opens beyond two versions, what it shuts that both have open, and what was not decided."""

    opens: tuple[Meant, ...] = ()
    shuts: tuple[Meant, ...] = ()
    undecided: str = ""

    @property
    def is_clean(self) -> bool:
        """Whether nothing opens or shuts on the way, and all of it was decided."""
        return not (self.opens or self.shuts or self.undecided)


class Versions:
    """Two versions of an estate, and the states between them. What is the same for every state is made once."""

    def __init__(self, before: Estate, after: Estate, now: float) -> None:
        self._before, self._after = webs_of(before, after, now=now)
        self._names = mentioned_in(before, after)

    @cached_property
    def _sides(self) -> Sides:
        return Sides(self._after, self._before)

    def between(self, state: Estate) -> Between:
        """What a state opens and shuts whose statements are those of either version."""
        web = web_like(self._before, state, self._names)
        try:
            to_before, to_after = Sides(self._before, web), Sides(self._after, web)
            codes = _only_here(to_before)
            candidates = codes[among(codes, _only_here(to_after))]
            opens = tuple(dict.fromkeys(_beyond_both(_compared(to_before), _compared(to_after), candidates)))
            gone = Compared(to_before.before, to_before.after, everybody=to_before.everybody)
            shuts = tuple(dict.fromkeys(_in_both(gone, _compared(self._sides))))
        except Undecided as bound:
            return Between(undecided=str(bound))
        return Between(opens, shuts)


def _compared(sides: Sides) -> Compared:
    """What the later of two webs takes, against the earlier."""
    return Compared(sides.after, sides.before, everybody=sides.everybody)


def _only_here(sides: Sides) -> Ints:
    """Codes of what the later web may allow and the earlier one does not surely."""
    return sides.after.not_surely_in(sides.before)


def _ends(web: Web, codes: Ints) -> Ends:
    out: Ends = {}
    for who, permission, target in triples(decoded(web, codes)):
        out.setdefault(who, set()).add((permission, target))
    return out


def _beyond_both(comparison: Compared, other: Compared, codes: Ints) -> Iterator[Meant]:
    """What the state allows with values with which neither version does."""
    for who, ends in _ends(comparison.here.web, codes).items():
        twins = (_twin(comparison, who), _twin(other, who))
        yield from _of_start(comparison, other, start_of(comparison.mine, who), twins, ends)
    for start in comparison.mine.from_credentials():
        named = [
            {(each.form, each.whom): each for each in compared.theirs.from_credentials()}
            for compared in (comparison, other)
        ]
        twins = (named[0].get((start.form, start.whom)), named[1].get((start.form, start.whom)))
        if among(np.array([start.node]), comparison.here.callers_looked_at)[0]:
            yield from _of_start(comparison, other, start, twins, None)


def _of_start(
    comparison: Compared, other: Compared, start: ChainStart, twins: tuple[ChainStart | None, ChainStart | None],
    ends: set[tuple[int, int]] | None,
) -> Iterator[Meant]:  # fmt: skip
    mine = comparison.ways(comparison.mine, comparison.here, start, ends)
    theirs = (_ways_there(comparison, twins[0], mine), _ways_there(other, twins[1], mine))
    for end, ways in mine.items():
        known = (theirs[0].get(end, []), theirs[1].get(end, []))
        fresh = [
            way
            for way in ways
            if not any(_as_wide(way, start, there, twin) for there, twin in zip(known, twins, strict=True))
        ]
        if not fresh:
            continue
        had = [*had_by(known[0], twins[0]), *had_by(known[1], twins[1])]
        if any(comparison.beyond(start, way.takes, had) is not None for way in fresh):
            yield _meant(comparison.here.web, start, end)


def _as_wide(way: RequestWay, start: ChainStart, others: Sequence[RequestWay], twin: ChainStart | None) -> bool:
    """Whether one of the ways on another side takes no more than this one."""
    same = twin is not None and twin.knowns.limits == start.knowns.limits
    return same and any(other.clauses <= way.clauses for other in others)


def _twin(compared: Compared, who: int) -> ChainStart | None:
    twin = int(compared.here.to_node[who])
    return start_of(compared.theirs, twin) if twin != NONE else None


def _ways_there(
    compared: Compared,
    twin: ChainStart | None,
    ends: Sequence[tuple[int, int]] | dict[tuple[int, int], list[RequestWay]],
) -> dict[tuple[int, int], list[RequestWay]]:
    """The ways on the other side, by the ends as they are called here."""
    if twin is None:
        return {}
    named = {compared.as_theirs(end): end for end in ends}
    found = compared.ways(compared.theirs, compared.there, twin, set(named))
    return {named[end]: ways for end, ways in found.items()}


def _in_both(gone: Compared, kept: Compared) -> Iterator[Meant]:
    """What both versions allow with values with which the state does not: the first version compared with the state
    (`gone`), and with the other version (`kept`)."""
    before = gone.here.web
    for who, ends in _ends(before, gone.here.not_surely_in(gone.there)).items():
        start, in_state, in_after = start_of(gone.mine, who), _twin(gone, who), _twin(kept, who)
        if in_after is None:
            continue
        mine = gone.ways(gone.mine, gone.here, start, ends)
        there, later = _ways_there(gone, in_state, mine), _ways_there(kept, in_after, mine)
        for end, ways in mine.items():
            still = there.get(end, [])
            lost = [way for way in ways if not _as_wide(way, start, still, in_state)]
            others = [way for way in later.get(end, []) if not _as_wide(way, start, still, in_state)]
            had = had_by(still, in_state) if lost and others else []
            both = ((way, takes) for way in lost for takes in had_by(others, in_after))
            if any(gone.beyond(start, (*way.takes, *takes), had) is not None for way, takes in both):
                yield _meant(before, start, end)


def _meant(web: Web, start: ChainStart, end: tuple[int, int]) -> Meant:
    verb = web.compiled.permission_pairs[end[0]][1]
    return Meant(start.form, start.whom, verb, web.target_name(end[1]))

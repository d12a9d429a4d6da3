"""The order of the steps of a proposal, in stages: no state on the way opens more than the live side does before or
after, and what both allow stays allowed wherever an order does both.

Each step widens access, narrows it, or does both. Steps that only widen (or only narrow) may be done in any order
among themselves: every state on the way lies between the first and the last. So only the states between stages are
judged, by the same exact comparison as everything else.
"""

from collections.abc import Callable, Mapping, Sequence, Set
from dataclasses import dataclass, replace
from typing import Any

from enthesis.chains.intermediate_states import Between, Meant
from enthesis.model.vocabulary import MAKING_ORDER, REMOVING_ORDER, STATEMENT_SECTIONS
from enthesis.proposals.lingering import USUAL
from enthesis.proposals.steps import CHANGE, MAKE, REMOVE, Step
from enthesis.surveys.statements import listed
from enthesis.text.times import duration_from, time_from

WIDENS, NARROWS, BOTH, NEITHER = "widens", "narrows", "both", "neither"
STATES = 60  # that are judged at the most; then everything that narrows comes first
ENDED = "2000-01-01T00:00:00Z"  # an end long past, which makes a statement give nothing
ROLES = ("role", "includes")
OF_PEOPLE = ("owner", "purpose", "because")  # fields that say something to people and give nothing


Judged = Callable[[Sequence[Step]], Between]
"""Judges the state in which these steps are done and no others."""


@dataclass(frozen=True, slots=True)
class Ordered:
    """The steps in their order, each with its stage, and what is refused for a while."""

    steps: tuple[Step, ...]
    outages: tuple[Meant, ...] = ()


def ordered(steps: Sequence[Step], judged: Judged) -> Ordered:
    """The steps in stages. One that does both may be split in two where no order of whole steps is safe."""
    search = _OrderSearch(steps, judged)
    found = search.found()
    if found is None and any(_halves(step) for step in steps):
        parts = [part for step in steps for part in (_halves(step) or (step,))]
        search = _OrderSearch(parts, judged)
        found = search.found()
        steps = parts
    if found is None:
        found = search.narrowing_first()
    stages, outages = found
    out = [
        replace(steps[at], stage=number)
        for number, stage in enumerate(stages)
        for at in _in_order(stage, steps, search.needs)
    ]
    return Ordered(tuple(out), outages)


Found = tuple[list[list[int]], tuple[Meant, ...]]


class _OrderSearch:
    """Looks for stages of which each state is safe, and keeps what both sides allow."""

    def __init__(self, steps: Sequence[Step], judged: Judged) -> None:
        self.steps = steps
        self.needs = needs_of(steps)
        self.ways = [direction(step) for step in steps]
        self._judged = judged
        self._known: dict[frozenset[int], Between] = {}

    def found(self) -> Found | None:
        """Stages with nothing opened and nothing refused on the way; None where none were found."""
        if BOTH not in self.ways and len({way for way in self.ways if way != NEITHER}) <= 1:
            return ([list(range(len(self.steps)))] if self.steps else []), ()
        limits = all(
            self.steps[at].action == MAKE for at in self._all(NARROWS)
        )  # new ceilings, which shut nothing else
        first, second = (NARROWS, WIDENS) if limits else (WIDENS, NARROWS)
        return self._whole(first) or self._whole(second) or self._step_by_step()

    def _whole(self, first: str) -> Found | None:
        """All that widens before all that narrows, or the other way round, with what does both between them."""
        last = NARROWS if first == WIDENS else WIDENS
        stages = [self._all(first, NEITHER), *([at] for at in self._mixed()), self._all(last)]
        stages = [stage for stage in stages if stage]
        return (stages, ()) if self._holds(stages) else None

    def _all(self, *ways: str) -> list[int]:
        return [at for at, way in enumerate(self.ways) if way in ways]

    def _mixed(self) -> list[int]:
        return _in_order(self._all(BOTH), self.steps, self.needs)

    def _holds(self, stages: list[list[int]]) -> bool:
        """Whether stages keep to what needs what, and each state between two of them is as it should be."""
        done: set[int] = set()
        for stage in stages:
            if any(not self.needs[at] <= done | set(stage) for at in stage):
                return False
            done |= set(stage)
            if len(done) < len(self.steps) and done and not self._between(done).is_clean:
                return False
        return True

    def _between(self, done: Set[int]) -> Between:
        key = frozenset(done)
        if key not in self._known:
            self._known[key] = self._judged([self.steps[at] for at in sorted(done)])
        return self._known[key]

    def _step_by_step(self) -> Found | None:
        """Steps one after another, tried in every order until one is found or the bound is reached."""
        every = frozenset(range(len(self.steps)))
        dead: set[frozenset[int]] = set()
        rank = {WIDENS: 0, NEITHER: 0, BOTH: 1, NARROWS: 2}

        def follow(done: frozenset[int]) -> list[int] | None:
            if done == every:
                return []
            if done in dead or len(self._known) >= STATES:
                return None
            ready = [at for at in every - done if self.needs[at] <= done]
            for at in sorted(ready, key=lambda number: (rank[self.ways[number]], number)):
                after = done | {at}
                if after != every and not self._between(after).is_clean:
                    continue
                rest = follow(after)
                if rest is not None:
                    return [at, *rest]
            dead.add(done)
            return None

        path = follow(frozenset()) if len(self.steps) <= STATES else None
        return (self._staged(path), ()) if path is not None else None

    def _staged(self, path: Sequence[int]) -> list[list[int]]:
        """Stages of a path: what goes one way is done at once."""
        stages: list[list[int]] = []
        way = ""
        for at in path:
            its = self.ways[at]
            if stages and its != BOTH and (its in (way, NEITHER) or way == NEITHER):
                stages[-1].append(at)
                way = way if its == NEITHER else its
            else:
                stages.append([at])
                way = its
        return stages

    def narrowing_first(self) -> Found:
        """Stages that open nothing, whatever is refused for a while; what that is."""
        stages = [self._all(NARROWS), *([at] for at in self._mixed()), self._all(WIDENS, NEITHER)]
        stages = _mended(stages, self.needs)
        shut: dict[Meant, None] = {}
        done: set[int] = set()
        for stage in stages[:-1]:
            done |= set(stage)
            shut |= dict.fromkeys(self._between(done).shuts) if done else {}
        return stages, tuple(shut)


def _mended(stages: list[list[int]], needs: Sequence[set[int]]) -> list[list[int]]:
    """The same stages, with what an earlier one needs moved to before it."""
    at_stage = {at: number for number, stage in enumerate(stages) for at in stage}
    for at in sorted(at_stage, key=lambda one: at_stage[one]):
        waiting = [at]
        while waiting:
            one = waiting.pop()
            for need in needs[one]:
                if at_stage[need] > at_stage[one]:
                    at_stage[need] = at_stage[one]
                    waiting.append(need)
    found: list[list[int]] = [[] for _ in stages]
    for at, number in at_stage.items():
        found[number].append(at)
    return [stage for stage in found if stage]


def needs_of(steps: Sequence[Step]) -> list[set[int]]:
    """For each step the positions of those that must be done before it: what it names is made before, what is named is
    removed after, and a statement is changed in turn."""
    makers: dict[str, list[int]] = {}
    users: dict[str, list[int]] = {}
    turns: dict[tuple[str, str], int] = {}
    needs: list[set[int]] = [set() for _ in steps]
    for at, step in enumerate(steps):
        name = _name_of(step)
        if step.action == MAKE and name:
            makers.setdefault(name, []).append(at)
        if step.before is not None:
            for used in _names_in(step, step.before):
                if step.action == REMOVE or used not in _names_in(step, step.body or {}):
                    users.setdefault(used, []).append(at)
        if step.id is not None:
            there = (step.provider, step.id)
            if there in turns:
                needs[at].add(turns[there])
            turns[there] = at
    for at, step in enumerate(steps):
        if step.body is not None:
            for used in _names_in(step, step.body):
                made = makers.get(used, [])
                here = [maker for maker in made if steps[maker].provider == step.provider]
                needs[at].update(maker for maker in here or made if maker != at)  # several systems may have one each
        if step.action == REMOVE:
            needs[at] |= {user for user in users.get(_name_of(step), ()) if user != at}
    return needs


def in_usual_order(steps: Sequence[Step]) -> list[Step]:
    """The steps, each after what it needs: what limits first, what is named before what names it."""
    return [steps[at] for at in _in_order(range(len(steps)), steps, needs_of(steps))]


def _in_order(stage: Sequence[int], steps: Sequence[Step], needs: Sequence[set[int]]) -> list[int]:
    """The steps of a stage, each after what it needs, and else in the usual order."""
    inside, out, seen = set(stage), list[int](), set[int]()

    def rank(at: int) -> tuple[int, int]:
        step = steps[at]
        order = REMOVING_ORDER if step.action == REMOVE else MAKING_ORDER
        at_identity = step.collection == "ceilings" and step.body is not None and "/identity/" in str(step.body["at"])
        return (step.action == REMOVE, order.index("groups" if at_identity else step.collection))

    for first in sorted(stage, key=rank):
        waiting = [first]
        while waiting:
            at = waiting[-1]
            open_needs = [need for need in sorted(needs[at]) if need in inside and need not in seen]
            if at in seen or not open_needs or any(need in waiting for need in open_needs):
                waiting.pop()
                if at not in seen:
                    seen.add(at)
                    out.append(at)
            else:
                waiting.extend(reversed(open_needs))
    return out


def _name_of(step: Step) -> str:
    """What others name a statement by; '' for those that nobody names."""
    body = step.body or step.before or {}
    if step.collection in ("identities", "groups"):
        return str(body.get("address"))
    return f"{step.provider} {step.holder} role {body.get('name')}" if step.collection == "roles" else ""


def _names_in(step: Step, body: Mapping[str, Any]) -> list[str]:
    """What a statement names."""
    role = f"{step.provider} {step.holder} role "
    fields = STATEMENT_SECTIONS[step.collection].naming if step.collection in STATEMENT_SECTIONS else ()
    if step.collection == "trusts" and isinstance(body.get("admits"), Mapping):
        body = {**body["admits"], **body}
    return [role + name if field in ROLES else name for field in fields for name in listed(body.get(field))]


# -- which way a step goes ------------------------------------------------------------------------------------------


def direction(step: Step) -> str:
    """Whether a step only widens access, only narrows it, does both or neither; `both` where that is not plain."""
    section = STATEMENT_SECTIONS.get(step.collection)
    limits = section is not None and section.limits
    if step.action == MAKE:
        return NARROWS if limits else WIDENS
    if step.action == REMOVE:
        return WIDENS if limits else NARROWS
    before, after = dict(step.before or {}), dict(step.body or {})
    ways = {_way(step.collection, name, before.get(name), after.get(name)) for name in {*before, *after}} - {NEITHER}
    if not ways:
        return NEITHER
    return ways.pop() if len(ways) == 1 else BOTH


def _way(collection: str, name: str, was: Any, is_now: Any) -> str:
    """Which way one field goes from one value to another."""
    if was == is_now or name in OF_PEOPLE:
        return NEITHER
    if name == "until":
        return _later(was, is_now)
    if name == "session":
        first, second = duration_from(was or USUAL), duration_from(is_now or USUAL)
        return BOTH if first is None or second is None else WIDENS if second > first else NARROWS
    if name == "allows":
        return _more(_pairs(was), _pairs(is_now))
    if name in ("includes", "members", "runs_as") or (collection, name) == ("ceilings", "except"):
        return _more(_set(was), _set(is_now))
    if name in ("only", "bars") and was and is_now:
        pairs = (_pairs(was), _pairs(is_now))
        return _more(*pairs) if name == "only" else _more(*reversed(pairs))
    if name == "when" and isinstance(was or {}, dict) and isinstance(is_now or {}, dict):
        way = _more(_conditions(is_now), _conditions(was))  # each condition is one more to be met
        return {WIDENS: NARROWS, NARROWS: WIDENS}.get(way, way) if collection == "ceilings" else way
    if name == "disabled":
        return NARROWS if is_now else WIDENS
    if name == "admits" and isinstance(was, dict) and isinstance(is_now, dict):
        return _admitted(was, is_now) if collection == "trusts" else _more(_conditions(is_now), _conditions(was))
    return BOTH


def _admitted(was: Mapping[str, Any], is_now: Mapping[str, Any]) -> str:
    """Which way a trust goes whose callers are said otherwise: more conditions on the same issuer admit fewer."""
    shown = {"claims", "attributes", "subject"}
    same = {name: value for name, value in was.items() if name not in shown} == {
        name: value for name, value in is_now.items() if name not in shown
    }
    if not same:
        return BOTH
    return _more(
        {pair for name in shown for pair in _conditions(is_now.get(name))},
        {pair for name in shown for pair in _conditions(was.get(name))},
    )


def _conditions(value: Any) -> set[str]:
    return {f"{name} {inner!r}" for name, inner in value.items()} if isinstance(value, Mapping) else set()


def _pairs(value: Any) -> set[str]:
    if not isinstance(value, Mapping):
        return set()
    return {f"{kind} {verb}" for kind, verbs in value.items() for verb in listed(verbs)}


def _set(value: Any) -> set[str]:
    listed = value if isinstance(value, list | tuple) else [] if value is None else [value]
    return {repr(one) for one in listed}


def _more(was: set[str], is_now: set[str]) -> str:
    if was == is_now:
        return NEITHER
    return WIDENS if was < is_now else NARROWS if is_now < was else BOTH


def _later(was: Any, is_now: Any) -> str:
    if was is None or is_now is None:
        return NARROWS if was is None else WIDENS
    first, second = time_from(was), time_from(is_now)
    return BOTH if first is None or second is None else WIDENS if second > first else NARROWS


# -- a step in two halves -------------------------------------------------------------------------------------------


def _halves(step: Step) -> tuple[Step, Step] | None:
    """A change that does both as one that only narrows and one that only widens; None where there is none."""
    if step.action != CHANGE or direction(step) != BOTH or step.before is None or step.body is None:
        return None
    halfway = _halfway(step.collection, step.before, step.body)
    if halfway is None or halfway in (step.before, step.body):
        return None
    first = replace(step, body=halfway, sentence=f"{step.sentence} (first without what is new)")
    return first, replace(step, before=halfway, etag=None)


def _halfway(collection: str, before: Mapping[str, Any], after: Mapping[str, Any]) -> dict[str, Any] | None:
    """What allows no more than either, as far as a statement can say that."""
    if collection in ("trusts", "grants"):
        return {**before, "until": ENDED}
    if collection == "identities":
        return {**before, "disabled": True}
    if collection == "attachments":
        both = [name for name in listed(before.get("runs_as")) if name in listed(after.get("runs_as"))]
        return {**before, "runs_as": both[0] if len(both) == 1 else both} if both else None
    if collection == "groups" and before.get("where") == after.get("where"):
        both = [member for member in before.get("members", ()) if member in after.get("members", ())]
        return {**before, "members": both} if both else None
    if collection == "roles" and set(listed(before.get("includes"))) == set(listed(after.get("includes"))):
        allows = {
            kind: both
            for kind, verbs in before["allows"].items()
            if (both := [verb for verb in listed(verbs) if verb in listed(after["allows"].get(kind))])
        }
        return {**before, "allows": allows} if allows else None
    return None

"""What can be had by first changing access: the powers that a chain gathers, and what they lead on to.

A fixed point: identities that are reached, what they have the power to change, and what that opens. Powers only ever
add, so the order does not matter. Conditions are taken one by one here; `certain` counts only what hangs on none.
"""

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from enthesis.access.arrays import Bools
from enthesis.access.compiling import NONE
from enthesis.access.needed import NO_POWERS, Powers, goal_at
from enthesis.access.requirements import ALWAYS, Requirement
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chain, Chains, ChainStart
from enthesis.chains.ends import wanted_permissions
from enthesis.chains.invariants import Decided, claimed_starts, decide
from enthesis.chains.reach import Reached
from enthesis.chains.requests import Requests
from enthesis.model.errors import Undecided
from enthesis.model.estate import Claimed, Invariant
from enthesis.model.sentences import verb_words
from enthesis.model.vocabulary import Holding, VerbClass

MAX_REQUESTS = 3_000_000  # that one fixed point may ask about
POWERS = (
    ("change-access", "places"),
    ("change-trust", "identities"),
    ("issue", "identities"),
    ("attach", "identities"),
    ("change-members", "groups"),
    ("change-role", "roles"),
    ("change-ceiling", "ceilings"),
)


@dataclass(frozen=True, slots=True)
class Gathered:
    """The nodes reached, each with the sentence of the step that led there, and the powers gathered on the way."""

    nodes: dict[int, tuple[int, str]]
    powers: Powers

    def story(self, node: int) -> list[str]:
        """The steps that lead to a node, in order."""
        out: list[str] = []
        while node != NONE and node in self.nodes:
            node, words = self.nodes[node]
            if words:
                out.append(words)
        return out[::-1]


class Changes:
    """Gathers powers in one web."""

    def __init__(self, web: Web, *, certain: bool = False) -> None:
        self.web = web
        self.compiled = web.compiled
        self.certain = certain
        self.asked = 0
        self._powerful = self._power_targets()

    def _power_targets(self) -> list[tuple[int, str, str, int]]:
        """(permission, verb, which power, place) for every place that a power verb can be asked on."""
        out = []
        for verb, power in POWERS:
            for place in range(self.web.places):
                kind = self.compiled.kind_names[self.compiled.places.kind[place]]
                permission = self.compiled.permission.get((kind, verb))
                if permission is not None:
                    out.append((permission, verb, power, place))
        return out

    def gather(self, seeds: Iterable[int]) -> Gathered:
        """Everything that chains from these nodes reached, changing access as they can. Raises Undecided."""
        nodes = dict.fromkeys(seeds, (NONE, ""))
        powers = NO_POWERS
        self.asked = 0
        while True:
            before = (len(nodes), powers)
            requests = Requests(self.compiled, self.web.now, powers)
            self._walk(nodes, requests)
            powers = self._more_powers(nodes, powers, requests)
            if (len(nodes), powers) == before:
                return Gathered(nodes, powers)

    def may(self, gathered: Gathered, node: int, permission: int, target: int) -> bool:
        """Whether a node may do something once these powers are used."""
        requests = Requests(self.compiled, self.web.now, gathered.powers)
        return self._counts(requests.request(self.web.node(node), permission, self.web.goal(target)))

    def _counts(self, requirement: Requirement | None) -> bool:
        self.asked += 1
        if self.asked > MAX_REQUESTS:
            raise Undecided(f"more than {MAX_REQUESTS} requests")
        return requirement == ALWAYS if self.certain else requirement is not None

    def _walk(self, nodes: dict[int, tuple[int, str]], requests: Requests) -> None:
        """Adds every node that the known ones reach: along the web, and along what the powers open."""
        web, compiled = self.web, self.compiled
        waiting = list(nodes)
        use, take_on = compiled.permission["identity", "run-as"], compiled.take_on
        changed = requests.powers != NO_POWERS
        while waiting:
            node = waiting.pop(0)
            for edge in web.forward.edges(np.array([node])).tolist():
                to = int(web.edge_to[edge])
                if to not in nodes and self._counts(web.requirement(edge)):
                    verb = verb_words(compiled.permission_pairs[int(web.edge_permission[edge])][1])
                    nodes[to] = (node, f"{verb} {web.target_name(int(web.edge_target[edge]))}")
                    waiting.append(to)
            if not changed:
                continue
            asking = web.node(node)
            for to in compiled.identity_places.tolist():
                if to in nodes or compiled.is_person[to]:
                    continue
                goal = goal_at(self.compiled, to)
                for permission, verb in ((take_on, "take-on"), (use, "run-as")):
                    if self._counts(requests.request(asking, permission, goal)):
                        nodes[to] = (node, f"{verb_words(verb)} {goal.address}, once access is changed")
                        waiting.append(to)
                        break

    def _more_powers(self, nodes: dict[int, tuple[int, str]], powers: Powers, requests: Requests) -> Powers:
        sets = {power: set(getattr(powers, power)) for _, power in POWERS}
        for permission, verb, power, place in self._powerful:
            if place in sets[power]:
                continue
            goal = goal_at(self.compiled, place)
            for node in nodes:
                if not self._counts(requests.request(self.web.node(node), permission, goal)):
                    continue
                if verb != "attach" or self._configures(node, requests):
                    sets[power].add(place)
                    break
        return replace(powers, **{power: frozenset(found) for power, found in sets.items()})

    def _configures(self, node: int, requests: Requests) -> bool:
        """Whether a node may configure some resource, so that it can attach an identity to it and run code there."""
        compiled = self.compiled
        for place in compiled.resource_places.tolist():
            kind = compiled.kind_names[compiled.places.kind[place]]
            permission = compiled.permission.get((kind, "configure"))
            runs = permission is not None and compiled.class_of[permission] == VerbClass.RUN
            if runs and self._counts(
                requests.request(self.web.node(node), int(permission or 0), goal_at(self.compiled, place))
            ):
                return True
        return False


def reachable_by_change(
    chains: Chains, starts: Sequence[ChainStart], wanted: Bools, known: Collection[tuple[str, str]]
) -> list[Reached]:
    """What these starts can do only by first changing access, as (target, verb) that are not `known` already."""
    web = chains.web
    changes = Changes(web)
    out: dict[tuple[str, str], Reached] = {}
    for start in starts:
        ends = list(_all_requests(web, wanted))
        for key, reached in _by_change(chains, changes, start, ends, {*known, *out}):
            out[key] = reached
    return list(out.values())


def reaching_by_change(
    chains: Chains, targets: Sequence[int], wanted: Bools, known: Collection[tuple[str, str, str, str]]
) -> list[Reached]:
    """Who can reach these targets only by first changing access, and what each can do there.

    `known` are (form, name, target, verb) of what can be had as things are.
    """
    web, compiled = chains.web, chains.compiled
    changes = Changes(web)
    here = set(targets)
    ends = [(target, permission) for target, permission in _all_requests(web, wanted) if target in here]
    workloads = [
        chains.from_place(number) for number in compiled.identity_places.tolist() if not compiled.is_person[number]
    ]
    out: list[Reached] = []
    for start in (*chains.origins(), *workloads):
        had = {(target, verb) for form, whom, target, verb in known if (form, whom) == (start.form, start.whom)}
        out += [reached for _, reached in _by_change(chains, changes, start, ends, had)]
    return out


def _by_change(
    chains: Chains,
    changes: Changes,
    start: ChainStart,
    ends: Sequence[tuple[int, int]],
    had: Collection[tuple[str, str]],
) -> Iterable[tuple[tuple[str, str], Reached]]:
    """The ends that a start reaches by changing access, but those that are had already."""
    web, compiled = chains.web, chains.compiled
    try:
        gathered = changes.gather([start.node])
        for target, permission in ends:
            key = (web.target_name(target), compiled.permission_pairs[permission][1])
            if key in had:
                continue
            node = next((node for node in gathered.nodes if changes.may(gathered, node, permission, target)), None)
            if node is not None:
                yield key, _changed(web, start, gathered, node, key)
    except Undecided as bound:
        chains.missed(bound)


def _all_requests(web: Web, wanted: Bools) -> Iterable[tuple[int, int]]:
    compiled = web.compiled
    for permission in range(len(compiled.permission_pairs)) if wanted.any() else ():
        if wanted[permission]:
            yield from ((target, permission) for target in web.asked_about(permission)[1].tolist())


def _changed(web: Web, start: ChainStart, gathered: Gathered, node: int, key: tuple[str, str]) -> Reached:
    target, verb = key
    story = (*gathered.story(node), "change access")
    steps = ((web.node(node).name, verb, target),)
    return Reached(Chain(start, (), {}, True), target, verb, steps, False, story)


def decide_by_change(chains: Chains, invariant: Invariant) -> Decided:
    """Whether an invariant holds when what chains can change with power verbs counts too.

    What hangs on conditions is counted one condition at a time: where only such chains break it, it is not decided.
    """
    plain = decide(chains, invariant)
    if plain.outcome != Holding.HOLDS:
        return plain
    try:
        for certain in (True, False):
            story = _broken_by_change(chains, invariant.claimed, invariant.form == "never", certain=certain)
            if story is not None:
                return Decided(invariant, Holding.BROKEN if certain else Holding.UNDECIDED, why=story)
    except Undecided as fault:
        return Decided(invariant, Holding.UNDECIDED, why=str(fault))
    return plain


def _broken_by_change(chains: Chains, claimed: Claimed, never: bool, *, certain: bool) -> str | None:
    """The story of a chain that breaks a claim by changing access first; None where there is none."""
    web, compiled = chains.web, chains.compiled
    wanted = wanted_permissions(compiled, claimed.can, claimed.on)
    inside = set(web.targets_at_or_in(claimed.at).tolist())
    ends = [(target, permission) for target, permission in _all_requests(web, wanted) if target in inside]
    changes = Changes(web, certain=certain)
    for start, by in claimed_starts(chains, claimed, never=never):
        gathered = changes.gather([start.node])
        if by is not None:
            passed = [node for node in gathered.nodes if by[node]]
            if not passed:
                continue
            gathered = changes.gather(passed)
        for node in gathered.nodes:
            for target, permission in ends:
                if changes.may(gathered, node, permission, target):
                    verb = compiled.permission_pairs[permission][1]
                    steps = [*gathered.story(node), f"{verb} {web.target_name(target)}"]
                    return f"{start.whom}, by changing access: {', '.join(steps)}"
    return None

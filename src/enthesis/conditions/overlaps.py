"""Which of many sets of callers overlap, without asking every pair.

One attribute, the one that tells the most sets apart, is put into a tree by the steps of its texts (split after the
separators). A walk along one pattern meets just those whose steps can be the same; only these are asked exactly.
"""

from collections import Counter
from collections.abc import Hashable, Iterator, Sequence
from dataclasses import dataclass, field

from enthesis.conditions.callers import Callers, Rooms, Shown, one_of_both
from enthesis.conditions.patterns import SEPARATORS, matcher, tokens
from enthesis.model.conditions import AllOf, AnyOf, Conditions, Equal, Glob, Test, literal_pattern
from enthesis.model.errors import Undecided

DEEP = "**"


@dataclass(frozen=True, slots=True)
class Overlap:
    """Two sets, by their numbers, and a caller in both; None where that was too much work to find out."""

    one: int
    other: int
    shown: Shown | None


@dataclass(slots=True)
class _Node:
    """A place in the tree: what continues from here, and which entries end here or leave the rest open."""

    plain: dict[str, "_Node"] = field(default_factory=dict)
    open: dict[str, "_Node"] = field(default_factory=dict)
    ends: list[int] = field(default_factory=list)
    deep: list[int] = field(default_factory=list)


def overlaps(sets: Sequence[tuple[Hashable, Callers]], rooms: Rooms) -> Iterator[Overlap]:
    """The pairs of one key that overlap, each once, the later set first. `rooms` are those of every set."""
    pinned = [[dict(_pinned(conditions, rooms)) for conditions in callers.alternatives] for _, callers in sets]
    telling = _most_telling([callers for _, callers in sets], rooms)
    trees: dict[Hashable, _Node] = {}
    for number, (key, callers) in enumerate(sets):
        tree = trees.setdefault(key, _Node())
        near: set[int] = set()
        steps = {shape for conditions in callers.alternatives for shape in _shapes(conditions, telling)}
        for shape in steps:
            _meet(tree, shape, 0, near)
        for shape in steps:
            _put(tree, shape, number)
        for other in sorted(near):
            if not _can_meet(pinned[number], pinned[other]):
                continue
            try:
                shown = one_of_both(callers, sets[other][1], rooms)
            except Undecided:
                yield Overlap(number, other, None)
                continue
            if shown is not None:
                yield Overlap(number, other, shown)


def _most_telling(sets: Sequence[Callers], rooms: Rooms) -> str:
    """The attribute with the most different tests, of those with one value: a list can hold what two tests want."""
    seen: dict[str, set[Test]] = {}
    for callers in sets:
        for conditions in callers.alternatives:
            for name, test in conditions:
                seen.setdefault(name, set()).add(test)
    counted = Counter({name: len(tests) for name, tests in seen.items() if not rooms(name).many})
    return counted.most_common(1)[0][0] if counted else ""


def _pinned(conditions: Conditions, rooms: Rooms) -> Iterator[tuple[str, frozenset[Test]]]:
    """The attributes of which only written values pass; lists can meet all the same, so not those."""
    for name, test in conditions:
        values = test.tests if isinstance(test, AnyOf) else (test,)
        if not rooms(name).many and all(isinstance(value, Equal) for value in values):
            yield name, frozenset(values)


def _can_meet(sequence: Sequence[dict[str, frozenset[Test]]], other: Sequence[dict[str, frozenset[Test]]]) -> bool:
    """Whether no attribute that both pin keeps two sets apart."""
    return any(
        all(not (name in theirs and values.isdisjoint(theirs[name])) for name, values in mine.items())
        for mine in sequence
        for theirs in other
    )


Shape = tuple[tuple[str, bool], ...]
"""Steps of a pattern: its text and whether it is plain; the step `**` stands last and for everything that follows."""
ANYTHING: Shape = ((DEEP, False),)


def _shapes(conditions: Conditions, name: str) -> Iterator[Shape]:
    for attribute, test in conditions:
        if attribute == name:
            yield from _shapes_of(test)
            return
    yield ANYTHING


def _shapes_of(test: Test) -> Iterator[Shape]:
    """The shapes of the texts that a test lets through; wider where that is not easily said."""
    if isinstance(test, AnyOf):
        for one in test.tests:
            yield from _shapes_of(one)
    elif isinstance(test, AllOf) and any(isinstance(one, Glob) for one in test.tests):
        yield from _shapes_of(next(glob for glob in test.tests if isinstance(glob, Glob)))
    elif isinstance(test, Equal) and isinstance(test.value, str):
        yield _shape(literal_pattern(test.value))
    elif isinstance(test, Glob):
        yield _shape(test.pattern)
    else:
        yield ANYTHING


def _shape(pattern: str) -> Shape:
    steps: list[tuple[str, bool]] = []
    text, plain = "", True
    for token in tokens(pattern):
        if token == "**":
            return (*steps, (DEEP, False))
        if token in ("*", "??"):
            text, plain = text + token[0], False
            continue
        text += token if token[1:] in "*?\\" else token[1:]
        if token[1:] in SEPARATORS:
            steps.append((text, plain))
            text, plain = "", True
    return (*steps, (text, plain))


def _put(node: _Node, shape: Shape, entry: int) -> None:
    for step, plain in shape:
        if step == DEEP:
            node.deep.append(entry)
            return
        node = (node.plain if plain else node.open).setdefault(step, _Node())
    node.ends.append(entry)


def _meet(node: _Node, shape: Shape, at: int, found: set[int]) -> None:
    """Collects the entries whose steps can be those of a shape, from its step `at` on."""
    found.update(node.deep)
    if at == len(shape):
        found.update(node.ends)
        return
    step, plain = shape[at]
    if step == DEEP:
        _everything(node, found)
        return
    if plain and step in node.plain:
        _meet(node.plain[step], shape, at + 1, found)
    for other, below in node.open.items():
        if not plain or matcher(other)(_text(step)):
            _meet(below, shape, at + 1, found)
    if not plain:
        matches = matcher(step)
        for other, below in node.plain.items():
            if matches(_text(other)):
                _meet(below, shape, at + 1, found)


def _text(step: str) -> str:
    """The text of a plain step."""
    return "".join(token[1:] for token in tokens(step))


def _everything(node: _Node, found: set[int]) -> None:
    found.update(node.deep)
    found.update(node.ends)
    for below in (*node.plain.values(), *node.open.values()):
        _everything(below, found)

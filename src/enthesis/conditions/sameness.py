"""Tests that compare one attribute with another: what is left of them once some attributes are known, and values for
several free attributes that are, or are not, the same.

A test about two free attributes is left as it is, the other attribute called as the solver calls it. Undecided is
raised for what is too tangled to be told apart.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from itertools import product

from enthesis.conditions.truth import Value, is_absent, passes
from enthesis.conditions.values import EVERY_TYPE, Room, Solution, Want, cells, solve
from enthesis.model.conditions import AllOf, AnyOf, Before, Equal, Not, Present, SameAs, Test
from enthesis.model.errors import Undecided

MAX_BRANCHES = 4_096  # ways for tests of two attributes to be as wanted
ALWAYS, NEVER, UNKNOWN = AllOf(()), AnyOf(()), Before(datetime(2000, 1, 1, tzinfo=UTC))
"""Tests of texts that say the same of every one."""
CONSTANT: dict[bool | None, Test] = {True: ALWAYS, False: NEVER, None: UNKNOWN}
ABSENT: Test = Present(wanted=False)
Wants = frozenset[tuple[Test, Want]]
Literal = tuple[str, Test, Want]


def names_in(test: Test) -> frozenset[str]:
    """The other attributes that a test compares with."""
    if isinstance(test, SameAs):
        return frozenset((test.attribute,))
    if isinstance(test, Not):
        return names_in(test.test)
    return frozenset().union(*map(names_in, test.tests)) if isinstance(test, AnyOf | AllOf) else frozenset()


def renamed(test: Test, name_of: Callable[[str], str]) -> Test:
    """A test that compares with the same attributes by other names."""
    return _each(test, lambda one: SameAs(name_of(one.attribute)))


def _or_else(test: Test, value: Value) -> Test:
    """A test of a name, which holds of a value too where nothing is put for that name."""
    if value is None:
        return test
    truth = passes(test, value)
    if truth is False:
        return _all_of([test, Present(wanted=True)])
    return AnyOf((test, ABSENT if truth else AllOf((ABSENT, UNKNOWN))))


def with_known(test: Test, get: Callable[[str], Value]) -> Test:
    """A test whose comparisons are with the values that other attributes have."""
    return _each(test, lambda one: _equal_to(get(one.attribute))) if names_in(test) else test


def literal(
    name: str, test: Test, want: Want, get: Callable[[str], Value], free: Callable[[str], str]
) -> Literal | bool:
    """What is left of a test once what is known is put in: one free attribute with a test of it, or whether it is as
    wanted already. `free` says under which name an attribute is free, '' where `get` knows it. Raises Undecided."""
    others = names_in(test)
    variable = free(name)
    if not others:
        return (variable, test, want) if variable else want.met(passes(test, get(name)))
    left = {other: free(other) for other in others if free(other)}

    def put_in(one: SameAs) -> Test:
        return SameAs(left[one.attribute]) if one.attribute in left else _equal_to(get(one.attribute))

    if variable:
        return variable, _each(test, put_in), want
    if not left:
        return want.met(passes(test, get(name), get))
    if len(left) > 1:
        raise Undecided(f"`{name}` is compared with {' and '.join(sorted(left))}, which are all free")
    ((other, its),) = left.items()
    return its, _of_the_other(_each(test, lambda one: one if one.attribute == other else put_in(one)), get(name)), want


def literals(
    name: str,
    test: Test,
    want: Want,
    get: Callable[[str], Value],
    free: Callable[[str], str],
    otherwise: Callable[[str], Value],
) -> list[tuple[Literal, ...]]:
    """The ways for a test to be as wanted, of which one must be; none where it cannot, an empty one where it is.

    `otherwise` says what a free attribute is where nothing is put for its name. Raises Undecided.
    """
    others = names_in(test)
    if not others:
        variable = free(name)
        if variable:
            return [((variable, _or_else(test, otherwise(name)), want),)]
        return [()] if want.met(passes(test, get(name))) else []
    said_above = [one for one in (name, *sorted(others)) if free(one) and otherwise(one) is not None]
    out: list[tuple[Literal, ...]] = []
    for choice in product((False, True), repeat=len(said_above)):
        left_out = {one for one, absent in zip(said_above, choice, strict=True) if absent}
        one = literal(
            name,
            test,
            want,
            lambda other, left_out=left_out: otherwise(other) if other in left_out else get(other),  # type: ignore[misc]
            lambda other, left_out=left_out: "" if other in left_out else free(other),  # type: ignore[misc]
        )
        limits = [(free(other), Present(other not in left_out), Want.HOLDS) for other in said_above]
        if one is not False:
            out.append((*limits, *([one] if one is not True else [])))
    return out


def _each(test: Test, make: Callable[[SameAs], Test]) -> Test:
    if isinstance(test, SameAs):
        return make(test)
    if isinstance(test, Not):
        return Not(_each(test.test, make))
    if isinstance(test, AnyOf):
        return AnyOf(tuple(_each(one, make) for one in test.tests))
    return AllOf(tuple(_each(one, make) for one in test.tests)) if isinstance(test, AllOf) else test


def _equal_to(value: Value) -> Test:
    """That an attribute is the same as one with this value; of a list, as any element of it."""
    if isinstance(value, tuple):
        return AnyOf(tuple(map(_equal_to, value))) if value else UNKNOWN
    return UNKNOWN if is_absent(value) or not isinstance(value, str | int | float | bool) else Equal(value)


def _of_the_other(test: Test, value: Value) -> Test:
    """A test of a value that compares it with one other attribute, as a test of that other one."""
    if isinstance(test, SameAs):
        return _equal_to(value)
    if isinstance(test, Not):
        return Not(_of_the_other(test.test, value))
    if isinstance(test, AnyOf):
        return AnyOf(tuple(_of_the_other(one, value) for one in test.tests))
    if isinstance(test, AllOf):
        whole = tuple(one for one in test.tests if isinstance(one, Not | Present))
        each = tuple(one for one in test.tests if not isinstance(one, Not | Present))
        elements = value if isinstance(value, tuple) and value else (value,)
        some = [_all_of(_of_the_other(one, element) for one in each) for element in elements]
        return _all_of([*(_of_the_other(one, value) for one in whole), *([AnyOf(tuple(some))] if each else [])])
    return CONSTANT[passes(test, value)]


def _all_of(tests: Iterator[Test] | list[Test]) -> Test:
    """That each of these holds, whatever they are: `all of` takes operators of one element, so by what is not so."""
    return Not(AnyOf(tuple(Not(test) for test in tests)))


# -- several attributes together ------------------------------------------------------------------------------------


def alone(wants: Wants) -> Wants:
    """What is wanted of one attribute by itself, whatever others are."""
    return frozenset(one for one in wants if not names_in(one[0]))


def solve_together(wanted: Mapping[str, Wants], room: Callable[[str], Room]) -> dict[str, Value] | None:
    """Values for all of these attributes at once; None where there are none. Raises Undecided."""
    compared = [(name, test, want) for name, wants in wanted.items() for test, want in wants if names_in(test)]
    begun: dict[str, Wants] = {name: alone(wants) for name, wants in wanted.items()}
    for _, test, _ in compared:
        begun |= {other: frozenset() for other in names_in(test) if other not in begun}
    undecided: Undecided | None = None
    branches = product(*(list(_branches(name, test, want)) for name, test, want in compared))
    for tried, choice in enumerate(branches):
        if tried > MAX_BRANCHES:
            raise Undecided(f"more than {MAX_BRANCHES} ways for attributes that are compared with one another")
        demands = [demand for row in choice for demand in row]
        try:
            found = _OneWay(begun, room).values(demands)
        except Undecided as bound:
            undecided = bound
            continue
        if found is None:
            continue
        if all(want.met(passes(test, found[name], found.get)) for name, test, want in compared):
            return found
        undecided = Undecided("attributes that are compared with one another")
    if undecided is not None:
        raise undecided
    return None


@dataclass(frozen=True, slots=True)
class _Demand:
    """What is demanded of an attribute: that a test of it is as wanted, that it is of some type, or with `other`
    that both are the same, or are not."""

    name: str
    test: Test | None = None
    want: Want = Want.HOLDS
    other: str = ""
    same: bool = False
    types: frozenset[str] = frozenset()


def _branches(name: str, test: Test, want: Want) -> Iterator[tuple[_Demand, ...]]:
    """The ways for a test that compares to be as wanted, each as demands. Some may be missing where operators of one
    element of a list go together; what is found is looked at once more."""
    if isinstance(test, Not):
        yield from _branches(name, test.test, TURNED[want])
    elif isinstance(test, SameAs):
        yield from _compared(name, test.attribute, want)
    elif isinstance(test, AnyOf | AllOf):
        some = Want.HOLDS if isinstance(test, AnyOf) else Want.FAILS
        if want in (some, NEARLY[some]):
            for one in test.tests:
                yield from _branches(name, one, want)
        elif want is Want.UNKNOWN:
            for number in range(len(test.tests)):
                wants = [want if number == at else WITHOUT[some] for at in range(len(test.tests))]
                yield from _each_of(name, test.tests, wants)
        else:
            yield from _each_of(name, test.tests, [want] * len(test.tests))
    else:
        yield (_Demand(name, test, want),)


def _each_of(name: str, tests: Sequence[Test], wants: Sequence[Want]) -> Iterator[tuple[_Demand, ...]]:
    for rows in product(*(list(_branches(name, one, want)) for one, want in zip(tests, wants, strict=True))):
        yield tuple(demand for row in rows for demand in row)


def _compared(name: str, other: str, want: Want) -> Iterator[tuple[_Demand, ...]]:
    if want in (Want.HOLDS, Want.NOT_FALSE):
        yield (_Demand(name, other=other, same=True),)
    if want in (Want.FAILS, Want.NOT_HELD):
        yield (_Demand(name, other=other),)
    if want in (Want.UNKNOWN, Want.NOT_FALSE, Want.NOT_HELD):
        yield (_Demand(name, ABSENT),)
        yield (_Demand(other, ABSENT),)
        for one in sorted(EVERY_TYPE):
            yield _Demand(name, types=frozenset((one,))), _Demand(other, types=EVERY_TYPE - {one})


def _type_of(value: Value) -> str:
    if isinstance(value, bool):
        return "truth"
    return "text" if isinstance(value, str) else "number" if isinstance(value, int | float) else ""


TURNED = {
    Want.HOLDS: Want.FAILS, Want.FAILS: Want.HOLDS, Want.NOT_HELD: Want.NOT_FALSE, Want.NOT_FALSE: Want.NOT_HELD,
    Want.UNKNOWN: Want.UNKNOWN,
}  # fmt: skip
NEARLY = {Want.HOLDS: Want.NOT_FALSE, Want.FAILS: Want.NOT_HELD}
WITHOUT = {Want.HOLDS: Want.NOT_HELD, Want.FAILS: Want.NOT_FALSE}
PRESENT: Test = Present(wanted=True)


class _OneWay:
    """Values for attributes of which some are to be the same and some not."""

    def __init__(self, begun: Mapping[str, Wants], room: Callable[[str], Room]) -> None:
        self.wants = dict(begun)
        self.of_any = room
        self.types: dict[str, frozenset[str]] = {}
        self.first = {name: name for name in begun}

    def values(self, demands: list[_Demand]) -> dict[str, Value] | None:
        apart = []
        for demand in demands:
            name, other = demand.name, demand.other
            if demand.test is not None:
                self._want(name, demand.test, demand.want)
            if demand.types:
                self._want(name, PRESENT)
                self.types[name] = self.types.get(name, EVERY_TYPE) & demand.types
            if not other:
                continue
            self._want(name, PRESENT)
            self._want(other, PRESENT)
            if demand.same:
                self.first[self._head(name)] = self._head(other)
            else:
                apart.append((name, other))
        if any(self._head(name) == self._head(other) or not self._of_one_type(name, other) for name, other in apart):
            return None
        order = list(dict.fromkeys(map(self._head, self.wants)))
        for _ in order:
            found, stuck = self._in_order(order, apart)
            if found is not None or not self._held_by_others(stuck, apart):
                return found
            if all(map(self._has_one_value, self._near(stuck, apart))):
                return None
            order = [stuck, *(one for one in order if one != stuck)]  # the one with the fewest values first
        raise Undecided("attributes that are not to be the same")

    def _of_one_type(self, name: str, other: str) -> bool:
        """Whether two attributes can have values of one type, as those that are not the same must."""
        return bool(self._types(name) & self._types(other))

    def _types(self, name: str) -> frozenset[str]:
        room = self.room(name)
        return room.types | {_type_of(value) for value in room.typical if not room.types}

    def _in_order(self, order: Sequence[str], apart: Sequence[tuple[str, str]]) -> tuple[dict[str, Value] | None, str]:
        """Values for one after the other, each not what it is to be apart from; or None, and which has none then."""
        found: dict[str, Value] = {}
        for head in order:
            kept = self.wants
            near = [pair for pair in apart if head in map(self._head, pair)]
            for name, other in [*near, *((other, name) for name, other in near)]:
                if self._head(name) == head and other in found:
                    self._want(name, _equal_to(found[other]), Want.FAILS)
            group = self._of_group(head)
            self.wants = kept
            if group is None:
                return None, head
            found |= group
        return found, ""

    def _near(self, head: str, apart: Sequence[tuple[str, str]]) -> set[str]:
        """The groups that one is to be apart from."""
        pairs = [set(map(self._head, pair)) for pair in apart]
        return {other for pair in pairs if head in pair for other in pair - {head}}

    def _has_one_value(self, head: str) -> bool:
        """Whether what is wanted of a group leaves it a single value."""
        group = self._of_group(head)
        if group is None:
            return True
        kept = self.wants
        self._want(head, _equal_to(group[head]), Want.NOT_HELD)
        other = self._of_group(head)
        self.wants = kept
        return other is None

    def _held_by_others(self, head: str, apart: Sequence[tuple[str, str]]) -> bool:
        """Whether one that has no value has some as long as nothing is to be apart from it."""
        return any(head in map(self._head, pair) for pair in apart) and self._of_group(head) is not None

    def room(self, name: str) -> Room:
        """Which values an attribute can have, of the types that are demanded of it."""
        room = self.of_any(name)
        types = self.types.get(name)
        if types is None:
            return room
        typical = tuple(value for value in room.typical if _type_of(value) in types)
        return replace(room, types=room.types & types, typical=typical, many=False)

    def _want(self, name: str, test: Test, want: Want = Want.HOLDS) -> None:
        self.wants = {**self.wants, name: self.wants.get(name, frozenset()) | {(test, want)}}
        self.first.setdefault(name, name)

    def _head(self, name: str) -> str:
        while self.first[name] != name:
            name = self.first[name]
        return name

    def _of_group(self, name: str) -> dict[str, Value] | None:
        """Values for all that are to be the same as one attribute: one for those that have one, which the others have
        among theirs."""
        members = [one for one in self.wants if self._head(one) == self._head(name)]
        if len(members) == 1:
            found = solve(self._sorted(members), self.room(name))
            return {name: found.value} if found is not None else None
        lists = [one for one in members if self.room(one).many]
        single = self._in_common(members)
        if single is not None or not lists:
            return dict.fromkeys(members, single.value) if single is not None else None
        plain = [one for one in members if one not in lists]
        tests = [test for test, _ in self._sorted(members)]
        for value in cells(tests, replace(self._common_room(members), many=False)):
            good = all(want.met(passes(test, value)) for test, want in self._sorted(plain))
            found_lists = {
                one: solve([*self._sorted([one]), (_equal_to(value), Want.HOLDS)], self.room(one))
                for one in (lists if good else ())
            }
            if good and None not in found_lists.values():
                return {**dict.fromkeys(plain, value), **{one: its.value for one, its in found_lists.items() if its}}
        return None

    def _sorted(self, members: Sequence[str]) -> list[tuple[Test, Want]]:
        return sorted({one for member in members for one in self.wants[member]}, key=repr)

    def _common_room(self, members: Sequence[str]) -> Room:
        rooms = [self.room(one) for one in members]
        types = frozenset.intersection(*(one.types for one in rooms))
        of_few = [one.typical for one in rooms if not one.types]  # these have no other values
        typical = tuple(value for value in of_few[0] if all(value in few for few in of_few)) if of_few else ()
        return Room(types, absent=False, typical=typical, words=rooms[0].words)

    def _in_common(self, members: Sequence[str]) -> Solution | None:
        return solve(self._sorted(members), self._common_room(members))

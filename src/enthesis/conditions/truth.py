"""What a test says of a value: True, False, or None for unknown; conditions combine by Kleene's logic."""

from collections.abc import Callable, Iterable
from datetime import datetime, timedelta
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network

from enthesis.conditions.patterns import matches
from enthesis.model.conditions import (
    After,
    AllOf,
    AnyOf,
    Before,
    Conditions,
    Equal,
    Glob,
    LongerThan,
    Not,
    Present,
    SameAs,
    Test,
    Within,
)

Truth = bool | None
Value = object
"""None, text, a number, a boolean, a datetime, a network, a timedelta, or a tuple of elements; anything else is of
the wrong type for every test but `present`."""


def both(answers: Iterable[Truth]) -> Truth:
    """Kleene's and: false if any is, else unknown if any is."""
    unknown = False
    for answer in answers:
        if answer is False:
            return False
        unknown = unknown or answer is None
    return None if unknown else True


def either(answers: Iterable[Truth]) -> Truth:
    """Kleene's or: true if any is, else unknown if any is."""
    unknown = False
    for answer in answers:
        if answer is True:
            return True
        unknown = unknown or answer is None
    return None if unknown else False


def is_absent(value: Value) -> bool:
    """Null and empty count as absent."""
    return value is None or (isinstance(value, str | tuple | dict) and not value)


def hold(conditions: Conditions, get: Callable[[str], Value]) -> Truth:
    """Whether all conditions hold of the attributes that `get` answers (None for an absent one)."""
    return both(passes(test, get(attribute), get) for attribute, test in conditions)


def _nothing(attribute: str) -> Value:
    """No other attribute is known: what compares with one is unknown."""
    del attribute
    return None


def passes(test: Test, value: Value, get: Callable[[str], Value] = _nothing) -> Truth:
    """Whether a value passes a test. Of a list, any element; of `not`, none. `get` answers other attributes, which a
    test can compare with."""
    if isinstance(test, Equal | Glob):
        return _of_some(value, (test,), get)
    if isinstance(test, AnyOf):
        return either(passes(one, value, get) for one in test.tests)
    if isinstance(test, Not):
        inner = passes(test.test, value, get)
        return None if inner is None else not inner
    if isinstance(test, Present):
        return is_absent(value) is not test.wanted
    if isinstance(test, AllOf):
        whole = [one for one in test.tests if isinstance(one, Not | Present)]
        elementwise = tuple(one for one in test.tests if not isinstance(one, Not | Present))
        answers = [passes(one, value, get) for one in whole]
        if elementwise:
            answers.append(_of_some(value, elementwise, get))
        return both(answers)
    return _of_some(value, (test,), get)


def _of_some(value: Value, tests: tuple[Test, ...], get: Callable[[str], Value]) -> Truth:
    """Whether some element passes all of these tests."""
    if is_absent(value):
        return None
    if isinstance(value, tuple):
        return either(both(_element(test, one, get) for test in tests) for one in value)
    if len(tests) == 1:
        return _element(tests[0], value, get)
    return both(_element(test, value, get) for test in tests)


def _element(test: Test, value: Value, get: Callable[[str], Value]) -> Truth:
    """One operator of one element; unknown where the element is of another type than the test is for."""
    if isinstance(test, Equal):
        if is_absent(value):
            return None
        return value == test.value if type(value) is type(test.value) else None
    if isinstance(test, Glob):
        return matches(test.pattern, value) if isinstance(value, str) and value else None
    if isinstance(test, Within):
        return _within(test, value)
    if isinstance(test, Before):
        return value < test.time if isinstance(value, datetime) else None
    if isinstance(test, After):
        return value >= test.time if isinstance(value, datetime) else None
    if isinstance(test, LongerThan):
        return value > test.duration if isinstance(value, timedelta) else None
    if isinstance(test, SameAs):
        return _same(value, get(test.attribute))
    raise TypeError(f"{type(test).__name__} is not an operator of one element")


def _same(value: Value, other: Value) -> Truth:
    """Whether an element is the other value, or one of its elements; unknown where they cannot be compared."""
    if isinstance(other, tuple):
        return either(_same(value, one) for one in other) if other else None
    if is_absent(value) or is_absent(other) or type(value) is not type(other):
        return None
    return value == other


def _within(test: Within, value: Value) -> Truth:
    """Inside one of the networks; unknown of a network that is only partly inside."""
    if isinstance(value, str):
        try:
            value = ip_network(ip_address(value))
        except ValueError:
            return None
    if not isinstance(value, IPv4Network | IPv6Network):
        return None
    partly = False
    for network in test.networks:
        if network.version != value.version:
            continue
        if value.subnet_of(network):  # type: ignore[arg-type]
            return True
        partly = partly or value.overlaps(network)
    return None if partly else False

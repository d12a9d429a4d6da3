"""The lab's own reading of conditions: three-valued, straight from the written meaning.

True, False or None (unknown). Every function here is called once per statement and request; none is fast.
"""

from collections.abc import Mapping
from datetime import datetime, timedelta
from ipaddress import ip_address, ip_network
from typing import Any

Truth = bool | None
OPERATORS = {"glob", "same_as", "not", "within", "before", "after", "longer_than", "present"}
PLAIN = {
    "time",
    "network",
    "mfa",
    "reference",
    "provider",
    "caller.address",
    "caller.account",
    "caller.organisation",
    "caller.kind",
    "origin.kind",
    "origin.issuer",
    "origin.organisation",
    "origin.address",
    "session.age",
}
FAMILIES = ("claims.", "caller.labels.", "target.labels.")
UNITS = {"d": 86400, "h": 3600, "m": 60, "s": 1}  # seconds


class NotUnderstood(ValueError):
    """A statement that the lab cannot enforce, and so does not accept."""


def all_hold(
    conditions: Mapping[str, Any], attributes: Mapping[str, Any], others: Mapping[str, Any] | None = None
) -> Truth:
    """Whether every test holds of its attribute, by Kleene's logic. `others` are the attributes that tests can compare
    with, where those have other names than the tested ones."""
    around = attributes if others is None else others
    answers = [passes(test, attributes.get(name), around) for name, test in conditions.items()]
    return _and(answers)


def passes(test: Any, value: Any, others: Mapping[str, Any]) -> Truth:
    """Whether a value (None for an absent one) passes a test."""
    if isinstance(test, list):
        return _or([passes(one, value, others) for one in test])
    if not isinstance(test, Mapping):
        return _of_some_element(lambda one: _equal(test, one), value)
    of_whole = {"not", "present"} & test.keys()
    answers: list[Truth] = []
    if "not" in of_whole:
        inner = passes(test["not"], value, others)
        answers.append(None if inner is None else not inner)
    if "present" in of_whole:
        answers.append((value not in (None, "", [], {})) == test["present"])
    rest = {
        name: others.get(operand) if name == "same_as" else operand
        for name, operand in test.items()
        if name not in of_whole
    }
    if rest:
        answers.append(
            _of_some_element(lambda one: _and([_operator(name, operand, one) for name, operand in rest.items()]), value)
        )
    return _and(answers)


def _of_some_element(check: Any, value: Any) -> Truth:
    if value in (None, "", [], {}):
        return None
    if isinstance(value, list):
        return _or([None if one in (None, "", [], {}) else check(one) for one in value])
    return check(value)  # type: ignore[no-any-return]


def _equal(wanted: Any, value: Any) -> Truth:
    wanted = unescaped(wanted) if isinstance(wanted, str) else wanted
    return value == wanted if type(value) is type(wanted) else None


def _operator(name: str, operand: Any, value: Any) -> Truth:
    if name == "same_as":  # the operand is what the other attribute is
        return _of_some_element(lambda other: value == other if type(value) is type(other) else None, operand)
    if name == "glob":
        return matches(operand, value) if isinstance(value, str) else None
    if name == "within":
        networks = operand if isinstance(operand, list) else [operand]
        try:
            address = ip_address(value)
        except ValueError:
            return None
        return any(address in ip_network(network) for network in networks)
    if name in ("before", "after"):
        if not isinstance(value, datetime):
            return None
        instant = datetime.fromisoformat(operand.upper())
        return value < instant if name == "before" else value >= instant
    if name == "longer_than":
        return value > timedelta(seconds=seconds(operand)) if isinstance(value, timedelta) else None
    raise NotUnderstood(f"the operator {name}")


def _and(answers: list[Truth]) -> Truth:
    if False in answers:
        return False
    return None if None in answers else True


def _or(answers: list[Truth]) -> Truth:
    if True in answers:
        return True
    return None if None in answers else False


def matches(pattern: str, text: str) -> bool:
    """Whether a pattern matches a text as a whole: the set of reachable positions, one token at a time."""
    reached = {0}
    for kind, char in _tokens(pattern):
        if kind == "char":
            reached = {at + 1 for at in reached if text[at : at + 1] == char}
        elif kind == "one":
            reached = {at + 1 for at in reached if at < len(text) and text[at] not in "/:"}
        else:
            grown = set()
            for at in reached:
                end = at
                grown.add(end)
                while end < len(text) and (kind == "any" or text[end] not in "/:"):
                    end += 1
                    grown.add(end)
            reached = grown
    return len(text) in reached


def _tokens(pattern: str) -> list[tuple[str, str]]:
    out: list[tuple[str, str]] = []
    at = 0
    while at < len(pattern):
        char = pattern[at]
        if char == "\\":
            out.append(("char", pattern[at + 1 : at + 2]))
            at += 2
        elif pattern.startswith("**", at):
            out.append(("any", ""))
            at += 2
        else:
            out.append(("run" if char == "*" else "one" if char == "?" else "char", char))
            at += 1
    return out


def unescaped(text: str) -> str:
    """A plain string with its escaped `*`, `?` and backslash made literal."""
    out, at = "", 0
    while at < len(text):
        if text[at] == "\\" and text[at + 1 : at + 2] in ("*", "?", "\\"):
            at += 1
        out += text[at]
        at += 1
    return out


def seconds(duration: str) -> int:
    """Seconds in a duration such as 1h30m."""
    total, digits = 0, ""
    for char in duration:
        if char.isdigit():
            digits += char
        else:
            total += int(digits) * UNITS[char]
            digits = ""
    return total


def understand(conditions: Any, *, claims: bool = False) -> None:
    """Raises NotUnderstood unless every attribute and test is one that is enforced here."""
    if not isinstance(conditions, Mapping):
        raise NotUnderstood("conditions are a mapping of attributes to tests")
    for name, test in conditions.items():
        if not claims:
            _understand_attribute(name)
        _understand_test(test)


def _understand_attribute(name: Any) -> None:
    if not isinstance(name, str) or (name not in PLAIN and not name.startswith(FAMILIES)):
        raise NotUnderstood(f"the attribute {name}")


def _understand_test(test: Any) -> None:
    if isinstance(test, list):
        if not test:
            raise NotUnderstood("an empty list of values")
        for one in test:
            _understand_test(one)
    elif isinstance(test, Mapping):
        if not test or set(test) - OPERATORS:
            raise NotUnderstood(f"the operators {sorted(set(test) - OPERATORS)}")
        if "not" in test:
            _understand_test(test["not"])
        _understand_attribute(test.get("same_as", "time"))
        try:
            for name, operand in test.items():
                if name not in ("not", "present", "glob", "same_as"):
                    _operator(name, operand, "" if name != "within" else "127.0.0.1")
                    _operator(name, operand, datetime.fromisoformat("2026-01-01T00:00:00+00:00")) if name in (
                        "before",
                        "after",
                    ) else None
                if name == "longer_than":
                    seconds(operand)
                if name == "glob":
                    matches(operand, "")
        except (ValueError, TypeError, AttributeError, KeyError) as fault:
            raise NotUnderstood(f"the test {test}") from fault
    elif test is None or not isinstance(test, str | int | float | bool):
        raise NotUnderstood(f"the value {test!r}")

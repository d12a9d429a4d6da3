"""Conditions: tests on attributes, as written. What they mean for a request is judged elsewhere.

A pattern: `*` any run of characters but '/' and ':'; `**` any run at all; `?` one character but '/' and ':';
a backslash escapes the next character.
"""

from dataclasses import dataclass
from datetime import datetime, timedelta
from ipaddress import IPv4Network, IPv6Network

Plain = str | int | float | bool
Network = IPv4Network | IPv6Network


@dataclass(frozen=True, slots=True)
class Equal:
    """The attribute is this very value, of this very type."""

    value: Plain

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Equal) or type(other.value) is not type(self.value):
            return False
        return other.value == self.value

    def __hash__(self) -> int:
        return hash((type(self.value).__name__, self.value))


@dataclass(frozen=True, slots=True)
class AnyOf:
    """At least one of these tests holds."""

    tests: tuple["Test", ...]


@dataclass(frozen=True, slots=True)
class AllOf:
    """Several operators in one test: all hold of one element."""

    tests: tuple["Test", ...]


@dataclass(frozen=True, slots=True)
class Glob:
    """The text matches this pattern as a whole."""

    pattern: str


@dataclass(frozen=True, slots=True)
class Not:
    """The test does not hold; of a list, that no element passes it."""

    test: "Test"


@dataclass(frozen=True, slots=True)
class Within:
    """The network address lies in one of these networks."""

    networks: tuple[Network, ...]


@dataclass(frozen=True, slots=True)
class Before:
    """The time is earlier than this instant."""

    time: datetime


@dataclass(frozen=True, slots=True)
class After:
    """The time is this instant or later than it."""

    time: datetime


@dataclass(frozen=True, slots=True)
class LongerThan:
    """The duration is longer than this one."""

    duration: timedelta


@dataclass(frozen=True, slots=True)
class Present:
    """The attribute is there, and neither null nor empty; or is not."""

    wanted: bool


@dataclass(frozen=True, slots=True)
class SameAs:
    """The attribute is the same as another, of the same type; of a list, some element is one of the other's."""

    attribute: str


Test = Equal | AnyOf | AllOf | Glob | Not | Within | Before | After | LongerThan | Present | SameAs

Conditions = tuple[tuple[str, Test], ...]
"""Pairs of attribute and test, all of which must hold; in the order written."""


def pattern_error(pattern: str) -> str:
    """Why this is not a pattern; '' where it is one."""
    if not pattern:
        return "an empty pattern matches nothing but the empty text"
    trailing = len(pattern) - len(pattern.rstrip("\\"))
    return "a pattern cannot end in a lone backslash" if trailing % 2 else ""


def literal_pattern(text: str) -> str:
    """The pattern that matches exactly this text."""
    return "".join("\\" + char if char in "*?\\" else char for char in text)

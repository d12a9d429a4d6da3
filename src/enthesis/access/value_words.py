"""Values of attributes, in words."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from enthesis.access.requirements import BEFORE_KEY
from enthesis.conditions.values import FREE_WORD
from enthesis.text.times import duration_text, time_text


def shown(value: object) -> str:
    """A value as it is told: texts as they are, lists in brackets."""
    if isinstance(value, tuple):
        return "[" + ", ".join(shown(one) for one in value) + "]"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, datetime):
        return time_text(value)
    if isinstance(value, timedelta):
        return duration_text(value)
    return "nothing" if value is None else str(value)


def values_words(values: Mapping[str, object]) -> str:
    """The values with which a chain can be walked, in words; '' where it depends on none. Others may do as well."""
    ordered = sorted(values.items(), key=lambda item: (item[1] == FREE_WORD, item[0]))
    return ", ".join(_value_words(name.removeprefix("claims."), value) for name, value in ordered)


def _value_words(name: str, value: object) -> str:
    """The same of an attribute of what led to a stored key."""
    name, before, key = name.partition(BEFORE_KEY)
    return value_words(name, value) + before + key


@dataclass(frozen=True, slots=True)
class OneOf:
    """Values of which any one would do."""

    values: tuple[object, ...]


def value_words(name: str, value: object) -> str:
    """An attribute with its value; a value that stands for any other is said to be free."""
    if isinstance(value, OneOf):
        return f"{name} {' or '.join(map(shown, value.values))}"
    if isinstance(value, tuple) and FREE_WORD in value:
        rest = " and ".join(shown(one) for one in value if one != FREE_WORD)
        return f"{name} {rest} and any other"
    return f"any other {name}" if value == FREE_WORD else f"{name} {shown(value)}"

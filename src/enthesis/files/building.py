"""Makes the code that turns plain data into a record: a survey of a million lines is read by it, line after line.

One function for each set of names that entries have, as the standard library makes the methods of a dataclass: what is
known beforehand (which names, which attributes, which defaults) is decided once and not for every line.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import MISSING as NO_DEFAULT
from dataclasses import fields, is_dataclass
from typing import Any

Builder = Callable[[Mapping[str, Any], Any, Any, bool], Any]
"""Entries, notes, source, and whether their texts may hold escapes, to a value; `missing` where they have to be looked
at again."""
Part = tuple[str, str, Callable[[Any, Any, Any], Any] | None]
"""The name of an entry, its attribute, and what reads it; None for a text as it stands."""


def builder(make: Callable[..., Any], parts: Sequence[Part], missing: Any, escapes_in: Callable[[str], Any]) -> Builder:
    """The function for entries with these names. `make` makes the value; of a plain dataclass its slots are set."""
    known: dict[str, Any] = {"MISSING": missing, "ESCAPES": escapes_in, "make": make, "new": object.__new__}
    lines = ["def build(entries, notes, source, escapes):"]
    given = {}
    for number, (name, attribute, read) in enumerate(parts):
        value = given[attribute] = f"value{number}"
        if read is None:
            lines.append(f"    {value} = entries[{name!r}]")
            lines.append(f"    if type({value}) is not str or not {value} or (escapes and ESCAPES({value})):")
        else:
            known[f"read{number}"] = read
            lines.append(f"    {value} = read{number}(entries[{name!r}], notes, source)")
            lines.append(f"    if {value} is MISSING:")
        lines.append("        return MISSING")
    given["source"] = "source"
    lines += _by_slots(make, given, known) or [
        "    return make(" + ", ".join(f"{attribute}={value}" for attribute, value in given.items()) + ")"
    ]
    exec("\n".join(lines), known)  # noqa: S102  the names are those of our own sections, never of what is read
    made: Builder = known["build"]
    return made


def _by_slots(make: Callable[..., Any], given: Mapping[str, str], known: dict[str, Any]) -> list[str]:
    """Lines that set the slots of a dataclass one by one; none where it is not one that has nothing else to do."""
    plain = isinstance(make, type) and is_dataclass(make) and "__slots__" in vars(make)
    if not plain or hasattr(make, "__post_init__"):
        return []
    lines = ["    made = new(make)"]
    for number, one in enumerate(fields(make)):  # type: ignore[arg-type]  # a dataclass, as was seen
        known[f"set{number}"] = vars(make)[one.name].__set__
        if one.name in given:
            value = given[one.name]
        elif one.default is not NO_DEFAULT:
            known[f"default{number}"], value = one.default, f"default{number}"
        elif one.default_factory is not NO_DEFAULT:
            known[f"default{number}"], value = one.default_factory, f"default{number}()"
        else:
            return []
        lines.append(f"    set{number}(made, {value})")
    return [*lines, "    return made"]

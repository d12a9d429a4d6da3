"""Reads and writes conditions: attributes with the tests that must hold of them."""

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import product
from math import isnan
from typing import Any

from enthesis.conditions.sameness import names_in
from enthesis.files.field_types import (
    ESCAPES,
    GLOB_SCHEMA,
    MISSING,
    Duration,
    Flag,
    ListOf,
    NetworkText,
    Notes,
    Time,
    described,
)
from enthesis.files.yaml_tree import Node, tree_of
from enthesis.model.addresses import escaped, unescaped
from enthesis.model.conditions import (
    After,
    AllOf,
    AnyOf,
    Before,
    Equal,
    Glob,
    LongerThan,
    Not,
    Present,
    SameAs,
    Test,
    Within,
    pattern_error,
)
from enthesis.model.errors import InvalidAddress
from enthesis.model.file_errors import Source
from enthesis.model.pointers import is_pointer
from enthesis.text.times import duration_text, time_text

OPERATORS = ("glob", "same_as", "not", "within", "before", "after", "longer_than", "present")

ATTRIBUTES = (
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
)
ATTRIBUTE_FAMILIES = ("claims.", "caller.labels.", "target.labels.")


@dataclass(frozen=True)
class ConditionsShape:
    """A mapping of attributes to tests.

    With `free` the attributes are names of claims, whatever the issuer calls them; otherwise they are those
    of the design's section 3. With `allowing`, `{present: false}` over what the caller supplies is an error. With
    `by_itself` they are claims that are looked at with no request around them, so nothing can be compared.
    """

    free: bool = False
    allowing: bool = False
    by_itself: bool = False
    expected: str = "a mapping of attributes to tests"

    def read(self, node: Node, notes: Notes) -> Any:
        if not isinstance(node.value, dict):
            return notes.wrong("wrong-type", f"found {described(node.value)}", node, expected=self.expected)
        out: list[tuple[str, Test]] = []
        sound = True
        for attribute, item in node.value.items():
            notes.field = attribute
            test = self._test(item, notes)
            if not self.free and not self._known(attribute, node, notes):
                sound = False
            if test is MISSING:
                sound = False
                continue
            if self.allowing and absence_wanted(test) and (self.free or _supplied(attribute)):
                sound = False
                notes.wrong(
                    "absence-as-permission",
                    f"{{present: false}} would admit every caller that leaves `{attribute}` out",
                    item,
                    expected="a test of a value that must be there",
                )
            if not self._comparable(test, item, notes):
                sound = False
                continue
            misfit = _misfit("claims." if self.free else attribute, test)
            if misfit:
                sound = False
                name, fitting = misfit
                message = f"{name} says nothing of `{attribute}`, so this can never hold"
                notes.wrong("wrong-test", message, item, expected=f"a test of {fitting}")
            out.append((attribute, test))
        for outer, inner in product(node.value, node.value) if self.free else ():
            if is_pointer(inner) and inner.startswith((f"{outer}/", f"/{outer}/")):
                sound = False
                message = f"`{inner}` stands in `{outer}`, which is tested too"
                notes.wrong("wrong-test", message, node.value[inner], expected="a test of one of them")
        return tuple(out) if sound else MISSING

    def _comparable(self, test: Test, node: Node, notes: Notes) -> bool:
        """Whether what a test compares with is an attribute that it can compare with, and is written as one."""
        for other in sorted(names_in(test)):
            if self.by_itself:
                message = f"{{same_as: {other}}} has no request here whose attributes it could compare with"
                notes.wrong("wrong-test", message, node, expected="a plain value or a pattern")
                return False
            if not _is_attribute(other) or other in NEVER_THE_SAME:
                close = tuple(one for one in ATTRIBUTES if one not in NEVER_THE_SAME)
                notes.wrong_at(
                    "unknown-attribute",
                    f"`{other}` is not an attribute that can be compared with",
                    notes.source(node),
                    expected="claims.NAME, caller.labels.NAME, target.labels.NAME, " + ", ".join(close),
                    known=close,
                    word=other,
                )
                return False
        for text in _plain_texts(test):
            if _is_attribute(text) and "." in text and not (self.free and text.startswith("claims.")):
                message = f"the plain text `{text}` is the name of an attribute, so this can never hold"
                expected = f"{{same_as: {text}}}, to compare with that attribute"
                notes.wrong("wrong-test", message, node, expected=expected)
                return False
        return True

    def quick(self, value: Any, notes: Notes, source: Source) -> Any:
        """The conditions in plain data that stand at one place; MISSING where it has none. Texts under free names need
        no further look."""
        texts = self.free and type(value) is dict and all(type(item) is str for item in value.values())
        texts = texts and not any(map(is_pointer, value))
        if texts and not any(map(ESCAPES, value.values())):
            return tuple((name, Equal(item)) for name, item in value.items())
        return self.read(tree_of(value, source.line), notes)

    def _known(self, attribute: str, node: Node, notes: Notes) -> bool:
        if _is_attribute(attribute):
            return True
        line, column = node.keys[attribute] if node.keys else (node.line, node.column)
        notes.wrong_at(
            "unknown-attribute",
            f"`{attribute}` is not an attribute",
            Source(notes.file, line, column),
            expected="claims.NAME, caller.labels.NAME, target.labels.NAME, " + ", ".join(ATTRIBUTES),
            known=ATTRIBUTES,
            word=attribute,
        )
        return False

    def _test(self, node: Node, notes: Notes) -> Any:
        value = node.value
        if isinstance(value, dict):
            return self._operators(node, notes)
        if isinstance(value, list):
            if not value:
                return notes.wrong("empty", "an empty list admits nothing", node, expected="values or tests")
            tests = [self._test(item, notes) for item in value]
            return MISSING if MISSING in tests else AnyOf(tuple(tests))
        if value is None:
            return notes.wrong("wrong-type", "found null", node, expected="a value, or {present: false}")
        if isinstance(value, str):
            try:
                return Equal(unescaped(value))
            except InvalidAddress as fault:
                return notes.wrong("pattern-in-plain-string", str(fault), node, expected="a plain value")
        if isinstance(value, float) and isnan(value):
            return notes.wrong("wrong-type", "nothing equals .nan", node, expected="a number")
        return Equal(value)  # type: ignore[arg-type]

    def _operators(self, node: Node, notes: Notes) -> Any:
        entries: dict[str, Node] = node.value  # type: ignore[assignment]
        if not entries:
            return notes.wrong("empty", "an empty test", node, expected="one of " + ", ".join(OPERATORS))
        tests: list[Any] = []
        for name, item in entries.items():
            if name not in OPERATORS:
                line, column = node.keys[name] if node.keys else (node.line, node.column)
                at = Source(notes.file, line, column)
                message = f"`{name}` is not an operator of a test"
                expected = "one of " + ", ".join(OPERATORS)
                tests.append(
                    notes.wrong_at("unknown-operator", message, at, expected=expected, known=OPERATORS, word=name)
                )
                continue
            tests.append(self._operator(name, item, notes))
        if MISSING in tests:
            return MISSING
        return tests[0] if len(tests) == 1 else AllOf(tuple(tests))

    def _operator(self, name: str, node: Node, notes: Notes) -> Any:
        if name == "glob":
            why = pattern_error(node.value) if isinstance(node.value, str) else f"found {described(node.value)}"
            if why:
                return notes.wrong("wrong-pattern", why, node, expected="a pattern")
            return Glob(str(node.value))
        if name == "same_as":
            if not isinstance(node.value, str) or not node.value:
                return notes.wrong("wrong-type", f"found {described(node.value)}", node, expected="an attribute")
            return SameAs(node.value)
        if name == "not":
            inner = self._test(node, notes)
            return MISSING if inner is MISSING else Not(inner)
        shapes: dict[str, tuple[Any, Any]] = {
            "within": (ListOf(NetworkText(), or_one=True), Within),
            "before": (Time(), Before),
            "after": (Time(), After),
            "longer_than": (Duration(), LongerThan),
            "present": (Flag(), Present),
        }
        shape, make = shapes[name]
        inner = shape.read(node, notes)
        if name == "within" and inner == ():
            return notes.wrong("empty", "an empty list admits nothing", node, expected="networks")
        return MISSING if inner is MISSING else make(inner)

    def plain(self, value: Iterable[tuple[str, Test]]) -> Any:
        return {attribute: plain_test(test) for attribute, test in value}

    def schema(self) -> dict[str, Any]:
        names = {} if self.free else {"propertyNames": {"anyOf": [{"enum": list(ATTRIBUTES)}, _FAMILY_SCHEMA]}}
        return {"type": "object", "additionalProperties": {"$ref": "#/$defs/test"}, **names}


_FAMILY_SCHEMA = {"pattern": "^(" + "|".join(re.escape(name) for name in ATTRIBUTE_FAMILIES) + ").+$"}

TEST_SCHEMA: dict[str, Any] = {
    "description": "a plain value, a list of tests of which one must hold, or operators that must all hold",
    "anyOf": [
        {"type": "string"},
        {"type": "number"},
        {"type": "boolean"},
        {"type": "array", "minItems": 1, "items": {"$ref": "#/$defs/test"}},
        {
            "type": "object",
            "minProperties": 1,
            "additionalProperties": False,
            "properties": {
                "glob": GLOB_SCHEMA["properties"]["glob"],
                "same_as": {"type": "string", "description": "another attribute"},
                "not": {"$ref": "#/$defs/test"},
                "within": ListOf(NetworkText(), or_one=True).schema(),
                "before": Time().schema(),
                "after": Time().schema(),
                "longer_than": Duration().schema(),
                "present": {"type": "boolean"},
            },
        },
    ],
}


def plain_test(test: Test) -> Any:  # noqa: PLR0911  one line a kind of test
    """A test as it stands in a file."""
    match test:
        case Equal(value):
            return escaped(value) if isinstance(value, str) else value
        case AnyOf(tests):
            return [plain_test(test) for test in tests]
        case AllOf(tests):
            return {name: value for test in tests for name, value in plain_test(test).items()}
        case Glob(pattern):
            return {"glob": pattern}
        case SameAs(other):
            return {"same_as": other}
        case Not(inner):
            return {"not": plain_test(inner)}
        case Within(networks):
            return {"within": [str(network) for network in networks]}
        case Before(time):
            return {"before": time_text(time)}
        case After(time):
            return {"after": time_text(time)}
        case LongerThan(duration):
            return {"longer_than": duration_text(duration)}
        case Present(wanted):
            return {"present": wanted}


def absence_wanted(test: Test) -> bool:
    """Whether a test can hold because its attribute is absent: `{present: false}`, or not `{present: true}`."""

    def among(test: Test, wanted: bool) -> bool:
        if isinstance(test, Present):
            return test.wanted is wanted
        if isinstance(test, Not):
            return among(test.test, not wanted)
        return isinstance(test, AnyOf | AllOf) and any(among(inner, wanted) for inner in test.tests)

    return among(test, False)


_FITTING: dict[str, tuple[tuple[type, ...], str]] = {
    "time": ((Before, After), "a time: {before: …}, {after: …}"),
    "network": ((Within,), "a network: {within: …}"),
    "mfa": ((Equal,), "true or false"),
    "session.age": ((LongerThan,), "a duration: {longer_than: …}"),
    "claims.": ((Equal, Glob, Within, SameAs), "a value, {glob: …}, {within: …} or {same_as: …}"),
    "": ((Equal, Glob, SameAs), "a text, {glob: …} or {same_as: …}"),
}
_NAMES = {
    Before: "`before`",
    After: "`after`",
    Within: "`within`",
    LongerThan: "`longer_than`",
    Glob: "`glob`",
    SameAs: "`same_as`",
}


def _misfit(attribute: str, test: Test) -> tuple[str, str] | None:
    """The first operator of a test that its attribute can never pass, and what fits; None where all may."""
    family = "claims." if attribute.startswith("claims.") else attribute if attribute in _FITTING else ""
    fitting, words = _FITTING[family]
    if isinstance(test, AnyOf | AllOf):
        return next((found for one in test.tests if (found := _misfit(attribute, one))), None)
    if isinstance(test, Not):
        return _misfit(attribute, test.test)
    if isinstance(test, Present) or (isinstance(test, fitting) and _is_of_type(family, test)):
        return None
    return _NAMES.get(type(test), f"the value {getattr(test, 'value', '')!r}"), words


def _is_of_type(family: str, test: Test) -> bool:
    """Whether a plain value is of the one type that an attribute has."""
    if not isinstance(test, Equal) or family == "claims.":
        return True
    return isinstance(test.value, bool) if family == "mfa" else isinstance(test.value, str)


NEVER_THE_SAME = ("time", "network", "mfa", "session.age")
"""Attributes that are not text, and so cannot be compared with `same_as`."""


def _is_attribute(name: str) -> bool:
    return name in ATTRIBUTES or (name.startswith(ATTRIBUTE_FAMILIES) and not name.endswith("."))


def _plain_texts(test: Test) -> Iterator[str]:
    if isinstance(test, Equal) and isinstance(test.value, str):
        yield test.value
    elif isinstance(test, Not):
        yield from _plain_texts(test.test)
    elif isinstance(test, AnyOf | AllOf):
        for one in test.tests:
            yield from _plain_texts(one)


def _supplied(attribute: str) -> bool:
    """Whether a caller can leave this attribute out by its own choice."""
    return attribute.startswith("claims.") or attribute in ("network", "mfa", "reference")

"""Shapes: what a value in an estate may look like. One description serves reading, writing and the JSON Schema.

Each shape has three faces: `read` (a node to a value, errors noted), `plain` (the value back to what
stands in a file) and `schema` (JSON Schema 2020-12).
"""

import re
from collections.abc import Callable, Mapping
from dataclasses import MISSING as NO_DEFAULT
from dataclasses import dataclass
from dataclasses import field as dataclass_field
from datetime import datetime, timedelta
from functools import cached_property
from ipaddress import ip_network
from typing import Any, Protocol

from enthesis.files.building import Builder, builder
from enthesis.files.yaml_tree import Node, tree_of
from enthesis.model.addresses import escaped, unescaped
from enthesis.model.conditions import Glob, Network, pattern_error
from enthesis.model.errors import InvalidAddress
from enthesis.model.estate import Elsewhere
from enthesis.model.file_errors import FileError, ListPart, Source
from enthesis.text.nearest import nearest
from enthesis.text.times import TIME, duration_text, length_in, time_from, time_text

MOST_REMEMBERED = 10_000  # texts of one field, read once
MOST_HINTED = 50  # errors of a file with a hint at what was meant


class _Missing:
    """Stands for a value that could not be read."""

    def __repr__(self) -> str:
        return "MISSING"


MISSING: Any = _Missing()


class Notes:
    """Collects the errors of one file."""

    def __init__(self, file: str) -> None:
        self.file = file
        self.field = ""  # the one being read, for messages
        self.errors: list[FileError] = []
        self.records: dict[Source, Node] = {}

    def source(self, node: Node) -> Source:
        """Where a node stands."""
        return Source(self.file, node.line, node.column)

    def wrong(self, code: str, message: str, node: Node, *, expected: str = "", known: Any = ()) -> Any:
        """Notes an error at a node; answers MISSING, so that readers can return it."""
        return self.wrong_at(code, message, self.source(node), expected=expected, known=known)

    def wrong_at(
        self, code: str, message: str, source: Source, *, expected: str = "", known: Any = (), word: str = ""
    ) -> Any:
        """The same at a source; `known` are the names that `word` could have been meant for."""
        close = nearest(word, known) if word and len(self.errors) < MOST_HINTED else ()
        if message.startswith("found ") and self.field:
            message = f"`{self.field}`: {message}"
        self.errors.append(FileError(code, message, source, expected=expected, nearest=close))
        return MISSING


def described(value: object) -> str:
    """What kind of value was found, for a message: `the number 3`, `a list`, `the text 'x'`."""
    if value is None:
        return "nothing (null)"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | float):
        return f"the number {value}"
    if isinstance(value, str):
        return f"the text '{value if len(value) <= 60 else value[:57] + '…'}'"
    return "a list" if isinstance(value, list) else "a mapping"


class Shape(Protocol):
    """What every shape can do."""

    @property
    def expected(self) -> str:
        """What should stand there, for a message."""
        ...

    def read(self, node: Node, notes: Notes) -> Any:
        """The value of a node, or MISSING with an error noted."""
        ...

    def plain(self, value: Any) -> Any:
        """The value as it stands in a file; the inverse of `read`."""
        ...

    def schema(self) -> dict[str, Any]:
        """The JSON Schema (2020-12) of what `read` accepts."""
        ...


@dataclass(frozen=True)
class Text:
    """Any text; a number or a boolean is an error, since quotes were meant."""

    expected: str = "text"
    verbatim: bool = True

    def read(self, node: Node, notes: Notes) -> Any:
        value = node.value
        if type(value) is str:
            return value
        if isinstance(value, bool | int | float):
            return notes.wrong(
                "wrong-type",
                f"found {described(value)}",
                node,
                expected=f"{self.expected} (put it in quotes)",
            )
        return notes.wrong("wrong-type", f"found {described(value)}", node, expected=self.expected)

    def plain(self, value: Any) -> Any:
        return value

    def schema(self) -> dict[str, Any]:
        return {"type": "string"}


@dataclass(frozen=True)
class Name(Text):
    """Text in which `*` and `?` must be escaped, so that nobody writes a pattern by accident."""

    expected: str = "a name or address"

    def read(self, node: Node, notes: Notes) -> Any:
        value = node.value
        if type(value) is not str:
            return Text.read(self, node, notes)
        if not value:
            return notes.wrong("empty", "found empty text", node, expected=self.expected)
        try:
            return unescaped(value)
        except InvalidAddress as fault:
            return notes.wrong("pattern-in-plain-string", str(fault), node, expected=self.expected)

    def plain(self, value: Any) -> Any:
        return escaped(value)

    def schema(self) -> dict[str, Any]:
        return {"type": "string", "minLength": 1, "pattern": r"^([^*?\\]|\\[*?\\]|\\(?![*?\\]))*$"}


@dataclass(frozen=True)
class Choice:
    """One word of a few."""

    words: tuple[str, ...]

    @property
    def expected(self) -> str:
        return "one of " + ", ".join(self.words)

    def read(self, node: Node, notes: Notes) -> Any:
        if isinstance(node.value, str) and node.value in self.words:
            return self.words[self.words.index(node.value)]  # the member, where they are those of an enumeration
        word = node.value if isinstance(node.value, str) else ""
        message = f"found {described(node.value)}"
        source = notes.source(node)
        return notes.wrong_at("unknown-word", message, source, expected=self.expected, known=self.words, word=word)

    def plain(self, value: Any) -> Any:
        return str(value)

    def schema(self) -> dict[str, Any]:
        return {"enum": list(self.words)}


@dataclass(frozen=True)
class Flag:
    """true or false."""

    expected: str = "true or false"

    def read(self, node: Node, notes: Notes) -> Any:
        if isinstance(node.value, bool):
            return node.value
        return notes.wrong("wrong-type", f"found {described(node.value)}", node, expected=self.expected)

    def plain(self, value: Any) -> Any:
        return value

    def schema(self) -> dict[str, Any]:
        return {"type": "boolean"}


@dataclass(frozen=True)
class Count:
    """A whole number of people, from one on."""

    expected: str = "a whole number from 1 to 99"

    def read(self, node: Node, notes: Notes) -> Any:
        if isinstance(node.value, int) and not isinstance(node.value, bool) and 1 <= node.value <= 99:
            return node.value
        return notes.wrong("wrong-type", f"found {described(node.value)}", node, expected=self.expected)

    def plain(self, value: Any) -> Any:
        return value

    def schema(self) -> dict[str, Any]:
        return {"type": "integer", "minimum": 1, "maximum": 99}


@dataclass(frozen=True)
class Duration:
    """A length of time: 15m, 8h, 30d, 1h30m."""

    expected: str = "a duration such as 15m, 8h or 30d"

    def read(self, node: Node, notes: Notes) -> Any:
        length = length_in(node.value) if isinstance(node.value, str) else None
        if length is None:
            return notes.wrong("wrong-duration", f"found {described(node.value)}", node, expected=self.expected)
        if not length:
            return notes.wrong("wrong-duration", "found a duration of nothing", node, expected=self.expected)
        return length

    def plain(self, value: timedelta) -> Any:
        return duration_text(value)

    def schema(self) -> dict[str, Any]:
        return {"type": "string", "pattern": r"^(?=.)(\d{1,6}d)?(\d{1,6}h)?(\d{1,6}m)?(\d{1,7}s)?$"}


@dataclass(frozen=True)
class Time:
    """An instant in RFC 3339 (section 5.6), with its offset."""

    expected: str = "a time such as 2027-01-31T12:00:00Z"

    def read(self, node: Node, notes: Notes) -> Any:
        found = time_from(node.value)
        if found is not None:
            return found
        return notes.wrong("wrong-time", f"found {described(node.value)}", node, expected=self.expected)

    def plain(self, value: datetime) -> Any:
        return time_text(value)

    def schema(self) -> dict[str, Any]:
        return {"type": "string", "pattern": f"^{TIME.pattern}$"}  # not `format`, which validators may not know


@dataclass(frozen=True)
class NetworkText:
    """A network in CIDR notation, or one address."""

    expected: str = "a network such as 10.0.0.0/8"

    def read(self, node: Node, notes: Notes) -> Any:
        if isinstance(node.value, str):
            try:
                return ip_network(node.value)
            except ValueError as fault:
                return notes.wrong("wrong-network", str(fault), node, expected=self.expected)
        return notes.wrong("wrong-network", f"found {described(node.value)}", node, expected=self.expected)

    def plain(self, value: Network) -> Any:
        return str(value)

    def schema(self) -> dict[str, Any]:
        return {"type": "string"}


@dataclass(frozen=True)
class NameOrGlob:
    """A name, or `{glob: pattern}`."""

    expected: str = "an address, or {glob: pattern}"

    def read(self, node: Node, notes: Notes) -> Any:
        if not isinstance(node.value, dict):
            return Name(self.expected).read(node, notes)
        pattern = sole_text(node, "glob", self.expected, notes)
        if pattern is MISSING:
            return MISSING
        why = pattern_error(pattern.value)
        if why:
            return notes.wrong("wrong-pattern", why, pattern, expected=self.expected)
        return Glob(pattern.value)

    def plain(self, value: Any) -> Any:
        return {"glob": value.pattern} if isinstance(value, Glob) else escaped(value)

    def schema(self) -> dict[str, Any]:
        return {"anyOf": [Name().schema(), GLOB_SCHEMA]}


def sole_text(node: Node, word: str, expected: str, notes: Notes) -> Any:
    """The node of the text in a mapping of just this one word to a text; MISSING after an error."""
    entries = node.value if isinstance(node.value, dict) else {}
    if list(entries) != [word] or not isinstance(entries[word].value, str):
        return notes.wrong("wrong-type", "found another mapping", node, expected=expected)
    return entries[word]


def sole_text_schema(word: str) -> dict[str, Any]:
    """The JSON Schema of a mapping of just this one word to a text."""
    return {
        "type": "object",
        "properties": {word: {"type": "string", "minLength": 1}},
        "required": [word],
        "additionalProperties": False,
    }


GLOB_SCHEMA = sole_text_schema("glob")


@dataclass(frozen=True)
class NameOrElsewhere:
    """A name, or `{elsewhere: text}` for a place that no address names."""

    expected: str = "an address, or {elsewhere: text}"

    def read(self, node: Node, notes: Notes) -> Any:
        if not isinstance(node.value, dict):
            return Name(self.expected).read(node, notes)
        words = sole_text(node, "elsewhere", self.expected, notes)
        return MISSING if words is MISSING else Elsewhere(words.value)

    def plain(self, value: Any) -> Any:
        return {"elsewhere": value.words} if isinstance(value, Elsewhere) else escaped(value)

    def schema(self) -> dict[str, Any]:
        return {"anyOf": [Name().schema(), sole_text_schema("elsewhere")]}


@dataclass(frozen=True)
class ListOf:
    """A list; with `or_one`, a single value stands for a list of one."""

    item: Shape
    or_one: bool = False

    @property
    def expected(self) -> str:
        return f"a list of {self.item.expected}"

    def read(self, node: Node, notes: Notes) -> Any:
        if isinstance(node.value, list):
            read = [self.item.read(item, notes) for item in node.value]
            return MISSING if MISSING in read else tuple(read)
        if self.or_one:
            one = self.item.read(node, notes)
            return MISSING if one is MISSING else (one,)
        return notes.wrong("wrong-type", f"found {described(node.value)}", node, expected=self.expected)

    def plain(self, value: Any) -> Any:
        items = [self.item.plain(item) for item in value]
        return items[0] if self.or_one and len(items) == 1 else items

    def schema(self) -> dict[str, Any]:
        many = {"type": "array", "items": self.item.schema()}
        return {"anyOf": [self.item.schema(), many]} if self.or_one else many


@dataclass(frozen=True)
class MapOf:
    """A mapping from any name to values of one shape."""

    item: Shape
    keys: str = "name"

    @property
    def expected(self) -> str:
        return f"a mapping of {self.keys} to {self.item.expected}"

    def read(self, node: Node, notes: Notes) -> Any:
        if not isinstance(node.value, dict):
            return notes.wrong("wrong-type", f"found {described(node.value)}", node, expected=self.expected)
        out: dict[str, Any] = {}
        for key, item in node.value.items():
            notes.field = key
            out[key] = self.item.read(item, notes)
        return MISSING if MISSING in out.values() else out

    def plain(self, value: Mapping[str, Any]) -> Any:
        return {key: self.item.plain(item) for key, item in value.items()}

    def schema(self) -> dict[str, Any]:
        return {"type": "object", "additionalProperties": self.item.schema()}


ESCAPES = re.compile(r"[*?\\]").search  # an escape in a text, or what would need one
NOTHING_MORE: Mapping[str, str] = {}
QuickReader = Callable[[Any, Notes, Source], Any]
"""Reads plain data that stands at one place; MISSING where it is not what is expected."""


def quick_reader(shape: Shape) -> QuickReader | None:
    """What reads plain data as a shape reads a node; None for text as it stands."""
    if type(shape) in (Text, Name):
        return None
    quick: QuickReader | None = getattr(shape, "quick", None)
    if quick is None and type(shape) in (Choice, Time, Duration):
        return _remembering(shape)
    return quick or (lambda item, notes, source: shape.read(tree_of(item, source.line), notes))


def _remembering(shape: Shape) -> QuickReader:
    """Reads values by a shape, each text once: the same few words and times stand in many records."""
    known: dict[str, Any] = {}

    def read(item: Any, notes: Notes, source: Source) -> Any:
        if type(item) is not str:
            return shape.read(tree_of(item, source.line), notes)
        value = known.get(item, MISSING)
        if value is MISSING:
            value = shape.read(tree_of(item, source.line), notes)
            if value is not MISSING and len(known) < MOST_REMEMBERED:
                known[item] = value
        return value

    return read


@dataclass(frozen=True)
class Field:
    """One field of a record: `attr` is its name in the model where that differs."""

    name: str
    shape: Shape
    attr: str = ""
    required: bool = False
    says: str = ""

    @property
    def attribute(self) -> str:
        """The name of the attribute of the model that it fills."""
        return self.attr or self.name


@dataclass(frozen=True)
class Record:
    """A mapping with known fields, made into a model value.

    `make` gets the fields by attribute and `source`; `one_of` are groups of fields of which exactly one is
    written. A field that could not be read and is not needed is left out, so that the rest can be looked at too;
    `goes_with` names for a field the other it needs. `apart` takes apart values whose attributes
    do not match the fields one to one.
    """

    what: str
    fields: tuple[Field, ...]
    make: Callable[..., Any]
    one_of: tuple[tuple[str, ...], ...] = ()
    apart: Callable[[Any], dict[str, Any]] | None = None
    goes_with: Mapping[str, str] = dataclass_field(default_factory=dict)

    @property
    def expected(self) -> str:
        return f"a mapping ({self.what})"

    @cached_property
    def by_name(self) -> dict[str, Field]:
        """The fields by the name that they have in a file."""
        return {field.name: field for field in self.fields}

    def read(self, node: Node, notes: Notes, *, part: ListPart = (), **given: Any) -> Any:
        entries = node.value
        if not isinstance(entries, dict):
            return notes.wrong("wrong-type", f"found {described(entries)}", node, expected=self.expected)
        known = self.by_name
        values = given
        sound = True
        for name, item in entries.items():
            field = known.get(name)
            if field is None:
                self._unknown(name, node, notes, known)
                continue
            notes.field = name
            value = field.shape.read(item, notes)
            if value is not MISSING:
                values[field.attr or name] = value
            elif field.required or any(name in names for names in self.one_of):
                sound = False
        for field in self.fields:
            if field.required and field.name not in entries:
                sound = False
                message = f"`{field.name}` is missing from {self.what}"
                notes.wrong("missing-field", message, node, expected=f"{field.name}: {field.shape.expected}")
        for names in self.one_of:
            written = [name for name in names if name in entries]
            if len(written) != 1:
                sound = False
                found = "none of them" if not written else " and ".join(written)
                notes.wrong("one-of", f"{self.what} has {found}", node, expected="one of " + ", ".join(names))
        for name, other in self.goes_with.items():
            told = any(other in names and not any(one in entries for one in names) for names in self.one_of)
            if name in entries and other not in entries and not told:
                sound = False
                notes.wrong("one-of", f"`{name}` needs `{other}`", node, expected=f"{other}: …")
        if not sound:
            return MISSING
        source = Source(notes.file, node.line, node.column, part)
        notes.records[source] = node
        return self.make(**values, source=source)

    def quick(
        self,
        entries: Any,
        notes: Notes,
        source: Source,
        more: Mapping[str, str] = NOTHING_MORE,
        *,
        escapes: bool = True,
    ) -> Any:
        """The value of plain data that stands at one place, as `read` would give it; MISSING where `read` has to look,
        since something is wrong or is written with escapes.

        `more` are attributes by further names; '' for what is not part of the value. With `escapes` false it
        is known that no text in it holds any.
        """
        if type(entries) is not dict:
            return MISSING
        names = tuple(entries)
        if names not in self._plans:
            self._plans[names] = self._planned(entries, more)
        build = self._plans[names]
        return MISSING if build is None else build(entries, notes, source, escapes)

    @cached_property
    def _plans(self) -> dict[tuple[str, ...], Builder | None]:
        """What makes a value of entries of these names; None where no record has just these."""
        return {}

    def _planned(self, entries: Mapping[str, Any], more: Mapping[str, str]) -> Builder | None:
        known, there = self.by_name, entries.keys() - more.keys()
        sound = (
            there <= known.keys()
            and all(field.name in there for field in self.fields if field.required)
            and all(len(there.intersection(names)) == 1 for names in self.one_of)
            and all(other in there for name, other in self.goes_with.items() if name in there)
        )
        if not sound:
            return None
        parts = [(name, known[name].attribute, quick_reader(known[name].shape)) for name in entries if name in known]
        parts += [(name, more[name], None) for name in entries if name not in known and more[name]]
        return builder(self.make, parts, MISSING, ESCAPES)

    def _unknown(self, name: str, node: Node, notes: Notes, known: Mapping[str, Field]) -> None:
        line, column = node.keys[name] if node.keys else (node.line, node.column)
        notes.wrong_at(
            "unknown-field",
            f"`{name}` is not a field of {self.what}",
            Source(notes.file, line, column),
            expected="one of " + ", ".join(known),
            known=known,
            word=name,
        )

    def plain(self, value: Any) -> Any:
        parts = self.apart(value) if self.apart else None
        out: dict[str, Any] = {}
        for field in self.fields:
            if parts is not None:
                if field.name in parts:
                    found = parts[field.name]
                    out[field.name] = None if found is None else field.shape.plain(found)
                continue
            found = getattr(value, field.attribute)
            if field.required or not _is_default(value, field.attribute, found):
                out[field.name] = field.shape.plain(found)
        return out

    def schema(self) -> dict[str, Any]:
        properties: dict[str, Any] = {}
        for field in self.fields:
            properties[field.name] = field.shape.schema()
            if field.says:
                properties[field.name] = {**properties[field.name], "description": field.says}
        out: dict[str, Any] = {"type": "object", "properties": properties, "additionalProperties": False}
        required = [field.name for field in self.fields if field.required]
        if required:
            out["required"] = required
        choices = [[{"properties": {name: True}, "required": [name]} for name in names] for names in self.one_of]
        if len(choices) == 1:
            out["oneOf"] = choices[0]
        elif choices:
            out["allOf"] = [{"oneOf": choice} for choice in choices]
        return out


def _is_default(value: Any, attribute: str, found: Any) -> bool:
    described_field = type(value).__dataclass_fields__[attribute]
    if described_field.default is not NO_DEFAULT:
        return bool(found == described_field.default and type(found) is type(described_field.default))
    if described_field.default_factory is not NO_DEFAULT:
        return bool(found == described_field.default_factory())
    return False

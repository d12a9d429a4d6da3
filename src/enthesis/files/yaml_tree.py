"""Bytes of a YAML 1.2 or JSON file to a tree of values that know where they stand.

Safe by construction: values are plain text, numbers, booleans and null (the YAML 1.2 core schema, section
10.3), tags of the application are errors, nesting and the expansion of aliases are bounded.
"""

import json
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

import yaml
from yaml._yaml import CParser
from yaml.events import (
    AliasEvent,
    DocumentStartEvent,
    MappingEndEvent,
    MappingStartEvent,
    ScalarEvent,
    SequenceEndEvent,
    SequenceStartEvent,
)

from enthesis.model.errors import InnerError

MAX_BYTES = 64 * 1024 * 1024  # one file
MAX_DEPTH = 64  # nested lists and mappings
MAX_EXPANSION = 100_000  # values that aliases may add to one file


class Node(NamedTuple):
    """A value with its place: text, number, boolean or None, a list of nodes, or a dict of nodes.

    `keys` holds line and column of each key of a mapping, and is None for all else.
    """

    value: object
    line: int
    column: int
    keys: dict[str, tuple[int, int]] | None = None


def tree_of(value: Any, line: int = 1) -> Node:
    """Plain data as a tree that stands on one line."""
    if isinstance(value, Mapping):
        entries = {str(key): tree_of(item, line) for key, item in value.items()}
        return Node(entries, line, 1, dict.fromkeys(entries, (line, 1)))
    if isinstance(value, list | tuple):
        return Node([tree_of(item, line) for item in value], line, 1)
    return Node(value, line, 1)


def plain_value(node: Node) -> Any:
    """A tree without its places."""
    if isinstance(node.value, dict):
        return {key: plain_value(item) for key, item in node.value.items()}
    if isinstance(node.value, list):
        return [plain_value(item) for item in node.value]
    return node.value


class Duplicate(NamedTuple):
    """A key written twice in one mapping: where again, and where first."""

    key: str
    line: int
    column: int
    first_line: int


class UnreadableFile(InnerError, ValueError):
    """The bytes are not a document; carries line and column, counted from 1 (0 where there is none)."""

    inner_code = "file-unparsable"

    def __init__(self, message: str, line: int = 0, column: int = 0) -> None:
        super().__init__(message)
        self.line = line
        self.column = column


class _Quiet(CParser):
    """The C parser, used for its events only."""


@dataclass(slots=True)
class _Open:
    """A list or mapping that is still being filled."""

    items: list[Node] | None
    entries: dict[str, Node] | None
    keys: dict[str, tuple[int, int]] | None
    line: int
    column: int
    anchor: str | None
    key: str | None = None
    skip: bool = False
    size: int = 1


def parse(data: bytes, *, as_json: bool = False) -> tuple[Node | None, list[Duplicate]]:
    """The document in these bytes (None for an empty one) and the keys written twice in one mapping.

    Raises UnreadableFile where the bytes are no such document.
    """
    if len(data) > MAX_BYTES:
        raise UnreadableFile(too_large(len(data)))
    text = _decoded(data)
    if as_json:
        text = _checked_json(text)
    return _Builder().build(text)


def too_large(size: int) -> str:
    """What is said of a file of this many bytes that is not read."""
    return f"the file has {size // 2**20} MiB, more than the {MAX_BYTES // 2**20} MiB that are read; split it"


def _decoded(data: bytes) -> str:
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as fault:
        line = data.count(b"\n", 0, fault.start) + 1
        column = fault.start - (data.rfind(b"\n", 0, fault.start) + 1) + 1
        message = f"byte 0x{data[fault.start]:02x} is not UTF-8; save the file as UTF-8"
        raise UnreadableFile(message, line, column) from None


_SURROGATES = re.compile(r"(?<!\\)((?:\\\\)*)\\u([dD][89abAB][0-9a-fA-F]{2})\\u([dD][c-fC-F][0-9a-fA-F]{2})")


def _checked_json(text: str) -> str:
    """The text if it is JSON, its surrogate pairs written out so that a YAML parser takes it too."""
    try:
        json.loads(text)
    except json.JSONDecodeError as fault:
        raise UnreadableFile(f"not JSON: {fault.msg}", fault.lineno, fault.colno) from None
    except RecursionError:
        raise UnreadableFile(f"nested deeper than {MAX_DEPTH} levels") from None
    except ValueError as fault:  # a number with too many digits
        raise UnreadableFile(f"not JSON that can be read: {fault}") from None

    def joined(match: re.Match[str]) -> str:
        pair = int(match[2], 16), int(match[3], 16)
        return match[1] + chr(0x10000 + ((pair[0] - 0xD800) << 10) + (pair[1] - 0xDC00))

    return _SURROGATES.sub(joined, text)


class _Builder:
    """Turns parser events into nodes with an explicit stack, so that no input can exhaust Python's own."""

    def __init__(self) -> None:
        self.stack: list[_Open] = []
        self.anchors: dict[str, tuple[Node, int]] = {}
        self.duplicates: list[Duplicate] = []
        self.expanded = 0
        self.documents = 0
        self.root: Node | None = None

    def build(self, text: str) -> tuple[Node | None, list[Duplicate]]:
        try:
            parser = _Quiet(text)
            while parser.check_event():
                self._take(parser.get_event())
        except yaml.YAMLError as fault:
            raise self._located(fault) from None
        return self.root, self.duplicates

    @staticmethod
    def _located(fault: yaml.YAMLError) -> UnreadableFile:
        mark = getattr(fault, "problem_mark", None)
        what = getattr(fault, "problem", None) or getattr(fault, "reason", None) or "not YAML"
        context = getattr(fault, "context", None)
        message = f"{what} {context}" if context else str(what)
        if "nesting depth" in message:  # the parser has a bound of its own, which it can meet before ours
            message = f"nested deeper than {MAX_DEPTH} levels"
        return UnreadableFile(message, mark.line + 1, mark.column + 1) if mark else UnreadableFile(message)

    def _take(self, event: Any) -> None:
        kind = type(event)
        if kind is ScalarEvent:
            self._scalar(event)
        elif kind is MappingStartEvent or kind is SequenceStartEvent:
            self._open(event)
        elif kind is MappingEndEvent or kind is SequenceEndEvent:
            self._close()
        elif kind is AliasEvent:
            self._alias(event)
        elif kind is DocumentStartEvent:
            self.documents += 1
            if self.documents > 1:
                mark = event.start_mark
                raise UnreadableFile("a second document; keep one to a file", mark.line + 1, mark.column + 1)

    def _scalar(self, event: Any) -> None:
        mark = event.start_mark
        line, column = mark.line + 1, mark.column + 1
        text: str = event.value
        top = self.stack[-1] if self.stack else None
        if top is not None and top.entries is not None and top.key is None:
            self._key(top, text, line, column)
            if event.anchor is not None:
                self.anchors[event.anchor] = Node(text, line, column), 1
            return
        if event.tag is None:
            value = resolved(text) if event.implicit[0] and not event.style else text
        else:
            value = _tagged(event.tag, text, event.style, line, column)
        node = Node(value, line, column)
        if event.anchor is not None:
            self.anchors[event.anchor] = node, 1
        self._place(node, 1)

    def _key(self, top: _Open, text: str, line: int, column: int) -> None:
        assert top.entries is not None and top.keys is not None  # noqa: S101  for the type checker
        if text in top.entries:
            self.duplicates.append(Duplicate(text, line, column, top.keys[text][0]))
            top.skip = True
        else:
            top.keys[text] = (line, column)
        top.key = text

    def _open(self, event: Any) -> None:
        mark = event.start_mark
        line, column = mark.line + 1, mark.column + 1
        if event.tag is not None and event.tag not in ("tag:yaml.org,2002:map", "tag:yaml.org,2002:seq", "!"):
            raise UnreadableFile(f"the tag {event.tag} means nothing here", line, column)
        if len(self.stack) >= MAX_DEPTH:
            raise UnreadableFile(f"nested deeper than {MAX_DEPTH} levels", line, column)
        top = self.stack[-1] if self.stack else None
        if top is not None and top.entries is not None and top.key is None:
            raise UnreadableFile("a list or mapping cannot be a key", line, column)
        if isinstance(event, MappingStartEvent):
            self.stack.append(_Open(None, {}, {}, line, column, event.anchor))
        else:
            self.stack.append(_Open([], None, None, line, column, event.anchor))

    def _close(self) -> None:
        done = self.stack.pop()
        value: object = done.items if done.entries is None else done.entries
        node = Node(value, done.line, done.column, done.keys)
        if done.anchor is not None:
            self.anchors[done.anchor] = node, done.size
        self._place(node, done.size)

    def _alias(self, event: Any) -> None:
        mark = event.start_mark
        line, column = mark.line + 1, mark.column + 1
        name = event.anchor
        if any(frame.anchor == name for frame in self.stack):
            raise UnreadableFile(f"the alias *{name} contains itself", line, column)
        if name not in self.anchors:
            raise UnreadableFile(f"unknown alias *{name}: no anchor &{name} before it", line, column)
        node, size = self.anchors[name]
        self.expanded += size
        if self.expanded > MAX_EXPANSION:
            raise UnreadableFile(f"aliases expand to more than {MAX_EXPANSION} values", line, column)
        top = self.stack[-1] if self.stack else None
        if top is not None and top.entries is not None and top.key is None:
            if not isinstance(node.value, str):
                raise UnreadableFile("a key must be text", line, column)
            self._key(top, node.value, line, column)
            return
        self._place(node, size)

    def _place(self, node: Node, size: int) -> None:
        if not self.stack:
            self.root = node
            return
        top = self.stack[-1]
        top.size += size
        if top.items is not None:
            top.items.append(node)
        elif top.skip:
            top.skip, top.key = False, None
        else:
            top.entries[top.key] = node  # type: ignore[index]
            top.key = None


_INTEGER = re.compile(r"[-+]?[0-9]+|0o[0-7]+|0x[0-9a-fA-F]+")
_FLOAT = re.compile(r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?")
_WORDS: dict[str, object] = {
    **dict.fromkeys(("", "~", "null", "Null", "NULL")),
    **dict.fromkeys(("true", "True", "TRUE"), True),
    **dict.fromkeys(("false", "False", "FALSE"), False),
    **dict.fromkeys((".inf", ".Inf", ".INF", "+.inf", "+.Inf", "+.INF"), float("inf")),
    **dict.fromkeys(("-.inf", "-.Inf", "-.INF"), float("-inf")),
    **dict.fromkeys((".nan", ".NaN", ".NAN"), float("nan")),
}
_SPECIAL_STARTS = frozenset("-+.0123456789~nNtTfF")
MAX_DIGITS = 300  # of a number written plainly; longer ones are text


def resolved(text: str) -> object:
    """What an unquoted scalar means in the YAML 1.2 core schema (section 10.3.2)."""
    if text and text[0] not in _SPECIAL_STARTS:
        return text
    if text in _WORDS:
        return _WORDS[text]
    if len(text) > MAX_DIGITS:
        return text
    if _INTEGER.fullmatch(text):
        return int(text, 8 if text[:2] == "0o" else 16 if text[:2] == "0x" else 10)
    return float(text) if _FLOAT.fullmatch(text) else text


def _tagged(tag: str, text: str, style: str | None, line: int, column: int) -> object:
    if tag in ("!", "tag:yaml.org,2002:str"):
        return text
    short = tag.rpartition(":")[2]
    value = resolved(text)
    kinds = {"int": int, "float": (int, float), "bool": bool, "null": type(None)}
    if tag.startswith("tag:yaml.org,2002:") and short in kinds and isinstance(value, kinds[short]):  # type: ignore[arg-type]
        return value
    raise UnreadableFile(f"the tag {tag} means nothing here", line, column)


ENDINGS = (".yaml", ".yml", ".json")  # of the files of an estate, in any case


def is_readable(name: str) -> bool:
    """Whether a file, by its name, is one of those that an estate is read from."""
    return name.lower().endswith(ENDINGS)


def is_json(name: str) -> bool:
    """Whether a file, by its name, is JSON; others are YAML."""
    return name.lower().endswith(".json")

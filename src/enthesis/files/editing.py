"""Edits an estate's files as text: adds an entry or replaces one value, and leaves every other character as it is.

The place is found from the parser's own marks, the new text is one flow-style line, and the caller reads the result
back before it is written.
"""

import json
from collections.abc import Iterator, Mapping, Sequence
from copy import deepcopy
from dataclasses import dataclass
from itertools import product
from typing import Any

import yaml
from yaml.nodes import MappingNode, Node, SequenceNode

from enthesis.files.finding import HEAD
from enthesis.files.writing import flow_text
from enthesis.files.yaml_tree import is_json, parse, plain_value
from enthesis.model.errors import InnerError
from enthesis.model.file_errors import ListPart, Source


class NotEditable(InnerError, ValueError):
    """The file is written in a way that this edit does not know how to keep; says where."""

    inner_code = "file-not-editable"


@dataclass(frozen=True, slots=True)
class Addition:
    """One more entry of a section; `name` for sections that are mappings, '' for lists."""

    section: str
    name: str
    entry: Any
    file: str = ""  # '' for that which has most of the section

    def line(self) -> str:
        """The entry as it is put into a block-style section."""
        text = flow_text(self.entry)
        return f"{flow_text(self.name)}: {text}" if self.name else f"- {text}"


@dataclass(frozen=True, slots=True)
class Replacement:
    """Another value in an entry: the entry starts at `line` and `column` of `file`, `path` leads from it inward.

    A last word of the path that is not there yet is added to its mapping; `value` None takes it out.
    """

    file: str
    line: int
    column: int
    path: tuple[str | int, ...]
    value: Any
    part: ListPart = ()

    @classmethod
    def at(cls, source: Source, path: tuple[str | int, ...], value: Any) -> "Replacement":
        """In the entry that stands there; of one that is several statements, in that one alone."""
        return cls(source.file, source.line, source.column, path, value, source.part)


@dataclass(frozen=True, slots=True)
class Removal:
    """Takes an entry out of its section: it (of a mapping: or its name) starts at `line` and `column` of `file`. With a
    `part`, only that one of the statements that the entry is."""

    file: str
    line: int
    column: int
    part: ListPart = ()

    @classmethod
    def at(cls, source: Source) -> "Removal":
        """Of what stands there."""
        return cls(source.file, source.line, source.column, source.part)


Edit = Addition | Replacement | Removal


@dataclass(frozen=True, slots=True)
class _KeptItems:
    """Which positions of a list in an entry stay; the others are taken out."""

    file: str
    line: int
    column: int
    path: tuple[str]
    positions: tuple[int, ...]


def edited(texts: Mapping[str, str], edits: Sequence[Edit]) -> dict[str, str]:
    """The texts of the files with all edits made. NotEditable where one cannot be."""
    out = dict(texts)
    for edit in sorted(_apart(texts, edits), key=_last_first, reverse=True):
        if isinstance(edit, Addition):
            name = edit.file or _file_for(out, edit.section)
            out[name] = _added(out[name], edit, as_json=is_json(name))
        elif isinstance(edit, Removal):
            out[edit.file] = _removed(out[edit.file], edit)
        elif isinstance(edit, _KeptItems):
            out[edit.file] = _with_fewer(out[edit.file], edit)
        else:
            out[edit.file] = _replaced(out[edit.file], edit, as_json=is_json(edit.file))
    return out


def _apart(texts: Mapping[str, str], edits: Sequence[Edit]) -> Iterator[Edit | _KeptItems]:
    """The edits, those of single statements of an entry that is several put as edits of entries: the statement is taken
    out of the entry's lists, and written on its own where it stays."""
    entries: dict[tuple[str, int, int], dict[ListPart, list[Removal | Replacement]]] = {}
    for edit in edits:
        if isinstance(edit, Addition) or not edit.part:
            yield edit
        else:
            entries.setdefault((edit.file, edit.line, edit.column), {}).setdefault(edit.part, []).append(edit)
    for (file, line, column), of_parts in entries.items():
        section, entry = _written_at(texts[file], file, line, column)
        lists = {name: list(entry[name]) for name, _ in next(iter(of_parts))}
        every = [tuple(zip(lists, one, strict=True)) for one in product(*(range(len(all_)) for all_ in lists.values()))]
        rest = [part for part in every if part not in of_parts]
        kept, others = _largest_block(rest, lists)
        if kept:
            for name, positions in kept.items():
                if len(positions) < len(lists[name]):
                    yield _KeptItems(file, line, column, (name,), positions)
        else:
            yield Removal(file, line, column)
        for part in others:
            yield Addition(section, "", _one_of(entry, part), file)
        for part, wanted in of_parts.items():
            changes = [edit for edit in wanted if isinstance(edit, Replacement)]
            if len(changes) == len(wanted):
                one = _one_of(entry, part)
                for edit in changes:
                    _put(one, edit)
                yield Addition(section, "", one, file)


def _largest_block(
    rest: Sequence[ListPart], lists: Mapping[str, Any]
) -> tuple[dict[str, tuple[int, ...]], list[ListPart]]:
    """The positions of each list that an entry keeps, so that it is just statements that stay, and what stays besides:
    of two lists, all values of the first that keep the same of the second."""
    if not rest:
        return {}, []
    first, *following = lists
    if not following:
        return {first: tuple(part[0][1] for part in rest)}, []
    by_second: dict[tuple[int, ...], list[int]] = {}
    for position in dict.fromkeys(part[0][1] for part in rest):
        of_it = tuple(part[1][1] for part in rest if part[0][1] == position)
        by_second.setdefault(of_it, []).append(position)
    second, firsts = max(by_second.items(), key=lambda item: len(item[0]) * len(item[1]))
    kept = {first: tuple(firsts), following[0]: second}
    return kept, [part for part in rest if part[0][1] not in firsts]


def _one_of(entry: Mapping[str, Any], part: ListPart) -> dict[str, Any]:
    """One of the statements that an entry is, as an entry of its own."""
    return {**deepcopy(dict(entry)), **{name: entry[name][position] for name, position in part}}


def _put(entry: dict[str, Any], edit: Replacement) -> None:
    """Makes a replacement in plain data."""
    inner: Any = entry
    for word in edit.path[:-1]:
        inner = inner[word]
    if edit.value is None:
        inner.pop(edit.path[-1], None)
    else:
        inner[edit.path[-1]] = edit.value


def _written_at(text: str, file: str, line: int, column: int) -> tuple[str, dict[str, Any]]:
    """The section of the entry that starts at a place, and the entry as plain data."""
    tree, _ = parse(text.encode(), as_json=is_json(file))
    for section, node in tree.value.items() if tree is not None and isinstance(tree.value, dict) else ():
        for one in node.value if isinstance(node.value, list) else ():
            if (one.line, one.column) == (line, column):
                return section, plain_value(one)
    raise NotEditable(f"there is no entry at {file}:{line}:{column}")


def _with_fewer(text: str, edit: _KeptItems) -> str:
    """The text without some items of a list in an entry."""
    entry = _at(_composed(text), edit.line - 1, edit.column - 1)
    found = _child(entry, edit.path[0])
    count = len(found.value) if isinstance(found, SequenceNode) else 0
    for position in reversed(range(count)):
        if position not in edit.positions:
            found = _child(_at(_composed(text), edit.line - 1, edit.column - 1), edit.path[0])
            children = _children(found) if found is not None else []
            flow = isinstance(found, SequenceNode) and found.flow_style
            text = _without_flow(text, children, position) if flow else _without_line(text, children, position, edit)
    return text


def _last_first(edit: Edit | _KeptItems) -> tuple[int, int, int]:
    """What is at a place from the end of a file to its start, so that places stay right; additions after all that."""
    return (0, 0, 0) if isinstance(edit, Addition) else (1, edit.line, edit.column)


def _file_for(texts: Mapping[str, str], section: str) -> str:
    """The file that has most of a section already, else the head file."""
    sizes = {}
    for name, text in texts.items():
        value = _section(_composed(text), section)
        if value is not None:
            sizes[name] = len(value.value) if isinstance(value, MappingNode | SequenceNode) else 0
    if sizes:
        return max(sizes, key=lambda name: sizes[name])
    return HEAD if HEAD in texts else next(iter(texts))


def _composed(text: str) -> Node | None:
    return yaml.compose(text, Loader=yaml.CSafeLoader)


def _section(root: Node | None, section: str) -> Node | None:
    if not isinstance(root, MappingNode):
        return None
    return next((value for key, value in root.value if key.value == section), None)


def _added(text: str, edit: Addition, *, as_json: bool) -> str:
    root = _composed(text)
    node = _section(root, edit.section)
    if node is None:
        if as_json or not isinstance(root, MappingNode) or root.flow_style:
            return _into_flow(text, root, edit.section, [edit.entry] if not edit.name else {edit.name: edit.entry})
        end = text if text.endswith("\n") or not text else text + "\n"
        return f"{end}\n{edit.section}:\n  {edit.line()}\n"
    if isinstance(node, MappingNode | SequenceNode) and node.flow_style:
        return _into_flow(text, node, edit.name, edit.entry)
    if isinstance(node, MappingNode | SequenceNode) and node.value:
        last = node.value[-1][1] if isinstance(node, MappingNode) else node.value[-1]
        return _after(text, _end(last), " " * node.start_mark.column + edit.line())
    # `section:` with nothing behind it
    return _after(text, node.start_mark.index, "  " + edit.line())


def _end(node: Node) -> int:
    """The position just behind what a node really writes; block collections end with their last child."""
    if isinstance(node, MappingNode | SequenceNode) and not node.flow_style and node.value:
        last = node.value[-1]
        return _end(last[1] if isinstance(node, MappingNode) else last)
    end: int = node.end_mark.index
    return end


def _after(text: str, position: int, line: str) -> str:
    """The text with a line put in behind the line of a position."""
    end = text.find("\n", position)
    if position and text[position - 1] == "\n":  # a block scalar ends behind its last line break
        end = position - 1
    return f"{text}\n{line}\n" if end < 0 else f"{text[: end + 1]}{line}\n{text[end + 1 :]}"


def _into_flow(text: str, node: Node | None, name: str, entry: Any) -> str:
    """The text with one more entry before the closing bracket of a flow collection."""
    if not isinstance(node, MappingNode | SequenceNode) or not node.flow_style:
        raise NotEditable("the file is not a mapping of sections")
    more = flow_text(entry) if isinstance(node, SequenceNode) else f"{flow_text(name)}: {flow_text(entry)}"
    if _is_json(text):
        more = json.dumps(entry) if isinstance(node, SequenceNode) else f"{json.dumps(name)}: {json.dumps(entry)}"
    close = node.end_mark.index - 1
    if node.value:
        last = node.value[-1][1] if isinstance(node, MappingNode) else node.value[-1]
        at = _end(last)
        return f"{text[:at]}, {more}{text[at:]}"
    return f"{text[:close]}{more}{text[close:]}"


def _is_json(text: str) -> bool:
    return text.lstrip().startswith("{")


def _replaced(text: str, edit: Replacement, *, as_json: bool) -> str:
    node = _at(_composed(text), edit.line - 1, edit.column - 1)
    if node is None:
        raise NotEditable(f"there is no entry at {edit.file}:{edit.line}:{edit.column}")
    for word in edit.path[:-1]:
        node = _child(node, word)
        if node is None:
            raise NotEditable(f"{edit.file}:{edit.line} does not have {word}")
    last = edit.path[-1]
    child = _child(node, last)
    if edit.value is None:
        return _taken_out(text, node, str(last)) if child is not None else text
    new = json.dumps(edit.value) if as_json else flow_text(edit.value)
    if child is not None:
        start, before = child.start_mark.index, ""
        if isinstance(child, MappingNode | SequenceNode) and not child.flow_style and isinstance(node, MappingNode):
            key = next(key for key, value in node.value if value is child)
            start, before = text.index(":", key.end_mark.index) + 1, " "  # the new value stands on the key's own line
        return text[:start] + before + new + text[_end(child) :]
    if isinstance(node, MappingNode) and node.flow_style:
        return _into_flow(text, node, str(last), edit.value)
    if isinstance(node, MappingNode):
        return _after(text, _end(node), f"{' ' * node.start_mark.column}{last}: {new}")
    raise NotEditable(f"{edit.file}:{edit.line} is written in a form that cannot be edited")


def _taken_out(text: str, node: Node, name: str) -> str:
    """The text without one field of a mapping."""
    if not isinstance(node, MappingNode):
        raise NotEditable("only a field of a mapping is taken out")
    number = next(at for at, (key, _) in enumerate(node.value) if key.value == name)
    key, value = node.value[number]
    if not node.flow_style:
        start = text.rfind("\n", 0, key.start_mark.index) + 1
        if text[start : key.start_mark.index].strip():
            raise NotEditable(f"`{name}` shares its line with an entry that stays")
        end = text.find("\n", _end(value))
        return text[:start] + (text[end + 1 :] if end >= 0 else "")
    if number:
        return text[: _end(node.value[number - 1][1])] + text[_end(value) :]
    following = node.value[1][0].start_mark.index if len(node.value) > 1 else _end(value)
    return text[: key.start_mark.index] + text[following:]


def _removed(text: str, edit: Removal) -> str:
    """The text without one entry of a section; the last one leaves an empty section."""
    root = _composed(text)
    pairs = root.value if isinstance(root, MappingNode) else []
    for name, section in pairs:
        children = _children(section)
        at = next((at for at, nodes in enumerate(children) if any(_is_at(node, edit) for node in nodes)), None)
        if at is None:
            continue
        _, value = children[at]
        if section.flow_style:
            return _without_flow(text, children, at)
        if len(children) == 1:
            empty = " []" if isinstance(section, SequenceNode) else " {}"
            colon = text.index(":", name.end_mark.index)
            return text[: colon + 1] + empty + text[_end(value) :]
        return _without_line(text, children, at, edit)
    raise NotEditable(f"no entry starts at {edit.file}:{edit.line}:{edit.column}")


def _without_line(text: str, children: Sequence[tuple[Node, Node]], at: int, edit: Removal | _KeptItems) -> str:
    """The text without the lines of one entry of a block collection."""
    start, value = children[at]
    begin = text.rfind("\n", 0, start.start_mark.index) + 1
    if text[begin : start.start_mark.index].strip() not in ("", "-"):
        raise NotEditable(f"{edit.file}:{edit.line} shares its line with an entry that stays")
    end = text.find("\n", _end(value) - 1 if text[_end(value) - 1] == "\n" else _end(value))
    return text[:begin] + (text[end + 1 :] if end >= 0 else "")


def _children(section: Node) -> list[tuple[Node, Node]]:
    """The entries of a section, each with the node that it starts with."""
    if isinstance(section, MappingNode):
        return list(section.value)
    return [(one, one) for one in section.value] if isinstance(section, SequenceNode) else []


def _is_at(node: Node, edit: Removal) -> bool:
    return (node.start_mark.line, node.start_mark.column) == (edit.line - 1, edit.column - 1)


def _without_flow(text: str, children: Sequence[tuple[Node, Node]], at: int) -> str:
    start, value = children[at]
    if at:
        return text[: _end(children[at - 1][1])] + text[_end(value) :]
    following = children[1][0].start_mark.index if len(children) > 1 else _end(value)
    return text[: start.start_mark.index] + text[following:]


def _child(node: Node | None, word: str | int) -> Node | None:
    if isinstance(node, MappingNode):
        return next((value for key, value in node.value if key.value == word), None)
    if isinstance(node, SequenceNode) and isinstance(word, int) and word < len(node.value):
        found: Node = node.value[word]
        return found
    return None


def _at(node: Node | None, line: int, column: int) -> Node | None:
    """The outermost value that starts at a place."""
    if node is None:
        return None
    if (node.start_mark.line, node.start_mark.column) == (line, column):
        return node
    inner: list[Node] = []
    if isinstance(node, MappingNode):
        for key, value in node.value:
            if (key.start_mark.line, key.start_mark.column) == (line, column):
                return value  # type: ignore[no-any-return]
            inner.append(value)
    elif isinstance(node, SequenceNode):
        inner = node.value
    return next((found for one in inner if (found := _at(one, line, column)) is not None), None)

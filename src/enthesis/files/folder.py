"""The one door to files: finds the files of an estate, reads them all and reports every error at once."""

import os
import re
import stat
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from importlib import resources
from pathlib import Path
from typing import Any

from enthesis.files.cache import TreeCache
from enthesis.files.checking import check
from enthesis.files.field_types import MISSING, ListOf, Notes, Text, described
from enthesis.files.finding import HEAD, PLACE_OF_WORK
from enthesis.files.renamed import SECTIONS as OLD_SECTIONS
from enthesis.files.renamed import old_words, own_verbs
from enthesis.files.sections import SECTIONS
from enthesis.files.yaml_tree import (
    MAX_BYTES,
    Node,
    UnreadableFile,
    is_json,
    is_readable,
    parse,
    plain_value,
    too_large,
)
from enthesis.model.catalogue import Catalogue, catalogue_from
from enthesis.model.estate import Estate
from enthesis.model.file_errors import FileError, Source, masked
from enthesis.model.foreign_names import MADE_BY, OURS
from enthesis.text.nearest import nearest

MOST_FOLDERS = 64  # within one another
LONGEST_LINE = 2000  # characters; of a longer line, which a file on one line is, nothing is shown
DOCUMENTS = {
    "survey": {"version", "taken", "of"},
    "proposal": {"format", "estate", "steps"},
    "handoff": {"format", "reference", "estate", "asked"},
    "usage": {"version", "taken"},
}
"""The documents that we write ourselves, with what each has at least."""


@dataclass(frozen=True, slots=True)
class Reading:
    """What reading a folder gave: the estate (None where there are errors), the errors, the files.

    `named_at` says by section and name where each named entry stands, `records` has what is written at each statement,
    `skipped` the files that were left out, each with why. `live`: the estate is what a survey found, beside the files.
    """

    estate: Estate | None
    errors: tuple[FileError, ...]
    files: tuple[str, ...]
    named_at: Mapping[tuple[str, str], Source] = field(default_factory=dict)
    records: Mapping[Source, Node] = field(default_factory=dict)
    skipped: Mapping[str, str] = field(default_factory=dict)
    live: bool = False


def packaged_catalogue(remembered: TreeCache) -> Catalogue:
    """The catalogue of kinds that ships with the product."""
    data = resources.files("enthesis").joinpath("data", "catalogue.yaml").read_bytes()
    tree, _ = _parse("catalogue.yaml", data, remembered)
    if tree is None:
        raise ValueError("the packaged catalogue cannot be read")
    return catalogue_from(plain_value(tree))


def read_folder(folder: Path, *, cache: Path | None = None) -> Reading:
    """Reads every `*.yaml` and `*.json` file in a folder and below it, except in hidden folders."""
    contents: dict[str, bytes] = {}
    errors: list[FileError] = []
    hidden = dict.fromkeys(_hidden(folder), "hidden")
    for path, fault in _files(folder):
        name = path.relative_to(folder).as_posix()
        data, problem = (b"", fault) if fault else _bytes(path)
        if problem:
            errors.append(FileError("unreadable-file", problem, Source(name, 0, 0)))
        else:
            contents[name] = data
    if HEAD not in contents and not any(error.source.file == HEAD for error in errors):
        errors.append(FileError("no-estate", f"there is no {HEAD} here", Source(HEAD, 0, 0)))
    reading = _read(contents, errors, TreeCache(cache))
    return replace(reading, skipped={**reading.skipped, **hidden})


def _hidden(folder: Path) -> Iterator[str]:
    """The hidden files of an estate's folder, and hidden folders in it, that could be taken for the estate's."""
    try:
        entries = sorted(os.scandir(folder), key=lambda entry: entry.name)
    except OSError:
        return
    for entry in entries:
        if (
            entry.name.startswith(".")
            and entry.name not in (PLACE_OF_WORK, ".git")
            and (entry.is_dir() or is_readable(entry.name))
        ):
            yield f"{entry.name}/" if entry.is_dir() else entry.name


def estate_texts(folder: Path) -> dict[str, str]:
    """The texts of an estate's files by name, as they stand; of a folder that reads without an error."""
    return {
        path.relative_to(folder).as_posix(): path.read_bytes().decode("utf-8")
        for path, fault in _files(folder)
        if not fault and is_read(folder, path)
    }


def read_texts(texts: Mapping[str, str]) -> Reading:
    """The same for texts by file name, with no file behind them."""
    return _read({name: text.encode() for name, text in texts.items()}, [], TreeCache(None))


def _read(contents: dict[str, bytes], errors: list[FileError], remembered: TreeCache) -> Reading:
    trees: list[tuple[str, Node]] = []
    files: list[str] = []
    skipped: dict[str, str] = {}
    head, in_head = _parse(HEAD, contents[HEAD], remembered) if HEAD in contents else (None, [])
    ignored = _ignored(head)
    errors = [error for error in errors if not ignored(error.source.file)]
    for name, data in contents.items():
        if name != HEAD and ignored(name):
            skipped[name] = "ignored by estate.yaml"
            continue
        tree, found = (head, in_head) if name == HEAD else _parse(name, data, remembered)
        if name != HEAD:
            kind = _document(name, tree, data)
            if kind:
                skipped[name] = kind
                continue
            if tree is not None and _is_something_else(tree):
                found = [FileError("not-an-estate-file", NOT_OURS, Source(name, 1, 1), expected=advice(name))]
                tree = None
        errors.extend(found)
        files.append(name)
        if tree is not None:
            trees.append((name, tree))
    errors = list(_told_once(errors))
    complete = all(error.code in ("duplicate", "not-an-estate-file") for error in errors)
    merged = _Merge(packaged_catalogue(remembered))
    estate = _assemble(merged, trees, complete=complete)
    lines: dict[str, list[str]] = {}
    located = tuple(_with_line(error, contents, lines) for error in _ordered([*errors, *merged.all_errors()]))
    return Reading(None if located else estate, located, tuple(files), merged.named_at, merged.records, skipped)


def _told_once(errors: list[FileError]) -> Iterator[FileError]:
    """The errors, those of JSON files that are none of an estate's as one: a folder of other data has hundreds."""
    strange = [one for one in errors if one.code == "not-an-estate-file" and is_json(one.source.file)]
    yield from (one for one in errors if one not in strange or len(strange) == 1)
    if len(strange) > 1:
        first = strange[0]
        folders = {one.source.file.rpartition("/")[0] for one in strange}
        pattern = f"{folders.pop()}/*.json".removeprefix("/") if len(folders) == 1 else "**.json"
        message = f"{NOT_OURS}; so are {len(strange) - 1} other JSON files"
        yield FileError(first.code, message, first.source, expected=advice(pattern))


NOT_OURS = "this file is not part of an estate: none of its keys is a section"


def advice(name: str) -> str:
    """How a file is told apart from the estate's."""
    return f"sections of an estate; otherwise move it, or write `ignore: [{name}]` in {HEAD}"


def ignores(patterns: Iterable[str]) -> Callable[[str], bool]:
    """Whether a file's path is like one of these globs, which mean what they mean everywhere in an estate."""
    whole = re.compile("|".join(_expression(pattern) for pattern in patterns) or r"(?!)", re.DOTALL)
    return lambda name: whole.fullmatch(name) is not None


def is_read(folder: Path, path: Path) -> bool:
    """Whether a file of an estate's folder, there already or not, is read as part of the estate."""
    name = path.relative_to(folder).as_posix()
    if not is_readable(path.name) or any(part.startswith(".") for part in name.split("/")):
        return False
    data, problem = _bytes(folder / HEAD)
    head, _ = _parse(HEAD, data, TreeCache(None)) if not problem else (None, [])
    return not _ignored(head)(name)


def _expression(pattern: str) -> str:
    parts = re.split(r"(\\.|\*\*|\*|\?)", pattern)
    known = {"**": ".*", "*": "[^/:]*", "?": "[^/:]"}
    return "".join(
        known[part] if part in known else re.escape(part[-1:] if part.startswith("\\") else part) for part in parts
    )


def _ignored(head: Node | None) -> Callable[[str], bool]:
    """Which files the head of an estate leaves out."""
    node = head.value.get("ignore") if head is not None and isinstance(head.value, dict) else None
    listed = node.value if node is not None and isinstance(node.value, list) else []
    return ignores(one.value for one in listed if isinstance(one.value, str))


def _document(name: str, tree: Node | None, data: bytes) -> str:
    """What a file is that is none of an estate's: a document of Enthesis's own, whose first key is `enthesis`, what it
    wrote for a cluster, or JSON in which nothing stands. '' for anything else; one with a section in it is the
    estate's, so that one line never hides a file."""
    first = tree
    if tree is None:  # a survey is a row of documents
        try:
            lines = [parse(line, as_json=True)[0] for line in data.splitlines() if line.strip()]
        except UnreadableFile:
            return ""
        if any(
            line is None or not isinstance(line.value, dict) or SECTIONS.keys() & line.value.keys() for line in lines
        ):
            return ""
        first = lines[0] if lines else None
    if is_json(name) and (not data.strip() or (first is not None and first.value in ({}, []))):
        return "nothing stands in it"
    if first is None or not isinstance(first.value, dict) or SECTIONS.keys() & first.value.keys():
        return ""
    if _said(first, "metadata", "labels", MADE_BY) == OURS:
        return "a manifest that Enthesis wrote"
    if next(iter(first.value), "") != "enthesis" or OLD_SECTIONS.keys() & first.value.keys():
        return ""
    kind = first.value["enthesis"].value
    if isinstance(kind, str) and kind in DOCUMENTS and DOCUMENTS[kind] <= first.value.keys():
        return f"a {kind} that Enthesis wrote"
    strange = any(nearest(str(word), tuple(SECTIONS)) for word in first.value if word != "enthesis")
    return "" if strange else "a document of Enthesis that is not whole"


def _said(node: Node, *path: str) -> Any:
    """The plain value at a path of keys; None where there is none."""
    found: Node | None = node
    for key in path:
        found = found.value.get(key) if found is not None and isinstance(found.value, dict) else None
    return found.value if found is not None else None


def _is_something_else(tree: Node) -> bool:
    """Whether nothing in a file looks like a section, not even a misspelt one."""
    if isinstance(tree.value, list):
        return True
    if not isinstance(tree.value, dict) or not tree.value:
        return False
    known = ("estate", "ignore", *SECTIONS, *OLD_SECTIONS)
    if any(word in known for word in tree.value):
        return False
    return 2 * sum(bool(nearest(str(word), known)) for word in tree.value) <= len(tree.value) - 1


def _assemble(merged: "_Merge", trees: list[tuple[str, Node]], *, complete: bool) -> Estate | None:
    """The estate that these trees describe together; all errors in them are left in what is merged.

    Names are looked up only where every file could be read (`complete`), and those of entries that are at fault
    themselves count as defined: otherwise one error would draw others after it.
    """
    merged.own_verbs = own_verbs(tree for _, tree in trees)
    for name, tree in trees:
        merged.add(name, tree)
    estate = merged.estate(complete=complete)
    if not complete or merged.broken.get("kinds"):
        return None
    merged.errors += check(estate, merged.records, merged.named_at, merged.broken)
    return estate


class _Merge:
    """Puts the sections of several files together."""

    def __init__(self, catalogue: Catalogue) -> None:
        self.catalogue = catalogue
        self.errors: list[FileError] = []
        self.records: dict[Source, Node] = {}
        self.named_at: dict[tuple[str, str], Source] = {}
        self.broken: dict[str, set[str]] = {}
        self.values: dict[str, Any] = {name: {} if section.key else [] for name, section in SECTIONS.items()}
        self.name = ""
        self.own_verbs: frozenset[str] = frozenset()
        self.renamed: list[FileError] = []

    def all_errors(self) -> list[FileError]:
        """All that was found, without what follows from old words alone: each of those is told once."""
        spots = {error.source for error in self.renamed}
        missing = {f"{error.expected.partition(';')[0]} is missing" for error in self.renamed}
        new = {error.expected.partition(";")[0].strip("`") for error in self.renamed}
        others = [
            error
            for error in self.errors
            if error.source not in spots
            and not (error.code == "missing-field" and any(error.message.startswith(word) for word in missing))
            and not (error.code == "one-of" and new & set(re.findall(r"[\w-]+", error.expected)))
        ]
        return [*self.renamed, *others]

    def add(self, file: str, tree: Node) -> None:
        notes = Notes(file)
        if isinstance(tree.value, dict):
            for section, node in tree.value.items():
                self._section(section, node, tree, notes)
        else:
            notes.wrong("wrong-type", f"found {described(tree.value)}", tree, expected="a mapping of sections")
        self.renamed += [word.error(file) for word in old_words(tree, self.own_verbs)]
        self.errors.extend(notes.errors)
        self.records.update(notes.records)

    def _section(self, word: str, node: Node, tree: Node, notes: Notes) -> None:
        if word == "estate":
            self._name(node, notes)
            return
        if word == "ignore":
            self._ignore(node, notes)
            return
        section = SECTIONS.get(word)
        if section is None:
            line, column = tree.keys[word] if tree.keys else (tree.line, tree.column)
            at = Source(notes.file, line, column)
            known = ("estate", "ignore", *SECTIONS)
            expected = "one of " + ", ".join(known)
            message = f"`{word}` is not a section"
            notes.wrong_at("unknown-section", message, at, expected=expected, known=known, word=word)
        elif node.value is None:
            return
        elif section.key:
            self._named(word, node, notes)
        elif isinstance(node.value, list):
            for item in node.value:
                self.values[word] += section.read(item, notes)
        else:
            notes.wrong("wrong-type", f"found {described(node.value)}", node, expected=f"a list under `{word}`")

    def _name(self, node: Node, notes: Notes) -> None:
        if not isinstance(node.value, str) or not node.value:
            notes.wrong("wrong-type", f"found {described(node.value)}", node, expected="the name of the estate")
        elif self.name and self.name != node.value:
            first = self.named_at["estate", ""]
            notes.wrong("duplicate", f"the estate is named {self.name} at {first} already", node)
        else:
            self.name = node.value
            self.named_at["estate", ""] = notes.source(node)

    def _ignore(self, node: Node, notes: Notes) -> None:
        if notes.file != HEAD:
            notes.wrong("wrong-place", f"`ignore` is allowed only in {HEAD}", node, expected=f"a list in {HEAD}")
            return
        read = ListOf(Text(), or_one=True).read(node, notes)
        if read is not MISSING:
            self.values["ignore"] = list(read)

    def _named(self, word: str, node: Node, notes: Notes) -> None:
        section = SECTIONS[word]
        if not isinstance(node.value, dict) or node.keys is None:
            expected = f"a mapping of names under `{word}`"
            notes.wrong("wrong-type", f"found {described(node.value)}", node, expected=expected)
            return
        for key, item in node.value.items():
            line, column = node.keys[key]
            at = Source(notes.file, line, column)
            first = self.named_at.setdefault((word, key), at)
            if first is not at:
                message = f"`{key}` is defined twice under `{word}`: here and at {first}"
                notes.wrong_at("duplicate", message, at)
                continue
            entry = item
            if item.value is None and item.keys is None:
                entry = Node({}, line, column, {})
            value = section.record.read(entry, notes, **{str(section.key): key})
            if value is MISSING:
                self.broken.setdefault(word, set()).add(key)
            else:
                self.values[word][key] = value

    def estate(self, *, complete: bool) -> Estate:
        values: dict[str, Any] = {
            word: value if word in SECTIONS and SECTIONS[word].key else tuple(value)
            for word, value in self.values.items()
        }
        catalogue = self.catalogue.extended(values["kinds"].values())
        if not self.name and complete and not self.errors:
            self.errors.append(
                FileError("missing-field", "no file names the estate", Source(HEAD, 1, 1), expected="estate: NAME")
            )
        return Estate(self.name, catalogue, **values)


def _parse(name: str, data: bytes, remembered: TreeCache) -> tuple[Node | None, list[FileError]]:
    tree = remembered.get(data)
    if tree is not None:
        return tree, []
    try:
        tree, duplicates = parse(data, as_json=is_json(name))
    except UnreadableFile as fault:
        at = Source(name, fault.line, fault.column)
        return None, [FileError("unreadable-file", str(fault), at, expected="" if name == HEAD else advice(name))]
    if not duplicates and tree is not None:
        remembered.put(data, tree)
    return tree, [
        FileError(
            "duplicate",
            f"duplicate key `{key}`: also on line {first}",
            Source(name, line, column),
        )
        for key, line, column, first in duplicates
    ]


def _bytes(path: Path) -> tuple[bytes, str]:
    """The content of a file, and what is wrong with it ('' where nothing is)."""
    try:
        size = path.stat().st_size
        if size > MAX_BYTES:
            return b"", too_large(size)
        return path.read_bytes(), ""
    except OSError as fault:
        return b"", fault.strerror or "it cannot be read"


def _files(folder: Path) -> Iterator[tuple[Path, str]]:
    """Paths in order, each with what is wrong with it ('' where nothing is)."""
    yield from _walk(folder, frozenset())


def _walk(folder: Path, above: frozenset[tuple[int, int]]) -> Iterator[tuple[Path, str]]:
    if len(above) > MOST_FOLDERS:
        yield folder, f"more than {MOST_FOLDERS} folders within one another"
        return
    try:
        here = folder.stat()
        entries = sorted(os.scandir(folder), key=lambda entry: entry.name)
    except OSError as fault:
        yield folder, fault.strerror or "the folder cannot be read"
        return
    inside = above | {(here.st_dev, here.st_ino)}
    for entry in entries:
        if entry.name.startswith("."):
            continue
        path = Path(entry.path)
        try:
            found = entry.stat()
        except OSError as fault:
            if is_readable(path.name) or entry.is_symlink():
                yield path, fault.strerror or "it cannot be read"
            continue
        if stat.S_ISDIR(found.st_mode):
            if (found.st_dev, found.st_ino) in inside:
                yield path, "the link leads back to a folder above it"
            else:
                yield from _walk(path, inside)
        elif is_readable(path.name):
            yield path, "" if stat.S_ISREG(found.st_mode) else "it is not a regular file"


def _ordered(errors: list[FileError]) -> list[FileError]:
    return sorted(errors, key=lambda error: (error.source.file != HEAD, error.source, error.code))


def _with_line(error: FileError, contents: Mapping[str, bytes], known: dict[str, list[str]]) -> FileError:
    """An error with the line that it is in, where that can be shown; `known` are the lines of files looked at."""
    file = error.source.file
    if file not in contents or not error.source.line:
        return error
    if file not in known:
        known[file] = contents[file].decode("utf-8-sig", "replace").split("\n")
    lines = known[file]
    if error.source.line > len(lines):
        return error
    text = lines[error.source.line - 1].rstrip("\r")
    text = text if len(text) <= LONGEST_LINE else ""
    message = masked(error.message)  # a file with a secret in it may lie here by error
    return FileError(error.code, message, error.source, masked(text), error.expected, error.nearest)

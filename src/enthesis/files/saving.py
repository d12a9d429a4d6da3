"""Edits an estate's files: the result is read back first, and nothing is written that is not as it was meant."""

import json
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from enthesis.files.atomic_files import fresh_file
from enthesis.files.editing import Edit, NotEditable, edited
from enthesis.files.finding import find_estate
from enthesis.files.folder import Reading, estate_texts, is_read, read_texts
from enthesis.files.renamed import old_words, own_verbs, with_new_words
from enthesis.files.yaml_tree import MAX_BYTES, Node, UnreadableFile, is_json, parse
from enthesis.model.errors import InvalidInput

BY_HAND, CHANGE_BY_HAND = "put the lines there yourself", "make the change by hand"


def edit_files(folder: Path, edits: Sequence[Edit], check: Callable[[Reading], None], remedy: str = "") -> list[str]:
    """Makes edits; the names of the files that changed. `check` raises where the result is not to be written.

    InvalidInput, and nothing is written, where a file is written in a way that cannot be kept.
    """
    texts = estate_texts(folder)
    try:
        changed = edited(texts, edits)
    except NotEditable as fault:
        raise InvalidInput(f"the files are not edited: {fault}", code="file-not-editable", remedy=remedy) from None
    check(read_texts(changed))
    names = [name for name in texts if changed[name] != texts[name]]
    for name in names:
        write_file(folder / name, changed[name].encode())
    return names


def must_read(reading: Reading) -> None:
    """A check for `edit_files`: InvalidInput, which says the first error, where the result has one."""
    if reading.estate is None:
        raise InvalidInput(
            f"the files would become invalid, so nothing was written: {reading.errors[0].message}",
            code="edit-differs",
            remedy=CHANGE_BY_HAND,
        )


def must_be_described(holder: str) -> Callable[[Reading], None]:
    """A check for `edit_files`: InvalidInput, which says the first error, where what is in `holder` gives one."""

    def check(reading: Reading) -> None:
        if reading.estate is None:
            raise InvalidInput(
                f"what is in {holder} cannot be described, so nothing was written: {reading.errors[0].message}",
                code="adoption-impossible",
            )

    return check


def rename_old_words(folder: Path) -> list[str]:
    """Rewrites renamed words in an estate's files, comments and order kept; the names of the files that changed.

    A file that cannot be parsed is left as it is: reading the estate reports it.
    """
    texts = estate_texts(folder)
    trees: dict[str, Node] = {}
    for name, text in texts.items():
        with suppress(UnreadableFile):
            tree, _ = parse(text.encode(), as_json=is_json(name))
            trees |= {name: tree} if tree is not None else {}
    own = own_verbs(trees.values())
    changed = []
    for name, tree in trees.items():
        words = old_words(tree, own)
        if words:
            write_file(folder / name, with_new_words(texts[name], words).encode())
            changed.append(name)
    return changed


def fresh_folder(folder: Path, otherwise: str) -> Path:
    """The folder, made where it is not there; InvalidInput where it is not empty, with what else to do."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if any(folder.iterdir()):
            raise InvalidInput(
                f"{folder} is not empty", code="folder-not-empty", remedy=f"name a fresh folder; {otherwise}"
            )
    except OSError as fault:
        raise InvalidInput(f"{folder} cannot be used: {fault.strerror}", code="folder-unusable") from None
    return folder.resolve()


def read_file(path: Path, most: int = MAX_BYTES) -> bytes:
    """The bytes of a file; InvalidInput where it cannot be read, or holds more than so many: no more is read."""
    try:
        with path.open("rb") as file:
            data = file.read(most + 1)
    except OSError as fault:
        raise InvalidInput(f"{path} cannot be read: {fault.strerror}", code="file-unreadable") from None
    if len(data) > most:
        raise InvalidInput(f"{path} is larger than {most} bytes, so it is not read", code="file-too-large")
    return data


def document_in(data: bytes) -> Any:
    """The JSON in a document that somebody else wrote; ValueError where there is none, or where a name in it stands
    twice, so that it could be read in two ways."""
    try:
        return json.loads(data.decode(), object_pairs_hook=_once)
    except UnicodeDecodeError:
        raise ValueError("it is not text") from None
    except json.JSONDecodeError as fault:
        raise ValueError(f"it is not JSON (line {fault.lineno}, column {fault.colno})") from None
    except RecursionError:
        raise ValueError("it is nested too deeply") from None


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    read = dict(pairs)
    if len(read) < len(pairs):
        names = [name for name, _ in pairs]
        raise ValueError(f"`{next(name for name in names if names.count(name) > 1)}` stands in it twice")
    return read


def write_file(path: Path, content: bytes, *, foreign: bool = False) -> None:
    """Writes a file whole or not at all; InvalidInput where it cannot be written, or where an estate would read it as
    its own (`foreign`: it is in a format of others, which carries no mark of ours)."""
    if foreign:
        _keep_apart(path)
    with fresh_file(path) as file:
        file.write(content)


def _keep_apart(path: Path) -> None:
    """InvalidInput if a file that is not an estate file would be written into a folder that an estate reads."""
    folder = find_estate(path.resolve().parent)
    if folder is not None and is_read(folder, path.resolve()):
        name = path.resolve().relative_to(folder).as_posix()
        raise InvalidInput(
            f"{path} would be read as part of the estate there",
            code="file-in-estate",
            remedy=f"write it elsewhere, or add `ignore: [{name}]` to {folder.name}/estate.yaml",
        )

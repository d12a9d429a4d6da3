"""Remembers the tree of a file by the content of the file, so that an unchanged one is not parsed again.

Safe to delete at any time. The key is the SHA-256 of the very bytes read, so an entry can never stand for
other bytes; one that does not read back as a tree is ignored and written anew.
"""

import hashlib
import json
from pathlib import Path
from typing import Any

from enthesis.files.atomic_files import fresh_file
from enthesis.files.yaml_tree import Node
from enthesis.model.errors import InvalidInput

FORMAT = "1"  # changes whenever the tree does
MAX_ENTRIES = 200
PRIVATE_KEY = b"PRIVATE KEY-----"  # in a file by mistake: what is an error there is not kept anywhere else


class TreeCache:
    """A folder of trees; `None` for a cache that remembers nothing."""

    def __init__(self, folder: Path | None) -> None:
        self.folder = folder

    def get(self, data: bytes) -> Node | None:
        """The tree of these bytes, if it is remembered."""
        if self.folder is None:
            return None
        try:
            return _tree(json.loads(self._path(data).read_bytes()))
        except (OSError, ValueError, TypeError, KeyError, RecursionError):
            return None

    def put(self, data: bytes, tree: Node) -> None:
        """Remembers a tree, unless a private key is in it; a folder that cannot be written to is not an error."""
        if self.folder is None or PRIVATE_KEY in data:
            return
        try:
            self.folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            text = json.dumps(_flat(tree), separators=(",", ":"))
            with fresh_file(self._path(data), mode=0o600, durable=False) as file:
                file.write(text.encode())
            self._prune()
        except (InvalidInput, OSError, ValueError, RecursionError):
            return

    def _path(self, data: bytes) -> Path:
        assert self.folder is not None  # noqa: S101  for the type checker
        return self.folder / (hashlib.sha256(FORMAT.encode() + data).hexdigest() + ".tree")

    def _prune(self) -> None:
        assert self.folder is not None  # noqa: S101  for the type checker
        entries = sorted(self.folder.glob("*.tree"), key=lambda path: path.stat().st_mtime)
        for old in entries[:-MAX_ENTRIES]:
            old.unlink(missing_ok=True)


def _flat(node: Node) -> list[Any]:
    value = node.value
    if isinstance(value, dict):
        pairs = [[key, *node.keys[key], _flat(item)] for key, item in value.items()]  # type: ignore[index]
        return [node.line, node.column, 1, pairs]
    if isinstance(value, list):
        return [node.line, node.column, 2, [_flat(item) for item in value]]
    return [node.line, node.column, 0, value]


def _tree(flat: list[Any]) -> Node:
    line, column, kind, value = flat
    if kind == 0:
        return Node(value, line, column)
    if kind == 2:
        return Node([_tree(item) for item in value], line, column)
    entries, keys = {}, {}
    for key, key_line, key_column, item in value:
        entries[key] = _tree(item)
        keys[key] = (key_line, key_column)
    return Node(entries, line, column, keys)

"""Words of an estate's files that were renamed: where an old one stands, and the text with the new one.

The table below is all that knows the old words. What they became is described in docs/upgrading.md.
"""

from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from enthesis.files.yaml_tree import Node
from enthesis.model.file_errors import FileError, Source
from enthesis.model.vocabulary import STEPS as NEW_STEPS

SECTIONS = {"lodged": "pipeline_access"}
FIELDS = {("journeys", "because"): "refused_at", ("accepted", "danger"): "risk"}
STEPS = {"owner": "target-side", "caller": "caller-side"}
OVER = {"resources": "targets"}
VERBS = {"use": "run-as"}  # of identities
FIX = "enthesis check --fix"


@dataclass(frozen=True, slots=True, order=True)
class OldWord:
    """An old word at a line and column, counted from 1."""

    line: int
    column: int
    old: str
    new: str
    of_identities: bool = True  # or a word without a kind, which could be a verb of another one

    def error(self, file: str) -> FileError:
        """What is said of it."""
        message = f"`{self.old}` was renamed to `{self.new}`"
        return FileError("renamed", message, Source(file, self.line, self.column), expected=f"`{self.new}`; fix: {FIX}")


def old_words(tree: Node, own: Container[str] = ()) -> list[OldWord]:
    """The old words in a file, in the order in which they stand there.

    `own` are verbs that kinds of the estate itself have: such a one is old only where it is a verb of identities.
    """
    if not isinstance(tree.value, dict):
        return []
    found = {old_word for section, node in tree.value.items() for old_word in _in_section(section, node, tree)}
    return sorted(old_word for old_word in found if old_word.of_identities or old_word.old not in own)


def own_verbs(trees: Iterable[Node]) -> frozenset[str]:
    """The verbs of the kinds that an estate's files define."""
    out: set[str] = set()
    for tree in trees:
        kinds = tree.value.get("kinds") if isinstance(tree.value, dict) else None
        for kind in kinds.value.values() if kinds is not None and isinstance(kinds.value, dict) else ():
            verbs = kind.value.get("verbs") if isinstance(kind.value, dict) else None
            out.update(verbs.value if verbs is not None and isinstance(verbs.value, dict) else ())
    return frozenset(out)


def with_new_words(text: str, words: Sequence[OldWord]) -> str:
    """The text with each old word replaced where it stands, plain or quoted; all else stays as it is."""
    lines = text.splitlines(keepends=True)
    for word in sorted(words, reverse=True):
        line = lines[word.line - 1]
        start = word.column - 1
        start += line[start : start + 1] in ("'", '"')
        if line.startswith(word.old, start):
            lines[word.line - 1] = line[:start] + word.new + line[start + len(word.old) :]
    return "".join(lines)


def _in_section(section: str, node: Node, tree: Node) -> Iterator[OldWord]:
    yield from _key(tree, section, SECTIONS)
    entries = node.value
    listed = entries.values() if isinstance(entries, dict) else entries if isinstance(entries, list) else ()
    fields = {old: new for (of, old), new in FIELDS.items() if of == section}
    for entry in listed:
        if not isinstance(entry.value, dict):
            continue
        for name, value in entry.value.items():
            if name != "because" or _is_steps(value):  # else it is a reason, which a journey has not
                yield from _key(entry, name, fields)
            if section == "journeys" and name in ("because", "refused_at"):
                yield from _texts(value, STEPS)
            elif section == "journeys" and name == "attempt":
                yield from _first_word(value, VERBS)
            elif section == "ceilings" and name == "over":
                yield from _texts(value, OVER)
            elif section == "invariants" and name in ("never", "only") and isinstance(value.value, dict):
                yield from (replace(text, of_identities=False) for text in _texts(value.value.get("can"), VERBS))
        yield from _verbs(entry)


def _is_steps(node: Node) -> bool:
    words = node.value if isinstance(node.value, list) else [node]
    return all(word.value in (*STEPS, *NEW_STEPS) for word in words)


def _key(node: Node, name: str, renamed: Mapping[str, str]) -> Iterator[OldWord]:
    if name in renamed and node.keys:
        yield OldWord(*node.keys[name], name, renamed[name])


def _texts(node: Node | None, renamed: Mapping[str, str]) -> Iterator[OldWord]:
    """A text that was renamed, or those in a list."""
    if node is None:
        return
    for one in node.value if isinstance(node.value, list) else [node]:
        if isinstance(one.value, str) and one.value in renamed:
            yield OldWord(one.line, one.column, one.value, renamed[one.value])


def _first_word(node: Node, renamed: Mapping[str, str]) -> Iterator[OldWord]:
    word, _, target = node.value.partition(" ") if isinstance(node.value, str) else ("", "", "")
    if word in renamed:
        yield OldWord(node.line, node.column, word, renamed[word], of_identities="/identity/" in target)


def _verbs(node: Node) -> Iterator[OldWord]:
    """Old verbs in maps from kinds to verbs, wherever in an entry they stand."""
    inner = node.value
    if isinstance(inner, list):
        for one in inner:
            yield from _verbs(one)
    elif isinstance(inner, dict):
        for name, value in inner.items():
            if name in ("allows", "bars", "only", "narrowed", "can") and isinstance(value.value, dict):
                yield from _texts(value.value.get("identity"), VERBS)
                yield from (replace(text, of_identities=False) for text in _texts(value.value.get("*"), VERBS))
            yield from _verbs(value)

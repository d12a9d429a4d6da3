"""Edits an estate's files: the result is read back first, and nothing is written that is not as it was meant."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from enthesis.commands.common import write_file

if TYPE_CHECKING:
    from enthesis.reading.editing import Edit
    from enthesis.reading.folder import Reading

BY_HAND = "put the lines there yourself"


def edit_files(
    folder: Path, edits: "Sequence[Edit]", check: "Callable[[Reading], None]", remedy: str = ""
) -> list[str]:
    """Makes edits; the names of the files that changed. `check` raises where the result is not to be written.

    Mistaken, and nothing is written, where a file is written in a way that cannot be kept.
    """
    from enthesis.errors import Mistaken
    from enthesis.reading.editing import NotEditable, edited
    from enthesis.reading.folder import estate_texts, read_texts

    texts = estate_texts(folder)
    try:
        changed = edited(texts, edits)
    except NotEditable as fault:
        raise Mistaken(f"the files are not edited: {fault}", remedy=remedy) from None
    check(read_texts(changed))
    names = [name for name in texts if changed[name] != texts[name]]
    for name in names:
        write_file(folder / name, changed[name].encode())
    return names

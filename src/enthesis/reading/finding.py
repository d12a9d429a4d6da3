"""Finds the folder of an estate."""

from pathlib import Path

HEAD = "estate.yaml"


def find_estate(start: Path) -> Path | None:
    """The nearest folder, from this one upward, that has an `estate.yaml`."""
    for folder in (start, *start.parents):
        if (folder / HEAD).is_file():
            return folder
    return None

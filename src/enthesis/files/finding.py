"""Finds the folder of an estate."""

from pathlib import Path

from platformdirs import user_cache_path

from enthesis.model.errors import InvalidInput

HEAD = "estate.yaml"


def find_estate(start: Path) -> Path | None:
    """The nearest folder, from this one upward, that has an `estate.yaml`."""
    for folder in (start, *start.parents):
        if (folder / HEAD).is_file():
            return folder
    return None


def estate_folder(given: Path | None) -> Path:
    """The estate's folder; InvalidInput where there is none."""
    if given is not None:
        if not (given / HEAD).exists():
            raise InvalidInput(
                f"there is no {HEAD} in {given}",
                code="estate-missing",
                remedy="name the folder that holds it with --estate",
            )
        return given.resolve()
    found = find_estate(Path.cwd())
    if found is None:
        raise InvalidInput(
            f"there is no {HEAD} here or in any folder above",
            code="estate-missing",
            remedy="`enthesis demo` shows one at work",
        )
    return found


def cache_folder() -> Path:
    """Where parsed files are remembered; safe to delete."""
    return user_cache_path("enthesis") / "reading"

"""Finds the folder of an estate."""

import os
import stat
from pathlib import Path

from platformdirs import user_cache_path

from enthesis.model.errors import InvalidInput

HEAD = "estate.yaml"
PLACE_OF_WORK = ".enthesis"  # of the lab and the history, in the folder of an estate
HISTORY = "history.db"


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
        return ours(given.resolve())
    found = find_estate(Path.cwd())
    if found is None:
        raise InvalidInput(
            f"there is no {HEAD} here or in any folder above",
            code="estate-missing",
            remedy="`enthesis demo` shows one at work",
        )
    return ours(found)


def ours(folder: Path) -> Path:
    """The folder of an estate, if nobody else could have put it, or what is in its place of work, there; InvalidInput
    where a person could: commands speak to what an estate names, with what is at hand."""
    place = folder / PLACE_OF_WORK
    for path in (folder, folder / HEAD, place, *place.glob("*"), *(place / "lab").glob("*")):
        try:
            found = path.lstat()
        except OSError:
            continue
        if path != folder / HEAD and path != folder and stat.S_ISLNK(found.st_mode):
            raise InvalidInput(
                f"{path} is a link to elsewhere, so it is left alone", code="unsafe-path", remedy="remove the link"
            )
        if found.st_uid not in _us():
            raise InvalidInput(
                f"{path} belongs to another user (number {found.st_uid}), so the estate is not read",
                code="unsafe-path",
                remedy="copy the files, or make them yours with chown",
            )
    return folder


def place_of_work(folder: Path) -> Path:
    """The place of work beside an estate's files, made where it is not there; no repository should take it in."""
    place = folder / PLACE_OF_WORK
    try:
        place.mkdir(mode=0o700, exist_ok=True)
        (place / ".gitignore").write_text("*\n", encoding="utf-8")
    except OSError as fault:
        raise InvalidInput(f"{place} cannot be written: {fault.strerror}", code="file-unwritable") from None
    return place


def _us() -> set[int]:
    """Our own number, and that of who became root to run this."""
    behind = os.environ.get("SUDO_UID", "")
    return {os.geteuid(), *([int(behind)] if os.geteuid() == 0 and behind.isdigit() else [])}


def cache_folder() -> Path:
    """Where parsed files are remembered; safe to delete."""
    return user_cache_path("enthesis") / "reading"


def within_repository(folder: Path) -> str:
    """Where a folder is in the git repository around it, as `part/of/it/`; '' at its top, or where there is none."""
    whole = folder.resolve()
    top = next((above for above in (whole, *whole.parents) if (above / ".git").exists()), whole)
    inside = whole.relative_to(top).as_posix()
    return "" if inside == "." else f"{inside}/"

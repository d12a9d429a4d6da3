"""The one way in which a file is written: whole, or not at all."""

import os
import stat
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

from enthesis.model.errors import InvalidInput


@contextmanager
def fresh_file(path: Path, *, mode: int | None = None, durable: bool = True) -> Iterator[BinaryIO]:
    """A file that takes the place of one when all of it is written, and leaves that alone where it is not.

    `mode` is its mode; None keeps that of the file that is there, or gives a new one the usual mode. `durable`: it is
    on the disk before it takes its place, so that a power cut leaves the old or the new one. InvalidInput where it
    cannot be written.
    """
    place: Path | None = None
    try:
        number, beside = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name[:100]}.")
        place = Path(beside)
        with os.fdopen(number, "wb") as file:
            yield file
            if durable:
                file.flush()
                os.fsync(number)
        place.chmod(_mode_of(path) if mode is None else mode)
        place.replace(path)
    except BaseException as fault:
        if place is not None:
            with suppress(OSError):
                place.unlink()
        if not isinstance(fault, OSError):
            raise
        raise InvalidInput(f"{path} cannot be written: {fault.strerror}", code="file-unwritable") from None


def _mode_of(path: Path) -> int:
    """The mode of the file that is there, or that of a new one."""
    try:
        return stat.S_IMODE(path.lstat().st_mode) if not path.is_symlink() else 0o600
    except OSError:
        mask = os.umask(0o077)
        os.umask(mask)
        return 0o666 & ~mask

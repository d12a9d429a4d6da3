"""How an answer is put out: lines, JSON or ready text to standard output, remarks to standard error."""

import os
import shutil
import sys
from collections.abc import Iterable
from typing import Any

from enthesis.output.lines import Line, json_text, line, rendered


def put_lines(lines: Iterable[Line], *, to_error: bool = False) -> None:
    """Lines to standard output, or as remarks to standard error; in colour only on a terminal."""
    stream = sys.stderr if to_error else sys.stdout
    colour = stream.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
    width = shutil.get_terminal_size().columns if stream.isatty() else 0
    stream.write(rendered(lines, colour=colour, width=width))
    stream.flush()


def put_json(value: Any) -> None:
    """A value as JSON to standard output."""
    sys.stdout.write(json_text(value) + "\n")
    sys.stdout.flush()


def put_text(text: str) -> None:
    """Text that was made for a file or another program, as it is, to standard output."""
    sys.stdout.write(text)
    sys.stdout.flush()


def remark(text: str, *, quiet: bool = False) -> None:
    """One line beside the answer, on standard error."""
    if not quiet:
        put_lines([line(text)], to_error=True)

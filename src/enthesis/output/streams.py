"""How an answer is put out: lines, JSON or ready text to standard output, remarks to standard error."""

import os
import shutil
import sys
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from enthesis.output.lines import Line, Span, json_text, line, rendered
from enthesis.surveys.unread import Inquiry, Unread

JSON_FORMAT = 1  # raised when a field of an answer goes or means something else
MOST = 12  # things that are named, and reasons that are given


@dataclass
class _Partial:
    """What could not be read of that which is asked about, and whether the answer has said so yet."""

    missing: list[Unread] = field(default_factory=list)
    told: bool = False


_PARTIAL = _Partial()


def begin() -> None:
    """Forgets what an earlier answer lacked."""
    _PARTIAL.missing.clear()
    _PARTIAL.told = False


def may_lack(missing: Iterable[Unread]) -> None:
    """From now on the first line of an answer says that it may lack something, and `is_partial` is true."""
    _PARTIAL.missing.extend(dict.fromkeys(missing))


def is_about(about: Inquiry) -> None:
    """What the answer is about: what could not change it is no doubt any more."""
    _PARTIAL.missing[:] = [one for one in _PARTIAL.missing if one.could_change(about)]


def is_partial() -> bool:
    """Whether the answer may lack something."""
    return bool(_PARTIAL.missing)


def put_partial(*, to_error: bool = False) -> None:
    """Says that the answer may lack something, unless that was said."""
    if _PARTIAL.missing and not _PARTIAL.told:
        _PARTIAL.told = True
        names = list(dict.fromkeys(one.what for one in _PARTIAL.missing))
        more = f"; and {len(names) - MOST} more" if len(names) > MOST else ""
        said = f"Not read: {'; '.join(names[:MOST])}{more}."
        lines = [line(Span("Partial survey: this answer may be incomplete. ", "bad"), said)]
        lines += [line(f"  {one.called}: {one.why}") for one in _PARTIAL.missing[:MOST] if one.why]
        put_lines(lines, to_error=to_error)


def put_lines(lines: Iterable[Line], *, to_error: bool = False) -> None:
    """Lines to standard output, or as remarks to standard error; in colour only on a terminal."""
    if not to_error:
        put_partial()
    stream = sys.stderr if to_error else sys.stdout
    colour = stream.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
    width = shutil.get_terminal_size().columns if stream.isatty() else 0
    stream.write(rendered(lines, colour=colour, width=width))
    stream.flush()


def put_json(value: Mapping[str, Any]) -> None:
    """An answer as JSON to standard output, with the `format` that its fields are of; one that may lack something says
    so in `not_read`."""
    value = {"format": JSON_FORMAT, **value}
    if _PARTIAL.missing:
        unread = [f"{one.called} ({one.why})" if one.why else one.what for one in _PARTIAL.missing]
        value = {"not_read": unread, **value}
        _PARTIAL.told = True
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

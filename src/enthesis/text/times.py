"""Times (RFC 3339) and lengths of time (`1d12h`), from texts and back."""

import re
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from typing import Any

DURATION = re.compile(r"(?:(\d{1,6})d)?(?:(\d{1,6})h)?(?:(\d{1,6})m)?(?:(\d{1,7})s)?")
TIME = re.compile(r"\d{4}-\d\d-\d\d[Tt]\d\d:\d\d:\d\d(\.\d+)?([Zz]|[+-]\d\d:\d\d)")


@lru_cache(1024)
def length_in(text: str) -> timedelta | None:
    """The length of time that a text says, zero too; None where it says none."""
    found = DURATION.fullmatch(text) if text else None
    if found is None:
        return None
    days, hours, minutes, seconds = (int(part or 0) for part in found.groups())
    return timedelta(days=days, hours=hours, minutes=minutes, seconds=seconds)


def duration_from(text: Any) -> timedelta | None:
    """The duration that a text names as an estate writes it; None where it names none, or nothing at all."""
    return (length_in(text) or None) if isinstance(text, str) else None


def duration_text(length: timedelta) -> str:
    """A duration as the estate writes it; whole seconds only."""
    rest = int(length.total_seconds())
    out = ""
    for unit, size in (("d", 86400), ("h", 3600), ("m", 60), ("s", 1)):
        count, rest = divmod(rest, size)
        out += f"{count}{unit}" if count else ""
    return out or "0s"


def time_from(text: Any) -> datetime | None:
    """The instant that a text names as an estate writes it; None where it names none."""
    if not isinstance(text, str) or not TIME.fullmatch(text):
        return None
    try:
        return datetime.fromisoformat(text.upper()).astimezone(UTC)
    except (ValueError, OverflowError):
        return None


def time_text(instant: datetime) -> str:
    """An instant as the estate writes it, in UTC."""
    return instant.astimezone(UTC).isoformat().replace("+00:00", "Z")

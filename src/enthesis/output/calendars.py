"""What ends and when: in sentences, for a program, as a table, and as a calendar (RFC 5545)."""

import csv
import io
from collections import Counter
from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from hashlib import sha256
from typing import Any

from enthesis.chains.differences import Difference
from enthesis.cleaning.expiries import Calendar, End
from enthesis.model.extras import extra
from enthesis.output.differences import difference_lines
from enthesis.output.lines import Line, Span, counted, csv_cell, line, visible
from enthesis.text.times import duration_text, time_text

SPANS = (
    (timedelta(days=7), "within 7 days"),
    (timedelta(days=30), "within 30 days"),
    (timedelta(days=90), "within 90 days"),
)
COLUMNS = ("ends", "kind", "what", "owner", "because", "place", "days left")


def calendar_sentence(name: str, found: Calendar, now: datetime, within: timedelta | None) -> str:
    """The answer in a sentence."""
    overdue = f"{counted(len(found.overdue), 'end')} overdue, " if found.overdue else ""
    span = f" within {duration_text(within)}" if within is not None else ""
    if not found.coming:
        return f"{name}: {overdue}nothing ends{span}."
    first = found.coming[0]
    days = (first.at - now).days
    return f"{name}: {overdue}{counted(len(found.coming), 'end')}{span}, the next in {counted(days, 'day')}."


def calendar_lines(
    name: str, found: Calendar, now: datetime, within: timedelta | None, lost: Difference | None
) -> Iterator[Line]:
    """What is next, the soonest first; and what access ends with that, where it was worked out."""
    sentence = calendar_sentence(name, found, now, within)
    yield line(Span(sentence, "bad" if found.overdue else "strong"))
    if found.overdue:
        yield from _block("overdue", found.overdue, "bad")
    left = list(found.coming)
    for span, title in SPANS:
        mine = [end for end in left if end.at - now <= span]
        left = left[len(mine) :]
        if mine:
            yield from _block(title, mine, "doubt" if span.days <= 30 else "")
    if left:
        yield from _block("later", left, "")
    if lost is not None:
        yield line()
        yield line(Span("access that ends with these", "strong"))
        yield from difference_lines(lost)


def _block(title: str, ends: Sequence[End], style: str) -> Iterator[Line]:
    yield line()
    yield line(Span(title, style or "strong"))
    width = max(len(end.kind) for end in ends)
    for end in ends:
        owner = f", owner {end.owner}" if end.owner else ""
        because = f": {end.because}" if end.because else ""
        said = f"  {end.at:%Y-%m-%d}  {end.kind.ljust(width)}  {end.what}{because}"
        yield line(said, Span(f"  {end.where}{owner}", "quiet"))


def calendar_json(name: str, found: Calendar, now: datetime, within: timedelta | None) -> dict[str, Any]:
    """The same for a program."""
    return {
        "estate": name,
        "says": calendar_sentence(name, found, now, within),
        "overdue": [_end_json(end, now) for end in found.overdue],
        "coming": [_end_json(end, now) for end in found.coming],
    }


def _end_json(end: End, now: datetime) -> dict[str, Any]:
    due = end.due(now)
    return {
        "kind": end.kind,
        "what": end.what,
        "ends": time_text(end.at),
        "days_left": (end.at - now).days,
        "about": list(end.names),
        "owner": end.owner or None,
        "because": end.because or None,
        "place": end.where,
        "notice": [duration_text(length) for length in end.told],
        "due": duration_text(due) if due is not None else None,
    }


def calendar_csv(found: Calendar, now: datetime) -> str:
    """A row for each end (RFC 4180), which a spreadsheet takes for no formula."""
    out = io.StringIO()
    rows = csv.writer(out)
    rows.writerow(COLUMNS)
    for end in (*found.overdue, *found.coming):
        cells = (time_text(end.at), end.kind, end.what, end.owner, end.because, end.where)
        rows.writerow([*map(csv_cell, cells), (end.at - now).days])
    return out.getvalue()


def calendar_ics(name: str, found: Calendar, now: datetime) -> bytes:
    """A calendar with an event for each end and an alarm for each notice (RFC 5545, sections 3.6.1 and 3.6.6). The uid
    of an event is that of what ends, so that a new end moves it."""
    with extra("calendar", "iCalendar files", "write --csv FILE"):
        from icalendar import Alarm, Event  # noqa: PLC0415  only this form needs it
        from icalendar import Calendar as Ics  # noqa: PLC0415

    ics = Ics()
    ics.add("prodid", "-//Enthesis//calendar//EN")
    ics.add("version", "2.0")
    ics.add("x-wr-calname", visible(f"Ends in {name}"))
    marks: Counter[str] = Counter()
    for end in (*found.overdue, *found.coming):
        event = Event()
        mark = sha256("\n".join((name, end.kind, *end.names, end.what)).encode()).hexdigest()[:32]
        marks[mark] += 1
        event.add("uid", f"{mark}-{marks[mark]}@enthesis")
        event.add("dtstamp", now)
        event.add("dtstart", end.at)
        event.add("summary", visible(f"Ends: {end.what}"))
        about = [end.where, *([f"owner {end.owner}"] if end.owner else []), *([end.because] if end.because else [])]
        event.add("description", visible("; ".join(about)))
        event.add("categories", [end.kind])
        for length in end.told:
            alarm = Alarm()
            alarm.add("action", "DISPLAY")
            alarm.add("description", visible(f"In {duration_text(length)} ends {end.what}"))
            alarm.add("trigger", -length)
            event.add_component(alarm)
        ics.add_component(event)
    data: bytes = ics.to_ical()
    return data

"""Lists of what there is: as lines, as JSON, and as a table."""

import csv
import io
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from enthesis.chains.inventories import Entry, Fact
from enthesis.output.lines import Line, Span, counted, csv_cell, line

MOST_NAMED = 3  # of a fact with several values, in text
WIDEST = 56  # characters of a name that others are put in line with
ONE = {"identities": "identity", "people": "person"}


def inventory_lines(estate: str, what: str, entries: Sequence[Entry], narrowed: str) -> Iterator[Line]:
    """A line each: the name, its kind, and those facts that say something."""
    one = ONE.get(what, what.removesuffix("s"))
    head = f"{estate}: {counted(len(entries), one, what)}" if entries else f"{estate}: no {what}"
    yield line(Span(f"{head}{narrowed}.", "strong"))
    width = min(WIDEST, max((len(entry.name) for entry in entries), default=0))
    kinds = {entry.kind for entry in entries}
    for entry in entries:
        # what is none, not so or not known needs no word, nor what the name says already
        known = [(name, _words(fact)) for name, fact in entry.facts.items() if fact]
        told = [f"{name.replace('_', ' ')} {words}" for name, words in known if words not in entry.name]
        kind = [entry.kind] if len(kinds) > 1 and entry.kind and entry.kind not in entry.name else []
        said = "; ".join([*kind, *told])
        yield line(f"  {entry.name.ljust(width)}  ", said, Span(f"  {entry.source}" if entry.source else "", "quiet"))


def _words(fact: Fact) -> str:
    if fact is True:
        return "yes"
    if isinstance(fact, list | tuple):
        more = len(fact) - MOST_NAMED
        return ", ".join(fact[:MOST_NAMED]) + (f" and {more} more" if more > 0 else "")
    return str(fact)


def inventory_json(estate: str, what: str, entries: Iterable[Entry]) -> dict[str, Any]:
    """The same with every fact."""
    return {
        "estate": estate,
        "list": what,
        "entries": [
            {"name": entry.name, "kind": entry.kind, **entry.facts, "source": entry.source or None} for entry in entries
        ],
    }


def inventory_csv(entries: Sequence[Entry]) -> str:
    """A row each (RFC 4180), the facts as columns; several values of one are joined by spaces."""
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\r\n")
    columns = list(dict.fromkeys(name for entry in entries for name in entry.facts))
    rows.writerow(["name", "kind", *columns, "described at"])
    for entry in entries:
        cells = [_cell(entry.facts.get(name)) for name in columns]
        rows.writerow(map(csv_cell, (entry.name, entry.kind, *cells, entry.source)))
    return out.getvalue()


def _cell(fact: Fact) -> str:
    if isinstance(fact, bool):
        return "yes" if fact else "no"
    return " ".join(fact) if isinstance(fact, list | tuple) else "" if fact is None else str(fact)

"""Keyed credentials: the list of them, one that was made, and the keyless ways instead."""

import csv
import io
from collections.abc import Iterable, Sequence
from datetime import timedelta
from pathlib import Path
from typing import Any

from enthesis.files.editing import Addition
from enthesis.output.lines import Line, Span, counted, csv_cell, line
from enthesis.ports import Credentialed
from enthesis.proposals.credentials import ListedCredential
from enthesis.text.times import duration_text
from enthesis.trusts.keyless import KeylessWay


def keyless_json(of: str, ways: Sequence[KeylessWay], missing: Sequence[str]) -> dict[str, Any]:
    """The keyless ways, and what a key would still need, for a program."""
    entries = [
        {
            "says": way.says,
            "there": way.is_there,
            "entries": [{name: entry} for name, entry in way.entries],
            "hint": way.hint or None,
        }
        for way in ways
    ]
    return {"made": False, "of": of, "keyless_ways": entries, "missing": list(missing)}


def keyless_lines(of: str, ways: Sequence[KeylessWay], missing: Sequence[str], bound: timedelta) -> list[Line]:
    """The keyless ways, as ready lines, and what a key would still need."""
    there = [way for way in ways if way.is_there]
    lines = [line("No key was made: ", f"{of} has a keyless way in." if there else "prefer the keyless way.")]
    for way in there:
        lines.append(line("  ", way.says, Span(f"  {way.source}" if way.source else "", "quiet")))
    for way in ways:
        if way.hint:
            lines.append(line(f"  {way.says}: {way.hint}"))
        elif not way.is_there:
            lines.append(line(f"  {way.says}, with"))
            for section, entry in way.entries:
                lines.append(line(Span(f"    {section}:", "command")))
                lines.append(line(Span(f"      {Addition(section, '', entry).line()}", "command")))
    if not ways:
        lines.append(
            line("  nothing in the estate says where it runs: `enthesis admit --from-token` reads a run's token")
        )
    lacks = ", ".join(missing)
    needs = f"a key needs {lacks}" if missing else "with --anyway a key is made"
    lines.append(line(f"  {needs}; it lives {duration_text(bound)} at the most"))
    return lines


def made_lines(made: Credentialed, into: Path | None, *, quiet: bool) -> list[Line]:
    """A keyed credential that was made, and the line by which the estate knows of it."""
    where = f" in {into}" if into is not None else ""
    lines = [line(f"{made.name} opens {made.of} until {made.expires}; its value is{where or ' where you said'}.")]
    if not quiet:
        unnamed = {name: value for name, value in made.as_entry().items() if name != "name"}
        lines.append(line("  so that the estate knows of it:"))
        lines.append(line(Span("    credentials:", "command")))
        lines.append(line(Span(f"      {Addition('credentials', made.name, unnamed).line()}", "command")))
    return lines


def credential_lines(every: Sequence[ListedCredential], *, asked: bool) -> list[Line]:
    """The list; `asked`: whether a live system was."""
    from_files = "" if asked else ", as far as the files say (no live system was asked)"
    first = f"{counted(len(every), 'keyed credential')} of identities of ours{from_files}."
    lines = [line(first if every else f"No keyed credential{from_files}.")]
    for keyed in every:
        where = f" at {keyed.at}" if keyed.at else ""
        state = Span("works", "doubt") if keyed.works else Span(keyed.why_not or "not known whether it works", "quiet")
        lines.append(line(f"  {keyed.name}", Span(f"  {keyed.form} of {keyed.of}{where}", "quiet"), "  ", state))
        made = f"made {keyed.created or 'at an unknown time'}{f' by {keyed.made_by}' if keyed.made_by else ''}"
        ends = f"until {keyed.expires}" if keyed.expires else "without an end"
        used = f"last used {keyed.last_used}" if keyed.last_used else "never used, as far as is known"
        lines.append(line(f"    {made}, {ends}, {used}"))
        held = f"; held in {', '.join(keyed.held_in)}" if keyed.held_in else ""
        lines.append(
            line(
                f"    because {keyed.because or 'no reason is known'}{held}",
                Span(f"  {keyed.source}", "quiet"),
            )
        )
        if not keyed.source:
            lines.append(line("    not in the estate's files"))
    return lines


COLUMNS = (
    "name", "of", "form", "at", "works", "why not", "made", "made by", "last used", "ends", "held in", "because",
    "fingerprint", "described at",
)  # fmt: skip


def credentials_csv(every: Iterable[ListedCredential]) -> str:
    """A row for each credential (RFC 4180), which a spreadsheet takes for no formula."""
    out = io.StringIO()
    rows = csv.writer(out)
    rows.writerow(COLUMNS)
    for keyed in every:
        works = "unknown" if keyed.works is None else "yes" if keyed.works else "no"
        cells = (
            keyed.name, keyed.of, keyed.form, keyed.at, works, keyed.why_not, keyed.created or "",
            keyed.made_by, keyed.last_used or "",
            keyed.expires or "", " ".join(keyed.held_in), keyed.because, keyed.fingerprint or "", keyed.source,
        )  # fmt: skip
        rows.writerow(map(csv_cell, cells))
    return out.getvalue()


def credential_json(keyed: ListedCredential) -> dict[str, Any]:
    """One credential for a program; what is not known is left out."""
    said = {"name": keyed.name, "of": keyed.of, "form": keyed.form, "at": keyed.at, "fingerprint": keyed.fingerprint,
            "created": keyed.created, "made_by": keyed.made_by, "expires": keyed.expires, "last_used": keyed.last_used,
            "because": keyed.because, "held_in": list(keyed.held_in), "why_not": keyed.why_not}  # fmt: skip
    known = {name: value for name, value in said.items() if value}
    return {
        **known,
        "works": keyed.works,
        "disabled": keyed.why_not == "disabled",
        "described_at": keyed.source or None,
    }

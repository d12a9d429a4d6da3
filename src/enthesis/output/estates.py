"""An estate in one look: what it describes, counted."""

from collections.abc import Iterable, Mapping
from typing import Any

from enthesis.model.estate import Estate
from enthesis.model.vocabulary import STATEMENT_SECTIONS
from enthesis.output.lines import Line, counted, line

SECTIONS = (
    ("organisations", "organisation"),
    ("providers", "provider"),
    ("accounts", "account"),
    ("issuers", "issuer"),
    ("resources", "resource"),
    *((name, section.one) for name, section in STATEMENT_SECTIONS.items()),
    ("credentials", "credential"),
    ("journeys", "journey"),
    ("invariants", "invariant"),
)
PLURALS = {"identity": "identities", "pipeline access": "pipeline accesses"}


def counts_text(counts: Mapping[str, int]) -> str:
    """How many entries of each section, in words; kinds are not told."""
    words = dict(SECTIONS)
    return ", ".join(
        counted(count, words[section], PLURALS.get(words[section], ""))
        for section, count in sorted(counts.items())
        if section in words
    )


def count_lines(estate: Estate) -> Iterable[Line]:
    """What was read, counted."""
    parts = [
        counted(len(getattr(estate, name)), word, PLURALS.get(word, ""))
        for name, word in SECTIONS
        if getattr(estate, name)
    ]
    for start in range(0, len(parts), 8):
        comma = "," if start + 8 < len(parts) else ""
        yield line("  ", ", ".join(parts[start : start + 8]) + comma)


def estate_json(estate: Estate) -> dict[str, Any]:
    """The same for a program."""
    return {"estate": estate.name, "counts": {name: len(getattr(estate, name)) for name, _ in SECTIONS}}


def skipped_lines(skipped: Mapping[str, str]) -> Iterable[Line]:
    """The files in the folder that were not read as part of the estate, each with why."""
    if skipped:
        yield line(f"  {counted(len(skipped), 'file')} not read:")
    for name, why in skipped.items():
        yield line(f"    {name}: {why}")

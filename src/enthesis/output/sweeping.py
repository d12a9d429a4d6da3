"""What a sweep found: the gravest first, each with its place, what can be reached through it, and how to settle it."""

import csv
import io
from collections.abc import Iterator, Sequence
from typing import Any

from enthesis.cleaning.findings import Finding, Opens, Swept
from enthesis.model.sentences import verb_words
from enthesis.model.vocabulary import Severity
from enthesis.output.lines import Line, Span, counted, csv_cell, line
from enthesis.text.times import time_text

STYLES = {"high": "bad", "medium": "doubt", "low": "quiet"}
COLUMNS = (
    "number", "code", "severity", "place", "about", "message", "reached through it", "requests", "since", "owner",
    "fix", "accepted until",
)  # fmt: skip


def sweep_sentence(name: str, looked_at: str, swept: Swept) -> str:
    """The answer in a sentence."""
    said = counted(len(swept.standing), "finding") if swept.standing else "no findings"
    grave = sum(finding.opens.severity is Severity.HIGH for finding in swept.standing)
    more = f", {grave} of high severity" if grave else ""
    accepted = f"; {len(swept.accepted)} accepted" if swept.accepted else ""
    return f"{name}: {said} in {looked_at}{more}{accepted}."


def sweep_lines(name: str, looked_at: str, swept: Swept, *, quiet: bool) -> Iterator[Line]:
    """The findings that stand, numbered as their fixes are, then those that are accepted."""
    if swept.undecided:
        yield line(Span(f"Not decided in full: {counted(swept.undecided, 'chain')} past the bound on work.", "doubt"))
    yield line(Span(sweep_sentence(name, looked_at, swept), "bad" if swept.standing else "strong"))
    numbers = fix_numbers(swept.standing)
    for number, group in enumerate(_groups(swept.standing), 1):
        yield line()
        first = swept.standing[group[0]]
        severity = Span(first.opens.severity, STYLES[first.opens.severity])
        yield line(f"{number:3}  ", severity, "  ", Span(first.place, "strong"))
        width = max(len(swept.standing[at].code) for at in group)
        for at in group:
            yield line("     ", Span(swept.standing[at].code.ljust(width), "strong"), f"  {swept.standing[at].message}")
        if quiet:
            continue
        yield line("     ", reached_words(first))
        about = [f"since {time_text(first.since)[:10]}"] if first.since else []
        about += [f"owner {first.owner}"] if first.owner else []
        if about:
            yield line("     ", Span(", ".join(about), "quiet"))
        fixes = {fix.says: its for at in group for fix, its in zip(swept.standing[at].fixes, numbers[at], strict=True)}
        for says, written in fixes.items():
            yield line("     fix: ", says, Span(f"  (--write {written})" if written else "", "command"))
    if swept.accepted:
        yield line()
        yield line(Span("accepted", "strong"))
        for finding in swept.accepted:
            until = (
                f", until {time_text(finding.accepted.until)[:10]}: {finding.accepted.because}"
                if finding.accepted
                else ""
            )
            yield line(f"     {finding.code}  {finding.message}{until}")
    if not quiet:
        for said in swept.not_looked_at:
            yield line(Span(f"Not known: {said}.", "quiet"))


def reached_words(finding: Finding) -> str:
    """What can be reached through a finding, in words."""
    opens = finding.opens
    if not opens.verb:
        return (
            "nothing can be reached through it" if not opens.gravity else "what is reached through it was not counted"
        )
    more = (opens.count or 1) - 1
    least = "at least " if opens.more else ""
    further = f", and {least}{counted(more, 'further request')}" if more else ""
    return f"through it: {verb_words(opens.verb)} {opens.target}{further}"


def _groups(found: Sequence[Finding]) -> list[list[int]]:
    """The positions of the findings, those together that are at one place and open the same, in their order."""
    out: dict[tuple[str, Opens], list[int]] = {}
    for number, one in enumerate(found):
        out.setdefault((one.place, one.opens), []).append(number)
    return list(out.values())


def fix_numbers(found: Sequence[Finding]) -> list[list[int]]:
    """For each fix of each finding the number by which `--write` takes it; 0 for one that changes no file. The same
    edits have the same number."""
    given: dict[str, int] = {}
    return [
        [given.setdefault(repr(fix.edits), len(given) + 1) if fix.edits else 0 for fix in finding.fixes]
        for finding in found
    ]


def sweep_json(name: str, looked_at: str, swept: Swept) -> dict[str, Any]:
    """The same for a program."""
    numbers = fix_numbers(swept.standing)
    return {
        "estate": name,
        "looked_at": looked_at,
        "says": sweep_sentence(name, looked_at, swept),
        "findings": [finding_json(one, its) for one, its in zip(swept.standing, numbers, strict=True)],
        "accepted": [finding_json(finding, [0] * len(finding.fixes)) for finding in swept.accepted],
        "not_known": list(swept.not_looked_at),
        "undecided": swept.undecided,
    }


def finding_json(finding: Finding, numbers: Sequence[int]) -> dict[str, Any]:
    """A finding, for a program; `numbers` are those of its fixes."""
    opens = finding.opens
    return {
        "code": finding.code,
        "severity": opens.severity,
        "message": finding.message,
        "place": finding.place,
        "about": list(finding.names),
        "reaches": {"verb": opens.verb, "target": opens.target, "requests": opens.count},
        "since": time_text(finding.since) if finding.since else None,
        "owner": finding.owner or None,
        "fixes": [
            {"says": fix.says, "write": number or None} for fix, number in zip(finding.fixes, numbers, strict=True)
        ],
        **({"accepted_until": time_text(finding.accepted.until)} if finding.accepted else {}),
    }


def sweep_csv(swept: Swept) -> str:
    """A row for each finding (RFC 4180), which a spreadsheet takes for no formula."""
    out = io.StringIO()
    rows = csv.writer(out)
    rows.writerow(COLUMNS)
    for number, one in enumerate((*swept.standing, *swept.accepted), 1):
        opens = one.opens
        cells = (
            str(number), one.code, opens.severity, one.place, " ".join(one.names), one.message,
            f"{opens.verb} {opens.target}".strip(), "" if opens.count is None else str(opens.count),
            time_text(one.since) if one.since else "", one.owner, "; ".join(fix.says for fix in one.fixes),
            time_text(one.accepted.until) if one.accepted else "",
        )  # fmt: skip
        rows.writerow(map(csv_cell, cells))
    return out.getvalue()

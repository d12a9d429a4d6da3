"""`enthesis sweep --in`: copies of known keyed credentials in files, archives and the history of repositories."""

import csv
import io
from collections.abc import Iterator
from pathlib import Path

from enthesis.access.compiling import compile_estate
from enthesis.access.names.standing import why_shut
from enthesis.cleaning.secret_scan import Fingerprints
from enthesis.cli.arguments import now
from enthesis.cli.estate_loading import Subject
from enthesis.files.saving import write_file
from enthesis.live.secret_scan import CopyFound, Searched, copies_in
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.output.lines import Line, Span, counted, csv_cell, line
from enthesis.output.progress import reporter
from enthesis.output.renderers import CommandAnswer, put_answer
from enthesis.output.streams import remark

WORKS = "works"


def put_copies(subject: Subject, places: list[Path], output: str, table: Path | None, *, quiet: bool) -> bool:
    """Looks for copies and says where they are; whether there are any. InvalidInput where nothing can be looked for."""
    estate = subject.estate
    known = Fingerprints(
        {
            credential.name: credential.fingerprint
            for credential in estate.credentials.values()
            if credential.fingerprint
        }
    )
    if not known:
        raise InvalidInput(
            "no credential with a fingerprint is known, so no copy can be recognised",
            code="fingerprints-missing",
            remedy="--ask knows those that live systems keep; or write `fingerprint: sha256:…` at a credential",
        )
    for place in places:
        if not place.exists():
            raise InvalidInput(f"{place} cannot be read: no such file or folder", code="file-unreadable")
    searched = Searched()
    progress = reporter(quiet=quiet)
    progress.begin("looking for copies", 0)
    try:
        found = sorted(
            set(copies_in(places, known, searched, progress.step)),
            key=lambda copy_found: (copy_found.file, copy_found.line),
        )
    finally:
        progress.end()
    if table is not None:
        write_file(table, _csv(estate, found).encode())
    put_answer(
        output,
        CommandAnswer(lambda: _json(estate, found, searched), lambda: _lines(estate, found, searched, quiet=quiet)),
    )
    if known.unusable:
        remark(f"Not looked for, since their fingerprints are not SHA-256: {', '.join(known.unusable)}.", quiet=quiet)
    return bool(found)


def _states(estate: Estate, found: list[CopyFound]) -> dict[str, str]:
    """By name, whether each credential that was found works, or why it does not."""
    compiled, at = compile_estate(estate), now()
    names = {name for copy_found in found for name in copy_found.names}
    return {name: why_shut(compiled, estate.credentials[name], at) or WORKS for name in names}


def _lines(estate: Estate, found: list[CopyFound], searched: Searched, *, quiet: bool) -> Iterator[Line]:
    if searched.unread:
        yield line(Span(f"Partial search: {counted(len(searched.unread), 'file')} not read.", "doubt"))
    where = f"in {counted(searched.files, 'file')}"
    where += f" and {counted(searched.objects, 'earlier version')}" if searched.objects else ""
    states = _states(estate, found)
    works = sum(any(states[name] == WORKS for name in copy_found.names) for copy_found in found)
    said = f"{counted(len(found), 'copy', 'copies')} of known credentials {where}, {works} of which still work"
    told = f"{said}." if found else f"No copy of a known credential {where}."
    yield line(Span(told, "bad" if found else "strong"))
    for copy_found in found:
        for name in copy_found.names:
            credential = estate.credentials[name]
            state = states[name]
            commit = f" in commit {copy_found.commit}" if copy_found.commit else ""
            style = "bad" if state == WORKS else "quiet"
            at = f"{copy_found.file}:{copy_found.line}{commit}"
            yield line("  ", Span(state.ljust(8), style), f"  {at}  {name} of {credential.of}")
    if not quiet:
        yield from (line(f"  not read: {path}: {why}") for path, why in searched.unread[:10])


def _rows(estate: Estate, found: list[CopyFound]) -> list[dict[str, object]]:
    states = _states(estate, found)
    return [
        {
            "file": copy_found.file, "line": copy_found.line, "commit": copy_found.commit or None, "credential": name,
            "of": estate.credentials[name].of, "state": states[name],
        }
        for copy_found in found
        for name in copy_found.names
    ]  # fmt: skip


def _json(estate: Estate, found: list[CopyFound], searched: Searched) -> dict[str, object]:
    return {
        "estate": estate.name,
        "complete": not searched.unread,
        "files": searched.files,
        "earlier_versions": searched.objects,
        "copies": _rows(estate, found),
        "unread": [{"file": path, "why": why} for path, why in searched.unread],
    }


def _csv(estate: Estate, found: list[CopyFound]) -> str:
    out = io.StringIO()
    rows = csv.writer(out)
    rows.writerow(("file", "line", "commit", "credential", "of", "state"))
    for row in _rows(estate, found):
        rows.writerow([csv_cell(str(value if value is not None else "")) for value in row.values()])
    return out.getvalue()

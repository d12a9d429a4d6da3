"""What `check` found, as SARIF 2.1.0 for code review: each with its place, its fingerprint and what fixes it."""

import hashlib
import json
import os
from collections.abc import Iterator, Mapping, Sequence
from typing import Any
from urllib.parse import quote

from enthesis import __version__
from enthesis.chains.invariants import Decided
from enthesis.cleaning.findings import Finding, Swept
from enthesis.model.file_errors import FileError, Source
from enthesis.model.risks import FINDINGS, RISKS
from enthesis.model.vocabulary import Holding
from enthesis.output.admitting import caller_text
from enthesis.output.lines import visible
from enthesis.output.sweeping import reached_words
from enthesis.text.times import time_text
from enthesis.trusts.risks import Risk, Risks
from enthesis.verdicts.expectations import Judged

SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
FILE_ERROR, JOURNEY, INVARIANT, UNDECIDED = "error", "journey-contradicted", "invariant-broken", "invariant-not-decided"
FINGERPRINT = "statement/v1"
OTHER_RULES = {
    JOURNEY: "a journey does not end as it is expected to",
    INVARIANT: "a chain breaks an invariant",
    UNDECIDED: "an invariant was too much work to decide",
}


def sarif(
    errors: Sequence[FileError],
    journeys: Sequence[Judged] = (),
    invariants: Sequence[Decided] = (),
    found: Risks | None = None,
    *,
    inside: str = "",
) -> bytes:
    """The whole log, one run."""
    results = [_result(error.code, "error", error.message, error.source) for error in errors]
    for judged in journeys:
        if not judged.met:
            message = f"{judged.journey.name}: {'; '.join(judged.unmet)}"
            results.append(_result(JOURNEY, "error", message, judged.journey.source))
    for decided in invariants:
        if decided.outcome in (Holding.BROKEN, Holding.UNDECIDED):
            broken = decided.outcome == Holding.BROKEN
            message = f"{decided.invariant.name} {'is broken' if broken else f'is not decided: {decided.why}'}"
            results.append(_result(INVARIANT if broken else UNDECIDED, "error", message, decided.invariant.source))
    if found is not None:
        results += [_risk(risk) for risk in (*found.standing, *found.accepted)]
    return _log(results, {**{error.code: error.message for error in errors}, **OTHER_RULES, **RISKS}, inside)


def sarif_of_findings(swept: Swept, inside: str) -> bytes:
    """What a sweep found, as a log of one run. A finding on the live side alone has its place as a logical location."""
    return _log([_finding(finding) for finding in (*swept.standing, *swept.accepted)], FINDINGS, inside)


def _log(results: list[dict[str, Any]], rules: Mapping[str, str], inside: str) -> bytes:
    """A log; `inside` is where the estate is in its repository, since viewers read paths from the repository's root."""
    _tell_apart(results)
    for result in results:
        for location in result["locations"]:
            if "physicalLocation" in location:
                place = location["physicalLocation"]["artifactLocation"]
                place["uri"] = quote(os.fsencode(inside)) + place["uri"]
    used = sorted({result["ruleId"] for result in results})
    for result in results:
        result["ruleIndex"] = used.index(result["ruleId"])
    log = {
        "$schema": SCHEMA,
        "version": "2.1.0",
        "runs": [
            {
                "tool": {
                    "driver": {
                        "name": "Enthesis",
                        "version": __version__,
                        "rules": [{"id": code, "shortDescription": {"text": visible(rules[code])}} for code in used],
                    }
                },
                "columnKind": "unicodeCodePoints",
                "results": results,
            }
        ],
    }
    return (json.dumps(log, indent=2, ensure_ascii=False) + "\n").encode()


def _tell_apart(results: Sequence[dict[str, Any]]) -> None:
    """Numbers the results that are about the same thing in the same way."""
    seen: dict[str, int] = {}
    for result in results:
        mark = result["partialFingerprints"][FINGERPRINT]
        seen[mark] = seen.get(mark, 0) + 1
        result["partialFingerprints"][FINGERPRINT] = f"{mark}:{seen[mark]}"


def _risk(risk: Risk) -> dict[str, Any]:
    message = "; ".join(_risk_parts(risk))
    result = _result(risk.code, "warning", message, risk.source, risk.names)
    if risk.accepted is not None:
        said = f"{risk.accepted.because} (until {time_text(risk.accepted.until)})"
        result["suppressions"] = [{"kind": "inSource", "status": "accepted", "justification": visible(said)}]
    return result


LEVELS = {"high": "error", "medium": "warning", "low": "note"}


def _finding(finding: Finding) -> dict[str, Any]:
    message = "; ".join([finding.message, reached_words(finding), *(f"fix: {fix.says}" for fix in finding.fixes)])
    result = _result(
        finding.code, LEVELS[finding.opens.severity], message, finding.source or Source("", 0, 0), finding.names
    )
    if finding.source is None:
        result["locations"] = [{"logicalLocations": [{"fullyQualifiedName": visible(finding.at)}]}]
    if finding.accepted is not None:
        said = f"{finding.accepted.because} (until {time_text(finding.accepted.until)})"
        result["suppressions"] = [{"kind": "inSource", "status": "accepted", "justification": visible(said)}]
    return result


def _risk_parts(risk: Risk) -> Iterator[str]:
    yield risk.message
    if risk.shown is not None:
        yield f"admitted: {caller_text(risk.shown)}"
    yield risk.remedy


def _result(code: str, level: str, message: str, source: Source, names: Sequence[str] = ()) -> dict[str, Any]:
    """One result. Its fingerprint holds no line, so that it stays the same while other lines move."""
    marks = "\n".join((code, source.file, *(names or (message,))))
    region = {"startLine": source.line, "startColumn": max(1, source.column)} if source.line else {"startLine": 1}
    return {
        "ruleId": code,
        "level": level,
        "message": {"text": visible(message)},
        "locations": [
            {"physicalLocation": {"artifactLocation": {"uri": quote(os.fsencode(source.file))}, "region": region}}
        ],
        "partialFingerprints": {FINGERPRINT: hashlib.sha256(marks.encode(errors="surrogateescape")).hexdigest()[:32]},
    }

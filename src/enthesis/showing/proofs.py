"""Proofs: a line a journey, and JUnit XML for pipelines."""

from collections.abc import Iterable, Sequence
from xml.etree.ElementTree import Element, SubElement, tostring  # writes only, parses nothing

from enthesis.reading.shapes import duration_text
from enthesis.showing.lines import Line, Span, counted, line, visible
from enthesis.working.proving import REFUSED, UNDECIDED, Proof


def proof_lines(proofs: Sequence[Proof]) -> Iterable[Line]:
    """The proofs as text; what was seen is told where an expectation is unmet."""
    yield line(Span(first_sentence(proofs), "strong"))
    width = max((len(proof.journey) for proof in proofs), default=0)
    for proof in proofs:
        yield _one(proof, width)
        for reason in proof.unmet:
            yield line("      ", Span(reason, "bad"))
        for seen in proof.evidence if proof.outcome == UNDECIDED else ():
            yield line("      ", seen.what, ": ", seen.said)


def first_sentence(proofs: Sequence[Proof]) -> str:
    """The answer in a sentence."""
    unmet = sum(not proof.met for proof in proofs)
    if not proofs:
        return "There is no journey to prove."
    if not unmet:
        return f"All is as expected: {counted(len(proofs), 'journey')} tried with real credentials."
    return f"{unmet} of {counted(len(proofs), 'journey')} did not end as expected."


def _one(proof: Proof, width: int) -> Line:
    word = "as expected" if proof.met else "unmet"
    at = f" at {', '.join(proof.refused_at)}" if proof.refused_at else ""
    if proof.outcome == REFUSED:
        at += f", to {proof.evidence[-1].what}"
    origin = "keyless" if proof.keyless else "keyed"
    life = f", shortest life {duration_text(proof.shortest_life)}" if proof.shortest_life else ""
    return line(
        f"  {proof.journey.ljust(width)}  ",
        Span(word.ljust(11), "good" if proof.met else "bad"),
        f"  {proof.outcome}{at}",
        Span(f"  {origin}{life}", "quiet"),
    )


def junit_xml(estate: str, proofs: Sequence[Proof]) -> bytes:
    """JUnit XML: an unmet expectation is a failure, a journey that could not be tried an error."""
    failures = sum(not proof.met and proof.outcome != UNDECIDED for proof in proofs)
    errors = sum(proof.outcome == UNDECIDED for proof in proofs)
    counts = {"tests": str(len(proofs)), "failures": str(failures), "errors": str(errors)}
    suites = Element("testsuites", counts)
    suite = SubElement(suites, "testsuite", {"name": visible(estate), **counts})
    for proof in proofs:
        case = SubElement(suite, "testcase", {"classname": visible(estate), "name": visible(proof.journey)})
        if not proof.met:
            kind = "error" if proof.outcome == UNDECIDED else "failure"
            fault = SubElement(case, kind, {"message": visible("; ".join(proof.unmet))})
            fault.text = "\n".join(visible(f"{seen.what}: {seen.outcome}, {seen.said}") for seen in proof.evidence)
    body: bytes = tostring(suites, encoding="utf-8", xml_declaration=True)
    return body + b"\n"

"""Proofs: a line a journey, and JUnit XML for pipelines."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any
from xml.etree.ElementTree import Element, SubElement, tostring  # writes only, parses nothing

from enthesis.live.proving import Proof
from enthesis.live.refusing import Trials
from enthesis.model.vocabulary import Ending
from enthesis.output.admitting import caller_json, caller_text
from enthesis.output.lines import Line, Span, counted, line, visible
from enthesis.text.times import duration_text


def proof_lines(proofs: Sequence[Proof]) -> Iterable[Line]:
    """The proofs as text; what was seen is told where an expectation is unmet."""
    failed = any(not proof.met and proof.outcome != Ending.WAITING for proof in proofs)
    yield line(Span(first_sentence(proofs), "bad" if failed else "strong"))
    width = max((len(proof.journey) for proof in proofs), default=0)
    for proof in proofs:
        yield _one(proof, width)
        if proof.outcome == Ending.WAITING:
            yield line("      ", Span(f"waiting for {' and '.join(proof.others)}", "doubt"))
        if proof.members:
            yield line("      ", Span(f"members: {proof.members}", "quiet"))
        for reason in proof.unmet:
            yield line("      ", Span(reason, "bad"))
        for seen in proof.evidence if proof.outcome == Ending.UNDECIDED else ():
            yield line("      ", seen.what, ": ", seen.said)


def first_sentence(proofs: Sequence[Proof]) -> str:
    """The answer in a sentence."""
    untried = sum(bool(proof.not_tried) for proof in proofs)
    unmet = sum(bool(proof.unmet) for proof in proofs) - untried
    waiting = sum(proof.outcome == Ending.WAITING for proof in proofs)
    if not proofs:
        return "There is no journey to prove."
    if untried:
        failed = f", and {unmet} failed" if unmet else ""
        return f"{untried} of {counted(len(proofs), 'journey')} {'was' if untried == 1 else 'were'} not tried{failed}."
    if not unmet and waiting:
        waits = "waits" if waiting == 1 else "wait"
        rest = "" if waiting == len(proofs) else "; the rest ended as expected"
        names = " and ".join(dict.fromkeys(name for proof in proofs for name in proof.others)) or "others"
        return f"{waiting} of {counted(len(proofs), 'journey')} {waits} for {names}{rest}."
    if not unmet:
        told = {1: "the journey", 2: "both journeys"}.get(len(proofs), f"all {len(proofs)} journeys")
        return f"Tried live: {told} ended as expected."
    return f"{unmet} of {counted(len(proofs), 'journey')} failed."


def _one(proof: Proof, width: int) -> Line:
    word = "as expected" if proof.met else "waiting" if proof.outcome == Ending.WAITING else "failed"
    word = "not tried" if proof.not_tried else word
    outcome = Ending.REFUSED if proof.refused_at else proof.outcome
    at = f" at {', '.join(proof.refused_at)}" if proof.refused_at else ""
    if outcome == Ending.REFUSED:
        what = proof.evidence[-1].what
        at += f", {what}" if what.startswith("the ") else f", to {what}"
    origin = {True: "keyless", False: "keyed", None: "starts at the identity"}[proof.keyless]
    life = f", shortest life {duration_text(proof.shortest_life)}" if proof.shortest_life else ""
    return line(
        f"  {proof.journey.ljust(width)}  ",
        Span(word.ljust(11), "good" if proof.met else "doubt" if proof.outcome == Ending.WAITING else "bad"),
        f"  {outcome}{at}",
        Span(f"  {origin}{life}", "quiet"),
    )


def trials_sentence(what: tuple[str, str], every: Sequence[Trials]) -> str:
    """What came of trials, in a sentence; `what` was tried, one and several of it."""
    unmet = sum(len(trials.unmet) for trials in every)
    refused = sum(trials.refused for trials in every)
    untried = sum(bool(trials.not_tried) for trials in every)
    also = f" {counted(untried, 'trust')} could not be tried." if untried else ""
    if not any(trials.trials for trials in every):
        return f"There are no {what[1]} to try.{also}"
    if unmet:
        tried = sum(len(trials.trials) for trials in every)
        return f"{unmet} of {counted(tried, 'trial')} with {what[1]} failed.{also}"
    told = f"all {refused} {what[1]} were" if refused != 1 else f"the {what[0]} was"
    return f"Tried live: {told} refused.{also}"


def trials_lines(what: tuple[str, str], every: Sequence[Trials]) -> Iterable[Line]:
    """Trials as text: a line for each thing they are about, and more of those that ended otherwise."""
    failed = any(trials.unmet for trials in every)
    yield line(Span(trials_sentence(what, every), "bad" if failed else "strong"))
    width = max((len(trials.about) for trials in every), default=0)
    for trials in every:
        if trials.not_tried:
            quiet = Span(f"  {trials.source}", "quiet")
            yield line(
                f"  {trials.about.ljust(width)}  ", Span("not tried    ", "doubt"), f"  {trials.not_tried}", quiet
            )
            continue
        word = "failed" if trials.unmet else "as expected"
        meant = sum(trial.expected == Ending.ALLOWED and not trial.unmet for trial in trials.trials)
        also = f", {trials.left_out} that the issuer never signs" if trials.left_out else ""
        yield line(
            f"  {trials.about.ljust(width)}  ",
            Span(word.ljust(13), "bad" if trials.unmet else "good"),
            f"  {trials.refused} refused, {meant} allowed as a control{also}",
            Span(f"  {trials.source}", "quiet"),
        )
        for told in trials.told:
            yield line("      ", Span(told, "doubt"))
        for trial in trials.unmet:
            said = f" ({trial.said})" if trial.said and trial.outcome == Ending.REFUSED else ""
            yield line("      ", Span(f"{trial.what}: {trial.unmet}{said}", "bad"))
            if trial.shows is not None:
                yield line("        with ", caller_text(trial.shows))


def trials_json(trials: Trials) -> dict[str, Any]:
    """Trials for a program; there is no token in them, only what it showed."""
    return {
        "about": trials.about,
        "source": trials.source,
        "refused": trials.refused,
        "never_issued": trials.left_out,
        "not_tried": trials.not_tried or None,
        "met": not trials.unmet,
        "told": list(trials.told),
        "trials": [
            {
                "what": trial.what,
                "expected": trial.expected,
                "outcome": trial.outcome,
                "refused_at": list(trial.refused_at),
                "said": trial.said,
                "met": not trial.unmet,
                "unmet": trial.unmet or None,
                "shows": caller_json(trial.shows),
            }
            for trial in trials.trials
        ],
    }


@dataclass(frozen=True, slots=True)
class Case:
    """One case of a JUnit report; `unmet` is empty where it is as expected."""

    name: str
    unmet: str
    undecided: bool
    seen: str
    waiting: str = ""
    took: float = 0.0  # seconds


def proof_cases(proofs: Iterable[Proof]) -> list[Case]:
    """A case a journey."""
    return [
        Case(
            proof.journey,
            "; ".join(proof.unmet),
            proof.outcome == Ending.UNDECIDED,
            "\n".join(visible(f"{seen.what}: {seen.outcome}, {seen.said}") for seen in proof.evidence),
            f"waiting for {' and '.join(proof.others)}" if proof.others else "",
            proof.took,
        )
        for proof in proofs
    ]


def trial_cases(every: Iterable[Trials]) -> list[Case]:
    """A case a trial."""
    return [
        Case(
            f"{trials.about} ({trials.source}): {trial.what}",
            trial.unmet,
            trial.outcome == Ending.UNDECIDED,
            visible(trial.said),
            took=trial.took,
        )
        for trials in every
        for trial in trials.trials
    ]


def junit_xml(estate: str, cases: Sequence[Case]) -> bytes:
    """JUnit XML: what ended otherwise is a failure, what could not be tried an error, what waits for others skipped."""
    failures = sum(bool(case.unmet) and not case.undecided for case in cases)
    errors = sum(case.undecided for case in cases)
    skipped = sum(bool(case.waiting) for case in cases)
    numbers = {"tests": len(cases), "failures": failures, "errors": errors, "skipped": skipped}
    counts = {name: str(number) for name, number in numbers.items()}
    suites = Element("testsuites", counts)
    counts["time"] = f"{sum(case.took for case in cases):.3f}"
    suite = SubElement(suites, "testsuite", {"name": visible(estate), **counts})
    for case in cases:
        about = {"classname": visible(estate), "name": visible(case.name), "time": f"{case.took:.3f}"}
        element = SubElement(suite, "testcase", about)
        if case.unmet:
            kind = "error" if case.undecided else "failure"
            of_kind = "not-tried" if case.undecided else "not-as-expected"
            SubElement(element, kind, {"message": visible(case.unmet), "type": of_kind}).text = case.seen
        elif case.waiting:
            SubElement(element, "skipped", {"message": visible(case.waiting)}).text = case.seen
    body: bytes = tostring(suites, encoding="utf-8", xml_declaration=True)
    return body + b"\n"

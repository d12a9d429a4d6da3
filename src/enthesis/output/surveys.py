"""What changed between two surveys, in sentences and for a program."""

from collections.abc import Iterator
from typing import Any

from enthesis.live.adopting_accounts import Adoptable
from enthesis.model.sentences import shown
from enthesis.output.lines import Line, Span, counted, line
from enthesis.surveys.comparing import CHANGED, GONE, NEW, SurveyComparison

STYLES = {NEW: "doubt", CHANGED: "doubt", GONE: "bad"}


def adoption_lines(found: Adoptable) -> Iterator[Line]:
    """What of an account would be taken over: what the files lack, what they describe already, and what is left out."""
    if not found.candidates:
        yield line(f"Nothing of {found.holder} is to be taken over.")
    else:
        told = f"To be taken over from {found.holder}: {counted(len(found.candidates), 'statement')}."
        yield line(Span(told, "strong"))
    for addition in found.additions:
        yield line("  write  ", f"{addition.section}: {addition.line()}")
    for said in found.left_out:
        yield line(Span("  left out  ", "doubt"), said)


def comparison_lines(found: SurveyComparison) -> Iterator[Line]:
    """What changed, by account; whether the surveys are complete first."""
    if not found.complete:
        yield line(Span("Partial survey: one of the two is not complete, so more may have changed.", "bad"))
    said = f"changed since {found.before}" if found.differs else f"Nothing changed since {found.before}"
    head = f"{counted(len(found.differs), 'entry', 'entries')} {said}." if found.differs else f"{said}."
    yield line(Span(head, "strong"))
    for holder in dict.fromkeys(differ.holder for differ in found.differs):
        yield line(Span(holder or "what exists", "strong"))
        for state, style in STYLES.items():
            mine = [differ for differ in found.differs if (differ.holder, differ.state) == (holder, state)]
            if mine:
                yield line("  ", Span(state, style))
            for differs in mine:
                more = "; ".join(f"{name} from {shown(was)} to {shown(is_now)}" for name, was, is_now in differs.fields)
                yield line("    ", f"{differs.sentence}{': ' + more if more else ''}")


def comparison_json(found: SurveyComparison) -> dict[str, Any]:
    """The same for a program."""
    return {
        "before": found.before,
        "after": found.after,
        "complete": found.complete,
        "differs": [
            {
                "state": differ.state, "section": differ.section, "name": differ.name, "sentence": differ.sentence,
                "account": differ.holder,
                "fields": [{"field": name, "was": was, "is": is_now} for name, was, is_now in differ.fields],
            }
            for differ in found.differs
        ],
    }  # fmt: skip

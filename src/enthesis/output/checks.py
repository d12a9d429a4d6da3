"""What `check` found besides errors: journeys and invariants, each where it stands."""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from enthesis.chains.chains import Chain, Chains
from enthesis.chains.invariants import Decided
from enthesis.model.escapes import word
from enthesis.model.estate import Estate, Journey
from enthesis.model.file_errors import FileError, Source, masked
from enthesis.model.sentences import verb_words
from enthesis.model.vocabulary import Holding
from enthesis.output.admitting import caller_json, caller_text
from enthesis.output.file_errors import one_error
from enthesis.output.lines import Line, Span, counted, line
from enthesis.output.reach import conditions, start_words
from enthesis.output.verdicts import jsonable, members_json
from enthesis.text.times import time_text
from enthesis.trusts.risks import Risk, Risks
from enthesis.verdicts.expectations import Judged, attempt_words


def check_sentence(
    estate: Estate, files: int, journeys: Sequence[Judged], invariants: Sequence[Decided], found: Risks
) -> str:
    """The answer in a sentence, or two where something is wrong: that first."""
    unmet = sum(not journey.met for journey in journeys)
    broken = sum(invariant.outcome == Holding.BROKEN for invariant in invariants)
    open_ones = sum(invariant.outcome == Holding.UNDECIDED for invariant in invariants)
    wrong, right = [], []
    if unmet:
        wrong.append(f"{unmet} of {counted(len(journeys), 'journey')} not as expected")
    if broken:
        wrong.append(f"{broken} of {counted(len(invariants), 'invariant')} violated")
    if open_ones:
        wrong.append(f"{open_ones} of {counted(len(invariants), 'invariant')} not decided")
    if found.standing:
        wrong.append(counted(len(found.standing), "risk"))
    if found.undecided:
        wrong.append(f"{counted(found.undecided, 'question')} about risks past the bound on work")
    if journeys and not unmet:
        right.append(f"{len(journeys)} of {counted(len(journeys), 'journey')} as expected")
    if invariants and not broken + open_ones:
        count = len(invariants)
        right.append(f"{count} of {counted(count, 'invariant')} {'holds' if count == 1 else 'hold'}")
    if found.accepted:
        right.append(f"{counted(len(found.accepted), 'risk')} accepted")
    right.append(f"{counted(files, 'file')} valid")
    first = f"{estate.name}: {', '.join(wrong)}. " if wrong else f"{estate.name}: "
    return f"{first}{'; '.join(right)}."


def check_lines(
    texts: Mapping[str, str],
    named_at: Mapping[tuple[str, str], Source],
    chains: Chains | None,
    journeys: Sequence[Judged],
    invariants: Sequence[Decided],
) -> Iterator[Line]:
    """Every journey that is not as expected and every invariant that does not hold, each at its line."""
    for judged in journeys:
        if not judged.met:
            name = judged.journey.name
            source = named_at.get(("journeys", name), judged.journey.source)
            error = _error(texts, "journey-contradicted", source, name, judged.unmet)
            yield line()
            yield from one_error(error)
            shows = "what lets it in" if judged.verdict.allowed else "why, and ways to allow it"
            yield line("    ", f"fix: enthesis trace --journey {word(name)} shows {shows}")
        elif judged.unseen_live:
            first = judged.verdict.first_refused
            steps, at = ", ".join(judged.unseen_live), attempt_words(first) if first is not None else ""
            yield line()
            yield line(
                f"  {judged.journey.source}  {judged.journey.name}: as expected, but `prove` cannot show {steps}:"
            )
            yield line(f"    the live side stops at the first refused request, to {at}")
    for decided in invariants:
        if decided.outcome == Holding.HOLDS:
            continue
        if decided.accepted is not None:
            by = decided.accepted
            until = f"  {by.because}, until {time_text(by.until)}  ({by.source})"
            yield line()
            what = f"  {decided.invariant.name} is broken by {by.by} alone"
            yield line(Span(f"accepted  {decided.invariant.name}", "quiet"), what, Span(until, "quiet"))
            continue
        state = "is violated" if decided.outcome == Holding.BROKEN else "is not decided"
        why = [decided.why] if decided.why else []
        code = "invariant-broken" if decided.outcome == Holding.BROKEN else "invariant-not-decided"
        error = _error(texts, code, decided.invariant.source, f"{decided.invariant.name} {state}", why)
        yield line()
        yield from one_error(error)
        if decided.chain is not None and chains is not None:
            yield from chain_lines(chains, decided.chain)


def chain_lines(chains: Chains, chain: Chain) -> Iterator[Line]:
    """A chain, a line a step, with the values of what was free."""
    yield line("    ", Span(start_words(chain.start), "strong"))
    for _, verb, target in chains.steps(chain):
        yield line("      ", Span(f"{verb_words(verb)} {target}", "bad"))
    if chain.values:
        yield line("      ", Span("with ", "doubt"), conditions(chain))


def risk_lines(texts: Mapping[str, str], found: Risks) -> Iterator[Line]:
    """Every risk that stands, with a caller who is admitted by it and what fixes it; those accepted, briefly."""
    for risk in found.standing:
        yield line()
        yield from one_error(_error(texts, risk.code, risk.source, risk.message, ()))
        if risk.shown is not None:
            yield line("    ", Span("admitted", "bad"), f"  {caller_text(risk.shown)}")
        yield line("    ", Span("fix:", "good"), f" {risk.remedy}")
    if found.accepted:
        yield line()
    for risk in found.accepted:
        if risk.accepted is not None:
            until = time_text(risk.accepted.until)
            why = f"  {risk.accepted.because}, until {until}  ({risk.accepted.source})"
            yield line(Span(f"accepted  {risk.code}", "quiet"), f"  {risk.message}", Span(why, "quiet"))


def untriable_lines(found: Sequence[tuple[Journey, str]]) -> Iterator[Line]:
    """The journeys that no proof can try, by reason."""
    by_reason: dict[str, list[str]] = {}
    for journey, why in found:
        by_reason.setdefault(why, []).append(journey.name)
    for why, names in by_reason.items():
        yield line(Span(f"`enthesis prove` cannot try {', '.join(names)}: {why}.", "quiet"))


def risk_json(risk: Risk) -> dict[str, Any]:
    """One risk for a program."""
    accepted = risk.accepted
    return {
        "code": risk.code,
        "message": risk.message,
        "source": str(risk.source),
        "names": list(risk.names),
        "gets_in": caller_json(risk.shown),
        "remedy": risk.remedy,
        "accepted": {"because": accepted.because, "until": time_text(accepted.until)} if accepted else None,
    }


def _error(texts: Mapping[str, str], code: str, source: Source, name: str, why: Sequence[str]) -> FileError:
    lines = texts.get(source.file, "").split("\n")
    text = lines[source.line - 1] if 0 < source.line <= len(lines) else ""
    return FileError(code, f"{name}: {'; '.join(why)}" if why else name, source, masked(text))


def judged_json(judged: Judged) -> dict[str, Any]:
    """One journey for a program."""
    first = judged.verdict.first_refused
    return {
        "journey": judged.journey.name,
        "source": str(judged.journey.source),
        "expected": judged.journey.expect,
        "outcome": judged.ending,
        "met": judged.met,
        "unmet": list(judged.unmet),
        "unseen_live": list(judged.unseen_live) if judged.met else [],
        "refused_at": list(judged.verdict.refused_at),
        "first_refused": {"to": attempt_words(first), "steps": list(first.refused_at)} if first else None,
        "keyless": judged.verdict.keyless,
        **({"members": members_json(judged.members)} if judged.members else {}),
    }


def decided_json(chains: Chains, decided: Decided) -> dict[str, Any]:
    """One invariant for a program."""
    chain = decided.chain
    return {
        "invariant": decided.invariant.name,
        "source": str(decided.invariant.source),
        "outcome": decided.outcome,
        "why": decided.why or None,
        "start": start_words(chain.start) if chain else None,
        "chain": [{"caller": c, "verb": v, "target": t} for c, v, t in chains.steps(chain)] if chain else [],
        "with": {name: jsonable(value) for name, value in sorted(chain.values.items())} if chain else {},
        **(
            {"accepted": {"by": by.by, "because": by.because, "until": time_text(by.until)}}
            if (by := decided.accepted) is not None
            else {}
        ),
    }

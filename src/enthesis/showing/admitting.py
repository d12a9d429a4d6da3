"""What a trust lets in, in words."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from enthesis.judging.admitting import Near, Sample, is_pinned
from enthesis.judging.questions import BEARERS
from enthesis.model.estate import Trust
from enthesis.reading.conditions import plain_test
from enthesis.reading.sentences import admitted, tested
from enthesis.reading.shapes import duration_text, time_text
from enthesis.reading.writing import flow_text, plain_statement
from enthesis.showing.lines import Line, Span, counted, line
from enthesis.showing.verdicts import jsonable, shown
from enthesis.trusting.truth import Value

MOST = 6  # near callers that get in too, in text


def sample_lines(sample: Sample) -> Iterator[Line]:
    """What a sample token pins, the tightest sensible trust, and what each notch wider would let in."""
    yield line(Span(f"The tightest sensible trust looks at {counted(len(sample.tightest), 'claim')}.", "strong"))
    kept = dict(sample.tightest)
    width = max((len(name) for name in sample.claims), default=0)
    for name, value in sample.claims.items():
        word = Span("pinned    ", "good") if name in kept else Span("not pinned", "quiet")
        yield line(f"  {name.ljust(width)}  ", word, f"  {shown(value)}")
    yield line()
    for text in sample_yaml(sample):
        yield line("  ", Span(text, "command"))
    if sample.wider:
        yield line()
        yield line(Span("one notch wider, each on its own", "strong"))
    for name, test, lets in sample.wider:
        written = f"{name}: {flow_text(plain_test(test))}" if test is not None else f"without {name}"
        yield line("  ", Span(written, "command"), "  lets in ", lets)


def sample_yaml(sample: Sample) -> list[str]:
    """The issuer and the trust as they stand in an estate; ISSUER and IDENTITY are to be named."""
    claims = flow_text({name: plain_test(test) for name, test in sample.tightest})
    return [
        "issuers:",
        f"  ISSUER: {{kind: oidc, url: {flow_text(sample.issuer)}}}",
        "trusts:",
        f"  - {{of: IDENTITY, admits: {{token: ISSUER, claims: {claims}}}, session: 15m}}",
    ]


def caller_text(caller: Mapping[str, Value]) -> str:
    """What a caller shows, on one line."""
    return ", ".join(f"{name} {shown(value)}" for name, value in caller.items() if value is not None) or "nothing"


def trust_lines(trust: Trust) -> Iterator[Line]:
    """One trust, claim by claim."""
    whom = admitted(plain_statement("trusts", trust)["admits"])
    if trust.admits.form in BEARERS:
        whom = f"{trust.admits.form}s of {trust.admits.whom}"
    until = f", until {time_text(trust.until)}" if trust.until else ""
    lasts = f", for {duration_text(trust.session)} at a time{until}"
    yield line(Span(whom, "strong"), lasts, Span(f"  {trust.source}", "quiet"))
    width = max((len(name) for name, _ in (*trust.admits.conditions, *trust.when)), default=0)
    for name, test in trust.admits.conditions:
        word = Span("pinned", "good") if is_pinned(test) else Span("open  ", "doubt")
        yield line(f"  {name.ljust(width)}  ", word, f"  {tested(plain_test(test))}")
    for name, test in trust.when:
        yield line(f"  {name.ljust(width)}  ", Span("besides", "quiet"), f" {tested(plain_test(test))}")
    if trust.admits.form in BEARERS:
        yield line(Span("  whatever else it shows makes no difference", "quiet"))


def near_lines(caller: Mapping[str, Value] | None, near: Sequence[Near]) -> Iterator[Line]:
    """Somebody that gets in, and those near it: whoever gets in too first."""
    if caller is None:
        yield line("  ", Span("nobody gets in: no caller can meet all of this", "bad"))
        return
    yield line("  ", Span("gets in  ", "good"), caller_text(caller))
    also = [one for one in near if one.admitted]
    for one in also[:MOST]:
        yield line("  ", Span("gets in too: ", "bad"), one.what, Span(f"  ({caller_text(one.shown)})", "quiet"))
    if len(also) > MOST:
        yield line(Span(f"  … and {len(also) - MOST} more: --format json has them all", "quiet"))
    refused = [one for one in near if not one.admitted]
    if refused:
        what = ", ".join(dict.fromkeys(one.what for one in refused))
        yield line("  ", Span(f"{counted(len(refused), 'near-miss', 'near-misses')} refused: ", "good"), what)


def compared_lines(more: Mapping[str, Value] | None, less: Mapping[str, Value] | None, than: str) -> Iterable[Line]:
    """What a trust admits beyond something, and what it leaves out."""
    if more is None and less is None:
        yield line("  ", Span(f"admits just {than}", "good"))
    if more is not None:
        yield line("  ", Span(f"admits more than {than}: ", "bad"), caller_text(more))
    if less is not None:
        yield line("  ", Span(f"leaves out some of {than}: ", "doubt"), caller_text(less))


def caller_json(caller: Mapping[str, Value] | None) -> Any:
    """A caller for a program."""
    return None if caller is None else {name: jsonable(value) for name, value in caller.items()}


def trust_json(trust: Trust, caller: Mapping[str, Value] | None, near: Sequence[Near]) -> dict[str, Any]:
    """One trust for a program."""
    return {
        "source": str(trust.source),
        "trust": plain_statement("trusts", trust),
        "claims": [
            {"name": name, "test": plain_test(test), "pinned": is_pinned(test)}
            for name, test in trust.admits.conditions
        ],
        "gets_in": caller_json(caller),
        "near": [{"what": one.what, "shows": caller_json(one.shown), "admitted": one.admitted} for one in near],
    }

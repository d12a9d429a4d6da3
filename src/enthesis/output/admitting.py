"""Whom a trust admits, in words."""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from enthesis.access.value_words import shown, value_words
from enthesis.conditions.sampling import Sample
from enthesis.conditions.truth import Value
from enthesis.files.conditions import plain_test
from enthesis.files.writing import flow_text, plain_statement
from enthesis.model.conditions import Test
from enthesis.model.estate import Trust
from enthesis.model.sentences import admitted, tested
from enthesis.model.vocabulary import BEARERS
from enthesis.output.lines import Line, Span, counted, line
from enthesis.output.verdicts import jsonable
from enthesis.text.times import duration_text, time_text
from enthesis.trusts.admitting import BESIDES, Held, Near, Told, TrustComparison, is_pinned

MOST_NAMED = 20  # callers that a trust names, in text
MOST = 6  # near callers that are admitted too, in text


def sample_lines(sample: Sample) -> Iterator[Line]:
    """What a sample token pins, the tightest sensible trust, and what each notch wider would admit."""
    of = f", from {sample.samples} samples" if sample.samples > 1 else ""
    yield line(Span(f"The tightest sensible trust pins {counted(len(sample.tightest), 'claim')}{of}.", "strong"))
    if "sub" not in dict(sample.tightest):
        yield line(Span("No subject is pinned: this trust admits every subject of the issuer. Add one.", "bad"))
    kept = dict(sample.tightest)
    width = max((len(name) for name in sample.claims), default=0)
    for name, value in sample.claims.items():
        word = Span("pinned    ", "good") if name in kept else Span("not pinned", "quiet")
        yield line(f"  {name.ljust(width)}  ", word, f"  {shown(value)}")
        yield line(Span(f"  {' ' * width}              {sample.why[name]}", "quiet"))
    yield line()
    for text in sample_yaml(sample):
        yield line("  ", Span(text, "command"))
    if sample.wider:
        yield line()
        yield line(Span("one notch wider, each on its own", "strong"))
    for name, test, lets in sample.wider:
        written = f"{name}: {flow_text(plain_test(test))}" if test is not None else f"without {name}"
        yield line("  ", Span(written, "command"), "  admits ", lets)


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
    """What a caller shows, on one line; what its request says besides comes last."""
    said = [(name, value) for name, value in caller.items() if value is not None]
    claims = [value_words(name, value) for name, value in said if not name.startswith(BESIDES)]
    besides = [
        f"with {value_words(name.removeprefix(BESIDES), value)}" for name, value in said if name.startswith(BESIDES)
    ]
    return ", ".join((*claims, *besides)) or "nothing"


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
        yield line(Span("  other claims are not tested", "quiet"))


def told_lines(told: Told) -> Iterator[Line]:
    """A caller that is admitted, those near it, those that are admitted too first; and comparisons."""
    if told.undecided:
        yield line("  ", Span(f"not decided: {told.undecided}", "doubt"))
        return
    if told.trust.admits.form not in BEARERS:
        yield from _named_lines(told)
        return
    if told.caller is None:
        yield line("  ", Span(f"admits nobody: {told.nobody}", "bad"))
    else:
        yield line("  ", Span("admitted  ", "good"), caller_text(told.caller))
        yield from _near_lines(told.near)
    for compared in told.compared:
        yield from _compared_lines(compared)


def _named_lines(told: Told) -> Iterator[Line]:
    if not told.callers:
        yield line("  ", Span(f"admits nobody: {told.nobody}", "bad"))
    for one in told.callers[:MOST_NAMED]:
        takes = f"  with {caller_text(dict(one.values))}" if one.values else ""
        yield line("  ", Span("admitted  ", "good"), one.name, Span(takes, "quiet"))
    if len(told.callers) > MOST_NAMED:
        yield line(Span(f"  … and {len(told.callers) - MOST_NAMED} more: --format json has them all", "quiet"))
    if told.left_out:
        yield line("  ", Span("near, and refused", "good"))
    for near in told.left_out:
        yield line("    ", near.name, Span(f"  {near.why}", "quiet"))


def _near_lines(near: Sequence[Near]) -> Iterator[Line]:
    also = [near_miss for near_miss in near if near_miss.admitted]
    for near_miss in also[:MOST]:
        yield line(
            "  ", Span("also admitted: ", "bad"), near_miss.what, Span(f"  ({caller_text(near_miss.shown)})", "quiet")
        )
    if len(also) > MOST:
        yield line(Span(f"  … and {len(also) - MOST} more: --format json has them all", "quiet"))
    refused = [near_miss for near_miss in near if not near_miss.admitted]
    if refused:
        what = ", ".join(dict.fromkeys(near_miss.what for near_miss in refused))
        yield line("  ", Span(f"{counted(len(refused), 'near-miss', 'near-misses')} refused: ", "good"), what)


def _compared_lines(compared: TrustComparison) -> Iterator[Line]:
    than = compared.than
    if compared.more is None and compared.less is None:
        yield line("  ", Span(f"admits just {than}", "good"))
    if compared.more is not None:
        yield line("  ", Span(f"admits more than {than}: ", "bad"), caller_text(compared.more))
    if compared.less is not None:
        yield line("  ", Span(f"leaves out some of {than}: ", "doubt"), caller_text(compared.less))


def held_sentence(of: str, admitted: bool, unknown: bool, what: str = "token") -> str:
    """Whether a token, or `what` else was shown, is admitted, in a sentence."""
    if unknown:
        return f"This {what} could take on {of}, if its signature is good: that was not checked."
    return f"This {what} {'can' if admitted else 'cannot'} take on {of}."


def held_lines(of: str, admitted: bool, unknown: bool, answers: Sequence[Held], what: str = "token") -> Iterator[Line]:
    """A token or assertion held against trusts, claim by claim; what was shown is never repeated."""
    style = "doubt" if unknown else "good" if admitted else "bad"
    yield line(Span(held_sentence(of, admitted, unknown, what), style))
    for held in answers:
        yield line()
        yield from trust_lines(held.trust)
        if held.refused:
            yield line("  ", Span("not believed", "bad"), f"  {held.refused}")
        elif held.unchecked:
            yield line("  ", Span("signature not checked", "doubt"), f"  {held.unchecked}")
        elif held.signed_with:
            yield line("  ", Span("signed", "good"), f"  with {held.signed_with}")
        for name, test, value, truth in held.failing:
            yield line("  ", Span("not as wanted", "bad"), f"  {failing_text(name, test, value, truth)}")
        if held.admitted:
            yield line("  ", Span("its claims are as wanted", "good"))


def failing_text(name: str, test: Test, value: Value, truth: bool | None) -> str:
    """Why one claim is not as wanted."""
    found = "is not there" if value is None else f"is {shown(value)}"
    unknown = " (of another type)" if truth is None and value is not None else ""
    return f"{name} {found}{unknown}, and is to be {tested(plain_test(test))}"


def held_json(held: Held) -> dict[str, Any]:
    """A token held against one trust, for a program."""
    return {
        "source": str(held.trust.source),
        "admitted": None if held.admitted and held.unchecked else held.admitted,
        "refused": held.refused or None,
        "signed_with": held.signed_with or None,
        "unchecked": held.unchecked or None,
        "not_as_wanted": [
            {"claim": name, "shows": jsonable(value), "wanted": plain_test(test)}
            for name, test, value, _ in held.failing
        ],
    }


def caller_json(caller: Mapping[str, Value] | None) -> Any:
    """A caller for a program."""
    return None if caller is None else {name: jsonable(value) for name, value in caller.items()}


def told_json(told: Told) -> dict[str, Any]:
    """One trust for a program."""
    trust = told.trust
    return {
        "source": str(trust.source),
        "trust": plain_statement("trusts", trust),
        "claims": [
            {"name": name, "test": plain_test(test), "pinned": is_pinned(test)}
            for name, test in trust.admits.conditions
        ],
        "gets_in": caller_json(told.caller),
        "near": [
            {"what": near_miss.what, "shows": caller_json(near_miss.shown), "admitted": near_miss.admitted}
            for near_miss in told.near
        ],
        "callers": [{"caller": one.name, "with": caller_json(dict(one.values))} for one in told.callers],
        "left_out": [{"caller": one.name, "why": one.why} for one in told.left_out],
        "admits_nobody_because": told.nobody or None,
        "undecided": told.undecided or None,
        **{
            comparison.than.replace(" ", "_"): {
                "beyond": caller_json(comparison.more),
                "left_out": caller_json(comparison.less),
            }
            for comparison in told.compared
        },
    }


def sample_json(sample: Sample) -> dict[str, Any]:
    """What a sample token gives, for a program."""
    return {
        "issuer": sample.issuer,
        "samples": sample.samples,
        "shows": jsonable(dict(sample.claims)),
        "why": dict(sample.why),
        "claims": {name: plain_test(test) for name, test in sample.tightest},
        "lines": sample_yaml(sample),
        "wider": [
            {"claim": name, "test": plain_test(test) if test is not None else None, "lets_in": lets}
            for name, test, lets in sample.wider
        ],
    }

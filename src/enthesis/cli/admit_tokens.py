"""The part of `enthesis admit` that reads tokens: one held against trusts, or a trust written for samples."""

from pathlib import Path

import typer

from enthesis.cli.arguments import now
from enthesis.conditions.sampling import sample_of
from enthesis.live.shown_tokens import (
    Belief,
    KeySource,
    ShownToken,
    belief,
    read_token,
    readable_token,
    takes_access_tokens,
)
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate, PipelineAccess, Trust
from enthesis.model.pointers import as_pointers
from enthesis.output.admitting import (
    held_json,
    held_lines,
    held_sentence,
    sample_json,
    sample_lines,
)
from enthesis.output.renderers import CommandAnswer, put_answer
from enthesis.output.streams import remark
from enthesis.tokens.checking import Refused
from enthesis.trusts.admitting import Held, held_against
from enthesis.trusts.keyless import other_ways
from enthesis.verdicts.pipeline_access import is_anothers


def say_other_ways(estate: Estate, access: PipelineAccess, source: str, *, quiet: bool) -> None:
    """What works for a run of another organisation, where that is what the token is of."""
    if source == "-" or not is_anothers(estate.issuers[access.at], dict(readable_token(source).unverified_claims)):
        return
    remark(f"Its subject is none of ours, and pipeline access at {access.at} is for our runs only.", quiet=quiet)
    for way in other_ways(estate, access):
        remark(f"  what works: {way}", quiet=quiet)


def hold_against(estate: Estate, folder: Path, trusts: list[Trust], source: str, keys: KeySource, output: str) -> None:
    """Whether a token is admitted by one of the trusts, and of each why not. Exits as the answer is."""
    instant = now()
    shown: ShownToken | None = None
    form = ""
    try:
        shown = read_token(source)
    except Refused as fault:
        form = fault.why
    beliefs: dict[tuple[str, bool], Belief] = {}
    answers: list[Held] = []
    for trust in trusts:
        if shown is None:
            answers.append(Held(trust, False, refused=form))
            continue
        asked = (str(trust.admits.whom), takes_access_tokens(trust))
        if trust.admits.form == shown.form and asked not in beliefs:
            beliefs[asked] = belief(estate, folder, asked[0], shown, instant, keys, access=asked[1])
        said = beliefs.get(asked, Belief(None))
        why = said.refused.why if said.refused else ""
        held = (shown.unverified_claims, instant, why, said.signed_with, said.unchecked, shown.form)
        answers.append(held_against(trust, *held))
    admitted = any(answer.admitted for answer in answers)
    unknown = admitted and not any(answer.admitted and not answer.unchecked for answer in answers)
    what = shown.form if shown is not None else "token"
    of = ", ".join(dict.fromkeys(trust.of for trust in trusts))
    put_answer(
        output,
        CommandAnswer(
            lambda: {
                "says": held_sentence(of, admitted, unknown, what),
                "admitted": None if unknown else admitted,
                "trusts": [held_json(answer) for answer in answers],
            },
            lambda: held_lines(of, admitted, unknown, answers, what),
        ),
    )
    if not admitted:
        raise typer.Exit(1)
    if unknown and not keys.offline:
        raise typer.Exit(3)


def write_trust_for(sources: list[str], output: str, *, quiet: bool) -> None:
    """Reads sample tokens of one pipeline and writes the tightest sensible trust for them."""
    samples = [readable_token(source).unverified_claims for source in sources]
    issuers = list(dict.fromkeys(str(sample.get("iss")) for sample in samples))
    if len(issuers) > 1:
        raise InvalidInput(
            f"the samples are of different issuers: {', '.join(issuers)}",
            code="samples-differ",
            remedy="give samples of one issuer at a time",
        )
    what = "The token's signature was" if len(samples) == 1 else "The tokens' signatures were"
    remark(f"{what} not checked: {'it is' if len(samples) == 1 else 'they are'} taken at face value.", quiet=quiet)
    sample = sample_of([as_pointers(sample) for sample in samples])
    put_answer(output, CommandAnswer(lambda: sample_json(sample), lambda: sample_lines(sample)))

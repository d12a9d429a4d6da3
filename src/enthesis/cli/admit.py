"""`enthesis admit`: what a trust admits."""

from pathlib import Path
from typing import Annotated, Any

import typer

from enthesis.access.compiling import compile_estate
from enthesis.cli import completing
from enthesis.cli.arguments import now
from enthesis.cli.estate_loading import read_subject
from enthesis.cli.options import EstateOption, FormatOption, QuietOption, SurveyOption
from enthesis.cli.short_names import meant as taken_for
from enthesis.conditions.callers import NOBODY, Callers
from enthesis.files.editing import Addition
from enthesis.files.field_types import MISSING, Notes
from enthesis.files.sections import FREE_CLAIMS
from enthesis.files.versions import other_version
from enthesis.files.yaml_tree import UnreadableFile, parse
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate, PipelineAccess, Trust
from enthesis.model.vocabulary import Form
from enthesis.output.admitting import (
    told_json,
    told_lines,
    trust_lines,
)
from enthesis.output.lines import counted, line
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.output.streams import is_about, remark
from enthesis.surveys.unread import Inquiry, systems_by_address
from enthesis.text.nearest import perhaps
from enthesis.trusts.admitting import Admissions, Told, told
from enthesis.trusts.keyless import keyless_trust
from enthesis.verdicts.pipeline_access import pipeline_access_trust


def admit(
    what: Annotated[
        str | None,
        typer.Argument(
            metavar="TRUST|IDENTITY",
            autocompletion=completing.trusts,
            help="A trust by its name, or all of an identity.",
        ),
    ] = None,
    token: Annotated[
        str | None, typer.Option("--token", metavar="FILE|-", help="Check whether this token or assertion is admitted.")
    ] = None,
    keys: Annotated[
        Path | None,
        typer.Option(
            "--keys",
            metavar="FILE",
            help="Check --token with this key set, or a certificate or metadata (SAML), instead of the issuer's.",
        ),
    ] = None,
    offline: Annotated[bool, typer.Option("--offline", help="Do not ask the issuer for its keys.")] = False,
    from_token: Annotated[
        list[str] | None,
        typer.Option(
            "--from-token",
            metavar="FILE|-",
            help="Write the tightest trust for this sample token; needs no estate. Repeat it with the token of another"
            " run: what differs is not pinned.",
        ),
    ] = None,
    meant: Annotated[
        str | None, typer.Option("--meant", metavar="CONDITIONS", help="Compare with these intended claims.")
    ] = None,
    compared_with: Annotated[
        str | None,
        typer.Option("--compared-with", metavar="FOLDER|REVISION", help="Compare with another version."),
    ] = None,
    estate: EstateOption = None,
    live: SurveyOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Show whom a trust admits, claim by claim, with examples of who is in and who is not.

    Needs no rights, and no live system but for the keys that --token is checked with. Exit 1 where the token is not
    admitted, or more callers are admitted than intended; 3 where a token's claims are as wanted and its signature
    could not be checked.
    """
    if from_token or token is not None:
        # only tokens need the libraries that these load
        from enthesis.cli import admit_tokens  # noqa: PLC0415
        from enthesis.live.shown_tokens import KeySource  # noqa: PLC0415
    if from_token:
        admit_tokens.write_trust_for(from_token, output, quiet=quiet)
        return
    if what is None:
        raise InvalidInput(
            "nothing is named",
            code="argument-missing",
            remedy="name a trust or an identity, or a sample with --from-token",
        )
    if (keys is not None or offline) and token is None:
        raise InvalidInput("--keys and --offline need --token", code="options-conflict")
    folder, described, survey = read_subject(estate, live)
    what = taken_for(what, [*described.pipeline_access, *completing.trusts_of(described)], quiet=quiet)
    access = described.pipeline_access.get(what)
    if access is not None:
        if not access.admits:
            raise InvalidInput(
                f"no run may use {what}: it has no condition",
                code="pipeline-access-closed",
                remedy=f"say which, at {access.source}",
            )
        trusts = [pipeline_access_trust(described, access)]
    else:
        trusts = chosen(described, what)
    admitting = tuple(trust.of for trust in trusts)
    is_about(Inquiry(admitting, systems=systems_by_address(admitting, described)))
    if token is not None:
        try:
            source = KeySource(keys, offline, survey)
            admit_tokens.hold_against(described, folder, trusts, token, source, output)
        finally:
            if access is not None:
                admit_tokens.say_other_ways(described, access, token, quiet=quiet)
        return
    if access is not None:
        _keyless(described, access, quiet=quiet)
    well = _told(what, described, trusts, _meant(meant), _other(folder, compared_with), output)
    if not well:
        raise typer.Exit(1)


def _told(
    what: str,
    estate: Estate,
    trusts: list[Trust],
    wanted: Callers | None,
    other: Estate | None,
    output: str,
) -> bool:
    """What trusts admit, and against what was meant or was before; whether no more is admitted than was meant."""
    instant = now()
    admissions = Admissions(compile_estate(estate), instant)
    former = Admissions(compile_estate(other), instant) if other is not None else None
    answers: list[Told] = []
    for trust in trusts:
        versions = [("what was meant", wanted)] if wanted is not None else []
        if former is not None:
            twins = [one for one in former.estate.trusts if _key(one) == _key(trust)]
            versions.append(("before", former.callers_of(twins[0]) if twins else NOBODY))
        answers.append(told(admissions, trust, versions))
    well = all(
        comparison.than != "what was meant" or comparison.more is None
        for answer in answers
        for comparison in answer.compared
    )
    access = estate.pipeline_access.get(what)
    if access is not None:
        first = f"Pipeline access {what} at {access.at} leads to {access.of} for the runs that may use it."
    else:
        first = _first_sentence(what, answers)
    lines = [line(first)]
    for answer in answers:
        lines += [line(), *trust_lines(answer.trust), *told_lines(answer)]
    facts = {"asked": what, "well": well, "trusts": [told_json(answer) for answer in answers]}
    put_answer(output, CommandAnswer(lambda: facts, lambda: lines))
    return well


def _keyless(estate: Estate, access: PipelineAccess, *, quiet: bool) -> None:
    """The trust that makes pipeline access unnecessary, where it is not there."""
    entry = keyless_trust(estate, access)
    has = any(
        trust.of == access.of and trust.admits.form == Form.TOKEN and trust.admits.whom == access.at
        for trust in estate.trusts
    )
    if access.credential is not None or not has:
        remark(f"Without any key the same runs are admitted by: {Addition('trusts', '', entry).line()}", quiet=quiet)


def chosen(estate: Estate, what: str) -> list[Trust]:
    """The trusts that a word names; InvalidInput with the nearest names where it names none."""
    found = [trust for trust in estate.trusts if what in (trust.name, trust.of)]
    if found:
        return found
    if what in estate.identities:
        raise InvalidInput(f"{what} has no trust, so no caller can take it on", code="trust-missing")
    known = [*(trust.name for trust in estate.trusts if trust.name), *estate.identities]
    hint = perhaps(what, known)
    raise InvalidInput(f"unknown trust or identity {what}", code="trust-unknown", remedy=hint)


def _first_sentence(what: str, answers: list[Told]) -> str:
    of = ", ".join(dict.fromkeys(answer.trust.of for answer in answers))
    compared = [comparison for answer in answers for comparison in answer.compared]
    if compared:
        wider, narrower = (
            any(getattr(comparison, which) is not None for comparison in compared) for which in ("more", "less")
        )
        than = " and ".join(dict.fromkeys(comparison.than for comparison in compared))
        said = "anything other than" if wider and narrower else "more than" if wider else "less than"
        return f"{what} admits {said if wider or narrower else 'just'} {than}."
    if answers and all(answer.nobody for answer in answers):
        return f"{what}: no caller is admitted by {'its trust' if len(answers) == 1 else 'any of its trusts'}."
    more = sum(len([near_miss for near_miss in answer.near if near_miss.admitted]) for answer in answers)
    also = f"; {counted(more, 'near-miss', 'near-misses')} {'is' if more == 1 else 'are'} admitted too" if more else ""
    admitted = "callers that it admits" if len(answers) == 1 else "callers that one of them admits"
    return f"{what}: {counted(len(answers), 'trust')}; {admitted} can take on {of}{also}."


def _other(folder: Any, named: str | None) -> Estate | None:
    if named is None:
        return None
    return other_version(folder, named)


def _meant(text: str | None) -> Callers | None:
    """The callers that were meant, from conditions as an estate writes them; InvalidInput where they are none."""
    if text is None:
        return None
    notes = Notes("--meant")
    try:
        node, _ = parse(text.encode())
    except UnreadableFile as fault:
        raise InvalidInput(
            f"--meant: {fault}", code="meant-invalid", remedy="expected conditions such as {sub: main, aud: lowland}"
        ) from None
    read = FREE_CLAIMS.read(node, notes) if node is not None else MISSING
    if read is MISSING:
        why = notes.errors[0].message if notes.errors else "no file is named"
        raise InvalidInput(
            f"--meant: {why}", code="meant-invalid", remedy="expected conditions such as {sub: main, aud: lowland}"
        )
    return Callers((read,))


def _key(trust: Trust) -> tuple[Any, ...]:
    return (trust.name,) if trust.name is not None else (trust.of, trust.admits.form, trust.admits.whom)

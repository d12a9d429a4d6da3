"""`enthesis trace`: why a request is allowed or refused, and what would turn it."""

from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any

import typer

from enthesis.access.answers import Verdict
from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question, question_of
from enthesis.chains.differences import newly_allowed
from enthesis.chains.sentences import gain_sentences
from enthesis.cli import completing
from enthesis.cli.arguments import (
    FROM_HELP,
    AgeOption,
    ClaimOption,
    MfaOption,
    NetworkOption,
    ReferenceOption,
    SurroundingOptions,
    TimeOption,
    claims_from,
    context_from,
    now,
    origin_from,
)
from enthesis.cli.estate_loading import read_subject
from enthesis.cli.options import EstateOption, FormatOption, QuietOption, SurveyOption
from enthesis.cli.short_names import callers, meant, places
from enthesis.files.editing import Replacement
from enthesis.files.folder import Reading
from enthesis.files.saving import BY_HAND, edit_files
from enthesis.files.sections import SECTIONS, attempt_from
from enthesis.files.writing import says_the_same
from enthesis.model.addresses import article, contains, parse
from enthesis.model.errors import InvalidAddress, InvalidInput, NotDecided, Undecided
from enthesis.model.escapes import word
from enthesis.model.estate import Estate, Hop
from enthesis.model.vocabulary import BEARERS, Ending, Form, Outcome, VerdictStep
from enthesis.output.lines import Line
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.output.streams import is_about, remark
from enthesis.output.verdicts import (
    TOLD,
    absent_lines,
    member_lines,
    members_json,
    remedies_json,
    remedy_lines,
    verdict_json,
    verdict_lines,
)
from enthesis.surveys.unread import Inquiry, systems_by_address, with_groups
from enthesis.text.nearest import perhaps
from enthesis.verdicts.pools import MemberAnswer, answer_of_pool
from enthesis.verdicts.remedies import SMALL, Remedy, applied, asked, remedies_for


def trace(
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="VERB TARGET|JOURNEY",
            help="The attempt: `write ADDRESS`, or `attach IDENTITY to RESOURCE`; or the name of a journey.",
        ),
    ] = None,
    who: Annotated[
        str | None, typer.Option("--from", metavar="WHO", autocompletion=completing.callers, help=FROM_HELP)
    ] = None,
    through: Annotated[
        list[str] | None,
        typer.Option(
            "--through",
            metavar="ADDRESS",
            autocompletion=completing.identities,
            help="Intermediate identity to take on, or resource to run code on; repeat in order.",
        ),
    ] = None,
    journey: Annotated[
        str | None,
        typer.Option(
            "--journey", metavar="NAME", autocompletion=completing.journeys, help="Explain the request of this journey."
        ),
    ] = None,
    token: Annotated[
        str | None, typer.Option("--token", metavar="FILE|-", help="Start from this token or assertion.")
    ] = None,
    claim: ClaimOption = None,
    at_time: TimeOption = None,
    network: NetworkOption = None,
    reference: ReferenceOption = None,
    mfa: MfaOption = None,
    session_age: AgeOption = None,
    log: Annotated[
        Path | None,
        typer.Option("--log", metavar="FILE", help="For a login at a host: also ask the log of its OpenSSH server."),
    ] = None,
    certificate: Annotated[
        Path | None,
        typer.Option("--certificate", metavar="FILE", help="For a login at a host: also ask the certificate shown."),
    ] = None,
    write: Annotated[
        int | None, typer.Option("--write", metavar="N", help="Write way N into the estate's files.")
    ] = None,
    estate: EstateOption = None,
    live: SurveyOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Explain why a request is allowed or refused, and how to change that.

    Needs no live system and no rights. Exit 0 allowed, 1 refused, 2 where a name is unknown, 5 not decided.
    """
    folder, described, _ = read_subject(estate, live)
    around = SurroundingOptions(at_time, network, reference, session_age)
    if words is not None and len(words) == 2 and words[0] not in described.catalogue.all_verbs() and who is None:
        from enthesis.cli.reach import reach  # noqa: PLC0415  what one caller can do at one place is told there

        if meant(words[0], callers(described), quiet=True) in callers(described):
            reach(words, claim=claim, at_time=at_time, network=network, reference=reference, mfa=mfa,
                  estate=estate, live=live, output=output, quiet=quiet)  # fmt: skip
            return
    if journey is None and words is not None and len(words) == 1 and who is None and token is None:
        journey, words = words[0], None
    who = meant(who, callers(described), quiet=quiet) if who is not None else None
    through = [meant(one, places(described), quiet=quiet) for one in through or ()]
    if journey is not None:
        if words or who or through or token or claim:
            raise InvalidInput(
                "--journey is the whole question",
                code="options-conflict",
                remedy="combine --journey only with --time, --network, --reference and the like",
            )
        question = _of_journey(described, journey, around, mfa)
    else:
        question = _asked(described, folder, words, who, through, token, claims_from(claim), mfa, around)
    if token is not None:
        what = "assertion" if question.origin.form == Form.ASSERTION else "token"
        remark(f"The {what}'s signature was not checked: it is taken for what it says.", quiet=quiet)
    at_host, at_host_told = _at_host(described, question, log, certificate)
    verdict, members = _answer(described, question)
    question = verdict.question
    is_about(_about(described, question))
    remedies = remedies_for(described, verdict)
    small = len(described.grants) + len(described.trusts) + len(described.identities) <= SMALL
    also = [
        gain_sentences(newly_allowed(described, remedy, verdict)) if number < TOLD and small else []
        for number, remedy in enumerate(remedies.found)
    ]
    if remedies.found and not small:
        remark("What else a remedy allows: write it, then enthesis check --compared-with HEAD.", quiet=quiet)

    def facts() -> dict[str, Any]:
        of_members = {"members": members_json(members)} if members else {}
        return {**verdict_json(described, verdict), **of_members, **at_host_told, **remedies_json(remedies, also)}

    def text() -> Iterator[Line]:
        first, *rest = verdict_lines(described, verdict)
        named = [str(question.origin.whom), *(hop.identity for hop in question.through)]
        absent = absent_lines(described, [*named, *([question.attempt.target] if question.attempt else [])])
        yield from (first, *member_lines(members), *rest, *at_host, *absent)
        if not verdict.allowed and not quiet:
            yield from remedy_lines(remedies, also)

    put_answer(output, CommandAnswer(facts, text))
    if write is not None:
        if not 1 <= write <= len(remedies.found):
            raise InvalidInput(f"there is no remedy {write}: {len(remedies.found)} were found", code="remedy-unknown")
        for name in write_remedy(folder, described, remedies.found[write - 1], question, journey):
            remark(f"Remedy {write} is written into {name}.", quiet=quiet)
    if not verdict.allowed:
        raise typer.Exit(_exit_code(verdict))


def _about(estate: Estate, question: Question) -> Inquiry:
    """Where the requests of a question are made, and by whom."""
    hops = [hop.identity or hop.on for hop in question.through]
    attempt = question.attempt
    targets = [*hops, *((attempt.target, *filter(None, [attempt.onto])) if attempt is not None else ())]
    origin = question.origin
    named = origin.form not in BEARERS
    callers = with_groups([str(origin.whom), *hops], estate) if named else frozenset()
    involved = [*targets, *([str(origin.whom)] if named else [])]
    return Inquiry(tuple(targets), callers, origin.form is Form.CREDENTIAL, systems_by_address(involved, estate))


def _answer(estate: Estate, question: Question) -> tuple[Verdict, list[MemberAnswer]]:
    try:
        return answer_of_pool(compile_estate(estate), question)
    except Undecided as bound:
        raise NotDecided(f"not decided: {bound}", code="not-decided", remedy="ask about one member") from None


def _at_host(
    estate: Estate, question: Question, log: Path | None, certificate: Path | None
) -> tuple[list[Line], dict[str, Any]]:
    """What a host itself says of a login, as text and as JSON; nothing where it is not asked."""
    if log is None and certificate is None:
        return [], {}
    # loads cryptography, which only logins at hosts need
    from enthesis.live.at_host import told_at_host  # noqa: PLC0415
    from enthesis.output.logins import at_host_json, at_host_lines  # noqa: PLC0415

    told = told_at_host(estate, question, log, certificate)
    return list(at_host_lines(told)), at_host_json(told)


def _exit_code(verdict: Verdict) -> int:
    """The exit code of an answer that is not yes: not decided, a name that is not there, or refused."""
    if verdict.ending is Ending.UNDECIDED:
        return NotDecided.exit_code
    return 2 if VerdictStep.NAMES in verdict.refused_at and _unknown(verdict) else 1


def _unknown(verdict: Verdict) -> bool:
    """Whether a name is not there at all, rather than disabled or lapsed."""
    return any(request.step(VerdictStep.TARGET_SIDE).outcome is Outcome.UNKNOWN for request in verdict.requests)


def _of_journey(estate: Estate, name: str, around: SurroundingOptions, mfa: bool | None) -> Question:
    found = estate.journeys.get(name)
    if found is None:
        raise InvalidInput(f"unknown journey {name}", code="journey-unknown", remedy=perhaps(name, estate.journeys))
    question = question_of(found, now())
    given = context_from(around)
    said = {field: getattr(given, field) for field in given.said}
    origin = question.origin if mfa is None else replace(question.origin, mfa=mfa)
    context = replace(question.context, **said)
    return replace(question, origin=origin, context=context, time=said.get("time", question.time))


def _asked(
    estate: Estate,
    folder: Path,
    words: list[str] | None,
    who: str | None,
    through: list[str] | None,
    token: str | None,
    claims: dict[str, Any],
    mfa: bool | None,
    around: SurroundingOptions,
) -> Question:
    if token is not None:
        from enthesis.live.shown_tokens import token_origin  # noqa: PLC0415  only tokens need the libraries that it loads

        origin = token_origin(estate, folder, token, who)
    elif who is not None:
        origin = origin_from(estate, who, claims, mfa)
    else:
        raise InvalidInput("it is not said who asks", code="argument-missing", remedy=_who_could(estate, words or []))
    try:
        attempt = attempt_from(" ".join(words)) if words else None
    except InvalidAddress as fault:
        raise InvalidInput(
            str(fault), code="address-unknown", remedy="expected `VERB TARGET`, or `attach IDENTITY to RESOURCE`"
        ) from None
    context = context_from(around)
    hops = tuple(_hop(estate, address) for address in through or ())
    return Question(origin, hops, attempt, context, context.time or now())


def _who_could(estate: Estate, words: Sequence[str]) -> str:
    """How to say who asks, with some who could be meant: those who have a grant at the target or above it."""
    target = words[-1] if words else ""
    near = [grant.to for grant in estate.grants if target and contains(grant.at, target)]
    some = ", ".join(list(dict.fromkeys(near))[:3])
    more = f", such as {some}; `enthesis reach --to {word(target)}` lists who can" if some else ""
    return f"name who with --from{more}, a token with --token, or a journey by its name"


def _hop(estate: Estate, address: str) -> Hop:
    """The hop that an address names: an identity is taken on, code is run on a resource."""
    try:
        kind = parse(address, estate.catalogue).kind
    except InvalidAddress:
        kind = "identity"  # a wrong name, which refuses as such
    if kind == "identity":
        return Hop(address)
    if estate.catalogue.running_verb(kind) is None:
        raise InvalidInput(
            f"--through {address}: no code is run on {article(kind)}",
            code="hop-invalid",
            remedy="name an identity, or a host",
        )
    return Hop(on=address)


def write_remedy(folder: Path, estate: Estate, remedy: Remedy, question: Question, journey: str | None) -> list[str]:
    """Puts a remedy into the estate's files; the names of those that changed. InvalidInput where that is not exact.

    The result is read back first, and nothing is written unless it is just the estate that was asked for.
    """
    wanted = applied(estate, remedy.changes)
    edits = [edit for change in remedy.changes if (edit := change.edit()) is not None]
    after = asked(question, remedy.changes)
    if after != question:
        if journey is None:
            raise InvalidInput("this way changes the request, and nothing in the estate", code="remedy-changes-nothing")
        old = estate.journeys[journey]
        new = replace(old, origin=after.origin, through=after.through, attempt=after.attempt)
        wanted = replace(wanted, journeys={**wanted.journeys, journey: new})
        plain, before = (SECTIONS["journeys"].record.plain(journey) for journey in (new, old))
        source = old.source
        edits += [
            Replacement.at(source, (field,), plain.get(field))
            for field in ("from", "through", "attempt")
            if plain.get(field) != before.get(field)
        ]

    def as_meant(reading: Reading) -> None:
        if reading.estate is None or not says_the_same(reading.estate, wanted):
            raise InvalidInput(
                "the edited files would not mean what was intended, so nothing was written",
                code="edit-differs",
                remedy=BY_HAND,
            )

    return edit_files(folder, edits, as_meant, BY_HAND)

"""`enthesis reach`: everything that a caller can reach, and everybody who can reach a place."""

from collections.abc import Sequence
from typing import Annotated, Any

import typer

from enthesis.access.attributes import kind_name
from enthesis.access.compiling import Compiled, compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains, ChainStart
from enthesis.chains.changes import reachable_by_change, reaching_by_change
from enthesis.chains.ends import wanted_permissions
from enthesis.chains.reach import Reached, reachable, reaching
from enthesis.chains.shared_logins import shared_logins_at
from enthesis.chains.starts import asked_about, must_exist, starts_from
from enthesis.cli import completing
from enthesis.cli.arguments import (
    ClaimOption,
    MfaOption,
    NetworkOption,
    ReferenceOption,
    SurroundingOptions,
    TimeOption,
    claims_from,
    context_from,
    issued,
    now,
)
from enthesis.cli.estate_loading import read_subject
from enthesis.cli.options import EstateOption, QuietOption, ReachFormatOption, SurveyOption
from enthesis.cli.short_names import callers, meant, places
from enthesis.files.sections import CONTEXT_NAMES
from enthesis.model.addresses import contains
from enthesis.model.errors import InvalidInput, NotDecided
from enthesis.model.escapes import word
from enthesis.model.estate import Estate
from enthesis.output.lines import Line
from enthesis.output.reach import ReachAsked, from_lines, pair_lines, reached_csv, reached_json, to_lines
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.output.streams import is_about
from enthesis.output.verdicts import absent_among, absent_lines
from enthesis.surveys.unread import Inquiry, systems_by_address, with_groups
from enthesis.text.nearest import perhaps


def reach(
    named: Annotated[
        list[str] | None,
        typer.Argument(metavar="WHO [ADDRESS]", help="The caller as --from says it, and a place: can WHO get there?"),
    ] = None,
    who: Annotated[
        str | None,
        typer.Option(
            "--from",
            metavar="WHO",
            autocompletion=completing.callers,
            help="Show what this caller can reach: an identity, person, group, resource, credential or issuer.",
        ),
    ] = None,
    to: Annotated[
        str | None,
        typer.Option(
            "--to",
            metavar="ADDRESS",
            autocompletion=completing.places,
            help="Show every caller that can reach this place.",
        ),
    ] = None,
    verb: Annotated[
        list[str] | None, typer.Option("--verb", metavar="VERB", help="Only these verbs (default: all).")
    ] = None,
    hops: Annotated[
        int, typer.Option("--hops", metavar="COUNT", min=0, help="Follow at most this many hops; 0 for any number.")
    ] = 0,
    cross_account: Annotated[
        bool, typer.Option("--cross-account", help="Only show chains that cross an account boundary.")
    ] = False,
    by_change: Annotated[
        bool,
        typer.Option("--by-change", help="Also count access that a caller could give itself by first changing access."),
    ] = False,
    claim: ClaimOption = None,
    at_time: TimeOption = None,
    network: NetworkOption = None,
    reference: ReferenceOption = None,
    mfa: MfaOption = None,
    estate: EstateOption = None,
    live: SurveyOption = None,
    output: ReachFormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """List what a caller can reach (--from), or who can reach a place (--to).

    With both, or with two names, it says whether that caller can get to that place, how, and if not, what to ask next.
    Claims, networks and the like that are not given are free: a chain counts if some values allow it, and they are
    shown. Needs no live system and no rights. Exit 1 if nothing is reached, 5 if a bound on work was reached.
    """
    who, to = _named(named or [], who, to)
    if claim and who is None:
        raise InvalidInput(
            "--claim says what a caller shows, and --to asks about every caller",
            code="options-conflict",
            remedy="name the issuer with --from, or leave --claim out",
        )
    _, described, _ = read_subject(estate, live)
    who = meant(who, callers(described), quiet=quiet) if who is not None else None
    to = meant(to, places(described), quiet=quiet) if to is not None else None
    context = context_from(SurroundingOptions(at_time, network, reference))
    said: dict[str, Any] = {name: getattr(context, name) for name in CONTEXT_NAMES if name in context.said}
    said |= {"mfa": mfa} if mfa is not None else {}
    web = Web(compile_estate(described, asked_about(described, to)), (context.time or now()).timestamp())
    chains = Chains(web, said) if "time" in said else Chains.from_now_on(web, said)
    compiled = chains.compiled
    wanted = _wanted(compiled, verb)
    claims = claims_from(claim) if who is not None else {}
    if who is not None:
        if who in described.issuers:
            issued(described, who, claims)
        starts = starts_from(chains, described, who, claims)
        found = _from(chains, starts, wanted, hops, by_change=by_change)
        if to is not None:
            must_exist(compiled, to)
            found = [access for access in found if contains(to, access.target) or contains(access.target, to)]
    else:
        found = _to(chains, str(to), wanted, hops, by_change=by_change)
    is_about(_about(described, who, to, found))
    asked = ReachAsked(verb or (), hops, cross_account, by_change, {**said, **claims})

    shared = shared_logins_at(compiled, to, wanted) if to is not None and who is None and not cross_account else []

    def kind_of(address: str) -> str:
        return kind_name(compiled, address) or "place"

    if cross_account:
        found = [access for access in found if access.crossing]
    named = [place for access in found for step in access.steps for place in (step[0], step[2])]

    def facts() -> dict[str, Any]:
        return {"asked": {"from": who, "to": to}, "undecided": chains.undecided, "why": chains.why,
                  "found": [reached_json(access) for access in found],
                  "shared_logins": [{"at": one.address, "verbs": list(one.verbs)} for one in shared],
                  "not_there": absent_among(described, named)}  # fmt: skip

    def text() -> list[Line]:
        if who is not None and to is not None:
            told = pair_lines(
                who, _place_words(compiled, to), found, chains.why, asked, kind_of, _next(compiled, who, to)
            )
        elif who is not None:
            told = from_lines(who, found, chains.why, asked, kind_of)
        else:
            told = to_lines(_place_words(compiled, str(to)), found, chains.why, asked, kind_of, shared)
        return [*told, *absent_lines(described, named)]

    put_answer(output, CommandAnswer(facts, text, csv=lambda: reached_csv(found, shared)))
    if chains.undecided:
        raise typer.Exit(NotDecided.exit_code)
    if not found and not shared:
        raise typer.Exit(1)


def _named(named: Sequence[str], who: str | None, to: str | None) -> tuple[str | None, str | None]:
    """The caller and the place, named with or without an option; InvalidInput where neither is, or one is twice."""
    if len(named) > 2 or (named and who is not None) or (len(named) > 1 and to is not None):
        raise InvalidInput(
            "a caller or a place is named twice",
            code="options-conflict",
            remedy="enthesis reach WHO ADDRESS",
        )
    who = named[0] if named else who
    to = named[1] if len(named) > 1 else to
    if who is None and to is None:
        raise InvalidInput(
            "it is not said who, and not where", code="argument-missing",
            remedy="enthesis reach WHO, enthesis reach --to ADDRESS, or enthesis reach WHO ADDRESS",
        )  # fmt: skip
    return who, to


def _next(compiled: Compiled, who: str, to: str) -> str:
    """The command that says why a caller does not get to a place."""
    kind = compiled.catalogue.kinds.get(kind_name(compiled, to) or "")
    verbs = list(compiled.catalogue.verbs_of(kind.name)) if kind is not None else []
    verb = next((one for one in ("read", "take-on", "login", *verbs) if one in verbs), "VERB")
    return f"enthesis trace {verb} {word(to)} --from {word(who)}"


def _about(estate: Estate, who: str | None, to: str | None, found: Sequence[Reached]) -> Inquiry:
    """What could change the answer: another one who comes to the place, or to somebody who does; or something else that
    is open to the caller, or to whom it becomes."""
    steps = [step for access in found for step in access.steps]
    if who is None:
        places = (str(to), *(place for step in steps for place in (step[0], step[2])))
        return Inquiry(places, systems=systems_by_address(places, estate))
    return Inquiry(
        (), with_groups([who, *(step[0] for step in steps)], estate) if who not in estate.issuers else frozenset()
    )


def _place_words(compiled: Compiled, address: str) -> str:
    """A place, and that what is in it is asked about too."""
    kind = compiled.catalogue.kinds.get(kind_name(compiled, address) or "")
    return address if kind is not None and kind.leaf else f"{address} or in it"


def _wanted(compiled: Compiled, verbs: list[str] | None) -> Any:
    known = compiled.catalogue.all_verbs()
    for verb in verbs or ():
        if verb not in known:
            raise InvalidInput(f"unknown verb {verb}", code="verb-unknown", remedy=perhaps(verb, known))
    return wanted_permissions(compiled, verbs or ["*"], ())


def _from(chains: Chains, starts: list[ChainStart], wanted: Any, hops: int, *, by_change: bool) -> list[Reached]:
    found = reachable(chains, starts, wanted, hops=hops)
    if by_change:
        found += reachable_by_change(chains, starts, wanted, {(access.target, access.verb) for access in found})
    return found


def _to(chains: Chains, address: str, wanted: Any, hops: int, *, by_change: bool) -> list[Reached]:
    compiled = chains.compiled
    must_exist(compiled, address)
    found = reaching(chains, address, wanted, hops=hops)
    if by_change:
        known = {(access.chain.start.form, access.chain.start.whom, access.target, access.verb) for access in found}
        found += reaching_by_change(chains, chains.web.targets_at_or_in(address).tolist(), wanted, known)
    return found

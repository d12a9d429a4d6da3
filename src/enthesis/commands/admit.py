"""`enthesis admit`: what a trust lets in."""

from typing import TYPE_CHECKING, Annotated, Any

import typer

from enthesis.commands.asking import unverified_claims
from enthesis.commands.common import (
    EstateOption,
    Format,
    FormatOption,
    QuietOption,
    estate_folder,
    put_json,
    put_lines,
    read_estate,
    remark,
)

if TYPE_CHECKING:
    from enthesis.model.estate import Estate, Trust
    from enthesis.trusting.callers import Callers


def admit(
    what: Annotated[
        str | None, typer.Argument(metavar="[TRUST|IDENTITY]", help="A trust by its name, or all of an identity.")
    ] = None,
    token: Annotated[
        str | None, typer.Option("--token", metavar="FILE|-", help="Would this token be admitted?")
    ] = None,
    from_token: Annotated[
        str | None,
        typer.Option("--from-token", metavar="FILE|-", help="Write the tightest trust for this one; needs no estate."),
    ] = None,
    meant: Annotated[
        str | None, typer.Option("--meant", metavar="CONDITIONS", help="Compare with the claims that were meant.")
    ] = None,
    compared_with: Annotated[
        str | None,
        typer.Option("--compared-with", metavar="FOLDER|REVISION", help="Compare with another version."),
    ] = None,
    estate: EstateOption = None,
    output: FormatOption = Format.TEXT,
    quiet: QuietOption = False,
) -> None:
    """What a trust lets in: claim by claim, somebody who gets in, and who is near and does not.

    Needs no live system and no rights. Exit 1 where the token is not admitted, or more gets in than was meant.

    Example: enthesis admit build/identity/publisher
    """
    from enthesis.errors import Mistaken
    from enthesis.showing.admitting import trust_json, trust_lines
    from enthesis.showing.lines import line

    if from_token is not None:
        _sample(from_token, output, quiet=quiet)
        return
    if what is None:
        raise Mistaken("nothing is named", remedy="name a trust or an identity, or a sample with --from-token")
    folder = estate_folder(estate)
    described = read_estate(folder)
    trusts = chosen(described, what)
    well = True
    records: list[dict[str, Any]] = []
    if output is Format.TEXT:
        put_lines([line(_first_sentence(what, trusts))])
    other = _other(folder, compared_with)
    claims = unverified_claims(token) if token is not None else None
    if token is not None:
        remark("The token's signature was not checked: it is taken for what it says.", quiet=quiet)
        well = False
    wanted = _meant(meant)
    for trust in trusts:
        record, lines, good = _one(described, trust, claims, wanted, other)
        well = well or good if token is not None else well and good
        records.append({**trust_json(trust, record.pop("caller"), record.pop("near")), **record})
        if output is Format.TEXT:
            put_lines([line(), *trust_lines(trust), *lines])
    if output is Format.JSON:
        put_json({"asked": what, "well": well, "trusts": records})
    if not well:
        raise typer.Exit(1)


def _sample(source: str, output: Format, *, quiet: bool) -> None:
    """Reads a sample token and writes the tightest sensible trust for it."""
    from enthesis.judging.admitting import sample_of
    from enthesis.reading.conditions import plain_test
    from enthesis.showing.admitting import sample_lines, sample_yaml
    from enthesis.showing.verdicts import jsonable

    sample = sample_of(unverified_claims(source))
    remark("The token's signature was not checked: it is taken for what it says.", quiet=quiet)
    if output is Format.JSON:
        wider = [
            {"claim": name, "test": plain_test(test) if test is not None else None, "lets_in": lets}
            for name, test, lets in sample.wider
        ]
        claims = {name: plain_test(test) for name, test in sample.tightest}
        put_json(
            {
                "issuer": sample.issuer,
                "shows": jsonable(dict(sample.claims)),
                "claims": claims,
                "lines": sample_yaml(sample),
                "wider": wider,
            }
        )
        return
    put_lines(sample_lines(sample))


def chosen(estate: "Estate", what: str) -> "list[Trust]":
    """The trusts that a word names; Mistaken with the nearest names where it names none."""
    from enthesis.errors import Mistaken
    from enthesis.reading.shapes import nearest

    found = [trust for trust in estate.trusts if what in (trust.name, trust.of)]
    if found:
        return found
    if what in estate.identities:
        raise Mistaken(f"{what} has no trust: nobody can take it on")
    known = [*(trust.name for trust in estate.trusts if trust.name), *estate.identities]
    close = nearest(what, known)
    hint = f"perhaps {' or '.join(close)}" if close else ""
    raise Mistaken(f"no trust and no identity is called {what}", remedy=hint)


def _first_sentence(what: str, trusts: "list[Trust]") -> str:
    from enthesis.showing.lines import counted

    of = ", ".join(dict.fromkeys(trust.of for trust in trusts))
    whoever = "whoever it admits" if len(trusts) == 1 else "whoever one of them admits"
    return f"{what}: {counted(len(trusts), 'trust')}; {whoever} can take on {of}."


def _other(folder: Any, named: str | None) -> "Estate | None":
    if named is None:
        return None
    from enthesis.commands.versions import other_version

    return other_version(folder, named)


def _meant(text: str | None) -> "Callers | None":
    """The callers that were meant, from conditions as an estate writes them; Mistaken where they are none."""
    if text is None:
        return None
    from enthesis.errors import Mistaken
    from enthesis.reading.nodes import UnreadableFile, parse
    from enthesis.reading.sections import FREE_CLAIMS
    from enthesis.reading.shapes import MISSING, Notes
    from enthesis.trusting.callers import Callers

    notes = Notes("--meant")
    try:
        node, _ = parse(text.encode())
    except UnreadableFile as fault:
        raise Mistaken(f"--meant: {fault}", remedy="expected conditions such as {sub: main, aud: lowland}") from None
    read = FREE_CLAIMS.read(node, notes) if node is not None else MISSING
    if read is MISSING:
        why = notes.mistakes[0].message if notes.mistakes else "nothing is said"
        raise Mistaken(f"--meant: {why}", remedy="expected conditions such as {sub: main, aud: lowland}")
    return Callers((read,))


def _one(
    estate: "Estate",
    trust: "Trust",
    claims: dict[str, Any] | None,
    wanted: "Callers | None",
    other: "Estate | None",
) -> tuple[dict[str, Any], list[Any], bool]:
    """What is told of one trust: for a program, in lines, and whether all is well with it."""
    from enthesis.judging.admitting import beyond, callers_of, left_out, near_misses, rooms_for, somebody
    from enthesis.judging.questions import BEARERS
    from enthesis.showing.admitting import caller_json, compared_lines, near_lines
    from enthesis.trusting.callers import NOBODY

    if trust.admits.form not in BEARERS:
        return {"caller": None, "near": ()}, [], claims is None
    caller = somebody(estate, trust)
    rooms = rooms_for(estate, estate.issuers[str(trust.admits.whom)])
    near = near_misses(trust, caller, rooms) if caller is not None else []
    record: dict[str, Any] = {"caller": caller, "near": near}
    if claims is not None:
        lines, good = _token_lines(trust, claims)
        return record, lines, good
    lines, good = list(near_lines(caller, near)), True
    versions = [("what was meant", wanted)] if wanted is not None else []
    if other is not None:
        twins = [one for one in other.trusts if _key(one) == _key(trust)]
        versions.append(("before", callers_of(twins[0]) if twins else NOBODY))
    for than, callers in versions:
        more, less = beyond(estate, trust, callers), left_out(estate, trust, callers)
        record[than.replace(" ", "_")] = {"beyond": caller_json(more), "left_out": caller_json(less)}
        lines += compared_lines(more, less, than)
        good = good and (more is None or than == "before")
    return record, lines, good


def _key(trust: "Trust") -> tuple[Any, ...]:
    return (trust.name,) if trust.name is not None else (trust.of, trust.admits.form, trust.admits.whom)


def _token_lines(trust: "Trust", claims: dict[str, Any]) -> tuple[list[Any], bool]:
    """Claim by claim, why a token would be admitted or not; the token itself is never repeated."""
    from enthesis.judging.admitting import failing
    from enthesis.reading.conditions import plain_test
    from enthesis.reading.sentences import tested
    from enthesis.showing.lines import Span, line
    from enthesis.showing.verdicts import shown

    faults = failing(trust, claims)
    if not faults:
        return [line("  ", Span("admitted: its claims are as wanted", "good"))], True
    lines = [line("  ", Span("not admitted", "bad"))]
    for name, test, value, truth in faults:
        found = "is not there" if value is None else f"is {shown(value)}"
        unknown = " (of another type)" if truth is None and value is not None else ""
        lines.append(line(f"    {name} {found}{unknown}, and is to be {tested(plain_test(test))}"))
    return lines, False

"""`enthesis credential`: a keyed credential that ends, with a reason; and the keyless way instead."""

import csv
import io
import json
import os
from contextlib import suppress
from datetime import datetime, timedelta
from pathlib import Path
from typing import Annotated, Any, TextIO

import typer

from enthesis.cli.histories import signed_in
from enthesis.cli.options import EstateOption, Format, FormatOption, QuietOption, SurveyOption
from enthesis.cli.questions import by_clock_of, now
from enthesis.cli.subjects import read_estate, read_subject
from enthesis.files.editing import Addition
from enthesis.files.finding import estate_folder
from enthesis.files.nodes import is_readable
from enthesis.files.saving import write_file
from enthesis.files.shapes import duration_from, duration_text, perhaps, time_from, time_text
from enthesis.live.connecting import Given, connect
from enthesis.live.proving import provider_of
from enthesis.model.errors import EnthesisError, InvalidInput, Unreachable
from enthesis.model.escapes import word
from enthesis.model.estate import Estate, boundary_of
from enthesis.output.lines import Span, counted, csv_cell, line
from enthesis.output.streams import put_json, put_lines, remark
from enthesis.ports import Connected, Credentialed, KeepsKeys, WantedKey
from enthesis.proposals.credentials import ListedCredential, matching
from enthesis.proposals.listing import listed
from enthesis.proposals.wanted import holders
from enthesis.trusts.keyless import KeylessWay, keyless_ways

FORMS = ("access-key", "client-secret", "static-token")


def credential(
    name: Annotated[str | None, typer.Argument(metavar="NAME", help="The name of the keyed credential.")] = None,
    of: Annotated[str | None, typer.Option("--of", metavar="IDENTITY", help="The identity that it belongs to.")] = None,
    form: Annotated[str, typer.Option("--form", help=f"One of {', '.join(FORMS)}.")] = "access-key",
    because: Annotated[
        str | None, typer.Option("--because", metavar="TEXT", help="The reason why it is needed.")
    ] = None,
    lasting: Annotated[str | None, typer.Option("--for", metavar="DURATION", help="Its lifetime, e.g. 7d.")] = None,
    until: Annotated[
        str | None, typer.Option("--until", metavar="TIME", help="Its end, e.g. 2027-01-31T12:00:00Z.")
    ] = None,
    into: Annotated[
        Path | None, typer.Option("--into", metavar="FILE", help="Write its value to this new file.")
    ] = None,
    descriptor: Annotated[
        int | None,
        typer.Option("--descriptor", metavar="N", help="Write its value to this open file descriptor instead."),
    ] = None,
    anyway: Annotated[bool, typer.Option("--anyway", help="Create it although a keyless way exists.")] = False,
    at: Annotated[
        str | None,
        typer.Option(
            "--at", metavar="PROVIDER", help="The provider that keeps a person's credential, if several could."
        ),
    ] = None,
    revoke: Annotated[bool, typer.Option("--revoke", help="Revoke it: from now on it opens nothing.")] = False,
    table: Annotated[Path | None, typer.Option("--csv", metavar="FILE", help="Also write the list as CSV.")] = None,
    survey: SurveyOption = None,
    estate: EstateOption = None,
    output: FormatOption = Format.TEXT,
    quiet: QuietOption = False,
) -> None:
    """List credentials, create one that ends, or revoke one; keyless ways come first.

    Without a name all are listed: those of the files, and where a live system is reached, those it keeps, with who made
    them, why, when they end and were last used, and whether they work. With --survey, those of a survey.

    Creating one needs a name, a reason, an end (at most 30 days, or less if the estate says so) and a file for its
    value, which is written there once and never shown. Needs `issue` on the identity. Exit 1 if none was created,
    because something is missing or a keyless way exists.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    by_clock_of(described, folder)
    if revoke:
        if name is None:
            raise InvalidInput(
                "no credential is named", code="argument-missing", remedy="`enthesis credential` lists what there is"
            )
        _revoke(described, folder, name, of, at, quiet=quiet)
        return
    if name is None and of is None:
        subject = read_subject(estate, survey) if survey is not None else None
        _listed(subject.estate if subject is not None else described, folder, output, table, asked=subject is None)
        return
    if of is None:
        raise InvalidInput("it is not said whose it is", code="argument-missing", remedy="say whose with --of IDENTITY")
    if of not in described.identities:
        raise InvalidInput(f"no such identity: {of}", code="identity-unknown", remedy=perhaps(of, described.identities))
    ways = keyless_ways(described, of, now())
    bound = described.longest_key(of)
    missing = [
        option
        for option, given in (
            ("a name", name), ("a reason (--because)", because), ("an end (--for or --until)", lasting or until),
            ("a place for its value (--into or --descriptor)", into is not None or descriptor is not None),
        )
        if not given
    ]  # fmt: skip
    there = any(way.is_there for way in ways) and not anyway
    if missing or there:
        _told(of, ways, missing, bound, output)
        raise typer.Exit(1)
    ends = _end(now(), lasting, until, bound)
    made = _made(described, folder, _wanted(str(name), of, form, ends, str(because)), at, into, descriptor)
    _put_made(made, into, output, quiet=quiet)


def _wanted(name: str, of: str, form: str, ends: datetime, reason: str) -> WantedKey:
    if form not in FORMS:
        raise InvalidInput(
            f"{form} is not a form of keyed credential that can be created",
            code="form-unknown",
            remedy=f"one of {', '.join(FORMS)}",
        )
    return WantedKey(name, of, form, ends, reason)


def _end(now: datetime, lasting: str | None, until: str | None, bound: timedelta) -> datetime:
    if lasting is not None and until is not None:
        raise InvalidInput("--for and --until both say when it ends", code="options-conflict", remedy="one of them")
    if lasting is not None:
        length = duration_from(lasting)
        if length is None:
            raise InvalidInput(
                f"{lasting} is not a duration", code="duration-invalid", remedy="write it like 12h or 7d"
            )
        ends: datetime | None = now + length
    else:
        ends = time_from(until)
    if ends is None:
        raise InvalidInput(f"{until} is not a time", code="time-invalid", remedy="write it like 2026-12-01T00:00:00Z")
    if ends <= now:
        raise InvalidInput(f"{time_text(ends)} is in the past, so it would open nothing", code="end-past")
    if ends - now > bound:
        raise InvalidInput(
            f"it would live longer than {duration_text(bound)}, which is the most here",
            code="end-too-late",
            remedy=f"choose an earlier end: --until {time_text(now + bound)} or before",
        )
    return ends


# -- making ------------------------------------------------------------------------------------------------------


def _made(
    estate: Estate, folder: Path, wanted: WantedKey, at: str | None, into: Path | None, descriptor: int | None
) -> Credentialed:
    """Makes it and writes its value; the place is opened first, so that no value is made that goes nowhere."""
    place = _place(into, descriptor)
    try:
        keeper = _keeper(estate, _connected(estate, folder), wanted.of, at)
        made, secret = keeper.make_key(boundary_of(wanted.of), wanted)
    except BaseException:
        _put_away(place, into)
        raise
    held = {"id": made.id, "name": made.name, "form": made.form, "of": made.of, "expires": made.expires}
    try:
        place.write(json.dumps({**held, "value": secret.reveal()}) + "\n")
        place.close()
    except BaseException as fault:
        _put_away(place, into)
        _taken_back(keeper, wanted, made, into or f"descriptor {descriptor}", fault)
        raise
    return made


def _put_away(place: TextIO, into: Path | None) -> None:
    """Lets go of where a value was to go; what stands there is no credential."""
    with suppress(OSError, ValueError):
        place.close()
    if into is not None:
        into.unlink(missing_ok=True)


def _taken_back(keeper: KeepsKeys, wanted: WantedKey, made: Credentialed, where: object, fault: BaseException) -> None:
    """Revokes a credential whose value could not be written, since nobody has it; InvalidInput says both."""
    try:
        keeper.revoke_credential(boundary_of(wanted.of), made.id)
    except EnthesisError as why:
        raise InvalidInput(
            f"the value of {made.name} could not be written to {where}, and revoking it failed: {why.message}",
            code="value-not-written",
            remedy=f"enthesis credential {word(made.name)} --of {word(made.of)} --revoke",
        ) from None
    if isinstance(fault, OSError):
        raise InvalidInput(
            f"the value of {made.name} could not be written to {where} ({fault.strerror}), so it is revoked again",
            code="value-not-written",
            remedy="create it again, with another file for its value",
        ) from None


def _place(into: Path | None, descriptor: int | None) -> TextIO:
    if into is not None and descriptor is not None:
        raise InvalidInput(
            "--into and --descriptor both name the file for its value", code="options-conflict", remedy="one of them"
        )
    if into is not None and is_readable(into.name):
        raise InvalidInput(
            f"{into.name} could be taken for a file of an estate",
            code="file-in-estate",
            remedy="a name with another ending",
        )
    try:
        if into is not None:
            number = os.open(into, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
        elif descriptor is not None and descriptor > 2:
            number = os.dup(descriptor)
        else:
            raise InvalidInput(
                "a value is shown on no terminal",
                code="value-on-terminal",
                remedy="--descriptor 3 or above, or --into FILE",
            )
        return os.fdopen(number, "w", encoding="utf-8")
    except FileExistsError:
        raise InvalidInput(
            f"{into} is there already",
            code="file-exists",
            remedy="name a new file; existing files are never overwritten",
        ) from None
    except OSError as fault:
        raise InvalidInput(
            f"{into or descriptor} cannot be written: {fault.strerror}", code="file-unwritable"
        ) from None


def _connected(estate: Estate, folder: Path) -> Connected:
    """The live systems, changed as the person who has signed in, with that person's rights; where nobody has, as the
    administrators."""
    person = signed_in(estate, folder)
    if person is None:
        return connect(estate, folder)
    remark(f"Acting as {person.person}; `enthesis sign-out` ends that.")
    return connect(estate, folder, Given(acting=person.secret))


def _revoke(estate: Estate, folder: Path, name: str, of: str | None, at: str | None, *, quiet: bool) -> None:
    """It opens nothing from now on. What the files call otherwise is found by its fingerprint."""
    connected = _connected(estate, folder)
    every = _keys(estate, connected)
    fitting = [
        (one, where)
        for one, where in every
        if (one.name == name or ((described := matching(estate, one)) is not None and described.name == name))
        and of in (None, one.of)
        and at in (None, where)
    ]
    if not fitting:
        hint = perhaps(name, [one.name for one, _ in every])
        raise InvalidInput(
            f"no such keyed credential: {name}",
            code="credential-unknown",
            remedy=hint or "`enthesis credential` lists them",
        )
    if len(fitting) > 1:
        where = ", ".join(f"of {one.of} at {place}" for one, place in fitting)
        raise InvalidInput(
            f"several credentials are called {name}: {where}",
            code="credential-ambiguous",
            remedy="say which with --of and --at",
        )
    ((found, where),) = fitting
    _keeper(estate, connected, found.of, where).revoke_credential(boundary_of(found.of), found.id)
    remark(f"{found.name} of {found.of} has been revoked: it opens nothing from now on.", quiet=quiet)


def _keeper(estate: Estate, connected: Connected, identity: str, at: str | None) -> KeepsKeys:
    """Who makes keyed credentials for an identity; InvalidInput where none does. `at` is for people."""
    if not identity.startswith("@"):
        found: Any = provider_of(estate, identity, connected)
    else:
        there = [name for name in estate.providers_of(boundary_of(identity)) if name in connected.providers]
        if at is None and len(there) != 1:
            known = ", ".join(there) or "no connection is configured for it"
            raise InvalidInput(
                f"{identity} is known at several providers, or at none",
                code="provider-ambiguous",
                remedy=f"--at, one of: {known}",
            )
        found = connected.providers.get(at or there[0])
    if not isinstance(found, KeepsKeys):
        raise InvalidInput(f"{identity} cannot have keyed credentials there", code="credentials-not-made")
    return found


def _keys(estate: Estate, connected: Connected) -> list[tuple[Credentialed, str]]:
    return [
        (keyed, name)
        for name, provider in connected.providers.items()
        if isinstance(provider, KeepsKeys)
        for keyed in provider.keys(holders(estate, name))
    ]


# -- telling -----------------------------------------------------------------------------------------------------


def _told(of: str, ways: list[KeylessWay], missing: list[str], bound: timedelta, output: Format) -> None:
    """The keyless ways, as ready lines, and what a key would still need."""
    if output is Format.JSON:
        entries = [
            {
                "says": way.says,
                "there": way.is_there,
                "entries": [{name: entry} for name, entry in way.entries],
                "hint": way.hint or None,
            }
            for way in ways
        ]
        put_json({"made": False, "of": of, "keyless_ways": entries, "missing": missing})
        return
    there = [way for way in ways if way.is_there]
    lines = [line("No key was made: ", f"{of} has a keyless way in." if there else "prefer the keyless way.")]
    for way in there:
        lines.append(line("  ", way.says, Span(f"  {way.source}" if way.source else "", "quiet")))
    for way in ways:
        if way.hint:
            lines.append(line(f"  {way.says}: {way.hint}"))
        elif not way.is_there:
            lines.append(line(f"  {way.says}, with"))
            for section, entry in way.entries:
                lines.append(line(Span(f"    {section}:", "command")))
                lines.append(line(Span(f"      {Addition(section, '', entry).line()}", "command")))
    if not ways:
        lines.append(
            line("  nothing in the estate says where it runs: `enthesis admit --from-token` reads a run's token")
        )
    lacks = ", ".join(missing)
    needs = f"a key needs {lacks}" if missing else "with --anyway a key is made"
    lines.append(line(f"  {needs}; it lives {duration_text(bound)} at the most"))
    put_lines(lines)


def _unnamed(made: Credentialed) -> dict[str, Any]:
    return {name: value for name, value in made.as_entry().items() if name != "name"}


def _put_made(made: Credentialed, into: Path | None, output: Format, *, quiet: bool) -> None:
    if output is Format.JSON:
        put_json({"made": True, **made.as_entry()})
    else:
        where = f" in {into}" if into is not None else ""
        lines = [line(f"{made.name} opens {made.of} until {made.expires}; its value is{where or ' where you said'}.")]
        if not quiet:
            lines.append(line("  so that the estate knows of it:"))
            lines.append(line(Span("    credentials:", "command")))
            lines.append(line(Span(f"      {Addition('credentials', made.name, _unnamed(made)).line()}", "command")))
        put_lines(lines)
    remark("It is not shown, and cannot be retrieved later.", quiet=quiet)


def _listed(estate: Estate, folder: Path, output: Format, table: Path | None, *, asked: bool) -> None:
    live: list[tuple[Credentialed, str]] | None = None
    if asked:
        with suppress(Unreachable):
            live = _keys(estate, connect(estate, folder))
    every = listed(estate, live, now())
    if table is not None:
        write_file(table, _csv(every).encode())
    if output is Format.JSON:
        put_json({"live": live is not None, "credentials": [_as_json(keyed) for keyed in every]})
        return
    from_files = "" if live is not None else ", as far as the files say (no live system was asked)"
    first = f"{counted(len(every), 'keyed credential')} of identities of ours{from_files}."
    lines = [line(first if every else f"No keyed credential{from_files}.")]
    for keyed in every:
        where = f" at {keyed.at}" if keyed.at else ""
        state = Span("works", "doubt") if keyed.works else Span(keyed.why_not or "not known whether it works", "quiet")
        lines.append(line(f"  {keyed.name}", Span(f"  {keyed.form} of {keyed.of}{where}", "quiet"), "  ", state))
        made = f"made {keyed.created or 'at an unknown time'}{f' by {keyed.made_by}' if keyed.made_by else ''}"
        ends = f"until {keyed.expires}" if keyed.expires else "without an end"
        used = f"last used {keyed.last_used}" if keyed.last_used else "never used, as far as is known"
        lines.append(line(f"    {made}, {ends}, {used}"))
        held = f"; held in {', '.join(keyed.held_in)}" if keyed.held_in else ""
        lines.append(
            line(
                f"    because {keyed.because or 'no reason is known'}{held}",
                Span(f"  {keyed.source}", "quiet"),
            )
        )
        if not keyed.source:
            lines.append(line("    not in the estate's files"))
    put_lines(lines)


COLUMNS = (
    "name", "of", "form", "at", "works", "why not", "made", "made by", "last used", "ends", "held in", "because",
    "fingerprint", "described at",
)  # fmt: skip


def _csv(every: list[ListedCredential]) -> str:
    """A row for each credential (RFC 4180), which a spreadsheet takes for no formula."""
    out = io.StringIO()
    rows = csv.writer(out)
    rows.writerow(COLUMNS)
    for keyed in every:
        works = "unknown" if keyed.works is None else "yes" if keyed.works else "no"
        cells = (
            keyed.name, keyed.of, keyed.form, keyed.at, works, keyed.why_not, keyed.created or "",
            keyed.made_by, keyed.last_used or "",
            keyed.expires or "", " ".join(keyed.held_in), keyed.because, keyed.fingerprint or "", keyed.source,
        )  # fmt: skip
        rows.writerow(map(csv_cell, cells))
    return out.getvalue()


def _as_json(keyed: ListedCredential) -> dict[str, Any]:
    """One credential for a program; what is not known is left out."""
    said = {"name": keyed.name, "of": keyed.of, "form": keyed.form, "at": keyed.at, "fingerprint": keyed.fingerprint,
            "created": keyed.created, "made_by": keyed.made_by, "expires": keyed.expires, "last_used": keyed.last_used,
            "because": keyed.because, "held_in": list(keyed.held_in), "why_not": keyed.why_not}  # fmt: skip
    known = {name: value for name, value in said.items() if value}
    return {
        **known,
        "works": keyed.works,
        "disabled": keyed.why_not == "disabled",
        "described_at": keyed.source or None,
    }

"""`enthesis handoff`: the other party's half of a crossing, given out and taken in."""

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from enthesis.chains.differences import difference
from enthesis.cli import handoff_life
from enthesis.cli.handoff_life import write_document
from enthesis.cli.histories import StoreOption, journal_at, keep_if_any
from enthesis.cli.options import EstateOption, QuietOption, ReviewFormat
from enthesis.cli.questions import now
from enthesis.cli.subjects import read_estate
from enthesis.files.editing import Addition, edited
from enthesis.files.finding import estate_folder
from enthesis.files.folder import estate_texts, read_texts
from enthesis.files.saving import document_in, edit_files, read_file
from enthesis.files.shapes import perhaps
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.output.differences import difference_json, difference_lines, difference_markdown
from enthesis.output.handoffs import handoff_lines, handoff_markdown, handoff_sentence
from enthesis.output.lines import Span, counted, json_text, line
from enthesis.output.proposals import danger_lines
from enthesis.output.streams import put_json, put_lines, put_text, remark
from enthesis.proposals.dangers import outside_gains
from enthesis.proposals.handoff_life import HandoffSays
from enthesis.proposals.handoffs import Handoff, Priority, additions, end_of, handoff_from
from enthesis.proposals.handoffs import handoff as made_for

MAX_DOCUMENT = 4 * 1024 * 1024  # bytes


def handoff(
    party: Annotated[
        str | None,
        typer.Argument(metavar="PARTY", help="An @organisation or an account of others (default: the only one)."),
    ] = None,
    by: Annotated[
        str | None, typer.Option("--by", metavar="DATE", help="The day by which it is needed, e.g. 2027-02-01.")
    ] = None,
    out: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="Write the document to FILE as JSON.")
    ] = None,
    sign: Annotated[
        Path | None, typer.Option("--sign", metavar="KEY", help="Sign what --out writes with this Ed25519 key.")
    ] = None,
    received: Annotated[
        Path | None,
        typer.Option("--received", metavar="FILE", help="Show what another party's document would do here."),
    ] = None,
    key: Annotated[
        Path | None,
        typer.Option("--key", metavar="FILE", help="With --received: verify the document with this public key."),
    ] = None,
    window: Annotated[
        str | None, typer.Option("--window", metavar="TEXT", help="When the change may be made, in words.")
    ] = None,
    priority: Annotated[Priority | None, typer.Option("--priority", help="How soon it is wanted.")] = None,
    answers: Annotated[
        HandoffSays | None,
        typer.Option("--answer", help="With --received and --out: answer another party's document."),
    ] = None,
    because: Annotated[str, typer.Option("--because", metavar="TEXT", help="With --answer: the reason.")] = "",
    taken: Annotated[
        Path | None, typer.Option("--take", metavar="FILE", help="Take back another party's answer to one of ours.")
    ] = None,
    list_them: Annotated[
        bool, typer.Option("--list", help="Say where everything stands that others were asked for.")
    ] = False,
    ask: Annotated[
        bool, typer.Option("--ask", help="With --list: look at the live systems for what is in place.")
    ] = False,
    write: Annotated[
        bool, typer.Option("--write", help="With --received: write what it asks for into this estate's files.")
    ] = False,
    estate: EstateOption = None,
    output: Annotated[ReviewFormat, typer.Option("--format", help="The format of the answer.")] = ReviewFormat.TEXT,
    quiet: QuietOption = False,
    store: StoreOption = None,
) -> None:
    """Write down what another party must do for a crossing, or take in what they ask of us.

    Contacts no live system. The document says what is asked, why, exactly which statements, what is not asked, and how
    to check it; it can be used without Enthesis.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    if list_them or ask:
        given = any(one is not None for one in (party, by, out, sign, received, taken)) or not list_them
        _list(folder, described, store, output, given=given, ask=ask, quiet=quiet)
        return
    if taken is not None:
        handoff_life.take(folder, described, taken, key, store, quiet=quiet)
        return
    if answers is not None:
        _answer(received, key, answers, because, out, sign, quiet=quiet)
        return
    if received is not None:
        if party is not None or out is not None or sign is not None or by is not None:
            raise InvalidInput(
                "--received takes a document in", code="options-conflict", remedy="leave the other options out"
            )
        _take_in(folder, described, received, key, output, write=write, quiet=quiet)
        return
    if write or key is not None or (sign is not None and out is None):
        raise InvalidInput(
            "--write and --key belong to --received, and --sign to --out",
            code="options-conflict",
            remedy="add --received FILE, or --out FILE",
        )
    try:
        wanted_by = end_of(by)
    except ValueError as fault:
        raise InvalidInput(f"--by {fault}", code="time-invalid", remedy="write it like 2027-02-01") from None
    made = made_for(described, _party(described, party), now(), wanted_by)
    made = replace(made, window=window or "", priority=priority.value if priority is not None else "")
    if out is not None:
        write_document(out, made.as_json(), sign)
        _keep(folder, store, described.name, made)
    _put(made, output, quiet=quiet and out is not None)
    if out is not None:
        remark(f"Written to {out}{', signed' if sign is not None else ''}.", quiet=quiet)
    if made.impossible:
        raise typer.Exit(1)


def _put(made: Handoff, output: ReviewFormat, *, quiet: bool) -> None:
    if output is ReviewFormat.JSON:
        put_json(made.as_json())
    elif output is ReviewFormat.MARKDOWN:
        put_text("\n".join(handoff_markdown(made)) + "\n")
    elif not quiet:
        put_lines(handoff_lines(made))


def _list(
    folder: Path, described: Estate, store: str | None, output: ReviewFormat, *, given: bool, ask: bool, quiet: bool
) -> None:
    if given:
        raise InvalidInput(
            "--list stands alone, or with --ask", code="options-conflict", remedy="leave the other options out"
        )
    handoff_life.list_all(folder, described, store, output, ask=ask, quiet=quiet)


def _answer(
    received: Path | None, key: Path | None, says: HandoffSays, because: str, out: Path | None, sign: Path | None,
    *, quiet: bool,
) -> None:  # fmt: skip
    if received is None or out is None:
        raise InvalidInput(
            "--answer says which document is answered, and where to",
            code="argument-missing",
            remedy="add --received FILE and --out FILE",
        )
    handoff_life.answer(_read(received, key)[0], says.value, because, out, sign, quiet=quiet)


def _party(described: Estate, named: str | None) -> str:
    """The party that is meant; the only one where none is named."""
    outside = [f"@{name}" for name, one in described.organisations.items() if one.outside]
    accounts = [
        name
        for name in described.accounts
        if described.administered_by_others(name) and f"@{described.organisation_of(name)}" not in outside
    ]
    known = [*outside, *accounts]
    if named is None and len(known) == 1:
        return known[0]
    if named is None:
        raise InvalidInput(
            "no party is named" if known else f"{described.name} knows no other party",
            code="party-unknown",
            remedy=f"one of {', '.join(known)}" if known else "mark its organisation as `outside: true`",
        )
    own = [name for name in described.accounts if described.administered_by_others(name)]
    meant = named if named in (*known, *own) else f"@{named}"
    if meant not in (*known, *own):
        raise InvalidInput(
            f"{named}: no such organisation or account of others",
            code="party-unknown",
            remedy=perhaps(named, [*known, *own], f"one of {', '.join(known)}"),
        )
    return meant


def _keep(folder: Path, store: str | None, estate: str, made: Handoff) -> None:
    """Keeps what was asked for: always where it is wanted by a day, of which the calendar tells."""
    content = json_text(made.as_json()).encode()
    if not made.by:
        keep_if_any(folder, store, estate, "handoff", content)
        return
    journal = journal_at(folder, store)
    try:
        journal.keep("handoff", estate, content)
    finally:
        journal.close()


def _take_in(
    folder: Path, described: Estate, received: Path, key: Path | None, output: ReviewFormat, *, write: bool, quiet: bool
) -> None:
    """Shows what a document would do to effective access here, and writes it into the files."""
    taken, checked = _read(received, key)
    try:
        found = additions(described, taken)
    except ValueError as fault:
        raise InvalidInput(f"{received}: {fault}", code="handoff-invalid") from None
    texts = estate_texts(folder)
    after = read_texts(edited(texts, found)).estate if found else described
    if after is None:
        first = read_texts(edited(texts, found)).errors[0]
        raise InvalidInput(f"{received}: this estate would be invalid with it: {first.message}", code="handoff-invalid")
    change = difference(described, after, now().timestamp())
    files = edit_files(folder, found, lambda reading: None) if write and found else []
    if output is ReviewFormat.JSON:
        entries = [{"section": addition.section, "name": addition.name, "entry": addition.entry} for addition in found]
        more = {"verified": checked, "adds": entries, "written_to": files, "access": difference_json(change)}
        put_json({**taken.as_json(), **more})
        return
    if output is ReviewFormat.MARKDOWN:
        put_text("\n".join([*handoff_markdown(taken), "", *difference_markdown(change)]) + "\n")
    else:
        put_lines([*_received_lines(taken, found, checked=checked), *difference_lines(change)])
        put_lines(danger_lines(outside_gains(after, change)))
    said = f"Written to {', '.join(files)}; enthesis propose shows what is to be enacted." if files else ""
    said = said or ("Add --write to write it into this estate's files." if found and not write else "")
    if said:
        remark(said, quiet=quiet)


def _received_lines(taken: Handoff, found: list[Addition], *, checked: bool) -> list[list[Span]]:
    sentence = handoff_sentence(taken)
    unverified = Span("not verified: no --key was given, or it is not signed", "doubt")
    lines = [
        line(Span(sentence, "strong")),
        line(f"  reference {taken.reference}, ", Span("signature verified", "good") if checked else unverified),
        line(Span("asked of us", "strong")),
        *(
            line(f"  in {request.account}: {request.sentence}{'; ' + request.why if request.why else ''}")
            for request in taken.asked
        ),
    ]
    if not found:
        return [*lines, line(Span("This estate already contains all of it.", "good"))]
    lines.append(line(f"This adds {counted(len(found), 'entry', 'entries')} to this estate:"))
    return [*lines, *(line(f"  {addition.section}  ", addition.line()) for addition in found)]


def _read(received: Path, key: Path | None) -> tuple[Handoff, bool]:
    """The handoff in a file, and whether its signature was verified."""
    from enthesis.live.signing import opened  # noqa: PLC0415  loads the libraries of tokens

    document = opened(read_file(received, MAX_DOCUMENT), key, str(received))
    try:
        return handoff_from(document_in(document)), key is not None
    except (ValueError, RecursionError) as fault:
        raise InvalidInput(f"{received}: {fault}", code="handoff-invalid") from None

"""`enthesis credential create`: a keyed credential that ends, with a reason; and the keyless way instead."""

from datetime import datetime, timedelta
from pathlib import Path
from typing import Annotated

import typer

from enthesis.change.keys import make_key
from enthesis.change.preparing import live_side
from enthesis.cli.arguments import by_clock_of, now
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import EstateOption, FormatOption, QuietOption
from enthesis.files.finding import estate_folder
from enthesis.live.connecting import Given
from enthesis.model.errors import InvalidInput
from enthesis.output.credentials import keyless_json, keyless_lines, made_lines
from enthesis.output.progress import reporter
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.output.streams import remark
from enthesis.ports import WantedKey
from enthesis.text.nearest import perhaps
from enthesis.text.times import duration_from, duration_text, time_from, time_text
from enthesis.trusts.keyless import keyless_ways

FORMS = ("access-key", "client-secret", "static-token")


def create(
    name: Annotated[str | None, typer.Argument(metavar="NAME", help="The name of the keyed credential.")] = None,
    of: Annotated[str | None, typer.Option("--of", metavar="IDENTITY", help="The identity that it belongs to.")] = None,
    form: Annotated[str, typer.Option("--form", metavar="FORM", help=f"One of {', '.join(FORMS)}.")] = "access-key",
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
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Create a keyed credential that ends; keyless ways come first.

    It needs a name, whose it is, a reason, an end (at most 30 days, or less if the estate says so) and a file for its
    value, which is written there once and never shown. Needs `issue` on the identity. Exit 1 if none was created,
    because something is missing or a keyless way exists.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    by_clock_of(described, folder)
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
    if missing or (any(way.is_there for way in ways) and not anyway):
        put_answer(
            output,
            CommandAnswer(lambda: keyless_json(of, ways, missing), lambda: keyless_lines(of, ways, missing, bound)),
        )
        raise typer.Exit(1)
    ends = _end(now(), lasting, until, bound)
    wanted = _wanted(str(name), of, form, ends, str(because))
    live = live_side(described, folder, Given(), reporter(quiet=quiet), now, acts=True)
    remark(f"Acting as {live.by}; `enthesis sign-out` ends that.", quiet=not live.by)
    made = make_key(described, live.connected, wanted, at, into, descriptor)
    put_answer(
        output, CommandAnswer(lambda: {"made": True, **made.as_entry()}, lambda: made_lines(made, into, quiet=quiet))
    )
    remark("It is not shown, and cannot be retrieved later.", quiet=quiet)


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

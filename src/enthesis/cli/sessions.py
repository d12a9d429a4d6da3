"""`enthesis sessions`: who has a session now, from which origin, until when."""

from typing import Annotated

import typer

from enthesis.change.cutoff import kept_at
from enthesis.cli.arguments import by_clock_of, now
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import EstateOption, FormatOption, QuietOption
from enthesis.files.finding import estate_folder
from enthesis.live.connecting import connect
from enthesis.output.cutoff import session_json, session_lines
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.ports import Credentialed
from enthesis.proposals.credentials import OpenSession, with_names


def sessions(
    who: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="WHO", help="Only sessions of these identities or keys, or that began at them (default: all)."
        ),
    ] = None,
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """List the sessions that are open at live systems: whose, from which origin, until when.

    Needs an administrators' session for each account. `enthesis cutoff SESSION --yes` ends one.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    by_clock_of(described, folder)
    connected = connect(described, folder)
    kept = [kept_step.one for kept_step in kept_at(described, connected)]
    keys = [one for one in kept if isinstance(one, Credentialed)]
    found = [
        session
        for session in with_names((one for one in kept if isinstance(one, OpenSession)), keys)
        if not who or {session.of, *map(str, session.origin.values()), *session.via} & set(who)
    ]
    found.sort(key=lambda session: (session.ends, session.id), reverse=True)
    put_answer(
        output,
        CommandAnswer(
            lambda: {
                "estate": described.name,
                "spoke_to": connected.spoke_to,
                "sessions": list(map(session_json, found)),
            },
            lambda: session_lines(found, now()),
        ),
        beside=f"Asked at {connected.spoke_to}.",
        quiet=quiet,
    )

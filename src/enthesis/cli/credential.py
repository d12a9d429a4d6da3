"""`enthesis credential`: the keyed credentials there are."""

from contextlib import suppress
from pathlib import Path
from typing import Annotated

import typer

from enthesis.change.keys import keys_kept
from enthesis.cli.arguments import by_clock_of, now
from enthesis.cli.estate_loading import read_estate, read_subject
from enthesis.cli.examples import EXAMPLES
from enthesis.cli.lazy import ListedCommand, group
from enthesis.cli.options import EstateOption, FormatOption, SurveyOption
from enthesis.files.finding import estate_folder
from enthesis.files.saving import write_file
from enthesis.live.connecting import connect
from enthesis.model.errors import Unreachable
from enthesis.output.credentials import credential_json, credential_lines, credentials_csv
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.ports import Credentialed
from enthesis.proposals.listing import listed

COMMANDS = {
    "create": ListedCommand(
        "credential_create:create", "Create a keyed credential that ends; keyless ways come first."
    ),
    "revoke": ListedCommand("credential_revoke:revoke", "Revoke a keyed credential: from now on it opens nothing."),
    "retire": ListedCommand(
        "retire:retire", "Take keyed credentials to keyless, stage by stage, and show where each one stands."
    ),
}


def credential(
    table: Annotated[Path | None, typer.Option("--csv", metavar="FILE", help="Also write the list as CSV.")] = None,
    survey: SurveyOption = None,
    estate: EstateOption = None,
    output: FormatOption = TEXT,
) -> None:
    """List keyed credentials: of the files, and of the live systems where they are reached.

    Of each it says who made it, why, when it ends and was last used, and whether it works. With --survey, those of a
    survey are listed.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    by_clock_of(described, folder)
    live: list[tuple[Credentialed, str]] | None = None
    if survey is not None:
        described = read_subject(estate, survey).estate
    else:
        with suppress(Unreachable):
            live = keys_kept(described, connect(described, folder))
    every = listed(described, live, now())
    if table is not None:
        write_file(table, credentials_csv(every).encode())
    put_answer(
        output,
        CommandAnswer(
            lambda: {"live": live is not None, "credentials": [credential_json(keyed) for keyed in every]},
            lambda: credential_lines(every, asked=live is not None),
        ),
    )


app = group("credential", COMMANDS, EXAMPLES, credential)

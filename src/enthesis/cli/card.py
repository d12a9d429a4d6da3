"""`enthesis card`: one page on an identity, resource, group or role."""

from typing import Annotated

import typer

from enthesis.access.compiling import compile_estate
from enthesis.access.future_members import NOBODY
from enthesis.chains.access_graph import Web
from enthesis.chains.cards import card as made
from enthesis.cli import completing
from enthesis.cli.arguments import now
from enthesis.cli.estate_loading import read_subject
from enthesis.cli.options import EstateOption, FormatOption, QuietOption, SurveyOption
from enthesis.cli.short_names import meant, places
from enthesis.model.errors import InvalidInput
from enthesis.output.cards import card_json, card_lines
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.text.nearest import perhaps


def card(
    name: Annotated[
        str,
        typer.Argument(
            metavar="ADDRESS", autocompletion=completing.places, help="An address, or the name of a role or credential."
        ),
    ],
    estate: EstateOption = None,
    live: SurveyOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Show one identity, resource, group or role on a page.

    Needs no live system and no rights.
    """
    _, described, survey = read_subject(estate, live)
    name = meant(name, [*places(described), *described.roles, *described.credentials], quiet=quiet)
    compiled = compile_estate(described)
    instant = now()
    dangling = [finding.why for finding in survey.findings if finding.what == "dangling"] if survey is not None else []
    found = made(Web(compiled, instant.timestamp(), NOBODY), name, instant, dangling)
    if found is None:
        known = [*compiled.places.names, *described.roles, *described.credentials, *described.pipeline_access]
        known += [ceiling.name for ceiling in described.ceilings]
        raise InvalidInput(
            f"no such address, role or credential: {name}", code="card-unknown", remedy=perhaps(name, known)
        )
    put_answer(output, CommandAnswer(lambda: card_json(found), lambda: card_lines(found)))

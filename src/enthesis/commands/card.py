"""`enthesis card`: one page on an identity, resource, group or role."""

from typing import Annotated

import typer

from enthesis.commands.common import (
    EstateOption,
    Format,
    FormatOption,
    LiveOption,
    QuietOption,
    perhaps,
    put_json,
    put_lines,
    read_live,
    read_subject,
    subject_of,
)


def card(
    name: Annotated[str, typer.Argument(metavar="ADDRESS", help="An address, or the name of a role or credential.")],
    estate: EstateOption = None,
    live: LiveOption = None,
    output: FormatOption = Format.TEXT,
    quiet: QuietOption = False,
) -> None:
    """One page: what it is, who can take it on, what it may do and where, its credentials, what refers to it.

    Needs no live system and no rights.

    Example: enthesis card bulletin/identity/page-writer
    """
    from enthesis.commands.asking import now
    from enthesis.errors import Mistaken
    from enthesis.judging.coming import NOBODY
    from enthesis.judging.compiling import compile_estate
    from enthesis.reaching.cards import card as made
    from enthesis.reaching.web import Web
    from enthesis.showing.cards import card_json, card_lines

    del quiet
    survey = read_live(live) if live is not None else None
    _, described = subject_of(estate, live, survey) if live is not None and survey else read_subject(estate, None)
    compiled = compile_estate(described)
    instant = now()
    dangling = [one.why for one in survey.findings if one.what == "dangling"] if survey is not None else []
    found = made(Web(compiled, instant.timestamp(), NOBODY), name, instant, dangling)
    if found is None:
        known = [*compiled.places.names, *described.roles, *described.credentials, *described.lodged]
        raise Mistaken(f"no such address, role or credential: {name}", remedy=perhaps(name, known))
    if output is Format.JSON:
        put_json(card_json(found))
    else:
        put_lines(card_lines(found))

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
    read_subject,
)


def card(
    name: Annotated[str, typer.Argument(metavar="ADDRESS", help="An address, or the name of a role.")],
    estate: EstateOption = None,
    live: LiveOption = None,
    output: FormatOption = Format.TEXT,
    quiet: QuietOption = False,
) -> None:
    """One page: what it is, who comes to it, what it may do and where, its credentials, who speaks of it.

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
    _, described = read_subject(estate, live)
    compiled = compile_estate(described)
    instant = now()
    found = made(Web(compiled, instant.timestamp(), NOBODY), name, instant)
    if found is None:
        raise Mistaken(f"nothing is called {name}", remedy=perhaps(name, [*compiled.places.names, *described.roles]))
    if output is Format.JSON:
        put_json(card_json(found))
    else:
        put_lines(card_lines(found))

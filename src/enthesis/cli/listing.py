"""`enthesis list`: what there is."""

from pathlib import Path
from typing import Annotated

import typer

from enthesis.access.compiling import compile_estate
from enthesis.chains.inventories import LISTS, Narrowing, inventory
from enthesis.cli.arguments import now
from enthesis.cli.estate_loading import read_asked, read_live
from enthesis.cli.options import AskOption, EstateOption, QuietOption, ReachFormatOption, SurveyOption
from enthesis.cli.short_names import meant, places
from enthesis.model.errors import InvalidInput
from enthesis.output.inventories import inventory_csv, inventory_json, inventory_lines
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.text.nearest import perhaps

ONE_OF = f"one of {', '.join(LISTS)}"


def list_them(
    what: Annotated[str, typer.Argument(metavar="WHAT", help=f"One of {', '.join(LISTS)}.")] = "identities",
    at: Annotated[str | None, typer.Option("--at", metavar="PLACE", help="Only what is there or in it.")] = None,
    kind: Annotated[str | None, typer.Option("--kind", metavar="KIND", help="Only those of this kind.")] = None,
    owner: Annotated[str | None, typer.Option("--owner", metavar="NAME", help="Only those of this owner.")] = None,
    label: Annotated[
        list[str] | None, typer.Option("--label", metavar="NAME=VALUE", help="Only those with this label.")
    ] = None,
    new_since: Annotated[
        Path | None, typer.Option("--new-since", metavar="SURVEY", help="Only those that this survey has not.")
    ] = None,
    estate: EstateOption = None,
    live: SurveyOption = None,
    ask: AskOption = False,
    output: ReachFormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """List what there is: identities, people, places, groups, roles, grants, trusts, ceilings, keyed credentials,
    accounts.

    Of an identity: its owner, who can become it (with and without a second factor), where it runs, its keys, when the
    next one ends and when one was last used. As the files say, as a survey found (--survey), or as it is now (--ask).
    """
    if what not in LISTS:
        raise InvalidInput(
            f"unknown list {what}",
            code="list-unknown",
            remedy=perhaps(what, LISTS, ONE_OF),
        )
    described = read_asked(estate, live, ask=ask, quiet=quiet).estate
    at = meant(at, [*places(described), *described.organisations], quiet=quiet) if at is not None else ""
    compiled, instant = compile_estate(described), now()
    known: frozenset[str] = frozenset()
    if new_since is not None:
        before = compile_estate(read_live(new_since, described).estate)
        known = frozenset(entry.name for entry in inventory(before, what, instant, Narrowing()))
    narrowing = Narrowing(at, kind or "", owner or "", _labels(label or []), known)
    found = inventory(compiled, what, instant, narrowing)
    told = {"at": at, "of kind": kind, "owned by": owner, "with": " and ".join(label or ()), "new since": new_since}
    narrowed = "".join(f" {words} {value}" for words, value in told.items() if value)
    put_answer(
        output,
        CommandAnswer(
            lambda: inventory_json(described.name, what, found),
            lambda: inventory_lines(described.name, what, found, narrowed),
            csv=lambda: inventory_csv(found),
        ),
    )


def _labels(pairs: list[str]) -> dict[str, str]:
    out = {}
    for pair in pairs:
        name, equals, value = pair.partition("=")
        if not equals or not name:
            raise InvalidInput(f"--label {pair}: not a label", code="option-invalid", remedy="expected NAME=VALUE")
        out[name] = value
    return out

"""`enthesis connections`: how live systems are reached, and whether they are."""

import typer

from enthesis.cli.estate_loading import read_estate
from enthesis.cli.examples import EXAMPLES
from enthesis.cli.lazy import ListedCommand, group
from enthesis.cli.options import EstateOption, FormatOption, QuietOption
from enthesis.files.finding import estate_folder
from enthesis.live.connections import connections_file
from enthesis.live.trying_connections import TriedConnection, reached_by, tried_connections
from enthesis.output.lines import Line, Span, line
from enthesis.output.progress import reporter
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer

COMMANDS = {"try": ListedCommand("connections:try_them", "Try each connection, and say what we may do there.")}


def connections(estate: EstateOption = None, output: FormatOption = TEXT, quiet: QuietOption = False) -> None:
    """List how the live systems of the estate are reached.

    They stand in one file of yours (connections.yaml in the folder of your settings, or the file that
    ENTHESIS_CONNECTIONS names), by the names of the estate, with no secret in it: it says which file, variable or
    command holds one. Where a lab runs, its systems are listed.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    by = reached_by(described, folder)
    facts = {"estate": described.name, "file": str(connections_file()), "connections": by}
    width = max(map(len, by), default=0)
    first = f"{described.name}: {len(by)} connection{'s' if len(by) != 1 else ''}."
    lines = [line(Span(first, "strong")), *(line(f"  {name.ljust(width)}  {how}") for name, how in by.items())]
    beside = f"`enthesis connections try` tries them. The file: {connections_file()}"
    put_answer(output, CommandAnswer(lambda: facts, lambda: lines), beside=beside, quiet=quiet)


def try_them(estate: EstateOption = None, output: FormatOption = TEXT, quiet: QuietOption = False) -> None:
    """Try each connection, and say what we may do there.

    Changes nothing. Exit 1 where one does not work.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    by = reached_by(described, folder)
    found = list(tried_connections(described, folder, reporter(quiet=quiet)))
    working = sum(one.works for one in found)
    says = f"{described.name}: {working} of {len(found)} connections work."
    put_answer(
        output,
        CommandAnswer(
            lambda: {
                "estate": described.name,
                "says": says,
                "connections": [
                    {
                        "name": one.name,
                        "by": by[one.name],
                        "works": one.works,
                        "may": list(one.may),
                        "lacks": list(one.lacks),
                        "why": one.why or None,
                    }
                    for one in found
                ],
            },
            lambda: [line(Span(says, "strong")), *(_told(one, max(map(len, by))) for one in found)],
        ),
    )
    if working < len(found) or not found:
        raise typer.Exit(1)


def _told(one: TriedConnection, width: int) -> Line:
    said = "; ".join(filter(None, (*one.may, *(f"lacks: {lack}" for lack in one.lacks), one.why)))
    ending = Span("works", "good") if one.works else Span("fails", "bad")
    return line(f"  {one.name.ljust(width)}  ", ending, f"  {said}")


app = group("connections", COMMANDS, EXAMPLES, connections)

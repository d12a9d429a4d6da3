"""The program: its commands, and how errors become messages and exit codes."""

import sys
from itertools import pairwise
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis import __version__
from enthesis.commands import lab
from enthesis.commands.admit import admit
from enthesis.commands.card import card
from enthesis.commands.check import check
from enthesis.commands.common import put_json, put_lines
from enthesis.commands.demo import demo
from enthesis.commands.enact import enact
from enthesis.commands.key import key
from enthesis.commands.lend import lend
from enthesis.commands.propose import propose
from enthesis.commands.prove import prove
from enthesis.commands.reach import reach
from enthesis.commands.start import start
from enthesis.commands.survey import survey
from enthesis.commands.trace import trace
from enthesis.commands.whoami import whoami

if TYPE_CHECKING:
    from enthesis.errors import EnthesisError

app = typer.Typer(
    name="enthesis",
    help="Describe the access you mean; Enthesis makes it so, explains it, and proves it without long-lived keys.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
)
app.command(rich_help_panel="Begin")(demo)
app.command(rich_help_panel="Begin")(start)
app.command(rich_help_panel="Describe")(check)
app.command(rich_help_panel="Describe")(card)
app.command(rich_help_panel="Ask")(trace)
app.command(rich_help_panel="Ask")(reach)
app.command(rich_help_panel="Ask")(admit)
app.command(rich_help_panel="Change")(survey)
app.command(rich_help_panel="Change")(propose)
app.command(rich_help_panel="Change")(enact)
app.command(rich_help_panel="Prove")(prove)
app.command(rich_help_panel="Prove")(lend)
app.command(rich_help_panel="Prove")(whoami)
app.command(rich_help_panel="Prove")(key)
app.add_typer(lab.app, name="lab", rich_help_panel="Lab")


def _version(wanted: bool) -> None:
    if wanted:
        sys.stdout.write(f"enthesis {__version__}\n")
        raise typer.Exit


@app.callback()
def about(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Show the version.")
    ] = False,
) -> None:
    """Describe the access you mean; Enthesis makes it so, explains it, and proves it without long-lived keys.

    Exit codes: 0 as asked; 1 the answer is no; 2 the request or the estate is mistaken; 3 a live system could not be
    reached or refused us; 4 stopped part-way, run again to go on.
    """


def run() -> None:
    """Runs the program; the one place where an error becomes an exit."""
    from enthesis.errors import EnthesisError, NotDecided
    from enthesis.model.bounds import Undecided

    try:
        try:
            app()
        except Undecided as bound:
            raise NotDecided(f"not decided, because of {bound}", remedy="ask about less at once") from None
    except EnthesisError as fault:
        _put_error(fault)
        sys.exit(fault.exit_code)
    except BrokenPipeError:
        sys.stderr.close()  # whoever read our output has gone
        sys.exit(1)


def _put_error(fault: "EnthesisError") -> None:
    from enthesis.errors import EstateMistaken
    from enthesis.showing.lines import Span, line
    from enthesis.showing.mistakes import mistake_json, mistake_lines

    mistakes = fault.mistakes if isinstance(fault, EstateMistaken) else ()
    if _json_wanted():
        error = {"code": fault.code, "message": fault.message, "remedy": fault.remedy}
        put_json({"error": {**error, "mistakes": [mistake_json(mistake) for mistake in mistakes]}})
        return
    if mistakes:
        put_lines(mistake_lines(mistakes), to_error=True)
        return
    put_lines([line(Span(fault.message[:1].upper() + fault.message[1:], "bad"), ".")], to_error=True)
    if fault.remedy:
        put_lines([line("  ", fault.remedy)], to_error=True)


def _json_wanted() -> bool:
    words = sys.argv[1:]
    return "--format=json" in words or ("--format", "json") in pairwise(words)

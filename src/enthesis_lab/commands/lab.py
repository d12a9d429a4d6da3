"""`enthesis lab`: starts, stops and tunes the stand-ins."""

import typer

from enthesis.cli.examples import EXAMPLES
from enthesis.cli.lazy import ListedCommand, lazy_group

HERE = "enthesis_lab.commands"
COMMANDS = {
    "start": ListedCommand(f"{HERE}.control:start", "Start the lab of an estate; returns when it is ready."),
    "stop": ListedCommand(
        f"{HERE}.control:stop", "Stop the lab of an estate; its state stays unless --clean is given."
    ),
    "join": ListedCommand(
        f"{HERE}.control:join",
        "Speak to the lab of another estate, as two parties with a folder each do.",
    ),
    "status": ListedCommand(
        f"{HERE}.control:status", "Say whether a lab runs, and at which addresses; exit 1 if none does."
    ),
    "clock": ListedCommand(
        f"{HERE}.control:clock",
        "Show how far the lab's clock is ahead, or move it forward to try expiry without waiting.",
    ),
    "rotate": ListedCommand(
        f"{HERE}.control:rotate",
        "Give a service of the lab new signing keys; tokens signed with the old ones stay valid.",
    ),
    "fault": ListedCommand(
        f"{HERE}.faults:fault",
        "Make the lab's services late, slow, limited or failing, as real ones are at times; or end that.",
    ),
    "use": ListedCommand(
        f"{HERE}.use:use",
        "Generate a long record of plausible use in the lab.",
    ),
    "add": ListedCommand(f"{HERE}.actions:add", "Create resources directly at the lab's clouds, bypassing Enthesis."),
    "remove": ListedCommand(
        f"{HERE}.actions:remove",
        "Delete resources at the lab's clouds, with identities tied to them; grants stay behind.",
    ),
    "on": ListedCommand(
        f"{HERE}.actions:on",
        "Run a program as if on a host of the lab, with that host's metadata service.",
        passes_on=True,
    ),
    "run": ListedCommand(
        f"{HERE}.actions:run",
        "Run a program as if in a run of the lab's pipeline service, with the run's token or assertion.",
        passes_on=True,
    ),
    "as": ListedCommand(
        f"{HERE}.actions:as_party",
        "Run a command as another party of the lab, with that party's administrators' sessions.",
        passes_on=True,
    ),
    "agree": ListedCommand(
        f"{HERE}.actions:agree",
        "Agree to a sign-in at the lab's directory, as a person does on its page.",
    ),
}
app = typer.Typer(
    cls=lazy_group(COMMANDS, {name: EXAMPLES[f"lab {name}"] for name in COMMANDS}),
    help="Start, stop and control the stand-in services.",
    no_args_is_help=True,
    add_completion=False,
)


@app.callback()
def about() -> None:
    """Start, stop and control the stand-in services."""

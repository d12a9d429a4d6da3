"""The commands that there are, as the program itself lists them, and words with which each does something."""

from typer.main import get_command

from enthesis.commands.main import app

TRIED: dict[str, tuple[str, ...]] = {
    "demo": ("--list",),
    "start": ("--list",),
    "check": (),
    "card": ("build/identity/publisher",),
    "trace": ("--journey", "publish-from-a-side-branch"),
    "reach": ("--from", "forge"),
    "admit": ("build/identity/publisher",),
    "survey": ("--out", "{new}/live.jsonl"),
    "propose": (),
    "enact": ("--yes",),
    "prove": (),
    "lend": ("build/identity/publisher", "--", "true"),
    "whoami": (),
    "key": (),
    "lab start": (),
    "lab stop": ("--estate", "{new}"),
    "lab status": (),
    "lab clock": (),
    "lab rotate": ("forge",),
    "lab add": ("gauges/host/fresh",),
    "lab remove": ("gauges/host/fresh",),
    "lab on": ("gauges/host/collector-1", "--", "true"),
    "lab run": ("forge", "--claim", "sub=x", "--", "true"),
    "lab as": ("harbourline", "--", "true"),
    "lab agree": ("--as", "@saltmarsh/identity/maren", "CODE"),
}
"""What follows a command's name in an estate with a running lab; `{new}` is another estate, of the run's own."""


def every_command() -> list[str]:
    """The names of all commands, with those of a group behind the group's name."""
    found: list[str] = []

    def walk(command: object, words: tuple[str, ...]) -> None:
        inner = getattr(command, "commands", None)
        if words:
            found.append(" ".join(words))
        for name, one in (inner or {}).items():
            walk(one, (*words, name))

    walk(get_command(app), ())
    return found


COMMANDS = every_command()

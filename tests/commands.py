"""The commands that there are, as the program itself lists them, and words with which each does something."""

from enthesis.cli import main
from enthesis.cli.lazy import ListedCommand
from enthesis_lab.commands import lab

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
    "handoff": ("pilotage",),
    "prove": (),
    "lend": ("build/identity/publisher", "--", "true"),
    "sign-in": ("--organisation", "elsewhere"),
    "sign-out": (),
    "whoami": (),
    "credential": (),
    "sweep": (),
    "trim": ("--usage", "{new}/none.jsonl"),
    "retire": (),
    "calendar": (),
    "cutoff": ("gauges/identity/calibrator",),
    "connections": (),
    "sessions": (),
    "help": ("trusts",),
    "lab start": (),
    "lab stop": ("--estate", "{new}"),
    "lab status": (),
    "lab clock": (),
    "lab join": ("{new}",),
    "lab rotate": ("forge",),
    "lab fault": (),
    "lab use": ("--days", "9"),
    "lab add": ("gauges/host/fresh",),
    "lab remove": ("gauges/host/fresh",),
    "lab on": ("gauges/host/collector-1", "--", "true"),
    "lab run": ("forge", "--claim", "sub=x", "--", "true"),
    "lab as": ("harbourline", "--", "true"),
    "lab agree": ("--as", "@saltmarsh/identity/maren", "CODE"),
}
"""What follows a command's name in an estate with a running lab; `{new}` is another estate, of the run's own."""


TABLES = {"": main.COMMANDS, "lab ": lab.COMMANDS}
LISTED: dict[str, ListedCommand] = {
    f"{group}{name}": one for group, table in TABLES.items() for name, one in table.items()
}
"""Every command, those of a group behind the group's name."""

COMMANDS = list(LISTED)

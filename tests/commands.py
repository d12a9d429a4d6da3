"""The commands that there are, as the program itself lists them, and words with which each does something."""

from enthesis.cli import connections, credential, history, main, request, survey
from enthesis.cli.lazy import ListedCommand
from enthesis_lab.commands import lab

TRIED: dict[str, tuple[str, ...]] = {
    "demo": ("--list",),
    "start": ("--list",),
    "check": (),
    "list": (),
    "card": ("build/identity/publisher",),
    "trace": ("--journey", "publish-from-a-side-branch"),
    "reach": ("--from", "forge"),
    "admit": ("build/identity/publisher",),
    "survey": ("--out", "{new}/live.jsonl"),
    "survey adopt": ("gauges", "--yes"),
    "survey compare": ("{new}/none.jsonl",),
    "survey usage": ("{new}/usage.jsonl",),
    "propose": (),
    "enact": ("--yes",),
    "request": (),
    "request out": ("pilotage",),
    "request in": ("{new}/none.json",),
    "request answer": ("{new}/none.json", "done", "--out", "{new}/answer.json"),
    "history": (),
    "history show": ("1",),
    "history documents": (),
    "prove": (),
    "lend": ("build/identity/publisher", "--", "true"),
    "sign-in": ("--organisation", "elsewhere"),
    "sign-out": (),
    "whoami": (),
    "credential": (),
    "credential create": ("--of", "gauges/identity/archiver"),
    "credential revoke": ("none",),
    "credential retire": (),
    "sweep": (),
    "trim": ("--usage", "{new}/none.jsonl"),
    "calendar": (),
    "cutoff": ("gauges/identity/calibrator",),
    "connections": (),
    "connections try": (),
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


GROUPS = {
    "survey": survey, "request": request, "history": history, "credential": credential, "connections": connections,
    "lab": lab,
}  # fmt: skip
TABLES = {"": main.COMMANDS, **{f"{name} ": module.COMMANDS for name, module in GROUPS.items()}}
LISTED: dict[str, ListedCommand] = {
    f"{group}{name}": one for group, table in TABLES.items() for name, one in table.items()
}
"""Every command, those of a group behind the group's name."""

COMMANDS = list(LISTED)

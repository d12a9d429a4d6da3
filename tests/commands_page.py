"""Writes docs/commands.md, every command with its arguments, options and examples: `python -m tests.commands_page`."""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from enthesis.cli.examples import EXAMPLES
from enthesis.cli.lazy import loaded

from .commands import LISTED

PAGE = Path(__file__).parent.parent / "docs" / "commands.md"
HEAD = """\
# Reference of the commands

After reading this page you can look up every command, argument and option. It is generated from the program; `enthesis
COMMAND --help` says the same. `enthesis --version` shows the version; `enthesis --debug COMMAND` shows tracebacks.
"""


def page() -> str:
    """The whole page."""
    return "".join([HEAD, *(part for name in EXAMPLES for part in _command(name))])


def _command(name: str) -> Iterator[str]:
    found = loaded(name.rpartition(" ")[2], LISTED[name])
    yield f"\n## enthesis {name}\n\n{found.help}\n\n```text\n"
    yield "".join(f"enthesis {words}\n" for words in EXAMPLES[name]) + "```\n"
    rows = [row for param in found.params for row in _row(param)]
    if rows:
        yield "\n| option | what it does |\n|---|---|\n" + "".join(rows)


def _row(param: Any) -> Iterator[str]:
    said = getattr(param, "help", None)
    if getattr(param, "hidden", False) or param.name == "help":
        return
    value = "" if getattr(param, "is_flag", False) else f" {param.metavar}" if param.metavar else ""
    names = ", ".join(param.opts) + value if param.param_type_name == "option" else param.metavar or param.name.upper()
    repeated = " May be repeated." if getattr(param, "multiple", False) else ""
    yield f"| `{names.replace('|', chr(92) + '|')}` | {(said or '').replace('|', chr(92) + '|')}{repeated} |\n"


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")

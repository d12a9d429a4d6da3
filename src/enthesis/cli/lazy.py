"""Groups of commands that know the name, the help and the panel of each, and import one only when it runs."""

import gc
from collections.abc import Mapping
from importlib import import_module
from typing import Any, NamedTuple

import typer
from typer.core import TyperCommand, TyperGroup


class Listed(NamedTuple):
    """A command in the list of a group: where it is, its help, its panel.

    `place` is `module:name` below this package; the name is a function, or a `typer.Typer` for a group. `help` is the
    first paragraph of its docstring.
    """

    place: str
    help: str
    panel: str | None = None
    passes_on: bool = False  # whether what follows may be options of another program


def lazy_group(table: Mapping[str, Listed]) -> type[TyperGroup]:
    """A class of groups with the commands of a table."""

    class Group(TyperGroup):
        def __init__(self, **settings: Any) -> None:
            super().__init__(**settings)
            for name, listed in table.items():
                self.commands[name] = TyperCommand(name, help=listed.help, rich_help_panel=listed.panel)

        def resolve_command(self, ctx: Any, args: list[str]) -> Any:
            name, found, rest = super().resolve_command(ctx, args)
            return name, found and loaded(str(name), table[str(name)]), rest

    return Group


def loaded(name: str, listed: Listed) -> TyperCommand | TyperGroup:
    """A command, imported."""
    module, _, attribute = listed.place.partition(":")
    found = getattr(import_module(f"enthesis.cli.{module}"), attribute)
    gc.freeze()  # the collector, off while imports ran, need not look through what they made
    gc.enable()
    if not isinstance(found, typer.Typer):
        alone = typer.Typer(add_completion=False, pretty_exceptions_enable=False)
        alone.command(name, context_settings={"ignore_unknown_options": True} if listed.passes_on else {})(found)
        found = alone
    made = typer.main.get_command(found)
    made.name = name
    return made  # type: ignore[return-value]  # Typer makes no other

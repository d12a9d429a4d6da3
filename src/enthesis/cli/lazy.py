"""Groups of commands that know the name, the help and the panel of each, and import one only when it runs."""

import gc
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from importlib import import_module
from inspect import cleandoc
from typing import Any, NamedTuple

import typer
from typer.core import TyperCommand, TyperGroup

from enthesis.model.errors import InvalidInput

HELP = {"help_option_names": ["-h", "--help"]}  # of every command


class ListedCommand(NamedTuple):
    """A command in the list of a group: where it is, its help, its panel.

    `place` is `module:name`, of a module below this package or, with a dot, anywhere; '' where it is an entry point of
    the group `enthesis.commands`, by the command's name. The name is a function, or a `typer.Typer` for a group. `help`
    is the first paragraph of its docstring.
    """

    place: str
    help: str
    panel: str | None = None
    passes_on: bool = False  # whether what follows may be options of another program


class Command(TyperCommand):
    """A command whose help names no types, which the names of values say, and runs in whole paragraphs."""

    def __init__(self, *args: Any, **settings: Any) -> None:
        super().__init__(*args, **settings)
        self.help = _in_paragraphs(self.help)
        self.examples: tuple[str, ...] = ()

    def format_help(self, ctx: Any, formatter: Any) -> None:
        """The help, with the examples below it."""
        super().format_help(ctx, formatter)
        _put_examples(self.examples)

    def get_params(self, ctx: Any) -> Any:
        """The parameters, shown without the names of their types."""
        return _without_types(super().get_params(ctx))


def _put_examples(examples: Sequence[str]) -> None:
    if examples:
        typer.echo("\n".join([" Examples:", *(f"   enthesis {words}" for words in examples), ""]))


def _refuse_before(ctx: Any, command: str) -> None:
    """InvalidInput where an option of a group stands before one of its commands, which would not see it."""
    for name in ctx.params:
        source = ctx.get_parameter_source(name)
        if source is not None and source.name == "COMMANDLINE":
            option = f"--{name.replace('_', '-')}"
            raise InvalidInput(
                f"{option} stands before `{command}`",
                code="option-invalid",
                remedy=f"it follows: enthesis {command} … {option}",
            )


def _in_paragraphs(text: str | None) -> str | None:
    """A docstring without the ends of its lines, so that each paragraph fills the terminal there is."""
    if text is None:
        return None
    return "\n\n".join(" ".join(part.split()) for part in cleandoc(text).split("\n\n"))


def _without_types(params: Any) -> Any:
    """Parameters that are shown with what their values are called, and with nothing where that says nothing."""
    for param in params:
        type_of = getattr(param, "display_type_rich", None)
        if type_of is not None and (getattr(param, "metavar", None) is None or param.param_type_name == "argument"):
            param.display_type_rich = partial(_choices, type_of)
    return params


def _choices(type_of: Any, ctx: Any) -> str | None:
    said = type_of(ctx)
    return said.strip("<>") if said is not None and "|" in said else None


def lazy_group(table: Mapping[str, ListedCommand], examples: Mapping[str, Sequence[str]]) -> type[TyperGroup]:
    """A class of groups with the commands of a table; `examples` are command lines for the help of each."""

    class CommandGroup(TyperGroup):
        def __init__(self, **settings: Any) -> None:
            super().__init__(**settings)
            self.help = _in_paragraphs(self.help)
            self.examples: tuple[str, ...] = ()
            for name, listed in table.items():
                self.commands[name] = Command(name, help=listed.help, rich_help_panel=listed.panel)

        def get_params(self, ctx: Any) -> Any:
            return _without_types(super().get_params(ctx))

        def format_help(self, ctx: Any, formatter: Any) -> None:
            super().format_help(ctx, formatter)
            _put_examples(self.examples)

        def resolve_command(self, ctx: Any, args: list[str]) -> Any:
            name, found, rest = super().resolve_command(ctx, args)
            if self.invoke_without_command:
                _refuse_before(ctx, f"{ctx.info_name} {name}")
                self.callback = None  # it is what the group does alone
            return name, found and loaded(str(name), table[str(name)], examples.get(str(name), ())), rest

    return CommandGroup


def group(
    name: str, table: Mapping[str, ListedCommand], examples: Mapping[str, Sequence[str]], alone: Callable[..., None]
) -> typer.Typer:
    """A group that does something by itself (`alone`), beside the commands of its table."""
    its = {one: examples[f"{name} {one}"] for one in table}
    app = typer.Typer(cls=lazy_group(table, its), invoke_without_command=True, add_completion=False,
                      subcommand_metavar="[COMMAND]", context_settings=HELP)  # fmt: skip
    app.callback()(alone)
    return app


def loaded(name: str, listed: ListedCommand, examples: Sequence[str] = ()) -> TyperCommand | TyperGroup:
    """A command, imported, with its examples below its help."""
    found = _imported(listed.place) if listed.place else _registered(name)
    gc.freeze()  # the collector, off while imports ran, need not look through what they made
    gc.enable()
    if not isinstance(found, typer.Typer):
        alone = typer.Typer(add_completion=False, pretty_exceptions_enable=False)
        alone.command(name, cls=Command, context_settings={**HELP, "ignore_unknown_options": listed.passes_on})(found)
        found = alone
    made = typer.main.get_command(found)
    made.name = name
    if isinstance(made, Command) or hasattr(made, "examples"):
        made.examples = tuple(examples)
    return made  # type: ignore[return-value]  # Typer makes no other


def _imported(place: str) -> Any:
    module, _, attribute = place.partition(":")
    return getattr(import_module(module if "." in module else f"enthesis.cli.{module}"), attribute)


def _registered(name: str) -> Any:
    from importlib.metadata import entry_points  # noqa: PLC0415  only commands of other packages need it

    return next(iter(entry_points(group="enthesis.commands", name=name))).load()

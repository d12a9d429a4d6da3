"""`enthesis help`: what a word of the tool means, without leaving the terminal."""

from collections.abc import Iterator, Mapping
from typing import Annotated, Any

import typer

from enthesis.cli.options import FormatOption, QuietOption
from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue
from enthesis.model.errors import InvalidInput
from enthesis.output.lines import Line, Span, line
from enthesis.output.reference import topic, topics
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.text.nearest import perhaps


def explain(
    ctx: typer.Context,
    word: Annotated[
        str | None,
        typer.Argument(metavar="TOPIC", help="A command, section, kind, verb, error or risk code, or idea."),
    ] = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Explain a command, a section of the files, a kind, a verb, the code of an error or risk, or an idea.

    Without a topic it lists all of them. Needs no estate.
    """
    catalogue = packaged_catalogue(TreeCache(None))
    group: Any = ctx.parent.command if ctx.parent is not None else None
    commands = list(group.commands) if group is not None else []
    if word is None:
        listed = {"commands": commands, **topics(catalogue)}
        put_answer(output, CommandAnswer(lambda: listed, lambda: _listed(listed) if not quiet else ()))
        return
    word = _as_known(word, [*commands, *(name for names in topics(catalogue).values() for name in names)])
    found = topic(word, catalogue)
    if found is None and word in commands and ctx.parent is not None:
        _, command, _ = group.resolve_command(ctx.parent, [word])
        with command.make_context(word, [], parent=ctx.parent, resilient_parsing=True) as of_command:
            command.format_help(of_command, of_command.make_formatter())
        return
    if found is None:
        known = [*commands, *(name for names in topics(catalogue).values() for name in names)]
        hint = perhaps(word, known, "enthesis help lists the topics")
        raise InvalidInput(f"unknown topic {word}", code="topic-unknown", remedy=hint)
    if word in commands:
        found["command"] = f"enthesis {word} --help"
    put_answer(output, CommandAnswer(lambda: found, lambda: _told(found) if not quiet else ()))


def _as_known(word: str, known: list[str]) -> str:
    """A topic as it is called: several words are joined, one thing is told by its plural."""
    joined = "-".join(word.split())
    return next((one for one in (word, joined, f"{joined}s", joined.removesuffix("s")) if one in known), word)


def _listed(listed: Mapping[str, list[str]]) -> Iterator[Line]:
    yield line("Topics: enthesis help TOPIC")
    for head, names in listed.items():
        yield line()
        yield line(Span(head, "strong"))
        for start in range(0, len(names), 6):
            yield line("  ", "  ".join(names[start : start + 6]))


def _told(found: Mapping[str, Any]) -> Iterator[Line]:
    yield line(Span(found["topic"], "strong"), f" is {found['is']}: {found['says']}")
    for text in str(found.get("example", "")).splitlines():
        yield line("    ", text)
    if "fields" in found:
        yield line()
        width = max(len(one["field"]) for one in found["fields"])
        for one in found["fields"]:
            yield line(
                "  ",
                Span(one["field"].ljust(width), "command"),
                f"  {one['means']}",
                Span(f"  ({one['value']})", "quiet"),
            )
        yield line(Span("  * required", "quiet"))
    for name, its_class in found.get("verbs", {}).items():
        yield line(f"  {name}  ", Span(its_class, "quiet"))
    for name in ("fix", "page", "command"):
        if name in found:
            yield line(f"  {name}: {found[name]}")

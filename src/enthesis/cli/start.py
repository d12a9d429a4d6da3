"""`enthesis start`: a small correct estate from a pattern, new or into one there is; or a twin of what is there."""

import re
import sys
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from importlib import resources
from pathlib import Path
from typing import Annotated

import typer

from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import FormatOption, QuietOption
from enthesis.files.editing import Addition, Edit, Replacement
from enthesis.files.finding import HEAD, estate_folder, find_estate
from enthesis.files.folder import Reading, read_texts
from enthesis.files.renaming import is_shared, renamed
from enthesis.files.renaming import twin as made
from enthesis.files.saving import edit_files, fresh_folder, write_file
from enthesis.files.writing import plain_estate, plain_statement
from enthesis.model.addresses import contains
from enthesis.model.errors import InvalidEstate, InvalidInput
from enthesis.model.escapes import word
from enthesis.model.estate import Estate
from enthesis.model.vocabulary import Form
from enthesis.output.estates import counts_text
from enthesis.output.lines import Line, Span, line
from enthesis.output.renderers import TEXT, CommandAnswer, is_document, put_answer
from enthesis.output.streams import remark
from enthesis.text.nearest import perhaps

HEADS = ("organisations", "providers", "accounts", "issuers", "resources", "roles")  # may be there already
PLACEHOLDER = re.compile(r"<(\w+)>")
NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._:/@-]*")


@dataclass(frozen=True)
class Ask:
    """One name that a pattern asks for."""

    key: str
    usual: str
    says: str


@dataclass(frozen=True)
class Pattern:
    """One of the small estates, with names left open."""

    name: str
    title: str
    asks: tuple[Ask, ...]
    text: str


def start(
    pattern: Annotated[
        str | None, typer.Argument(metavar="PATTERN", help="The pattern; without one, the patterns are listed.")
    ] = None,
    folder: Annotated[
        Path | None, typer.Argument(metavar="FOLDER", help="Write the new estate to this new folder.")
    ] = None,
    into: Annotated[
        Path | None, typer.Option("--into", metavar="DIR", help="Add to the estate in DIR; comments are kept.")
    ] = None,
    name: Annotated[
        list[str] | None,
        typer.Option("--name", metavar="KEY=NAME", help="Answer one of the pattern's questions, e.g. bucket=pages."),
    ] = None,
    like: Annotated[
        str | None, typer.Option("--like", metavar="ADDRESS", help="Create a twin of this account or identity.")
    ] = None,
    twin: Annotated[
        str | None, typer.Option("--for", metavar="NAME", help="The name of the twin that --like creates.")
    ] = None,
    usual: Annotated[bool, typer.Option("--usual-names", help="Do not ask; use the default names.")] = False,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Create a small estate from a pattern, or add a twin of an account or identity.

    It asks for names and for nothing else. With --into, it adds to an existing estate. With --like and
    --for, everything about an account or identity is written again for another environment, which differs in names only
    (`enthesis check --compared-with . --names OLD=NEW` shows that). Existing files are never overwritten,
    and only valid entries are written.
    """
    if (like is None) != (twin is None):
        raise InvalidInput(
            "--like says of what, and --for what its twin is called", code="options-conflict", remedy="both, or none"
        )
    if like is not None and twin is not None:
        if pattern is not None:
            raise InvalidInput("a twin is made of what is there, and no pattern is needed", code="options-conflict")
        _twin(into, like, twin, quiet=quiet or is_document(output))
        put_answer(output, CommandAnswer(lambda: {"written": str(estate_folder(into)), "twin": twin}, lambda: ()))
        return
    known = {pattern.name: pattern for pattern in patterns()}
    if pattern is None:
        listed = {"patterns": [{"name": one.name, "title": one.title} for one in known.values()]}
        put_answer(output, CommandAnswer(lambda: listed, lambda: _list(known.values())))
        return
    chosen = known.get(pattern)
    if chosen is None:
        raise InvalidInput(f"unknown pattern {pattern}", code="pattern-unknown", remedy=f"there are {', '.join(known)}")
    if (folder is None) == (into is None):
        raise InvalidInput(
            "name a folder for it", code="argument-missing", remedy="a fresh FOLDER, or --into an estate there is"
        )
    text = _filled(chosen, _names(chosen, name or [], usual=usual))
    if folder is not None:
        _new(folder, text, quiet=quiet or is_document(output))
    elif into is not None:
        _add(into, list(_entries(into, text)), quiet=quiet or is_document(output))
    put_answer(output, CommandAnswer(lambda: {"written": str(folder or into), "pattern": pattern}, lambda: ()))


def patterns() -> list[Pattern]:
    """The packaged patterns."""
    out = []
    for file in sorted(resources.files("enthesis").joinpath("data", "patterns").iterdir(), key=lambda one: one.name):
        lines = file.read_text(encoding="utf-8").splitlines()
        title = next(name[2:].strip() for name in lines if name.startswith("#:"))
        asks = []
        for name in lines:
            if name.startswith("#?"):
                key, _, rest = name[2:].partition("=")
                usual, _, says = rest.partition(" : ")
                asks.append(Ask(key.strip(), usual.strip(), says.strip()))
        text = "\n".join(name for name in lines if not name.startswith(("#:", "#?"))) + "\n"
        out.append(Pattern(file.name.removesuffix(".yaml"), title, tuple(asks), text))
    return out


def _list(known: Iterable[Pattern]) -> list[Line]:
    every = list(known)
    width = max(len(pattern.name) for pattern in every)
    lines = [line(f"There are {len(every)} patterns: enthesis start PATTERN FOLDER, or --into an estate there is.")]
    lines += [line("  ", Span(pattern.name.ljust(width), "command"), f"  {pattern.title}") for pattern in every]
    return lines


def _names(pattern: Pattern, given: list[str], *, usual: bool) -> dict[str, str]:
    """The names for a pattern: given, asked for, or the usual ones."""
    said: dict[str, str] = {}
    for pair in given:
        key, equals, value = pair.partition("=")
        if not equals or key not in {ask.key for ask in pattern.asks}:
            keys = ", ".join(ask.key for ask in pattern.asks)
            raise InvalidInput(
                f"--name {pair}: {pattern.name} has no such name",
                code="pattern-name-unknown",
                remedy=f"it asks for {keys}",
            )
        said[key] = value
    for ask in pattern.asks:
        if ask.key not in said and not usual:
            if not sys.stdin.isatty():
                raise InvalidInput(
                    "no terminal is attached for the question",
                    code="nobody-to-ask",
                    remedy="--name KEY=NAME for each, or --usual-names for the rest",
                )
            said[ask.key] = str(typer.prompt(ask.says, default=ask.usual, err=True))
        said.setdefault(ask.key, ask.usual)
    for key, value in said.items():
        if not NAME.fullmatch(value):
            raise InvalidInput(
                f"{value!r} cannot be a name ({key})", code="name-invalid", remedy="letters, digits, and - . _ within"
            )
    return said


def _filled(pattern: Pattern, names: Mapping[str, str]) -> str:
    return PLACEHOLDER.sub(lambda match: names[match[1]], pattern.text)


def _new(folder: Path, text: str, *, quiet: bool) -> None:
    """Writes a new estate, once it is known to be sound."""
    reading = read_texts({HEAD: text})
    if reading.estate is None:
        raise InvalidEstate(reading.errors)
    around = find_estate(folder.resolve().parent)
    if around is not None:
        raise InvalidInput(
            f"{folder} would become a part of the estate in {around}",
            code="estate-inside-estate",
            remedy=f"add to that with --into {around}",
        )
    fresh_folder(folder, "or --into an estate there is")
    write_file(folder / HEAD, text.encode())
    remark(f"{folder / HEAD} describes it. Next: enthesis check --estate {word(str(folder))}", quiet=quiet)


def _entries(into: Path, text: str) -> Iterable[Addition]:
    """What a pattern adds to an estate; what that has already by the same name it keeps as it is."""
    reading = read_texts({HEAD: text})
    if reading.estate is None:
        raise InvalidEstate(reading.errors)
    there = read_estate(into)
    for section, entries in plain_estate(reading.estate).items():
        if section == "estate":
            continue
        if not isinstance(entries, dict):
            yield from (Addition(section, "", entry) for entry in entries)
            continue
        for key, entry in entries.items():
            if key not in getattr(there, section):
                yield Addition(section, key, entry)
            elif section not in HEADS:
                raise InvalidInput(
                    f"the estate has {key} already", code="twin-exists", remedy="choose another name with --name"
                )


def _add(folder: Path, edits: list[Edit], *, quiet: bool) -> None:
    """Edits an estate's files, if they then read without an error."""

    def reads(reading: Reading) -> None:
        if reading.estate is None:
            raise InvalidEstate(reading.errors)

    edit_files(folder, edits, reads)
    said = counts_text(Counter(edit.section for edit in edits if isinstance(edit, Addition)))
    remark(f"Added to {folder}: {said}. Next: enthesis check", quiet=quiet)


def _twin(into: Path | None, like: str, name: str, *, quiet: bool) -> None:
    folder = estate_folder(into)
    estate = read_estate(folder)
    if like not in estate.accounts and like not in estate.identities:
        hint = perhaps(like, [*estate.accounts, *estate.identities])
        raise InvalidInput(
            f"{like} is neither an account nor an identity of this estate", code="twin-unknown", remedy=hint
        )
    if not NAME.fullmatch(name) or "/" in name:
        raise InvalidInput(
            f"{name!r} cannot be a name", code="name-invalid", remedy="letters, digits, and - . _ within"
        )
    new = twin_name(like, name)
    if new in estate.accounts or new in estate.identities:
        raise InvalidInput(f"there is {new} already", code="twin-exists", remedy="another name with --for")
    _add(folder, [*made(estate, like, new), *_beside(estate, like, new)], quiet=quiet)
    remark(
        f"To see that they differ in names only: enthesis check --compared-with . --names {word(f'{like}={new}')}",
        quiet=quiet,
    )
    _warned(estate, like, new, quiet=quiet)


def _beside(estate: Estate, like: str, new: str) -> Iterable[Edit]:
    """What a twin of an identity needs in entries that are not about it: to run where that runs, to be among those that
    alone may."""
    for address, resource in estate.resources.items():
        if like in resource.runs_as:
            yield Addition("attachments", "", {"what": address, "runs_as": new})
    for invariant in estate.invariants:
        plain = plain_statement("invariants", invariant)
        if is_shared(plain, like):
            by = plain["only"]["by"]
            listed = [by] if isinstance(by, str | dict) else list(by)
            at = invariant.source
            both = [*listed, *(renamed(one, like, new) for one in listed if renamed(one, like, new) != one)]
            yield Replacement.at(at, ("only", "by"), both)


def twin_name(like: str, name: str) -> str:
    """The address of a twin: an account's is its name, an identity's stands beside the one that it is like."""
    return f"{like.rsplit('/', 1)[0]}/{name}" if "/" in like else name


def _warned(estate: Estate, like: str, new: str, *, quiet: bool) -> None:
    """The same tokens are admitted to both, unless a person says what tells the environments apart."""
    shown = [trust for trust in estate.trusts if contains(like, trust.of) and trust.admits.form == Form.TOKEN]
    for trust in shown:
        remark(
            f"The same runs of {trust.admits.whom} are admitted to {new} now; narrow its trust.",
            quiet=quiet,
        )

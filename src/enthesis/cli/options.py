"""The options that several commands share, and the forms that an answer takes."""

from pathlib import Path
from typing import Annotated, Any

import typer

from enthesis.model.errors import InvalidInput
from enthesis.output.renderers import CSV, MARKDOWN, formats
from enthesis.text.nearest import perhaps


def there(value: Path | None) -> Path | None:
    """A file that an option names; InvalidInput where it is not there, whatever would have been done with it."""
    if value is not None and not value.is_file():
        raise InvalidInput(f"{value} cannot be read: no such file", code="file-unreadable")
    return value


EstateOption = Annotated[
    Path | None,
    typer.Option(
        "--estate", metavar="DIR", help="The estate's folder (default: the nearest one upward with an estate.yaml)."
    ),
]
AskOption = Annotated[bool, typer.Option("--ask", help="Read the live systems now, and use what they have.")]
SurveyOption = Annotated[
    Path | None,
    typer.Option("--survey", metavar="FILE", help="Ask this survey, instead of an estate or together with one."),
]
KubeconfigOption = Annotated[
    Path | None,
    typer.Option(
        "--kubeconfig",
        metavar="FILE",
        callback=there,
        help="The kubeconfig for the estate's clusters, where no lab is running.",
    ),
]
ContextOption = Annotated[
    str | None,
    typer.Option(
        "--context", metavar="NAME", help="Use this context of the kubeconfig (default: its current context)."
    ),
]
DatabaseOption = Annotated[
    list[str] | None,
    typer.Option(
        "--database",
        metavar="ADDRESS=FILE",
        help="A file with the connection string of a database's administrators; not needed at a lab.",
    ),
]
HostOption = Annotated[
    list[str] | None,
    typer.Option(
        "--host",
        metavar="ADDRESS=DIR",
        help="A copy of a host's files: all of them, or its /etc/ssh alone; or ssh://USER@HOST, from where they are "
        "fetched.",
    ),
]
DirectoryOption = Annotated[
    list[str] | None,
    typer.Option(
        "--directory",
        metavar="@ORGANISATION=FILE",
        help="A file with the token of a directory's administrators (SCIM); not needed at a lab.",
    ),
]


def format_option(*more: str) -> Any:
    """The option that says in which format an answer is put out: one that every answer has, or one of `more`."""
    names = formats(*more)

    def known(value: str) -> str:
        if value not in names:
            raise InvalidInput(
                f"--format {value}: unknown format", code="format-unknown",
                remedy=perhaps(value, names, f"one of {', '.join(names)}"),
            )  # fmt: skip
        return value

    return typer.Option("--format", metavar="|".join(names), callback=known, help="The format of the answer.")


FormatOption = Annotated[str, format_option()]
ReviewFormatOption = Annotated[str, format_option(MARKDOWN)]
ReachFormatOption = Annotated[str, format_option(CSV)]
QuietOption = Annotated[bool, typer.Option("--quiet", "-q", help="Show only the answer: no progress, no remarks.")]
OrganisationOption = Annotated[
    str | None,
    typer.Option(
        "--organisation", metavar="NAME", help="The organisation whose directory to use, if there are several."
    ),
]


def named_files(pairs: list[str] | None, option: str, form: str = "NAME=FILE") -> dict[str, Path]:
    """`NAME=FILE` pairs; InvalidInput where one is not one."""
    return {name: Path(file) for name, file in named_places(pairs, option, form).items()}


def named_places(pairs: list[str] | None, option: str, form: str) -> dict[str, str]:
    """The same, where what is named need not be a file."""
    out: dict[str, str] = {}
    for pair in pairs or ():
        name, equals, file = pair.partition("=")
        if not name or not equals or not file:
            raise InvalidInput(f"{option} {pair}: expected {form}", code="option-invalid")
        out[name] = file
    return out

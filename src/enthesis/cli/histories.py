"""The store of an estate as commands open it, and who works with it."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.files.finding import HISTORY, PLACE_OF_WORK
from enthesis.model.estate import Estate

if TYPE_CHECKING:
    from enthesis.store.journal import Journal

StoreOption = Annotated[
    str | None,
    typer.Option(
        "--store",
        metavar="URL",
        envvar="ENTHESIS_STORE",
        show_envvar=True,
        help="A PostgreSQL database with the history, shared by a team; default: a file of this estate.",
    ),
]


def journal_at(folder: Path, url: str | None) -> "Journal":
    """The journal of an estate, in its folder or in a shared database."""
    from enthesis.store.journal import journal_of  # noqa: PLC0415  loads the libraries of databases

    return journal_of(folder, url)


def journal_if_any(folder: Path, url: str | None) -> "Journal | None":
    """The same, without making a store where there is none."""
    return journal_at(folder, url) if url or (folder / PLACE_OF_WORK / HISTORY).exists() else None


def signed_in(described: Estate) -> str:
    """The person who has signed in at a directory of the estate; '' where nobody has."""
    from enthesis.cli.questions import now  # noqa: PLC0415
    from enthesis.live.kept_sign_in import kept  # noqa: PLC0415

    own = {f"@{name}" for name in described.organisations}
    mine = [one for one in kept() if one.organisation in own and one.ends > now()]
    return mine[0].person if mine else ""

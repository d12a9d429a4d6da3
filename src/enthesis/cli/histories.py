"""The store of an estate as commands open it, and who works with it."""

import os
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.files.finding import PLACE_OF_WORK, ours
from enthesis.model.estate import Estate

if TYPE_CHECKING:
    from enthesis.store.journal import Journal

STORE = "ENTHESIS_STORE"
StoreOption = Annotated[
    str | None,
    typer.Option(
        "--store",
        metavar="URL",
        envvar=STORE,
        show_envvar=True,
        help="A PostgreSQL database with the history, shared by a team; default: a file of this estate.",
    ),
]


def journal_at(folder: Path, url: str | None) -> "Journal":
    """The journal of an estate, in its folder or in a shared database."""
    from enthesis.store.journal import journal_of  # noqa: PLC0415  loads the libraries of databases

    os.umask(0o077)
    return journal_of(ours(folder) / PLACE_OF_WORK, url)


def journal_if_any(folder: Path, url: str | None) -> "Journal | None":
    """The same, without making a store where there is none."""
    url = url or os.environ.get(STORE) or None
    if url is None and not (folder / PLACE_OF_WORK / "history.db").exists():
        return None
    return journal_at(folder, url)


def signed_in(described: Estate) -> str:
    """The person who has signed in at a directory of the estate; '' where nobody has."""
    from enthesis.cli.questions import now  # noqa: PLC0415
    from enthesis.live.kept_sign_in import kept  # noqa: PLC0415

    own = {f"@{name}" for name in described.organisations}
    mine = [one for one in kept() if one.organisation in own and one.ends > now()]
    return mine[0].person if mine else ""

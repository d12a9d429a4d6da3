"""The store of an estate as commands open it, and who works with it."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.files.finding import HISTORY, PLACE_OF_WORK
from enthesis.model.estate import Estate

if TYPE_CHECKING:
    from enthesis.live.kept_sign_in import SignIn
    from enthesis.store.journal import Journal

StoreOption = Annotated[
    str | None,
    typer.Option(
        "--store",
        metavar="URL",
        envvar="ENTHESIS_STORE",
        show_envvar=True,
        help="The PostgreSQL database with the history of a team (default: a file of this estate).",
    ),
]


def journal_at(folder: Path, url: str | None) -> "Journal":
    """The journal of an estate, in its folder or in a shared database."""
    from enthesis.store.journal import journal_of  # noqa: PLC0415  loads the libraries of databases

    return journal_of(folder, url)


def journal_if_any(folder: Path, url: str | None) -> "Journal | None":
    """The same, without making a store where there is none."""
    return journal_at(folder, url) if url or (folder / PLACE_OF_WORK / HISTORY).exists() else None


@contextmanager
def reading(folder: Path, url: str | None) -> "Iterator[Journal | None]":
    """The journal of an estate for as long as it is read; None where there is none."""
    journal = journal_if_any(folder, url)
    try:
        yield journal
    finally:
        if journal is not None:
            journal.close()


def keep_if_any(folder: Path, url: str | None, estate: str, kind: str, content: bytes) -> str:
    """Keeps a survey or a proof in the store under its digest, which is answered; '' where there is no store."""
    with reading(folder, url) as journal:
        return journal.keep(kind, estate, content) if journal is not None else ""


def signed_in(described: Estate, folder: Path) -> "SignIn | None":
    """The sign-in of a person at a directory of the estate; None where nobody has signed in."""
    from enthesis.cli.arguments import now  # noqa: PLC0415
    from enthesis.live import device_sign_in  # noqa: PLC0415  loads the libraries of tokens

    return device_sign_in.signed_in(described, folder, now())

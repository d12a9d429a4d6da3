"""Opens the store of an estate: a SQLite file beside it, or a PostgreSQL database that a team shares, by its URL."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event, inspect, make_url, text
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, SQLAlchemyError

from enthesis.files.finding import HISTORY, place_of_work
from enthesis.model.errors import InvalidInput, StoppedPartWay, Unreachable
from enthesis.model.extras import extra

FORM = "0001"  # of this version's store
NOTED = "alembic_version"
LOCK = 0x656E7468  # a number of ours among the locks of a database
SCRIPTS = Path(__file__).parent.parent / "data" / "store"  # how each form was made from the one before
PATIENCE = 30  # seconds that one waits for another's transaction
POSTGRESQL = "postgresql+psycopg"
MAX_WORDS = 200  # of what a database says


def open_store(folder: Path, url: str | None) -> Engine:
    """The store: of a URL, else the file beside the estate in a folder; made, or brought to the form of this
    version. InvalidInput where it cannot be, Unreachable where a database does not answer."""
    engine = _shared(url) if url else _own(folder)
    with mapped(engine):
        _bring_up_to_date(engine)
    return engine


def _own(folder: Path) -> Engine:
    """The file of one's own: durable with every commit, readable by nobody else."""
    place = place_of_work(folder) / HISTORY
    try:
        if place.is_symlink():
            raise InvalidInput(f"{place} is a link, and not followed", code="unsafe-path")
        os.close(os.open(place, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW, 0o600))
    except OSError as fault:
        raise InvalidInput(f"{place} cannot be written: {fault.strerror}", code="file-unwritable") from None
    engine = create_engine(f"sqlite:///{place}", connect_args={"check_same_thread": False, "timeout": PATIENCE})

    @event.listens_for(engine, "connect")
    def durable(connection: Any, record: Any) -> None:
        del record
        connection.isolation_level = None  # so that a transaction begins where we say
        for pragma in ("journal_mode = WAL", "synchronous = FULL", "foreign_keys = ON"):
            connection.execute(f"PRAGMA {pragma}")

    @event.listens_for(engine, "begin")
    def begun(connection: Connection) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE")

    return engine


def _shared(url: str) -> Engine:
    """A database that a team shares."""
    try:
        named = make_url(url)
        if named.get_backend_name() != "postgresql":
            raise InvalidInput(
                f"the store is at a {named.get_backend_name()} database (expected postgresql)",
                code="store-invalid",
                remedy="write its URL like postgresql://NAME@HOST/DATABASE",
            )
        with extra("postgresql", "a store in PostgreSQL"):
            return create_engine(named.set(drivername=POSTGRESQL), pool_pre_ping=True)
    except (ArgumentError, NoSuchModuleError):
        raise InvalidInput(
            "the URL of the store is not one",
            code="store-invalid",
            remedy="write it like postgresql://NAME@HOST/DATABASE",
        ) from None


@contextmanager
def mapped(engine: Engine) -> Iterator[None]:
    """Faults of a database as our own, without what its URL holds."""
    own = engine.url.get_backend_name() == "sqlite"
    where = "the store" if own else f"the store at {engine.url.host or 'its socket'}"
    try:
        yield
    except DBAPIError as fault:
        said = str(fault.orig).strip().splitlines()[0][:MAX_WORDS] if fault.orig is not None else type(fault).__name__
        if not own:
            raise Unreachable(f"{where} cannot be used: {said}", code="store-unreachable") from None
        if "not a database" in said or "malformed" in said:
            raise InvalidInput(
                f"{engine.url.database} is not a store: {said}",
                code="store-invalid",
                remedy="move it away to begin anew",
            ) from None
        raise StoppedPartWay(
            f"{where} does not take what is to be written: {said}",
            code="disk-unusable",
            remedy="make room, then enthesis enact --resume",
        ) from None
    except SQLAlchemyError as fault:
        raise Unreachable(f"{where} cannot be used: {type(fault).__name__}", code="store-unreachable") from None


def _bring_up_to_date(engine: Engine) -> None:
    """Brings a store to the form of this version; InvalidInput where a later version has made it."""
    with engine.connect() as connection:
        if _form(connection) == FORM:
            return
    with engine.begin() as connection:
        if engine.url.get_backend_name() == "postgresql":  # one at a time; a SQLite file is locked as it is
            connection.execute(text("SELECT pg_advisory_xact_lock(:lock)"), {"lock": LOCK})
        there = _form(connection)
        if there == FORM:
            return
        if there > FORM:
            raise InvalidInput(
                f"the store was made by a later version of Enthesis (form {there}; this one knows {FORM})",
                code="store-of-another-version",
                remedy="use that version; nothing was changed",
            )
        from alembic import command  # noqa: PLC0415  loaded where a store is made or renewed
        from alembic.config import Config  # noqa: PLC0415

        config = Config()
        config.set_main_option("script_location", str(SCRIPTS).replace("%", "%%"))
        config.set_main_option("path_separator", "os")
        config.attributes["connection"] = connection
        command.upgrade(config, FORM)


def _form(connection: Connection) -> str:
    """The form of a store, as Alembic notes it; '' where there is none yet."""
    if not inspect(connection).has_table(NOTED):
        return ""
    return str(connection.execute(text(f"SELECT version_num FROM {NOTED}")).scalar() or "")  # noqa: S608  our own table

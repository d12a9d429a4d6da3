"""How a server is asked: one connection for one piece of work, and every failure as an error of ours."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any
from urllib.parse import unquote, urlsplit

import psycopg
from psycopg.conninfo import conninfo_to_dict

from enthesis.model.errors import InvalidInput, RightMissing, UnexpectedAnswer, Unreachable
from enthesis.model.secrets import Secret

OLDEST = 12  # version of the server
SECONDS = 10  # for a connection to be made
PATIENCE = 60_000  # milliseconds of one statement
Rows = Sequence[tuple[Any, ...]]


def must_be_conninfo(text: str, where: str) -> None:
    """InvalidInput where a text is not a connection string (libpq's, a URI or words)."""
    try:
        conninfo_to_dict(text)
    except psycopg.ProgrammingError:
        raise InvalidInput(
            f"{where} is not a connection string (expected postgresql://USER@HOST:PORT/NAME)",
            code="database-access-invalid",
            remedy="write one line, as psql takes it",
        ) from None


def server_of(url: str) -> dict[str, Any]:
    """Host, port and name of the database in the url that an estate has for it."""
    parts = urlsplit(url)
    return {"host": parts.hostname or "", "port": parts.port or 5432, "dbname": unquote(parts.path.lstrip("/"))}


@contextmanager
def connected(who: str, access: Secret) -> Iterator["Session"]:
    """A connection for one piece of work, committed at its end and rolled back by any error.

    Raises:
        Unreachable: The server did not answer, or would not let us in.
        UnexpectedAnswer: It is older than any that is understood.
    """
    try:
        connection = psycopg.connect(
            access.reveal(),
            connect_timeout=SECONDS,
            options=f"-c statement_timeout={PATIENCE} -c search_path=pg_catalog",
        )
    except psycopg.OperationalError as fault:
        raise Unreachable(f"{who} did not let us in: {said_by(fault)}", code="database-unreachable") from None
    with connection:
        if connection.info.server_version < OLDEST * 10_000:
            version = connection.info.server_version // 10_000
            raise UnexpectedAnswer(
                f"{who} is PostgreSQL {version}, and {OLDEST} is the oldest that is understood", code="server-too-old"
            )
        yield Session(who, connection)


class Session:
    """A connection, with its errors as ours."""

    def __init__(self, who: str, connection: "psycopg.Connection[Any]") -> None:
        self.who = who
        self.connection = connection
        self.version = connection.info.server_version // 10_000

    def rows(self, query: Any, parameters: Sequence[Any] = ()) -> Rows:
        """The rows that a statement answers; RightMissing where we may not ask that."""
        try:
            found = self.connection.execute(query, parameters)
            return found.fetchall() if found.description is not None else []
        except psycopg.errors.InsufficientPrivilege as fault:
            raise RightMissing(f"{self.who} refused us: {said_by(fault)}", code="right-missing") from None
        except psycopg.Error as fault:
            raise UnexpectedAnswer(f"{self.who} answered: {said_by(fault)}", code="answer-unexpected") from None


def said_by(fault: psycopg.Error) -> str:
    """The first line of what a server said, and what libpq puts before it left out."""
    text = fault.diag.message_primary or str(fault)
    line = next((part.strip() for part in text.splitlines() if part.strip()), "no reason given")
    return line.rpartition("FATAL:")[2].strip() or line

"""A database in use: logins with a short-lived certificate, and attempts in transactions that are rolled back."""

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from datetime import UTC, datetime
from typing import Any
from urllib.parse import unquote

import psycopg
from cryptography import x509
from psycopg import sql

from enthesis.connectors.postgresql.asking import SECONDS, said_by, server_of
from enthesis.connectors.postgresql.surveying import Database
from enthesis.connectors.postgresql.words import WRITE, WRITING
from enthesis.model.addresses import article
from enthesis.model.errors import InvalidInput, Unreachable
from enthesis.model.estate import Attempt
from enthesis.model.foreign_names import name_of
from enthesis.model.vocabulary import VerdictStep
from enthesis.ports import Done, HeldCredential, Refusal, Surroundings

ENDED = ("certificate expired", "certificate is not yet valid")
NOT_LET_IN = (
    "certificate authentication failed", "no pg_hba.conf entry", "permission denied for database", "rejects connection",
    "is not permitted to log in", "unknown ca", "certificate revoked", "bad certificate", "certificate unknown",
    "alert decrypt error",
)  # fmt: skip
"""What a server says of a login that it refuses as access."""
UNKNOWN = ("does not exist",)
COLUMN = """
  select a.attname from pg_attribute a join pg_class c on c.oid = a.attrelid
  join pg_namespace n on n.oid = c.relnamespace
  where n.nspname = %s and c.relname = %s
    and a.attnum > 0 and not a.attisdropped and a.attgenerated = '' and a.attidentity <> 'a'
  order by a.attnum limit 1"""
USABLE = "select has_schema_privilege(oid, 'USAGE') from pg_namespace where nspname = %s"
Try = Callable[["psycopg.Connection[Any]", Sequence[str]], None]


class OpenConnection:
    """A login at a database that is open."""

    def __init__(self, connection: "psycopg.Connection[Any]", stack: ExitStack) -> None:
        self.connection = connection
        self.stack = stack
        idle = connection.execute("select current_setting('idle_session_timeout', true)").fetchone()
        connection.rollback()
        after = "" if idle is None or idle[0] in (None, "0") else str(idle[0])
        self.ended_by = "a cut-off ends it" + (
            f", and the server after {after} in which nothing is done" if after else ""
        )

    def goes_on(self) -> bool:
        """Whether the server still answers it."""
        try:
            self.connection.execute("select 1")
            self.connection.rollback()
        except psycopg.Error:
            return False
        return True

    def close(self) -> None:
        """Ends it."""
        self.stack.close()


class UsedDatabase:
    """The attempt port of a database. `issuer` is the authority whose certificates it takes, `trusts` the file with
    the certificate that its server proves itself with ('': those of the system)."""

    def __init__(self, database: Database, issuer: str, trusts: str) -> None:
        self.name = database.address
        self.issuer = issuer
        self._server = server_of(database.url)
        self._trusts = trusts

    def attempt(self, session: HeldCredential, attempt: Attempt, asked: Surroundings) -> Done | Refusal:
        """Logs in with a certificate and does it, in a transaction that is rolled back."""
        del asked
        if session.form != "certificate":
            raise InvalidInput(
                f"{self.name} takes certificates alone, not {article(session.form)}", code="proof-impossible",
                remedy="take on an identity first: name it in `through`",
            )  # fmt: skip
        parts = [name_of(word) for word in attempt.target.removeprefix(self.name).strip("/").split("/")[1::2]]
        kind = ("database", "schema", "table")[len(parts)]
        trying = _trials(kind, attempt.verb)
        login = role_in(session)
        with self._logged_in(session, login) as found:
            if isinstance(found, Refusal):
                return found
            if kind == "database" and attempt.verb == "login":
                return Done(f"logged in as {login}")
            try:
                for try_it in trying:
                    try_it(found, parts)
            except psycopg.errors.InsufficientPrivilege as fault:
                return Refusal((VerdictStep.TARGET_SIDE,), said_by(fault))
            except (psycopg.errors.UndefinedTable, psycopg.errors.InvalidSchemaName) as fault:
                return Refusal((VerdictStep.NAMES,), said_by(fault))
            finally:
                found.rollback()
        return Done("done, and rolled back")

    def opened(self, session: HeldCredential) -> "OpenConnection | Refusal":
        """A login that stays open, doing nothing."""
        stack = ExitStack()
        found = stack.enter_context(self._logged_in(session, role_in(session)))
        if isinstance(found, Refusal):
            stack.close()
            return found
        return OpenConnection(found, stack)

    @contextmanager
    def _logged_in(self, session: HeldCredential, login: str) -> "Iterator[psycopg.Connection[Any] | Refusal]":
        """A connection as the role of an identity, or the refusal. Unreachable where that shows nothing of access."""
        held = in_memory(session.secret.reveal())
        place = f"/proc/self/fd/{held}"
        try:
            connection = psycopg.connect(
                host=self._server["host"], port=self._server["port"], dbname=self._server["dbname"], user=login,
                sslmode="verify-full", sslrootcert=self._trusts or "system", sslcert=place, sslkey=place,
                connect_timeout=SECONDS, options="-c search_path=pg_catalog", gssencmode="disable", password="",
                passfile="/dev/null/none",
            )  # fmt: skip
        except psycopg.OperationalError as fault:
            refusal = _refusal(str(fault))
            if refusal is None:
                message = f"{self.name} did not answer: {said_by(fault)}"
                raise Unreachable(message, code="database-unreachable") from None
            # a server says of some certificates only that they are bad
            yield refusal if _in_time(session) else Refusal((VerdictStep.SESSION,), "the certificate is not valid now")
            return
        finally:
            os.close(held)
        with connection:
            yield connection


def _trials(kind: str, verb: str) -> list[Try]:
    """What shows that a verb is allowed; InvalidInput where nothing does without leaving something behind."""
    if kind == "database" and verb == "login":
        return []
    wanted = WRITING if (kind, verb) == ("table", WRITE) else (verb,)
    found = [TRIALS[kind, one] for one in wanted if (kind, one) in TRIALS]
    if len(found) < len(wanted):
        able = ", ".join(f"{of} {one}" for of, one in TRIALS)
        raise InvalidInput(
            f"{verb} on a {kind} cannot be tried without leaving something behind (what can: database login, {able})",
            code="proof-impossible",
        )
    return found


def _select(connection: "psycopg.Connection[Any]", table: Sequence[str]) -> None:
    connection.execute(sql.SQL("select * from {} limit 1").format(sql.Identifier(*table)))


def _delete(connection: "psycopg.Connection[Any]", table: Sequence[str]) -> None:
    connection.execute(sql.SQL("delete from {} where false").format(sql.Identifier(*table)))


def _insert(connection: "psycopg.Connection[Any]", table: Sequence[str]) -> None:
    query = sql.SQL("insert into {} ({}) select null where false")
    connection.execute(query.format(sql.Identifier(*table), _column(connection, table)))


def _update(connection: "psycopg.Connection[Any]", table: Sequence[str]) -> None:
    query = sql.SQL("update {} set {} = default where false")
    connection.execute(query.format(sql.Identifier(*table), _column(connection, table)))


def _column(connection: "psycopg.Connection[Any]", table: Sequence[str]) -> sql.Identifier:
    """A column that can be written."""
    found = connection.execute(COLUMN, list(table)).fetchone()
    if found is None:
        raise psycopg.errors.UndefinedTable(f"{'.'.join(table)} does not exist, or has no column that can be written")
    return sql.Identifier(str(found[0]))


def _schema_used(connection: "psycopg.Connection[Any]", schema: Sequence[str]) -> None:
    found = connection.execute(USABLE, list(schema)).fetchone()
    if found is None:
        raise psycopg.errors.InvalidSchemaName(f"the schema {schema[0]} does not exist")
    if not found[0]:
        raise psycopg.errors.InsufficientPrivilege(f"permission denied for schema {schema[0]}")


TRIALS: Mapping[tuple[str, str], Try] = {
    ("schema", "describe"): _schema_used,
    ("table", "read"): _select,
    ("table", "insert"): _insert,
    ("table", "update"): _update,
    ("table", "remove-rows"): _delete,
}


def _refusal(said: str) -> Refusal | None:
    """What a failed login says of access; None where it says nothing of it."""
    text = said_by(psycopg.OperationalError(said))
    if any(word in said for word in ENDED):
        return Refusal((VerdictStep.SESSION,), text)
    if any(word in said for word in NOT_LET_IN):
        return Refusal((VerdictStep.TARGET_SIDE,), text)
    return Refusal((VerdictStep.NAMES,), text) if any(word in said for word in UNKNOWN) else None


def _in_time(session: HeldCredential) -> bool:
    """Whether a certificate is valid by this machine's clock."""
    issued = x509.load_pem_x509_certificate(session.secret.reveal().encode())
    return issued.not_valid_before_utc <= datetime.now(UTC) < issued.not_valid_after_utc


def role_in(session: HeldCredential) -> str:
    """The role that a certificate logs in as: the path of its SPIFFE id."""
    issued = x509.load_pem_x509_certificate(session.secret.reveal().encode())
    names = issued.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    uri = next(iter(names.get_values_for_type(x509.UniformResourceIdentifier)), "")
    return unquote(uri.removeprefix("spiffe://").partition("/")[2])


def in_memory(pem: str, *, inherited: bool = False) -> int:
    """The descriptor of a file in memory with a certificate and its key, which libraries want as files."""
    if not hasattr(os, "memfd_create"):
        raise InvalidInput(
            "files in memory are known on Linux alone", code="platform-not-known", remedy="run it on Linux"
        )
    descriptor = os.memfd_create("certificate", 0 if inherited else os.MFD_CLOEXEC)
    os.fchmod(descriptor, 0o600)
    os.write(descriptor, pem.encode())
    return descriptor

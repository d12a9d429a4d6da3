"""The lab's state: one SQLite file that survives a crash. Every change is one transaction."""

import json
import math
import sqlite3
import time
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

SCHEMA = """
CREATE TABLE IF NOT EXISTS settings (name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS keys (
  service TEXT NOT NULL, kid TEXT NOT NULL, private TEXT NOT NULL, made REAL NOT NULL, retired REAL,
  PRIMARY KEY (service, kid));
CREATE TABLE IF NOT EXISTS statements (
  number INTEGER PRIMARY KEY AUTOINCREMENT, id TEXT UNIQUE NOT NULL, cloud TEXT NOT NULL,
  collection TEXT NOT NULL, holder TEXT NOT NULL, name TEXT, version INTEGER NOT NULL, mark TEXT,
  body TEXT NOT NULL);
CREATE UNIQUE INDEX IF NOT EXISTS by_name ON statements (cloud, collection, holder, name) WHERE name IS NOT NULL;
CREATE TABLE IF NOT EXISTS gone (id TEXT PRIMARY KEY, address TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS contents (address TEXT PRIMARY KEY, content BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS trials (
  id TEXT PRIMARY KEY, subject TEXT NOT NULL, address TEXT NOT NULL, before BLOB, made REAL NOT NULL);
CREATE TABLE IF NOT EXISTS runs (id TEXT PRIMARY KEY, service TEXT NOT NULL, claims TEXT NOT NULL, made REAL NOT NULL);
CREATE TABLE IF NOT EXISTS objects (
  number INTEGER PRIMARY KEY AUTOINCREMENT, cluster TEXT NOT NULL, api TEXT NOT NULL, plural TEXT NOT NULL,
  namespace TEXT NOT NULL, name TEXT NOT NULL, version INTEGER NOT NULL, body TEXT NOT NULL,
  UNIQUE (cluster, api, plural, namespace, name));
CREATE TABLE IF NOT EXISTS things (address TEXT PRIMARY KEY, body TEXT NOT NULL, gone INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS credentials (
  id TEXT PRIMARY KEY, cloud TEXT NOT NULL, name TEXT NOT NULL, of TEXT NOT NULL, form TEXT NOT NULL,
  created REAL NOT NULL, expires REAL, last_used REAL, disabled INTEGER NOT NULL, conditions TEXT NOT NULL,
  reason TEXT NOT NULL, made_by TEXT NOT NULL, digest TEXT UNIQUE NOT NULL, UNIQUE (cloud, name));
CREATE TABLE IF NOT EXISTS sign_ins (
  device TEXT PRIMARY KEY, code TEXT UNIQUE NOT NULL, directory TEXT NOT NULL, ends REAL NOT NULL, asked REAL,
  person TEXT, mfa TEXT, refused INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS sign_in_clients (device TEXT PRIMARY KEY, client TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS revoked (jti TEXT PRIMARY KEY, ends REAL NOT NULL);
CREATE TABLE IF NOT EXISTS shown (service TEXT NOT NULL, id TEXT NOT NULL, ends REAL NOT NULL,
  PRIMARY KEY (service, id));
CREATE TABLE IF NOT EXISTS usage (
  number INTEGER PRIMARY KEY AUTOINCREMENT, cloud TEXT NOT NULL, record TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS sessions (
  id TEXT PRIMARY KEY, service TEXT NOT NULL, subject TEXT NOT NULL, told TEXT NOT NULL, began REAL NOT NULL,
  ends REAL NOT NULL);
CREATE TABLE IF NOT EXISTS pending (
  number INTEGER PRIMARY KEY AUTOINCREMENT, id TEXT NOT NULL, cloud TEXT NOT NULL, before TEXT,
  shows REAL NOT NULL, acts REAL NOT NULL);
CREATE TABLE IF NOT EXISTS writers (id TEXT PRIMARY KEY, by TEXT NOT NULL, at REAL NOT NULL);
CREATE TABLE IF NOT EXISTS answers (
  key TEXT PRIMARY KEY, request TEXT NOT NULL, status INTEGER NOT NULL, headers TEXT NOT NULL, body BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS changes (
  cluster TEXT NOT NULL, version INTEGER NOT NULL, api TEXT NOT NULL, plural TEXT NOT NULL, namespace TEXT NOT NULL,
  before TEXT, before_version INTEGER, after TEXT);
CREATE INDEX IF NOT EXISTS changes_by_version ON changes (cluster, version);
CREATE INDEX IF NOT EXISTS by_version ON objects (cluster, version);
"""
FORMAT = 2  # of the state; 1 had words that were renamed since


@dataclass(frozen=True)
class Statement:
    """An object of the administration interface; its id is never used again."""

    id: str
    cloud: str
    collection: str
    holder: str
    name: str | None
    version: int
    mark: str | None
    body: dict[str, Any]

    @property
    def etag(self) -> str:
        """The entity tag of this version (RFC 9110, section 8.8.3)."""
        return f'"{self.id[:8]}-{self.version}"'


@dataclass(frozen=True)
class Answered:
    """What was answered to a request that may come again: `request` tells whether it is the same."""

    request: str
    status: int
    headers: dict[str, str]
    body: bytes


def _statement(row: tuple[Any, ...]) -> Statement:
    identifier, cloud, collection, holder, name, version, mark, body = row[:8]
    return Statement(identifier, cloud, collection, holder, name, version, mark, json.loads(body))


def _with_new_words(body: dict[str, Any]) -> dict[str, Any]:
    if body.get("over") == "resources":
        body["over"] = "targets"
    for field in ("allows", "bars", "only"):
        for kind, verbs in (body.get(field) or {}).items():
            if kind in ("identity", "*"):
                listed = [verbs] if isinstance(verbs, str) else verbs
                body[field][kind] = ["run-as" if verb == "use" else verb for verb in listed]
    return body


class Store:
    """All state of one lab. One connection, used from one thread."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.connection = sqlite3.connect(path, isolation_level=None, timeout=10)
        self.connection.executescript("PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;" + SCHEMA)
        known = {row[1] for row in self.connection.execute("PRAGMA table_info(credentials)")}
        if "made_by" not in known:  # the state of a lab that was started before
            self.connection.execute("ALTER TABLE credentials ADD COLUMN made_by TEXT NOT NULL DEFAULT ''")
        self.changes = 0
        self.by = ""  # who writes now
        self._kept: dict[str, dict[str, Statement]] = {}  # by cloud and id, in the order in which they were made
        self._kept_of = -1  # the version of the file by others that they are of
        self.at_end_of_login: Callable[[str], None] = lambda identifier: None  # of one that ends before its time
        self.lags: Callable[[str, str], tuple[float, float]] = lambda cloud, holder: (0.0, 0.0)
        if self.connection.execute("PRAGMA user_version").fetchone()[0] < FORMAT:
            self._renew()

    def _renew(self) -> None:
        """Rewrites words that were renamed since the state was written."""
        with self.transaction():
            for identifier, body in self.connection.execute("SELECT id, body FROM statements").fetchall():
                renewed = json.dumps(_with_new_words(json.loads(body)))
                self.connection.execute("UPDATE statements SET body = ? WHERE id = ?", (renewed, identifier))
            self.connection.execute(f"PRAGMA user_version = {FORMAT}")

    def close(self) -> None:
        """Closes the database."""
        self.connection.close()

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """All or nothing, with whatever it is part of; `version()` differs afterwards."""
        if self.connection.in_transaction:
            yield
            return
        self.connection.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self.connection.execute("ROLLBACK")
            self._kept.clear()
            raise
        self.connection.execute("COMMIT")
        self.changes += 1

    def version(self) -> tuple[int, int]:
        """Changes whenever anything in the file does, by this connection or by another one."""
        return self.changes, self.connection.execute("PRAGMA data_version").fetchone()[0]

    # settings

    def setting(self, name: str, default: Any = None) -> Any:
        """A setting, or the default where it was never set."""
        row = self.connection.execute("SELECT value FROM settings WHERE name = ?", (name,)).fetchone()
        return json.loads(row[0]) if row else default

    def set_setting(self, name: str, value: Any) -> None:
        """Keeps a setting; the value must be plain data."""
        with self.transaction():
            self.connection.execute("INSERT OR REPLACE INTO settings VALUES (?, ?)", (name, json.dumps(value)))

    def side(self) -> str:
        """What tells this lab from another one at the same place: made when it is first asked for."""
        found = self.setting("side")
        if not isinstance(found, str):
            found = str(uuid.uuid4())
            self.set_setting("side", found)
        return found

    # statements

    def statements(self, cloud: str, collection: str | None = None, holder: str | None = None) -> list[Statement]:
        """Statements of a cloud in the order they were made."""
        return [
            statement
            for statement in self._of(cloud).values()
            if collection in (None, statement.collection) and holder in (None, statement.holder)
        ]

    def _of(self, cloud: str) -> dict[str, Statement]:
        """The statements of a cloud by id, read again only where another process has written."""
        others = self.connection.execute("PRAGMA data_version").fetchone()[0]
        if others != self._kept_of:
            self._kept.clear()
            self._kept_of = others
        if cloud not in self._kept:
            query = "SELECT id, cloud, collection, holder, name, version, mark, body FROM statements WHERE cloud = ?"
            rows = self.connection.execute(query + " ORDER BY number", (cloud,))
            self._kept[cloud] = {row[0]: _statement(row) for row in rows}
        return self._kept[cloud]

    def page(
        self, cloud: str, collection: str, holder: str, after: int, limit: int
    ) -> tuple[list[Statement], int | None]:
        """One page of what a boundary and those below it hold; the number after which the next one starts, or None."""
        rows = self.connection.execute(
            "SELECT id, cloud, collection, holder, name, version, mark, body, number FROM statements"
            " WHERE cloud = ? AND collection = ? AND (holder = ? OR substr(holder, 1, ?) = ?) AND number > ?"
            " ORDER BY number LIMIT ?",
            (cloud, collection, holder, len(holder) + 1, holder + "/", after, limit + 1),
        ).fetchall()
        found = [_statement(row) for row in rows[:limit]]
        return found, rows[limit - 1][8] if len(rows) > limit else None

    # what was changed a moment ago, and does not show yet or is not enforced yet

    def _note(self, identifier: str, cloud: str, holder: str, before: Statement | None) -> None:
        """Remembers what a statement was, for as long as a change of it does not show everywhere."""
        self.connection.execute("INSERT OR REPLACE INTO writers VALUES (?, ?, ?)", (identifier, self.by, time.time()))
        shows, acts = self.lags(cloud, holder)
        if shows or acts:
            now, was = time.time(), json.dumps(asdict(before)) if before is not None else None
            self.connection.execute(
                "INSERT INTO pending (id, cloud, before, shows, acts) VALUES (?, ?, ?, ?, ?)",
                (identifier, cloud, was, now + shows, now + acts),
            )

    def as_it_was(self, cloud: str, column: str) -> tuple[dict[str, Statement | None], float]:
        """For what changed a moment ago and does not show yet (`shows`) or is not enforced yet (`acts`) what still
        counts, by id; with the time until which that stays so."""
        rows = self.connection.execute(
            f"SELECT id, before, {column} FROM pending WHERE cloud = ? ORDER BY number",  # noqa: S608  our own column
            (cloud,),
        ).fetchall()
        now, until = time.time(), math.inf
        out: dict[str, Statement | None] = {}
        for identifier, before, ends in rows:
            if ends <= now:
                out.pop(identifier, None)  # a later change shows, and with it the earlier ones
            else:
                until = min(until, ends)
                out.setdefault(identifier, Statement(**json.loads(before)) if before is not None else None)
        return out, until

    def written_by(self, identifier: str) -> tuple[str, float] | None:
        """Who wrote or removed a statement last, and when (seconds since 1970)."""
        row = self.connection.execute("SELECT by, at FROM writers WHERE id = ?", (identifier,)).fetchone()
        return (row[0], row[1]) if row else None

    def waits(self, identifier: str) -> bool:
        """Whether a change of a statement does not show or is not enforced yet."""
        now = time.time()
        row = self.connection.execute(
            "SELECT 1 FROM pending WHERE id = ? AND (shows > ? OR acts > ?) LIMIT 1", (identifier, now, now)
        ).fetchone()
        return row is not None

    def any_waits(self) -> bool:
        """Whether a change of anything does not show or is not enforced yet; what shows by now is forgotten."""
        now = time.time()
        rows = self.connection.execute("SELECT max(shows, acts) FROM pending").fetchall()
        if rows and all(ends <= now for (ends,) in rows):
            with self.transaction():
                self.connection.execute("DELETE FROM pending WHERE shows <= ? AND acts <= ?", (now, now))
        return any(ends > now for (ends,) in rows)

    def seen(self, cloud: str, column: str, collection: str | None = None) -> list[Statement]:
        """The statements of a cloud as they show (`shows`) or as they are enforced (`acts`)."""
        now = self.statements(cloud, collection)
        was = self.as_it_was(cloud, column)[0] if self.any_waits() else {}
        if not was:
            return now
        kept = [was.pop(statement.id) if statement.id in was else statement for statement in now]
        back = [
            statement
            for statement in was.values()
            if statement is not None and collection in (None, statement.collection)
        ]
        return [statement for statement in (*kept, *back) if statement is not None]

    # what was answered, for requests that come again

    def answered(self, key: str) -> Answered | None:
        """What was answered to the request with an idempotency key, or None."""
        row = self.connection.execute(
            "SELECT request, status, headers, body FROM answers WHERE key = ?", (key,)
        ).fetchone()
        return Answered(row[0], row[1], json.loads(row[2]), row[3]) if row else None

    def keep_answer(self, key: str, answer: Answered) -> None:
        """Within the transaction of what it answers, so that neither is there without the other."""
        self.connection.execute(
            "INSERT OR REPLACE INTO answers VALUES (?, ?, ?, ?, ?)",
            (key, answer.request, answer.status, json.dumps(answer.headers), answer.body),
        )

    def statement(self, cloud: str, collection: str, identifier: str) -> Statement | None:
        """A statement of a cloud's collection by its id, or None."""
        found = self._of(cloud).get(identifier)
        return found if found is not None and found.collection == collection else None

    def add(
        self, cloud: str, collection: str, holder: str, name: str | None, mark: str | None, body: dict[str, Any]
    ) -> Statement:
        """Adds a statement; sqlite3.IntegrityError where its name is taken."""
        made = Statement(str(uuid.uuid4()), cloud, collection, holder, name, 1, mark, body)
        known = self._of(cloud)
        with self.transaction():
            self.connection.execute(
                "INSERT INTO statements (id, cloud, collection, holder, name, version, mark, body)"
                " VALUES (?, ?, ?, ?, ?, 1, ?, ?)",
                (made.id, cloud, collection, holder, name, mark, json.dumps(body)),
            )
            self._note(made.id, cloud, holder, None)
            known[made.id] = made
        return made

    def replace(self, old: Statement, mark: str | None, body: dict[str, Any]) -> Statement:
        """Writes a statement's next version."""
        known = self._of(old.cloud)
        with self.transaction():
            self.connection.execute(
                "UPDATE statements SET version = version + 1, mark = ?, body = ? WHERE id = ?",
                (mark, json.dumps(body), old.id),
            )
            self._note(old.id, old.cloud, old.holder, old)
            changed = replace(old, version=old.version + 1, mark=mark, body=body)
            known[old.id] = changed
        return changed

    def remove(self, old: Statement) -> None:
        """Removes a statement and remembers the address it had, for those that still name its id."""
        with self.transaction():
            self._drop(old)

    def _drop(self, old: Statement) -> None:
        self._take_out(old)
        if old.collection == "identities":  # a trust is a part of its identity
            for trust in [
                statement for statement in self.statements(old.cloud, "trusts") if statement.body.get("of") == old.id
            ]:
                self._take_out(trust)
        address = old.body.get("address") or old.name or ""
        self.connection.execute("INSERT OR REPLACE INTO gone VALUES (?, ?)", (old.id, address))

    def _take_out(self, old: Statement) -> None:
        self._note(old.id, old.cloud, old.holder, old)
        self._of(old.cloud).pop(old.id, None)
        self.connection.execute("DELETE FROM statements WHERE id = ?", (old.id,))

    def address_gone(self, identifier: str) -> str:
        """The address that an identity had before it was removed; '' where the id is unknown."""
        row = self.connection.execute("SELECT address FROM gone WHERE id = ?", (identifier,)).fetchone()
        return row[0] if row else ""

    # what exists, as it comes and goes

    def things(self) -> dict[str, dict[str, Any] | None]:
        """Resources that came after the inventory, and with None those that went."""
        rows = self.connection.execute("SELECT address, body, gone FROM things")
        return {address: None if gone else json.loads(body) for address, body, gone in rows}

    def add_things(self, bodies: dict[str, dict[str, Any]]) -> None:
        """Adds resources by address, replacing those of the same address."""
        with self.transaction():
            self.connection.executemany(
                "INSERT OR REPLACE INTO things VALUES (?, ?, 0)",
                [(address, json.dumps(body)) for address, body in bodies.items()],
            )

    def remove_thing(self, address: str, with_it: list[Statement]) -> None:
        """A resource goes, with what is in it and with the statements that were a part of it."""
        with self.transaction():
            inside = [name for name in self.things() if name.startswith(address + "/")]
            self.connection.executemany(
                "INSERT OR REPLACE INTO things VALUES (?, '{}', 1)", [(name,) for name in (address, *inside)]
            )
            for old in with_it:
                self._drop(old)

    # what is stored

    def content(self, address: str) -> bytes | None:
        """What a resource holds, or None."""
        row = self.connection.execute("SELECT content FROM contents WHERE address = ?", (address,)).fetchone()
        return row[0] if row else None

    def set_content(self, address: str, content: bytes | None) -> None:
        """Sets what a resource holds; None empties it."""
        with self.transaction():
            self._put(address, content)

    def _put(self, address: str, content: bytes | None) -> None:
        if content is None:
            self.connection.execute("DELETE FROM contents WHERE address = ?", (address,))
        else:
            self.connection.execute("INSERT OR REPLACE INTO contents VALUES (?, ?)", (address, content))

    def listed(self, prefix: str) -> list[str]:
        """Addresses of what is stored at or below a place."""
        rows = self.connection.execute(
            "SELECT address FROM contents WHERE address = ? OR substr(address, 1, ?) = ? ORDER BY address",
            (prefix, len(prefix) + 1, prefix + "/"),
        )
        return [row[0] for row in rows]

    def beginning(self, start: str) -> list[str]:
        """The keys of what is stored that begin so."""
        rows = self.connection.execute(
            "SELECT address FROM contents WHERE substr(address, 1, ?) = ? ORDER BY address", (len(start), start)
        )
        return [row[0] for row in rows]

    # trials: attempts that are put back afterwards

    def start_trial(self, subject: str, address: str, content: bytes | None, now: float) -> str:
        """Stores (or with None removes) content and keeps what was there before."""
        identifier = str(uuid.uuid4())
        with self.transaction():
            before = self.content(address)
            self.connection.execute(
                "INSERT INTO trials VALUES (?, ?, ?, ?, ?)", (identifier, subject, address, before, now)
            )
            self._put(address, content)
        return identifier

    def trial(self, identifier: str) -> tuple[str, str] | None:
        """Subject and address of an open trial."""
        row = self.connection.execute("SELECT subject, address FROM trials WHERE id = ?", (identifier,)).fetchone()
        return (row[0], row[1]) if row else None

    def end_trial(self, identifier: str) -> None:
        """Puts back what was there before."""
        with self.transaction():
            row = self.connection.execute("SELECT address, before FROM trials WHERE id = ?", (identifier,)).fetchone()
            if row:
                self._put(row[0], row[1])
                self.connection.execute("DELETE FROM trials WHERE id = ?", (identifier,))

    def end_all_trials(self) -> None:
        """Puts back what interrupted trials left, the newest first."""
        for (identifier,) in self.connection.execute("SELECT id FROM trials ORDER BY rowid DESC").fetchall():
            self.end_trial(identifier)

    # runs of the pipeline service

    def add_run(self, service: str, claims: dict[str, Any], now: float) -> str:
        """Keeps the claims of a pipeline's run. Returns the run's id."""
        identifier = str(uuid.uuid4())
        with self.transaction():
            self.connection.execute(
                "INSERT INTO runs VALUES (?, ?, ?, ?)", (identifier, service, json.dumps(claims), now)
            )
        return identifier

    def run(self, service: str, identifier: str) -> dict[str, Any] | None:
        """The claims of a run, or None."""
        row = self.connection.execute(
            "SELECT claims FROM runs WHERE id = ? AND service = ?", (identifier, service)
        ).fetchone()
        return json.loads(row[0]) if row else None

    # keys

    def first_shown(self, service: str, identifier: str, ends: float, now: float) -> bool:
        """Whether something that may be shown to a service once, and not at all after its end, is shown to it now."""
        with self.transaction():
            self.connection.execute("DELETE FROM shown WHERE ends <= ?", (now,))
            put = "INSERT OR IGNORE INTO shown VALUES (?, ?, ?)"
            return self.connection.execute(put, (service, identifier, ends)).rowcount == 1

    def keys(self, service: str) -> list[tuple[str, float, float | None]]:
        """Private JWKs of a service with when they were made and retired, the newest first."""
        rows = self.connection.execute(
            "SELECT private, made, retired FROM keys WHERE service = ? ORDER BY made DESC, kid", (service,)
        )
        return [tuple(row) for row in rows]

    def add_key(self, service: str, kid: str, private: str, now: float) -> None:
        """Keeps a service's signing key, valid from now."""
        with self.transaction():
            self.connection.execute("INSERT INTO keys VALUES (?, ?, ?, ?, NULL)", (service, kid, private, now))

    def retire_keys(self, service: str, now: float, drop_before: float) -> None:
        """Retires all keys of a service; those retired before `drop_before` are forgotten."""
        with self.transaction():
            self.connection.execute(
                "DELETE FROM keys WHERE service = ? AND retired IS NOT NULL AND retired < ?", (service, drop_before)
            )
            self.connection.execute("UPDATE keys SET retired = ? WHERE service = ? AND retired IS NULL", (now, service))

"""Real PostgreSQL servers for the databases of an estate that have servers of their own, where it is installed.

Each has a folder below the one for temporary files, since the server does not run as root and the folder of the lab
is closed to others. The administrators come in by its socket there, workloads by certificate alone.
"""

import json
import os
import pwd
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Mapping
from importlib.util import find_spec
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

OWNER = "postgres"  # the user that the packages make
PLACES = ("/usr/lib/postgresql", "/opt/postgresql", "/usr/local/pgsql")
READY = 30.0  # seconds
MAP = "enthesis"  # how names in certificates become roles
LOGINS = "enthesis logins"  # the role of all that log in by certificate


class NotInstalled(RuntimeError):
    """There is no PostgreSQL here; the message says what to install."""


def programs() -> Path:
    """The folder of `initdb` and `postgres`; NotInstalled where they, or the library that asks them, are not found."""
    if find_spec("psycopg") is None:
        raise NotInstalled("the library for PostgreSQL is not installed (pip install 'enthesis[postgresql]')")
    found = [path.parent for place in PLACES for path in sorted(Path(place).glob("**/bin/initdb"), reverse=True)]
    on_path = shutil.which("initdb")
    if found:
        return found[0]
    if on_path is None:
        raise NotInstalled("PostgreSQL is not installed (apt-get install postgresql)")
    return Path(on_path).parent


def lines_for(database: str, estate: str) -> tuple[str, str]:
    """The lines that let workloads in: one of host-based access, and one of the map of user names."""
    access = f"hostssl {_quoted(database)} +{_quoted(LOGINS)} all cert map={MAP}"
    return access, f"{MAP} /^spiffe://{estate}/(.+)$ \\1"


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


PREFIX = "enthesis-pg-"  # of the folders
FOLDERS = "databases.json"  # in the state of a lab: the folder of each server


class DatabaseServer:
    """The server of one database. `authority` is the certificate of whose certificates it takes."""

    def __init__(self, address: str, url: str, estate: str, folder: Path | None) -> None:
        self.address = address
        self.database = unquote(urlsplit(url).path.lstrip("/"))
        self.estate = estate
        self.folder = folder or Path(tempfile.mkdtemp(prefix=PREFIX, dir=_place()))
        self.port = 0
        self._process: subprocess.Popen[bytes] | None = None

    def start(self, chain: Path, key: Path, authority: bytes, port: int | None) -> None:
        """Starts it, made first where it is new; RuntimeError where it does not come up, or is not installed."""
        where, data = programs(), self.folder / "data"
        self.folder.mkdir(mode=0o700, exist_ok=True)
        as_owner = self._as_owner()
        if not (data / "PG_VERSION").exists():
            words = [where / "initdb", "-D", data, "-A", "peer", "-U", OWNER, "--no-sync", "-E", "UTF8", "--locale=C"]
            self._run([*as_owner, *map(str, words)])
        for name, content in (
            ("server.crt", chain.read_bytes()), ("server.key", key.read_bytes()), ("clients.pem", authority)
        ):  # fmt: skip
            self._write(data / name, content)
        access, mapped = lines_for(self.database, self.estate)
        me = pwd.getpwuid(os.geteuid()).pw_name
        self._write(data / "pg_hba.conf", f"local all {OWNER} peer map=administrator\n{access}\n".encode())
        self._write(data / "pg_ident.conf", f"administrator {_quoted(me)} {OWNER}\n{mapped}\n".encode())
        self.port = free_port(port)
        settings = {
            "port": self.port, "listen_addresses": "127.0.0.1", "unix_socket_directories": self.folder, "fsync": "off",
            "ssl": "on", "ssl_cert_file": "server.crt", "ssl_key_file": "server.key", "ssl_ca_file": "clients.pem",
            "log_connections": "on", "max_connections": 40,
        }  # fmt: skip
        options = [word for name, value in settings.items() for word in ("-c", f"{name}={value}")]
        log = (self.folder / "server.log").open("ab")
        command = [*as_owner, str(where / "postgres"), "-D", str(data), *options]
        self._process = subprocess.Popen(command, cwd="/", stdin=subprocess.DEVNULL, stdout=log, stderr=log)  # noqa: S603
        log.close()
        self._until_ready()

    @property
    def access(self) -> str:
        """How its administrators come in: as libpq takes it, without anything secret."""
        return f"host={self.folder} port={self.port} user={OWNER} dbname='{self.database}'"

    def stop(self) -> None:
        """Ends it."""
        if self._process is not None:
            self._process.terminate()
            try:
                self._process.wait(READY)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()

    def _as_owner(self) -> list[str]:
        """The words before a command: as a user that the server runs as, and ended when the lab is."""
        ends = ending_with_us()
        if os.geteuid() != 0:
            return ends
        user = pwd.getpwnam(OWNER)
        os.chown(self.folder, user.pw_uid, user.pw_gid)
        return [*ends, f"--reuid={OWNER}", f"--regid={OWNER}", "--init-groups"]

    def _write(self, place: Path, content: bytes) -> None:
        """A file that the server alone reads."""
        write_closed(place, content, pwd.getpwnam(OWNER) if os.geteuid() == 0 else None)

    def _run(self, command: list[str]) -> None:
        done = subprocess.run(command, cwd="/", capture_output=True, text=True, check=False)  # noqa: S603
        if done.returncode != 0:
            said = (done.stderr or done.stdout).strip().splitlines()
            raise RuntimeError(f"the server of {self.address} cannot be made: {said[-1] if said else done.returncode}")

    def _until_ready(self) -> None:
        """Waits for it, and makes the database itself and the role of those that log in, once."""
        import psycopg  # noqa: PLC0415  only a lab with databases needs it
        from psycopg import sql  # noqa: PLC0415

        access = f"host={self.folder} port={self.port} user={OWNER} dbname=postgres"
        deadline = time.monotonic() + READY
        while self._process is not None and self._process.poll() is None and time.monotonic() < deadline:
            try:
                connection = psycopg.connect(access, autocommit=True, connect_timeout=5)
            except psycopg.OperationalError:
                time.sleep(0.02)
                continue
            with connection:
                for query, name, make in (
                    ("select 1 from pg_database where datname = %s", self.database, "create database {}"),
                    ("select 1 from pg_roles where rolname = %s", LOGINS, "create role {} nologin"),
                ):
                    if connection.execute(query, [name]).fetchone() is None:
                        connection.execute(sql.SQL(make).format(sql.Identifier(name)))
            return
        raise RuntimeError(f"the server of {self.address} did not start{last_said(self.folder / 'server.log')}")


def furnish(server: DatabaseServer, places: Mapping[str, Any]) -> None:
    """Makes the schemas and tables that an estate says exist; a table has two columns."""
    import psycopg  # noqa: PLC0415  only a lab with databases needs it
    from psycopg import sql  # noqa: PLC0415

    with psycopg.connect(server.access, autocommit=True) as connection:
        for address in sorted(places):
            parts = address.removeprefix(f"{server.address}/").split("/")
            if not address.startswith(f"{server.address}/") or parts[0] != "schema":
                continue
            names = [sql.Identifier(name) for name in parts[1::2]]
            connection.execute(sql.SQL("create schema if not exists {}").format(names[0]))
            if len(names) > 1:
                make = "create table if not exists {}.{} (id bigint generated always as identity, said text)"
                connection.execute(sql.SQL(make).format(*names))


def _place() -> str:
    """Where their folders are: a server of another user reaches it, and the path of a socket there is short."""
    return "/tmp" if os.access("/tmp", os.W_OK | os.X_OK) else tempfile.gettempdir()  # noqa: S108  a fresh folder in it


def ending_with_us() -> list[str]:
    """The words before a command that end its process when this one ends, where that is known."""
    return ["setpriv", "--pdeathsig=TERM"] if shutil.which("setpriv") else []


def write_closed(place: Path, content: bytes, owner: pwd.struct_passwd | None = None) -> None:
    """Writes a file anew that its owner alone reads: us, or another user."""
    place.unlink(missing_ok=True)
    descriptor = os.open(place, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "wb") as file:
        file.write(content)
        if owner is not None:
            os.fchown(file.fileno(), owner.pw_uid, owner.pw_gid)


def free_port(wanted: int | None) -> int:
    """A loopback port that is free: the one it had before, where that still is."""
    for port in (wanted or 0, 0):
        with socket.socket() as free:
            try:
                free.bind(("127.0.0.1", port))
            except OSError:
                continue
            return int(free.getsockname()[1])
    raise OSError("no loopback port is free")


def own_servers(inventory: Mapping[str, Any]) -> dict[str, Mapping[str, Any]]:
    """The resources of an inventory that are databases with servers of their own, by address."""
    found = inventory["resources"].items()
    return {address: one for address, one in found if "/database/" in address and one.get("url")}


def remove_folders(state: Path) -> None:
    """Removes what the servers of a lab have stored."""
    try:
        folders = json.loads((state / FOLDERS).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return
    for folder in map(Path, folders.values()):
        if folder.name.startswith(PREFIX) and folder.parent == Path(_place()):
            shutil.rmtree(folder, ignore_errors=True)


def last_said(log: Path) -> str:
    """What a server said last in its log, and where that is, as the end of a sentence."""
    try:
        lines = [line for line in log.read_text(errors="replace").splitlines() if line.strip()]
    except OSError:
        lines = []
    return f": {lines[-1].strip()} ({log})" if lines else f"; its log is {log}"

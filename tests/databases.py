"""A PostgreSQL server of the tests' own: started on a loopback port, and ended by its process."""

import os
import pwd
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psycopg

from enthesis_lab.databases import programs

OWNER = "postgres"


@contextmanager
def postgresql() -> Iterator[str]:
    """The URL of an empty database at a server that runs for as long as this does."""
    bin_folder = programs()
    folder = Path(tempfile.mkdtemp(prefix="pg-", dir="/tmp"))
    as_owner = _as_owner(folder)
    data = folder / "data"
    try:
        words = [str(bin_folder / "initdb"), "-D", str(data), "-A", "trust", "-U", OWNER, "--no-sync", "-E", "UTF8"]
        subprocess.run([*as_owner, *words], cwd="/", check=True, stdout=subprocess.DEVNULL)
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        settings = ("-p", str(port), "-c", "listen_addresses=127.0.0.1", "-k", str(folder), "-c", "fsync=off")
        server = [*as_owner, str(bin_folder / "postgres"), "-D", str(data), *settings]
        with subprocess.Popen(server, cwd="/", stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as running:
            url = f"postgresql://{OWNER}@127.0.0.1:{port}/postgres"
            try:
                _ready(url, running)
                yield url
            finally:
                running.terminate()
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _as_owner(folder: Path) -> list[str]:
    """The server refuses to run as root: then it is run as the user that its package makes, who owns the folder."""
    if os.geteuid() != 0:
        return []
    user = pwd.getpwnam(OWNER)
    os.chown(folder, user.pw_uid, user.pw_gid)
    return ["setpriv", f"--reuid={OWNER}", f"--regid={OWNER}", "--init-groups"]


def _ready(url: str, running: subprocess.Popen[bytes]) -> None:
    while running.poll() is None:
        try:
            psycopg.connect(url, connect_timeout=2).close()
        except psycopg.OperationalError:
            time.sleep(0.02)
        else:
            return
    raise AssertionError("PostgreSQL ended as soon as it had started")

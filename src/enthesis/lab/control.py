"""Starts, stops and tunes a lab from outside its process. Whoever may read the lab's folder administers the lab."""

import fcntl
import json
import os
import select
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from enthesis.lab.tokens import Signer

SESSION_LIFE = 3600  # seconds; of an administrator's session
START_TIMEOUT = 120.0  # seconds; it is waited for, or for its end, whichever comes first
STOP_TIMEOUT = 30.0  # seconds
INTERRUPTS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


class LabFailed(RuntimeError):
    """The lab could not be started or stopped; the message says why."""


@dataclass(frozen=True)
class Running:
    """A running lab: where its state is, its process, its services (name, kind, url), its authority's certificate."""

    state: Path
    estate: str
    pid: int
    authority: Path
    services: tuple[Mapping[str, str], ...]

    def url_of(self, service: str) -> str | None:
        """Where a service is; None where the lab has none of that name."""
        return next((one["url"] for one in self.services if one["name"] == service), None)


def running(state: Path) -> Running | None:
    """The lab that runs in a state folder and is ready, if one does."""
    pid = _holder_of_lock(state)
    if pid is None:
        return None
    try:
        described = json.loads((state / "services.json").read_text(encoding="utf-8"))
        return Running(state, described["estate"], pid, Path(described["authority"]), tuple(described["services"]))
    except (OSError, ValueError):
        return None


def _holder_of_lock(state: Path) -> int | None:
    """The process of the lab in a state folder, ready or not; None where there is none."""
    try:
        with (state / "lock").open("r+") as lock:
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                return int(lock.read() or 0) or None
    except (OSError, ValueError):
        return None
    return None


def start(state: Path, furniture: Mapping[str, Any], *, foreground: bool = False) -> Running | None:
    """Starts a lab, or furnishes a running one anew; answers when it is ready (None after --foreground ended)."""
    state.mkdir(mode=0o700, parents=True, exist_ok=True)
    state.chmod(0o700)
    written = json.dumps(furniture, sort_keys=True)
    place = state / "furniture.json"
    found = running(state)
    if found and place.read_text(encoding="utf-8") != written:
        stop(state)
        found = None
    if found:
        renew_sessions(state, found)
        return found
    (state / "services.json").unlink(missing_ok=True)
    place.write_text(written, encoding="utf-8")
    if foreground:
        _in_foreground(state)
        return None
    _launch(state)
    found = running(state)
    if found is None:
        raise LabFailed("the lab ended as soon as it had started" + _log_tail(state))
    renew_sessions(state, found)
    return found


def _in_foreground(state: Path) -> None:
    process, reading = _spawn(state, sys.stderr, own_session=False)
    try:
        signal.pthread_sigmask(signal.SIG_UNBLOCK, INTERRUPTS)
        _wait_ready(reading, state)
        found = running(state)
        if found:
            renew_sessions(state, found)
            for service in found.services:
                sys.stderr.write(f"{service['name']} ({service['kind']}) at {service['url']}\n")
        process.wait()
    finally:
        process.terminate()
        process.wait(STOP_TIMEOUT)
        (state / "administrators.json").unlink(missing_ok=True)


def _launch(state: Path) -> None:
    descriptor = os.open(state / "lab.log", os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w") as log:
        process, reading = _spawn(state, log, own_session=True)
    try:
        signal.pthread_sigmask(signal.SIG_UNBLOCK, INTERRUPTS)
        _wait_ready(reading, state)
    except BaseException:
        process.terminate()
        process.wait(STOP_TIMEOUT)
        raise
    process.returncode = 0  # it goes on by itself; nothing waits for it here


def _spawn(state: Path, log: Any, *, own_session: bool) -> tuple[subprocess.Popen[bytes], int]:
    """Starts the process of a lab, and answers it with the pipe on which it says that it is ready.

    Interrupts are held back from here on, and the caller lets them through again: one that came before somebody waits
    for the lab would leave it running with nobody who knows of it. The lab itself holds them until it can end quietly.
    """
    reading, writing = os.pipe()
    command = [sys.executable, "-m", "enthesis.lab", str(state), str(writing)]
    signal.pthread_sigmask(signal.SIG_BLOCK, INTERRUPTS)
    try:
        process = subprocess.Popen(  # noqa: S603  our own module
            command,
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            pass_fds=(writing,),
            start_new_session=own_session,
            cwd="/",
        )
    except BaseException:
        os.close(reading)
        signal.pthread_sigmask(signal.SIG_UNBLOCK, INTERRUPTS)
        raise
    finally:
        os.close(writing)
    return process, reading


def _wait_ready(reading: int, state: Path) -> None:
    try:
        seen, _, _ = select.select([reading], [], [], START_TIMEOUT)
        if not seen or os.read(reading, 16) != b"ready\n":
            raise LabFailed("the lab did not start" + _log_tail(state))
    finally:
        os.close(reading)


def _log_tail(state: Path) -> str:
    try:
        lines = (state / "lab.log").read_text(encoding="utf-8", errors="replace").strip().splitlines()
    except OSError:
        return ""
    return f": {lines[-1]}" if lines else ""


def stop(state: Path, *, clean: bool = False) -> bool:
    """Stops the lab of a state folder and, with `clean`, removes the folder; whether one was running."""
    pid = _holder_of_lock(state)
    if pid is not None:
        os.kill(pid, signal.SIGTERM)
        deadline = time.monotonic() + STOP_TIMEOUT
        while _holder_of_lock(state) == pid:
            if time.monotonic() > deadline:
                os.kill(pid, signal.SIGKILL)
                deadline += STOP_TIMEOUT
            time.sleep(0.02)
    (state / "administrators.json").unlink(missing_ok=True)
    if clean and state.exists():
        shutil.rmtree(state)
    return pid is not None


def renew_sessions(state: Path, found: Running) -> Path:
    """Leaves a one-hour administrator session for each account and organisation in a 0600 file."""
    from enthesis.lab.store import Store
    from enthesis.lab.tokens import SESSION_TYPE, Clock, Signer

    furniture = json.loads((state / "furniture.json").read_text(encoding="utf-8"))
    store = Store(state / "lab.db")
    clock = Clock(store)
    sessions: list[dict[str, Any]] = []
    try:
        for service in found.services:
            if service["kind"] in ("pipeline", "directory", "hosts"):
                continue
            signer = Signer(store, clock, service["name"])
            signer.issuer = service["url"]
            ends = int(clock.now()) + SESSION_LIFE
            if service["kind"] == "cluster":
                sessions.append(_of_cluster(service["name"], signer, ends))
                continue
            for holder in _holders(furniture, service["name"]):
                claims = {"aud": signer.issuer, "sub": f"administrator of {holder}", "administers": holder}
                token = signer.sign({**claims, "client_id": "lab", "exp": ends}, typ=SESSION_TYPE)
                sessions.append({"cloud": service["name"], "holder": holder, "session": token, "ends": ends})
    finally:
        store.close()
    place = state / "administrators.json"
    beside = state / "administrators.json.new"
    beside.unlink(missing_ok=True)
    descriptor = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "w", encoding="utf-8") as file:
        json.dump(sessions, file)
    beside.replace(place)
    return place


def _of_cluster(name: str, signer: "Signer", ends: int) -> dict[str, Any]:
    """A session of the administrator of a cluster."""
    from enthesis.lab.cluster.serving import ADMINISTRATOR, TOKEN_TYPE

    claims = {"aud": signer.issuer, "sub": ADMINISTRATOR, "exp": ends}
    token = signer.sign(claims, typ=TOKEN_TYPE, algorithm="RS256")
    return {"cluster": name, "session": token, "ends": ends}


def _holders(furniture: Mapping[str, Any], provider: str) -> list[str]:
    accounts = [name for name, one in furniture["accounts"].items() if one["provider"] == provider]
    organisations = {furniture["accounts"][name]["in"].split("/")[0] for name in accounts}
    return [*accounts, *sorted(organisations)]


def clock(state: Path, forward: float = 0) -> float:
    """Moves the lab's clock forward by some seconds; answers how far it is ahead of the machine's."""
    from enthesis.lab.store import Store

    store = Store(state / "lab.db")
    try:
        ahead = float(store.setting("clock-ahead", 0)) + forward
        if forward:
            store.set_setting("clock-ahead", ahead)
    finally:
        store.close()
    return ahead


def waiting_sign_in(state: Path, directory: str) -> str | None:
    """The code of a sign-in that waits at a directory for somebody to agree; None where none does."""
    from enthesis.lab.store import Store

    store = Store(state / "lab.db")
    try:
        row = store.connection.execute(
            "SELECT code FROM sign_ins WHERE directory = ? AND person IS NULL ORDER BY ends DESC", (directory,)
        ).fetchone()
    finally:
        store.close()
    return str(row[0]) if row else None


def rotate(state: Path, service: str) -> None:
    """Gives a service new signing keys; the old ones still verify what they signed."""
    from enthesis.lab.store import Store
    from enthesis.lab.tokens import Clock, Signer

    store = Store(state / "lab.db")
    try:
        Signer(store, Clock(store), service).rotate()
    finally:
        store.close()

"""Starts, stops and tunes a lab from outside its process. People who can read its folder administer it."""

import json
import os
import select
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from enthesis_lab.databases import remove_folders
from enthesis_lab.running import JOINED, Running, holder_of_lock, is_lab, joined, running

START_TIMEOUT = 120.0  # seconds; it is waited for, or for its end, whichever comes first
STOP_TIMEOUT = 30.0  # seconds
PASSED_ON = (
    "PATH", "HOME", "LANG", "LC_ALL", "LC_CTYPE", "TZ", "TMPDIR", "PYTHONPATH", "PYTHONPYCACHEPREFIX",
    "PYTHONDONTWRITEBYTECODE", "ENTHESIS_LAB_REMEMBERS_INTO",
)  # fmt: skip
"""Of the environment, what a lab is given: nothing that a person has at hand for other work."""
JOINING = ("organisations", "providers", "accounts", "issuers", "resources", "people")
INTERRUPTS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


class LabFailed(RuntimeError):
    """The lab could not be started or stopped; the message says why."""


def start(state: Path, inventory: Mapping[str, Any], *, foreground: bool = False) -> Running | None:
    """Starts a lab, or furnishes a running one anew; answers when it is ready (None after --foreground ended)."""
    state.mkdir(mode=0o700, parents=True, exist_ok=True)
    state.chmod(0o700)
    written = json.dumps(_with_joined(inventory, joined(state).values()), sort_keys=True)
    place = state / "inventory.json"
    found = running(state)
    if found and not (place.exists() and place.read_text(encoding="utf-8") == written):
        stop(state)
        found = None
    if found:
        _renew(state, found)
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
    _renew(state, found)
    return found


def _with_joined(inventory: Mapping[str, Any], others: Iterable[Mapping[str, Any]]) -> dict[str, Any]:
    """What exists already, by the estate of the lab and by those that joined it; the first that says something wins."""
    out = {name: dict(one) if isinstance(one, dict) else one for name, one in inventory.items()}
    for other in others:
        for section in JOINING:
            out[section] = {**other.get(section, {}), **out[section]}
    return out


def join(state: Path, folder: Path, inventory: Mapping[str, Any]) -> Running | None:
    """Lets another estate's folder join a lab: what exists by it is furnished too. None where no lab runs there."""
    found = running(state)
    if found is None:
        return None
    known = {**joined(state), str(folder.resolve()): dict(inventory)}
    (state / f"{JOINED}.json").write_text(json.dumps(known), encoding="utf-8")
    furnished = json.loads((state / "inventory.json").read_text(encoding="utf-8"))
    return start(state, furnished)


def _in_foreground(state: Path) -> None:
    process, reading = _spawn(state, sys.stderr, own_session=False)
    try:
        signal.pthread_sigmask(signal.SIG_UNBLOCK, INTERRUPTS)
        _wait_ready(reading, state)
        found = running(state)
        if found:
            _renew(state, found)
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
    process.returncode = 0  # it continues by itself; nothing waits for it here


def _spawn(state: Path, log: Any, *, own_session: bool) -> tuple[subprocess.Popen[bytes], int]:
    """Starts the process of a lab, and answers it with the pipe on which it says that it is ready.

    Interrupts are held back from here on, and the caller lets them through again: one that came before a person waits
    for the lab would leave it running with nobody who knows of it. The lab itself holds them until it can end quietly.
    """
    reading, writing = os.pipe()
    command = [sys.executable, "-m", "enthesis_lab", str(state), str(writing)]
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
            env={name: value for name, value in os.environ.items() if name in PASSED_ON},
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
    pid = holder_of_lock(state)
    if pid is not None and not is_lab(pid, state):
        raise LabFailed(f"the lock in {state} is held by a process that is not a lab of this folder; it is left alone")
    if pid is not None:
        os.kill(pid, signal.SIGTERM)
        deadline = time.monotonic() + STOP_TIMEOUT
        while holder_of_lock(state) == pid:
            if time.monotonic() > deadline:
                os.kill(pid, signal.SIGKILL)
                deadline += STOP_TIMEOUT
            time.sleep(0.02)
    (state / "administrators.json").unlink(missing_ok=True)
    if clean and state.exists():
        remove_folders(state)
        shutil.rmtree(state)
    return pid is not None


def _renew(state: Path, found: Running) -> None:
    from enthesis_lab.tuning import renew_sessions  # noqa: PLC0415  loads the libraries of tokens

    renew_sessions(state, found)

"""Tunes a lab through its state: administrators' sessions, its clock, its keys, sign-ins that wait for a person."""

import json
import os
import tempfile
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from enthesis_lab.cluster.objects import ADMINISTRATOR, TOKEN_TYPE
from enthesis_lab.faults import Fault, faults_of, set_faults
from enthesis_lab.guarding import owners_word
from enthesis_lab.recording import Records
from enthesis_lab.running import OWNER, Running
from enthesis_lab.store import Store
from enthesis_lab.tokens import SESSION_TYPE, Clock, Signer

SESSION_LIFE = 3600  # seconds; of an administrator's session


def renew_sessions(state: Path, found: Running) -> Path:
    """Leaves the owner's word, and a one-hour session of the administrators of each account and organisation, in a file
    of the mode 0600."""
    inventory = json.loads((state / "inventory.json").read_text(encoding="utf-8"))
    store = Store(state / "lab.db")
    clock = Clock(store)
    sessions: list[dict[str, Any]] = [{OWNER: owners_word(store)}]
    try:
        for service in found.services:
            if service["kind"] not in ("cloud", "cluster", "directory"):
                continue
            signer = Signer(store, clock, service["name"])
            signer.issuer = service["url"]
            ends = int(clock.now()) + SESSION_LIFE
            if service["kind"] == "cluster":
                sessions.append(_of_cluster(service["name"], signer, ends))
                continue
            directory = service["kind"] == "directory"
            for holder in [service["name"]] if directory else _holders(inventory, service["name"]):
                claims = {"aud": signer.issuer, "sub": f"administrator of {holder}", "administers": holder}
                token = signer.sign({**claims, "client_id": "lab", "exp": ends}, typ=SESSION_TYPE)
                which = {"directory": holder} if directory else {"cloud": service["name"], "holder": holder}
                sessions.append({**which, "session": token, "ends": ends})
    finally:
        store.close()
    place = state / "administrators.json"
    descriptor, beside = tempfile.mkstemp(".new", "administrators.", state)  # several may renew them at once
    try:
        with os.fdopen(descriptor, "w", encoding="utf-8") as file:
            json.dump(sessions, file)
        os.replace(beside, place)  # noqa: PTH105  a name, no path
    except BaseException:
        os.unlink(beside)  # noqa: PTH108
        raise
    return place


def _of_cluster(name: str, signer: Signer, ends: int) -> dict[str, Any]:
    """A session of the administrator of a cluster."""
    claims = {"aud": signer.issuer, "sub": ADMINISTRATOR, "exp": ends}
    token = signer.sign(claims, typ=TOKEN_TYPE, algorithm="RS256")
    return {"cluster": name, "session": token, "ends": ends}


def _holders(inventory: Mapping[str, Any], provider: str) -> list[str]:
    accounts = [name for name, one in inventory["accounts"].items() if one["provider"] == provider]
    organisations = {inventory["accounts"][name]["in"].split("/")[0] for name in accounts}
    return [*accounts, *sorted(organisations)]


def clock(state: Path, forward: float = 0) -> float:
    """Moves the lab's clock forward by some seconds; answers how far it is ahead of the machine's."""
    store = Store(state / "lab.db")
    try:
        ahead = float(store.setting("clock-ahead", 0)) + forward
        if forward:
            store.set_setting("clock-ahead", ahead)
    finally:
        store.close()
    return ahead


def waiting_sign_in(state: Path, directory: str) -> str | None:
    """The code of a sign-in that waits at a directory for a person to agree; None where none does."""
    store = Store(state / "lab.db")
    try:
        row = store.connection.execute(
            "SELECT code FROM sign_ins WHERE directory = ? AND person IS NULL ORDER BY ends DESC", (directory,)
        ).fetchone()
    finally:
        store.close()
    return str(row[0]) if row else None


def faults(state: Path, change: Callable[[tuple[Fault, ...]], Sequence[Fault]] | None = None) -> tuple[Fault, ...]:
    """The faults that are set; with `change`, those that it makes of them."""
    store = Store(state / "lab.db")
    try:
        if change is not None:
            set_faults(store, change(faults_of(store)))
        return faults_of(store)
    finally:
        store.close()


def rotate(state: Path, service: str) -> None:
    """Gives a service new signing keys; the old ones still verify what they signed."""
    store = Store(state / "lab.db")
    try:
        Signer(store, Clock(store), service).rotate()
    finally:
        store.close()


def record_use(state: Path, rows: Mapping[str, Sequence[Mapping[str, Any]]]) -> None:
    """Writes requests into the records of clouds, by the cloud's name, as if they had been made and decided."""
    store = Store(state / "lab.db")
    try:
        with store.transaction():
            for cloud, its in rows.items():
                Records(cloud, store).add(its)
    finally:
        store.close()

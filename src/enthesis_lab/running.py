"""Which lab runs for an estate: found by its lock, described by one file. Only what changes it imports more of the
lab."""

import fcntl
import hmac
import json
import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from hashlib import sha256
from pathlib import Path
from typing import Any

OWNER = "lab-owner"  # the header with the owner's word, and its name in the file of administrators
JOINED = "joined"  # a file that says which lab an estate joined; and in that lab's state, one of those who did
PLACE_OF_WORK = ".enthesis"  # in the estate's folder: the lab's state, and nothing that cannot be made anew


@dataclass(frozen=True)
class Running:
    """A running lab: where its state is, its process, its services (name, kind, url), its authority's certificate, and
    why servers that it should run are `absent`, by address."""

    state: Path
    estate: str
    pid: int
    authority: Path
    services: tuple[Mapping[str, str], ...]
    absent: Mapping[str, str] = field(default_factory=dict)

    def url_of(self, service: str) -> str | None:
        """Where a service is; None where the lab has none of that name."""
        return next((entry["url"] for entry in self.services if entry["name"] == service), None)

    def sessions(self) -> list[Mapping[str, str]]:
        """The sessions of its administrators; OSError or ValueError where their file is missing or is none."""
        return administrators(self.state)

    def renew_sessions(self) -> None:
        """Makes the sessions of its administrators anew."""
        from enthesis_lab.tuning import renew_sessions  # noqa: PLC0415  loads the libraries of tokens

        renew_sessions(self.state, self)

    def shown_by_owner(self) -> dict[str, str]:
        """The header by which its owner plays people, runs and hosts; OSError or ValueError as above."""
        return {OWNER: owners_word(self.sessions())}

    def ahead(self) -> timedelta:
        """How far its clock is ahead of the machine's."""
        from enthesis_lab.tuning import clock  # noqa: PLC0415  loads the store of the lab

        return timedelta(seconds=clock(self.state))

    def forward(self, by: timedelta) -> None:
        """Moves its clock on."""
        from enthesis_lab.tuning import clock  # noqa: PLC0415  loads the store of the lab

        clock(self.state, by.total_seconds())


def of_estate(folder: Path) -> Running | None:
    """The lab that runs for the estate in a folder, if one does; the entry point by which the tool finds it."""
    return running(state_folder(folder))


def own_state(folder: Path) -> Path:
    """Where the lab of the estate in a folder keeps its state."""
    return folder / PLACE_OF_WORK / "lab"


def state_folder(folder: Path) -> Path:
    """Where the lab that an estate speaks to keeps its state: its own, or another estate's that it has joined, and that
    knows of it."""
    try:
        elsewhere = Path((folder / PLACE_OF_WORK / JOINED).read_text(encoding="utf-8").strip())
    except (OSError, ValueError):
        return own_state(folder)
    return elsewhere if str(folder.resolve()) in joined(elsewhere) else own_state(folder)


def joined(state: Path) -> dict[str, Any]:
    """What exists by the estates that joined a lab, by their folders."""
    try:
        found = json.loads((state / f"{JOINED}.json").read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        return {}
    return found if isinstance(found, dict) else {}


def administrators(state: Path) -> list[Mapping[str, str]]:
    """The sessions that the lab's administrators have, from the file that is theirs alone; OSError or ValueError where
    it is not there or is none."""
    listed = json.loads((state / "administrators.json").read_text(encoding="utf-8"))
    if not isinstance(listed, list) or not all(map(_is_entry, listed)):
        raise ValueError("no list of sessions")
    return listed


def _is_entry(value: object) -> bool:
    """Whether a value is the owner's word, or a session of the administrators of a holder or cluster."""
    if not isinstance(value, dict):
        return False
    texts = {name for name, text in value.items() if isinstance(text, str)}
    return (
        OWNER in texts
        or texts >= {"cloud", "holder", "session"}
        or texts >= {"cluster", "session"}
        or texts >= {"directory", "session"}
    )


def owners_word(listed: Sequence[Mapping[str, str]]) -> str:
    """What shows that a person is the lab's owner, who plays its people, runs and hosts; '' where it is not known."""
    return next((entry[OWNER] for entry in listed if OWNER in entry), "")


def host_word(owner: str, host: str) -> str:
    """What shows that a caller is on one host: made of the owner's word, which it does not tell."""
    return hmac.new(owner.encode(), host.encode(), sha256).hexdigest()


def running(state: Path) -> Running | None:
    """The lab that runs in a state folder and is ready, if one does."""
    pid = holder_of_lock(state)
    if pid is None or not is_lab(pid, state):
        return None
    try:
        described = json.loads((state / "services.json").read_text(encoding="utf-8"))
        services = tuple(
            {name: str(service[name]) for name in ("name", "kind", "url", "access") if name in service}
            for service in described["services"]
        )
        absent = {str(name): str(why) for name, why in described.get("absent", {}).items()}
        return Running(state, str(described["estate"]), pid, Path(described["authority"]), services, absent)
    except (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return None


def holder_of_lock(state: Path) -> int | None:
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


def is_lab(pid: int, state: Path) -> bool:
    """Whether a process is the lab of a state folder and ours: what a lock file says, any user may have written."""
    try:
        found = Path(f"/proc/{pid}")
        if found.stat().st_uid != os.geteuid():
            return False
        words = (found / "cmdline").read_bytes().split(b"\0")
    except FileNotFoundError:
        return not Path("/proc/self").exists() and _alive(pid)  # a machine that does not show its processes so
    except OSError:
        return False
    return b"enthesis_lab" in words and os.fsencode(state.resolve()) in [*words, *map(_resolved, words)]


def _resolved(word: bytes) -> bytes:
    return os.fsencode(Path(os.fsdecode(word)).resolve()) if word.startswith(b"/") else word


def _alive(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except OSError:
        return False
    return True

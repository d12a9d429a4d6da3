"""Which lab runs for an estate: found by its lock, described by one file. Imports nothing of the lab."""

import fcntl
import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

PLACE_OF_WORK = ".enthesis"  # in the estate's folder: the lab's state, and nothing that cannot be made anew


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


def state_folder(folder: Path) -> Path:
    """Where the lab of the estate in a folder keeps its state."""
    return folder / PLACE_OF_WORK / "lab"


def running(state: Path) -> Running | None:
    """The lab that runs in a state folder and is ready, if one does."""
    pid = holder_of_lock(state)
    if pid is None:
        return None
    try:
        described = json.loads((state / "services.json").read_text(encoding="utf-8"))
        return Running(state, described["estate"], pid, Path(described["authority"]), tuple(described["services"]))
    except (OSError, ValueError):
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

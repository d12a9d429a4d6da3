"""What runs on this machine in place of an estate's live systems, as a lab does: found by its entry point.

Who stands in registers a function in the group `enthesis.stand_ins`, which answers for the folder of an estate with
what runs for it, or None. What stands in keeps its state in the folder's place of work, so without one nothing does.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import timedelta
from functools import cache
from pathlib import Path
from typing import Protocol

from enthesis.files.finding import PLACE_OF_WORK
from enthesis.model.errors import Unreachable

GROUP = "enthesis.stand_ins"


class StandIn(Protocol):
    """Services that stand in for the live systems of an estate, as long as they run."""

    @property
    def services(self) -> Sequence[Mapping[str, str]]:
        """Each with its name in the estate, its kind and its url; some with how its administrators get access."""
        ...

    @property
    def authority(self) -> Path:
        """The certificate of the authority that their certificates are from."""
        ...

    @property
    def absent(self) -> Mapping[str, str]:
        """Why servers that should run do not, by address."""
        ...

    def url_of(self, service: str) -> str | None:
        """Where a service is; None where there is none of that name."""
        ...

    def sessions(self) -> Sequence[Mapping[str, str]]:
        """The sessions of their administrators, each with whose it is; OSError or ValueError where they cannot be
        read."""
        ...

    def renew_sessions(self) -> None:
        """Makes the sessions of their administrators anew."""
        ...

    def shown_by_owner(self) -> Mapping[str, str]:
        """The header by which the owner plays people, runs and hosts; OSError or ValueError as above."""
        ...

    def ahead(self) -> timedelta:
        """How far their clock is ahead of this machine's."""
        ...

    def forward(self, by: timedelta) -> None:
        """Moves their clock on."""
        ...


def running(folder: Path) -> StandIn | None:
    """What stands in for the live systems of the estate in a folder now; None where nothing does."""
    if not (folder / PLACE_OF_WORK).exists():
        return None
    found = (stands_in(folder) for stands_in in _registered())
    return next((one for one in found if one is not None), None)


@cache
def _registered() -> tuple[Callable[[Path], StandIn | None], ...]:
    from importlib.metadata import entry_points  # noqa: PLC0415  only an estate at work asks

    return tuple(point.load() for point in entry_points(group=GROUP))


def sessions_of(stand_in: StandIn) -> Sequence[Mapping[str, str]]:
    """The sessions of its administrators; Unreachable where they cannot be read."""
    with _readable():
        return stand_in.sessions()


def shown_by_owner(stand_in: StandIn) -> Mapping[str, str]:
    """The header of its owner; Unreachable where it cannot be read."""
    with _readable():
        return stand_in.shown_by_owner()


@contextmanager
def _readable() -> Iterator[None]:
    try:
        yield
    except (OSError, ValueError, RecursionError):
        raise Unreachable(
            "the file with the sessions of the lab's administrators cannot be used",
            code="lab-sessions-unusable",
            remedy="enthesis lab start writes it again",
        ) from None

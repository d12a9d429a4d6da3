"""What was not read of live systems, and which answers that could change."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from enthesis.model.addresses import contains
from enthesis.model.estate import Accepted, Estate

NOT_LOOKED_AT = "it was not looked at"
CREDENTIALS = "credentials"  # what some things that were not read are about alone


@dataclass(frozen=True, slots=True)
class Unread:
    """Something that a survey did not read, in words, and why. `at` is the place where it could give access ('':
    anywhere), `by` whom it would give it (nobody named: anybody).

    `of_credentials`: it says which credentials open what is known otherwise, and nothing of what that is.
    """

    what: str
    why: str = ""
    at: str = ""
    by: tuple[str, ...] = ()
    of_credentials: bool = False

    @property
    def record(self) -> dict[str, Any]:
        """The line of a survey that says it; what is not known is left out."""
        more = {"at": self.at, "by": list(self.by), "about": CREDENTIALS if self.of_credentials else ""}
        said = {name: value for name, value in more.items() if value}
        return {"left_out": self.what, "why": self.why, "incomplete": True, **said}

    def could_change(self, about: "Inquiry") -> bool:
        """Whether it could change an answer."""
        if self.of_credentials and not about.credentials:
            return False
        if self.by and about.callers and about.callers.isdisjoint(self.by):
            return False
        places = about.places
        return not (self.at and places) or any(contains(self.at, place) or contains(place, self.at) for place in places)


@dataclass(frozen=True, slots=True)
class Inquiry:
    """What an answer is about: what can be done at these places (none: anywhere) by these callers and groups that they
    are in (none: by anybody); and whether also by which credentials."""

    places: tuple[str, ...] = ()
    callers: frozenset[str] = frozenset()
    credentials: bool = False


def with_groups(callers: Iterable[str], estate: Estate) -> frozenset[str]:
    """Callers with every group that they may be in; one that a rule finds may have anybody."""
    found = set(callers)
    waiting = True
    while waiting:
        more = {
            address
            for address, group in estate.groups.items()
            if address not in found and (group.where is not None or not found.isdisjoint(group.members))
        }
        found |= more
        waiting = bool(more)
    return frozenset(found)


def not_lived_with(unread: Iterable[Unread], accepted: Sequence[Accepted], now: datetime) -> Iterator[Unread]:
    """What of it an estate does not live with."""
    lasting = [one for one in accepted if one.unread and one.in_force(now)]
    return (
        one
        for one in unread
        if not any(one.what == its.unread and (not one.at or contains(its.at, one.at)) for its in lasting)
    )


def systems_not_read(named: Iterable[str], looked_at: Iterable[str]) -> list[Unread]:
    """The systems that an estate has statements for and that were not looked at, each once."""
    known = set(looked_at)
    missing = dict.fromkeys(name for name in named if name not in known)
    return [Unread(name, NOT_LOOKED_AT, name if "/" in name else "") for name in missing]

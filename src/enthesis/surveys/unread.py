"""What was not read of live systems, and which answers that could change."""

from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from enthesis.model.addresses import contains
from enthesis.model.estate import Accepted, Estate

NOT_LOOKED_AT = "it was not looked at"
CREDENTIALS, SYSTEM = "credentials", "system"  # what things that were not read are about


@dataclass(frozen=True, slots=True)
class Unread:
    """Something that a survey did not read, in words, and why. `at` is the place where it could give access ('':
    anywhere), `by` whom it would give it (nobody named: anybody).

    `of_credentials`: it says which credentials open what is known otherwise, and nothing of what that is. `of_system`:
    nothing was read of the place, so that what is in it is not known as a caller either.
    """

    what: str
    why: str = ""
    at: str = ""
    by: tuple[str, ...] = ()
    of_credentials: bool = False
    of_system: bool = False

    @property
    def called(self) -> str:
        """What it is, and where, of a system that keeps the statements of several places."""
        return f"{self.what} at {self.at}" if self.of_system and self.at not in ("", self.what) else self.what

    @classmethod
    def of(cls, record: Mapping[str, Any]) -> "Unread | None":
        """What a line of a survey says was not read; None where it was only left out."""
        if record.get("incomplete") is not True:
            return None
        at, by, about = (record.get(name) for name in ("at", "by", "about"))
        return cls(
            str(record["left_out"]), str(record.get("why", "")), at if isinstance(at, str) else "",
            tuple(map(str, by)) if isinstance(by, list) else (), about == CREDENTIALS, about == SYSTEM,
        )  # fmt: skip

    @property
    def record(self) -> dict[str, Any]:
        """The line of a survey that says it; what is not known is left out."""
        about = CREDENTIALS if self.of_credentials else SYSTEM if self.of_system else ""
        more = {"at": self.at, "by": list(self.by), "about": about}
        said = {name: value for name, value in more.items() if value}
        return {"left_out": self.what, "why": self.why, "incomplete": True, **said}

    def could_change(self, about: "Inquiry") -> bool:
        """Whether it could change an answer."""
        if self.of_credentials and not about.credentials:
            return False
        if self.by and about.callers and about.callers.isdisjoint(self.by):
            return False
        if self.of_system and about.places:
            return any(system in ("", self.what) and contains(self.at, one) for one, system in about.systems.items())
        places = about.places
        return not (self.at and places) or any(contains(self.at, place) or contains(place, self.at) for place in places)


@dataclass(frozen=True, slots=True)
class Inquiry:
    """What an answer is about: what can be done at these places (none: anywhere) by these callers and groups that they
    are in (none: by anybody); and whether also by which credentials. `systems` are those that keep what these places
    and callers are, by address ('': it may be any)."""

    places: tuple[str, ...] = ()
    callers: frozenset[str] = frozenset()
    credentials: bool = False
    systems: Mapping[str, str] = field(default_factory=dict)


def systems_by_address(addresses: Iterable[str], estate: Estate) -> dict[str, str]:
    """The system that keeps what each address is: of a person the directory, of an organisation's places any."""
    people = {one: one.split("/", 1)[0] for one in addresses if one.startswith("@") and "/identity/" in one}
    return {one: people.get(one) or estate.system_of(one) for one in addresses}


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


def systems_not_read(kept: Mapping[str, Iterable[str]], looked_at: Container[str]) -> list[Unread]:
    """The systems that were not looked at, of those that an estate has statements for, which `kept` has with the places
    whose statements they keep; one for each place."""
    missing = ((name, place) for name, places in kept.items() if name not in looked_at for place in places or ("",))
    return [Unread(name, NOT_LOOKED_AT, place, of_system=bool(place)) for name, place in missing]

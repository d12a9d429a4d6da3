"""Steps and proposals: the ordered changes that turn the surveyed state into the described one."""

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

DOCUMENT, FORMAT = "proposal", 2  # of a proposal file
MAKE, CHANGE, REMOVE = "make", "change", "remove"


@dataclass(frozen=True, slots=True)
class Step:
    """One change. `body` is what should be (None where it goes), `before` what is (None where it is new).
    `mark` is the estate that the statement is made for."""

    action: str
    provider: str
    collection: str
    holder: str
    sentence: str
    mark: str
    body: dict[str, Any] | None = None
    before: dict[str, Any] | None = None
    id: str | None = None
    etag: str | None = None


@dataclass(frozen=True, slots=True)
class Blocked:
    """Something wanted that cannot be done yet, why, and who has to act."""

    sentence: str
    why: str
    who: str


@dataclass(frozen=True, slots=True)
class Opening:
    """A statement of others at what is ours, and what it opens that would be shut without it. `accepted` says why it is
    lived with, and until when; '' where it is not."""

    sentence: str
    opens: tuple[str, ...]
    accepted: str = ""


@dataclass(frozen=True, slots=True)
class Danger:
    """Something that a proposal does and that needs an acceptance of its own: its name, and what makes it one."""

    name: str
    says: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Proposal:
    """Everything that would be done, and what was found besides.

    `seen` are the ids and etags of the live side that it was made for, by provider. `left` are statements that
    Enthesis made and that the estate no longer has; they go only when pruning is asked for. `aside` are systems that
    the estate speaks of and that were not asked. `dangling` are statements that name what is gone, with what to do.
    `ended` are statements whose end has come, and that are not made any more.
    `twins` are statements of others with the key of one of ours, `openings` those of others that open something of
    ours; each of the `dangers` needs an acceptance. `lives_on` are identities of which sessions that are out already
    live on, and for how long at the most.
    """

    estate: str
    steps: tuple[Step, ...] = ()
    blocked: tuple[Blocked, ...] = ()
    not_ours: tuple[str, ...] = ()
    left: tuple[str, ...] = ()
    theirs: tuple[str, ...] = ()
    ended: tuple[str, ...] = ()
    gives: tuple[str, ...] = ()
    takes: tuple[str, ...] = ()
    aside: tuple[str, ...] = ()
    dangling: tuple[str, ...] = ()
    twins: tuple[str, ...] = ()
    openings: tuple[Opening, ...] = ()
    dangers: tuple[Danger, ...] = ()
    lives_on: tuple[tuple[str, str], ...] = ()
    seen: Mapping[str, Mapping[str, str]] = field(default_factory=dict)

    @property
    def nothing_to_do(self) -> bool:
        return not self.steps and not self.blocked

    @property
    def unaccepted(self) -> tuple[Opening, ...]:
        """What others have opened and nobody has accepted."""
        return tuple(opening for opening in self.openings if not opening.accepted)

    @property
    def as_described(self) -> bool:
        """Whether the live side is as the estate describes it, and no statement of others opens anything of ours."""
        return self.nothing_to_do and not (self.left or self.dangling or self.twins or self.unaccepted)

    def as_json(self) -> dict[str, Any]:
        """The proposal as a file holds it; there is no secret in it."""
        return {"enthesis": DOCUMENT, "format": FORMAT, **asdict(self)}


def proposal_from(data: Any) -> Proposal:
    """The proposal that a file holds; ValueError where it holds none."""
    if not isinstance(data, dict) or (data.get("enthesis"), data.get("format")) != (DOCUMENT, FORMAT):
        raise ValueError(f"not a proposal of format {FORMAT}; make it anew: enthesis propose --out FILE")
    try:
        steps = tuple(Step(**step) for step in data["steps"])
        if any(not isinstance(one, str) for step in steps for one in (step.action, step.provider, step.collection)):
            raise ValueError("a step of this proposal is not understood")
        return Proposal(
            estate=str(data["estate"]),
            steps=steps,
            blocked=tuple(Blocked(**one) for one in data["blocked"]),
            **{name: tuple(data[name]) for name in ("not_ours", "left", "theirs", "gives", "takes")},
            aside=tuple(data.get("aside", ())),
            dangling=tuple(data.get("dangling", ())),
            twins=tuple(data.get("twins", ())),
            dangers=tuple(Danger(one["name"], tuple(one["says"])) for one in data.get("dangers", ())),
            openings=tuple(
                Opening(one["sentence"], tuple(one["opens"]), one["accepted"]) for one in data.get("openings", ())
            ),
            lives_on=tuple((str(name), str(life)) for name, life in data.get("lives_on", ())),
            seen={str(name): dict(seen) for name, seen in data["seen"].items()},
        )
    except (TypeError, KeyError, AttributeError) as fault:
        raise ValueError("this proposal is not understood") from fault

"""Steps and proposals: the ordered changes that turn the surveyed state into the described one."""

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from hashlib import sha256
from typing import Any

from enthesis.model.secrets import redacted

DOCUMENT, FORMAT = "proposal", 3  # of a proposal file
LATER = (
    "ended", "outages", "lived_with", "written", "changed_since", "gone_since", "signatures",
)  # fmt: skip
"""Lists of texts that a proposal may be without."""
MAKE, CHANGE, REMOVE = "make", "change", "remove"
CREDENTIALS, SESSIONS = "credentials", "sessions"
NOT_UNDONE = (CREDENTIALS, SESSIONS)
"""What a step may remove besides statements: keyed credentials and sessions. They cannot be given back."""
NOT_IN_PLACE, DIFFERENT, LEFT_BEHIND, WAITING, NOT_POSSIBLE = (
    "not in place yet", "different", "left behind", "waiting for others", "not possible",
)  # fmt: skip
"""The states of statements of which the live side is not as described."""


@dataclass(frozen=True, slots=True)
class Step:
    """One change. `body` is what should be (None where it goes), `before` what is (None where it is new).

    `mark` is the estate that the statement is made for. Steps of one `stage` may be done at once, those of a later one
    when the earlier ones are in force. `etag` is None too where an earlier step changes the same statement.
    """

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
    stage: int = 0


def step_json(step: Step) -> dict[str, Any]:
    """A step as data."""
    return asdict(step)


def step_from(data: Any) -> Step:
    """The step that data holds; ValueError where it holds none."""
    try:
        step = Step(**data)
    except TypeError as fault:
        raise ValueError("a step of this proposal is not understood") from fault
    texts = (step.action, step.provider, step.collection, step.holder, step.sentence, step.mark)
    bodies = (step.body, step.before)
    if not all(isinstance(text, str) for text in texts) or not all(isinstance(body, dict | None) for body in bodies):
        raise ValueError("a step of this proposal is not understood")
    if not isinstance(step.stage, int):
        raise ValueError("a step of this proposal is not understood")
    return step


@dataclass(frozen=True, slots=True)
class Blocked:
    """Something wanted that cannot be done yet, why, and who has to act."""

    sentence: str
    why: str
    who: str
    never: bool = False  # whether no live side as described can hold it


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

    `lived_with` are differences that the estate accepts for a while, each with why and until when. `written` are the
    halves of others that were seen. `seen` are the ids and etags of the live side that it was made for, by provider.
    `left` are statements that Enthesis made and that the estate no longer has; they go only when pruning is asked for.
    `aside` are systems that the estate names but that were not read. `dangling` are statements that name what is
    gone, with what to do. `ended` are statements whose end has come, and that are not made any more. `twins` are
    statements of others with the key of one of ours, `openings` those of others that open something of ours, `closings`
    ceilings of others with what they close; each of the `dangers` needs an acceptance. `lives_on` are identities of
    which sessions that are out already live on, and for how long at the most. `author` is the person who was signed
    in when it was made, `described_by` the digest of the estate that it was made for. `outages` is what is refused
    for a while, since no order of the steps keeps it allowed without opening more than either side does.
    `changed_since` and `gone_since` are statements of ours that others changed or removed since the last enactment.
    `takes_back` are the enactments that it undoes, instead of making what the estate describes.
    `signatures` are by those who agreed to it, and no part of what it is known by.
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
    closings: tuple[Opening, ...] = ()
    dangers: tuple[Danger, ...] = ()
    lives_on: tuple[tuple[str, str], ...] = ()
    outages: tuple[str, ...] = ()
    lived_with: tuple[str, ...] = ()
    written: tuple[str, ...] = ()
    changed_since: tuple[str, ...] = ()
    gone_since: tuple[str, ...] = ()
    author: str = ""
    described_by: str = ""
    takes_back: tuple[int, ...] = ()
    signatures: tuple[str, ...] = ()
    seen: Mapping[str, Mapping[str, str]] = field(default_factory=dict)

    @property
    def states(self) -> dict[str, tuple[str, ...]]:
        """What keeps the live side from being as described, by its state, with the account of each where it has one."""

        def of(action: str) -> tuple[str, ...]:
            return tuple(f"{step.sentence} ({step.holder})" for step in self.steps if step.action == action)

        return {
            NOT_IN_PLACE: of(MAKE),
            DIFFERENT: of(CHANGE),
            LEFT_BEHIND: (*of(REMOVE), *self.left),
            WAITING: self.theirs,
            NOT_POSSIBLE: tuple(f"{blocked.sentence}: {blocked.why}; {blocked.who}" for blocked in self.blocked),
        }

    @property
    def fully_in_place(self) -> bool:
        """Whether the live side is as the estate describes it, and all of it was looked at."""
        return not any(self.states.values()) and not self.aside

    @property
    def nothing_to_do(self) -> bool:
        """Whether everything is in place and nothing is blocked."""
        return not self.steps and not self.blocked

    @property
    def unaccepted(self) -> tuple[Opening, ...]:
        """What others have opened and nobody has accepted."""
        return tuple(opening for opening in self.openings if not opening.accepted)

    @property
    def as_described(self) -> bool:
        """Whether the live side, as far as it was looked at, is as the estate describes it, and no statement of others
        opens anything of ours."""
        return not (any(self.states.values()) or self.dangling or self.twins or self.unaccepted)

    def as_json(self) -> dict[str, Any]:
        """The proposal as a file holds it; there is no secret in it."""
        states = {name.replace(" ", "_"): list(said) for name, said in self.states.items()}
        data = {
            "enthesis": DOCUMENT,
            "format": FORMAT,
            "fully_in_place": self.fully_in_place,
            "states": states,
            **asdict(self),
        }
        if not self.takes_back:
            del data["takes_back"]
        return {**data, "digest": digest_of(data)}


def digest_of(data: Mapping[str, Any]) -> str:
    """What a proposal is known by: a byte that is changed in what it says makes it another one. Secrets are masked in
    it, as in whatever is written."""
    said = {name: value for name, value in data.items() if name not in ("digest", "signatures")}
    return f"sha-256:{sha256(redacted(json.dumps(said, sort_keys=True, default=str)).encode()).hexdigest()}"


def _text(value: Any) -> str:
    if not isinstance(value, str):
        raise TypeError("not a text")
    return value


def _texts(value: Any) -> tuple[str, ...]:
    if not isinstance(value, list | tuple):
        raise TypeError("not a list")
    return tuple(map(_text, value))


def _numbers(value: Any) -> tuple[int, ...]:
    if not isinstance(value, list) or not all(type(one) is int for one in value):
        raise TypeError("not a list of numbers")
    return tuple(value)


def _opening_from(said: Mapping[str, Any]) -> Opening:
    return Opening(_text(said["sentence"]), _texts(said["opens"]), _text(said["accepted"]))


def _blocked_from(said: Mapping[str, Any]) -> Blocked:
    sentence, why, who = (_text(said[name]) for name in ("sentence", "why", "who"))
    return Blocked(sentence, why, who, said.get("never") is True)


def proposal_from(data: Any, *, kept: bool = False) -> Proposal:
    """The proposal that a file holds; ValueError where it holds none. One that our store `kept` may be of an earlier
    version, which said less."""
    if not isinstance(data, dict) or (data.get("enthesis"), data.get("format")) != (DOCUMENT, FORMAT):
        raise ValueError(f"not a proposal of format {FORMAT}; make it anew: enthesis propose --out FILE")
    if data.get("digest") != digest_of(data):
        raise ValueError("this proposal was changed after it was written; make it anew: enthesis propose --out FILE")
    try:
        read = Proposal(
            estate=_text(data["estate"]),
            steps=tuple(map(step_from, data["steps"])),
            blocked=tuple(map(_blocked_from, data["blocked"])),
            dangers=tuple(Danger(_text(one["name"]), _texts(one["says"])) for one in data.get("dangers", ())),
            openings=tuple(map(_opening_from, data.get("openings", ()))),
            closings=tuple(map(_opening_from, data.get("closings", ()))),
            lives_on=tuple((_text(name), _text(life)) for name, life in data.get("lives_on", ())),
            **{name: _texts(data[name]) for name in ("not_ours", "left", "theirs", "gives", "takes")},
            **{name: _texts(data.get(name, [])) for name in ("aside", "dangling", "twins", *LATER)},
            author=_text(data.get("author", "")),
            described_by=_text(data.get("described_by", "")),
            takes_back=_numbers(data.get("takes_back", [])),
            seen={name: {key: _text(tag) for key, tag in seen.items()} for name, seen in data["seen"].items()},
        )
        json.dumps(read.as_json(), ensure_ascii=False).encode()  # half a character cannot be shown
    except (TypeError, KeyError, AttributeError, ValueError, RecursionError) as fault:
        raise ValueError("this proposal is not understood") from fault
    means, says = (json.loads(json.dumps(one, default=str)) for one in (read.as_json(), data))
    differ = [name for name, value in means.items() if name != "digest" and value != says.get(name)]
    differ += [name for name in says if name not in means]
    if differ and not kept:
        raise ValueError(f"parts of this proposal contradict the others: {', '.join(differ)}")
    return read

"""The answer to a question: every request with its seven steps, each with the grounds that decided it."""

from dataclasses import dataclass, field
from datetime import timedelta

from enthesis.model.conditions import Test
from enthesis.model.file_errors import Source
from enthesis.model.words import STEPS
from enthesis.verdicts.questions import Question, is_keyless

ALLOWED, REFUSED, NOT_NEEDED, UNKNOWN, THEIRS = "allowed", "refused", "not needed", "unknown", "theirs"


@dataclass(frozen=True, slots=True)
class Unmet:
    """A test that did not hold: what was wanted and what was found. `truth` is False or None (unknown)."""

    attribute: str
    test: Test
    found: object
    truth: bool | None


@dataclass(frozen=True, slots=True)
class Ground:
    """A statement, or a fact of the estate, that counted for or against a step."""

    text: str
    source: Source | None = None
    number: int | None = None  # of the grant or trust


@dataclass(frozen=True, slots=True)
class Miss:
    """A statement that would have allowed it but for what it lacks."""

    ground: Ground
    lacks: tuple[str, ...] = ()
    unmet: tuple[Unmet, ...] = ()


@dataclass(frozen=True, slots=True)
class StepOutcome:
    """One of the seven steps of one request."""

    name: str
    outcome: str
    grounds: tuple[Ground, ...] = ()
    misses: tuple[Miss, ...] = ()
    nearest: tuple[str, ...] = ()
    within: tuple["Request", ...] = ()  # the companions


@dataclass(frozen=True, slots=True)
class Request:
    """One request as judged. `caller` is '' for the bearer of a token, assertion or certificate.

    `life` is how long the session got here lives from when it was obtained, None where none was got or nothing bounds
    it. `counting` are the trusts whose sessions it can be: those that admit, a whole account's only where the caller's
    side holds for it.
    """

    caller: str
    verb: str
    target: str
    onto: str | None
    steps: tuple[StepOutcome, ...]
    is_hop: bool = False
    life: timedelta | None = None
    counting: tuple[int, ...] = ()

    @property
    def allowed(self) -> bool:
        """Whether no step refuses."""
        return not self.refused_at

    @property
    def refused_at(self) -> tuple[str, ...]:
        """The steps that refuse, in their order."""
        return tuple(step.name for step in self.steps if step.outcome == REFUSED)

    def step(self, name: str) -> StepOutcome:
        """The outcome of a step by its name."""
        return next(step for step in self.steps if step.name == name)


@dataclass(frozen=True, slots=True)
class Verdict:
    """The whole chain. Allowed where every request is."""

    question: Question
    requests: tuple[Request, ...] = field(default_factory=tuple)

    @property
    def allowed(self) -> bool:
        """Whether every request is allowed."""
        return all(request.allowed for request in self.requests)

    @property
    def refused_at(self) -> tuple[str, ...]:
        """Every step that refuses anywhere in the chain."""
        found = {name for request in self.requests for name in request.refused_at}
        return tuple(name for name in STEPS if name in found)

    @property
    def first_refused(self) -> Request | None:
        """The first request that is refused, which is where a live system stops."""
        return next((request for request in self.requests if not request.allowed), None)

    @property
    def keyless(self) -> bool | None:
        """Whether the origin needs no stored key; None where the question starts at an identity."""
        return is_keyless(self.question.origin.form)

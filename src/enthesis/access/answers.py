"""The answer to a question: every request with its seven steps, each with the grounds that decided it."""

from dataclasses import dataclass
from datetime import timedelta

from enthesis.access.questions import Question, is_keyless
from enthesis.model.conditions import Test
from enthesis.model.file_errors import Source
from enthesis.model.vocabulary import EARNED, STEPS, Ending, Outcome, VerdictStep


@dataclass(frozen=True, slots=True)
class Unmet:
    """A test that did not hold: what was wanted and what was found. `truth` is False or None (unknown)."""

    attribute: str
    test: Test
    found: object
    truth: bool | None


@dataclass(frozen=True, slots=True)
class Reason:
    """A statement, or a fact of the estate, that counted for or against a step."""

    text: str
    source: Source | None = None
    number: int | None = None  # of the grant or trust


@dataclass(frozen=True, slots=True)
class NearMiss:
    """A statement that would have allowed it but for what it lacks."""

    ground: Reason
    lacks: tuple[str, ...] = ()
    unmet: tuple[Unmet, ...] = ()


@dataclass(frozen=True, slots=True)
class StepOutcome:
    """One of the seven steps of one request."""

    name: VerdictStep
    outcome: Outcome
    grounds: tuple[Reason, ...] = ()
    misses: tuple[NearMiss, ...] = ()
    nearest: tuple[str, ...] = ()
    within: tuple["Request", ...] = ()  # the companions

    @property
    def earned(self) -> bool:
        """Whether a request can be allowed with this outcome."""
        return self.outcome in EARNED.get(self.name, ()) and all(request.allowed for request in self.within)


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
        """Whether all seven steps were judged, each once and in order, and each with an outcome that earns it."""
        return tuple(step.name for step in self.steps) == STEPS and all(step.earned for step in self.steps)

    @property
    def ending(self) -> Ending:
        """Allowed, refused, or not decided: no step refuses, and yet it is not allowed."""
        return _ending(allowed=self.allowed, refused=bool(self.refused_at))

    @property
    def refused_at(self) -> tuple[VerdictStep, ...]:
        """The steps that refuse, in their order."""
        return tuple(step.name for step in self.steps if step.outcome == Outcome.REFUSED)

    def step(self, name: VerdictStep) -> StepOutcome:
        """The outcome of a step by its name."""
        return next(step for step in self.steps if step.name == name)


@dataclass(frozen=True, slots=True)
class Verdict:
    """The whole chain. Allowed where there is a request, and each is."""

    question: Question
    requests: tuple[Request, ...]

    @property
    def allowed(self) -> bool:
        """Whether there is a request, and every one is allowed."""
        return bool(self.requests) and all(request.allowed for request in self.requests)

    @property
    def ending(self) -> Ending:
        """Allowed, refused, or not decided: nothing refuses, and yet it is not allowed."""
        return _ending(allowed=self.allowed, refused=bool(self.refused_at))

    @property
    def refused_at(self) -> tuple[VerdictStep, ...]:
        """Every step that refuses anywhere in the chain."""
        found = {name for request in self.requests for name in request.refused_at}
        return tuple(name for name in STEPS if name in found)

    @property
    def first_refused(self) -> Request | None:
        """The first request that is refused, which is where a live system stops."""
        return next((request for request in self.requests if request.refused_at), None)

    @property
    def keyless(self) -> bool | None:
        """Whether the origin needs no stored key; None where the question starts at an identity."""
        return is_keyless(self.question.origin.form)


def _ending(*, allowed: bool, refused: bool) -> Ending:
    return Ending.ALLOWED if allowed else Ending.REFUSED if refused else Ending.UNDECIDED

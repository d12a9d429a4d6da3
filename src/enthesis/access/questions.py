"""What is asked: an origin, hops, an attempt, and what surrounds them."""

from dataclasses import dataclass
from datetime import datetime

from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Attempt, Context, Hop, Journey, Origin


def is_keyless(origin: str) -> bool | None:
    """Whether an origin of this form needs no stored key; None for `identity`, where a journey starts without any."""
    return None if origin == "identity" else origin != "credential"


@dataclass(frozen=True, slots=True)
class Question:
    """A chain of requests, at least one. Judged at `time`, which is always said: nothing here reads a clock.

    Raises InvalidInput if it has neither a hop nor an attempt.
    """

    origin: Origin
    through: tuple[Hop, ...]
    attempt: Attempt | None
    context: Context
    time: datetime

    def __post_init__(self) -> None:
        if not self.through and self.attempt is None:
            raise InvalidInput(
                "nothing is asked for (expected an identity to take on, an attempt, or both)",
                code="nothing-asked",
                remedy="say VERB TARGET, or through which identity",
            )


def question_of(journey: Journey, now: datetime) -> Question:
    """The question that a journey asks, judged now where it says no time."""
    return Question(journey.origin, journey.through, journey.attempt, journey.context, journey.context.time or now)

"""What is asked: an origin, hops, an attempt, and what surrounds them."""

from dataclasses import dataclass
from datetime import datetime

from enthesis.model.estate import Attempt, Context, Hop, Journey, Origin


def is_keyless(origin: str) -> bool | None:
    """Whether an origin of this form needs no stored key; None for `identity`, where a journey starts without any."""
    return None if origin == "identity" else origin != "credential"


@dataclass(frozen=True, slots=True)
class Question:
    """A chain of requests. Judged at `context.time`, which is always said: nothing here reads a clock."""

    origin: Origin
    through: tuple[Hop, ...]
    attempt: Attempt | None
    context: Context
    time: datetime


def question_of(journey: Journey, now: datetime) -> Question:
    """The question that a journey asks, judged now where it says no time."""
    return Question(journey.origin, journey.through, journey.attempt, journey.context, journey.context.time or now)

"""One request that is asked: who asks, of what, and what surrounds it."""

from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta
from enum import StrEnum

from enthesis.access.answers import Unmet
from enthesis.access.attributes import RequestAttributes
from enthesis.access.compiling import Compiled
from enthesis.access.questions import Question
from enthesis.conditions.truth import Value, passes
from enthesis.model.conditions import Conditions

MISSES = 4  # near-misses told at the most, a step


class Asker(StrEnum):
    """What kind of caller asks."""

    BEARER = "bearer"  # of a token, an assertion or a certificate
    RESOURCE = "resource"
    IDENTITY = "identity"


@dataclass(frozen=True, slots=True)
class Caller:
    """Who asks now. `number` is NONE for a bearer and for what is not declared; `principals` are the numbers by which
    grants can name an identity: its own and those of its groups. `life` is how long the session lived when it was
    obtained, `runs_out` at which age it ends."""

    form: Asker
    address: str
    number: int
    principals: tuple[int, ...] = ()
    narrowings: tuple[int, ...] = ()
    runs_out: timedelta | None = None
    life: timedelta | None = None
    has_session: bool = False


@dataclass(frozen=True, slots=True)
class Target:
    """What is asked about, with the numbers of the places at and above it, nearest first."""

    address: str
    kind: str
    chain: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Asked:
    """A request whose names are known, and what its steps are decided with. `first`: it is the one that shows what the
    origin has. `onto` is the resource that an identity is to be attached to. `instant` in seconds since 1970."""

    compiled: Compiled
    question: Question
    caller: Caller
    verb: str
    target: Target
    permission: int
    facts: RequestAttributes
    first: bool
    age: timedelta
    instant: float
    onto: str | None = None

    @property
    def place(self) -> int:
        """The number of the target, or of the place it stands in where only that is known."""
        return self.target.chain[0]


def unmet(
    conditions: Conditions, get: Callable[[str], Value], *, claims: bool = False, unknown_only: bool = False
) -> list[Unmet]:
    """The tests that do not hold, with what was found."""
    out = []
    for attribute, test in conditions:
        name = f"claims.{attribute}" if claims else attribute
        found = get(name)
        truth = passes(test, found, get)
        if truth is None or (truth is False and not unknown_only):
            out.append(Unmet(name, test, found, truth))
    return out

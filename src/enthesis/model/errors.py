"""Everything that can go wrong, as exceptions. An exception means *could not decide*; a *no* is a value.

    EnthesisError
    ├── Mistaken                  the request or the estate is mistaken          exit 2
    │   └── EstateMistaken        with all mistakes found
    ├── LiveFailure               a live system                                  exit 3
    │   ├── Unreachable           did not answer, or not in time
    │   ├── RightMissing          refused us, not the workload
    │   └── UnexpectedAnswer      said something that is not understood
    │       └── NotIssued         an issuer signs no such statement
    ├── NotDecided                it would be too much work                      exit 1
    ├── MovedAway                 the live side is not what was proposed for     exit 1
    └── StoppedPartWay            resumable                                      exit 4

Every one carries a stable code, a message and, where there is one, a remedy for the person.
"""

from collections.abc import Sequence
from typing import ClassVar

from enthesis.model.mistakes import Mistake


class EnthesisError(Exception):
    """The root; only the outermost layer turns one into an exit."""

    code: ClassVar[str] = "error"
    exit_code: ClassVar[int] = 2

    def __init__(self, message: str, *, remedy: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.remedy = remedy


class Mistaken(EnthesisError):
    """What was asked makes no sense as it stands."""

    code = "mistaken"


class EstateMistaken(Mistaken):
    """The estate cannot be used; carries every mistake found in it."""

    code = "estate-mistaken"

    def __init__(self, mistakes: Sequence[Mistake]) -> None:
        count = len(mistakes)
        super().__init__(f"the estate has {count} mistake{'s' if count != 1 else ''}")
        self.mistakes = tuple(mistakes)


class LiveFailure(EnthesisError):
    """A live system could not be used."""

    code = "live-failure"
    exit_code = 3


class Unreachable(LiveFailure):
    """It did not answer, or not in time."""

    code = "unreachable"


class RightMissing(LiveFailure):
    """It refused what we asked for ourselves: our session has ended, or lacks a right."""

    code = "right-missing"


class UnexpectedAnswer(LiveFailure):
    """It answered something that is not understood."""

    code = "unexpected-answer"


class NotIssued(UnexpectedAnswer):
    """The issuer signs no statement like this one, so nobody can show it."""

    code = "not-issued"


class NotDecided(EnthesisError):
    """The question is past a bound on work, so it is answered neither way."""

    code = "not-decided"
    exit_code = 1


class MovedAway(EnthesisError):
    """The live side is no longer what a proposal was made for."""

    code = "moved-away"
    exit_code = 1


class StoppedPartWay(EnthesisError):
    """Some steps are done, the rest can be done by running the same again."""

    code = "stopped-part-way"
    exit_code = 4

"""Everything that can go wrong, as exceptions. An exception means *could not decide*; a *no* is a value.

    EnthesisError
    ├── InvalidInput              the request, a file or the estate is invalid   exit 2
    │   └── InvalidEstate         with every error found in it
    ├── LiveFailure               a live system                                  exit 3
    │   ├── Unreachable           did not answer, or not in time
    │   ├── RightMissing          refused us, not the workload
    │   └── UnexpectedAnswer      answered something that is not understood
    │       └── NotIssued         an issuer signs no such statement
    ├── NotDecided                it would be too much work                      exit 1
    ├── MovedAway                 the live side is not what was proposed for     exit 1
    │   └── Busy                  another person changes it now
    ├── StoppedPartWay            resumable                                      exit 4
    └── InnerError                raised in one part and handled by the part that called it

Every one carries a stable code, a message and, where there is one, a remedy. `model/causes.py` lists the codes.
"""

from collections.abc import Sequence
from typing import ClassVar

from enthesis.model.file_errors import FileError
from enthesis.model.secrets import redacted

EXIT_CODES = {
    0: "as asked",
    1: "the answer is no: refused, findings, expectations not met or waiting, something not in place where all was "
    "expected",
    2: "the request or the estate is wrong",
    3: "a live system could not be reached or refused us, or not all of it was read, so that the answer may be "
    "incomplete",
    4: "stopped part-way, or the live side moved away; run the same again to continue",
    5: "not decided: a bound on work was reached, or a step stayed unknown",
    70: "a fault of Enthesis itself",
}
"""What the program ends with. A signal ends it as it ends any program."""


class EnthesisError(Exception):
    """The root; only the outermost layer turns one into an exit. `code` is a key of `model.causes.CAUSES`."""

    exit_code: ClassVar[int] = 2

    def __init__(self, message: str, *, code: str, remedy: str = "") -> None:
        message = redacted(message)  # a server may repeat what it was shown
        super().__init__(message)
        self.message = message
        self.code = code
        self.remedy = redacted(remedy)


class InvalidInput(EnthesisError):
    """What was asked, or a file that was named, makes no sense as it stands."""


class InvalidEstate(InvalidInput):
    """The estate cannot be used; carries every error found in it."""

    def __init__(self, errors: Sequence[FileError]) -> None:
        count = len(errors)
        super().__init__(f"the estate has {count} error{'s' if count != 1 else ''}", code="estate-invalid")
        self.errors = tuple(errors)


class LiveFailure(EnthesisError):
    """A live system could not be used."""

    exit_code: ClassVar[int] = 3


class Unreachable(LiveFailure):
    """It did not answer, or not in time."""


class RightMissing(LiveFailure):
    """It refused what we asked for ourselves: our session has ended, or lacks a right."""


class UnexpectedAnswer(LiveFailure):
    """It answered something that is not understood."""


class NotIssued(UnexpectedAnswer):
    """The issuer signs no statement like this one, so nobody can show it."""


class NotDecided(EnthesisError):
    """The question is past a bound on work, so it is answered neither way."""

    exit_code: ClassVar[int] = 5


class MovedAway(EnthesisError):
    """The live side is no longer what a proposal was made for."""

    exit_code: ClassVar[int] = 4


class Busy(MovedAway):
    """Another person enacts there now."""


class StoppedPartWay(EnthesisError):
    """Some steps are done, the rest can be done by running the same again."""

    exit_code: ClassVar[int] = 4


class InnerError(EnthesisError):
    """Raised in one part and handled by the part that called it; if one escapes, it is still a message with a code."""

    inner_code: ClassVar[str]

    def __init__(self, message: str) -> None:
        super().__init__(message, code=self.inner_code)


class InvalidAddress(InnerError, ValueError):
    """An address or a pattern that is not well formed; the message says which part."""

    inner_code = "address-invalid"


class Undecided(InnerError):
    """Past a bound on work; says which, so that the answer can be *not decided, because more than …*."""

    inner_code = "not-decided"

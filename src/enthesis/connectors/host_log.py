"""What the log of an OpenSSH server says of logins: who came with which certificate, and why a login was refused.

Needs `LogLevel VERBOSE` for the certificates of accepted logins; reasons for refusals are logged at every level.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass

from enthesis.model.vocabulary import VerdictStep

REASONS = {
    "Certificate invalid: expired": (VerdictStep.SESSION, "the certificate has ended"),
    "Certificate invalid: not yet valid": (VerdictStep.SESSION, "the certificate is not valid yet"),
    "not from a permitted source address": (VerdictStep.TARGET_SIDE, "the certificate is for another network"),
    "does not contain an authorized principal": (VerdictStep.TARGET_SIDE, "the certificate is for another host"),
    "revoked by file": (VerdictStep.TARGET_SIDE, "the certificate was revoked"),
    "critical option": (VerdictStep.TARGET_SIDE, "the host does not understand a condition of the certificate"),
    "account is locked": (VerdictStep.TARGET_SIDE, "the account is locked"),
    "not allowed because": (VerdictStep.TARGET_SIDE, "the host lets nobody in as this user"),
}
"""What a server's log says of a certificate, with the step that refuses and the reason in plain words."""
OTHERWISE = "the host does not take certificates of this authority, or the account is locked"
PROCESS = re.compile(r"sshd(?:-session)?\[(\d+)\]")
ANSWER = re.compile(
    r"(Accepted|Failed) publickey for (?:invalid user )?(\S+) from (\S+) port \d+ ssh2: \S+-CERT SHA256:\S+ "
    r"ID (.*) \(serial (\d+)\) CA \S+ (SHA256:\S+)"
)


@dataclass(frozen=True, slots=True)
class Login:
    """A login with a certificate, as a log tells it: the line, as which user and from where, the certificate's id and
    serial number, and its authority's fingerprint. `step` is None and `reason` '' where it was accepted."""

    line: int
    user: str
    network: str
    id: str
    serial: int
    authority: str
    step: VerdictStep | None = None
    reason: str = ""


def reason_in(text: str) -> tuple[VerdictStep, str] | None:
    """The first reason for a refusal that a part of a log gives: the step, and plain words."""
    return next((found for words, found in REASONS.items() if words in text), None)


def logins_in(text: str) -> Iterator[Login]:
    """The logins with certificates in a log, in its order. A client may show one certificate several times."""
    said: dict[str, tuple[VerdictStep | None, str]] = {}  # by process, which a log of the system tells
    for number, line in enumerate(text.splitlines(), 1):
        process = PROCESS.search(line)
        whose = process[1] if process is not None else ""
        answer = ANSWER.search(line)
        if answer is None:
            reason = reason_in(line)
            said |= {whose: reason} if reason is not None else {}
            continue
        step, why = (None, "") if answer[1] == "Accepted" else said.pop(whose, (VerdictStep.TARGET_SIDE, OTHERWISE))
        yield Login(number, answer[2], answer[3], answer[4].strip('"'), int(answer[5]), answer[6], step, why)

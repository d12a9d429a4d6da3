"""What a host itself says of a login: its server's log, and the certificate that was shown."""

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import ip_address, ip_network
from pathlib import Path

from enthesis.access.questions import Question
from enthesis.connectors.host_log import Login, logins_in
from enthesis.connectors.ssh_keys import LoginCertificate, fingerprint, read_certificate
from enthesis.files.saving import read_file
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.model.vocabulary import VerdictStep
from enthesis.text.times import time_text

MOST_LOG = 64 * 2**20  # bytes
MOST_CERTIFICATE = 65_536  # bytes
MOST_TOLD = 5  # logins, the last ones
NOTHING = (
    "no certificate of {who} for {host} came to it: the connection did not get there (a firewall that drops it, "
    "another port or name), or the log begins later"
)


@dataclass(frozen=True, slots=True)
class AtHost:
    """What one source says of a login: sentences, with the step that refuses, None where it is let in."""

    source: str
    says: tuple[tuple[VerdictStep | None, str], ...]


def told_at_host(estate: Estate, question: Question, log: Path | None, certificate: Path | None) -> list[AtHost]:
    """What the log of a host's server says of a question that ends with a login there, and what the certificate says
    that was shown. InvalidInput for any other question, and for files that are neither."""
    attempt = question.attempt
    if attempt is None or attempt.verb != "login" or "/host/" not in attempt.target:
        raise InvalidInput(
            "--log and --certificate are about a login at a host",
            code="options-conflict",
            remedy="ask for it: login ACCOUNT/host/NAME",
        )
    host, who = attempt.target, _asker(question)
    out = []
    if certificate is not None:
        held = read_certificate(read_file(certificate, MOST_CERTIFICATE).decode(errors="replace"))
        against = tuple(_against(estate, held, host, question))
        out.append(
            AtHost(str(certificate), against or ((None, "the certificate is for this host, now and from here"),))
        )
    if log is not None:
        logins = list(logins_in(read_file(log, MOST_LOG).decode(errors="replace")))
        out.append(AtHost(str(log), tuple(_by_log(estate, logins, who, host))))
    return out


def _asker(question: Question) -> str:
    """Who asks for the login: the last identity that was taken on, or the origin."""
    taken = [hop.identity for hop in question.through if hop.identity]
    return taken[-1] if taken else question.origin.whom


def _against(
    estate: Estate, held: LoginCertificate, host: str, question: Question
) -> Iterator[tuple[VerdictStep | None, str]]:
    """Why a host would refuse a certificate, as far as that shows: the step, and plain words."""
    if host not in held.names:
        yield VerdictStep.TARGET_SIDE, f"the certificate is for {' and '.join(held.names) or 'no host'}, not for {host}"
    if question.time >= held.ends:
        yield VerdictStep.SESSION, f"the certificate has ended at {time_text(held.ends)}"
    if question.time < held.begins:
        yield VerdictStep.SESSION, f"the certificate is not valid before {time_text(held.begins)}"
    network = question.context.network
    if network is not None and held.networks and not any(_within(str(network), one) for one in held.networks):
        yield VerdictStep.TARGET_SIDE, f"the certificate counts from {' and '.join(held.networks)}, not from {network}"
    ours = estate.login_authority(host)
    if ours and fingerprint(ours) != fingerprint(held.authority):
        yield VerdictStep.TARGET_SIDE, f"another authority made it ({fingerprint(held.authority)}) than that of {host}"


def _within(address: str, network: str) -> bool:
    try:
        return ip_address(address) in ip_network(network, strict=False)
    except ValueError:
        return False


def _by_log(estate: Estate, logins: list[Login], who: str, host: str) -> Iterator[tuple[VerdictStep | None, str]]:
    """The last logins of somebody at a host: the step that refused, and what came of it."""
    theirs = [one for one in logins if one.id == f"{who} at {host}"]
    ours = estate.login_authority(host)
    for one in theirs[-MOST_TOLD:]:
        reason = one.reason
        if reason and ours and one.authority != fingerprint(ours):
            reason = f"another authority made the certificate ({one.authority}) than that of {host}"
        told = reason or f"logged in as {one.user}"
        yield one.step, f"line {one.line}: {told}, from {one.network}"
    if not theirs:
        yield VerdictStep.TARGET_SIDE, NOTHING.format(who=who, host=host)
        others = Counter(one.id for one in logins)
        if others:
            listed = ", ".join(f"{name} ({count})" for name, count in others.most_common(MOST_TOLD))
            yield None, f"who came with a certificate: {listed}"

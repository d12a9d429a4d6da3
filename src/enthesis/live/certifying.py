"""Logins at hosts that are certified here, with the authority's own key: what the estate grants is judged first.

Where providers certify logins, their grants decide. A host of one's own takes the certificates of an authority whose
key somebody keeps; with that key, this certifies for minutes, for one host, and only for whom the estate lets in.
"""

import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from enthesis.access.answers import Verdict
from enthesis.access.questions import Question
from enthesis.connectors.ssh_keys import AuthorityKey, authority_key, fingerprint, public_of, signed
from enthesis.files.saving import read_file
from enthesis.model.conditions import Network
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Attempt, Context, Estate, Origin
from enthesis.model.secrets import Secret
from enthesis.verdicts.judge import Judge

LIFE, SHORTEST = timedelta(minutes=5), timedelta(seconds=30)
EARLIER = timedelta(seconds=30)  # for clocks that are behind
MOST_KEY = 65_536  # bytes


@dataclass(frozen=True, slots=True)
class OwnAuthority:
    """The authority of one host, whose key is at hand."""

    host: str
    url: str
    key: AuthorityKey

    @property
    def public(self) -> str:
        """Its public key, as OpenSSH writes it."""
        return public_of(self.key)

    def certified(
        self, judge: Judge, origin: Origin, public: str, now: datetime, network: Network | None
    ) -> str | Verdict:
        """A certificate of a caller's public key for this host, or the verdict that refuses the login.

        It ends after five minutes, or earlier where the login is refused by then; with a network it counts from that
        address alone.
        """
        life = LIFE
        while True:
            verdicts = [self._judged(judge, origin, at, network) for at in (now, now + life)]
            if not verdicts[0].allowed:
                return verdicts[0]
            if verdicts[1].allowed:
                break
            if life < SHORTEST:  # the grant ends at once
                return verdicts[1]
            life /= 2
        name = f"{origin.whom} at {self.host}"
        serial = secrets.randbits(63)
        return signed(self.key, public, name, self.host, (now - EARLIER, now + life), serial, str(network or ""))

    def _judged(self, judge: Judge, origin: Origin, now: datetime, network: Network | None) -> Verdict:
        said = frozenset({"network"} if network is not None else ())
        context = Context(network=network, said=said)
        return judge.judge(Question(origin, (), Attempt("login", self.host), context, now))


def own_authority(estate: Estate, host: str, file: Path, password: Secret | None = None) -> OwnAuthority:
    """The authority of a host, by the file with its private key.

    InvalidInput where the estate has no such host with a url, does not say its authority's public key, or says
    another one.
    """
    resource = estate.resources.get(host)
    if resource is None or resource.url is None or resource.certificates is None:
        raise InvalidInput(
            f"the estate has no host {host} with a url",
            code="host-unknown",
            remedy=f"add it to `resources`: {host}: {{url: ssh://HOST/USER, certificates: ISSUER}}",
        )
    key = authority_key(read_file(file, MOST_KEY), str(file), password)
    said, ours = estate.login_authority(host), public_of(key)
    if said is None:
        raise InvalidInput(
            f"the estate does not say the key of {resource.certificates}, whose certificates {host} takes",
            code="authority-unknown",
            remedy=f'write it at the issuer: key: "{ours}"',
        )
    if fingerprint(said) != fingerprint(ours):
        raise InvalidInput(
            f"{file} is the key of another authority ({fingerprint(ours)}) than {resource.certificates} "
            f"({fingerprint(said)})",
            code="authority-unknown",
        )
    return OwnAuthority(host, resource.url, key)

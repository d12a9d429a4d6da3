"""A stand-in SSH certificate authority: user certificates for minutes and one host, and host certificates."""

import secrets
import uuid
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ed25519
from cryptography.hazmat.primitives.serialization import SSHCertificateBuilder, SSHCertificateType

from enthesis_lab.store import Store
from enthesis_lab.tokens import Clock

LIFE = timedelta(minutes=5)
HOST_LIFE = timedelta(days=30)
EARLIER = timedelta(seconds=30)  # for clocks that are behind
LOOPBACK = "127.0.0.0/8"  # where all callers of a lab really are


def serial_of(login: str) -> int:
    """The serial number of the certificate for a login, by its id."""
    return uuid.UUID(login).int & (2**63 - 1)


class SshAuthority:
    """One authority; its key stands where the lab's keys are."""

    def __init__(self, store: Store, clock: Clock, name: str) -> None:
        self.clock = clock
        self.name = name
        kept = store.setting(f"ssh authority {name}")
        if not isinstance(kept, str):
            made = ed25519.Ed25519PrivateKey.generate()
            kept = made.private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.OpenSSH, serialization.NoEncryption()
            ).decode()
            store.set_setting(f"ssh authority {name}", kept)
        key = serialization.load_ssh_private_key(kept.encode(), None)
        if not isinstance(key, ed25519.Ed25519PrivateKey):
            raise TypeError(name)
        self.key = key

    @property
    def public(self) -> str:
        """Its public key, as OpenSSH writes it."""
        encoded = self.key.public_key().public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH)
        return encoded.decode()

    def ends_at(self, ends: float) -> float:
        """When a certificate ends (seconds since 1970) that is asked for now, and may live until `ends`."""
        return min(self.clock.now() + LIFE.total_seconds(), ends)

    def for_login(self, public: str, who: str, host: str, network: str | None, ends: float, login: str) -> str:
        """A certificate for one host, from one network where that is known, until an end (seconds since 1970); its
        serial number is that of a login (by id). ValueError where the key is none that is understood."""
        key = serialization.load_ssh_public_key(public.encode())
        if not isinstance(key, ed25519.Ed25519PublicKey):
            raise ValueError("the key is an Ed25519 one")
        made = self._builder(key, SSHCertificateType.USER, f"{who} at {host}", host).valid_before(int(ends))
        made = made.serial(serial_of(login)).add_extension(b"permit-pty", b"")
        if network is not None:
            made = made.add_critical_option(b"source-address", f"{ip_address(network)},{LOOPBACK}".encode())
        return made.sign(self.key).public_bytes().decode()

    def for_host(self, public: ed25519.Ed25519PublicKey, host: str, address: str) -> str:
        """The certificate with which a host proves itself under an address."""
        ends = datetime.now(UTC) + HOST_LIFE
        made = self._builder(public, SSHCertificateType.HOST, host, address).valid_before(int(ends.timestamp()))
        made = made.serial(secrets.randbits(63))
        return made.sign(self.key).public_bytes().decode()

    def _builder(
        self, key: ed25519.Ed25519PublicKey, kind: SSHCertificateType, about: str, principal: str
    ) -> SSHCertificateBuilder:
        begins = min(datetime.fromtimestamp(self.clock.now(), UTC), datetime.now(UTC)) - EARLIER
        return (
            SSHCertificateBuilder()
            .public_key(key)
            .type(kind)
            .key_id(about.encode())
            .valid_principals([principal.encode()])
            .valid_after(int(begins.timestamp()))
        )

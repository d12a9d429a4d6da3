"""Keys that are made for one login and forgotten after it, and what certificates of such keys say."""

import base64
import hashlib
from dataclasses import dataclass
from datetime import UTC, datetime

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.serialization import SSHCertificateBuilder, SSHCertificateType

from enthesis.model.errors import InvalidInput
from enthesis.model.secrets import Secret

LATEST = 253_402_300_799  # the last second of the year 9999, since 1970


def fresh_key() -> tuple[bytes, str]:
    """A new Ed25519 key as OpenSSH writes it: the private one, and the public one in a line."""
    key = ed25519.Ed25519PrivateKey.generate()
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.OpenSSH, serialization.NoEncryption()
    )
    public = key.public_key().public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH)
    return private, public.decode()


AuthorityKey = ed25519.Ed25519PrivateKey | ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey


def authority_key(data: bytes, where: str, password: Secret | None = None) -> AuthorityKey:
    """The private key of an authority, as OpenSSH or PEM writes it.

    InvalidInput where it is none; with the code `passphrase-needed` where it is kept under one.
    """
    words = password.reveal().encode() if password is not None else None
    for load in (serialization.load_ssh_private_key, serialization.load_pem_private_key):
        try:
            key = load(data, words)
        except TypeError:
            raise InvalidInput(f"{where} is kept under a passphrase", code="passphrase-needed") from None
        except (ValueError, UnsupportedAlgorithm):
            continue
        if isinstance(key, ed25519.Ed25519PrivateKey | ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey):
            return key
    raise InvalidInput(f"{where} holds no private key that can sign, or the passphrase is wrong", code="key-invalid")


def public_of(key: AuthorityKey) -> str:
    """The public key of an authority, as OpenSSH writes it."""
    return key.public_key().public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH).decode()


def signed(
    authority: AuthorityKey, public: str, about: str, name: str, valid: tuple[datetime, datetime], serial: int,
    network: str = "",
) -> str:  # fmt: skip
    """A user certificate of an Ed25519 public key, as OpenSSH writes both: its id, the one name that it is for, from
    when until when, and where from if a network is given. A terminal is permitted, and no forwarding."""
    key = serialization.load_ssh_public_key(public.encode())
    if not isinstance(key, ed25519.Ed25519PublicKey):
        raise TypeError(public)
    begins, ends = (int(at.timestamp()) for at in valid)
    made = SSHCertificateBuilder().public_key(key).type(SSHCertificateType.USER).key_id(about.encode()).serial(serial)
    made = made.valid_principals([name.encode()]).valid_after(begins).valid_before(ends)
    made = made.add_extension(b"permit-pty", b"")
    if network:
        made = made.add_critical_option(b"source-address", network.encode())
    return made.sign(authority).public_bytes().decode()


@dataclass(frozen=True, slots=True)
class LoginCertificate:
    """What an SSH user certificate says: its id, the names that it is for, when it begins and ends, the networks that
    it counts from (none: any), and the public key of its authority as OpenSSH writes it."""

    id: str
    names: tuple[str, ...]
    begins: datetime
    ends: datetime
    networks: tuple[str, ...]
    authority: str


def read_certificate(text: str) -> LoginCertificate:
    """A certificate in the form of a `-cert.pub` file; InvalidInput where it is none, is for a host, or does not bear
    its authority's signature."""
    try:
        found = serialization.load_ssh_public_identity(text.strip().encode())
        if not isinstance(found, serialization.SSHCertificate):
            raise InvalidInput("this is a public key, and no certificate", code="certificate-invalid")
        found.verify_cert_signature()
        public = found.signature_key().public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH)
    except (ValueError, UnsupportedAlgorithm, InvalidSignature) as fault:
        raise InvalidInput(
            f"this is no SSH certificate that can be read ({fault or 'its signature is wrong'})",
            code="certificate-invalid",
            remedy="give the file that ends in -cert.pub",
        ) from None
    if found.type is not serialization.SSHCertificateType.USER:
        raise InvalidInput("this is the certificate of a host, not of a login", code="certificate-invalid")
    begins, ends = (datetime.fromtimestamp(min(at, LATEST), UTC) for at in (found.valid_after, found.valid_before))
    networks = found.critical_options.get(b"source-address", b"").decode(errors="replace")
    names = tuple(name.decode(errors="replace") for name in found.valid_principals)
    return LoginCertificate(
        found.key_id.decode(errors="replace"), names, begins, ends, tuple(filter(None, networks.split(","))),
        public.decode(),
    )  # fmt: skip


def fingerprint(public: str) -> str:
    """The fingerprint of a public key as OpenSSH prints it; InvalidInput where it is none."""
    words = public.split()
    try:
        blob = base64.b64decode(words[1], validate=True)
    except (IndexError, ValueError):
        raise InvalidInput("this is not a public key in the format of OpenSSH", code="certificate-invalid") from None
    return "SHA256:" + base64.b64encode(hashlib.sha256(blob).digest()).decode().rstrip("=")

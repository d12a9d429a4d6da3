"""Documents signed by a person's Ed25519 key, as a compact JWS (RFC 7515, section 3.1; EdDSA: RFC 8037)."""

import warnings
from collections.abc import Mapping
from pathlib import Path

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from joserfc import jws
from joserfc.errors import JoseError, SecurityWarning
from joserfc.jwk import OKPKey

from enthesis.files.saving import read_file
from enthesis.model.errors import InvalidInput

ALGORITHM = "EdDSA"
MAX_KEY = 65_536  # bytes of a file with a key
warnings.filterwarnings("ignore", r"EdDSA is deprecated", SecurityWarning)  # the name that all verifiers know


def signed(document: bytes, key: Path) -> bytes:
    """A document with its signature; InvalidInput where the file holds no private Ed25519 key without a passphrase."""
    private = _private(read_file(key, MAX_KEY), key)
    made = _as_jwk(private)
    header = {"alg": ALGORITHM, "kid": made.thumbprint()}
    return jws.serialize_compact(header, document, made, algorithms=[ALGORITHM]).encode() + b"\n"


def verified(signed_document: bytes, key: Path) -> bytes:
    """The document in a signed one; InvalidInput where the signature is not by this public key."""
    public = public_key(read_file(key, MAX_KEY), str(key))
    try:
        found = jws.deserialize_compact(signed_document.strip(), _as_jwk(public), algorithms=[ALGORITHM])
    except (JoseError, ValueError):
        raise InvalidInput(
            f"the signature is not by the key in {key}, or the document was changed", code="signature-invalid"
        ) from None
    return found.payload


def opened(data: bytes, key: Path | None, name: str) -> bytes:
    """The document in a file's content, signed or not; with a public key only where the signature is by it.
    InvalidInput where it is not, or where there is none to verify."""
    if key is None:
        return unverified_document(data) if is_signed(data) else data
    if not is_signed(data):
        raise InvalidInput(
            f"{name} is not signed, so --key verifies nothing", code="signature-invalid", remedy="leave out --key"
        )
    return verified(data, key)


def signer(signed_document: bytes, keys: Mapping[str, str]) -> tuple[str, bytes] | None:
    """By whose key a document is signed, of some people's public keys, and what it says; None where by nobody's."""
    for person, text in keys.items():
        public = public_key(text.encode(), person)
        try:
            found = jws.deserialize_compact(signed_document.strip(), _as_jwk(public), algorithms=[ALGORITHM])
        except (JoseError, ValueError):
            continue
        return person, found.payload
    return None


def unverified_document(signed_document: bytes) -> bytes:
    """The document in a signed one whose signature nobody has looked at; as it is where it is not signed."""
    try:
        return jws.extract_compact(signed_document.strip()).payload
    except (JoseError, ValueError):
        return signed_document


def is_signed(document: bytes) -> bool:
    """Whether a document has the form of a signed one."""
    return document.strip().count(b".") == 2 and not document.lstrip().startswith((b"{", b"["))


def public_key(data: bytes, name: str) -> Ed25519PublicKey:
    """An Ed25519 public key in PEM or OpenSSH form; InvalidInput where there is none."""
    for load in (serialization.load_ssh_public_key, serialization.load_pem_public_key):
        try:
            found = load(data.strip())
        except (ValueError, UnsupportedAlgorithm):
            continue
        if isinstance(found, Ed25519PublicKey):
            return found
    raise InvalidInput(
        f"{name}: not an Ed25519 public key", code="key-invalid", remedy="give one in OpenSSH or PEM form, e.g. x.pub"
    )


def _private(data: bytes, name: Path) -> Ed25519PrivateKey:
    for load in (serialization.load_ssh_private_key, serialization.load_pem_private_key):
        try:
            found = load(data, None)
        except (ValueError, TypeError, UnsupportedAlgorithm):
            continue
        if isinstance(found, Ed25519PrivateKey):
            return found
    raise InvalidInput(
        f"{name}: not a private Ed25519 key that can be used without a passphrase",
        code="key-invalid",
        remedy="make one: ssh-keygen -t ed25519 -N '' -f FILE",
    )


def _as_jwk(key: Ed25519PrivateKey | Ed25519PublicKey) -> OKPKey:
    if isinstance(key, Ed25519PrivateKey):
        encoded = key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        )
    else:
        encoded = key.public_bytes(serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo)
    return OKPKey.import_key(encoded)

"""The lab's own certificate authority: one short-lived root, and a leaf for the loopback addresses."""

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from enthesis_lab.store import Store

PrivateKey = ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey
LONGEST_NAME = 64  # characters of a common name (RFC 5280, appendix A)
AUTHORITY_LIFE = timedelta(days=30)
LEAF_LIFE = timedelta(days=7)


def make_certificates(folder: Path) -> tuple[Path, Path, Path]:
    """Writes a new authority and leaf; answers the paths of authority, chain and private key (0600).

    The authority's key is not kept: it signs one leaf and is forgotten.
    """
    now = datetime.now(UTC)
    root_key = ec.generate_private_key(ec.SECP256R1())
    leaf_key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Enthesis lab authority")])
    root = (
        _builder(name, name, root_key.public_key(), now, AUTHORITY_LIFE)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(key_usage(signs_certificates=True), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(root_key.public_key()), critical=False)
        .sign(root_key, hashes.SHA256())
    )
    leaf_name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "localhost")])
    alternatives: list[x509.GeneralName] = [x509.DNSName("localhost")]
    alternatives += [x509.IPAddress(ip_address(name)) for name in ("127.0.0.1", "::1")]
    leaf = (
        _builder(leaf_name, name, leaf_key.public_key(), now, LEAF_LIFE)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(key_usage(signs_certificates=False), critical=True)
        .add_extension(x509.SubjectAlternativeName(alternatives), critical=False)
        .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
        .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(root_key.public_key()), critical=False)
        .sign(root_key, hashes.SHA256())
    )
    authority, chain, key = folder / "authority.pem", folder / "service.pem", folder / "service.key"
    key.touch(mode=0o600)
    key.write_bytes(
        leaf_key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        )
    )
    chain.write_bytes(leaf.public_bytes(serialization.Encoding.PEM))
    authority.write_bytes(root.public_bytes(serialization.Encoding.PEM))
    return authority, chain, key


def kept_pair(store: Store, setting: str, make: Callable[[], tuple[PrivateKey, x509.Certificate]]) -> tuple[Any, Any]:
    """A key and its certificate that are kept where the lab's keys are, under a setting; made where there are none."""
    kept = store.setting(setting)
    if isinstance(kept, list):
        key = serialization.load_pem_private_key(kept[0].encode(), None)
        return key, x509.load_pem_x509_certificate(kept[1].encode())
    made, certificate = make()
    private = made.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    store.set_setting(setting, [private.decode(), certificate.public_bytes(serialization.Encoding.PEM).decode()])
    return made, certificate


def self_issued(key: PrivateKey, name: str, now: datetime, life: timedelta) -> x509.CertificateBuilder:
    """A certificate in the making, in which a key of the lab speaks for itself, from a day ago on."""
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, f"Enthesis lab {name}"[:LONGEST_NAME])])
    return (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + life)
    )


def _builder(
    subject: x509.Name, issuer: x509.Name, key: ec.EllipticCurvePublicKey, now: datetime, life: timedelta
) -> x509.CertificateBuilder:
    return (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer)
        .public_key(key)
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(minutes=5))
        .not_valid_after(now + life)
    )


def key_usage(*, signs_certificates: bool) -> x509.KeyUsage:
    """What a key is for: to sign certificates, or to prove who a server or client is."""
    return x509.KeyUsage(
        digital_signature=not signs_certificates,
        content_commitment=False,
        key_encipherment=False,
        data_encipherment=False,
        key_agreement=False,
        key_cert_sign=signs_certificates,
        crl_sign=signs_certificates,
        encipher_only=False,
        decipher_only=False,
    )

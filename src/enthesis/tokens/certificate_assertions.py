"""A statement of who shows a certificate: signed with its key, the certificate itself in the header.

RFC 7515, section 4.1.6; RFC 7523, section 3.
"""

import base64

from cryptography import x509
from cryptography.hazmat.primitives import serialization
from joserfc import jwt
from joserfc.jwk import ECKey

LIFE = 120  # seconds
ALGORITHM = "ES256"


def stated(pem: str, audience: str, now: float, identifier: str) -> str:
    """A statement for one audience, by a certificate and its key (PEM, the key first, of the curve P-256), at a time in
    seconds since 1970, with an id that no other has. ValueError where they are not that."""
    certificate = x509.load_pem_x509_certificate(pem.encode())
    names = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    subject = next(iter(names.get_values_for_type(x509.UniformResourceIdentifier)), "")
    shown = base64.b64encode(certificate.public_bytes(serialization.Encoding.DER)).decode()
    private = serialization.load_pem_private_key(pem.encode(), None).private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    header = {"typ": "JWT", "alg": ALGORITHM, "x5c": [shown]}
    claims = {
        "iss": subject, "sub": subject, "aud": audience, "iat": int(now), "exp": int(now) + LIFE, "jti": identifier
    }  # fmt: skip
    return jwt.encode(header, claims, ECKey.import_key(private), algorithms=[ALGORITHM])

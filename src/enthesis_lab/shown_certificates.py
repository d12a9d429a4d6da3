"""Certificates that callers show: a short statement signed with the certificate's key, the certificate in its header.

RFC 7515, section 4.1.6 for the header; RFC 7523, section 3 for what the statement says; RFC 5280 for the certificate.
"""

import base64
import binascii
import json
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.verification import PolicyBuilder, VerificationError
from cryptography.x509.verification import Store as TrustedStore
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import ECKey
from joserfc.jws import JWSRegistry

from enthesis_lab.store import Store
from enthesis_lab.tokens import MAX_TOKEN, SKEW, Clock, TokenExpired, TokenRefused

LONGEST = 300  # seconds that a statement may live
ALGORITHM = "ES256"
KNOWN = {"typ", "alg", "x5c"}  # parameters of the header


class _Registry(JWSRegistry):
    """What is understood of a statement: its header has a certificate in it."""

    max_header_length = MAX_TOKEN


def header_of(token: str) -> Mapping[str, Any]:
    """The header of a token, not checked in any way; empty where it has none."""
    try:
        part = token.split(".", 1)[0]
        found = json.loads(base64.urlsafe_b64decode(part + "=" * (-len(part) % 4)))
    except (ValueError, binascii.Error, RecursionError):
        return {}
    return found if isinstance(found, dict) else {}


class ShownCertificates:
    """The certificates that one service takes. `authorities` are the certificates of those that issue them, by name;
    `audience` says for whom a statement must be. The store remembers statements."""

    def __init__(self, store: Store, clock: Clock, authorities: Mapping[str, x509.Certificate], audience: str) -> None:
        self.store = store
        self.clock = clock
        self.authorities = authorities
        self.audience = audience

    def claims_in(self, token: str) -> tuple[str, dict[str, Any]]:
        """The name of the authority, and the subject of the certificate that a statement shows.

        TokenRefused where anything about it is wrong; TokenExpired where the certificate has ended.
        """
        header = header_of(token)
        if len(token) > MAX_TOKEN or set(header) - KNOWN or header.get("alg") != ALGORITHM:
            raise TokenRefused("the statement's header is not understood")
        leaf = _leaf(header.get("x5c"))
        name = self._issued_by(leaf)
        self._stated(token, leaf)
        names = leaf.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        subjects = names.get_values_for_type(x509.UniformResourceIdentifier)
        return name, {"subject": subjects[0] if len(subjects) == 1 else list(subjects)}

    def _issued_by(self, leaf: x509.Certificate) -> str:
        now = datetime.fromtimestamp(self.clock.now(), UTC)
        for name, authority in self.authorities.items():
            verifier = PolicyBuilder().store(TrustedStore([authority])).time(now).build_client_verifier()
            try:
                verifier.verify(leaf, [])
            except VerificationError:
                if leaf.issuer == authority.subject and leaf.not_valid_after_utc <= now:
                    raise TokenExpired("the certificate has ended") from None
                continue
            return name
        raise TokenRefused("no authority that is known here issued the certificate, or it is not valid now")

    def _stated(self, token: str, leaf: x509.Certificate) -> None:
        """What the statement says: by the certificate's own key, for this service, now, and never before."""
        key = leaf.public_key()
        if not isinstance(key, ec.EllipticCurvePublicKey):
            raise TokenRefused("the certificate's key is not of an elliptic curve")
        pem = key.public_bytes(serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo)
        try:
            claims = jwt.decode(token, ECKey.import_key(pem), registry=_Registry(algorithms=[ALGORITHM])).claims
        except (JoseError, ValueError, TypeError, KeyError, RecursionError) as fault:
            raise TokenRefused("the statement is not signed with the certificate's key") from fault
        now = self.clock.now()
        begins, ends, identifier = (claims.get(name) for name in ("iat", "exp", "jti"))
        if type(begins) is not int or type(ends) is not int or not isinstance(identifier, str):
            raise TokenRefused("the statement has no times or no id")
        if ends <= now:
            raise TokenExpired("the statement has ended")
        if begins > now + SKEW or ends - begins > LONGEST:
            raise TokenRefused("the statement is not valid yet, or lives too long")
        if claims.get("aud") != self.audience:
            raise TokenRefused("the statement is meant for another audience")
        if not self.store.first_shown(self.audience, identifier, float(ends), now):
            raise TokenRefused("the statement was shown before")


def _leaf(shown: Any) -> x509.Certificate:
    try:
        found = x509.load_der_x509_certificate(base64.b64decode(shown[0], validate=True))
    except (ValueError, TypeError, KeyError, IndexError, binascii.Error):
        raise TokenRefused("the certificate in the statement's header is not understood") from None
    return found

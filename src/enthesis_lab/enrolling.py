"""A stand-in certificate authority: X.509 certificates for minutes, by enrolment over secure transport (RFC 7030).

    GET  /.well-known/est/cacerts        its certificate
    POST /.well-known/est/simpleenroll   a request (PKCS #10), for a certificate of ten minutes

The name is a SPIFFE id in the URI of the alternative names, and in the common name where it fits. Who shows a token for
this authority gets the name of what the token is about; the lab's owner gets whatever name the request has.
"""

import base64
import binascii
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from typing import Any
from urllib.parse import quote

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import pkcs7
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from enthesis_lab.authority import LONGEST_NAME, kept_pair, key_usage, self_issued
from enthesis_lab.guarding import owner_asks
from enthesis_lab.problems import HANDLERS, Problem
from enthesis_lab.running import OWNER
from enthesis_lab.store import Store
from enthesis_lab.tokens import Clock, Signer, TokenRefused, unverified_issuer

LIFE = timedelta(minutes=10)
AUTHORITY_LIFE = timedelta(days=3650)
MAX_REQUEST = 32_768  # bytes
EARLIER = timedelta(seconds=30)  # for clocks that are behind
SERVICE_ACCOUNT = "system:serviceaccount:"


class EnrolmentServer:
    """One authority. `signers` are those of every service of the lab by name: their tokens say who a caller is."""

    def __init__(
        self, name: str, inventory: Mapping[str, Any], store: Store, clock: Clock, url: str,
        signers: Mapping[str, Signer],
    ) -> None:  # fmt: skip
        self.name = name
        self.inventory = inventory
        self.store = store
        self.clock = clock
        self.url = url
        self.signers = signers
        self.key, self.certificate = _authority(store, name, clock)

    def app(self) -> Starlette:
        """The HTTP interface."""
        routes = [
            Route("/.well-known/est/cacerts", self._authorities),
            Route("/.well-known/est/simpleenroll", self._enrol, methods=["POST"]),
        ]
        return Starlette(routes=routes, exception_handlers=HANDLERS)

    async def _authorities(self, request: Request) -> Response:
        """RFC 7030, section 4.1."""
        del request
        return _certificates([self.certificate])

    async def _enrol(self, request: Request) -> Response:
        """RFC 7030, section 4.2. The key must be the caller's own: the request is signed with it."""
        wanted = _request_in(await request.body())
        names, ends = self._names_for(request, wanted)
        now = datetime.fromtimestamp(self.clock.now(), UTC).replace(microsecond=0)
        common = [x509.NameAttribute(NameOID.COMMON_NAME, name) for name in names[:1] if len(name) <= LONGEST_NAME]
        alternative = x509.SubjectAlternativeName([x509.UniformResourceIdentifier(name) for name in names])
        issued = (
            x509.CertificateBuilder()
            .subject_name(x509.Name(common))
            .issuer_name(self.certificate.subject)
            .public_key(wanted.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(min(now, datetime.now(UTC)) - EARLIER)  # real servers have the machine's clock
            .not_valid_after(datetime.fromtimestamp(int(ends), UTC))
            .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
            .add_extension(key_usage(signs_certificates=False), critical=True)
            .add_extension(alternative, critical=not common)
            .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.CLIENT_AUTH]), critical=False)
            .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(self.key.public_key()), critical=False)
            .sign(self.key, hashes.SHA256())
        )
        return _certificates([issued])

    def _names_for(self, request: Request, wanted: x509.CertificateSigningRequest) -> tuple[list[str], float]:
        """The names that a caller may have in a certificate, and until when (seconds since 1970): no longer than the
        session that its token is about."""
        longest = self.clock.now() + LIFE.total_seconds()
        if OWNER in request.headers:
            owner_asks(self.store, request)
            return _names_in(wanted), longest
        scheme, _, token = request.headers.get("authorization", "").partition(" ")
        if scheme.lower() != "bearer" or not token:
            raise Problem(401, "no-token", "a token for this authority is needed")
        issuer = unverified_issuer(token)
        signer = next((one for one in self.signers.values() if one.issuer == issuer), None)
        if signer is None:
            raise Problem(401, "invalid-token", "the token's issuer is not known here")
        try:
            claims = signer.verify(token.strip(), typ="JWT")
        except TokenRefused as fault:
            raise Problem(401, "invalid-token", str(fault), refused_at=["session"]) from None
        audience = claims["aud"] if isinstance(claims["aud"], list) else [claims["aud"]]
        if self.url not in audience:
            raise Problem(401, "invalid-token", "the token is meant for another audience")
        if claims.get("authorization_details"):
            detail = "a narrowed session gets no certificate, which could not be narrowed"
            raise Problem(403, "refused", detail, refused_at=["session"])
        name = self._name_of(signer.service, str(claims.get("sub")))
        if _names_in(wanted) not in ([], [name]):
            raise Problem(403, "refused", "the request names another caller than the token", refused_at=["target-side"])
        about = claims.get("session")
        ends = about.get("exp") if isinstance(about, dict) else claims["exp"]
        return [name], min(longest, float(ends)) if isinstance(ends, int | float) else longest

    def _name_of(self, service: str, subject: str) -> str:
        """The SPIFFE id of what a token of a service is about."""
        resources, providers = self.inventory["resources"], self.inventory["providers"]
        if service.startswith("@"):
            return self._person(service, subject)
        if service not in providers and service in self.inventory["accounts"]:
            detail = f"{service} is an account too: what its tokens name could be taken for what is in that"
            raise Problem(403, "refused", detail, refused_at=["names"])
        if service in resources and subject.startswith(SERVICE_ACCOUNT):
            namespace, _, account = subject.removeprefix(SERVICE_ACCOUNT).partition(":")
            path = f"{service}/namespace/{namespace}/identity/{account}"
        else:
            path = subject if service in providers else f"{service}/{subject}"
        return self._uri(path)

    def _person(self, directory: str, subject: str) -> str:
        """The URI of a person whom a directory states: of its own organisation alone."""
        if not subject.startswith(f"{directory}/identity/"):
            detail = f"{directory} states who is signed in of its own people alone"
            raise Problem(403, "refused", detail, refused_at=["names"])
        return self._uri(subject)

    def _uri(self, path: str) -> str:
        return f"spiffe://{self.inventory['estate']}/{quote(path, safe='/@:')}"


def _request_in(body: bytes) -> x509.CertificateSigningRequest:
    if len(body) > MAX_REQUEST:
        raise Problem(413, "too-large", f"more than {MAX_REQUEST} bytes")
    try:
        wanted = x509.load_der_x509_csr(base64.b64decode(body, validate=False))
        sound = wanted.is_signature_valid
    except (ValueError, binascii.Error, TypeError):
        raise Problem(400, "not-understood", "the body is a certification request (PKCS #10), in base64") from None
    if not sound or not isinstance(wanted.public_key(), ec.EllipticCurvePublicKey):
        raise Problem(400, "not-understood", "the request is signed with its own key, of an elliptic curve")
    return wanted


def _names_in(wanted: x509.CertificateSigningRequest) -> list[str]:
    try:
        found = wanted.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return []
    except ValueError:
        raise Problem(400, "not-understood", "the names in the request are not understood") from None
    names = found.get_values_for_type(x509.UniformResourceIdentifier)
    if len(names) != len(list(found)) or not all(names):
        raise Problem(422, "not-issued", "this authority issues names that are URIs")
    return list(names)


def _certificates(certificates: list[x509.Certificate]) -> Response:
    """Certificates alone (RFC 7030, section 4.1.3)."""
    content = base64.encodebytes(pkcs7.serialize_certificates(certificates, serialization.Encoding.DER))
    headers = {"Content-Transfer-Encoding": "base64", "Cache-Control": "no-store"}
    return Response(content, media_type="application/pkcs7-mime; smime-type=certs-only", headers=headers)


def _authority(store: Store, name: str, clock: Clock) -> tuple[ec.EllipticCurvePrivateKey, x509.Certificate]:
    """The key and certificate of an authority, made when it is first run."""

    def made() -> tuple[ec.EllipticCurvePrivateKey, x509.Certificate]:
        key = ec.generate_private_key(ec.SECP256R1())
        certificate = (
            self_issued(key, name, datetime.fromtimestamp(clock.now(), UTC), AUTHORITY_LIFE)
            .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
            .add_extension(key_usage(signs_certificates=True), critical=True)
            .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
            .sign(key, hashes.SHA256())
        )
        return key, certificate

    return kept_pair(store, f"authority {name}", made)


def authority_pem(store: Store, name: str, clock: Clock) -> bytes:
    """The certificate of an authority, for a server that takes what it issues."""
    return _authority(store, name, clock)[1].public_bytes(serialization.Encoding.PEM)

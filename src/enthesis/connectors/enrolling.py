"""A certificate authority that enrols over secure transport (RFC 7030): certificates for minutes, keys made here."""

import base64
import binascii
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from math import ceil

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import pkcs7

from enthesis.connectors.http import Client, HttpAnswer, problem_said, understood
from enthesis.model.errors import NotIssued, UnexpectedAnswer
from enthesis.model.estate import Claims
from enthesis.model.secrets import Secret
from enthesis.model.vocabulary import VerdictStep
from enthesis.ports import HeldCredential, Joined, Refusal, ServiceHere

ENROL = "/.well-known/est/simpleenroll"
REQUEST = "application/pkcs10"


class CertificateAuthority:
    """One authority. `headers` are what the owner of a lab shows, who gets certificates for any name."""

    def __init__(self, name: str, client: Client, headers: Mapping[str, str] | None = None) -> None:
        self.name = name
        self.url = client.url
        self.client = client
        self.headers = headers or {}

    @understood
    def obtain(self, claims: Claims) -> HeldCredential:
        """A certificate with the subject in `claims`. NotIssued where the authority issues none of that name."""
        subject = claims.get("subject")
        names = [subject] if isinstance(subject, str) else list(subject) if isinstance(subject, tuple) else []
        if not names or not all(isinstance(name, str) and name.isascii() and "://" in name for name in names):
            raise NotIssued(f"{self.name} issues certificates for names that are URIs", code="not-issued")
        got = self._enrolled([str(name) for name in names], None)
        if isinstance(got, Refusal):
            raise NotIssued(f"{self.name} does not issue this: {got.said}", code="not-issued")
        return got

    @understood
    def for_token(self, token: HeldCredential) -> HeldCredential | Refusal:
        """A certificate for whom a token is about that was made for this authority, or the refusal."""
        return self._enrolled([], token.secret)

    def _enrolled(self, names: list[str], bearer: Secret | None) -> HeldCredential | Refusal:
        key = ec.generate_private_key(ec.SECP256R1())
        request = x509.CertificateSigningRequestBuilder().subject_name(x509.Name([]))
        if names:
            uris = [x509.UniformResourceIdentifier(name) for name in names]
            request = request.add_extension(x509.SubjectAlternativeName(uris), critical=False)
        body = base64.encodebytes(request.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.DER))
        headers = {"Content-Type": REQUEST, **({} if bearer is not None else self.headers)}
        answer = self.client.ask("POST", ENROL, bearer=bearer, headers=headers, content=body)
        if answer.status in (401, 403):
            said = problem_said(answer)
            return Refusal.told(_steps(answer), said) or Refusal((VerdictStep.TARGET_SIDE,), said)
        if answer.status == 422 and b":not-issued" in answer.content:
            raise NotIssued(f"{self.name} does not issue this: {problem_said(answer)}", code="not-issued")
        issued = self._read(self.client.expect(answer, 200))
        ends = issued.not_valid_after_utc - datetime.now(UTC) - (self.client.ahead or timedelta(0))
        return HeldCredential(_bundle(key, issued), "certificate", timedelta(seconds=ceil(ends.total_seconds())))

    def _read(self, answer: HttpAnswer) -> x509.Certificate:
        """The certificate in an answer that holds certificates alone."""
        try:
            found = pkcs7.load_der_pkcs7_certificates(base64.b64decode(answer.content))
        except (ValueError, binascii.Error):
            found = []
        if not found:
            raise UnexpectedAnswer(f"{self.name} answered without a certificate", code="answer-not-understood")
        return found[0]


def _bundle(key: ec.EllipticCurvePrivateKey, issued: x509.Certificate) -> Secret:
    """Key and certificate together (PEM), in memory alone."""
    if issued.public_key() != key.public_key():
        raise UnexpectedAnswer(
            "the certificate is for another key than the one it was asked for", code="answer-contradicts"
        )
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    return Secret((private + issued.public_bytes(serialization.Encoding.PEM)).decode())


def _steps(answer: HttpAnswer) -> object:
    try:
        return answer.json("it").get("refused_at")
    except UnexpectedAnswer:
        return None


def joined(service: ServiceHere) -> Joined:
    """An authority that stands in for an issuer of the estate."""
    if service.name not in service.estate.issuers:
        return {}
    client = Client(service.name, service.url, authority=service.authority, max_seconds=service.patience)
    return {"issuers": {service.name: CertificateAuthority(service.name, client, service.owner)}}

"""A stand-in identity provider that signs assertions (SAML 2.0), and how the lab's clouds read them.

    GET  /metadata     who it is, and the certificate of its key (SAML metadata 2.0)
    POST /assertions   an assertion, for the lab's owner: {"attributes": {…}, "recipient": URL}

What is signed is read, and nothing else: one assertion, whole, by the key of a provider that is known here, in a form
that nobody can read in two ways. SAML core 2.0, sections 2 and 5.4; RFC 7522, section 3, for what a bearer must show.
"""

import base64
import binascii
import re
import uuid
from collections.abc import Iterator, Mapping
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from lxml import etree
from signxml.algorithms import CanonicalizationMethod, DigestAlgorithm, SignatureConstructionMethod, SignatureMethod
from signxml.exceptions import SignXMLException
from signxml.signer import XMLSigner
from signxml.verifier import SignatureConfiguration, XMLVerifier
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from enthesis_lab.administration import json_body
from enthesis_lab.authority import kept_pair, self_issued
from enthesis_lab.guarding import owner_asks
from enthesis_lab.problems import HANDLERS, Problem
from enthesis_lab.store import Store
from enthesis_lab.tokens import MAX_TOKEN, SKEW, Clock, TokenExpired, TokenRefused

SAML = "urn:oasis:names:tc:SAML:2.0:assertion"
METADATA = "urn:oasis:names:tc:SAML:2.0:metadata"
SIGNATURE = "http://www.w3.org/2000/09/xmldsig#"
BEARER = "urn:oasis:names:tc:SAML:2.0:cm:bearer"
PROTOCOL = "urn:oasis:names:tc:SAML:2.0:protocol"
TEXT_NAMES = "urn:oasis:names:tc:SAML:2.0:attrname-format:basic"
LIFE = 300  # seconds
LONGEST = 3600  # seconds that an assertion may live to be taken
KEY_LIFE = timedelta(days=3650)
AUDIENCE, SUBJECT = "aud", "sub"  # how the estate names what is no attribute of an assertion
UNFIT = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]|^[ \t\r\n]|[ \t\r\n]$|\r")
"""What XML cannot carry, or does not carry as it is written."""
CHECKED = SignatureConfiguration(
    location="./",
    expect_references=1,
    signature_methods=frozenset({SignatureMethod.RSA_SHA256}),
    digest_algorithms=frozenset({DigestAlgorithm.SHA256}),
)


class AssertionServer:
    """One identity provider. The lab's owner says who its people are: that is for others to decide."""

    def __init__(self, name: str, settings: Mapping[str, Any], store: Store, clock: Clock, url: str) -> None:
        self.name = name
        self.settings = settings
        self.store = store
        self.clock = clock
        self.url = url
        self.key, self.certificate = _key(store, name, clock)

    def app(self) -> Starlette:
        """The HTTP interface."""
        routes = [Route("/metadata", self._metadata), Route("/assertions", self._assert, methods=["POST"])]
        return Starlette(routes=routes, exception_handlers=HANDLERS)

    async def _metadata(self, request: Request) -> Response:
        """SAML metadata 2.0, section 2.4.3."""
        del request
        described = etree.Element(f"{{{METADATA}}}EntityDescriptor", {"entityID": self.url}, {None: METADATA})
        role = etree.SubElement(described, f"{{{METADATA}}}IDPSSODescriptor", protocolSupportEnumeration=PROTOCOL)
        place = etree.SubElement(role, f"{{{METADATA}}}KeyDescriptor", use="signing")
        for name in ("KeyInfo", "X509Data", "X509Certificate"):
            place = etree.SubElement(place, f"{{{SIGNATURE}}}{name}", nsmap={"ds": SIGNATURE})
        der = self.certificate.public_bytes(serialization.Encoding.DER)
        place.text = base64.b64encode(der).decode()
        return Response(etree.tostring(described), media_type="application/samlmetadata+xml")

    async def _assert(self, request: Request) -> Response:
        """An assertion with these attributes; `aud` is its audience (by default the recipient), `sub` its subject."""
        owner_asks(self.store, request)
        body = await json_body(request)
        shown, recipient = body.get("attributes"), body.get("recipient")
        if set(body) != {"attributes", "recipient"} or not isinstance(shown, dict) or not isinstance(recipient, str):
            raise Problem(422, "not-understood", "`attributes` is a mapping, `recipient` the url that it is shown to")
        texts = {name: self._texts(name, value) for name, value in shown.items()}
        if texts.setdefault(AUDIENCE, [recipient]) == []:
            raise Problem(422, "not-issued", "an assertion is for an audience: `aud`")
        if len(texts.get(SUBJECT, ())) > 1:
            raise Problem(422, "not-issued", "an assertion is about one subject")
        if UNFIT.search(recipient):
            raise Problem(422, "not-understood", "`recipient` is a url")
        signed = signed_assertion(self.key, self.certificate, self.url, texts, recipient, self.clock.now())
        shown_as = base64.urlsafe_b64encode(signed).decode().rstrip("=")
        return JSONResponse({"assertion": shown_as, "expires_in": LIFE}, headers={"Cache-Control": "no-store"})

    def _texts(self, name: str, value: Any) -> list[str]:
        listed = self.settings.get("claims")
        if name != AUDIENCE and listed is not None and name not in listed:
            raise Problem(422, "not-issued", f"this issuer never issues the attribute {name}")
        texts = value if isinstance(value, list) else [value]
        if isinstance(value, list) and name != AUDIENCE and (listed or {}).get(name) != "list":
            raise Problem(422, "not-issued", f"this issuer issues {name} as one value")
        if not all(isinstance(text, str) and text and not UNFIT.search(text) for text in [name, *texts]):
            raise Problem(422, "not-issued", "attributes here are texts that XML carries as they are")
        return texts


def signed_assertion(
    key: rsa.RSAPrivateKey, certificate: x509.Certificate, issuer: str, texts: Mapping[str, list[str]], recipient: str,
    now: float, *, life: int = LIFE,
) -> bytes:  # fmt: skip
    """An assertion for one recipient, signed whole. `texts` are its attributes, with its audiences as `aud` and its
    subject as `sub`; `now` is in seconds since 1970, `life` in seconds."""
    begins, ends = (datetime.fromtimestamp(int(when), UTC).strftime("%Y-%m-%dT%H:%M:%SZ") for when in (now, now + life))
    root = etree.Element(f"{{{SAML}}}Assertion", nsmap={None: SAML})
    root.attrib.update({"ID": f"_{uuid.uuid4().hex}", "IssueInstant": begins, "Version": "2.0"})
    _under(root, "Issuer").text = issuer
    etree.SubElement(root, f"{{{SIGNATURE}}}Signature", {"Id": "placeholder"}, {"ds": SIGNATURE})
    subject = _under(root, "Subject")
    for text in texts.get(SUBJECT, ()):
        _under(subject, "NameID").text = text
    confirmed = _under(subject, "SubjectConfirmation", Method=BEARER)
    _under(confirmed, "SubjectConfirmationData", NotOnOrAfter=ends, Recipient=recipient)
    conditions = _under(root, "Conditions", NotBefore=begins, NotOnOrAfter=ends)
    restricted = _under(conditions, "AudienceRestriction")
    for text in texts.get(AUDIENCE, ()):
        _under(restricted, "Audience").text = text
    said = {name: values for name, values in texts.items() if name not in (AUDIENCE, SUBJECT)}
    stated = _under(root, "AttributeStatement") if said else root
    for name, values in said.items():
        attribute = _under(stated, "Attribute", Name=name, NameFormat=TEXT_NAMES)
        for text in values:
            _under(attribute, "AttributeValue").text = text
    signer = XMLSigner(
        signature_algorithm=SignatureMethod.RSA_SHA256,
        digest_algorithm=DigestAlgorithm.SHA256,
        c14n_algorithm=CanonicalizationMethod.EXCLUSIVE_XML_CANONICALIZATION_1_0,
        method=SignatureConstructionMethod.enveloped,
    )
    signed = signer.sign(root, key=key, cert=[certificate], reference_uri=root.get("ID"))
    return bytes(etree.tostring(signed))


def _under(parent: Any, name: str, **attributes: str) -> Any:
    return etree.SubElement(parent, f"{{{SAML}}}{name}", attributes)


class ShownAssertions:
    """The assertions that one service takes. `known` are the certificates of the providers that sign them, by their
    url, with the provider's name; `recipient` is the url that they must be made for, `audiences` are the names that the
    service has as an audience (RFC 7522, section 3). The store remembers them."""

    def __init__(
        self,
        store: Store,
        clock: Clock,
        known: Mapping[str, tuple[str, x509.Certificate]],
        recipient: str,
        audiences: frozenset[str],
    ) -> None:
        self.store = store
        self.clock = clock
        self.known = known
        self.recipient = recipient
        self.audiences = audiences

    def names_us(self, said: Mapping[str, Any]) -> bool:
        """Whether some audience of an assertion is this service."""
        named = said.get(AUDIENCE, ())
        return not self.audiences.isdisjoint([named] if isinstance(named, str) else named)

    def attributes_in(self, shown: str) -> tuple[str, dict[str, Any]]:
        """The name of the issuer of an assertion (base64url), and what it says, its audience and subject included.

        TokenRefused where anything about it is wrong; TokenExpired where it has ended, or was shown before.
        """
        root = _read(shown)
        issuer = (root.findtext(f"{{{SAML}}}Issuer") or "").strip()
        if issuer not in self.known:
            raise TokenRefused("the assertion's issuer is not known here")
        name, certificate = self.known[issuer]
        signed = _signed(root, certificate, self.clock.now())
        if signed.findtext(f"{{{SAML}}}Issuer") != issuer:
            raise TokenRefused("the assertion names two issuers")
        ends = max(self._confirmed(signed), self._in_time(signed))
        said = dict(_said(signed))
        self._once(str(signed.get("ID")), ends)
        return name, {one: texts[0] if len(texts) == 1 else texts for one, texts in said.items() if texts}

    def _in_time(self, signed: Any) -> float:
        """Until when it counts; its conditions are all understood, and hold."""
        conditions = _only(signed, "Conditions")
        for one in conditions:
            if etree.QName(one).localname not in ("AudienceRestriction", "OneTimeUse"):
                raise TokenRefused("the assertion has a condition that is not understood")
        begins = _time(conditions.get("NotBefore") or signed.get("IssueInstant"))
        ends = _time(conditions.get("NotOnOrAfter"))
        now = self.clock.now()
        if ends <= now:
            raise TokenExpired("the assertion has expired")
        if begins > now + SKEW or ends - begins > LONGEST:
            raise TokenRefused("the assertion is not valid yet, or lives too long")
        return ends

    def _confirmed(self, signed: Any) -> float:
        """Until when who bears it may show it here (SAML profiles 2.0, section 3.3)."""
        for one in _only(signed, "Subject").findall(f"{{{SAML}}}SubjectConfirmation"):
            data = one.find(f"{{{SAML}}}SubjectConfirmationData")
            if one.get("Method") != BEARER or data is None or data.get("NotBefore") is not None:
                continue
            if data.get("Recipient") != self.recipient:
                continue
            ends = _time(data.get("NotOnOrAfter"))
            if ends <= self.clock.now():
                raise TokenExpired("the assertion has expired")
            return ends
        raise TokenRefused("the assertion is meant for another recipient")

    def _once(self, identifier: str, ends: float) -> None:
        if not self.store.first_shown(self.recipient, identifier, ends, self.clock.now()):
            raise TokenExpired("the assertion was shown before")


def _read(shown: str) -> Any:
    """An assertion as it is shown: base64url of XML that has no declaration of its own, comment or instruction."""
    try:
        data = base64.urlsafe_b64decode(shown + "=" * (-len(shown) % 4))
    except (ValueError, binascii.Error):
        raise TokenRefused("the assertion is not base64url") from None
    if len(shown) > MAX_TOKEN or base64.urlsafe_b64encode(data).decode().rstrip("=") != shown.rstrip("="):
        raise TokenRefused("the assertion is too long, or not base64url")
    if b"<!" in data or b"\0" in data or data.count(b"<?") > data.startswith(b"<?xml"):  # in any encoding
        raise TokenRefused("the assertion has a declaration, a comment or an instruction in it")
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)
    try:
        root = etree.fromstring(data, parser)
    except (etree.XMLSyntaxError, ValueError):
        raise TokenRefused("the assertion is not XML") from None
    signatures = len(list(root.iter(f"{{{SIGNATURE}}}Signature")))
    if root.tag != f"{{{SAML}}}Assertion" or len(list(root.iter(root.tag))) != 1 or signatures > 1:
        raise TokenRefused("what is shown is not one assertion with one signature")
    if root.getroottree().docinfo.internalDTD is not None or any(not isinstance(one.tag, str) for one in root.iter()):
        raise TokenRefused("the assertion has a declaration, a comment or an instruction in it")
    return root


def _signed(root: Any, certificate: x509.Certificate, now: float) -> Any:
    """What the key of a certificate that is good now signed: the whole assertion, or TokenRefused."""
    data = etree.tostring(root)
    checked = replace(CHECKED, verification_time=datetime.fromtimestamp(now, UTC))
    try:
        found = XMLVerifier().verify(data, x509_cert=certificate, expect_config=checked)
    except (SignXMLException, ValueError, TypeError, KeyError, AttributeError, etree.LxmlError) as fault:
        raise TokenRefused("the assertion is not signed by its issuer") from fault
    signed = None if isinstance(found, list) else found.signed_xml
    identifier = root.get("ID")
    if signed is None or signed.tag != root.tag or not identifier or signed.get("ID") != identifier:
        raise TokenRefused("the signature is not about the whole assertion")
    if signed.get("Version") != "2.0":
        raise TokenRefused("the assertion is of another version")
    return signed


def _said(signed: Any) -> Iterator[tuple[str, list[str]]]:
    """What an assertion says, each name once."""
    yield AUDIENCE, [_text(one) for one in _only(_only(signed, "Conditions"), "AudienceRestriction")]
    yield SUBJECT, [_text(one) for one in _only(signed, "Subject").findall(f"{{{SAML}}}NameID")]
    names = {AUDIENCE, SUBJECT}
    for one in signed.iterfind(f"{{{SAML}}}AttributeStatement/{{{SAML}}}Attribute"):
        name = str(one.get("Name"))
        if name in names:
            raise TokenRefused("the assertion says an attribute twice")
        names.add(name)
        yield name, [_text(value) for value in one.findall(f"{{{SAML}}}AttributeValue")]


def _only(parent: Any, name: str) -> Any:
    found = parent.findall(f"{{{SAML}}}{name}")
    if len(found) != 1:
        raise TokenRefused(f"the assertion must have one {name}")
    return found[0]


def _text(element: Any) -> str:
    if len(element):
        raise TokenRefused("a value in the assertion is not a text")
    return str(element.text or "")


def _time(text: str | None) -> float:
    try:
        found = datetime.fromisoformat(text or "")
    except ValueError:
        found = datetime.min
    if found.tzinfo is None:
        raise TokenRefused("the assertion has no times")
    return found.timestamp()


def _key(store: Store, name: str, clock: Clock) -> tuple[rsa.RSAPrivateKey, x509.Certificate]:
    """The key of an identity provider and its certificate, made when it is first run."""

    def made() -> tuple[rsa.RSAPrivateKey, x509.Certificate]:
        key = rsa.generate_private_key(65537, 2048)
        now = datetime.fromtimestamp(clock.now(), UTC)
        return key, self_issued(key, name, now, KEY_LIFE).sign(key, hashes.SHA256())

    return kept_pair(store, f"assertions {name}", made)

"""What an assertion (SAML 2.0) says, nothing of it believed yet: the service that it is shown to checks it.

SAML core 2.0, section 2; RFC 7522, section 2.1, for how it is sent.
"""

import base64
import binascii
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from cryptography import x509

from enthesis.model.extras import extra
from enthesis.tokens.checking import Refused

with extra("saml", "assertions (SAML 2.0)"):
    from lxml import etree
    from signxml.exceptions import SignXMLException
    from signxml.verifier import SignatureConfiguration, XMLVerifier

MAX_ASSERTION = 65_536  # bytes
SAML = "{urn:oasis:names:tc:SAML:2.0:assertion}"
CERTIFICATE = "{http://www.w3.org/2000/09/xmldsig#}X509Certificate"
SHORTEST = 100  # characters
SIGNED = SignatureConfiguration(location="./", expect_references=1)


@dataclass(frozen=True, slots=True)
class Asserted:
    """An assertion taken apart. `shows` are its attributes, its audience as `aud` and its subject as `sub`; `sent` is
    how it goes into a request (base64url)."""

    issuer: str
    shows: Mapping[str, str | tuple[str, ...]]
    recipients: tuple[str, ...]
    ends: datetime | None
    sent: str


def asserted(content: bytes) -> Asserted:
    """The assertion in some content: XML, or that in base64. Refused where it is none, or declares anything."""
    data = content.strip()
    try:
        if not data.startswith(b"<"):
            data = base64.b64decode(data.replace(b"-", b"+").replace(b"_", b"/") + b"=" * (-len(data) % 4))
        plain = len(data) <= MAX_ASSERTION and b"<!" not in data and b"\0" not in data
        root = etree.fromstring(data, _parser()) if plain else None
    except (binascii.Error, ValueError, etree.XMLSyntaxError):
        root = None
    if root is None or root.getroottree().docinfo.internalDTD is not None or root.tag != f"{SAML}Assertion":
        raise Refused("not-a-token", "it is not an assertion of SAML 2.0")
    shows = {
        "aud": _texts(root.iterfind(f"{SAML}Conditions/{SAML}AudienceRestriction/{SAML}Audience")),
        "sub": _texts(root.iterfind(f"{SAML}Subject/{SAML}NameID")),
    }
    for attribute in root.iterfind(f"{SAML}AttributeStatement/{SAML}Attribute"):
        shows.setdefault(str(attribute.get("Name")), _texts(attribute.iterfind(f"{SAML}AttributeValue")))
    confirmed = root.iterfind(f"{SAML}Subject/{SAML}SubjectConfirmation/{SAML}SubjectConfirmationData")
    conditions = root.find(f"{SAML}Conditions")
    return Asserted(
        (root.findtext(f"{SAML}Issuer") or "").strip(),
        {name: texts[0] if len(texts) == 1 else texts for name, texts in shows.items() if texts},
        tuple(one.get("Recipient", "") for one in confirmed),
        _time(conditions.get("NotOnOrAfter") if conditions is not None else None),
        base64.urlsafe_b64encode(data).decode().rstrip("="),
    )


def looks_like_one(content: bytes) -> bool:
    """Whether some content is meant as an assertion, and not as a token: XML, or that in base64."""
    data = content.strip()
    return data.startswith(b"<") or (b"." not in data and data[:1] == b"P" and len(data) > SHORTEST)


def check_signature(read: Asserted, certificates: Sequence[x509.Certificate], now: datetime) -> None:
    """Refused where the whole assertion is not signed by a key of one of these certificates that is good now."""
    data = base64.urlsafe_b64decode(read.sent + "=" * (-len(read.sent) % 4))
    signed_now = replace(SIGNED, verification_time=now)
    identifier = etree.fromstring(data, _parser()).get("ID")
    for certificate in certificates:
        try:
            found = XMLVerifier().verify(data, x509_cert=certificate, expect_config=signed_now)
        except (SignXMLException, ValueError, TypeError, KeyError, AttributeError, etree.LxmlError):
            continue
        signed = None if isinstance(found, list) else found.signed_xml
        if signed is not None and signed.tag == f"{SAML}Assertion" and signed.get("ID") == identifier:
            return
    raise Refused("signature-wrong", "it is not signed as a whole by a key of its issuer")


def certificates_in(content: bytes) -> list[x509.Certificate]:
    """The certificates of keys that sign: in metadata (SAML metadata 2.0, section 2.4.1.1), or in PEM. Refused where
    there are none."""
    try:
        if b"-----BEGIN" in content:
            return x509.load_pem_x509_certificates(content)
        plain = len(content) <= MAX_ASSERTION and b"<!" not in content and b"\0" not in content
        root = etree.fromstring(content, _parser()) if plain else None
        texts = () if root is None else (each.text or "" for each in root.iter(CERTIFICATE))
        found = [x509.load_der_x509_certificate(base64.b64decode("".join(text.split()))) for text in texts]
    except (ValueError, binascii.Error, etree.XMLSyntaxError):
        found = []
    if not found:
        raise Refused("no-key", "no certificate of its issuer can be read")
    return found


def _parser() -> "etree.XMLParser":
    return etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)


def _texts(elements: "etree.ElementBase") -> tuple[str, ...]:
    return tuple("".join(one.itertext()) for one in elements)


def _time(text: str | None) -> datetime | None:
    try:
        found = datetime.fromisoformat(text or "")
    except ValueError:
        return None
    return found if found.tzinfo is not None else None

"""What an assertion (SAML 2.0) says, nothing of it believed yet: the service that it is shown to checks it.

SAML core 2.0, section 2; RFC 7522, section 2.1, for how it is sent.
"""

import base64
import binascii
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from lxml import etree

from enthesis.tokens.checking import Refused

MAX_ASSERTION = 65_536  # bytes
SAML = "{urn:oasis:names:tc:SAML:2.0:assertion}"


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
        parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)
        plain = len(data) <= MAX_ASSERTION and b"<!" not in data and b"\0" not in data
        root = etree.fromstring(data, parser) if plain else None
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


def _texts(elements: "etree.ElementBase") -> tuple[str, ...]:
    return tuple("".join(one.itertext()) for one in elements)


def _time(text: str | None) -> datetime | None:
    try:
        found = datetime.fromisoformat(text or "")
    except ValueError:
        return None
    return found if found.tzinfo is not None else None

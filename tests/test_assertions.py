"""Assertions (SAML 2.0): taken only where they are signed whole, by a known issuer, for us, once, and in time."""

import base64
import re
import ssl
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import cache
from pathlib import Path
from typing import Any, cast

import httpx
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.x509.oid import NameOID
from lxml import etree
from signxml.algorithms import DigestAlgorithm, SignatureMethod
from signxml.signer import XMLSigner

from enthesis.tokens.checking import Refused
from enthesis.tokens.saml import MAX_ASSERTION, asserted, certificates_in, check_signature
from enthesis_lab.assertions import SAML, SIGNATURE, ShownAssertions, signed_assertion
from enthesis_lab.store import Store
from enthesis_lab.tokens import Clock, TokenExpired, TokenRefused

from .conftest import Lab, Program, lab_of, start_lab, write_estate

ISSUER, RECIPIENT = "https://desk.example", "https://cloud.example/token"
OURS = frozenset(("lowland", "https://cloud.example", RECIPIENT))
SAID = {"aud": ["lowland"], "sub": ["carol"], "groups": ["printers", "guests"]}
ESTATE = """
estate: orchard
organisations: {orchard: {}}
providers: {lowland: {style: two-sided}, upland: {style: one-sided}}
accounts: {press: {in: "@orchard", provider: lowland}}
issuers: {desk: {kind: saml, claims: {sub: text, groups: list, team: text}}}
resources: {press/bucket/labels: {}}
identities: {press/identity/printer: {kind: instance-role, purpose: prints labels}}
roles: {print: {allows: {object: [read, write]}}}
trusts:
  - name: desk-prints
    of: press/identity/printer
    admits: {assertion: desk, attributes: {aud: lowland, groups: [printers], team: {glob: "press-*"}}}
    session: 30m
grants: [{to: press/identity/printer, role: print, at: press/bucket/labels}]
journeys:
  print:
    from: {assertion: desk, attributes: {aud: lowland, sub: carol, groups: [printers, guests], team: press-2}}
    through: [press/identity/printer]
    attempt: write press/bucket/labels/object/today
    expect: allowed
    keyless: true
  guests-do-not:
    from: {assertion: desk, attributes: {aud: lowland, sub: carol, groups: [guests], team: press-2}}
    through: [press/identity/printer]
    attempt: write press/bucket/labels/object/today
    expect: refused
    refused_at: target-side
"""


@dataclass
class Fixed(Clock):
    """A clock that stands."""

    at: float

    def now(self) -> float:
        return self.at


NOW = Fixed(cast(Store, None), 1_800_000_000.0)


@cache
def key(name: str) -> tuple[rsa.RSAPrivateKey, x509.Certificate]:
    private = rsa.generate_private_key(65537, 2048)
    called = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    now = datetime.fromtimestamp(NOW.now(), UTC)
    builder = x509.CertificateBuilder().subject_name(called).issuer_name(called).public_key(private.public_key())
    builder = builder.serial_number(1).not_valid_before(now - timedelta(1)).not_valid_after(now + timedelta(1))
    return private, builder.sign(private, hashes.SHA256())


def service(path: Path = Path(":memory:")) -> ShownAssertions:
    return ShownAssertions(Store(path), NOW, {ISSUER: ("desk", key("desk")[1])}, RECIPIENT, OURS)


def signed(
    said: dict[str, list[str]] = SAID, *, by: str = "desk", recipient: str = RECIPIENT, at: float = 0, life: int = 300
) -> bytes:
    return signed_assertion(*key(by), ISSUER, said, recipient, NOW.now() + at, life=life)


def sent(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).decode().rstrip("=")


def signed_by_issuer(change: Callable[[Any], None], **more: Any) -> bytes:
    """An assertion that the issuer itself signed in a form of its own."""
    root = etree.fromstring(signed())
    place = root.find(f"{{{SIGNATURE}}}Signature")
    for child in list(place):
        place.remove(child)
    place.attrib["Id"] = "placeholder"
    change(root)
    private, certificate = key("desk")
    reference = more.pop("reference", root.get("ID"))
    return bytes(etree.tostring(XMLSigner(**more).sign(root, key=private, cert=[certificate], reference_uri=reference)))


def test_what_is_signed_for_us_is_taken_once(tmp_path: Path) -> None:
    taking, shown = service(tmp_path / "lab.db"), sent(signed())
    assert taking.attributes_in(shown) == (
        "desk",
        {"aud": "lowland", "sub": "carol", "groups": ["printers", "guests"]},
    )
    with pytest.raises(TokenExpired, match="shown before"):
        taking.attributes_in(shown)
    assert taking.attributes_in(sent(signed()))[0] == "desk", "another one"
    with pytest.raises(TokenExpired, match="shown before"):
        service(tmp_path / "lab.db").attributes_in(shown)  # as after a restart


def inside(root: Any) -> bytes:
    """The signed assertion inside of another one, that says what a forger likes."""
    forged = etree.fromstring(signed({**SAID, "groups": ["owners"]}, by="forger"))
    place = forged.find(f"{{{SIGNATURE}}}Signature")
    forged.replace(place, root.find(f"{{{SIGNATURE}}}Signature"))
    etree.SubElement(forged, f"{{{SAML}}}Advice").append(root)
    return bytes(etree.tostring(forged))


def beside(root: Any) -> bytes:
    """The signed assertion in the signature of another one."""
    forged = etree.fromstring(signed({**SAID, "groups": ["owners"]}, by="forger"))
    taken = root.find(f"{{{SIGNATURE}}}Signature")
    root.remove(taken)
    etree.SubElement(taken, f"{{{SIGNATURE}}}Object").append(root)
    forged.replace(forged.find(f"{{{SIGNATURE}}}Signature"), taken)
    return bytes(etree.tostring(forged))


def wrapped(root: Any) -> bytes:
    """Both in a response, the forged one first."""
    response = etree.Element("{urn:oasis:names:tc:SAML:2.0:protocol}Response")
    response.append(etree.fromstring(signed(by="forger")))
    response.append(root)
    return bytes(etree.tostring(response))


def same_id(root: Any) -> bytes:
    """A forged one with the id of the signed one, which stands in it under another name."""
    forged = etree.fromstring(signed({**SAID, "groups": ["owners"]}, by="forger"))
    forged.set("ID", root.get("ID"))
    taken = root.find(f"{{{SIGNATURE}}}Signature")
    forged.replace(forged.find(f"{{{SIGNATURE}}}Signature"), taken)
    root.tag = "hidden"
    forged.append(root)
    return bytes(etree.tostring(forged))


def unsigned(root: Any) -> bytes:
    root.remove(root.find(f"{{{SIGNATURE}}}Signature"))
    return bytes(etree.tostring(root))


def with_text(old: str, new: str) -> Callable[[Any], bytes]:
    def change(root: Any) -> bytes:
        text = str(etree.tostring(root).decode())
        assert old in text
        return text.replace(old, new, 1).encode()

    return change


def more_attributes(root: Any) -> bytes:
    statement = root.find(f"{{{SAML}}}AttributeStatement")
    added = etree.SubElement(statement, f"{{{SAML}}}Attribute", Name="team")
    etree.SubElement(added, f"{{{SAML}}}AttributeValue").text = "owners"
    return bytes(etree.tostring(root))


def spaced(root: Any) -> bytes:
    return bytes(etree.tostring(root)) + b" " * 20_000


def bomb(root: Any) -> bytes:
    entities = "".join(f'<!ENTITY a{n} "{f"&a{n - 1};" * 10}">' for n in range(1, 9))
    text = etree.tostring(root).decode().replace("carol", "&a8;")
    return f'<!DOCTYPE Assertion [<!ENTITY a0 "carol">{entities}]>{text}'.encode()


def bomb_in_utf_16(root: Any) -> bytes:
    return bomb(root).decode().encode("utf-16")


def bomb_in_utf_7(root: Any) -> bytes:
    text = bomb(root).decode()
    return b'<?xml version="1.0" encoding="UTF-7"?>' + text.replace("<", "+ADw-").replace("!", "+ACE-").encode()


def outside(root: Any) -> bytes:
    text = etree.tostring(root).decode().replace("carol", "&file;")
    return f'<!DOCTYPE Assertion [<!ENTITY file SYSTEM "file:///etc/passwd">]>{text}'.encode()


HELD = [
    (inside, "not one assertion"),
    (beside, "not one assertion"),
    (wrapped, "issuer is not known|not one assertion"),
    (same_id, "not one assertion|not signed by its issuer|signature is not about"),
    (unsigned, "not signed by its issuer"),
    (more_attributes, "not signed by its issuer"),
    (with_text(">guests<", ">owners<"), "not signed by its issuer"),
    (with_text(">carol<", ">ca<!-- -->rol<"), "a comment"),
    (with_text("<NameID>carol", "<NameID><?x y?>carol"), "an instruction"),
    (with_text(">carol<", ">car<b xmlns='x'/>ol<"), "not signed by its issuer"),
    (with_text(RECIPIENT, "https://other.example/token"), "not signed by its issuer"),
    (with_text("Version=", "Versio="), "not signed by its issuer"),
    (bomb, "a declaration"),
    (outside, "a declaration"),
    (bomb_in_utf_16, "a declaration"),
    (bomb_in_utf_7, "a declaration|not XML"),
    (lambda root: b"<" + bytes(etree.tostring(root)), "not XML"),
    (spaced, "too long"),
    (lambda root: b"carol", "not XML"),
]


@pytest.mark.attack("assertions")
@pytest.mark.parametrize(("change", "said"), HELD, ids=lambda value: getattr(value, "__name__", None))
def test_what_anybody_changed_is_not_taken(change: Callable[[Any], bytes], said: str) -> None:
    with pytest.raises(TokenRefused, match=said):
        service().attributes_in(sent(change(etree.fromstring(signed()))))


@pytest.mark.attack("assertions")
def test_only_the_known_key_of_the_issuer_it_names_counts() -> None:
    with pytest.raises(TokenRefused, match="not signed by its issuer"):
        service().attributes_in(sent(signed(by="forger")))  # with the certificate of its own key in it
    other = signed_assertion(*key("desk"), "https://elsewhere.example", SAID, RECIPIENT, NOW.now())
    with pytest.raises(TokenRefused, match="issuer is not known"):
        service().attributes_in(sent(other))
    two = ShownAssertions(
        service().store,
        NOW,
        {ISSUER: ("desk", key("desk")[1]), "https://b.example": ("b", key("forger")[1])},
        RECIPIENT,
        OURS,
    )
    with pytest.raises(TokenRefused, match="not signed by its issuer"):
        two.attributes_in(sent(signed(by="forger")))


def only_what_it_says(root: Any) -> None:
    root.find(f"{{{SAML}}}AttributeStatement").set("ID", "part")


def other_condition(root: Any) -> None:
    etree.SubElement(root.find(f"{{{SAML}}}Conditions"), f"{{{SAML}}}Condition")


def no_audience(root: Any) -> None:
    conditions = root.find(f"{{{SAML}}}Conditions")
    conditions.remove(conditions[0])


def two_restrictions(root: Any) -> None:
    conditions = root.find(f"{{{SAML}}}Conditions")
    etree.SubElement(etree.SubElement(conditions, f"{{{SAML}}}AudienceRestriction"), f"{{{SAML}}}Audience").text = "x"


def twice(root: Any) -> None:
    statement = root.find(f"{{{SAML}}}AttributeStatement")
    etree.SubElement(statement, f"{{{SAML}}}Attribute", Name="groups")


def another_subject(root: Any) -> None:
    statement = root.find(f"{{{SAML}}}AttributeStatement")
    added = etree.SubElement(statement, f"{{{SAML}}}Attribute", Name="sub")
    etree.SubElement(added, f"{{{SAML}}}AttributeValue").text = "dora"


def no_end(root: Any) -> None:
    del root.find(f"{{{SAML}}}Conditions").attrib["NotOnOrAfter"]


def with_a_key(root: Any) -> None:
    confirmed = root.find(f"{{{SAML}}}Subject/{{{SAML}}}SubjectConfirmation")
    confirmed.set("Method", "urn:oasis:names:tc:SAML:2.0:cm:holder-of-key")


def nothing(root: Any) -> None: ...


OWN_FORMS: list[tuple[Callable[[Any], None], dict[str, Any], str]] = [
    (only_what_it_says, {"reference": "part"}, "signature is not about the whole"),
    (nothing, {"signature_algorithm": SignatureMethod.RSA_SHA512}, "not signed by its issuer"),
    (nothing, {"digest_algorithm": DigestAlgorithm.SHA512}, "not signed by its issuer"),
    (other_condition, {}, "a condition that is not understood"),
    (no_audience, {}, "must have one AudienceRestriction"),
    (two_restrictions, {}, "must have one AudienceRestriction"),
    (twice, {}, "says an attribute twice"),
    (another_subject, {}, "says an attribute twice"),
    (no_end, {}, "has no times"),
    (with_a_key, {}, "another recipient"),
]


@pytest.mark.parametrize(("change", "more", "said"), OWN_FORMS)
def test_what_an_issuer_signs_otherwise_is_not_taken(
    change: Callable[[Any], None], more: dict[str, Any], said: str
) -> None:
    with pytest.raises(TokenRefused, match=said):
        service().attributes_in(sent(signed_by_issuer(change, **more)))


def test_an_issuer_signs_the_control_of_these() -> None:
    assert service().attributes_in(sent(signed_by_issuer(nothing)))[0] == "desk"


@pytest.mark.parametrize(
    ("at", "life", "kind", "said"),
    [
        (-301, 300, TokenExpired, "has expired"), (-300, 300, TokenExpired, "has expired"),
        (60, 300, TokenRefused, "not valid yet"), (0, 7200, TokenRefused, "lives too long"),
    ],
)  # fmt: skip
def test_times_count(at: float, life: int, kind: type[Exception], said: str) -> None:
    with pytest.raises(kind, match=said):
        service().attributes_in(sent(signed(at=at, life=life)))
    assert service().attributes_in(sent(signed(at=-299, life=300)))


@pytest.mark.attack("assertions")
def test_one_that_was_made_for_another_service_is_not_taken() -> None:
    with pytest.raises(TokenRefused, match="another recipient"):
        service().attributes_in(sent(signed(recipient="https://other.example/token")))


@pytest.mark.parametrize("form", [bomb, outside, bomb_in_utf_16, bomb_in_utf_7])
def test_nothing_that_an_assertion_declares_is_read(form: Callable[[Any], bytes]) -> None:
    with pytest.raises(Refused, match="not an assertion"):
        asserted(form(etree.fromstring(signed())))


@pytest.mark.parametrize("content", [b"", b"carol", b"<a/>", b"<!DOCTYPE a><a/>", b"====", b"<" * 70_000])
def test_what_is_no_assertion_is_said_to_be_none(content: bytes) -> None:
    with pytest.raises(Refused, match="not an assertion"):
        asserted(content)


def test_what_an_assertion_says_is_read_from_both_forms() -> None:
    data = signed()
    for content in (data, base64.b64encode(data), sent(data).encode() + b"\n"):
        read = asserted(content)
        assert read.issuer == ISSUER and read.recipients == (RECIPIENT,) and read.sent == sent(data)
        assert read.shows == {"aud": "lowland", "sub": "carol", "groups": ("printers", "guests")}


# -- at a lab -------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def desk(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    place = write_estate(tmp_path_factory.mktemp("desk") / "estate", {"estate.yaml": ESTATE})
    with lab_of(enthesis, place) as lab:
        yield lab


def test_journeys_that_start_with_an_assertion_are_proved(enthesis: Program, desk: Lab) -> None:
    ran = enthesis("prove", at=desk.folder)
    assert ran.code == 0 and "both journeys ended as expected" in ran.out, ran.out + ran.err


def test_callers_near_an_admitted_assertion_are_refused(enthesis: Program, desk: Lab) -> None:
    ran = enthesis("prove", "--near-misses", "--format", "json", at=desk.folder)
    assert ran.code == 0, ran.out + ran.err
    assert enthesis("lab", "rotate", "desk", at=desk.folder).code == 2, "its key stays"
    (about,) = ran.json["trials"]
    assert about["refused"] >= 8 and about["not_tried"] is None and about["trials"][0]["outcome"] == "allowed"
    assert all("target-side" in trial["refused_at"] for trial in about["trials"][1:])
    assert any("guests" in str(trial) or "groups" in str(trial) for trial in about["trials"])
    for option, said in (("--replay", "once more"), ("--expiry", "5m old")):
        ran = enthesis("prove", option, "--format", "json", at=desk.folder)
        assert ran.code == 0, ran.out
        whats = [trial for one in ran.json["trials"] for trial in one["trials"]]
        again = next(trial for trial in whats if said in trial["what"] and "assertion" in trial["what"])
        assert again["outcome"] == "refused" and again["refused_at"] == ["session"]


def test_an_assertion_at_hand_is_lent_from(enthesis: Program, desk: Lab, tmp_path: Path) -> None:
    claims = [f"--claim={text}" for text in ("sub=carol", "aud=lowland", "team=press-9")]
    run = ["lab", "run", "desk", *claims, "--claim=groups=printers", "--"]
    shown = enthesis(*run, "sh", "-c", "printf %s $ENTHESIS_ASSERTION", at=desk.folder).out
    file = tmp_path / "assertion.xml"
    file.write_bytes(base64.urlsafe_b64decode(shown + "=="))
    more = {"ENTHESIS_ASSERTION_FILE": str(file)}
    said = enthesis("whoami", at=desk.folder, **more)
    assert "carol, as desk says" in said.out and "press/identity/printer for 30m" in said.out
    lend = ["lend", "press/identity/printer", "--", "sh", "-c", "echo $ENTHESIS_IDENTITY; env"]
    ran = enthesis(*lend, at=desk.folder, **more)
    assert ran.code == 0 and ran.out.startswith("press/identity/printer"), ran.err
    assert shown not in ran.out + ran.err
    ran = enthesis(*lend, at=desk.folder, **more)
    assert ran.code == 1 and "refused at session" in ran.err, "an assertion is shown once"
    guest = [*run[:3], *claims, "--claim=groups=guests", "--", "enthesis", *lend]
    ran = enthesis(*guest, at=desk.folder)
    assert ran.code == 1 and "refused at target-side" in ran.err
    for content, why in ((b"<a/>", "not an assertion"), (file.read_bytes().replace(b"2.0:assertion", b"x"), "not an")):
        file.write_bytes(content)
        said = enthesis("whoami", at=desk.folder, **more)
        assert said.code == 1 and why in said.out
    more = {"ENTHESIS_ASSERTION_FILE": str(tmp_path / "none")}
    assert "cannot be read" in enthesis("whoami", at=desk.folder, **more).out


def test_an_assertion_is_exchanged_by_both_standards(desk: Lab) -> None:
    cloud = desk.services["lowland"]
    body = {
        "attributes": {"aud": "lowland", "sub": "carol", "groups": ["printers"], "team": "press-1"},
        "recipient": f"{cloud}/token",
    }

    def made() -> str:
        answer = client.post(f"{desk.services['desk']}/assertions", json=body, headers=desk.owner)
        assert answer.status_code == 200, answer.text
        return str(answer.json()["assertion"])

    where = {"resource": f"{cloud}/places/press/identity/printer"}
    with httpx.Client(verify=ssl.create_default_context(cafile=desk.authority)) as client:
        assert client.post(f"{desk.services['desk']}/assertions", json=body).status_code == 401
        bearer = {"grant_type": "urn:ietf:params:oauth:grant-type:saml2-bearer", "assertion": made()}
        assert client.post(f"{cloud}/token", data={**bearer, **where}).status_code == 200
        exchange = {
            "grant_type": "urn:ietf:params:oauth:grant-type:token-exchange",
            "subject_token_type": "urn:ietf:params:oauth:token-type:saml2",
        }
        assert client.post(f"{cloud}/token", data={**exchange, "subject_token": made(), **where}).status_code == 200
        as_jwt = {**exchange, "subject_token_type": "urn:ietf:params:oauth:token-type:jwt"}
        assert client.post(f"{cloud}/token", data={**as_jwt, "subject_token": made(), **where}).status_code == 400
        other = desk.services["upland"]
        answer = client.post(
            f"{other}/token", data={**exchange, "subject_token": made(), "resource": f"{other}/places/x/identity/y"}
        )
        assert answer.status_code == 400 and "another recipient" in answer.json()["error_description"]
        described = client.get(f"{desk.services['desk']}/metadata").text
        assert re.search(r"<ds:X509Certificate>[A-Za-z0-9+/=]+<", described)
        unfit: list[dict[str, Any]] = [{"aud": "lowland", "colour": "red"}, {"aud": "lowland", "team": 7}, {"aud": []}]
        for attributes in unfit:
            wrong = {**body, "attributes": attributes}
            answer = client.post(f"{desk.services['desk']}/assertions", json=wrong, headers=desk.owner)
            assert answer.status_code == 422


def test_an_assertion_in_a_file_is_shown_to_a_server_that_only_a_url_is_known_of(
    enthesis: Program, desk: Lab, tmp_path: Path
) -> None:
    cloud, file = desk.services["lowland"], tmp_path / "assertion"
    text = ESTATE.replace("lowland: {style: two-sided}", f"lowland: {{style: two-sided, url: '{cloud}'}}")
    text = text[: text.index("    attempt: write")] + "    expect: allowed\n"
    place = write_estate(tmp_path / "elsewhere", {"estate.yaml": text})

    def proved(recipient: str, groups: list[str]) -> Any:
        attributes = {"aud": "lowland", "sub": "carol", "groups": groups, "team": "press-2"}
        body = {"attributes": attributes, "recipient": recipient}
        with httpx.Client(verify=ssl.create_default_context(cafile=desk.authority)) as client:
            answer = client.post(f"{desk.services['desk']}/assertions", json=body, headers=desk.owner)
        file.write_text(answer.json()["assertion"])
        return enthesis("prove", "--token", f"desk={file}", at=place, SSL_CERT_FILE=desk.authority)

    ran = proved(f"{cloud}/token", ["printers", "guests"])
    assert ran.code == 0 and "ended as expected" in ran.out, ran.out + ran.err
    ran = proved("https://other.example/token", ["printers", "guests"])
    assert ran.code == 1 and "the assertion was not made for lowland, so it was not sent" in ran.out
    ran = proved(f"{cloud}/token", ["printers"])
    assert ran.code == 1 and "shows another groups" in ran.out
    file.write_text("nothing")
    ran = enthesis("prove", "--token", f"desk={file}", at=place, SSL_CERT_FILE=desk.authority)
    assert ran.code == 1 and "cannot be read" in ran.out


def test_an_assertion_is_held_against_trusts_with_the_reason(enthesis: Program, desk: Lab, tmp_path: Path) -> None:
    run = ["lab", "run", "desk", "--claim=sub=carol", "--claim=aud=lowland", "--claim=team=press-9"]
    made = {}
    for group in ("printers", "guests"):
        said = enthesis(
            *run, f"--claim=groups={group}", "--", "sh", "-c", "printf %s $ENTHESIS_ASSERTION", at=desk.folder
        )
        made[group] = tmp_path / f"{group}.xml"
        made[group].write_bytes(base64.urlsafe_b64decode(said.out + "=="))
    admit = ("admit", "press/identity/printer", "--token")
    ran = enthesis(*admit, str(made["printers"]), at=desk.folder)
    assert ran.code == 0 and "This assertion can take on" in ran.out and "with a key of desk" in ran.out
    ran = enthesis(*admit, str(made["guests"]), at=desk.folder)
    assert ran.code == 1 and "groups is guests, and is to be one of printers" in ran.out
    ran = enthesis("trace", "--token", str(made["guests"]), "--through", "press/identity/printer", at=desk.folder)
    assert ran.code == 1 and "an assertion of desk" in ran.out and "The assertion's signature" in ran.err
    ran = enthesis(*admit, str(made["printers"]), "--offline", at=desk.folder)
    assert ran.code == 0 and "if its signature is good" in ran.out and "--keys" in ran.out
    with httpx.Client(verify=ssl.create_default_context(cafile=desk.authority)) as client:
        (tmp_path / "metadata.xml").write_bytes(client.get(f"{desk.services['desk']}/metadata").content)
    ran = enthesis(*admit, str(made["printers"]), "--keys", str(tmp_path / "metadata.xml"), at=desk.folder)
    assert ran.code == 0 and "a key in" in ran.out
    text = made["printers"].read_bytes()
    made["printers"].write_bytes(text.replace(b"carol", b"dora"))
    ran = enthesis(*admit, str(made["printers"]), at=desk.folder)
    assert ran.code == 1 and "not believed  it is not signed as a whole" in ran.out
    made["printers"].write_bytes(text)
    (tmp_path / "other.pem").write_bytes(key("forger")[1].public_bytes(serialization.Encoding.PEM))
    ran = enthesis(*admit, str(made["printers"]), "--keys", str(tmp_path / "other.pem"), at=desk.folder)
    assert ran.code == 1 and "not signed as a whole" in ran.out
    (tmp_path / "none").write_text("<nothing/>")
    ran = enthesis(*admit, str(made["printers"]), "--keys", str(tmp_path / "none"), at=desk.folder)
    assert ran.code == 1 and "no certificate of its issuer" in ran.out
    assert enthesis("lab", "clock", "--forward", "10m", at=desk.folder).code == 0
    ran = enthesis(*admit, str(made["printers"]), at=desk.folder)
    assert ran.code == 1 and "it has ended" in ran.out


@pytest.mark.attack("assertions")
@pytest.mark.parametrize("change", [inside, beside, same_id, unsigned, more_attributes])
def test_what_anybody_changed_is_not_believed_when_it_is_asked_about(change: Callable[[Any], bytes]) -> None:
    forged = change(etree.fromstring(signed()))
    with pytest.raises(Refused, match="not signed as a whole"):
        check_signature(asserted(forged), [key("desk")[1]], datetime.fromtimestamp(NOW.now(), UTC))
    check_signature(asserted(signed()), [key("forger")[1], key("desk")[1]], datetime.fromtimestamp(NOW.now(), UTC))


def metadata(*keys: str, inside: str = "") -> bytes:
    found = "".join(f"<k:X509Certificate>{one}</k:X509Certificate>" for one in keys)
    return f'<m xmlns:k="http://www.w3.org/2000/09/xmldsig#">{inside}{found}</m>'.encode()


def test_the_keys_of_metadata_are_all_read_and_nothing_else_is() -> None:
    two = [key(name)[1] for name in ("desk", "forger")]
    der = [base64.b64encode(one.public_bytes(serialization.Encoding.DER)).decode() for one in two]
    assert certificates_in(metadata(*der)) == two
    assert certificates_in(metadata("\n  ".join([der[0][:40], der[0][40:]]))) == two[:1]  # folded, as it often is
    pem = b"".join(one.public_bytes(serialization.Encoding.PEM) for one in two)
    assert certificates_in(pem) == two
    declared = b'<!DOCTYPE m [<!ENTITY e "x">]>' + metadata(der[0])
    for wrong in (
        b"", b"<", b"no key", metadata(), metadata("AAAA"), metadata("not base64!"), declared, metadata(*der) + b"\0",
        metadata(*der, inside=" " * MAX_ASSERTION), b"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n",
    ):  # fmt: skip
        with pytest.raises(Refused, match="no certificate of its issuer") as refused:
            certificates_in(wrong)
        assert refused.value.code == "no-key"


def test_a_certificate_signs_only_while_it_is_good() -> None:
    read, certificate = asserted(signed()), key("desk")[1]
    check_signature(read, [certificate], datetime.fromtimestamp(NOW.now(), UTC))
    for late in (certificate.not_valid_before_utc, certificate.not_valid_after_utc):
        check_signature(read, [certificate], late)
    for wrong in (certificate.not_valid_before_utc - timedelta(1), certificate.not_valid_after_utc + timedelta(1)):
        with pytest.raises(Refused, match="not signed as a whole"):
            check_signature(read, [certificate], wrong)


def test_an_audience_names_the_server_or_is_one_that_a_trust_asks_for(enthesis: Program, tmp_path: Path) -> None:
    """RFC 7522, section 3: an assertion for somebody else opens nothing, though nothing asks about it."""
    plain = "assertion: desk, attributes: {groups: [printers]}"
    asking = "assertion: desk, attributes: {aud: 'urn:orchard:press', groups: [printers]}"
    text = ESTATE[: ESTATE.index("journeys:")]
    text = text.replace(
        'assertion: desk, attributes: {aud: lowland, groups: [printers], team: {glob: "press-*"}}', plain
    )
    text = text.replace("identities: {", "identities: {press/identity/asked: {kind: instance-role, purpose: p}, ")
    text = text.replace("grants:", f"  - {{of: press/identity/asked, admits: {{{asking}}}}}\ngrants:")
    assert plain in text
    lab = start_lab(enthesis, write_estate(tmp_path, {"estate.yaml": text}))
    try:
        assert enthesis("enact", "--yes", at=tmp_path).code == 0
        cloud = lab.services["lowland"]
        with httpx.Client(verify=ssl.create_default_context(cafile=lab.authority)) as client:
            for audience, identity, status in (
                ("lowland", "printer", 200), (cloud, "printer", 200), (f"{cloud}/token", "printer", 200),
                ("elsewhere", "printer", 400), ("urn:orchard:press", "printer", 400),
                ("urn:orchard:press", "asked", 200), ("elsewhere", "asked", 400), ("lowland", "asked", 400),
            ):  # fmt: skip
                attributes = {"aud": audience, "sub": "carol", "groups": ["printers"]}
                body = {"attributes": attributes, "recipient": f"{cloud}/token"}
                made = client.post(f"{lab.services['desk']}/assertions", json=body, headers=lab.owner).json()
                grant = "urn:ietf:params:oauth:grant-type:saml2-bearer"
                asked = {"grant_type": grant, "assertion": made["assertion"]}
                where = f"{cloud}/places/press/identity/{identity}"
                answer = client.post(f"{cloud}/token", data={**asked, "resource": where})
                assert answer.status_code == status, (audience, identity, answer.text)
            exchange = "urn:ietf:params:oauth:grant-type:token-exchange"
            saml = {"grant_type": exchange, "subject_token_type": "urn:ietf:params:oauth:token-type:saml2"}
            attributes = {"aud": "elsewhere", "sub": "carol", "groups": ["printers"]}
            body = {"attributes": attributes, "recipient": f"{cloud}/token"}
            made = client.post(f"{lab.services['desk']}/assertions", json=body, headers=lab.owner).json()
            where = f"{cloud}/places/press/identity/printer"
            answer = client.post(f"{cloud}/token", data={**saml, "subject_token": made["assertion"], "resource": where})
            assert answer.status_code == 200, "as a subject token (RFC 8693) its audience is left to the trust"
    finally:
        enthesis("lab", "stop", "--clean", at=tmp_path)

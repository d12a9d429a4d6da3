"""What is at hand here to start a journey with: in the environment, in files, on this host; and which is used."""

import os
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from cryptography import x509
from cryptography.hazmat.primitives import serialization

from enthesis.connectors.cluster.kubeconfig import INSIDE
from enthesis.connectors.hosts import MAX_ANSWER, MAX_SECONDS, TIMEOUT, HostService
from enthesis.connectors.http import Client
from enthesis.live.device_sign_in import directories_of, is_of
from enthesis.live.kept_sign_in import kept
from enthesis.live.shown_tokens import addresses_of, frozen
from enthesis.live.variables import (
    ASSERTION,
    ASSERTION_FILE,
    CERTIFICATE,
    LENDER,
    METADATA,
    SESSION,
    TOKEN,
    TOKEN_FILE,
)
from enthesis.model.addresses import pool_of
from enthesis.model.errors import EnthesisError, Unreachable
from enthesis.model.estate import Estate, Origin
from enthesis.model.secrets import Secret
from enthesis.model.urls import LOOPBACK
from enthesis.model.vocabulary import Form
from enthesis.ports import HeldCredential
from enthesis.tokens.checking import Refused, parsed

MAX_FILE = 65_536  # bytes
KEY = re.compile(r"-----BEGIN [A-Z ]*PRIVATE KEY-----.+?-----END [A-Z ]*PRIVATE KEY-----", re.DOTALL)
ORDER = ("session", "token", "assertion", "projected", "host", "certificate", "person")
BECAUSE = {
    "session": "it was lent for just this program",
    "token": "a run's own token stands for that run alone",
    "assertion": "an assertion stands for who it was made for alone, and for minutes",
    "projected": "a workload's own token stands for that workload alone",
    "host": "a machine's own identity is preferred to a person's",
    "certificate": "a workload's own certificate is preferred to a person's sign-in",
    "person": "nothing that is a workload's own is at hand",
}


@dataclass(frozen=True)
class AtHand:
    """One thing that is at hand. `fault` says why it cannot be used; `service` hands out what a host has."""

    form: str  # of an origin, or session
    where: str
    who: str
    origin: Origin | None = None
    credential: HeldCredential | None = None
    service: HostService | None = None
    ends: datetime | None = None
    fault: str = ""


def at_hand(estate: Estate | None, folder: Path | None, now: datetime) -> list[AtHand]:
    """Everything that is at hand, the best first; nothing is obtained by looking."""
    found: list[AtHand] = []
    for look in (_tokens, _assertions, _projected, _host, _certificate, _people):
        found.extend(look(estate, folder, now))
    return sorted(found, key=lambda origin: (bool(origin.fault), ORDER.index(origin.form)))


def _tokens(estate: Estate | None, folder: Path | None, now: datetime) -> Iterator[AtHand]:
    for form, name in (("session", SESSION), ("token", TOKEN)):
        text = os.environ.get(name)
        if text:
            yield _token(form, f"the environment variable {name}", text.encode(), estate, folder, now)
    path = os.environ.get(TOKEN_FILE)
    if path:
        yield _from_file("token", Path(path), estate, folder, now)


def _assertions(estate: Estate | None, folder: Path | None, now: datetime) -> Iterator[AtHand]:
    """An assertion as it says that it is; the service it is shown to checks it, and takes it once."""
    where, content = f"the environment variable {ASSERTION}", os.environ.get(ASSERTION, "").encode()
    if not content:
        path = os.environ.get(ASSERTION_FILE)
        if not path:
            return
        where = f"the file {path}"
        try:
            with Path(path).open("rb") as file:
                content = file.read(MAX_FILE)
        except OSError as fault:
            yield AtHand("assertion", where, "", fault=f"it cannot be read: {fault.strerror}")
            return
    # loads a library that reads XML
    from enthesis.tokens.saml import asserted  # noqa: PLC0415

    try:
        read = asserted(content)
    except Refused as why:
        yield AtHand("assertion", where, "", fault=why.why)
        return
    subject = read.shows.get("sub", "nobody that it names")
    issuer = _issuer(estate, folder, read.issuer)
    who = f"{subject}, as {issuer or read.issuer} says"
    if read.ends is None or read.ends <= now:
        over = f"it ended at {read.ends:%H:%M:%SZ}" if read.ends is not None else "it says no end"
        yield AtHand("assertion", where, who, ends=read.ends, fault=over)
        return
    credential = HeldCredential(Secret(read.sent), "assertion", read.ends - now)
    unknown = "" if issuer is not None else _unknown(estate)
    origin = Origin(Form.ASSERTION, issuer, read.shows) if issuer is not None else None
    yield AtHand("assertion", where, who, origin, credential, ends=read.ends, fault=unknown)


def _unknown(estate: Estate | None) -> str:
    return "no estate is here that knows its issuer" if estate is None else "the estate has no issuer of its url"


def _projected(estate: Estate | None, folder: Path | None, now: datetime) -> Iterator[AtHand]:
    if (INSIDE / "token").exists():
        yield _from_file("projected", INSIDE / "token", estate, folder, now)


def _from_file(form: str, path: Path, estate: Estate | None, folder: Path | None, now: datetime) -> AtHand:
    where = f"the file {path}"
    try:
        with path.open("rb") as file:
            return _token(form, where, file.read(MAX_FILE), estate, folder, now)
    except OSError as fault:
        return AtHand(form, where, "", fault=f"it cannot be read: {fault.strerror}")


def _token(form: str, where: str, token: bytes, estate: Estate | None, folder: Path | None, now: datetime) -> AtHand:
    """A token as it says that it is; the service it is shown to checks it."""
    token = token.strip()
    try:
        claims = parsed(token).unverified_claims
    except Refused as why:
        return AtHand(form, where, "", fault=f"it holds no token: {why.why}")
    ends, life = _end(claims, now)
    subject = str(claims.get("sub", "no identity that it names"))
    if ends is None or life <= timedelta(0):
        over = f"it ended at {ends:%H:%M:%SZ}" if ends is not None else "it says no end"
        return AtHand(form, where, subject, ends=ends, fault=over)
    credential = HeldCredential(Secret(token.decode()), "session" if form == "session" else "token", life)
    if form == "session":
        return AtHand(form, where, subject, Origin(Form.IDENTITY, subject), credential, ends=ends)
    issuer = _issuer(estate, folder, claims.get("iss"))
    if issuer is None:
        who = f"{subject}, as {claims.get('iss')} says"
        return AtHand(form, where, who, None, credential, ends=ends, fault=_unknown(estate))
    shown = {name: frozen(value) for name, value in claims.items()}
    return AtHand(form, where, f"{subject}, as {issuer} says", Origin(Form.TOKEN, issuer, shown), credential, ends=ends)


def _end(claims: Mapping[str, Any], now: datetime) -> tuple[datetime | None, timedelta]:
    said = claims.get("exp")
    if not isinstance(said, int | float) or isinstance(said, bool) or not 0 <= said < 253_402_300_800:
        return None, timedelta(0)
    ends = datetime.fromtimestamp(said, UTC)
    return ends, ends - now


def _issuer(estate: Estate | None, folder: Path | None, url: object) -> str | None:
    if estate is None or folder is None:
        return None
    return next((name for name in estate.issuers if url in addresses_of(estate, folder, name)), None)


def _host(estate: Estate | None, folder: Path | None, now: datetime) -> Iterator[AtHand]:
    url = os.environ.get(METADATA)
    if not url:
        return
    where = f"the metadata service that {METADATA} names"
    try:
        service = host_service(url)
        about = service.about()
    except EnthesisError as fault:
        yield AtHand("host", where, "", fault=fault.message)
        return
    if about.host == LENDER and len(about.identities) == 1:
        who = about.identities[0]
        yield AtHand("session", f"the endpoint that {METADATA} names", who, Origin(Form.IDENTITY, who), service=service)
        return
    known = about.host
    if estate is not None and known not in estate.resources and pool_of(known) in estate.resources:
        known = pool_of(known)  # members come and go, and an estate describes their pool
    running = ", ".join(about.identities) or "nobody"
    lacking = "" if about.identities else "it runs as no identity"
    yield AtHand(
        "host",
        where,
        f"{about.host}, which runs as {running}",
        Origin(Form.HOST, known),
        service=service,
        fault=lacking,
    )


def host_service(url: str) -> HostService:
    """The service at a url; it must be on this machine, and answer quickly."""
    parts = urlsplit(url)
    if parts.hostname not in LOOPBACK:
        raise Unreachable(
            "the metadata service is not on this machine, so it is not this host's", code="metadata-service-missing"
        )
    base = f"{parts.scheme}://{parts.netloc}"
    client = Client("the metadata service", base, max_answer=MAX_ANSWER, max_seconds=MAX_SECONDS, timeout=TIMEOUT)
    return HostService(client, parts.path.rstrip("/"))


def _certificate(estate: Estate | None, folder: Path | None, now: datetime) -> Iterator[AtHand]:
    path = os.environ.get(CERTIFICATE)
    if not path:
        return
    where = f"the file {path}"
    try:
        with Path(path).open("rb") as file:
            content = file.read(MAX_FILE)
        read = x509.load_pem_x509_certificate(content)
        names = read.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        subjects = tuple(names.get_values_for_type(x509.UniformResourceIdentifier))
    except OSError as fault:
        yield AtHand("certificate", where, "", fault=f"it cannot be read: {fault.strerror}")
        return
    except (ValueError, x509.ExtensionNotFound):
        yield AtHand("certificate", where, "", fault="it holds no workload certificate with a URI as its name")
        return
    ends = read.not_valid_after_utc
    keys = KEY.findall(content.decode(errors="replace"))  # where the file has its key too, it can be shown
    whole = Secret(f"{keys[0]}\n{read.public_bytes(serialization.Encoding.PEM).decode()}") if keys else None
    held = HeldCredential(whole, "certificate", ends - now) if whole is not None else None
    issuers = [issuer.name for issuer in estate.issuers.values() if issuer.kind == "x509"] if estate is not None else []
    origin = Origin(Form.CERTIFICATE, issuers[0], {"subject": subjects}) if len(issuers) == 1 else None
    unknown = "" if origin is not None else "which authority of the estate signed it is not known"
    over = f"it ended at {ends:%Y-%m-%d %H:%M:%SZ}" if ends <= now else unknown
    yield AtHand("certificate", where, ", ".join(subjects), origin, held, ends=ends, fault=over)


def _people(estate: Estate | None, folder: Path | None, now: datetime) -> Iterator[AtHand]:
    known = directories_of(estate, folder) if estate is not None and folder is not None else {}
    for sign_in in kept():
        where = f"the sign-in at {sign_in.organisation}"
        if estate is not None and not is_of(sign_in, known):
            fault = "it was kept for the directory of another estate"
            yield AtHand("person", where, sign_in.person, ends=sign_in.ends, fault=fault)
            continue
        if sign_in.ends <= now:
            yield AtHand(
                "person", where, sign_in.person, ends=sign_in.ends, fault=f"it ended at {sign_in.ends:%H:%M:%SZ}"
            )
            continue
        origin = Origin(Form.PERSON, sign_in.person, mfa=sign_in.mfa, mfa_said=True)
        yield AtHand(
            "person",
            where,
            sign_in.person,
            origin,
            HeldCredential(sign_in.secret, "person", sign_in.ends - now),
            ends=sign_in.ends,
        )

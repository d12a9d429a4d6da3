"""What the asking commands share: who asks, in which surroundings, and what the words of the command line mean."""

import base64
import json
import sys
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

if TYPE_CHECKING:
    from enthesis.model.estate import Context, Estate, Origin

MAX_TOKEN = 65_536  # bytes
FROM_HELP = "Who asks: an identity, person, host, workload, credential or issuer."

TimeOption = Annotated[str | None, typer.Option("--at-time", metavar="TIME", help="Judge at this time; default: now.")]
NetworkOption = Annotated[str | None, typer.Option("--network", metavar="ADDRESS", help="Where the caller is.")]
ReferenceOption = Annotated[str | None, typer.Option("--reference", metavar="TEXT", help="The agreed reference.")]
MfaOption = Annotated[bool | None, typer.Option("--mfa/--no-mfa", help="Whether the person signed in with more.")]
AgeOption = Annotated[str | None, typer.Option("--session-age", metavar="DURATION", help="How old the sessions are.")]
ClaimOption = Annotated[
    list[str] | None, typer.Option("--claim", metavar="NAME=VALUE", help="A claim that is shown; twice for a list.")
]


@dataclass(frozen=True)
class Surroundings:
    """The options that surround a request, as typed."""

    at_time: str | None = None
    network: str | None = None
    reference: str | None = None
    session_age: str | None = None


def now() -> datetime:
    """The clock, read once a command."""
    return datetime.now(UTC).replace(microsecond=0)


def context_from(around: Surroundings) -> "Context":
    """The context that the options give; Mistaken where a value is of the wrong type."""
    from enthesis.errors import Mistaken
    from enthesis.model.estate import Context
    from enthesis.reading.nodes import Node
    from enthesis.reading.shapes import MISSING, Duration, NetworkText, Notes, Time

    given: dict[str, tuple[str, str | None, Any]] = {
        "time": ("--at-time", around.at_time, Time()),
        "network": ("--network", around.network, NetworkText()),
        "session_age": ("--session-age", around.session_age, Duration()),
    }
    values: dict[str, Any] = {}
    for name, (option, text, shape) in given.items():
        if text is None:
            continue
        notes = Notes("")
        values[name] = shape.read(Node(text, 1, 1), notes)
        if values[name] is MISSING:
            raise Mistaken(f"{option}: {notes.mistakes[0].message}", remedy=f"expected {shape.expected}")
    if around.reference is not None:
        values["reference"] = around.reference
    return Context(**values, said=frozenset(values))


def claims_from(claims: list[str] | None) -> dict[str, Any]:
    """`NAME=VALUE` pairs; a name given twice is a list."""
    from enthesis.errors import Mistaken

    out: dict[str, Any] = {}
    for pair in claims or ():
        name, equals, value = pair.partition("=")
        if not name or not equals:
            raise Mistaken(f"--claim {pair}: this is no NAME=VALUE")
        if name in out:
            before = out[name] if isinstance(out[name], tuple) else (out[name],)
            out[name] = (*before, value)
        else:
            out[name] = value
    return out


def origin_from(estate: "Estate", who: str, shows: dict[str, Any], mfa: bool | None = None) -> "Origin":
    """The origin that a word names: an issuer or credential by name, anything else by its address."""
    from enthesis.errors import Mistaken
    from enthesis.model.addresses import parse
    from enthesis.model.estate import Origin
    from enthesis.model.mistakes import AddressMistake
    from enthesis.reading.shapes import nearest

    if who in estate.issuers:
        form = {"oidc": "token", "saml": "assertion"}.get(estate.issuers[who].kind, "certificate")
        if form == "certificate" and isinstance(shows.get("subject"), str):
            shows = {**shows, "subject": (shows["subject"],)}
        return Origin(form, who, shows)
    if shows:
        close = nearest(who, estate.issuers)
        hint = f"perhaps {' or '.join(close)}" if close else "name an issuer with --from"
        raise Mistaken(f"{who} is no issuer, so it shows no claims", remedy=hint)
    if who in estate.credentials:
        return Origin("credential", who)
    identity = estate.identities.get(who)
    if identity is not None:
        person = identity.kind == "person"
        return Origin("person" if person else "identity", who, mfa=mfa, mfa_said=mfa is not None)
    try:
        kind = parse(who, estate.catalogue).kind
    except AddressMistake as fault:
        known = [*estate.issuers, *estate.credentials, *estate.identities, *estate.resources]
        close = nearest(who, known)
        hint = f"perhaps {' or '.join(close)}" if close else ""
        raise Mistaken(f"nothing is called {who}: {fault}", remedy=hint) from None
    if kind == "identity":
        return Origin("person" if who.startswith("@") else "identity", who, mfa=mfa, mfa_said=mfa is not None)
    return Origin("workload" if kind == "workload" else "host", who)


def token_origin(estate: "Estate", source: str, who: str | None) -> "Origin":
    """The origin that a token is, its claims read without checking the signature."""
    from enthesis.errors import Mistaken
    from enthesis.model.estate import Origin

    claims = unverified_claims(source)
    if who is not None:
        if who not in estate.issuers:
            raise Mistaken(f"no issuer is called {who}")
        return Origin("token", who, claims)
    url = claims.get("iss")
    for issuer in estate.issuers.values():
        if issuer.url is not None and issuer.url == url:
            return Origin("token", issuer.name, claims)
    known = ", ".join(f"{one.name} ({one.url})" for one in estate.issuers.values() if one.url)
    raise Mistaken(
        f"no issuer of this estate has the url {url!r}, which the token names",
        remedy=f"known: {known or 'none with a url'}; or name the issuer with --from",
    )


def unverified_claims(source: str) -> dict[str, Any]:
    """The claims of a token in a file, or on standard input for `-`. Nothing of it is checked or repeated."""
    from enthesis.errors import Mistaken

    try:
        data = sys.stdin.buffer.read(MAX_TOKEN + 1) if source == "-" else Path(source).read_bytes()[: MAX_TOKEN + 1]
    except OSError as fault:
        raise Mistaken(f"{source} cannot be read: {fault.strerror}") from None
    parts = data.strip().split(b".")
    if len(data) > MAX_TOKEN or len(parts) != 3:
        raise Mistaken(f"{source} holds no signed token", remedy="expected three parts joined by dots (RFC 7515)")
    try:
        claims = json.loads(base64.urlsafe_b64decode(parts[1] + b"=" * (-len(parts[1]) % 4)))
    except (ValueError, RecursionError):
        raise Mistaken(f"the claims of the token in {source} cannot be read") from None
    if not isinstance(claims, dict):
        raise Mistaken(f"the token in {source} holds no claims")
    return {name: _frozen(value) for name, value in claims.items()}


def _frozen(value: Any) -> Any:
    if isinstance(value, list):
        return tuple(_frozen(one) for one in value)
    return {name: _frozen(one) for name, one in value.items()} if isinstance(value, dict) else value

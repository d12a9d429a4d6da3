"""What the asking commands share: who asks, in which surroundings, and what the words of the command line mean."""

import sys
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Annotated, Any

import typer

from enthesis.files.checking import claim_fault
from enthesis.files.field_types import MISSING, Duration, NetworkText, Notes, Time
from enthesis.files.yaml_tree import Node
from enthesis.model.addresses import parse
from enthesis.model.errors import InvalidAddress, InvalidInput
from enthesis.model.estate import Context, Estate, Origin
from enthesis.model.vocabulary import FORM_OF_ISSUER, Form, origin_form
from enthesis.text.nearest import perhaps
from enthesis.text.times import duration_from

FROM_HELP = "The caller: an identity, person, host, workload, credential or issuer."

TimeOption = Annotated[str | None, typer.Option("--at-time", metavar="TIME", help="Judge at this time (default: now).")]
NetworkOption = Annotated[
    str | None, typer.Option("--network", metavar="ADDRESS", help="The network address of the caller.")
]
ReferenceOption = Annotated[
    str | None, typer.Option("--reference", metavar="TEXT", help="The reference that both parties agreed on.")
]
MfaOption = Annotated[bool | None, typer.Option("--mfa/--no-mfa", help="Whether the person used a second factor.")]
AgeOption = Annotated[str | None, typer.Option("--session-age", metavar="DURATION", help="The age of the sessions.")]
ClaimOption = Annotated[
    list[str] | None,
    typer.Option(
        "--claim", metavar="NAME=VALUE", help="A claim of the token, e.g. event=push; give it twice for a list."
    ),
]


@dataclass(frozen=True)
class SurroundingOptions:
    """The options that surround a request, as typed."""

    at_time: str | None = None
    network: str | None = None
    reference: str | None = None
    session_age: str | None = None


def agreed(question: str, *, yes: bool) -> None:
    """Continues where `--yes` was said, or the person at the terminal agrees; InvalidInput without a terminal."""
    if yes:
        return
    if not sys.stdin.isatty():
        raise InvalidInput(
            "no terminal is attached for the question", code="nobody-to-ask", remedy="review it, then add --yes"
        )
    typer.confirm(question, abort=True, err=True)


def length_of(option: str, text: str) -> timedelta:
    """The length of time that an option says; InvalidInput where it says none."""
    length = duration_from(text)
    if length is None:
        raise InvalidInput(
            f"{option} {text}: not a duration", code="duration-invalid", remedy="write it like 30s, 10m, 1h or 30d"
        )
    return length


AHEAD = [timedelta(0)]  # how far the clock that counts is ahead of this machine's, in this command


def by_clock_of(estate: Estate, folder: Path) -> None:
    """From now on `now` is by the clock of the live side of an estate, which a command is about: a lab's may have been
    moved. This machine's where none says its time."""
    from enthesis.live.clocks import clock_for  # noqa: PLC0415
    from enthesis.live.stand_ins import running  # noqa: PLC0415  only commands about live systems ask

    if running(folder) is not None:
        clock = clock_for(estate, folder)
        AHEAD[0] = clock.now() - datetime.now(UTC).replace(microsecond=0)


def now() -> datetime:
    """The time, by the clock that counts for this command."""
    return (datetime.now(UTC) + AHEAD[0]).replace(microsecond=0)


def context_from(around: SurroundingOptions) -> Context:
    """The context that the options give; InvalidInput where a value is of the wrong type."""
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
            raise InvalidInput(
                f"{option}: {notes.errors[0].message}", code="option-invalid", remedy=f"expected {shape.expected}"
            )
    if around.reference is not None:
        values["reference"] = around.reference
    return Context(**values, said=frozenset(values))


def claims_from(claims: list[str] | None) -> dict[str, Any]:
    """`NAME=VALUE` pairs; a name given twice is a list."""
    out: dict[str, Any] = {}
    for pair in claims or ():
        name, equals, value = pair.partition("=")
        if not name or not equals:
            raise InvalidInput(f"--claim {pair}: this is not a NAME=VALUE", code="option-invalid")
        if name in out:
            before = out[name] if isinstance(out[name], tuple) else (out[name],)
            out[name] = (*before, value)
        else:
            out[name] = value
    return out


def issued(estate: Estate, issuer: str, shows: dict[str, Any]) -> None:
    """InvalidInput where claims are given that an issuer never issues, or not so, as a journey that shows them is."""
    found = estate.issuers[issuer]
    for name, value in shows.items() if found.kind in ("oidc", "saml") else ():
        fault = claim_fault(found, name, value)
        if fault is not None:
            raise InvalidInput(
                f"--claim {name}: {fault[1]}", code="claim-invalid", remedy=perhaps(name, found.claims or (), fault[2])
            )


def origin_from(estate: Estate, who: str, shows: dict[str, Any], mfa: bool | None = None) -> Origin:
    """The origin that a word names: an issuer or credential by name, anything else by its address."""
    if who in estate.issuers:
        issued(estate, who, shows)
        form = FORM_OF_ISSUER[estate.issuers[who].kind]
        if form == Form.CERTIFICATE and isinstance(shows.get("subject"), str):
            shows = {**shows, "subject": (shows["subject"],)}
        return Origin(form, who, shows)
    if shows:
        hint = perhaps(who, estate.issuers, "name an issuer with --from")
        raise InvalidInput(f"{who} is not an issuer, so it shows no claims", code="claims-without-issuer", remedy=hint)
    if who in estate.credentials:
        return Origin(Form.CREDENTIAL, who)
    identity = estate.identities.get(who)
    if identity is not None:
        return Origin(identity.form, who, mfa=mfa, mfa_said=mfa is not None)
    try:
        kind = parse(who, estate.catalogue).kind
    except InvalidAddress as fault:
        known = [*estate.issuers, *estate.credentials, *estate.identities, *estate.resources]
        hint = perhaps(who, known)
        raise InvalidInput(f"unknown address {who}: {fault}", code="address-unknown", remedy=hint) from None
    form = origin_form(kind, person=who.startswith("@"))
    if kind == "identity":
        return Origin(form, who, mfa=mfa, mfa_said=mfa is not None)
    return Origin(form, who)

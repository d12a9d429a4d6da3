"""What is shown to whom: a session goes to the service that issued it alone, a token to its audience alone."""

from collections.abc import Iterator
from typing import Any

from enthesis.model.addresses import article
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import KindVerbs
from enthesis.ports import (
    Connected,
    HeldCredential,
    IssuesCertificates,
    Refusal,
    StatesWhoCalls,
    Surroundings,
    TakesCertificates,
    TakesOn,
)

SESSIONS = ("session", "resource")


def take_on(
    provider: TakesOn,
    shown: HeldCredential,
    identity: str,
    narrowed: KindVerbs | None,
    asked: Surroundings,
    connected: Connected,
) -> HeldCredential | Refusal:
    """Takes an identity on with what may be shown for it; InvalidInput where nothing may."""
    fitting = shown_to(provider, shown, connected)
    return fitting if isinstance(fitting, Refusal) else provider.take_on(fitting, identity, narrowed, asked)


def shown_to(provider: Any, shown: HeldCredential, connected: Connected) -> HeldCredential | Refusal:
    """What of a credential goes to a provider.

    A session of another one stays with that one, which makes a short statement about it for this provider (RFC 8693,
    with `audience`). A token goes where it was made for, but at a lab, whose wrong audiences are tried too.
    """
    if isinstance(provider, TakesCertificates):
        return certificate_for(provider.issuer, shown, connected)
    name, url = getattr(provider, "name", ""), getattr(provider, "url", "")
    if not url or name not in connected.providers:
        return shown
    if shown.form in SESSIONS:
        return _session(name, url, shown, connected)
    if shown.form == "assertion" and connected.clock is None:
        _made_for(name, provider, shown)
    if shown.form in ("token", "person") and connected.clock is None and not _is_for(shown, name, url):
        raise InvalidInput(
            f"the {'sign-in' if shown.form == 'person' else 'token'} was not issued for {name}, so it was not sent",
            code="token-for-another",
            remedy=f"get one whose audience is {url}",
        )
    return shown


def _made_for(name: str, provider: Any, shown: HeldCredential) -> None:
    """InvalidInput where an assertion was made for another than a provider: that one could show it on."""
    from enthesis.tokens.saml import asserted  # noqa: PLC0415  loads a library that reads XML

    if getattr(provider, "recipient", "") not in asserted(shown.secret.reveal().encode()).recipients:
        raise InvalidInput(
            f"the assertion was not made for {name}, so it was not sent",
            code="token-for-another",
            remedy="get one whose recipient is the token endpoint there",
        )


def _session(name: str, url: str, shown: HeldCredential, connected: Connected) -> HeldCredential | Refusal:
    home = shown.home or _issuer(shown)
    if home == url:
        return shown
    homes = (*connected.providers.values(), *connected.directories.values())
    other = next((system for system in homes if getattr(system, "url", None) == home), None)
    if isinstance(other, StatesWhoCalls):
        return other.statement(shown, url)
    raise InvalidInput(
        f"the session is not one of {name}, so it is not sent there",
        code="session-of-another",
        remedy="take on an identity there, with a credential that was made for it",
    )


def certificate_for(issuer: str, shown: HeldCredential, connected: Connected) -> HeldCredential | Refusal:
    """What a session or sign-in gets from an authority: its provider or directory states for that who calls, and the
    session stays there."""
    if shown.form == "certificate":
        return shown
    authority = connected.issuers.get(issuer)
    if not isinstance(authority, IssuesCertificates):
        raise InvalidInput(f"no connection is configured for the authority {issuer}", code="system-not-connected")
    stated = _session("", authority.url, shown, connected) if shown.form in (*SESSIONS, "person") else None
    if stated is None:
        raise InvalidInput(
            f"{article(shown.form)} gets no certificate of {issuer}",
            code="proof-impossible",
            remedy="take on an identity first: name it in `through`",
        )
    return stated if isinstance(stated, Refusal) else authority.for_token(stated)


def _claims(shown: HeldCredential) -> dict[str, Any]:
    from enthesis.tokens.checking import Refused, parsed  # noqa: PLC0415  loads the libraries of tokens

    try:
        return dict(parsed(shown.secret.reveal().encode()).unverified_claims)
    except Refused:
        return {}


def _issuer(shown: HeldCredential) -> str:
    return str(_claims(shown).get("iss", ""))


def _is_for(shown: HeldCredential, name: str, url: str) -> bool:
    """Whether a token's audience is a provider, by its url or by its name."""
    return any(audience in (name, url) or audience.startswith(url + "/") for audience in _audiences(shown))


def _audiences(shown: HeldCredential) -> Iterator[str]:
    said = _claims(shown).get("aud")
    yield from (name for name in (said if isinstance(said, list) else [said]) if isinstance(name, str))

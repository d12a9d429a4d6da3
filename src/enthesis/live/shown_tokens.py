"""Tokens that are shown to a command: read from a file, and checked as far as the issuer's keys can be had."""

import sys
import time
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any

from enthesis.conditions.truth import passes
from enthesis.connectors.http import Client
from enthesis.connectors.keys import IssuerKeys, keys_in_file
from enthesis.files.saving import read_file
from enthesis.live.stand_ins import running
from enthesis.model.errors import InvalidInput, LiveFailure
from enthesis.model.estate import Estate, Origin, Trust
from enthesis.model.vocabulary import Form
from enthesis.surveys.survey import Survey
from enthesis.text.times import time_text
from enthesis.tokens.checking import (
    PLAIN_TYPES,
    Expected,
    Keys,
    Parsed,
    Refused,
    check_claims,
    check_header,
    check_signature,
    keys_of,
    parsed,
)
from enthesis.trusts.risks import says_who

if TYPE_CHECKING:
    from enthesis.tokens.saml import Asserted

MAX_FILE = 65_536  # bytes
ACCESS_TOKEN = "at+jwt"  # noqa: S105  the type of an access token (RFC 9068, section 2.1), which is no identity token


@dataclass(frozen=True)
class ShownToken:
    """A token or an assertion as it was read, and what it shows as that is judged; nothing of it is believed yet."""

    parsed: Parsed | None
    unverified_claims: dict[str, Any]
    assertion: "Asserted | None" = None

    @property
    def form(self) -> Form:
        """What it is: a token, or an assertion."""
        return Form.TOKEN if self.assertion is None else Form.ASSERTION

    @property
    def issuer(self) -> object:
        """Who signed it, as it says."""
        return self.unverified_claims.get("iss") if self.assertion is None else self.assertion.issuer


@dataclass(frozen=True)
class Belief:
    """Whether a token is to be believed: why not, or whose key signed it; neither where no key could be asked."""

    refused: Refused | None
    signed_with: str = ""
    unchecked: str = ""


@dataclass(frozen=True)
class KeySource:
    """Where the keys come from: a file, a survey that has them, the issuer itself, or nowhere (offline)."""

    file: Path | None = None
    offline: bool = False
    survey: Survey | None = None


def read_token(source: str) -> ShownToken:
    """The token in a file, or on standard input for `-`. InvalidInput where there is none, Refused for a wrong form."""
    data = sys.stdin.buffer.read(MAX_FILE + 1) if source == "-" else read_file(Path(source), MAX_FILE)
    token = data.strip(b" \t\r\n")
    if token[:1] in (b"<", b"P") and token.count(b".") != 2:  # XML, or that in base64
        # loads libraries that read XML
        from enthesis.tokens.saml import asserted, looks_like_one  # noqa: PLC0415

        if looks_like_one(token):
            read = asserted(token)
            return ShownToken(None, dict(read.shows), read)
    if token.count(b".") != 2 and len(token) <= MAX_FILE:
        raise InvalidInput(
            f"{source} holds no signed token",
            code="token-missing",
            remedy="expected three parts joined by dots (RFC 7515)",
        )
    taken = parsed(token)
    claims = {name: frozen(value) for name, value in taken.unverified_claims.items()}
    if str(taken.header.get("typ")).lower() == ACCESS_TOKEN:
        claims.setdefault("typ", ACCESS_TOKEN)  # so that a trust can ask for it
    return ShownToken(taken, claims)


def frozen(value: Any) -> Any:
    """A claim as it is judged: lists as tuples."""
    if isinstance(value, list):
        return tuple(frozen(one) for one in value)
    return {name: frozen(one) for name, one in value.items()} if isinstance(value, dict) else value


def readable_token(source: str) -> ShownToken:
    """The same; a token of a wrong form is InvalidInput too."""
    try:
        return read_token(source)
    except Refused as why:
        raise InvalidInput(f"the token in {source} cannot be read: {why.why}", code="token-unreadable") from None


def token_origin(estate: Estate, folder: Path, source: str, who: str | None) -> Origin:
    """The origin that a token is, its claims taken for what they say."""
    shown = readable_token(source)
    if who is not None:
        if who not in estate.issuers:
            raise InvalidInput(f"unknown issuer {who}", code="issuer-unknown")
        return Origin(shown.form, who, shown.unverified_claims)
    url = shown.issuer
    for issuer in estate.issuers.values():
        if url is not None and url in addresses_of(estate, folder, issuer.name):
            return Origin(shown.form, issuer.name, shown.unverified_claims)
    known = ", ".join(f"{issuer.name} ({issuer.url})" for issuer in estate.issuers.values() if issuer.url)
    raise InvalidInput(
        f"no issuer of this estate has the url {url!r}, which the {shown.form} names",
        code="issuer-unknown",
        remedy=f"known: {known or 'none with a url'}; or name the issuer with --from",
    )


def addresses_of(estate: Estate, folder: Path, issuer: str) -> dict[str, Path | None]:
    """The urls of an issuer with the authority to trust there: its own, and while a lab runs the lab's."""
    out: dict[str, Path | None] = {}
    own = estate.issuers[issuer].url
    if own is not None:
        out[own] = None
    lab = running(folder)
    for service in lab.services if lab else ():
        if lab is not None and service["name"] in (issuer, estate.issuers[issuer].cluster):
            out[service["url"]] = lab.authority
    return out


def takes_access_tokens(trust: Trust) -> bool:
    """Whether a trust says by a test of `typ` that it takes access tokens, which are no identity tokens."""
    asked = dict(trust.admits.conditions).get("typ")
    return asked is not None and says_who(asked) and passes(asked, ACCESS_TOKEN) is True


def belief(
    estate: Estate,
    folder: Path,
    issuer: str,
    shown: ShownToken,
    instant: datetime,
    source: KeySource,
    *,
    access: bool = False,
) -> Belief:
    """Checks a token by everything but the conditions of a trust; `access`: whether an access token is taken too."""
    addresses = addresses_of(estate, folder, issuer)
    named = shown.issuer
    url = named if isinstance(named, str) and named in addresses else next(iter(addresses), None)
    if url is not None and addresses[url] is not None:
        lab = running(folder)
        instant += lab.ahead() if lab is not None else timedelta(0)
    if shown.parsed is None or shown.assertion is not None:
        return _belief_in_assertion(issuer, url, addresses, shown.assertion, instant, source)
    try:
        types = (*PLAIN_TYPES, ACCESS_TOKEN) if access else PLAIN_TYPES
        expected = Expected(url if url is not None else str(named), instant, types=types)
        algorithm = check_header(shown.parsed, expected)
        check_claims(shown.parsed, expected)
        keys = _keys(issuer, url, addresses, shown.parsed, source)
        if isinstance(keys, str):
            return Belief(None, unchecked=keys)
        check_signature(shown.parsed, algorithm, keys)
    except Refused as why:
        return Belief(why)
    where = f"a key in {source.file}" if source.file is not None else f"a key of {issuer} ({url})"
    if source.file is None and source.survey is not None and url in source.survey.keys:
        where += f", as published at {time_text(source.survey.taken)}"
    return Belief(None, signed_with=where)


def _belief_in_assertion(
    issuer: str, url: str | None, addresses: dict[str, Path | None], read: "Asserted | None", instant: datetime,
    source: KeySource,
) -> Belief:  # fmt: skip
    """Checks an assertion by its issuer, its end and its signature; whom it was made for, and whether it was shown
    before, only the service knows that it is shown to."""
    # loads libraries that read XML
    from enthesis.tokens.saml import certificates_in, check_signature  # noqa: PLC0415

    assert read is not None  # noqa: S101  as it was read
    if url is not None and read.issuer not in addresses:
        return Belief(Refused("other-issuer", f"it names another issuer than {issuer}"))
    if read.ends is None or read.ends <= instant:
        return Belief(Refused("expired", "it has ended" if read.ends is not None else "it says no end"))
    try:
        if source.file is not None:
            where, content = f"a key in {source.file}", read_file(source.file, MAX_FILE)
        elif source.offline or url is None or addresses[url] is None:
            return Belief(None, unchecked="name the issuer's metadata or certificate with --keys")
        else:
            client = Client(issuer, url, authority=addresses[url])
            where = f"a key of {issuer} ({url})"
            content = client.expect(client.ask("GET", "/metadata"), 200).content
        check_signature(read, certificates_in(content), instant)
    except Refused as why:
        return Belief(why)
    except LiveFailure as fault:
        return Belief(None, unchecked=fault.message)
    return Belief(None, signed_with=where)


def _keys(
    issuer: str, url: str | None, addresses: dict[str, Path | None], token: Parsed, source: KeySource
) -> Keys | str:
    """The keys of the issuer, or why there are none."""
    if source.file is not None:
        return keys_in_file(source.file)
    if source.survey is not None and url is not None and url in source.survey.keys:
        return keys_of(source.survey.keys[url])
    if source.offline:
        return "--offline was said"
    if url is None:
        return f"the issuer {issuer} has no url"
    try:
        return IssuerKeys(issuer, url, time.monotonic, authority=addresses[url]).keys_for(token.kid)
    except LiveFailure as fault:
        return fault.message

"""Any OAuth 2.0 or OIDC server, from its discovery alone: token exchange, client credentials, client assertions.

RFC 8414 (metadata), RFC 8693 (token exchange), RFC 6749 section 4.4 (client credentials), RFC 7523 (client assertions).
What a server does not offer is said by the name of the standard, and not tried.
"""

import json
import time
import uuid
from base64 import b64encode
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Any
from urllib.parse import quote_plus, urlsplit

from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import ECKey, OKPKey, RSAKey

from enthesis.connectors.http import Client, HttpAnswer, problem_said, understood
from enthesis.model.addresses import account_of
from enthesis.model.errors import InvalidInput, NotIssued, UnexpectedAnswer
from enthesis.model.estate import Claims, Exchange, KindVerbs
from enthesis.model.secrets import Secret
from enthesis.model.urls import is_safe_url
from enthesis.model.vocabulary import VerdictStep
from enthesis.ports import HeldCredential, Refusal, Surroundings
from enthesis.tokens.checking import Refused, parsed

EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"
ASSERTION = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
TYPE = "urn:ietf:params:oauth:token-type:"
TYPES = {
    "token": f"{TYPE}jwt", "session": f"{TYPE}access_token", "person": f"{TYPE}access_token",
    "assertion": f"{TYPE}saml2",
}  # fmt: skip
USUAL = Exchange()
METHODS = {"basic": "client_secret_basic", "body": "client_secret_post", "assertion": "private_key_jwt", "none": "none"}
MAX_ANSWER = 1024 * 1024  # bytes
REFUSALS = (
    "invalid_grant", "access_denied", "unauthorized_client", "invalid_target", "invalid_request", "invalid_scope",
)  # fmt: skip
ASSERTION_LIFE = 60  # seconds
SIGNING = {"RSA": "RS256", "EC": "ES256", "OKP": "EdDSA"}


class Server:
    """One server. `client` speaks to its url; its token endpoint may be on another host, over TLS too."""

    def __init__(self, name: str, client: Client) -> None:
        self.name = name
        self.client = client
        self._metadata: Mapping[str, Any] | None = None

    @understood
    def metadata(self) -> Mapping[str, Any]:
        """What the server says of itself; an UnexpectedAnswer where that is not of this server."""
        if self._metadata is None:
            self._metadata = self.client.metadata(self.name)
        return self._metadata

    def offers(self, grant: str, standard: str) -> str:
        """The token endpoint, where a grant is offered; InvalidInput with what is offered instead."""
        said = self.metadata()
        offered = said.get("grant_types_supported", ["authorization_code", "implicit"])  # RFC 8414, section 2
        endpoint = said.get("token_endpoint")
        if not isinstance(endpoint, str) or not is_safe_url(endpoint):
            raise InvalidInput(
                f"{self.name} has no token endpoint, so nothing can be obtained from it", code="endpoint-missing"
            )
        if grant not in offered:
            others = ", ".join(map(str, offered)) or "nothing"
            raise InvalidInput(
                f"{self.name} does not offer {standard}", code="endpoint-missing", remedy=f"it offers {others}"
            )
        return endpoint

    def asked(self, endpoint: str, form: Mapping[str, str], headers: Mapping[str, str] | None = None) -> HttpAnswer:
        """A request to the token endpoint."""
        if endpoint.startswith(self.client.url + "/"):
            return self.client.ask("POST", endpoint, form=form, headers=headers)
        parts = urlsplit(endpoint)
        base = f"{parts.scheme}://{parts.netloc}"
        with Client(self.name, base, max_answer=MAX_ANSWER) as elsewhere:
            return elsewhere.ask("POST", endpoint.removeprefix(base), form=form, headers=headers)

    def obtained(self, answer: HttpAnswer, form: str) -> HeldCredential | Refusal:
        """The token in an answer (RFC 6749, section 5.1), or its refusal (section 5.2)."""
        body = answer.json(self.name)
        if answer.status == 200:
            token, life = body.get("access_token"), body.get("expires_in")
            if not isinstance(token, str):
                raise UnexpectedAnswer(f"{self.name} answered without a token", code="answer-without-token")
            if not isinstance(life, int):
                raise UnexpectedAnswer(
                    f"{self.name} does not say how long its token lives, so it may be for ever",
                    code="answer-without-token",
                )
            return HeldCredential(Secret(token), form, timedelta(seconds=life), self.client.url)
        if answer.status in (400, 401, 403) and body.get("error") in REFUSALS:
            said = problem_said(answer)
            return Refusal.told(body.get("refused_at"), said) or Refusal((VerdictStep.TARGET_SIDE,), said)
        raise UnexpectedAnswer(
            f"{self.name} answered {answer.status} at its token endpoint: {problem_said(answer)}",
            code="answer-unexpected",
        )


@dataclass(frozen=True)
class Registered:
    """A client that is registered at a server, from its file; how it shows itself there."""

    name: str
    server: Server
    entry: Mapping[str, Any]
    shown: str | None = None

    def __repr__(self) -> str:
        return f"<client of {self.name}>"

    def shows(self) -> tuple[dict[str, str], dict[str, str]]:
        """What is added to the form and to the headers of a request. InvalidInput where the server takes nothing that
        the client has."""
        client = self.entry.get("client_id")
        if not isinstance(client, str):
            raise InvalidInput(f"the client for {self.name} has no client_id", code="client-file-invalid")
        way = self.shown or self._way()
        if way == "none":
            return {"client_id": client}, {}
        if way == "assertion":
            assertion = Secret(self._assertion(client)).reveal()
            return {"client_assertion_type": ASSERTION, "client_assertion": assertion}, {}
        value = self.entry.get("client_secret")
        if not isinstance(value, str):
            raise InvalidInput(
                f"the client for {self.name} has neither a private_key nor a client_secret", code="client-file-invalid"
            )
        secret = Secret(value).reveal()
        if way == "body":
            return {"client_id": client, "client_secret": secret}, {}
        both = f"{quote_plus(client)}:{quote_plus(secret)}"  # RFC 6749, section 2.3.1
        return {}, {"Authorization": f"Basic {Secret(b64encode(both.encode()).decode()).reveal()}"}

    def _way(self) -> str:
        """How it shows itself where the estate does not say: as the server offers, a key before a secret."""
        methods = self.server.metadata().get("token_endpoint_auth_methods_supported", ["client_secret_basic"])
        if "private_key" in self.entry:
            ways, lacks = ["assertion"], "takes no client assertions (RFC 7523)"
        elif "client_secret" in self.entry:
            ways, lacks = ["body", "basic"], "takes no client secret"
        else:
            raise InvalidInput(
                f"the client for {self.name} has neither a private_key nor a client_secret", code="client-file-invalid"
            )
        for way in ways:
            if METHODS[way] in methods:
                return way
        raise InvalidInput(
            f"{self.name} {lacks}",
            code="client-method-not-offered",
            remedy=f"it takes {', '.join(map(str, methods))}",
        )

    def _assertion(self, client: str) -> str:
        """RFC 7523, section 3: signed by the client's own key, for this server, once and for a minute."""
        kinds: dict[str, type[RSAKey] | type[ECKey] | type[OKPKey]] = {"RSA": RSAKey, "EC": ECKey, "OKP": OKPKey}
        try:
            data = self.entry["private_key"]
            key = kinds[data["kty"]].import_key(data)
            now = int(time.time())
            claims = {
                "iss": client, "sub": client, "aud": self.server.client.url, "jti": str(uuid.uuid4()),
                "iat": now, "exp": now + ASSERTION_LIFE,
            }  # fmt: skip
            header = {"alg": SIGNING[data["kty"]], **({"kid": data["kid"]} if "kid" in data else {})}
            return jwt.encode(header, claims, key, algorithms=list(SIGNING.values()))
        except (JoseError, ValueError, TypeError, KeyError):
            raise InvalidInput(
                f"the private_key of the client for {self.name} cannot be used", code="client-key-unusable"
            ) from None


class OAuthProvider:
    """A provider of which only its token endpoint is known: identities are taken on, and nothing else is done.

    `exchange` is how it wants to be asked, `client` who asks, where it wants to know that.
    """

    def __init__(
        self, name: str, server: Server, exchange: Exchange = USUAL, client: Mapping[str, Any] | None = None
    ) -> None:
        self.name = name
        self.server = server
        self.exchange = exchange
        self.client = Registered(name, server, client, exchange.client) if client is not None else None

    @property
    def url(self) -> str:
        """Where it is, as the estate says."""
        return self.server.client.url

    @property
    def recipient(self) -> str:
        """Its token endpoint, which an assertion must be made for (RFC 7522, section 3)."""
        return self.server.offers(EXCHANGE, "token exchange (RFC 8693)")

    @understood
    def take_on(
        self, shown: HeldCredential, identity: str, narrowed: KindVerbs | None, asked: Surroundings
    ) -> HeldCredential | Refusal:
        """RFC 8693, section 2.1: the identity is named as the resource that the token is for, or as the estate says."""
        exchange = self.exchange
        endpoint = self.server.offers(EXCHANGE, "token exchange (RFC 8693)")
        if narrowed is not None:
            raise InvalidInput(f"how {self.name} narrows a session is not known", code="narrowing-not-known")
        if self.client is None and exchange.client not in (None, "none"):
            raise InvalidInput(
                f"{self.name} wants to know which client asks",
                code="client-needed",
                remedy=f"name the file of one: --client {self.name}=FILE",
            )
        form, headers = self.client.shows() if self.client is not None else ({}, {})
        shown_as = f"{TYPE}{exchange.shown_as.replace('-', '_')}" if exchange.shown_as else TYPES[shown.form]
        wanted = f"{TYPE}{(exchange.wanted or 'access-token').replace('-', '_')}"
        form |= {
            "grant_type": EXCHANGE,
            "subject_token": shown.secret.reveal(),
            "subject_token_type": shown_as,
            **({"requested_token_type": wanted} if exchange.wanted != "none" else {}),
            exchange.names_in: self._called(identity),
            **exchange.more,
        }
        return self.server.obtained(self.server.asked(endpoint, form, headers), "session")

    def _called(self, identity: str) -> str:
        """What an identity is called there."""
        found = self.exchange.names.get(identity)
        if found is not None:
            return found
        named = self.exchange.named or "{url}/places/{address}"
        parts = {
            "address": identity, "account": account_of(identity), "name": identity.rsplit("/", 1)[-1], "url": self.url,
        }  # fmt: skip
        for word, value in parts.items():
            named = named.replace(f"{{{word}}}", value)
        return named


class GivenToken:
    """An issuer whose token a person has at hand, in a pipeline say; it shows what it shows."""

    def __init__(self, name: str, token: Secret) -> None:
        self.name = name
        self.token = token

    @understood
    def obtain(self, claims: Claims) -> HeldCredential:
        """That token, if it shows these claims; NotIssued where it shows others."""
        try:
            shown = parsed(self.token.reveal().encode()).unverified_claims
        except Refused as why:
            raise InvalidInput(
                f"the token for {self.name} cannot be read: {why.why}", code="token-unreadable"
            ) from None
        other = [name for name, value in claims.items() if not _shows(shown.get(name), _plain(value), name)]
        if other:
            raise NotIssued(
                f"the token at hand for {self.name} shows another {' and another '.join(sorted(other))}",
                code="not-issued",
            )
        ends = shown.get("exp")
        left = float(ends) - time.time() if isinstance(ends, int | float) else 0.0
        return HeldCredential(self.token, "token", timedelta(seconds=max(0, int(left))))


class GivenAssertion:
    """An identity provider whose assertion a person has at hand; it shows what it shows."""

    def __init__(self, name: str, assertion: Secret) -> None:
        self.name = name
        self.assertion = assertion

    def obtain(self, claims: Claims) -> HeldCredential:
        """That assertion, if it shows these attributes; NotIssued where it shows others."""
        from enthesis.tokens.saml import asserted  # noqa: PLC0415  loads a library that reads XML

        try:
            read = asserted(self.assertion.reveal().encode())
        except Refused as why:
            raise InvalidInput(
                f"the assertion for {self.name} cannot be read: {why.why}", code="token-unreadable"
            ) from None
        other = [
            name for name, value in claims.items() if not _shows(_plain(read.shows.get(name)), _plain(value), name)
        ]
        if other:
            raise NotIssued(
                f"the assertion at hand for {self.name} shows another {' and another '.join(sorted(other))}",
                code="not-issued",
            )
        left = read.ends.timestamp() - time.time() if read.ends is not None else 0.0
        return HeldCredential(Secret(read.sent), "assertion", timedelta(seconds=max(0, int(left))))


class OAuthClient:
    """An issuer that gives a registered client a token: by a signed assertion, or by a secret, which is keyed."""

    def __init__(self, name: str, server: Server, entry: Mapping[str, Any], exchange: Exchange | None = None) -> None:
        self.name = name
        self.server = server
        self.exchange = exchange or Exchange(names_in="audience")
        self.client = Registered(name, server, entry, self.exchange.client)

    def __repr__(self) -> str:
        return repr(self.client)

    @understood
    def obtain(self, claims: Claims) -> HeldCredential:
        """RFC 6749, section 4.4, for the audience that is wanted; what the token shows is the server's to say."""
        endpoint = self.server.offers("client_credentials", "client credentials (RFC 6749, section 4.4)")
        shows, headers = self.client.shows()
        form = {"grant_type": "client_credentials", **shows, **self.exchange.more}
        audience = claims.get("aud")
        if isinstance(audience, str):
            form[self.exchange.names_in] = audience
        got = self.server.obtained(self.server.asked(endpoint, form, headers), "token")
        if isinstance(got, Refusal):
            raise NotIssued(f"{self.name} gives its client no such token: {got.said}", code="not-issued")
        return got


def client_entry(content: bytes, name: str) -> Mapping[str, Any]:
    """A client from its file: JSON with client_id and a private_key (RFC 7517) or a client_secret."""
    try:
        entry = json.loads(content)
    except (ValueError, RecursionError):
        entry = None
    if not isinstance(entry, dict):
        raise InvalidInput(f"the client for {name} is not a JSON object", code="client-file-invalid")
    return entry


def _plain(value: Any) -> Any:
    return list(value) if isinstance(value, tuple) else value


def _shows(found: Any, wanted: Any, name: str) -> bool:
    """Whether a token shows a claim; one for several audiences is for each of them (RFC 7519, section 4.1.3)."""
    if name == "aud" and isinstance(found, list) and not isinstance(wanted, list):
        return wanted in found
    return bool(found == wanted)

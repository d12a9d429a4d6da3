"""Any OAuth 2.0 or OIDC server, from its discovery alone: token exchange, client credentials, client assertions.

RFC 8414 (metadata), RFC 8693 (token exchange), RFC 6749 section 4.4 (client credentials), RFC 7523 (client assertions).
What a server does not offer is said by the name of the standard, and not tried.
"""

import json
import time
import uuid
from collections.abc import Mapping, Sequence
from datetime import timedelta
from typing import Any
from urllib.parse import urlsplit

from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import ECKey, OKPKey, RSAKey

from enthesis.connectors.http import Answer, Client, is_safe, problem_said, understood
from enthesis.model.errors import InvalidInput, NotIssued, UnexpectedAnswer, Unreachable
from enthesis.model.estate import Attempt, Claims, KindVerbs
from enthesis.model.secrets import Secret
from enthesis.ports import Asked, Credential, Done, Key, Refusal
from enthesis.tokens.checking import Refused, parsed

EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"
ASSERTION = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
TYPE = "urn:ietf:params:oauth:token-type:"
TYPES = {"token": f"{TYPE}jwt", "session": f"{TYPE}access_token", "person": f"{TYPE}access_token"}
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
        if not isinstance(endpoint, str) or not is_safe(endpoint):
            raise InvalidInput(
                f"{self.name} has no token endpoint, so nothing can be obtained from it", code="endpoint-missing"
            )
        if grant not in offered:
            others = ", ".join(map(str, offered)) or "nothing"
            raise InvalidInput(
                f"{self.name} does not offer {standard}", code="endpoint-missing", remedy=f"it offers {others}"
            )
        return endpoint

    def asked(self, endpoint: str, form: Mapping[str, str], headers: Mapping[str, str] | None = None) -> Answer:
        """A request to the token endpoint."""
        if endpoint.startswith(self.client.url + "/"):
            return self.client.ask("POST", endpoint, form=form, headers=headers)
        parts = urlsplit(endpoint)
        base = f"{parts.scheme}://{parts.netloc}"
        with Client(self.name, base, max_answer=MAX_ANSWER) as elsewhere:
            return elsewhere.ask("POST", endpoint.removeprefix(base), form=form, headers=headers)

    def obtained(self, answer: Answer, form: str) -> Credential | Refusal:
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
            return Credential(Secret(token), form, timedelta(seconds=life), self.client.url)
        if answer.status == 400 and body.get("error") in REFUSALS:
            steps = body.get("refused_at")
            known = tuple(map(str, steps)) if isinstance(steps, list) and steps else ("target-side",)
            return Refusal(known, problem_said(answer))
        raise UnexpectedAnswer(
            f"{self.name} answered {answer.status} at its token endpoint: {problem_said(answer)}",
            code="answer-unexpected",
        )


class OAuthProvider:
    """A provider of which only its token endpoint is known: identities are taken on, and nothing else is done."""

    def __init__(self, name: str, server: Server) -> None:
        self.name = name
        self.server = server

    @property
    def url(self) -> str:
        """Where it is, as the estate says."""
        return self.server.client.url

    @understood
    def take_on(
        self, shown: Credential, identity: str, narrowed: KindVerbs | None, asked: Asked
    ) -> Credential | Refusal:
        """RFC 8693, section 2.1: the identity is named as the resource that the token is for."""
        endpoint = self.server.offers(EXCHANGE, "token exchange (RFC 8693)")
        if narrowed is not None:
            raise InvalidInput(f"how {self.name} narrows a session is not known", code="narrowing-not-known")
        form = {
            "grant_type": EXCHANGE,
            "subject_token": shown.secret.reveal(),
            "subject_token_type": TYPES[shown.form],
            "requested_token_type": TYPES["session"],
            "resource": f"{self.server.client.url}/places/{identity}",
        }
        return self.server.obtained(self.server.asked(endpoint, form), "session")

    def by_key(self, key: Key) -> Credential | Refusal:
        raise InvalidInput(f"how {self.name} takes keyed credentials is not known", code="keyed-sign-in-not-known")

    def attempt(self, session: Credential, attempt: Attempt, asked: Asked) -> Done | Refusal:
        raise InvalidInput(
            f"of {self.name} only its token endpoint is known: nothing is attempted there",
            code="not-possible-by-token-endpoint",
        )

    def survey(self, holders: Sequence[str], others: Sequence[str] = ()) -> Any:
        raise Unreachable(
            f"of {self.name} only its token endpoint is known: it cannot be surveyed",
            code="not-possible-by-token-endpoint",
        )

    def learn(self, step: Any, made: Any, ids: dict[str, str]) -> None:
        """Nothing is made there."""

    def rights(self, holders: Sequence[str], steps: Sequence[Any]) -> Any:
        """Nothing is read or changed there."""
        return []

    def lacking(self, steps: Sequence[Any]) -> Any:
        """Nothing is read or changed there."""
        return []

    def in_force(self, step: Any, made: Any) -> bool:
        """Nothing is made there."""
        return True

    def change(self, step: Any, ids: dict[str, str], key: str = "") -> Any:
        raise Unreachable(
            f"of {self.name} only its token endpoint is known: nothing is changed there",
            code="not-possible-by-token-endpoint",
        )

    def objection(self, collection: str, body: Any, allows: Any) -> str:
        return ""  # nothing is proposed for what cannot be surveyed


class GivenToken:
    """An issuer whose token somebody has at hand, in a pipeline say; it shows what it shows."""

    def __init__(self, name: str, token: Secret) -> None:
        self.name = name
        self.token = token

    @understood
    def obtain(self, claims: Claims) -> Credential:
        """That token, if it shows these claims; NotIssued where it shows others."""
        try:
            shown = parsed(self.token.reveal().encode()).unverified_claims
        except Refused as why:
            raise InvalidInput(
                f"the token for {self.name} cannot be read: {why.why}", code="token-unreadable"
            ) from None
        other = [name for name, value in claims.items() if _plain(shown.get(name)) != _plain(value)]
        if other:
            raise NotIssued(
                f"the token at hand for {self.name} shows another {' and another '.join(sorted(other))}",
                code="not-issued",
            )
        ends = shown.get("exp")
        left = float(ends) - time.time() if isinstance(ends, int | float) else 0.0
        return Credential(self.token, "token", timedelta(seconds=max(0, int(left))))


class OAuthClient:
    """An issuer that gives a registered client a token: by a signed assertion, or by a secret, which is keyed."""

    def __init__(self, name: str, server: Server, entry: Mapping[str, Any]) -> None:
        self.name = name
        self.server = server
        self.entry = entry

    def __repr__(self) -> str:
        return f"<client of {self.name}>"

    @understood
    def obtain(self, claims: Claims) -> Credential:
        """RFC 6749, section 4.4, for the audience that is wanted; what the token shows is the server's to say."""
        endpoint = self.server.offers("client_credentials", "client credentials (RFC 6749, section 4.4)")
        client = self.entry.get("client_id")
        if not isinstance(client, str):
            raise InvalidInput(f"the client for {self.name} has no client_id", code="client-file-invalid")
        form = {"grant_type": "client_credentials"}
        audience = claims.get("aud")
        if isinstance(audience, str):
            form["audience"] = audience
        methods = self.server.metadata().get("token_endpoint_auth_methods_supported", ["client_secret_basic"])
        if "private_key" in self.entry:
            if "private_key_jwt" not in methods:
                others = ", ".join(map(str, methods))
                raise InvalidInput(
                    f"{self.name} takes no client assertions (RFC 7523)",
                    code="client-method-not-offered",
                    remedy=f"it takes {others}",
                )
            form |= {"client_assertion_type": ASSERTION, "client_assertion": Secret(self._assertion(client)).reveal()}
        elif isinstance(self.entry.get("client_secret"), str):
            if "client_secret_post" not in methods:
                others = ", ".join(map(str, methods))
                raise InvalidInput(
                    f"{self.name} takes no secret in a form",
                    code="client-method-not-offered",
                    remedy=f"it takes {others}",
                )
            form |= {"client_id": client, "client_secret": Secret(self.entry["client_secret"]).reveal()}
        else:
            raise InvalidInput(
                f"the client for {self.name} has neither a private_key nor a client_secret", code="client-file-invalid"
            )
        got = self.server.obtained(self.server.asked(endpoint, form), "token")
        if isinstance(got, Refusal):
            raise NotIssued(f"{self.name} gives its client no such token: {got.said}", code="not-issued")
        return got

    def _assertion(self, client: str) -> str:
        """RFC 7523, section 3: signed by the client's own key, for this server, once and for a minute."""
        data = self.entry["private_key"]
        kinds: dict[str, type[RSAKey] | type[ECKey] | type[OKPKey]] = {"RSA": RSAKey, "EC": ECKey, "OKP": OKPKey}
        try:
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


def client_entry(content: bytes, name: str) -> Mapping[str, Any]:
    """A client from its file: JSON with client_id and a private_key (RFC 7517) or a client_secret."""
    try:
        entry = json.loads(content)
    except (ValueError, RecursionError):
        entry = None
    if not isinstance(entry, dict):
        raise InvalidInput(f"the client for {name} is no JSON object", code="client-file-invalid")
    return entry


def _plain(value: Any) -> Any:
    return list(value) if isinstance(value, tuple) else value

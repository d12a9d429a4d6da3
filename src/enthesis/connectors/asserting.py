"""An identity provider that signs assertions (SAML 2.0), as a lab runs it."""

from collections.abc import Mapping
from datetime import timedelta
from typing import Any

from enthesis.connectors.http import Client, understood
from enthesis.connectors.pipeline import issued, plain
from enthesis.model.errors import UnexpectedAnswer
from enthesis.model.estate import Claims
from enthesis.model.secrets import Secret
from enthesis.ports import HeldCredential, Joined, ServiceHere


class AssertionIssuer:
    """One identity provider. Needs no right of ours but what the `headers` show."""

    def __init__(self, name: str, client: Client, headers: Mapping[str, str] | None = None) -> None:
        self.name = name
        self.client = client
        self.headers = headers or {}

    def obtain(self, claims: Claims) -> HeldCredential:
        """An assertion that is for nobody in particular, so that nobody takes it."""
        return self.obtain_for(claims, self.client.url)

    @understood
    def obtain_for(self, claims: Claims, recipient: str) -> HeldCredential:
        """An assertion for one recipient that shows just these attributes; what is null is left out. NotIssued where
        the provider signs no such."""
        body = {"attributes": plain({name: value for name, value in claims.items() if value is not None})}
        answer = self.client.ask(
            "POST", "/assertions", body={**body, "recipient": recipient}, headers=self.headers
        )  # fmt: skip
        said: dict[str, Any] = issued(self.client, self.name, answer, 200)
        shown, life = said.get("assertion"), said.get("expires_in")
        if not isinstance(shown, str) or not isinstance(life, int):
            raise UnexpectedAnswer(
                f"{self.name} answered without an assertion or without its life", code="answer-without-token"
            )
        return HeldCredential(Secret(shown), "assertion", timedelta(seconds=life))


def joined(service: ServiceHere) -> Joined:
    """A service that makes assertions for an issuer of the estate."""
    if service.name not in service.estate.issuers:
        return {}
    client = Client(service.name, service.url, authority=service.authority, max_seconds=service.patience)
    return {"issuers": {service.name: AssertionIssuer(service.name, client, service.owner)}}

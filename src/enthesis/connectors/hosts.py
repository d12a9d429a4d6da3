"""A host's metadata service: as whom the host runs, and its short-lived sessions.

    GET  BASE/about      {"host": ADDRESS, "identities": [{"address": …, "id": …}]}
    POST BASE/session    {"identity": …}  ->  {"access_token": …, "expires_in": …, "renew_in": …, "identity", "host"}

The base names the host. Every request says that it was asked directly; one that was forwarded gets nothing.
"""

import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Any
from urllib.parse import quote

import httpx

from enthesis.connectors.http import Client, HttpAnswer, problem_said, understood
from enthesis.model.errors import UnexpectedAnswer
from enthesis.model.estate import KindVerbs
from enthesis.model.secrets import CallerPlace, Secret
from enthesis.ports import HeldCredential, Joined, Refusal, ServiceHere, Surroundings

DIRECTLY = {"Asked-Directly": "yes"}
MAX_ANSWER = 65_536  # bytes
MAX_SECONDS = 5.0  # a service on the host itself answers at once, or something is wrong with it
TIMEOUT = httpx.Timeout(MAX_SECONDS, connect=1.0)  # seconds


@dataclass(frozen=True, slots=True)
class About:
    """What a service says of its host: its address, and the identities that it runs as."""

    host: str
    identities: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Handed:
    """A session that a service handed out, as whom, and after how long to ask for the next."""

    credential: HeldCredential
    identity: str
    renew_in: timedelta


class HostService:
    """The service of one host. `host` is who it must say that it is, where that is known."""

    def __init__(self, client: Client, base: str = "", host: str | None = None) -> None:
        self.client = client
        self.base = base
        self.host = host

    @understood
    def about(self) -> About:
        """As whom the host runs; UnexpectedAnswer for garbage, and for what belongs to another host."""
        answer = self.client.ask("GET", f"{self.base}/about", headers=DIRECTLY)
        body = self.client.expect(answer, 200).json(self.client.who)
        listed = body.get("identities")
        host = self._of_host(body)
        named = [
            entry.get("address") if isinstance(entry, dict) else None
            for entry in (listed if isinstance(listed, list) else ())
        ]
        if not isinstance(listed, list) or not all(isinstance(one, str) for one in named):
            raise UnexpectedAnswer(f"{self.client.who} does not say as whom its host runs", code="answer-incomplete")
        return About(host, tuple(map(str, named)))

    @understood
    def session(self, identity: str | None = None, more: Mapping[str, Any] | None = None) -> Handed | Refusal:
        """A session as an identity, or as the only one; one that is out already may be handed out again."""
        body = {**({"identity": identity} if identity is not None else {}), **(more or {})}
        answer = self.client.ask("POST", f"{self.base}/session", headers=DIRECTLY, body=body)
        refusal = _refusal(answer, self.client.who)
        if refusal is not None:
            return refusal
        said = self.client.expect(answer, 200).json(self.client.who)
        token, life, renew = said.get("access_token"), said.get("expires_in"), said.get("renew_in", 0)
        self._of_host(said)
        if not isinstance(token, str) or type(life) is not int or type(renew) is not int or life <= 0:
            raise UnexpectedAnswer(
                f"{self.client.who} answered without a session or without its life", code="answer-without-token"
            )
        named = said.get("identity")
        if not isinstance(named, str) or (identity is not None and named != identity):
            raise UnexpectedAnswer(
                f"{self.client.who} answered with the session of another identity", code="server-identity-mismatch"
            )
        credential = HeldCredential(Secret(token), "session", timedelta(seconds=life))
        return Handed(credential, named, timedelta(seconds=min(max(renew, 1), life)))

    def _of_host(self, body: Mapping[str, Any]) -> str:
        found = body.get("host")
        if not isinstance(found, str) or not found:
            raise UnexpectedAnswer(
                f"{self.client.who} does not say which host it is the service of", code="answer-incomplete"
            )
        if self.host is not None and found != self.host:
            raise UnexpectedAnswer(
                f"{self.client.who} is the service of another host than {self.host}", code="server-identity-mismatch"
            )
        return found


class Hosts:
    """The services of all hosts of one provider, below one address, as a lab has them."""

    def __init__(self, client: Client, base: str = "") -> None:
        self.client = client
        self.base = base

    def seat(self, host: str) -> HeldCredential:
        """What a host has before it takes on what it runs as: its place, and nothing secret."""
        return HeldCredential(CallerPlace(host), "host", timedelta(0))

    def service(self, host: str) -> HostService:
        """The service that a host asks for its own credentials."""
        return HostService(self.client, f"{self.base}/{quote(host, safe='/@')}", host)

    @understood
    def take_on(
        self, shown: HeldCredential, identity: str, narrowed: KindVerbs | None, asked: Surroundings
    ) -> HeldCredential | Refusal:
        """The session that the host's own service hands out. Needs no right of ours."""
        more: dict[str, Any] = {"network": asked.network, "reference": asked.reference}
        more["narrowing"] = None if narrowed is None else {kind: list(verbs) for kind, verbs in narrowed.items()}
        said = {name: value for name, value in more.items() if value is not None}
        got = self.service(shown.secret.reveal()).session(identity, said)
        return got if isinstance(got, Refusal) else got.credential


def _refusal(answer: HttpAnswer, who: str) -> Refusal | None:
    """A refusal of access; being refused for how we asked is no such."""
    if answer.status not in (403, 404):
        return None
    try:
        steps = json.loads(answer.content).get("refused_at")
    except (ValueError, AttributeError, RecursionError):
        raise UnexpectedAnswer(
            f"{who} answered {answer.status} with content that is not understood", code="answer-not-understood"
        ) from None
    return Refusal.told(steps, problem_said(answer))


def joined(service: ServiceHere) -> Joined:
    """The services of a provider's hosts, which their owner plays."""
    client = Client(service.name, service.url, authority=service.authority, max_seconds=service.patience)
    hosts = Hosts(client, f"/{quote(''.join(service.owner.values()))}")
    return {"hosts": {service.name.removesuffix("/hosts"): hosts}}

"""A pipeline service that starts runs and issues their tokens."""

from collections.abc import Mapping
from datetime import timedelta
from typing import Any
from urllib.parse import quote

from enthesis.connectors.http import Client, HttpAnswer, problem_said, understood
from enthesis.model.errors import NotIssued, UnexpectedAnswer
from enthesis.model.estate import Claims
from enthesis.model.pointers import nested
from enthesis.model.secrets import Secret
from enthesis.model.words import VerdictStep
from enthesis.ports import Done, HeldCredential, Refusal


class Pipeline:
    """One issuer. Needs no right of ours but what the `headers` show: the run is the workload."""

    def __init__(self, name: str, client: Client, headers: Mapping[str, str] | None = None) -> None:
        self.name = name
        self.client = client
        self.headers = headers or {}

    @understood
    def obtain(self, claims: Claims) -> HeldCredential:
        """A token that shows just these claims; what is null is left out. NotIssued where the service signs no such."""
        shown = {name: plain(value) for name, value in claims.items() if name != "aud" and value is not None}
        answer = self.client.ask("POST", "/runs", body={"claims": nested(shown)}, headers=self.headers)
        run = self._issued(answer, 201)
        wanted = {"audience": plain(claims["aud"])} if claims.get("aud") is not None else {}
        answer = self.client.ask("POST", str(run.get("token_endpoint", "")), body=wanted, headers=self.headers)
        body = self._issued(answer, 200)
        token, life = body.get("token"), body.get("expires_in")
        if not isinstance(token, str) or not isinstance(life, int):
            raise UnexpectedAnswer(
                f"{self.name} answered without a token or without its life", code="answer-without-token"
            )
        return HeldCredential(Secret(token), "token", timedelta(seconds=life))

    @understood
    def use_pipeline_access(self, name: str, claims: Claims) -> Done | Refusal:
        """Has a run that shows these claims use the pipeline access of a name; what it gets is let go at once."""
        shown = {one: plain(value) for one, value in claims.items() if one != "aud" and value is not None}
        run = self._issued(self.client.ask("POST", "/runs", body={"claims": shown}, headers=self.headers), 201)
        path = f"/runs/{quote(str(run.get('id')))}/pipeline-access/{quote(name)}"
        answer = self.client.ask("POST", path, headers=self.headers)
        if answer.status == 403:
            refusal = Refusal.told(answer.json(self.name).get("refused_at"), problem_said(answer))
            if refusal is not None:
                return refusal
        if answer.status == 404:
            return Refusal((VerdictStep.NAMES,), problem_said(answer))
        found = self.client.expect(answer, 200).json(self.name)
        return Done(f"it leads to {found.get('identity')}")

    def _issued(self, answer: HttpAnswer, status: int) -> dict[str, Any]:
        return issued(self.client, self.name, answer, status)


def issued(client: Client, name: str, answer: HttpAnswer, status: int) -> dict[str, Any]:
    """What an issuer of the lab answered; NotIssued where it signs no such thing, whoever asks."""
    if answer.status == 422 and b":not-issued" in answer.content:
        raise NotIssued(f"{name} does not issue this: {problem_said(answer)}", code="not-issued")
    return client.expect(answer, status).json(name)


def plain(value: Any) -> Any:
    """A claim's value as JSON has it."""
    if isinstance(value, tuple):
        return [plain(one) for one in value]
    return {name: plain(one) for name, one in value.items()} if isinstance(value, dict) else value

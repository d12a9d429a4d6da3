"""A pipeline service that starts runs and issues their tokens."""

from datetime import timedelta
from typing import Any

from enthesis.connectors.http import Client
from enthesis.errors import UnexpectedAnswer
from enthesis.model.estate import Claims
from enthesis.ports import Credential, Secret


class Pipeline:
    """One issuer. Needs no right of ours: the run is the workload."""

    def __init__(self, name: str, client: Client) -> None:
        self.name = name
        self.client = client

    def obtain(self, claims: Claims) -> Credential:
        """A token that shows just these claims; what is null is left out."""
        shown = {name: _json(value) for name, value in claims.items() if name != "aud" and value is not None}
        answer = self.client.ask("POST", "/runs", body={"claims": shown})
        run = self.client.expect(answer, 201).json(self.name)
        wanted = {"audience": _json(claims["aud"])} if claims.get("aud") is not None else {}
        answer = self.client.ask("POST", str(run.get("token_endpoint", "")), body=wanted)
        body = self.client.expect(answer, 200).json(self.name)
        token, life = body.get("token"), body.get("expires_in")
        if not isinstance(token, str) or not isinstance(life, int):
            raise UnexpectedAnswer(f"{self.name} answered without a token or without its life")
        return Credential(Secret(token), "token", timedelta(seconds=life))


def _json(value: Any) -> Any:
    """A claim's value as JSON has it."""
    if isinstance(value, tuple):
        return [_json(one) for one in value]
    return {name: _json(one) for name, one in value.items()} if isinstance(value, dict) else value

"""A directory where people sign in: the device grant (RFC 8628), the end of a sign-in (RFC 7009), and approvals that it
states (RFC 8693)."""

import json
import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from datetime import timedelta
from typing import Any

from enthesis.connectors.http import Client, HttpAnswer, problem_said, understood
from enthesis.model.errors import LiveFailure, RightMissing, UnexpectedAnswer, Unreachable
from enthesis.model.secrets import Secret
from enthesis.model.urls import is_safe_url
from enthesis.model.vocabulary import VerdictStep
from enthesis.ports import HeldCredential, Joined, Refusal, ServiceHere

DEVICE = "urn:ietf:params:oauth:grant-type:device_code"
EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"
ACCESS = "urn:ietf:params:oauth:token-type:access_token"
STATEMENT = "urn:ietf:params:oauth:token-type:jwt"
APPROVAL = "enthesis-approval"  # the audience of an approval, and the type of its details
CLIENT = "enthesis"
LONGEST = 1800.0  # seconds that a person is waited for, whatever the directory says
SLOWER = 5.0  # seconds that `slow_down` adds between questions (RFC 8628, section 3.5)
MFA = {True: "yes", False: "no", None: "unsaid"}

Tell = Callable[[str, str], None]
"""Shows a person the code and the address where to agree."""


class Directory:
    """The directory of one organisation, known by its url alone."""

    def __init__(self, name: str, client: Client) -> None:
        self.name = name
        self.url = client.url
        self.client = client
        self._metadata: Mapping[str, Any] | None = None

    @understood
    def sign_in(self, tell: Tell, wait: Callable[[float], None] = time.sleep) -> HeldCredential:
        """RFC 8628, section 3: asks until a person has agreed. RightMissing where they refused or were too slow."""
        answer = self._ask("device_authorization_endpoint", {"client_id": CLIENT})
        said = self.client.expect(answer, 200).json(self.client.who)
        device, code, page = (said.get(name) for name in ("device_code", "user_code", "verification_uri"))
        life, interval = said.get("expires_in"), said.get("interval", 5)
        if not all(isinstance(one, str) for one in (device, code, page)) or not isinstance(life, int | float):
            raise UnexpectedAnswer(f"{self.name} does not say how to sign in", code="endpoint-missing")
        tell(str(code), str(said.get("verification_uri_complete") or page))
        pause = max(1.0, min(float(interval), LONGEST)) if isinstance(interval, int | float) else SLOWER
        ends = time.monotonic() + min(float(life), LONGEST)
        while time.monotonic() < ends:
            got = self._agreed(str(device))
            if isinstance(got, HeldCredential):
                return got
            pause += SLOWER if got == "slow_down" else 0.0
            wait(pause)
        raise RightMissing("the sign-in was not approved in time", code="sign-in-not-agreed", remedy="start it again")

    def _agreed(self, device: str) -> HeldCredential | str:
        """The sign-in, or the word that says to wait."""
        form = {"grant_type": DEVICE, "device_code": device, "client_id": CLIENT}
        answer = self._ask("token_endpoint", form)
        body = answer.json(self.client.who)
        if answer.status == 200:
            token, life = body.get("access_token"), body.get("expires_in")
            if not isinstance(token, str) or not isinstance(life, int):
                raise UnexpectedAnswer(
                    f"{self.name} answered without a sign-in or without its life", code="answer-without-token"
                )
            return HeldCredential(Secret(token), "person", timedelta(seconds=life))
        word = body.get("error")
        if word in ("authorization_pending", "slow_down"):
            return str(word)
        if word in ("access_denied", "expired_token", "invalid_grant"):
            raise RightMissing(
                f"{self.name} did not complete the sign-in: {problem_said(answer)}",
                code="sign-in-refused",
                remedy="start it again",
            )
        raise UnexpectedAnswer(
            f"{self.name} answered {answer.status} at its token endpoint: {problem_said(answer)}",
            code="answer-unexpected",
        )

    @understood
    def forget(self, sign_in: Secret) -> None:
        """RFC 7009, section 2: the sign-in opens nothing from now on."""
        form = {"token": sign_in.reveal(), "token_type_hint": "access_token", "client_id": CLIENT}
        self.client.expect(self._ask("revocation_endpoint", form), 200)

    @understood
    def approval(self, sign_in: Secret, said: Mapping[str, Any]) -> str:
        """The directory's statement that the person who is signed in approves something: a token exchange (RFC 8693,
        section 2.1) for a JWT with just these details (RFC 9396, section 2). RightMissing where the sign-in has ended.
        """
        answer = self._stated(sign_in, APPROVAL, authorization_details=json.dumps([{"type": APPROVAL, **said}]))
        body = answer.json(self.client.who)
        token = body.get("access_token")
        if answer.status == 200 and isinstance(token, str):
            return token
        if body.get("error") in ("invalid_request", "invalid_grant"):
            raise RightMissing(
                f"{self.name} states no approval: {problem_said(answer)}",
                code="sign-in-refused",
                remedy="enthesis sign-in, then approve again",
            )
        raise UnexpectedAnswer(
            f"{self.name} answered {answer.status} at its token endpoint: {problem_said(answer)}",
            code="answer-unexpected",
        )

    @understood
    def statement(self, session: HeldCredential, audience: str) -> HeldCredential | Refusal:
        """What the directory states for another service about who is signed in (RFC 8693, section 2.1, `audience`); a
        refusal at the session where the sign-in has ended. The sign-in itself stays with the directory."""
        answer = self._stated(session.secret, audience)
        body = answer.json(self.client.who)
        if answer.status == 400 and body.get("error") == "invalid_grant":
            return Refusal((VerdictStep.SESSION,), problem_said(answer))
        body = self.client.expect(answer, 200).json(self.client.who)
        token, life = body.get("access_token"), body.get("expires_in")
        if not isinstance(token, str) or not isinstance(life, int):
            raise UnexpectedAnswer(
                f"{self.name} answered without a statement or without its life", code="answer-without-token"
            )
        return HeldCredential(Secret(token), "token", timedelta(seconds=life))

    def _stated(self, sign_in: Secret, audience: str, **more: str) -> HttpAnswer:
        """The answer to a token exchange of a sign-in for a JWT."""
        form = {
            "grant_type": EXCHANGE,
            "subject_token": sign_in.reveal(),
            "subject_token_type": ACCESS,
            "requested_token_type": STATEMENT,
            "audience": audience,
        }
        return self._ask("token_endpoint", form | more)

    def _ask(self, endpoint: str, form: Mapping[str, str]) -> HttpAnswer:
        if self._metadata is None:
            self._metadata = self.client.metadata(self.name)
        place = self._metadata.get(endpoint)
        if not isinstance(place, str) or not is_safe_url(place) or not place.startswith(self.client.url + "/"):
            raise Unreachable(f"{self.name} has no {endpoint.replace('_', ' ')}", code="endpoint-missing")
        return self.client.ask("POST", place, form=form)


class LabDirectory(Directory):
    """A directory whose people do as a journey says, as only those of a lab do for its owner, whom `headers` show."""

    def __init__(self, name: str, client: Client, headers: Mapping[str, str]) -> None:
        super().__init__(name, client)
        self.headers = headers
        self._out: list[Secret] = []  # sign-ins that were obtained and not let go

    @understood
    def sign_in_as(self, person: str, mfa: bool | None) -> HeldCredential | Refusal:
        """The sign-in of a person, by the same grant; on the lab's page a person agrees as that person. A refusal where
        the directory does not let them."""

        def agree(code: str, page: str) -> None:
            form = {"code": code, "person": person, "mfa": MFA[mfa], "agreed": "yes"}
            answer = self.client.ask("POST", page.split("?", 1)[0], form=form, headers=self.headers)
            steps = answer.json(self.client.who).get("refused_at") if answer.status == 403 else None
            refusal = Refusal.told(steps, problem_said(answer))
            if refusal is not None:
                refusals.append(refusal)
            self.client.expect(answer, 200)

        refusals: list[Refusal] = []
        try:
            signed_in = self.sign_in(agree)
            self._out.append(signed_in.secret)
            return signed_in
        except RightMissing:
            if refusals:
                return refusals[0]
            raise

    def let_go(self) -> None:
        """Ends the sign-ins that were obtained here; one that cannot be ended now ends by itself."""
        while self._out:
            with suppress(LiveFailure):
                self.forget(self._out.pop())


def joined(service: ServiceHere) -> Joined:
    """Where the people of an organisation sign in, as their owner plays them."""
    client = Client(service.name, service.url, authority=service.authority, max_seconds=service.patience)
    return {"directories": {service.name: LabDirectory(service.name, client, service.owner)}}

"""A registry of images, by the public distribution API (OCI distribution 1.1) with tokens of its own.

An image is pulled and pushed with a session of the identity, which goes to the registry's own token service alone.
"""

import base64
import hashlib
import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote, urlencode

from enthesis.connectors.http import Client, HttpAnswer, surrounding, understood
from enthesis.model.errors import UnexpectedAnswer
from enthesis.model.estate import Attempt
from enthesis.model.secrets import Secret
from enthesis.model.vocabulary import VerdictStep
from enthesis.ports import Done, HeldCredential, Joined, Refusal, ServiceHere, Surroundings

MANIFESTS = (
    "application/vnd.oci.image.manifest.v1+json, application/vnd.oci.image.index.v1+json, "
    "application/vnd.docker.distribution.manifest.v2+json"
)
CHALLENGE = re.compile(r'(\w+)="([^"]*)"')
TRIED = b"Enthesis tries to push here, and cancels what it began.\n"
LATEST = "latest"  # the tag that clients ask for where none is named


class ImageRegistry:
    """One registry, called by its address in the estate. `owner` are headers that show a lab's owner, `provider` the
    one whose sessions are shown: tokens may come from it as well."""

    def __init__(
        self, name: str, client: Client, owner: Mapping[str, str] | None = None, provider: Client | None = None
    ) -> None:
        self.name = name
        self.client = client
        self.owner = owner or {}
        self.provider = provider
        self.tells_shared_login = bool(self.owner)

    @understood
    def attempt(self, session: HeldCredential, attempt: Attempt, asked: Surroundings) -> Done | Refusal:
        """Pulls, lists or pushes an image for real; what is pushed is cancelled before it is whole."""
        image = attempt.target.removeprefix(f"{self.name}/image/")
        place = f"/v2/{quote(image, safe='/')}"
        if attempt.verb == "push":
            return self._pushed(session, place, asked)
        path = f"{place}/tags/list" if attempt.verb == "list" else f"{place}/manifests/{LATEST}"
        answer = self._as(session, "GET", path, asked)
        if isinstance(answer, Refusal):
            return answer
        if answer.status == 404:
            return Done("allowed, and no image is stored there")
        content = self.client.expect(answer, 200).content
        if attempt.verb == "list":
            return Done("listed")
        said, found = answer.headers.get("docker-content-digest"), f"sha256:{hashlib.sha256(content).hexdigest()}"
        if said is not None and said.startswith("sha256:") and said != found:
            raise UnexpectedAnswer(f"{self.name} gave another image than it says", code="answer-contradicts")
        return Done("pulled")

    def _pushed(self, session: HeldCredential, place: str, asked: Surroundings) -> Done | Refusal:
        """Begins an upload, sends some of it, looks whether it is there, and cancels it."""
        begun = self._as(session, "POST", f"{place}/blobs/uploads/", asked)
        if isinstance(begun, Refusal):
            return begun
        at = self._upload(self.client.expect(begun, 202))
        try:
            sent = self._as(session, "PATCH", at, asked, content=TRIED)
            if isinstance(sent, Refusal):
                return sent
            at = self._upload(self.client.expect(sent, 202), at)
            seen = self._as(session, "GET", at, asked)
            if isinstance(seen, Refusal):
                return seen
            self.client.expect(seen, 204)
            if seen.headers.get("range") != f"0-{len(TRIED) - 1}":
                raise UnexpectedAnswer(f"{self.name} said it was sent, and it was not", code="answer-contradicts")
        finally:
            gone = self._as(session, "DELETE", at, asked)
        if isinstance(gone, Refusal):
            return Done("an upload was begun and seen; who pushes may not cancel it, so it stays until it is cleared")
        self.client.expect(gone, 204)
        return Done("an upload was begun, seen and cancelled")

    def _upload(self, answer: HttpAnswer, known: str = "") -> str:
        """Where an upload goes on, which may be elsewhere after each part of it."""
        at = answer.headers.get("location", known)
        if not at.startswith((self.client.url + "/", "/")):
            raise UnexpectedAnswer(f"{self.name} names an upload on another service", code="answer-leads-elsewhere")
        return at

    @understood
    def shared_login(self) -> Done | Refusal:
        """Tries the login that people share, with the password that it has or last had, as only a lab tells it."""
        answer = self.client.ask("GET", "/shared-login", headers=self.owner)
        said = self.client.expect(answer, 200).json(self.client.who)
        got = self._token(str(said["user"]), Secret(str(said["password"])), self._challenge(""), Surroundings())
        return got if isinstance(got, Refusal) else Done("a login that people share opens it")

    def _as(
        self, session: HeldCredential, method: str, path: str, asked: Surroundings, content: bytes | None = None
    ) -> HttpAnswer | Refusal:
        """A request with a token that the registry gives the bearer of a session, or the refusal."""
        # loads the libraries of tokens
        from enthesis.tokens.checking import Refused, parsed  # noqa: PLC0415

        try:
            user = str(parsed(session.secret.reveal().encode()).unverified_claims.get("sub"))
        except Refused:
            user = ""
        token = self._token(user, session.secret, self._challenge(path, method), asked)
        if isinstance(token, Refusal):
            return token
        headers = {"Accept": MANIFESTS}
        if content is not None:
            headers["Content-Type"] = "application/octet-stream"
        answer = self.client.ask(method, path, bearer=token, headers=headers, content=content)
        if 'error="invalid_token"' in answer.headers.get("www-authenticate", ""):
            raise UnexpectedAnswer(
                f"{self.name} does not trust the tokens of its own token service", code="answer-contradicts"
            )
        if 'error="insufficient_scope"' in answer.headers.get("www-authenticate", ""):
            refusal = _refusal(answer)
            return refusal or Refusal((VerdictStep.TARGET_SIDE,), "the token that was given is for less")
        return _refusal(answer) or answer

    def _challenge(self, path: str, method: str = "GET") -> Mapping[str, str]:
        """What the registry wants to be asked for (RFC 9110, section 11.6.1), where it does as it should."""
        answer = self.client.ask(method, path or "/v2/")
        scheme, _, rest = answer.headers.get("www-authenticate", "").partition(" ")
        wanted = dict(CHALLENGE.findall(rest))
        if answer.status != 401 or scheme.lower() != "bearer" or "realm" not in wanted:
            raise UnexpectedAnswer(f"{self.name} does not ask who calls", code="answer-unexpected")
        if self._service(wanted["realm"]) is None:
            raise UnexpectedAnswer(f"{self.name} wants sessions to go elsewhere", code="answer-leads-elsewhere")
        return wanted

    def _service(self, realm: str) -> Client | None:
        """Who gives the tokens: the registry itself, or the provider whose session is shown; None for anybody else."""
        known = (one for one in (self.client, self.provider) if one is not None)
        return next((one for one in known if realm.startswith(one.url + "/")), None)

    def _token(
        self, user: str, password: Secret, challenge: Mapping[str, str], asked: Surroundings
    ) -> Secret | Refusal:
        query = urlencode({name: challenge[name] for name in ("service", "scope") if name in challenge})
        shown = base64.b64encode(f"{quote(user, safe='')}:{password.reveal()}".encode()).decode()
        headers = {**surrounding(asked), "Authorization": f"Basic {Secret(shown).reveal()}"}
        service = self._service(challenge["realm"]) or self.client
        answer = service.ask("GET", f"{challenge['realm']}?{query}", headers=headers)
        refusal = _refusal(answer)
        if refusal is not None:
            return refusal
        said = service.expect(answer, 200).json(service.who)
        token = said.get("token", said.get("access_token"))
        if not isinstance(token, str):
            raise UnexpectedAnswer(f"{self.name} answered without a token", code="answer-without-token")
        return Secret(token)


def _refusal(answer: HttpAnswer) -> Refusal | None:
    """The refusal of access that an answer is, with the steps where it says them; None for any other answer."""
    if answer.status not in (401, 403):
        return None
    try:
        errors: Any = answer.json("the registry").get("errors") or [{}]
    except UnexpectedAnswer:
        errors = [{}]  # a token service says no in any form
    detail = errors[0].get("detail")
    steps = detail.get("refused_at") if isinstance(detail, dict) else None
    return Refusal.told(steps, str(errors[0].get("message", "access is refused")))


def joined(service: ServiceHere) -> Joined:
    """A registry of images."""
    client = Client(service.name, service.url, authority=service.authority, max_seconds=service.patience)
    return {"registries": {service.name: ImageRegistry(service.name, client, service.owner)}}

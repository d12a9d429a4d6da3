"""The published keys of an issuer: found by discovery, fetched within bounds, kept, and fetched anew for an unknown id.

OpenID Connect Discovery 1.0, section 4; OAuth 2.0 metadata (RFC 8414, section 3) where the first is not there.
"""

import json
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any
from urllib.parse import urljoin, urlsplit

import httpx

from enthesis.connectors.http import Client, HttpAnswer
from enthesis.model.errors import LiveFailure, UnexpectedAnswer
from enthesis.model.urls import LOOPBACK, is_safe_url
from enthesis.ports import Record
from enthesis.surveys.unread import Unread
from enthesis.tokens.checking import Keys, Refused, keys_of
from enthesis.tokens.discovery import discovered

MAX_DOCUMENT = 512 * 1024  # bytes; of a discovery document or a key set
MAX_SECONDS = 10.0
MAX_REDIRECTS = 2
FRESH_FOR = 600.0  # seconds that keys are kept
BETWEEN = 30.0  # seconds at least between two fetches, whatever unknown ids come by
REDIRECTS = (301, 302, 303, 307, 308)


class IssuerKeys:
    """The keys of one issuer. `clock` answers seconds that only go forward."""

    what = "issuer"

    def __init__(
        self,
        name: str,
        url: str,
        clock: Callable[[], float],
        *,
        authority: Path | None = None,
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        self.name = name
        self.url = url
        self.clock = clock
        self.authority = authority
        self.transport = transport
        self._keys: Keys | None = None
        self._failed: LiveFailure | None = None
        self._fetched = 0.0

    def keys_for(self, kid: str | None) -> Keys:
        """The keys, fetched anew where they are old or hold none of this id, at most once in BETWEEN seconds.

        A LiveFailure where they cannot be had.
        """
        age = self.clock() - self._fetched
        if self._failed is not None and age < BETWEEN:
            raise self._failed
        if self._keys is not None and (age < BETWEEN or (age < FRESH_FOR and self._keys.named(kid))):
            return self._keys
        self._fetched, self._failed = self.clock(), None
        try:
            self._keys = self.published()[1]
        except LiveFailure as fault:
            self._failed = fault
            raise
        return self._keys

    def published(self) -> tuple[dict[str, Any], Keys]:
        """The key set as it is published now, and the keys in it; a LiveFailure where they cannot be had."""
        document = self._document(self._key_address())
        try:
            return document, keys_of(document)
        except Refused as why:
            raise UnexpectedAnswer(f"the keys of {self.name} cannot be used: {why.why}", code="keys-unusable") from None

    def records(self, step: Callable[[str], None]) -> Iterator[Record]:
        """The published keys as a line of a survey; public as they are, for checking tokens without asking again."""
        step(f"the keys of {self.name}")
        try:
            document, keys = self.published()
        except LiveFailure as fault:
            yield Unread(f"the keys of {self.url}", fault.message, of_credentials=True).record
            return
        for why in keys.left_out:
            yield Unread(f"a key of {self.url}", why, of_credentials=True).record
        yield {"keys_of": self.url, "published": document}

    def _key_address(self) -> str:
        """Where the keys are, as the issuer itself says."""
        missed: list[UnexpectedAnswer] = []

        def fetch(place: str) -> Mapping[str, Any] | None:
            try:
                return self._document(place)
            except UnexpectedAnswer as fault:
                missed.append(fault)
                return None

        found = discovered(self.url, fetch)
        if found is None:
            raise missed[0]
        if not found:
            raise UnexpectedAnswer(
                f"{self.name} at {self.url} says that it is another issuer", code="server-identity-mismatch"
            )
        address = found.get("jwks_uri")
        if not isinstance(address, str) or not is_safe_url(address):
            raise UnexpectedAnswer(
                f"{self.name} at {self.url} does not say where its keys are", code="answer-incomplete"
            )
        return address

    def _document(self, address: str) -> dict[str, Any]:
        """A JSON object at an address, within bounds; sent on only over TLS, and not from elsewhere to this machine."""
        answer = self._got(address)
        for _ in range(MAX_REDIRECTS):
            if answer.status not in REDIRECTS:
                break
            onward = urljoin(address, answer.headers.get("location", ""))
            to_us = urlsplit(onward).hostname in LOOPBACK and urlsplit(address).hostname not in LOOPBACK
            if not is_safe_url(onward) or to_us:
                raise UnexpectedAnswer(
                    f"{self.name} sends us on to an address that is not followed", code="answer-leads-elsewhere"
                )
            address = onward
            answer = self._got(address)
        if answer.status != 200:
            raise UnexpectedAnswer(f"{self.name} answered {answer.status} at {address}", code="answer-unexpected")
        return answer.json(self.name)

    def _got(self, address: str) -> HttpAnswer:
        parts = urlsplit(address)
        base = f"{parts.scheme}://{parts.netloc}"
        with Client(
            self.name,
            base,
            authority=self.authority,
            transport=self.transport,
            max_answer=MAX_DOCUMENT,
            max_seconds=MAX_SECONDS,
        ) as client:
            return client.ask("GET", address.removeprefix(base))


def keys_in_file(path: Path) -> Keys:
    """The keys in a file of a key set; UnexpectedAnswer where it holds none."""
    try:
        with path.open("rb") as file:
            data = file.read(MAX_DOCUMENT + 1)
        if len(data) > MAX_DOCUMENT:
            raise UnexpectedAnswer(f"{path} is longer than {MAX_DOCUMENT} bytes", code="answer-too-large")
        return keys_of(json.loads(data))
    except OSError as fault:
        raise UnexpectedAnswer(f"{path} cannot be read: {fault.strerror}", code="file-unreadable") from None
    except (ValueError, RecursionError):
        raise UnexpectedAnswer(f"{path} holds no JSON", code="answer-not-understood") from None
    except Refused as why:
        raise UnexpectedAnswer(f"{path}: {why.why}", code="keys-unusable") from None

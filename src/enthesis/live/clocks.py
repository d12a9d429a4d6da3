"""The clock that counts: that of the system which a credential is shown to, as its answers date themselves.

A machine whose clock is wrong would otherwise take what works for ended, or lend what has ended (RFC 9110, section
6.6.1: the `Date` of an answer).
"""

import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

from enthesis.connectors.http import Client
from enthesis.live.stand_ins import running
from enthesis.model.errors import EnthesisError
from enthesis.model.estate import Estate
from enthesis.text.times import duration_text
from enthesis.tokens.discovery import OAUTH

SAID_FROM = timedelta(seconds=30)  # a smaller difference is not worth a word
ASKED_AGAIN = 30.0  # seconds, of a system that is not on this machine


class ClockOf:
    """The time at one system, or this machine's where there is none, or it does not answer."""

    def __init__(self, name: str, client: Client | None, *, here: bool = False) -> None:
        self.name = name
        self.client = client
        self.pause = 0.0 if here else ASKED_AGAIN
        self._asked: float | None = None
        self.ahead = timedelta(0)

    def now(self) -> datetime:
        """Its time now, to the second."""
        self._ask()
        return (datetime.now(UTC) + self.ahead).replace(microsecond=0)

    def said(self) -> str:
        """The difference to this machine's clock, in a sentence; '' where there is none that counts."""
        if abs(self.ahead) < SAID_FROM:
            return ""
        way = "ahead of" if self.ahead > timedelta(0) else "behind"
        step = 60 if abs(self.ahead) > timedelta(minutes=2) else 1  # dates are cut off to the second
        length = timedelta(seconds=round(abs(self.ahead).total_seconds() / step) * step)
        return f"The clock of {self.name} is {duration_text(length)} {way} this machine's; its time counts here."

    def _ask(self) -> None:
        asked = time.monotonic()
        if self.client is None or (self._asked is not None and asked - self._asked < self.pause):
            return
        self._asked = asked
        try:
            self.client.ask("GET", OAUTH)
        except EnthesisError:
            return
        self.ahead = self.client.ahead or timedelta(0)


def clock_for(estate: Estate | None, folder: Path | None, identity: str = "") -> ClockOf:
    """The clock of the system that an identity is taken on at, or that any is where none is named."""
    if estate is None or folder is None:
        return ClockOf("this machine", None)
    lab = running(folder)
    name = estate.system_of(identity) if identity else next(iter(estate.providers), "")
    if lab is not None:
        url = lab.url_of(name) or next(
            (lab.url_of(provider) for provider in estate.providers if lab.url_of(provider)), None
        )
        return ClockOf("the lab", Client("the lab", url, authority=lab.authority) if url else None, here=True)
    provider = estate.providers.get(name)
    if not identity or provider is None or provider.url is None:
        return ClockOf("this machine", None)
    return ClockOf(name, Client(name, provider.url))

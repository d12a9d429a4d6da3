"""Recorded use, summed up: who did what on what how often and when last; and what of a log cannot be understood.

A log has one request a row: `time`, `caller`, `identity`, `verb`, `target` and `outcome` (allowed or refused), and
where it is known `origin`, `network`, `mfa`, `reference`, `session_age` and the deciding `statement`.
"""

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from enthesis.files.shapes import time_from
from enthesis.model.estate import Estate

FIELDS = ("time", "caller", "identity", "verb", "target", "outcome")
ALLOWED = "allowed"
OUTCOMES = (ALLOWED, "refused")
SKEW = timedelta(minutes=5)  # a time further ahead is in the future

Triple = tuple[str, str, str]
"""An identity, a verb and a target."""


@dataclass(slots=True)
class Used:
    """How often something was done, and between when and when (seconds since 1970)."""

    count: int
    first: float
    last: float


@dataclass(slots=True)
class Usage:
    """A log summed up. `ignored` counts, by reason, the rows that say nothing about this estate; nothing is concluded
    from them."""

    used: dict[Triple, Used] = field(default_factory=dict)
    rows: int = 0
    refused: int = 0
    bearers: int = 0  # requests of bearers who have taken on nothing yet
    first: float | None = None
    last: float | None = None
    ignored: Counter[str] = field(default_factory=Counter)
    by_key: dict[str, dict[Triple, float]] = field(default_factory=dict)  # of each keyed credential, with when last

    def of_identity(self) -> dict[str, float]:
        """When each identity last did something that was allowed."""
        out: dict[str, float] = {}
        for (identity, _, _), used in self.used.items():
            out[identity] = max(out.get(identity, used.last), used.last)
        return out

    @property
    def span(self) -> timedelta:
        """How long a time the log tells of."""
        return timedelta(seconds=(self.last or 0) - (self.first or 0))


class Summing:
    """Sums up a log for an estate, up to an instant."""

    def __init__(self, estate: Estate, now: datetime) -> None:
        self.identities = estate.identities.keys()
        self.verbs = estate.catalogue.all_verbs()
        self.latest = (now + SKEW).timestamp()
        self.usage = Usage()

    def add(
        self,
        identity: Any,
        verb: Any,
        target: Any,
        outcome: Any,
        first: float,
        last: float,
        count: int,
        key: Any = None,
    ) -> None:
        """Rows that are alike but for their times. `key` is the id of the keyed credential that they began with."""
        usage = self.usage
        usage.rows += count
        if outcome not in OUTCOMES:
            usage.ignored["the outcome is neither allowed nor refused"] += count
        elif identity is None:
            usage.bearers += count
        elif not isinstance(identity, str) or identity not in self.identities:
            usage.ignored["the identity is not one of this estate"] += count
        elif verb not in self.verbs:
            usage.ignored["the verb is not one of the catalogue"] += count
        elif not isinstance(target, str) or not target:
            usage.ignored["the target is not an address"] += count
        elif first > self.latest:
            usage.ignored["the time is in the future"] += count
        else:
            last = min(last, self.latest)
            usage.first = first if usage.first is None else min(usage.first, first)
            usage.last = last if usage.last is None else max(usage.last, last)
            if outcome != ALLOWED:
                usage.refused += count
                return
            known = usage.used.get((identity, verb, target))
            if known is None:
                usage.used[identity, verb, target] = Used(count, first, last)
            else:
                known.count += count
                known.first, known.last = min(known.first, first), max(known.last, last)
            if isinstance(key, str):
                its = self.usage.by_key.setdefault(key, {})
                its[identity, verb, target] = max(its.get((identity, verb, target), last), last)

    def add_row(self, row: Any) -> None:
        """One row of JSON; what is none is counted."""
        if not isinstance(row, Mapping):
            self.ignore("the line is not a JSON object")
            return
        if row.get("enthesis") == "usage":
            return  # the header
        time = time_from(row.get("time"))
        if time is None:
            self.ignore("the time is none")
            return
        at = time.timestamp()
        origin = row.get("origin")
        key = origin.get("credential") if isinstance(origin, Mapping) else None
        self.add(row.get("identity"), row.get("verb"), row.get("target"), row.get("outcome"), at, at, 1, key)

    def ignore(self, why: str, count: int = 1) -> None:
        """Rows that say nothing."""
        if count:
            self.usage.rows += count
            self.usage.ignored[why] += count

    def add_rows(self, rows: Iterable[Any]) -> None:
        """Counts rows of a usage log, each a mapping by column."""
        for row in rows:
            self.add_row(row)

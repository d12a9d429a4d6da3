"""Recorded use, summed up: who did what on what how often and when last; and what of a log cannot be understood.

A log has one request a row: `time`, `caller`, `identity`, `verb`, `target` and `outcome` (allowed or refused), and
where it is known `onto` (what was attached to), `origin`, `through` (what was taken on since then, in order),
`network`, `mfa`, `reference`, `session_age` and the deciding `statement`.
"""

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any, NamedTuple

from enthesis.model.estate import Estate
from enthesis.text.times import time_from

FIELDS = ("time", "caller", "identity", "verb", "target", "outcome")
ALLOWED = "allowed"
OUTCOMES = (ALLOWED, "refused")
SKEW = timedelta(minutes=5)  # a time further ahead is in the future

Triple = tuple[str, str, str]
"""An identity, a verb and a target."""
ON = "on "  # before what code was run on, among what a chain passed


class Deed(NamedTuple):
    """Something that was done: by an identity, perhaps attached `onto` something, by a person who began the chain ('':
    by no person), `through` what was taken on or run on since."""

    identity: str
    verb: str
    target: str
    onto: str = ""
    person: str = ""
    through: tuple[str, ...] = ()

    @property
    def triple(self) -> Triple:
        """Who did what on what."""
        return self[:3]


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

    used: dict[Deed, Used] = field(default_factory=dict)
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
        for deed, used in self.used.items():
            out[deed.identity] = max(out.get(deed.identity, used.last), used.last)
        return out

    @property
    def span(self) -> timedelta:
        """How long a time the log tells of."""
        return timedelta(seconds=(self.last or 0) - (self.first or 0))


def _passed(through: Any) -> tuple[str, ...]:
    """What a chain passed, as texts; nothing where it is not told, or not understood."""
    out = []
    for one in through if isinstance(through, list | tuple) else ():
        on = one.get("on") if isinstance(one, Mapping) else None
        if not isinstance(one if on is None else on, str):
            return ()
        out.append(str(one) if on is None else f"{ON}{on}")
    return tuple(out)


class Summing:
    """Sums up a log for an estate, up to an instant."""

    def __init__(self, estate: Estate, now: datetime) -> None:
        self.identities = estate.identities.keys()
        self.people = {address for address, one in estate.identities.items() if one.is_person}
        self.verbs = estate.catalogue.all_verbs()
        self.latest = (now + SKEW).timestamp()
        self.usage = Usage()

    def add(
        self,
        done: tuple[Any, Any, Any, Any],
        first: float,
        last: float,
        count: int,
        *,
        onto: Any = None,
        origin: Any = None,
        through: Any = None,
    ) -> None:
        """Rows that are alike but for their times: what was `done` is an identity, a verb, a target and an outcome.
        `origin` names who began, and perhaps a keyed credential's id."""
        identity, verb, target, outcome = done
        usage = self.usage
        usage.rows += count
        if not isinstance(outcome, str) or outcome not in OUTCOMES:
            usage.ignored["the outcome is neither allowed nor refused"] += count
        elif identity is None:
            usage.bearers += count
        elif not isinstance(identity, str) or identity not in self.identities:
            usage.ignored["the identity is not one of this estate"] += count
        elif not isinstance(verb, str) or verb not in self.verbs:
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
            origin = origin if isinstance(origin, Mapping) else {}
            began = origin.get("address")
            person = began if isinstance(began, str) and began in self.people else ""
            onto = onto if isinstance(onto, str) else ""
            deed = Deed(identity, verb, target, onto, str(person), _passed(through) if person else ())
            known = usage.used.get(deed)
            if known is None:
                usage.used[deed] = Used(count, first, last)
            else:
                known.count += count
                known.first, known.last = min(known.first, first), max(known.last, last)
            key = origin.get("credential")
            if isinstance(key, str):
                its = self.usage.by_key.setdefault(key, {})
                its[identity, verb, target] = max(its.get((identity, verb, target), last), last)

    def add_row(self, row: Any) -> None:
        """One row of JSON; what is none is counted."""
        if not isinstance(row, Mapping):
            self.ignore("the line is not a JSON object")
            return
        if row.get("enthesis") == "usage":
            self.taken(row.get("taken"))
            return  # the header
        time = time_from(row.get("time"))
        if time is None:
            self.ignore("the time is none")
            return
        at = time.timestamp()
        done = (row.get("identity"), row.get("verb"), row.get("target"), row.get("outcome"))
        more = {name: row.get(name) for name in ("onto", "origin", "through")}
        self.add(done, at, at, 1, **more)

    def taken(self, at: Any) -> None:
        """A log says when it was taken, by the clock of the systems that recorded it: until then nothing is to come."""
        time = time_from(at)
        if time is not None:
            self.latest = max(self.latest, (time + SKEW).timestamp())

    def ignore(self, why: str, count: int = 1) -> None:
        """Rows that say nothing."""
        if count:
            self.usage.rows += count
            self.usage.ignored[why] += count

    def add_rows(self, rows: Iterable[Any]) -> None:
        """Counts rows of a usage log, each a mapping by column."""
        for row in rows:
            self.add_row(row)

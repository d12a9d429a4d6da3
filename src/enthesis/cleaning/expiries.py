"""Everything of an estate that ends, or must be looked at again: when, whose it is, and how long before it is told."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from enthesis.chains.differences import Difference, difference
from enthesis.files.writing import plain_statement
from enthesis.model.conditions import Glob
from enthesis.model.estate import Estate
from enthesis.model.file_errors import Source
from enthesis.model.sentences import statement_sentence

USUAL_NOTICE = (timedelta(days=90), timedelta(days=30), timedelta(days=7))


@dataclass(frozen=True, slots=True)
class End:
    """One end. `told` is how long before it a caller is told, the longest first; `names` are what it is about."""

    kind: str
    what: str
    at: datetime
    names: tuple[str, ...]
    owner: str = ""
    because: str = ""
    source: Source | None = None
    place: str = ""
    told: tuple[timedelta, ...] = ()

    @property
    def where(self) -> str:
        """Where it stands: file and line, or its live place."""
        return str(self.source) if self.source is not None else self.place

    def due(self, now: datetime) -> timedelta | None:
        """The shortest notice whose day has come; None where none has. Where it has ended, no time at all."""
        left = self.at - now
        if left <= timedelta(0):
            return timedelta(0)
        return min((one for one in self.told if left <= one), default=None)


@dataclass(frozen=True, slots=True)
class Calendar:
    """The ends that come, the next first, and what was to be looked at again by now."""

    coming: tuple[End, ...] = ()
    overdue: tuple[End, ...] = ()


@dataclass(frozen=True, slots=True)
class WaitingHandoff:
    """A handoff that was given out: to whom, and by when its half is to be there."""

    party: str
    by: datetime
    reference: str = ""


def calendar(estate: Estate, now: datetime, handoffs: Iterable[WaitingHandoff] = ()) -> Calendar:
    """The ends of an estate from an instant on. What has ended is over, but for what was to be looked at again."""
    notice = {name: one.before for name, one in estate.notice.items()}
    found = [
        replace(credential, told=tuple(sorted(notice.get(credential.kind, USUAL_NOTICE), reverse=True)))
        for credential in (
            *_credentials(estate),
            *_statements(estate),
            *_exceptions(estate),
            *_accepted(estate),
            *_handoffs(handoffs),
        )
    ]
    found.sort(key=lambda end: (end.at, end.kind, end.what))
    overdue = tuple(end for end in found if end.at <= now and end.kind in ("acceptance", "handoff"))
    return Calendar(tuple(end for end in found if end.at > now), overdue)


def ended(estate: Estate, ends: Sequence[End], now: float) -> Difference:
    """What access is lost when these ends have come, on the estate as it is now (seconds since 1970)."""
    gone = {(end.kind, end.source) for end in ends}
    keys = {end.names[0] for end in ends if end.kind in ("credential", "certificate")}
    after = replace(
        estate,
        grants=tuple(grant for grant in estate.grants if ("grant", grant.source) not in gone),
        trusts=tuple(trust for trust in estate.trusts if ("trust", trust.source) not in gone),
    ).with_credentials({name: one for name, one in estate.credentials.items() if name not in keys})
    return difference(estate, after, now)


def _owner(estate: Estate, address: str) -> str:
    one = estate.identities.get(address)
    return (one.owner or "") if one is not None else ""


def _credentials(estate: Estate) -> Iterator[End]:
    for name, one in estate.credentials.items():
        if one.expires is not None and not one.disabled:
            kind = "certificate" if one.form == "certificate" else "credential"
            what = f"the {one.form} {name} of {one.of}"
            yield End(kind, what, one.expires, (name, one.of), _owner(estate, one.of), "", one.source, one.of)


def _statements(estate: Estate) -> Iterator[End]:
    for grant in estate.grants:
        if grant.until is not None:
            what = f"the grant of {grant.role} to {grant.to} at {grant.at}"
            names = tuple(name for name in (grant.name, grant.to) if name is not None)
            owner = _owner(estate, grant.to)
            yield End("grant", what, grant.until, names, owner, grant.because or "", grant.source, grant.at)
    for trust in estate.trusts:
        if trust.until is not None:
            what = statement_sentence("trusts", plain_statement("trusts", trust))
            names = tuple(name for name in (trust.name, trust.of) if name is not None)
            owner = _owner(estate, trust.of)
            yield End("trust", what, trust.until, names, owner, trust.because or "", trust.source, trust.of)


def _exceptions(estate: Estate) -> Iterator[End]:
    for ceiling in estate.ceilings:
        for one in ceiling.for_a_while:
            who = one.who.pattern if isinstance(one.who, Glob) else one.who
            what = f"the exception of {who} from the ceiling {ceiling.name}"
            owner = _owner(estate, who)
            yield End("exception", what, one.until, (ceiling.name, who), owner, one.because, one.source, ceiling.at)


def _accepted(estate: Estate) -> Iterator[End]:
    for acceptance in estate.accepted:
        what = f"the acceptance of {acceptance.what}"
        yield End(
            "acceptance",
            what,
            acceptance.until,
            (acceptance.about,),
            "",
            acceptance.because,
            acceptance.source,
            acceptance.about,
        )


def _handoffs(handoffs: Iterable[WaitingHandoff]) -> Iterator[End]:
    for handoff in handoffs:
        what = f"the half of {handoff.party}, which was asked for"
        yield End("handoff", what, handoff.by, (handoff.party,), handoff.party, handoff.reference, None, handoff.party)

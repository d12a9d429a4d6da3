"""What there is in an estate: identities, people, places, groups, roles, grants, trusts, ceilings, keyed credentials,
accounts, each with the facts that people look for in a list."""

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from enthesis.access.compiling import Compiled
from enthesis.conditions.truth import passes
from enthesis.model.addresses import account_of, contains
from enthesis.model.estate import Credential, Estate, Grant, Identity, Trust
from enthesis.model.sentences import admitted_words, permissions
from enthesis.text.times import duration_text, time_text

Fact = str | int | bool | Sequence[str] | None


@dataclass(frozen=True, slots=True)
class Entry:
    """A line of a list: what it is called, where it is, and its facts by their names; one that is None is not known,
    and an empty one is none."""

    name: str
    place: str
    kind: str
    facts: Mapping[str, Fact]
    source: str = ""
    owner: str = ""
    labels: Mapping[str, object] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Narrowing:
    """Which entries are wanted: at a place or in it, of a kind, of an owner, with labels, and not those `known`."""

    at: str = ""
    kind: str = ""
    owner: str = ""
    labels: Mapping[str, str] = field(default_factory=dict)
    known: frozenset[str] = frozenset()

    def fits(self, entry: Entry) -> bool:
        """Whether an entry is wanted."""
        return (
            (not self.at or contains(self.at, entry.place) or self.at == account_of(entry.place))
            and self.kind in ("", entry.kind)
            and self.owner in ("", entry.owner)
            and all(str(entry.labels.get(name)) == value for name, value in self.labels.items())
            and entry.name not in self.known
        )


def inventory(compiled: Compiled, what: str, now: datetime, narrowing: Narrowing) -> list[Entry]:
    """The entries of one list (a key of `LISTS`) that are wanted, in the order of the estate."""
    return [entry for entry in LISTS[what](compiled, now) if narrowing.fits(entry)]


def _identities(compiled: Compiled, now: datetime) -> Iterator[Entry]:
    """Workloads' identities: who can become each, where it runs, and with which keys."""
    runs, about = _runs(compiled), _About.of(compiled.estate)
    for identity in compiled.estate.identities.values():
        if not identity.is_person:
            yield about.entry(identity, now, {"runs_on": runs.get(identity.address, [])})


def _people(compiled: Compiled, now: datetime) -> Iterator[Entry]:
    about = _About.of(compiled.estate)
    groups: dict[str, list[str]] = {}
    for group in compiled.estate.groups.values():
        for member in group.members:
            groups.setdefault(member, []).append(group.address)
    for identity in compiled.estate.identities.values():
        if identity.is_person:
            yield about.entry(identity, now, {"member_of": groups.get(identity.address, [])})


@dataclass(frozen=True, slots=True)
class _About:
    """What says something of identities, by their addresses."""

    trusts: Mapping[str, list[Trust]]
    keys: Mapping[str, list[Credential]]

    @classmethod
    def of(cls, estate: Estate) -> "_About":
        trusts: dict[str, list[Trust]] = {}
        keys: dict[str, list[Credential]] = {}
        for trust in estate.trusts:
            trusts.setdefault(trust.of, []).append(trust)
        for one in estate.credentials.values():
            keys.setdefault(one.of, []).append(one)
        return cls(trusts, keys)

    def entry(self, identity: Identity, now: datetime, more: Mapping[str, Fact]) -> Entry:
        """An identity with who can become it, and its keys that work."""
        trusts = [trust for trust in self.trusts.get(identity.address, []) if trust.in_force(now)]
        keys = [one for one in self.keys.get(identity.address, []) if one.opens(now)]
        ends = [one.expires for one in keys if one.expires is not None]
        used = [one.last_used for one in keys if one.last_used is not None]
        facts: dict[str, Fact] = {
            "owner": identity.owner,
            "taken_on_by": [_whom(trust) for trust in trusts if not _wants_second_factor(trust)],
            "taken_on_with_second_factor_by": [_whom(trust) for trust in trusts if _wants_second_factor(trust)],
            **more,
            "keys": [one.name for one in keys],
            "next_end": time_text(min(ends)) if ends else None,
            "key_last_used": time_text(max(used)) if used else None,
            "disabled": identity.disabled,
        }
        where, owner = identity.address, identity.owner or ""
        return Entry(where, where, identity.kind, facts, str(identity.source), owner, identity.labels)


def _whom(trust: Trust) -> str:
    return admitted_words(trust.admits.form, trust.admits.whom)


def _wants_second_factor(trust: Trust) -> bool:
    """Whether a trust admits nobody without a second factor."""
    asked = dict(trust.when).get("mfa")
    return asked is not None and passes(asked, False) is False


def _runs(compiled: Compiled) -> dict[str, list[str]]:
    """By identity, what it runs on."""
    found: dict[str, list[str]] = {}
    for address in compiled.estate.resources:
        for number in compiled.runs(address):
            found.setdefault(compiled.places.names[number], []).append(address)
    return found


def _places(compiled: Compiled, now: datetime) -> Iterator[Entry]:
    for address, one in compiled.estate.resources.items():
        kind = address.split("/")[-2] if address.count("/") > 1 else ""
        facts: dict[str, Fact] = {
            "runs_as": [compiled.places.names[number] for number in compiled.runs(address)],
            "encrypted_by": one.encrypted_by,
            "protected": one.protected,
            "labels": [f"{name}={value}" for name, value in one.labels.items()],
            "url": one.url,
        }
        yield Entry(address, address, kind, facts, str(one.source), labels=one.labels)


def _groups(compiled: Compiled, now: datetime) -> Iterator[Entry]:
    for address, group in compiled.estate.groups.items():
        facts: dict[str, Fact] = {"members": group.members, "by_rule": group.where is not None}
        yield Entry(address, address, "group", facts, str(group.source))


def _roles(compiled: Compiled, now: datetime) -> Iterator[Entry]:
    by_role: dict[str, list[Grant]] = {}
    for grant in compiled.estate.grants:
        by_role.setdefault(grant.role, []).append(grant)
    for name, role in compiled.estate.roles.items():
        granted = [grant for grant in by_role.get(name, []) if grant.in_force(now)]
        facts: dict[str, Fact] = {
            "allows": permissions(role.allows), "includes": role.includes, "granted": len(granted),
            "to": list(dict.fromkeys(grant.to for grant in granted)),
        }  # fmt: skip
        yield Entry(name, "", "role", facts, str(role.source))


def _grants(compiled: Compiled, now: datetime) -> Iterator[Entry]:
    for grant in compiled.estate.grants:
        facts: dict[str, Fact] = {
            "to": grant.to, "role": grant.role, "at": grant.at, "until": _time(grant.until),
            "ended": not grant.in_force(now), "conditional": bool(grant.when), "because": grant.because,
        }  # fmt: skip
        yield Entry(f"{grant.role} to {grant.to} at {grant.at}", grant.at, grant.role, facts, str(grant.source))


def _trusts(compiled: Compiled, now: datetime) -> Iterator[Entry]:
    for trust in compiled.estate.trusts:
        admits = _whom(trust)
        facts: dict[str, Fact] = {
            "of": trust.of, "admits": admits, "session": duration_text(trust.session), "until": _time(trust.until),
            "ended": not trust.in_force(now), "second_factor": _wants_second_factor(trust),
            "because": trust.because,
        }  # fmt: skip
        name = trust.name or f"{trust.of} by {admits}"
        yield Entry(name, trust.of, str(trust.admits.form), facts, str(trust.source))


def _ceilings(compiled: Compiled, now: datetime) -> Iterator[Entry]:
    for ceiling in compiled.estate.ceilings:
        facts: dict[str, Fact] = {
            "at": ceiling.at, "over": ceiling.over,
            "bars": permissions(ceiling.bars) if ceiling.bars is not None else None,
            "only": permissions(ceiling.only) if ceiling.only is not None else None,
            "exceptions": len(ceiling.excepts),
        }  # fmt: skip
        yield Entry(ceiling.name, ceiling.at, "ceiling", facts, str(ceiling.source))


def _credentials(compiled: Compiled, now: datetime) -> Iterator[Entry]:
    for name, one in compiled.estate.credentials.items():
        facts: dict[str, Fact] = {
            "of": one.of, "expires": _time(one.expires), "last_used": _time(one.last_used), "works": one.opens(now),
            "held_in": [str(place) for place in one.held_in],
        }  # fmt: skip
        yield Entry(name, one.of, one.form, facts, str(one.source))


def _accounts(compiled: Compiled, now: datetime) -> Iterator[Entry]:
    estate = compiled.estate
    identities, resources = (Counter(map(account_of, many)) for many in (estate.identities, estate.resources))
    for name, account in estate.accounts.items():
        facts: dict[str, Fact] = {
            "in": account.within, "provider": account.provider, "identities": identities[name],
            "resources": resources[name],
            "administered_by_others": estate.administered_by_others(name),
        }  # fmt: skip
        yield Entry(name, name, "account", facts, str(account.source), labels=account.labels)


def _time(at: datetime | None) -> str | None:
    return time_text(at) if at is not None else None


LISTS: dict[str, Callable[[Compiled, datetime], Iterator[Entry]]] = {
    "identities": _identities, "people": _people, "places": _places, "groups": _groups, "roles": _roles,
    "grants": _grants, "trusts": _trusts, "ceilings": _ceilings, "credentials": _credentials, "accounts": _accounts,
}  # fmt: skip
"""The lists by what they are of."""

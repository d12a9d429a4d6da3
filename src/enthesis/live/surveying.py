"""Asks live systems what they have now: for a proposal, or into the lines of a file."""

from collections import Counter
from collections.abc import Callable, Container, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from hashlib import sha256

from msgspec.json import encode

from enthesis.files.writing import plain_statement
from enthesis.model.addresses import account_of
from enthesis.model.errors import InvalidInput
from enthesis.model.escapes import json_line, word
from enthesis.model.estate import Estate
from enthesis.model.secrets import holds_secret, redacted
from enthesis.ports import Connected, Credentialed, Record, Reporter, Surveys
from enthesis.proposals.credentials import DELETED, OpenSession, with_names
from enthesis.proposals.wanted import holders
from enthesis.surveys.statements import Surveyed, across, records_of
from enthesis.surveys.survey import VERSION
from enthesis.surveys.unread import Unread
from enthesis.text.times import time_text

AT_ONCE = 8  # live systems


def survey(estate: Estate, connected: Connected, reporter: Reporter) -> tuple[Surveyed, ...]:
    """What our accounts have at each provider. Needs the right to read the statements of each."""
    systems = connected.administered
    asked = {name: holders(estate, name) for name in estate.providers if name in systems}
    asked |= {name: [account_of(name)] for name in (*connected.clusters, *connected.databases)}
    asked |= {name: [name] for name in (*connected.people, *connected.pipelines)}
    if not asked:
        raise InvalidInput(
            "no connection is configured for any provider or cluster of this estate", code="system-not-connected"
        )
    asked = {name: its_holders for name, its_holders in asked.items() if its_holders}
    reporter.begin("surveying", len(asked))
    found = []
    try:
        with ThreadPoolExecutor(AT_ONCE) as pool:
            coming = [
                (name, pool.submit(systems[name].survey, its_holders, _others(estate, name)))
                for name, its_holders in asked.items()
            ]
            for name, one in coming:
                reporter.step(name)
                found.append(one.result())
    finally:
        reporter.end()
    return across(found)


def _others(estate: Estate, provider: str) -> list[str]:
    """The identities and groups of others at a provider that the estate names: what is ours may admit them."""
    return [
        address
        for address in (*estate.identities, *estate.groups)
        if account_of(address) and estate.administered_by_others(address) and estate.system_of(address) == provider
    ]


# -- into a file ----------------------------------------------------------------------------------------------------

AT_A_TIME = 256  # records
WHOLE, IN_PART, NOT_READ = "whole", "in part", "not looked at"  # how much of a system was read
HEAD = ("organisations", "providers", "accounts", "issuers", "resources")


class SurveyedCloud:
    """A provider that has been surveyed already, as the lines of a file.

    Of resources that the estate has, `described`, it says only that they are there; others came since. `keys` are the
    keyed credentials that it knows of, None where it was not asked; of the open `sessions` it tells those of what is
    not there any more.
    """

    def __init__(
        self,
        surveyed: Surveyed,
        url: str,
        described: Container[str] = (),
        keys: Sequence[Credentialed] | None = None,
        sessions: Sequence[OpenSession] = (),
    ) -> None:
        at_issuer = surveyed.holders == (surveyed.provider,)
        self.what = "directory" if surveyed.provider.startswith("@") else "issuer" if at_issuer else "provider"
        self.keys = keys
        self.described = described
        self.name = surveyed.provider
        self.url = url
        self.surveyed = surveyed
        self.sessions = sessions

    @property
    def about(self) -> Record:
        """What of the provider was looked at: whose statements, and whether their keyed credentials were."""
        return {"holders": list(self.surveyed.holders), "keys": self.keys is not None}

    def records(self, step: Callable[[str], None]) -> Iterator[Record]:
        """The lines of a survey for what was read, resources that the files do not describe first."""
        step(self.name)
        for address in sorted(resource for resource in self.surveyed.resources if resource not in self.described):
            yield {"section": "resources", "address": address}
        yield from records_of(self.surveyed)
        for key in self.keys or ():
            yield {"section": "credentials", **key.as_entry()}
        for session in with_names(self.sessions, self.keys or ()):
            gone = self._gone_of(session)
            if gone:
                says = f"a session of {session.of} is open until {time_text(session.ends)}, and {gone} is deleted"
                yield {"finding": "session-outlives", "at": session.of, "says": f"{says}; {word(session.id)}"}

    def _gone_of(self, session: OpenSession) -> str:
        """What a session is of, began at or came by that is not there any more; '' where all of it is."""
        if session.origin.get("credential") == DELETED:
            return f"the credential that it began with, of {session.origin.get('address')},"
        for name in (session.of, str(session.origin.get("address") or ""), *session.via):
            looked_at = account_of(name) in self.surveyed.accounts or name.startswith("@")
            if looked_at and "/identity/" in name and name not in self.surveyed.ids:
                return name
            if account_of(name) in self.surveyed.accounts and "/identity/" not in name and self.has_gone(name):
                return name
        return ""

    def has_gone(self, address: str) -> bool:
        """Whether a resource is of an account that was looked at, and is not there."""
        return account_of(address) in self.surveyed.accounts and address not in self.surveyed.resources


def head_of(estate: Estate) -> Iterator[Record]:
    """What an estate says exists already, as lines: live systems name it and say no more."""
    for section in HEAD:
        for name, one in getattr(estate, section).items():
            key = "address" if section == "resources" else "name"
            body = plain_statement(section, one)
            body.pop("runs_as", None)
            yield {
                "section": section,
                key: name,
                **({"units": list(one.units)} if section == "organisations" else {}),
                **body,
            }
    for address, one in estate.identities.items():
        if one.is_person:
            yield {"section": "identities", "address": address, **plain_statement("identities", one)}


class Writing:
    """Turns records into the lines of a file, and counts what it saw."""

    def __init__(
        self, name: str | None, taken: datetime, systems: Sequence[Surveys], missing: Sequence[Unread] = ()
    ) -> None:
        """`missing` are the systems that should have been looked at, too."""
        self.missing = missing
        self.read = dict.fromkeys((system.name for system in systems), WHOLE)
        self.name = name
        self.taken = taken
        self.systems = systems
        self.counts: Counter[str] = Counter()
        self.left_out: list[Record] = []
        self.findings: list[Record] = []
        self.complete = True
        self.digest, self.written = sha256(), 0

    def lines(self, head: Iterable[Record], reporter: Reporter) -> Iterator[bytes]:
        """One line after another; nothing is kept but what was left out and found."""
        of = [
            {"what": system.what, "name": system.name, "at": system.url, **getattr(system, "about", {})}
            for system in self.systems
        ]
        named, head = {"estate": self.name} if self.name else {}, list(head)
        taken = {"taken": time_text(self.taken), "head": len(head)}
        header = {"enthesis": "survey", "version": VERSION, **taken, **named, "of": of}
        yield from self._noted([header, *head])
        reporter.begin("surveying", 0)
        try:
            for system in self.systems:
                several: list[Record] = []
                for record in system.records(reporter.step):
                    several.append(record)
                    if len(several) == AT_A_TIME:
                        self._seen(several, system.name)
                        yield from self._noted(several)
                        several = []
                self._seen(several, system.name)
                yield from self._noted(several)
        finally:
            reporter.end()
        unread = [one.record for one in self.missing]
        self._seen(unread)
        yield from self._noted(unread)
        counts, digest = dict(sorted(self.counts.items())), f"sha-256:{self.digest.hexdigest()}"
        end = {
            "end": True,
            "complete": self.complete,
            "read": self.read,
            "counts": counts,
            "lines": self.written,
            "digest": digest,
        }
        yield _line(encode({**end, "digest": digest}) + b"\n")

    def _noted(self, records: Iterable[Record]) -> Iterable[bytes]:
        """Their lines, counted, and taken into the digest: several at a time, since few of them need a look each."""
        lines = [encode(record) + b"\n" for record in records]
        whole = b"".join(lines)
        if holds_secret(whole) or json_line(whole) != whole:
            lines = [_line(line) for line in lines]
            whole = b"".join(lines)
        self.digest.update(whole)
        self.written += len(lines)
        return lines

    def _seen(self, records: Iterable[Record], system: str = "") -> None:
        self.counts.update([record["section"] for record in records if "section" in record])
        for record in [one for one in records if "section" not in one]:
            if "left_out" in record:
                self.left_out.append(record)
                if record.get("incomplete"):
                    self.complete = False
                    self.read[system or record["left_out"]] = IN_PART if system else NOT_READ
            elif "finding" in record:
                self.findings.append(record)


def _line(data: bytes) -> bytes:
    """A line of a survey; a secret that a live system repeats is masked, and what a terminal acts on is escaped."""
    return json_line(redacted(data.decode()).encode() if holds_secret(data) else data)

"""What grows with an estate, as columns: the form that a described estate and a large survey have in common."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from enthesis.files.conditions import ConditionsShape
from enthesis.files.sections import FREE_CLAIMS, SECTIONS
from enthesis.files.shapes import MISSING, Notes, duration_from, time_from
from enthesis.model import estate as m
from enthesis.model.conditions import Conditions, Glob
from enthesis.model.errors import InnerError
from enthesis.model.estate import Estate, boundary_of
from enthesis.model.mistakes import Source
from enthesis.model.words import SHOWN_IN
from enthesis.surveys.survey import tree_of

Raw = Conditions | Mapping[str, Any]
"""Conditions, or the plain data of them that is read when it is first needed."""


class InvalidRecord(InnerError, ValueError):
    """A record of a survey or of a generated estate is not one of its section; carries the number of its line."""

    inner_code = "record-invalid"


@dataclass(slots=True)
class Tables:
    """Columns of one estate; position n of every column of a section belongs together. Times in seconds since 1970.

    `head` has everything that stays small. `labels`, `disabled`, `tied` and what resources have of their own are kept
    only for the places that have any.
    """

    head: Estate
    identities: list[str] = field(default_factory=list)
    kinds: list[str] = field(default_factory=list)
    resources: list[str] = field(default_factory=list)
    labels: dict[str, Mapping[str, str]] = field(default_factory=dict)
    disabled: set[str] = field(default_factory=set)
    tied: dict[str, str] = field(default_factory=dict)
    encrypted_by: dict[str, str] = field(default_factory=dict)
    by_provider: set[str] = field(default_factory=set)
    runs_as: dict[str, tuple[str, ...]] = field(default_factory=dict)
    trust_of: list[str] = field(default_factory=list)
    trust_form: list[str] = field(default_factory=list)
    trust_whom: list[str | Glob | bool] = field(default_factory=list)
    trust_shown: dict[int, Raw] = field(default_factory=dict)
    trust_when: dict[int, Raw] = field(default_factory=dict)
    trust_session: list[float] = field(default_factory=list)
    trust_until: dict[int, float] = field(default_factory=dict)
    grant_to: list[str] = field(default_factory=list)
    grant_role: list[str] = field(default_factory=list)
    grant_at: list[str] = field(default_factory=list)
    grant_holder: list[str] = field(default_factory=list)
    grant_when: dict[int, Raw] = field(default_factory=dict)
    grant_until: dict[int, float] = field(default_factory=dict)
    lines: dict[str, list[int]] = field(default_factory=dict)
    file: str = ""

    def trust(self, number: int) -> m.Trust:
        """The statement at a position, as the model has it."""
        if self.head.trusts:
            return self.head.trusts[number]
        shown = read_conditions(self.trust_shown.get(number, ()), free=True)
        admits = m.Admission(self.trust_form[number], self.trust_whom[number], shown)
        when = read_conditions(self.trust_when.get(number, ()))
        return m.Trust(self.trust_of[number], admits, when=when, source=self._line("trusts", number))

    def grant(self, number: int) -> m.Grant:
        """The statement at a position, as the model has it."""
        if self.head.grants:
            return self.head.grants[number]
        when = read_conditions(self.grant_when.get(number, ()))
        return m.Grant(
            self.grant_to[number],
            self.grant_role[number],
            self.grant_at[number],
            held_by=self.grant_holder[number],
            when=when,
            source=self._line("grants", number),
        )

    def with_more(self, identities: Mapping[str, str], tied: Mapping[str, str], resources: Iterable[str]) -> "Tables":
        """The same with further identities (address to kind), what they are tied to, and further resources."""
        return replace(
            self,
            identities=[*self.identities, *identities],
            kinds=[*self.kinds, *identities.values()],
            resources=[*self.resources, *resources],
            tied={**self.tied, **tied},
        )

    def _line(self, section: str, number: int) -> Source:
        lines = self.lines.get(section)
        return Source(self.file, lines[number], 1) if lines else m.NOWHERE


def read_conditions(raw: Raw, *, free: bool = False) -> Conditions:
    """Conditions from whichever form a column keeps them in; InvalidRecord where they are none."""
    if isinstance(raw, tuple):
        return raw
    notes = Notes("")
    read = (FREE_CLAIMS if free else ConditionsShape()).read(tree_of(raw), notes)
    if read is MISSING:
        raise InvalidRecord(notes.mistakes[0].message)
    found: Conditions = read
    return found


def tables_of(estate: Estate) -> Tables:
    """The columns of a described estate."""
    tables = Tables(estate)
    for address, identity in estate.identities.items():
        tables.identities.append(address)
        tables.kinds.append(identity.kind)
        _identity(tables, address, identity.labels, identity.disabled, identity.tied_to)
    for address, resource in estate.resources.items():
        tables.resources.append(address)
        _resource(tables, address, resource.labels, resource.encrypted_by, resource.managed_by, resource.runs_as)
    for number, trust in enumerate(estate.trusts):
        tables.trust_of.append(trust.of)
        tables.trust_form.append(trust.admits.form)
        tables.trust_whom.append(trust.admits.whom)
        tables.trust_session.append(trust.session.total_seconds())
        _sparse(tables.trust_shown, number, trust.admits.conditions)
        _sparse(tables.trust_when, number, trust.when)
        if trust.until is not None:
            tables.trust_until[number] = trust.until.timestamp()
    for number, grant in enumerate(estate.grants):
        tables.grant_to.append(grant.to)
        tables.grant_role.append(grant.role)
        tables.grant_at.append(grant.at)
        tables.grant_holder.append(estate.holder_of(grant))
        _sparse(tables.grant_when, number, grant.when)
        if grant.until is not None:
            tables.grant_until[number] = grant.until.timestamp()
    return tables


def _sparse(column: dict[int, Raw], number: int, conditions: Conditions) -> None:
    if conditions:
        column[number] = conditions


def _identity(tables: Tables, address: str, labels: Any, disabled: Any, tied_to: Any) -> None:
    if labels:
        tables.labels[address] = labels
    if disabled:
        tables.disabled.add(address)
    if tied_to is not None:
        tables.tied[address] = tied_to


def _resource(tables: Tables, address: str, labels: Any, encrypted_by: Any, managed_by: Any, runs_as: Any) -> None:
    if labels:
        tables.labels[address] = labels
    if encrypted_by is not None:
        tables.encrypted_by[address] = encrypted_by
    if managed_by == "provider":
        tables.by_provider.add(address)
    if runs_as:
        tables.runs_as[address] = (runs_as,) if isinstance(runs_as, str) else tuple(runs_as)


# -- records: one JSON object a statement ---------------------------------------------------------------------------


def tables_from(records: Iterable[Mapping[str, Any]], head: Estate, *, file: str = "") -> Tables:
    """The columns of an estate given as records, one a statement, in any order; `head` gives the catalogue and name.

    A record is an entry of its section as it stands in a file, with `section`, and `name` or `address` where the
    section has names. Each is looked at once; nothing is kept of it but its columns. InvalidRecord says which line
    is no such record. That the names in it are known is not checked here: what is unknown refuses at *names*.
    """
    tables = Tables(replace(head, trusts=(), grants=()), file=file)
    small: dict[str, dict[str, Any]] = {}
    lists: dict[str, list[Any]] = {}
    add = {
        "identities": _add_identity,
        "resources": _add_resource,
        "trusts": _add_trust,
        "grants": _add_grant,
    }
    lines: dict[str, list[int]] = {"trusts": [], "grants": []}
    for number, record in enumerate(records, 1):
        try:
            section = record["section"]
            adder = add.get(section)
            if adder is not None:
                adder(tables, record)
                if section in lines:
                    lines[section].append(number)
            else:
                _small(section, record, number, file, small, lists)
        except (KeyError, TypeError, AttributeError, ValueError) as fault:
            raise InvalidRecord(f"{file}:{number}: this record is not understood ({fault})") from fault
    tables.lines = lines
    kinds = small.get("kinds", {})
    catalogue = head.catalogue.extended(kinds.values())
    more: dict[str, Any] = {name: {**getattr(head, name), **found} for name, found in small.items()}
    more |= {name: (*getattr(head, name), *found) for name, found in lists.items()}
    tables.head = replace(tables.head, catalogue=catalogue, **more)
    return tables


def _add_identity(tables: Tables, record: Mapping[str, Any]) -> None:
    address = record["address"]
    tables.identities.append(address)
    tables.kinds.append(record["kind"])
    if len(record) > 3:
        _identity(tables, address, record.get("labels"), record.get("disabled"), record.get("tied_to"))


def _add_resource(tables: Tables, record: Mapping[str, Any]) -> None:
    address = record["address"]
    tables.resources.append(address)
    if len(record) > 2:
        get = record.get
        _resource(tables, address, get("labels"), get("encrypted_by"), get("managed_by"), get("runs_as"))


def _add_trust(tables: Tables, record: Mapping[str, Any]) -> None:
    number = len(tables.trust_of)
    admits = record["admits"]
    tables.trust_of.append(record["of"])
    for form, whom in admits.items():
        if form not in SHOWN_IN.values():
            tables.trust_form.append(form)
            tables.trust_whom.append(Glob(whom["glob"]) if isinstance(whom, dict) else whom)
            shown = SHOWN_IN.get(form)
            if shown in admits:
                found = admits[shown]
                tables.trust_shown[number] = {"subject": found} if shown == "subject" else found
            break
    else:
        raise ValueError("it admits nobody")
    if "when" in record:
        tables.trust_when[number] = record["when"]
    session = record.get("session")
    tables.trust_session.append(3600.0 if session is None else _seconds(session))
    if "until" in record:
        tables.trust_until[number] = _instant(record["until"])


def _add_grant(tables: Tables, record: Mapping[str, Any]) -> None:
    at = record["at"]
    tables.grant_to.append(record["to"])
    tables.grant_role.append(record["role"])
    tables.grant_at.append(at)
    tables.grant_holder.append(record.get("held_by") or boundary_of(at))
    if "when" in record:
        tables.grant_when[len(tables.grant_to) - 1] = record["when"]
    if "until" in record:
        tables.grant_until[len(tables.grant_to) - 1] = _instant(record["until"])


_DURATIONS: dict[str, float] = {}


def _seconds(text: str) -> float:
    found = _DURATIONS.get(text)
    if found is None:
        read = duration_from(text)
        if read is None:
            raise ValueError(f"{text!r} is no duration")
        found = _DURATIONS[text] = read.total_seconds()
    return found


def _instant(text: str) -> float:
    read = time_from(text)
    if read is None:
        raise ValueError(f"{text!r} is no time")
    return read.timestamp()


def _small(
    section: str,
    record: Mapping[str, Any],
    number: int,
    file: str,
    named: dict[str, dict[str, Any]],
    listed: dict[str, list[Any]],
) -> None:
    known = SECTIONS.get(section)
    if known is None:
        raise ValueError(f"`{section}` is not a section")
    rest = {name: value for name, value in record.items() if name not in ("section", known.key)}
    notes = Notes(file)
    given = {known.key: record[known.key]} if known.key else {}
    value = known.record.read(tree_of(rest, number), notes, **given)
    if value is MISSING:
        raise ValueError(notes.mistakes[0].message)
    if known.key:
        named.setdefault(section, {})[record[known.key]] = value
    else:
        listed.setdefault(section, []).append(value)

"""Findings of a sweep: what is there that should not stay, and what can be reached through it."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Any

import numpy as np

from enthesis.access.arrays import Bools, Ints
from enthesis.access.compiling import NONE
from enthesis.access.many import Rows
from enthesis.access.states import YES
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains, ChainStart
from enthesis.chains.reach import reachable
from enthesis.cleaning.usage import Usage
from enthesis.files.editing import Addition, Edit, Removal, Replacement
from enthesis.model.estate import Accepted, Estate
from enthesis.model.file_errors import Source
from enthesis.model.vocabulary import Severity, VerbClass
from enthesis.surveys.survey import ASKED_NOW
from enthesis.text.times import time_text

GRAVITY = {
    VerbClass.LOOK: 1, VerbClass.READ: 2, VerbClass.WRITE: 3, VerbClass.RUN: 3, VerbClass.MANAGE: 3, VerbClass.POWER: 4
}  # fmt: skip
"""How much a verb of a class can do; `power` changes access itself."""
SEVERITIES = tuple(Severity)
MOST_FOLLOWED = 50  # identities and credentials of which all that can be reached is looked for
MOST_ROWS = 300  # requests of one of them that are decided one by one
LEADING_ON = ("take-on", "run-as", "attach")


@dataclass(frozen=True, slots=True)
class Fix:
    """One way to settle a finding. `edits` change the files; without them it is done by hand or on the live side."""

    says: str
    edits: tuple[Edit, ...] = ()


@dataclass(frozen=True, slots=True)
class Opens:
    """What can be reached through a finding: how much a verb there can do, the worst of it, and how many requests.

    `count` is None where it was not counted; `gravity` is then an upper bound. `more`: there may be more, under
    conditions that were not decided.
    """

    gravity: int = 0
    verb: str = ""
    target: str = ""
    count: int | None = 0
    more: bool = False

    @property
    def severity(self) -> Severity:
        """low: nothing, or only looking; medium: reading; high: changing something, or access."""
        return SEVERITIES[min(2, max(0, self.gravity - 1))]


@dataclass(frozen=True, slots=True)
class Finding:
    """One finding. `names` are what it is about, for accepting it; `through` whom its access can be used as: identities
    and credentials. `source` is where it stands in the files, `at` its place where it stands only on the live side."""

    code: str
    message: str
    names: tuple[str, ...]
    through: tuple[str, ...] = ()
    source: Source | None = None
    at: str = ""
    since: datetime | None = None
    owner: str = ""
    fixes: tuple[Fix, ...] = ()
    opens: Opens = Opens()
    accepted: Accepted | None = None

    @property
    def place(self) -> str:
        """Where it stands: file and line, or its live place."""
        return str(self.source) if self.source is not None else self.at


@dataclass(frozen=True, slots=True)
class Swept:
    """What a sweep found: what stands, the gravest first, and what is accepted. `not_looked_at` says what could not be
    known from what was swept; `undecided` how many chains were past the bound on work."""

    standing: tuple[Finding, ...] = ()
    accepted: tuple[Finding, ...] = ()
    not_looked_at: tuple[str, ...] = ()
    undecided: int = 0


@dataclass(frozen=True, slots=True)
class FindingBounds:
    """From when on something is told: how old a working key may be, and for how long one may go unused."""

    older_than: timedelta = timedelta(days=90)
    unused_for: timedelta = timedelta(days=90)


@dataclass(slots=True)
class Sweeping:
    """What every look shares. `knows_use`: whether a key that names no last use was never used, as a live system says;
    in files it is only unknown."""

    chains: Chains
    estate: Estate
    now: datetime
    bounds: FindingBounds
    knows_use: bool = False
    survey: str = ""  # the name of the survey that was read; what stands there is in no file of the estate
    usage: Usage | None = None
    _outside: dict[str, bool] = field(default_factory=dict)

    def is_outside(self, address: str) -> bool:
        """Whether an address is of another party; asked once an account."""
        boundary = address.split("/", 1)[0]
        found = self._outside.get(boundary)
        if found is None:
            found = self._outside[boundary] = self.estate.is_outside(address)
        return found

    def source(self, source: Source) -> Source | None:
        """Where a statement stands in a file; None for one that a live system was asked for just now."""
        return source if source.line and source.file != ASKED_NOW else None

    def changed(self, source: Source, name: str, value: object) -> tuple[Edit, ...]:
        """The edit that gives a statement's field a value; none where the statement is in no file of the estate."""
        return (Replacement.at(source, (name,), value),) if self._is_editable(source) else ()

    def removal(self, source: Source) -> tuple[Edit, ...]:
        """The edit that takes a statement out; none where it is in no file of the estate."""
        return (Removal.at(source),) if self._is_editable(source) else ()

    def addition(self, section: str, entry: dict[str, Any]) -> tuple[Edit, ...]:
        """The edit that adds a statement; none where no file of the estate was asked."""
        return () if self.survey else (Addition(section, "", entry),)

    def _is_editable(self, source: Source) -> bool:
        return bool(source.line) and source.file != self.survey


def weighed(chains: Chains, found: Sequence[Finding], step: Callable[[str], None] = lambda what: None) -> list[Finding]:
    """The findings with what can be reached through each, the gravest first.

    Of more than MOST_FOLLOWED ways in, those that can do least by an upper bound are not followed.
    """
    upper: list[int] = _upper_bounds(chains).tolist()
    names = dict.fromkeys(name for finding in found for name in finding.through)
    bound = {name: max((upper[node] for node in _nodes(chains, name)), default=0) for name in names}
    ranked = sorted((name for name, most in bound.items() if most), key=lambda name: -bound[name])
    opens: dict[str, Opens] = {}
    for number, name in enumerate(ranked):
        if number < MOST_FOLLOWED:
            step(name)
            opens[name] = _opens(chains, _starts(chains, name), bound[name])
        else:
            opens[name] = Opens(bound[name], count=None)
    out = []
    for finding in found:
        its = [opens[name] for name in finding.through if name in opens]
        out.append(replace(finding, opens=_worst(its)) if its else finding)
    return sorted(out, key=_gravest_first)


def _gravest_first(finding: Finding) -> tuple[int, int, str, str]:
    return (-finding.opens.gravity, -(finding.opens.count or 0), finding.place, finding.code)


def _worst(found: Sequence[Opens]) -> Opens:
    if not found:
        return Opens()
    top = max(found, key=lambda opens: (opens.gravity, opens.count or 0))
    counts = [opens.count for opens in found]
    more = any(opens.more for opens in found)
    return replace(top, count=None if None in counts else sum(count or 0 for count in counts), more=more)


def _nodes(chains: Chains, name: str) -> list[int]:
    """The places where chains begin that use a credential, an identity, or the members of a group or organisation."""
    estate, compiled = chains.compiled.estate, chains.compiled
    credential = estate.credentials.get(name)
    number = compiled.find(credential.of if credential is not None else name)
    if number == NONE:
        return []
    return compiled.members[number].tolist() if number in compiled.members else [number]


def _starts(chains: Chains, name: str) -> list[ChainStart]:
    """Where those chains start; none for a credential that opens nothing any more."""
    if name in chains.compiled.estate.credentials:
        found = chains.from_credential(name)
        return [found] if found is not None else []
    return [chains.from_place(node) for node in _nodes(chains, name)]


def _opens(chains: Chains, starts: Sequence[ChainStart], most: int) -> Opens:
    """What starts can reach, and the worst of it; where that is very much, what needs no condition to be met."""
    web, compiled = chains.web, chains.compiled
    every = np.ones(len(compiled.permission_pairs), bool)
    nodes = [start.node for start in starts]
    acting = np.array([verb not in LEADING_ON for _, verb in compiled.permission_pairs], bool)
    if len(_rows(web, nodes, acting, certain=False)) <= MOST_ROWS:
        found = reachable(chains, starts, every)
        done = [
            (compiled.permission[_kind(chains, access.target, access.verb), access.verb], access.target)
            for access in found
        ]
        done = [one for one in done if acting[one[0]]]
        if not done:
            return Opens()
        permission, target = max(done, key=lambda one: GRAVITY[compiled.class_of[one[0]]])
        return Opens(
            GRAVITY[compiled.class_of[permission]], compiled.permission_pairs[permission][1], target, len(done)
        )
    rows = _rows(web, nodes, acting, certain=True)
    if not len(rows):
        return Opens(most, count=None)
    gravity = np.array([GRAVITY[name] for name in compiled.class_of])[rows.permission]
    at = int(gravity.argmax())
    verb = compiled.permission_pairs[int(rows.permission[at])][1]
    each = np.unique(rows.permission * len(web.target_place) + rows.target)
    return Opens(int(gravity[at]), verb, web.target_name(int(rows.target[at])), len(each), more=True)


def _rows(web: Web, nodes: Sequence[int], wanted: Bools, *, certain: bool) -> Rows:
    """What everybody may directly do whom these can become; `certain`: without any condition."""
    reached = web.closure(nodes, certain=certain).reached[: web.places]
    rows = web.rows_of(np.flatnonzero(reached & web.compiled.is_identity), wanted)
    return rows.where(rows.state == YES) if certain else rows


def _kind(chains: Chains, target: str, verb: str) -> str:
    """The kind of what is reached, by its address; for a place without one in it, one that has the verb."""
    parts = target.split("/")
    permissions = chains.compiled.permission
    if len(parts) > 1 and (parts[-2], verb) in permissions:
        return parts[-2]
    return next(kind for kind, its in permissions if its == verb)


def _upper_bounds(chains: Chains) -> Ints:
    """By node of the web, the gravest verb that could be reached from there, whatever the conditions.

    One pass over the grants, then along the edges until nothing changes: at most as often as the longest chain.
    """
    web, compiled = chains.web, chains.compiled
    classes = zip(compiled.permission_pairs, compiled.class_of, strict=True)
    weight = np.array([0 if verb in LEADING_ON else GRAVITY[said] for (_, verb), said in classes])
    of_role = np.where(compiled.role_allows, weight, 0).max(axis=1, initial=0)
    out = np.zeros(web.nodes, np.int64)
    live = compiled.grants_in_force(web.now)
    np.maximum.at(out, compiled.grant_to[live], of_role[compiled.grant_role[live]])
    np.maximum.at(out, compiled.member, out[compiled.member_group])
    while True:
        before = out.copy()
        np.maximum.at(out, web.edge_from, before[web.edge_to])
        if (out == before).all():
            return out


def accepting(sweeping: Sweeping, found: Sequence[Finding]) -> tuple[list[Finding], list[Finding]]:
    """The findings that stand, and those that the estate accepts until a time to come."""
    lasting = {
        (acceptance.risk, acceptance.of): acceptance
        for acceptance in sweeping.estate.accepted
        if acceptance.in_force(sweeping.now)
    }
    if not lasting:
        return list(found), []
    standing: list[Finding] = []
    accepted: list[Finding] = []
    for finding in found:
        by = next((lasting[finding.code, name] for name in finding.names if (finding.code, name) in lasting), None)
        if by is None:
            standing.append(finding)
        else:
            accepted.append(replace(finding, accepted=by))
    return standing, accepted


def ended_acceptances(sweeping: Sweeping) -> list[Finding]:
    """What was accepted until a time that has passed."""
    return [
        Finding(
            "acceptance-ended",
            f"{acceptance.what} was accepted until {time_text(acceptance.until)}: {acceptance.because}",
            (acceptance.about,),
            source=acceptance.source,
            at=acceptance.about,
            since=acceptance.until,
            fixes=(
                Fix("look at it again, and write another end with a reason"),
                Fix("take the entry out", sweeping.removal(acceptance.source)),
            ),
        )
        for acceptance in sweeping.estate.accepted
        if not acceptance.in_force(sweeping.now)
    ]

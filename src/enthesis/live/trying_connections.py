"""Tries how live systems are reached: whether each answers, and what we may do there."""

import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from enthesis.live.connecting import MAX_GIVEN, Given, connect, given_by, host_copy, without_lab
from enthesis.live.connections import ListedConnection, connections
from enthesis.live.stand_ins import running
from enthesis.model.addresses import account_of
from enthesis.model.errors import EnthesisError
from enthesis.model.estate import Estate
from enthesis.model.sentences import statement_sentence
from enthesis.ports import Administered, Connected, Reporter
from enthesis.proposals.steps import MAKE, Step
from enthesis.proposals.wanted import holders, wanted

READ, CHANGED = "can be read", "may be changed as the estate wants"


@dataclass(frozen=True, slots=True)
class TriedConnection:
    """One system: what was seen that we may, what we lack for what the estate wants, and why it was not reached ('':
    it was)."""

    name: str
    may: tuple[str, ...] = ()
    lacks: tuple[str, ...] = ()
    why: str = ""

    @property
    def works(self) -> bool:
        """Whether it is reached, with all that is needed."""
        return not self.why and not self.lacks


def reached_by(estate: Estate, folder: Path) -> dict[str, str]:
    """The systems that are reached, each with how, in words: those of a lab that runs, or as the user's file says."""
    if running(folder) is not None:
        connected = connect(estate, folder)
        return dict.fromkeys(connected.administered, connected.spoke_to)
    return {one.name: f"{one.way}: {one.by}" for one in connections().for_estate(estate.name)}


def tried_connections(estate: Estate, folder: Path, reporter: Reporter) -> Iterator[TriedConnection]:
    """Tries each of them. Changes nothing."""
    known, at_lab = connections(), running(folder) is not None
    connected = connect(estate, folder) if at_lab else None
    listed = {one.name: one for one in known.for_estate(estate.name)}
    names = list(connected.administered if connected is not None else listed)
    reporter.begin("trying", len(names))
    try:
        for name in names:
            reporter.step(name)
            try:
                if connected is not None:
                    yield _administered(estate, name, connected)
                else:
                    yield _of_file(estate, listed[name], known.file)
            except EnthesisError as fault:
                yield TriedConnection(name, why=fault.message)
    finally:
        reporter.end()


def _of_file(estate: Estate, one: ListedConnection, file: Path) -> TriedConnection:
    """One that the user's file has, by itself: what is wrong with another is no matter here."""
    given = given_by(estate, [one], file, Given())
    if one.place:
        return _host(estate, one.name, one.place)
    if one.secret is not None and one.way != "administrator":
        one.secret.read(MAX_GIVEN)
        return TriedConnection(one.name, ("its secret can be read",))
    return _administered(estate, one.name, without_lab(estate, given))


def _administered(estate: Estate, name: str, connected: Connected) -> TriedConnection:
    system: Administered = connected.administered[name]
    mine = holders(estate, name) if name in estate.providers else [account_of(name) or name]
    system.survey(mine, ())
    lacks = tuple(system.lacking(_steps(estate, name)))
    return TriedConnection(name, (READ,) if lacks else (READ, CHANGED), lacks)


def _steps(estate: Estate, system: str) -> Sequence[Step]:
    """All that an estate wants of a system, as steps that would make it."""
    mine = [statement for statement in wanted(estate)[0] if statement.provider == system]
    said = [statement_sentence(its.collection, its.body) for its in mine]
    return [
        Step(MAKE, system, its.collection, its.holder, sentence, estate.name, its.body)
        for its, sentence in zip(mine, said, strict=True)
    ]


def _host(estate: Estate, name: str, place: str) -> TriedConnection:
    with tempfile.TemporaryDirectory(prefix="enthesis-host-") as into:
        copy = host_copy(estate, name, place, Path(into))
        count = sum(1 for _ in copy.records(lambda what: None))
    return TriedConnection(name, (READ,) if count else (), why="" if count else "nothing of it can be read")

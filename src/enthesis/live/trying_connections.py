"""Tries how live systems are reached: whether each answers, and what we may do there."""

import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from enthesis.live.connecting import MAX_GIVEN, Given, connect, host_copy, with_connections
from enthesis.live.connections import connections, held_in
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
    """The systems that are reached, each with how, in words: at a lab, or as the user's file says."""
    listed = {one.name: f"{one.way}: {one.by}" for one in connections().for_estate(estate.name)}
    try:
        connected = connect(estate, folder)
    except EnthesisError:
        return listed
    here = dict.fromkeys(connected.administered, connected.spoke_to)
    return here if connected.clock is not None else {**here, **listed}


def tried_connections(estate: Estate, folder: Path, reporter: Reporter) -> Iterator[TriedConnection]:
    """Tries each of them. Changes nothing."""
    names = list(reached_by(estate, folder))
    known = {one.name: one for one in connections().for_estate(estate.name)}
    given = with_connections(estate, Given())
    reporter.begin("trying", len(names))
    try:
        for name in names:
            reporter.step(name)
            try:
                connected = connect(estate, folder)
                if name in connected.administered:
                    yield _administered(estate, name, connected)
                elif name in known and known[name].place:
                    yield _host(estate, name, known[name].place)
                else:
                    held_in({**given.tokens, **given.clients}[name], MAX_GIVEN)
                    yield TriedConnection(name, ("its secret can be read",))
            except EnthesisError as fault:
                yield TriedConnection(name, why=fault.message)
    finally:
        reporter.end()


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

"""The journal of enactments: each step is written down before it is sent, and what came of it before the next."""

import json
import os
import socket
import threading
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from hashlib import sha256
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, Row, Table, bindparam, func, insert, select, update

from enthesis.model.errors import Busy, EnthesisError, InvalidInput
from enthesis.proposals.drift import LastEnacted
from enthesis.proposals.rules import ChangeRule, rule_from
from enthesis.proposals.steps import Proposal, Step, proposal_from, step_from, step_json
from enthesis.store.opening import mapped, open_store
from enthesis.store.tables import documents, enactments, leases, steps
from enthesis.text.times import time_text

WAITING, SENT, DONE, FAILED, LEFT = "waiting", "sent", "done", "failed", "left"
"""Of a step. `sent` is one of which nobody knows yet what it did; `left` one that hangs on a step that failed."""
RUNNING, FINISHED, STOPPED, UNDONE = "running", "finished", "stopped", "undone"
"""Of an enactment. `stopped` is one of which something failed, `undone` one that another has undone."""
RULE = "rule"  # what kind of document it is
LEASE = timedelta(seconds=60)  # renewed at a third of it
JUMP = timedelta(minutes=5)  # a clock that is further back than this was put back


@dataclass(frozen=True, slots=True)
class Document:
    """Something that is kept by its digest: since when, what kind of thing, and how many bytes."""

    made: str
    kind: str
    digest: str
    size: int


@dataclass(frozen=True, slots=True)
class KeptStep:
    """A step of an enactment as the journal has it. `outcome` is what the live side made of it: its id and etag."""

    position: int
    key: str
    state: str
    step: Step
    outcome: Mapping[str, Any] = field(default_factory=dict)
    said: str = ""
    sent: str | None = None
    ended: str | None = None


@dataclass(frozen=True, slots=True)
class Enactment:
    """An enactment: of which proposal, by whom and why, and how far it has come."""

    number: int
    estate: str
    proposal: str
    state: str
    begun: str
    ended: str | None
    by: str
    because: str
    undoes: tuple[int, ...]
    counts: Mapping[str, int] = field(default_factory=dict)


# made once: these run for every step
_SENDS = (
    update(steps)
    .where(steps.c.enactment == bindparam("of"), steps.c.position == bindparam("at"))
    .values(state=bindparam("now"), sent=bindparam("when"))
)
_ENDS = (
    update(steps)
    .where(steps.c.enactment == bindparam("of"), steps.c.position == bindparam("at"))
    .values(state=bindparam("now"), said=bindparam("why"), outcome=bindparam("made"), ended=bindparam("when"))
)
_HOLDS = (
    update(leases)
    .where(
        leases.c.place == bindparam("at"), leases.c.fence == bindparam("number"), leases.c.owner == bindparam("whose")
    )
    .values(ends=bindparam("until"))
)


class Journal:
    """The store of one estate. `now` is the clock; times never run backwards in it."""

    def __init__(self, engine: Engine, now: Callable[[], datetime] = lambda: datetime.now(UTC)) -> None:
        self.engine = engine
        self._now = now

    def close(self) -> None:
        """Closes the connections to the database."""
        self.engine.dispose()

    def now(self) -> datetime:
        """The time, by the clock that the journal was given."""
        return self._now()

    @contextmanager
    def _writing(self) -> Iterator[Connection]:
        with mapped(self.engine), self.engine.begin() as connection:
            yield connection

    @contextmanager
    def _reading(self) -> Iterator[Connection]:
        with mapped(self.engine), self.engine.connect() as connection:
            yield connection

    # -- documents ---------------------------------------------------------------------------------------------

    def keep(self, kind: str, estate: str, content: bytes) -> str:
        """Keeps a document under its digest, which is answered."""
        digest = f"sha-256:{sha256(content).hexdigest()}"
        with self._writing() as connection:
            if connection.execute(select(documents.c.digest).where(documents.c.digest == digest)).first() is None:
                made = time_text(self.now())
                connection.execute(
                    insert(documents).values(digest=digest, kind=kind, estate=estate, made=made, content=content)
                )
        return digest

    def document(self, digest: str) -> bytes | None:
        """A document by its digest; None where none was kept."""
        with self._reading() as connection:
            row = connection.execute(select(documents.c.content).where(documents.c.digest == digest)).first()
        return bytes(row[0]) if row else None

    def documents(self, kind: str, estate: str) -> list[tuple[str, bytes]]:
        """When each document of a kind was kept, and its content, the oldest first."""
        query = select(documents.c.made, documents.c.content).where(
            documents.c.kind == kind, documents.c.estate == estate
        )
        with self._reading() as connection:
            return [(made, bytes(content)) for made, content in connection.execute(query.order_by(documents.c.made))]

    def kept(self, estate: str, kinds: Sequence[str]) -> list[Document]:
        """The documents of these kinds that are kept for an estate, the newest first; without their contents."""
        columns = (documents.c.made, documents.c.kind, documents.c.digest, func.length(documents.c.content))
        query = select(*columns).where(documents.c.kind.in_(kinds), documents.c.estate == estate)
        with self._reading() as connection:
            return [Document(*row) for row in connection.execute(query.order_by(documents.c.made.desc()))]

    def keep_approvals(self, estate: str, number: int, people: Sequence[str]) -> None:
        """Keeps who approved an enactment."""
        self.keep("approval", estate, json.dumps({"enactment": number, "approved_by": list(people)}).encode())

    def keep_rule(self, estate: str, rule: ChangeRule) -> None:
        """Keeps the rule under which an estate's access may be changed from now on."""
        turn = len(self.documents(RULE, estate))
        content = {"estate": estate, "turn": turn, "at": time_text(self.now()), "rule": rule.as_json()}
        self.keep(RULE, estate, json.dumps(content, sort_keys=True).encode())

    def last_rule(self, estate: str) -> ChangeRule | None:
        """The rule as it was last enacted; None where none was."""
        kept = [json.loads(content) for _, content in self.documents(RULE, estate)]
        return rule_from(max(kept, key=lambda one: int(one["turn"]))["rule"]) if kept else None

    def approved_by(self, number: int) -> list[str]:
        """Who approved an enactment."""
        query = select(documents.c.content).where(documents.c.kind == "approval")
        with self._reading() as connection:
            kept = [json.loads(row.content) for row in connection.execute(query)]
        return [person for one in kept if one.get("enactment") == number for person in one["approved_by"]]

    # -- enactments --------------------------------------------------------------------------------------------

    def begin(self, proposal: Proposal, *, by: str, because: str = "", lease: "Lease | None" = None) -> int:
        """Writes down an enactment with all of its steps, and that a lease is held for it; its number."""
        content = json.dumps(replace(proposal, steps=()).as_json(), sort_keys=True).encode()
        digest = self.keep("proposal", proposal.estate, content)
        with self._writing() as connection:
            begun = self._moment(connection, proposal.estate)
            values = {"estate": proposal.estate, "proposal": digest, "state": RUNNING, "begun": begun}
            undoes = next(iter(proposal.takes_back), None)
            made = connection.execute(
                insert(enactments).values(**values, by=by, because=because, undoes=undoes)
            ).inserted_primary_key
            number = int(made[0])  # type: ignore[index]
            rows = [
                {
                    "enactment": number, "position": position, "key": str(uuid.uuid4()), "state": WAITING,
                    "step": json.dumps(step_json(step)), "outcome": "{}", "said": "",
                }
                for position, step in enumerate(proposal.steps)
            ]  # fmt: skip
            if rows:
                connection.execute(insert(steps), rows)
            if lease is not None:
                lease.of(number, connection)
        return number

    def _moment(self, connection: Connection, estate: str) -> str:
        """Now, unless the clock was put back since the last enactment: then nothing is done."""
        now = time_text(self.now())
        last = connection.execute(select(func.max(enactments.c.begun)).where(enactments.c.estate == estate)).scalar()
        if last is not None and datetime.fromisoformat(last) - self.now() > JUMP:
            raise InvalidInput(
                f"this machine's clock says {now}, and the last enactment of {estate} began at {last}: the clock was"
                " put back",
                code="clock-behind-store",
                remedy="set the clock right, then run the same again; nothing was done",
            )
        return max(now, last or "")

    def enactments(self, estate: str) -> list[Enactment]:
        """All enactments of an estate, the newest first."""
        query = select(enactments).where(enactments.c.estate == estate).order_by(enactments.c.number.desc())
        counting = (
            select(steps.c.enactment, steps.c.state, func.count())
            .join(enactments, enactments.c.number == steps.c.enactment)
            .where(enactments.c.estate == estate)
            .group_by(steps.c.enactment, steps.c.state)
        )
        with self._reading() as connection:
            counts: dict[int, dict[str, int]] = {}
            for number, state, count in connection.execute(counting):
                counts.setdefault(number, {})[state] = count
            return [
                _enactment(row, counts.get(row.number, {}), _undone_by(row, connection))
                for row in connection.execute(query).all()
            ]

    def enactment(self, estate: str, number: int) -> Enactment:
        """One enactment; InvalidInput where there is none of this number."""
        found = next((enactment for enactment in self.enactments(estate) if enactment.number == number), None)
        if found is None:
            raise InvalidInput(
                f"no enactment of {estate} has the number {number}",
                code="enactment-unknown",
                remedy="enthesis history lists them",
            )
        return found

    def unfinished(self, estate: str) -> Enactment | None:
        """The enactment that was interrupted, if one was: the newest that is running."""
        return next((enactment for enactment in self.enactments(estate) if enactment.state == RUNNING), None)

    def proposal(self, enactment: Enactment) -> Proposal:
        """The proposal of an enactment, with its steps."""
        content = self.document(enactment.proposal)
        if content is None:
            raise InvalidInput(
                f"the proposal of enactment {enactment.number} is not in the store", code="store-invalid"
            )
        proposal = proposal_from(json.loads(content), kept=True)
        return replace(proposal, steps=tuple(kept.step for kept in self.steps(enactment.number)))

    def steps(self, number: int) -> list[KeptStep]:
        """The steps of an enactment in their order."""
        query = select(steps).where(steps.c.enactment == number).order_by(steps.c.position)
        with self._reading() as connection:
            return [_kept(row) for row in connection.execute(query)]

    def left(self, estate: str) -> dict[tuple[str, str], LastEnacted]:
        """Every statement that enactments made or changed and did not remove, by system and id, as they left it."""
        query = (
            select(steps)
            .join(enactments, enactments.c.number == steps.c.enactment)
            .where(enactments.c.estate == estate, steps.c.state == DONE)
            .order_by(steps.c.enactment, steps.c.ended)
        )
        with self._reading() as connection:
            kept = [_kept(row) for row in connection.execute(query)]
        out: dict[tuple[str, str], LastEnacted] = {}
        for kept_step in kept:
            identifier = str(kept_step.outcome.get("id") or kept_step.step.id)
            if kept_step.step.body is None:
                out.pop((kept_step.step.provider, identifier), None)
            else:
                out[kept_step.step.provider, identifier] = LastEnacted(
                    kept_step.step,
                    str(kept_step.outcome.get("etag")),
                    kept_step.ended or "",
                    str(kept_step.outcome.get("side", "")),
                )
        return out

    def finish(self, number: int, state: str) -> None:
        """Writes down that an enactment is over."""
        with self._writing() as connection:
            found = select(enactments).where(enactments.c.number == number)
            row = connection.execute(found).one()
            ended = max(time_text(self.now()), row.begun)
            connection.execute(update(enactments).where(enactments.c.number == number).values(state=state, ended=ended))
            if state == FINISHED and (undone := _undone_by(row, connection)):
                connection.execute(
                    update(enactments).where(enactments.c.number.in_(undone)).values(state=UNDONE, ended=ended)
                )

    # -- leases ------------------------------------------------------------------------------------------------

    def fences(self) -> dict[str, int]:
        """The fencing numbers by now: one that is more than one higher at the next lease says that a person has enacted
        there meanwhile. Where a person does just now, that counts as later."""
        with self._reading() as connection:
            rows = connection.execute(select(leases)).all()
        return {row.place: row.fence - (row.owner not in ("", _me()) and self._holds(row)) for row in rows}

    def is_under_way(self, number: int) -> bool:
        """Whether a person carries out an enactment now: one that is running and held by nobody was interrupted."""
        with self._reading() as connection:
            rows = connection.execute(select(leases).where(leases.c.enactment == number)).all()
        return any(row.owner != "" and self._holds(row) for row in rows)

    def lease(self, places: Sequence[str], number: int | None) -> "Lease":
        """The right to be the only one who enacts at some places; Busy where another person has it.

        Its fencing number grows with every holder, so that one who comes back late is told from the present one.
        """
        owner = _me()
        with self._writing() as connection:
            fences: dict[str, int] = {}
            for place in sorted(set(places)):
                _lock(connection, leases)
                row = connection.execute(select(leases).where(leases.c.place == place)).first()
                if row is not None and row.owner not in ("", owner) and self._holds(row):
                    words = row.owner.split(" ")
                    raise Busy(
                        f"another enactment is running at {place}: process {words[1]} on {words[0]}",
                        code="lease-held",
                        remedy="wait for it with --wait 10m, or run the same again later",
                    )
                fences[place] = (row.fence if row is not None else 0) + 1
                values = {"fence": fences[place], "owner": owner, "enactment": number}
                values["ends"] = (self.now() + LEASE).timestamp()
                if row is None:
                    connection.execute(insert(leases).values(place=place, **values))
                else:
                    connection.execute(update(leases).where(leases.c.place == place).values(**values))
        return Lease(self, owner, fences)

    def _holds(self, row: Row[Any]) -> bool:
        """Whether the holder of a lease has it still: until it ends, or its process on this machine has ended."""
        here, _, process = row.owner.partition(" ")
        if here == socket.gethostname() and process and not _runs(process):
            return False
        return bool(row.ends > self.now().timestamp())

    # -- steps as they are done --------------------------------------------------------------------------------

    def writer(self, number: int, lease: "Lease") -> "Writer":
        """What writes down the steps of one enactment while it runs."""
        return Writer(self, number, lease)


@dataclass
class Lease:
    """The right to be the only one who enacts at some places, by their fencing numbers."""

    journal: Journal
    owner: str
    fences: Mapping[str, int]

    def of(self, number: int, connection: Connection) -> None:
        """Says for which enactment it is held."""
        for place, fence in self.fences.items():
            held = (leases.c.place == place) & (leases.c.fence == fence) & (leases.c.owner == self.owner)
            connection.execute(update(leases).where(held).values(enactment=number))

    def renew(self, connection: Connection) -> None:
        """Continues holding it; Busy where another person has taken it meanwhile."""
        ends = (self.journal.now() + LEASE).timestamp()
        for place, fence in self.fences.items():
            held = {"at": place, "number": fence, "whose": self.owner, "until": ends}
            if connection.execute(_HOLDS, held).rowcount != 1:
                raise Busy(
                    f"another enactment took over at {place}, since this one did not report for too long",
                    code="lease-held",
                    remedy="enthesis propose, and read what is different now",
                )

    def release(self) -> None:
        """Lets others work there."""
        with self.journal._writing() as connection:
            for place, fence in self.fences.items():
                held = (leases.c.place == place) & (leases.c.fence == fence) & (leases.c.owner == self.owner)
                connection.execute(update(leases).where(held).values(owner="", enactment=None))


class Writer:
    """Writes down steps as they are sent and ended, from many threads, several in one transaction.

    A call returns when what it says is on disk. Each transaction renews the lease, so that nothing is sent by a person
    who has lost it.
    """

    def __init__(self, journal: Journal, number: int, lease: Lease) -> None:
        self._journal = journal
        self._number = number
        self._lease = lease
        self._queue: list[tuple[dict[str, Any], threading.Event]] = []
        self._guard, self._turn = threading.Lock(), threading.Lock()
        self._fault: EnthesisError | None = None

    def sent(self, position: int) -> None:
        """Before a step is sent."""
        self._write({"at": position, "now": SENT, "when": time_text(self._journal.now())})

    def ended(self, position: int, state: str, said: str = "", outcome: Mapping[str, Any] | None = None) -> None:
        """After it was answered, or was found out."""
        values: dict[str, Any] = {"at": position, "now": state, "why": said, "made": json.dumps(outcome or {})}
        self._write({**values, "when": time_text(self._journal.now())})

    def _write(self, values: dict[str, Any]) -> None:
        written = threading.Event()
        with self._guard:
            self._queue.append((values, written))
        with self._turn:  # the first to get here writes for all who wait
            if not written.is_set():
                self._flush()
        if self._fault is not None:
            raise self._fault

    def _flush(self) -> None:
        with self._guard:
            waiting, self._queue = self._queue, []
        try:
            with self._journal._writing() as connection:
                self._lease.renew(connection)
                for update_of, ended in ((_SENDS, False), (_ENDS, True)):
                    rows = [{**values, "of": self._number} for values, _ in waiting if ("why" in values) is ended]
                    if rows:
                        connection.execute(update_of, rows)
        except EnthesisError as fault:
            self._fault = fault
        finally:
            for _, written in waiting:
                written.set()


def journal_of(folder: Path, url: str | None) -> Journal:
    """The journal of the estate in a folder, or of a database that a team shares."""
    return Journal(open_store(folder, url))


def _lock(connection: Connection, table: Table) -> None:
    """Keeps others from a table until the transaction ends; a SQLite file is locked as it is."""
    if connection.dialect.name == "postgresql":
        connection.exec_driver_sql(f"LOCK TABLE {table.name} IN EXCLUSIVE MODE")


def _me() -> str:
    """This process, as no other is called: its machine, its number and when it began."""
    return f"{socket.gethostname()} {os.getpid()} {_began(os.getpid())}"


def _runs(process: str) -> bool:
    """Whether a process of this machine still runs, by its number and when it began."""
    number, _, began = process.partition(" ")
    return number.isdigit() and _began(int(number)) == began != ""


def _began(number: int) -> str:
    """When a process began, as the kernel counts; '' where there is none, `?` where the machine does not show it."""
    if not Path("/proc/self/stat").exists():
        try:
            os.kill(number, 0)
        except OSError:
            return ""
        return "?"
    try:
        return (Path("/proc") / str(number) / "stat").read_text().rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""


def _enactment(row: Row[Any], counts: Mapping[str, int], undoes: tuple[int, ...]) -> Enactment:
    return Enactment(
        row.number, row.estate, row.proposal, row.state, row.begun, row.ended, row.by, row.because, undoes, counts
    )


def _undone_by(row: Row[Any], connection: Connection) -> tuple[int, ...]:
    """The enactments that one takes back; its row has the first, its proposal all."""
    if row.undoes is None:
        return ()
    content = connection.execute(select(documents.c.content).where(documents.c.digest == row.proposal)).scalar()
    named = json.loads(content).get("takes_back", ()) if content is not None else ()
    return tuple(named) or (row.undoes,)


def _kept(row: Row[Any]) -> KeptStep:
    step = step_from(json.loads(row.step))
    return KeptStep(row.position, row.key, row.state, step, json.loads(row.outcome), row.said, row.sent, row.ended)

"""Carries the steps of a proposal out: each written down first, several at once, stage after stage; or continues.

What an answer that was lost had done is found out by asking again under the same key, never assumed.
"""

import json
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import asdict, dataclass, replace
from queue import SimpleQueue
from threading import BoundedSemaphore, Event, Lock

from tenacity import RetryError, Retrying, retry_if_result, stop_after_delay, wait_exponential, wait_random

from enthesis.model.errors import Busy, InvalidInput, LiveFailure, MovedAway, RightMissing, Unreachable
from enthesis.model.sentences import statement_sentence
from enthesis.ports import Administered, Changed, Connected, Reporter
from enthesis.proposals.approving import contradictions
from enthesis.proposals.ordering import needs_of
from enthesis.proposals.steps import CHANGE, MAKE, NOT_UNDONE, REMOVE, Proposal, Step
from enthesis.store.journal import (
    DONE,
    FAILED,
    FINISHED,
    LEFT,
    SENT,
    STOPPED,
    WAITING,
    Enactment,
    Journal,
    KeptStep,
    Lease,
    Writer,
)
from enthesis.surveys.statements import LiveObject, Surveyed, merged_ids, normalised, statement_key

AT_ONCE = 8  # steps at one account
PATIENCE = 120.0  # seconds until what was written is taken to be slow for good
FIRST_LOOK, LONGEST_LOOK = 0.05, 2.0  # seconds between two looks


@dataclass(frozen=True, slots=True)
class Ended:
    """What came of one step. `said` is why it is not done."""

    step: Step
    state: str
    said: str = ""


@dataclass(frozen=True, slots=True)
class Enacted:
    """What came of an enactment: its number, and of each step."""

    number: int
    steps: tuple[Ended, ...] = ()
    found_done: tuple[str, ...] = ()
    late: tuple[str, ...] = ()  # written, and not in force when we stopped waiting
    interrupted: bool = False

    def of(self, *states: str) -> tuple[Ended, ...]:
        """The steps in one of these states."""
        return tuple(step for step in self.steps if step.state in states)

    @property
    def left(self) -> tuple[Step, ...]:
        """The steps that are not done."""
        return tuple(ended.step for ended in self.steps if ended.state != DONE)

    @property
    def whole(self) -> bool:
        """Whether every step is done and in force."""
        return not self.late and not self.interrupted and all(step.state == DONE for step in self.steps)


@dataclass(frozen=True, slots=True)
class EnactOptions:
    """How the steps are sent: so many at once at one account, and how long what was written is waited for."""

    still_safe: Callable[[Sequence[Step], Sequence[Step]], bool]
    """Whether steps may still be done where others of the proposal were not."""
    at_once: int = AT_ONCE
    patience: float = PATIENCE


@dataclass(frozen=True, slots=True)
class Why:
    """By whom, and why, something is enacted, and who approved it."""

    by: str
    because: str = ""
    approved_by: tuple[str, ...] = ()


def enact(
    proposal: Proposal, surveys: Sequence[Surveyed], connected: Connected, journal: Journal, reporter: Reporter,
    why: Why, how: EnactOptions, fences: Mapping[str, int] | None = None,
) -> Enacted:  # fmt: skip
    """Carries out a proposal that was made from these surveys. `fences` are those of before the surveys: Busy where
    a person has enacted at the same accounts since, or does so now.
    """
    _refuse_if_rights_lack(proposal.steps, connected)
    if not proposal.steps:
        return Enacted(0)
    lease = journal.lease([_place(step) for step in proposal.steps], None)
    try:
        if fences is not None and any(fence > fences.get(place, 0) + 1 for place, fence in lease.fences.items()):
            raise Busy(
                "the same accounts were changed by another enactment since they were surveyed",
                code="lease-held",
                remedy="run the same again; with --wait 10m that is done by itself",
            )
        number = journal.begin(proposal, by=why.by, because=why.because, lease=lease)
        if why.approved_by:
            journal.keep_approvals(proposal.estate, number, why.approved_by)
        return _carry_out(journal, number, lease, surveys, connected, reporter, how)
    finally:
        lease.release()


def resume(
    enactment: Enactment, surveys: Sequence[Surveyed], connected: Connected, journal: Journal, reporter: Reporter, *,
    how: EnactOptions, only_sent: bool = False,
) -> Enacted:  # fmt: skip
    """Continues with an enactment that was interrupted; `only_sent`: finds out what the steps did that were sent, and
    does no other."""
    kept = journal.steps(enactment.number)
    lease = journal.lease([_place(each.step) for each in kept], enactment.number)
    try:
        return _carry_out(journal, enactment.number, lease, surveys, connected, reporter, how, only_sent=only_sent)
    finally:
        lease.release()


def _carry_out(
    journal: Journal, number: int, lease: Lease, surveys: Sequence[Surveyed], connected: Connected,
    reporter: Reporter, how: EnactOptions, *, only_sent: bool = False,
) -> Enacted:  # fmt: skip
    kept = journal.steps(number)
    work = _EnactRun(kept, connected, merged_ids(surveys), journal.writer(number, lease), reporter, how)
    work.sides = {surveyed.provider: surveyed.side for surveyed in surveys}
    reporter.begin("enacting", sum(kept_step.state != DONE for kept_step in kept))
    try:
        late, interrupted = work.run(only_sent=only_sent)
    finally:
        reporter.end()
    ended = tuple(
        Ended(kept_step.step, work.states[kept_step.position], work.said.get(kept_step.position, ""))
        for kept_step in kept
    )
    enacted = Enacted(number, ended, late=late, interrupted=interrupted)
    if enacted.whole:
        journal.finish(number, FINISHED)
    elif not only_sent and not late and not interrupted and not enacted.of(SENT, WAITING):
        journal.finish(number, STOPPED)  # what failed fails again: it is for a new proposal
    return enacted


def _refuse_if_rights_lack(steps: Sequence[Step], connected: Connected) -> None:
    """RightMissing, before the first step, where we may not do all of them."""
    by_system: dict[str, list[Step]] = {}
    for step in steps:
        _port(connected, step)
        by_system.setdefault(step.provider, []).append(step)
    lacking = [said for its in by_system.values() for said in _port(connected, its[0]).lacking(its)]
    if lacking:
        raise RightMissing(
            f"nothing was done, since a right is missing for it: {'; '.join(lacking[:5])}",
            code="right-missing",
            remedy="enthesis propose --rights lists them; while a lab runs, enthesis lab start renews its sessions",
        )


class _EnactRun:
    """The steps of one enactment while they are carried out."""

    def __init__(
        self, kept: Sequence[KeptStep], connected: Connected, ids: dict[str, str], writer: Writer, reporter: Reporter,
        how: EnactOptions,
    ) -> None:  # fmt: skip
        self.kept = kept
        self.connected = connected
        self.ids = ids
        self.writer = writer
        self.reporter = reporter
        self.how = how
        self.sides: dict[str, str] = {}  # which live side each system is
        self.needs = needs_of([kept_step.step for kept_step in kept])
        self.states = {
            kept_step.position: kept_step.state if kept_step.state in (DONE, SENT) else WAITING for kept_step in kept
        }
        self.said: dict[int, str] = {}
        self.changed: dict[int, Changed] = {}
        self._etags: dict[tuple[str, str], str] = {}
        self._guard = Lock()
        self._stop = Event()
        self._at: dict[str, BoundedSemaphore] = {}
        for kept_step in kept:
            self._at.setdefault(_place(kept_step.step), BoundedSemaphore(how.at_once))
            if kept_step.state == DONE:
                self._learn(kept_step)

    def _learn(self, kept_step: KeptStep) -> None:
        """What an earlier run made has an id and a version by now."""
        made = Changed(kept_step.outcome.get("id"), kept_step.outcome.get("etag"), in_force=False)
        self.changed[kept_step.position] = made
        _port(self.connected, kept_step.step).learn(kept_step.step, made, self.ids)
        self._note_etag(kept_step.step, made)

    def _note_etag(self, step: Step, made: Changed) -> None:
        identifier = made.id or step.id
        if identifier and made.etag:
            with self._guard:
                self._etags[step.provider, identifier] = made.etag

    def run(self, *, only_sent: bool) -> tuple[tuple[str, ...], bool]:
        """All stages; the sentences of what was written and is not in force, and whether it was interrupted."""
        stages = sorted({kept_step.step.stage for kept_step in self.kept})
        try:
            for stage in stages:
                mine = [kept_step for kept_step in self.kept if kept_step.step.stage == stage]
                coming = [kept_step for kept_step in mine if self.states[kept_step.position] != DONE]
                if only_sent:
                    coming = [kept_step for kept_step in coming if self.states[kept_step.position] == SENT]
                elif coming and not self._known_before(stage):
                    return (), False
                elif coming and not self._may_go_on(stage):
                    for kept_step in coming:
                        self._end(kept_step.position, LEFT, "not done, since an earlier step is not done")
                    continue
                if not self._stage(coming):
                    return (), False
                if not only_sent and (late := self._late(mine)):
                    return late, False
        except KeyboardInterrupt:
            return (), True
        return (), False

    def _known_before(self, stage: int) -> bool:
        """Whether it is known what came of every step of the stages before."""
        before = (kept_step.position for kept_step in self.kept if kept_step.step.stage < stage)
        return not any(self.states[position] in (SENT, WAITING) for position in before)

    def _may_go_on(self, stage: int) -> bool:
        """Whether this stage may be done though steps of earlier ones were not."""
        before = [kept_step for kept_step in self.kept if kept_step.step.stage < stage]
        if all(self.states[kept_step.position] == DONE for kept_step in before):
            return True
        done = [kept_step.step for kept_step in self.kept if self.states[kept_step.position] == DONE]
        coming = [kept_step.step for kept_step in self.kept if kept_step.step.stage == stage]
        return self.how.still_safe(done, coming)

    def _stage(self, coming: Sequence[KeptStep]) -> bool:
        """The steps of one stage, each as soon as what it needs is done; whether all were tried."""
        waiting = {kept_step.position: kept_step for kept_step in coming}
        needs = {at: {need for need in self.needs[at] if need in waiting} for at in waiting}
        after: dict[int, list[int]] = {}
        for at, its in needs.items():
            for need in its:
                after.setdefault(need, []).append(at)
        finished: SimpleQueue[tuple[int, Future[None]]] = SimpleQueue()
        running = 0
        with ThreadPoolExecutor(max_workers=min(64, self.how.at_once * len(self._at))) as pool:

            def begin(at: int) -> None:
                nonlocal running
                running += 1
                future = pool.submit(self._one, waiting.pop(at))
                future.add_done_callback(lambda done: finished.put((at, done)))

            def left_out(at: int) -> None:
                if waiting.pop(at, None) is not None:
                    self._end(at, LEFT, "left, since what it needs is not done")
                    for number in after.get(at, ()):
                        left_out(number)

            try:
                for at in list(waiting):
                    if any(self.states[need] in (FAILED, LEFT) for need in self.needs[at]):
                        left_out(at)
                for at in [at for at in waiting if not needs[at]]:
                    begin(at)
                while running:
                    ended, future = finished.get()
                    running -= 1
                    future.result()
                    for at in after.get(ended, ()):
                        if self.states[ended] == FAILED:
                            left_out(at)
                        elif self.states[ended] == DONE:
                            needs[at].discard(ended)
                            if not needs[at] and at in waiting and not self._stop.is_set():
                                begin(at)
            except KeyboardInterrupt:
                self._stop.set()  # what is under way ends first, as the pool is left
                raise
        return not waiting and not self._stop.is_set()  # what waits, waits for a step of which nobody knows what it did

    def _one(self, kept_step: KeptStep) -> None:
        """One step: written down, sent, and its outcome written down."""
        step = self._present(kept_step.step)
        with self._at[_place(step)]:
            if self._stop.is_set():
                return
            try:
                if self.states[kept_step.position] != SENT:
                    self.writer.sent(kept_step.position)
                    self.states[kept_step.position] = SENT
                self.reporter.step(step.sentence)
                changed = self._sent(step, kept_step)
            except Unreachable as fault:  # it may have been done: it stays `sent`
                self.said[kept_step.position] = fault.message
                self._stop_at(fault)
                return
            except Busy:
                raise
            except (LiveFailure, MovedAway, InvalidInput) as fault:
                self._end(kept_step.position, FAILED, fault.message)
                return
        with self._guard:
            self.changed[kept_step.position] = changed
        self._note_etag(step, changed)
        self.states[kept_step.position] = DONE
        outcome = {"id": changed.id, "etag": changed.etag, "side": self.sides.get(step.provider, "")}
        self.writer.ended(kept_step.position, DONE, outcome=outcome)

    def _stop_at(self, fault: Unreachable) -> None:
        """Stops where a system cannot be reached at all; what others do continues."""
        if fault.code in ("not-https", "url-invalid"):
            self._stop.set()

    def _present(self, step: Step) -> Step:
        """A step for the version of its statement that an earlier step of this enactment made."""
        with self._guard:
            etag = self._etags.get((step.provider, step.id or ""), step.etag)
        return replace(step, etag=etag)

    def _sent(self, step: Step, kept_step: KeptStep) -> Changed:
        """What a live system makes of a step. Where it does not know yet what an earlier step made, that is waited for:
        this tells slow from wrong."""
        port = _port(self.connected, step)
        try:
            return port.change(step, self.ids, kept_step.key)
        except (LiveFailure, MovedAway):
            needs = [need for need in self.needs[kept_step.position] if not self.changed.get(need, IN_FORCE).in_force]
            if not needs or self._late([self.kept[need] for need in needs]):
                raise
            return port.change(step, self.ids, kept_step.key)

    def _late(self, written: Iterable[KeptStep]) -> tuple[str, ...]:
        """Waits until what was written is in force; the sentences of what is not when patience ends."""
        waiting = [kept_step for kept_step in written if not self.changed.get(kept_step.position, IN_FORCE).in_force]
        if not waiting:
            return ()

        def look() -> list[KeptStep]:
            with ThreadPoolExecutor(self.how.at_once) as pool:
                seen = list(pool.map(self._is_in_force, waiting))
            for kept_step in [one for one, done in zip(waiting, seen, strict=True) if done]:
                waiting.remove(kept_step)
                with self._guard:
                    self.changed[kept_step.position] = replace(self.changed[kept_step.position], in_force=True)
            return waiting

        self.reporter.step(f"waiting for {waiting[0].step.sentence} to take effect")
        again = Retrying(
            retry=retry_if_result(bool),
            wait=wait_exponential(multiplier=FIRST_LOOK, max=LONGEST_LOOK) + wait_random(0, FIRST_LOOK),
            stop=stop_after_delay(self.how.patience),
            sleep=time.sleep,
        )
        try:
            again(look)
        except RetryError:
            pass
        except Unreachable as fault:
            return (*(kept_step.step.sentence for kept_step in waiting), fault.message)
        return tuple(kept_step.step.sentence for kept_step in waiting)

    def _is_in_force(self, kept_step: KeptStep) -> bool:
        return _port(self.connected, kept_step.step).in_force(kept_step.step, self.changed[kept_step.position])

    def _end(self, position: int, state: str, said: str) -> None:
        self.states[position] = state
        self.said[position] = said
        self.writer.ended(position, state, said)


IN_FORCE = Changed(None, None, in_force=True)


def _port(connected: Connected, step: Step) -> Administered:
    """The live system that a step is for."""
    found = connected.administered.get(step.provider)
    if found is None:
        raise InvalidInput(
            f"unknown provider in the proposal: {step.provider} (expected one of the estate)", code="proposal-invalid"
        )
    return found


def _place(step: Step) -> str:
    """Where only one enacts at a time: an account or organisation at a live system."""
    return f"{step.provider} {step.holder.split('/', 1)[0]}"


# -- undone ---------------------------------------------------------------------------------------------------------


def undoing(estate: str, numbers: Sequence[int], kept: Sequence[KeptStep], surveys: Sequence[Surveyed]) -> Proposal:
    """The proposal that takes enactments back: what their steps did, in their order, the other way round, with one step
    for each statement.

    MovedAway where a statement is not as they left it: a person has changed it since. Keyed credentials that were
    revoked and sessions that were ended stay so.
    """
    by_statement: dict[tuple[str, ...], list[KeptStep]] = {}
    for each in kept:
        if each.state == DONE and each.step.collection not in NOT_UNDONE:
            by_statement.setdefault(_statement(each.step), []).append(each)
    live = {(surveyed.provider, each.id): each for surveyed in surveys for each in surveyed.objects}
    moved = []
    steps: list[Step] = []
    for first, last in reversed([(its[0], its[-1]) for its in by_statement.values()]):
        found = live.get((last.step.provider, _id_of(last)))
        if last.step.action != REMOVE and (found is None or found.etag != last.outcome.get("etag")):
            moved.append(last.step.sentence)
            continue
        steps += _inverse(first.step, last)
    if moved:
        said = f"enactment {numbers[0]}" if len(numbers) == 1 else f"enactments {', '.join(map(str, numbers))}"
        raise MovedAway(
            f"{said} cannot be undone, since this was changed after {'it' if len(numbers) == 1 else 'them'}: "
            f"{'; '.join(moved[:5])}",
            code="live-side-changed",
            remedy="enthesis propose, and read what is different now",
        )
    seen = {surveyed.provider: surveyed.seen() for surveyed in surveys}
    return Proposal(estate, tuple(steps), seen=seen, takes_back=tuple(numbers))


def _statement(step: Step) -> tuple[str, ...]:
    """Which statement a step is about."""
    return step.provider, step.holder, step.collection, statement_key(step.collection, step.body or step.before or {})


def _id_of(each: KeptStep) -> str:
    return str(each.outcome.get("id") or each.step.id)


def _inverse(first: Step, last: KeptStep) -> Iterator[Step]:
    """The step from how the last of several at a statement left it to how the first found it; none where that is the
    same."""
    step, etag = last.step, last.outcome.get("etag")
    before, body = first.before, step.body
    sentence = statement_sentence(step.collection, before or body or {})
    back = replace(step, body=before, before=body, id=_id_of(last), etag=etag, sentence=sentence, stage=0)
    if before is None and body is not None:
        yield replace(back, action=REMOVE)
    elif before is not None and body is None:
        yield replace(back, action=MAKE, id=None, etag=None)
    elif before != body:
        yield replace(back, action=CHANGE, sentence=f"{sentence}: as it was before")


# -- a proposal and the live side by now ----------------------------------------------------------------------------


def refuse_if_different(read: Proposal, made: Proposal, surveys: Sequence[Surveyed]) -> tuple[str, ...]:
    """Continues where what a file has still to do, and what it says that this does, is what the estate and the live
    side make now: what was reviewed is what they make; answers with the sentences of what is done already by `surveys`.
    MovedAway where others changed what a step is about, InvalidInput, naming what differs, where something else is not.
    """
    _refuse_if_moved(read, surveys)
    waiting, done = _split(read, surveys)
    left, fresh = ({_written(step): step.sentence for step in steps} for steps in (waiting, made.steps))
    differs = []
    if left.keys() != fresh.keys() or len(waiting) != len(made.steps):
        named = [sentence for key, sentence in {**left, **fresh}.items() if key not in left or key not in fresh]
        differs.append(f"the steps ({'; '.join(named[:5])})")
    differs += contradictions(read, made, begun=bool(done))
    if differs:
        raise InvalidInput(
            f"this proposal is not what the estate and the live side make now; different are {', '.join(differs)}",
            code="proposal-differs",
            remedy="propose --out FILE again, and read it",
        )
    return tuple(done)


def refuse_if_more(now: Proposal, accepted: Proposal) -> None:
    """Continues where nothing is to be done now but what was accepted; MovedAway otherwise."""
    known = {_written(step) for step in accepted.steps}
    more = [step.sentence for step in now.steps if _written(step) not in known]
    if more:
        raise MovedAway(
            f"the live side changed while this waited, and other changes are needed now: {'; '.join(more[:5])}",
            code="live-side-changed",
            remedy="propose again, and read what is different now",
        )


def _written(step: Step) -> str:
    """A step but for its stage, which depends on what is done already."""
    return json.dumps(asdict(replace(step, stage=0)), sort_keys=True, default=str)


def _split(proposal: Proposal, surveys: Sequence[Surveyed]) -> tuple[list[Step], list[str]]:
    """The steps still to do, and the sentences of those that an earlier run has done."""
    waiting: list[Step] = []
    done: list[str] = []
    for step in proposal.steps:
        (done.append(step.sentence) if _is_done(step, surveys) else waiting.append(step))
    return waiting, done


def _is_done(step: Step, surveys: Sequence[Surveyed]) -> bool:
    every = (statement for surveyed in surveys for statement in surveyed.objects if surveyed.provider == step.provider)
    if step.action == REMOVE:
        return not any(statement.id == step.id for statement in every)
    if step.id is not None:
        return any(statement.id == step.id and _is_as(step, statement) for statement in every)
    return any(_is_as(step, statement) for statement in every)


def _is_as(step: Step, statement: LiveObject) -> bool:
    """Whether a live statement is what a step makes of it."""
    if step.body is None:
        raise InvalidInput("a step of this proposal says nothing", code="proposal-invalid")
    there = (statement.collection, statement.holder, statement.mark)
    if there != (step.collection, step.holder, step.mark):
        return False
    return normalised(statement.collection, statement.body) == normalised(step.collection, step.body)


def _refuse_if_moved(proposal: Proposal, surveys: Sequence[Surveyed]) -> None:
    """MovedAway where others changed a statement that a step of a proposal is about. What else changed shows in what
    the steps do, or changes nothing about them."""
    moved: list[str] = []
    for surveyed in surveys:
        bodies = {statement.id: statement for statement in surveyed.objects}
        for step in proposal.steps:
            found = bodies.get(step.id or "")
            if found is None or step.provider != surveyed.provider or step.etag in (None, found.etag):
                continue  # one without a version is for what an earlier step makes
            if not _is_done(step, surveys):
                moved.append(f"{surveyed.provider}: {statement_key(found.collection, found.body)}")
    if moved:
        raise MovedAway(
            f"the live side has moved away from this proposal: {'; '.join(moved[:5])}",
            code="live-side-changed",
            remedy="propose again, and read what is different now",
        )

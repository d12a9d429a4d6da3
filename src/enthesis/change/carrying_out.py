"""Carries a prepared change out: once it is permitted, and each of its dangers is accepted by name.

All changes of statements are carried out here. The caller names the dangers that it accepts (`accepted` has no
default). Where a step failed, a later stage is left undone if it would open something.
"""

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

from tenacity import Retrying, retry_if_exception_type, stop_after_delay, wait_fixed

from enthesis.change.enacting import (
    AT_ONCE,
    PATIENCE,
    Enacted,
    EnactOptions,
    Why,
    enact,
    refuse_if_more,
    resume,
    undoing,
)
from enthesis.change.preparing import Clock, LiveSide, PreparedChange, prepare, prepared_steps
from enthesis.model.errors import Busy, InvalidInput, RightMissing
from enthesis.model.estate import Estate, Origin
from enthesis.model.vocabulary import Form
from enthesis.ports import Administered
from enthesis.proposals.missing_rights import not_allowed
from enthesis.proposals.rules import rule_of
from enthesis.proposals.steps import Danger, Proposal, Step
from enthesis.store.journal import Enactment, Journal

MOST_MISSING = 5  # rights that are named in a refusal
Result = TypeVar("Result")


@dataclass(frozen=True, slots=True)
class Sending:
    """How steps are sent: so many at once at one account, with so much patience for slow systems, and how long another
    enactment is waited for (None: not at all), both in seconds."""

    at_once: int = AT_ONCE
    patience: float = PATIENCE
    wait: float | None = None


@dataclass(frozen=True)
class PermittedChange:
    """A prepared change that those who have to have agreed to, and that the person who acts has the rights for.
    `author` and `approved_by` are of what was agreed to; `fences` are of before the live side was surveyed."""

    prepared: PreparedChange
    journal: Journal
    author: str = ""
    approved_by: tuple[str, ...] = ()
    found_done: tuple[str, ...] = ()
    fences: dict[str, int] | None = None

    @property
    def dangers(self) -> tuple[Danger, ...]:
        """What is to be accepted by name; nothing where nothing is done."""
        return self.prepared.proposal.dangers if self.does_something else ()

    @property
    def does_something(self) -> bool:
        """Whether it changes access, or how access is changed."""
        return bool(self.prepared.proposal.steps) or self.prepared.loosens


def permitted(
    prepared: PreparedChange, journal: Journal, *, agreed: Proposal | None, urgent: bool,
    fences: dict[str, int] | None = None, found_done: tuple[str, ...] = (),
) -> PermittedChange:  # fmt: skip
    """A change that may be carried out: approved, where the estate wants that, and within the rights of the person who
    acts. `agreed` is the proposal that was read and approved (None: this one). What is `urgent` waits for no approval.

    Raises InvalidInput where an approval is missing, RightMissing where a right is.
    """
    agreed = agreed if agreed is not None else prepared.proposal
    change = PermittedChange(prepared, journal, agreed.author, (), found_done, fences)
    if not urgent and change.does_something:
        _refuse_if_approvals_lack(prepared, agreed)
    _refuse_if_not_allowed(prepared)
    return replace(change, approved_by=_approvers(prepared, agreed))


def carry_out(
    change: PermittedChange,
    *,
    accepted: Collection[str],
    because: str = "",
    sending: Sending | None = None,
) -> Enacted:
    """Carries a change out, each step written down first. `accepted` are the dangers that the caller has accepted.

    Raises InvalidInput where a danger is not accepted, Busy where another enactment is under way at the same accounts,
    MovedAway where the live side changed while that was waited for.
    """
    refuse_unaccepted(change.dangers, accepted)
    prepared, journal, sending = change.prepared, change.journal, sending or Sending()
    if prepared.prune is not None and prepared.rule != prepared.last_rule:
        journal.keep_rule(prepared.estate.name, prepared.rule)
    why = Why(prepared.live.by, because, change.approved_by)
    how = EnactOptions(prepared.still_safe, sending.at_once, sending.patience)
    fences, tries = change.fences, 0

    def work() -> Enacted:
        nonlocal tries, fences
        fresh = prepared
        if tries and prepared.prune is not None:  # others have enacted meanwhile: what is left is worked out again
            fences = journal.fences()
            fresh = prepare(prepared.estate, prepared.live, journal, prepared.clock, prune=prepared.prune)
            refuse_if_more(fresh.proposal, prepared.proposal)
        tries += 1
        carried = replace(fresh.proposal, author=change.author)
        live = prepared.live
        return enact(carried, fresh.surveys, live.connected, journal, live.reporter, why, how, fences)

    enacted = when_free(work, sending.wait)
    if not prepared.proposal.steps:
        for number in prepared.proposal.takes_back:
            journal.finish(number, "undone")
    return replace(enacted, found_done=change.found_done)


def refuse_unaccepted(found: Sequence[Danger], accepted: Collection[str]) -> None:
    """InvalidInput, naming them, where dangers are not accepted."""
    waiting = [danger.name for danger in found if danger.name not in accepted]
    if waiting:
        raise InvalidInput(
            f"this is dangerous, and not accepted: {', '.join(waiting)}",
            code="danger-not-accepted",
            remedy=" ".join(f"--accept {name}" for name in waiting),
        )


def when_free(work: Callable[[], Result], wait: float | None) -> Result:
    """Does the work once nobody else enacts there, for as long as is waited (seconds; None: at once or Busy)."""
    if wait is None:
        return work()
    again = Retrying(
        retry=retry_if_exception_type(Busy), wait=wait_fixed(1.0), stop=stop_after_delay(wait), reraise=True
    )
    return again(work)


# -- whether it may be ------------------------------------------------------------------------------------------------


def refuse_if_unfinished(journal: Journal, estate: str) -> None:
    """Busy where an enactment of an estate is under way now, InvalidInput where one was interrupted."""
    found = journal.unfinished(estate)
    if found is not None and journal.is_under_way(found.number):
        raise Busy(
            f"enactment {found.number} is under way now{', by ' + found.by if found.by else ''}",
            code="lease-held",
            remedy="wait for it with --wait 10m, or run the same again later",
        )
    if found is not None:
        raise InvalidInput(
            f"enactment {found.number} of {found.begun} was interrupted",
            code="enactment-unfinished",
            remedy="enthesis enact --resume finishes it; enthesis enact --resume --undo takes it back",
        )


def refuse_if_enacted_elsewhere(prepared: PreparedChange) -> None:
    """InvalidInput where the live side has statements of this estate, and the store knows of none: by which rule they
    may be changed stands in another one."""
    name = prepared.estate.name
    ours = sum(statement.mark == name for surveyed in prepared.surveys for statement in surveyed.objects)
    if ours:
        raise InvalidInput(
            f"the live side has {ours} statement{'s' if ours > 1 else ''} that {name} made, and this store knows of"
            " no enactment, so not by whose approval they may change",
            code="history-elsewhere",
            remedy="--store URL names the store with the history (or begins a new one there)",
        )


def _refuse_if_approvals_lack(prepared: PreparedChange, agreed: Proposal) -> None:
    """InvalidInput where an approval is missing, by the rule of the estate or the one that was last enacted."""
    rule, last = prepared.rule, prepared.last_rule
    if rule.approvals or (last is not None and last.approvals):
        from enthesis.change.approving import refuse_if_approvals_lack  # noqa: PLC0415  loads the libraries of tokens

        steps = prepared.proposal.steps
        refuse_if_approvals_lack(prepared.estate, prepared.live.folder, agreed, steps, rule, last)


def _refuse_if_not_allowed(prepared: PreparedChange) -> None:
    """RightMissing, before the first step, where the person who has signed in may not do all of them at providers."""
    person = prepared.live.person
    if person is None:
        return
    at_providers: list[Step] = []
    needed: list[tuple[str, str]] = []
    for name, provider in prepared.live.connected.providers.items():
        steps = [step for step in prepared.proposal.steps if step.provider == name]
        at_providers += steps
        if isinstance(provider, Administered):
            needed += [(right.may, right.at) for right in provider.rights((), steps)]
    origin = Origin(Form.PERSON, person.person, mfa=person.mfa, mfa_said=True)
    missing = not_allowed(prepared.estate, prepared.surveys, at_providers, needed, origin, prepared.clock())
    if missing:
        raise RightMissing(
            f"nothing was done: {'; '.join(missing[:MOST_MISSING])}",
            code="right-missing",
            remedy="propose --out FILE, and give it to a person with the rights; propose --rights lists what is needed",
        )


def _approvers(prepared: PreparedChange, agreed: Proposal) -> tuple[str, ...]:
    """Who approved what was agreed to; nobody where it carries no approval."""
    if not agreed.signatures:
        return ()
    from enthesis.change.approving import approved_by  # noqa: PLC0415  loads the libraries of tokens

    return tuple(approved_by(prepared.estate, prepared.live.folder, agreed))


# -- an enactment that was begun --------------------------------------------------------------------------------------


def interrupted(journal: Journal, estate: str) -> Enactment:
    """The enactment that was interrupted; InvalidInput where none was."""
    found = journal.unfinished(estate)
    if found is None:
        raise InvalidInput(
            f"no enactment of {estate} was interrupted",
            code="enactment-unknown",
            remedy="enthesis history lists them",
        )
    return found


def enacted_before(journal: Journal, estate: str, number: int) -> Enactment:
    """An enactment that can be undone; InvalidInput where there is none of this number, or it is undone."""
    found = journal.enactment(estate, number)
    refuse_if_unfinished(journal, estate)
    if found.state == "undone":
        raise InvalidInput(f"enactment {found.number} is undone already", code="enactment-unknown")
    return found


def enacted_since(journal: Journal, estate: str, number: int) -> list[Enactment]:
    """The enactments after the one with a number (0: all), in their order; InvalidInput where there is none of that
    number, or none after it."""
    refuse_if_unfinished(journal, estate)
    if number:
        journal.enactment(estate, number)
    later = [one for one in reversed(journal.enactments(estate)) if one.number > number]
    if not later:
        raise InvalidInput(
            f"enactment {number} is the last one, so there is nothing to go back from",
            code="enactment-unknown",
            remedy="enthesis history lists them",
        )
    return later


def refuse_for_another(enactment: Enactment, live: LiveSide) -> None:
    """RightMissing where a person began an enactment that is to be continued, and nobody is signed in."""
    if enactment.by and enactment.state == "running" and live.person is None:
        raise RightMissing(
            f"enactment {enactment.number} acts as {enactment.by}, and no person is signed in",
            code="sign-in-needed",
            remedy="enthesis sign-in, as a person with the rights for it",
        )


def begun(enactment: Enactment, estate: Estate, live: LiveSide, journal: Journal, clock: Clock) -> PreparedChange:
    """An enactment that was interrupted, as a change: its dangers were accepted when it began."""
    surveys = live.surveyed(estate)
    return PreparedChange(estate, live, clock, journal.proposal(enactment), surveys, rule_of(estate))


def go_on(change: PreparedChange, enactment: Enactment, journal: Journal, sending: Sending) -> Enacted:
    """Finishes an enactment that was interrupted."""
    how, live = EnactOptions(change.still_safe, sending.at_once, sending.patience), change.live
    return when_free(
        lambda: resume(enactment, change.surveys, live.connected, journal, live.reporter, how=how), sending.wait
    )


def going_back(
    estate: Estate, live: LiveSide, journal: Journal, clock: Clock, *, to: int | None, undo: int | None
) -> PreparedChange:
    """The change that takes back all enactments after one (`to`; 0: all), or one alone (`undo`)."""
    if undo is not None:
        enacted = [enacted_before(journal, estate.name, undo)]
    else:
        enacted = enacted_since(journal, estate.name, to or 0)
    return taking_back(enacted, estate, live, journal, clock)


def taking_back(
    enacted: Sequence[Enactment], estate: Estate, live: LiveSide, journal: Journal, clock: Clock
) -> PreparedChange:
    """The change that takes enactments back, which come in their order. What steps did of which nobody knows is found
    out first."""
    surveys = live.surveyed(estate)
    for one in enacted:
        if one.state == "running":
            if one.undoes:
                raise InvalidInput(
                    f"enactment {one.number} undoes another one",
                    code="options-conflict",
                    remedy="enthesis enact --resume",
                )
            nothing = EnactOptions(lambda done, coming: False)  # no step is begun
            resume(one, surveys, live.connected, journal, live.reporter, how=nothing, only_sent=True)
            surveys = live.surveyed(estate)
    kept = [step for one in enacted for step in journal.steps(one.number)]
    back = undoing(estate.name, [one.number for one in enacted], kept, surveys)
    return prepared_steps(estate, live, journal.last_rule(estate.name), clock, back, surveys)


def taken_back_again(read: Proposal, estate: Estate, live: LiveSide, journal: Journal, clock: Clock) -> PreparedChange:
    """The change that a proposal from a file describes which takes enactments back, prepared by now."""
    if len(read.takes_back) == 1:
        return going_back(estate, live, journal, clock, to=None, undo=read.takes_back[0])
    enacted = [journal.enactment(estate.name, number) for number in sorted(read.takes_back)]
    return taking_back(enacted, estate, live, journal, clock)

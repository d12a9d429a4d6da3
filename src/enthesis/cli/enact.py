"""`enthesis enact`: carries a proposal out, continues with one that was interrupted, or takes one back."""

import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, TypeVar

import typer

from enthesis.cli.histories import StoreOption, journal_at, signed_in
from enthesis.cli.interrupts import on_interrupt
from enthesis.cli.options import (
    ContextOption,
    DatabaseOption,
    DirectoryOption,
    EstateOption,
    Format,
    FormatOption,
    KubeconfigOption,
    QuietOption,
    named_files,
)
from enthesis.cli.propose import (
    Made,
    but_for_author,
    proposed,
    read_proposal,
    refuse_if_redescribed,
    surveyed,
    with_effects,
)
from enthesis.cli.questions import by_clock_of, length_of, now
from enthesis.cli.subjects import read_estate
from enthesis.files.finding import estate_folder
from enthesis.files.shapes import duration_from, perhaps, time_text
from enthesis.live.connecting import Given
from enthesis.model.errors import Busy, InvalidInput, RightMissing, StoppedPartWay
from enthesis.model.estate import Estate, Origin
from enthesis.model.words import Form
from enthesis.output.lines import counted
from enthesis.output.progress import reporter
from enthesis.output.proposals import danger_lines, proposal_lines
from enthesis.output.streams import put_json, put_lines, remark
from enthesis.proposals.acting import not_allowed
from enthesis.proposals.dangers import DANGERS
from enthesis.proposals.rules import ChangeRule, loosened, rule_of
from enthesis.proposals.steps import REMOVE, Proposal, Step

if TYPE_CHECKING:
    from enthesis.live.enacting import Enacted, How
    from enthesis.store.journal import Enactment, Journal


Result = TypeVar("Result")
MOST_MISSING = 5  # rights that are named in a refusal


@dataclass(frozen=True)
class EnactOptions:
    """How it is asked for, whatever is carried out."""

    output: Format
    quiet: bool
    yes: bool
    accept: tuple[str, ...]
    because: str
    wait: str | None
    at_once: int
    patience: float


def enact(
    file: Annotated[
        str | None,
        typer.Argument(
            metavar="PROPOSAL", help="A file that `propose --out` wrote; with --undo the number of an enactment."
        ),
    ] = None,
    kubeconfig: KubeconfigOption = None,
    database: DatabaseOption = None,
    directory: DirectoryOption = None,
    context: ContextOption = None,
    estate: EstateOption = None,
    output: FormatOption = Format.TEXT,
    quiet: QuietOption = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask; dangers need --accept.")] = False,
    prune: Annotated[bool, typer.Option("--prune", help="Also remove what the estate no longer describes.")] = False,
    accept: Annotated[
        list[str] | None, typer.Option("--accept", metavar="DANGER", help="Accept this danger, which `propose` names.")
    ] = None,
    resume: Annotated[bool, typer.Option("--resume", help="Continue the interrupted enactment.")] = False,
    undo: Annotated[
        bool, typer.Option("--undo", help="Undo an enactment: with --resume the interrupted one, else by its number.")
    ] = False,
    history: Annotated[bool, typer.Option("--history", help="List the enactments of this estate.")] = False,
    show: Annotated[
        int | None, typer.Option("--show", metavar="NUMBER", help="Show one enactment: who, when, what and why.")
    ] = None,
    because: Annotated[str, typer.Option("--because", metavar="TEXT", help="The reason, kept in the history.")] = "",
    wait: Annotated[
        str | None,
        typer.Option(
            "--wait",
            metavar="DURATION",
            help="Wait up to this long while another enactment is running (default: refuse).",
        ),
    ] = None,
    at_once: Annotated[
        int,
        typer.Option(
            "--at-once", metavar="COUNT", min=1, max=64, help="Run at most this many steps at once at one account."
        ),
    ] = 8,
    patience: Annotated[
        str,
        typer.Option(
            "--patience", metavar="DURATION", help="Wait for slow systems, and retry failures, for up to this long."
        ),
    ] = "2m",
    store: StoreOption = None,
) -> None:
    """Carry out a proposal, or propose, show and ask.

    Needs, for each account that changes, the right to change access in it. A proposal from a file is worked out
    again, and refused where the estate and the live side do not make the same one now. Every step is written to the
    store before it is sent, so that an interrupted enactment can be finished or undone.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    by_clock_of(described, folder)
    _refuse_conflicts(file, prune=prune, resume=resume, undo=undo, asking=history or show is not None)
    journal = journal_at(folder, store)
    try:
        if history or show is not None:
            _put_history(journal, described, show, output)
            return
        longest = length_of("--patience", patience).total_seconds()
        asked = EnactOptions(output, quiet, yes, tuple(accept or ()), because, wait, at_once, longest)
        _refuse_unknown(asked.accept)
        person = signed_in(described, folder)
        acting = person.secret if person is not None else None
        if person is not None:
            remark(f"Acting as {person.person}; `enthesis sign-out` ends that.", quiet=quiet)
        databases = named_files(database, "--database")
        given = Given(
            kubeconfig=kubeconfig, context=context, databases=databases, patience=longest, acting=acting,
            directories=named_files(directory, "--directory"),
        )  # fmt: skip
        if resume or undo:
            one = _chosen(journal, described, file, resume=resume)
            _go_on(journal, one, described, folder, given, asked, undo=undo)
        else:
            known = store is not None or journal.last_rule(described.name) is not None
            known = known or bool(journal.enactments(described.name))
            place = Path(file) if file is not None else None
            _afresh(journal, described, folder, given, asked, place, prune=prune, known=known)
    finally:
        journal.close()


def _refuse_conflicts(file: str | None, *, prune: bool, resume: bool, undo: bool, asking: bool) -> None:
    """InvalidInput where the options do not go together."""
    if asking and (resume or undo or prune or file is not None):
        raise InvalidInput(
            "--history and --show only read", code="options-conflict", remedy="leave the other options out"
        )
    if (resume or undo) and prune:
        raise InvalidInput(
            "--prune belongs to a new proposal", code="options-conflict", remedy="leave it out, or propose --prune"
        )
    if resume and file is not None:
        raise InvalidInput(
            "--resume continues an enactment of the store, so it takes no file",
            code="options-conflict",
            remedy="leave the file out",
        )


def _refuse_unknown(accepted: Sequence[str]) -> None:
    if unknown := set(accepted) - DANGERS.keys():
        name = sorted(unknown)[0]
        raise InvalidInput(
            f"--accept {name}: no such danger",
            code="danger-unknown",
            remedy=perhaps(name, DANGERS, "one of " + ", ".join(DANGERS)),
        )


def _put_history(journal: "Journal", described: Estate, show: int | None, output: Format) -> None:
    from enthesis.output.enactments import (  # noqa: PLC0415  loads the store
        EnactmentPeople,
        enactment_json,
        enactment_lines,
        history_lines,
    )

    if show is not None:
        one = journal.enactment(described.name, show)
        kept = journal.steps(show)
        people = EnactmentPeople(journal.proposal(one).author, tuple(journal.approved_by(show)))
        if output is Format.JSON:
            put_json(enactment_json(one, kept, people))
        else:
            put_lines(enactment_lines(one, kept, people))
        return
    every = journal.enactments(described.name)
    if output is Format.JSON:
        put_json({"estate": described.name, "enactments": [enactment_json(one) for one in every]})
    else:
        put_lines(history_lines(described.name, every))


def _chosen(journal: "Journal", described: Estate, number: str | None, *, resume: bool) -> "Enactment":
    """The enactment that is meant: the interrupted one, or one by its number."""
    if resume:
        found = journal.unfinished(described.name)
        if found is None:
            raise InvalidInput(
                f"no enactment of {described.name} was interrupted",
                code="enactment-unknown",
                remedy="enthesis enact --history lists them",
            )
        return found
    if number is None or not number.isdigit():
        raise InvalidInput(
            "--undo wants the number of an enactment",
            code="enactment-unknown",
            remedy="enthesis enact --history lists them; --resume --undo takes the interrupted one back",
        )
    one = journal.enactment(described.name, int(number))
    _refuse_if_unfinished(journal, described.name)
    if one.state == "undone":
        raise InvalidInput(f"enactment {one.number} is undone already", code="enactment-unknown")
    return one


def _refuse_if_unfinished(journal: "Journal", estate: str) -> None:
    found = journal.unfinished(estate)
    if found is not None and journal.is_under_way(found.number):
        raise Busy(
            f"enactment {found.number} is under way now{', by ' + found.by if found.by else ''}",
            code="enacted-by-another",
            remedy="wait for it with --wait 10m, or run the same again later",
        )
    if found is not None:
        raise InvalidInput(
            f"enactment {found.number} of {found.begun} was interrupted",
            code="enactment-unfinished",
            remedy="enthesis enact --resume finishes it; enthesis enact --resume --undo takes it back",
        )


def _afresh(
    journal: "Journal",
    described: Estate,
    folder: Path,
    given: Given,
    asked: EnactOptions,
    file: Path | None,
    *,
    prune: bool,
    known: bool,
) -> None:
    """A proposal from a file, or one of this moment. `known`: whether the store is one that was named, or knows what
    was enacted."""
    from enthesis.live.enacting import (  # noqa: PLC0415  loads the store
        Why,
        enact,
        refuse_if_different,
        refuse_if_more,
    )

    read = _read(file, described, prune=prune) if file is not None else None
    _when_free(lambda: _refuse_if_unfinished(journal, described.name), asked)
    goes = prune or (read is not None and any(step.action == REMOVE for step in read.steps))
    fences = journal.fences()
    made = proposed(described, folder, given, journal, prune=goes, quiet=asked.quiet)
    if not known:
        _refuse_if_enacted_elsewhere(made)
    before: tuple[str, ...] = ()
    if read is not None and file is not None:
        own = replace(made.proposal, dangers=but_for_author(made.proposal.dangers, read))
        before = refuse_if_different(read, own, made.surveys)
        refuse_if_redescribed(read, file, described)
        _refuse_if_signed_otherwise(described, folder, read)
    agreed = read if read is not None else made.proposal
    rule, last = rule_of(described), journal.last_rule(described.name)
    loosens = last is not None and bool(loosened(last, rule))
    if made.proposal.steps or loosens:
        _refuse_if_approvals_lack(described, folder, agreed, made.proposal.steps, rule, last)
    refuse_if_not_allowed(made)
    if made.proposal.steps or loosens:
        _ask(made.proposal, asked)
    if rule != last:
        journal.keep_rule(described.name, rule)
    why = Why(made.by, asked.because, approved_by=tuple(approvers_of(described, folder, agreed)))
    tried = 0

    def work(how: "How") -> "Enacted":
        nonlocal tried, fences
        now_made = made
        if tried:  # another person has enacted meanwhile: what is left is worked out again
            fences = journal.fences()
            now_made = proposed(described, folder, given, journal, prune=goes, quiet=True)
            refuse_if_more(now_made.proposal, made.proposal)
        tried += 1
        said = reporter(quiet=asked.quiet)
        carried = replace(now_made.proposal, author=agreed.author)
        enacted = enact(carried, now_made.surveys, now_made.connected, journal, said, why, how, fences)
        return replace(enacted, found_done=before)

    _worked(made, asked, work, undone=False)
    _leave_if_undone(made.proposal)


def _go_on(
    journal: "Journal",
    enactment: "Enactment",
    described: Estate,
    folder: Path,
    given: Given,
    asked: EnactOptions,
    *,
    undo: bool,
) -> None:
    """Finishes an enactment, or takes it back."""
    from enthesis.live.enacting import Why, enact, resume, undoing  # noqa: PLC0415  loads the store

    person = signed_in(described, folder)
    if enactment.by and enactment.state == "running" and person is None:
        raise RightMissing(
            f"enactment {enactment.number} acts as {enactment.by}, and no person is signed in",
            code="sign-in-needed",
            remedy="enthesis sign-in, as a person with the rights for it",
        )
    surveys, connected = surveyed(described, folder, given, quiet=asked.quiet)
    if not undo:
        if not asked.quiet:
            left = sum(count for state, count in enactment.counts.items() if state != "done")
            remark(f"Resuming enactment {enactment.number} of {enactment.begun}: {counted(left, 'step')} to go.")
        _worked(
            Made(described, journal.proposal(enactment), surveys, connected, person),
            asked,
            lambda how: resume(enactment, surveys, connected, journal, reporter(quiet=asked.quiet), how=how),
            undone=enactment.undoes is not None,
        )
        return
    if enactment.undoes is not None and enactment.state == "running":
        raise InvalidInput(
            f"enactment {enactment.number} undoes another one",
            code="options-conflict",
            remedy="enthesis enact --resume",
        )
    if enactment.state == "running":
        resume(enactment, surveys, connected, journal, reporter(quiet=asked.quiet), only_sent=True)
        surveys, connected = surveyed(described, folder, given, quiet=asked.quiet)
    back = undoing(enactment, journal.steps(enactment.number), surveys)
    made = with_effects(Made(described, back, surveys, connected, person))
    refuse_if_not_allowed(made)
    if made.proposal.steps:
        _ask(made.proposal, asked)
        rule, last = rule_of(described), journal.last_rule(described.name)
        _refuse_if_approvals_lack(described, folder, made.proposal, made.proposal.steps, rule, last)
    why = Why(made.by, asked.because, enactment.number)
    _worked(
        made,
        asked,
        lambda how: enact(made.proposal, surveys, connected, journal, reporter(quiet=asked.quiet), why, how),
        undone=True,
    )
    if not made.proposal.steps:
        journal.finish(enactment.number, "undone")


def _refuse_if_enacted_elsewhere(made: Made) -> None:
    """InvalidInput where the live side has statements of this estate, and the store knows of none: by which rule they
    may be changed stands in another one."""
    ours = sum(one.mark == made.described.name for surveyed in made.surveys for one in surveyed.objects)
    if ours:
        raise InvalidInput(
            f"the live side has {counted(ours, 'statement')} that {made.described.name} made, and this store knows of"
            " no enactment, so not by whose approval they may change",
            code="history-elsewhere",
            remedy="--store URL names the store with the history (or begins a new one there)",
        )


def _refuse_if_approvals_lack(
    described: Estate, folder: Path, agreed: Proposal, steps: Sequence[Step], rule: ChangeRule, last: ChangeRule | None
) -> None:
    """InvalidInput where an approval is missing, by the rule of the estate or the one that was last enacted."""
    if rule.approvals or (last is not None and last.approvals):
        from enthesis.live.approving import refuse_if_approvals_lack  # noqa: PLC0415  loads the libraries of tokens

        refuse_if_approvals_lack(described, folder, agreed, steps, rule, last)


def _refuse_if_signed_otherwise(described: Estate, folder: Path, read: Proposal) -> None:
    if read.signatures:
        from enthesis.live.approving import refuse_if_changed  # noqa: PLC0415  loads the libraries of tokens

        refuse_if_changed(described, folder, read)


def refuse_if_not_allowed(made: Made) -> None:
    """RightMissing, before the first step, where the person who has signed in may not do all of them at providers."""
    if made.person is None:
        return
    at_providers: list[Step] = []
    needed: list[tuple[str, str]] = []
    for name, provider in made.connected.providers.items():
        steps = [step for step in made.proposal.steps if step.provider == name]
        at_providers += steps
        needed += [(right.may, right.at) for right in provider.rights((), steps)]
    origin = Origin(Form.PERSON, made.person.person, mfa=made.person.mfa, mfa_said=True)
    missing = not_allowed(made.described, made.surveys, at_providers, needed, origin, now())
    if missing:
        raise RightMissing(
            f"nothing was done: {'; '.join(missing[:MOST_MISSING])}",
            code="right-missing",
            remedy="propose --out FILE, and give it to a person with the rights; propose --rights lists what is needed",
        )


def approvers_of(described: Estate, folder: Path, proposal: Proposal) -> list[str]:
    """Who approved a proposal; nobody where it carries no approval."""
    if not proposal.signatures:
        return []
    from enthesis.live.approving import approved_by  # noqa: PLC0415  loads the libraries of tokens

    return approved_by(described, folder, proposal)


def _worked(made: Made, asked: EnactOptions, work: Callable[["How"], "Enacted"], *, undone: bool) -> None:
    """Carries it out, waiting for others where that is wanted, and says what came of it."""
    from enthesis.live.enacting import How  # noqa: PLC0415  loads the store
    from enthesis.output.enactments import enacted_json, enacted_lines, enacted_sentence  # noqa: PLC0415

    on_interrupt("steps that were under way have ended; enthesis enact --resume goes on")
    enacted = _when_free(lambda: work(How(asked.at_once, asked.patience, made.still_safe)), asked)
    if enacted.interrupted:
        raise KeyboardInterrupt
    on_interrupt("")
    after = replace(made.proposal, steps=tuple(step.step for step in enacted.steps if step.state != "done"))
    lives = {name: duration_from(life) for name, life in made.proposal.lives_on} if enacted.of("done") else {}
    ends = {name: time_text(now() + life) for name, life in lives.items() if life is not None}
    if asked.output is Format.JSON:
        put_json({"spoke_to": made.connected.spoke_to, **enacted_json(enacted, after, ends)})
    else:
        put_lines(enacted_lines(enacted, after, ends, undone=undone, quiet=asked.quiet))
        remark(f"Enacted at {made.connected.spoke_to}{', as ' + made.by if made.by else ''}.", quiet=asked.quiet)
    if enacted.steps and not enacted.whole:
        resumable = bool(enacted.late or enacted.of("sent", "waiting"))
        remedy = "enthesis enact --resume" if resumable else "enthesis propose, and read what is different now"
        said = enacted_sentence(enacted, after).rstrip(".")
        raise StoppedPartWay(said[:1].lower() + said[1:], code="stopped-part-way", remedy=remedy)


def _leave_if_undone(proposal: Proposal) -> None:
    """Exit 1 where something that the estate describes was left undone since no live side can hold it."""
    if any(blocked.never for blocked in proposal.blocked):
        raise typer.Exit(1)


def _when_free(work: Callable[[], Result], asked: EnactOptions) -> Result:
    """Does the work once nobody else enacts there, for as long as is waited."""
    from tenacity import Retrying, retry_if_exception_type, stop_after_delay, wait_fixed  # noqa: PLC0415

    if asked.wait is None:
        return work()
    length = length_of("--wait", asked.wait).total_seconds()
    again = Retrying(
        retry=retry_if_exception_type(Busy), wait=wait_fixed(1.0), stop=stop_after_delay(length), reraise=True
    )
    return again(work)


def _read(file: Path, described: Estate, *, prune: bool) -> Proposal:
    """The proposal in a file; InvalidInput where it holds none for this estate."""
    if prune:
        raise InvalidInput(
            "--prune belongs to the proposal",
            code="options-conflict",
            remedy="propose --prune --out FILE, then enact FILE",
        )
    return read_proposal(file, described)


def _ask(proposal: Proposal, asked: EnactOptions) -> None:
    """Shows what will be done, and continues once that and each danger in it is accepted."""
    put_lines(danger_lines(proposal.dangers) if asked.yes else proposal_lines(proposal), to_error=True)
    waiting = [danger.name for danger in proposal.dangers if danger.name not in asked.accept]
    if not sys.stdin.isatty():
        if not asked.yes:
            raise InvalidInput(
                "no terminal is attached for the question", code="nobody-to-ask", remedy="review it, then add --yes"
            )
        if waiting:
            more = " ".join(f"--accept {name}" for name in waiting)
            raise InvalidInput(
                f"this is dangerous, and not accepted: {', '.join(waiting)}", code="danger-not-accepted", remedy=more
            )
    for name in waiting:
        typer.confirm(f"{DANGERS[name].capitalize()}. Accept {name}?", abort=True, err=True)
    if not asked.yes:
        typer.confirm("Carry this out?", abort=True, err=True)

"""`enthesis cutoff`: withdraws the access of an identity, person, host, key or session, now."""

import json
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.cleaning.cutoff import Withdrawn, target_of
from enthesis.cli import completing
from enthesis.cli.enact import refuse_if_not_allowed
from enthesis.cli.histories import StoreOption, journal_at, signed_in
from enthesis.cli.interrupts import on_interrupt
from enthesis.cli.options import EstateOption, Format, FormatOption, KubeconfigOption, QuietOption
from enthesis.cli.propose import Made
from enthesis.cli.questions import by_clock_of, length_of, now
from enthesis.cli.subjects import read_estate, say_partial
from enthesis.files.finding import estate_folder
from enthesis.files.shapes import perhaps, time_text
from enthesis.live.asking import survey_now
from enthesis.live.connecting import Given, connect
from enthesis.live.cutting import Extent, Planned, checked, document_of, kept_at, planned, restore_files, write_files
from enthesis.live.surveying import survey
from enthesis.model.errors import InvalidInput, StoppedPartWay
from enthesis.model.estate import Estate
from enthesis.output.cutting import check_json, check_lines, known_lines, plan_json, plan_lines, target_words
from enthesis.output.lines import Span, counted, line
from enthesis.output.progress import reporter
from enthesis.output.streams import put_json, put_lines, remark
from enthesis.proposals.credentials import OpenSession
from enthesis.proposals.steps import Proposal
from enthesis.surveys.survey import beside

if TYPE_CHECKING:
    from enthesis.cleaning.cutoff import LiveCredential
    from enthesis.store.journal import Journal

CUTOFF = "cutoff"  # what the store keeps of one


def cutoff(
    who: Annotated[
        str | None,
        typer.Argument(
            metavar="WHO",
            autocompletion=completing.callers,
            help="An identity, person, host or other resource, credential, or session.",
        ),
    ] = None,
    yes: Annotated[bool, typer.Option("--yes", help="Do it; without this it is only shown.")] = False,
    check: Annotated[
        bool, typer.Option("--check", help="Only check, live, whether any of it still opens anything.")
    ] = False,
    undo: Annotated[
        int | None, typer.Option("--undo", metavar="NUMBER", help="Undo the cut-off with this number.")
    ] = None,
    also_others: Annotated[
        bool, typer.Option("--also-others", help="Also remove statements that this estate did not make.")
    ] = False,
    forget: Annotated[
        bool,
        typer.Option("--forget", help="Also take everything about it out of the files: statements and journeys too."),
    ] = False,
    because: Annotated[str, typer.Option("--because", metavar="TEXT", help="The reason, kept in the history.")] = "",
    patience: Annotated[
        str,
        typer.Option(
            "--patience", metavar="DURATION", help="Wait for slow systems, and retry failures, for up to this long."
        ),
    ] = "2m",
    kubeconfig: KubeconfigOption = None,
    estate: EstateOption = None,
    output: FormatOption = Format.TEXT,
    quiet: QuietOption = False,
    store: StoreOption = None,
) -> None:
    """Withdraw access now: of an identity, a person, a host, a keyed credential or a session.

    Without --yes it only shows what would be withdrawn, what access that takes, which journeys fail, and what may have
    been copied; exit 1 where there is something to withdraw. What ends most access is done first, every step is in the
    history, and the files are changed too, so that the next proposal restores nothing.

    Needs the right to change access, and `issue` for keys and sessions. Approvals are not waited for.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    by_clock_of(described, folder)
    person = signed_in(described, folder)
    longest = length_of("--patience", patience).total_seconds()
    given = Given(kubeconfig=kubeconfig, patience=longest, acting=person.secret if person is not None else None)
    if undo is not None:
        if who is not None or check:
            raise InvalidInput("--undo takes a number alone", code="options-conflict", remedy="leave the rest out")
        _undo(folder, described, undo, store, yes=yes, quiet=quiet)
        return
    if who is None:
        raise InvalidInput("nothing is named", code="argument-missing", remedy="name an identity, host, key or session")
    if check:
        _check(folder, described, given, who, output, quiet=quiet)
        return
    connected = connect(described, folder, given)
    with ThreadPoolExecutor(1) as pool:
        keeping = pool.submit(kept_at, described, connected)
        surveys = survey(described, connected, reporter(quiet=quiet))
        kept = keeping.result()
    target = _target(described, who, kept)
    if yes and person is not None and target.name == person.person:
        raise InvalidInput(
            f"you are signed in as {target.name}, and would lose the right to finish",
            code="options-conflict",
            remedy="let another person do it, or enthesis sign-out first",
        )
    plan = planned(described, folder, target, surveys, kept, connected, now(), Extent(also_others, forget))
    if output is Format.JSON and not yes:
        put_json(plan_json(plan))
    elif output is Format.TEXT:
        put_lines(known_lines(plan.cut) if yes and quiet else plan_lines(plan, quiet=quiet))
    if not plan.cut.steps and not plan.cut.edits:
        if output is Format.JSON and yes:
            put_json(plan_json(plan))
        raise typer.Exit(0 if plan.cut.whole else 1)
    if not yes:
        remark("Nothing was done: add --yes to withdraw it.", quiet=quiet)
        raise typer.Exit(1)
    steps = Proposal(described.name, plan.cut.steps, seen={one.provider: one.seen() for one in surveys})
    made = Made(described, steps, surveys, connected, person)
    refuse_if_not_allowed(made)
    journal = journal_at(folder, store)
    try:
        _do(journal, folder, made, plan, because, longest, output, quiet=quiet)
    finally:
        journal.close()
    if not plan.cut.whole:
        raise typer.Exit(1)


def _target(described: Estate, who: str, kept: "list[LiveCredential]") -> Withdrawn:
    sessions = [kept_step.one for kept_step in kept if isinstance(kept_step.one, OpenSession)]
    found = target_of(described, who, sessions)
    if found is None:
        live = next(
            (
                kept_step.one
                for kept_step in kept
                if not isinstance(kept_step.one, OpenSession) and kept_step.one.name == who
            ),
            None,
        )
        if live is not None:
            return Withdrawn("credential", who, live.of)
        known = [*described.identities, *described.credentials, *described.resources]
        raise InvalidInput(
            f"no such identity, resource, credential or open session: {who}",
            code="address-unknown",
            remedy=perhaps(who, known),
        )
    return found


def _do(
    journal: "Journal", folder: Path, made: Made, plan: Planned, because: str, longest: float, output: Format, *,
    quiet: bool,
) -> None:  # fmt: skip
    """Writes the files, then withdraws on the live side: what is interrupted in between gives nothing back."""
    from enthesis.live.enacting import How, Why, enact  # noqa: PLC0415  loads the store
    from enthesis.output.enactments import enacted_json, enacted_lines  # noqa: PLC0415

    interrupted = journal.unfinished(made.described.name)
    if interrupted is not None:
        remark(
            f"Enactment {interrupted.number} was interrupted, and may give back what is taken here: look at it with"
            f" `enthesis enact --show {interrupted.number}` before it is resumed."
        )
    changed = write_files(folder, plan)
    on_interrupt("what was withdrawn stays so; enthesis enact --resume goes on")
    why = Why(made.by, because or f"cut off {plan.cut.target.name}")
    how = How(patience=longest)
    enacted = enact(made.proposal, made.surveys, made.connected, journal, reporter(quiet=quiet), why, how)
    on_interrupt("")
    content = document_of(plan, enacted.number, made.by, because, time_text(now()))
    journal.keep(CUTOFF, made.described.name, content)
    after = replace(made.proposal, steps=tuple(step.step for step in enacted.steps if step.state != "done"))
    if output is Format.JSON:
        put_json({**plan_json(plan), "enacted": enacted_json(enacted, after, {})})
    else:
        done = counted(len(enacted.of("done")), "step")
        put_lines([line(Span(f"Cut off {target_words(plan.cut.target)}: {done} done.", "strong"))])
        if not enacted.whole:
            put_lines(enacted_lines(enacted, after, {}, undone=False, quiet=quiet))
    files = f"; written into {', '.join(changed)}" if changed else ""
    remark(f"It has the number {enacted.number} in the history{files}.", quiet=quiet)
    remark(f"`enthesis cutoff --check {plan.cut.target.name}` tries whether anything still opens.", quiet=quiet)
    if enacted.steps and not enacted.whole:
        raise StoppedPartWay(
            f"{counted(len(after.steps), 'step')} of the cut-off not done", code="stopped-part-way",
            remedy="run the same again, or enthesis enact --resume",
        )  # fmt: skip
    if plan.by_hand:
        raise StoppedPartWay(
            f"the live side is cut off, and the files could not be changed: {plan.by_hand}", code="stopped-part-way",
            remedy="take out by hand what was shown, or the next proposal gives it back",
        )  # fmt: skip


def _check(folder: Path, described: Estate, given: Given, who: str, output: Format, *, quiet: bool) -> None:
    """Looks at the live side as it is now, and tries what the target did before."""
    connected = connect(described, folder, given)
    kept = kept_at(described, connected)
    target = _target(described, who, kept)
    survey_of_now = survey_now(described, folder, now(), reporter(quiet=quiet))
    say_partial(survey_of_now, described)
    live = beside(described, survey_of_now)
    try:
        found = checked(described, live, target, kept, connected, now(), reporter(quiet=quiet))
    finally:
        connected.let_go()
    if output is Format.JSON:
        put_json(check_json(target, found))
    else:
        put_lines(check_lines(target, found))
        remark(f"Tried at {connected.spoke_to}.", quiet=quiet)
    if not found.shut:
        raise typer.Exit(1)


def _undo(folder: Path, described: Estate, number: int, store: str | None, *, yes: bool, quiet: bool) -> None:
    """Writes the files as they were before a cut-off; the live side follows by `enact --undo`."""
    journal = journal_at(folder, store)
    try:
        kept = [content for _, content in journal.documents(CUTOFF, described.name)]
    finally:
        journal.close()
    found = next((data for data in kept if json.loads(data)["enactment"] == number), None)
    if found is None:
        raise InvalidInput(
            f"no cut-off has the number {number}",
            code="enactment-unknown",
            remedy="enthesis enact --history lists them",
        )
    if not yes:
        put_lines([line(f"To give back what cut-off {number} took: the files, then the live side.")])
        remark("Nothing was done: add --yes. Revoked keys and ended sessions stay so.", quiet=quiet)
        raise typer.Exit(1)
    files = restore_files(folder, found)
    said = f"Written as before into {', '.join(files)}." if files else "No file was changed by it."
    remark(f"{said} Now: enthesis enact --undo {number}", quiet=quiet)

"""`enthesis cutoff`: withdraws the access of an identity, person, host, key or session, now."""

import json
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.change.carrying_out import PermittedChange, Sending, permitted
from enthesis.change.cutoff import (
    CUTOFF,
    Extent,
    Planned,
    checked,
    cut_off,
    kept_at,
    planned,
    prepared_cut,
    restore_files,
)
from enthesis.change.preparing import LiveSide, live_side
from enthesis.cleaning.cutoff import Withdrawn, target_of
from enthesis.cli import completing
from enthesis.cli.arguments import by_clock_of, length_of, now
from enthesis.cli.enacting import AcceptOption, EnactRequest, PatienceOption, refuse_unknown_dangers
from enthesis.cli.estate_loading import read_estate, say_partial
from enthesis.cli.interrupts import on_interrupt
from enthesis.cli.options import EstateOption, FormatOption, KubeconfigOption, QuietOption
from enthesis.cli.short_names import meant
from enthesis.cli.store_options import StoreOption, journal_at
from enthesis.files.finding import estate_folder
from enthesis.live.connecting import Given
from enthesis.live.live_survey import survey_now
from enthesis.model.errors import InvalidInput, StoppedPartWay
from enthesis.model.estate import Estate
from enthesis.output.cutoff import check_json, check_lines, known_lines, plan_json, plan_lines, target_words
from enthesis.output.enactments import enacted_json, enacted_lines
from enthesis.output.lines import Span, counted, line
from enthesis.output.progress import reporter
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer, put_on_the_way
from enthesis.output.streams import put_lines, remark
from enthesis.proposals.credentials import OpenSession
from enthesis.surveys.survey import beside
from enthesis.text.nearest import perhaps

if TYPE_CHECKING:
    from enthesis.cleaning.cutoff import LiveCredential


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
    accept: AcceptOption = None,
    because: Annotated[str, typer.Option("--because", metavar="TEXT", help="The reason, kept in the history.")] = "",
    patience: PatienceOption = "2m",
    kubeconfig: KubeconfigOption = None,
    estate: EstateOption = None,
    output: FormatOption = TEXT,
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
    refuse_unknown_dangers(accept or ())
    if undo is not None:
        if who is not None or check:
            raise InvalidInput("--undo takes a number alone", code="options-conflict", remedy="leave the rest out")
        _undo(folder, described, undo, store, yes=yes, quiet=quiet)
        return
    every = _withdrawable(described)
    if who is None:
        raise InvalidInput(
            "it is not said from whom access is to be withdrawn", code="argument-missing",
            remedy=f"name an identity, person, host, keyed credential or session, such as {', '.join(every[:4])}",
        )  # fmt: skip
    who = meant(who, every, quiet=quiet)
    longest = length_of("--patience", patience).total_seconds()
    given = Given(kubeconfig=kubeconfig, patience=longest)
    live = live_side(described, folder, given, reporter(quiet=quiet), now, acts=True)
    if check:
        _check(described, live, who, output, quiet=quiet)
        return
    with ThreadPoolExecutor(1) as pool:
        keeping = pool.submit(kept_at, described, live.connected)
        surveys = live.surveyed(described)
        kept = keeping.result()
    target = _target(described, who, kept)
    if yes and target.name == live.by:
        raise InvalidInput(
            f"you are signed in as {target.name}, and would lose the right to finish",
            code="options-conflict",
            remedy="let another person do it, or enthesis sign-out first",
        )
    plan = planned(described, live, target, surveys, kept, now(), Extent(also_others, forget))
    nothing = not plan.cut.steps and not plan.cut.edits
    lines = known_lines(plan.cut) if yes and quiet else plan_lines(plan, quiet=quiet)
    put_on_the_way(output, CommandAnswer(lambda: plan_json(plan), lambda: lines), last=nothing or not yes)
    if nothing:
        raise typer.Exit(0 if plan.cut.whole else 1)
    if not yes:
        remark("Nothing was done: add --yes to withdraw it.", quiet=quiet)
        raise typer.Exit(1)
    prepared = prepared_cut(plan, described, live, surveys, now)
    asked = EnactRequest(output, quiet, yes, tuple(accept or ()), because, Sending(patience=longest))
    journal = journal_at(folder, store)
    try:
        _do(permitted(prepared, journal, agreed=None, urgent=True), plan, asked)
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


def _do(change: PermittedChange, plan: Planned, asked: EnactRequest) -> None:
    """Withdraws it, and says what came of it. StoppedPartWay where something is left."""
    quiet, unfinished = asked.quiet, change.journal.unfinished(change.prepared.estate.name)
    if unfinished is not None:
        remark(
            f"Enactment {unfinished.number} was interrupted, and may give back what is taken here: look at it with"
            f" `enthesis history show {unfinished.number}` before it is resumed."
        )
    on_interrupt("what was withdrawn stays so; enthesis enact --resume goes on")
    enacted, changed = cut_off(plan, change, accepted=asked.accept, because=asked.because, sending=asked.sending)
    on_interrupt("")
    after = replace(change.prepared.proposal, steps=enacted.left)
    done = counted(len(enacted.of("done")), "step")
    said = line(Span(f"Cut off {target_words(plan.cut.target)}: {done} done.", "strong"))
    left = () if enacted.whole else enacted_lines(enacted, after, {}, undone=False, quiet=quiet)
    facts = {**plan_json(plan), "enacted": enacted_json(enacted, after, {})}
    put_answer(asked.output, CommandAnswer(lambda: facts, lambda: [said, *left]))
    files = f"; written into {', '.join(changed)}" if changed else ""
    remark(f"It has the number {enacted.number} in the history{files}.", quiet=quiet)
    remark(f"`enthesis cutoff --check {plan.cut.target.name}` tries whether anything still opens.", quiet=quiet)
    if enacted.steps and not enacted.whole:
        raise StoppedPartWay(
            f"{counted(len(enacted.left), 'step')} of the cut-off not done", code="stopped-part-way",
            remedy="run the same again, or enthesis enact --resume",
        )  # fmt: skip
    if plan.by_hand:
        raise StoppedPartWay(
            f"the live side is cut off, and the files could not be changed: {plan.by_hand}", code="stopped-part-way",
            remedy="take out by hand what was shown, or the next proposal gives it back",
        )  # fmt: skip


def _withdrawable(estate: Estate) -> list[str]:
    """What access can be withdrawn from: identities and people, what code runs on, keyed credentials."""
    running = [
        name
        for name in estate.resources
        if estate.catalogue.running_verb(name.split("/")[-2] if "/" in name else "") is not None
    ]
    return [*estate.identities, *running, *estate.credentials]


def _check(described: Estate, live_now: LiveSide, who: str, output: str, *, quiet: bool) -> None:
    """Looks at the live side as it is now, and tries what the target did before."""
    folder, connected = live_now.folder, live_now.connected
    kept = kept_at(described, connected)
    target = _target(described, who, kept)
    survey_of_now = survey_now(described, folder, now(), reporter(quiet=quiet))
    say_partial(survey_of_now, described)
    live = beside(described, survey_of_now)
    try:
        found = checked(described, live, target, kept, connected, now(), reporter(quiet=quiet))
    finally:
        connected.let_go()
    put_answer(
        output,
        CommandAnswer(lambda: check_json(target, found), lambda: check_lines(target, found)),
        beside=f"Tried at {connected.spoke_to}.",
        quiet=quiet,
    )
    if not found.shut:
        raise typer.Exit(1)


def _undo(folder: Path, described: Estate, number: int, store: str | None, *, yes: bool, quiet: bool) -> None:
    """Writes the files as they were before a cut-off; the live side follows by `propose --undo`."""
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
            remedy="enthesis history lists them",
        )
    if not yes:
        put_lines([line(f"To give back what cut-off {number} took: the files, then the live side.")])
        remark("Nothing was done: add --yes. Revoked keys and ended sessions stay so.", quiet=quiet)
        raise typer.Exit(1)
    files = restore_files(folder, found)
    said = f"Written as before into {', '.join(files)}." if files else "No file was changed by it."
    remark(f"{said} Now: enthesis propose --undo {number} --out FILE, then enthesis enact FILE", quiet=quiet)

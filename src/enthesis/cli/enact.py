"""`enthesis enact`: carries a proposal out, continues with one that was interrupted, or takes one back."""

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.change.carrying_out import (
    Sending,
    begun,
    carry_out,
    go_on,
    interrupted,
    permitted,
    refuse_for_another,
    taking_back,
)
from enthesis.change.preparing import LiveSide, live_side
from enthesis.change.proposal_files import AgreedProposal, read_proposal, ready
from enthesis.cli.arguments import by_clock_of, length_of, now
from enthesis.cli.enacting import (
    AcceptOption,
    EnactRequest,
    PatienceOption,
    accepted_dangers,
    put_enacted,
    refuse_unknown_dangers,
)
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import (
    ContextOption,
    DatabaseOption,
    DirectoryOption,
    EstateOption,
    FormatOption,
    KubeconfigOption,
    QuietOption,
    named_files,
)
from enthesis.cli.store_options import StoreOption, journal_at
from enthesis.files.finding import estate_folder
from enthesis.live.connecting import Given
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.output.lines import counted
from enthesis.output.progress import reporter
from enthesis.output.renderers import TEXT
from enthesis.output.streams import may_lack, remark
from enthesis.surveys.unread import not_lived_with

if TYPE_CHECKING:
    from enthesis.store.journal import Enactment, Journal


def enact(
    file: Annotated[
        str | None,
        typer.Argument(metavar="PROPOSAL", help="A file that `propose --out` wrote (default: propose now)."),
    ] = None,
    kubeconfig: KubeconfigOption = None,
    database: DatabaseOption = None,
    directory: DirectoryOption = None,
    context: ContextOption = None,
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask; dangers need --accept.")] = False,
    prune: Annotated[bool, typer.Option("--prune", help="Also remove what the estate no longer describes.")] = False,
    accept: AcceptOption = None,
    resume: Annotated[bool, typer.Option("--resume", help="Continue the interrupted enactment.")] = False,
    undo: Annotated[
        bool, typer.Option("--undo", help="With --resume: take the interrupted enactment back instead.")
    ] = False,
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
    patience: PatienceOption = "2m",
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
    _refuse_conflicts(file, prune=prune, resume=resume, undo=undo)
    asked = EnactRequest(output, quiet, yes, tuple(accept or ()), because, _sending(at_once, patience, wait))
    journal = journal_at(folder, store)
    try:
        refuse_unknown_dangers(asked.accept)
        given = Given(
            kubeconfig=kubeconfig, context=context, databases=named_files(database, "--database"),
            patience=asked.sending.patience, directories=named_files(directory, "--directory"),
        )  # fmt: skip

        def reach() -> LiveSide:
            live = live_side(described, folder, given, reporter(quiet=quiet), now, acts=True)
            remark(f"Acting as {live.by}; `enthesis sign-out` ends that.", quiet=quiet or not live.by)
            return live

        if resume:
            _go_on(interrupted(journal, described.name), described, reach(), journal, asked, undo=undo)
        else:
            place = Path(file) if file is not None else None
            _afresh(described, reach, journal, asked, place, prune=prune, new_store=store is None)
    finally:
        journal.close()


def _refuse_conflicts(file: str | None, *, prune: bool, resume: bool, undo: bool) -> None:
    """InvalidInput where the options do not go together."""
    if undo and not resume:
        raise InvalidInput(
            "--undo takes the interrupted enactment back, with --resume",
            code="options-conflict",
            remedy="of a finished one: enthesis propose --undo NUMBER --out FILE, then enthesis enact FILE",
        )
    if (resume or file is not None) and prune:
        raise InvalidInput(
            "--prune belongs to a new proposal", code="options-conflict",
            remedy="leave it out, or propose --prune --out FILE, then enact FILE",
        )  # fmt: skip
    if resume and file is not None:
        raise InvalidInput(
            "--resume continues an enactment of the store, so it takes no file",
            code="options-conflict",
            remedy="leave the file out",
        )


def _sending(at_once: int, patience: str, wait: str | None) -> Sending:
    longest = length_of("--patience", patience).total_seconds()
    return Sending(at_once, longest, length_of("--wait", wait).total_seconds() if wait is not None else None)


def _afresh(
    described: Estate, reach: Callable[[], LiveSide], journal: "Journal", asked: EnactRequest, file: Path | None, *,
    prune: bool, new_store: bool,
) -> None:  # fmt: skip
    """A proposal from a file, or one of this moment. `new_store`: whether the store was named by nobody."""
    agreed = AgreedProposal(read_proposal(file, described), str(file)) if file is not None else None
    change = ready(
        described, reach, journal, now, agreed=agreed, prune=prune, wait=asked.sending.wait, new_store=new_store
    )
    prepared = change.prepared
    may_lack(not_lived_with(prepared.unread, described.accepted, now()))
    accepted = accepted_dangers(change, asked)
    put_enacted(prepared, asked, lambda: carry_out(change, accepted=accepted, because=asked.because,
                                                   sending=asked.sending),
                undone=bool(prepared.proposal.takes_back))  # fmt: skip
    if any(blocked.never for blocked in prepared.proposal.blocked):
        raise typer.Exit(1)  # something that the estate describes was left undone since no live side can hold it


def _go_on(
    enactment: "Enactment", described: Estate, live: LiveSide, journal: "Journal", asked: EnactRequest, *, undo: bool
) -> None:
    """Finishes an enactment, or takes it back."""
    refuse_for_another(enactment, live)
    if not undo:
        left = sum(count for state, count in enactment.counts.items() if state != "done")
        said = f"Resuming enactment {enactment.number} of {enactment.begun}: {counted(left, 'step')} to go."
        remark(said, quiet=asked.quiet)
        prepared = begun(enactment, described, live, journal, now)
        put_enacted(
            prepared, asked, lambda: go_on(prepared, enactment, journal, asked.sending),
            undone=bool(enactment.undoes),
        )  # fmt: skip
        return
    prepared = taking_back([enactment], described, live, journal, now)
    change = permitted(prepared, journal, agreed=None, urgent=False)
    accepted = accepted_dangers(change, asked)
    put_enacted(
        prepared, asked,
        lambda: carry_out(change, accepted=accepted, because=asked.because, sending=asked.sending),
        undone=True,
    )  # fmt: skip

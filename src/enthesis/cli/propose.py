"""`enthesis propose`: what would change on the live side, in what order, and what that gives and takes."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.change.preparing import LiveSide, live_side, prepare
from enthesis.change.proposal_files import approve as approve_file
from enthesis.change.proposal_files import authored, prepared_again, read_proposal
from enthesis.cli.arguments import by_clock_of, now
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import (
    ContextOption,
    DatabaseOption,
    DirectoryOption,
    EstateOption,
    KubeconfigOption,
    QuietOption,
    ReviewFormatOption,
    named_files,
)
from enthesis.cli.store_options import StoreOption, journal_at, journal_if_any
from enthesis.files.finding import estate_folder
from enthesis.files.saving import write_file
from enthesis.live.connecting import Given
from enthesis.live.manifests import different_manifests, write_manifests
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.output.differences import barred_lines, difference_json, difference_markdown
from enthesis.output.lines import counted, json_text, line, markdown_text
from enthesis.output.progress import reporter
from enthesis.output.proposals import proposal_lines, proposal_markdown, rights_lines
from enthesis.output.renderers import TEXT, CommandAnswer, is_document, put_answer
from enthesis.output.streams import may_lack, put_lines, remark
from enthesis.ports import Right
from enthesis.proposals.guards import barred_gains
from enthesis.proposals.steps import Proposal
from enthesis.surveys.unread import not_lived_with

if TYPE_CHECKING:
    from enthesis.store.journal import Journal


def propose(
    estate: EstateOption = None,
    kubeconfig: KubeconfigOption = None,
    database: DatabaseOption = None,
    directory: DirectoryOption = None,
    context: ContextOption = None,
    output: ReviewFormatOption = TEXT,
    quiet: QuietOption = False,
    out: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="Write the proposal to FILE as JSON.")
    ] = None,
    manifests: Annotated[
        Path | None,
        typer.Option(
            "--manifests",
            metavar="DIR",
            help="Only write what clusters and hosts are to have into DIR as files; no live system is asked. "
            "With --expect-none, compare DIR with that instead.",
        ),
    ] = None,
    prune: Annotated[bool, typer.Option("--prune", help="Also remove what the estate no longer describes.")] = False,
    expect_none: Annotated[
        bool,
        typer.Option(
            "--expect-none",
            help="Exit 1 unless everything is in place and no statement of others opens access.",
        ),
    ] = False,
    back_to: Annotated[
        int | None,
        typer.Option(
            "--back-to",
            metavar="NUMBER",
            min=0,
            help="Propose to take back everything after this enactment (0: all there was).",
        ),
    ] = None,
    undo: Annotated[
        int | None, typer.Option("--undo", metavar="NUMBER", help="Propose to take back this enactment alone.")
    ] = None,
    approve: Annotated[
        Path | None,
        typer.Option("--approve", metavar="FILE", help="Add your approval to this proposal: signed in, or by a key."),
    ] = None,
    sign: Annotated[
        Path | None, typer.Option("--sign", metavar="KEY", help="With --out or --approve: sign with your Ed25519 key.")
    ] = None,
    rights: Annotated[
        bool, typer.Option("--rights", help="Only list the rights that `survey` and `enact` need themselves.")
    ] = False,
    fail_on_gain: Annotated[
        list[str] | None,
        typer.Option("--fail-on-gain", metavar="VERBS PLACE", help="Exit 1 if any caller gains that."),
    ] = None,
    store: StoreOption = None,
) -> None:
    """Compare the live side with the estate and show what is not in place.

    Needs, for each of our accounts, the right to read its statements about access. Changes nothing. Only what
    Enthesis made for this estate would ever be altered or removed.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    by_clock_of(described, folder)
    back = (back_to is not None, undo is not None, prune)
    _refuse_conflicts(approve, out, sign, exclusive=sum(back) > 1)
    if manifests is not None:
        _manifests(described, manifests, compares=expect_none, quiet=quiet)
        return
    goes_back = back_to is not None or undo is not None
    journal = journal_at(folder, store) if goes_back else journal_if_any(folder, store)
    try:
        given = Given(
            kubeconfig=kubeconfig, context=context, databases=named_files(database, "--database"),
            directories=named_files(directory, "--directory"),
        )  # fmt: skip
        read = read_proposal(approve, described) if approve is not None else None
        live = live_side(described, folder, given, reporter(quiet=quiet), now, acts=False)
        if read is not None and approve is not None:
            _approve(read, described, live, journal, approve, sign, quiet=quiet)
            return
        if journal is not None and goes_back:
            from enthesis.change.carrying_out import going_back  # noqa: PLC0415  loads the store

            made = going_back(described, live, journal, now, to=back_to, undo=undo)
        else:
            made = prepare(described, live, journal, now, prune=prune)
    finally:
        if journal is not None:
            journal.close()
    may_lack(not_lived_with(made.unread, described.accepted, now()))
    if rights:
        _put_rights(made.rights(), output)
        return
    proposal = authored(made, sign) if out is not None else made.proposal
    gained = barred_gains(described, made.difference, fail_on_gain or [])
    if out is not None:
        write_file(out, json_text(proposal.as_json()).encode() + b"\n")
    spoke_to = live.connected.spoke_to
    put_answer(
        output,
        CommandAnswer(
            lambda: {"spoke_to": spoke_to, **proposal.as_json(), "access": difference_json(made.difference)},
            lambda: proposal_lines(proposal),
            markdown=lambda: [*proposal_markdown(proposal), "", *difference_markdown(made.difference)],
        ),
        beside=f"Surveyed at {spoke_to}.",
        quiet=quiet,
    )
    put_lines(barred_lines(gained), to_error=is_document(output))
    if gained or (expect_none and not proposal.as_described):
        raise typer.Exit(1)


def _manifests(described: Estate, folder: Path, *, compares: bool, quiet: bool) -> None:
    """What clusters and hosts are to have, written into a folder or compared with what is there."""
    if compares:
        found = different_manifests(described, folder)
        put_lines(map(line, found or [f"{folder} is as the estate wants it."]))
        raise typer.Exit(1 if found else 0)
    written = write_manifests(described, folder)
    remark(f"{counted(len(written), 'file')} written to {folder}.", quiet=quiet)


def _refuse_conflicts(approve: Path | None, out: Path | None, sign: Path | None, *, exclusive: bool) -> None:
    """InvalidInput where the options do not go together."""
    if exclusive:
        raise InvalidInput(
            "--back-to, --undo and --prune exclude each other", code="options-conflict", remedy="give one of them"
        )
    if sign is not None and approve is None and out is None:
        raise InvalidInput(
            "--sign KEY signs a proposal or an approval", code="options-conflict", remedy="add --out or --approve FILE"
        )
    if approve is not None and out is not None:
        raise InvalidInput("--approve FILE adds to that file", code="options-conflict", remedy="leave out --out")


def _approve(
    read: Proposal, described: Estate, live: LiveSide, journal: "Journal | None", file: Path, key: Path | None, *,
    quiet: bool,
) -> None:  # fmt: skip
    """Works a proposal that was written to a file out anew, shows that, and adds an approval to the file; InvalidInput
    where the file says something else."""
    prepared = prepared_again(read, described, live, journal, now)
    made, fresh, person = approve_file(read, prepared, file, key, with_history=journal is not None)
    if not quiet:
        put_lines(proposal_lines(fresh))
    write_file(file, json_text(made.as_json()).encode() + b"\n")
    remark(f"Proposed by {read.author}. Approved by {person}.", quiet=quiet)


def _put_rights(found: dict[str, list[Right]], output: str) -> None:
    """The rights that the survey needed, and the steps will."""
    facts = {name: [{"may": right.may, "at": right.at, "to": right.to} for right in its] for name, its in found.items()}
    rows = [f"- {name}: {right.may} at {right.at}, to {right.to}" for name, its in found.items() for right in its]
    review = ["## Rights needed", "", *map(markdown_text, rows)]
    put_answer(output, CommandAnswer(lambda: facts, lambda: rights_lines(found), markdown=lambda: review))

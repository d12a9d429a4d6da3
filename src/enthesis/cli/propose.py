"""`enthesis propose`: what would change on the live side, in what order, and what that gives and takes."""

import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.chains.differences import Difference
from enthesis.cli.histories import StoreOption, journal_if_any, signed_in
from enthesis.cli.options import (
    ContextOption,
    DatabaseOption,
    DirectoryOption,
    EstateOption,
    KubeconfigOption,
    QuietOption,
    ReviewFormat,
    named_files,
)
from enthesis.cli.questions import now
from enthesis.cli.subjects import read_estate
from enthesis.files.finding import estate_folder
from enthesis.files.saving import read_file, write_file
from enthesis.files.writing import estate_digest
from enthesis.live.connecting import Given, connect
from enthesis.live.manifests import different_manifests, write_manifests
from enthesis.live.surveying import survey
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.output.differences import barred_lines, difference_json, difference_markdown, gain_sentences
from enthesis.output.lines import counted, json_text, line, markdown_text
from enthesis.output.progress import reporter
from enthesis.output.proposals import proposal_lines, proposal_markdown, rights_lines
from enthesis.output.streams import put_json, put_lines, put_text, remark
from enthesis.ports import Connected, Right, SaysWhoRemoved
from enthesis.proposals.dangers import dangers
from enthesis.proposals.drift import Drift, drift
from enthesis.proposals.effects import access_change, between, closings, in_stages, openings, without_accepted
from enthesis.proposals.guards import barred_gains
from enthesis.proposals.proposing import propose as compare
from enthesis.proposals.steps import Proposal, Step, proposal_from
from enthesis.surveys.statements import Surveyed

if TYPE_CHECKING:
    from enthesis.live.kept_sign_in import SignIn
    from enthesis.store.journal import Journal


def propose(
    estate: EstateOption = None,
    kubeconfig: KubeconfigOption = None,
    database: DatabaseOption = None,
    directory: DirectoryOption = None,
    context: ContextOption = None,
    output: Annotated[ReviewFormat, typer.Option("--format", help="The format of the answer.")] = ReviewFormat.TEXT,
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
    approve: Annotated[
        Path | None,
        typer.Option("--approve", metavar="FILE", help="Add your approval to this proposal: signed in, or by a key."),
    ] = None,
    sign: Annotated[
        Path | None, typer.Option("--sign", metavar="KEY", help="With --approve: sign with the approver's Ed25519 key.")
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
    if approve is not None or sign is not None:
        _approve(described, folder, approve, sign, quiet=quiet)
        return
    if manifests is not None and expect_none:
        found = different_manifests(described, manifests)
        put_lines(map(line, found or [f"{manifests} is as the estate wants it."]))
        raise typer.Exit(1 if found else 0)
    if manifests is not None:
        written = write_manifests(described, manifests)
        remark(f"{counted(len(written), 'file')} written to {manifests}.", quiet=quiet)
        return
    journal = journal_if_any(folder, store)
    try:
        given = Given(
            kubeconfig=kubeconfig, context=context, databases=named_files(database, "--database"),
            directories=named_files(directory, "--directory"),
        )  # fmt: skip
        made = proposed(described, folder, given, journal, prune=prune, quiet=quiet)
    finally:
        if journal is not None:
            journal.close()
    proposal, change, spoke_to = made.proposal, made.change, made.connected.spoke_to
    if rights:
        _put_rights(made, output)
        return
    gained = barred_gains(described, change, fail_on_gain or [])
    if out is not None:
        write_file(out, json_text(proposal.as_json()).encode() + b"\n")
    if output is ReviewFormat.JSON:
        put_json({"spoke_to": spoke_to, **proposal.as_json(), "access": difference_json(change)})
    elif output is ReviewFormat.MARKDOWN:
        put_text("\n".join([*proposal_markdown(proposal), "", *difference_markdown(change)]) + "\n")
    else:
        put_lines(proposal_lines(proposal))
        remark(f"Surveyed at {spoke_to}.", quiet=quiet)
    put_lines(barred_lines(gained), to_error=output is not ReviewFormat.TEXT)
    if gained or (expect_none and not proposal.as_described):
        raise typer.Exit(1)


def _approve(described: Estate, folder: Path, file: Path | None, key: Path | None, *, quiet: bool) -> None:
    """Shows a proposal that was written to a file, and adds an approval to it."""
    from enthesis.live.approving import approved  # noqa: PLC0415  loads the libraries of tokens

    if file is None:
        raise InvalidInput("--sign KEY signs an approval", code="options-conflict", remedy="add --approve FILE")
    proposal = read_proposal(file, described)
    refuse_if_redescribed(proposal, file, described)
    made, person = approved(described, folder, proposal, key, now())
    if not quiet:
        put_lines(proposal_lines(made))
    write_file(file, json_text(made.as_json()).encode() + b"\n")
    remark(f"Approved by {person}.", quiet=quiet)


def refuse_if_redescribed(proposal: Proposal, file: Path, described: Estate) -> None:
    """Continues where the files of the estate still say what they said when a proposal was made."""
    if proposal.described_by != estate_digest(described):
        raise InvalidInput(
            f"{file} was made for another state of the estate: its files have changed since",
            code="proposal-differs",
            remedy="propose --out FILE again, and read it",
        )


def read_proposal(file: Path, described: Estate) -> Proposal:
    """The proposal in a file; InvalidInput where it holds none for this estate."""
    try:
        proposal = proposal_from(json.loads(read_file(file)))
    except (ValueError, RecursionError) as fault:
        raise InvalidInput(f"{file}: {fault}", code="proposal-invalid") from None
    if proposal.estate != described.name:
        raise InvalidInput(
            f"{file} is a proposal for the estate {proposal.estate}, and this one is {described.name}",
            code="proposal-of-another-estate",
        )
    return proposal


def _put_rights(made: "Made", output: ReviewFormat) -> None:
    """The rights that the survey needed, and the steps will."""
    connected = made.connected
    systems = connected.administered
    found: dict[str, list[Right]] = {}
    for surveyed_system in made.surveys:
        name = surveyed_system.provider
        its = [step for step in made.proposal.steps if step.provider == name]
        found[name] = list(dict.fromkeys(systems[name].rights(surveyed_system.holders, its)))
    if output is ReviewFormat.JSON:
        put_json(
            {name: [{"may": right.may, "at": right.at, "to": right.to} for right in its] for name, its in found.items()}
        )
    elif output is ReviewFormat.MARKDOWN:
        rows = (f"- {name}: {right.may} at {right.at}, to {right.to}" for name, its in found.items() for right in its)
        put_text("\n".join(["## Rights needed", "", *map(markdown_text, rows)]) + "\n")
    else:
        put_lines(rights_lines(found))


@dataclass(frozen=True)
class Made:
    """A proposal with what it was made from: the estate, the surveys behind it, what was contacted, who has signed in;
    and the change."""

    described: Estate
    proposal: Proposal
    surveys: tuple[Surveyed, ...]
    connected: Connected
    person: "SignIn | None" = None
    change: Difference = Difference((), ())

    @property
    def by(self) -> str:
        """The address of the person who has signed in; '' where nobody has."""
        return self.person.person if self.person is not None else ""

    def still_safe(self, done: Sequence[Step], coming: Sequence[Step]) -> bool:
        """Whether steps may still be done where others of the proposal were not: nothing is open then that is shut
        both before and after all of it."""
        judged = between(self.described, self.proposal.steps, self.surveys, now().timestamp())
        found = judged([*done, *coming])
        return not (found.opens or found.undecided)


def surveyed(described: Estate, folder: Path, given: Given, *, quiet: bool) -> tuple[tuple[Surveyed, ...], Connected]:
    """What the live systems of an estate have now, and these."""
    connected = connect(described, folder, given)
    return survey(described, connected, reporter(quiet=quiet)), connected


def proposed(
    described: Estate, folder: Path, given: Given, journal: "Journal | None", *, prune: bool, quiet: bool
) -> Made:
    """The proposal for the estate in a folder, with what it does to access, and what others changed since its journal
    says that it was enacted."""
    surveys, connected = surveyed(described, folder, given, quiet=quiet)
    objections = {name: one.objection for name, one in connected.administered.items()}
    proposal = compare(described, surveys, prune=prune, objections=objections, now=now())
    if proposal.aside:
        remark(f"Not compared, since no connection is configured for them: {', '.join(proposal.aside)}.", quiet=quiet)
    person = signed_in(described, folder)
    made = Made(described, without_accepted(described, proposal, now()), surveys, connected, person)
    found = drift_since(journal, made)
    told = replace(made.proposal, changed_since=found.changed, gone_since=found.gone)
    return with_effects(replace(made, proposal=told))


def drift_since(journal: "Journal | None", made: Made) -> Drift:
    """What others changed since the last enactment; nothing where there was none."""
    if journal is None:
        return Drift()

    def who_removed(step: Step, identifier: str) -> str:
        system = made.connected.providers.get(step.provider)
        if not isinstance(system, SaysWhoRemoved):
            return ""
        return system.removed_by(step.collection, step.holder, identifier)

    return drift(journal.left(made.described.name), made.surveys, who_removed)


def with_effects(made: Made) -> Made:
    """The same with its steps in stages, what they do to access, what others have opened, and the dangers."""
    described, surveys, moment = made.described, made.surveys, now()
    proposal = in_stages(described, made.proposal, surveys, moment.timestamp())
    change = access_change(described, proposal, surveys, moment.timestamp())
    gives, takes = (tuple(gain_sentences(gains)) for gains in (change.gains, change.losses))
    opened = openings(described, proposal, surveys, moment, gain_sentences)
    closed = closings(described, proposal, surveys, moment, gain_sentences)
    dangerous = dangers(described, proposal, surveys, change, made.by)
    told = replace(
        proposal,
        gives=gives,
        takes=takes,
        openings=opened,
        closings=closed,
        dangers=dangerous,
        author=made.by,
        described_by=estate_digest(described),
    )
    return replace(made, proposal=told, change=change)

"""`enthesis propose`: what would change on the live side, in what order, and what that gives and takes."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.chains.differences import Difference
from enthesis.chains.sentences import gain_sentences
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
from enthesis.cli.questions import by_clock_of, now
from enthesis.cli.subjects import read_estate
from enthesis.files.finding import estate_folder
from enthesis.files.saving import document_in, read_file, write_file
from enthesis.files.writing import estate_digest
from enthesis.live.connecting import Given, connect
from enthesis.live.manifests import different_manifests, write_manifests
from enthesis.live.surveying import survey
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.output.differences import barred_lines, difference_json, difference_markdown
from enthesis.output.lines import counted, json_text, line, markdown_text
from enthesis.output.progress import reporter
from enthesis.output.proposals import proposal_lines, proposal_markdown, rights_lines
from enthesis.output.streams import may_lack, put_json, put_lines, put_text, remark
from enthesis.ports import Connected, Right, SaysWhoRemoved
from enthesis.proposals.dangers import OWN, dangers
from enthesis.proposals.drift import Drift, drift
from enthesis.proposals.effects import access_change, between, closings, in_stages, openings, without_accepted
from enthesis.proposals.guards import barred_gains
from enthesis.proposals.proposing import propose as compare
from enthesis.proposals.rules import loosened, rule_of
from enthesis.proposals.steps import REMOVE, Danger, Proposal, Step, proposal_from
from enthesis.surveys.statements import Surveyed
from enthesis.surveys.unread import not_lived_with, systems_not_read

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
    _refuse_conflicts(approve, out, sign)
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
        if approve is not None:
            _approve(described, folder, given, journal, approve, sign, quiet=quiet)
            return
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
        proposal = _with_author(made, folder, sign)
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


def _refuse_conflicts(approve: Path | None, out: Path | None, sign: Path | None) -> None:
    """InvalidInput where the options do not go together."""
    if sign is not None and approve is None and out is None:
        raise InvalidInput(
            "--sign KEY signs a proposal or an approval", code="options-conflict", remedy="add --out or --approve FILE"
        )
    if approve is not None and out is not None:
        raise InvalidInput("--approve FILE adds to that file", code="options-conflict", remedy="leave out --out")


def _with_author(made: "Made", folder: Path, key: Path | None) -> Proposal:
    """A proposal that is signed by the person who made it, where that is known."""
    if key is None and made.person is None:
        return made.proposal
    from enthesis.live.approving import authored  # noqa: PLC0415  loads the libraries of tokens

    return authored(made.described, folder, made.proposal, key, now())


def _approve(
    described: Estate, folder: Path, given: Given, journal: "Journal | None", file: Path, key: Path | None, *,
    quiet: bool,
) -> None:  # fmt: skip
    """Works a proposal that was written to a file out anew, shows that, and adds an approval to the file; InvalidInput
    where the file says something else."""
    from enthesis.live.approving import approved, refuse_if_changed  # noqa: PLC0415  loads the libraries of tokens
    from enthesis.live.enacting import refuse_if_different  # noqa: PLC0415  loads the store

    read = read_proposal(file, described)
    refuse_if_redescribed(read, file, described)
    refuse_if_changed(described, folder, read)
    removes = any(step.action == REMOVE for step in read.steps)
    made_anew = proposed(described, folder, given, journal, prune=removes, quiet=quiet)
    fresh = made_anew.proposal
    if journal is None:  # then the rule that was last enacted is not known here, and how it is loosened is as told
        loosened = tuple(one for one in read.dangers if one.name == "rule-loosened")
        fresh = replace(fresh, dangers=(*fresh.dangers, *loosened))
    fresh = replace(fresh, dangers=but_for_author(fresh.dangers, read))
    refuse_if_different(read, fresh, made_anew.surveys)
    made, person = approved(described, folder, read, key, now())
    if not quiet:
        put_lines(proposal_lines(fresh))
    write_file(file, json_text(made.as_json()).encode() + b"\n")
    remark(f"Proposed by {read.author}. Approved by {person}.", quiet=quiet)


def but_for_author(dangers: Sequence[Danger], read: Proposal) -> tuple[Danger, ...]:
    """Dangers with those that are the author's own as a file has them: what one person loses, another does not."""
    own = tuple(one for one in read.dangers if one.name == OWN)
    return (*(one for one in dangers if one.name != OWN), *own)


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
        proposal = proposal_from(document_in(read_file(file)))
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
    may_lack(not_lived_with(systems_not_read(dict.fromkeys(proposal.aside, ()), ()), described.accepted, now()))
    person = signed_in(described, folder)
    made = Made(described, without_accepted(described, proposal, now()), surveys, connected, person)
    found = drift_since(journal, made)
    told = replace(made.proposal, changed_since=found.changed, gone_since=found.gone)
    before = journal.last_rule(described.name) if journal is not None else None
    ways = loosened(before, rule_of(described)) if before is not None else ()
    return with_effects(replace(made, proposal=told), ways)


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


def with_effects(made: Made, ways: Sequence[str] = ()) -> Made:
    """The same with its steps in stages, what they do to access, what others have opened, and the dangers; `ways` are
    those in which the rule for changes asks for less."""
    described, surveys, moment = made.described, made.surveys, now()
    proposal = in_stages(described, made.proposal, surveys, moment.timestamp())
    change = access_change(described, proposal, surveys, moment.timestamp())
    gives, takes = (tuple(gain_sentences(gains)) for gains in (change.gains, change.losses))
    opened = openings(described, proposal, surveys, moment, gain_sentences)
    closed = closings(described, proposal, surveys, moment, gain_sentences)
    dangerous = dangers(described, proposal, surveys, change, made.by, ways)
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

"""Proposals in files: read, held against what the estate and the live side make now, approved, and signed."""

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from enthesis.change.preparing import PreparedChange
from enthesis.files.saving import document_in, read_file
from enthesis.files.writing import estate_digest
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.proposals.dangers import OWN
from enthesis.proposals.steps import REMOVE, Danger, Proposal, proposal_from


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


def removes(proposal: Proposal) -> bool:
    """Whether it was made with what the estate no longer describes."""
    return any(step.action == REMOVE for step in proposal.steps)


def held_against(read: Proposal, prepared: PreparedChange, file: Path) -> tuple[str, ...]:
    """Continues where what is prepared now is what a file says, and every signature in it is under just that; answers
    with the sentences of what is done already. MovedAway where others changed what a step is about, InvalidInput where
    something else differs."""
    from enthesis.change.enacting import refuse_if_different  # noqa: PLC0415  loads the store

    own = replace(prepared.proposal, dangers=_but_for_author(prepared.proposal.dangers, read))
    done = refuse_if_different(read, own, prepared.surveys)
    _refuse_if_redescribed(read, file, prepared.estate)
    if read.signatures:
        from enthesis.change.approving import refuse_if_changed  # noqa: PLC0415  loads the libraries of tokens

        refuse_if_changed(prepared.estate, prepared.live.folder, read)
    return done


def approve(
    read: Proposal, prepared: PreparedChange, file: Path, key: Path | None, *, with_history: bool
) -> tuple[Proposal, Proposal, str]:
    """A proposal from a file with an approval added, signed with a key or by the directory where the approver is signed
    in; beside it what is prepared now, which was held against it, and the approver. `with_history`: whether there is a
    store here, which knows the rule that was last enacted.

    InvalidInput where the file says something else than what is prepared now."""
    from enthesis.change.approving import approved  # noqa: PLC0415  loads the libraries of tokens

    fresh = prepared.proposal
    if not with_history:  # how the rule that was last enacted is loosened is as told
        loosened = tuple(danger for danger in read.dangers if danger.name == "rule-loosened")
        fresh = replace(fresh, dangers=(*fresh.dangers, *loosened))
    held_against(read, replace(prepared, proposal=fresh), file)
    made, person = approved(prepared.estate, prepared.live.folder, read, key, prepared.clock())
    return made, replace(fresh, dangers=_but_for_author(fresh.dangers, read)), person


def authored(prepared: PreparedChange, key: Path | None) -> Proposal:
    """What is prepared, signed by the person who made it: with a key, or by the directory where that person is signed
    in. Unsigned where there is neither."""
    if key is None and prepared.live.person is None:
        return prepared.proposal
    from enthesis.change.approving import authored as signed_by_author  # noqa: PLC0415  loads the libraries of tokens

    return signed_by_author(prepared.estate, prepared.live.folder, prepared.proposal, key, prepared.clock())


def _but_for_author(dangers: Sequence[Danger], read: Proposal) -> tuple[Danger, ...]:
    """Dangers with those that are the author's own as a file has them: what one person loses, another does not."""
    own = tuple(danger for danger in read.dangers if danger.name == OWN)
    return (*(danger for danger in dangers if danger.name != OWN), *own)


def _refuse_if_redescribed(proposal: Proposal, file: Path, described: Estate) -> None:
    """Continues where the files of the estate still say what they said when a proposal was made."""
    if proposal.described_by != estate_digest(described):
        raise InvalidInput(
            f"{file} was made for another state of the estate: its files have changed since",
            code="proposal-differs",
            remedy="propose --out FILE again, and read it",
        )

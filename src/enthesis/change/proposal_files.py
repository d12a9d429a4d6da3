"""Proposals that were shown to somebody: read from files, held against what the estate and the live side make now,
approved, signed, and made ready to be carried out."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from enthesis.change.preparing import Clock, LiveSide, PreparedChange, prepare
from enthesis.files.saving import document_in, read_file
from enthesis.files.writing import estate_digest
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.proposals.dangers import OWN
from enthesis.proposals.steps import REMOVE, Danger, Proposal, proposal_from

if TYPE_CHECKING:
    from enthesis.change.carrying_out import PermittedChange
    from enthesis.store.journal import Journal


class AgreedProposal(NamedTuple):
    """A proposal that somebody has read and agreed to, and what it is called in messages."""

    proposal: Proposal
    of: str


def read_proposal(file: Path, described: Estate) -> Proposal:
    """The proposal in a file; InvalidInput where it holds none for this estate."""
    try:
        proposal = proposal_from(document_in(read_file(file)))
    except (ValueError, RecursionError) as fault:
        raise InvalidInput(
            f"{file} is not a proposal: {fault}",
            code="proposal-invalid",
            remedy="a proposal is a file that `enthesis propose --out FILE` writes",
        ) from None
    if proposal.estate != described.name:
        raise InvalidInput(
            f"{file} is a proposal for the estate {proposal.estate}, and this one is {described.name}",
            code="proposal-of-another-estate",
        )
    return proposal


def removes(proposal: Proposal) -> bool:
    """Whether it was made with what the estate no longer describes."""
    return any(step.action == REMOVE for step in proposal.steps)


def held_against(read: Proposal, prepared: PreparedChange, of: str) -> tuple[str, ...]:
    """Continues where what is prepared now is what was read (`of` says where), and every signature in it is under just
    that; answers with the sentences of what is done already. MovedAway where others changed what a step is about,
    InvalidInput where something else differs."""
    from enthesis.change.enacting import refuse_if_different  # noqa: PLC0415  loads the store

    own = replace(prepared.proposal, dangers=_but_for_author(prepared.proposal.dangers, read))
    done = refuse_if_different(read, own, prepared.surveys)
    _refuse_if_redescribed(read, of, prepared.estate)
    if read.signatures:
        from enthesis.change.approving import refuse_if_changed  # noqa: PLC0415  loads the libraries of tokens

        refuse_if_changed(prepared.estate, prepared.live.folder, read)
    return done


def prepared_again(
    agreed: Proposal, estate: Estate, live: LiveSide, journal: "Journal | None", clock: Clock, *, prune: bool = False
) -> PreparedChange:
    """What somebody agreed to, as it would be proposed now; InvalidInput where it takes back what no history here
    knows of."""
    if not agreed.takes_back:
        return prepare(estate, live, journal, clock, prune=prune or removes(agreed))
    from enthesis.change.carrying_out import taken_back_again  # noqa: PLC0415  loads the store

    if journal is None:
        raise InvalidInput(
            "the history of the enactments that this takes back is not here",
            code="enactment-unknown",
            remedy="--store URL names the store with the history",
        )
    return taken_back_again(agreed, estate, live, journal, clock)


def ready(
    estate: Estate, reach: Callable[[], LiveSide], journal: "Journal", clock: Clock, *,
    agreed: "AgreedProposal | None", prune: bool, wait: float | None, new_store: bool,
) -> "PermittedChange":  # fmt: skip
    """A change that may be carried out: what was `agreed` to, or without that what the estate describes now. Another
    enactment is waited for, for so many seconds; `new_store`: whether nobody named the store, so that the history may
    be elsewhere.

    Raises what `permitted` and `held_against` raise, and Busy."""
    from enthesis.change.carrying_out import (  # noqa: PLC0415  loads the store
        permitted,
        refuse_if_enacted_elsewhere,
        refuse_if_unfinished,
        when_free,
    )

    when_free(lambda: refuse_if_unfinished(journal, estate.name), wait)
    fences = journal.fences()
    if agreed is not None:
        prepared = prepared_again(agreed.proposal, estate, reach(), journal, clock, prune=prune)
    else:
        prepared = prepare(estate, reach(), journal, clock, prune=prune)
    if new_store and prepared.last_rule is None and not journal.enactments(estate.name):
        refuse_if_enacted_elsewhere(prepared)
    if agreed is None:
        return permitted(prepared, journal, agreed=None, urgent=False, fences=fences)
    done = held_against(agreed.proposal, prepared, agreed.of)
    return permitted(prepared, journal, agreed=agreed.proposal, urgent=False, fences=fences, found_done=done)


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
    held_against(read, replace(prepared, proposal=fresh), str(file))
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


def _refuse_if_redescribed(proposal: Proposal, of: str, described: Estate) -> None:
    """Continues where the files of the estate still say what they said when a proposal was made."""
    if proposal.described_by != estate_digest(described):
        raise InvalidInput(
            f"{of} was made for another state of the estate: its files have changed since",
            code="proposal-differs",
            remedy="propose --out FILE again, and read it",
        )

"""Approvals: a second person's signature under what a proposal is known by."""

import json
from dataclasses import replace
from datetime import datetime
from pathlib import Path

from enthesis.files.shapes import time_text
from enthesis.live.signing import signed, signer
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.proposals.approving import Lacking, lacking
from enthesis.proposals.steps import Proposal, digest_of


def approved(estate: Estate, proposal: Proposal, key: Path, now: datetime) -> tuple[Proposal, str]:
    """Adds a signature to a proposal; returns it with the signer's address.

    Raises InvalidInput if the key belongs to no approver, or to the proposal's author.
    """
    said = {"approves": digest_of(proposal.as_json()), "estate": estate.name, "at": time_text(now)}
    made = signed(json.dumps(said).encode(), key)
    found = signer(made, _keys(estate))
    if found is None:
        raise InvalidInput(
            f"{key} is the key of nobody who approves",
            code="approver-unknown",
            remedy="add its public key to `approvers` of the estate, under the person's address",
        )
    person = found[0]
    if person == proposal.author:
        raise InvalidInput(f"{person} made this proposal, and cannot approve it", code="approver-unknown")
    others = [one for one in proposal.signatures if _by(estate, proposal, one) != person]
    return replace(proposal, signatures=(*others, made.decode().strip())), person


def approved_by(estate: Estate, proposal: Proposal) -> list[str]:
    """Who approved just this proposal, by the keys that the estate names."""
    found = (_by(estate, proposal, one) for one in proposal.signatures)
    return [person for person in found if person]


def refuse_if_approvals_lack(estate: Estate, proposal: Proposal) -> None:
    """Goes on where every approval that the estate asks for is there; InvalidInput otherwise."""
    missing = lacking(estate, proposal, approved_by(estate, proposal))
    if not missing:
        return
    if not proposal.author:
        raise InvalidInput(
            f"changes at {missing[0].at} want approvals, and nobody was signed in when this was proposed",
            code="approval-missing",
            remedy="enthesis sign-in, then propose --out FILE",
        )
    raise InvalidInput(
        "; ".join(map(_said, missing)),
        code="approval-missing",
        remedy="enthesis propose --out FILE; each of them: enthesis propose --approve FILE --sign KEY",
    )


def _said(one: Lacking) -> str:
    people = f" (such as {', '.join(one.who[:3])})" if one.who else ""
    return f"changes at {one.at} want {one.more} more approval{'s' if one.more > 1 else ''} of {one.of}{people}"


def _by(estate: Estate, proposal: Proposal, approval: str) -> str:
    """Who signed an approval of just this proposal; '' where nobody of the estate did, or it is of another one."""
    found = signer(approval.encode(), _keys(estate))
    if found is None:
        return ""
    try:
        said = json.loads(found[1])
    except (ValueError, RecursionError):
        return ""
    right = isinstance(said, dict) and said.get("approves") == digest_of(proposal.as_json())
    return found[0] if right and said.get("estate") == estate.name else ""


def _keys(estate: Estate) -> dict[str, str]:
    return {address: one.key for address, one in estate.approvers.items()}

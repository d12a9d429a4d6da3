"""Approvals: a second person's signature under what a proposal is known by.

It is made with an Ed25519 key that the estate names, or by the directory where the person is signed in, which states
that this person approves it (RFC 8693, with the details of RFC 9396).
"""

import json
import time
from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

from enthesis.connectors.directory import APPROVAL, Directory
from enthesis.connectors.http import Client
from enthesis.connectors.keys import IssuerKeys
from enthesis.files.shapes import time_text
from enthesis.live.clocks import clock_for
from enthesis.live.device_sign_in import directories_of, signed_in
from enthesis.live.signing import signed, signer
from enthesis.model.errors import InvalidInput, RightMissing
from enthesis.model.estate import Estate
from enthesis.proposals.approving import Lacking, lacking
from enthesis.proposals.steps import Proposal, digest_of
from enthesis.tokens.checking import Expected, Refused, believed, parsed

Signed = tuple[str, Mapping[str, Any]]
"""Who signed, and what was signed."""


def approved(estate: Estate, folder: Path, proposal: Proposal, key: Path | None, now: datetime) -> tuple[Proposal, str]:
    """Adds an approval to a proposal, signed with a key or by the directory where a person is signed in; returns the
    proposal with the approver's address.

    Raises InvalidInput if the key belongs to no approver, if nobody is signed in, or if the author approves;
    LiveFailure if the directory cannot be asked.
    """
    said = {"approves": digest_of(proposal.as_json()), "estate": estate.name}
    made = _by_key(key, said, now) if key is not None else _by_sign_in(estate, folder, said, now)
    found = _signed(estate, folder, made)
    if found is None and key is not None:
        raise InvalidInput(
            f"{key} is not the key of an approver",
            code="approver-unknown",
            remedy="add its public key to `approvers` of the estate, under the person's address",
        )
    if found is None:
        raise RightMissing("the directory's statement is not signed by it", code="sign-in-refused")
    person = found[0]
    if person == proposal.author:
        raise InvalidInput(f"{person} made this proposal, and cannot approve it", code="approver-unknown")
    others = [signature for signature in proposal.signatures if _by(estate, folder, proposal, signature) != person]
    return replace(proposal, signatures=(*others, made)), person


def _by_key(key: Path, said: Mapping[str, Any], now: datetime) -> str:
    return signed(json.dumps({**said, "at": time_text(now)}).encode(), key).decode().strip()


def _by_sign_in(estate: Estate, folder: Path, said: Mapping[str, Any], now: datetime) -> str:
    person = signed_in(estate, folder, now)
    if person is None:
        raise InvalidInput(
            "no approver is signed in",
            code="sign-in-needed",
            remedy="enthesis sign-in; or give the approver's key with --sign KEY",
        )
    authority = directories_of(estate, folder)[person.organisation][1]
    with Client(person.organisation, person.directory, authority=authority) as client:
        return Directory(person.organisation, client).approval(person.secret, said)


def approved_by(estate: Estate, folder: Path, proposal: Proposal) -> list[str]:
    """Who approved just this proposal, by the keys that the estate names and those of its directories.

    Raises LiveFailure if a directory that stated an approval cannot be asked for its keys."""
    found = (_by(estate, folder, proposal, signature) for signature in proposal.signatures)
    return [person for person in found if person]


def refuse_if_approvals_lack(estate: Estate, folder: Path, proposal: Proposal) -> None:
    """Continues where every approval that the estate asks for is there; InvalidInput otherwise."""
    missing = lacking(estate, proposal, approved_by(estate, folder, proposal))
    if not missing:
        return
    if not proposal.author:
        raise InvalidInput(
            f"changes at {missing[0].at} need approvals, and no person was signed in when this was proposed",
            code="approval-missing",
            remedy="enthesis sign-in, then propose --out FILE",
        )
    raise InvalidInput(
        "; ".join(map(_said, missing)),
        code="approval-missing",
        remedy="enthesis propose --out FILE; each of them: enthesis propose --approve FILE",
    )


def _said(one: Lacking) -> str:
    people = f" (such as {', '.join(one.who[:3])})" if one.who else ""
    return f"changes at {one.at} want {one.more} more approval{'s' if one.more > 1 else ''} of {one.of}{people}"


def _by(estate: Estate, folder: Path, proposal: Proposal, approval: str) -> str:
    """Who signed an approval of just this proposal; '' where nobody of the estate did, or it is of another one."""
    found = _signed(estate, folder, approval)
    if found is None:
        return ""
    person, said = found
    right = said.get("approves") == digest_of(proposal.as_json()) and said.get("estate") == estate.name
    return person if right else ""


def _signed(estate: Estate, folder: Path, approval: str) -> Signed | None:
    """Who signed an approval, and what it says; None where nobody of the estate did."""
    found = signer(approval.encode(), {address: one.key for address, one in estate.approvers.items()})
    if found is None:
        return _stated(estate, folder, approval)
    try:
        said = json.loads(found[1])
    except (ValueError, RecursionError):
        return None
    return (found[0], said) if isinstance(said, dict) else None


def _stated(estate: Estate, folder: Path, approval: str) -> Signed | None:
    """The same of what a directory of ours states about a person who is signed in there."""
    try:
        taken = parsed(approval.encode())
    except Refused:
        return None
    places = directories_of(estate, folder).items()
    named = taken.unverified_claims.get("iss")
    found = next(((name, *place) for name, place in places if place[0] == named and not estate.is_outside(name)), None)
    if found is None:
        return None
    name, url, authority = found
    try:
        keys = IssuerKeys(name, url, time.monotonic, authority=authority).keys_for(taken.kid)
        expected = Expected(url, clock_for(estate, folder).now(), audience=APPROVAL)
        claims = believed(approval.encode(), keys, expected)
    except Refused:
        return None
    person, details = str(claims.get("sub")), claims.get("authorization_details")
    ours = person in estate.identities and person.startswith(f"{name}/")
    said = details[0] if isinstance(details, list) and len(details) == 1 else None
    return (person, said) if ours and isinstance(said, dict) and said.get("type") == APPROVAL else None

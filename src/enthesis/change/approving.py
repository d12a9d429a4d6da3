"""Signatures under what a proposal is known by: its author's, and those of the people who approve it.

They are made with an Ed25519 key that the estate names, or by the directory where the person is signed in, which states
that this person proposes or approves it (RFC 8693, with the details of RFC 9396).
"""

import json
import time
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

from enthesis.connectors.directory import APPROVAL, Directory
from enthesis.connectors.http import Client
from enthesis.connectors.keys import IssuerKeys
from enthesis.live.clocks import clock_for
from enthesis.live.device_sign_in import directories_of, signed_in
from enthesis.live.signing import signed, signer
from enthesis.model.errors import InvalidInput, RightMissing
from enthesis.model.estate import Approver, Estate
from enthesis.proposals.approving import Lacking, lacking
from enthesis.proposals.rules import ChangeRule, loosened
from enthesis.proposals.steps import Proposal, Step, digest_of
from enthesis.text.times import time_text
from enthesis.tokens.checking import Expected, Refused, believed, parsed

APPROVES, PROPOSES = "approves", "proposes"  # what a person states of the digest of a proposal

Signed = tuple[str, Mapping[str, Any]]
"""Who signed, and what was signed."""


def approved(estate: Estate, folder: Path, proposal: Proposal, key: Path | None, now: datetime) -> tuple[Proposal, str]:
    """Adds an approval to a proposal, signed with a key or by the directory where a person is signed in; returns the
    proposal with the approver's address.

    Raises InvalidInput if the key belongs to no approver, if nobody is signed in, if the author has not signed, or if
    the author approves; LiveFailure if the directory cannot be asked.
    """
    if not author_of(estate, folder, proposal):
        raise InvalidInput(
            "nobody can approve this: it is not signed by its author",
            code="approval-missing",
            remedy="its author: enthesis sign-in, then propose --out FILE; or propose --out FILE --sign KEY",
        )
    made, person = _stated_by(estate, folder, APPROVES, proposal, key, now)
    if person == proposal.author:
        raise InvalidInput(f"{person} made this proposal, and cannot approve it", code="approver-unknown")
    others = [one for one in proposal.signatures if _by(estate, folder, proposal, one, APPROVES) != person]
    return replace(proposal, signatures=(*others, made)), person


def authored(estate: Estate, folder: Path, proposal: Proposal, key: Path | None, now: datetime) -> Proposal:
    """A proposal with its author's signature: by a key, or by the directory where the author is signed in. As it is
    where there is neither."""
    if key is None and not proposal.author:
        return proposal
    if key is not None:
        _, person = _stated_by(estate, folder, PROPOSES, proposal, key, now)
        proposal = replace(proposal, author=person)
    made, _ = _stated_by(estate, folder, PROPOSES, proposal, key, now)
    return replace(proposal, signatures=(made,))


def author_of(estate: Estate, folder: Path, proposal: Proposal) -> str:
    """Who made a proposal, where that person has signed just this one; '' where nobody knows."""
    signed_by = {_by(estate, folder, proposal, one, PROPOSES) for one in proposal.signatures}
    return proposal.author if proposal.author in signed_by - {""} else ""


def _stated_by(
    estate: Estate, folder: Path, verb: str, proposal: Proposal, key: Path | None, now: datetime
) -> tuple[str, str]:
    """A person's statement about a proposal, and whose it is."""
    said = {verb: digest_of(proposal.as_json()), "estate": estate.name}
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
    return made, found[0]


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
    found = (_by(estate, folder, proposal, signature, APPROVES) for signature in proposal.signatures)
    return [person for person in found if person]


def refuse_if_changed(estate: Estate, folder: Path, proposal: Proposal) -> None:
    """Continues where every signature of a proposal is under just what it says; InvalidInput where one is not.
    Signatures by people whom the estate does not know are passed over."""
    for signature in proposal.signatures:
        found = _signed(estate, folder, signature)
        digest = digest_of(proposal.as_json())
        if found is not None and digest not in (found[1].get(PROPOSES), found[1].get(APPROVES)):
            raise InvalidInput(
                f"this proposal was changed after {found[0]} signed it",
                code="proposal-differs",
                remedy="propose --out FILE again, and have it approved",
            )


def refuse_if_approvals_lack(
    estate: Estate, folder: Path, proposal: Proposal, steps: Sequence[Step], rule: ChangeRule, before: ChangeRule | None
) -> None:
    """Continues where every approval that is asked for is there, by the rule of the estate and by the one that was last
    enacted (`before`); InvalidInput otherwise."""
    author = author_of(estate, folder, proposal)
    missing = lacking(rule, steps, author, approved_by(estate, folder, proposal))
    if before is not None:
        loosens = bool(loosened(before, rule))
        there = [name for name, one in estate.identities.items() if not one.disabled]
        then = replace(before, within={**rule.within, **before.within})
        agreed = approved_by(_as_then(estate, before), folder, proposal)
        missing += lacking(then, steps, author, agreed, loosens=loosens, there=there)
    if not missing:
        return
    if not author and (proposal.signatures or not proposal.author):
        why = "it is not signed by its author" if proposal.author else "no person was signed in when this was proposed"
        raise InvalidInput(
            f"changes at {missing[0].at} need approvals, and {why}",
            code="approval-missing",
            remedy="enthesis sign-in, then propose --out FILE; or propose --out FILE --sign KEY",
        )
    raise InvalidInput(
        "; ".join(dict.fromkeys(_said(one, proposal.author) for one in missing)),
        code="approval-missing",
        remedy="enthesis propose --out FILE; each of them: enthesis propose --approve FILE",
    )


def _as_then(estate: Estate, before: ChangeRule) -> Estate:
    """An estate with the approvers and directories of an earlier rule."""
    organisations = {
        name: replace(one, directory=before.directories.get(f"@{name}", one.directory))
        for name, one in estate.organisations.items()
    }
    approvers = {person: Approver(person, key) for person, key in before.keys.items()}
    return replace(estate, approvers=approvers, organisations=organisations)


def _said(one: Lacking, author: str) -> str:
    others = [person for person in one.who if person != author]
    people = f" (such as {', '.join(others[:3])})" if others else ""
    return f"changes at {one.at} want {one.more} more approval{'s' if one.more > 1 else ''} of {one.of}{people}"


def _by(estate: Estate, folder: Path, proposal: Proposal, statement: str, verb: str) -> str:
    """Who states of just this proposal that they propose or approve it; '' where nobody of the estate does, or it is of
    another one."""
    found = _signed(estate, folder, statement)
    if found is None:
        return ""
    person, said = found
    right = said.get(verb) == digest_of(proposal.as_json()) and said.get("estate") == estate.name
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
    made, details = (taken.unverified_claims.get(name) for name in ("iat", "authorization_details"))
    proposes = isinstance(details, list) and any(isinstance(one, dict) and PROPOSES in one for one in details)
    at = clock_for(estate, folder).now()
    if proposes and isinstance(made, int):
        at = min(at, datetime.fromtimestamp(made, at.tzinfo))  # who made a proposal stays so; an approval ends
    try:
        keys = IssuerKeys(name, url, time.monotonic, authority=authority).keys_for(taken.kid)
        expected = Expected(url, at, audience=APPROVAL)
        claims = believed(approval.encode(), keys, expected)
    except Refused:
        return None
    person, details = str(claims.get("sub")), claims.get("authorization_details")
    ours = person in estate.identities and person.startswith(f"{name}/")
    said = details[0] if isinstance(details, list) and len(details) == 1 else None
    return (person, said) if ours and isinstance(said, dict) and said.get("type") == APPROVAL else None

"""Withdraws access at live systems: finds what is to be withdrawn, and shows afterwards that nothing opens any more."""

import json
from collections.abc import Callable, Collection, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from enthesis.access.compiling import compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.chains.differences import Difference, difference
from enthesis.change.carrying_out import PermittedChange, Sending, carry_out, refuse_unaccepted
from enthesis.change.enacting import Enacted
from enthesis.change.preparing import Clock, LiveSide, PreparedChange
from enthesis.cleaning.cutoff import (
    Cut,
    LiveCredential,
    Withdrawn,
    copied,
    ending_otherwise,
    file_edits,
    involving,
    live_steps,
    reached,
    refused_now_at_names,
    running_as,
    still_covering,
    unbound_roles,
)
from enthesis.cleaning.mentions import mentions
from enthesis.files.editing import Edit, edited
from enthesis.files.folder import estate_texts, read_texts
from enthesis.files.saving import write_file
from enthesis.live.proving import Proof, prove
from enthesis.model.addresses import account_of
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Credential, Estate
from enthesis.model.sentences import verb_words
from enthesis.model.vocabulary import Ending
from enthesis.ports import Connected, KeepsKeys, KeepsSessions, Reporter
from enthesis.proposals.credentials import Credentialed, OpenSession, matching
from enthesis.proposals.dangers import dangers
from enthesis.proposals.effects import afterwards, as_estate, live_of
from enthesis.proposals.rules import rule_of
from enthesis.proposals.steps import CREDENTIALS, Danger, Proposal
from enthesis.proposals.wanted import holders
from enthesis.surveys.statements import Surveyed
from enthesis.text.times import time_from, time_text

CUTOFF = "cutoff"  # what the store keeps of one


@dataclass(frozen=True, slots=True)
class Planned:
    """A cut with the access that is lost by it, and the texts of the files before and after."""

    cut: Cut
    change: Difference
    before: dict[str, str]
    after: dict[str, str]
    by_hand: str = ""  # why the files cannot be edited, if so
    dangers: tuple[Danger, ...] = ()


@dataclass(frozen=True, slots=True)
class Extent:
    """How much is withdrawn: also what `others` made; and from the files with `forget` all that is about
    the target."""

    others: bool = False
    forget: bool = False


def kept_at(estate: Estate, connected: Connected) -> list[LiveCredential]:
    """The keyed credentials and open sessions that the providers keep; a sign-in, which several tell, once."""
    asked: list[tuple[str, Callable[[Sequence[str]], Sequence[Credentialed | OpenSession]]]] = []
    for name, provider in connected.providers.items():
        if isinstance(provider, KeepsKeys):
            asked.append((name, provider.keys))
        if isinstance(provider, KeepsSessions):
            asked.append((name, provider.open_sessions))
    out: dict[str, LiveCredential] = {}
    with ThreadPoolExecutor(max(1, len(asked))) as pool:
        for name, found in pool.map(lambda one: (one[0], one[1](holders(estate, one[0]))), asked):
            for each in found:
                out.setdefault(each.id, LiveCredential(name, each))
    return list(out.values())


def planned(
    estate: Estate, live: LiveSide, target: Withdrawn, surveys: Sequence[Surveyed], kept: Sequence[LiveCredential],
    now: datetime, extent: Extent,
) -> Planned:  # fmt: skip
    """What is withdrawn, what it does to access, what is dangerous in it, and what is to be known about it."""
    folder = live.folder
    listing = [name for name, one in live.connected.providers.items() if isinstance(one, KeepsKeys)]
    steps, foreign = live_steps(estate, target, surveys, kept, others=extent.others)
    before = {name: text for name, text in estate_texts(folder).items() if name}
    about = () if target.form == "session" else tuple(mentions(estate, read_texts(before).named_at, target.name))
    edits = file_edits(estate, target) if not extent.forget else [one.edit for one in about if one.edit is not None]
    after, described, by_hand = _edited(before, edits, estate)
    if not by_hand:
        more = refused_now_at_names(estate, described, now)
        if more:
            edits += more
            after, described, by_hand = _edited(before, edits, estate)
    steps += unbound_roles(estate, described, surveys)
    steps.sort(key=lambda step: step.stage)
    there = live_of(estate, surveys)
    revoked = {step.id for step in steps if step.collection == CREDENTIALS}
    was = with_live_keys(as_estate(estate, there), kept, listing, frozenset())
    now_is = with_live_keys(as_estate(described, afterwards(there, steps)), kept, listing, revoked)
    chains = Chains(Web(compile_estate(was), now.timestamp()))
    cut = Cut(
        target,
        tuple(steps),
        tuple(edits),
        tuple(foreign),
        tuple(_lives_on(estate, target, kept)),
        tuple(copied(chains, target, estate.credentials.values())),
        tuple(ending_otherwise(estate, described, now)),
        tuple(dict.fromkeys(running_as(estate, target))),
        tuple(_still_open(estate, now_is, target, now)),
        about,
    )
    change = difference(was, now_is, now.timestamp())
    found = dangers(estate, Proposal(estate.name, tuple(steps)), surveys, change, live.by)
    return Planned(cut, change, before, after, by_hand, found)


def _edited(before: dict[str, str], edits: Sequence[Edit], estate: Estate) -> tuple[dict[str, str], Estate, str]:
    """The texts after edits with the estate that they describe; as before, with the reason, where that fails."""
    if not edits:
        return before, estate, ""
    try:
        after = edited(before, edits)
        reading = read_texts(after)
        if reading.estate is None:
            raise ValueError(reading.errors[0].message)
    except ValueError as fault:
        return before, estate, str(fault)
    return after, reading.estate, ""


LISTED = ("access-key", "client-secret", "static-token")  # forms of keys that a provider keeps itself


def with_live_keys(
    estate: Estate, kept: Sequence[LiveCredential], listing: Collection[str], revoked: Collection[str | None]
) -> Estate:
    """A live side with the keyed credentials that its providers keep, but for those that are revoked. Of a provider
    that lists its keys, what the files know besides is not there."""
    live = {
        name: one
        for name, one in estate.credentials.items()
        if one.form not in LISTED or estate.system_of(one.of) not in listing
    }
    for each in kept:
        one = each.one
        if not isinstance(one, Credentialed) or one.of not in estate.identities:
            continue
        described = matching(estate, one)
        if described is not None:
            live.pop(described.name, None)
        if one.id not in revoked:
            name = described.name if described is not None else one.name
            name = name if name not in live else f"{one.name} of {one.of}"
            held = described.held_in if described is not None else ()
            times = time_from(one.created), time_from(one.expires)
            live[name] = Credential(name, one.of, one.form, *times, disabled=one.disabled, held_in=held)
    return estate.with_credentials(live)


def _still_open(described: Estate, live: Estate, target: Withdrawn, now: datetime) -> list[str]:
    """What a target reaches after all of it, and why; nothing where it is shut."""
    if target.form in ("session", "credential"):
        return []
    chains = Chains(Web(compile_estate(live), now.timestamp()))
    found = reached(chains, target)
    if not found:
        return []
    why = still_covering(described, target)
    first = f"{verb_words(found[0].verb)} {found[0].target}"
    more = f", and has {len(found) - 1} more permissions" if len(found) > 1 else ""
    return [*why, f"so {target.name} can still {first}{more}"]


def _lives_on(estate: Estate, target: Withdrawn, kept: Sequence[LiveCredential]) -> list[tuple[str, str]]:
    """What cannot be withdrawn here, and until when it lives."""
    out: list[tuple[str, str]] = []
    organisation = f"@{estate.organisation_of(target.name)}" if target.form == "person" else ""
    if organisation and estate.organisations[organisation[1:]].people is None:
        out.append((f"the directory of {organisation} still signs {target.name} in", "until it is disabled there"))
    system = estate.system_of(target.of or target.name) if account_of(target.of or target.name) else ""
    if system and system not in estate.providers:
        out.append((f"tokens of {target.name} that {system} has issued", "until they end, an hour at most"))
    for kept_step in kept:
        session = kept_step.one
        if not isinstance(session, OpenSession) or not estate.administered_by_others(session.of):
            continue
        if target.name in (session.origin.get("address"), *session.via):
            told = f"the session of {session.of}, whose administrators are others"
            out.append((told, f"until {session.ends:%H:%M:%SZ}"))
    return out


def prepared_cut(
    plan: Planned, estate: Estate, live: LiveSide, surveys: tuple[Surveyed, ...], clock: Clock
) -> PreparedChange:
    """A cut as a change, in its own order: what ends most access goes first."""
    seen = {surveyed.provider: surveyed.seen() for surveyed in surveys}
    proposal = Proposal(estate.name, plan.cut.steps, seen=seen, dangers=plan.dangers, author=live.by)
    return PreparedChange(estate, live, clock, proposal, surveys, rule_of(estate), difference=plan.change)


def cut_off(
    plan: Planned, change: PermittedChange, *, accepted: Collection[str], because: str, sending: Sending
) -> tuple[Enacted, list[str]]:
    """Writes the files, then withdraws on the live side: what is interrupted in between gives nothing back. Answers
    with what came of it, and which files changed. InvalidInput, before either, where a danger is not accepted."""
    refuse_unaccepted(change.dangers, accepted)
    live, clock = change.prepared.live, change.prepared.clock
    changed = write_files(live.folder, plan)
    why = because or f"cut off {plan.cut.target.name}"
    enacted = carry_out(change, accepted=accepted, because=why, sending=sending)
    content = document_of(plan, enacted.number, live.by, because, time_text(clock()))
    change.journal.keep(CUTOFF, change.prepared.estate.name, content)
    return enacted, changed


def write_files(folder: Path, plan: Planned) -> list[str]:
    """Writes the files as they are to be; the names of those that changed."""
    changed = [name for name in plan.after if plan.after[name] != plan.before[name]]
    for name in changed:
        write_file(folder / name, plan.after[name].encode())
    return changed


def document_of(plan: Planned, number: int, by: str, because: str, at: str) -> bytes:
    """What the store keeps of a cut-off: of whom, in which enactment, and how the files were."""
    changed = [name for name in plan.after if plan.after[name] != plan.before[name]]
    said: dict[str, Any] = {
        "target": plan.cut.target.name, "enactment": number, "by": by, "because": because, "at": at,
        "files": {name: {"before": plan.before[name], "after": plan.after[name]} for name in changed},
    }  # fmt: skip
    return json.dumps(said).encode()


def restore_files(folder: Path, document: bytes) -> list[str]:
    """Writes the files as they were before a cut-off; InvalidInput where one says something else by now."""
    files = json.loads(document)["files"]
    texts = estate_texts(folder)
    moved = [name for name, text in files.items() if texts.get(name) != text["after"]]
    if moved:
        raise InvalidInput(
            f"{', '.join(moved)} changed since, so the files are left as they are",
            code="file-not-editable",
            remedy="write back by hand what was taken out; `git diff` shows it where the estate is in git",
        )
    for name, text in files.items():
        write_file(folder / name, text["before"].encode())
    return list(files)


# -- afterwards -----------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Checked:
    """What a target still reaches on the live side, which keys and sessions of it are there, and what was tried."""

    opens: tuple[str, ...]
    kept: tuple[str, ...]
    tried: tuple[Proof, ...]

    session: bool = False  # whether a session alone was asked about

    @property
    def shut(self) -> bool:
        """Whether nothing opens. A sign-in, or a session of a disabled identity, that is still there opens nothing."""
        left = self.kept if self.session else self.opens
        return not left and all(proof.outcome is Ending.REFUSED for proof in self.tried)

    @property
    def got_in(self) -> tuple[Proof, ...]:
        """The attempts that succeeded although they must not."""
        return tuple(proof for proof in self.tried if proof.outcome is Ending.ALLOWED)


def checked(
    described: Estate, live: Estate, target: Withdrawn, kept: Sequence[LiveCredential], connected: Connected,
    now: datetime,
    reporter: Reporter,
) -> Checked:  # fmt: skip
    """Looks at what a target can reach on the live side, and tries the journeys that begin at it or pass it."""
    steps, _ = live_steps(described, target, (), kept, others=True)
    left = tuple(step.sentence for step in steps)
    if target.form == "session":
        return Checked((), left, (), session=True)
    chains = Chains(Web(compile_estate(live), now.timestamp()))
    opens = [f"{access.verb} {access.target}" for access in reached(chains, target)]
    journeys = [
        replace(journey, expect=Ending.REFUSED, refused_at=(), keyless=False, within=None)
        for journey in involving(described, target)
    ]
    tried = prove(described, journeys, connected, now, reporter)
    return Checked(tuple(dict.fromkeys(opens)), left, tuple(tried))

"""What a proposal does to effective access: the live side as an estate, before its steps and after them."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from functools import cache
from typing import Any

from enthesis.chains.differences import Difference, difference
from enthesis.chains.intermediate_states import Meant, Versions
from enthesis.chains.sentences import gain_sentences
from enthesis.chains.shared_logins import ON, SharedLogin, distinct_verbs, opened_there
from enthesis.files.field_types import MISSING, Notes
from enthesis.files.sections import SECTIONS
from enthesis.files.writing import plain_statement
from enthesis.files.yaml_tree import tree_of
from enthesis.model.addresses import account_of, article
from enthesis.model.catalogue import EVERYTHING, Catalogue
from enthesis.model.estate import NOWHERE, Estate, Role
from enthesis.model.sentences import statement_sentence, verb_words
from enthesis.model.vocabulary import BEARERS, STATEMENT_SECTIONS, STATEMENTS
from enthesis.proposals.ordering import Judged, ordered
from enthesis.proposals.steps import REMOVE, Opening, Proposal, Step
from enthesis.proposals.wanted import wanted
from enthesis.surveys.statements import (
    Keepers,
    LiveObject,
    Surveyed,
    held_by,
    normalised,
    one_group,
    where_they_count,
    without_gone,
)
from enthesis.text.times import time_text

Live = dict[tuple[str, str], LiveObject]
"""What is on the live side, by provider and id."""
TOLD_APART = 20  # statements of others; what more of them open is told together
OPENING = tuple(name for name, section in STATEMENT_SECTIONS.items() if section.opens)


def access_change(estate: Estate, proposal: Proposal, surveys: Sequence[Surveyed], now: float) -> Difference:
    """Who gains and loses what when a proposal is carried out, at an instant (seconds since 1970).

    Both sides are judged with the accounts, resources and people that the estate describes.
    """
    if not proposal.steps:
        return Difference((), ())
    before = live_of(estate, surveys)
    return difference(as_estate(estate, before), as_estate(estate, afterwards(before, proposal.steps)), now)


def in_stages(estate: Estate, proposal: Proposal, surveys: Sequence[Surveyed], now: float) -> Proposal:
    """The proposal with its steps in stages, so that no state on the way opens more than before and after do."""
    found = ordered(proposal.steps, between(estate, proposal.steps, surveys, now))
    return replace(proposal, steps=found.steps, outages=tuple(map(_said, found.outages)))


def between(estate: Estate, steps: Sequence[Step], surveys: Sequence[Surveyed], now: float) -> Judged:
    """Judges states on the way from the live side to what it is after all these steps."""
    live = live_of(estate, surveys)

    @cache
    def versions() -> Versions:  # where all steps go one way, none is judged
        return Versions(as_estate(estate, live), as_estate(estate, afterwards(live, steps)), now)

    return lambda done: versions().between(as_estate(estate, afterwards(live, done)))


def _said(meant: Meant) -> str:
    who = f"the bearer of {article(meant.form)} of {meant.caller}" if meant.form in BEARERS else meant.caller
    return f"{who} may {verb_words(meant.verb)} {meant.target}"


def without_accepted(estate: Estate, proposal: Proposal, now: datetime) -> Proposal:
    """The proposal without the differences that the estate lives with for a while."""
    accepted = {
        acceptance.of: acceptance
        for acceptance in estate.accepted
        if acceptance.risk in ("drift", "not-possible") and acceptance.in_force(now)
    }
    if not accepted:
        return proposal
    lived: list[str] = []

    def stands(sentence: str, told: str) -> bool:
        found = accepted.get(sentence)
        if found is not None:
            lived.append(f"{told}: {found.because}, until {time_text(found.until)}")
        return found is None

    def of_step(step: Step) -> str:
        return statement_sentence(step.collection, step.body or step.before or {})

    steps = tuple(step for step in proposal.steps if stands(of_step(step), step.sentence))
    blocked = tuple(blocked for blocked in proposal.blocked if stands(blocked.sentence, blocked.sentence))
    left, theirs = (
        tuple(said for said in listed if stands(said.rpartition(" (")[0], said))
        for listed in (proposal.left, proposal.theirs)
    )
    return replace(proposal, steps=steps, blocked=blocked, left=left, theirs=theirs, lived_with=tuple(lived))


def openings(
    estate: Estate,
    proposal: Proposal,
    surveys: Sequence[Surveyed],
    now: datetime,
) -> tuple[Opening, ...]:
    """What others have opened that is ours and shut without it, after a proposal: by statements, and by switching a
    shared login on."""
    return (*_shared_logins(estate, surveys, now), *_statements_that_open(estate, proposal, surveys, now))


def _shared_logins(estate: Estate, surveys: Sequence[Surveyed], now: datetime) -> Iterator[Opening]:
    """Those that are on where they are not described so."""
    for address, is_on in (login for surveyed in surveys for login in surveyed.shared_logins.items()):
        described = estate.resources.get(address)
        if is_on and (described is None or described.shared_login != ON):
            login = SharedLogin(address, distinct_verbs(opened_there(estate.catalogue, address)), NOWHERE)
            sentence = f"the login that people share at {address} is on"
            accepted = _accepted(estate, sentence, now) or _accepted(estate, address, now, "shared-login")
            yield Opening(f"{sentence} ({account_of(address)})", (login.says,), accepted)


def _statements_that_open(
    estate: Estate,
    proposal: Proposal,
    surveys: Sequence[Surveyed],
    now: datetime,
) -> tuple[Opening, ...]:
    """The statements of others that open something."""
    after = afterwards(live_of(estate, surveys), proposal.steps)
    described = {statement.key: normalised(statement.collection, statement.body) for statement in wanted(estate)[0]}
    others = {
        key: one
        for key, one in after.items()
        if one.collection in OPENING
        and one.mark != estate.name
        and not one.by_itself
        and described.get(one.key) != normalised(one.collection, one.body)
    }
    if not others:
        return ()
    whole = as_estate(estate, after)

    def opened(by: Live) -> tuple[str, ...]:
        without = {key: one for key, one in after.items() if key not in by}
        found = difference(as_estate(estate, without), whole, now.timestamp())
        undecided = ("what it opens is not decided in full",) if found.undecided else ()
        return (*gain_sentences(found.gains), *undecided)

    together = opened(others)
    if not together:
        return ()
    keys = list(others)
    parts: list[Live] = [{key: others[key]} for key in keys[:TOLD_APART]]
    parts += [{key: others[key] for key in keys[TOLD_APART:]}] if keys[TOLD_APART:] else []
    apart = [(part, opens) for part in parts if (opens := opened(part))]
    # where each stands in for another, none opens anything alone
    return tuple(
        Opening(f"{sentence} ({statement.holder})", opens, _accepted(estate, sentence, now))
        for part, opens in apart or [(others, together)]
        for statement in part.values()
        for sentence in [statement_sentence(statement.collection, statement.body)]
    )


def closings(
    estate: Estate, proposal: Proposal, surveys: Sequence[Surveyed], now: datetime
) -> tuple[Opening, ...]:  # fmt: skip
    """The ceilings of others that close something that is open without them, after a proposal."""
    after = afterwards(live_of(estate, surveys), proposal.steps)
    described = {statement.key for statement in wanted(estate)[0]}
    limits = [
        key
        for key, one in after.items()
        if STATEMENT_SECTIONS[one.collection].limits and one.mark != estate.name and one.key not in described
    ]
    if not limits:
        return ()
    whole = as_estate(estate, after)
    out = []
    for key in limits[:TOLD_APART]:
        without = as_estate(estate, {other: one for other, one in after.items() if other != key})
        found = difference(whole, without, now.timestamp())
        if found.gains:
            statement = after[key]
            sentence = statement_sentence(statement.collection, statement.body)
            out.append(Opening(f"{sentence} ({statement.holder})", tuple(gain_sentences(found.gains))))
    return tuple(out)


def _accepted(estate: Estate, of: str, now: datetime, risk: str = "not-ours") -> str:
    """Why, and until when, the estate lives with what others opened; '' where it does not, or does not any more."""
    for acceptance in estate.accepted:
        if acceptance.risk == risk and acceptance.of == of and acceptance.in_force(now):
            return f"{acceptance.because}, until {time_text(acceptance.until)}"
    return ""


def live_of(estate: Estate, surveys: Sequence[Surveyed]) -> Live:
    """The statements of several surveys, by provider and id; with the pipeline access of issuers that nobody asked, as
    it is described."""
    asked = {surveyed.provider for surveyed in surveys}
    live = {(surveyed.provider, statement.id): statement for surveyed in surveys for statement in surveyed.objects}
    for name, access in estate.pipeline_access.items():
        if access.at not in asked:
            body = {"name": name, **plain_statement("pipeline_access", access)}
            there = (access.at, f"described {name}")
            live[there] = LiveObject(access.at, "pipeline_access", access.at, there[1], "", estate.name, body)
    return live


def afterwards(before: Live, steps: Sequence[Step]) -> Live:
    """What is on the live side once the steps are done."""
    after = dict(before)
    for number, step in enumerate(steps):
        if step.action == REMOVE:
            after.pop((step.provider, str(step.id)), None)
        elif step.body is not None:
            there = (step.provider, step.id or f"step {number}")
            after[there] = LiveObject(step.provider, step.collection, step.holder, there[1], "", step.mark, step.body)
    return after


def as_estate(described: Estate, live: Live) -> Estate:
    """The estate that live statements make. A role is known by its holder too, since each holder has its own."""
    people = {address: one for address, one in described.identities.items() if one.is_person}
    sections: dict[str, Any] = {name: {} if SECTIONS[name].key else [] for name in STATEMENTS}
    sections["identities"].update(people)
    kept = [statement for statement in live.values() if not statement.provider.startswith("@")]
    for statement in live.values():  # a directory says of people whether they are disabled; clouds keep the access
        address = statement.body.get("address")
        if statement.provider.startswith("@") and address in people:
            disabled = statement.body.get("disabled") is True
            sections["identities"][address] = replace(people[address], disabled=disabled)
    for statement in where_they_count(kept, Keepers.of(described)):
        collection = statement.collection
        value = _read(collection, held_by(collection, statement.holder, without_gone(statement.body)))
        if value is None:
            continue
        section = SECTIONS[collection]
        if section.key:
            first = sections[collection].setdefault(getattr(value, section.key), value)
            if collection == "groups" and first is not value:
                sections[collection][value.address] = one_group(first, value)
        else:
            sections[collection].append(value)
    resources = {address: replace(one, runs_as=()) for address, one in described.resources.items()}
    lists: dict[str, Any] = {
        name: tuple(value) if isinstance(value, list) else value for name, value in sections.items()
    }
    # a cluster's roles may refer to kinds that the estate knows nothing of; what they do is the same on both sides
    lists["roles"] = {name: _of_known_kinds(described.catalogue, one) for name, one in lists["roles"].items()}
    known = {*lists["identities"], *lists["groups"]}
    recipients = known | {f"@{name}" for name in described.organisations}
    lists["grants"] = tuple(
        grant for grant in lists["grants"] if grant.to in recipients and grant.role in lists["roles"]
    )
    lists["trusts"] = tuple(trust for trust in lists["trusts"] if trust.of in lists["identities"])
    lists["pipeline_access"] = {
        name: one if one.credential in described.credentials else replace(one, credential=None)
        for name, one in lists["pipeline_access"].items()
        if one.of in lists["identities"] and one.at in described.issuers
    }
    lists["attachments"] = tuple(
        replace(attachment, runs_as=tuple(name for name in attachment.runs_as if name in known))
        for attachment in lists["attachments"]
    )
    # without journeys, whose values would be told before those of outsiders that gain as much (dangers look at these)
    return replace(described, resources=resources, journeys={}, invariants=(), **lists)


def _of_known_kinds(catalogue: Catalogue, role: Role) -> Role:
    allows = {kind: verbs for kind, verbs in role.allows.items() if kind == EVERYTHING or kind in catalogue.kinds}
    return role if len(allows) == len(role.allows) else replace(role, allows=allows)


def _read(collection: str, body: Mapping[str, Any]) -> Any:
    """The statement as the model has it; None for one that refers to what no longer exists, and so gives nothing."""
    section = SECTIONS[collection]
    key = section.key or ""
    tree = tree_of({name: value for name, value in body.items() if name != key})
    value = section.record.read(tree, Notes(""), **({key: body[key]} if key else {}))
    return None if value is MISSING else value

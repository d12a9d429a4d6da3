"""Compares what is wanted with what is there, and orders what is to be done."""

from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from enthesis.files.writing import plain_statement
from enthesis.model.addresses import account_of, standing_in
from enthesis.model.estate import Estate, boundary_of, in_force
from enthesis.model.sentences import shown, statement_sentence
from enthesis.proposals.lingering import dangling, living_on
from enthesis.proposals.ordering import in_usual_order
from enthesis.proposals.steps import CHANGE, MAKE, REMOVE, Blocked, Proposal, Step
from enthesis.proposals.wanted import Wanted, kept_for_members, known_at, usable_at, wanted
from enthesis.surveys.statements import Key, LiveObject, Surveyed, listed, names_what_is_gone, normalised
from enthesis.text.times import time_from

Objection = Callable[[str, Mapping[str, Any], Mapping[str, Any]], str]
"""Why a live system cannot hold a statement: its collection, its body, and for a grant what its role allows."""


def propose(
    estate: Estate,
    surveys: Sequence[Surveyed],
    *,
    prune: bool = False,
    objections: Mapping[str, Objection] | None = None,
    now: datetime | None = None,
) -> Proposal:
    """The proposal for an estate against what its providers and clusters have now.

    `objections` are those of live systems that cannot hold every statement, by their names. With `now`, what has ended
    by then is not made any more.
    """
    every, theirs = wanted(estate)
    spoken_to = {surveyed.provider for surveyed in surveys}
    known = {address for surveyed in surveys for address in surveyed.ids}
    ours = [statement for statement in every if statement.provider in spoken_to]
    live, twins = _kept_of_each(estate, ours, surveys)
    bodies = {our.key: normalised(our.collection, our.body) for our in ours}
    there = {
        our.key for our in ours if our.key in live and normalised(our.collection, live[our.key].body) == bodies[our.key]
    }
    ended = {our.key: our for our in ours if now is not None and our.key not in there and _has_ended(our, now)}
    blocked, why_blocked, waiting, fewer = _blocked(
        estate, [our for our in ours if our.key not in ended], surveys, live, there, objections or {}
    )
    why_blocked |= ended.keys()
    for key, members in fewer.items():
        bodies[key] = {**bodies[key], "members": members}
        if key in live and normalised("groups", live[key].body) == normalised("groups", bodies[key]):
            there.add(key)
    steps: list[Step] = []
    for our in ours:
        if our.key in why_blocked or our.key in there:
            continue
        found = live.get(our.key)
        body = bodies[our.key]
        steps.append(_making(our, body, estate.name) if found is None else _changing(our, body, found))
    written = _written(theirs, surveys, known)
    kept = {our.key for our in ours}
    leftover = [statement for surveyed in surveys for statement in surveyed.objects if statement.key not in kept]
    of_members = kept_for_members(estate)
    outside = [one for one in leftover if one.mark == estate.name and _place_of(one) in of_members]
    steps.extend(map(_removing, outside))  # who left a group has no grant by it, with --prune and without
    leftover = [statement for statement in leftover if statement not in outside]
    lingering = [statement for statement in leftover if statement.mark == estate.name]
    whole = [
        statement for statement in leftover if not names_what_is_gone(statement.body)
    ]  # the others are told as dangling
    steps.extend(_removing(twin) for twin in twins if twin.mark == estate.name)
    if prune:
        steps.extend(map(_removing, lingering))
    return Proposal(
        estate=estate.name,
        steps=tuple(in_usual_order(steps)),
        blocked=tuple(blocked),
        not_ours=tuple(
            _title(statement) for statement in whole if statement.mark != estate.name and _is_statement(statement)
        ),
        twins=tuple(_title(twin) for twin in twins if twin.mark != estate.name),
        left=() if prune else tuple(_title(statement) for statement in whole if statement.mark == estate.name),
        theirs=(*waiting, *(_wanted_title(their) for their in theirs if their not in written)),
        written=tuple(_wanted_title(statement) for statement in written),
        ended=tuple(
            f"{statement_sentence(statement.collection, statement.body)}, until {statement.body['until']} "
            f"({statement.source})"
            for statement in ended.values()
        ),
        seen={surveyed.provider: surveyed.seen() for surveyed in surveys},
        dangling=dangling(surveys, estate.name if prune else None),
        lives_on=tuple(living_on(steps, surveys)),
        aside=tuple(dict.fromkeys(statement.provider for statement in every if statement.provider not in spoken_to)),
    )


def _place_of(statement: LiveObject) -> tuple[str, str, str]:
    """The system, role and place of a grant; of any other statement none that a grant has."""
    body = statement.body if statement.collection == "grants" else {}
    return statement.provider, str(body.get("role", "")), str(body.get("at", ""))


def _kept_of_each(
    estate: Estate, ours: Sequence[Wanted], surveys: Sequence[Surveyed]
) -> tuple[dict[Key, LiveObject], list[LiveObject]]:
    """For each statement the live one that it is compared with, and the others of the same key: what they give stays
    when that one is narrowed. Of several, one of ours that is as it is wanted comes first, then any of ours."""
    found: dict[Key, list[LiveObject]] = {}
    for surveyed in surveys:
        for statement in surveyed.objects:
            found.setdefault(statement.key, []).append(statement)
    several = {key for key, objects in found.items() if len(objects) > 1}
    bodies = {our.key: normalised(our.collection, our.body) for our in ours if our.key in several}

    def rank(statement: LiveObject) -> tuple[bool, bool]:
        return (
            statement.mark != estate.name,
            normalised(statement.collection, statement.body) != bodies[statement.key],
        )

    for key in bodies:
        found[key].sort(key=rank)
    return {key: objects[0] for key, objects in found.items()}, [
        statement for key in bodies for statement in found[key][1:]
    ]


def _written(theirs: Sequence[Wanted], surveys: Sequence[Surveyed], known: Container[str]) -> list[Wanted]:
    """The statements of others that were seen, as they are wanted; a role where a grant of it was."""
    seen = {
        statement.key: normalised(statement.collection, statement.body)
        for surveyed in surveys
        for statement in surveyed.concerning
    }
    found = [
        their
        for their in theirs
        if their.body.get("address") in known or seen.get(their.key) == normalised(their.collection, their.body)
    ]
    bound = {
        (statement.provider, statement.holder, str(statement.body["role"]))
        for statement in found
        if statement.collection == "grants"
    }
    roles = [
        their
        for their in theirs
        if their.collection == "roles" and (their.provider, their.holder, str(their.body["name"])) in bound
    ]
    return [*found, *roles]


def _wanted_title(statement: Wanted) -> str:
    return f"{statement_sentence(statement.collection, statement.body)} ({statement.holder})"


def _has_ended(statement: Wanted, now: datetime) -> bool:
    return not in_force(time_from(statement.body.get("until")), now)


def _is_statement(statement: LiveObject) -> bool:
    """People exist already and are nobody's statement, and so is what came with something else."""
    return not statement.by_itself and not (
        statement.collection == "identities" and statement.body.get("kind") == "person"
    )


def _title(statement: LiveObject) -> str:
    return f"{statement_sentence(statement.collection, statement.body)} ({statement.holder})"


def _making(statement: Wanted, body: dict[str, Any], mark: str) -> Step:
    sentence = statement_sentence(statement.collection, body)
    return Step(MAKE, statement.provider, statement.collection, statement.holder, sentence, mark, body)


def _changing(statement: Wanted, body: dict[str, Any], found: LiveObject) -> Step:
    before = normalised(statement.collection, found.body)
    parts = [
        f"{name} from {shown(before.get(name))} to {shown(body.get(name))}"
        for name in dict.fromkeys([*before, *body])
        if before.get(name) != body.get(name)
    ]
    sentence = f"{statement_sentence(statement.collection, body)}: {'; '.join(parts)}"
    return Step(
        CHANGE,
        statement.provider,
        statement.collection,
        statement.holder,
        sentence,
        found.mark or "",
        body,
        before,
        found.id,
        found.etag,
    )


def _removing(statement: LiveObject) -> Step:
    sentence = statement_sentence(statement.collection, statement.body)
    return Step(
        REMOVE,
        statement.provider,
        statement.collection,
        statement.holder,
        sentence,
        statement.mark or "",
        before=dict(statement.body),
        id=statement.id,
        etag=statement.etag,
    )


def _objected(estate: Estate, our: Wanted, object_to: Objection | None) -> str:
    """Why the system that is to keep a statement cannot hold it; '' where it can."""
    role = estate.roles.get(str(our.body.get("role")))
    allows = plain_statement("roles", role)["allows"] if role else {}
    return object_to(our.collection, our.body, allows) if object_to is not None else ""


def never_held(estate: Estate, objections: Callable[[str], Objection | None]) -> Iterator[tuple[Wanted, str]]:
    """The statements that no live side as described can hold, each with why: what is known without asking one.
    `objections` are those of a system, by its name."""
    for our in wanted(estate)[0]:
        why = _unknown_there(estate, our)[0] if our.provider in estate.providers else ""
        why = why or _objected(estate, our, objections(our.provider))
        if why:
            yield our, why


def _blocked(
    estate: Estate,
    ours: Sequence[Wanted],
    surveys: Sequence[Surveyed],
    live: Mapping[Key, LiveObject],
    there: Container[Key],
    objections: Mapping[str, Objection],
) -> tuple[list[Blocked], set[Key], list[str], dict[Key, list[str]]]:
    """What cannot be done: something must exist that does not, something else has its name, or its system cannot hold
    it; and what waits for others, whose identities are not known by their ids yet. A member that cannot be one yet
    keeps no group from being made: the members of such groups, without it, come last.

    `there` are the statements that are on the live side just as they are wanted.
    """
    needed = _Needed.of(estate, surveys)
    blocked: list[Blocked] = []
    waiting: list[str] = []
    keys: set[Key] = set()
    for our in (statement for statement in ours if statement.key not in there):
        unknown, why = "", _objected(estate, our, objections.get(our.provider))
        who, never = f"the authors of {estate.name}", bool(why)
        found = live.get(our.key)
        for need in (one for one in our.needs if not never and not _is_member(our, one)):
            if needed.is_unknown(need):
                unknown = need
                continue
            lacking = needed.lacks(need)
            why, who = lacking if lacking[0] else (why, who)
        if not why and our.provider in estate.providers:  # a cluster says itself whom it does not know
            why, who = _unknown_there(estate, our)
            never = bool(why)
        if not why and our.holder in estate.accounts and our.holder not in needed.accounts:
            why, who = f"the account {our.holder} does not exist", "the people who create its accounts"
        if not why and found is not None and not found.kept_by(estate.name):
            why = "one of that name exists already, and Enthesis did not make it for this estate"
            who = f"the administrators of {our.holder}: remove it, or describe it as it stands"
        if not why and unknown:
            waiting.append(f"{_wanted_title(our)} until the id of {unknown} is known: {boundary_of(unknown)} knows it")
            keys.add(our.key)
        if why:
            blocked.append(Blocked(statement_sentence(our.collection, our.body), why, who, never))
            keys.add(our.key)
            if our.collection in ("identities", "groups"):
                needed.missing.add(str(our.body["address"]))
    fewer = dict(_fewer_members(needed, [our for our in ours if our.key not in keys], live, blocked, waiting))
    return blocked, keys, waiting, fewer


def _fewer_members(
    needed: "_Needed",
    ours: Sequence[Wanted],
    live: Mapping[Key, LiveObject],
    blocked: list[Blocked],
    waiting: list[str],
) -> Iterator[tuple[Key, list[str]]]:
    """The groups that are made without some member, with the members that they are made with. Why is added to what is
    blocked, and to what waits for others."""
    for our in (one for one in ours if one.collection == "groups"):
        members = listed(our.body.get("members"))
        found = live.get(our.key)
        known = listed(found.body.get("members")) if found is not None else []  # they are there, whatever is not seen
        without = []
        for member in (one for one in members if one not in known):
            lacks, makes = needed.lacks(member)
            if needed.is_unknown(member):
                waiting.append(
                    f"{member} in {_wanted_title(our)} until its id is known: {boundary_of(member)} knows it"
                )
                without.append(member)
            elif lacks:
                blocked.append(Blocked(f"{member} in {statement_sentence('groups', our.body)}", lacks, makes))
                without.append(member)
        if without:
            yield our.key, [one for one in members if one not in without]


def _is_member(our: Wanted, need: str) -> bool:
    return our.collection == "groups" and need in listed(our.body.get("members"))


@dataclass(frozen=True, slots=True)
class _Needed:
    """What statements need: what exists on the live side, what is known there, and what turned out to be missing."""

    estate: Estate
    accounts: set[str]
    existing: set[str]
    known: set[str]
    missing: set[str] = field(default_factory=set)

    @classmethod
    def of(cls, estate: Estate, surveys: Sequence[Surveyed]) -> "_Needed":
        """What surveys found."""
        accounts = {name for surveyed in surveys for name in surveyed.accounts}
        existing = {name for surveyed in surveys for name in surveyed.resources} | accounts
        return cls(estate, accounts, existing, {address for surveyed in surveys for address in surveyed.ids})

    def is_unknown(self, need: str) -> bool:
        """Whether it is an identity or group of others that nobody knows by its id yet."""
        named = need in self.estate.identities or need in self.estate.groups
        return named and need not in self.known and self.estate.administered_by_others(need)

    def lacks(self, need: str) -> tuple[str, str]:
        """What does not exist that it needs, and who can make it; nothing of either where all does."""
        lacking = need if need in self.missing else _lacking(self.estate, need, self.accounts, self.existing)
        if not lacking:
            return "", ""
        made_by = account_of(lacking)
        makes = (
            f"the administrators of {made_by}"
            if lacking != made_by
            else f"the people who create accounts for {made_by}"
        )
        return f"it needs {lacking}, which does not exist", makes


def _unknown_there(estate: Estate, our: Wanted) -> tuple[str, str]:
    """Why a provider cannot hold a statement that names a person whom it does not know; and who can change that."""
    if our.collection == "grants":
        named = [str(our.body["to"])]
        account = estate.accounts.get(account_of(str(our.body["at"])))
        if account is not None and account.provider != our.provider:
            why = f"{our.body['at']} is at {account.provider}, and what {our.holder} holds is kept at {our.provider}"
            return why, f"the authors of the estate: it gives nothing, at {our.source}"
    elif our.collection == "trusts":
        named = [str(our.body["admits"]["group"])] if "group" in our.body["admits"] else []
    elif our.collection == "attachments":
        named = listed(our.body["runs_as"])
    else:
        return "", ""
    for address in named:
        known = known_at(estate, address)
        if our.provider in known:
            continue
        if address in estate.groups and our.provider in usable_at(estate, address):
            why = (
                f"the group {address} is known at {' and '.join(known)} alone, though some of it act at {our.provider}"
            )
            fix = "name them, or a group of an organisation with an account there"
            return why, f"the authors of {estate.name}: {fix}"
        at = " and ".join(known) or "no provider"
        does = "nothing there can run as it" if our.collection == "attachments" else f"can do nothing at {our.provider}"
        return f"{address} is known at {at} alone, and {does}", f"the authors of the estate: at {our.source}"
    return "", ""


def _lacking(estate: Estate, need: str, accounts: set[str], existing: set[str]) -> str:
    """The first thing on the way to an address that must exist already and does not; '' where all does."""
    if need.startswith("@") or need in estate.identities or need in estate.groups:
        account = account_of(need)
        theirs = bool(account) and estate.administered_by_others(account)
        return "" if not account or theirs or account in accounts else account
    if estate.administered_by_others(account_of(need)):
        return ""
    for place in reversed(list(standing_in(need, estate.catalogue))):
        if (place in estate.resources or place in estate.accounts) and place not in existing:
            return place
    return ""

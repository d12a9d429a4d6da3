"""What a proposal does to effective access: the live side as an estate, before its steps and after them."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from enthesis.chains.differences import Difference, difference
from enthesis.files.nodes import parse
from enthesis.files.sections import SECTIONS
from enthesis.files.shapes import MISSING, Notes
from enthesis.model.catalogue import EVERYTHING, Catalogue
from enthesis.model.estate import Estate, Role
from enthesis.model.words import STATEMENTS
from enthesis.proposals.steps import REMOVE, Proposal
from enthesis.surveys.statements import Key, Surveyed, held_by, statement_key, without_gone

Live = dict[Key, Mapping[str, Any]]


def access_change(estate: Estate, proposal: Proposal, surveys: Sequence[Surveyed], now: float) -> Difference:
    """Who gains and loses what when a proposal is carried out, at an instant (seconds since 1970).

    Both sides are judged with the accounts, resources and people that the estate describes.
    """
    before: Live = {one.key: one.body for surveyed in surveys for one in surveyed.objects}
    after = dict(before)
    for step in proposal.steps:
        body = step.body if step.body is not None else step.before
        if body is None:
            continue
        key = (step.provider, step.collection, step.holder, statement_key(step.collection, body))
        if step.action == REMOVE:
            after.pop(key, None)
        else:
            after[key] = body
    return difference(_estate(estate, before), _estate(estate, after), now)


def _estate(described: Estate, live: Live) -> Estate:
    """The estate that live statements make. A role is known by its holder too, since each holder has its own."""
    people = {address: one for address, one in described.identities.items() if one.kind == "person"}
    sections: dict[str, Any] = {name: {} if SECTIONS[name].key else [] for name in STATEMENTS}
    sections["identities"].update(people)
    for (_, collection, holder, _), body in live.items():
        value = _read(collection, held_by(collection, holder, without_gone(body)))
        if value is None:
            continue
        section = SECTIONS[collection]
        if section.key:
            sections[collection].setdefault(getattr(value, section.key), value)
        elif value not in sections[collection]:
            sections[collection].append(value)
    resources = {address: replace(one, runs_as=()) for address, one in described.resources.items()}
    lists: dict[str, Any] = {
        name: tuple(value) if isinstance(value, list) else value for name, value in sections.items()
    }
    # a cluster's roles may speak of kinds that the estate knows nothing of; what they do is the same on both sides
    lists["roles"] = {name: _of_known_kinds(described.catalogue, one) for name, one in lists["roles"].items()}
    known = {*lists["identities"], *lists["groups"]}
    lists["grants"] = tuple(one for one in lists["grants"] if one.to in known and one.role in lists["roles"])
    lists["trusts"] = tuple(one for one in lists["trusts"] if one.of in lists["identities"])
    lists["attachments"] = tuple(
        replace(one, runs_as=tuple(name for name in one.runs_as if name in known)) for one in lists["attachments"]
    )
    return replace(described, resources=resources, journeys={}, invariants=(), **lists)


def _of_known_kinds(catalogue: Catalogue, role: Role) -> Role:
    allows = {kind: verbs for kind, verbs in role.allows.items() if kind == EVERYTHING or kind in catalogue.kinds}
    return role if len(allows) == len(role.allows) else replace(role, allows=allows)


def _read(collection: str, body: Mapping[str, Any]) -> Any:
    """The statement as the model has it; None for one that names what is gone, and so gives nothing."""
    section = SECTIONS[collection]
    key = section.key or ""
    node, _ = parse(json.dumps({name: value for name, value in body.items() if name != key}).encode())
    if node is None:
        return None
    value = section.record.read(node, Notes(""), **({key: body[key]} if key else {}))
    return None if value is MISSING else value

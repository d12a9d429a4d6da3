"""Takes over what an account or organisation has at a provider: writes it into the files, and marks it as ours.

Marking changes no access. It is a conditional write of the statement as it was read, so nothing is overwritten that
others change meanwhile; run again, it marks what was left.
"""

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from enthesis.files.editing import Addition
from enthesis.files.folder import read_folder
from enthesis.files.saving import edit_files, must_be_described
from enthesis.files.sections import SECTIONS
from enthesis.files.writing import plain_statement
from enthesis.model.addresses import account_of, standing_in
from enthesis.model.errors import EnthesisError, InvalidInput
from enthesis.model.estate import Estate, Role, boundary_of
from enthesis.model.sentences import statement_sentence
from enthesis.model.vocabulary import STATEMENTS
from enthesis.ports import Connected
from enthesis.proposals.steps import CHANGE, Step
from enthesis.proposals.wanted import wanted
from enthesis.surveys.statements import LiveObject, Surveyed, listed, merged_ids, names_what_is_gone, normalised


@dataclass(frozen=True, slots=True)
class Adoptable:
    """What is there to take over: the entries that the files lack, and sentences for what is left out, and why."""

    holder: str
    additions: tuple[Addition, ...]
    candidates: tuple[LiveObject, ...]
    left_out: tuple[str, ...]


def found_at(estate: Estate, surveys: Sequence[Surveyed], holder: str) -> Adoptable:
    """What nobody's estate describes of an account or organisation: all that carries no mark.

    InvalidInput where the holder is not one of ours, or is not at a provider that was surveyed.
    """
    if not any(holder in surveyed.holders for surveyed in surveys):
        raise InvalidInput(
            f"{holder} is not an account or organisation of ours at a connected provider",
            code="account-unknown",
            remedy="ACCOUNT or @ORGANISATION; of a cluster, ACCOUNT/cluster/NAME",
        )
    left_out: list[str] = []
    candidates: list[LiveObject] = []
    for statement in (each for surveyed in surveys for each in surveyed.objects if each.holder == holder):
        sentence = statement_sentence(statement.collection, statement.body)
        of_cloud = not statement.provider.startswith("@")  # people are kept by directories, if by anybody
        person = statement.body.get("kind") == "person" and of_cloud
        if statement.by_itself or person or statement.mark == estate.name:
            continue
        if statement.mark is not None:
            left_out.append(f"{sentence}: the estate {statement.mark} keeps it")
        elif names_what_is_gone(statement.body):
            left_out.append(f"{sentence}: it names something that no longer exists")
        else:
            candidates.append(statement)
    described = {statement.key for statement in wanted(estate)[0]}
    fresh = [candidate for candidate in candidates if candidate.key not in described]
    barred = {statement.key: why for statement in fresh if (why := _why_not(estate, statement, fresh))}
    roles = {
        str(statement.body["name"])
        for statement in fresh
        if statement.collection == "roles" and statement.key in barred
    }
    for statement in fresh:
        if statement.collection == "grants" and statement.body["role"] in roles:
            barred[statement.key] = f"the role {statement.body['role']} is left out"
    told = (statement for statement in fresh if statement.key in barred)
    left_out += [
        f"{statement_sentence(statement.collection, statement.body)}: {barred[statement.key]}" for statement in told
    ]
    taken = [statement for statement in fresh if statement.key not in barred]
    lacking = [
        statement
        for statement in taken
        if statement.collection != "roles" or statement.body["name"] not in estate.roles
    ]
    additions = [*_resources(estate, lacking, surveys), *map(_addition, sorted(lacking, key=_order))]
    kept = tuple(candidate for candidate in candidates if candidate.key not in barred)
    return Adoptable(holder, tuple(_once(additions)), kept, tuple(left_out))


def write(folder: Path, found: Adoptable) -> Counter[str]:
    """Writes what is found into the files; how many entries, by section. Nothing is written unless all of it reads."""
    if found.additions:
        edit_files(folder, found.additions, must_be_described(found.holder))
    return Counter(addition.section for addition in found.additions)


def mark(
    folder: Path, found: Adoptable, surveys: Sequence[Surveyed], connected: Connected, say: Callable[[str], None]
) -> tuple[int, int]:
    """Marks as ours what the files describe by now just as it is; how many were marked, and how many could not be."""
    estate = read_folder(folder).estate
    if estate is None:
        return 0, 0
    bodies = {statement.key: normalised(statement.collection, statement.body) for statement in wanted(estate)[0]}
    ids = merged_ids(surveys)
    marked = failed = 0
    for candidate in found.candidates:
        body = normalised(candidate.collection, candidate.body)
        if bodies.get(candidate.key) != body:
            continue
        sentence = statement_sentence(candidate.collection, body)
        step = Step(
            CHANGE, candidate.provider, candidate.collection, candidate.holder, sentence, estate.name, body, body,
            candidate.id, candidate.etag,
        )  # fmt: skip
        try:
            connected.administered[candidate.provider].change(step, ids)
            marked += 1
        except EnthesisError as fault:
            failed += 1
            say(f"Not marked: {sentence}: {fault.message}")
    return marked, failed


def _why_not(estate: Estate, statement: LiveObject, fresh: Sequence[LiveObject]) -> str:
    """Why a statement cannot be described in this estate; '' where it can."""
    if statement.collection == "roles":
        name = str(statement.body["name"])
        known = estate.roles.get(name)
        other = [each for each in fresh if each.collection == "roles" and each.body["name"] == name]
        same = all(normalised("roles", each.body) == normalised("roles", statement.body) for each in other)
        bound = [*(grant.role for grant in estate.grants), *(each.body.get("role") for each in fresh)]
        if not same or (known is not None and not _is_same_role(known, statement)):
            return "the estate has another role of this name"
        return "" if name in bound or _is_included(name, fresh) else "no grant binds it"
    return ""


def _is_same_role(known: Role, statement: LiveObject) -> bool:
    described = {"name": known.name, **plain_statement("roles", known)}
    return normalised("roles", described) == normalised("roles", statement.body)


def _is_included(name: str, fresh: Sequence[LiveObject]) -> bool:
    return any(name in listed(statement.body.get("includes")) for statement in fresh if statement.collection == "roles")


def _order(statement: LiveObject) -> int:
    return list(STATEMENTS).index(statement.collection)


def _addition(statement: LiveObject) -> Addition:
    """A live statement as an entry of the files."""
    body = normalised(statement.collection, statement.body)
    key = SECTIONS[statement.collection].key
    name = str(body.pop(key)) if key else ""
    if statement.collection == "grants":
        at = str(body["at"])
        if boundary_of(at) != statement.holder or account_of(str(body["to"])) != account_of(at):
            body["held_by"] = statement.holder
    return Addition(statement.collection, name, body)


def _resources(estate: Estate, taken: Sequence[LiveObject], surveys: Sequence[Surveyed]) -> Iterator[Addition]:
    """The resources that statements name, and the estate does not: they came to be since."""
    there = {address for surveyed in surveys for address in surveyed.resources}
    for statement in taken:
        for place in listed([statement.body.get("at"), statement.body.get("what")]):
            for address in reversed(list(standing_in(place, estate.catalogue))) if account_of(place) else ():
                if address in there and address not in estate.resources:
                    yield Addition("resources", address, {})


def _once(additions: Sequence[Addition]) -> Iterator[Addition]:
    seen: set[tuple[str, str]] = set()
    for addition in additions:
        if not addition.name or (addition.section, addition.name) not in seen:
            seen.add((addition.section, addition.name))
            yield addition

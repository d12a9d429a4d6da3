"""What a live system says it has now, in the estate's words."""

import json
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache
from typing import Any

from enthesis.conditions.truth import passes
from enthesis.files.conditions import ConditionsShape
from enthesis.files.field_types import MISSING, Notes
from enthesis.files.sections import SECTIONS
from enthesis.files.yaml_tree import tree_of
from enthesis.model.estate import Estate, Group
from enthesis.model.sentences import statement_sentence
from enthesis.model.vocabulary import SHOWN_IN, STATEMENT_SECTIONS

Body = Mapping[str, Any]
Key = tuple[str, str, str, str]
"""Provider, collection, holder, and what tells statements of one holder apart."""

Apart = frozenset[tuple[str, str, str]]
"""Copies that differ from those of other systems: the system, groups or roles, and the address or holder and name."""


@dataclass(frozen=True, slots=True)
class LiveObject:
    """One statement on the live side. Its id is never reused; `etag` changes with every change.

    `body` is in the estate's words: addresses and names, no ids. What an id names that no longer exists is written
    `gone: ADDRESS`, so that it is never taken for a new identity of the same name. What is there `by_itself` came with
    something else, and is nobody's statement. `changed_by` is who wrote it last, and when, where the system says.
    """

    provider: str
    collection: str
    holder: str
    id: str
    etag: str
    mark: str | None
    body: Body
    by_itself: bool = False
    changed_by: str = ""

    def kept_by(self, estate: str) -> bool:
        """Whether it is an estate's to change: it carries its mark, or is a person in a directory that the estate
        keeps, whoever made the entry."""
        return self.mark == estate or (self.provider.startswith("@") and self.body.get("kind") == "person")

    @property
    def key(self) -> Key:
        """What makes it the same statement as one that is described."""
        return (self.provider, self.collection, self.holder, statement_key(self.collection, self.body))


@dataclass(frozen=True, slots=True)
class Surveyed:
    """What one provider has, for the holders asked about, and what exists there already. `concerning` are statements
    of others, as far as the provider shows them: those that name what is ours. `side` tells the system from another one
    that has its name by now, where it says so: ids of one mean nothing at the other. `shared_logins` are resources that
    can have a login which people share, and whether it is on, as far as the system knows."""

    provider: str
    holders: tuple[str, ...]
    objects: tuple[LiveObject, ...] = ()
    accounts: frozenset[str] = frozenset()
    resources: frozenset[str] = frozenset()
    ids: Mapping[str, str] = field(default_factory=dict)
    concerning: tuple[LiveObject, ...] = ()
    side: str = ""
    shared_logins: Mapping[str, bool] = field(default_factory=dict)

    def seen(self) -> dict[str, str]:
        """Ids with their etags: what a proposal was made for."""
        return {statement.id: statement.etag for statement in self.objects}


def listed(value: Any) -> list[str]:
    """The texts of a field that holds one or several of them."""
    if isinstance(value, str):
        return [value]
    return [name for name in value if isinstance(name, str)] if isinstance(value, list | tuple) else []


def statement_key(collection: str, body: Body) -> str:
    """What makes a statement the same statement while the rest of it changes.

    A named one is its name. Otherwise a grant is its (`to`, `role`, `at`), a trust its `of` and whom it admits
    (an issuer, an identity …; not the claims, so that narrowing them changes the trust there is).
    """
    if body.get("name") is not None and "address" not in body:
        return f"name {body['name']}"
    return " ".join(_known_text(field_name, body[field_name]) for field_name in STATEMENT_SECTIONS[collection].known_by)


def _known_text(name: str, value: Any) -> str:
    """A field of a statement in its key; of whom a trust admits, who that is, and not which claims are asked."""
    if name != "admits":
        return _text(value)
    return " ".join(f"{form} {_text(value[form])}" for form in sorted(value) if form not in SHOWN_IN.values())


def normalised(collection: str, body: Body) -> dict[str, Any]:
    """A statement as the estate would write it, so that two that mean the same compare equal."""
    section = SECTIONS[collection]
    key = section.key or ""
    rest = {name: value for name, value in body.items() if name != key}
    given = {key: body[key]} if key else {}
    value = section.record.read(tree_of(rest), Notes(""), **given)
    return dict(body) if value is MISSING else {**given, **section.record.plain(value)}


def records_of(surveyed: Surveyed) -> Iterator[Body]:
    """What a provider has as the lines of a survey. A role is known by its holder too, since each has its own."""
    for statement in surveyed.objects:
        live = {
            "id": statement.id,
            "version": statement.etag,
            "holder": statement.holder,
            **({"mark": statement.mark} if statement.mark else {}),
        }
        body = statement.body
        if names_what_is_gone(body):
            says = f"{statement_sentence(statement.collection, body)}; {remedy_of(statement)}"
            yield {"finding": "dangling", "at": statement.holder, "says": says}
            body = without_gone(body)
            if names_what_is_gone(body):
                continue
        yield {"section": statement.collection, **held_by(statement.collection, statement.holder, body), "live": live}


def names_what_is_gone(value: Any) -> bool:
    """Whether a statement names something by an id that nothing has any more."""
    if isinstance(value, Mapping):
        return "gone" in value or any(map(names_what_is_gone, value.values()))
    return isinstance(value, list) and any(map(names_what_is_gone, value))


def without_gone(body: Body) -> Body:
    """A statement without those of its members, or of the identities that something runs as, that no longer exist."""
    kept = dict(body)
    for field_name in ("members", "runs_as"):
        if isinstance(body.get(field_name), list):
            kept[field_name] = [one for one in body[field_name] if not isinstance(one, Mapping)]
    return kept


def remedy_of(statement: LiveObject) -> str:
    """Who takes a dangling statement away, and how."""
    if statement.mark:
        return f"`enact --prune` for the estate {statement.mark} takes it away"
    return f"up to the administrators of {statement.holder}: take it away"


def told_apart(objects: Iterable[LiveObject]) -> Apart:
    """The copies of groups and roles that systems have, where they give different access. Copies of a group may each
    lack identities that their system does not know: those that several know, people and groups, are compared.

    What includes such a role, or has such a group in it, is one too. A directory, whose copies give nothing by
    themselves, parts none of the others.
    """
    copies: dict[tuple[str, str], list[LiveObject]] = {}
    for statement in objects:
        if statement.collection in ("groups", "roles"):
            copies.setdefault(_copied(statement), []).append(statement)
    apart: set[tuple[str, str, str]] = set()
    for key, kept in copies.items():
        clouds = [one for one in kept if not one.provider.startswith("@")]
        known = {_common(one) for one in clouds}
        parted = clouds if len(known) > 1 else []
        parted = [*parted, *(one for one in kept if one not in clouds and known and known != {_common(one)})]
        apart.update((one.provider, *key) for one in parted)
    more = bool(apart)
    while more:
        found = {
            (one.provider, *key) for key, kept in copies.items() for one in kept
            if any((one.provider, *inner) in apart for inner in _inner(one))
        } - apart  # fmt: skip
        apart |= found
        more = bool(found)
    return frozenset(apart)


def _copied(statement: LiveObject) -> tuple[str, str]:
    if statement.collection == "groups":
        return "groups", str(statement.body["address"])
    return "roles", f"{statement.holder} {statement.body['name']}"


def _common(statement: LiveObject) -> str:
    """What copies of a group or role have in common where they mean the same."""
    body = normalised(statement.collection, without_gone(statement.body))
    if statement.collection == "groups":
        body["members"] = sorted(name for name in listed(body.get("members")) if name.startswith("@"))
    return json.dumps(body, sort_keys=True)


def _inner(statement: LiveObject) -> set[tuple[str, str]]:
    if statement.collection == "groups":
        return {("groups", name) for name in listed(statement.body.get("members"))}
    return {("roles", f"{statement.holder} {name}") for name in listed(statement.body.get("includes"))}


def named_apart(statement: LiveObject, apart: Apart) -> LiveObject:
    """A statement in which what systems have differing copies of has its system in its name."""
    if not apart:
        return statement
    body, holder = dict(statement.body), statement.holder

    def group(name: Any) -> Any:
        return f"{name} at {statement.provider}" if (statement.provider, "groups", name) in apart else name

    def role(name: str) -> str:
        parted = (statement.provider, "roles", f"{holder} {name}") in apart
        return f"{name} at {statement.provider}" if parted else name

    if statement.collection == "groups":
        body["address"] = group(body["address"])
        body["members"] = [group(name) if isinstance(name, str) else name for name in body.get("members", [])]
    elif statement.collection == "roles":
        body["name"] = role(str(body["name"]))
        body |= {"includes": [role(name) for name in listed(body["includes"])]} if body.get("includes") else {}
    elif statement.collection == "grants":
        body |= {
            "to": group(body["to"]) if isinstance(body["to"], str) else body["to"],
            "role": role(str(body["role"])),
        }
    elif statement.collection == "trusts" and isinstance(body["admits"].get("group"), str):
        body["admits"] = {**body["admits"], "group": group(body["admits"]["group"])}
    return replace(statement, body=body)


@dataclass(frozen=True)
class Keepers:
    """Which clouds keep what the boundaries of an estate hold. `asked` are those whose statements are at hand for a
    holder; what others keep is not known."""

    of_accounts: Mapping[str, str]  # the provider of each account
    all_of: Callable[[str], Collection[str]]  # the providers of a boundary's accounts
    asked: Callable[[str], Collection[str]]

    @classmethod
    def of(cls, estate: Estate, surveys: Sequence[Surveyed] | None = None) -> "Keepers":
        """Those of an estate's boundaries; without `surveys` all of them were asked."""
        accounts = {account.name: account.provider for account in estate.accounts.values()}

        @cache
        def all_of(holder: str) -> Collection[str]:
            return estate.providers_of(holder)

        def asked(holder: str) -> Collection[str]:
            top = holder.split("/", 1)[0]
            return [one.provider for one in surveys or () if top in one.holders]

        return cls(accounts, all_of, all_of if surveys is None else asked)

    def apart_from(self, holder: str, keeping: Collection[str]) -> set[str]:
        """The clouds that were asked and do not keep something of a holder."""
        return set(self.asked(holder)) & set(self.all_of(holder)) - set(keeping)


def where_they_count(objects: Iterable[LiveObject], keepers: Keepers) -> list[LiveObject]:
    """Statements as they count together. Groups and roles of which systems have differing copies have their system in
    their name. A grant or ceiling of an organisation or unit that some of its clouds keep otherwise, or not at all,
    counts at requests of its own cloud alone: those for what is in an account there. Copies that are the same at all of
    them are one.

    A grant at something in no account counts wherever it is kept, a ceiling over it where all keep it.
    """
    objects = list(objects)
    apart = told_apart(objects)
    named = [named_apart(statement, apart) for statement in objects]
    keeping: dict[tuple[str, str, str], set[str]] = {}
    groups: dict[tuple[str, str], list[LiveObject]] = {}
    for statement in named:
        if _is_of_boundary(statement) and keepers.apart_from(statement.holder, [statement.provider]):
            keeping.setdefault(_copy(statement), set()).add(statement.provider)
        elif statement.collection == "groups":
            groups.setdefault((statement.provider, str(statement.body["address"])), []).append(statement)
    if not keeping:
        return named
    out: list[LiveObject] = []
    told: set[tuple[str, str, str]] = set()
    for statement in named:
        copy = _copy(statement) if _is_of_boundary(statement) else None
        kept_at = keeping.get(copy, ()) if copy is not None else ()
        lacking = kept_at and keepers.apart_from(statement.holder, kept_at)
        if lacking and _counts_elsewhere(statement, groups):
            others = set(keepers.all_of(statement.holder)) - set(keepers.asked(statement.holder))
            out += _at_own_cloud(statement, sorted({statement.provider, *others}), keepers)
        elif copy is None or copy not in told:
            out.append(statement)
        if copy is not None and not lacking:
            told.add(copy)
    return out


def counting_together(surveys: Sequence[Surveyed], keepers: Keepers) -> list[Surveyed]:
    """Surveys with their statements as they count together."""
    by_system: dict[str, list[LiveObject]] = {one.provider: [] for one in surveys}
    for statement in where_they_count((each for one in surveys for each in one.objects), keepers):
        by_system[statement.provider].append(statement)
    return [replace(one, objects=tuple(by_system[one.provider])) for one in surveys]


def _is_of_boundary(statement: LiveObject) -> bool:
    """Whether clouds keep copies of a statement beside one another, each for itself."""
    of_cloud = not statement.provider.startswith("@")
    return of_cloud and statement.holder.startswith("@") and statement.collection in ("grants", "ceilings")


def _copy(statement: LiveObject) -> tuple[str, str, str]:
    """What copies of one statement have in common."""
    body = normalised(statement.collection, without_gone(statement.body))
    return statement.collection, statement.holder, json.dumps(body, sort_keys=True, default=str)


def _counts_elsewhere(statement: LiveObject, groups: Mapping[tuple[str, str], Sequence[LiveObject]]) -> bool:
    """Whether a statement could count at another cloud than its own: a grant to workloads of its own cannot."""
    if statement.collection != "grants":
        return True
    waiting, seen = [str(statement.body["to"])], set[str]()
    while waiting:
        name = waiting.pop()
        if name in seen or (not name.startswith("@") and "/identity/" in name):
            continue
        seen.add(name)
        found = groups.get((statement.provider, name))
        if found is None or any("where" in one.body for one in found):
            return True  # a person, or who is in it is not listed
        waiting += [member for one in found for member in listed(one.body.get("members"))]
    return False


def _at_own_cloud(statement: LiveObject, at: Sequence[str], keepers: Keepers) -> Iterator[LiveObject]:
    """A statement that counts at the requests of some clouds alone. Of a ceiling over callers, also at requests of
    their own accounts elsewhere."""
    when = dict(statement.body.get("when") or {})
    tests = ConditionsShape().read(tree_of(when), Notes(""))
    own = dict(tests).get("provider") if isinstance(tests, tuple) else None
    there = [
        {"present": True, "glob": name}  # which is never unknown
        for name in at
        if own is None or passes(own, name) is True
    ]
    if there:
        yield _when(statement, {**when, "provider": there[0] if len(there) == 1 else there})
    if statement.collection == "grants" and (own is None or passes(own, None) is True):
        elsewhere: dict[str, Any] = {"provider": {"present": False}}
    elif statement.collection == "ceilings" and statement.body["over"] == "callers" and "caller.account" not in when:
        accounts = [name for name, provider in keepers.of_accounts.items() if provider in at]
        elsewhere = {"caller.account": [{"present": True, "glob": name} for name in accounts]}
    else:
        return
    yield _when(replace(statement, id=f"{statement.id} elsewhere"), {**when, **elsewhere})


def _when(statement: LiveObject, when: Mapping[str, Any]) -> LiveObject:
    return replace(statement, body={**statement.body, "when": when})


def one_group(first: Group, second: Group) -> Group:
    """One group of the copies that two systems have of it, each with the members that it knows."""
    more = tuple(member for member in second.members if member not in first.members)
    return replace(first, members=(*first.members, *more)) if more else first


def held_by(collection: str, holder: str, body: Body) -> dict[str, Any]:
    """A statement with its role's name made one that no other holder's has."""
    if collection == "roles":
        includes = [f"{holder} {name}" for name in listed(body.get("includes"))]
        return {**body, "name": f"{holder} {body['name']}", **({"includes": includes} if includes else {})}
    if collection == "grants":
        return {**body, "role": f"{holder} {body['role']}", "held_by": holder}
    return dict(body)


def merged_ids(surveys: Sequence[Surveyed]) -> dict[str, str]:
    """Addresses of identities and groups to live ids; of several providers."""
    return {address: identifier for surveyed in surveys for address, identifier in surveyed.ids.items()}


def across(surveys: Sequence[Surveyed]) -> tuple[Surveyed, ...]:
    """The surveys with what one provider knows of another's identities resolved.

    A trust may admit an identity of another provider, which this one knows by id and address only. Where that
    address has another id by now, the identity it was made for no longer exists.
    """
    ids = merged_ids(surveys)

    def admitted(value: Any) -> Any:
        if not isinstance(value, Mapping) or "id" not in value:
            return value
        address = str(value["address"])
        return address if ids.get(address) == value["id"] else {"gone": address}

    def resolved(statement: LiveObject) -> LiveObject:
        if statement.collection != "trusts":
            return statement
        admits = {form: admitted(value) for form, value in statement.body["admits"].items()}
        return replace(statement, body={**statement.body, "admits": admits})

    return tuple(replace(survey, objects=tuple(map(resolved, survey.objects))) for survey in surveys)


def _text(value: Any) -> str:
    return value if isinstance(value, str) else json.dumps(value, sort_keys=True)

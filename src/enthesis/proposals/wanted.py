"""The statements that an estate wants on the live side, each at its provider and held by its holder."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from enthesis.conditions.patterns import within
from enthesis.files.field_types import NameOrGlob
from enthesis.files.writing import plain_statement
from enthesis.model.addresses import account_of, contains, is_organisation
from enthesis.model.conditions import Glob
from enthesis.model.estate import Attachment, Estate, Grant, Group, Role, boundary_of
from enthesis.model.file_errors import Source
from enthesis.model.vocabulary import Form
from enthesis.surveys.statements import Key, statement_key

if TYPE_CHECKING:
    from enthesis.access.compiling import Compiled


@dataclass(frozen=True, slots=True)
class Wanted:
    """One statement as it should be. `needs` are addresses that must exist, made by us or there already."""

    provider: str
    collection: str
    holder: str
    body: dict[str, Any]
    source: Source
    needs: tuple[str, ...] = ()

    @property
    def key(self) -> Key:
        """What makes it the same statement as one that is live."""
        return (self.provider, self.collection, self.holder, statement_key(self.collection, self.body))


def wanted(estate: Estate) -> tuple[list[Wanted], list[Wanted]]:
    """What our administrators hold, and what is for the administrators of others to write."""
    ours: list[Wanted] = []
    theirs: list[Wanted] = []
    for statement in _all(estate):
        (theirs if estate.administered_by_others(statement.holder) else ours).append(statement)
    return ours, theirs


def systems_of(estate: Estate) -> list[str]:
    """The live systems that hold statements of ours, each once."""
    return list(dict.fromkeys(statement.provider for statement in wanted(estate)[0]))


def kept_where(estate: Estate) -> dict[str, list[str]]:
    """The live systems that hold statements of ours, each with the places whose statements it keeps."""
    return {name: holders(estate, name) if name in estate.providers else [name] for name in systems_of(estate)}


def holders(estate: Estate, provider: str) -> list[str]:
    """The accounts and organisations of ours that a provider is surveyed for; units go with their organisation."""
    there = [account.name for account in estate.accounts.values() if account.provider == provider]
    tops = dict.fromkeys(f"@{estate.organisation_of(account)}" for account in there)
    return [name for name in (*there, *tops) if not estate.administered_by_others(name)]


def _all(estate: Estate) -> Iterator[Wanted]:
    yield from _ceilings(estate)
    yield from _identities(estate)
    yield from _groups(estate)
    yield from _roles(estate)
    yield from _trusts(estate)
    yield from _grants(estate)
    yield from _attachments(estate)
    yield from _pipeline_access(estate)


def _ceilings(estate: Estate) -> Iterator[Wanted]:
    for ceiling in estate.ceilings:
        holder = boundary_of(ceiling.at)
        for provider in _kept_at(estate, ceiling.at):
            body = plain_statement("ceilings", ceiling)
            yield Wanted(provider, "ceilings", holder, body, ceiling.source, (ceiling.at,))


def _identities(estate: Estate) -> Iterator[Wanted]:
    for address, identity in estate.identities.items():
        account = estate.accounts.get(account_of(address))
        if identity.is_person or identity.absent or account is None:
            continue
        body = {"address": address, **plain_statement("identities", identity)}
        stands_in = address.rsplit("/identity/", 1)[0]
        needs = (stands_in, *([identity.tied_to] if identity.tied_to else []))
        yield Wanted(estate.system_of(address), "identities", account.name, body, identity.source, needs)
    for organisation in filter(lambda one: one.people is not None, estate.organisations.values()):
        yield from _users(estate, f"@{organisation.name}")


def _users(estate: Estate, directory: str) -> Iterator[Wanted]:
    """Who is in a directory: the people of its organisation, and the workloads in its groups."""
    in_groups = {
        member for address, group in estate.groups.items() if boundary_of(address) == directory
        for member in group.members if member in estate.identities and not member.startswith("@")
    }  # fmt: skip
    for address, identity in estate.identities.items():
        if boundary_of(address) == directory or address in in_groups:
            disabled = {"disabled": True} if identity.disabled else {}
            body = {"address": address, "kind": identity.kind, **disabled}
            yield Wanted(directory, "identities", directory, body, identity.source)


def _groups(estate: Estate) -> Iterator[Wanted]:
    for address, group in _inner_first(estate):
        holder = boundary_of(address)
        within = group.where.within if group.where else None
        if within is not None and account_of(within) and estate.system_of(within) not in estate.providers:
            continue  # a cluster knows by itself who is in which namespace, and a database who is in it
        for provider in _kept_at(estate, address):
            # a provider knows the identities of its own accounts, and people; others could not use the group there
            members = tuple(member for member in group.members if _known_at(estate, member, provider))
            body = {"address": address, **plain_statement("groups", replace(group, members=members))}
            yield Wanted(provider, "groups", holder, body, group.source, members)
        if holder.startswith("@") and estate.organisations[holder[1:].split("/")[0]].people is not None:
            directory = holder.split("/")[0]
            listed = tuple(one for one in group.members if not one.startswith("@") or boundary_of(one) == directory)
            body = {"address": address, **plain_statement("groups", replace(group, members=listed))}
            yield Wanted(directory, "groups", directory, body, group.source, listed)


def _kept_at(estate: Estate, address: str) -> tuple[str, ...]:
    """Where what is said of a group or place is kept: for what is in a database with a server of its own, there."""
    system = estate.system_of(address) if "/database/" in address else ""
    return (system,) if "/database/" in system else estate.providers_of(boundary_of(address))


def _known_at(estate: Estate, address: str, provider: str) -> bool:
    """Whether a provider has an identity or group of this address; a database takes those that can log in at it."""
    if "/database/" in provider:
        return True
    account = estate.accounts.get(account_of(address))
    return account is None or (account.provider == provider and _kept_at(estate, address) == (provider,))


def _inner_first(estate: Estate) -> list[tuple[str, Group]]:
    """The groups, each after those that are in it, so that they can be made in this order."""
    found: dict[str, Group] = {}

    def visit(address: str) -> None:
        for member in estate.groups[address].members:
            if member in estate.groups and member not in found:
                visit(member)
        found[address] = estate.groups[address]

    for address in estate.groups:
        visit(address)
    return list(found.items())


def _roles(estate: Estate) -> Iterator[Wanted]:
    """A role has no scope of its own: each holder of a grant that binds it has it, with what it includes."""
    needed: dict[tuple[str, str, str], None] = {}
    for grant in estate.grants:
        for provider in _providers_of_grant(estate, grant):
            holder = _holder_there(estate, grant, provider)
            if provider not in estate.providers and holder != account_of(provider):
                continue  # a cluster has one set of administrators, and takes no statement of another account
            for name in _with_included(estate, grant.role):
                needed[provider, holder, name] = None
    for provider, holder, name in needed:
        role = _without_circles(estate, name)
        body = {"name": name, **plain_statement("roles", replace(role, description=None))}
        yield Wanted(provider, "roles", holder, body, role.source)


def _without_circles(estate: Estate, name: str) -> Role:
    """A role that allows the same, and includes none that includes it again: those stand in it themselves."""
    role = estate.roles[name]
    circle = [text for text in _included(estate, name) if name in _included(estate, text)]
    if not circle:
        return role
    allows: dict[str, dict[str, None]] = {}
    includes: dict[str, None] = {}
    for text in (name, *(other for other in circle if other != name)):
        for kind, verbs in estate.roles[text].allows.items():
            allows.setdefault(kind, {}).update(dict.fromkeys(verbs))
        includes.update(dict.fromkeys(other for other in estate.roles[text].includes if other not in circle))
    return replace(role, allows={kind: tuple(verbs) for kind, verbs in allows.items()}, includes=tuple(includes))


def _included(estate: Estate, name: str) -> list[str]:
    """All the roles that a role includes, however far down; itself where it is one of them."""
    found: dict[str, None] = {}
    waiting = list(estate.roles[name].includes)
    while waiting:
        one = waiting.pop()
        if one not in found:
            found[one] = None
            waiting.extend(estate.roles[one].includes)
    return list(found)


def _with_included(estate: Estate, role: str) -> list[str]:
    """A role after those it includes, so that they can be made in this order."""
    found: list[str] = []

    def visit(name: str, above: tuple[str, ...]) -> None:
        if name in found or name in above:
            return
        for included in estate.roles[name].includes:
            visit(included, (*above, name))
        found.append(name)

    visit(role, ())
    return found


def _trusts(estate: Estate) -> Iterator[Wanted]:
    for trust in estate.trusts:
        account = estate.accounts[account_of(trust.of)]
        body = plain_statement("trusts", replace(trust, because=None))
        admits = trust.admits
        system = estate.system_of(trust.of)
        if system != account.provider and admits.form == Form.ATTACHED and not trust.when:
            continue  # what runs as a service account of a cluster has it without anything written
        named = isinstance(admits.whom, str) and admits.form in (Form.IDENTITY, Form.GROUP, Form.PERSON, Form.ATTACHED)
        needs = (trust.of, *([str(admits.whom)] if named else []))
        yield Wanted(system, "trusts", account.name, body, trust.source, needs)


def _grants(estate: Estate) -> Iterator[Wanted]:
    by_group: dict[tuple[str, str, str, str], Wanted] = {}  # of several groups that somebody is in, one is enough
    compiled: Compiled | None = None
    for grant in estate.grants:
        body = plain_statement("grants", replace(grant, because=None))
        body.pop("held_by", None)
        for provider in _providers_of_grant(estate, grant):
            holder = _holder_there(estate, grant, provider)
            if not _is_by_group(provider, grant):
                yield Wanted(provider, "grants", holder, body, grant.source, (grant.to, grant.at))
                continue
            if compiled is None:
                from enthesis.access.compiling import compile_estate  # noqa: PLC0415  loads a library of numbers

                compiled = compile_estate(estate)
            for to in _members(compiled, grant.to):
                one = Wanted(provider, "grants", holder, {**body, "to": to}, grant.source, (to, grant.at))
                by_group.setdefault((provider, to, grant.role, grant.at), one)
    direct = {(grant.to, grant.role, grant.at) for grant in estate.grants}
    yield from (one for key, one in by_group.items() if key[1:] not in direct)


def _is_by_group(provider: str, grant: Grant) -> bool:
    """Whether a grant to a group is kept as grants to those who are in it: databases know no groups but their own."""
    many = "/group/" in grant.to or is_organisation(grant.to)
    return "/database/" in provider and many and not contains(provider, grant.to)


def _members(compiled: "Compiled", group: str) -> list[str]:
    """The identities that are described and in a group, listed, by a group in it or by its rule."""
    index = compiled.places.index
    return [address for address in compiled.estate.identities if index[group] in compiled.groups_of(index[address])]


def kept_for_members(estate: Estate) -> set[tuple[str, str, str]]:
    """Where grants to groups are kept as grants to their members: the system, the role and the place of each. Who is no
    member any more has none there."""
    return {
        (provider, grant.role, grant.at)
        for grant in estate.grants
        for provider in _providers_of_grant(estate, grant)
        if _is_by_group(provider, grant)
    }


def _providers_of_grant(estate: Estate, grant: Grant) -> tuple[str, ...]:
    """Where a grant is kept: at the system of what it is at; one at a boundary wherever its identity, or a person in
    its group, can use it. A holder's statements are kept at its own providers alone."""
    holder, at = estate.holder_of(grant), estate.system_of(grant.at)
    held_at = estate.providers_of(holder)
    if "/database/" in at and holder in estate.accounts and holder != account_of(at):
        return held_at  # a database keeps who is let in; that they are let out is kept where they are from
    if at and (at in held_at or at not in estate.providers):
        return (at,)
    usable = tuple(name for name in held_at if name in usable_at(estate, grant.to))
    known = tuple(name for name in held_at if name in known_at(estate, grant.to))  # a group that nobody is in
    return usable or known or held_at


def _holder_there(estate: Estate, grant: Grant, provider: str) -> str:
    """Who holds a grant at a provider or cluster: what boundaries hold in a cluster is held by its account."""
    holder = estate.holder_of(grant)
    return account_of(provider) if provider not in estate.providers and holder.startswith("@") else holder


def known_at(estate: Estate, address: str) -> tuple[str, ...]:
    """Where an identity or group is known: an identity of an account at its provider, or in its cluster alone; a group
    at those of its account or organisation; a person and an organisation at all."""
    if is_organisation(address):
        return tuple(estate.providers)
    if address in estate.identities:
        return tuple(estate.providers) if address.startswith("@") else (estate.system_of(address),)
    return _kept_at(estate, address)


def usable_at(estate: Estate, to: str) -> tuple[str, ...]:
    """The providers at which an identity, or any present or possible member of a group, can act."""
    if to not in estate.groups:
        return known_at(estate, to)
    found: dict[str, None] = {}
    waiting, seen = [to], set[str]()
    while waiting:
        group = estate.groups.get(waiting.pop())
        if group is None or group.address in seen:
            continue
        seen.add(group.address)
        waiting.extend(member for member in group.members if member in estate.groups)
        for member in group.members:
            found.update(dict.fromkeys(known_at(estate, member) if member not in estate.groups else ()))
        if group.where is not None:
            within = group.where.within or boundary_of(group.address)
            anywhere = group.where.kind == "person" or (group.where.kind is None and within.startswith("@"))
            found.update(
                dict.fromkeys(estate.providers if anywhere else estate.providers_of(account_of(within) or within))
            )
    return tuple(found)


def _attachments(estate: Estate) -> Iterator[Wanted]:
    """What each resource runs as, from both places where an estate says so."""
    runs: dict[str | Glob, tuple[list[str], Source]] = {}
    for address, resource in estate.resources.items():
        if resource.runs_as:
            runs[address] = (list(resource.runs_as), resource.source)
    for attachment in estate.attachments:
        for what in _in_one_account(estate, attachment):
            known, _ = runs.setdefault(what, ([], attachment.source))
            known.extend(name for name in attachment.runs_as if name not in known)
    for what, (identities, source) in runs.items():
        pattern = what.pattern if isinstance(what, Glob) else what
        account = estate.accounts.get(account_of(pattern))
        if account is None or estate.system_of(pattern) not in (account.provider, pattern):
            continue  # what a cluster runs says itself as what; as what its own nodes ask is kept by its provider
        names = identities[0] if len(identities) == 1 else identities
        body = {"what": NameOrGlob().plain(what), "runs_as": names}
        needs = (*([what] if isinstance(what, str) else []), *identities)
        yield Wanted(account.provider, "attachments", account.name, body, source, needs)


def _in_one_account(estate: Estate, attachment: Attachment) -> list[str | Glob]:
    """What is attached, as accounts keep it: a pattern over several accounts is one of each where the identities are
    known."""
    what = attachment.what
    if isinstance(what, str) or account_of(what.pattern) in estate.accounts:
        return [what]
    known = {name for identity in attachment.runs_as for name in known_at(estate, identity)}
    there = [one.name for one in estate.accounts.values() if one.provider in known]
    return [Glob(pattern) for account in there for pattern in within(what.pattern, f"{account}/")]


def _pipeline_access(estate: Estate) -> Iterator[Wanted]:
    """What issuers keep for their runs, each at its issuer."""
    for name, access in estate.pipeline_access.items():
        body = {"name": name, **plain_statement("pipeline_access", access)}
        yield Wanted(access.at, "pipeline_access", access.at, body, access.source, (access.of,))

"""Reads a database into the estate's words: its roles, who is in which, and who may do what at which table.

A role is an identity, and a group of all that have what it has: itself, and the roles in it that inherit. Needs the
right to read the catalogue, which every login has; whose password works is told to superusers alone.
"""

from collections import defaultdict
from collections.abc import Callable, Container, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from enthesis.connectors.http import understood
from enthesis.connectors.postgresql.around import BECOMING, MAY_GIVE, PUBLIC, administering, around, powers, within
from enthesis.connectors.postgresql.asking import Session, connected
from enthesis.connectors.postgresql.doors import Doors
from enthesis.connectors.postgresql.words import (
    FURTHER,
    LOGINS,
    OWNING,
    PUBLIC_GROUP,
    VERBS,
    WRITE,
    WRITING,
    DatabaseRole,
    group_address,
    identity_address,
    our_statement,
    table_address,
    with_writing,
)
from enthesis.model.addresses import contains
from enthesis.model.foreign_names import word_of
from enthesis.model.secrets import Secret
from enthesis.ports import Record

FIRST = 10  # of the superuser that every server begins with
USUAL: Mapping[str, set[str]] = {"": {"login", "create-scratch"}, "/schema/public": {"describe"}}
"""What everybody may at a fresh database, by place in it."""
ROLES = """
  select r.oid, r.rolname, r.rolcanlogin, r.rolsuper, r.rolcreaterole,
         nullif(r.rolvaliduntil, 'infinity'),
         shobj_description(r.oid, 'pg_authid')
  from pg_roles r order by r.rolname"""
MEMBERS = """
  select m.roleid, m.member, r.rolinherit, true from pg_auth_members m join pg_roles r on r.oid = m.member"""
MEMBERS_FROM_16 = "select roleid, member, inherit_option, set_option from pg_auth_members"
DATABASE = """
  select d.datname, d.datdba, a.grantee, a.privilege_type, a.is_grantable
  from pg_database d left join lateral aclexplode(coalesce(d.datacl, acldefault('d', d.datdba))) a on true
  where d.datname = current_database()"""
SCHEMAS = """
  select n.nspname, n.nspowner, a.grantee, a.privilege_type, a.is_grantable
  from pg_namespace n left join lateral aclexplode(coalesce(n.nspacl, acldefault('n', n.nspowner))) a on true
  where n.nspname !~ '^pg_' and n.nspname <> 'information_schema' order by n.nspname"""
TABLES = """
  select n.nspname, c.relname, c.relowner, a.grantee, a.privilege_type, a.is_grantable
  from pg_class c join pg_namespace n on n.oid = c.relnamespace
  left join lateral aclexplode(coalesce(c.relacl, acldefault('r', c.relowner))) a on true
  where c.relkind in ('r', 'v', 'm', 'f', 'p') and n.nspname !~ '^pg_' and n.nspname <> 'information_schema'
  order by n.nspname, c.relname"""
READERS, WRITERS, OWNERS = "pg_read_all_data", "pg_write_all_data", "pg_database_owner"


class Database:
    """One database. `address` is its place in the estate, `access` how its administrators connect."""

    what = "database"

    def __init__(self, address: str, url: str, access: Secret) -> None:
        self.name = self.address = address
        self.url = url
        self.access = access

    @understood
    def records(self, step: Callable[[str], None]) -> Iterator[Record]:
        """Everything: roles as identities and groups, privileges as grants, what was left out, and findings."""
        with connected(self.address, self.access) as session:
            yield from DatabaseReading(self.address, session, step).records()

    @understood
    def adoptable(self, step: Callable[[str], None]) -> list[Record]:
        """What others made there, with the passwords that work, as the lines of a survey."""
        with connected(self.address, self.access) as session:
            reading = DatabaseReading(self.address, session, step)
            return [*reading.own_statements(), *reading.beside()]


@dataclass
class DatabaseReading:
    """One pass over a database."""

    address: str
    session: Session
    step: Callable[[str], None]
    roles: dict[int, DatabaseRole] = field(default_factory=dict)
    inherited: dict[int, set[int]] = field(default_factory=lambda: defaultdict(set))  # by role, who has what it has
    settable: dict[int, set[int]] = field(default_factory=lambda: defaultdict(set))  # by role, who may become it
    owner: int = 0
    containing: dict[int, set[int]] = field(default_factory=lambda: defaultdict(set))  # by role, what it is in
    somebody: set[int] = field(default_factory=set)
    readers: dict[str, list[str]] = field(default_factory=lambda: defaultdict(list))  # by table, who has any of it
    allowed: dict[str, Record] = field(default_factory=dict)  # roles of the estate's kind, by name
    places: list[str] = field(default_factory=list)
    refused: list[Record] = field(default_factory=list)

    def records(self) -> Iterator[Record]:
        """Everything, roles first."""
        yield from self._statements()
        yield from self._doors()
        yield from self._not_said()
        yield from self.refused

    def own_statements(self) -> list[Record]:
        """What others made here, without what we did: neither our roles, nor what they have, nor who is in them. The
        group of everybody is written as a rule; it lists only members that are not roles of this server."""
        found = list(self._statements())
        ours = {group_address(self.address, role.name) for role in self.roles.values() if _is_ours(role)}
        own = [record for record in found if self._is_own(record, ours)]
        bound = {record["role"] for record in own if record["section"] == "grants"}
        return [
            self._without(record, ours) for record in own if record["section"] != "roles" or record["name"] in bound
        ]

    def beside(self) -> list[Record]:
        """The passwords that work, of roles that others made, and what is left out."""
        found = (record for record in self._doors() if record.get("section") == "credentials")
        passwords = [record for record in found if contains(self.address, record["of"])]
        return [*passwords, *self._not_said(), *self.refused]

    def _is_own(self, record: Record, ours: Container[str]) -> bool:
        """Whether a statement is about what is at this database, and is not of our making."""
        about = [str(record[name]) for name in ("address", "of", "at") if name in record]
        named = [str(record[name]) for name in ("address", "to") if name in record]
        return all(contains(self.address, place) for place in about) and not any(name in ours for name in named)

    def _without(self, record: Record, ours: Container[str]) -> Record:
        """A group without groups of ours in it; a grant without its holder, which goes without saying."""
        if record["section"] != "groups":
            return {name: value for name, value in record.items() if name != "held_by"}
        members = [member for member in record["members"] if member not in ours]
        if record["address"] != group_address(self.address, PUBLIC_GROUP):
            return {**record, "members": members}
        others = [member for member in members if not contains(self.address, member)]
        rule = {"where": {"in": self.address}, "live": record["live"]}
        return {"section": "groups", "address": record["address"], **({"members": others} if others else {}), **rule}

    def _statements(self) -> Iterator[Record]:
        """Who there is and what they may, as far as the server tells it to every login."""
        yield {"section": "resources", "address": self.address}
        for kind, verbs in FURTHER.items():
            yield {"section": "kinds", "name": kind, "verbs": dict(verbs)}
        self._read_roles()
        yield from self._identities()
        grants = [*self._database(), *self._schemas(), *self._tables(), *self._powers()]
        yield from ({"section": "resources", "address": place} for place in self.places)
        yield from self.allowed.values()
        yield from grants

    # -- who ---------------------------------------------------------------------------------------------------

    def _read_roles(self) -> None:
        self.step("roles")
        self.roles = {row[0]: DatabaseRole(*row) for row in self.session.rows(ROLES)}
        self.owner = next(iter(self.session.rows(DATABASE)))[1]
        for role, member, inherits, sets in self.session.rows(
            MEMBERS if self.session.version < 16 else MEMBERS_FROM_16
        ):
            if role in self.roles and member in self.roles:
                self.containing[member].add(role)
                if inherits:
                    self.inherited[role].add(member)
                if sets:
                    self.settable[role].add(member)
        owners = next((role.oid for role in self.roles.values() if role.name == OWNERS), None)
        if owners is not None and self.owner in self.roles:
            self.inherited[owners].add(self.owner)  # implied, and in no list
        self.somebody = {role.oid for role in self.roles.values() if role.login}
        waiting = True
        while waiting:
            more = {oid for oid, members in self.settable.items() if members & self.somebody} - self.somebody
            waiting = bool(more)
            self.somebody |= more
        self.somebody -= {role.oid for role in self.roles.values() if not role.login and _is_ours(role)}

    def identity(self, oid: int) -> str:
        """The identity that a role is."""
        role = self.roles[oid]
        found = our_statement(role.name, role.comment)
        body = found[1] if found is not None else {}
        return str(body["address"]) if "address" in body else identity_address(self.address, role.name)

    def called(self, oid: int) -> str:
        """The name of a role; of one that is not there any more, its number."""
        return self.roles[oid].name if oid in self.roles else str(oid)

    def oid_of(self, name: str) -> int | None:
        """The number of a role; None where there is none of this name."""
        return next((role.oid for role in self.roles.values() if role.name == name), None)

    def holder(self, oid: int) -> str:
        """Who has what is given to a role: everybody, a group where others inherit it, else the role itself; '' where
        nobody has."""
        if oid == PUBLIC:
            return group_address(self.address, PUBLIC_GROUP)
        return self._member(oid) if oid in self.roles and self._is_of_use(oid) else ""

    def _is_of_use(self, oid: int) -> bool:
        """Whether anybody has what a role has."""
        return not self.somebody.isdisjoint(self._having(oid))

    def _identities(self) -> Iterator[Record]:
        for role in self._those_used():
            live = {"live": {"id": str(role.oid), "version": str(role.oid)}}
            yield {"section": "identities", "address": self.identity(role.oid), "kind": "service-account", **live}
            if not role.login:
                yield {
                    "section": "ceilings", "name": f"{self._prefix}no-login {role.name}", "over": "callers",
                    "at": self.identity(role.oid), "bars": {"database": ["login"]}, "live": {},
                }  # fmt: skip
            for member in sorted(self.settable.get(role.oid, set()) & self.somebody):
                admits = {"identity": self.identity(member)}
                yield {"section": "trusts", "of": self.identity(role.oid), "admits": admits, "live": {}}
        for oid in (oid for oid in self.roles if self.inherited.get(oid) and self._is_of_use(oid)):
            own = [self.identity(oid)] if self.is_somebody(oid) else []
            members = [
                *own,
                *(self._member(member) for member in sorted(self.inherited[oid]) if self._is_of_use(member)),
            ]
            yield self._group(group_address(self.address, self.roles[oid].name), members)
        somebody = [self.identity(role.oid) for role in self._those_used()]
        yield self._group(group_address(self.address, PUBLIC_GROUP), somebody)

    def is_somebody(self, oid: int) -> bool:
        """Whether anybody can act as a role: by a login, or as another that may become it. What we make for grants
        gives its members nothing that they have not."""
        return oid in self.somebody

    def _those_used(self) -> list[DatabaseRole]:
        """The roles that anybody can act as."""
        return [role for role in self.roles.values() if self.is_somebody(role.oid)]

    def _member(self, oid: int) -> str:
        return group_address(self.address, self.roles[oid].name) if self.inherited.get(oid) else self.identity(oid)

    @staticmethod
    def _group(address: str, members: list[str]) -> Record:
        return {"section": "groups", "address": address, "members": members, "live": {}}

    # -- what they may -----------------------------------------------------------------------------------------

    @property
    def _prefix(self) -> str:
        return self.address.rsplit("/", 1)[1] + ":"

    def granted(
        self, to: str, kind_verbs: Mapping[str, Iterable[str]], at: str, called: str = "", *, by_itself: bool = False
    ) -> Iterator[Record]:
        """A grant, with the role that it binds made where there is none yet; nothing where nobody has it. One is there
        `by_itself` where nobody gave it: what an owner has, and what the server's own roles do."""
        if not to:
            return
        allows = {kind: sorted(set(verbs)) for kind, verbs in kind_verbs.items()}
        plain = "; ".join(f"{kind} {'+'.join(sorted(verbs))}" for kind, verbs in sorted(allows.items()))
        name = self._prefix + (called or plain)
        self.allowed.setdefault(name, {"section": "roles", "name": name, "allows": allows, "live": {}})
        account = self.address.split("/", 1)[0]
        live = {"by_itself": True} if by_itself else {}
        yield {"section": "grants", "to": to, "role": name, "at": at, "held_by": account, "live": live}

    def _listed(
        self, kind: str, at: str, owner: int, entries: Iterable[tuple[int | None, str, bool]], below: Mapping[str, Any]
    ) -> Iterator[Record]:
        """The grants that an access list is, and what its owner may."""
        by_grantee: dict[int, dict[str, None]] = {}
        for grantee, privilege, passed_on in entries:
            if grantee is None or (grantee != PUBLIC and grantee not in self.roles):
                continue
            verb = VERBS[kind].get(privilege)
            if verb is None:
                self._left_out(f"{privilege} on {at}", "an estate has no word for it")
                continue
            known = by_grantee.setdefault(grantee, {})
            known |= dict.fromkeys((verb, "change-access") if passed_on else (verb,))
        for grantee, found in by_grantee.items():
            if found:
                verbs = with_writing(found) if kind == "table" else list(found)
                usual = grantee == PUBLIC and set(verbs) <= USUAL.get(at.removeprefix(self.address), set())
                by_itself = usual or grantee == owner
                yield from self.granted(self.holder(grantee), {kind: verbs}, at, by_itself=by_itself)
        if kind == "table":
            yield from self._writing_in_parts(by_grantee, at)
        if owner in self.roles:
            yield from self.granted(
                self.holder(owner), {kind: OWNING, **below}, at, f"owner of a {kind}", by_itself=True
            )

    def _writing_in_parts(self, by_grantee: Mapping[int, Mapping[str, None]], at: str) -> Iterator[Record]:
        """`write` for those who have each of its parts from another grantee."""
        parts = {oid: set(verbs) & set(WRITING) for oid, verbs in by_grantee.items()}
        partial = {oid: found for oid, found in parts.items() if found and len(found) < len(WRITING)}
        if len(partial) < 2 or len(set().union(*partial.values())) < len(WRITING):
            return
        having = {oid: self._having(oid) for oid in partial}
        for role in self._those_used():
            found = set().union(*(verbs for oid, verbs in partial.items() if role.oid in having[oid]))
            if len(found) == len(WRITING):
                yield from self.granted(self.identity(role.oid), {"table": [WRITE]}, at)

    def _having(self, oid: int) -> set[int]:
        """Who has what a role has: itself and all that inherit it, however far."""
        if oid == PUBLIC:
            return set(self.roles)
        return _all_from(oid, self.inherited)

    def _database(self) -> Iterator[Record]:
        rows = self.session.rows(DATABASE)
        entries = [(grantee, str(privilege), bool(passed)) for _, _, grantee, privilege, passed in rows]
        yield from self._listed("database", self.address, self.owner, entries, {})

    def _schemas(self) -> Iterator[Record]:
        self.step("schemas")
        found: dict[tuple[str, int], list[tuple[int | None, str, bool]]] = {}
        for name, owner, grantee, privilege, passed in self.session.rows(SCHEMAS):
            found.setdefault((name, owner), []).append((grantee, str(privilege), bool(passed)))
        for (name, owner), entries in found.items():
            at = f"{self.address}/schema/{word_of(name)}"
            self.places.append(at)
            yield from self._listed("schema", at, owner, entries, {"table": ["delete"]})

    def _tables(self) -> Iterator[Record]:
        self.step("tables")
        found: dict[tuple[str, str, int], list[tuple[int | None, str, bool]]] = {}
        rows = self.session.rows(TABLES)
        for schema, name, owner, grantee, privilege, passed in rows:
            found.setdefault((schema, name, owner), []).append((grantee, str(privilege), bool(passed)))
        above = within(self, rows)
        for (schema, name, owner), entries in found.items():
            at = table_address(self.address, schema, name)
            self.places.append(at)
            self.readers[at] = sorted({self.holder(one[0]) for one in entries if one[0] is not None} - {""})
            yield from self._listed("table", at, owner, entries, {})
            by_parent: dict[tuple[int, str], set[str]] = defaultdict(set)
            for grantee, privilege, parent in above.get((schema, name), ()):
                by_parent[grantee, parent].add(VERBS["table"][privilege])
            for (grantee, parent), verbs in by_parent.items():
                to, called = self.holder(grantee), f"a part of {parent}: {'+'.join(sorted(verbs))}"
                yield from self.granted(to, {"table": with_writing(verbs)}, at, called, by_itself=True)

    def _powers(self) -> Iterator[Record]:
        """What is given by no access list: to superusers, to those who make roles, and to the server's own roles."""
        whole = {"schema": ["describe"], "table": ["read"]}
        writing = {"schema": ["describe"], "table": [*WRITING, WRITE]}
        for role in self.roles.values():
            if role.superuser:
                everything = {kind: [*with_writing(verbs.values()), *OWNING] for kind, verbs in VERBS.items()}
                everything["identity"] = [BECOMING]
                to, first = self.identity(role.oid), role.oid == FIRST
                yield from self.granted(to, everything, self.address, "superuser", by_itself=first)
            elif role.name in (READERS, WRITERS):
                what = whole if role.name == READERS else writing
                yield from self.granted(self.holder(role.oid), what, self.address, role.name, by_itself=True)
            if role.superuser or (role.makes_roles and self.session.version < MAY_GIVE):
                yield from self._making_roles(role)
        makers = [role.oid for role in self.roles.values() if role.makes_roles and not role.superuser]
        yield from powers(self, makers)
        yield from administering(self)

    def _making_roles(self, role: DatabaseRole) -> Iterator[Record]:
        """Who makes roles can let anybody into them, but for superusers; a superuser into all."""
        for other in self._those_used():
            at = self.identity(other.oid)
            if role.superuser and contains(self.address, at):
                continue  # said for the whole database
            if other.oid != role.oid and (role.superuser or not other.superuser):
                yield from self.granted(self.identity(role.oid), {"identity": [BECOMING]}, at, "makes roles")

    # -- how they get in, and what is not said -----------------------------------------------------------------

    def _doors(self) -> Iterator[Record]:
        """Passwords that work, lines that let callers in without any proof, and who else gets in."""
        self.step("how logins are let in")
        names = {oid: [self.called(one) for one in _all_from(oid, self.containing)] for oid in self.roles}
        identities = {role.oid: self.identity(role.oid) for role in self._those_used()}
        database = self.session.connection.info.dbname
        yield from Doors(self.address, database, self.session, list(self.roles.values()), names, identities).records()

    def _not_said(self) -> Iterator[Record]:
        self.step("what works with the rights of others")
        yield from around(self, self.readers)

    def _left_out(self, what: str, why: str) -> None:
        self.refused.append({"left_out": what, "why": why})


def _all_from(oid: int, edges: Mapping[int, set[int]]) -> set[int]:
    """A role, and all that are come to from it, however far."""
    found, waiting = {oid}, [oid]
    while waiting:
        more = edges.get(waiting.pop(), set()) - found
        found |= more
        waiting += more
    return found


def _is_ours(role: DatabaseRole) -> bool:
    """Whether we made a role."""
    return role.name == LOGINS or our_statement(role.name, role.comment) is not None

"""A database as its administrators see it: what we made there, compared with what is there now, and changed by steps.

    a role of the estate    a role without login that only says, in its comment, what it allows
    a grant                 a role without login that has the privileges at one place, and an identity's role in it
    an identity             a role with login and without a password, made with its first grant; in `enthesis logins`

Every step is one transaction. Needs a login that may make roles and give the privileges: the owner of the database.
"""

import hashlib
import json
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from psycopg import sql

from enthesis.connectors.http import understood
from enthesis.connectors.postgresql.asking import Rows, Session, connected, server_of
from enthesis.connectors.postgresql.holding import KnownDatabase, NotHeld, objection, privileges_of
from enthesis.connectors.postgresql.surveying import DATABASE, SCHEMAS, TABLES, Database, DatabaseReading
from enthesis.connectors.postgresql.using import UsedDatabase
from enthesis.connectors.postgresql.words import (
    IDLE,
    IDLE_FROM,
    LOGINS,
    comment_for,
    grant_name,
    lines_for,
    our_statement,
    role_name,
)
from enthesis.model.errors import MovedAway, RightMissing
from enthesis.model.foreign_names import name_of, word_of
from enthesis.model.secrets import Secret
from enthesis.ports import Changed, Joined, Record, Right, ServiceHere
from enthesis.proposals.steps import Step
from enthesis.surveys.statements import LiveObject, Surveyed

HELD_BY_OTHERS = ("ceilings", "identities", "groups", "trusts", "roles", "grants")
Privilege = tuple[str, tuple[str, ...], str]
"""The kind of a thing, its names (of its schema, and its own), and a privilege on it."""
OURS = "select oid, rolname, rolcanlogin, shobj_description(oid, 'pg_authid') from pg_roles where rolname <> ''"
IN_IT = "select roleid, member from pg_auth_members"
ENTERING: Mapping[str, str] = {"database": "CONNECT", "schema": "USAGE"}
"""What everybody needs of what a thing is in."""
TO_COME = "tables to come"  # in place of the kind: privileges on what a role will make in a schema
MAKERS = """
  select n.nspname, r.rolname from pg_namespace n join pg_roles r on r.oid = n.nspowner or exists (
    select 1 from aclexplode(n.nspacl) a where a.grantee = r.oid and a.privilege_type = 'CREATE') or exists (
    select 1 from pg_class c
    where c.relnamespace = n.oid and c.relowner = r.oid and c.relkind in ('r', 'p', 'v', 'm', 'f'))
  where n.nspname !~ '^pg_' and n.nspname <> 'information_schema' and pg_has_role(r.oid, 'MEMBER')
    and r.rolname !~ '^pg_'"""
"""Who makes tables in which schema, as far as it is known: its owner, who may, and who has; of those as whom we act."""
GIVEN_TO_COME = """
  select n.nspname, r.rolname, a.grantee, a.privilege_type from pg_default_acl d
  join pg_namespace n on n.oid = d.defaclnamespace join pg_roles r on r.oid = d.defaclrole
  cross join lateral aclexplode(d.defaclacl) a where d.defaclobjtype = 'r'"""
ONE_AT_A_TIME = 7_365_468_313  # the number of the lock under which roles are changed
OWNED = """
  select count(*) from pg_shdepend d join pg_roles r on r.oid = d.refobjid where d.deptype = 'o' and r.rolname = %s"""
ENDING = """
  select pg_terminate_backend(a.pid) from pg_stat_activity a, pg_roles me
  where a.usename = %s and me.rolname = current_user and (me.rolsuper or pg_has_role('pg_signal_backend', 'USAGE'))"""
"""Ends the sessions of a login that is removed: they would go on without it. Only where we may."""
LINES = """
  select 1 from pg_hba_file_rules
  where error is null and type = 'hostssl' and user_name = %s and auth_method = 'cert' and %s = any (options)"""


class AdministeredDatabase(UsedDatabase):
    """The survey and change ports of a database, beside those of its use."""

    def __init__(self, database: Database, issuer: str, domain: str, organisation: str = "", trusts: str = "") -> None:
        super().__init__(database, issuer, trusts)
        self.database = database
        self.held = KnownDatabase(database.address, domain, organisation)

    # -- as it is now ----------------------------------------------------------------------------------------

    @understood
    def survey(self, holders: Sequence[str], others: Sequence[str] = ()) -> Surveyed:
        """What we made; and which schemas and tables there are."""
        del others
        with connected(self.name, self.database.access) as session:
            now = _Now(session)
            there = {self.name, *(self._place(names) for names in (*now.schemas, *now.tables))}
            objects = [*self._roles_now(now), *self._grants_now(now)]
            own = DatabaseReading(self.name, session, lambda what: None).own_statements()
            objects += filter(None, map(self._found, own))
        account = self.name.split("/", 1)[0]
        ids = {str(body["address"]): str(oid) for oid, (_, body) in now.ours.items() if "address" in body}
        return Surveyed(self.name, tuple(holders), tuple(objects), frozenset([account]), frozenset(there), ids)

    def _found(self, record: Record) -> LiveObject | None:
        """A statement that others made; None for what is none."""
        collection = str(record["section"])
        if collection not in HELD_BY_OTHERS:
            return None
        body = {name: value for name, value in record.items() if name not in ("section", "live", "held_by")}
        etag = _etag(body)
        by_itself = collection not in ("grants", "trusts") or bool(record["live"].get("by_itself"))
        return LiveObject(self.name, collection, self.name.split("/", 1)[0], etag, etag, None, body, by_itself)

    def _place(self, names: tuple[str, ...]) -> str:
        words = [word for pair in zip(("schema", "table"), map(word_of, names), strict=False) for word in pair]
        return "/".join([self.name, *words])

    def _roles_now(self, now: "_Now") -> Iterator[LiveObject]:
        for oid, (mark, body) in now.ours.items():
            if "allows" in body:
                yield self._object("roles", str(oid), _etag(body), mark, body)

    def _grants_now(self, now: "_Now") -> Iterator[LiveObject]:
        allows = {(mark, body["name"]): body["allows"] for mark, body in now.ours.values() if "allows" in body}
        for oid, (mark, body) in now.ours.items():
            if not {"role", "at"} <= body.keys():
                continue
            role = allows.get((mark, str(body["role"])), {})
            has = now.privileges.get(oid, set())
            try:
                as_wanted = has == self._wanted(str(body["at"]), role, now)
            except NotHeld:
                as_wanted = False
            for member in now.members.get(oid, ()):
                to = now.ours.get(member, ("", {}))[1].get("address")
                if to is not None:
                    found = {"to": to, "role": body["role"], "at": body["at"]}
                    found |= {} if as_wanted else {"when": {"reference": "changed by hand"}}
                    yield self._object("grants", f"{oid} {member}", _etag(sorted(has)), mark, found)

    def _object(self, collection: str, identifier: str, etag: str, mark: str, body: Mapping[str, Any]) -> LiveObject:
        return LiveObject(self.name, collection, self.name.split("/", 1)[0], identifier, etag, mark, body)

    # -- what a grant is -------------------------------------------------------------------------------------

    def _wanted(self, at: str, allows: Mapping[str, Any], now: "_Now") -> set[Privilege]:
        """The privileges that a role at a place is, of what is there now, with what entering it takes."""
        parts = tuple(name_of(word) for word in at.removeprefix(self.name).strip("/").split("/")[1::2])
        inside: dict[str, list[tuple[str, ...]]] = {
            "database": [()] if not parts else [],
            "schema": [names for names in now.schemas if not parts or names == parts],
            "table": [names for names in now.tables if names[: len(parts)] == parts],
        }
        out: set[Privilege] = set()
        for kind, verbs in allows.items():
            for names in inside.get(kind, ()):
                out.update((kind, names, privilege) for privilege in privileges_of(kind, verbs))
        if not parts or parts[1:] == ():  # at a schema or above it: what will be made there is meant too
            makers = {maker for maker in now.makers if not parts or maker[0] == parts[0]}
            for verbs in filter(None, [allows.get("table")]):
                out.update((TO_COME, maker, one) for maker in makers for one in privileges_of("table", verbs))
        schemas = {names[:1] for kind, names, _ in out if kind in ("schema", "table")}
        out.update(("schema", names, ENTERING["schema"]) for names in schemas)
        out.add(("database", (), ENTERING["database"]))
        return out

    def objection(self, collection: str, body: Mapping[str, Any], allows: Mapping[str, Any]) -> str:
        """Why this database cannot hold a statement; '' where it can."""
        return objection(self.held, collection, body, allows)

    # -- changed ---------------------------------------------------------------------------------------------

    @understood
    def change(self, step: Step, ids: dict[str, str], key: str = "") -> Changed:
        """Carries one step out in one transaction. What is there as it is wanted is left, so that no key is needed."""
        del key
        with connected(self.name, self.database.access) as session:
            session.rows("select pg_advisory_xact_lock(%s)", [ONE_AT_A_TIME])  # steps of one stage are done at once
            if step.collection == "roles":
                made = self._change_role(session, step)
            else:
                made = self._change_grant(session, step, ids)
        return made

    def _change_role(self, session: Session, step: Step) -> Changed:
        body = step.body or step.before or {}
        name = role_name(step.mark, str(body["name"]))
        if step.body is None:
            self._drop(session, name, step.mark)
            return Changed(None, None)
        oid = self._made(session, name, step.mark, step.body, login=False)
        now = _Now(session)
        for other, (mark, at) in now.ours.items():  # the places where it is granted have what it allows now
            if mark == step.mark and at.get("role") == step.body["name"] and "at" in at:
                self._set(session, now.names[other], now.privileges.get(other, set()),
                          self._wanted(str(at["at"]), step.body["allows"], now))  # fmt: skip
        return Changed(str(oid), _etag(step.body))

    def _change_grant(self, session: Session, step: Step, ids: dict[str, str]) -> Changed:
        body = step.body or step.before or {}
        to, role, at = str(body["to"]), str(body["role"]), str(body["at"])
        name = grant_name(step.mark, role, at)
        if step.body is None:
            self._leave(session, name, to, step.mark)
            return Changed(None, None)
        self._made(session, LOGINS, "", None, login=False)
        login = self._made(session, to, step.mark, {"address": to}, login=True)
        session.rows(sql.SQL("grant {} to {}").format(sql.Identifier(LOGINS), sql.Identifier(to)))
        oid = self._made(session, name, step.mark, {"role": role, "at": at}, login=False)
        now = _Now(session)
        allows = next(
            (one["allows"] for mark, one in now.ours.values() if mark == step.mark and one.get("name") == role), None
        )
        if not isinstance(allows, Mapping):
            raise MovedAway(f"{self.name} has no role {role} any more", code="gone-meanwhile", remedy="propose again")
        wanted = self._wanted(at, allows, now)
        self._set(session, name, now.privileges.get(oid, set()), wanted)
        session.rows(sql.SQL("grant {} to {}").format(sql.Identifier(name), sql.Identifier(to)))
        ids.setdefault(to, str(login))
        return Changed(f"{oid} {login}", _etag(sorted(wanted)))

    def _made(self, session: Session, name: str, mark: str, body: Mapping[str, object] | None, *, login: bool) -> int:
        """The role of a name, made where there is none; one that is not ours is left alone."""
        found = session.rows(
            "select oid, rolcanlogin, shobj_description(oid, 'pg_authid') from pg_roles where rolname = %s", [name]
        )
        if not found:
            options = "login inherit" if login else "nologin"
            session.rows(sql.SQL(f"create role {{}} {options} password null").format(sql.Identifier(name)))
        elif body is not None and (our_statement(name, found[0][2]) or ("", {}))[0] != mark:
            raise MovedAway(
                f"{self.name} has a role named {name} that is not ours", code="name-taken", remedy="propose again"
            )
        elif login and not found[0][1]:
            session.rows(sql.SQL("alter role {} login").format(sql.Identifier(name)))
        if login and session.version >= IDLE_FROM:
            query = sql.SQL("alter role {} set idle_session_timeout = {}")
            session.rows(query.format(sql.Identifier(name), sql.Literal(IDLE)))
        if body is not None:
            said = sql.Literal(comment_for(mark, body))
            session.rows(sql.SQL("comment on role {} is {}").format(sql.Identifier(name), said))
        return int(session.rows("select oid from pg_roles where rolname = %s", [name])[0][0])

    def _set(self, session: Session, name: str, has: set[Privilege], wanted: set[Privilege]) -> None:
        for change, words, privileges in (("grant", "to", wanted - has), ("revoke", "from", has - wanted)):
            for kind, names, privilege in sorted(privileges):
                if kind == TO_COME:
                    schema, maker = names
                    text = f"{change} {privilege} on tables {words} {{}}"
                    coming = sql.SQL(f"alter default privileges for role {{}} in schema {{}} {text}")
                    session.rows(coming.format(*map(sql.Identifier, (maker, schema, name))))
                    continue
                on = sql.Identifier(*names) if names else sql.Identifier(session.connection.info.dbname)
                query = sql.SQL(f"{change} {privilege} on {kind} {{}} {words} {{}}").format(on, sql.Identifier(name))
                session.rows(query)

    def _leave(self, session: Session, name: str, to: str, mark: str) -> None:
        """Takes an identity out of a grant, and removes the grant's role where it was the last."""
        known = {row[0] for row in session.rows("select rolname from pg_roles where rolname in (%s, %s)", [name, to])}
        if known >= {name, to}:
            session.rows(sql.SQL("revoke {} from {}").format(sql.Identifier(name), sql.Identifier(to)))
        in_it = "select 1 from pg_auth_members m join pg_roles r on r.oid = m.roleid where r.rolname = %s"
        if name in known and not session.rows(in_it, [name]):
            self._drop(session, name, mark)
        having = (
            "select 1 from pg_auth_members m join pg_roles r on r.oid = m.roleid join pg_roles l on l.oid = m.member "
            "where l.rolname = %s and r.rolname <> %s"
        )
        if to in known and not session.rows(having, [to, LOGINS]):
            self._drop(session, to, mark)

    def _drop(self, session: Session, name: str, mark: str) -> None:
        found = session.rows("select shobj_description(oid, 'pg_authid') from pg_roles where rolname = %s", [name])
        if not found or (our_statement(name, found[0][0]) or ("", {}))[0] != mark:
            return
        session.rows(ENDING, [name])
        if session.rows(OWNED, [name])[0][0]:
            raise MovedAway(
                f"{self.name}: the role {name} owns something by now", code="changed-meanwhile",
                remedy="give what it owns to another role, then propose again",
            )  # fmt: skip
        session.rows(sql.SQL("drop owned by {}").format(sql.Identifier(name)))  # its privileges: it owns nothing
        session.rows(sql.SQL("drop role {}").format(sql.Identifier(name)))

    def learn(self, step: Step, made: Changed, ids: dict[str, str]) -> None:
        """Nothing here is known by an id that later steps need."""

    def in_force(self, step: Step, made: Changed) -> bool:
        """A server shows and enforces what it has answered."""
        del step, made
        return True

    def rights(self, holders: Sequence[str], steps: Sequence[Step]) -> list[Right]:
        """A login, and to change access the right to make roles, beside the ownership of what is given."""
        del holders
        out = [Right("log in", self.name, "survey")]
        return [*out, Right("make roles, and give privileges on what is there", self.name, "enact")] if steps else out

    def lacking(self, steps: Sequence[Step]) -> list[str]:
        """The right to make roles, and the lines that let workloads in, where the server says that they are missing."""
        if not steps:
            return []
        out = []
        with connected(self.name, self.database.access) as session:
            makes = session.rows("select rolcreaterole or rolsuper from pg_roles where rolname = current_user")
            if not makes[0][0]:
                out.append("make roles")
            try:
                let_in = session.rows(LINES, [[f"+{LOGINS}"], "map=enthesis"])
            except RightMissing:
                return out  # the server tells superusers alone how it lets logins in
        if not let_in:
            access, mapped = lines_for(str(server_of(self.database.url)["dbname"]), self.held.domain)
            out.append(f"the line `{access}` in pg_hba.conf, and `{mapped}` in pg_ident.conf")
        return out


class _Now:
    """What a server has at one moment."""

    def __init__(self, session: Session) -> None:
        rows = session.rows(OURS)
        self.names = {row[0]: str(row[1]) for row in rows}
        found = {row[0]: our_statement(str(row[1]), row[3]) for row in rows}
        self.ours = {oid: statement for oid, statement in found.items() if statement is not None}
        self.members: dict[int, list[int]] = {}
        for role, member in session.rows(IN_IT):
            self.members.setdefault(role, []).append(member)
        self.privileges: dict[int, set[Privilege]] = {}
        schemas, tables = session.rows(SCHEMAS), session.rows(TABLES)
        self.schemas: list[tuple[str, ...]] = list(dict.fromkeys((str(row[0]),) for row in schemas))
        self.tables: list[tuple[str, ...]] = list(dict.fromkeys((str(row[0]), str(row[1])) for row in tables))
        self.makers = {(str(row[0]), str(row[1])) for row in session.rows(MAKERS)}
        for schema, maker, grantee, privilege in session.rows(GIVEN_TO_COME):
            if grantee in self.ours:
                given = self.privileges.setdefault(grantee, set())
                given.add((TO_COME, (str(schema), str(maker)), str(privilege)))
        self._note("database", [((), *row[2:]) for row in session.rows(DATABASE)])
        self._note("schema", [((row[0],), *row[2:]) for row in schemas])
        self._note("table", [((row[0], row[1]), *row[3:]) for row in tables])

    def _note(self, kind: str, rows: Rows) -> None:
        for names, grantee, privilege, _ in rows:
            if grantee in self.ours:
                self.privileges.setdefault(grantee, set()).add((kind, names, str(privilege)))


def _etag(value: object) -> str:
    return hashlib.sha256(json.dumps(value, sort_keys=True).encode()).hexdigest()[:16]


def joined(service: ServiceHere) -> Joined:
    """A database of ours that stands in; its access is a connection string."""
    known = service.estate.resources.get(service.name)
    if service.estate.administered_by_others(service.name) or known is None or known.certificates is None:
        return {}
    organisation = service.estate.organisation_of(service.name)
    database = Database(service.name, service.url, Secret(service.access))
    trusts = str(service.authority)
    kept = AdministeredDatabase(database, known.certificates, service.estate.name, organisation, trusts)
    return {"databases": {service.name: kept}}

"""What leads around the privileges of a database: functions, views, rules and triggers that work with the rights of who
owns them, tables within others, and what the server does for some of its roles outside of any access list.

What can be told exactly is a grant. What would need the text of a function to be understood is *not read*: named, with
the place that it may lead to and with whom it may lead there.
"""

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, Protocol

from enthesis.connectors.postgresql.asking import Session
from enthesis.connectors.postgresql.words import PUBLIC_GROUP, VERBS, group_address, table_address
from enthesis.model.errors import RightMissing
from enthesis.model.foreign_names import word_of
from enthesis.ports import Record
from enthesis.surveys.unread import Unread

PUBLIC = 0  # the number of everybody in access lists
BECOMING = "change-trust"  # the verb of letting somebody become an identity
SERVER_ROLES = ("pg_execute_server_program", "pg_read_server_files", "pg_write_server_files")
"""Who is in one of these runs programs, or reads or writes files, as the server: that is everything there."""
MAY_GIVE = 16  # version from which a role that makes roles gives only those that it administers


def _of_users(query: str) -> str:
    """A query with OWN as the condition that a schema is none of the server's own."""
    return query.replace("OWN", "n.nspname !~ '^pg_' and n.nspname <> 'information_schema'")


FUNCTIONS = _of_users("""
  select n.nspname, p.proname, pg_get_function_identity_arguments(p.oid), p.proowner, p.prosecdef, l.lanname,
         array_agg(a.grantee) filter (where a.grantee is not null and a.grantee <> p.proowner)
  from pg_proc p join pg_namespace n on n.oid = p.pronamespace join pg_language l on l.oid = p.prolang
  left join lateral aclexplode(coalesce(p.proacl, acldefault('f', p.proowner))) a on a.privilege_type = 'EXECUTE'
  where OWN and p.prorettype not in ('trigger'::regtype, 'event_trigger'::regtype)
    and (p.prosecdef or not (l.lanpltrusted or l.lanname in ('internal', 'c')))
  group by p.oid, n.nspname, p.proname, p.proowner, p.prosecdef, l.lanname order by 1, 2, 3""")
RESTRICTED = """
  select n.nspname, p.proname, pg_get_function_identity_arguments(p.oid), array_agg(a.grantee)
  from pg_proc p join pg_namespace n on n.oid = p.pronamespace
  join pg_init_privs i on i.classoid = 'pg_proc'::regclass and i.objoid = p.oid
  cross join lateral aclexplode(p.proacl) a
  where a.grantee <> p.proowner and not exists (
    select 1 from aclexplode(i.initprivs) b where b.grantee = a.grantee and b.privilege_type = a.privilege_type)
  group by p.oid, n.nspname, p.proname order by 1, 2, 3"""
CATALOGUE = """
  select n.nspname, c.relname, a.privilege_type, array_agg(a.grantee)
  from pg_class c join pg_namespace n on n.oid = c.relnamespace
  left join pg_init_privs i on i.classoid = 'pg_class'::regclass and i.objoid = c.oid and i.objsubid = 0
  cross join lateral aclexplode(c.relacl) a
  where n.nspname in ('pg_catalog', 'pg_toast') and a.grantee <> c.relowner and not exists (
    select 1 from aclexplode(i.initprivs) b where b.grantee = a.grantee and b.privilege_type = a.privilege_type)
  group by 1, 2, 3 order by 1, 2, 3"""
COLUMNS = _of_users("""
  select n.nspname, c.relname, array_agg(distinct a.grantee)
  from pg_attribute t join pg_class c on c.oid = t.attrelid join pg_namespace n on n.oid = c.relnamespace
  cross join lateral aclexplode(t.attacl) a where OWN and a.grantee <> c.relowner group by 1, 2 order by 1, 2""")
ROW_RULES = """
  select n.nspname, c.relname from pg_class c join pg_namespace n on n.oid = c.relnamespace
  where c.relrowsecurity order by 1, 2"""
RULES = _of_users("""
  select n.nspname, c.relname, r.rulename, c.relowner from pg_rewrite r join pg_class c on c.oid = r.ev_class
  join pg_namespace n on n.oid = c.relnamespace where r.rulename <> '_RETURN' and OWN order by 1, 2, 3""")
TRIGGERS = _of_users("""
  select n.nspname, c.relname, t.tgname, p.proname, p.proowner
  from pg_trigger t join pg_class c on c.oid = t.tgrelid join pg_namespace n on n.oid = c.relnamespace
  join pg_proc p on p.oid = t.tgfoid join pg_language l on l.oid = p.prolang
  where not t.tgisinternal and OWN and (p.prosecdef or not (l.lanpltrusted or l.lanname in ('internal', 'c')))
  order by 1, 2, 3""")
EVENT_TRIGGERS = """
  select e.evtname, p.proname, p.proowner from pg_event_trigger e join pg_proc p on p.oid = e.evtfoid
  where p.prosecdef order by 1"""
VIEWS = _of_users("""
  select distinct n.nspname, v.relname, v.relowner, o.nspname, t.relname
  from pg_rewrite r join pg_class v on v.oid = r.ev_class join pg_namespace n on n.oid = v.relnamespace
  join pg_depend d on d.classid = 'pg_rewrite'::regclass and d.objid = r.oid and d.refclassid = 'pg_class'::regclass
  join pg_class t on t.oid = d.refobjid and t.oid <> v.oid join pg_namespace o on o.oid = t.relnamespace
  where r.rulename = '_RETURN' and t.relkind in ('r', 'v', 'm', 'f', 'p') and OWN
    and o.nspname !~ '^pg_' and o.nspname <> 'information_schema'
    and not coalesce(v.reloptions::text[] && array['security_invoker=true', 'security_invoker=on',
                                                   'security_invoker=1', 'security_invoker=yes'], false)
  order by 1, 2, 4, 5""")
WITHIN = _of_users("""
  select n.nspname, c.relname, o.nspname, p.relname, p.relkind = 'p'
  from pg_inherits i join pg_class c on c.oid = i.inhrelid join pg_namespace n on n.oid = c.relnamespace
  join pg_class p on p.oid = i.inhparent join pg_namespace o on o.oid = p.relnamespace
  where c.relkind in ('r', 'f', 'p') and p.relkind in ('r', 'f', 'p') and OWN order by 1, 2, 3, 4""")
SEQUENCES = _of_users("""
  select count(*) from pg_class c join pg_namespace n on n.oid = c.relnamespace where c.relkind = 'S' and OWN""")
LARGE = """
  select count(distinct m.oid), array_agg(distinct a.grantee) filter (where a.grantee <> m.lomowner)
  from pg_largeobject_metadata m
  left join lateral aclexplode(coalesce(m.lomacl, acldefault('L', m.lomowner))) a on a.privilege_type = 'SELECT'"""
DEFAULTS = """
  select d.defaclrole, coalesce(n.nspname, ''), array_agg(distinct a.grantee)
  from pg_default_acl d left join pg_namespace n on n.oid = d.defaclnamespace
  cross join lateral aclexplode(d.defaclacl) a
  where d.defaclobjtype in ('r', 'n') and a.grantee <> d.defaclrole group by 1, 2 order by 1, 2"""
ELSEWHERE = """
  select s.srvname, s.srvowner, array_agg(distinct a.grantee) from pg_foreign_server s
  left join lateral aclexplode(coalesce(s.srvacl, acldefault('S', s.srvowner))) a on true group by 1, 2 order by 1"""
FAR_TABLES = """
  select s.srvname, n.nspname, c.relname from pg_foreign_table f join pg_foreign_server s on s.oid = f.ftserver
  join pg_class c on c.oid = f.ftrelid join pg_namespace n on n.oid = c.relnamespace order by 1, 2, 3"""
STORED = """
  select srvname, usename, umoptions is not null, exists (
    select 1 from unnest(umoptions) o where o ~ '^(password|passfile|sslkey|passcode)=')
  from pg_user_mappings order by 1, 2"""
SUBSCRIPTIONS = """
  select subname, subowner from pg_subscription
  where subdbid = (select oid from pg_database where datname = current_database()) order by 1"""
PARAMETERS = """
  select p.parname, array_agg(distinct a.grantee) from pg_parameter_acl p cross join lateral aclexplode(p.paracl) a
  where a.grantee not in (select oid from pg_roles where rolsuper) group by 1 order by 1"""
WITH_PARAMETERS = 15  # version that knows rights about them
POWERS = "select oid, rolreplication, rolbypassrls from pg_roles where rolreplication or rolbypassrls order by oid"
ADMINISTERED = "select roleid, member from pg_auth_members where admin_option"
READING, ADDING = ("SELECT", "UPDATE", "DELETE", "TRUNCATE"), ("INSERT",)
"""What is allowed at a table goes for the tables within it; adding only where those are its parts."""


class KnowsRoles(Protocol):
    """What is known already of the server that is read."""

    address: str
    session: Session

    def holder(self, oid: int) -> str:
        """Who has what is given to a role; '' where nobody has."""
        ...

    def called(self, oid: int) -> str:
        """The name of a role."""
        ...

    def granted(
        self, to: str, kind_verbs: Mapping[str, Iterable[str]], at: str, called: str = "", *, by_itself: bool = False
    ) -> Iterator[Record]:
        """A grant, with the role that it binds."""
        ...

    def oid_of(self, name: str) -> int | None:
        """The number of a role."""
        ...

    def identity(self, oid: int) -> str:
        """The identity that a role is."""
        ...

    def is_somebody(self, oid: int) -> bool:
        """Whether anybody can act as a role."""
        ...


def everything(database: KnowsRoles, to: str, called: str) -> Iterator[Record]:
    """The power to give oneself everything: who works as the server's own process can."""
    verbs: dict[str, list[str]] = {kind: ["change-access"] for kind in VERBS}
    yield from database.granted(to, {**verbs, "identity": [BECOMING]}, database.address, called, by_itself=True)


def powers(database: KnowsRoles, makers: Sequence[int]) -> Iterator[Record]:
    """Grants that stand in no access list. `makers` are the roles that make roles and are no superusers."""
    for name in SERVER_ROLES:
        oid = database.oid_of(name)
        if oid is not None:
            yield from everything(database, database.holder(oid), name)
    for oid, streams, _ in database.session.rows(POWERS):
        if streams:
            reads = {"schema": ["describe"], "table": ["read"]}
            yield from database.granted(database.holder(oid), reads, database.address, "replication", by_itself=True)
    if database.session.version < MAY_GIVE:
        for oid in makers:  # they can put anybody into the roles above
            yield from everything(database, database.holder(oid), "makes roles of the server")


def within(database: KnowsRoles, rows: Sequence[tuple[Any, ...]]) -> dict[tuple[str, str], list[tuple[int, str, str]]]:
    """What access lists of other tables allow at a table that is within them: (who, privilege, table that allows)."""
    above: dict[tuple[str, str], list[tuple[tuple[str, str], bool]]] = defaultdict(list)
    for schema, name, other, parent, in_parts in database.session.rows(WITHIN):
        above[schema, name].append(((other, parent), bool(in_parts)))
    lists: dict[tuple[str, str], list[tuple[int, str]]] = defaultdict(list)
    for schema, name, _, grantee, privilege, _ in rows:
        if grantee is not None:
            lists[schema, name].append((grantee, str(privilege)))
    found: dict[tuple[str, str], list[tuple[int, str, str]]] = {}
    for table, parents in above.items():
        waiting, seen = list(parents), set()
        while waiting:
            parent, in_parts = waiting.pop()
            if (parent, in_parts) in seen:
                continue
            seen.add((parent, in_parts))
            passed = (*READING, *ADDING) if in_parts else READING
            at = ".".join(parent)
            found.setdefault(table, []).extend((who, one, at) for who, one in lists[parent] if one in passed)
            waiting += [(higher, parts and in_parts) for higher, parts in above.get(parent, ())]
    return found


def around(database: KnowsRoles, readers: Mapping[str, Sequence[str]]) -> Iterator[Record]:
    """What is not read, and what is said besides. `readers` are those who may read or change a table, by its address,
    as far as its own access list says."""
    yield from _functions(database)
    yield from _of_tables(database, readers)
    yield from _views(database, readers)
    yield from _elsewhere(database, readers)
    yield from _others(database)


def not_read(what: str, why: str, at: str, by: Iterable[str], *, of_credentials: bool = False) -> Record:
    """Something that was not read: what it is, why, where it may lead, and whom (nobody named: anybody).
    `of_credentials`: it says which credentials open what is known, and nothing of what they open."""
    return Unread(what, why, at, tuple(sorted(set(by))), of_credentials).record


def _holders(database: KnowsRoles, grantees: Iterable[int] | None) -> list[str]:
    return sorted({name for oid in grantees or () if (name := database.holder(oid))})


def _who(database: KnowsRoles, grantees: Iterable[int] | None) -> str:
    names = sorted({"everybody" if oid == PUBLIC else database.called(oid) for oid in grantees or ()})
    return ", ".join(names[:5]) + (f" and {len(names) - 5} more" if len(names) > 5 else "")


def _functions(database: KnowsRoles) -> Iterator[Record]:
    for schema, name, arguments, owner, definer, language, grantees in database.session.rows(FUNCTIONS):
        by = _holders(database, grantees)
        if by:
            rights = f"with the rights of {database.called(owner)}" if definer else f"in {language}, as the server"
            what = f"the function {schema}.{name}({arguments}), which works {rights}"
            yield not_read(what, f"it may be called by {_who(database, grantees)}", database.address, by)
    for schema, name, arguments, grantees in database.session.rows(RESTRICTED):
        by = _holders(database, grantees)
        if by:
            what = f"the function {schema}.{name}({arguments}), which the server keeps from most"
            yield not_read(what, f"it may be called by {_who(database, grantees)}", database.address, by)
    for schema, name, privilege, grantees in database.session.rows(CATALOGUE):
        by = _holders(database, grantees)
        if by:
            what = f"{privilege} on {schema}.{name}, which is the server's own"
            yield not_read(what, f"it is given to {_who(database, grantees)}", database.address, by)
    if database.session.version >= WITH_PARAMETERS:
        for name, grantees in database.session.rows(PARAMETERS):
            what = f"changes of the setting {name}"
            yield not_read(what, f"they are allowed to {_who(database, grantees)}", database.address,
                           _holders(database, grantees))  # fmt: skip


def _of_tables(database: KnowsRoles, readers: Mapping[str, Sequence[str]]) -> Iterator[Record]:
    for schema, name, grantees in database.session.rows(COLUMNS):
        at = table_address(database.address, schema, name)
        what = f"columns of {at} that are granted by themselves"
        yield not_read(what, f"to {_who(database, grantees)}", at, _holders(database, grantees))
    for schema, name, rule, owner in database.session.rows(RULES):
        at = table_address(database.address, schema, name)
        what = f"the rule {rule} of {at}, which works with the rights of {database.called(owner)}"
        yield not_read(what, "it runs for whoever reads or changes that", database.address, readers.get(at, ()))
    for schema, name, trigger, function, owner in database.session.rows(TRIGGERS):
        at = table_address(database.address, schema, name)
        what = f"the trigger {trigger} of {at}: {function} works with the rights of {database.called(owner)}"
        yield not_read(what, "it runs for whoever changes that", database.address, readers.get(at, ()))
    for trigger, function, owner in database.session.rows(EVENT_TRIGGERS):
        what = f"the event trigger {trigger}: {function} works with the rights of {database.called(owner)}"
        yield not_read(what, "it runs for whoever makes or changes a table", database.address, ())
    free = [database.called(oid) for oid, _, bypasses in database.session.rows(POWERS) if bypasses]
    for schema, name in database.session.rows(ROW_RULES):
        at = table_address(database.address, schema, name)
        also = f", but not for {', '.join(free)}" if free else ""
        yield {"left_out": f"rules for rows of {at}", "why": f"they narrow what is allowed{also}", "at": at}


def _views(database: KnowsRoles, readers: Mapping[str, Sequence[str]]) -> Iterator[Record]:
    """Which tables a view shows in part. The view is a place of its own; its readers need nothing at the tables."""
    shows: dict[str, set[str]] = defaultdict(set)
    owners: dict[str, int] = {}
    for schema, name, owner, other, table in database.session.rows(VIEWS):
        view = table_address(database.address, schema, name)
        owners[view] = owner
        shows[view].add(table_address(database.address, other, table))
    for view, tables in shows.items():
        waiting, all_of_it = list(tables), set(tables)
        while waiting:
            for more in shows.get(waiting.pop(), ()):
                if more not in all_of_it:
                    all_of_it.add(more)
                    waiting.append(more)
        for table in sorted(all_of_it - {view}):
            why = f"it shows a part of it with the rights of {database.called(owners[view])}: who may use it needs none"
            yield {"left_out": f"{view}, a view of {table}", "why": why, "at": table, "by": [*readers.get(view, ())]}


def _elsewhere(database: KnowsRoles, readers: Mapping[str, Sequence[str]]) -> Iterator[Record]:
    """What leads to other servers, and the passwords for them that are kept here."""
    by_server: dict[str, set[str]] = defaultdict(set)
    for server, schema, name in database.session.rows(FAR_TABLES):
        by_server[server].update(readers.get(table_address(database.address, schema, name), ()))
    for server, owner, grantees in database.session.rows(ELSEWHERE):
        by = sorted(by_server[server] | {*_holders(database, {owner, *filter(None, grantees or ())})})
        what = f"what is reached through the foreign server {server}"
        yield {"left_out": what, "why": "it is elsewhere: survey it there", "by": by}
    for server, user, seen, password in database.session.rows(STORED):
        role = database.oid_of(user) if user != PUBLIC_GROUP else PUBLIC
        by = [] if role is None else _holders(database, [role])
        if password:
            says = f"a password for the foreign server {server} is stored here, and {user} uses it"
            yield {"finding": "password-stored", "at": by[0] if by else database.address, "says": says}
        elif not seen:
            what = f"whether a password for the foreign server {server} is stored for {user}"
            yield not_read(what, "we may not see it", database.address, by, of_credentials=True)
    for name, owner in database.session.rows(SUBSCRIPTIONS):
        says = f"the subscription {name} keeps how it logs in elsewhere, and works with the rights of "
        yield {"finding": "password-stored", "at": database.address, "says": says + database.called(owner)}


def _others(database: KnowsRoles) -> Iterator[Record]:
    """What an estate has no words for."""
    count = database.session.rows(SEQUENCES)[0][0]
    if count:
        yield {"left_out": f"access to {count} sequences", "why": "an estate has no kind for them"}
    try:
        count, grantees = database.session.rows(LARGE)[0]
    except RightMissing:
        database.session.connection.rollback()
        count, grantees = 0, ()
    if count:
        why = f"an estate has no kind for them; read by {_who(database, grantees)}"
        what = f"access to {count} large object{'s' if count != 1 else ''}"
        yield {"left_out": what, "why": why, "by": _holders(database, grantees)}
    for maker, schema, grantees in database.session.rows(DEFAULTS):
        by = _holders(database, grantees)
        if not by:
            continue  # of those whom nobody can be, such as ours for grants
        at = f"{database.address}/schema/{word_of(schema)}" if schema else database.address
        what = f"what {database.called(maker)} will make in {at}"
        why = f"it will be open to {_who(database, grantees)} (default privileges)"
        yield {"left_out": what, "why": why, "at": at, "by": by}


def administering(database: KnowsRoles) -> Iterator[Record]:
    """Who may put others, and so themselves, into a role."""
    for role, member in database.session.rows(ADMINISTERED):
        to = database.holder(member)
        if not to:
            continue
        if database.is_somebody(role):
            yield from database.granted(to, {"identity": [BECOMING]}, database.identity(role), "administers a role")
        yield from database.granted(
            to, {"group": ["change-members"]}, group_address(database.address, database.called(role)),
            "administers a role",
        )  # fmt: skip

"""Forty ways to read a table of a real PostgreSQL, each tried by every login: whoever gets through is in `reach`, or
the survey names what it did not read; and whoever has no way is told to have none."""

import json
import subprocess
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psycopg
import pytest
from psycopg import sql

from enthesis.connectors.postgresql.surveying import Database
from enthesis.model.secrets import Secret
from enthesis_lab.databases import programs

from .conftest import Program
from .databases import postgresql

ADDRESS = "here/database/postgres"
SECRET = "vault.secret"
WORD = "the-word-that-is-kept"


@dataclass(frozen=True)
class Way:
    """What makes a way to read, for the login that it is named after, and what then reads."""

    name: str
    made: str  # `ME` is the login
    reads: str  # a query of one text, run as the login; '' where nothing is to be found
    table: str = SECRET
    options: str = ""  # of the login


PLAIN = "select string_agg(word, ' ') from vault.secret"
IN_FILE = "copy pg_temp.got from '{folder}/copy'; select string_agg(line, ' ') from pg_temp.got"
BY_PROGRAM = "copy pg_temp.got from program '{psql}'; select string_agg(line, ' ') from pg_temp.got"
WAYS = (
    Way("plain", "grant select on vault.secret to ME", PLAIN),
    Way("may-pass-on", "grant select on vault.secret to ME with grant option", PLAIN),
    Way("copies", "grant select on vault.secret to ME", "create temp table c as table vault.secret; table c"),
    Way("in-group", "create role g1; grant select on vault.secret to g1; grant g1 to ME", PLAIN),
    Way("in-group-of-group", "create role g2; grant g1 to g2; grant g2 to ME", PLAIN),
    Way("becomes-group", "grant g1 to ME", "set role g1; {PLAIN}", options="noinherit"),
    Way("becomes-far", "create role g3 noinherit; grant g1 to g3; grant g3 to ME", "set role g3; set role g1; {PLAIN}",
        options="noinherit"),
    Way("owns", "alter table vault.owned owner to ME", "select word from vault.owned", "vault.owned"),
    Way("in-owner", "create role o2; alter table vault.owned2 owner to o2; grant o2 to ME",
        "select word from vault.owned2", "vault.owned2"),
    Way("owner-without", "alter table vault.owned3 owner to ME; revoke all on vault.owned3 from ME",
        "grant select on vault.owned3 to \"owner-without\"; select word from vault.owned3", "vault.owned3"),
    Way("column", "grant select (word) on vault.secret to ME", PLAIN),
    Way("superuser", "", PLAIN, options="superuser"),
    Way("reads-all", "grant pg_read_all_data to ME", PLAIN),
    Way("reads-all-in-group", "create role g4; grant pg_read_all_data to g4; grant g4 to ME", PLAIN),
    Way("reads-files", "grant pg_read_server_files to ME", "create temp table got (line text); {IN_FILE}"),
    Way("runs-programs", "grant pg_execute_server_program to ME", "create temp table got (line text); {BY_PROGRAM}"),
    Way("writes-files", "grant pg_write_server_files to ME", ""),
    Way("streams", "", "", options="replication"),
    Way("makes-roles", "", 'grant pg_read_all_data to "makes-roles"; set role pg_read_all_data; {PLAIN}',
        options="createrole"),
    Way("administers", "create role g5; grant g1 to g5; grant g5 to ME with admin option",
        'set role g5; set role g1; {PLAIN}', options="noinherit"),
    Way("row-policy", "grant select on vault.rows to ME; create policy p on vault.rows to ME using (true)",
        "select word from vault.rows", "vault.rows"),
    Way("past-row-policy", "grant select on vault.rows to ME", "select word from vault.rows", "vault.rows",
        options="bypassrls"),
    Way("behind-row-policy", "grant select on vault.rows to ME", "", "vault.rows"),
    Way("view", "create view vault.v1 as select * from vault.secret; grant select on vault.v1 to ME",
        "select word from vault.v1"),
    Way("barrier-view", "create view vault.v2 with (security_barrier) as select * from vault.secret; "
        "grant select on vault.v2 to ME", "select word from vault.v2"),
    Way("view-of-view", "create view vault.v3 as select * from vault.v2; grant select on vault.v3 to ME",
        "select word from vault.v3"),
    Way("kept-view", "create materialized view vault.v4 as select * from vault.secret; grant select on vault.v4 to ME",
        "select word from vault.v4"),
    Way("caller-s-view", "create view vault.v5 with (security_invoker) as select * from vault.secret; "
        "grant select on vault.v5 to ME", ""),
    Way("function", "DEFINER f1() KEPT f1() from public; grant execute on function vault.f1() to ME",
        "select vault.f1()"),
    Way("function-in-group", "create role g6; DEFINER f2() KEPT f2() from public; "
        "grant execute on function vault.f2() to g6; grant g6 to ME", "select vault.f2()"),
    Way("function-of-reader", "create role r7; grant select on vault.secret to r7; "
        "grant usage, create on schema vault to r7; set role r7; DEFINER f3() KEPT f3() from public; "
        "grant execute on function vault.f3() to ME; reset role",
        "select vault.f3()"),
    Way("caller-s-function", "create function vault.f4() returns text language sql as 'select word from vault.secret'",
        ""),
    Way("trigger", "create table vault.in1 (a int); create table vault.out1 (word text); "
        "grant insert on vault.in1 to ME; grant select on vault.out1 to ME; create function vault.t1() returns trigger "
        "security definer language plpgsql as "
        "'begin insert into vault.out1 select word from vault.secret; return new; end'; "
        "create trigger t after insert on vault.in1 for each row execute function vault.t1()",
        "insert into vault.in1 values (1); select word from vault.out1"),
    Way("rule", "create table vault.in2 (a int); create table vault.out2 (word text); "
        "grant insert on vault.in2 to ME; grant select on vault.out2 to ME; create rule r as on insert to vault.in2 "
        "do also insert into vault.out2 "
        "select word from vault.secret", "insert into vault.in2 values (1); select word from vault.out2"),
    Way("partition", "grant select on vault.whole to ME", "select word from vault.whole", "vault.part"),
    Way("child", "grant select on vault.parent to ME", "select word from vault.parent", "vault.child"),
    Way("grandchild", "grant select on vault.parent to ME", "select word from vault.parent", "vault.grandchild"),
    Way("foreign", "create foreign table vault.far (word text) server here options (schema_name 'vault', table_name "
        "'secret'); grant select on vault.far to ME; create user mapping for ME server here options "
        "(user 'postgres', password 'x', password_required 'false')", "select word from vault.far"),
    Way("large-object", "select lo_from_bytea(777, convert_to('the-word-that-is-kept', 'UTF8')); "
        "grant select on large object 777 to ME", "select convert_from(lo_get(777), 'UTF8')"),
    Way("kept-from-most", "grant execute on function pg_read_file(text) to ME", "select pg_read_file('{folder}/copy')"),
    Way("catalogue", "grant select on pg_catalog.pg_statistic to ME",
        "select stavalues1::text from pg_statistic where starelid = 'vault.secret'::regclass"),
    Way("to-come", "alter default privileges for role postgres in schema vault grant select on tables to ME",
        "select word from vault.later"),
    Way("sees-statistics", "grant pg_monitor to ME", ""),
    Way("makes-databases", "", "", options="createdb"),
    Way("writes-all", "grant pg_write_all_data to ME", ""),
    Way("inserts", "grant insert on vault.secret to ME", ""),
    Way("updates", "grant update, delete, truncate, references on vault.secret to ME", ""),
    Way("no-way", "", ""),
)  # fmt: skip
FIRST = """
  create extension postgres_fdw; create server here foreign data wrapper postgres_fdw
    options (host '127.0.0.1', port 'PORT', dbname 'postgres');
  create schema vault; grant usage on schema vault to public;
  create table vault.secret (word text); create table vault.owned (word text); create table vault.owned2 (word text);
  create table vault.owned3 (word text); create table vault.rows (word text);
  alter table vault.rows enable row level security;
  create table vault.whole (word text) partition by list (word);
  create table vault.part partition of vault.whole default;
  create table vault.parent (word text); create table vault.child () inherits (vault.parent);
  create table vault.grandchild () inherits (vault.child);
"""
TABLES = ("secret", "owned", "owned2", "owned3", "rows", "part", "child", "grandchild")
PROBES = tuple(way for way in WAYS if way.reads)


@dataclass(frozen=True)
class Vault:
    """The server, its folder, and what a survey says of it before the last table was made."""

    url: str
    port: str
    folder: Path
    survey: Path
    records: Sequence[Mapping[str, Any]]

    def logged_in(self, login: str) -> "psycopg.Connection[Any]":
        return psycopg.connect(self.url.replace("postgres@", f"{login}@"), autocommit=False)


@pytest.fixture(scope="module")
def vault(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Vault]:
    place = tmp_path_factory.mktemp("vault")
    with postgresql() as url:
        port = url.rsplit(":", 1)[1].split("/")[0]
        with psycopg.connect(url, autocommit=True) as connection:
            run(connection, FIRST.replace("PORT", port))
            for table in TABLES:
                query = sql.SQL("insert into vault.{} select {} from generate_series(1, 40)")
                connection.execute(query.format(sql.Identifier(table), sql.Literal(f"{WORD} in {table}.")))
            for way in WAYS:
                run(connection, f'create role "{way.name}" login {way.options}')
                run(connection, way.made.replace("ME", f'"{way.name}"'))
            connection.execute("refresh materialized view vault.v4")
            connection.execute("analyze vault.secret")
            folder = Path(str(connection.execute("show data_directory").fetchone()[0]))  # type: ignore[index]
            connection.execute(f"copy vault.secret to '{folder}/copy'")
        (place / "access").write_text(url)
        ran = enthesis("survey", "--database", f"{ADDRESS}={place / 'access'}", "--out", "live.jsonl", at=place)
        assert ran.code == 3, ran.err
        records = [json.loads(line) for line in (place / "live.jsonl").read_text().splitlines()]
        with psycopg.connect(url, autocommit=True) as connection:
            run(connection, f"create table vault.later as select '{WORD} in secret.' as word")
        yield Vault(url, port, folder, place / "live.jsonl", records)


SHORT = {
    "DEFINER f": "create function vault.f",
    " KEPT ": " returns text security definer language sql as 'select word from vault.secret'; "
    "revoke all on function vault.",
}


def run(connection: "psycopg.Connection[Any]", text: str) -> None:
    for short, long in SHORT.items():
        text = text.replace(short, long)
    if text.strip():
        connection.execute(text)


def gets_through(vault: Vault, connection: "psycopg.Connection[Any]", way: Way) -> str:
    """The table whose word a login reads by a way; '' where it does not."""
    psql = "psql -h 127.0.0.1 -p PORT -U postgres -At -c ''select word from vault.secret''"
    text = way.reads
    for short, long in (("{PLAIN}", PLAIN), ("{IN_FILE}", IN_FILE), ("{BY_PROGRAM}", BY_PROGRAM), ("{psql}", psql),
                        ("{folder}", str(vault.folder)), ("PORT", vault.port)):  # fmt: skip
        text = text.replace(short, long)
    try:
        seen = connection.execute(text)
        while seen.nextset():
            pass
        found = " ".join(str(row[0]) for row in seen.fetchall()) if seen.description is not None else ""
    except psycopg.Error:
        found = ""
    finally:
        connection.rollback()
    if WORD not in found:
        return ""
    return next((f"vault.{table}" for table in TABLES if f"{WORD} in {table}." in found), SECRET)


@pytest.fixture(scope="module")
def through(vault: Vault) -> dict[str, dict[str, set[str]]]:
    """By table and login, the ways by which the login really reads it."""
    found: dict[str, dict[str, set[str]]] = {}
    for login in [way.name for way in WAYS]:
        with vault.logged_in(login) as connection:
            for way in PROBES:
                table = gets_through(vault, connection, way)
                if table:
                    found.setdefault(table, {}).setdefault(login, set()).add(way.name)
    with suppress(subprocess.CalledProcessError):
        for login in ("streams", "no-way"):
            place = vault.survey.parent / login
            words = [
                str(programs() / "pg_basebackup"),
                "-h",
                "127.0.0.1",
                "-p",
                vault.port,
                "-U",
                login,
                "-D",
                str(place),
            ]
            subprocess.run([*words, "-X", "none", "-c", "fast"], check=True, capture_output=True)
            if any(WORD.encode() in path.read_bytes() for path in place.rglob("*") if path.is_file()):
                found.setdefault(SECRET, {}).setdefault(login, set()).add("streams")
    return found


def told(enthesis: Program, vault: Vault, table: str, *more: str) -> set[str]:
    """The logins that `reach` says can read a table."""
    at = f"{ADDRESS}/schema/vault/table/{table.partition('.')[2]}"
    words = ("reach", "--survey", str(vault.survey), "--to", at, "--verb", "read", *more, "--format", "json")
    ran = enthesis(*words, at=vault.survey.parent)
    assert ran.code in (0, 3), ran.err
    logins = {way.name for way in WAYS}
    return {one["start"].rpartition("/")[2] for one in ran.json["found"]} & logins


def named(vault: Vault, login: str) -> list[str]:
    """What the survey did not read, or says besides, that this login may use."""
    members = {one["address"]: one["members"] for one in vault.records if one.get("section") == "groups"}

    def includes(holder: str) -> bool:
        return holder.rpartition("/")[2] == login or any(map(includes, members.get(holder, ())))

    return [one["left_out"] for one in vault.records if "left_out" in one and any(map(includes, one.get("by", ())))]


def test_whoever_reads_a_table_is_in_reach_or_the_way_is_named(
    enthesis: Program, vault: Vault, through: dict[str, dict[str, set[str]]]
) -> None:
    ways = {way for logins in through.values() for found in logins.values() for way in found}
    assert {way.name for way in PROBES} | {"streams"} == ways, "each way is one"
    for table, logins in through.items():
        reached, by_change = told(enthesis, vault, table), told(enthesis, vault, table, "--by-change")
        for login, found in logins.items():
            if login in reached or login in by_change:
                continue
            assert named(vault, login), f"{login} reads {table} by {sorted(found)}, and nothing says so"


def test_whoever_has_no_way_is_told_to_have_none(
    enthesis: Program, vault: Vault, through: dict[str, dict[str, set[str]]]
) -> None:
    reads = set(through[SECRET])
    reached = told(enthesis, vault, SECRET)
    assert reached <= reads, reached - reads
    assert len(reached) >= 10 and "no-way" not in reached
    by_change = told(enthesis, vault, SECRET, "--by-change")
    assert by_change - reads == {"writes-files"}  # a file of the server can be any program of it
    for login in ("no-way", "inserts", "updates", "caller-s-view", "caller-s-function", "makes-databases"):
        assert not [one for one in named(vault, login) if "public" not in one and "elsewhere" not in one], login


def test_every_way_around_is_named_with_who_may_use_it(vault: Vault) -> None:
    for login, said in (
        ("function", "the function vault.f1(), which works with the rights of postgres"),
        ("function-in-group", "the function vault.f2(), which works with the rights of postgres"),
        ("function-of-reader", "the function vault.f3(), which works with the rights of r7"),
        ("column", "columns of here/database/postgres/schema/vault/table/secret that are granted by themselves"),
        ("trigger", "the trigger t of here/database/postgres/schema/vault/table/in1"),
        ("rule", "the rule r of here/database/postgres/schema/vault/table/in2"),
        ("view-of-view", "table/v3, a view of here/database/postgres/schema/vault/table/secret"),
        ("kept-from-most", "the function pg_catalog.pg_read_file(text), which the server keeps from most"),
        ("catalogue", "SELECT on pg_catalog.pg_statistic, which is the server's own"),
        ("large-object", "access to 1 large object"),
        ("to-come", "what postgres will make in here/database/postgres/schema/vault"),
        ("foreign", "what is reached through the foreign server here"),
    ):
        assert any(said in one for one in named(vault, login)), (login, named(vault, login))
    findings = [one for one in vault.records if one.get("finding") == "password-stored"]
    assert [one["at"].rpartition("/")[2] for one in findings] == ["foreign"] and "'x'" not in json.dumps(findings)


def test_what_only_some_may_see_is_not_taken_for_absent(vault: Vault) -> None:
    url = vault.url.replace("postgres@", "no-way@")
    records = list(Database(ADDRESS, url, Secret(url)).records(lambda what: None))
    missing = [one["left_out"] for one in records if one.get("incomplete")]
    assert "how logins are let in" in missing
    assert any("whether a password for the foreign server here" in one for one in missing), missing

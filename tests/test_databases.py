"""A real PostgreSQL: surveyed, compared with its own answers, changed, and used with certificates."""

import json
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from typing import Any

import psycopg
import pytest
from psycopg import sql

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.connectors.postgresql.surveying import Database
from enthesis.connectors.postgresql.words import VERBS, identity_address
from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue, read_folder
from enthesis.model.estate import Attempt, Context, Origin
from enthesis.model.foreign_names import word_of
from enthesis.model.secrets import Secret
from enthesis.model.vocabulary import Form
from enthesis.surveys.survey import VERSION, Survey, read_survey
from enthesis.verdicts.judge import Judge
from enthesis_lab.enrolling import EnrolmentServer
from enthesis_lab.problems import Problem
from enthesis_lab.store import Store
from enthesis_lab.tokens import Clock

from .conftest import Program, write_estate
from .databases import postgresql

ADDRESS = "here/database/readings"
NOW = datetime(2026, 11, 27, tzinfo=UTC)
AWKWARD = ("plain", 'Quo"ted', "semi;drop table x", "per%cent", "a/b", "line\nbreak", "Ünïcode", "at@sign")
HEAD = (
    {"section": "organisations", "name": "works"},
    {"section": "providers", "name": "here", "style": "one-sided"},
    {"section": "accounts", "name": "here", "in": "@works", "provider": "here"},
)


@pytest.fixture(scope="module")
def server() -> Iterator[str]:
    with postgresql() as url:
        yield url


def surveyed(url: str) -> Survey:
    """What a survey of a database reads, as every command reads it."""
    records = list(Database(ADDRESS, url, Secret(url)).records(lambda what: None))
    header = {"enthesis": "survey", "version": VERSION, "taken": NOW.isoformat(), "of": []}
    lines = [json.dumps(one) for one in (header, *HEAD, *records, {"end": True, "complete": True})]
    return read_survey(lines, "database", packaged_catalogue(TreeCache(None)))


def furnished(url: str, rng: Random) -> tuple[list[str], list[tuple[str, str]]]:
    """Random roles, memberships, schemas, tables, owners and privileges; the roles that log in, and the tables."""
    roles = [f"{name} {rng.randrange(10**6)}" for name in (*AWKWARD, *AWKWARD)]
    tables: list[tuple[str, str]] = []
    with psycopg.connect(url, autocommit=True) as connection:

        def run(text: str, *names: str) -> None:
            connection.execute(sql.SQL(text).format(*map(sql.Identifier, names)))

        for number, role in enumerate(roles):
            options = f"{'LOGIN' if number % 3 else 'NOLOGIN'} {'NOINHERIT' if rng.random() < 0.3 else 'INHERIT'}"
            run(f"create role {{}} {options} {'SUPERUSER' if number == 5 else ''}", role)
        for high in range(1, len(roles)):  # of an earlier one, so that there is no circle
            for _ in range(rng.randrange(3)):
                run("grant {} to {}", roles[rng.randrange(high)], roles[high])
        run("grant pg_read_all_data to {}", roles[1])
        run("grant pg_write_all_data to {}", roles[7])
        for schema in (f"one {rng.randrange(99)}", 'tw"o'):
            run("drop schema if exists {} cascade", schema)
            run("create schema {}", schema)
            for name in ("a", 'b"; --', "c/d"):
                run("create table {}.{} (id int)", schema, name)
                tables.append((schema, name))
        for schema, name in tables:
            if rng.random() < 0.6:
                run("alter table {}.{} owner to {}", schema, name, rng.choice(roles))
            for _ in range(rng.randrange(3, 9)):
                rights = ", ".join(rng.sample(("SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES"), 2))
                if rng.random() < 0.25:
                    run(f"grant {rights} on {{}}.{{}} to public", schema, name)
                else:
                    run(f"grant {rights} on {{}}.{{}} to {{}}", schema, name, rng.choice(roles))
            if rng.random() < 0.2:  # an owner can take its own privileges away
                owner = connection.execute(
                    "select tableowner from pg_tables where (schemaname, tablename) = (%s, %s)", (schema, name)
                ).fetchone()
                assert owner is not None
                run("revoke UPDATE on {}.{} from {}", schema, name, owner[0])
        query = "select rolname from pg_roles where rolname = any (%s) and rolcanlogin order by rolname"
        logins = connection.execute(query, [roles]).fetchall()
    return [row[0] for row in logins], tables


def asked(judge: Judge, role: str, verb: str, target: str) -> bool:
    origin = Origin(Form.IDENTITY, identity_address(ADDRESS, role))
    return judge.judge(Question(origin, (), Attempt(verb, target), Context(), NOW)).allowed


@pytest.mark.parametrize("seed", range(3))
def test_a_survey_answers_as_the_server_does(server: str, seed: int) -> None:
    rng = Random(seed)
    roles, tables = furnished(server, rng)
    judge = Judge(compile_estate(surveyed(server).estate))
    counts = {True: 0, False: 0}
    with psycopg.connect(server) as connection:

        def server_says(function: str, *parameters: Any) -> bool:
            found = connection.execute(f"select {function}({', '.join(['%s'] * len(parameters))})", parameters)
            return bool((found.fetchone() or (None,))[0])

        for _ in range(300):
            role, (schema, name) = rng.choice(roles), rng.choice(tables)
            privilege = rng.choice(["SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER"])
            table = sql.Identifier(schema, name).as_string(connection)
            target = f"{ADDRESS}/schema/{word_of(schema)}/table/{word_of(name)}"
            said = server_says("has_table_privilege", role, table, privilege)
            assert asked(judge, role, VERBS["table"][privilege], target) is said, (role, privilege, table)
            counts[said] += 1
            writes = all(server_says("has_table_privilege", role, table, one) for one in ("INSERT", "UPDATE", "DELETE"))
            assert asked(judge, role, "write", target) is writes, (role, table)
            used = server_says("has_schema_privilege", role, schema, "USAGE")
            assert asked(judge, role, "describe", f"{ADDRESS}/schema/{word_of(schema)}") is used
            login = server_says("has_database_privilege", role, connection.info.dbname, "CONNECT")
            assert asked(judge, role, "login", ADDRESS) is login
    assert counts[True] >= 120, counts


ESTATE = """\
estate: works
organisations: {works: {}}
providers: {here: {style: one-sided}}
accounts: {here: {in: "@works", provider: here}}
issuers: {papers: {kind: x509}}
resources:
  # kept as it is
  here/database/readings: {url: "postgresql://readings.works.example/readings", certificates: papers}
"""


def catalogue_of(url: str) -> dict[str, list[tuple[Any, ...]]]:
    """Everything of a server that a takeover could change, as it is now."""
    tables = ("pg_authid", "pg_auth_members", "pg_shdescription", "pg_database", "pg_class", "pg_namespace")
    rows = {}
    with psycopg.connect(url) as connection:
        for table in tables:
            found = connection.execute(sql.SQL("select {}::text from {}").format(*[sql.Identifier(table)] * 2))
            rows[table] = sorted(found.fetchall())
    return {**rows, "pg_database": [(len(rows["pg_database"]),)]}  # its rows change with every transaction


def test_a_server_set_up_by_hand_is_taken_over_as_it_is(enthesis: Program, server: str, tmp_path: Path) -> None:
    roles, tables = furnished(server, Random(7))
    write_estate(tmp_path, {"estate.yaml": ESTATE})
    (tmp_path / "access").write_text(server)
    database = ("--database", f"{ADDRESS}={tmp_path / 'access'}")
    before = catalogue_of(server)
    ran = enthesis("survey", "adopt", ADDRESS, *database, at=tmp_path)
    assert ran.code == 0 and f"Adopted from {ADDRESS}: " in ran.err, ran.err
    assert "  # kept as it is\n" in (tmp_path / "estate.yaml").read_text()
    ran = enthesis("propose", "--expect-none", *database, at=tmp_path)
    assert ran.code == 0 and ran.out.strip() == "works is fully in place.", ran.out
    again = enthesis("survey", "adopt", ADDRESS, *database, at=tmp_path)
    assert "nothing that was not described" in again.err
    assert catalogue_of(server) == before

    described = read_folder(tmp_path).estate
    assert described is not None
    judges = [Judge(compile_estate(estate)) for estate in (described, surveyed(server).estate)]
    rng, counts = Random(8), {True: 0, False: 0}
    for _ in range(300):
        role, (schema, name) = rng.choice(roles), rng.choice(tables)
        target = f"{ADDRESS}/schema/{word_of(schema)}/table/{word_of(name)}"
        asks = [(rng.choice(["read", "insert", "update", "truncate", "write"]), target), ("login", ADDRESS)]
        for verb, place in (*asks, ("change-trust", identity_address(ADDRESS, rng.choice(roles)))):
            said = [asked(judge, role, verb, place) for judge in judges]
            assert said[0] is said[1], (role, verb, place)
            counts[said[0]] += 1
    assert min(counts.values()) >= 90, counts

    with psycopg.connect(server, autocommit=True) as connection:  # what is done by hand from now on shows
        connection.execute(sql.SQL("create role newcomer login in role {}").format(sql.Identifier(roles[0])))
        connection.execute(sql.SQL("grant select on {}.{} to newcomer").format(*map(sql.Identifier, tables[0])))
    ran = enthesis("propose", "--expect-none", *database, at=tmp_path)
    assert ran.code == 1 and f"{ADDRESS}/identity/newcomer may take on {ADDRESS}" in ran.out, ran.out


def test_what_cannot_be_described_is_said_when_it_is_left_out(enthesis: Program, tmp_path: Path) -> None:
    write_estate(tmp_path, {"estate.yaml": ESTATE})
    unreached = enthesis("survey", "adopt", ADDRESS, at=tmp_path)
    assert unreached.code == 2 and f"--database {ADDRESS}=FILE" in unreached.err
    with postgresql() as url:
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute("create role reader login")
            connection.execute("create table public.wages (name text, amount int)")
            connection.execute("grant select (name) on public.wages to reader")
        (tmp_path / "access").write_text(url)
        ran = enthesis("survey", "adopt", ADDRESS, "--database", f"{ADDRESS}={tmp_path / 'access'}", at=tmp_path)
    assert ran.code == 3 and "Left out: columns of" in ran.err and "Adopted in part" in ran.err
    own = "{to: here/database/readings/identity/reader, role: 'readings:table read', at: here/database/readings}"
    text = (tmp_path / "estate.yaml").read_text()
    assert "here/database/readings/identity/reader: {kind: service-account}" in text and own not in text


def test_a_role_of_the_server_s_own_is_not_granted_to(enthesis: Program, server: str, tmp_path: Path) -> None:
    text = ESTATE + (
        "identities: {here/database/readings/identity/plain: {kind: service-account}}\n"
        "roles: {reading: {allows: {table: [read]}}}\n"
        "grants: [{to: here/database/readings/identity/plain, role: reading, at: here/database/readings}]\n"
    )
    write_estate(tmp_path, {"estate.yaml": text})
    (tmp_path / "access").write_text(server)
    ran = enthesis("propose", "--database", f"{ADDRESS}={tmp_path / 'access'}", at=tmp_path)
    assert "is the server's own" in ran.out and "are only described here" in ran.out, ran.out


def test_a_comment_on_a_role_makes_it_no_other(server: str) -> None:
    said = {"enthesis": "works", "statement": {"address": "here/identity/innocent"}}
    grant = {"enthesis": "works", "statement": {"role": "x", "at": ADDRESS}}
    with psycopg.connect(server, autocommit=True) as connection:
        connection.execute("create role evil login superuser")
        connection.execute("create role hidden nologin")
        connection.execute("create role member login noinherit")
        connection.execute("grant hidden to member")
        for name, body in (("evil", said), ("hidden", grant), ("member", {"enthesis": 3, "statement": []})):
            text = sql.Literal(json.dumps(body))
            connection.execute(sql.SQL("comment on role {} is {}").format(sql.Identifier(name), text))
    estate = surveyed(server).estate
    assert "here/identity/innocent" not in estate.identities
    assert {identity_address(ADDRESS, name) for name in ("evil", "hidden", "member")} <= set(estate.identities)
    judge = Judge(compile_estate(estate))
    assert asked(judge, "evil", "read", f"{ADDRESS}/schema/public/table/any") is False  # it does not exist
    assert asked(judge, "evil", "change-access", ADDRESS)


def test_an_issuer_of_the_name_of_an_account_gets_no_certificate_of_that(tmp_path: Path) -> None:
    store = Store(tmp_path / "lab.db")
    try:
        inventory = {"estate": "works", "resources": {}, "providers": {"north": {}}, "accounts": {"gauges": {}}}
        server = EnrolmentServer("papers", inventory, store, Clock(store), "https://papers", {})
        assert server._name_of("forge", "project/x") == "spiffe://works/forge/project/x"
        assert server._name_of("north", "gauges/identity/reader") == "spiffe://works/gauges/identity/reader"
        with pytest.raises(Problem):
            server._name_of("gauges", "identity/reader")
    finally:
        store.close()

"""The door of a database, end to end at a lab: a token becomes a cloud identity, that a login at a real PostgreSQL."""

import json
import shutil
import subprocess
import sys
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psycopg
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID
from psycopg import sql

from enthesis.cli.estate_loading import FROM_FILES
from enthesis.connectors.directory import LabDirectory
from enthesis.connectors.enrolling import CertificateAuthority
from enthesis.connectors.http import Client
from enthesis.connectors.postgresql.surveying import Database
from enthesis.connectors.postgresql.using import UsedDatabase, role_in
from enthesis.model.errors import UnexpectedAnswer
from enthesis.model.estate import Attempt
from enthesis.model.secrets import Secret
from enthesis.ports import HeldCredential, Refusal, Surroundings
from enthesis_lab.databases import programs
from enthesis_lab.store import Store

from .conftest import SALTMARSH, Lab, Program, lab_of, packaged_lab, start_lab
from .databases import postgresql

LEVELS = "gauges/database/levels"
READINGS = f"{LEVELS}/schema/tide/table/readings"
READER = "gauges/identity/level-reader"
INES = "@saltmarsh/identity/ines"
RUN = (
    "lab",
    "run",
    "forge",
    "--claim",
    "sub=project/tides/levels/branch/main",
    "--claim",
    "aud=lowland",
    "--claim",
    "event=push",
    "--",
)


@pytest.fixture(scope="module")
def door(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    programs()  # says what to install where it is not
    with packaged_lab(enthesis, tmp_path_factory.mktemp("door") / "levels", "levels") as lab:
        yield lab


def access(lab: Lab) -> str:
    listed = json.loads((lab.state / "services.json").read_text())["services"]
    return str(next(one["access"] for one in listed if one["name"] == LEVELS))


def query(lab: Lab, text: str, *names: str, values: tuple[str, ...] = ()) -> list[tuple[object, ...]]:
    with psycopg.connect(access(lab), autocommit=True) as connection:
        found = connection.execute(sql.SQL(text).format(*map(sql.Identifier, names)), values or None)
        return found.fetchall() if found.description else []


def certificate(lab: Lab, name: str, begins: timedelta, ends: timedelta, *, forged: bool = False) -> HeldCredential:
    """A certificate of the lab's authority, or of one that only has its name, for any time."""
    store = Store(lab.state / "lab.db")
    private, public = store.setting("authority papers")
    store.close()
    issuer = x509.load_pem_x509_certificate(public.encode()).subject
    own = serialization.load_pem_private_key(private.encode(), None)
    signer = ec.generate_private_key(ec.SECP256R1()) if forged else own
    assert isinstance(signer, ec.EllipticCurvePrivateKey)
    key, now = ec.generate_private_key(ec.SECP256R1()), datetime.now(UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)]))
        .issuer_name(issuer)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now + begins)
        .not_valid_after(now + ends)
        .add_extension(x509.SubjectAlternativeName([x509.UniformResourceIdentifier(name)]), critical=False)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(signer.public_key()), critical=False)
        .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.CLIENT_AUTH]), critical=False)
        .sign(signer, hashes.SHA256())
    )
    pem = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    ) + made.public_bytes(serialization.Encoding.PEM)
    return HeldCredential(Secret(pem.decode()), "certificate", ends)


def tried(lab: Lab, held: HeldCredential, verb: str, target: str) -> str:
    url = lab.services[LEVELS]
    used = UsedDatabase(Database(LEVELS, url, Secret("")), "papers", lab.authority)
    got = used.attempt(held, Attempt(verb, target), Surroundings())
    return " ".join(got.steps) if isinstance(got, Refusal) else "allowed"


def test_every_journey_ends_at_the_real_server_as_expected(enthesis: Program, door: Lab) -> None:
    ran = enthesis("prove", "--format", "json", at=door.folder)
    assert ran.code == 0, ran.out + ran.err
    outcomes = {one["journey"]: (one["outcome"], one["refused_at"], one["keyless"]) for one in ran.json["journeys"]}
    assert outcomes["levels-are-read"] == ("allowed", [], True)
    assert outcomes["levels-are-not-written-by-readers"] == ("refused", ["target-side"], True)
    assert outcomes["a-fork-gets-no-login"][0] == "refused"
    log = query(door, "select count(*) from pg_stat_ssl where ssl and pid <> pg_backend_pid()")
    assert log == [(0,)]  # nothing is left open


def test_what_is_in_place_is_in_place(enthesis: Program, door: Lab) -> None:
    ran = enthesis("propose", "--expect-none", at=door.folder)
    assert ran.code == 0 and "changed by others" not in ran.out, ran.out
    assert query(door, "select rolpassword from pg_authid where rolname = 'gauges/identity/level-reader'") == [(None,)]


def test_certificates_that_have_ended_or_are_early_or_forged_open_nothing(door: Lab) -> None:
    name, minute = f"spiffe://saltmarsh/{READER}", timedelta(minutes=1)
    assert tried(door, certificate(door, name, -minute, minute), "read", READINGS) == "allowed"
    assert tried(door, certificate(door, name, -2 * minute, -minute), "read", READINGS) == "session"
    assert tried(door, certificate(door, name, minute, 2 * minute), "read", READINGS) == "session"
    assert tried(door, certificate(door, name, -minute, minute, forged=True), "read", READINGS) == "target-side"
    other = f"spiffe://elsewhere/{READER}"
    assert tried(door, certificate(door, other, -minute, minute), "login", LEVELS) == "target-side"
    nobody = "spiffe://saltmarsh/gauges/identity/nobody"
    assert tried(door, certificate(door, nobody, -minute, minute), "login", LEVELS) == "target-side"
    superuser = "spiffe://saltmarsh/postgres"  # a role that is there, and not in the group that logs in so
    assert tried(door, certificate(door, superuser, -minute, minute), "login", LEVELS) == "target-side"


def test_a_login_is_lent_to_a_client_that_nobody_here_wrote(enthesis: Program, door: Lab) -> None:
    lend = (*RUN, "enthesis", "lend", READER, "--for", LEVELS, "--", "psql", "-X", "-Atc")
    ran = enthesis(*lend, "select current_user, count(*) >= 0 from tide.readings", at=door.folder)
    assert ran.code == 0 and ran.out.strip() == f"{READER}|t", ran.err
    refused = enthesis(*lend, "delete from tide.readings", at=door.folder)
    assert refused.code == 1 and "permission denied for table readings" in refused.err
    held = [path for path in door.folder.rglob("*") if path.is_file() and b"PRIVATE KEY" in path.read_bytes()]
    assert {path.name for path in held} <= {"service.key", "lab.db", "lab.db-wal"}


def test_a_person_logs_in_by_the_own_sign_in_and_the_program_gets_the_login_alone(
    enthesis: Program, door: Lab, tmp_path: Path
) -> None:
    runtime = tmp_path / "runtime"
    runtime.mkdir(mode=0o700)
    mine = {"XDG_RUNTIME_DIR": str(runtime)}
    lend = ("lend", INES, "--for", LEVELS)
    nobody = enthesis(*lend, "--", "psql", at=door.folder, **mine)
    assert nobody.code == 1 and "has not signed in here" in nobody.err
    agree = [sys.executable, "-m", "enthesis", "lab", "agree", "--as", INES]
    with subprocess.Popen(agree, cwd=door.folder, stdout=subprocess.DEVNULL):
        assert enthesis("sign-in", "--quiet", at=door.folder, **mine).code == 0
    psql = ("--", "psql", "-X", "-Atc")
    ran = enthesis(*lend, *psql, "select current_user, count(*) from tide.readings", at=door.folder, **mine)
    assert ran.code == 0 and ran.out.strip() == f"{INES}|0", ran.err
    refused = enthesis(*lend, *psql, "delete from tide.readings", at=door.folder, **mine)
    assert refused.code == 1 and "permission denied for table readings" in refused.err
    shown = enthesis(*lend, "--", "env", at=door.folder, **mine).out
    held = {line.partition("=")[0] for line in shown.splitlines() if line.startswith("ENTHESIS")}
    assert held <= {"ENTHESIS_IDENTITY", "ENTHESIS_PROVIDER_URL", "ENTHESIS_AUTHORITY"} and "PGSSLCERT=" in shown
    other = ("lend", "@saltmarsh/identity/tomas", "--for", LEVELS)
    assert "has not signed in here" in enthesis(*other, *psql, "select 1", at=door.folder, **mine).err
    for more in (("--like", READER), ("--endpoint",)):
        assert enthesis(*lend, *more, *psql, "select 1", at=door.folder, **mine).code == 2
    assert enthesis("cutoff", INES, "--yes", at=door.folder).code == 0
    try:
        assert query(door, "select 1 from pg_roles where rolname = %s", values=(INES,)) == []
        assert enthesis(*lend, *psql, "select 1", at=door.folder, **mine).code == 1
    finally:
        shutil.copy(SALTMARSH.parent / "levels" / "people.yaml", door.folder / "people.yaml")
        assert enthesis("enact", "--yes", at=door.folder).code == 0


def test_an_authority_certifies_who_is_signed_in_and_nobody_else(door: Lab) -> None:
    with (
        Client("@saltmarsh", door.services["@saltmarsh"], authority=Path(door.authority)) as client,
        Client("papers", door.services["papers"], authority=Path(door.authority)) as at,
    ):
        directory, papers = LabDirectory("@saltmarsh", client, door.owner), CertificateAuthority("papers", at)
        sign_in = directory.sign_in_as(INES, mfa=True)
        assert isinstance(sign_in, HeldCredential)
        stated = directory.statement(sign_in, papers.url)
        assert isinstance(stated, HeldCredential) and stated.life <= timedelta(minutes=2)
        got = papers.for_token(stated)
        assert isinstance(got, HeldCredential) and role_in(got) == INES
        assert isinstance(papers.for_token(sign_in), Refusal), "the sign-in itself is not for an authority"
        approves = directory.approval(sign_in.secret, {"proposal": "made up"})
        approval = HeldCredential(Secret(approves), "token", timedelta(minutes=1))
        assert isinstance(papers.for_token(approval), Refusal), "an approval opens nothing"
        with pytest.raises(UnexpectedAnswer):
            directory.statement(sign_in, "https://elsewhere.example")
        directory.forget(sign_in.secret)
        ended = directory.statement(sign_in, papers.url)
        assert isinstance(ended, Refusal) and ended.steps == ("session",)


def test_what_was_changed_by_hand_is_seen_and_put_back(enthesis: Program, door: Lab) -> None:
    (given,) = query(
        door, "select r.rolname from pg_roles r where r.rolname like 'grant %level-reading' order by 1 limit 1"
    )
    query(door, "grant delete on tide.readings to {}", str(given[0]))
    ran = enthesis("propose", "--format", "json", at=door.folder)
    assert {step["collection"] for step in ran.json["steps"]} == {"grants"}, ran.out
    assert enthesis("enact", "--yes", at=door.folder).code == 0
    left = "select has_table_privilege(%s, 'tide.readings', 'DELETE')"
    assert query(door, left, values=(str(given[0]),)) == [(False,)]


def test_a_survey_and_the_questions_that_are_asked_of_it(enthesis: Program, door: Lab, tmp_path: Path) -> None:
    file = tmp_path / "live.jsonl"
    assert enthesis("survey", "--out", str(file), at=door.folder).code == 0
    asked = ("trace", "--survey", str(file), "--from", READER)
    assert enthesis(*asked, "read", READINGS, at=door.folder).code == 0
    assert enthesis(*asked, "write", READINGS, at=door.folder).code == 1
    shown = enthesis("card", "--survey", str(file), READER, at=door.folder).out
    assert "through gauges/database/levels/group/public" in shown and "read on table" in shown


def test_what_a_survey_of_the_database_alone_did_not_look_at_is_said(
    enthesis: Program, door: Lab, tmp_path: Path
) -> None:
    """Only where it could change the answer: the rest of the estate is as the files say."""
    (tmp_path / "access").write_text(access(door))
    file = tmp_path / "database.jsonl"
    survey = ("survey", "--database", f"{LEVELS}={tmp_path / 'access'}", "--out", str(file))
    assert enthesis(*survey, at=door.folder).code == 0
    asked = ("trace", "--survey", str(file), "--from")
    for caller, code in ((INES, 0), (f"{LEVELS}/identity/postgres", 0), (READER, 3)):
        ran = enthesis(*asked, caller, "read", READINGS, at=door.folder)
        assert ran.code == code, ran.out
        first = ran.out.splitlines()[0]
        assert first.startswith("Allowed" if code == 0 else "Partial survey") and ("lowland" in ran.out) == (code == 3)
    ran = enthesis("check", "--survey", str(file), "--format", "json", at=door.folder)
    assert ran.code == 3 and ran.json["not_read"] == [
        f"lowland at {place} ({FROM_FILES})" for place in ("gauges", "@saltmarsh")
    ]
    entry = "  - {{unread: lowland, at: {}, because: asked on its own, until: 2099-01-01T00:00:00Z}}\n"
    accepted = "accepted:\n" + entry.format("gauges") + entry.format('"@saltmarsh"')
    (door.folder / "accepted.yaml").write_text(accepted)
    try:
        assert enthesis("check", "--survey", str(file), at=door.folder).code == 0
    finally:
        (door.folder / "accepted.yaml").unlink()


def test_withdrawn_access_opens_nothing_at_once_and_ends_open_sessions(enthesis: Program, door: Lab) -> None:
    held = certificate(door, f"spiffe://saltmarsh/{READER}", timedelta(minutes=-1), timedelta(minutes=1))
    file = door.folder.parent / "held.pem"
    file.write_text(held.secret.reveal())
    file.chmod(0o600)
    open_session = psycopg.connect(
        door.services[LEVELS], user=READER, sslmode="verify-full", sslrootcert=door.authority, sslcert=str(file),
        sslkey=str(file), autocommit=True,
    )  # fmt: skip
    open_session.execute("select * from tide.readings")
    described = (door.folder / "databases.yaml").read_text()
    line = next(line for line in described.splitlines() if f"to: {READER}" in line)
    (door.folder / "databases.yaml").write_text(described.replace(line + "\n", ""))
    try:
        assert enthesis("enact", "--prune", "--yes", at=door.folder).code == 0
        ran = enthesis("prove", "levels-are-read", "--format", "json", at=door.folder)
        assert ran.code == 1 and ran.json["journeys"][0]["outcome"] == "refused", ran.out
        assert query(door, "select 1 from pg_roles where rolname = %s", values=(READER,)) == []
        with pytest.raises(psycopg.OperationalError):
            open_session.execute("select 1")
    finally:
        open_session.close()
        (door.folder / "databases.yaml").write_text(described)
        assert enthesis("enact", "--yes", at=door.folder).code == 0


def test_a_grant_at_a_database_or_schema_is_for_tables_to_come(enthesis: Program, door: Lab) -> None:
    asks = "select has_table_privilege(%s, 'tide.later', 'select'), has_table_privilege(%s, 'tide.later', 'insert')"
    query(door, "create table tide.later (level int)")
    try:
        assert query(door, asks, values=(READER, READER)) == [(True, False)]
        ran = enthesis("propose", "--expect-none", at=door.folder)
        assert ran.code == 0, ran.out
    finally:
        query(door, "drop table tide.later")


def test_a_name_that_is_taken_is_left_alone(enthesis: Program, door: Lab) -> None:
    described = (door.folder / "databases.yaml").read_text()
    taken = "gauges/identity/level-auditor"
    query(door, "create role {} login password 'not-ours'", taken)
    more = f"  {taken}: {{kind: service-account, owner: field-team, purpose: audits}}\n"
    text = described.replace("identities:\n", "identities:\n" + more).replace(
        "grants:\n", f"grants:\n  - {{to: {taken}, role: level-reading, at: {LEVELS}}}\n"
    )
    (door.folder / "databases.yaml").write_text(text)
    try:
        ran = enthesis("enact", "--yes", at=door.folder)
        assert ran.code == 4 and "has a role named gauges/identity/level-auditor that is not ours" in ran.out + ran.err
        kept = "select rolcanlogin, rolpassword is null from pg_authid where rolname = %s"
        assert query(door, kept, values=(taken,)) == [(True, False)]
    finally:
        (door.folder / "databases.yaml").write_text(described)
        query(door, "drop role {}", taken)
        assert enthesis("enact", "--prune", "--yes", at=door.folder).code == 0


@pytest.mark.parametrize(
    ("entry", "why"),
    [
        (
            f"{{to: {READER}, role: level-writing, at: {LEVELS}, until: 2099-01-01T00:00:00Z}}",
            "no conditions and no end",
        ),
        (f"{{to: {READER}, role: key-using, at: {LEVELS}}}", "gives no decrypt on a key"),
        (
            f'{{to: "@outer/identity/ada", role: level-reading, at: {LEVELS}}}',
            "a database does not ask whether it may enter",
        ),
        (f"{{to: gauges/identity/{'long-' * 8}name, role: level-reading, at: {LEVELS}}}", "more than 64 characters"),
    ],
)
def test_what_a_database_cannot_hold_is_said_before_anything_is_done(
    enthesis: Program, door: Lab, entry: str, why: str
) -> None:
    described = (door.folder / "databases.yaml").read_text()
    more = f"  gauges/identity/{'long-' * 8}name: {{kind: service-account, owner: field-team, purpose: is long}}\n"
    text = described.replace("identities:\n", "identities:\n" + more).replace("grants:\n", f"grants:\n  - {entry}\n")
    text = text.replace("roles:\n", "roles:\n  key-using: {allows: {key: [decrypt]}}\n")
    if "@outer" in entry:
        people = 'organisations: {outer: {outside: true}}\nidentities:\n  "@outer/identity/ada": {kind: person}\n'
        text = text.replace("identities:\n", people, 1)
    (door.folder / "databases.yaml").write_text(text)
    try:
        ran = enthesis("propose", "--format", "json", at=door.folder)
        assert any(why in one["why"] for one in ran.json["blocked"]), ran.json["blocked"]
    finally:
        (door.folder / "databases.yaml").write_text(described)


def test_cut_off_means_at_the_server_too(enthesis: Program, tmp_path: Path) -> None:
    folder = tmp_path / "levels"
    with packaged_lab(enthesis, folder, "levels") as lab:
        assert enthesis("cutoff", READER, "--yes", at=folder).code == 0
        assert enthesis("cutoff", "--check", READER, at=folder).code == 0
        assert query(lab, "select 1 from pg_roles where rolname = %s", values=(READER,)) == []


def test_names_that_mean_something_to_a_server_are_only_names(enthesis: Program, tmp_path: Path) -> None:
    folder = tmp_path / "levels"
    shutil.copytree(SALTMARSH.parent / "levels", folder)
    odd = """tide"; drop schema tide cascade; --"""
    for name in ("estate.yaml", "databases.yaml", "people.yaml"):
        text = (folder / name).read_text().replace("schema/tide/table/readings", f"schema/tide/table/{odd}")
        lines = [
            line.replace(f"{LEVELS}/schema/tide/table/{odd}", f"'{LEVELS}/schema/tide/table/{odd}'")
            if ": {}" in line or "at:" in line
            else line.replace("attempt: ", "attempt: '") + "'"
            if "attempt: " in line and odd in line
            else line
            for line in text.splitlines()
        ]
        (folder / name).write_text("\n".join(lines) + "\n")
    try:
        lab = start_lab(enthesis, folder)
        ran = enthesis("enact", "--yes", at=folder)
        assert ran.code == 0, ran.out + ran.err
        assert query(lab, "select count(*) from {}.{}", "tide", odd) == [(0,)]
        proved = enthesis("prove", "--format", "json", at=folder)
        assert proved.code == 0, proved.out
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def test_a_server_that_others_set_up_is_surveyed_without_an_estate(enthesis: Program, tmp_path: Path) -> None:
    with postgresql() as url:
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute("create role app login password 'made-up'")
            connection.execute("create table public.orders (id int, price int)")
            connection.execute("grant select (id) on public.orders to app")
            connection.execute("create role plain login")
        (tmp_path / "access").write_text(url + "\n")
        survey = ("survey", "--database", f"shop/database/orders={tmp_path / 'access'}", "--out")
        ran = enthesis(*survey, str(tmp_path / "live.jsonl"), at=tmp_path)
        assert ran.code == 3 and "Partial survey" in ran.err and "columns of" in ran.err, ran.err
        assert "lets all in without any proof" in ran.err  # the tests' server asks for none
        ask = ("trace", "--survey", str(tmp_path / "live.jsonl"), "--from", "shop/database/orders/identity/app")
        traced = enthesis(*ask, "read", "shop/database/orders/schema/public/table/orders", at=tmp_path)
        assert traced.code == 3 and "Refused" in traced.out and "artial" in traced.out.splitlines()[0]
        (tmp_path / "access").write_text(url.replace("postgres@", "plain@"))
        ran = enthesis(*survey, str(tmp_path / "plain.jsonl"), at=tmp_path)
        assert ran.code == 3 and "how logins are let in" in ran.err
    gone = enthesis(*survey, str(tmp_path / "gone.jsonl"), at=tmp_path)
    assert gone.code == 3 and "shop/database/orders did not let us in" in gone.err
    (tmp_path / "access").write_text("what=ever = x")
    wrong = enthesis(*survey, str(tmp_path / "gone.jsonl"), at=tmp_path)
    assert wrong.code == 2 and "not a connection string" in wrong.err
    assert not (tmp_path / "gone.jsonl").exists()


def test_an_open_login_outlives_its_certificate_until_it_is_idle(enthesis: Program, tmp_path: Path) -> None:
    with packaged_lab(enthesis, tmp_path / "levels", "levels") as lab:
        ran = enthesis("prove", "--expiry", "levels-are-read", "--format", "json", at=lab.folder)
        (told,) = ran.json["trials"][0]["told"]
        assert ran.code == 0 and told.startswith(f"a login at {LEVELS} that was open goes on"), ran.out
        assert told.endswith("a cut-off ends it, and the server after 15min in which nothing is done")


def test_a_grant_to_a_group_is_kept_for_each_who_is_in_it(enthesis: Program, tmp_path: Path) -> None:
    """A database knows no groups of ours: who comes and goes is given the privileges, and has them taken."""
    folder = tmp_path / "levels"
    shutil.copytree(SALTMARSH.parent / "levels", folder)
    text = (folder / "databases.yaml").read_text()
    members = "[gauges/identity/level-reader, gauges/identity/level-writer]"
    group = f"groups:\n  gauges/group/readers: {{members: {members}}}\ngrants:"
    by_group = text.replace("grants:", group).replace(
        "{to: gauges/identity/level-reader, role", "{to: gauges/group/readers, role"
    )
    (folder / "databases.yaml").write_text(by_group)
    with lab_of(enthesis, folder) as lab:
        assert enthesis("propose", "--expect-none", at=lab.folder).code == 0
        assert enthesis("prove", at=lab.folder).code == 0
        (folder / "databases.yaml").write_text(
            by_group.replace("members: [gauges/identity/level-reader, ", "members: [")
        )
        ran = enthesis("propose", "--format", "json", at=lab.folder)
        removed = [one["sentence"] for one in ran.json["steps"] if one["action"] == "remove"]
        assert removed == ["the grant of level-reading to gauges/identity/level-reader at gauges/database/levels"]
        assert enthesis("enact", "--yes", at=lab.folder).code == 0, "without --prune"
        ran = enthesis("prove", "levels-are-read", at=lab.folder)
        assert ran.code == 1 and "refused at target-side" in ran.out
        # whoever has the same by themselves keeps it
        both = by_group.replace("members: [gauges/identity/level-reader, ", "members: [").replace(
            "grants:\n",
            "grants:\n  - {to: gauges/identity/level-writer, role: level-reading, at: gauges/database/levels}\n",
        )
        (folder / "databases.yaml").write_text(both)
        assert enthesis("propose", "--expect-none", at=lab.folder).code == 0
        (folder / "databases.yaml").write_text(both.replace("members: [gauges/identity/level-writer]", "members: []"))
        assert enthesis("enact", "--yes", at=lab.folder).code == 0
        assert enthesis("propose", "--expect-none", at=lab.folder).code == 0

"""Words of earlier versions: each is an error that names the new one, and one command rewrites an estate's files."""

import json
import sqlite3
from pathlib import Path

import pytest

from enthesis.cli import main, renamed
from enthesis.files.folder import read_texts
from enthesis.files.saving import rename_old_words
from enthesis.model.errors import InvalidInput
from enthesis_lab.store import Store

from .conftest import Program

OLD = """\
estate: small   # the name
organisations: {works: {}}
providers: {north: {style: two-sided}}
accounts: {left: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc}}
resources: {left/host/h: {runs_as: left/identity/a}}
identities:
  left/identity/a: {kind: service-account, owner: caller, labels: {identity: use, over: resources}}
roles:
  running: {allows: {host: login, identity: [use, "use"]}}   # may use it
  all: {allows: {"*": use}}
ceilings:
  - name: c
    over: resources
    at: left
    bars: {identity: use}
lodged: {way: {at: forge, of: left/identity/a, admits: {sub: main}}}
journeys:
  j:
    from: {identity: left/identity/a}
    attempt: use left/identity/a
    expect: refused
    because: ["owner", caller, names]
invariants:
  - {name: i, never: {from: {token: forge}, can: [use, take-on], at: left}}
accepted:
  - {danger: long-session, of: left/identity/a, because: use by the owner, until: 2099-01-01T00:00:00Z}
"""
NEW = (
    OLD.replace('identity: [use, "use"]', 'identity: [run-as, "run-as"]').replace('"*": use', '"*": run-as')
    .replace("    over: resources", "    over: targets").replace("bars: {identity: use}", "bars: {identity: run-as}")
    .replace("lodged:", "pipeline_access:").replace("attempt: use", "attempt: run-as")
    .replace('because: ["owner", caller, names]', 'refused_at: ["target-side", caller-side, names]')
    .replace("can: [use,", "can: [run-as,").replace("danger:", "risk:")
)  # fmt: skip


def test_every_old_word_is_an_error_at_its_place_that_names_the_new_one() -> None:
    found = read_texts({"estate.yaml": OLD}).errors
    assert {one.code for one in found} == {"renamed"}
    said = {one.message for one in found}
    assert len(said) == 7
    for old, new in (("owner", "target-side"), ("because", "refused_at"), ("use", "run-as"), ("danger", "risk")):
        assert f"`{old}` was renamed to `{new}`" in said
    for one in found:
        word = one.message.split("`")[1]
        assert OLD.splitlines()[one.source.line - 1][one.source.column - 1 :].lstrip("\"'").startswith(word)
    assert all("enthesis check --fix" in one.expected for one in found)


def test_an_estate_is_rewritten_and_all_else_in_it_stays(enthesis: Program, tmp_path: Path) -> None:
    (tmp_path / "estate.yaml").write_text(OLD, encoding="utf-8")
    (tmp_path / "broken.yaml").write_text("roles: [", encoding="utf-8")
    assert rename_old_words(tmp_path) == ["estate.yaml"]
    assert (tmp_path / "estate.yaml").read_text(encoding="utf-8") == NEW
    (tmp_path / "broken.yaml").unlink()
    (tmp_path / "estate.yaml").write_text(OLD, encoding="utf-8")
    assert enthesis("check", at=tmp_path).code == 2
    ran = enthesis("check", "--fix", at=tmp_path)
    assert ran.code != 2 and "Renamed words in estate.yaml." in ran.err
    assert (tmp_path / "estate.yaml").read_text(encoding="utf-8") == NEW
    assert "No renamed words." in enthesis("check", "--fix", at=tmp_path).err


def test_a_file_with_an_old_section_is_never_taken_for_something_else() -> None:
    for head in ("", "enthesis: survey\n"):
        more = head + "lodged: {way: {at: forge, of: left/identity/a, admits: {sub: main}}}\n"
        reading = read_texts({"estate.yaml": OLD.partition("roles:")[0], "more.yaml": more})
        assert not reading.skipped and "renamed" in {one.code for one in reading.errors}


def test_a_verb_of_a_kind_of_the_estate_is_no_old_word() -> None:
    own = OLD.partition("identities:")[0] + "kinds: {tool: {in: [account], verbs: {use: run}}}\n"
    own += 'roles: {r: {allows: {"*": use, tool: [use]}}}\n'
    assert {one.code for one in read_texts({"estate.yaml": own}).errors} == {"unknown-name"}  # of the identity alone


@pytest.mark.parametrize(
    ("words", "new"),
    [
        ("key", "enthesis credential"), ("credential tape --retire", "credential revoke"),
        ("check --live f", "--survey"),
        ("check --live=f", "--survey"), ("lend --sign-in", "enthesis sign-in"), ("lend --forget", "enthesis sign-out"),
        ("lend a --through f", "--kubeconfig"), ("retire --next", "credential retire"), ("handoff @b", "request out"),
        ("handoff --take a", "request in"), ("survey --adopt a", "survey adopt"), ("enact --show 1", "history show"),
        ("survey --compared-with a", "survey compare"),
        ("check --rename-old", "--fix"), ("reach --only-crossings", "--cross-account"),
    ],
)  # fmt: skip
def test_an_old_command_or_option_is_an_error_that_names_the_new_one(words: str, new: str) -> None:
    with pytest.raises(InvalidInput, match="renamed") as raised:
        renamed.refuse_old_words(words.split())
    assert new in raised.value.remedy


def test_what_follows_two_dashes_is_of_another_program() -> None:
    renamed.refuse_old_words(["lend", "a/identity/b", "--", "key", "--live"])
    assert not set(renamed.COMMANDS) & set(main.COMMANDS)


def test_the_program_says_so(enthesis: Program, tmp_path: Path) -> None:
    ran = enthesis("key", at=tmp_path)
    assert ran.code == 2 and "enthesis credential" in ran.err
    header = {"enthesis": "survey", "version": 1, "taken": "2026-01-01T00:00:00Z"}
    (tmp_path / "s.jsonl").write_text(json.dumps(header) + "\n", encoding="utf-8")
    ran = enthesis("check", "--survey", "s.jsonl", at=tmp_path)
    assert ran.code == 2 and "enthesis survey --out FILE" in ran.err


def test_the_state_of_an_earlier_lab_is_rewritten(tmp_path: Path) -> None:
    path = tmp_path / "lab.db"
    Store(path).close()
    old = {"over": "targets", "bars": {"identity": "use", "host": ["login"]}}
    connection = sqlite3.connect(path)
    connection.execute("PRAGMA user_version = 0")
    connection.execute(
        "INSERT INTO statements (id, cloud, collection, holder, name, version, mark, body)"
        " VALUES ('i', 'north', 'ceilings', 'left', 'c', 1, NULL, ?)",
        (json.dumps(old),),
    )
    connection.commit()
    connection.close()
    store = Store(path)
    ((body,),) = store.connection.execute("SELECT body FROM statements").fetchall()
    store.close()
    assert json.loads(body) == {"over": "targets", "bars": {"identity": ["run-as"], "host": ["login"]}}

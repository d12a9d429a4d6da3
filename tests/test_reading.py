"""Reading an estate: every error located, nothing that can be put in a file ends in a traceback."""

import os
from pathlib import Path

import pytest

from enthesis.files import yaml_tree
from enthesis.files.folder import read_folder, read_texts
from enthesis.model.file_errors import FileError

from .conftest import Program, write_estate

HEAD = """\
estate: small
organisations: {works: {units: [one]}}
providers: {north: {style: two-sided}}
accounts:
  left: {in: "@works/one", provider: north}
  right: {in: "@works", provider: north}
"""


def errors_of(text: str) -> list[FileError]:
    return list(read_texts({"estate.yaml": HEAD + text}).errors)


def the_error(text: str) -> FileError:
    found = errors_of(text)
    assert len(found) == 1, found
    return found[0]


def test_a_small_estate_is_enough(enthesis: Program, tmp_path: Path) -> None:
    text = """\
estate: tiny
organisations: {works: {}}
providers: {north: {style: one-sided}}
accounts: {left: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc}}
identities: {left/identity/runner: {kind: service-account}}
trusts: [{of: left/identity/runner, admits: {token: forge, claims: {sub: main, aud: north}}}]
"""
    ran = enthesis("check", at=write_estate(tmp_path, {"estate.yaml": text}))
    assert ran.code == 0
    assert ran.out.startswith("tiny: 1 file valid.")


def test_all_errors_are_reported_in_one_run_with_line_and_caret(enthesis: Program, tmp_path: Path) -> None:
    files = {
        "estate.yaml": HEAD.replace("provider: north}\n  right", "provider: nort}\n  right"),
        "more/grants.yaml": "roles:\n  reading: {allows: {objekt: [read]}}\n",
    }
    ran = enthesis("check", at=write_estate(tmp_path, files))
    assert ran.code == 2
    assert "2 errors" in ran.out
    assert "estate.yaml:5:38  unknown provider `nort`" in ran.out
    lines = ran.out.splitlines()
    at = next(i for i, text in enumerate(lines) if 'left: {in: "@works/one"' in text)
    assert lines[at + 1].index("^") == lines[at].index("nort}")
    assert "did you mean north" in ran.out
    assert "more/grants.yaml:2:" in ran.out
    assert "did you mean object" in ran.out


@pytest.mark.parametrize(
    ("text", "code", "line", "column"),
    [
        ("identitys: {}", "unknown-section", 7, 1),
        ("identities: {left/identity/a: {kind: service-acount}}", "unknown-word", 7, 38),
        ("identities: {left/identity/a: {knd: person}}", "unknown-field", 7, 32),
        ("identities: {left/identity: {kind: service-account}}", "wrong-address", 7, 14),
        ("identities: {left//a: {kind: service-account}}", "wrong-address", 7, 14),
        ("identities: {nowhere/identity/a: {kind: service-account}}", "unknown-name", 7, 14),
        ("identities: {left/identity/a: {kind: person}}", "wrong-kind", 7, 14),
        ("resources: {left/bucket/b: {labels: {a: 1}}}", "wrong-type", 7, 41),
        ("resources: {left/bukket/b: {}}", "wrong-address", 7, 13),
        ("resources: {left/bucket/b: {encrypted_by: left/key/k}}", "unknown-name", 7, 43),
        ("roles: {r: {allows: {object: [reed]}}}", "unknown-name", 7, 31),
        ("roles: {r: {allows: {object: []}}}", "empty", 7, 30),
        ("trusts: [{of: left/identity/a, admits: {}}]", "one-of", 7, 40),
        ("grants: {}", "wrong-type", 7, 9),
        ("groups: {left/group/g: {members: [left/group/g]}}", "group-cycle", 7, 10),
        (
            "journeys: {j: {from: {person: '@works/identity/p'}, expect: alowed, attempt: enter @works}}",
            "unknown-word",
            7,
            61,
        ),
        ("journeys: {j: {from: {person: p}, expect: allowed}}", "missing-field", 7, 15),
        ("journeys: {j: {from: {person: p}, attempt: enter, expect: allowed}}", "wrong-attempt", 7, 44),
        ("ceilings: [{name: c, over: callers, at: '@work', bars: {'*': '*'}}]", "unknown-name", 7, 41),
    ],
)
def test_each_error_says_where(text: str, code: str, line: int, column: int) -> None:
    found = errors_of(text)
    assert (code, line, column) in [(one.code, one.source.line, one.source.column) for one in found], found
    assert all(one.text for one in found)


def test_a_wrong_entry_hides_no_other_error_and_draws_none_after_it() -> None:
    text = """\
issuers: {forge: {kind: odic}}
identities: {left/identity/a: {kind: service-account, owner: 7}}
roles: {r: {allows: {object: [reed]}, colour: red}}
trusts: [{of: left/identity/a, admits: {token: forge}, session: soon}, {of: left/identity/b, admits: {token: forge}}]
grants: [{to: left/identity/a, role: r, at: left}, {to: left/identity/a, role: rr, at: left}]
"""
    assert [(one.source.line, one.code) for one in errors_of(text)] == [
        (7, "unknown-word"),
        (8, "wrong-type"),
        (9, "unknown-name"),
        (9, "unknown-field"),
        (10, "wrong-duration"),
        (10, "unknown-name"),
        (11, "unknown-name"),
    ]


def test_a_name_defined_twice_names_both_lines() -> None:
    more = "providers:\n  north: {style: one-sided}\n"
    found = read_texts({"estate.yaml": HEAD, "more.yaml": more}).errors
    assert [one.message for one in found] == ["`north` is defined twice under `providers`: here and at estate.yaml:3"]
    assert str(found[0].source) == "more.yaml:2"
    twice = the_error("roles:\n  a: {allows: {object: [read]}}\n  a: {allows: {object: [write]}}\n")
    assert twice.message == "duplicate key `a`: also on line 8"
    assert twice.source.line == 9


def test_a_grant_across_accounts_says_who_holds_it() -> None:
    text = """\
identities: {left/identity/a: {kind: service-account}}
resources: {right/bucket/b: {}}
roles: {reading: {allows: {object: [read]}}}
grants: [{to: left/identity/a, role: reading, at: right/bucket/b%s}]
"""
    found = the_error(text % "")
    assert found.expected == "held_by: left or held_by: right"
    assert errors_of(text % ", held_by: right") == []
    assert errors_of(text % ', held_by: "@works/one"') == []
    assert the_error(text.replace("left/id", "right/id") % ", held_by: left").code == "wrong-holder"


@pytest.mark.parametrize(
    ("value", "code"),
    [
        ("tide*", "pattern-in-plain-string"),
        ("{glob: 'a\\'}", "wrong-pattern"),
        ("{like: a}", "unknown-operator"),
        ("{}", "empty"),
        ("[]", "empty"),
        ("null", "wrong-type"),
        (".nan", "wrong-type"),
        ("{within: 10.0.0.0/33}", "wrong-network"),
        ("{before: tomorrow}", "wrong-time"),
        ("{longer_than: long}", "wrong-duration"),
        ("{present: false}", "absence-as-permission"),
        ("{not: {present: true}}", "absence-as-permission"),
    ],
)
def test_a_wrong_test_of_a_claim(value: str, code: str) -> None:
    text = f"""\
issuers: {{forge: {{kind: oidc}}}}
identities: {{left/identity/a: {{kind: service-account}}}}
trusts: [{{of: left/identity/a, admits: {{token: forge, claims: {{sub: {value}}}}}}}]
"""
    assert the_error(text).code == code


def test_values_are_those_of_yaml_1_2() -> None:
    text = "a: on\nb: no\nc: 0o17\nd: 1e3\ne: 2026-01-01\nf: 012\ng: ~\nh: '12'\ni: 1_000\nj: TRUE\n"
    tree, _ = yaml_tree.parse(text.encode())
    assert tree is not None and isinstance(tree.value, dict)
    values = {key: node.value for key, node in tree.value.items()}
    expected = {"a": "on", "b": "no", "c": 15, "d": 1000.0, "e": "2026-01-01", "f": 12, "g": None, "h": "12"}
    assert values == {**expected, "i": "1_000", "j": True}


BOMB = "a: &a [x, x, x, x, x, x, x, x, x, x]\n" + "".join(
    f"{new}: &{new} [{', '.join([f'*{old}'] * 10)}]\n" for old, new in zip("abcdefgh", "bcdefghi", strict=True)
)


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"estate: [", "estate.yaml:2:1"),
        (b"estate: \xff\xfe", "estate.yaml:1:9"),
        (b"estate: a\n\tb: c", "estate.yaml:2"),
        (b"estate: &a [*a]", "contains itself"),
        (b"estate: *b", "no anchor"),
        (BOMB.encode(), "aliases expand"),
        (b"[" * 5000, "nested deeper"),
        (b"a: " + b"{a: " * 200, "nested deeper"),
        (b"estate: !!python/object/apply:os.system [ls]", "means nothing here"),
        (b"? [a]\n: b", "cannot be a key"),
        (b"estate: a\n---\nestate: b", "a second document"),
        (b"estate: \x00", "control characters"),
        (b"- a", "expected a mapping of sections"),
        (b"", "no file names the estate"),
    ],
)
def test_malformed_yaml_is_one_clear_message(enthesis: Program, tmp_path: Path, content: bytes, said: str) -> None:
    (tmp_path / "estate.yaml").write_bytes(content)
    ran = enthesis("check", at=tmp_path)
    assert ran.code == 2
    assert "1 error." in ran.out
    assert said in ran.out


@pytest.mark.parametrize("content", [b"{", b'{"a": NaNa}', b'{"a": 1} x', b"[" * 100_000, b'{"a": "\\ud800"}'])
def test_malformed_json(tmp_path: Path, content: bytes) -> None:
    write_estate(tmp_path, {"estate.yaml": HEAD})
    (tmp_path / "more.json").write_bytes(content)
    found = read_folder(tmp_path).errors
    assert [one.source.file for one in found] == ["more.json"]


def test_json_is_read_with_its_lines(tmp_path: Path) -> None:
    text = '{\n\t"identities": {\n\t\t"left/identity/\\ud83c\\udf0a": {"kind": "persn"}}}'
    write_estate(tmp_path, {"estate.yaml": HEAD, "more.json": text})
    (found,) = read_folder(tmp_path).errors
    assert (found.source.line, found.code) == (3, "unknown-word")
    (tmp_path / "more.json").write_text(text.replace("persn", "service-account"), encoding="utf-8")
    estate = read_folder(tmp_path).estate
    assert estate is not None
    assert list(estate.identities) == ["left/identity/🌊"]


def test_files_that_cannot_be_read(enthesis: Program, tmp_path: Path) -> None:
    write_estate(tmp_path, {"estate.yaml": HEAD})
    with (tmp_path / "huge.yaml").open("wb") as file:
        file.truncate(200 * 2**20)
    (tmp_path / "self.yaml").symlink_to("self.yaml")
    (tmp_path / "inner").mkdir()
    (tmp_path / "inner" / "up").symlink_to(tmp_path)
    os.mkfifo(tmp_path / "pipe.yaml")
    ran = enthesis("check", at=tmp_path)
    assert ran.code == 2
    assert "4 errors" in ran.out
    for said in ("200 MiB", "symbolic links", "leads back to a folder above", "not a regular file"):
        assert said in ran.out, said


PROPOSAL = '{"enthesis": "proposal", "format": 2, "estate": "x", "steps": []}'


def test_hidden_folders_and_documents_of_our_own_are_no_part(tmp_path: Path) -> None:
    files = {"estate.yaml": HEAD, ".hidden/x.yaml": "nonsense: true", "p.json": PROPOSAL}
    reading = read_folder(write_estate(tmp_path, files))
    assert reading.errors == ()
    assert reading.files == ("estate.yaml",)


@pytest.mark.attack("injection")
def test_control_characters_are_made_visible(enthesis: Program, tmp_path: Path) -> None:
    text = HEAD + 'roles: {"evil\\e[31m\\u202e\\u009b": {allows: {objekt: [read]}}}\n'
    text += '"also\\e]0;title\\a": {}\n'
    for words in (("check",), ("check", "--format", "json")):
        ran = enthesis(*words, at=write_estate(tmp_path, {"estate.yaml": text}))
        assert ran.code == 2
        for bad in ("\x1b", "\x07", "\u202e", "\u009b"):
            assert bad not in ran.out + ran.err


def test_no_estate_is_said(enthesis: Program, tmp_path: Path) -> None:
    for words in (("check",), ("prove",), ("check", "--estate", str(tmp_path))):
        ran = enthesis(*words, at=tmp_path)
        assert ran.code == 2
        assert "estate.yaml" in ran.err
    ran = enthesis("check", "--format", "json", at=tmp_path)
    assert ran.json["error"]["code"] == "estate-missing"


def test_the_cache_is_used_and_never_trusted_over_the_file(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, saltmarsh: Path
) -> None:
    cache = tmp_path / "cache"
    first = read_folder(saltmarsh, cache=cache)
    kept = list(cache.glob("*.tree"))
    assert first.estate is not None and kept
    parsed: list[int] = []
    real = yaml_tree.parse

    def watched(data: bytes, *, as_json: bool = False) -> object:
        parsed.append(len(data))
        return real(data, as_json=as_json)

    monkeypatch.setattr("enthesis.files.folder.parse", watched)
    again = read_folder(saltmarsh, cache=cache)
    assert again == first
    assert parsed == []
    (saltmarsh / "estate.yaml").write_text((saltmarsh / "estate.yaml").read_text().replace("gauges:", "gorges:", 1))
    assert read_folder(saltmarsh, cache=cache).errors
    for damaged in (b"", b"[1, 2", b"[1,2,1,[[1]]]", b'{"a": 1}'):
        for path in cache.glob("*.tree"):
            path.write_bytes(damaged)
        assert read_folder(saltmarsh, cache=cache).errors


SMALL = "estate: small\norganisations: {works: {}}\n"


def test_files_that_are_to_be_ignored_are_not_even_read(enthesis: Program, tmp_path: Path) -> None:
    files = {
        "estate.yaml": SMALL + "ignore: ['k8s/**', '*.tmp.json', b?d.yaml]\n",
        "k8s/deep/one.yaml": "a: 1\n---\nb: 2\n",
        "x.tmp.json": "[",
        "bad.yaml": "roles: [",
        "more.yaml": "providers: {north: {style: one-sided}}\n",
    }
    folder = write_estate(tmp_path, files)
    (folder / "k8s" / "image.yaml").write_bytes(b"\xff\xfe\x00")
    reading = read_folder(folder)
    assert reading.estate is not None, reading.errors
    assert reading.files == ("estate.yaml", "more.yaml")
    assert set(reading.skipped) == {"k8s/deep/one.yaml", "k8s/image.yaml", "x.tmp.json", "bad.yaml"}
    assert reading.estate.ignore == ("k8s/**", "*.tmp.json", "b?d.yaml")
    ran = enthesis("check", at=folder)
    assert ran.code == 0 and "4 files not read:" in ran.out and "bad.yaml: ignored by estate.yaml" in ran.out


def test_ignoring_is_said_in_the_head_alone_and_never_of_it() -> None:
    assert read_texts({"estate.yaml": SMALL + "ignore: ['**']\n"}).estate is not None
    found = read_texts({"estate.yaml": SMALL, "more.yaml": "ignore: [estate.yaml]\n"}).errors
    assert [one.code for one in found] == ["wrong-place"]


def test_what_is_no_file_of_an_estate_is_left_out_named_and_told_once(enthesis: Program, tmp_path: Path) -> None:
    manifest = "kind: Role\nmetadata: {name: r, labels: {app.kubernetes.io/managed-by: enthesis}}\nrules: []\n"
    files = {
        "estate.yaml": SMALL, "a.yml": "providers: {north: {style: one-sided}}\n", "B.YAML": "roles: {}\n",
        "c.JSON": '{"groups": {}}', "none.json": "{}", "blank.json": "", "list.json": "[]", "made/role.yaml": manifest,
        "half.json": '{"enthesis": "handoff"}', ".old.yaml": "roles: {}\n", ".ci/x.yaml": "a: 1\n",
    }  # fmt: skip
    folder = write_estate(tmp_path, files)
    reading = read_folder(folder)
    assert reading.estate is not None and reading.estate.providers, reading.errors
    assert set(reading.files) == {"estate.yaml", "a.yml", "B.YAML", "c.JSON"}
    assert set(reading.skipped) == set(files) - set(reading.files) - {".ci/x.yaml"} | {".ci/"}
    ran = enthesis("check", at=folder)
    assert ran.code == 0 and "7 files not read:" in ran.out and ".old.yaml: hidden" in ran.out, ran.out
    for number in range(30):
        (folder / f"data-{number}.json").write_text('{"name": "x", "version": 1}')
    (found,) = read_folder(folder).errors
    assert "29 other JSON files" in found.message and "ignore: [*.json]" in found.expected


@pytest.mark.attack("hidden files")
def test_documents_of_our_own_are_left_out_and_sections_never_are() -> None:
    survey = '{"enthesis": "survey", "version": 2, "taken": "2026-11-24T00:00:00Z", "of": []}\n'
    survey += '{"section": "roles", "name": "r", "allows": {}}\n'
    reading = read_texts({"estate.yaml": SMALL, "live.json": survey, "p.json": PROPOSAL})
    assert reading.estate is not None
    assert reading.skipped == {"live.json": "a survey that Enthesis wrote", "p.json": "a proposal that Enthesis wrote"}
    for hidden in ("enthesis: x\nroles: {}\n", "roles: {}\nenthesis: x\n", "enthesis: survey\nrols: {}\n"):
        found = read_texts({"estate.yaml": SMALL, "more.yaml": hidden}).errors
        assert "unknown-section" in [one.code for one in found], hidden
    behind = survey.splitlines()[0] + "\ngrants: [\n"
    assert read_texts({"estate.yaml": SMALL, "more.yaml": behind}).errors


@pytest.mark.parametrize("text", ["name: a\nversion: 1\nscripts: {}\n", "- one\n", "a: 1\n---\nb: 2\n"])
def test_what_is_plainly_something_else_is_named_once_with_advice(text: str) -> None:
    (found,) = read_texts({"estate.yaml": SMALL, "package.yaml": text}).errors
    assert found.code in ("not-an-estate-file", "unreadable-file")
    assert "ignore: [package.yaml]" in found.expected
    misspelt = read_texts({"estate.yaml": SMALL, "more.yaml": "grnats: []\n"}).errors
    assert [one.code for one in misspelt] == ["unknown-section"]


def test_files_in_formats_of_others_are_not_written_among_those_of_an_estate(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path / "estate", {"estate.yaml": SMALL})
    ran = enthesis("check", "--sarif", "log.json", at=folder)
    assert ran.code == 2 and "ignore: [log.json]" in ran.err and not (folder / "log.json").exists()
    assert enthesis("check", "--sarif", "log.sarif", at=folder).code == 0
    (folder / "estate.yaml").write_text(SMALL + "ignore: ['*.json']\n", encoding="utf-8")
    assert enthesis("check", "--sarif", "log.json", at=folder).code == 0
    assert enthesis("check", at=folder).code == 0


def test_an_estate_has_a_name() -> None:
    (found,) = read_texts({"estate.yaml": "organisations: {works: {}}\n"}).errors
    where = (found.source.file, found.source.line, found.source.column)
    assert (found.code, where, found.expected) == ("missing-field", ("estate.yaml", 1, 1), "estate: NAME")

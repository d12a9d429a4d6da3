"""`start`: patterns that are sound as they stand, into a new estate or one there is, and twins; and pipeline access."""

import json
import os
import pty
import subprocess
import sys
from collections.abc import Mapping
from pathlib import Path

import pytest

from .conftest import Program, Ran, copied, start_lab, write_estate

PATTERNS = [
    "another-organisation-reads",
    "instance-reads-bucket",
    "maintenance-in-namespaces",
    "person-logs-in",
    "pipeline-publishes",
    "three-environments",
]
LIVE = [one for one in PATTERNS if one != "another-organisation-reads"]  # that half is another party's


def started(enthesis: Program, pattern: str, folder: Path, *more: str) -> Path:
    ran = enthesis("start", pattern, str(folder), "--usual-names", *more, at=folder.parent)
    assert ran.code == 0, ran.err
    return folder


@pytest.mark.parametrize("pattern", PATTERNS)
def test_a_pattern_is_sound_and_says_what_must_work_and_what_must_not(
    enthesis: Program, tmp_path: Path, pattern: str
) -> None:
    folder = started(enthesis, pattern, tmp_path / "estate")
    ran = enthesis("check", "--format", "json", at=folder)
    assert ran.code == 0 and not ran.json["risks"]
    assert {one["expected"] for one in ran.json["journeys"]} == {"allowed", "refused"}
    assert all(one["met"] for one in ran.json["journeys"]) and ran.json["invariants"]
    listed = enthesis("start", at=tmp_path)
    assert listed.code == 0 and pattern in listed.out


@pytest.mark.parametrize("pattern", LIVE)
def test_a_pattern_works_for_real(enthesis: Program, tmp_path: Path, pattern: str) -> None:
    folder = started(enthesis, pattern, tmp_path / "estate")
    try:
        start_lab(enthesis, folder)
        assert enthesis("prove", at=folder).code == 1
        assert enthesis("enact", "--yes", at=folder).code == 0
        proof = enthesis("prove", at=folder)
        assert proof.code == 0, proof.out
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def as_partner(enthesis: Program, folder: Path, *words: str) -> Ran:
    return enthesis("lab", "as", "partner", "--", sys.executable, "-m", "enthesis", *words, at=folder)


def test_a_pattern_with_another_party_works_once_both_have_done_their_half(enthesis: Program, tmp_path: Path) -> None:
    folder = started(enthesis, "another-organisation-reads", tmp_path / "estate")
    try:
        start_lab(enthesis, folder)
        assert enthesis("enact", "--yes", at=folder).code == 0
        waiting = enthesis("prove", "--format", "json", at=folder)
        assert waiting.code == 1
        assert {(one["outcome"], *one["waiting_for"]) for one in waiting.json["journeys"]} == {
            ("waiting", "partner-work")
        }
        assert enthesis("prove", "--allow-waiting", at=folder).code == 0
        theirs = as_partner(enthesis, folder, "propose")
        assert (
            "partner-work/identity/fetcher" in theirs.out
            and "data/identity/lender" not in theirs.out.split("others")[0]
        )
        assert as_partner(enthesis, folder, "enact", "--yes").code == 0
        assert enthesis("enact", "--yes", at=folder).code == 0  # the id of their identity is known by now
        assert enthesis("propose", "--expect-none", at=folder).code == 0
        proof = as_partner(enthesis, folder, "prove")
        assert proof.code == 0, proof.out
        assert enthesis("lab", "as", "prtner", "--", "true", at=folder).code == 2
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


TWO_HALVES = """\
estate: halves
organisations: {ours: {}, theirs: {outside: true}}
providers: {north: {style: two-sided}}
accounts: {a: {in: "@ours", provider: north}, t: {in: "@theirs", provider: north}}
resources: {t/bucket/b: {}, a/host/h: {runs_as: a/identity/i}}
identities: {a/identity/i: {kind: instance-role}}
roles: {reading: {allows: {object: [read]}}}
trusts: [{of: a/identity/i, admits: {attached: true}}]
grants:
  - {to: a/identity/i, role: reading, at: t/bucket/b, held_by: a}
  - {to: a/identity/i, role: reading, at: t/bucket/b, held_by: t}
journeys:
  reads: {from: {host: a/host/h}, through: [a/identity/i], attempt: read t/bucket/b/object/o, expect: allowed}
  writes: {from: {host: a/host/h}, through: [a/identity/i], attempt: write t/bucket/b/object/o, expect: allowed}
"""


def test_a_journey_waits_only_for_what_others_have_to_write(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path, {"estate.yaml": TWO_HALVES})
    try:
        start_lab(enthesis, folder)
        unmade = enthesis("prove", "reads", "--format", "json", at=folder).json["journeys"]
        assert unmade[0]["outcome"] == "refused"  # our own half is missing too, at an earlier request
        assert enthesis("enact", "--yes", at=folder).code == 0
        proved = enthesis("prove", "--format", "json", "--junit", "out.xml", at=folder)
        reads, writes = proved.json["journeys"]
        assert (reads["outcome"], reads["refused_at"], reads["waiting_for"]) == (
            "waiting",
            ["target-side"],
            ["@theirs"],
        )
        assert (writes["outcome"], writes["met"]) == ("refused", False)  # the estate itself gives nobody that
        assert "<skipped" in (folder / "out.xml").read_text()
        assert "waits for " in enthesis("prove", "reads", at=folder).out
        assert (
            enthesis("lab", "as", "theirs", "--", sys.executable, "-m", "enthesis", "enact", "--yes", at=folder).code
            == 0
        )
        assert enthesis("prove", "reads", at=folder).code == 0
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def test_it_asks_for_names_where_somebody_is_there(environment: Mapping[str, str], tmp_path: Path) -> None:
    """At a terminal; an answer is taken, an empty one is the usual name, and what was given is not asked for."""
    ours, theirs = pty.openpty()
    process = subprocess.Popen(
        [sys.executable, "-m", "enthesis", "start", "pipeline-publishes", "estate", "--name", "account=depot"],
        cwd=tmp_path, env=dict(environment), stdin=theirs, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    os.write(ours, b"harbour\n" + b"\n" * 7)
    out, err = process.communicate(timeout=60)
    os.close(ours)
    os.close(theirs)
    assert (process.returncode, out.strip()) == (0, ""), err
    assert "the organisation [home]:" in err and "the branch that publishes [main]:" in err
    assert "the account" not in err
    text = (tmp_path / "estate" / "estate.yaml").read_text()
    assert text.startswith("estate: harbour\n") and "depot/identity/publisher" in text


def test_patterns_go_into_an_estate_there_is_and_keep_its_comments(enthesis: Program, tmp_path: Path) -> None:
    folder = started(enthesis, "instance-reads-bucket", tmp_path / "estate")
    before = (folder / "estate.yaml").read_text()
    into = ("--into", str(folder), "--usual-names", "--name", "account=field")
    for pattern in ("person-logs-in", "pipeline-publishes", "maintenance-in-namespaces"):
        ran = enthesis("start", pattern, *into, at=tmp_path)
        assert ran.code == 0, ran.err
    text = (folder / "estate.yaml").read_text()
    assert all(line in text for line in before.splitlines())
    assert enthesis("check", at=folder).code == 0
    again = enthesis("start", "person-logs-in", *into, at=tmp_path)
    assert again.code == 2 and "already" in again.err
    assert (folder / "estate.yaml").read_text() == text


def test_a_twin_differs_in_names_only_until_somebody_changes_it(enthesis: Program, tmp_path: Path) -> None:
    folder = started(enthesis, "person-logs-in", tmp_path / "estate")
    text = (folder / "estate.yaml").read_text()
    compared = ("check", "--compared-with", ".", "--names", "field=field-trial")
    assert enthesis(*compared, at=folder).code == 2  # there is none yet
    made = enthesis("start", "--like", "field", "--for", "field-trial", at=folder)
    assert made.code == 0 and "--names field=field-trial" in made.err
    assert enthesis("check", at=folder).code == 0
    same = enthesis(*compared, at=folder)
    assert same.code == 0 and same.out == "field and field-trial differ in names only.\n"
    old = tmp_path / "old"
    old.mkdir()
    (old / "estate.yaml").write_text(text)
    assert enthesis("check", "--compared-with", str(old), "--names", "field=field-trial", at=folder).code == 0
    wider = (
        (folder / "estate.yaml")
        .read_text()
        .replace(
            "role: bench-login, at: field-trial/host/bench, when: {mfa: true}",
            "role: bench-login, at: field-trial/host/bench",
        )
    )
    (folder / "estate.yaml").write_text(wider)
    other = enthesis(*compared, "--format", "json", at=folder)
    assert other.code == 1 and not other.json["names_only"]
    assert len(other.json["lacking"]) == len(other.json["more"]) == 1 and "mfa" in other.json["lacking"][0]


def test_a_twin_of_an_identity_stands_beside_it(enthesis: Program, tmp_path: Path) -> None:
    folder = started(enthesis, "instance-reads-bucket", tmp_path / "estate")
    assert enthesis("start", "--like", "field/identity/reader", "--for", "second", at=folder).code == 0
    assert enthesis("check", at=folder).code == 0
    names = "field/identity/reader=field/identity/second"
    assert enthesis("check", "--compared-with", ".", "--names", names, at=folder).code == 0
    assert "field/identity/second" in enthesis("card", "field/host/reader-1", at=folder).out


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("no-such", "x"), "unknown pattern no-such"),
        (("person-logs-in",), "name a folder for it"),
        (("person-logs-in", "x"), "no terminal is attached for the question"),
        (("person-logs-in", "x", "--usual-names", "--name", "hat=1"), "has no such name"),
        (("person-logs-in", "x", "--usual-names", "--name", "host=a b"), "cannot be a name"),
        (("person-logs-in", "full", "--usual-names"), "not empty"),
        (("person-logs-in", "full/within", "--usual-names"), "would become a part of the estate"),
        (("--like", "nobody", "--for", "x", "--into", "full"), "neither an account nor an identity"),
        (("--like", "field"), "--for what its twin is called"),
        (("--like", "field", "--for", "field", "--into", "full"), "already"),
    ],
)
def test_what_cannot_be_started_is_said_and_nothing_is_written(
    enthesis: Program, tmp_path: Path, words: tuple[str, ...], says: str
) -> None:
    folder = started(enthesis, "person-logs-in", tmp_path / "full")
    before = (folder / "estate.yaml").read_bytes()
    ran = enthesis("start", *words, at=tmp_path)
    assert ran.code == 2 and says.lower() in ran.err.lower(), ran.err
    assert (folder / "estate.yaml").read_bytes() == before and not (tmp_path / "x").exists()


# -- pipeline access ---------------------------------------------------------------------------------------------


def test_pipeline_access_is_told_held_against_a_token_and_tried(enthesis: Program, tmp_path: Path) -> None:
    folder = copied(tmp_path / "estate", "estate.yaml", "archive.yaml")
    text = (folder / "archive.yaml").read_text()
    wide = text.replace(
        "admits: {sub: project/tides/archive/branch/main}}", 'admits: {sub: {glob: "project/**"}}, credential: old}'
    )
    wide += "credentials:\n  old: {of: gauges/identity/archiver, form: access-key, fingerprint: 'sha256:1'}\n"
    wide += "  copy: {of: gauges/identity/archiver, form: access-key, fingerprint: 'sha256:1'}\n"
    (folder / "archive.yaml").write_text(wide)
    told = enthesis("admit", "archive-way", "--format", "json", at=folder)
    near = {one["what"]: one["admitted"] for one in told.json["trusts"][0]["near"]}
    assert near["another organisation of forge"] is False and near["sub of another archive"] is True
    assert "Without any key the same runs are admitted by: - {of: gauges/identity/archiver" in told.err
    card = enthesis("card", "gauges/identity/archiver", at=folder).out
    assert "the same value as copy, by its fingerprint: revoke them together" in card
    token = tmp_path / "token"
    try:
        start_lab(enthesis, folder)
        assert enthesis("enact", "--yes", at=folder).code == 0
        proof = enthesis("prove", "--near-misses", "archive-way", "--format", "json", at=folder)
        assert proof.code == 0 and len(proof.json["trials"][0]["trials"]) > 5
        write = f"import os; open({str(token)!r}, 'w').write(os.environ['ENTHESIS_TOKEN'])"
        for subject, code in (("project/tides/archive/branch/main", 0), ("project/harbourline/x/branch/main", 1)):
            claims = ("--claim", f"sub={subject}", "--claim", "aud=lowland")
            assert enthesis("lab", "run", "forge", *claims, "--", "python3", "-c", write, at=folder).code == 0
            held = enthesis("admit", "archive-way", "--token", str(token), at=folder)
            assert held.code == code, held.out + held.err
            assert ("one secret in one store that both organisations may read" in held.err) is (code == 1)
    finally:
        enthesis("lab", "stop", "--clean", at=folder)
    (folder / "archive.yaml").write_text(
        text.replace("admits: {sub: project/tides/archive/branch/main}}", "admits: {}}")
    )
    nobody = enthesis("admit", "archive-way", at=folder)
    assert nobody.code == 2 and "no run may use archive-way" in nobody.err
    assert json.loads(enthesis("check", "--format", "json", at=folder).out)["usable"]

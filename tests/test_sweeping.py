"""Sweeping: what should not stay is found where it stands, weighed by what it opens, settled by its fix; and copies."""

import base64
import csv
import io
import json
import subprocess
import tarfile
import zipfile
from dataclasses import replace
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path
from random import Random

import pytest
import yaml

from enthesis.access.compiling import compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.chains.differences import difference
from enthesis.cleaning.findings import Swept
from enthesis.cleaning.sweep import sweep
from enthesis.files.editing import Removal, edited
from enthesis.files.folder import read_texts
from enthesis.model.estate import Estate
from enthesis.model.file_errors import Source
from enthesis.model.risks import FINDINGS

from .conftest import Lab, Program, as_if_now, write_estate
from .worlds import World

NOW = datetime(2026, 11, 26, tzinfo=UTC)
VALUE = "zQ3-secret_value.77"  # made up
FINGERPRINT = sha256(VALUE.encode()).hexdigest()[:32]
YARD = """\
estate: yard
organisations: {works: {directory: "https://people.works.example"}, guests: {outside: true}}
providers: {north: {style: two-sided}, south: {style: one-sided}}
accounts:
  left: {in: "@works", provider: north}
  right: {in: "@works", provider: north}
  warm: {in: "@works", provider: south}
  cool: {in: "@works", provider: south}
issuers: {forge: {kind: oidc}}
resources:
  left/bucket/b: {encrypted_by: left/key/k}
  left/key/k: {managed_by: provider}
  left/host/h: {runs_as: left/identity/runner}
  right/registry/images: {shared_login: on}
  warm/bucket/w: {}
identities:
  "@works/identity/ann": {kind: person}
  left/identity/runner: {kind: instance-role, owner: web, purpose: serves pages}
  left/identity/old: {kind: service-account, owner: web, purpose: nothing any more}
  left/identity/off: {kind: service-account, owner: web, purpose: was a robot, disabled: true}
  left/identity/gone: {kind: managed-identity, owner: web, purpose: of a host, tied_to: left/host/none}
  left/identity/admin: {kind: service-account}
  right/identity/r: {kind: service-account, owner: web, purpose: crosses}
  cool/identity/c: {kind: service-account, owner: web, purpose: crosses}
groups:
  left/group/empty: {}
  left/group/writers: {members: [left/identity/runner]}
roles:
  reads: {allows: {object: [read]}}
  writes: {allows: {object: [write, delete], bucket: [describe]}}
  admins: {allows: {account: [change-access, change-role]}}
  everything: {allows: {"*": ["*"]}}
  uses-key: {allows: {key: [decrypt]}}
trusts:
  - {of: left/identity/runner, admits: {attached: true}}
  - {of: left/identity/admin, admits: {token: forge, claims: {sub: x, aud: north}}, until: "2026-01-01T00:00:00Z"}
  - {of: right/identity/r, admits: {token: forge, claims: {sub: r, aud: north}}}
  - {of: cool/identity/c, admits: {token: forge, claims: {sub: r, aud: south}}}
grants:
  - {to: left/group/writers, role: writes, at: left/bucket/b}
  - {to: left/group/empty, role: writes, at: left/bucket/b}
  - {to: left/identity/admin, role: admins, at: left}
  - {to: left/identity/off, role: reads, at: left/bucket/b}
  - {to: left/identity/old, role: reads, at: left, until: "2025-01-01T00:00:00Z"}
  - {to: right/identity/r, role: reads, at: left/bucket/b, held_by: left}
  - {to: right/identity/r, role: uses-key, at: left/key/k, held_by: left}
  - {to: cool/identity/c, role: reads, at: warm/bucket/w, held_by: cool}
  - {to: left/identity/runner, role: everything, at: left, name: for-now}
credentials:
  robot:
    {of: left/identity/runner, form: access-key, created: "2020-01-01T00:00:00Z", held_in: [left/host/h, forge],
     fingerprint: "sha256:FINGERPRINT"}
  robot-too:
    {of: left/identity/runner, form: access-key, created: "2026-10-01T00:00:00Z", expires: "2027-01-01T00:00:00Z",
     fingerprint: "sha256:FINGERPRINT", last_used: "2026-11-20T00:00:00Z"}
  anns:
    {of: "@works/identity/ann", form: static-token, created: "2026-11-20T00:00:00Z", expires: "2026-12-01T00:00:00Z",
     held_in: left/host/h, last_used: "2026-01-01T00:00:00Z"}
  admins:
    {of: left/identity/admin, form: access-key, created: "2026-11-20T00:00:00Z", expires: "2026-12-01T00:00:00Z"}
pipeline_access:
  deploys: {at: forge, of: left/identity/runner, admits: {}, credential: robot}
accepted:
  - {risk: endless-key, of: robot, because: until the robot is replaced, until: "2026-06-01T00:00:00Z"}
  - {risk: shared-login, of: right/registry/images, because: the scanner needs it, until: "2027-06-01T00:00:00Z"}
""".replace("FINGERPRINT", FINGERPRINT)
WHERE = {
    "identity-unowned": {22},
    "own-access": {22},
    "power-unexplained": {42},
    "everything-allowed": {48},
    "temporary-endless": {48},
    "endless-key": {51, 54},
    "key-copied": {51},
    "key-needless": {51, 54, 57},
    "key-old": {51},
    "key-two-ends": {51, 54},
    "key-on-machine": {57},
    "key-unused": {57},
    "open-pipeline-access": {62},
    "identity-idle": {19, 21},
    "identity-tied-to-nothing": {21},
    "identity-disabled-bound": {20},
    "grant-ended": {36, 44},
    "grant-without-effect": {41, 45, 46, 47},
    "acceptance-ended": {64},
}


def estate(text: str) -> Estate:
    reading = read_texts({"estate.yaml": text})
    assert reading.estate is not None, reading.errors
    return reading.estate


def swept(described: Estate) -> Swept:
    return sweep(Chains(Web(compile_estate(described), NOW.timestamp())))


def test_everything_that_lingers_is_found_where_it_stands() -> None:
    found = swept(estate(YARD))
    where: dict[str, set[int]] = {}
    for one in found.standing:
        assert one.source is not None and one.code in FINDINGS
        where.setdefault(one.code, set()).add(one.source.line)
    assert where == WHERE
    assert [one.code for one in found.accepted] == ["shared-login"]


def test_the_gravest_comes_first_and_severity_is_what_is_reached() -> None:
    found = swept(estate(YARD)).standing
    gravities = [one.opens.gravity for one in found]
    assert gravities == sorted(gravities, reverse=True)
    by_code = {one.code: one.opens for one in found}
    own = by_code["own-access"]
    assert (own.severity, own.verb, own.target, own.count) == ("high", "change-access", "left", 2)
    assert by_code["identity-idle"].severity == "low" and by_code["identity-idle"].count == 0
    reading = YARD.replace('"*": ["*"]', "object: [read], key: [decrypt]").replace("role: writes", "role: reads")
    key = next(one.opens for one in swept(estate(reading)).standing if one.code == "key-copied")
    assert (key.severity, key.verb) == ("medium", "read")


@pytest.mark.parametrize(
    ("when", "found"), [("provider: north", 0), ("provider: south", 1), ("network: {within: 10.0.0.0/8}", 1)]
)
def test_what_a_condition_never_lets_change_its_access_is_not_told(when: str, found: int) -> None:
    ceiling = f'name: n, over: targets, at: "@works", bars: {{account: [change-access, change-role]}}, when: {{{when}}}'
    text = YARD.replace("credentials:\n", f"ceilings: [{{{ceiling}}}]\ncredentials:\n")
    assert len([one for one in swept(estate(text)).standing if one.code == "own-access"]) == found


def test_each_fix_settles_its_finding_and_keeps_the_rest_of_the_file() -> None:
    found = swept(estate(YARD)).standing
    fixes = [(one, fix) for one in found for fix in one.fixes if fix.edits]
    assert len(fixes) > 20
    for one, fix in fixes:
        text = edited({"estate.yaml": YARD}, fix.edits)["estate.yaml"]
        left = swept(estate(text)).standing
        same = [each for each in left if (each.code, each.names, each.message) == (one.code, one.names, one.message)]
        assert not same, (fix.says, one.message)
        assert sum(before not in text for before in YARD.splitlines()) <= len(fix.edits)


@pytest.mark.parametrize("seed", range(12))
def test_what_is_said_to_have_no_effect_has_none(seed: int) -> None:
    described = estate(json.dumps(World(Random(seed)).data))
    now = datetime(2026, 11, 24, tzinfo=UTC).timestamp()
    found = sweep(Chains(Web(compile_estate(described), now))).standing
    idle = {one.source for one in found if one.code in ("grant-without-effect", "grant-ended")}
    if not idle:
        return
    without = estate_without(described, idle)
    change = difference(described, without, now)
    assert not change.gains and not change.losses


def estate_without(described: Estate, sources: set[Source | None]) -> Estate:
    return replace(
        described,
        grants=tuple(one for one in described.grants if one.source not in sources),
        trusts=tuple(one for one in described.trusts if one.source not in sources),
    )


def test_the_built_program_sweeps_files_writes_fixes_and_heeds_bounds(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path / "yard", {"estate.yaml": as_if_now(YARD, NOW)})
    ran = enthesis("sweep", at=folder)
    assert ran.code == 1 and ran.out.startswith("yard: ") and "of high severity" in ran.out.splitlines()[0]
    assert "Not known: when keys without `last_used` were last used" in ran.out
    assert enthesis("sweep", "key-copied", "--fail-on", "key-old", at=folder).code == 0
    assert enthesis("sweep", "identity-idle", "--fail-on", "medium", at=folder).code == 0
    assert enthesis("sweep", "key-old", "--fail-on", "high", at=folder).code == 1
    assert enthesis("sweep", "key-old", "--older-than", "4000d", at=folder).code == 0
    for wrong in (("no-such",), ("--fail-on", "grave"), ("--older-than", "long"), ("--write", "99"), ("--write", "0")):
        assert enthesis("sweep", *wrong, at=folder).code == 2
    found = enthesis("sweep", "grant-ended", "--format", "json", at=folder).json["findings"]
    number = found[-1]["fixes"][-1]["write"]
    assert "is written into estate.yaml" in enthesis("sweep", "grant-ended", "--write", str(number), at=folder).err
    assert len(enthesis("sweep", "grant-ended", "--format", "json", at=folder).json["findings"]) == len(found) - 1


def test_tables_hold_no_formula_and_the_log_is_sarif(enthesis: Program, tmp_path: Path) -> None:
    bad = YARD.replace("purpose: nothing any more", "purpose: x").replace("owner: web, purpose: x", 'owner: "=1+1"')
    folder = write_estate(tmp_path / "yard", {"estate.yaml": as_if_now(bad, NOW)})
    enthesis("sweep", "--csv", "f.csv", "--sarif", "f.sarif", at=folder)
    rows = list(csv.reader(io.StringIO((folder / "f.csv").read_text())))
    assert len(rows) > 25 and all(not cell.startswith(("=", "+", "-", "@", "\t", "\r")) for row in rows for cell in row)
    assert any("'=1+1" in row for row in rows)
    log = json.loads((folder / "f.sarif").read_text())
    assert log["version"] == "2.1.0" and log["runs"][0]["tool"]["driver"]["name"] == "Enthesis"
    assert {one["ruleId"] for one in log["runs"][0]["results"]} == {*WHERE, "shared-login"}


def test_live_systems_and_surveys_are_swept_like_files(enthesis: Program, enacted_lab: Lab) -> None:
    asked = enthesis("sweep", "--ask", "--format", "json", at=enacted_lab.folder)
    assert asked.json["looked_at"] == "its live systems" and len(asked.json["not_known"]) == 1, asked.err
    assert enthesis("survey", "--out", "s.jsonl", at=enacted_lab.folder).code == 0
    from_file = enthesis("sweep", "--survey", "s.jsonl", "--format", "json", at=enacted_lab.folder)
    assert [one["message"] for one in from_file.json["findings"]] == [one["message"] for one in asked.json["findings"]]
    assert enthesis("sweep", "--survey", "s.jsonl", "--write", "1", at=enacted_lab.folder).code == 2
    assert enthesis("sweep", "--survey", "s.jsonl", "--ask", at=enacted_lab.folder).code == 2


def test_copies_are_found_in_files_archives_and_history_and_never_shown(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path / "yard", {"estate.yaml": as_if_now(YARD, NOW)})
    place = tmp_path / "place"
    place.mkdir()

    def git(*words: str) -> None:
        who = ("-c", "user.name=x", "-c", "user.email=x@yard.example")
        subprocess.run(["git", *who, "-C", str(place), *words], check=True, capture_output=True)

    git("init", "-q")
    (place / "old.env").write_text(f"KEY={VALUE}\n")
    git("add", "-A")
    git("commit", "-qm", "one")
    (place / "old.env").write_text("KEY=none\n")
    git("commit", "-qam", "two")
    (place / "a.json").write_text(json.dumps({"token": VALUE, "other": VALUE[:-1]}))
    (place / "b.yaml").write_text(f"one: 1\npassword: {base64.b64encode(VALUE.encode()).decode()}\n")
    with tarfile.open(place / "c.tgz", "w:gz") as archive:
        archive.add(place / "a.json", "a.json")
    with zipfile.ZipFile(place / "d.zip", "w") as packed:
        packed.write(place / "c.tgz", "c.tgz")
    (place / "near.txt").write_text(f"{VALUE}x x{VALUE} {VALUE[1:]}\n")
    (place / "broken.gz").write_bytes(b"\x1f\x8bnothing")
    ran = enthesis("sweep", "--in", str(place), "--csv", "f.csv", at=folder)
    assert ran.code == 1 and ran.out.startswith("Partial search: 1 file not read."), ran.out
    found = enthesis("sweep", "--in", str(place), "--format", "json", at=folder).json
    places = {(Path(one["file"]).name, one["line"], bool(one["commit"])) for one in found["copies"]}
    assert places == {
        ("a.json", 1, False), ("b.yaml", 2, False), ("c.tgz!a.json", 1, False), ("d.zip!c.tgz!a.json", 1, False),
        ("old.env", 1, True),
    }  # fmt: skip
    assert {one["credential"] for one in found["copies"]} == {"robot", "robot-too"}
    assert found["complete"] is False
    shown = ran.out + ran.err + json.dumps(found) + (folder / "f.csv").read_text()
    assert VALUE not in shown and VALUE[:8] not in shown
    clean = tmp_path / "clean"
    clean.mkdir()
    assert enthesis("sweep", "--in", str(clean), at=folder).code == 0
    assert enthesis("sweep", "--in", str(tmp_path / "none"), at=folder).code == 2
    bare = write_estate(tmp_path / "bare", {"estate.yaml": "estate: bare\n"})
    assert "no credential with a fingerprint" in enthesis("sweep", "--in", str(clean), at=bare).err.lower()


def test_a_repository_starts_no_program_of_its_own(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path / "yard", {"estate.yaml": as_if_now(YARD, NOW)})
    place, marker = tmp_path / "place", tmp_path / "marker"
    place.mkdir()
    trap = tmp_path / "trap.sh"
    trap.write_text(f"#!/bin/sh\ntouch {marker}\n")
    trap.chmod(0o755)

    def git(*words: str) -> None:
        subprocess.run(["git", "-C", str(place), *words], check=True, capture_output=True)

    git("init", "-q")
    (place / "a.env").write_text(f"KEY={VALUE}\n")
    git("add", "-A")
    git("-c", "user.name=x", "-c", "user.email=x@yard.example", "commit", "-qm", "one")
    for name, value in (
        ("core.fsmonitor", str(trap)), ("log.showSignature", "true"), ("gpg.program", str(trap)),
        ("diff.external", str(trap)), ("core.pager", str(trap)), ("core.sshCommand", str(trap)),
        ("core.hooksPath", str(tmp_path)), ("extensions.partialClone", "origin"),
        ("remote.origin.url", f"ext::{trap}"), ("remote.origin.promisor", "true"),
        ("core.alternateRefsCommand", str(trap)),
    ):  # fmt: skip
        git("config", name, value)
    ran = enthesis("sweep", "--in", str(place), at=folder)
    assert ran.code == 1 and "a.env:1 in commit" in ran.out and not marker.exists()


LISTS = """\
a:
  # before
  - {x: 1}  # one
  - y: |
      text

  - {z: 2}
b: {k: {n: 1}, l: 2, m: {o: 3}}
c:
  only: {p: 1}
d: [{q: 1}]
"""


@pytest.mark.parametrize(
    ("line", "column", "gone"),
    [(3, 5, "{x: 1}"), (4, 5, "text"), (7, 5, "{z: 2}"), (8, 5, "k:"), (8, 16, "l:"), (8, 22, "m:"), (10, 3, "only"),
     (11, 5, "q")],
)  # fmt: skip
def test_an_entry_is_taken_out_alone(line: int, column: int, gone: str) -> None:
    text = edited({"f": LISTS}, [Removal("f", line, column)])["f"]
    before, after = yaml.safe_load(LISTS), yaml.safe_load(text)
    assert gone not in text and "# before" in text
    assert sum(len(one) for one in after.values()) == sum(len(one) for one in before.values()) - 1


IDLE = """
estate: idle
organisations: {works: {}}
providers: {north: {style: two-sided}}
accounts: {left: {in: "@works", provider: north}, bare: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc}}
resources: {left/host/h: {runs_as: left/identity/i}, left/host/k: {}, left/pool/p: {runs_as: left/identity/pooled}}
identities:
  "@works/identity/ann": {kind: person}
  "@works/identity/gone": {kind: person, disabled: true}
  left/identity/i: {kind: instance-role, owner: o, purpose: p}
  left/identity/off: {kind: service-account, owner: o, purpose: p, disabled: true}
  left/identity/pooled: {kind: instance-role, owner: o, purpose: p}
groups:
  left/group/empty: {}
  left/group/off: {members: [left/identity/off]}
  left/group/by-rule: {where: {kind: service-account}}
trusts:
"""


@pytest.mark.parametrize(
    ("of", "admits", "why"),
    [
        ("i", "{attached: true}", ""), ("i", "{attached: left/host/h}", ""),
        ("i", "{attached: {glob: 'left/host/*'}}", ""),
        ("i", "{attached: left/host/k}", "nothing runs as left/identity/i"),
        ("i", "{attached: {glob: 'bare/host/*'}}", "nothing runs as left/identity/i"),
        ("pooled", "{attached: left/pool/p}", ""), ("pooled", "{attached: true}", ""),
        ("i", "{token: forge, claims: {sub: a, aud: north}}", ""),
        ("i", "{identity: left/identity/off}", "left/identity/off is disabled"),
        ("i", "{identity: left/identity/pooled}", ""),
        ("i", '{person: "@works/identity/gone"}', "@works/identity/gone is disabled"),
        ("i", '{person: "@works/identity/ann"}', ""),
        ("i", "{group: left/group/empty}", "left/group/empty has no members"),
        ("i", "{group: left/group/off}", "left/identity/off is disabled"), ("i", "{group: left/group/by-rule}", ""),
        ("i", "{account: left}", ""), ("i", "{account: bare}", "bare has no identities"),
    ],
)  # fmt: skip
def test_a_trust_of_any_form_that_nobody_can_come_by_is_idle(of: str, admits: str, why: str) -> None:
    read = estate(IDLE + f"  - {{of: left/identity/{of}, admits: {admits}}}\n")
    found = sweep(Chains(Web(compile_estate(read), NOW.timestamp())))
    told = [one.message for one in found.standing if one.code == "trust-idle"]
    assert [one.rpartition(" admits nobody: ")[2] for one in told] == ([why] if why else []), told

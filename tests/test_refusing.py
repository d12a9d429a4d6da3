"""What must be refused is refused, live: near-misses, what has ended, what is replayed; and what gets in is told."""

import json
from collections.abc import Iterator
from pathlib import Path
from random import Random
from xml.etree import ElementTree

import pytest

from .conftest import Lab, Program, start_lab, write_estate
from .corpora_read import records

PUBLISHER = "build/identity/publisher"


def test_near_misses_of_the_worked_example_are_refused(enthesis: Program, enacted_lab: Lab, tmp_path: Path) -> None:
    ran = enthesis("prove", "--near-misses", "--junit", str(tmp_path / "j.xml"), at=enacted_lab.folder)
    assert ran.code == 0, ran.out
    assert "22 refused, 1 allowed as a control" in ran.out
    assert "1 refused, 1 allowed as a control" in ran.out and "not tried" not in ran.out
    cases = ElementTree.parse(tmp_path / "j.xml").getroot().findall(".//testcase")  # noqa: S314  our own file
    assert len(cases) == 25
    assert any(f"who comes by {PUBLISHER}, without it" in str(case.get("name")) for case in cases)
    assert any("another organisation of forge" in str(case.get("name")) for case in cases)
    said = enthesis("prove", "--near-misses", PUBLISHER, "--format", "json", at=enacted_lab.folder)
    (about,) = said.json["trials"]
    assert {trial["expected"] for trial in about["trials"]} == {"allowed", "refused"}
    assert all("target-side" in trial["refused_at"] for trial in about["trials"] if trial["expected"] == "refused")
    assert "eyJ" not in said.out + said.err


def test_a_live_trust_that_is_wider_than_described_is_found_with_the_token(enthesis: Program, fresh_lab: Lab) -> None:
    described = (fresh_lab.folder / "publishing.yaml").read_text()
    wide = described.replace("sub: project/tides/bulletin/branch/main", 'sub: {glob: "project/*/bulletin/branch/*"}')
    assert wide != described
    (fresh_lab.folder / "publishing.yaml").write_text(wide)
    dangerous = enthesis("enact", "--yes", at=fresh_lab.folder)
    assert dangerous.code == 2 and "outside-gains" in dangerous.err
    assert enthesis("enact", "--yes", "--accept", "outside-gains", at=fresh_lab.folder).code == 0
    (fresh_lab.folder / "publishing.yaml").write_text(described)
    ran = enthesis("prove", "--near-misses", at=fresh_lab.folder)
    assert ran.code == 1
    assert "another organisation of forge: expected refused, got allowed" in ran.out
    assert "with sub project/harbourline/bulletin/branch/main, aud lowland, event push" in ran.out


def test_where_nobody_gets_in_near_misses_prove_nothing(enthesis: Program, fresh_lab: Lab) -> None:
    ran = enthesis("prove", "--near-misses", at=fresh_lab.folder)  # nothing is enacted
    assert ran.code == 1
    assert "an intended caller: expected allowed, got refused" in ran.out
    assert "0 refused, 0 allowed as a control" in ran.out
    for option in ("--expiry", "--replay"):
        ran = enthesis("prove", option, at=fresh_lab.folder)
        assert ran.code == 1
        assert "it is refused, so it leaves nothing to try" in ran.out or "could not be tried" in ran.out


def test_what_has_ended_opens_nothing_new(enthesis: Program, fresh_lab: Lab) -> None:
    assert enthesis("enact", "--yes", at=fresh_lab.folder).code == 0
    said = enthesis("prove", "--expiry", "--format", "json", at=fresh_lab.folder)
    assert said.code == 0, said.out
    (about,) = said.json["trials"]
    refused = [trial for trial in about["trials"] if trial["expected"] == "refused"]
    assert [trial["refused_at"] for trial in refused] == [["session"]] * 3
    before = [trial for trial in about["trials"] if trial["expected"] == "allowed"]
    assert len(before) == 3 and all("just before its end" in trial["what"] for trial in before)
    assert enthesis("lab", "clock", "--format", "json", at=fresh_lab.folder).json["ahead_seconds"] > 590


def test_credentials_are_refused_where_they_were_not_made_for(enthesis: Program, fresh_lab: Lab) -> None:
    assert enthesis("enact", "--yes", at=fresh_lab.folder).code == 0
    said = enthesis("prove", "--replay", "--format", "json", at=fresh_lab.folder)
    assert said.code == 0, said.out
    (about,) = said.json["trials"]
    refused = {trial["what"]: trial["refused_at"] for trial in about["trials"] if trial["expected"] == "refused"}
    assert refused["the token of forge for elsewhere.example"] == ["target-side"]
    elsewhere = [steps for what, steps in refused.items() if what.endswith("(lowland) at highmoor")]
    assert len(elsewhere) == 2 and all("provider" in steps for steps in elsewhere)
    # a trust that looks at no audience is found: a token for anybody is admitted
    text = (fresh_lab.folder / "publishing.yaml").read_text()
    (fresh_lab.folder / "publishing.yaml").write_text(text.replace("aud: lowland, ", ""))
    assert enthesis("enact", "--yes", at=fresh_lab.folder).code == 0
    ran = enthesis("prove", "--replay", at=fresh_lab.folder)
    assert ran.code == 1
    assert "the token of forge for elsewhere.example: expected refused, got allowed" in ran.out


BY_NAME = {
    "estate.yaml": """
estate: works
organisations: {works: {}}
providers: {north: {style: two-sided}}
accounts: {yard: {in: "@works", provider: north}, dock: {in: "@works", provider: north}}
issuers: {desk: {kind: saml, owned: {groups: [works]}}}
resources: {yard/host/one: {runs_as: [yard/identity/runner]}, yard/host/two: {}}
identities:
  "@works/identity/ada": {kind: person, owner: works}
  "@works/identity/bo": {kind: person, owner: works}
  yard/identity/runner: {kind: instance-role, owner: web, purpose: runs}
  yard/identity/target: {kind: instance-role, owner: web, purpose: is taken on}
  yard/identity/other: {kind: instance-role, owner: web, purpose: is not meant}
  yard/identity/by-group: {kind: instance-role, owner: web, purpose: is taken on}
  yard/identity/by-account: {kind: instance-role, owner: web, purpose: is taken on}
  yard/identity/by-person: {kind: instance-role, owner: web, purpose: is taken on}
  dock/identity/guest: {kind: instance-role, owner: web, purpose: comes over}
groups: {yard/group/team: {members: [yard/identity/other]}}
roles: {posing: {allows: {identity: [take-on]}}}
grants:
  - {to: dock/identity/guest, role: posing, at: yard/identity/by-account, held_by: dock}
trusts:
  - {of: yard/identity/runner, admits: {attached: true}}
  - {of: yard/identity/target, admits: {identity: yard/identity/runner}, when: {reference: tide-7}}
  - {of: yard/identity/by-group, admits: {group: yard/group/team}}
  - {of: yard/identity/by-account, admits: {account: dock}}
  - {of: yard/identity/by-person, admits: {person: "@works/identity/ada"}, when: {mfa: true}}
journeys:
  target:
    from: {host: yard/host/one}
    through: [yard/identity/runner, yard/identity/target]
    context: {reference: tide-7}
    expect: allowed
"""
}


def test_every_kind_of_trust_is_tried_or_said_to_be_untried(enthesis: Program, tmp_path: Path) -> None:
    place = write_estate(tmp_path / "works", BY_NAME)
    try:
        start_lab(enthesis, place)
        assert enthesis("enact", "--yes", at=place).code == 0
        said = enthesis("prove", "--near-misses", "--format", "json", at=place)
        assert said.code == 0, said.out + said.err
        whats = {
            one["about"].rsplit("/")[-1]: {trial["what"] for trial in one["trials"]} for one in said.json["trials"]
        }
        assert "another host of the same account, yard/host/two" in whats["runner"]
        assert {"the same caller with another reference", "the same caller without a reference"} <= whats["target"]
        assert any("another identity" in one for one in whats["target"]) and len(whats) == 5
        assert any("another identity" in one for one in whats["by-group"])
        assert any(one.startswith("an identity of another account") for one in whats["by-account"])
        assert "the same person without a second factor" in whats["by-person"]
        assert any("bo" in one for one in whats["by-person"])
        for option in ("--replay", "--expiry"):
            ran = enthesis("prove", option, at=place)
            assert ran.code == 1 and "3 trusts could not be tried" in ran.out, ran.out
            assert enthesis("prove", option, "--allow-untried", at=place).code == 0
        # one that is not in place yet admits nobody, the intended caller included
        text = BY_NAME["estate.yaml"]
        wide = "  - {of: yard/identity/other, admits: {assertion: desk, attributes: {groups: works}}}\njourneys:"
        write_estate(place, {"estate.yaml": text.replace("journeys:", wide)})
        ran = enthesis("prove", "--near-misses", at=place)
        assert ran.code == 1 and "expected allowed, got refused" in ran.out, ran.out
    finally:
        enthesis("lab", "stop", "--clean", at=place)


def test_wrong_requests(enthesis: Program, enacted_lab: Lab) -> None:
    assert enthesis("prove", "--near-misses", "--expiry", at=enacted_lab.folder).code == 2
    assert enthesis("prove", "--near-misses", "build/identity/publishr", at=enacted_lab.folder).code == 2
    assert enthesis("prove", "--replay", "nothing", at=enacted_lab.folder).code == 2


# -- many trusts ----------------------------------------------------------------------------------------------------

HEAD = """
estate: many
organisations: {ours: {}, theirs: {outside: true}}
providers: {lowland: {style: two-sided}}
accounts: {left: {in: "@ours", provider: lowland}}
issuers: {forge: {kind: oidc, url: "https://forge.example", shared: true, owned: {sub: {glob: "project/t*/**"}}}}
"""


@pytest.fixture(scope="module")
def many(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A lab with forty trusts of the realistic corpus, enacted."""
    folder = tmp_path_factory.mktemp("many")
    chosen = Random(3).sample([record["one"] for record in records("realistic")], 40)
    identities = {f"left/identity/i{number}": {"kind": "service-account"} for number in range(len(chosen))}
    trusts = [
        {"of": f"left/identity/i{number}", "admits": {"token": "forge", "claims": claims}}
        for number, claims in enumerate(chosen)
    ]
    more = json.dumps({"identities": identities, "trusts": trusts})
    write_estate(folder, {"estate.yaml": HEAD, "trusts.json": more})
    try:
        start_lab(enthesis, folder)
        ran = enthesis("enact", "--yes", "--accept", "outside-gains", at=folder)
        assert ran.code == 0, ran.out + ran.err
        yield folder
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def test_every_witness_gets_in_at_the_lab_and_no_near_miss_does(enthesis: Program, many: Path) -> None:
    ran = enthesis("prove", "--near-misses", "--format", "json", at=many)
    assert ran.code == 0, [one for one in ran.json["trials"] if not one["met"]]
    trials = ran.json["trials"]
    assert len(trials) == 40
    assert all(one["trials"][0]["outcome"] == "allowed" for one in trials)
    assert sum(one["refused"] for one in trials) > 500

"""Lists of what there is: each of its kind once, with its facts, narrowed as asked, as text, JSON and a table."""

import csv
import io
from pathlib import Path

import pytest

from enthesis.chains.inventories import LISTS

from .conftest import SALTMARSH, Lab, Program, write_estate

TEXT = """\
estate: shop
organisations: {home: {}}
providers: {lowland: {style: one-sided}}
accounts: {shop: {in: "@home", provider: lowland, labels: {tier: gold}}, back: {in: "@home", provider: lowland}}
resources: {shop/host/till: {labels: {room: front}}, back/bucket/b: {}}
identities:
  shop/identity/worker: {kind: service-account, owner: sales}
  shop/identity/boss: {kind: service-account, owner: office, disabled: true}
  "@home/identity/ann": {kind: person, owner: office}
groups: {"@home/group/all": {members: ["@home/identity/ann"]}}
roles: {reading: {allows: {object: [read]}}}
attachments: [{what: shop/host/till, runs_as: shop/identity/worker}]
trusts:
  - {of: shop/identity/worker, admits: {attached: shop/host/till}}
  - {of: shop/identity/boss, admits: {person: "@home/identity/ann"}, when: {mfa: true}, until: "2020-01-01T00:00:00Z"}
  - {of: shop/identity/boss, admits: {person: "@home/identity/ann"}, when: {mfa: true}, name: boss-by-ann}
grants: [{to: shop/identity/worker, role: reading, at: back/bucket/b, held_by: back}]
credentials:
  old: {of: shop/identity/worker, form: access-key, expires: "2020-01-01T00:00:00Z"}
  till: {of: shop/identity/worker, form: access-key, expires: "2099-01-01T00:00:00Z", last_used: "2026-01-01T00:00:00Z"}
"""


def entries(enthesis: Program, folder: Path, *words: str) -> dict[str, dict[str, object]]:
    """The entries of a list by their names."""
    ran = enthesis("list", *words, "--format", "json", at=folder)
    assert ran.code == 0, ran.err
    return {one["name"]: one for one in ran.json["entries"]}


def test_a_list_has_everything_of_its_kind_once_with_its_facts(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path, {"estate.yaml": TEXT})
    found = entries(enthesis, folder)
    assert list(found) == ["shop/identity/worker", "shop/identity/boss"]
    worker, boss = found.values()
    assert worker["runs_on"] == ["shop/host/till"] and worker["keys"] == ["till"]
    assert (worker["next_end"], worker["key_last_used"]) == ("2099-01-01T00:00:00Z", "2026-01-01T00:00:00Z")
    assert worker["taken_on_by"] == ["shop/host/till running as it"] and not worker["taken_on_with_second_factor_by"]
    assert boss["taken_on_with_second_factor_by"] == ["@home/identity/ann"] and boss["disabled"] is True
    assert entries(enthesis, folder, "people")["@home/identity/ann"]["member_of"] == ["@home/group/all"]
    trusts = entries(enthesis, folder, "trusts")
    assert trusts["boss-by-ann"]["second_factor"] is True and trusts["boss-by-ann"]["ended"] is False
    assert trusts["shop/identity/boss by @home/identity/ann"]["ended"] is True
    assert entries(enthesis, folder, "roles")["reading"]["to"] == ["shop/identity/worker"]
    assert entries(enthesis, folder, "credentials")["old"]["works"] is False
    assert entries(enthesis, folder, "accounts")["shop"]["identities"] == 2


@pytest.mark.parametrize(
    ("words", "names"),
    [
        (("--owner", "sales"), ["shop/identity/worker"]), (("--at", "back"), []),
        (("places", "--at", "shop"), ["shop/host/till"]), (("places", "--kind", "bucket"), ["back/bucket/b"]),
        (("places", "--label", "room=front"), ["shop/host/till"]), (("places", "--label", "room=back"), []),
        (("accounts", "--label", "tier=gold"), ["shop"]), (("grants", "--at", "till"), []),
    ],
)  # fmt: skip
def test_a_list_is_narrowed(enthesis: Program, tmp_path: Path, words: tuple[str, ...], names: list[str]) -> None:
    folder = write_estate(tmp_path, {"estate.yaml": TEXT})
    assert list(entries(enthesis, folder, *words)) == names


def test_every_list_is_text_and_a_table_with_the_same_entries(enthesis: Program, tmp_path: Path) -> None:
    for what in LISTS:
        found = entries(enthesis, SALTMARSH, what)
        table = enthesis("list", what, "--format", "csv", at=SALTMARSH).out
        rows = list(csv.DictReader(io.StringIO(table)))
        assert [row["name"].removeprefix("'") for row in rows] == list(found)
        text = enthesis("list", what, at=SALTMARSH).out
        assert all(name in text for name in found) and (len(text.splitlines()) == len(found) + 1)
    wrong = enthesis("list", "identites", at=SALTMARSH)
    assert wrong.code == 2 and "did you mean identities" in wrong.err
    assert enthesis("list", "--label", "x", at=SALTMARSH).code == 2


def test_what_is_live_and_what_is_new_since_a_survey(enthesis: Program, fresh_lab: Lab, tmp_path: Path) -> None:
    folder = fresh_lab.folder
    before = tmp_path / "before.jsonl"
    assert not entries(enthesis, folder, "grants", "--ask")  # described, and not enacted yet
    assert enthesis("survey", "--out", str(before), at=folder).code == 0
    assert enthesis("enact", "--yes", at=folder).code == 0
    assert len(entries(enthesis, folder, "grants", "--ask")) == len(entries(enthesis, folder, "grants"))
    new = entries(enthesis, folder, "identities", "--ask", "--new-since", str(before))
    assert set(new) == {"build/identity/publisher", "bulletin/identity/page-writer"}

"""The commonest hour lost: a crossing that fails with one opaque error for different causes. Each is named here, in its
own words and with whoever has to act, and all of them at once where several stand in the way."""

import re
from pathlib import Path

import pytest

from .conftest import Program, write_estate

ESTATE = """\
estate: crossing
organisations: {works: {units: [field, open]}, harbour: {outside: true}}
providers: {north: {style: two-sided}, south: {style: one-sided}}
accounts:
  gauges:   {in: "@works/field", provider: north}
  bulletin: {in: "@works/open", provider: north}
  archive:  {in: "@works/open", provider: south}
  pilotage: {in: "@harbour", provider: north}
resources:
  gauges/bucket/levels: {encrypted_by: gauges/key/levels}
  gauges/key/levels: {managed_by: account}
  archive/bucket/old: {}
identities:
  bulletin/identity/writer: {kind: service-account}
  gauges/identity/reader: {kind: service-account}
  archive/identity/keeper: {kind: service-account}
  pilotage/identity/pilot: {kind: service-account}
trusts:
  - of: gauges/identity/reader
    admits: {identity: bulletin/identity/writer}
roles:
  reads: {allows: {object: [read], key: [decrypt]}}
  takes: {allows: {identity: [take-on]}}
grants:
  - {to: bulletin/identity/writer, role: takes, at: gauges/identity/reader, held_by: bulletin}
  - {to: gauges/identity/reader, role: reads, at: gauges}
ceilings:
  - {name: stay-out, over: callers, at: "@works/open", bars: {secret: "*"}}
"""
ASKED = ("trace", "read", "gauges/bucket/levels/object/a", "--from", "bulletin/identity/writer",
         "--through", "gauges/identity/reader")  # fmt: skip


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    return write_estate(tmp_path / "estate", {"estate.yaml": ESTATE})


def change(folder: Path, *pairs: tuple[str, str]) -> None:
    text = (folder / "estate.yaml").read_text(encoding="utf-8")
    for old, new in pairs:
        assert old in text
        text = text.replace(old, new)
    (folder / "estate.yaml").write_text(text, encoding="utf-8")


CALLERS_HALF = (
    "  - {to: bulletin/identity/writer, role: takes, at: gauges/identity/reader, held_by: bulletin}\n",
    "",
)
TRUST = ("admits: {identity: bulletin/identity/writer}", "admits: {identity: archive/identity/keeper}")
CEILING = ('bars: {secret: "*"}', 'bars: {identity: "take-on"}')
KEY = ("managed_by: account", "managed_by: provider")
KEY_GRANT = ("object: [read], key: [decrypt]", "object: [read]")


def test_the_crossing_works_as_it_stands(enthesis: Program, folder: Path) -> None:
    assert enthesis(*ASKED, at=folder).code == 0


@pytest.mark.parametrize(
    ("pairs", "step", "says", "whose"),
    [
        (
            [CALLERS_HALF],
            "caller-side",
            "no grant lets bulletin/identity/writer take on",
            "the administrators of bulletin",
        ),
        ([TRUST], "target-side", "no trust of gauges/identity/reader admits", "the administrators of gauges"),
        (
            [CEILING],
            "ceilings",
            "the ceiling stay-out over callers at @works/open",
            "the administrators of @works/open",
        ),
        ([KEY_GRANT], "companions", "decrypt gauges/key/levels", "the administrators of gauges"),
    ],
)
def test_each_cause_is_named_with_whoever_can_mend_it(
    enthesis: Program, folder: Path, pairs: list[tuple[str, str]], step: str, says: str, whose: str
) -> None:
    change(folder, *pairs)
    ran = enthesis(*ASKED, "--format", "json", at=folder)
    assert ran.code == 1
    assert ran.json["says"].startswith(f"Refused at {step}: ")
    assert says in ran.json["says"]
    assert ran.json["says"].endswith(f"up to {whose}.")
    assert ran.json["refused_at"] == [step]
    assert ran.json["remedies"], "nothing would turn it"


def test_a_mistyped_account_looks_like_nothing_but_a_mistyped_account(enthesis: Program, folder: Path) -> None:
    asked = [word.replace("gauges/identity", "guages/identity") for word in ASKED]
    ran = enthesis(*asked, "--format", "json", at=folder)
    assert ran.code == 2
    assert ran.json["says"] == "Refused at names: unknown identity guages/identity/reader; up to the caller."
    steps = {step["step"]: step for step in ran.json["requests"][0]["steps"]}
    assert steps["names"]["nearest"] == ["gauges/identity/reader"]
    assert {steps[name]["outcome"] for name in steps if name != "names"} == {"unknown"}
    assert [change["sentence"] for change in ran.json["remedies"][0]["changes"]] == ["ask for gauges/identity/reader"]


def test_a_key_that_only_one_side_may_use_is_not_mended_by_a_grant(enthesis: Program, folder: Path) -> None:
    change(folder, KEY)
    assert enthesis(*ASKED, at=folder).code == 0, "the key's own account may use it"
    direct = ("trace", "read", "gauges/bucket/levels/object/a", "--from", "bulletin/identity/writer")
    ran = enthesis(*direct, at=folder)
    assert ran.code == 1
    assert "gauges/key/levels is managed by the provider" in ran.out
    assert "cannot be fixed by granting access: gauges/key/levels is managed by the provider" in ran.out


def test_all_causes_are_named_at_once_and_no_remedy_leaves_one_out(enthesis: Program, folder: Path) -> None:
    change(folder, CALLERS_HALF, TRUST, CEILING, KEY_GRANT)
    ran = enthesis(*ASKED, "--format", "json", at=folder)
    assert ran.json["refused_at"] == ["ceilings", "target-side", "caller-side", "companions"]
    for party in ("@works/open", "gauges", "bulletin"):
        assert f"the administrators of {party}" in ran.json["says"]
    assert ran.json["remedies"]
    for remedy in ran.json["remedies"]:
        text = " ".join(change["sentence"] for change in remedy["changes"])
        assert "stay-out" in text and "trust of gauges/identity/reader" in text
        assert re.search(r"take-?s? to bulletin/identity/writer at gauges/identity/reader", text)
        assert "gauges/key/levels" in text


def test_a_remedy_written_by_each_party_opens_the_crossing(enthesis: Program, folder: Path) -> None:
    change(folder, CALLERS_HALF, TRUST)
    ran = enthesis(*ASKED, "--write", "1", at=folder)
    assert ran.code == 1 and "written into estate.yaml" in ran.err
    assert enthesis(*ASKED, at=folder).code == 0
    assert enthesis("check", at=folder).code == 0


def test_another_provider_wants_an_identity_there_first(enthesis: Program, folder: Path) -> None:
    asked = ("trace", "read", "archive/bucket/old/object/a", "--from", "gauges/identity/reader")
    ran = enthesis(*asked, "--format", "json", at=folder)
    assert ran.json["refused_at"] == ["provider", "target-side"]
    assert "take on an identity there first" in ran.json["says"]


def test_the_half_of_an_outside_party_is_theirs(enthesis: Program, folder: Path) -> None:
    change(folder, ("admits: {identity: bulletin/identity/writer}", "admits: {identity: pilotage/identity/pilot}"))
    asked = [word.replace("bulletin/identity/writer", "pilotage/identity/pilot") for word in ASKED]
    ran = enthesis(*asked, "--format", "json", at=folder)
    assert ran.code == 0
    steps = {step["step"]: step for step in ran.json["requests"][0]["steps"]}
    assert steps["caller-side"]["outcome"] == "theirs"
    assert "administered by others" in steps["caller-side"]["grounds"][0]["text"]


def test_a_one_sided_provider_asks_its_owner_alone(enthesis: Program, folder: Path) -> None:
    change(folder, ("style: two-sided", "style: one-sided"), CALLERS_HALF)
    assert enthesis(*ASKED, at=folder).code == 0

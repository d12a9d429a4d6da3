"""Statements written as lists, grants to everybody of an organisation, and clusters that ask by themselves."""

from itertools import product
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.files.editing import Removal, Replacement, edited
from enthesis.files.folder import read_texts
from enthesis.model.estate import Estate

from .conftest import Program, examples

HEAD = """\
estate: lists
organisations: {works: {units: [u]}, guests: {outside: true}}
providers: {low: {style: two-sided}}
accounts: {a: {in: "@works/u", provider: low}, b: {in: "@works", provider: low}, g: {in: "@guests", provider: low}}
resources: {a/bucket/x: {}, a/bucket/y: {}, a/bucket/z: {}, a/cluster/k: {runs_as: a/identity/p}, b/registry/r: {},
            b/host/h: {runs_as: b/identity/o}}
identities:
  a/identity/p: {kind: service-account}
  a/identity/q: {kind: service-account}
  a/identity/r: {kind: service-account}
  b/identity/o: {kind: instance-role}
  "@guests/identity/zoe": {kind: person}
roles: {reading: {allows: {object: read}, description: what readers need}, pulling: {allows: {image: pull}},
        entering: {allows: {organisation: enter}}}
"""
FORMS = {
    "flow": "grants:\n  - {to: [%s], role: reading, at: [%s], until: 2030-01-01T00:00:00Z}  # who reads\n",
    "block": "grants:\n  - to:\n%s    role: reading # what\n    at:\n%s    until: 2030-01-01T00:00:00Z\n",
}
IDENTITIES, BUCKETS = [f"a/identity/{n}" for n in "pqr"], [f"a/bucket/{n}" for n in "xyz"]


def _text(form: str, to: list[str], at: list[str]) -> str:
    if form == "flow":
        return HEAD + FORMS[form] % (", ".join(to), ", ".join(at))
    rows = ["".join(f"      - {one}  # {one[-1]}\n" for one in many) for many in (to, at)]
    return HEAD + FORMS[form] % tuple(rows)


def _read(text: str) -> Estate:
    reading = read_texts({"estate.yaml": text})
    assert reading.estate is not None, reading.errors
    return reading.estate


def _pairs(estate: Estate) -> set[tuple[str, str, str]]:
    return {(grant.to, grant.role, grant.at) for grant in estate.grants}


@given(
    st.sampled_from(sorted(FORMS)),
    st.lists(st.sampled_from(IDENTITIES), min_size=1, unique=True),
    st.lists(st.sampled_from(BUCKETS), min_size=1, unique=True),
    st.data(),
)
@settings(max_examples=examples(80))
def test_editing_one_takes_it_out_of_its_list(form: str, to: list[str], at: list[str], data: st.DataObject) -> None:
    text = _text(form, to, at)
    estate = _read(text)
    assert _pairs(estate) == {(one, "reading", place) for one, place in product(to, at)}
    removed = data.draw(st.lists(st.sampled_from(estate.grants), unique_by=id))
    others = [grant for grant in estate.grants if grant not in removed]
    changed = data.draw(st.lists(st.sampled_from(others), unique_by=id)) if others else []
    edits = [Removal.at(one.source) for one in removed]
    edits += [Replacement.at(one.source, ("role",), "pulling") for one in changed]  # type: ignore[misc]
    after = _read(edited({"estate.yaml": text}, edits)["estate.yaml"])
    expected = {(one.to, "pulling" if one in changed else "reading", one.at) for one in others}
    assert _pairs(after) == expected
    assert all(grant.until is not None for grant in after.grants)


def test_what_stays_keeps_its_comments() -> None:
    text = _text("block", IDENTITIES, BUCKETS[:1])
    (_, second, _) = _read(text).grants
    after = edited({"estate.yaml": text}, [Removal.at(second.source)])["estate.yaml"]
    assert after == text.replace("      - a/identity/q  # q\n", "")


def test_a_remedy_for_one_of_a_list_is_written_apart(enthesis: Program, tmp_path: Path) -> None:
    to, at = "[a/identity/p, a/identity/q]", "[a/bucket/x, a/bucket/y]"
    grant = f"  - {{to: {to}, role: reading, at: {at}, when: {{network: {{within: 10.0.0.0/8}}}}}}\n"
    (tmp_path / "estate.yaml").write_text(f"{HEAD}grants:\n{grant}")
    words = ("trace", "read", "a/bucket/x/object/o", "--from", "a/identity/p", "--network", "192.168.1.1")
    told = enthesis(*words, at=tmp_path).out
    number = next(line.split()[0] for line in told.splitlines() if "let network be 192.168.1.1/32 too" in line)
    assert enthesis(*words, "--write", number, at=tmp_path).code == 1
    assert enthesis(*words, at=tmp_path).code == 0
    estate = _read((tmp_path / "estate.yaml").read_text())
    widened = [one for one in estate.grants if "192.168.1.1" in repr(one.when)]
    assert [(one.to, one.at) for one in widened] == [("a/identity/p", "a/bucket/x")] and len(estate.grants) == 4


@pytest.mark.parametrize(
    ("grant", "said"),
    [
        ("{name: n, to: [a/identity/p, a/identity/q], role: reading, at: a}", "one name for the several statements"),
        ("{to: [], role: reading, at: a}", "an empty list in `to`"),
        ("{to: [a/identity/p, a/identity/p], role: reading, at: a}", "`a/identity/p` is listed twice"),
        ("{to: [a/identity/p, a/identity/s], role: reading, at: a}", "unknown identity, group or organisation"),
        ("{to: [a/identity/p, a/identity/q], role: raeding, at: a}", "unknown role"),
        ("{to: '@gests', role: reading, at: a}", "did you mean @guests"),
    ],
)
def test_each_error_in_a_list_is_told_once(enthesis: Program, tmp_path: Path, grant: str, said: str) -> None:
    (tmp_path / "estate.yaml").write_text(f"{HEAD}grants:\n  - {grant}\n")
    ran = enthesis("check", at=tmp_path)
    assert ran.code == 2 and ran.out.count(said) == 1, ran.out


ORGANISATIONS = (
    HEAD
    + """\
grants:
  - {to: "@works", role: reading, at: a/bucket/x}
  - {to: "@works", role: reading, at: a/bucket/x, held_by: b}
  - {to: "@guests", role: entering, at: "@works"}
  - {to: "@guests", role: reading, at: a/bucket/y}
  - {to: a/identity/p, role: pulling, at: b/registry/r, held_by: a}
  - {to: a/identity/p, role: pulling, at: b/registry/r, held_by: b}
trusts: [{of: [a/identity/p, b/identity/o], admits: {attached: true}}]
journeys:
  everybody: {from: {host: b/host/h}, through: [b/identity/o], attempt: read a/bucket/x/object/o, expect: allowed}
  not-elsewhere: {from: {host: b/host/h}, through: [b/identity/o], attempt: read a/bucket/y/object/o, expect: refused,
                  refused_at: [target-side, caller-side]}
  nodes-pull: {from: {host: a/cluster/k}, through: [a/identity/p], attempt: pull b/registry/r/image/i, expect: allowed}
"""
)


def test_everybody_of_an_organisation_is_who_there_is_and_who_may_come(enthesis: Program, tmp_path: Path) -> None:
    (tmp_path / "estate.yaml").write_text(ORGANISATIONS)
    assert enthesis("check", at=tmp_path).code == 0
    for bucket, outsiders in (("x", False), ("y", True)):
        rows = enthesis("reach", "--to", f"a/bucket/{bucket}", "--format", "json", at=tmp_path).json["found"]
        callers = {row["start"] for row in rows}
        assert ("a/identity/q" in callers, "b/identity/o" in callers) == (not outsiders, not outsiders)
        assert ("@guests/identity/zoe" in callers) == outsiders
        assert any(name.startswith("@guests/identity/…") for name in callers) == outsiders
        assert any(name.startswith("g/identity/…") for name in callers) == outsiders


def test_a_cloud_knows_everybody_of_an_organisation_and_what_nodes_ask_as(enthesis: Program, tmp_path: Path) -> None:
    (tmp_path / "estate.yaml").write_text(ORGANISATIONS)
    try:
        for words in (["lab", "start"], ["enact", "--yes", "--accept", "outside-gains"], ["prove"]):
            ran = enthesis(*words, at=tmp_path)
            assert ran.code == 0, ran.out
        assert "fully in place" in enthesis("propose", at=tmp_path).out
    finally:
        enthesis("lab", "stop", at=tmp_path)


def test_cards_say_what_a_role_is_for_and_what_everybody_has(enthesis: Program, tmp_path: Path) -> None:
    (tmp_path / "estate.yaml").write_text(ORGANISATIONS)
    assert "what readers need" in enthesis("card", "reading", at=tmp_path).out
    assert "reading at a/bucket/x" in enthesis("card", "@works", at=tmp_path).out

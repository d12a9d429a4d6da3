"""A hop that runs code on a resource: judged, traced, reached and proved; and lists of one in what is enacted."""

from collections.abc import Iterator
from pathlib import Path

import pytest

from enthesis.files.folder import read_texts

from .conftest import Lab, Program, copied, lab_of

BENCH, CALIBRATOR = "gauges/host/bench", "gauges/identity/calibrator"
MAREN = "@saltmarsh/identity/maren"
OBJECT = "gauges/bucket/offsets/object/a"
MORE = f"""\
resources: {{gauges/bucket/offsets: {{}}}}
trusts: [{{name: by-the-bench, of: {CALIBRATOR}, admits: {{attached: true}}, session: 15m}}]
roles: {{offsets-reading: {{allows: {{object: [read]}}}}}}
grants:
- {{to: {CALIBRATOR}, role: offsets-reading, at: gauges/bucket/offsets, when: {{origin.kind: person, mfa: true}}}}
ceilings: [{{name: reads, over: targets, at: gauges, bars: {{object: [read]}}, except: [{CALIBRATOR}]}}]
journeys:
  by-login: {{from: {{person: "@saltmarsh/identity/maren", mfa: true}}, through: [{{on: {BENCH}}}, {CALIBRATOR}],
    attempt: read {OBJECT}, expect: allowed, keyless: true, within: 15m}}
  without-a-factor: {{from: {{person: "@saltmarsh/identity/maren", mfa: false}},
    through: [{{on: {BENCH}}}, {CALIBRATOR}], attempt: read {OBJECT}, expect: refused, refused_at: target-side}}
  not-by-jonas: {{from: {{person: "@saltmarsh/identity/jonas", mfa: true}}, through: [{{on: {BENCH}}}, {CALIBRATOR}],
    attempt: read {OBJECT}, expect: refused, refused_at: companions}}
"""


@pytest.fixture(scope="module")
def lab(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    folder = copied(tmp_path_factory.mktemp("running") / "estate", "estate.yaml", "people.yaml")
    (folder / "more.yaml").write_text(MORE, encoding="utf-8")
    with lab_of(enthesis, folder) as lab:
        yield lab


def test_the_same_journeys_are_as_expected_in_the_files_and_at_the_lab(enthesis: Program, lab: Lab) -> None:
    checked = enthesis("check", "--format", "json", at=lab.folder).json
    assert [one["unmet"] for one in checked["journeys"]] == [[]] * len(checked["journeys"])
    proved = enthesis("prove", "--format", "json", at=lab.folder)
    assert proved.code == 0, proved.out
    found = {one["journey"]: one for one in proved.json["journeys"]}
    assert [one["what"] for one in found["by-login"]["evidence"]][1:] == [
        f"run code on {BENCH}", f"take on {CALIBRATOR}", f"read {OBJECT}",
    ]  # fmt: skip
    assert found["without-a-factor"]["refused_at"] == ["target-side"]
    assert found["not-by-jonas"]["refused_at"] == ["companions"]


def test_a_ceiling_with_one_exception_is_enacted_as_it_is_described(enthesis: Program, lab: Lab) -> None:
    assert enthesis("propose", "--expect-none", at=lab.folder).code == 0


def test_what_ends_on_the_way_opens_nothing_new_and_a_card_names_the_journey(enthesis: Program, lab: Lab) -> None:
    ran = enthesis("prove", "by-login", "--replay", at=lab.folder)
    assert ran.code == 0, ran.out + ran.err
    assert "the journey by-login" in enthesis("card", BENCH, at=lab.folder).out


def test_it_is_traced_and_reached(enthesis: Program, lab: Lab) -> None:
    asked = (
        "trace",
        "read",
        OBJECT,
        "--from",
        "@saltmarsh/identity/maren",
        "--through",
        BENCH,
        "--through",
        CALIBRATOR,
    )
    ran = enthesis(*asked, "--mfa", at=lab.folder)
    assert ran.code == 0 and f"login {BENCH}  allowed" in ran.out
    assert enthesis(*asked, "--no-mfa", at=lab.folder).code == 1
    wrong = enthesis("trace", "read", OBJECT, "--from", CALIBRATOR, "--through", "gauges/bucket/offsets", at=lab.folder)
    assert wrong.code == 2 and "no code is run on a bucket" in wrong.err
    reached = enthesis(
        "reach", "--from", "@saltmarsh/identity/maren", "--verb", "read", "--format", "json", at=lab.folder
    )
    (one,) = (one for one in reached.json["found"] if one["target"].startswith("gauges/bucket/offsets"))
    assert [step["verb"] for step in one["steps"]] in (["login", "take-on", "read"], ["take-on", "read"])
    assert one["conditions"]["mfa"] is True


@pytest.mark.parametrize(
    ("origin", "through", "code"),
    [
        ("{identity: gauges/identity/i}", "[{on: gauges/bucket/b}]", "cannot-run"),
        ("{identity: gauges/identity/i}", "[{on: gauges/database/d}]", "cannot-run"),
        ("{identity: '@o/identity/p'}", "[gauges/identity/i]", "wrong-kind"),
        ("{identity: gauges/identity/i}", "[{on: gauges/host/gone}]", ""),
        ("{identity: gauges/identity/i}", "[{on: gauges/pool/l}, gauges/identity/i]", ""),
    ],
)
def test_what_no_journey_can_go_through_is_an_error(origin: str, through: str, code: str) -> None:
    text = (
        "estate: x\norganisations: {o: {}}\nproviders: {p: {style: one-sided}}\n"
        "accounts: {gauges: {in: '@o', provider: p}}\n"
        "resources: {gauges/bucket/b: {}, gauges/pool/l: {}, gauges/database/d: {}}\n"
        "identities: {gauges/identity/i: {kind: service-account}, '@o/identity/p': {kind: person}}\n"
        f"journeys: {{j: {{from: {origin}, through: {through}, expect: refused}}}}\n"
    )
    assert [one.code for one in read_texts({"estate.yaml": text}).errors] == ([code] if code else [])


def test_a_hop_onto_a_resource_is_written_as_it_is_read(tmp_path: Path) -> None:
    from enthesis.files.writing import estate_text

    folder = copied(tmp_path / "estate", "estate.yaml", "people.yaml")
    (folder / "more.yaml").write_text(MORE, encoding="utf-8")
    estate = read_texts({one.name: one.read_text(encoding="utf-8") for one in folder.glob("*.yaml")}).estate
    assert estate is not None
    again = read_texts({"estate.yaml": estate_text(estate)}).estate
    assert again is not None and again.journeys == estate.journeys

"""What is known to be impossible without a live system, and what means more than it did."""

from datetime import UTC, datetime
from pathlib import Path

from enthesis.proposals.steps import Proposal
from enthesis.store.journal import Journal
from enthesis.store.opening import open_store

from .conftest import Program, start_lab, write_estate

TEXT = """\
estate: shop
organisations: {works: {units: [u]}, guests: {}}
providers: {low: {style: one-sided}, high: {style: one-sided}}
accounts: {a: {in: "@works/u", provider: low}, b: {in: "@works", provider: high}}
issuers: {ca: {kind: x509}}
resources:
  a/database/orders: {url: "postgresql://db.example/orders", certificates: ca}
  a/pool/p: {runs_as: a/identity/r}
  a/pool/p/host/one: {}
identities:
  a/identity/r: {kind: instance-role, owner: o, purpose: q}
  "@guests/identity/ann": {kind: person}
roles:
  reading: {allows: {table: [read]}}
  deleting: {allows: {table: [delete]}}
grants:
  - {to: "@guests/identity/ann", role: reading, at: a/database/orders}
  - {to: a/identity/r, role: deleting, at: a/database/orders}
trusts: [{of: a/identity/r, admits: {attached: a/pool/p}}]
journeys:
  later: {from: {host: a/pool/p/host/one}, through: [a/identity/r], expect: allowed,
          context: {time: "2027-01-01T00:00:00Z"}}
  by-pool: {from: {host: a/pool/p}, through: [a/identity/r], expect: allowed}
"""


def test_check_knows_what_no_system_can_hold(enthesis: Program, tmp_path: Path) -> None:
    write_estate(tmp_path, {"estate.yaml": TEXT})
    ran = enthesis("check", "--format", "json", at=tmp_path)
    assert ran.code == 1
    risks = [risk for risk in ran.json["risks"] if risk["code"] == "not-possible"]
    said = " / ".join(risk["message"] for risk in risks)
    assert "@guests/identity/ann is of another organisation than a/database/orders" in said
    assert "a database gives no delete on a table" in said
    assert "the grant of reading to @guests/identity/ann" in said
    (tmp_path / "more.yaml").write_text(
        "accepted:\n"
        + "".join(
            f'  - {{risk: not-possible, of: "{risk["message"].partition(" is not possible")[0]}", because: old,'
            ' until: "2099-01-01T00:00:00Z"}\n'
            for risk in risks
        )
    )
    assert enthesis("check", at=tmp_path).code == 0


def test_check_names_the_journeys_that_cannot_be_tried(enthesis: Program, tmp_path: Path) -> None:
    write_estate(tmp_path, {"estate.yaml": TEXT})
    ran = enthesis("check", at=tmp_path)
    assert "`enthesis prove` cannot try later: it is about another time, which cannot be tried now." in ran.out
    told = enthesis("check", "--format", "json", at=tmp_path).json["not_tried_live"]
    assert [one["journey"] for one in told] == ["later"]


def test_what_means_more_than_before_is_said_once(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path / "shop", {"estate.yaml": TEXT})

    def checked() -> str:
        return enthesis("check", at=folder, XDG_CACHE_HOME=str(tmp_path / "c")).out

    assert "said once" not in checked()  # it was never enacted, so nothing means anything else
    journal = Journal(open_store(folder, None), lambda: datetime(2026, 11, 1, tzinfo=UTC))
    journal.begin(Proposal("shop"), by="", because="")
    journal.close()
    first, second = checked(), checked()
    assert "admits the members of a/pool/p: 1 declared and those to come" in first
    assert "the journey by-pool (estate.yaml:23) is about each member of a/pool/p" in first
    assert "said once" not in second


def test_an_enactment_that_leaves_something_undone_is_no_success(enthesis: Program, tmp_path: Path) -> None:
    ceiling = '  - {name: none, over: callers, at: "@works/identity/ann", bars: {object: [read]}}\n'
    before = TEXT.replace("@guests/", "@works/").partition("roles:")[0]
    lines = [one for one in before.splitlines() if "database" not in one]
    text = "\n".join([*lines, "ceilings:", ceiling])
    folder = write_estate(tmp_path / "shop", {"estate.yaml": text})
    try:
        start_lab(enthesis, folder)
        ran = enthesis("enact", "--yes", at=folder)
        assert ran.code == 1 and "keeps no ceiling at a person" in ran.out, ran.out + ran.err
        assert enthesis("check", at=folder).code == 1
    finally:
        enthesis("lab", "stop", "--clean", at=folder)

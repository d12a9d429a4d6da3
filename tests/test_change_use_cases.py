"""The one way to a change of access, for commands and programs: its guards cannot be left out."""

import inspect
from collections.abc import Iterator
from dataclasses import MISSING, fields
from datetime import UTC, datetime
from pathlib import Path

import pytest

import enthesis
from enthesis.change.carrying_out import carry_out, permitted
from enthesis.change.cutoff import cut_off
from enthesis.change.enacting import EnactOptions, enact, resume
from enthesis.change.retiring import retiring_dangers
from enthesis.cleaning.retiring import DELETED, Standing
from enthesis.cli.retire import _RetireRun
from enthesis.model.errors import InvalidInput

from .conftest import Lab, Program, start_lab, write_estate

MANY = 12
ONE = "shop/identity/worker"
TEXT = f"""\
estate: shop
organisations: {{home: {{}}}}
providers: {{cloud: {{style: one-sided}}}}
accounts: {{shop: {{in: "@home", provider: cloud}}}}
resources:
  shop/bucket/safe: {{protected: true}}
{"".join(f"  shop/bucket/b{n}: {{}}{chr(10)}" for n in range(MANY))}
identities:
  {ONE}: {{kind: service-account, owner: o, purpose: p}}
  shop/identity/keeper: {{kind: service-account, owner: o, purpose: p}}
roles: {{reading: {{allows: {{bucket: [describe]}}}}}}
grants:
  - {{to: shop/identity/keeper, role: reading, at: shop/bucket/safe}}
{"".join(f"  - {{to: {ONE}, role: reading, at: shop/bucket/b{n}}}{chr(10)}" for n in range(MANY))}
journeys:
  it-lists: {{from: {{identity: {ONE}}}, attempt: describe shop/bucket/b1, expect: allowed}}
  it-leaves-the-safe: {{from: {{identity: {ONE}}}, attempt: describe shop/bucket/safe, expect: refused}}
"""


@pytest.fixture(scope="module")
def shop(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    folder = write_estate(tmp_path_factory.mktemp("use") / "shop", {"estate.yaml": TEXT})
    try:
        yield start_lab(enthesis, folder)
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def test_no_guard_can_be_left_out() -> None:
    for use_case, guards in (
        (carry_out, ("accepted",)),
        (cut_off, ("accepted",)),
        (permitted, ("agreed", "urgent")),
        (enact, ("how",)),
        (resume, ("how",)),
    ):
        told = inspect.signature(use_case).parameters
        assert all(told[guard].default is inspect.Parameter.empty for guard in guards), use_case
    (still_safe,) = (field for field in fields(EnactOptions) if field.name == "still_safe")
    assert still_safe.default is MISSING and still_safe.default_factory is MISSING


def test_a_program_enacts_what_it_has_read_and_accepted(shop: Lab) -> None:
    change = enthesis.propose(shop.folder)
    assert [danger.name for danger in change.proposal.dangers] == ["protected"]
    with pytest.raises(InvalidInput, match="not accepted: protected"):
        enthesis.enact(change, accepted=())
    assert len(enthesis.propose(shop.folder).proposal.steps) == len(change.proposal.steps), "nothing was done"
    done = enthesis.enact(change, accepted=["protected"], because="a test")
    assert done.whole and done.number == 1
    assert not enthesis.propose(shop.folder).proposal.steps
    assert all(proof.met for proof in enthesis.prove(shop.folder))
    with pytest.raises(InvalidInput, match="unknown journey"):
        enthesis.prove(shop.folder, ["it-list"])


def test_a_cut_off_stops_on_the_same_dangers(enthesis: Program, shop: Lab) -> None:
    assert enthesis("enact", "--yes", "--accept", "protected", at=shop.folder).code == 0
    before = (shop.folder / "estate.yaml").read_text()
    told = enthesis("cutoff", ONE, "--format", "json", at=shop.folder)
    assert told.code == 1 and [danger["name"] for danger in told.json["dangers"]] == ["many-removed"]
    refused = enthesis("cutoff", ONE, "--yes", at=shop.folder)
    assert refused.code == 2 and "not accepted: many-removed" in refused.err and "--accept many-removed" in refused.err
    assert (shop.folder / "estate.yaml").read_text() == before
    assert enthesis("propose", "--expect-none", at=shop.folder).code == 0, "nothing was withdrawn"
    unknown = enthesis("cutoff", ONE, "--yes", "--accept", "many", at=shop.folder)
    assert unknown.code == 2 and "no such danger" in unknown.err
    done = enthesis("cutoff", ONE, "--yes", "--accept", "many-removed", at=shop.folder)
    assert done.code == 0, done.err
    assert enthesis("cutoff", "--check", ONE, at=shop.folder).code == 0


def test_retiring_stops_on_the_same_dangers() -> None:
    estate = enthesis.parse_estate(TEXT)
    ready = [Standing(f"key {number}", ONE, "access-key", to=DELETED) for number in range(MANY)]
    now = datetime(2026, 12, 1, tzinfo=UTC)
    (found,) = retiring_dangers(estate, estate, ready, "", now)
    assert found.name == "many-removed"
    assert retiring_dangers(estate, estate, ready[:2], "", now) == ()


def test_keys_that_are_deleted_at_once_are_accepted_by_name(tmp_path: Path) -> None:
    names = [f"key{number}" for number in range(MANY)]
    keys = "".join(f"  {name}: {{of: {ONE}, form: access-key, created: 2026-01-01T00:00:00Z, disabled: true}}\n"
                   for name in names)  # fmt: skip
    stages = "".join(f"  {name}: {{stage: disabled, since: 2026-02-01T00:00:00Z}}\n" for name in names)
    folder = write_estate(tmp_path / "shop", {"estate.yaml": f"{TEXT}credentials:\n{keys}retiring:\n{stages}"})
    work = _RetireRun(folder, enthesis.read_estate(folder), "text", None, ())
    work.found = [Standing(name, ONE, "access-key", "disabled", does="delete it", to=DELETED) for name in names]
    before = (folder / "estate.yaml").read_text()
    with pytest.raises(InvalidInput, match="not accepted: many-removed"):
        work.next(yes=True)
    assert (folder / "estate.yaml").read_text() == before

"""What a pipeline service keeps for its projects: surveyed, proposed, made, changed and withdrawn."""

import json
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from enthesis.connectors.http import Client
from enthesis.connectors.pipeline import AdministeredPipeline
from enthesis.files.folder import read_texts
from enthesis.model.errors import MovedAway, UnexpectedAnswer
from enthesis.proposals.effects import as_estate, live_of
from enthesis.proposals.steps import CHANGE, MAKE, REMOVE, Step
from enthesis.surveys.statements import Surveyed

from .conftest import Lab, Program, start_lab, write_estate

WHOLE = """
estate: orchard
organisations: {orchard: {}}
providers: {lowland: {style: one-sided}}
accounts: {press: {in: "@orchard", provider: lowland}}
issuers: {kiln: {kind: oidc, url: https://kiln.example}}
resources: {press/bucket/labels: {}}
identities: {press/identity/printer: {kind: service-account}}
trusts:
  - {of: press/identity/printer, admits: {token: kiln, claims: {sub: labels/main, aud: lowland}}}
roles: {printing: {allows: {object: [read, write]}}}
grants: [{to: press/identity/printer, role: printing, at: press/bucket/labels}]
pipeline_access:
  press-way: {at: kiln, of: press/identity/printer, admits: {sub: labels/main}}
journeys:
  labels-are-printed:
    from: {token: kiln, claims: {sub: labels/main, aud: lowland}}
    through: [press/identity/printer]
    attempt: write press/bucket/labels/object/x
    expect: allowed
"""
WAY = "  press-way: {at: kiln, of: press/identity/printer, admits: {sub: labels/main}}\n"
KEPT = {"name": "other", "at": "kiln", "of": "press/identity/printer", "admits": {"sub": "crates/main"}}


@pytest.fixture
def press(enthesis: Program, tmp_path: Path) -> Iterator[Lab]:
    place = write_estate(tmp_path / "press", {"estate.yaml": WHOLE})
    try:
        yield start_lab(enthesis, place)
    finally:
        enthesis("lab", "stop", "--clean", at=place)


@contextmanager
def service(lab: Lab) -> Iterator[AdministeredPipeline]:
    """The pipeline service of the lab, as its administrators reach it."""
    client = Client("kiln", lab.services["kiln"], authority=lab.state / "authority.pem")
    try:
        yield AdministeredPipeline("kiln", client, lab.owner)
    finally:
        client.close()


def kept_there(lab: Lab) -> list[Mapping[str, Any]]:
    with service(lab) as kiln:
        return [one.body for one in kiln.survey(("kiln",)).objects]


def step(action: str, body: dict[str, Any] | None, mark: str = "orchard", **more: Any) -> Step:
    return Step(action, "kiln", "pipeline_access", "kiln", "a test", mark, body, **more)


def test_it_is_made_changed_and_withdrawn_with_everything_else(enthesis: Program, press: Lab) -> None:
    at = press.folder
    proposed = enthesis("propose", at=at)
    assert "the pipeline access press-way at kiln to press/identity/printer" in proposed.out
    refused = enthesis("prove", "--near-misses", "press-way", at=at)
    assert refused.code == 1 and "no pipeline access of that name" in refused.out  # the service does not have it yet
    assert enthesis("enact", "--yes", at=at).code == 0
    assert enthesis("propose", "--expect-none", at=at).code == 0
    assert enthesis("prove", "--near-misses", "press-way", at=at).code == 0

    files = at / "estate.yaml"
    files.write_text(WHOLE.replace(WAY, WAY.replace("labels/main}", "[labels/main, crates/main]}")))
    wider = enthesis("propose", at=at)
    assert wider.code == 0 and "admits from {sub: labels/main} to {sub: [labels/main, crates/main]}" in wider.out
    assert enthesis("enact", "--yes", at=at).code == 0

    files.write_text(WHOLE.replace("pipeline_access:\n" + WAY, ""))
    left = enthesis("propose", at=at)
    assert "left behind" in left.out and "press-way" in left.out
    assert enthesis("enact", "--yes", "--prune", at=at).code == 0
    assert not kept_there(press)
    assert enthesis("propose", "--expect-none", at=at).code == 0


def test_what_others_keep_there_is_told_surveyed_adopted_and_cut_off(enthesis: Program, press: Lab) -> None:
    at = press.folder
    assert enthesis("enact", "--yes", at=at).code == 0
    with service(press) as kiln:
        kiln.change(step(MAKE, KEPT, mark=""), {})
    told = enthesis("propose", at=at)
    assert "made by others" in told.out and "the pipeline access other at kiln" in told.out
    assert enthesis("survey", "--out", "live.jsonl", at=at).code == 0
    lines = [json.loads(one) for one in (at / "live.jsonl").read_text().splitlines()]
    assert {one["name"] for one in lines if one.get("section") == "pipeline_access"} == {"press-way", "other"}
    assert "other" in enthesis("card", "press/identity/printer", "--survey", "live.jsonl", at=at).out
    assert enthesis("survey", "adopt", "kiln", "--yes", at=at).code == 0
    assert "other: {at: kiln" in (at / "estate.yaml").read_text()
    assert enthesis("propose", "--expect-none", at=at).code == 0

    cut = enthesis("cutoff", "press/identity/printer", "--yes", at=at)
    assert cut.code == 0 and cut.out.count("remove the pipeline access") == 2, cut.out
    assert not kept_there(press)
    after = enthesis("propose", "--expect-none", at=at)
    assert "pipeline access" not in after.out  # the files have neither any more


def test_a_step_that_comes_too_late_or_again_overwrites_nothing(press: Lab) -> None:
    with service(press) as kiln:
        made = kiln.change(step(MAKE, KEPT), {})
        assert made == kiln.change(step(MAKE, KEPT), {})  # the answer to the first was lost
        with pytest.raises(MovedAway):
            kiln.change(step(MAKE, {**KEPT, "admits": {"sub": "else"}}), {})
        wider = {**KEPT, "admits": {"sub": ["crates/main", "labels/main"]}}
        changed = kiln.change(step(CHANGE, wider, id=made.id, etag=made.etag), {})
        assert changed.id == made.id and changed.etag != made.etag
        for late in (step(CHANGE, KEPT, id=made.id, etag=made.etag), step(REMOVE, None, id=made.id, etag=made.etag)):
            with pytest.raises(MovedAway):
                kiln.change(late, {})
        assert [one.body for one in kiln.survey(("kiln",)).objects] == [wider]
        assert kiln.in_force(step(CHANGE, wider, id=made.id), changed)
        gone = step(REMOVE, None, id=made.id, etag=changed.etag)
        kiln.change(gone, {})
        kiln.change(gone, {})  # it is gone already
        assert kiln.in_force(gone, kiln.change(gone, {}))
        with pytest.raises(MovedAway):
            kiln.change(step(CHANGE, wider, id=made.id, etag=changed.etag), {})
        nonsense: list[dict[str, Any]] = [{"admits": {}}, {"admits": {"sub": {"like": "x"}}}, {"of": ""}, {"more": "x"}]
        for wrong in nonsense:
            with pytest.raises(UnexpectedAnswer):
                kiln.change(step(MAKE, {**KEPT, **wrong}), {})


def test_issuers_that_nobody_asked_count_as_described() -> None:
    estate = read_texts({"estate.yaml": WHOLE}).estate
    assert estate is not None
    of_cloud = Surveyed("lowland", ("press",))
    described = live_of(estate, [of_cloud])
    assert [one.body["name"] for one in described.values()] == ["press-way"]
    asked = live_of(estate, [of_cloud, Surveyed("kiln", ("kiln",))])
    assert not asked and not as_estate(estate, asked).pipeline_access


def test_without_a_key_runs_reach_what_their_own_tokens_do(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path / "press", {"estate.yaml": WHOLE})
    found = enthesis("reach", "--from", "press-way", at=folder).out
    assert "press/bucket/labels/object/…" in found and "sub labels/main" in found, found
    other = WHOLE.replace(WAY, WAY.replace("labels/main", "else"))
    (folder / "estate.yaml").write_text(other)
    assert "can reach no place" in enthesis("reach", "--from", "press-way", at=folder).out

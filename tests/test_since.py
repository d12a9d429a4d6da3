"""What is told to be changed or removed since the last enactment: just what others did, on this live side, once."""

import json
import ssl
from collections.abc import Iterator
from pathlib import Path
from random import Random

import httpx
import pytest

from enthesis.proposals.drift import LastEnacted, drift
from enthesis.proposals.steps import MAKE, Step
from enthesis.surveys.statements import LiveObject, Surveyed

from .conftest import LONG, Program, start_lab, write_estate

ESTATE = """
estate: orchard
organisations: {orchard: {}}
providers: {lowland: {style: one-sided}}
accounts: {press: {in: "@orchard", provider: lowland}}
resources: {press/bucket/labels: {}, press/host/one: {}}
identities: {press/identity/printer: {kind: instance-role}}
roles: {printing: {allows: {object: [read, write]}}}
grants: [{to: press/identity/printer, role: printing, at: press/bucket/labels}]
attachments: [{what: press/host/one, runs_as: press/identity/printer}]
"""
ONE = LiveObject("lowland", "grants", "press", "new", '"1"', "orchard", {"to": "a", "role": "r", "at": "b"})


def test_only_what_is_gone_from_this_side_is_told_and_once() -> None:
    step = Step(MAKE, "lowland", "grants", "press", "a grant", "orchard", dict(ONE.body))
    known = {("lowland", f"old {n}"): LastEnacted(step, '"1"', "", "here") for n in (1, 2)}
    here = Surveyed("lowland", ("press",), side="here")
    assert drift(known, [here], lambda step, at: f"whoever took {at}").gone == (
        "the grant of r to a at b (press): removed by whoever took old 2",
    )
    assert not drift(known, [Surveyed("lowland", ("press",), (ONE,), side="here")]).gone  # it is in place again
    assert not drift(known, [Surveyed("lowland", ("press",), side="elsewhere")]).gone
    assert drift(known, [Surveyed("lowland", ("press",))]).gone  # of which nobody says which side it is


@pytest.mark.parametrize("seed", range(20) if LONG else [3])
def test_nothing_false_is_told_after_any_sequence(enthesis: Program, tmp_path: Path, seed: int) -> None:
    folder, rng = write_estate(tmp_path / "orchard", {"estate.yaml": ESTATE}), Random(seed)
    removed: set[str] = set()
    enacted = False
    try:
        start_lab(enthesis, folder)
        for _ in range(8):
            deed = rng.choice(("enact", "enact", "clean", "remove", "restart", "clock"))
            if deed == "enact":
                assert enthesis("enact", "--yes", at=folder).code == 0
                removed, enacted = set(), True
            elif deed == "clean":
                enthesis("lab", "stop", "--clean", at=folder)
                start_lab(enthesis, folder)
                removed, enacted = set(), False
            elif deed == "restart":
                enthesis("lab", "stop", at=folder)
                start_lab(enthesis, folder)
            elif deed == "clock":
                enthesis("lab", "clock", "--forward", "2h", at=folder)
            elif enacted and not removed:
                removed = {next(_taken_away(folder, rng.choice(("grants", "attachments"))))}
            said = enthesis("propose", "--format", "json", at=folder).json
            assert len(said["gone_since"]) == len(removed) and not said["changed_since"], (deed, said["gone_since"])
            assert all(one in said["gone_since"][0] for one in removed)
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def _taken_away(folder: Path, collection: str) -> Iterator[str]:
    """Takes the statement of a collection away at the lab, as somebody else would; the word that it is told by."""
    state = folder / ".enthesis" / "lab"
    described = json.loads((state / "services.json").read_text())
    url = next(one["url"] for one in described["services"] if one["name"] == "lowland")
    listed = json.loads((state / "administrators.json").read_text())
    session = next(one["session"] for one in listed if one.get("holder") == "press")
    headers = {"Authorization": f"Bearer {session}", "If-Match": "*"}
    with httpx.Client(verify=ssl.create_default_context(cafile=described["authority"]), trust_env=False) as http:
        place = f"{url}/administration/{collection}"
        (found,) = http.get(place, headers=headers).json()["items"]
        assert http.delete(f"{place}/{found['id']}", headers=headers).status_code == 204
    yield collection.removesuffix("s")

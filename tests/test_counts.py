"""Lists of none, one and two: the same statement in the files, on the way out, at the lab, in a survey, and back."""

import json
from pathlib import Path
from typing import Any

import pytest

from enthesis.files.folder import read_folder, read_texts
from enthesis.files.writing import estate_text, plain_estate
from enthesis.proposals.wanted import wanted
from enthesis.surveys.statements import normalised

from .conftest import ACCEPTED, Program, write_estate

IDENTITIES = [f"a/identity/i{number}" for number in range(3)]


def some(count: int, values: list[Any], *, bare: bool) -> Any:
    """So many of the values; one of them as it is, or as a list of one."""
    return values[0] if bare and count == 1 else values[:count]


def listing(count: int, *, bare: bool) -> dict[str, Any]:
    """An estate in which every list has so many elements."""
    more = {"includes": ["plain", "further"][:count]} if count else {}
    tests = some(max(count, 1), ["x", "y"], bare=bare)
    members = some(count, IDENTITIES, bare=False)
    excepts = {"except": some(count, [IDENTITIES[0], {"glob": "a/identity/*"}], bare=bare)} if count else {}
    runs_as = some(max(count, 1), IDENTITIES, bare=bare)
    networks = some(max(count, 1), ["10.0.0.0/8", "192.0.2.0/24"], bare=bare)
    return {
        "estate": "counts",
        "organisations": {"o": {"units": ["one", "two"][:count]}},
        "providers": {"north": {"style": "one-sided"}},
        "accounts": {"a": {"in": "@o", "provider": "north", "labels": dict([("tier", "x"), ("coast", "y")][:count])}},
        "issuers": {"forge": {"kind": "oidc", "audiences": ["north", "south"][:count]}},
        "resources": {
            "a/bucket/b": {"labels": dict([("tier", "x"), ("coast", "y")][:count])},
            "a/host/h": {"runs_as": runs_as} if count else {},
            "a/host/g": {},
        },
        "identities": {
            one: {"kind": "instance-role", "labels": dict([("tier", "x"), ("coast", "y")][:count])}
            for one in IDENTITIES
        },
        "groups": {
            "a/group/listed": {"members": members},
            "a/group/ruled": {"where": {"kind": "instance-role", "labels": dict([("tier", "x"), ("c", "y")][:count])}},
            "@o/group/all": {"members": members},
        },
        "roles": {
            "plain": {"allows": {"object": some(max(count, 1), ["read", "write"], bare=bare)}},
            "further": {"allows": {"bucket": "*"}},
            "both": {"allows": dict([("key", "encrypt"), ("queue", ["send"])][: max(count, 1)]), **more},
        },
        "trusts": [
            {"of": IDENTITIES[0], "admits": {"token": "forge", "claims": {"sub": tests, "aud": {"not": tests}}}},
            {"of": IDENTITIES[1], "admits": {"attached": True}, "when": {"network": {"within": networks}}},
            {"of": IDENTITIES[2], "admits": {"group": "a/group/listed"}, "when": {"reference": tests}},
        ],
        "grants": [
            {"to": "a/group/listed", "role": "both", "at": "a", "when": {"caller.labels.tier": tests} if count else {}},
            {"to": "@o/group/all", "role": "plain", "at": "@o"},
            {"to": IDENTITIES[0], "role": "further", "at": "a/bucket/b"},
        ],
        "ceilings": [
            {"name": "c", "over": "targets", "at": "a", "bars": {"object": some(max(count, 1), ["delete", "write"],
             bare=bare)}, **excepts, "when": {"network": {"not": {"within": networks}}} if count else {}},
        ],
        "attachments": [{"what": "a/host/g", "runs_as": runs_as}],
    }  # fmt: skip


@pytest.mark.parametrize(("count", "bare"), [(0, False), (1, True), (1, False), (2, False)])
def test_a_list_of_any_length_is_the_same_everywhere(enthesis: Program, tmp_path: Path, count: int, bare: bool) -> None:
    folder = write_estate(tmp_path / "estate", {"estate.yaml": json.dumps(listing(count, bare=bare))})
    estate = read_folder(folder).estate
    assert estate is not None
    again = read_texts({"estate.yaml": estate_text(estate)})
    assert again.estate == estate and plain_estate(estate) == plain_estate(again.estate)
    try:
        assert enthesis("lab", "start", at=folder).code == 0
        enacted = enthesis("enact", "--yes", *ACCEPTED, "--quiet", at=folder)
        assert enacted.code == 0, enacted.err
        left = enthesis("propose", "--expect-none", at=folder)
        assert left.code == 0, left.out
        assert enthesis("survey", "--out", str(tmp_path / "live.jsonl"), at=folder).code == 0
    finally:
        enthesis("lab", "stop", "--clean", at=folder)
    lines = [json.loads(one) for one in (tmp_path / "live.jsonl").read_text().splitlines()]
    found = [told(one["section"], one["live"]["holder"], one) for one in lines if "live" in one]
    ours = [told(one.collection, one.holder, one.body) for one in wanted(estate)[0]]
    assert sorted(found) == sorted(ours)


def told(section: str, holder: str, body: dict[str, Any]) -> str:
    """A statement as it is compared: without what a survey adds, each holder's roles by the name in the files."""
    kept = {name: value for name, value in body.items() if name not in ("section", "live", "held_by", "provider")}
    for name in ("role", "name"):
        if section in ("roles", "grants") and isinstance(kept.get(name), str):
            kept[name] = kept[name].removeprefix(f"{holder} ")
    if section == "roles" and "includes" in kept:
        listed = [kept["includes"]] if isinstance(kept["includes"], str) else kept["includes"]
        kept["includes"] = [one.removeprefix(f"{holder} ") for one in listed]
    return json.dumps([section, holder, normalised(section, kept)], sort_keys=True)

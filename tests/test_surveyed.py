"""What a survey says stands in place of what an estate describes, wherever the survey has looked."""

import json
from collections.abc import Mapping
from typing import Any

import pytest

from enthesis.access.compiling import compile_estate
from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue, read_texts
from enthesis.model.estate import Estate
from enthesis.surveys.survey import VERSION, InvalidSurvey, beside, read_survey

TEXT = """\
estate: x
organisations: {works: {}}
providers: {north: {style: two-sided}, south: {style: one-sided}}
accounts:
  left: {in: "@works", provider: north}
  theirs: {in: "@works", provider: north, administered_by: others}
  right: {in: "@works", provider: south}
resources:
  left/bucket/b: {}
  left/bucket/gone: {}
  right/host/z: {}
  left/host/h: {runs_as: [left/identity/a, left/identity/b]}
  right/cluster/k: {}
  right/cluster/k/namespace/one: {}
  right/cluster/k/namespace/two: {}
identities:
  left/identity/a: {kind: service-account}
  left/identity/b: {kind: service-account}
  theirs/identity/t: {kind: service-account}
  right/identity/r: {kind: service-account}
  right/cluster/k/namespace/one/identity/j: {kind: cluster-service-account}
  right/cluster/k/namespace/two/identity/j: {kind: cluster-service-account}
  "@works/identity/p": {kind: person}
groups:
  left/group/g: {members: [left/identity/a, left/identity/b, right/identity/r]}
  "@works/group/w": {members: [left/identity/b, "@works/identity/p"]}
roles: {r: {allows: {object: [read]}}}
trusts:
  - {of: left/identity/b, admits: {identity: left/identity/a}}
  - {of: theirs/identity/t, admits: {identity: left/identity/b}}
  - {of: right/identity/r, admits: {identity: left/identity/a}}
grants:
  - {to: left/identity/a, role: r, at: left/bucket/b}
  - {to: left/identity/a, role: r, at: theirs, held_by: theirs}
  - {to: left/identity/b, role: r, at: theirs, held_by: theirs}
  - {to: "@works/identity/p", role: r, at: "@works"}
  - {to: right/identity/r, role: r, at: right}
ceilings:
  - {name: below, over: callers, at: left, bars: {object: [write]}}
  - {name: top, over: callers, at: "@works", bars: {object: [write]}}
attachments:
  - {what: {glob: left/**}, runs_as: left/identity/b}
  - {what: right/host/z, runs_as: right/identity/r}
credentials:
  kept: {of: left/identity/a, form: access-key, fingerprint: abc, held_in: left/host/h}
  retired: {of: left/identity/a, form: access-key}
  persons: {of: "@works/identity/p", form: password}
  south: {of: right/identity/r, form: access-key}
"""
NORTH = {"what": "provider", "name": "north", "at": "", "holders": ["left", "@works"], "keys": True}
SOUTH = {"what": "provider", "name": "south", "at": "", "holders": ["right", "@works"], "keys": False}
LEFT = (
    {"section": "identities", "address": "left/identity/a", "kind": "service-account"},
    {"section": "resources", "address": "left/bucket/b"},
    {"section": "resources", "address": "left/host/h"},
    {"section": "credentials", "name": "c-1", "of": "left/identity/a", "form": "access-key", "fingerprint": "abc",
     "expires": "2030-01-01T00:00:00Z"},
    {"section": "credentials", "name": "south", "of": "left/identity/a", "form": "access-key"},
)  # fmt: skip


def asked(of: list[Mapping[str, Any]], *records: Mapping[str, Any]) -> Estate:
    """The estate beside a survey of these systems with these records."""
    reading = read_texts({"estate.yaml": TEXT})
    assert reading.estate is not None, reading.errors
    header = {"enthesis": "survey", "version": 2, "taken": "2026-11-24T00:00:00Z", "of": of}
    lines = [json.dumps(one) for one in (header, *records, {"end": True, "complete": True})]
    found = beside(reading.estate, read_survey(lines, "live", packaged_catalogue(TreeCache(None))))
    compile_estate(found)  # whatever is gone, what is left hangs together
    return found


def test_what_was_looked_at_and_is_not_there_is_gone() -> None:
    found = asked([NORTH], *LEFT)
    assert [one for one in found.identities if one.startswith("left")] == ["left/identity/a"]
    assert {"theirs/identity/t", "right/identity/r", "@works/identity/p"} <= set(found.identities)
    assert "left/bucket/gone" not in found.resources and "right/cluster/k" in found.resources
    assert {one.of for one in found.trusts} == {"right/identity/r"}  # that of `theirs` admitted who is gone
    assert [(one.to, one.at) for one in found.grants] == [
        ("left/identity/a", "theirs"), ("@works/identity/p", "@works"), ("right/identity/r", "right"),
    ]  # fmt: skip
    assert "left/group/g" not in found.groups
    assert found.groups["@works/group/w"].members == ("@works/identity/p",)
    assert [one.name for one in found.ceilings] == ["top"]
    assert [one.what for one in found.attachments] == ["right/host/z"]


def test_keys_are_those_of_the_live_side_under_the_names_that_the_files_have() -> None:
    credentials = asked([NORTH], *LEFT).credentials
    assert set(credentials) == {"kept", "persons", "south", "south of left/identity/a"}
    assert credentials["kept"].expires is not None and credentials["kept"].held_in == ("left/host/h",)
    assert credentials["south"].of == "right/identity/r"
    unasked = asked([{**NORTH, "keys": False}], *LEFT[:3]).credentials
    assert set(unasked) == {"kept", "retired", "persons", "south"}


def test_what_a_boundary_holds_is_replaced_only_where_all_of_it_was_looked_at() -> None:
    both = asked([NORTH, SOUTH], *LEFT)
    assert [one.name for one in both.ceilings] == []
    assert [(one.to, one.at) for one in both.grants] == [("left/identity/a", "theirs")]
    assert "@works/group/w" not in both.groups and "@works/identity/p" in both.identities
    assert "right/cluster/k/namespace/one/identity/j" in both.identities  # no cluster was looked at


def test_a_cluster_is_replaced_as_far_as_its_namespaces_were_looked_at() -> None:
    whole = {"what": "cluster", "name": "right/cluster/k", "at": ""}
    assert not [one for one in asked([whole]).identities if "namespace" in one]
    part = asked([{**whole, "namespaces": ["one"]}]).identities
    assert [one for one in part if "namespace" in one] == ["right/cluster/k/namespace/two/identity/j"]
    assert "right/identity/r" in part


def test_live_statements_keep_the_reasons_that_the_files_give() -> None:
    grant = {"section": "grants", "to": "@works/identity/p", "role": "@works r", "at": "@works", "held_by": "@works"}
    role = {"section": "roles", "name": "@works r", "allows": {"object": ["read"]}}
    text = TEXT.replace('role: r, at: "@works"}', 'role: r, at: "@works", because: she asked}')
    reading = read_texts({"estate.yaml": text})
    assert reading.estate is not None
    header = {"enthesis": "survey", "version": 2, "taken": "2026-11-24T00:00:00Z", "of": [NORTH, SOUTH]}
    lines = [json.dumps(one) for one in (header, role, grant, {"end": True, "complete": True})]
    found = beside(reading.estate, read_survey(lines, "live", packaged_catalogue(TreeCache(None))))
    assert [one.because for one in found.grants if one.at == "@works"] == ["she asked"]


@pytest.mark.parametrize(
    "of",
    [
        1.5,
        "north",
        {"name": "north"},
        ["north"],
        [{"name": "north", "holders": "left"}],
        [{"name": "x", "namespaces": 2}],
    ],
)
def test_a_header_that_does_not_say_what_was_looked_at_is_refused(of: object) -> None:
    header = {"enthesis": "survey", "version": VERSION, "taken": "2026-01-01T00:00:00Z", "of": of}
    with pytest.raises(InvalidSurvey, match="line 1 of f"):
        read_survey([json.dumps(header)], "f", packaged_catalogue(TreeCache(None)))


def test_a_survey_of_an_account_that_cannot_be_called_so_is_refused() -> None:
    header = {"enthesis": "survey", "version": VERSION, "taken": "2026-01-01T00:00:00Z"}
    account = {"section": "accounts", "name": "a//b", "in": "@works", "provider": "north"}
    with pytest.raises(InvalidSurvey, match="line 2 of f: `a//b` cannot be a name"):
        read_survey([json.dumps(header), json.dumps(account)], "f", packaged_catalogue(TreeCache(None)))

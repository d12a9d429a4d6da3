"""Cards: what one page says of a thing is so, and says what is half, ended, or cannot be."""

from collections.abc import Iterable
from datetime import UTC, datetime

from enthesis.access.compiling import compile_estate
from enthesis.access.future_members import NOBODY
from enthesis.chains.access_graph import Web
from enthesis.chains.cards import Card, card
from enthesis.files.folder import read_texts

NOW = datetime(2026, 11, 24, tzinfo=UTC)
TEXT = """\
estate: cards
organisations: {works: {}}
providers: {north: {style: two-sided}, south: {style: one-sided}}
accounts:
  a: {in: "@works", provider: north}
  b: {in: "@works", provider: north}
  c: {in: "@works", provider: south}
  d: {in: "@works", provider: south}
issuers: {forge: {kind: oidc}}
resources:
  a/host/h: {runs_as: [a/identity/i, a/identity/off, a/identity/untrusted]}
  a/key/k: {managed_by: provider}
  a/key/idle: {}
  a/bucket/s: {encrypted_by: a/key/k}
  a/secret/t: {encrypted_by: a/key/k}
  a/database/d: {shared_login: "on"}
  a/registry/r: {}
  b/bucket/b: {}
  c/bucket/b: {}
  d/bucket/b: {}
identities:
  a/identity/i: {kind: instance-role}
  a/identity/off: {kind: instance-role, disabled: true}
  a/identity/untrusted: {kind: instance-role}
  b/identity/j: {kind: service-account}
  c/identity/k: {kind: service-account}
roles: {reading: {allows: {object: [read]}}, taking: {allows: {identity: [take-on]}}, all: {allows: {"*": "*"}}}
trusts:
  - {of: a/identity/i, admits: {attached: true}, until: "2020-01-01T00:00:00Z", because: it was for the move}
  - {of: a/identity/i, admits: {attached: a/host/h}}
  - {of: a/identity/off, admits: {attached: true}}
grants:
  - {to: a/identity/i, role: reading, at: b/bucket/b, held_by: a}
  - {to: a/identity/i, role: taking, at: b/identity/j, held_by: a, because: for the nightly copy}
  - {to: a/identity/i, role: reading, at: a/bucket/s, until: "2020-01-01T00:00:00Z"}
  - {to: c/identity/k, role: reading, at: d/bucket/b, held_by: d}
  - {to: c/identity/k, role: reading, at: c/bucket/b}
credentials:
  old: {of: a/identity/i, form: access-key, expires: "2020-01-01T00:00:00Z", held_in: a/host/h}
  hand: {of: a/identity/i, form: static-token}
pipeline_access: {way: {at: forge, of: a/identity/i, admits: {sub: main}, credential: hand}}
journeys:
  by-hand: {from: {credential: hand}, attempt: read a/bucket/s/object/o, expect: refused}
"""
OTHER_HALF = "  - {to: a/identity/i, role: reading, at: b/bucket/b, held_by: b}\n"


def made(name: str, text: str = TEXT, dangling: Iterable[str] = ()) -> Card:
    reading = read_texts({"estate.yaml": text})
    assert reading.estate is not None, reading.errors
    found = card(Web(compile_estate(reading.estate), NOW.timestamp(), NOBODY), name, NOW, dangling)
    assert found is not None
    return found


def said(name: str, head: str, text: str = TEXT) -> list[str]:
    """What a card says under a heading."""
    return [item.text for part in made(name, text).parts if part.head == head for item in part.items]


def test_only_identities_that_a_resource_can_take_on_count_as_acting() -> None:
    about = said("a/host/h", "what it is")
    assert "runs as a/identity/i" in about
    assert "runs as a/identity/off: cannot act as it: it is disabled" in about
    assert "runs as a/identity/untrusted: cannot act as it: no trust of it admits what runs as it here" in about
    assert not any("acts as one of" in one for one in about)
    trusted = TEXT.replace("trusts:\n", "trusts:\n  - {of: a/identity/untrusted, admits: {attached: true}}\n")
    assert "so it acts as one of 2, and says each time as which" in said("a/host/h", "what it is", trusted)


def test_half_a_crossing_is_said_to_be_half() -> None:
    may = said("a/identity/i", "what it may do")
    assert may[0].startswith("half, and nothing without the half of b: reading at b/bucket/b")
    assert may[1].startswith("half, and nothing without the half of b: taking at b/identity/j")
    assert may[1].endswith("because for the nightly copy")
    assert "(ended)" in may[2] and not may[2].startswith("half")
    assert not any(one.startswith("half") for one in said("c/identity/k", "what it may do"))  # one side decides there
    whole = TEXT.replace("grants:\n", "grants:\n" + OTHER_HALF)
    assert [one.startswith("half") for one in said("a/identity/i", "what it may do", whole)] == [
        False,
        False,
        True,
        False,
    ]
    trusted = TEXT.replace("trusts:\n", "trusts:\n  - {of: b/identity/j, admits: {identity: a/identity/i}}\n")
    assert not said("a/identity/i", "what it may do", trusted)[1].startswith("half")


def test_keys_databases_and_registries_say_what_is_asked_of_them() -> None:
    key = said("a/key/k", "what it is")
    assert "managed by the provider: no caller of another account can use it" in key
    assert "encrypts a/bucket/s, a/secret/t" in key
    assert {"managed by its account", "encrypts nothing that is described"} <= set(said("a/key/idle", "what it is"))
    assert "shared login on" in said("a/database/d", "what it is")
    assert "whether its shared login is on is not said" in said("a/registry/r", "what it is")


def test_credentials_and_what_is_stored_for_pipelines_have_cards() -> None:
    old = said("old", "what it is")
    assert {"of a/identity/i", "expired", "expired 2020-01-01T00:00:00Z", "held in a/host/h"} <= set(old)
    assert "has no end" in said("hand", "what it is")
    assert said("hand", "journeys that start with it") == ["the journey by-hand, expected refused"]
    assert said("hand", "stored for pipelines") == ["way, at forge"]
    assert said("way", "which runs may use it") == ["sub main"]
    assert "by the credential hand" in said("way", "what it is")


def test_ends_reasons_and_what_starts_from_a_key_are_on_the_page() -> None:
    trusts = said("a/identity/i", "who can take it on")
    assert trusts[0].endswith("until 2020-01-01T00:00:00Z (ended), because it was for the move")
    assert "the journey by-hand, expected refused" in said("a/identity/i", "referenced by")
    bound = said("reading", "who has it, and where")
    assert "a/identity/i at a/bucket/s, held by a, until 2020-01-01T00:00:00Z (ended)" in bound


def test_what_dangles_on_the_live_side_is_on_the_page_of_what_it_names() -> None:
    found = made("a/bucket/s", dangling=["a: the grant of reading to gone at a/bucket/s; remove it", "b: other"])
    assert [item.text for item in found.parts[-1].items] == ["a: the grant of reading to gone at a/bucket/s; remove it"]
    assert found.parts[-1].head == "left dangling on the live side"


def test_star_is_said_to_leave_out_power_verbs() -> None:
    assert said("all", "what it allows") == ["everything but power verbs on every kind"]


def test_only_registries_and_databases_have_a_shared_login() -> None:
    wrong = TEXT.replace("a/secret/t: {encrypted_by: a/key/k}", 'a/secret/t: {shared_login: "on"}')
    (found,) = read_texts({"estate.yaml": wrong}).errors
    assert found.code == "wrong-kind" and "a registry or database" in found.expected


def test_a_condition_whose_outcome_is_known_is_none() -> None:
    """Of a ceiling or grant that asks for the provider, a label or the caller, a card says what comes of it."""
    told = "who may do what here, or in it, directly"
    ceiling = 'ceilings: [{name: n, over: targets, at: "@works", bars: {object: [read]}, when: {%s}}]\ncredentials:\n'

    def reading(when: str) -> list[str]:
        text = TEXT.replace("credentials:\n", ceiling % when)
        return [one for one in said("c/bucket/b", told, text) if "read" in one]

    assert reading("provider: south") == reading("caller.account: c") == []
    assert reading("provider: north") == ["c/identity/k: on an object in it read"]
    assert reading("network: {within: 10.0.0.0/8}") == ["c/identity/k: on an object in it read (on a condition)"]

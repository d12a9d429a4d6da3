"""Who gains and who loses what between two versions, each kind of change on its own, exactly."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

import pytest

from enthesis.chains.differences import Gain, difference
from enthesis.files.folder import read_texts
from enthesis.model.estate import Estate

NOW = datetime(2026, 11, 24, tzinfo=UTC).timestamp()
BEFORE = """\
estate: versions
organisations: {ours: {}, theirs: {outside: true}}
providers: {north: {style: two-sided}}
accounts:
  a: {in: "@ours", provider: north}
  b: {in: "@ours", provider: north}
issuers: {forge: {kind: oidc}}
resources:
  a/bucket/s: {}
  a/host/h: {runs_as: a/identity/run}
  b/bucket/t: {}
identities:
  a/identity/i: {kind: service-account}
  a/identity/run: {kind: instance-role}
  b/identity/j: {kind: service-account}
  "@ours/identity/p": {kind: person}
groups: {a/group/g: {members: [a/identity/run]}}
roles: {reading: {allows: {object: [read]}}, taking: {allows: {identity: [take-on]}}}
trusts:
  - {of: a/identity/i, admits: {token: forge, claims: {sub: main}}, session: 1h}
  - {of: a/identity/run, admits: {attached: true}}
  - {of: b/identity/j, admits: {identity: a/identity/i}}
grants:
  - {to: a/identity/i, role: reading, at: a/bucket/s, when: {network: {within: 10.0.0.0/8}}}
  - {to: a/group/g, role: reading, at: a/bucket/s}
  - {to: a/identity/i, role: taking, at: b/identity/j, held_by: a}
  - {to: b/identity/j, role: reading, at: b/bucket/t}
ceilings: []
"""
TOKEN, PERSON, HOST = "token forge", "person @ours/identity/p", "host a/host/h"
RUN, ONE, TWO = "identity a/identity/run", "identity a/identity/i", "identity b/identity/j"
SECRETS, OTHERS = "read a/bucket/s/object/…", "read b/bucket/t/object/…"


def version(old: str = "", new: str = "") -> Estate:
    assert old in BEFORE
    reading = read_texts({"estate.yaml": BEFORE.replace(old, new)})
    assert reading.estate is not None, reading.errors
    return reading.estate


def told(gains: Sequence[Gain]) -> set[str]:
    """Gains or losses: who, what and where."""
    return {f"{one.form} {one.caller} {one.verb} {one.target}" for one in gains}


def changed(old: str, new: str) -> tuple[set[str], set[str]]:
    """What is gained and what is lost by a change of the files; and the other way round it is just the reverse."""
    before, after = version(), version(old, new)
    there, back = difference(before, after, NOW), difference(after, before, NOW)
    assert not there.undecided and not back.undecided
    assert (told(there.gains), told(there.losses)) == (told(back.losses), told(back.gains))
    return told(there.gains), told(there.losses)


GRANTS = "grants:\n"
CASES: list[tuple[str, str, str, set[str], set[str]]] = [
    ("nothing", "ceilings: []", "ceilings: []  # as before", set(), set()),
    ("a grant to an identity", GRANTS, f"{GRANTS}  - {{to: b/identity/j, role: reading, at: a/bucket/s, held_by: a}}\n"
     "  - {to: b/identity/j, role: reading, at: a/bucket/s, held_by: b}\n",
     {f"{TWO} {SECRETS}", f"{ONE} {SECRETS}", f"{TOKEN} {SECRETS}"}, set()),
    ("half a crossing", GRANTS, f"{GRANTS}  - {{to: b/identity/j, role: reading, at: a/bucket/s, held_by: a}}\n",
     set(), set()),
    ("a condition is dropped", ", when: {network: {within: 10.0.0.0/8}}", "",
     {f"{ONE} {SECRETS}", f"{TOKEN} {SECRETS}"}, set()),
    ("a condition is narrowed", "10.0.0.0/8", "10.1.0.0/16", set(), {f"{ONE} {SECRETS}", f"{TOKEN} {SECRETS}"}),
    ("a condition is moved", "10.0.0.0/8", "192.0.2.0/24", {f"{ONE} {SECRETS}", f"{TOKEN} {SECRETS}"},
     {f"{ONE} {SECRETS}", f"{TOKEN} {SECRETS}"}),
    ("a trust in a person", "trusts:\n", "trusts:\n  - {of: a/identity/run, admits: {person: '@ours/identity/p'}}\n",
     {f"{PERSON} take-on a/identity/run", f"{PERSON} {SECRETS}"}, set()),
    ("claims are widened", "claims: {sub: main}", "claims: {sub: [main, next]}",
     {f"{TOKEN} take-on a/identity/i", f"{TOKEN} take-on b/identity/j", f"{TOKEN} {SECRETS}", f"{TOKEN} {OTHERS}"},
     set()),
    ("a trust goes", "  - {of: b/identity/j, admits: {identity: a/identity/i}}\n", "", set(),
     {f"{ONE} take-on b/identity/j", f"{TOKEN} take-on b/identity/j", f"{ONE} {OTHERS}", f"{TOKEN} {OTHERS}"}),
    ("the caller's half goes", "  - {to: a/identity/i, role: taking, at: b/identity/j, held_by: a}\n", "", set(),
     {f"{ONE} take-on b/identity/j", f"{TOKEN} take-on b/identity/j", f"{ONE} {OTHERS}", f"{TOKEN} {OTHERS}"}),
    ("a member is added", "members: [a/identity/run]", "members: [a/identity/run, '@ours/identity/p']",
     {f"{PERSON} {SECRETS}"}, set()),
    ("a ceiling bars", "ceilings: []", "ceilings: [{name: c, over: targets, at: a, bars: {object: [read]}}]", set(),
     {f"{ONE} {SECRETS}", f"{TOKEN} {SECRETS}", f"{RUN} {SECRETS}", f"{HOST} {SECRETS}"}),
    ("a ceiling with an exception", "ceilings: []",
     "ceilings: [{name: c, over: targets, at: a, bars: {object: [read]}, except: [a/identity/run]}]", set(),
     {f"{ONE} {SECRETS}", f"{TOKEN} {SECRETS}"}),
    ("nothing runs there", "{runs_as: a/identity/run}", "{}", set(),
     {f"{HOST} take-on a/identity/run", f"{HOST} {SECRETS}"}),
    ("it ends", "  - {to: a/group/g, role: reading, at: a/bucket/s}",
     "  - {to: a/group/g, role: reading, at: a/bucket/s, until: '2020-01-01T00:00:00Z'}", set(),
     {f"{RUN} {SECRETS}", f"{HOST} {SECRETS}"}),
    ("a role is widened", "reading: {allows: {object: [read]}}", "reading: {allows: {object: [read, list]}}",
     {f"{who} {what.replace('read', 'list', 1)}" for who in (ONE, TOKEN, RUN, HOST) for what in (SECRETS,)}
     | {f"{who} {OTHERS.replace('read', 'list', 1)}" for who in (ONE, TOKEN, TWO)}, set()),
    ("it is disabled", "b/identity/j: {kind: service-account}", "b/identity/j: {kind: service-account, disabled: true}",
     set(), {f"{TWO} {OTHERS}", f"{ONE} take-on b/identity/j", f"{TOKEN} take-on b/identity/j",
     f"{ONE} {OTHERS}", f"{TOKEN} {OTHERS}"}),
]  # fmt: skip


@pytest.mark.parametrize(
    ("old", "new", "gained", "lost"), [case[1:] for case in CASES], ids=[case[0] for case in CASES]
)
def test_a_change_gives_and_takes_just_this(old: str, new: str, gained: set[str], lost: set[str]) -> None:
    found, gone = changed(old, new)
    assert {one for one in found if "…/…" not in one} == gained
    assert {one for one in gone if "…/…" not in one} == lost


def test_values_of_a_gain_are_such_as_only_the_new_version_allows() -> None:
    gains = difference(version("10.0.0.0/8", "192.0.2.0/24"), version(), NOW).gains
    networks = [str(one.values["network"]) for one in gains]
    assert networks and all(one.startswith("10.") for one in networks)


def test_no_gain_lies_past_the_end_of_the_sessions_that_it_needs() -> None:
    young = version("when: {network: {within: 10.0.0.0/8}}", "when: {session.age: {not: {longer_than: 1h}}}")
    ageless = version(", when: {network: {within: 10.0.0.0/8}}")
    found = difference(young, ageless, NOW)
    assert {f"{one.form} {one.caller}" for one in found.gains} == {ONE}  # whose own session is not known to end
    half = version("when: {network: {within: 10.0.0.0/8}}", "when: {session.age: {not: {longer_than: 30m}}}")
    (bearer,) = [one for one in difference(half, ageless, NOW).gains if one.form == "token" and "…/…" not in one.target]
    assert timedelta(minutes=30) < bearer.values["session.age"] < timedelta(hours=1)  # type: ignore[operator]


def test_who_is_removed_loses_everything() -> None:
    gone = (
        BEFORE.replace('  "@ours/identity/p": {kind: person}\n', "")
        .replace("  b/identity/j: {kind: service-account}\n", "")
        .replace("  - {of: b/identity/j, admits: {identity: a/identity/i}}\n", "")
        .replace("  - {to: a/identity/i, role: taking, at: b/identity/j, held_by: a}\n", "")
        .replace("  - {to: b/identity/j, role: reading, at: b/bucket/t}\n", "")
    )  # fmt: skip
    reading = read_texts({"estate.yaml": gone})
    assert reading.estate is not None, reading.errors
    lost = told(difference(version(), reading.estate, NOW).losses)
    assert {f"{TWO} {OTHERS}", f"{ONE} take-on b/identity/j", f"{TOKEN} {OTHERS}"} <= lost


def test_longer_sessions_are_a_gain_where_somebody_asks_for_an_age() -> None:
    young = BEFORE.replace("when: {network: {within: 10.0.0.0/8}}", "when: {session.age: {not: {longer_than: 8h}}}")
    longer = young.replace("session: 1h", "session: 4h")
    before, after = (read_texts({"estate.yaml": text}).estate for text in (young, longer))
    assert before is not None and after is not None
    gains = [one for one in difference(before, after, NOW).gains if "…/…" not in one.target]
    assert told(gains) == {f"{TOKEN} {SECRETS}", f"{TOKEN} take-on b/identity/j"}  # the next session ends no later
    for one in gains:
        assert timedelta(hours=1) <= one.values["session.age"] < timedelta(hours=4)  # type: ignore[operator]
    assert not difference(version(), version("session: 1h", "session: 4h"), NOW).gains  # no caller is given

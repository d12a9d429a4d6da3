"""Invariants, claim by claim: what breaks each, and what does not."""

from datetime import UTC, datetime

import pytest

from enthesis.access.compiling import compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.chains.changes import decide_by_change
from enthesis.chains.invariants import Decided, decide
from enthesis.files.folder import read_texts
from enthesis.model.estate import Estate
from enthesis.model.vocabulary import Holding

HOLDS, BROKEN = Holding.HOLDS, Holding.BROKEN

NOW = datetime(2026, 11, 24, tzinfo=UTC)
WORLD = """\
estate: small
organisations: {works: {}, port: {outside: true}}
providers: {north: {style: two-sided}}
accounts:
  left: {in: "@works", provider: north}
  right: {in: "@works", provider: north}
  quay: {in: "@port", provider: north}
issuers: {forge: {kind: oidc, claims: {sub: text, event: text}}, kiln: {kind: saml}}
resources:
  left/bucket/b: {}
  left/host/h: {runs_as: left/identity/worker}
  left/key/k: {managed_by: account}
identities:
  left/identity/worker: {kind: instance-role}
  left/identity/other: {kind: service-account}
  right/identity/far: {kind: service-account}
  "@works/identity/ines": {kind: person}
  "@port/identity/odo": {kind: person}
roles:
  writes: {allows: {object: write}}
  takes: {allows: {identity: take-on}}
  logs-in: {allows: {host: login, identity: run-as}}
  enters: {allows: {organisation: enter}}
grants:
  - {to: left/identity/worker, role: writes, at: left/bucket/b}
"""
NEVER = "invariants: [{name: claim, never: {%s, can: write, at: left/bucket/b}}]\n"
ONLY = "invariants: [{name: claim, only: {by: %s, can: write, at: left/bucket/b}}]\n"


def estate_of(*texts: str) -> Estate:
    reading = read_texts(
        {f"{number}.yaml" if number else "estate.yaml": text for number, text in enumerate((WORLD, *texts))}
    )
    assert reading.estate is not None, reading.errors
    return reading.estate


def decided(*texts: str, by_change: bool = False) -> tuple[Decided, Chains]:
    estate = estate_of(*texts)
    chains = Chains.from_now_on(Web(compile_estate(estate), NOW.timestamp()))
    return (decide_by_change if by_change else decide)(chains, estate.invariants[0]), chains


def verbs(result: tuple[Decided, Chains]) -> list[str]:
    found, chains = result
    assert found.chain is not None
    return [verb for _, verb, _ in chains.steps(found.chain)]


TRUST = "trusts: [{of: left/identity/worker, admits: %s%s}]\n"


@pytest.mark.parametrize(
    ("start", "admits", "when", "outcome"),
    [
        ("from: {token: forge}", "{token: forge, claims: {sub: main}}", "", BROKEN),
        ("from: {token: forge, claims: {sub: other}}", "{token: forge, claims: {sub: main}}", "", HOLDS),
        ("from: {token: forge, claims: {sub: {glob: m*}}}", "{token: forge, claims: {sub: {glob: '*n'}}}", "", BROKEN),
        ("from: {token: forge, claims: {sub: {glob: m*}}}", "{token: forge, claims: {sub: {glob: n*}}}", "", HOLDS),
        ("from: {token: forge, claims: {event: fork}}", "{token: forge, claims: {event: {not: fork}}}", "", HOLDS),
        ("from: {token: forge}", "{token: forge, claims: {ref: main}}", "", HOLDS),
        ("from: {assertion: kiln}", "{assertion: kiln, attributes: {team: red}}", "", BROKEN),
        ("from: {assertion: kiln}", "{token: forge, claims: {sub: main}}", "", HOLDS),
        ("from: {token: forge}", "{token: forge, claims: {sub: main}}",
         ", when: {network: {within: 10.0.0.0/8}}", BROKEN),
        ("from: {token: forge}", "{token: forge, claims: {sub: main}}", ", when: {origin.kind: person}", HOLDS),
        ("from: {token: forge}", "{token: forge, claims: {sub: main}}", ", until: '2026-01-01T00:00:00Z'", HOLDS),
        ("from: {token: forge}", "{token: forge, claims: {sub: main}}", ", until: '2027-01-01T00:00:00Z'", BROKEN),
        ("from: {token: forge}", "{token: forge, claims: {sub: main}}",
         ", when: {time: {before: '2026-01-01T00:00:00Z'}}", HOLDS),
        ("from: {host: left/host/h}", "{attached: true}", "", BROKEN),
        ("from: {host: left/host/h}", "{token: forge, claims: {sub: main}}", "", HOLDS),
        ("from: {host: {glob: 'right/**'}}", "{attached: true}", "", HOLDS),
        ("by: left/identity/other", "{identity: left/identity/other}", "", BROKEN),
        ("by: left/identity/other", "{identity: right/identity/far}", "", HOLDS),
        ("by: {glob: 'left/identity/o*'}", "{identity: left/identity/other}", "", BROKEN),
        ("by: left/identity/worker", "{token: forge, claims: {sub: main}}", "", BROKEN),
        ("from: {token: forge}, by: left/identity/worker", "{token: forge, claims: {sub: main}}", "", BROKEN),
        ("from: {token: forge}, by: left/identity/other", "{token: forge, claims: {sub: main}}", "", HOLDS),
        ("from: {identity: left/identity/other}", "{account: left}", "", HOLDS),
        ("from: {person: '@works/identity/ines'}", "{person: '@works/identity/ines'}", ", when: {mfa: true}", BROKEN),
        ("from: {person: '@port/identity/odo'}", "{person: '@port/identity/odo'}", "", HOLDS),
        ("from: {identity: right/identity/far}", "{identity: right/identity/far}", "", HOLDS),
    ],
)  # fmt: skip
def test_never(start: str, admits: str, when: str, outcome: str) -> None:
    found, _ = decided(NEVER % start, TRUST % (admits, when))
    assert found.outcome == outcome


def test_a_crossing_needs_both_halves_and_an_outside_party_is_taken_to_have_written_its_own() -> None:
    half = "grants: [{to: right/identity/far, role: takes, at: left/identity/worker, held_by: right}]\n"
    claim = NEVER % "from: {identity: right/identity/far}"
    trust = TRUST % ("{identity: right/identity/far}", "")
    assert decided(claim, trust, half)[0].outcome == BROKEN
    anyone = decided(ONLY % "left/identity/worker", TRUST % ("{account: quay}", ""))
    assert anyone[0].outcome == BROKEN
    assert anyone[0].chain is not None and anyone[0].chain.start.whom == "quay/identity/…"
    assert verbs(anyone) == ["take-on", "write"]


def test_who_comes_from_another_organisation_must_be_let_enter() -> None:
    claim = NEVER % "from: {person: '@port/identity/odo'}"
    trust = TRUST % ("{person: '@port/identity/odo'}", "")
    enters = "grants: [{to: '@port/identity/odo', role: enters, at: '@works'}]\n"
    assert decided(claim, trust)[0].outcome == HOLDS
    assert decided(claim, trust, enters)[0].outcome == BROKEN


def test_conditions_of_a_whole_chain_must_hold_at_once() -> None:
    claim = NEVER % "from: {token: forge}"
    trusts = (
        "trusts:\n"
        "  - {of: left/identity/other, admits: {token: forge, claims: {sub: main}}, when: {network: {within: %s}}}\n"
        "  - of: left/identity/worker\n"
        "    admits: {identity: left/identity/other}\n"
        "    when: {network: {within: 10.0.0.0/8}}\n"
    )
    assert decided(claim, trusts % "192.0.2.0/24")[0].outcome == HOLDS
    found, chains = decided(claim, trusts % "10.1.0.0/16")
    assert found.outcome == BROKEN and found.chain is not None
    assert str(found.chain.values["network"]).startswith("10.1.")
    assert [verb for _, verb, _ in chains.steps(found.chain)] == ["take-on", "take-on", "write"]


def test_a_ceiling_with_a_condition_bars_only_where_that_may_be_true() -> None:
    claim = NEVER % "by: left/identity/worker"
    ceiling = "ceilings: [{name: c, over: targets, at: left, bars: {object: write}%s}]\n"
    assert decided(claim, ceiling % "")[0].outcome == HOLDS
    found, _ = decided(claim, ceiling % ", when: {network: {not: {within: 10.0.0.0/8}}}")
    assert found.outcome == BROKEN and found.chain is not None
    assert str(found.chain.values["network"]).startswith("10.")
    assert decided(claim, ceiling % ", when: {caller.account: left}")[0].outcome == HOLDS
    assert decided(claim, ceiling % ", when: {caller.account: right}")[0].outcome == BROKEN


def test_logging_in_and_using_lead_on_to_the_identities_there() -> None:
    login = "grants: [{to: '@works/identity/ines', role: logs-in, at: left}]\n"
    found = decided(NEVER % "from: {person: '@works/identity/ines'}", login)
    assert found[0].outcome == BROKEN
    assert verbs(found) == ["run-as", "write"]
    assert decided(ONLY % "left/identity/worker", login)[0].outcome == BROKEN
    assert decided(ONLY % "[left/identity/worker, '@works/identity/ines']", login)[0].outcome == HOLDS


def test_only_speaks_of_everybody_else_and_of_taking_on() -> None:
    assert decided(ONLY % "left/identity/worker")[0].outcome == HOLDS
    assert decided(ONLY % "left/identity/other")[0].outcome == BROKEN
    trust = TRUST % ("{identity: left/identity/other}", "")
    assert verbs(decided(ONLY % "left/identity/worker", trust)) == ["take-on", "write"]
    assert decided(ONLY % "{glob: 'left/identity/*'}", trust)[0].outcome == HOLDS
    assert decided(ONLY % "left/identity/worker", TRUST % ("{attached: true}", ""))[0].outcome == HOLDS


def test_stored_credentials_and_pipeline_access_are_ways_in() -> None:
    key = "credentials: {old: {of: left/identity/worker, form: access-key%s}}\n"
    claim = NEVER % "from: {credential: old}"
    assert decided(claim, key % "")[0].outcome == BROKEN
    assert decided(claim, key % ", disabled: true")[0].outcome == HOLDS
    assert decided(claim, key % ", expires: '2026-01-01T00:00:00Z'")[0].outcome == HOLDS
    assert decided(claim, key % ", when: {caller.account: right}")[0].outcome == HOLDS
    pipeline_access = (
        "pipeline_access: {kept: {at: forge, of: left/identity/worker, admits: {sub: main}, credential: old}}\n"
    )
    assert decided(NEVER % "from: {token: forge}", key % "", pipeline_access)[0].outcome == BROKEN
    assert decided(NEVER % "from: {token: forge, claims: {sub: other}}", key % "", pipeline_access)[0].outcome == HOLDS


def test_taking_on_itself_can_be_what_must_never_be() -> None:
    claim = "invariants: [{name: claim, never: {from: {token: forge}, can: take-on, at: left/identity/worker}}]\n"
    assert decided(claim, TRUST % ("{token: forge, claims: {sub: main}}", ""))[0].outcome == BROKEN
    assert decided(claim, TRUST % ("{identity: left/identity/other}", ""))[0].outcome == HOLDS


@pytest.mark.parametrize(
    ("allows", "at", "outcome"),
    [
        ("{bucket: change-access}", "left/bucket/b", BROKEN),
        ("{bucket: change-access}", "left/key/k", HOLDS),
        ("{identity: change-trust}", "left/identity/worker", BROKEN),
        ("{identity: issue}", "left/identity/worker", BROKEN),
        ("{identity: attach}", "left/identity/worker", HOLDS),
        ("{identity: attach, host: configure, identity2: x}", "left", BROKEN),
        ("{account: change-role}", "left", BROKEN),  # of the very role by which it may change roles
        ("{bucket: delete}", "left/bucket/b", HOLDS),
    ],
)
def test_what_a_chain_can_change_counts_when_asked(allows: str, at: str, outcome: str) -> None:
    allows = allows.replace(", identity2: x", "").replace("identity: attach, host", "identity: [attach, run-as], host")
    power = f"roles: {{power: {{allows: {allows}}}}}\ngrants: [{{to: left/identity/other, role: power, at: {at}}}]\n"
    claim = NEVER % "by: left/identity/other"
    if "run-as" not in allows:
        assert decided(claim, power)[0].outcome == HOLDS
    assert decided(claim, power, by_change=True)[0].outcome == outcome


def test_changing_a_role_rewrites_what_its_holder_has_bound() -> None:
    power = (
        "roles: {power: {allows: {account: change-role}}, looks: {allows: {bucket: describe}}}\n"
        "grants:\n"
        "  - {to: left/identity/other, role: power, at: left}\n"
        "  - {to: left/identity/other, role: looks, at: left/bucket/b}\n"
    )
    claim = NEVER % "by: left/identity/other"
    assert decided(claim, power)[0].outcome == HOLDS
    found, _ = decided(claim, power, by_change=True)
    assert found.outcome == BROKEN and "left/identity/other" in found.why


def test_a_ceiling_that_can_be_lifted_does_not_save_a_claim() -> None:
    ceiling = "ceilings: [{name: c, over: targets, at: left, bars: {object: write}}]\n"
    lift = (
        "roles: {power: {allows: {account: change-ceiling}}}\n"
        "grants: [{to: left/identity/worker, role: power, at: left}]\n"
    )
    claim = NEVER % "by: left/identity/worker"
    assert decided(claim, ceiling, lift)[0].outcome == HOLDS
    assert decided(claim, ceiling, lift, by_change=True)[0].outcome == BROKEN


def test_members_of_a_group_are_among_those_who_alone_may() -> None:
    group = (
        "groups: {left/group/g: {members: [left/identity/worker]}, left/group/h: {members: [left/identity/other]}}\n"
    )
    assert decided(group, ONLY % "left/group/g")[0].outcome == HOLDS
    assert decided(group, ONLY % "left/group/h")[0].outcome == BROKEN
    assert decided(group, ONLY % "[left/group/h, left/identity/worker]")[0].outcome == HOLDS


def test_a_claim_by_change_is_about_its_own_place_and_not_about_what_is_beside_it() -> None:
    more = (
        "resources: {left/bucket/c: {}}\n"
        "roles: {gives: {allows: {object: [change-access], bucket: [change-access]}}}\n"
        "grants: [{to: left/identity/other, role: gives, at: left/bucket/c}]\n"
    )
    beside = decided(more, ONLY % "left/identity/worker", by_change=True)[0]
    assert beside.outcome == HOLDS
    here = decided(
        more.replace("at: left/bucket/c}", "at: left/bucket/b}"), ONLY % "left/identity/worker", by_change=True
    )[0]
    assert here.outcome == BROKEN

"""Stored keys lead on: whoever reads where one is kept, or runs where it is, has what it opens, keyed."""

from collections import Counter
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from enthesis.access.compiling import compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.chains.invariants import decide
from enthesis.chains.reach import reachable, reaching
from enthesis.chains.starts import starts_from
from enthesis.files.folder import read_texts
from enthesis.model.estate import Estate
from enthesis.model.vocabulary import Holding, VerbClass

from .conftest import SEED, Program, examples
from .test_judging import NOW, random_estate
from .walking import replayed

YARD = """
estate: yard
organisations: {works: {units: [x]}}
providers: {low: {style: one-sided}}
accounts: {a: {in: "@works/x", provider: low}}
issuers: {forge: {kind: oidc, url: https://forge.example}}
resources:
  a/host/h: {}
  a/pool/p: {}
  a/pool/p/host/one: {}
  a/function/f: {}
  a/secret/s: {}
  a/bucket/b: {}
identities:
  "@works/identity/con": {kind: person}
  a/identity/runner: {kind: service-account, owner: o, purpose: q}
  a/identity/admin: {kind: service-account, owner: o, purpose: q}
trusts: [{of: a/identity/runner, admits: {token: forge, claims: {aud: low, sub: project/x}}}]
roles:
  login: {allows: {host: [login]}}
  look: {allows: {function: [describe]}}
  rd: {allows: {secret: [read]}}
  set: {allows: {pool: [configure]}}
  del: {allows: {object: [delete]}}
grants:
  - {to: a/identity/admin, role: del, at: a/bucket/b}
  - {to: "@works/identity/con", role: %s, at: %s%s}
credentials:
  root: {of: a/identity/admin, form: access-key, held_in: %s%s}
invariants:
  - {name: con-never, never: {from: {person: "@works/identity/con"}, can: delete, at: a}}
%s
"""


def yard(role: str, at: str, held: str, *, when: str = "", key: str = "", more: str = "") -> Estate:
    reading = read_texts({"estate.yaml": YARD % (role, at, when, held, key, more)})
    assert reading.estate is not None, reading.errors
    return reading.estate


def outcome(estate: Estate) -> Holding:
    chains = Chains.from_now_on(Web(compile_estate(estate), NOW.timestamp()))
    found = decide(chains, estate.invariants[0])
    if found.chain is not None:
        assert replayed(chains, found.chain)
        assert found.chain.keyless is False
    return found.outcome


def test_a_key_leads_on_from_wherever_it_is_kept() -> None:
    assert outcome(yard("login", "a/host/h", "a/host/h")) == Holding.BROKEN
    assert outcome(yard("rd", "a/secret/s", "a/secret/s")) == Holding.BROKEN
    assert outcome(yard("look", "a", "a/function/f")) == Holding.BROKEN
    assert outcome(yard("login", "a/pool/p", "a/pool/p")) == Holding.BROKEN
    assert outcome(yard("set", "a", "a/pool/p")) == Holding.BROKEN
    assert outcome(yard("rd", "a/secret/s", "[a/host/h, {elsewhere: a safe}]")) == Holding.HOLDS
    assert outcome(yard("login", "a/host/h", "{elsewhere: a safe}")) == Holding.HOLDS
    assert outcome(yard("login", "a/host/h", "a/host/h", key=", disabled: true")) == Holding.HOLDS


def test_what_follows_a_key_is_a_journey_of_its_own_and_not_earlier() -> None:
    """Time, network and reference are free again, but the time does not go back."""
    later = ", when: {time: {after: 2028-01-01T00:00:00Z}}"
    assert outcome(yard("login", "a/host/h", "a/host/h", when=later)) == Holding.BROKEN
    ends = ", expires: 2027-06-01T00:00:00Z"
    assert outcome(yard("login", "a/host/h", "a/host/h", key=ends)) == Holding.BROKEN
    assert outcome(yard("login", "a/host/h", "a/host/h", when=later, key=ends)) == Holding.HOLDS
    inside, outside = ", when: {network: {within: 10.0.0.0/8}}", ", when: {network: {within: 192.0.2.0/24}}"
    assert outcome(yard("login", "a/host/h", "a/host/h", when=inside, key=outside)) == Holding.BROKEN
    chains = Chains.from_now_on(Web(compile_estate(yard("login", "a/host/h", "a/host/h", when=later)), NOW.timestamp()))
    found = reachable(chains, starts_from(chains, chains.compiled.estate, "@works/identity/con", {}),
                      np.ones(len(chains.compiled.permission_pairs), bool))  # fmt: skip
    (by_key,) = [one for one in found if one.verb == "delete"]
    times = {name: value for name, value in by_key.chain.values.items() if "time" in name}
    assert set(times) == {"time", "time before the key root"}
    assert datetime(2028, 1, 1, tzinfo=UTC) <= times["time before the key root"] <= times["time"]  # type: ignore[operator]


def test_what_a_pipeline_service_keeps_leads_on_for_the_runs_that_it_admits() -> None:
    access = "pipeline_access:\n  kept: {at: forge, of: a/identity/admin, admits: {sub: project/y}, credential: root}"
    estate = yard("rd", "a/secret/s", "{elsewhere: a safe}", more=access)
    chains = Chains.from_now_on(Web(compile_estate(estate), NOW.timestamp()))
    everything = np.ones(len(chains.compiled.permission_pairs), bool)
    for who, keyless in (("forge", False), ("kept", False)):
        found = reachable(chains, starts_from(chains, estate, who, {}), everything)
        (deletes,) = [one for one in found if one.verb == "delete"]
        assert deletes.chain.keyless is keyless
    claimed = reachable(chains, starts_from(chains, estate, "forge", {"sub": "project/x"}), everything)
    assert not any(one.verb == "delete" for one in claimed)


def test_a_caller_who_breaks_an_invariant_may_be_accepted_for_a_while() -> None:
    accepted = (
        'accepted:\n  - {invariant: con-never, by: "@works/identity/con", because: the key is being retired, until: %s}'
    )
    lasting = yard("login", "a/host/h", "a/host/h", more=accepted % "2027-03-01T00:00:00Z")
    assert outcome(lasting) == Holding.ACCEPTED
    ended = yard("login", "a/host/h", "a/host/h", more=accepted % "2026-03-01T00:00:00Z")
    assert outcome(ended) == Holding.BROKEN


def test_everything_that_a_key_opens_is_reached_by_whoever_reads_where_it_is() -> None:
    counted: Counter[str] = Counter()
    for seed in range(SEED * 1_000, SEED * 1_000 + 400):
        estate = random_estate(seed, journeys=0)
        if not any(one.held_at and not one.when for one in estate.credentials.values()):
            continue
        web = Web(compile_estate(estate), NOW.timestamp())
        chains = Chains(web, {"time": NOW})
        compiled = web.compiled
        everything = np.ones(len(compiled.permission_pairs), bool)
        reads = np.array([one == VerbClass.READ for one in compiled.class_of])
        for credential in web.keys.credentials:
            start = chains.from_credential(credential.name)
            if start is None or credential.when:
                continue
            opened = {(one.target, one.verb) for one in reachable(chains, [start], everything)}
            for place in credential.held_at if opened else ():
                readers = [one for one in reaching(chains, place, reads) if not one.chain.by_key]
                for reader in readers[:4]:
                    told = {(one.target, one.verb) for one in reachable(chains, [reader.chain.start], everything)}
                    assert opened <= told, f"seed {seed}: {reader.chain.start.whom} reads {place}"
                    counted["readers"] += 1
        if counted["readers"] >= examples(10):
            return
    raise AssertionError(counted)


def test_retiring_a_key_offers_the_line_that_accepts_what_it_breaks(enthesis: Program, tmp_path: Path) -> None:
    text = """\
estate: keys
organisations: {works: {}}
providers: {low: {style: one-sided}}
accounts: {a: {in: "@works", provider: low}}
resources: {a/host/h: {}, a/bucket/b: {}}
identities: {a/identity/bot: {kind: service-account}, "@works/identity/ann": {kind: person}}
roles: {writing: {allows: {object: write}}, logging-in: {allows: {host: login}}}
grants:
  - {to: a/identity/bot, role: writing, at: a/bucket/b}
  - {to: "@works/identity/ann", role: logging-in, at: a/host/h}
credentials: {tape: {of: a/identity/bot, form: access-key, held_in: a/host/h}}
invariants:
  - {name: people-write-nothing, never: {from: {person: "@works/identity/ann"}, can: write, at: a/bucket/b}}
"""
    (tmp_path / "estate.yaml").write_text(text)
    ran = enthesis("credential", "retire", "--plan", "tape", at=tmp_path)
    line = next(one for one in ran.err.splitlines() if one.startswith("  accepted:"))
    (tmp_path / "more.yaml").write_text(line.strip() + "\n")
    found = enthesis("check", "--format", "json", at=tmp_path).json["invariants"]
    assert [one["outcome"] for one in found] == ["accepted"], line

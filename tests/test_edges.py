"""Rules at their edges: the last instant, the first value past a bound, one entry more or less."""

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
import pytest

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.chains.access_graph import Web
from enthesis.chains.cards import card
from enthesis.chains.chains import Chains
from enthesis.chains.reach import reachable
from enthesis.files.editing import Replacement, edited
from enthesis.files.folder import read_texts
from enthesis.files.renaming import twin
from enthesis.files.yaml_tree import MAX_DEPTH, UnreadableFile, parse
from enthesis.model.errors import Undecided
from enthesis.model.estate import Attempt, Context, Estate, Hop, Origin
from enthesis.model.vocabulary import Form
from enthesis.proposals.proposing import propose
from enthesis.surveys.survey import without_what_is_gone
from enthesis.trusts.admitting import Admissions
from enthesis.trusts.risks import risks
from enthesis.verdicts.judge import Judge
from enthesis.verdicts.remedies import remedies_for

from .test_changing import carried_out, empty
from .test_changing import estate_of as small

NOW = datetime(2026, 11, 24, tzinfo=UTC)
HEAD = """\
estate: edges
organisations: {works: {}}
providers: {north: {style: one-sided}}
accounts: {left: {in: "@works", provider: north}}
issuers:
  forge: {kind: oidc}
  grid: {kind: oidc, cluster: left/cluster/k}
resources:
  left/bucket/b: {}
  left/host/h: {runs_as: left/identity/a}
  left/cluster/k: {}
  left/cluster/k/namespace/n: {}
  left/cluster/k/namespace/n/workload/w: {runs_as: left/cluster/k/namespace/n/identity/s}
identities:
  left/identity/a: {kind: instance-role}
  left/identity/b: {kind: service-account}
  left/cluster/k/namespace/n/identity/s: {kind: cluster-service-account}
"""


def estate_of(body: str) -> Estate:
    reading = read_texts({"estate.yaml": HEAD + body})
    assert reading.estate is not None, reading.errors
    return reading.estate


def test_a_changed_list_is_told_item_by_item() -> None:
    text = "identities: {left/identity/a: {kind: service-account}}\nroles: {r: {allows: {object: %s}}}\n"
    text += "grants: [{to: left/identity/a, role: r, at: left/bucket/b}]\n"
    wide, narrow = small(text % "[read, write]"), small(text % "[read]")
    (step,) = propose(narrow, carried_out(wide, propose(wide, empty(wide)))).steps
    assert "from {object: [read, write]} to {object: read}" in step.sentence


@pytest.mark.parametrize(
    ("written", "meant"), [("left/identity/bb", "left/identity/b"), ("left/host/hh", "left/host/h")]
)
def test_a_caller_that_does_not_exist_is_corrected_to_the_nearest(written: str, meant: str) -> None:
    grant = "roles: {r: {allows: {object: [read]}}}\ngrants: [{to: left/identity/b, role: r, at: left/bucket/b}]\n"
    estate = estate_of(grant + "trusts: [{of: left/identity/b, admits: {identity: left/identity/a}}]\n")
    form = Form.IDENTITY if "identity" in written else Form.HOST
    hops = () if form == Form.IDENTITY else (Hop("left/identity/a"), Hop("left/identity/b"))
    attempt = Attempt("read", "left/bucket/b/object/o")
    verdict = Judge(compile_estate(estate)).judge(Question(Origin(form, written), hops, attempt, Context(), NOW))
    assert verdict.refused_at[0] == "names"
    offered = [change.sentence for one in remedies_for(estate, verdict).found for change in one.changes]
    assert f"ask for {meant}" in offered


def test_a_card_has_a_part_on_what_dangles_only_where_something_does() -> None:
    web = Web(compile_estate(estate_of("")), NOW.timestamp())
    heads = [[part.head for part in found.parts] for found in (
        card(web, "left/identity/b", NOW), card(web, "left/identity/b", NOW, ["a grant to left/identity/b"]),
        card(web, "left/identity/b", NOW, ["a grant to left/identity/c"]),
    ) if found]  # fmt: skip
    assert [any("dangling" in head for head in one) for one in heads] == [False, True, False]
    assert card(web, "left/identity/none", NOW, ["a grant to left/identity/none"]) is None


@pytest.mark.parametrize(("count", "said"), [(8, "b7"), (9, "b7 and 1 more"), (10, "b7 and 2 more")])
def test_a_card_lists_eight_names_and_counts_the_rest(count: int, said: str) -> None:
    more = "".join(f"  left/bucket/b{n}: {{encrypted_by: left/key/k}}\n" for n in range(count))
    head = HEAD.replace("identities:\n", "  left/key/k: {}\n" + more + "identities:\n", 1)
    reading = read_texts({"estate.yaml": head})
    assert reading.estate is not None, reading.errors
    made = card(Web(compile_estate(reading.estate), NOW.timestamp()), "left/key/k", NOW)
    assert made is not None
    (text,) = [item.text for part in made.parts for item in part.items if item.text.startswith("encrypts left")]
    assert text.endswith(said)


TWO = (
    "trusts:\n- {of: left/identity/b, name: one, admits: {token: forge, claims: {sub: {glob: 'a/**'}, aud: north}}}\n"
    "- {of: left/identity/b, name: two, admits: {token: forge, claims: {sub: a/main, aud: north}}%s}\n"
)


def codes(body: str) -> set[str]:
    found = risks(Chains.from_now_on(Web(compile_estate(estate_of(body)), NOW.timestamp())))
    return {one.code for one in found.standing}


@pytest.mark.parametrize(("seconds", "told"), [(-1, False), (0, False), (1, True)])
def test_a_trust_that_ends_now_is_inside_no_other(seconds: int, told: bool) -> None:
    until = (NOW + timedelta(seconds=seconds)).isoformat()
    assert ("trust-in-trust" in codes(TWO % f", until: '{until}'")) == told


def test_a_trust_that_is_past_a_bound_leaves_the_others_to_be_looked_at(monkeypatch: pytest.MonkeyPatch) -> None:
    callers_of = Admissions.callers_of
    first = "- {of: left/identity/b, name: hard, admits: {token: forge, claims: {sub: {glob: 'z/**'}, aud: north}}}\n"

    def bounded(self: Admissions, trust: Any) -> Any:
        if trust.name == "hard":
            raise Undecided("more than can be looked at")
        return callers_of(self, trust)

    monkeypatch.setattr(Admissions, "callers_of", bounded)
    assert "trust-in-trust" in codes(TWO.replace("trusts:\n", "trusts:\n" + first) % "")


@pytest.mark.parametrize(
    ("issuer", "form", "takes"), [("grid", "token", True), ("forge", "token", False), ("kiln", "assertion", False)]
)
def test_a_workload_shows_the_tokens_of_its_own_cluster_and_no_others(issuer: str, form: str, takes: bool) -> None:
    text = HEAD.replace("issuers:\n", "issuers:\n  kiln: {kind: saml}\n") + (
        f"trusts: [{{of: left/identity/b, admits: {{{form}: {issuer}}}}},\n"
        "  {of: left/cluster/k/namespace/n/identity/s, admits: {attached: true}}]\n"
    )
    reading = read_texts({"estate.yaml": text})
    assert reading.estate is not None, reading.errors
    chains = Chains.from_now_on(Web(compile_estate(reading.estate), NOW.timestamp()))
    compiled = chains.compiled
    start = chains.from_place(compiled.places.index["left/cluster/k/namespace/n/workload/w"])
    wanted = np.ones(len(compiled.permission_pairs), bool)
    targets = {one.target for one in reachable(chains, [start], wanted) if one.verb == "take-on"}
    assert ("left/identity/b" in targets) == takes


def test_a_leaf_to_come_runs_as_what_a_pattern_says() -> None:
    glob = "attachments: [{what: {glob: left/cluster/k/namespace/n/workload/job-*}, runs_as: left/identity/b}]\n"
    compiled = Web(compile_estate(estate_of(glob)), NOW.timestamp()).compiled
    assert [one for one in compiled.places.names if "/workload/job-" in one]
    plain = Web(compile_estate(estate_of("")), NOW.timestamp()).compiled
    assert not [one for one in plain.places.names if "/workload/job-" in one]


BLOCK = """\
trusts:
  - of: left/identity/b
    admits: {account: left}
    name: t
roles: {r: {allows: {object: [read]}, includes: [s], because: x}}
"""


def test_a_field_is_added_to_a_block_and_taken_out_of_the_middle_and_the_end_of_a_line() -> None:
    def done(line: int, column: int, path: tuple[str | int, ...], value: Any) -> str:
        return edited({"estate.yaml": BLOCK}, [Replacement("estate.yaml", line, column, path, value)])["estate.yaml"]

    assert done(2, 5, ("session",), "1h") == BLOCK.replace("    name: t\n", "    name: t\n    session: 1h\n")
    assert done(5, 12, ("includes",), None) == BLOCK.replace(", includes: [s]", "")
    assert done(5, 12, ("because",), None) == BLOCK.replace(", because: x", "")
    assert done(5, 12, ("allows",), None) == BLOCK.replace("allows: {object: [read]}, ", "")
    two = BLOCK.replace(", because: x", "")
    change = Replacement("estate.yaml", 5, 12, ("allows",), None)
    assert edited({"estate.yaml": two}, [change])["estate.yaml"] == two.replace("allows: {object: [read]}, ", "")
    assert done(5, 12, ("more",), 1) == BLOCK.replace("because: x}", "because: x, more: 1}")


@pytest.mark.parametrize(("depth", "fits"), [(MAX_DEPTH - 1, True), (MAX_DEPTH, True), (MAX_DEPTH + 1, False)])
def test_nesting_is_read_up_to_its_bound(depth: int, fits: bool) -> None:
    data = ("[" * depth + "]" * depth).encode()
    if fits:
        assert parse(data)[0] is not None
    else:
        with pytest.raises(UnreadableFile, match="nested deeper"):
            parse(data)


def test_a_twin_gets_the_statements_without_a_name_too() -> None:
    body = "trusts: [{of: left/identity/b, admits: {account: left}},"
    body += " {of: left/identity/b, admits: {attached: true}, name: b-t}]\n"
    made = [one.entry for one in twin(estate_of(body), "left/identity/b", "left/identity/c") if one.section == "trusts"]
    assert [one.get("name") for one in made] == [None, "c-t"]
    assert {one["of"] for one in made} == {"left/identity/c"}
    (its,) = [one.entry for one in twin(estate_of(""), "left/identity/b", "left/identity/c") if one.name]
    assert its == {"kind": "service-account"}


def test_pipeline_access_goes_with_its_identity_and_loses_a_credential_that_is_gone() -> None:
    body = (
        "credentials: {kept: {of: left/identity/b, form: access-key}}\n"
        "pipeline_access:\n  one: {at: forge, of: left/identity/b, admits: {sub: x}, credential: kept}\n"
        "  two: {at: forge, of: left/identity/a, admits: {sub: x}}\n"
    )
    estate = estate_of(body)
    assert without_what_is_gone(estate).pipeline_access == estate.pipeline_access
    without = without_what_is_gone(replace(estate, credentials={}))
    assert [one.credential for one in without.pipeline_access.values()] == [None, None]
    left = {name: one for name, one in estate.identities.items() if name != "left/identity/a"}
    assert list(without_what_is_gone(replace(estate, identities=left)).pipeline_access) == ["one"]

"""Risks: each is found where it is, with somebody who really gets in; none is found where there is none."""

import json
import re
import ssl
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import httpx
import jsonschema
import pytest

from enthesis.access.compiling import compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.files.folder import read_texts
from enthesis.model.risks import LIVE_RISKS, RISKS
from enthesis.output.checks import risk_json
from enthesis.trusts.risks import placed, risks

from .conftest import SALTMARSH, Lab, Program, start_lab, write_estate

NOW = datetime(2026, 11, 24, tzinfo=UTC)
HEAD = """
estate: dangerous
organisations: {ours: {units: [inner]}, theirs: {outside: true}}
providers: {lowland: {style: two-sided}}
accounts:
  left: {in: "@ours/inner", provider: lowland}
  right: {in: "@ours/inner", provider: lowland}
  away: {in: "@theirs", provider: lowland}
issuers:
  forge:
    {kind: oidc, url: "https://forge.example", shared: true, owned: {sub: {glob: "ours/**"}},
     claims: {sub: text, event: text, address: text}}
  alone: {kind: oidc, url: "https://alone.example"}
resources: {left/bucket/b: {}, right/bucket/c: {}}
identities:
  left/identity/a: {kind: service-account}
  right/identity/r: {kind: service-account}
  away/identity/w: {kind: service-account}
roles:
  writing: {allows: {object: [write]}}
  reading: {allows: {object: [read]}}
  taking: {allows: {identity: [take-on]}}
  all: {allows: {"*": "*"}}
  boss: {allows: {account: [change-access]}}
"""
WRITES = "grants: [{to: left/identity/a, role: writing, at: left/bucket/b}]\n"
GOOD = "sub: ours/web/branch/main, aud: lowland"


def trust(claims: str, more: str = "", of: str = "left/identity/a") -> str:
    return f"trusts: [{{of: {of}, admits: {{token: forge, claims: {{{claims}}}}}{more}}}]\n"


def found_in(body: str, **files: str) -> list[dict[str, Any]]:
    """The risks of an estate, accepted ones left out, as `check` writes them."""
    reading = read_texts({"estate.yaml": HEAD + body, **files})
    assert reading.estate is not None, reading.errors
    chains = Chains.from_now_on(Web(compile_estate(reading.estate), NOW.timestamp()))
    found = placed(risks(chains), reading.records)
    assert not found.undecided
    return [risk_json(one) for one in found.standing]


def journey(name: str, more: str) -> str:
    shows = "{sub: ours/web/branch/main, aud: lowland, event: push}"
    return f"  {name}: {{from: {{token: forge, claims: {shows}}}, through: [left/identity/a], {more}}}\n"


FORK = "journeys:\n" + journey("j", "expect: refused").replace("push", "fork-run")
EACH: list[tuple[str, str, str]] = [
    ("strangers-admitted", trust("sub: {glob: '*/web/branch/main'}, aud: lowland"), "sub theirs/web/branch/main"),
    ("any-audience", trust("sub: ours/web/branch/main"), "aud elsewhere.example"),
    ("any-audience", trust("sub: ours/web/branch/main, aud: {glob: '**'}"), "aud elsewhere.example"),
    ("any-audience", trust("sub: ours/web/branch/main, aud: {not: highmoor}"), "aud elsewhere.example"),
    ("name-cut-short", trust("sub: {glob: 'ours/tide*/branch/main'}, aud: lowland"), "sub ours/tide-too/branch/main"),
    ("name-cut-short", trust("sub: [ours/a, {glob: 'ours/tide**'}], aud: lowland"), "sub ours/tide-too"),
    ("only-barred", trust("sub: {not: {glob: 'theirs/**'}}, aud: lowland"), ""),
    ("only-barred", trust("aud: lowland"), ""),
    ("only-barred", trust("sub: {glob: '**'}, aud: lowland"), ""),
    ("fork-admitted", trust(GOOD) + WRITES + FORK, "event fork-run"),
    ("claim-never-issued", trust(f"{GOOD}, branch: main"), "never issues branch"),
    ("never-holds", trust("sub: {glob: 'ours/*', not: {glob: 'ours/**'}}, aud: lowland"), "no caller can ever meet"),
    ("never-holds", trust(GOOD, ", when: {claims.sub: ours/other}"), "no caller can ever meet"),
    ("never-holds", "grants: [{to: left/identity/a, role: writing, at: left/bucket/b, "
     "when: {time: {after: '2030-01-01T00:00:00Z', before: '2029-01-01T00:00:00Z'}}}]\n", "no request can ever meet"),
    ("long-session", trust(GOOD, ", session: 8h"), "no journey needs more than 1h"),
    ("trust-in-trust", trust(GOOD, ", name: one").replace("]\n", ", ")
     + trust("sub: {glob: 'ours/web/branch/*'}, aud: lowland", ", name: two").removeprefix("trusts: ["),
     "admits no caller that the one at two does not"),
    ("whole-account", "trusts: [{of: left/identity/a, admits: {account: right}}]\n"
     "grants: [{to: right/identity/r, role: taking, at: left/identity/a, held_by: right}]\n", "only right/identity/r"),
    ("whole-account", "trusts: [{of: left/identity/a, admits: {account: away}, when: {reference: x}}]\n",
     "others decide who that is"),
    ("no-reference", "trusts: [{of: left/identity/a, admits: {identity: away/identity/w}}]\n", "without an agreed"),
    ("no-reference", "trusts: [{of: left/identity/a, admits: {identity: away/identity/w}, "
     "when: {time: {after: '2020-01-01T00:00:00Z'}}}]\n", "without an agreed"),
    ("origin-forgotten", "trusts: [{of: left/identity/a, admits: {identity: away/identity/w}, when: {reference: x}}]\n"
     + WRITES + "ceilings: [{name: no-strangers, over: targets, at: left, bars: {object: [write]}, "
     "when: {caller.organisation: {not: ours}}}]\n", "passes it as one of ours and can write left/bucket/b/object/"),
    ("endless-key", "credentials: {k: {of: left/identity/a, form: access-key}}\n", "has no end"),
    ("endless-key", "credentials: {k: {of: left/identity/a, form: static-token, created: '2099-01-01T00:00:00Z', "
     "expires: '2109-01-01T00:00:00Z'}}\n", "lives longer than 30d"),
    ("never-holds", trust(GOOD, ", when: {mfa: true}"), "no caller can ever meet"),
    ("never-holds", trust(GOOD, ", when: {target.labels.tier: high}"), "no caller can ever meet"),
    ("never-holds", trust(GOOD)
     + "ceilings: [{name: closed, over: targets, at: left, bars: {identity: [take-on]}}]\n",
     "a ceiling bars everybody"),
    ("never-holds", "trusts: [{of: left/identity/a, admits: {identity: right/identity/r}, when: {claims.sub: x}}]\n",
     "no request can ever meet"),
    ("never-holds", "trusts: [{of: left/identity/a, admits: {identity: right/identity/r}, "
     "when: {origin.kind: token, origin.organisation: ours}}]\n", "no request can ever meet"),
    ("never-holds", "trusts: [{of: left/identity/a, admits: {identity: right/identity/r}, "
     "when: {caller.kind: person}}]\n", "no request can ever meet"),
    ("everything-allowed", "grants: [{to: left/identity/a, role: all, at: left}]\n",
     "left/identity/a may do everything"),
    ("power-unexplained", "grants: [{to: left/identity/a, role: boss, at: left}]\n",
     "can change access at left (change-access)"),
    ("temporary-endless", "grants: [{name: tmp-fix, to: left/identity/a, role: writing, at: left/bucket/b}]\n",
     "is called tmp, and has no end"),
    ("temporary-endless", trust(GOOD, ", because: for now until the new forge is there"), "called for now"),
    ("acceptance-idle", "accepted: [{risk: long-session, of: left/identity/a, because: why, "
     "until: '2999-01-01T00:00:00Z'}]\n", "has no risk long-session"),
]  # fmt: skip


def test_a_tie_abroad_and_people_whom_a_ceiling_over_accounts_misses_are_told() -> None:
    more = "  left/identity/t: {kind: managed-identity, tied_to: right/host/h}\n  '@ours/identity/p': {kind: person}\n"
    home = next(line.split(":")[0].strip() for line in HEAD.split("organisations:")[1].splitlines() if ":" in line)
    head = HEAD.replace("identities:\n", "identities:\n" + more.replace("@ours", f"@{home.strip('{ ')}"))
    low = "ceilings: [{name: low, over: callers, at: left, bars: {object: [write]}}]\n"
    person = re.search(r"'(@\S+)'", head)
    assert person is not None
    held = f"grants: [{{to: '{person[1]}', role: writing, at: left/bucket/b}}]\n"
    reading = read_texts({"estate.yaml": head + held + low})
    assert reading.estate is not None, reading.errors
    chains = Chains.from_now_on(Web(compile_estate(reading.estate), NOW.timestamp()))
    told = {one.code: one.message for one in risks(chains).standing}
    assert "which is of another account" in told["tied-elsewhere"]
    assert f"low does not bar {person[1]}" in told["ceiling-misses-people"]


@pytest.mark.parametrize(("code", "body", "says"), EACH, ids=[f"{n}-{one[0]}" for n, one in enumerate(EACH)])
def test_each_risk_is_found_where_it_is(code: str, body: str, says: str) -> None:
    every = found_in(body)
    found = [one for one in every if one["code"] == code]
    assert found, every
    assert found[0]["source"].startswith("estate.yaml:")
    assert found[0]["remedy"]
    witness = ", ".join(f"{name} {value}" for name, value in (found[0]["gets_in"] or {}).items())
    assert says in found[0]["message"] or says in witness, found[0]


@pytest.mark.parametrize(
    ("code", "body"),
    [
        ("everything-allowed", "grants: [{to: left/identity/a, role: all, at: left/bucket/b}]\n"),
        ("power-unexplained", "grants: [{to: left/identity/a, role: boss, at: left, because: it is the bootstrap}]\n"),
        ("power-unexplained", "grants: [{to: left/identity/a, role: boss, at: left, until: '2999-01-01T00:00:00Z'}]\n"),
        ("temporary-endless", "grants: [{name: template, to: left/identity/a, role: writing, at: left/bucket/b}]\n"),
        ("temporary-endless", "grants: [{name: tmp, to: left/identity/a, role: writing, at: left/bucket/b, "
         "until: '2999-01-01T00:00:00Z'}]\n"),
        ("never-holds", trust(GOOD, ", when: {time: {after: '2031-01-01T00:00:00Z'}}")),
        ("never-holds", "trusts: [{of: left/identity/a, admits: {identity: right/identity/r}, when: {mfa: true}}]\n"),
    ],
)  # fmt: skip
def test_what_is_meant_so_is_no_risk(code: str, body: str) -> None:
    assert code not in [one["code"] for one in found_in(body)]


def test_an_issuer_that_is_shared_says_which_subjects_are_ours(enthesis: Program, tmp_path: Path) -> None:
    body = HEAD.replace(', owned: {sub: {glob: "ours/**"}}', "")
    ran = enthesis("check", "--format", "json", at=write_estate(tmp_path, {"estate.yaml": body}))
    assert [one["code"] for one in ran.json["risks"]] == ["owned-unsaid"]
    assert ran.code == 1


def test_keys_may_be_bounded_more_tightly() -> None:
    more = (
        "accounts: {tight: {in: '@ours', provider: lowland, longest_key: 2d}}\n"
        "identities: {tight/identity/t: {kind: service-account}}\n"
        "credentials: {k: {of: tight/identity/t, form: access-key, created: '2099-01-01T00:00:00Z', "
        "expires: '2099-01-04T00:00:00Z'}}\n"
    )
    found = found_in("", **{"more.yaml": more})
    assert [one["message"].split(" lives ")[1] for one in found] == ["longer than 2d"]


def test_every_code_is_tried_here() -> None:
    apart = {"owned-unsaid", "tied-elsewhere", "ceiling-misses-people", "not-possible"}
    assert {code for code, _, _ in EACH} | {*apart, *LIVE_RISKS} == set(RISKS)


@pytest.mark.parametrize(
    "body",
    [
        trust(GOOD),
        trust("sub: {glob: 'ours/tides/**'}, aud: lowland"),
        trust("sub: {glob: 'ours/web/branch/v*'}, aud: lowland"),
        trust("sub: {glob: 'ours/web/branch/release-*'}, aud: [lowland, highmoor]"),
        trust(f"{GOOD}, event: {{not: fork-run}}") + WRITES,
        trust(GOOD) + WRITES,  # nothing tells of forks
        trust(GOOD, ", session: 2h") + "journeys:\n" + journey("j", "expect: allowed, within: 2h"),
        "trusts: [{of: left/identity/a, admits: {identity: away/identity/w}, when: {reference: x}}]\n",
        "trusts: [{of: left/identity/a, admits: {account: right}}]\n"
        "identities: {right/identity/q: {kind: service-account}}\n"
        "grants:\n- {to: right/identity/r, role: taking, at: left/identity/a, held_by: right}\n"
        "- {to: right/identity/q, role: taking, at: left/identity/a, held_by: right}\n",
        trust(GOOD, ", until: '2020-01-01T00:00:00Z', session: 30d"),
        "credentials: {k: {of: left/identity/a, form: access-key, disabled: true}, "
        "l: {of: left/identity/a, form: access-key, expires: '2020-01-01T00:00:00Z'}, "
        "m: {of: left/identity/a, form: access-key, created: '2099-01-01T00:00:00Z', "
        "expires: '2099-01-20T00:00:00Z'}}\n",
    ],
)
def test_what_is_well_has_no_risk(body: str) -> None:
    more = {}
    if "identities:" in body:
        start = body.index("identities:")
        end = body.index("grants:")
        body, more = body[:start] + body[end:], {"more.yaml": body[start:end]}
    assert found_in(body, **more) == []


def test_a_risk_is_accepted_with_a_reason_until_a_time(enthesis: Program, tmp_path: Path) -> None:
    body = trust(GOOD, ", session: 8h")
    entry = "{risk: long-session, of: left/identity/a, because: a nightly run takes so long, until: 'TIME'}"
    accepted = "accepted:\n- " + entry.replace("TIME", "2999-01-01T00:00:00Z")
    write_estate(tmp_path, {"estate.yaml": HEAD + body, "accepted.yaml": accepted})
    ran = enthesis("check", "--sarif", "found.sarif", at=tmp_path)
    assert ran.code == 0, ran.out
    assert "1 risk accepted" in ran.out and "a nightly run takes so long, until 2999" in ran.out
    (result,) = json.loads((tmp_path / "found.sarif").read_text())["runs"][0]["results"]
    assert result["suppressions"][0]["justification"].startswith("a nightly run takes so long")
    (tmp_path / "accepted.yaml").write_text("accepted:\n- " + entry.replace("TIME", "2020-01-01T00:00:00Z"))
    ran = enthesis("check", at=tmp_path)
    assert ran.code == 1 and "it was accepted until 2020-01-01" in ran.out
    for wrong in (entry.replace("long-session", "long"), entry.replace("because: a nightly run takes so long, ", "")):
        (tmp_path / "accepted.yaml").write_text("accepted:\n- " + wrong)
        assert enthesis("check", at=tmp_path).code == 2


def test_risks_are_written_as_sarif(enthesis: Program, tmp_path: Path) -> None:
    body = trust("sub: {glob: '**/tide*'}") + "journeys:\n" + journey("j", "expect: refused")
    write_estate(tmp_path, {"a b/estate.yaml": HEAD + body})
    ran = enthesis("check", "--sarif", str(tmp_path / "s.sarif"), at=tmp_path / "a b")
    assert ran.code == 1
    log = json.loads((tmp_path / "s.sarif").read_text())
    (run,) = log["runs"]
    jsonschema.validate(log, SARIF)
    for result in run["results"]:
        assert run["tool"]["driver"]["rules"][result["ruleIndex"]]["id"] == result["ruleId"]
        region = result["locations"][0]["physicalLocation"]["region"]
        assert region["startLine"] > 1
    marks = [result["partialFingerprints"]["statement/v1"] for result in run["results"]]
    assert len(set(marks)) == len(marks) > 1
    (tmp_path / "a b" / "estate.yaml").write_text("# a line more\n" + HEAD + body)
    enthesis("check", "--sarif", str(tmp_path / "t.sarif"), at=tmp_path / "a b")
    again = json.loads((tmp_path / "t.sarif").read_text())["runs"][0]["results"]
    assert [result["partialFingerprints"]["statement/v1"] for result in again] == marks
    (tmp_path / "a b" / "estate.yaml").write_text("estate: [")
    assert enthesis("check", "--sarif", str(tmp_path / "u.sarif"), at=tmp_path / "a b").code == 2
    (error,) = json.loads((tmp_path / "u.sarif").read_text())["runs"][0]["results"]
    assert error["level"] == "error"


SARIF: dict[str, Any] = {  # what SARIF 2.1.0 requires of the objects that are written here
    "type": "object",
    "required": ["version", "runs"],
    "properties": {
        "version": {"const": "2.1.0"},
        "runs": {
            "items": {
                "required": ["tool", "results"],
                "properties": {
                    "tool": {"required": ["driver"], "properties": {"driver": {"required": ["name", "rules"]}}},
                    "columnKind": {"enum": ["utf16CodeUnits", "unicodeCodePoints"]},
                    "results": {
                        "items": {
                            "required": ["message", "ruleId", "level", "locations"],
                            "properties": {
                                "message": {"required": ["text"]},
                                "level": {"enum": ["none", "note", "warning", "error"]},
                                "partialFingerprints": {"additionalProperties": {"type": "string"}},
                                "suppressions": {
                                    "items": {
                                        "required": ["kind"],
                                        "properties": {
                                            "kind": {"enum": ["inSource", "external"]},
                                            "status": {"enum": ["accepted", "underReview", "rejected"]},
                                        },
                                    }
                                },
                            },
                        }
                    },
                },
            }
        },
    },
}


# -- witnesses, minted ----------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def dangerous_lab(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    """A lab where an estate full of risks is enacted: an identity for each."""
    folder = tmp_path_factory.mktemp("dangerous")
    single = "trusts: [{of: left/identity/a, admits: {token"
    bodies = [body for code, body, _ in EACH if body.startswith(single) and code != "trust-in-trust"]
    lines = [body.split("[", 1)[1].split("]\n", 1)[0] for body in bodies]
    identities = "".join(f"  left/identity/d{n}: {{kind: service-account}}\n" for n in range(len(lines)))
    trusts = "".join(f"- {one.replace('left/identity/a,', f'left/identity/d{n},')}\n" for n, one in enumerate(lines))
    grants = "".join(f"- {{to: left/identity/d{n}, role: writing, at: left/bucket/b}}\n" for n in range(len(lines)))
    body = HEAD.replace("roles:", f"{identities}roles:") + f"trusts:\n{trusts}grants:\n{grants}"
    write_estate(folder, {"estate.yaml": body, "expected.yaml": FORK})
    try:
        lab = start_lab(enthesis, folder)
        ran = enthesis("enact", "--yes", "--accept", "outside-gains", at=folder)
        assert ran.code == 0, ran.err + ran.out
        yield lab
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def test_whoever_is_shown_to_get_in_by_a_risk_gets_in_at_the_lab(enthesis: Program, dangerous_lab: Lab) -> None:
    forge, cloud = dangerous_lab.services["forge"], dangerous_lab.services["lowland"]
    said = enthesis("check", "--format", "json", at=dangerous_lab.folder).json
    tried: dict[str, int] = {}
    tls = ssl.create_default_context(cafile=dangerous_lab.authority)
    with httpx.Client(verify=tls, trust_env=False, headers=dangerous_lab.owner) as http:
        for risk in said["risks"]:
            shown: Mapping[str, Any] | None = risk["gets_in"]
            if shown is None:
                continue
            claims = {name: value for name, value in shown.items() if name != "aud"}
            run = http.post(f"{forge}/runs", json={"claims": claims})
            assert run.status_code == 201, run.text
            wanted = {"audience": shown["aud"]} if "aud" in shown else {}
            token = http.post(run.json()["token_endpoint"], json=wanted).json()["token"]
            form = {
                "grant_type": "urn:ietf:params:oauth:grant-type:token-exchange", "subject_token": token,
                "subject_token_type": "urn:ietf:params:oauth:token-type:jwt",
                "resource": f"{cloud}/places/{risk['names'][-1]}",
            }  # fmt: skip
            answer = http.post(f"{cloud}/token", data=form)
            assert answer.status_code == 200, (risk, answer.text)
            tried[risk["code"]] = tried.get(risk["code"], 0) + 1
    assert set(tried) >= {"strangers-admitted", "any-audience", "name-cut-short", "only-barred", "fork-admitted"}, tried


def test_the_worked_example_has_no_risk(enthesis: Program) -> None:
    ran = enthesis("check", "--format", "json", at=SALTMARSH)
    assert ran.json["risks"] == [] and ran.json["undecided"] == 0


def test_an_acceptance_ends_at_its_very_instant() -> None:
    body = trust(GOOD, ", session: 8h")
    for until, stands in ((NOW, True), (NOW.replace(second=1), False)):
        entry = f"accepted: [{{risk: long-session, of: left/identity/a, because: x, until: '{until.isoformat()}'}}]\n"
        assert ("long-session" in [one["code"] for one in found_in(body + entry)]) == stands

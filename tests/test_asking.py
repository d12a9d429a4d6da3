"""The asking commands, as a user meets them: trace, reach, card, and what check says besides errors."""

import base64
import csv
import io
import json
import subprocess
from collections.abc import Mapping
from pathlib import Path

import pytest

from .conftest import Program

MAIN = "project/tides/bulletin/branch/main"
ANSWER = "bulletin/bucket/public-pages/object/a.html"


def edit(folder: Path, name: str, old: str, new: str) -> None:
    text = (folder / name).read_text(encoding="utf-8")
    assert old in text
    (folder / name).write_text(text.replace(old, new, 1), encoding="utf-8")


# -- trace ----------------------------------------------------------------------------------------------------------


def test_trace_names_the_cause_and_who_can_mend_it_in_its_first_line(enthesis: Program, saltmarsh: Path) -> None:
    ran = enthesis("trace", "--journey", "publish-from-a-side-branch", at=saltmarsh)
    assert ran.code == 1
    first = ran.out.splitlines()[0]
    assert first.startswith("Refused at target-side: no trust of build/identity/publisher admits the bearer (sub is ")
    assert first.endswith("up to the administrators of build.")
    lines = ran.out.splitlines()
    wanted = next(line for line in lines if "wanted  " + MAIN in line)
    found = lines[lines.index(wanted) + 1]
    marked = lines[lines.index(wanted) + 2]
    assert found[marked.index("^") : marked.rindex("^") + 1] == "try-this"
    assert "publishing.yaml:7" in ran.out
    assert "1  let sub be project/tides/bulletin/branch/try-this too" in ran.out


def test_trace_of_an_allowed_request_shows_the_grant_that_allows_it(enthesis: Program, saltmarsh: Path) -> None:
    ran = enthesis("trace", "write", ANSWER, "--from", "bulletin/identity/page-writer", at=saltmarsh)
    assert ran.code == 0
    assert ran.out.startswith("Allowed: bulletin/identity/page-writer may write")
    assert "publishing.yaml:20" in ran.out
    said = enthesis(
        "trace", "write", ANSWER, "--from", "bulletin/identity/page-writer", "--format", "json", at=saltmarsh
    )
    assert said.json["allowed"] is True
    assert [step["step"] for step in said.json["requests"][0]["steps"]] == [
        "names", "provider", "ceilings", "target-side", "caller-side", "companions", "session",
    ]  # fmt: skip


def test_a_ceiling_is_never_hidden_behind_a_smaller_remedy(enthesis: Program, saltmarsh: Path) -> None:
    asked = ("trace", "delete", ANSWER, "--from", "bulletin/identity/page-writer", "--format", "json")
    said = enthesis(*asked, at=saltmarsh)
    assert said.code == 1
    assert set(said.json["refused_at"]) == {"ceilings", "target-side"}
    assert "@saltmarsh/public" in said.json["says"] and "bulletin" in said.json["says"]
    for remedy in said.json["remedies"]:
        assert any("pages-stay" in change["sentence"] for change in remedy["changes"])


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("write", "bulletin/bucket/public-pagse/object/a", "--from", "bulletin/identity/page-writer"), "public-pages"),
        (("wirte", ANSWER, "--from", "bulletin/identity/page-writer"), "write"),
        (("write", ANSWER, "--from", "bulletin/identity/page-writr"), "page-writer"),
        (("write", "bulletin/bukcet/public-pages", "--from", "bulletin/identity/page-writer"), "bulletin/bucket"),
        (("write", ANSWER, "--from", "frge", "--claim", "sub=x"), "forge"),
        (("write", ANSWER, "--from", "forge", "--claim", "sub"), "NAME=VALUE"),
        (("write", ANSWER), "--from"),
        (("write", "--from", "bulletin/identity/page-writer"), "VERB TARGET"),
        (("--journey", "publish-from-man"), "publish-from-main"),
        (("write", ANSWER, "--from", "bulletin/identity/page-writer", "--at-time", "noon"), "--at-time"),
        (("write", ANSWER, "--from", "bulletin/identity/page-writer", "--network", "here"), "--network"),
        (("write", ANSWER, "--from", "forge", "--through", "bulid/identity/publisher"), "build/identity/publisher"),
    ],
)
def test_a_request_that_is_wrong_says_which_word_and_what_is_known(
    enthesis: Program, saltmarsh: Path, words: tuple[str, ...], says: str
) -> None:
    ran = enthesis("trace", *words, at=saltmarsh)
    assert ran.code == 2
    assert says in ran.out + ran.err


def test_a_remedy_is_written_where_it_belongs_and_nothing_else_changes(enthesis: Program, saltmarsh: Path) -> None:
    before = (saltmarsh / "publishing.yaml").read_text(encoding="utf-8").splitlines()
    ran = enthesis("trace", "--journey", "publish-from-a-side-branch", "--write", "1", at=saltmarsh)
    assert "written into publishing.yaml" in ran.err
    after = (saltmarsh / "publishing.yaml").read_text(encoding="utf-8").splitlines()
    different = [(one, two) for one, two in zip(before, after, strict=True) if one != two]
    assert len(different) == 1
    assert f"sub: [{MAIN}, project/tides/bulletin/branch/try-this]" in different[0][1]
    assert enthesis("trace", "--journey", "publish-from-a-side-branch", at=saltmarsh).code == 0
    checked = enthesis("check", at=saltmarsh)
    assert checked.code == 1
    assert "expected.yaml:10:3  publish-from-a-side-branch: expected refused, got allowed" in checked.out


def test_new_statements_go_to_the_end_of_their_sections_and_comments_stay(enthesis: Program, saltmarsh: Path) -> None:
    edit(saltmarsh, "publishing.yaml", "grants:\n", "grants:  # who may what\n")
    asked = ("trace", "read", "bulletin/bucket/public-pages/object/a", "--from", "bulletin/identity/page-writer")
    ran = enthesis(*asked, "--write", "1", at=saltmarsh)
    assert ran.code == 1
    text = (saltmarsh / "publishing.yaml").read_text(encoding="utf-8")
    assert "grants:  # who may what\n" in text
    assert text.index("read-object: {allows: {object: read}}") < text.index("grants:")
    assert enthesis(*asked, at=saltmarsh).code == 0
    assert enthesis(*asked, "--write", "7", at=saltmarsh).code == 2


def test_a_token_is_an_origin_and_is_never_repeated(enthesis: Program, saltmarsh: Path) -> None:
    def part(value: Mapping[str, object]) -> str:
        return base64.urlsafe_b64encode(json.dumps(value).encode()).decode().rstrip("=")

    claims = {"iss": "https://forge.saltmarsh.example", "sub": MAIN, "aud": ["lowland"], "event": "push"}
    token = f"{part({'alg': 'none'})}.{part(claims)}.c2lnbmVk"
    (saltmarsh / "token").write_text(token, encoding="utf-8")
    ran = enthesis("trace", "--token", "token", "--through", "build/identity/publisher", at=saltmarsh)
    assert ran.code == 0, ran.out
    assert "signature was not checked" in ran.err
    assert "c2lnbmVk" not in ran.out + ran.err
    stale = f"{part({})}.{part({**claims, 'exp': 10})}.eA"
    ran = enthesis("trace", "--token", "-", "--through", "build/identity/publisher", at=saltmarsh, stdin=stale)
    assert ran.code == 1
    assert "the token has ended" in ran.out
    other = f"{part({})}.{part({**claims, 'iss': 'https://elsewhere.example'})}.eA"
    ran = enthesis("trace", "--token", "-", "--through", "build/identity/publisher", at=saltmarsh, stdin=other)
    assert ran.code == 2
    assert "forge.saltmarsh.example" in ran.err
    assert enthesis("trace", "--token", "-", "write", ANSWER, at=saltmarsh, stdin="no token").code == 2


def test_what_is_unknown_says_which_option_to_give(enthesis: Program, saltmarsh: Path) -> None:
    edit(saltmarsh, "publishing.yaml", "at: bulletin/bucket/public-pages}", "at: bulletin/bucket/public-pages, "
         "when: {network: {within: 10.0.0.0/8}}}")  # fmt: skip
    asked = ("trace", "write", ANSWER, "--from", "bulletin/identity/page-writer")
    ran = enthesis(*asked, at=saltmarsh)
    assert ran.code == 1
    assert "give --network ADDRESS" in ran.out
    assert enthesis(*asked, "--network", "10.1.1.1", at=saltmarsh).code == 0
    assert enthesis(*asked, "--network", "192.0.2.1", at=saltmarsh).code == 1


# -- journeys and invariants ----------------------------------------------------------------------------------------


def test_a_journey_that_leaves_out_what_its_refusal_rests_on_is_an_error(enthesis: Program, saltmarsh: Path) -> None:
    edit(saltmarsh, "publishing.yaml", "admits: {identity: build/identity/publisher}", "admits: {identity: "
         "build/identity/publisher}\n    when: {reference: tide-table}")  # fmt: skip
    checked = enthesis("check", "--format", "json", at=saltmarsh)
    assert checked.code == 1
    found = {one["journey"]: one for one in checked.json["journeys"]}
    assert any("reference is left out" in text for text in found["publish-from-main"]["unmet"])
    edit(saltmarsh, "expected.yaml", "    keyless: true", "    context: {reference: tide-table}\n    keyless: true")
    assert enthesis("check", at=saltmarsh).code == 0


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("within: 1h", "within: 5m", "lives 15m, longer than 5m"),
        ("refused_at: target-side", "refused_at: ceilings", "expected refused at ceilings, got refused at target-side"),
        ("through: [build/identity/publisher]\n", "through: [build/identity/publishr]\n", "proves nothing"),
        ("from: {token: forge, claims: {sub: project/tides/bulletin/branch/main, aud: lowland, event: push}}",
         "from: {identity: build/identity/publisher}", "expected keyless"),
    ],
)  # fmt: skip
def test_every_expectation_is_held_against_the_verdict(
    enthesis: Program, saltmarsh: Path, old: str, new: str, says: str
) -> None:
    edit(saltmarsh, "expected.yaml", old, new)
    if "identity: build" in new:
        edit(saltmarsh, "expected.yaml", "through: [build/identity/publisher, ", "through: [")
    checked = enthesis("check", at=saltmarsh)
    assert checked.code == 1
    assert says in checked.out


def test_a_reason_that_only_a_later_request_refuses_for_is_said_not_to_show_live(
    enthesis: Program, saltmarsh: Path
) -> None:
    old = "through: [build/identity/publisher]\n    expect: refused\n    refused_at: target-side"
    new = (
        "through: [build/identity/publisher, bulletin/identity/page-writer]\n"
        "    attempt: delete bulletin/bucket/public-pages\n    expect: refused\n    refused_at: [target-side, ceilings]"
    )
    edit(saltmarsh, "expected.yaml", old, new)
    checked = enthesis("check", at=saltmarsh)
    assert checked.code == 0
    assert "publish-from-a-side-branch: as expected, but `prove` cannot show ceilings:" in checked.out
    said = {
        one["journey"]: one["unseen_live"]
        for one in enthesis("check", "--format", "json", at=saltmarsh).json["journeys"]
    }
    assert said == {"publish-from-main": [], "publish-from-a-side-branch": ["ceilings"]}


def test_an_invariant_is_broken_by_a_shortest_chain_with_the_claims_that_do_it(
    enthesis: Program, saltmarsh: Path
) -> None:
    assert "2 invariants hold" in enthesis("check", at=saltmarsh).out
    edit(saltmarsh, "publishing.yaml", ", event: {not: fork-merge}", "")
    checked = enthesis("check", "--format", "json", at=saltmarsh)
    assert checked.code == 1
    found = {one["invariant"]: one for one in checked.json["invariants"]}
    broken = found["forks-never-write"]
    assert broken["outcome"] == "broken"
    assert broken["with"]["claims.event"] == "fork-merge" and broken["with"]["claims.sub"] == MAIN
    assert [step["verb"] for step in broken["chain"]] == ["take-on", "take-on", "write"]
    assert found["only-the-page-writer-writes"]["outcome"] == "holds"


def test_what_can_be_had_by_changing_access_counts_only_when_asked(enthesis: Program, saltmarsh: Path) -> None:
    edit(saltmarsh, "publishing.yaml", "grants:\n", "grants:\n  - {to: gauges/identity/keeper, role: keeping, at: "
         "bulletin, held_by: bulletin, because: a test}\n")  # fmt: skip
    edit(saltmarsh, "publishing.yaml", "roles:\n", "roles:\n  keeping: {allows: {bucket: change-access}}\n")
    edit(
        saltmarsh, "publishing.yaml", "identities:\n", "identities:\n  gauges/identity/keeper: {kind: instance-role}\n"
    )
    assert enthesis("check", at=saltmarsh).code == 0
    edit(saltmarsh, "publishing.yaml", "because: a test}\n", "because: a test}\n"
         "  - {to: gauges/identity/keeper, role: keeping, at: bulletin, held_by: gauges, because: x}\n")  # fmt: skip
    assert enthesis("check", at=saltmarsh).code == 0
    reached = enthesis("reach", "--from", "gauges/identity/keeper", "--by-change", "--format", "json", at=saltmarsh)
    assert "change-access" in {one["verb"] for one in reached.json["found"]}


def test_both_halves_of_a_crossing_by_change(enthesis: Program, saltmarsh: Path) -> None:
    """Whoever may change access at a place can let itself do anything there, in its own account."""
    edit(saltmarsh, "publishing.yaml", "grants:\n", "grants:\n  - {to: bulletin/identity/keeper, role: keeping, at: "
         "bulletin/bucket/public-pages}\n")  # fmt: skip
    edit(saltmarsh, "publishing.yaml", "roles:\n", "roles:\n  keeping: {allows: {bucket: change-access}}\n")
    edit(
        saltmarsh,
        "publishing.yaml",
        "identities:\n",
        "identities:\n  bulletin/identity/keeper: {kind: instance-role}\n",
    )
    assert enthesis("check", at=saltmarsh).code == 0
    checked = enthesis("check", "--by-change", at=saltmarsh)
    assert checked.code == 1
    assert "bulletin/identity/keeper, by changing access" in checked.out
    reached = enthesis("reach", "--to", ANSWER, "--verb", "write", "--by-change", "--format", "json", at=saltmarsh)
    starts = {one["start"]: one["by_change"] for one in reached.json["found"]}
    assert starts["bulletin/identity/keeper"]


# -- reach and card -------------------------------------------------------------------------------------------------


def test_reach_says_who_by_which_chain_and_whether_it_starts_keyless(enthesis: Program, saltmarsh: Path) -> None:
    ran = enthesis("reach", "--to", ANSWER, "--verb", "write", at=saltmarsh)
    assert ran.code == 0
    assert ran.out.splitlines()[0] == f"1 origin and 2 identities can write {ANSWER}:"
    rows = list(csv.DictReader(io.StringIO(enthesis("reach", "--from", "forge", "--format", "csv", at=saltmarsh).out)))
    assert {row["keyless"] for row in rows} == {"keyless"}
    written = next(row for row in rows if row["verb"] == "write")
    assert written["hops"] == "2" and written["crossing"] == "yes"
    assert f"sub {MAIN}" in written["conditions"]
    one_hop = enthesis("reach", "--from", "forge", "--hops", "1", "--format", "json", at=saltmarsh).json["found"]
    assert {one["target"] for one in one_hop} == {"build/identity/publisher", "bulletin/identity/page-writer"}
    fork = enthesis("reach", "--from", "forge", "--claim", "event=fork-merge", at=saltmarsh)
    assert fork.code == 1
    assert fork.out.startswith("forge can reach no place, with event fork-merge.")
    assert enthesis("reach", "--to", "gauges/bucket/raw-levels", "--verb", "delete", at=saltmarsh).code == 1
    assert enthesis("reach", "--from", "forg", at=saltmarsh).code == 2
    assert enthesis("reach", "--to", ANSWER, "--verb", "wirte", at=saltmarsh).code == 2
    assert enthesis("reach", at=saltmarsh).code == 2


def test_a_card_holds_all_about_one_thing(enthesis: Program, saltmarsh: Path) -> None:
    page = enthesis("card", "bulletin/identity/page-writer", at=saltmarsh)
    assert page.code == 0
    for text in ("owner web-team", "build/identity/publisher, for 15m", "page-writing at bulletin/bucket/public-pages",
                 "the journey publish-from-main", "the invariant only-the-page-writer-writes"):  # fmt: skip
        assert text in page.out
    assert "encrypted by gauges/key/levels" in enthesis("card", "gauges/bucket/raw-levels", at=saltmarsh).out
    assert "write and list on object" in enthesis("card", "page-writing", at=saltmarsh).out
    missing = enthesis("card", "page-writng", at=saltmarsh)
    assert missing.code == 2 and "page-writing" in missing.err


# -- versions -------------------------------------------------------------------------------------------------------


def test_check_compares_with_a_revision_and_a_folder_and_bars_gains(enthesis: Program, saltmarsh: Path) -> None:
    def git(*words: str) -> None:
        subprocess.run(
            ["git", "-c", "user.name=a", "-c", "user.email=a@b.example", "-C", str(saltmarsh), *words],
            check=True, capture_output=True,
        )  # fmt: skip

    git("init", "-q")
    git("add", "-A")
    git("commit", "-qm", "as it was")
    same = enthesis("check", "--compared-with", "HEAD", at=saltmarsh)
    assert same.code == 0 and "No caller gains or loses access." in same.out
    edit(saltmarsh, "publishing.yaml", "object: [write, list]", "object: [write, read]")
    found = enthesis("check", "--compared-with", "HEAD", "--format", "json", at=saltmarsh).json["compared"]
    assert {(one["caller"], one["verb"]) for one in found["gained"]} == {
        ("bulletin/identity/page-writer", "read"), ("build/identity/publisher", "read"), ("forge", "read"),
    }  # fmt: skip
    assert {one["verb"] for one in found["lost"]} == {"list"}
    barred = enthesis("check", "--compared-with", "HEAD", "--fail-on-gain", "read bulletin", at=saltmarsh)
    assert barred.code == 1 and "barred: " in barred.out
    assert enthesis("check", "--compared-with", "HEAD", "--fail-on-gain", "delete bulletin", at=saltmarsh).code == 0
    review = enthesis("check", "--compared-with", "HEAD", "--format", "markdown", at=saltmarsh).out
    assert "### Access gained" in review and "| bulletin/identity/page-writer | read |" in review
    assert enthesis("check", "--compared-with", "nowhere", at=saltmarsh).code == 2
    assert enthesis("check", "--compared-with", "--version", at=saltmarsh).code == 2
    assert enthesis("check", "--compared-with", "HEAD", "--fail-on-gain", "raed bulletin", at=saltmarsh).code == 2


@pytest.mark.parametrize(
    "words", [("trace", "take-on", "build/identity/publisher", "--from", "forge"), ("reach", "--from", "forge")]
)
def test_claims_that_an_issuer_never_issues_are_a_error_in_every_question(
    enthesis: Program, saltmarsh: Path, words: tuple[str, ...]
) -> None:
    edit(
        saltmarsh,
        "estate.yaml",
        "    kind: oidc\n",
        "    kind: oidc\n    claims: {sub: text, event: text, teams: list}\n",
    )
    good = ("--claim", "sub=project/tides/x", "--claim", "aud=a", "--claim", "aud=b", "--claim", "teams=a")
    assert enthesis(*words, *good, "--claim", "teams=b", at=saltmarsh).code != 2
    for bad, says in (("evnt=push", "did you mean event"), ("sub=other", "as one value, not as a list")):
        ran = enthesis(*words, *good, "--claim", bad, at=saltmarsh)
        assert ran.code == 2 and says in ran.err, ran.err

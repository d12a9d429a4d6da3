"""A second person's approval: asked for by the estate, signed under one proposal, and never the author's own."""

import base64
import json
import subprocess
import threading
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from typing import Any

import pytest

from enthesis.change.approving import approved, authored, refuse_if_approvals_lack, refuse_if_changed
from enthesis.change.enacting import refuse_if_different
from enthesis.files.finding import HISTORY, PLACE_OF_WORK
from enthesis.files.folder import read_texts
from enthesis.live.signing import signed, unverified_document
from enthesis.model.errors import InvalidInput, MovedAway
from enthesis.proposals.approving import lacking
from enthesis.proposals.rules import ChangeRule, loosened, rule_from, rule_of
from enthesis.proposals.steps import Step, digest_of, proposal_from

from .conftest import Program, edited_somewhere, start_lab, write_estate
from .fuzzing import PROPOSAL

BEFORE = """\
estate: guarded
organisations: {works: {}}
providers: {north: {style: two-sided}}
accounts: {left: {in: "@works", provider: north}, right: {in: "@works", provider: north}}
resources: {left/bucket/b: {}, right/bucket/b: {}}
identities:
  "@works/identity/ann": {kind: person}
  "@works/identity/bob": {kind: person}
  "@works/identity/cyd": {kind: person}
groups: {"@works/group/leads": {members: ["@works/identity/ann", "@works/identity/bob"]}}
roles: {runs: {allows: {account: [create, change-role, change-access], bucket: [change-access]}}}
grants:
  - {to: "@works/identity/ann", role: runs, at: left}
  - {to: "@works/identity/ann", role: runs, at: right}
"""
ESTATE = (
    BEFORE.replace(
        "groups:", "  left/identity/a: {kind: service-account}\n  right/identity/a: {kind: service-account}\ngroups:"
    ).replace("roles: {", "roles: {reads: {allows: {object: [read]}}, ")
    + """\
  - {to: left/identity/a, role: reads, at: left/bucket/b}
approvals: [{at: left, by: 1, of: "@works/group/leads"}]
"""
)


def keys(folder: Path) -> dict[str, Path]:
    made = {}
    for name in ("ann", "bob", "cyd", "nobody"):
        made[name] = folder / name
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "", "-f", str(made[name])], check=True)
    return made


def test_what_wants_an_approval_is_enacted_with_one_and_not_otherwise(enthesis: Program, tmp_path: Path) -> None:
    key = keys(tmp_path)
    people = {name: f"@works/identity/{name}" for name in ("ann", "bob", "cyd")}
    approvers = {person: {"key": key[name].with_suffix(".pub").read_text()} for name, person in people.items()}
    folder = write_estate(
        tmp_path / "guarded", {"estate.yaml": BEFORE, "people.json": json.dumps({"approvers": approvers})}
    )
    runtime = tmp_path / "runtime"
    runtime.mkdir(mode=0o700)

    def run(*words: str) -> Any:
        return enthesis(*words, at=folder, XDG_RUNTIME_DIR=str(runtime))

    try:
        start_lab(enthesis, folder)
        assert run("enact", "--yes", "--accept", "power-gained").code == 0  # by the administrators, before all this
        (folder / "estate.yaml").write_text(ESTATE)
        unknown = run("enact", "--yes")
        assert unknown.code == 2 and "no person was signed in" in unknown.err
        other = threading.Thread(target=lambda: enthesis("lab", "agree", "--as", people["ann"], at=folder))
        other.start()
        assert run("sign-in").code == 0
        other.join()
        missing = run("enact", "--yes")
        assert missing.code == 2 and "want 1 more approval of @works/group/leads" in missing.err
        assert "(such as @works/identity/bob)" in missing.err  # and not the author

        assert run("propose", "--out", "p.json").code == 0
        for name, says in (("ann", "cannot approve it"), ("nobody", "not the key of an approver")):
            ran = run("propose", "--approve", "p.json", "--sign", str(key[name]))
            assert ran.code == 2 and says in ran.err, ran.err
        assert run("propose", "--approve", "p.json", "--sign", str(key["cyd"])).code == 0  # who is none of the leads
        assert run("enact", "p.json", "--yes").code == 2
        before = (folder / "p.json").read_text()
        ran = run("propose", "--approve", "p.json", "--sign", str(key["bob"]))
        assert ran.code == 0 and "Approved by @works/identity/bob." in ran.err
        approved = json.loads((folder / "p.json").read_text())
        assert len(approved["signatures"]) == 3 and approved["digest"] == json.loads(before)["digest"]

        (folder / "estate.yaml").write_text(
            ESTATE.replace("[read]", "[read, write]")
        )  # another proposal, same signature
        assert run("propose", "--out", "q.json").code == 0
        other_plan = json.loads((folder / "q.json").read_text())
        (folder / "q.json").write_text(json.dumps({**other_plan, "signatures": approved["signatures"]}))
        stolen = run("enact", "q.json", "--yes")
        assert stolen.code == 2 and "was changed after @works/identity/ann signed it" in stolen.err, stolen.err
        (folder / "estate.yaml").write_text(ESTATE)
        done = run("enact", "p.json", "--yes")
        assert done.code == 0, done.err
        shown = run("history", "show", "2").out
        assert "proposed by @works/identity/ann" in shown and "enacted by @works/identity/ann" in shown
        assert "approved by @works/identity/cyd and @works/identity/bob" in shown
        assert run("propose", "--undo", "2", "--out", "back.json").code == 0
        assert "want 1 more approval of @works/group/leads" in run("enact", "back.json", "--yes").err
        assert run("propose", "--approve", "back.json", "--sign", str(key["bob"])).code == 0
        again = run("enact", "back.json", "--yes")
        assert again.code == 3 and "lacks the right `configure` at left/identity/a" in again.err  # ann made it, no more
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def test_a_sign_in_approves_for_a_day_and_only_what_it_was_given_for(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path / "guarded", {"estate.yaml": BEFORE})
    places = {name: tmp_path / name for name in ("ann", "bob")}
    for place in places.values():
        place.mkdir(mode=0o700)

    def run(who: str, *words: str) -> Any:
        return enthesis(*words, at=folder, XDG_RUNTIME_DIR=str(places[who]))

    def sign_in(who: str) -> None:
        agrees = ("lab", "agree", "--as", f"@works/identity/{who}")
        other = threading.Thread(target=lambda: enthesis(*agrees, at=folder))
        other.start()
        assert run(who, "sign-in").code == 0
        other.join()

    try:
        start_lab(enthesis, folder)
        assert run("ann", "enact", "--yes", "--accept", "power-gained").code == 0
        (folder / "estate.yaml").write_text(ESTATE)
        sign_in("ann")
        assert run("ann", "propose", "--out", "p.json").code == 0
        nobody = run("bob", "propose", "--approve", "p.json")
        assert nobody.code == 2 and "no approver is signed in" in nobody.err.lower()
        assert "cannot approve it" in run("ann", "propose", "--approve", "p.json").err
        sign_in("bob")
        ran = run("bob", "propose", "--approve", "p.json")
        assert ran.code == 0 and "Approved by @works/identity/bob." in ran.err, ran.err
        approved = json.loads((folder / "p.json").read_text())

        authors, statement = approved["signatures"]
        head, claims, signature = statement.split(".")
        others = [f"{head}.{claims}.{signature[:-8]}AAAAAAAA", f"{head}.{signature}.{claims}", "e30.e30.e30", "x"]
        (folder / "forged.json").write_text(json.dumps({**approved, "signatures": [authors, *others]}))
        forged = run("ann", "enact", "forged.json", "--yes")
        assert forged.code == 2 and "want 1 more approval" in forged.err

        assert enthesis("lab", "clock", "--forward", "25h", at=folder).code == 0
        late = run("ann", "enact", "p.json", "--yes")
        assert late.code == 2 and "want 1 more approval" in late.err
        ended = run("bob", "propose", "--approve", "p.json")  # whose sign-in is over by the directory's clock
        assert ended.code == 2 and "no approver is signed in" in ended.err
        sign_in("bob")
        sign_in("ann")
        assert run("bob", "propose", "--approve", "p.json").code == 0
        done = run("ann", "enact", "p.json", "--yes")
        assert done.code == 0, done.err
        assert "approved by @works/identity/bob" in run("ann", "history", "show", "2").out
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def test_what_is_wrong_with_approvals_is_told(enthesis: Program, tmp_path: Path) -> None:
    text = ESTATE.replace('by: 1, of: "@works/group/leads"', 'by: 0, of: "@works/group/leeds"')
    text += 'approvers: {"@works/identity/dan": {key: none}, left/identity/a: {key: ssh-ed25519 AAAA}}\n'
    folder = write_estate(tmp_path / "wrong", {"estate.yaml": text})
    ran = enthesis("check", at=folder)
    assert ran.code == 2
    for says in ("a whole number from 1 to 99", "unknown person `@works/identity/dan`", "no Ed25519 public key"):
        assert says in ran.out, ran.out
    alone = write_estate(tmp_path / "alone", {"estate.yaml": ESTATE})
    assert enthesis("propose", "--approve", "x", at=alone).code == 2
    assert enthesis("propose", "--sign", "x", at=alone).code == 2


# -- two people, really ---------------------------------------------------------------------------------------------


@pytest.fixture
def guarded(enthesis: Program, tmp_path: Path) -> Iterator["Guarded"]:
    """An estate under a rule that was enacted, with a key of each person; ann's change waits for an approval."""
    key = keys(tmp_path)
    approvers = {
        f"@works/identity/{name}": {"key": key[name].with_suffix(".pub").read_text()} for name in ("ann", "bob", "cyd")
    }
    rule = BEFORE + 'approvals: [{at: left, by: 1, of: "@works/group/leads"}]\n'
    folder = write_estate(
        tmp_path / "guarded", {"estate.yaml": rule, "people.json": json.dumps({"approvers": approvers})}
    )
    one = Guarded(enthesis, folder, key)
    try:
        start_lab(enthesis, folder)
        assert one.run("propose", "--out", "first.json", "--sign", str(key["ann"])).code == 0
        assert one.run("propose", "--approve", "first.json", "--sign", str(key["bob"])).code == 0
        ran = one.run("enact", "first.json", "--yes", "--accept", "power-gained")
        assert ran.code == 0, ran.err
        (folder / "estate.yaml").write_text(ESTATE)
        yield one
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


@dataclass
class Guarded:
    enthesis: Program
    folder: Path
    key: dict[str, Path]

    def run(self, *words: str) -> Any:
        return self.enthesis(*words, at=self.folder)

    def proposed(self, by: str = "ann", name: str = "p.json") -> dict[str, Any]:
        assert self.run("propose", "--out", name, "--sign", str(self.key[by])).code == 0
        found: dict[str, Any] = json.loads((self.folder / name).read_text())
        return found

    def approve(self, by: str, name: str = "p.json") -> Any:
        return self.run("propose", "--approve", name, "--sign", str(self.key[by]))

    def write(self, data: dict[str, Any], name: str) -> None:
        """A doctored proposal, with its digest made anew."""
        (self.folder / name).write_text(json.dumps({**data, "digest": digest_of(data)}))


def test_what_nobody_signed_is_approved_by_nobody(guarded: Guarded) -> None:
    assert guarded.run("propose", "--out", "p.json").code == 0
    alone = guarded.approve("bob")
    assert alone.code == 2 and "not signed by its author" in alone.err
    data = guarded.proposed()
    for author in ("", "@works/identity/cyd"):  # whose name somebody else wrote there
        guarded.write({**data, "author": author, "signatures": []}, "forged.json")
        ran = guarded.approve("bob", "forged.json")
        assert ran.code == 2 and "not signed by its author" in ran.err
    guarded.write({**data, "author": "@works/identity/cyd"}, "forged.json")
    assert "was changed after @works/identity/ann signed it" in guarded.approve("ann", "forged.json").err


def test_a_doctored_proposal_is_neither_approved_nor_enacted(guarded: Guarded) -> None:
    data = guarded.proposed()
    assert guarded.approve("bob").code == 0
    both = json.loads((guarded.folder / "p.json").read_text())
    for name in sorted(set(data) - {"enthesis", "format", "digest", "signatures", "estate"}):
        said = data[name]
        other: Any = "x" if not isinstance(said, list) else [] if said else ["@works/identity/cyd may read right"]
        variants: tuple[list[str], ...] = (both["signatures"], [])
        for signatures in variants:
            guarded.write({**both, name: other, "signatures": signatures}, "d.json")
            enacted = guarded.run("enact", "d.json", "--yes")
            assert enacted.code == 2, f"{name}: {enacted.err}"
            assert guarded.approve("bob", "d.json").code == 2, name
    assert guarded.run("enact", "p.json", "--yes").code == 0


def test_a_rule_is_loosened_under_the_rule_alone(guarded: Guarded) -> None:
    folder, people = guarded.folder, json.loads((guarded.folder / "people.json").read_text())
    cyd = {"@works/identity/cyd": {"key": guarded.key["nobody"].with_suffix(".pub").read_text()}}
    rule = 'approvals: [{at: left, by: 1, of: "@works/group/leads"}]\n'
    looser = {
        "no longer want the approval": ESTATE.replace(rule, ""),
        "@works/identity/cyd may approve": ESTATE.replace('bob"]', 'bob", "@works/identity/cyd"]'),
        "it is accepted": ESTATE + "accepted: [{risk: drift, of: x, because: y, until: 2099-01-01T00:00:00Z}]\n",
    }
    for says, text in looser.items():
        (folder / "estate.yaml").write_text(text)
        ran = guarded.run("propose")
        assert "rule-loosened" in ran.out and says in ran.out, ran.out
        assert guarded.run("enact", "--yes", "--accept", "rule-loosened").code == 2
        guarded.proposed("cyd", "c.json")
        assert guarded.approve("cyd", "c.json").code == 2
        ran = guarded.run("enact", "c.json", "--yes", "--accept", "rule-loosened")
        assert ran.code == 2 and "want 1 more approval of @works/group/leads" in ran.err
    (folder / "estate.yaml").write_text(ESTATE)
    (folder / "people.json").write_text(json.dumps({"approvers": {**people["approvers"], **cyd}}))
    assert "approves by another key" in guarded.run("propose").out
    (folder / "people.json").write_text(json.dumps(people))

    (folder / "estate.yaml").write_text(ESTATE.replace(rule, ""))
    guarded.proposed("ann", "loose.json")
    assert guarded.approve("bob", "loose.json").code == 0
    unasked = guarded.run("enact", "loose.json", "--yes")
    assert unasked.code == 2 and "rule-loosened" in unasked.err
    assert guarded.run("enact", "loose.json", "--yes", "--accept", "rule-loosened").code == 0
    assert "rule-loosened" not in guarded.run("propose").out  # it is the rule now
    (folder / "estate.yaml").write_text(ESTATE.replace(rule, "").replace("[read]", "[read, list]"))
    assert guarded.run("enact", "--yes").code == 0


def test_a_fresh_checkout_names_the_store(guarded: Guarded) -> None:
    (guarded.folder / PLACE_OF_WORK / HISTORY).unlink()
    data = guarded.proposed()
    assert "rule-loosened" not in {one["name"] for one in data["dangers"]}  # as far as this store knows
    assert guarded.approve("bob").code == 0
    ran = guarded.run("enact", "p.json", "--yes")
    assert ran.code == 2 and "--store" in ran.err, ran.err


def test_who_is_left_may_replace_a_rule() -> None:
    before = ChangeRule((("left", 2, "g"),), {"g": ("ann", "bob")}, within={"left": "@works"})
    step = Step(
        "make", "north", "grants", "left", "a grant", "guarded", {"to": "x", "role": "r", "at": "left/bucket/b"}
    )
    assert [one.more for one in lacking(before, [step], "ann", ["bob"])] == [1]
    assert not lacking(before, [step], "ann", ["bob"], loosens=True, there=["ann", "bob"])  # nobody else can
    assert lacking(before, [step], "cyd", ["bob"], loosens=True, there=["ann", "bob"])
    assert lacking(before, [step], "", ["ann", "bob"])  # by whom it is, nobody knows
    assert not lacking(before, [], "", [])
    assert rule_from(json.loads(json.dumps(before.as_json()))) == before
    narrower = ChangeRule((("left/bucket/b", 2, "g"),), before.members)
    assert [*loosened(before, narrower)] == ["changes at left no longer want the approval of g"]
    assert [*loosened(before, ChangeRule((("left", 1, "g"),), before.members))] == [
        "changes at left want 1 of g, and 2 before"
    ]
    assert not loosened(before, ChangeRule((("@works", 3, "g"), *before.approvals), {"g": ("ann",)}))


# -- forged at random -----------------------------------------------------------------------------------------------

CARRIED_OUT = ("steps", "gives", "takes", "dangers", "openings", "outages")  # what is done, and what is said of it


def staged_alike(plan: dict[str, Any]) -> dict[str, Any]:
    return {**plan, "steps": [{**step, "stage": 0} for step in plan["steps"]]}


def test_of_two_hundred_forged_proposals_none_is_carried_out() -> None:
    """A text of what is done, or is said to come of it, is edited and the digest made anew: refused, and said where."""
    made = proposal_from(PROPOSAL)
    forged = 0
    for seed in range(2_000):
        rng = Random(seed)
        part = rng.choice(CARRIED_OUT)
        edited = {**PROPOSAL, part: edited_somewhere(PROPOSAL[part], rng)}
        if staged_alike(edited) == staged_alike(PROPOSAL):
            continue  # the stages that are enacted are those that are made anew
        forged += 1
        try:
            read = proposal_from({**edited, "digest": digest_of(edited)})
        except ValueError:
            continue
        with pytest.raises((InvalidInput, MovedAway)) as refused:
            refuse_if_different(read, made, ())
        assert "different are" in str(refused.value) or isinstance(refused.value, MovedAway), (seed, refused.value)
        if forged == 200:
            break
    assert forged == 200
    assert refuse_if_different(made, made, ()) == ()


def resigned(statement: str, key: Path, rng: Random) -> str:
    """A signature forged at random: its text edited, its statement edited and signed by another, or left unsigned."""
    head, body, signature = statement.split(".")
    said = json.loads(unverified_document(statement.encode()))
    edited = base64.urlsafe_b64encode(json.dumps(edited_somewhere(said, rng)).encode()).decode().rstrip("=")
    draw = rng.randrange(5)
    if draw == 0:
        at = rng.randrange(len(signature) - 1)  # the last character holds bits that nobody reads
        other = rng.choice([one for one in "AZaz09-_" if one != signature[at]])
        return f"{head}.{body}.{signature[:at]}{other}{signature[at + 1 :]}"
    if draw == 1:
        return f"{head}.{edited}.{signature}"
    if draw == 2:
        return signed(json.dumps(said).encode(), key).decode().strip()
    if draw == 3:
        none = base64.urlsafe_b64encode(b'{"alg":"none"}').decode().rstrip("=")
        return f"{none}.{body}."
    return rng.choice([f"{head}.{body}", f"{head}.{body}.", f"{statement}.x", body, ""])


@pytest.mark.filterwarnings("ignore:EdDSA is deprecated")
def test_of_two_hundred_forged_approvals_none_counts(tmp_path: Path) -> None:
    """Of a proposal with its author's and an approver's signature one signature is forged, what it states edited and
    signed by somebody else, or what is under the signatures: it is not carried out."""
    held = keys(tmp_path)
    named = {person: held[person].with_suffix(".pub").read_text().strip() for person in ("ann", "bob")}
    approvers = {f"@works/identity/{who}": {"key": key} for who, key in named.items()}
    reading = read_texts({"estate.yaml": ESTATE, "people.json": json.dumps({"approvers": approvers})})
    assert reading.estate is not None, reading.errors
    estate, now = reading.estate, datetime(2026, 12, 1, tzinfo=UTC)
    rule = rule_of(estate)
    grant = {"to": "left/identity/a", "role": "reads", "at": "left/bucket/b"}
    step = Step("make", "north", "grants", "left", "a grant", "guarded", grant)
    plan = replace(proposal_from(PROPOSAL), estate="guarded", steps=(step,))
    plan = authored(estate, tmp_path, plan, held["ann"], now)
    plan, by = approved(estate, tmp_path, plan, held["bob"], now)
    assert by == "@works/identity/bob"
    refuse_if_approvals_lack(estate, tmp_path, plan, plan.steps, rule, None)  # as it is, it is carried out
    forgeries = 0
    for seed in range(2_000):
        if forgeries == 200:
            break
        rng = Random(seed)
        if rng.random() < 0.5:
            at = rng.randrange(2)
            signatures = list(plan.signatures)
            signatures[at] = resigned(signatures[at], held[rng.choice(["cyd", "nobody", "ann" if at else "bob"])], rng)
            forged = replace(plan, signatures=tuple(signatures))
        else:
            part = rng.choice([one for one in CARRIED_OUT if plan.as_json()[one]])
            data = {**plan.as_json(), part: edited_somewhere(json.loads(json.dumps(plan.as_json()[part])), rng)}
            if staged_alike(data) == staged_alike(plan.as_json()):
                continue
            try:
                forged = proposal_from({**data, "digest": digest_of(data)})
            except ValueError:
                continue
        forgeries += 1
        with pytest.raises(InvalidInput) as refused:
            refuse_if_changed(estate, tmp_path, forged)
            refuse_if_approvals_lack(estate, tmp_path, forged, plan.steps, rule, None)
        assert refused.value.code in ("proposal-differs", "approval-missing"), seed
        assert "@works/" in refused.value.message or "signed by its author" in refused.value.message, refused.value
    assert forgeries == 200

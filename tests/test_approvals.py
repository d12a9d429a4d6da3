"""A second person's approval: asked for by the estate, signed under one proposal, and never the author's own."""

import json
import subprocess
import threading
from pathlib import Path
from typing import Any

from .conftest import Program, start_lab, write_estate

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
        assert len(approved["signatures"]) == 2 and approved["digest"] == json.loads(before)["digest"]

        (folder / "estate.yaml").write_text(
            ESTATE.replace("[read]", "[read, write]")
        )  # another proposal, same signature
        assert run("propose", "--out", "q.json").code == 0
        other_plan = json.loads((folder / "q.json").read_text())
        (folder / "q.json").write_text(json.dumps({**other_plan, "signatures": approved["signatures"]}))
        stolen = run("enact", "q.json", "--yes")
        assert stolen.code == 2 and "want 1 more approval" in stolen.err, stolen.err
        (folder / "estate.yaml").write_text(ESTATE)
        done = run("enact", "p.json", "--yes")
        assert done.code == 0, done.err
        shown = run("enact", "--show", "2").out
        assert "by @works/identity/ann" in shown and "approved by @works/identity/cyd and @works/identity/bob" in shown
        again = run("enact", "--undo", "2", "--yes")
        assert again.code == 3 and "lacks the right `configure` at left/identity/a" in again.err  # ann made it, no more
        assert run("sign-out").code == 0
        again = run("enact", "--undo", "2", "--yes")
        assert again.code == 2 and "need approvals, and no person was signed in" in again.err
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

        (statement,) = approved["signatures"]
        head, claims, signature = statement.split(".")
        others = [f"{head}.{claims}.{signature[:-8]}AAAAAAAA", f"{head}.{signature}.{claims}", "e30.e30.e30", "x"]
        (folder / "forged.json").write_text(json.dumps({**approved, "signatures": others}))
        forged = run("ann", "enact", "forged.json", "--yes")
        assert forged.code == 2 and "want 1 more approval" in forged.err

        assert enthesis("lab", "clock", "--forward", "25h", at=folder).code == 0
        late = run("ann", "enact", "p.json", "--yes")
        assert late.code == 2 and "want 1 more approval" in late.err
        ended = run("bob", "propose", "--approve", "p.json")  # whose sign-in is over by the directory's clock
        assert ended.code == 3 and "states no approval" in ended.err
        sign_in("bob")
        sign_in("ann")
        assert run("bob", "propose", "--approve", "p.json").code == 0
        done = run("ann", "enact", "p.json", "--yes")
        assert done.code == 0, done.err
        assert "approved by @works/identity/bob" in run("ann", "enact", "--show", "2").out
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

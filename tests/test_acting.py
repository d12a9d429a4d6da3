"""Enacting as the person who has signed in: with that person's rights, and no others."""

import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from .conftest import Program, Ran, start_lab, write_estate

ANN = "@works/identity/ann"
ESTATE = """\
estate: shared
organisations: {works: {}}
providers: {north: {style: one-sided}}
accounts: {left: {in: "@works", provider: north}, right: {in: "@works", provider: north}}
resources: {left/bucket/b: {}, right/bucket/b: {}}
identities:
  "@works/identity/ann": {kind: person}
  left/identity/a: {kind: service-account}
roles:
  runs: {allows: {account: [create, change-access, change-role, describe], identity: [change-trust]}}
  reads: {allows: {object: [read]}}
grants:
  - {to: "@works/identity/ann", role: runs, at: left}
"""
MINE = "  - {to: left/identity/a, role: reads, at: left}\n"
THEIRS = "  - {to: left/identity/a, role: reads, at: right, held_by: right}\n"

Run = Callable[..., Ran]


@pytest.fixture
def shared(enthesis: Program, tmp_path: Path) -> Iterator[tuple[Path, Run]]:
    """An estate in which Ann runs the left account, as the administrators have made it; and how it is asked."""
    folder = write_estate(tmp_path / "shared", {"estate.yaml": ESTATE})
    runtime = tmp_path / "runtime"
    runtime.mkdir(mode=0o700)

    def run(*words: str) -> Ran:
        return enthesis(*words, at=folder, XDG_RUNTIME_DIR=str(runtime))

    start_lab(enthesis, folder)
    assert run("enact", "--yes", "--accept", "power-gained").code == 0
    yield folder, run
    enthesis("lab", "stop", "--clean", at=folder)


def sign_in(enthesis: Program, folder: Path, run: Run, person: str = ANN) -> None:
    other = threading.Thread(target=lambda: enthesis("lab", "agree", "--as", person, at=folder))
    other.start()
    assert run("sign-in").code == 0
    other.join()


def test_a_person_carries_out_what_that_person_may_and_nothing_else(
    enthesis: Program, shared: tuple[Path, Run]
) -> None:
    folder, run = shared
    sign_in(enthesis, folder, run)
    (folder / "estate.yaml").write_text(ESTATE + MINE)
    mine = run("enact", "--yes")
    assert mine.code == 0 and f"Enacted at the lab of this estate, as {ANN}." in mine.err, mine.err
    assert f"by {ANN}" in run("history", "show", "2").out

    (folder / "estate.yaml").write_text(ESTATE + MINE + THEIRS)
    theirs = run("enact", "--yes")
    assert theirs.code == 3 and "\nError: nothing was done: " in theirs.err
    assert f"{ANN} lacks the right `change-access` at right" in theirs.err
    assert "enactment 3" not in run("history").out

    assert run("sign-out").code == 0  # the administrators may
    assert run("enact", "--yes").code == 0
    assert f"by {ANN}" not in run("history", "show", "3").out


def test_the_provider_has_the_last_word_and_a_step_it_refuses_fails_alone(
    enthesis: Program, shared: tuple[Path, Run]
) -> None:
    folder, run = shared
    abroad = f'  - {{to: "{ANN}", role: runs, at: right, when: {{network: {{within: 203.0.113.0/24}}}}}}\n'
    (folder / "estate.yaml").write_text(ESTATE + abroad)
    assert run("enact", "--yes", "--accept", "power-gained").code == 0
    sign_in(enthesis, folder, run)
    (folder / "estate.yaml").write_text(ESTATE + abroad + MINE + THEIRS)
    ran = run("enact", "--yes")
    assert ran.code == 4, ran.err
    assert "north refused us" in ran.out + ran.err
    left = run("propose", "--format", "json").json["steps"]
    assert left and {step["holder"] for step in left} == {"right"}


def test_what_a_person_began_nobody_goes_on_with_who_is_not_signed_in(
    enthesis: Program, shared: tuple[Path, Run]
) -> None:
    folder, run = shared
    sign_in(enthesis, folder, run)
    (folder / "estate.yaml").write_text(ESTATE + MINE)
    assert run("lab", "fault", "--enforcement-lag", "20s", "--seed", "3").code == 0
    assert run("enact", "--yes", "--patience", "4s").code == 4
    assert run("lab", "fault", "--clear").code == 0
    assert run("sign-out").code == 0
    ran = run("enact", "--resume")
    assert ran.code == 3 and f"acts as {ANN}, and no person is signed in" in ran.err, ran.err
    assert run("enact", "--resume", "--undo", "--yes").code == 3
    sign_in(enthesis, folder, run)
    ran = run("enact", "--resume")
    assert ran.code == 0, ran.out


def test_a_key_is_made_and_revoked_as_the_person_who_has_signed_in(enthesis: Program, shared: tuple[Path, Run]) -> None:
    folder, run = shared
    make = (
        "credential",
        "create",
        "tape",
        "--of",
        "left/identity/a",
        "--because",
        "a robot",
        "--for",
        "1d",
        "--into",
        "tape.key",
    )
    sign_in(enthesis, folder, run)
    refused = run(*make, "--anyway")
    assert refused.code == 3 and f"Acting as {ANN}" in refused.err and not (folder / "tape.key").exists(), refused.err
    files = folder / "estate.yaml"
    files.write_text(files.read_text().replace("identity: [change-trust]", "identity: [change-trust, issue]"))
    assert run("sign-out").code == 0
    assert run("enact", "--yes", "--accept", "power-gained").code == 0
    sign_in(enthesis, folder, run)
    made = run(*make, "--anyway")
    assert made.code == 0, made.err
    listed = run("credential", "--format", "json").json["credentials"]
    assert [one["made_by"] for one in listed] == [ANN]
    gone = run("credential", "revoke", "tape", "--of", "left/identity/a")
    assert gone.code == 0 and f"Acting as {ANN}" in gone.err

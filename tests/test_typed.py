"""What people type: words of elsewhere name ours, short names are taken and said, misspelt ones get the nearest."""

from pathlib import Path

import pytest

from enthesis.cli import other_words
from enthesis.cli.main import COMMANDS
from enthesis.cli.other_words import FOR, put_in_order, refuse_other_words
from enthesis.model.errors import InvalidInput

from .conftest import Program

PAGES = "bulletin/bucket/public-pages"
PUBLISHER = "build/identity/publisher"
TYPED: tuple[tuple[str, int, str], ...] = (
    ("version", 0, "enthesis 0."), ("-v", 0, "enthesis 0."), ("-h", 0, "Exit codes: 0 as asked"),
    ("check -h", 0, "Validate the estate"), ("survey adopt -h", 0, "Write what a cluster"),
    ("chekc", 2, "did you mean check?"), ("validate", 2, "`enthesis check` does that"),
    ("login", 2, "`enthesis sign-in` does that"), ("logout", 2, "`enthesis sign-out` does that"),
    ("explain publish-from-main", 2, "`enthesis trace publish-from-main` does that"),
    (f"show {PUBLISHER}", 2, f"`enthesis card {PUBLISHER}` does that"), ("init mysite", 2, "`enthesis start mysite`"),
    ("plan", 2, "`enthesis propose`"), ("apply", 2, "`enthesis enact`"), ("rollback", 2, "`enthesis history`"),
    ("check .", 0, "journeys as expected"), ("check estate.yaml", 2, "enthesis check ."),
    ("check nowhere", 2, "nowhere is not there"), ("check . --estate .", 2, "both name a folder"),
    ("check --format yaml", 2, "one of text, json, markdown"), ("check -o json", 2, "--format json"),
    ("--estate . check", 0, "journeys as expected"), ("--quiet check", 0, "journeys as expected"),
    ("--format json history", 0, '"enactments"'),
    (f"check --compared-with . --fail-on-gain write {PAGES}", 2, f"--fail-on-gain 'write {PAGES}'"),
    ("trace publish-from-main", 0, "Allowed: "), ("trace publish-from-mian", 2, "did you mean publish-from-main"),
    (f"trace {PUBLISHER} {PAGES}", 0, "list, write"), (f"trace write {PAGES}/object/x", 2, "--from, such as bulletin/"),
    (f"trace write {PAGES}/object/x --from publisher", 1, f"publisher is taken for {PUBLISHER}."),
    (f"reach {PUBLISHER}", 0, "can reach 2 places"), (f"reach --from {PUBLISHER} --to {PAGES}", 0, "list, write"),
    ("reach publisher public-pages", 0, f"public-pages is taken for {PAGES}."),
    (f"reach {PAGES} {PUBLISHER}", 1, f"enthesis trace take-on {PUBLISHER} --from {PAGES}"),
    ("reach", 2, "enthesis reach WHO ADDRESS"), ("reach a b c", 2, "named twice"),
    ("admit publisher", 0, f"publisher is taken for {PUBLISHER}."),
    (f"admit {PUBLISHER} --claim sub", 2, "--meant"), ("card public-pages", 0, f"is taken for {PAGES}."),
    ("propose --kubeconfig nope", 2, "nope cannot be read: no such file"),
    ("survey --kubeconfig nope", 2, "nope cannot be read: no such file"),
    ("enact estate.yaml", 2, "a proposal is a file that `enthesis propose --out FILE` writes"),
    ("enact --dry-run", 2, "`enthesis propose`, which shows"),
    ("cutoff", 2, f"such as {PUBLISHER}"), ("sweep --severity high", 2, "--fail-on high"),
    ("sweep nonsense-code", 2, "one of "), ("sessions --revoke 1", 2, "`enthesis cutoff SESSION`"),
    ("credential list", 2, "`enthesis credential` alone, which lists"),
    ("credential --create x", 2, "`enthesis credential create NAME`"), ("retire x", 2, "`enthesis credential retire`"),
    ("help trust", 0, "trusts"), ("help 'exit codes'", 0, "exit"),
)  # fmt: skip


@pytest.mark.parametrize(("typed", "code", "says"), TYPED)
def test_what_is_typed_does_what_was_meant_or_names_what_does(
    enthesis: Program, saltmarsh: Path, typed: str, code: int, says: str
) -> None:
    ran = enthesis(*(word.strip("'") for word in _words(typed)), at=saltmarsh)
    assert ran.code == code and says in " ".join((ran.out + ran.err).split()), (ran.code, ran.out, ran.err)


def _words(typed: str) -> list[str]:
    return [typed[:4].strip(), typed[5:]] if typed.startswith("help '") else typed.split()


def test_each_word_of_elsewhere_names_one_command_that_there_is_and_is_none_itself() -> None:
    words = [word for others in FOR.values() for word in others]
    assert len(words) == len(set(words)) and not set(words) & set(COMMANDS) and set(FOR) <= set(COMMANDS)
    assert {command for command, _ in other_words.OPTIONS} <= set(COMMANDS)
    for word in words:
        with pytest.raises(InvalidInput) as raised:
            refuse_other_words([word], COMMANDS)
        assert "does that" in raised.value.remedy


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ("--estate d check --schema", "check --estate d --schema"),
        ("--format=json survey compare a", "survey compare --format=json a"),
        ("-q lab start", "lab start -q"), ("check --estate d", "check --estate d"), ("--estate d", "--estate d"),
        ("--estate d nothing", "--estate d nothing"), ("version", "--version"),
        ("lend a -- version", "lend a -- version"),
    ],
)  # fmt: skip
def test_shared_options_before_the_command_count(before: str, after: str) -> None:
    assert put_in_order(before.split(), COMMANDS) == after.split()


def test_a_name_that_several_end_with_is_not_taken(enthesis: Program, saltmarsh: Path) -> None:
    another = "identities: {bulletin/identity/publisher: {kind: service-account}}\n"
    (saltmarsh / "more.yaml").write_text(another, encoding="utf-8")
    ran = enthesis("card", "publisher", at=saltmarsh)
    assert ran.code == 2 and "several are called publisher: " in ran.err and "bulletin/identity/publisher" in ran.err

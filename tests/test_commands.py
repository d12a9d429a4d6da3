"""Every command has help and a documented example, and what the documents show is what the program says."""

import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

from enthesis.cli.examples import EXAMPLES
from enthesis.cli.lazy import loaded

from .commands import COMMANDS, LISTED
from .conftest import Lab, Program

ROOT = Path(__file__).parent.parent
PAGES = sorted((ROOT / "docs").rglob("*.md"))
EXAMPLE = re.compile(r"```console\n(.*?)```", re.DOTALL)


@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_has_help_with_an_example_and_a_page(enthesis: Program, tmp_path: Path, command: str) -> None:
    ran = enthesis(*command.split(), "--help", at=tmp_path)
    assert ran.code == 0
    if command != "lab":
        shown = EXAMPLES[command]
        assert 2 <= len(shown) <= 3
        assert [f"   enthesis {words}" in ran.out.splitlines() for words in shown] == [True] * len(shown)
    page = ROOT / "docs" / "commands" / f"{command.partition(' ')[0]}.md"
    assert f"enthesis {command}" in page.read_text(encoding="utf-8")


@pytest.mark.parametrize("command", EXAMPLES)
def test_the_examples_of_help_are_understood(command: str) -> None:
    name = command.rpartition(" ")[2]
    found = loaded(name, LISTED[command])
    for words in EXAMPLES[command]:
        given = shlex.split(words)
        assert given[: len(command.split())] == command.split()
        found.make_context(name, given[len(command.split()) :])  # refuses options and arguments that there are not


def test_the_first_help_page_names_every_command(enthesis: Program, tmp_path: Path) -> None:
    ran = enthesis("--help", at=tmp_path)
    assert ran.code == 0
    for command in COMMANDS:
        assert command.partition(" ")[0] in ran.out
    assert enthesis("--version", at=tmp_path).out.startswith("enthesis ")
    assert enthesis("chekc", at=tmp_path).code == 2


def examples() -> list[tuple[str, str]]:
    found = []
    for page in [ROOT / "README.md", *PAGES]:
        if page.parent.name == "how-to" or page.name == "tutorial.md":
            continue  # each begins in a folder of its own, and another test runs them whole
        for number, match in enumerate(EXAMPLE.finditer(page.read_text(encoding="utf-8"))):
            found.append(pytest.param(match[1], id=f"{page.relative_to(ROOT)}-{number}"))
    return found  # type: ignore[return-value]


@pytest.mark.parametrize("session", examples())
def test_what_the_documents_show_is_what_the_program_says(enthesis: Program, enacted_lab: Lab, session: str) -> None:
    """Lines that start with `$` are run in the Saltmarsh estate, enacted at a lab; the rest must be said."""
    out: list[str] = []
    for line in session.splitlines():
        if line.startswith("$ "):
            words = shlex.split(line[2:])
            assert words[0] == "enthesis"
            ran = enthesis(*words[1:], at=enacted_lab.folder)
            out = (ran.out + ran.err).splitlines()
        elif line.strip() and line.strip() != "…":
            assert line.rstrip() in [said.rstrip() for said in out], f"{line!r} is not in {out}"


@pytest.mark.parametrize(
    "words", ["--help", "check", "lab status", "check --schema", "trace --journey publish-from-main"]
)
def test_heavy_libraries_load_only_where_they_are_needed(enacted_lab: Lab, words: str) -> None:
    """The server, HTTP and certificate libraries stay out of what does not speak to anything."""
    program = (
        "import sys\n"
        "from enthesis.__main__ import run\n"
        f"sys.argv = ['enthesis', *{words.split()!r}]\n"
        "try:\n    run()\nexcept SystemExit:\n    pass\n"
        "print(*{name.partition('.')[0] for name in sys.modules}, file=sys.stderr)\n"
    )
    for _ in range(2):  # what is said once of an estate with a history is said the first time
        done = subprocess.run(
            [sys.executable, "-c", program], cwd=enacted_lab.folder, capture_output=True, text=True, check=True
        )
    loaded = set(done.stderr.splitlines()[-1].split())
    heavy = {
        "httpx",
        "starlette",
        "uvicorn",
        "cryptography",
        "joserfc",
        "ortools",
        "pandas",
        "matplotlib",
        "sqlite3",
    }
    assert "enthesis" in loaded
    assert not loaded & heavy

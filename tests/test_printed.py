"""Every command that a page prints is run where it stands, and says what the page shows."""

import shlex
import shutil
from pathlib import Path

import pytest

from .conftest import ACCEPTED, SALTMARSH, Program, copied
from .printed import OF_A_SHELL, blocks, by_shell, run_page

ROOT = Path(__file__).parent.parent
JOBS = [ROOT / "README.md", ROOT / "docs" / "tutorial.md", *sorted((ROOT / "docs" / "how-to").glob("*.md"))]
"""Pages that begin in an empty folder."""
OTHERS = [
    page
    for page in sorted((ROOT / "docs").rglob("*.md"))
    if page not in JOBS and any(block.kind == "sh" for block in blocks(page.read_text(encoding="utf-8")))
]
"""Pages with commands about the Saltmarsh estate, enacted at a lab."""


def named(page: Path) -> str:
    return str(page.relative_to(ROOT))


@pytest.mark.parametrize("page", JOBS, ids=named)
def test_a_page_for_a_job_works_as_printed(
    enthesis: Program, environment: dict[str, str], tmp_path: Path, page: Path
) -> None:
    text = page.read_text(encoding="utf-8")
    told = text.replace("```console", "```told") if page.name == "README.md" else text  # another test holds those
    _run(enthesis, environment, told, tmp_path)


@pytest.mark.parametrize("page", OTHERS, ids=named)
def test_commands_on_a_page_work_where_they_stand(
    enthesis: Program, environment: dict[str, str], tmp_path: Path, page: Path
) -> None:
    folder = copied(tmp_path / "saltmarsh", *(one.name for one in SALTMARSH.iterdir()))
    assert enthesis("lab", "start", at=folder).code == 0
    assert enthesis("enact", "--yes", *ACCEPTED, at=folder).code == 0
    text = page.read_text(encoding="utf-8").replace("```console", "```told")  # what they say is held by another test
    _run(enthesis, environment, text, folder)


def _run(enthesis: Program, environment: dict[str, str], text: str, folder: Path) -> None:
    """Runs a page; commands of the program alone in the warm one, others in a shell."""
    in_shell = by_shell({**environment, "EDITOR": "true"})

    def run(line: str, at: Path) -> tuple[int, str]:
        words = shlex.split(line)
        if words[0] != "enthesis" or OF_A_SHELL.search(line):
            return in_shell(line, at)
        ran = enthesis(*words[1:], at=at)
        return ran.code, ran.out + ran.err

    try:
        run_page(text, folder, run)
    finally:
        for place in (folder, *(inner for inner in folder.iterdir() if (inner / "estate.yaml").exists())):
            if (place / ".enthesis").exists():
                enthesis("lab", "stop", "--clean", at=place)
        shutil.rmtree(folder, ignore_errors=True)

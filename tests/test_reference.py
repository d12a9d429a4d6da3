"""The reference of an estate's files explains every section, field, kind and verb, with examples that are read."""

import re
from collections.abc import Iterator
from pathlib import Path

import pytest

import enthesis
import enthesis_lab
from enthesis.cli.lazy import loaded
from enthesis.cli.main import FAULT, GONE, PARTIAL
from enthesis.files.folder import read_texts
from enthesis.files.sections import SECTIONS
from enthesis.model import errors
from enthesis.model.errors import EXIT_CODES, EnthesisError
from enthesis.model.risks import FINDINGS, RISKS
from enthesis.output.reference import SAYS, rows

from .commands import LISTED
from .commands_page import PAGE as COMMANDS_PAGE
from .commands_page import page as commands_page
from .conftest import Program
from .fields_page import PAGE, page


def test_the_page_is_what_the_description_says() -> None:
    assert PAGE.read_text(encoding="utf-8") == page(), "write it again: python -m tests.fields_page"


def test_every_section_and_field_is_explained() -> None:
    assert set(SAYS) == set(SECTIONS)
    unexplained = [f"{name}.{path}" for name, one in SECTIONS.items() for path, _, text in rows(one.record) if not text]
    assert not unexplained


@pytest.mark.parametrize("section", SECTIONS)
def test_every_example_is_read(section: str) -> None:
    text = page().partition(f"\n## {section}\n")[2].partition("```yaml\n")[2].partition("```")[0]
    found = read_texts({"estate.yaml": f"estate: example\n{text.replace('…', 'a')}"})
    # an example names what others describe; anything else about it is as it must be
    wrong = [one for one in found.errors if one.code not in ("unknown-name", "unknown-place")]
    assert not wrong, wrong


INTERFACES = (Path(__file__).parent.parent / "docs" / "interfaces.md").read_text(encoding="utf-8")
PACKAGES = (Path(enthesis.__file__).parent, Path(enthesis_lab.__file__).parent)
SOURCES = {path: path.read_text(encoding="utf-8") for package in PACKAGES for path in package.rglob("*.py")}


def test_every_variable_is_explained() -> None:
    named = {name for text in SOURCES.values() for name in re.findall(r'"(ENTHESIS_[A-Z_]*[A-Z])"', text)}
    named |= {name for text in SOURCES.values() for name in re.findall(r'environ(?:\.get)?[\[(]"([A-Z_]+)"', text)}
    assert len(named) > 10
    unexplained = {name for name in named - {"PATH", "TERM", "PYTHONPATH", "SUDO_UID"} if f"`{name}`" not in INTERFACES}
    assert unexplained == set()


def test_every_path_and_header_of_the_lab_is_explained() -> None:
    lab = {path: text for path, text in SOURCES.items() if "enthesis_lab" in path.parts}
    paths = {path for text in lab.values() for path in re.findall(r'Route\(\s*f?"([^"]+)"', text)}
    assert len(paths) > 30
    told = [
        path.removeprefix("/{owner}/{host:path}")
        .replace(":path", "")
        .rstrip("/")
        .split("/{group}")[0]
        .split("/{rest}")[0]
        for path in paths
    ]
    assert sorted(path for path in told if path not in INTERFACES) == []
    headers = {
        "Idempotency-Key",
        "Agreed-Reference",
        "Asked-Directly",
        "If-Match",
        "If-None-Match",
        "Forwarded",
        "lab-owner",
    }
    headers |= {name for text in SOURCES.values() for name in re.findall(r'"(Impersonate-[A-Z][a-z]+)"', text)}
    assert {name for name in headers if name not in INTERFACES} == set()


def test_every_exit_code_is_explained() -> None:
    codes = {kind.exit_code for kind in _errors(EnthesisError)} | {0, PARTIAL, FAULT, GONE}
    table = INTERFACES.partition("## Exit codes")[2]
    assert {code for code in codes if f"| {code} |" not in table} == set()


def _errors(kind: type[EnthesisError]) -> Iterator[type[EnthesisError]]:
    yield kind
    for inner in kind.__subclasses__():
        yield from _errors(inner)


@pytest.mark.usefixtures("environment")  # so with the pinned versions alone: earlier ones word the help otherwise
def test_the_page_of_commands_is_what_the_program_says() -> None:
    assert COMMANDS_PAGE.read_text(encoding="utf-8") == commands_page(), "write it again: python -m tests.commands_page"


@pytest.mark.usefixtures("environment")
def test_every_command_and_option_is_explained() -> None:
    silent = []
    for command, listed in LISTED.items():
        for param in loaded(command.rpartition(" ")[2], listed).params:
            if not getattr(param, "hidden", False) and not getattr(param, "help", None):
                silent.append(f"{command} {param.opts[0]}")
    assert silent == []


def test_every_code_of_a_risk_or_finding_is_explained() -> None:
    docs = Path(__file__).parent.parent / "docs"
    risks, sweep = ((docs / page).read_text(encoding="utf-8") for page in ("concepts/risks.md", "commands/sweep.md"))
    assert {code for code in RISKS if f"`{code}`" not in risks} == set()
    assert {code for code in FINDINGS if f"`{code}`" not in sweep + risks} == set()


def test_the_exit_codes_are_told_alike_everywhere(enthesis: Program, tmp_path: Path) -> None:
    table = dict(re.findall(r"^\| (\d+) \| (.+) \|$", INTERFACES.partition("## Exit codes")[2], re.MULTILINE))
    assert {code: table.get(str(code)) for code in EXIT_CODES} == EXIT_CODES
    told = " ".join(enthesis("--help", at=tmp_path).out.split())
    assert all(f"{code} {means}" in told for code, means in EXIT_CODES.items())
    told = told.replace("│", " ")
    raised = {
        one.exit_code for one in vars(errors).values() if isinstance(one, type) and issubclass(one, EnthesisError)
    }
    assert raised <= EXIT_CODES.keys()

"""The structure of the code is what CONTRIBUTING says, and the checks that keep it so notice when it is not."""

import ast
import importlib
import re
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from enthesis.cli.forking import modules
from enthesis.cli.lazy import loaded

from .commands import LISTED

ROOT = Path(__file__).parent.parent
FUNCTION = re.compile(r"^def (test_\w+)", re.MULTILINE)
LIBRARIES = (
    "cryptography",
    "httpx",
    "joserfc",
    "matplotlib",
    "numpy",
    "ortools",
    "pandas",
    "sqlite3",
    "starlette",
    "uvicorn",
)
NONE: tuple[str, ...] = ()
LIVE = ("httpx",)
TOKENS = ("cryptography", "httpx", "joserfc")
NEEDS: dict[str, tuple[str, ...]] = {
    **dict.fromkeys(("demo", "start", "help"), NONE),
    **dict.fromkeys(
        ("lab", *(f"lab {one}" for one in ("start", "stop", "status", "clock", "rotate", "fault", "join"))), NONE
    ),
    **dict.fromkeys(("check", "list", "card", "trace", "reach", "admit", "sweep", "calendar"), ("numpy",)),
    **dict.fromkeys(("history", "history show", "history documents"), NONE),
    **dict.fromkeys(("request", *(f"request {one}" for one in ("out", "in", "answer"))), ("numpy",)),
    **dict.fromkeys(("connections", "connections try"), LIVE),
    **dict.fromkeys(("propose", "enact", "prove", "cutoff", "sessions"), (*LIVE, "numpy")),
    **dict.fromkeys(("credential", *(f"credential {one}" for one in ("create", "revoke", "retire"))), (*LIVE, "numpy")),
    **dict.fromkeys(("survey", *(f"survey {one}" for one in ("adopt", "compare", "usage"))), LIVE),
    "trim": ("numpy",),
    "lab use": ("numpy",),
    **dict.fromkeys(("sign-in", "sign-out"), TOKENS),
    **dict.fromkeys(("lend", "whoami"), (*TOKENS, "numpy")),
    **dict.fromkeys(("lab add", "lab remove", "lab on", "lab run", "lab as", "lab agree"), LIVE),
}
"""The libraries that importing a command loads. What only an option needs is loaded when that option is given."""
LOADS = """
import os, sys
from enthesis.cli import lazy
running = 0
for name, place in PLACES.items():
    if running == 2:
        os.wait()
        running = 1
    running += 1
    if os.fork() == 0:
        lazy.loaded(name.rpartition(" ")[2], lazy.ListedCommand(place, ""))
        said = " ".join((name, *{one.partition(".")[0] for one in sys.modules}))
        os.write(1, said.encode() + b"\\n")
        os._exit(0)
while running:
    os.wait()
    running -= 1
"""


def test_a_command_loads_only_the_libraries_that_it_needs() -> None:
    places = {name: listed.place for name, listed in LISTED.items()}
    program = LOADS.replace("PLACES", repr(places))
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
    found = {}
    for line in done.stdout.splitlines():
        name = next(one for one in sorted(LISTED, key=len, reverse=True) if line.startswith(one + " "))
        modules = line.removeprefix(name).split()
        found[name] = tuple(one for one in LIBRARIES if one in modules)
    assert found == {name: tuple(sorted(needed)) for name, needed in NEEDS.items()}


@pytest.mark.parametrize("name", LISTED)
def test_the_list_of_commands_says_what_the_command_itself_says(name: str) -> None:
    said = loaded(name.rpartition(" ")[2], LISTED[name]).help or ""
    assert " ".join(said.partition("\n\n")[0].split()) == LISTED[name].help


PLANTED = {
    "model/catalogue.py": ("import yaml", "the model is standard library only"),
    "files/finding.py": ("from enthesis.verdicts.judge import Judge", "each part imports only parts below it"),
    "chains/reach.py": ("import random", "the core touches no network, terminal, clock or chance"),
    "live/clocks.py": ("from enthesis_lab.running import running", "the tool does not know the lab"),
    "connectors/pipeline.py": ("from enthesis.connectors.hosts import Hosts", "connectors do not know one another"),
    "enthesis_lab/hosts.py": (
        "from enthesis.model.estate import Estate",
        "the lab's services share no code with the tool",
    ),
}
"""By file: an import that does not belong there, and words of the contract that refuses it."""


def source(name: str, root: Path = ROOT) -> Path:
    """A file by its name in the package, or with the lab's in front in that one."""
    return root / "src" / name if name.startswith("enthesis_lab/") else root / "src" / "enthesis" / name


def test_each_contract_refuses_a_planted_import(tmp_path: Path) -> None:
    shutil.copytree(ROOT / "src", tmp_path / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
    shutil.copy(ROOT / "pyproject.toml", tmp_path)
    for name, (planted, _) in PLANTED.items():
        file = source(name, tmp_path)
        file.write_text(file.read_text(encoding="utf-8") + f"\n{planted}\n", encoding="utf-8")
    script = "from importlinter.cli import lint_imports_command; lint_imports_command()"
    done = subprocess.run(
        [sys.executable, "-c", script, "--no-cache"],
        cwd=tmp_path, env={"PYTHONPATH": str(tmp_path / "src")}, capture_output=True, text=True, check=False,
    )  # fmt: skip
    said = re.sub(r"\x1b\[[0-9;]*m", "", done.stdout)
    broken = [line for line in said.splitlines() if " BROKEN" in line]
    for name, (_, contract) in PLANTED.items():
        assert any(contract in line for line in broken), (name, said)
        module = ".".join(source(name, tmp_path).relative_to(tmp_path / "src").with_suffix("").parts)
        assert module in said.partition("Broken contracts")[2]


@pytest.mark.parametrize(
    "planted", ["from datetime import UTC, datetime\n\nNOW = datetime.now(UTC)\n", "import time\n"]
)
def test_the_core_reads_no_clock_and_leaves_nothing_to_chance(planted: str) -> None:
    for part, refused in {"verdicts": True, "model": True, "live": False}.items():
        words = ["check", "--select", "TID251", "--stdin-filename", f"src/enthesis/{part}/planted.py", "-"]
        done = subprocess.run(
            [sys.executable, "-m", "ruff", *words], cwd=ROOT, input=planted, capture_output=True, text=True, check=False
        )
        assert ("TID251" in done.stdout) == refused, (part, done.stdout)


def rules() -> list[tuple[str, str, str]]:
    """The rules that CONTRIBUTING lists: what it is, the file, the name in it."""
    text = (
        (ROOT / "CONTRIBUTING.md")
        .read_text(encoding="utf-8")
        .partition("## Where a rule lives")[2]
        .partition("\n## ")[0]
    )
    listed = []
    for what, files, names in re.findall(r"^\| ([^|]+) \| (`[^|]+`) \| (`[^|]+`) \|$", text, re.MULTILINE):
        of, named = re.findall("`([^`]+)`", files), re.findall("`([^`]+)`", names)
        listed += [(what, of[min(at, len(of) - 1)], name) for at, name in enumerate(named)]
    return listed


def test_contributing_says_where_thirty_rules_live() -> None:
    assert len(rules()) >= 30
    for what, file, name in rules():
        text = source(file).read_text(encoding="utf-8")
        assert re.search(rf"^\s*(def|class) {name}\b|^{name}\b.* = ", text, re.MULTILINE), (what, file, name)


SPELT_ONCE: dict[str, tuple[str, tuple[str, ...]]] = {
    "whether something has ended": (
        r"\.(until|expires) (<=|<|>=|>) |(<=|<|>=|>) [\w.]+\.(until|expires)\b|(grant|trust)_until\S* (<=|<|>=|>) ",
        ("model/estate.py", "access/compiling.py"),
    ),
    "whether a provider is two-sided": (r"\.style\b.*sided|two_sided\[", ("model/estate.py", "access/compiling.py")),
    "whether a provider manages a key": (r"managed_by [!=]= ", ("model/estate.py",)),
    "who uses a provider's key": (r"\bkey_by_provider\b(?!:)", (
        "access/compiling.py", "access/target_side/keys.py", "access/target_side/bulk.py", "chains/cards.py",
    )),
    "whose half counts as given": (
        r"(in |list\()(self|compiled|\w+\.compiled)\.theirs\b(?!\.)", ("access/compiling.py",),
    ),
    "who is a person": (r"\.kind [!=]= (\"person\"|PERSON)", ("model/estate.py",)),
    "whether an identity stands": (r"\.stands\[|\bstands\[", (
        "access/compiling.py", "access/names/require.py", "access/names/bulk.py", "access/names/standing.py",
    )),
    "what starts at a thing of some kind": (r"Form\.WORKLOAD if|Form\.PERSON if", ("model/vocabulary.py",)),
    "which ceilings are over a request": (r"\.ceilings_at\.(get|items)", (
        "access/compiling.py", "access/ceilings/bulk.py",
    )),
}  # fmt: skip
"""Expressions of rules with the files that may have them: the place of the rule, and its readings in arrays."""


def spelt_elsewhere(what: str, sources: dict[str, str]) -> list[str]:
    """The lines that spell a rule out in another place than its own."""
    pattern, places = SPELT_ONCE[what]
    return [
        f"{file}: {line.strip()}"
        for file, text in sources.items()
        if file not in places
        for line in text.splitlines()
        if re.search(pattern, line) and "rule.kind" not in line and "where.kind" not in line
    ]


@pytest.mark.parametrize("what", SPELT_ONCE)
def test_a_rule_is_spelt_in_its_own_place_alone(what: str) -> None:
    root = ROOT / "src" / "enthesis"
    sources = {path.relative_to(root).as_posix(): path.read_text(encoding="utf-8") for path in root.rglob("*.py")}
    assert spelt_elsewhere(what, sources) == []
    pattern, places = SPELT_ONCE[what]
    spelt = next(line for place in places for line in sources[place].splitlines() if re.search(pattern, line))
    assert spelt_elsewhere(what, {"cli/planted.py": spelt}) != []


def test_worked_examples_touch_no_more_than_eight_files() -> None:
    text = (ROOT / "CONTRIBUTING.md").read_text(encoding="utf-8")
    examples = text.partition("## Worked examples")[2].partition("\n## ")[0].split("\n**Another ")[1:]
    counts = []
    for example in examples:
        rows = re.findall(r"^\| `([a-z_/]+\.py)` \| (.+) \|$", example, re.MULTILINE)
        counts.append(len(rows))
        for file, told in rows:
            text_of = source(file).read_text(encoding="utf-8")
            for name in re.findall(r"in `(\w+)`", told):
                assert re.search(rf"\b{name}\b", text_of), (file, name)
    assert counts == [8, 8, 0]


def classes_and_functions() -> Iterator[tuple[Path, ast.ClassDef | None, ast.ClassDef | ast.FunctionDef]]:
    """Every class and function of the package with the class that it is in, functions in functions left out."""
    for path in sorted((ROOT / "src").rglob("*.py")):
        for node in ast.parse(path.read_text(encoding="utf-8")).body:
            if isinstance(node, ast.ClassDef | ast.FunctionDef):
                yield path, None, node
            if isinstance(node, ast.ClassDef):
                yield from ((path, node, one) for one in node.body if isinstance(one, ast.FunctionDef))


def test_no_two_classes_have_one_name() -> None:
    found: dict[str, list[Path]] = {}
    for path, _, node in classes_and_functions():
        if isinstance(node, ast.ClassDef):
            found.setdefault(node.name, []).append(path)
    assert {name: paths for name, paths in found.items() if len(paths) > 1} == {}


def test_every_public_function_says_what_it_does() -> None:
    """A method that a Protocol documents need not say it again."""
    every = list(classes_and_functions())
    protocols = {
        node.name
        for _, within, node in every
        if within is not None
        and any("Protocol" in ast.unparse(base) for base in within.bases)
        and ast.get_docstring(node)
    }
    silent = [
        f"{path.name}: {node.name}"
        for path, within, node in every
        if not node.name.startswith("_") and not (within is not None and within.name.startswith("_"))
        if not ast.get_docstring(node) and not (within is not None and node.name in protocols)
    ]
    assert silent == []


def test_contributing_names_every_folder() -> None:
    text = (ROOT / "CONTRIBUTING.md").read_text(encoding="utf-8")
    for folder in [*(ROOT / "src" / "enthesis").iterdir(), *(ROOT / "src" / "enthesis_lab").iterdir()]:
        if folder.is_dir() and folder.name != "__pycache__":
            assert re.search(rf"^  {folder.name}/ ", text, re.MULTILINE), folder.name


def test_every_module_can_be_imported() -> None:
    """With the lowest versions that are declared, too."""
    for name in modules():
        importlib.import_module(name)


def test_the_worked_example_needs_no_library_that_is_installed_on_demand() -> None:
    without = "import sys; sys.modules.update(dict.fromkeys(['psycopg', 'pyarrow']))"
    program = f"{without}; from enthesis.cli.forking import import_everything; import_everything()"
    ran = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=False)
    assert ran.returncode == 0, ran.stderr


def test_the_threat_model_names_tests_that_are_there() -> None:
    named = set(re.findall(r"`(test_\w+)`", (ROOT / "docs" / "threat-model.md").read_text(encoding="utf-8")))
    there = {name for path in (ROOT / "tests").glob("test_*.py") for name in FUNCTION.findall(path.read_text("utf-8"))}
    assert len(named) > 10 and named <= there | {path.stem for path in (ROOT / "tests").glob("test_*.py")}

"""What the tests share: a scrubbed environment, the program as a subprocess, and one lab for a session of tests."""

import io
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

import pytest
from hypothesis import settings

from enthesis.proposals.dangers import DANGERS

from .warm import ANOTHER_TIME, Warm

BRIEF = "TESTS_BRIEF" in os.environ  # fewer examples, for a run that asks only whether anything is found at all
LONG = "TESTS_LONG" in os.environ  # all examples, long samples and whole corpora, each time others: `.ci/nightly`
SEED = int(os.environ.get("TESTS_SEED", "0"))  # of what is drawn at random outside of properties

# other examples each time, but not where a change must pass or fail for its own sake
settings.register_profile(
    "ordinary",
    max_examples=15 if BRIEF else 100 if LONG else 50,
    deadline=None,
    derandomize=bool(os.environ.get("CI")) and not LONG,
)
settings.load_profile("ordinary")


def examples(count: int) -> int:
    """How many examples a property is tried with."""
    return count if LONG else max(3, count // (6 if BRIEF else 2))


SALTMARSH = Path(__file__).parent.parent / "src" / "enthesis" / "data" / "saltmarsh"
PUBLISHING = ("estate.yaml", "publishing.yaml", "expected.yaml")  # the story that most tests are about
ASKING = ("test_asking", "test_admit", "test_crossing", "test_reading", "test_schema")  # commands that speak to nothing
ACCEPTED = tuple(word for name in DANGERS for word in ("--accept", name))  # where a test is not about dangers
PATIENCE = 600.0  # seconds; only what hangs takes as long, however busy the machine is
KEPT = (
    "PATH", "LANG", "SYSTEMROOT", "TMPDIR", "PYTHONPYCACHEPREFIX", "PYTHONDONTWRITEBYTECODE", *ANOTHER_TIME
)  # fmt: skip


@dataclass(frozen=True)
class Ran:
    """What a run of the program gave."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


Program = Callable[..., Ran]


@pytest.fixture(scope="session")
def environment(tmp_path_factory: pytest.TempPathFactory) -> Mapping[str, str]:
    """The environment of every run: a home and a cache of its own, nothing else inherited."""
    home = tmp_path_factory.mktemp("home")
    kept = {name: os.environ[name] for name in KEPT if name in os.environ}
    kept["PATH"] = os.pathsep.join([str(Path(sys.executable).parent), kept.get("PATH", "")])  # so that it finds itself
    return {**kept, "HOME": str(home), "XDG_CACHE_HOME": str(home / "cache"), "COLUMNS": "100", "TERM": "dumb"}


@pytest.fixture(scope="session")
def enthesis(
    environment: Mapping[str, str], tmp_path_factory: pytest.TempPathFactory, pytestconfig: pytest.Config
) -> Iterator[Program]:
    """Runs the program in a folder: forked from a warm one, or with `cold` as Python started for it alone."""
    if pytestconfig.getoption("--in-process"):
        yield lambda *words, at, stdin="", **more: run_here(words, at, stdin, {**environment, **more})
        return
    with Warm(Path(tempfile.mkdtemp(dir=tmp_path_factory.mktemp("w"))), environment) as warm:

        def run(
            *words: str, at: Path, stdin: str = "", timeout: float = PATIENCE, cold: bool = False, **more: str
        ) -> Ran:
            if cold or "TESTS_COLD" in os.environ:
                done = subprocess.run(
                    [sys.executable, "-m", "enthesis", *words],
                    cwd=at,
                    env={**environment, **more},
                    input=stdin,
                    capture_output=True,
                    text=True,
                    timeout=timeout,
                    check=False,
                )
                ran = Ran(done.returncode, done.stdout, done.stderr)
            else:
                ran = Ran(*warm.run(words, at, {**environment, **more}, stdin, timeout))
            assert "Traceback" not in ran.err, ran.err
            return ran

        yield run


def run_here(words: Sequence[str], at: Path, stdin: str, environment: Mapping[str, str]) -> Ran:
    """Runs the program in this very process, for the few tests that `--in-process` keeps of those that run it."""
    from enthesis.cli.main import run as run_commands

    kept = dict(os.environ), Path.cwd(), sys.argv, (sys.stdin, sys.stdout, sys.stderr)
    given, out, err = (io.TextIOWrapper(io.BytesIO(data), "utf-8") for data in (stdin.encode(), b"", b""))
    code: Any = 0
    try:
        os.environ.clear()
        os.environ.update(environment)
        os.chdir(at)
        sys.argv, (sys.stdin, sys.stdout, sys.stderr) = ["enthesis", *map(str, words)], (given, out, err)
        run_commands()
    except SystemExit as ended:
        code = ended.code
    finally:
        os.environ.clear()
        os.environ.update(kept[0])
        os.chdir(kept[1])
        sys.argv, (sys.stdin, sys.stdout, sys.stderr) = kept[2], kept[3]
    texts = []
    for stream in (out, err):
        stream.flush()
        texts.append(stream.buffer.getvalue().decode())
    return Ran(code if isinstance(code, int) else 0 if code is None else 1, *texts)


@pytest.fixture
def attempts(record_property: Callable[[str, object], None]) -> Callable[[int], None]:
    """Says how many attempts a test of an attack makes; one, unless it says more."""
    return lambda count: record_property("attempts", count)


def write_estate(folder: Path, files: Mapping[str, str]) -> Path:
    """Writes the files of an estate; answers the folder."""
    folder.mkdir(parents=True, exist_ok=True)
    for name, text in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text, encoding="utf-8")
    return folder


TIME = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ")


def as_if_now(text: str, then: datetime) -> str:
    """A text that was written for a day, with all its times moved by as many days as have passed since: what was to
    come then is to come now."""
    moved = timedelta(days=(datetime.now(UTC) - then).days)
    return TIME.sub(lambda found: f"{datetime.fromisoformat(found[0]) + moved:%Y-%m-%dT%H:%M:%SZ}", text)


@pytest.fixture
def saltmarsh(tmp_path: Path) -> Path:
    """A copy of the packaged estate, as far as publishing goes."""
    return copied(tmp_path / "saltmarsh")


def copied(folder: Path, *files: str) -> Path:
    """A new folder with files of the packaged estate."""
    folder.mkdir(parents=True)
    for name in files or PUBLISHING:
        shutil.copy(SALTMARSH / name, folder)
    return folder


@dataclass(frozen=True)
class Lab:
    """A running lab with the Saltmarsh estate, nothing enacted."""

    folder: Path
    services: Mapping[str, str]
    authority: str

    @property
    def state(self) -> Path:
        return self.folder / ".enthesis" / "lab"

    def administrator(self, holder: str) -> str:
        """The session of an administrator, of the first cloud that has one for this holder."""
        listed = json.loads((self.state / "administrators.json").read_text(encoding="utf-8"))
        return str(next(one["session"] for one in listed if one.get("holder") == holder))

    def hosts(self, provider: str) -> str:
        """Where the metadata services of a provider's hosts are."""
        return f"{self.services[f'{provider}/hosts']}/{self.owner['lab-owner']}"

    @property
    def owner(self) -> dict[str, str]:
        """The header with the word of the lab's owner."""
        listed = json.loads((self.state / "administrators.json").read_text(encoding="utf-8"))
        return {"lab-owner": next(one["lab-owner"] for one in listed if "lab-owner" in one)}


def start_lab(enthesis: Program, folder: Path, *more: str) -> Lab:
    """Starts a lab for the estate in a folder."""
    ran = enthesis("lab", "start", "--format", "json", *more, at=folder)
    assert ran.code == 0, ran.err
    services = {one["name"]: one["url"] for one in ran.json["services"]}
    return Lab(folder, services, ran.json["authority"])


@contextmanager
def packaged_lab(enthesis: Program, folder: Path, name: str) -> Iterator[Lab]:
    """A running lab of a packaged estate, copied into a new folder and enacted."""
    shutil.copytree(SALTMARSH.parent / name, folder)
    try:
        lab = start_lab(enthesis, folder)
        enacted = enthesis("enact", "--yes", at=folder)
        assert enacted.code == 0, enacted.err
        yield lab
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


@contextmanager
def lab_of(enthesis: Program, folder: Path) -> Iterator[Lab]:
    """A lab of the estate in a folder, with that enacted; stopped and cleaned up afterwards."""
    try:
        lab = start_lab(enthesis, folder)
        assert enthesis("enact", "--yes", *ACCEPTED, at=folder).code == 0
        yield lab
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def undo(enthesis: Program, folder: Path, number: int, *more: str) -> Ran:
    """Takes an enactment back: the proposal where that cannot be made, else what carrying it out gave."""
    proposed = enthesis("propose", "--undo", str(number), "--out", "back.json", at=folder)
    return enthesis("enact", "back.json", "--yes", *more, at=folder) if proposed.code == 0 else proposed


@pytest.fixture
def fresh_lab(enthesis: Program, saltmarsh: Path) -> Iterator[Lab]:
    """A lab of a test's own."""
    try:
        yield start_lab(enthesis, saltmarsh)
    finally:
        enthesis("lab", "stop", "--clean", at=saltmarsh)


@pytest.fixture(scope="session")
def enacted_lab(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    """One lab for many tests, with the estate enacted; they leave it as it is."""
    with lab_of(enthesis, copied(tmp_path_factory.mktemp("shared") / "saltmarsh")) as lab:
        yield lab


# -- for bench/mutants.py: only what runs in this process, and how long each test takes ----------------------------


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--in-process", action="store_true", help="only tests that start no program")
    parser.addoption("--timings", metavar="FILE", help="write the seconds that each test took, as JSON")


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    for item in items:  # each test of an attack carries its class, for who counts them
        item.user_properties.extend(("attack", mark.args[0]) for mark in item.iter_markers("attack"))
    if config.getoption("--in-process"):
        others = [item for item in items if _starts_programs(item) or item.path.stem == "test_bounds"]
        config.hook.pytest_deselected(items=others)  # ports and bounds are no matter of the core's
        items[:] = [item for item in items if item not in others]


def _starts_programs(item: pytest.Item) -> bool:
    names = set(getattr(item, "fixturenames", ()))
    asking = item.path.stem in ASKING and "enthesis" in names and not any("lab" in name for name in names)
    return "environment" in names and not asking


def pytest_configure(config: pytest.Config) -> None:
    signal.signal(signal.SIGINT, signal.default_int_handler)  # also where a shell ignores it, behind `&`
    if config.getoption("--timings"):
        config.pluginmanager.register(_Timings(Path(config.getoption("--timings"))))


class _Timings:
    def __init__(self, path: Path) -> None:
        self.path = path
        self.seconds: dict[str, float] = {}

    def pytest_runtest_logreport(self, report: pytest.TestReport) -> None:
        self.seconds[report.nodeid] = self.seconds.get(report.nodeid, 0.0) + report.duration

    def pytest_sessionfinish(self) -> None:
        self.path.write_text(json.dumps(self.seconds), encoding="utf-8")


def edited_somewhere(value: Any, rng: Random) -> Any:
    """The same data with one text or number in it another; itself where it has none."""
    if isinstance(value, dict) and value:
        name = rng.choice(sorted(value))
        return {**value, name: edited_somewhere(value[name], rng)}
    if isinstance(value, list) and value:
        at = rng.randrange(len(value))
        return [*value[:at], edited_somewhere(value[at], rng), *value[at + 1 :]]
    if isinstance(value, str):
        return rng.choice([f"{value}x", value[1:] or "x", "left/identity/other"])
    return value if value is None or isinstance(value, dict | list) else not value

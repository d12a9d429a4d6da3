"""Ctrl-C at any instant of any command, imports included: one line, exit 130, no traceback, and nothing left running.

The instants are counted, not timed: an audit hook sends the signal at the Nth thing that the interpreter reports (an
import, a file opened, a socket, a process), so that the same instant is met on a quick machine and on a slow one.
"""

import os
import signal
import subprocess
import sys
from collections.abc import Iterator, Mapping
from pathlib import Path
from random import Random

import pytest

from .commands import COMMANDS, TRIED
from .conftest import LONG, PATIENCE, Lab, Program, copied, start_lab

INSTANTS = int(os.environ.get("TESTS_INSTANTS", "4" if LONG else "1"))  # of each command; more for a longer look
INJECTED = """
import atexit, os, signal, sys
at, seen, begun = int(sys.argv.pop(1)), 0, False
def hook(event, arguments):
    global seen, begun
    begun = begun or (event == "import" and arguments[0] == "enthesis.cli.main")
    if begun and signal.getsignal(signal.SIGINT) is not signal.SIG_IGN:
        seen += 1
        if seen == at:
            os.kill(os.getpid(), signal.SIGINT)
atexit.register(lambda: print(f"seen {seen}", file=sys.stderr))
sys.addaudithook(hook)
from enthesis.__main__ import run
run()
"""


@pytest.fixture(scope="module")
def lab(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    folder = copied(tmp_path_factory.mktemp("interrupted") / "saltmarsh", "estate.yaml", "publishing.yaml",
                    "expected.yaml", "collectors.yaml", "people.yaml")  # fmt: skip
    try:
        yield start_lab(enthesis, folder)
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


@pytest.mark.parametrize("command", [one for one in COMMANDS if one != "lab"][:: 1 if LONG else 4])
def test_an_interrupt_at_any_instant_ends_in_one_line(
    lab: Lab, environment: Mapping[str, str], tmp_path: Path, command: str
) -> None:
    copied(tmp_path / "new")

    def run(at: int) -> tuple[int, list[str]]:
        words = [word.replace("{new}", str(tmp_path / "new")) for word in TRIED[command]]
        done = subprocess.run(
            [sys.executable, "-c", INJECTED, str(at), *command.split(), *words],
            cwd=lab.folder, env=dict(environment), capture_output=True, text=True, timeout=PATIENCE, check=False,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
        )  # fmt: skip
        return done.returncode, done.stderr.splitlines()

    _, err = run(0)
    count = int(err[-1].removeprefix("seen ")) if err and err[-1].startswith("seen ") else 200  # it became another
    assert count > 100
    rng = Random(command)
    for at in (1, *(rng.randint(1, count) for _ in range(INSTANTS))):
        code, err = run(at)
        said = [line for line in err if not line.startswith("seen ")]
        if code != 130 and "seen" not in "".join(err):
            continue  # it had become the program that it was to run
        assert code == 130, (at, code, err)
        assert [line for line in said if line.startswith("Interrupted")] == said[-1:], (at, err)
        assert "Traceback" not in "\n".join(said) and "Exception" not in "\n".join(said), (at, err)


def test_every_command_is_tried() -> None:
    assert set(TRIED) == {one for one in COMMANDS if one != "lab"}


def test_before_anything_of_ours_is_imported(environment: Mapping[str, str], tmp_path: Path) -> None:
    program = (
        "import sys\n"
        "class Interrupting:\n"
        "    def find_spec(self, name, path=None, target=None):\n"
        "        if name == 'enthesis.cli.interrupts': raise KeyboardInterrupt\n"
        "sys.meta_path.insert(0, Interrupting())\n"
        "from enthesis.__main__ import run\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", program], cwd=tmp_path, env=dict(environment), capture_output=True, text=True,
        check=False,
    )  # fmt: skip
    assert (done.returncode, done.stderr) == (130, "Interrupted.\n")


GUARDED = """
import sys
from enthesis.cli import interrupts
{body}
interrupts.guarded(program)
"""


@pytest.mark.parametrize(
    ("body", "code", "err"),
    [
        ("def program(): raise KeyboardInterrupt", 130, "Interrupted.\n"),
        ("def program():\n interrupts.on_interrupt('all is kept')\n import os; os.kill(os.getpid(), 2)", 130,
         "Interrupted: all is kept.\n"),
        ("def program(): import os; os.kill(os.getpid(), 15)", 143, ""),
        ("class Late:\n def __del__(self): import os; os.kill(os.getpid(), 2); str()\n"
         "def program():\n late = Late(); del late\n import time; time.sleep(600)", 130, "Interrupted.\n"),
        ("def program():\n import os\n try: os.kill(os.getpid(), 2); str()\n except BaseException: pass", 130,
         "Interrupted.\n"),
        ("def program():\n import os\n try: os.kill(os.getpid(), 2); str()\n finally: 1 / 0", 130, "Interrupted.\n"),
        ("def program():\n import os\n with interrupts.held(): os.kill(os.getpid(), 2); print('whole', "
         "file=sys.stderr)", 130, "whole\nInterrupted.\n"),
        ("def program(): sys.exit(4)", 4, ""),
        ("def program(): pass", 0, ""),
    ],
)  # fmt: skip
def test_where_an_interrupt_may_be_lost_it_is_not(
    environment: Mapping[str, str], tmp_path: Path, body: str, code: int, err: str
) -> None:
    done = subprocess.run(
        [sys.executable, "-c", GUARDED.format(body=body)], cwd=tmp_path, env=dict(environment), capture_output=True,
        text=True, timeout=PATIENCE, check=False,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
    )  # fmt: skip
    assert (done.returncode, done.stderr) == (code, err)


def test_what_is_ignored_for_a_program_in_the_background_stays_ignored(
    environment: Mapping[str, str], tmp_path: Path
) -> None:
    body = "def program(): import os; os.kill(os.getpid(), 2); print('went on')"
    done = subprocess.run(
        [sys.executable, "-c", GUARDED.format(body=body)], cwd=tmp_path, env=dict(environment), capture_output=True,
        text=True, timeout=PATIENCE, check=False,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_IGN),
    )  # fmt: skip
    assert (done.returncode, done.stdout) == (0, "went on\n")


def test_a_lab_in_the_foreground_is_stopped_with_the_group_and_says_so_once(
    environment: Mapping[str, str], tmp_path: Path
) -> None:
    folder = copied(tmp_path / "saltmarsh")
    with subprocess.Popen(
        [sys.executable, "-m", "enthesis", "lab", "start", "--foreground"], cwd=folder, env=dict(environment),
        stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True, start_new_session=True,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # noqa: PLW1509
    ) as process:  # fmt: skip
        assert process.stderr is not None
        first = process.stderr.readline()
        assert " at http" in first
        os.killpg(process.pid, signal.SIGINT)
        rest = process.stderr.read()
        assert process.wait(PATIENCE) == 130
    assert [line for line in rest.splitlines() if " at http" not in line] == ["Interrupted: the lab is stopped."]

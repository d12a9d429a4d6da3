"""A warm copy of the program: a process that has imported everything forks once for every run that a test asks for.

Each run is a process of its own, with its own arguments, folder, environment and standard streams, and ends with its
own exit code; only the second that Python needs to import libraries is saved. `TESTS_COLD=1` starts Python each time.
A lab that a run starts is such a copy too.

The other side of the socket is `Warm`; started by hand, this module is the process that forks.
"""

import ctypes
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
import traceback
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from types import TracebackType
from typing import Any, NoReturn

from enthesis.cli.forking import fork, import_everything
from enthesis_lab import __main__ as lab_process
from enthesis_lab import control

RUNS = "TESTS_RUNS"  # names a file that gets a line for each run: the seconds that it took, and its words
FIRST = 65_536  # bytes; of the message that says what to run
ANOTHER_TIME = ("TZ", "LD_PRELOAD", "FAKETIME", "FAKETIME_SHARED")
"""What makes programs believe that it is another time: all that the tests start must believe the same."""
ROOT = Path(__file__).parent.parent
ROOM = 1000  # bytes of this process's command line, which the copies that become labs write theirs over


class Warm:
    """Starts the warm process and asks it for runs. Safe to use from several threads at once."""

    def __init__(self, folder: Path, environment: Mapping[str, str]) -> None:
        self.path = str(folder / "warm")
        listening, ready = os.pipe()
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tests.warm", self.path, str(ready), "-" * ROOM],
            cwd=ROOT,
            env={**environment, "OPENBLAS_NUM_THREADS": "1"},
            pass_fds=(ready,),
            start_new_session=True,
        )
        os.close(ready)
        with os.fdopen(listening, "rb") as told:
            assert told.read() == b"ready", "the warm process did not start"

    def __enter__(self) -> "Warm":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, fault: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._process.terminate()
        self._process.wait()

    def run(
        self, words: Sequence[str], at: Path, environment: Mapping[str, str], stdin: str, timeout: float
    ) -> tuple[int, str, str]:
        """Runs the program with these words; its exit code, output and errors. TimeoutExpired after `timeout` s."""
        began = time.monotonic()
        asked = json.dumps({"words": [str(word) for word in words], "at": str(at), "environment": dict(environment)})
        with tempfile.TemporaryFile() as given, tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
            given.write(stdin.encode())
            given.seek(0)
            with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as asking:
                asking.connect(self.path)
                socket.send_fds(asking, [asked.encode()], [one.fileno() for one in (given, out, err)])
                pid = int(asking.recv(64))
                asking.settimeout(timeout)
                try:
                    code = int(asking.recv(64))
                except TimeoutError:
                    os.kill(pid, signal.SIGKILL)
                    raise subprocess.TimeoutExpired(list(words), timeout) from None
            if RUNS in os.environ:
                with Path(os.environ[RUNS]).open("a", encoding="utf-8") as runs:
                    runs.write(f"{time.monotonic() - began:.3f} {' '.join(map(str, words))}\n")
            out.seek(0)
            err.seek(0)
            return code, out.read().decode(), err.read().decode()


class _ForkedLab:
    """A lab's process as the tool knows it, which is a copy of this one instead of a new one."""

    def __init__(self, pid: int) -> None:
        self.pid = pid
        self.returncode: int | None = None

    def terminate(self) -> None:
        with suppress(ProcessLookupError):
            os.kill(self.pid, signal.SIGTERM)

    def wait(self, timeout: float | None = None) -> int:
        _, status = os.waitpid(self.pid, 0)
        self.returncode = os.waitstatus_to_exitcode(status)
        return self.returncode


def _spawned_lab(state: Path, log: Any, *, own_session: bool) -> tuple[_ForkedLab, int]:
    """In place of `control._spawn`: the same, but that nothing has to be imported."""
    reading, writing = os.pipe()
    signal.pthread_sigmask(signal.SIG_BLOCK, control.INTERRUPTS)
    pid = os.fork()
    if pid:
        os.close(writing)
        return _ForkedLab(pid), reading
    try:
        if own_session:
            os.setsid()
        with open(os.devnull, "rb") as nothing:  # noqa: PTH123
            os.dup2(nothing.fileno(), 0)
        for number in (1, 2):
            os.dup2(log.fileno(), number)
        os.dup2(writing, 3)
        os.closerange(4, 4096)
        for number in control.INTERRUPTS:
            signal.signal(number, signal.SIG_DFL)
        kept = {name: value for name, value in os.environ.items() if name in control.PASSED_ON}
        os.environ.clear()
        os.environ.update(kept)
        os.chdir("/")
        sys.argv = ["enthesis_lab", str(state), "3"]
        sys.stdout, sys.stderr = os.fdopen(1, "w", closefd=False), os.fdopen(2, "w", closefd=False)
        _be_called([sys.executable, "-m", "enthesis_lab", str(state), "3"])
        lab_process.main()
    except BaseException as ended:
        if not isinstance(ended, SystemExit):
            traceback.print_exc()
        code = ended.code if isinstance(ended, SystemExit) else 1
        os._exit(code if isinstance(code, int) else 0 if code is None else 1)
    os._exit(0)


def _be_called(words: Sequence[str]) -> None:
    """Writes another command line over that of this process, by which the tool knows a lab's process."""
    fields = Path("/proc/self/stat").read_text(encoding="utf-8").rpartition(")")[2].split()
    begin, end = int(fields[45]), int(fields[46])  # proc(5): arg_start and arg_end, of which the first two are gone
    line = b"".join(os.fsencode(word) + b"\0" for word in words)
    assert len(line) < end - begin, "the command line of a lab has no room"
    ctypes.memmove(begin, line.ljust(end - begin, b"\0"), end - begin)


def _serve(path: str, ready: int) -> None:
    import_everything()
    vars(control)["_spawn"] = _spawned_lab
    vars(control)["PASSED_ON"] = (*control.PASSED_ON, *ANOTHER_TIME)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # those that keep a run each end by themselves
    with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as listening:
        listening.bind(path)
        listening.listen(64)
        os.write(ready, b"ready")
        os.close(ready)
        while True:
            asking, _ = listening.accept()
            if os.fork() == 0:
                listening.close()
                _keep(asking)
            asking.close()


def _keep(asking: socket.socket) -> NoReturn:
    """Starts one run, waits for its end and answers with its exit code."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    message, descriptors, _, _ = socket.recv_fds(asking, FIRST, 3)
    asked = json.loads(message)
    pid = fork(asked["words"], asked["at"], asked["environment"], dict(enumerate(descriptors)))
    for one in descriptors:
        os.close(one)
    asking.send(str(pid).encode())
    _, status = os.waitpid(pid, 0)
    asking.send(str(os.waitstatus_to_exitcode(status)).encode())
    os._exit(0)


if __name__ == "__main__":
    _serve(sys.argv[1], int(sys.argv[2]))

"""A warm copy of the program: a process that has imported everything forks once for every run that a test asks for.

Each run is a process of its own, with its own arguments, folder, environment and standard streams, and ends with its
own exit code; only the second that Python needs to import libraries is saved. `TESTS_COLD=1` starts Python each time.

The other side of the socket is `Warm`; started by hand, this module is the process that forks.
"""

import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from types import TracebackType
from typing import NoReturn

from enthesis.cli.forking import fork, import_everything
from enthesis.lab import control

FIRST = 65_536  # bytes; of the message that says what to run
ANOTHER_TIME = ("TZ", "LD_PRELOAD", "FAKETIME", "FAKETIME_SHARED")
"""What makes programs believe that it is another time: all that the tests start must believe the same."""
ROOT = Path(__file__).parent.parent


class Warm:
    """Starts the warm process and asks it for runs. Safe to use from several threads at once."""

    def __init__(self, folder: Path, environment: Mapping[str, str]) -> None:
        self.path = str(folder / "warm")
        listening, ready = os.pipe()
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tests.warm", self.path, str(ready)],
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
            out.seek(0)
            err.seek(0)
            return code, out.read().decode(), err.read().decode()


def _serve(path: str, ready: int) -> None:
    import_everything()
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

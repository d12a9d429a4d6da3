"""Runs commands of ours in forked copies of this process: each a process of its own that need not import it all again.

A command sees its own arguments, folder, environment and standard streams, and ends with its own exit code.
"""

import gc
import importlib
import os
import pkgutil
import signal
import sys
import tempfile
import traceback
from collections.abc import Mapping, Sequence
from contextlib import suppress
from importlib.metadata import entry_points
from typing import NoReturn

from enthesis.__main__ import run
from enthesis.cli.interrupts import SIGNALS
from enthesis.model.errors import EnthesisError

FOR_OTHERS = ("enthesis.testing",)  # what only programs of others import, with libraries that need not be here
LAZY = (  # what libraries import only once they are used
    "typer._adapters", "httpcore", "h11", "encodings.idna", "alembic.command", "alembic.context", "alembic.op",
    "mako.template", "sqlalchemy.connectors.asyncio", "icalendar", "importlib.readers",
)  # fmt: skip


def modules() -> list[str]:
    """The names of all modules of this program, and of what registers commands with it, but those that run them."""
    packages = {point.module.partition(".")[0] for point in entry_points(group="enthesis.commands")}
    out: list[str] = []
    for package in ("enthesis", *sorted(packages)):
        found = pkgutil.walk_packages(importlib.import_module(package).__path__, f"{package}.")
        out += [module.name for module in found if not module.name.endswith("__main__")]
    return out


ON_DEMAND = (  # what needs a library that is installed for it
    "enthesis.connectors.postgresql.",
    "enthesis.tokens.saml",
    "enthesis.cleaning.new_roles",
)


def import_everything() -> None:
    """Imports all of this program, so that no command that is forked later has to; takes a second or two."""
    for name in modules():
        if name.startswith(ON_DEMAND) or not name.startswith("enthesis."):
            with suppress(ModuleNotFoundError, EnthesisError):
                importlib.import_module(name)
        elif name not in FOR_OTHERS:
            importlib.import_module(name)
    for name in LAZY:
        with suppress(ImportError):
            importlib.import_module(name)
    gc.collect()
    gc.freeze()  # so that the copies do not look through all that again, which would copy it for good


def fork(
    words: Sequence[str], folder: str, environment: Mapping[str, str], streams: Mapping[int, int] | None = None
) -> int:
    """Starts `enthesis WORDS...` in a folder, in a session of its own; the number of its process.

    `streams` says which of this process's descriptors are its standard input (0), output (1) and errors (2).
    """
    sys.stdout.flush()
    sys.stderr.flush()
    before = signal.pthread_sigmask(signal.SIG_BLOCK, SIGNALS)
    pid = os.fork()
    if pid:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)
        return pid
    try:
        for own in SIGNALS:  # the handlers of the copied process are not this one's
            if signal.getsignal(own) is not signal.SIG_IGN:
                signal.signal(own, signal.SIG_DFL)
        signal.pthread_sigmask(signal.SIG_UNBLOCK, SIGNALS)
        os.setsid()
        for number, one in (streams or {}).items():
            os.dup2(one, number)
        os.chdir(folder)
        _become(words, environment)
    except BaseException:
        traceback.print_exc()
    os._exit(70)


def _become(words: Sequence[str], environment: Mapping[str, str]) -> NoReturn:
    os.environ.clear()
    os.environ.update(environment)
    sys.path[:0] = filter(None, environment.get("PYTHONPATH", "").split(os.pathsep))
    sys.argv = ["enthesis", *words]
    sys.stdin, sys.stdout, sys.stderr = (os.fdopen(n, mode, closefd=False) for n, mode in enumerate(("r", "w", "w")))
    tempfile.tempdir = None
    code: object = 0
    try:
        run()
    except SystemExit as ended:
        code = ended.code
    except BaseException:
        traceback.print_exc()
        code = 1
    for stream in (sys.stdout, sys.stderr):
        with suppress(OSError, ValueError, AttributeError):
            stream.flush()
    if code is not None and not isinstance(code, int):
        os.write(2, f"{code}\n".encode())
        code = 1
    os._exit(code or 0)

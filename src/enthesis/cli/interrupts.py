"""Ctrl-C at any instant ends the program in one line, with exit code 130 and no traceback, and so that all cleans up.

Installed before anything else is imported, so only what the interpreter itself does at its start is not covered.
SIGTERM and SIGHUP unwind in the same way and say nothing: the code is then 128 plus the signal's number, as in shells.
"""

import signal
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from time import monotonic
from types import FrameType
from typing import Any, NoReturn

SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
SOON = 0.001  # seconds
AGAIN = 1.0  # seconds; a signal that follows sooner is the same one: a held key, or one sent to the group as well


class _State:
    """The first signal that came (0: none yet), when, and what the last line says besides."""

    number = 0
    came = 0.0
    result = ""


def guarded(program: Callable[[], None]) -> NoReturn:
    """Runs the program and exits with its code, or as interrupted where a signal came."""
    code: Any = 0
    _State.number, _State.came, _State.result = 0, 0.0, ""
    try:
        try:
            _install()
            program()
        except SystemExit as ended:
            code = ended.code
        finally:
            _ignore()
    except BaseException:
        if not _State.number and not isinstance(sys.exc_info()[1], KeyboardInterrupt):
            raise
        _State.number = _State.number or signal.SIGINT
    if _State.number:
        _flush_nothing_more()
        if _State.number == signal.SIGINT:
            more = f": {_State.result}." if _State.result else "."
            sys.stderr.write(f"\nInterrupted{more}\n" if sys.stderr.isatty() else f"Interrupted{more}\n")
        sys.exit(128 + _State.number)
    sys.exit(code)


def on_interrupt(result: str) -> None:
    """What the last line says if the program is interrupted from now on: the state that is left behind."""
    _State.result = result


@contextmanager
def held() -> Iterator[None]:
    """Signals wait while something is done that must not be left half-way, such as cleaning up."""
    signal.pthread_sigmask(signal.SIG_BLOCK, SIGNALS)
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_UNBLOCK, SIGNALS)


def _install() -> None:
    sys.unraisablehook = _unraisable
    for number in SIGNALS:
        if signal.getsignal(number) is not signal.SIG_IGN:  # ignored for a program in the background, or by nohup
            signal.signal(number, _interrupt)


def _ignore() -> None:
    """What comes when all is said changes nothing any more."""
    for number in SIGNALS:
        signal.signal(number, signal.SIG_IGN)


def _interrupt(number: int, frame: FrameType | None) -> None:
    if _State.number and monotonic() < _State.came + AGAIN:
        return
    _State.number, _State.came = _State.number or number, monotonic()
    raise KeyboardInterrupt


def _unraisable(fault: "sys.UnraisableHookArgs") -> None:
    """An interrupt that came where nothing can be raised, as in a finaliser, comes again in a moment."""
    if issubclass(fault.exc_type, KeyboardInterrupt):
        signal.signal(signal.SIGALRM, _come_again)
        signal.setitimer(signal.ITIMER_REAL, SOON)
    else:
        sys.__unraisablehook__(fault)


def _come_again(number: int, frame: FrameType | None) -> None:
    while frame is not None:
        if frame.f_code is _unraisable.__code__:
            signal.setitimer(signal.ITIMER_REAL, SOON)
            return
        frame = frame.f_back
    raise KeyboardInterrupt


def _flush_nothing_more() -> None:
    """Output that is still buffered is written, unless nobody reads it."""
    try:
        sys.stdout.flush()
    except (OSError, ValueError):
        sys.stdout = None  # so that the interpreter does not try again

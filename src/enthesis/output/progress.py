"""How far long work has come, on standard error."""

import sys
from typing import Any

from enthesis.output.lines import visible


class Silent:
    """A reporter that says nothing: for pipes, logs and --quiet."""

    def begin(self, what: str, total: int) -> None:
        """Nothing to show."""

    def step(self, what: str) -> None:
        """Nothing to show."""

    def end(self) -> None:
        """Nothing to show."""


class Bar:
    """A progress bar on a terminal, gone when the work is done."""

    def __init__(self) -> None:
        from rich.console import Console  # noqa: PLC0415  only a terminal needs it
        from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn  # noqa: PLC0415

        columns = (TextColumn("{task.fields[what]}"), BarColumn(), MofNCompleteColumn())
        self._progress = Progress(*columns, console=Console(file=sys.stderr), transient=True)
        self._task: Any = None

    def begin(self, what: str, total: int) -> None:
        self._progress.start()
        self._task = self._progress.add_task("", total=total or None, what=visible(what))

    def step(self, what: str) -> None:
        shown = visible(what) if len(what) <= 60 else visible(what[:59]) + "…"
        self._progress.update(self._task, advance=1, what=shown.replace("[", "\\["))

    def end(self) -> None:
        self._progress.stop()


def reporter(*, quiet: bool) -> Silent | Bar:
    """A bar where a person looks on, silence elsewhere."""
    return Bar() if sys.stderr.isatty() and not quiet else Silent()

"""`enthesis demo`: the worked example on the lab, narrated, with the real commands."""

import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from importlib import resources
from pathlib import Path
from typing import Annotated, Any

import typer

from enthesis.commands.common import lab_state, put_lines, remark

INTERRUPTED = 130  # exit code, as shells have it
PATIENCE = 5.0  # seconds that an interrupted command has to end by itself

Scene = tuple[str, tuple[str, ...], int]
"""What is said, the command as a user types it, and the exit code that it must have."""


@dataclass(frozen=True)
class Chapter:
    """One story: the packaged estate that it is about, what is said first, and its scenes."""

    estate: str
    opening: str
    scenes: tuple[Scene, ...]


SWEEPER = "surge/cluster/grid/namespace/nowcast/identity/sweeper"
CHAPTERS = {
    "publishing": Chapter(
        "saltmarsh",
        "Saltmarsh Flood Watch publishes its bulletin from a pipeline. No key is stored anywhere.",
        (
            ("An estate describes the access that workloads are meant to have. Is it sound?", ("check",), 0),
            ("Nothing is set up yet, so the journey that should work does not.", ("prove",), 1),
            ("What would make it so?", ("propose", "--out", "proposal.json"), 0),
            ("Carry it out, with the administrators' one-hour sessions.", ("enact", "proposal.json", "--quiet"), 0),
            ("Now the pipeline gets in without any stored key, and the wrong branch does not.", ("prove",), 0),
            ("And nothing is left to do.", ("propose", "--expect-none"), 0),
        ),
    ),
    "cluster": Chapter(
        "nowcast",
        "In the forecast cluster, a nowcast job cleans up its own namespace's workloads, and not the platform's.",
        (
            ("The cluster is one estate and one chain with the clouds. Is it sound?", ("check", "--quiet"), 0),
            ("Nothing is set up yet.", ("prove", "--quiet"), 1),
            ("A role is defined once, and bound in one namespace only.", ("enact", "--yes"), 0),
            ("The cluster's own review is asked, and each thing tried.", ("prove",), 0),
            ("Whoever is near the one that the cloud admits is refused.", ("prove", "--near-misses", "--quiet"), 0),
            (
                "From outside the cluster: a kubeconfig that holds no token, and asks here for one each time.",
                ("lend", SWEEPER, "--kubeconfig", "lent.config"),
                0,
            ),
            (
                "Any client comes with it as the job. Our own reader sees the workloads, and nothing else.",
                ("survey", "--cluster", "surge/cluster/grid", "--namespace", "nowcast", "--kubeconfig", "lent.config",
                 "--out", "seen.jsonl"),
                3,
            ),
        ),
    ),
}  # fmt: skip


class _Failed(Exception):
    """A command of the story did not end as the story says."""


def demo(
    chapter: Annotated[
        str, typer.Argument(metavar="[CHAPTER]", help="publishing (the default) or cluster.")
    ] = "publishing",
    into: Annotated[
        Path | None, typer.Option("--into", metavar="DIR", help="Copy the estate here, and leave it.")
    ] = None,
    keep: Annotated[bool, typer.Option("--keep", help="Leave the lab running, for exploring.")] = False,
) -> None:
    """The worked example: a pipeline publishes without any stored key, and the wrong branch cannot.

    Needs no rights and no network but loopback. It copies an estate to a fresh folder, starts the lab, runs the real
    commands one after another, and stops the lab again. The chapter `cluster` is about a job in a cluster.

    Example: enthesis demo --into ./saltmarsh --keep
    """
    from enthesis.errors import Mistaken

    told = CHAPTERS.get(chapter)
    if told is None:
        raise Mistaken(f"there is no chapter {chapter}", remedy=f"there are {' and '.join(CHAPTERS)}")
    folder = _fresh_folder(into)
    code = 0
    stopped = False
    try:
        with _interrupts():
            _copy_estate(told, folder)
            put_lines(_opening(told, folder))
            _tell(told, folder)
    except _Failed as fault:
        remark(f"The demo did not go as it should: {fault}")
        code = 1
    except KeyboardInterrupt:
        stopped, code = True, INTERRUPTED
    if keep and not code:
        _invite(folder)
        return
    _clean_up(folder, leave=into is not None)
    if stopped:
        remark("Interrupted: the lab is stopped" + ("." if into else ", and its folder removed."))
    elif not code:
        put_lines(_closing(into))
    raise typer.Exit(code)


def _fresh_folder(into: Path | None) -> Path:
    from enthesis.errors import Mistaken

    if into is None:
        return Path(tempfile.mkdtemp(prefix="enthesis-demo-"))
    try:
        into.mkdir(parents=True, exist_ok=True)
        if any(into.iterdir()):
            raise Mistaken(f"{into} is not empty", remedy="name a fresh folder; nothing is overwritten")
    except OSError as fault:
        raise Mistaken(f"{into} cannot be used: {fault.strerror}") from None
    return into.resolve()


def _copy_estate(chapter: Chapter, folder: Path) -> None:
    for file in resources.files("enthesis").joinpath("data", chapter.estate).iterdir():
        (folder / file.name).write_bytes(file.read_bytes())


@contextmanager
def _interrupts() -> Iterator[None]:
    """SIGTERM and SIGHUP end the demo as Ctrl-C does, so that nothing is left behind."""

    def interrupt(number: int, frame: Any) -> None:
        raise KeyboardInterrupt

    before = {number: signal.signal(number, interrupt) for number in (signal.SIGTERM, signal.SIGHUP)}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def _tell(chapter: Chapter, folder: Path) -> None:
    _run(folder, ("lab", "start"), 0, silent=True)
    for said, command, code in chapter.scenes:
        from enthesis.showing.lines import Span, line

        put_lines([line(), line(said), line(Span(f"  enthesis {' '.join(command)}", "command"))])
        _run(folder, command, code)


def _run(folder: Path, command: tuple[str, ...], code: int, *, silent: bool = False) -> None:
    """Runs a real command in the folder; its own session, so that Ctrl-C reaches this process first."""
    out = subprocess.DEVNULL if silent else None
    line = [sys.executable, "-m", "enthesis", *command]
    with subprocess.Popen(  # noqa: S603  our own program
        line, cwd=folder, stdout=out, start_new_session=True
    ) as process:
        try:
            found = process.wait()
        except KeyboardInterrupt:
            process.send_signal(signal.SIGINT)  # so that it can stop what it was starting
            try:
                process.wait(PATIENCE)
            except subprocess.TimeoutExpired:
                process.kill()
            raise
    if found != code:
        raise _Failed(f"`enthesis {' '.join(command)}` ended with {found}, not with {code}")


def _clean_up(folder: Path, *, leave: bool) -> None:
    from enthesis.lab.control import stop

    state = lab_state(folder)
    stop(state, clean=True)
    if leave:
        shutil.rmtree(state.parent, ignore_errors=True)
    else:
        shutil.rmtree(folder, ignore_errors=True)


def _opening(chapter: Chapter, folder: Path) -> Any:
    from enthesis.showing.lines import line

    return [
        line(chapter.opening),
        line(f"The estate is in {folder}; every command below runs there, at a lab on this machine."),
    ]


def _closing(into: Path | None) -> Any:
    from enthesis.showing.lines import line

    where = (
        f"The estate stays in {into}." if into else "Keep it all for exploring with: enthesis demo --into DIR --keep"
    )
    return [line(), line(f"The lab is stopped. {where}")]


def _invite(folder: Path) -> None:
    from enthesis.showing.lines import Span, line

    put_lines(
        [
            line(),
            line("The lab goes on running. Look around, change the estate, propose and enact again:"),
            line(Span(f"  cd {_quoted(folder)}", "command")),
            line("and when you are done:"),
            line(Span("  enthesis lab stop --clean", "command")),
        ]
    )


def _quoted(folder: Path) -> str:
    import shlex

    return shlex.quote(str(folder))

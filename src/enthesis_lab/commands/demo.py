"""`enthesis demo`: the worked example on the lab, narrated, with the real commands."""

import os
import shlex
import shutil
import signal
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from importlib import import_module, resources
from pathlib import Path
from typing import Annotated, Any

import typer

from enthesis.cli.forking import fork, import_everything
from enthesis.cli.interrupts import held, on_interrupt
from enthesis.cli.options import FormatOption, QuietOption
from enthesis.files.saving import fresh_folder
from enthesis.model.errors import InvalidInput, Unreachable
from enthesis.output.lines import Line, Span, line
from enthesis.output.renderers import TEXT, CommandAnswer, is_document, put_answer
from enthesis.output.streams import put_lines, remark
from enthesis_lab.commands.chapters import CHAPTERS, Chapter, Edit
from enthesis_lab.control import stop
from enthesis_lab.running import state_folder

USUAL = "publishing"  # the chapter that is told unless another is named
INSTALLS = {
    "OpenSSH": "apt-get install openssh-server openssh-client",
    "PostgreSQL": "apt-get install postgresql; pip install 'enthesis[postgresql]'",
    "a library for assertions": "pip install 'enthesis[saml]'",
}
PATIENCE = 60.0  # seconds that an interrupted command has to end by itself


class _Failed(Exception):
    """A command of the story did not end as the story says."""


def demo(
    chapter: Annotated[str, typer.Option("--chapter", metavar="NAME", help="The chapter to run (see --list).")] = USUAL,
    listed: Annotated[bool, typer.Option("--list", help="List the chapters.")] = False,
    into: Annotated[
        Path | None, typer.Option("--into", metavar="DIR", help="Copy the estate to DIR, and keep it.")
    ] = None,
    keep: Annotated[bool, typer.Option("--keep", help="Keep the lab running, to explore it.")] = False,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Run the worked example: a pipeline publishes without a stored key, and the wrong branch is refused.

    Needs no rights and no network but loopback. It copies an estate to a fresh folder, starts the lab, runs the real
    commands one after another, and stops the lab again. There is a chapter for each way a workload gets its identity.
    """
    if listed:
        every = {"chapters": [{"name": name, "title": one.title} for name, one in CHAPTERS.items()]}
        put_answer(output, CommandAnswer(lambda: every, _list))
        return
    told = CHAPTERS.get(chapter)
    if told is None:
        raise InvalidInput(
            f"there is no chapter {chapter}", code="chapter-unknown", remedy=f"there are {', '.join(CHAPTERS)}"
        )
    if told.needs:
        _installed(told.needs)
    with _muted(quiet or is_document(output)):
        code, folder = _told(told, chapter, into, keep=keep)
    there = str(folder) if folder is not None and folder.exists() else None
    put_answer(output, CommandAnswer(lambda: {"chapter": chapter, "went_well": not code, "folder": there}, lambda: ()))
    raise typer.Exit(code)


def _installed(needed: str) -> None:
    """Unreachable where what a chapter needs besides this program is not installed."""
    # only such chapters need these
    from enthesis_lab.databases import NotInstalled, programs  # noqa: PLC0415
    from enthesis_lab.logins import program  # noqa: PLC0415

    try:
        if needed == "OpenSSH":
            program()
        elif needed == "a library for assertions":
            import_module("signxml")
        else:
            programs()
            import_module("psycopg")
    except (NotInstalled, ImportError):
        raise Unreachable(
            f"this chapter needs {needed}, which is not installed",
            code="server-not-installed",
            remedy=INSTALLS[needed],
        ) from None


@contextmanager
def _muted(wanted: bool) -> Iterator[None]:
    """Without what this process and those that it starts write to standard output."""
    if not wanted:
        yield
        return
    sys.stdout.flush()
    kept = os.dup(1)
    try:
        with Path(os.devnull).open("wb") as nowhere:
            os.dup2(nowhere.fileno(), 1)
        yield
    finally:
        sys.stdout.flush()
        os.dup2(kept, 1)
        os.close(kept)


def _told(told: Chapter, chapter: str, into: Path | None, *, keep: bool) -> tuple[int, Path | None]:
    """Tells a chapter to its end: the exit code, and the folder it ran in."""
    folder = None
    code = 0
    kept = False
    try:
        with held():
            folder = _fresh_folder(into)
            on_interrupt("the lab is stopped" + ("" if into else ", and its folder removed"))
        _copy_estate(told, folder)
        put_lines(_opening(told, folder))
        import_everything()
        _tell(told, folder)
        kept = keep and told.lab
    except _Failed as fault:
        remark(f"The demo did not go as it should: {fault}")
        code = 1
    finally:
        if folder is not None and not kept:
            with held():
                _clean_up(folder, leave=into is not None)
    if kept and folder is not None:
        _invite(folder)
    elif not code:
        put_lines(_closing(told, chapter, into))
    return code, folder


def _list() -> list[Line]:
    width = max(map(len, CHAPTERS))
    lines = [line(f"There are {len(CHAPTERS)} chapters: enthesis demo --chapter NAME.")]
    lines += [line("  ", Span(name.ljust(width), "command"), f"  {one.title}") for name, one in CHAPTERS.items()]
    return lines


def _fresh_folder(into: Path | None) -> Path:
    if into is None:
        return Path(tempfile.mkdtemp(prefix="enthesis-demo-"))
    return fresh_folder(into, "existing files are never overwritten")


def _copy_estate(chapter: Chapter, folder: Path) -> None:
    for file in resources.files("enthesis").joinpath("data", chapter.estate).iterdir():
        if chapter.files is None or file.name in chapter.files:
            (folder / file.name).write_bytes(file.read_bytes())


def _tell(chapter: Chapter, folder: Path) -> None:
    if chapter.lab:
        _run(folder, ("lab", "start"), 0, silent=True)
        _runtime(folder).mkdir(mode=0o700)
    for scene in chapter.scenes:
        if isinstance(scene, Edit):
            put_lines([line(), line(scene.said), line(Span(f"  in {scene.file}", "command"))])
            _edit(folder / scene.file, scene)
            continue
        words = [scene.command, *([scene.beside] if scene.beside else [])]
        shown = [line(Span(f"  enthesis {_shown(word)}", "command")) for word in words]
        put_lines([line(), *([line(scene.said)] if scene.said else []), *shown])
        with _beside(folder, scene.beside):
            _run(folder, scene.command, scene.code)


def _shown(command: tuple[str, ...]) -> str:
    return " ".join(f'"{word}"' if " " in word else word for word in command)


def _edit(path: Path, edit: Edit) -> None:
    text = path.read_text(encoding="utf-8")
    if edit.old not in text:
        raise _Failed(f"{path.name} does not say what is to be changed")
    path.write_text(text.replace(edit.old, edit.new), encoding="utf-8")
    change = f"`{edit.old.strip()}` becomes `{edit.new}`" if edit.new else f"without `{edit.old.strip()}`"
    put_lines([line("  ", Span(change, "quiet"))])


def _runtime(folder: Path) -> Path:
    """Where the demo's people sign in; it goes when the lab is cleaned up."""
    return state_folder(folder) / "runtime"


def _environment(folder: Path) -> dict[str, str]:
    """The demo's commands find this program by its name, and sign in where nobody else does."""
    path = os.pathsep.join([str(Path(sys.executable).parent), os.environ.get("PATH", "")])
    kept = {name: value for name, value in os.environ.items() if not name.startswith("ENTHESIS_")}
    return {**kept, "PATH": path, "XDG_RUNTIME_DIR": str(_runtime(folder))}


@contextmanager
def _beside(folder: Path, command: tuple[str, ...]) -> Iterator[None]:
    """A command that runs while another does, and must end well too."""
    if not command:
        yield
        return
    pid = 0
    try:
        with held():
            pid = fork(command, str(folder), _environment(folder))
        yield
        code = _exit_code(pid)
    except BaseException:
        _end(pid)
        raise
    if code:
        raise _Failed(f"`enthesis {_shown(command)}` ended with {code}")


def _run(folder: Path, command: tuple[str, ...], code: int, *, silent: bool = False) -> None:
    """Runs a real command in the folder; its own session, so that Ctrl-C reaches this process first."""
    pid = 0
    try:
        with held(), open(os.devnull, "w") as nowhere:  # noqa: PTH123  a descriptor is wanted
            pid = fork(command, str(folder), _environment(folder), {1: nowhere.fileno()} if silent else None)
        found = _exit_code(pid)
    except KeyboardInterrupt:
        _end(pid)  # it stops what it was starting, and says nothing
        raise
    if found != code:
        raise _Failed(f"`enthesis {_shown(command)}` ended with {found}, not with {code}")


def _exit_code(pid: int) -> int:
    _, status = os.waitpid(pid, 0)
    return os.waitstatus_to_exitcode(status)


def _end(pid: int) -> None:
    """Ends a command as Ctrl-C would, so that it cleans up; kills it where it does not end by itself."""
    if not pid:
        return
    with held(), suppress(ChildProcessError, ProcessLookupError):
        os.kill(pid, signal.SIGTERM)
        ends = time.monotonic() + PATIENCE
        while os.waitpid(pid, os.WNOHANG)[0] == 0:
            if time.monotonic() > ends:
                os.kill(pid, signal.SIGKILL)
            time.sleep(0.01)


def _clean_up(folder: Path, *, leave: bool) -> None:
    state = state_folder(folder)
    stop(state, clean=True)
    if leave:
        shutil.rmtree(state.parent, ignore_errors=True)
    else:
        shutil.rmtree(folder, ignore_errors=True)


def _opening(chapter: Chapter, folder: Path) -> Any:
    what = "The estate is in" if chapter.lab else "A fresh folder is"
    return [
        line(chapter.opening),
        line(f"{what} {folder}; every command below runs there{', at a lab on this machine' * chapter.lab}."),
    ]


def _closing(chapter: Chapter, name: str, into: Path | None) -> Any:
    which = "" if name == USUAL else f" --chapter {name}"
    again = f"Keep it all for exploring with: enthesis demo{which} --into DIR{' --keep' * chapter.lab}"
    where = f"The estate stays in {into}." if into else again
    return [line(), line(f"{'The lab is stopped. ' * chapter.lab}{where}")]


def _invite(folder: Path) -> None:
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
    return shlex.quote(str(folder))

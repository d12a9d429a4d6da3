"""What every command shares: its options, where the estate is, and how an answer is put out."""

import os
import shutil
import sys
from collections.abc import Iterable
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

if TYPE_CHECKING:
    from enthesis.model.estate import Estate, Identity
    from enthesis.reading.surveys import Survey
    from enthesis.showing.lines import Line


class Format(StrEnum):
    """How an answer is put out."""

    TEXT = "text"
    JSON = "json"


class ReviewFormat(StrEnum):
    """The same, and Markdown for a review."""

    TEXT = "text"
    JSON = "json"
    MARKDOWN = "markdown"


EstateOption = Annotated[
    Path | None,
    typer.Option("--estate", metavar="DIR", help="The estate's folder; default: the nearest upward with estate.yaml."),
]
LiveOption = Annotated[
    Path | None,
    typer.Option("--live", metavar="FILE", help="Ask a survey, in place of an estate or beside one."),
]
KubeconfigOption = Annotated[
    Path | None,
    typer.Option("--kubeconfig", metavar="FILE", help="How the estate's clusters are reached where no lab runs."),
]
ContextOption = Annotated[
    str | None, typer.Option("--context", metavar="NAME", help="A context of the kubeconfig; default: its current one.")
]
FormatOption = Annotated[Format, typer.Option("--format", help="How the answer is put out.")]
QuietOption = Annotated[bool, typer.Option("--quiet", "-q", help="No progress, no remarks, no details.")]
PLACE_OF_WORK = ".enthesis"  # in the estate's folder: the lab's state, and nothing that cannot be made anew


def estate_folder(given: Path | None) -> Path:
    """The estate's folder; Mistaken where there is none."""
    from enthesis.errors import Mistaken
    from enthesis.reading.finding import HEAD, find_estate

    if given is not None:
        if not (given / HEAD).exists():
            raise Mistaken(f"there is no {HEAD} in {given}", remedy="name the folder that holds it with --estate")
        return given.resolve()
    found = find_estate(Path.cwd())
    if found is None:
        raise Mistaken(f"there is no {HEAD} here or in any folder above", remedy="`enthesis demo` shows one at work")
    return found


PARTY = "ENTHESIS_LAB_PARTY"  # set by `enthesis lab as`, heeded only while a lab runs for the estate


def cache_folder() -> Path:
    """Where parsed files are remembered; safe to delete."""
    from platformdirs import user_cache_path

    return user_cache_path("enthesis") / "reading"


def read_estate(folder: Path) -> "Estate":
    """The estate in a folder; EstateMistaken with all mistakes where it has any."""
    from enthesis.errors import EstateMistaken
    from enthesis.reading.folder import read_folder

    reading = read_folder(folder, cache=cache_folder())
    if reading.estate is None:
        raise EstateMistaken(reading.mistakes)
    return _as_party(folder, reading.estate)


def _as_party(folder: Path, estate: "Estate") -> "Estate":
    """The estate as the party of the lab sees it that `enthesis lab as` runs this program for."""
    from enthesis.lab.control import running

    party = os.environ.get(PARTY, "")
    if not party or running(lab_state(folder)) is None:
        return estate
    return estate.seen_by(party)


def read_subject(estate: Path | None, live: Path | None) -> "tuple[Path, Estate]":
    """What is asked about: an estate, a survey, or an estate as a survey says it is now; and the estate's folder.

    Without an estate the folder is that of the survey, which has no lab.
    """
    if live is None:
        folder = estate_folder(estate)
        return folder, read_estate(folder)
    return subject_of(estate, live, read_live(live))


def subject_of(estate: Path | None, live: Path, survey: "Survey") -> "tuple[Path, Estate]":
    """The same for a survey that has been read."""
    from enthesis.reading.finding import find_estate
    from enthesis.reading.surveys import beside

    if estate is None and find_estate(Path.cwd()) is None:
        return live.resolve().parent, survey.estate
    folder = estate_folder(estate)
    return folder, beside(read_estate(folder), survey)


def read_live(path: Path) -> "Survey":
    """A survey from its file; Mistaken where it is none. What it lacks is said on standard error."""
    from enthesis.errors import Mistaken
    from enthesis.reading.cache import TreeCache
    from enthesis.reading.folder import packaged_catalogue
    from enthesis.reading.surveys import SurveyMistaken, read_survey

    try:
        with path.open(encoding="utf-8") as lines:
            survey = read_survey(lines, path.name, packaged_catalogue(TreeCache(cache_folder())))
    except OSError as fault:
        raise Mistaken(f"{path} cannot be read: {fault.strerror}") from None
    except UnicodeDecodeError:
        raise Mistaken(f"{path} is no text") from None
    except SurveyMistaken as fault:
        raise Mistaken(str(fault), remedy="make one with `enthesis survey --out FILE`") from None
    if not survey.complete:
        missing = ", ".join(one.what for one in survey.left_out if one.incomplete) or "its end"
        remark(f"This survey is not whole, so there may be more: {missing} could not be read.")
    return survey


def lab_state(folder: Path) -> Path:
    """Where the lab of an estate keeps its state."""
    return folder / PLACE_OF_WORK / "lab"


def put_lines(lines: "Iterable[Line]", *, to_error: bool = False) -> None:
    """Lines to standard output, or as remarks to standard error; in colour only on a terminal."""
    from enthesis.showing.lines import rendered

    stream = sys.stderr if to_error else sys.stdout
    colour = stream.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
    width = shutil.get_terminal_size().columns if stream.isatty() else 0
    stream.write(rendered(lines, colour=colour, width=width))
    stream.flush()


def put_json(value: Any) -> None:
    """A value as JSON to standard output."""
    from enthesis.showing.lines import json_text

    sys.stdout.write(json_text(value) + "\n")
    sys.stdout.flush()


def put_text(text: str) -> None:
    """Text that was made for a file or another program, as it is, to standard output."""
    sys.stdout.write(text)
    sys.stdout.flush()


def perhaps(word: str, known: Iterable[str], otherwise: str = "") -> str:
    """The remedy for a name that nothing has: the nearest known ones, or else something else."""
    from enthesis.reading.shapes import nearest

    close = nearest(word, known)
    return f"perhaps {' or '.join(close)}" if close else otherwise


def workload_identity(estate: "Estate", address: str) -> "Identity":
    """The identity of a workload that an address names; Mistaken with the nearest where it names none, or a person."""
    from enthesis.errors import Mistaken

    found = estate.identities.get(address)
    if found is None or found.kind == "person":
        workloads = [one.address for one in estate.identities.values() if one.kind != "person"]
        raise Mistaken(f"no identity is called {address}", remedy=perhaps(address, workloads))
    return found


def remark(text: str, *, quiet: bool = False) -> None:
    """One line beside the answer, on standard error."""
    if not quiet:
        from enthesis.showing.lines import line

        put_lines([line(text)], to_error=True)


def fresh_folder(folder: Path, otherwise: str) -> Path:
    """The folder, made where it is not there; Mistaken where it is not empty, with what else to do."""
    from enthesis.errors import Mistaken

    try:
        folder.mkdir(parents=True, exist_ok=True)
        if any(folder.iterdir()):
            raise Mistaken(f"{folder} is not empty", remedy=f"name a fresh folder; {otherwise}")
    except OSError as fault:
        raise Mistaken(f"{folder} cannot be used: {fault.strerror}") from None
    return folder.resolve()


def write_file(path: Path, content: bytes, *, foreign: bool = False) -> None:
    """Writes a file whole or not at all; Mistaken where it cannot be written, or where an estate would read it as its
    own (`foreign`: it is in a format of others, which carries no mark of ours)."""
    from enthesis.errors import Mistaken

    if foreign:
        _keep_apart(path)
    beside = path.with_name(path.name + ".new")
    try:
        beside.write_bytes(content)
        beside.replace(path)
    except OSError as fault:
        raise Mistaken(f"{path} cannot be written: {fault.strerror}") from None


def _keep_apart(path: Path) -> None:
    """Mistaken if a file that is not an estate file would be written into a folder that an estate reads."""
    from enthesis.errors import Mistaken
    from enthesis.reading.finding import find_estate
    from enthesis.reading.folder import is_read

    folder = find_estate(path.resolve().parent)
    if folder is not None and is_read(folder, path.resolve()):
        name = path.resolve().relative_to(folder).as_posix()
        raise Mistaken(
            f"{path} would be read as part of the estate there",
            remedy=f"write it elsewhere, or add `ignore: [{name}]` to {folder.name}/estate.yaml",
        )

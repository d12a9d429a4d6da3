"""What the pages print, run where it stands: files that they show are written, commands run, outputs compared.

A block of YAML whose first line is `# NAME.yaml` is a file. A `sh` block holds commands, a `console` block commands
after `$ ` with lines of their output, `…` for those left out. A comment `<!-- not run: WHY -->` before a block
leaves it out.

python -m tests.printed PAGE …     runs pages and writes the outputs of their `console` blocks anew
"""

import os
import re
import shlex
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

BLOCK = re.compile(
    r"(?:<!-- not run: (?P<why>[^\n]+) -->\n+)?```(?P<kind>yaml|sh|console)\n(?P<text>.*?)```", re.DOTALL
)
FILE = re.compile(r"# ([\w.-]+\.ya?ml)\n")
OF_A_SHELL = re.compile(r"[|<>;&$`*(]|^\w+=")
SAID_NO = (0, 1)  # exit codes of an answer
CHANGING = re.compile(  # in outputs
    r"127\.0\.0\.1|\d{2}:\d{2}:\d{2}|\d{4}-\d{2}-\d{2}(T| at the latest)|/tmp/|handoff-|sha-256|\d[hm]\d+[ms]\b"
    r"|\b1[78]\d{8}\b|[0-9a-f]{8}-[0-9a-f]{4}-"
)

Run = Callable[[str, Path], tuple[int, str]]
"""Runs one command line in a folder: its exit code and all that it said."""


@dataclass(frozen=True)
class Block:
    """One block of a page that is run. `line` is where it begins."""

    kind: str
    text: str
    line: int
    span: tuple[int, int]


def blocks(text: str) -> Iterator[Block]:
    """The blocks of a page that are files, commands or sessions, as far as they are to be run."""
    for found in BLOCK.finditer(text):
        if found["why"] is None and (found["kind"] != "yaml" or FILE.match(found["text"])):
            yield Block(found["kind"], found["text"], text[: found.start()].count("\n") + 1, found.span("text"))


def commands(text: str) -> list[str]:
    """The command lines of a `sh` block, without comments; lines that end in a stroke are joined."""
    lines = text.replace("\\\n", " ").splitlines()
    return [
        shlex.join(words) if not OF_A_SHELL.search(line) else line
        for line in lines
        if (words := shlex.split(line, True))
    ]


def sessions(text: str) -> Iterator[tuple[str, list[str]]]:
    """The commands of a `console` block with the lines that are shown of their output."""
    for part in re.split(r"^\$ ", text, flags=re.MULTILINE)[1:]:
        first, *said = part.splitlines()
        yield first, [line for line in said if line.strip() and line.strip() != "…"]


def run_page(text: str, folder: Path, run: Run) -> None:
    """Runs a page from its top to its end; AssertionError with the line where it does not do as it says."""
    for block in blocks(text):
        if block.kind == "yaml":
            named = FILE.match(block.text)
            assert named is not None
            (folder / named[1]).write_text(block.text.partition("\n")[2], encoding="utf-8")
        elif block.kind == "sh":
            for line in commands(block.text):
                if line.startswith("cd "):
                    folder = folder / line.removeprefix("cd ")
                    continue
                code, said = run(line, folder)
                assert code in SAID_NO, f"line {block.line}: {line}: exit {code}: {said}"
        else:
            for line, shown in sessions(block.text):
                code, said = run(line, folder)
                expected = any(one.startswith(("Error:", "Invalid estate:")) for one in shown)
                assert code in SAID_NO or expected, f"line {block.line}: {line}: exit {code}: {said}"
                there = [one.rstrip() for one in said.splitlines()]
                missing = [one for one in shown if one.rstrip() not in there]
                assert not missing, f"line {block.line}: {line} does not say {missing}, but {there}"


def by_shell(environment: dict[str, str]) -> Run:
    """Runs lines in a shell."""

    def run(line: str, folder: Path) -> tuple[int, str]:
        words = ["bash", "-o", "pipefail", "-c", line]
        done = subprocess.run(
            words, cwd=folder, env=environment, stdin=subprocess.DEVNULL, capture_output=True, text=True, check=False
        )
        return done.returncode, done.stdout + done.stderr

    return run


def written_anew(text: str, folder: Path, run: Run) -> str:
    """A page with the outputs that its sessions have now; what changes from run to run is left out."""
    out, at = [], 0
    for block in blocks(text):
        if block.kind != "console":
            run_page(f"```{block.kind}\n{block.text}```", folder, run)
            continue
        new = ""
        for line, _ in sessions(block.text):
            said: list[str] = []
            for one in run(line, folder)[1].splitlines():
                kept = "…" if CHANGING.search(one) else one.rstrip()
                said += [kept] if kept != "…" or said[-1:] != ["…"] else []
            new += "\n".join([f"$ {line}", *said, ""])
        out.append(text[at : block.span[0]] + new)
        at = block.span[1]
    return "".join(out) + text[at:]


def main(pages: list[str]) -> None:
    path = os.pathsep.join([str(Path(sys.executable).parent), os.environ["PATH"]])
    with tempfile.TemporaryDirectory() as home:
        run = by_shell({"PATH": path, "HOME": home, "COLUMNS": "100", "TERM": "dumb", "LC_ALL": "C.UTF-8"})
        for page in map(Path, pages):
            with tempfile.TemporaryDirectory() as folder:
                try:
                    page.write_text(written_anew(page.read_text(encoding="utf-8"), Path(folder), run), encoding="utf-8")
                finally:
                    run("enthesis lab stop --clean", Path(folder))


if __name__ == "__main__":
    main(sys.argv[1:])

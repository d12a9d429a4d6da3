"""Draws what commands say, as a terminal shows it: the pictures in docs/screenshots. Look at each one afterwards.

    python bench/pictures.py [NAME ...]

Every command runs for real, on copies of the demo data, at labs of their own.
"""

import argparse
import fcntl
import os
import pty
import re
import shlex
import shutil
import struct
import subprocess
import sys
import tempfile
import termios
from collections.abc import Mapping, Sequence
from importlib import resources
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

ROOT = Path(__file__).parent.parent
OUT = ROOT / "docs" / "screenshots"
SIZE = (1280, 800)  # pixels
COLUMNS, LINE, MARGIN = 139, 19, 9  # characters; pixels
FONT = "/usr/share/fonts/truetype/dejavu/DejaVuSansMono{}.ttf"
COLOURS = {"31": "#f33", "32": "#2d2", "33": "#ee3", "36": "#2ee", "2": "#999", "90": "#999", "34": "#6bf",
           "91": "#f33", "92": "#2d2", "93": "#ee3", "96": "#2ee"}  # fmt: skip
PLAIN, BACKGROUND = "#e6e6e6", "#101418"
CODE = re.compile(r"\x1b\[([0-9;]*)m|\x1b\[[0-9;?]*[A-Za-z]|\x1b\][^\x07]*\x07|\x1b[()][A-Z0-9]")
WIDE = ("publishing.yaml", "sub: project/tides/bulletin/branch/main, aud: lowland, event: {not: fork-merge}",
        'sub: {glob: "project/tide*/bulletin/branch/main"}, aud: lowland')  # fmt: skip
KEYS = """\
credentials:
  deploy-key:
    {of: build/identity/publisher, form: access-key, created: "2025-02-01T00:00:00Z",
     held_in: [forge, gauges/host/collector-1]}
  mail-key:
    {of: build/identity/publisher, form: client-secret, created: "2026-11-20T00:00:00Z",
     expires: "2026-12-15T00:00:00Z"}
grants:
  - {to: build/identity/publisher, role: page-writing, at: bulletin, held_by: bulletin, until: "2026-10-01T00:00:00Z"}
"""
MORE = """\
identities:
  build/identity/tester: {kind: service-account, owner: web-team, purpose: tries pages out}
trusts:
  - {of: build/identity/tester, admits: {token: forge, claims: {sub: project/tides/tests/branch/main, aud: lowland}}}
grants:
  - {to: build/identity/tester, role: page-writing, at: bulletin/bucket/public-pages, held_by: bulletin}
  - {to: build/identity/tester, role: page-writing, at: bulletin/bucket/public-pages, held_by: build}
"""
PICTURES: Mapping[str, Sequence[str]] = {
    "demo": ("enthesis demo",),
    "propose": ("enthesis propose",),
    "enact": (
        "enthesis enact --yes", "enthesis propose --undo 1 --quiet --out back.json",
        "enthesis enact back.json --yes --quiet --accept ceiling-loosened", "enthesis history",
    ),
    "trace": ("enthesis trace --journey publish-from-a-side-branch",),
    "prove": ("!enthesis enact --yes", "enthesis prove --quiet", "enthesis prove --near-misses --quiet"),
    "risks": ("enthesis check",),
    "check": ("enthesis check",),
    "invariant": ("enthesis check",),
    "admit": ("enthesis admit build/identity/publisher",),
    "card": ("enthesis list", "enthesis list trusts", "enthesis card build/identity/publisher"),
    "reach": (
        "enthesis reach --to bulletin/bucket/public-pages", "enthesis reach publisher public-pages",
        "enthesis reach --from forge", "enthesis reach --to bulletin/bucket/public-pages --verb delete",
    ),
    "lab": (
        "enthesis lab status", "enthesis lab clock --forward 20m",
        "enthesis lab fault gauges --lag 2s --fail 30 --seed 7",
    ),
    "start": (
        "enthesis start", "enthesis start pipeline-publishes ../site --usual-names", "enthesis check --estate ../site",
        "enthesis help trusts",
    ),
    "whoami": (
        "!enthesis enact --yes", "enthesis whoami",
        "enthesis lab run forge --claim sub=project/tides/bulletin/branch/main --claim aud=lowland "
        "--claim event=push -- enthesis whoami",
    ),
    "lend": ("enthesis demo --chapter lending",),
    "database": ("enthesis demo --chapter database",),
    "sweep": ("enthesis sweep", "enthesis calendar --within 90d"),
    "cutoff": (
        "!enthesis enact --yes", "enthesis cutoff build/identity/publisher",
        "enthesis cutoff build/identity/publisher --yes --quiet", "enthesis cutoff build/identity/publisher --check",
    ),
    "survey": (
        "!enthesis enact --yes", "enthesis survey --cluster surge/cluster/grid --out live.jsonl",
        "enthesis reach --survey live.jsonl --to surge/cluster/grid/namespace/nowcast/workload/tide-run-1",
        "enthesis lend surge/cluster/grid/namespace/nowcast/identity/sweeper --write-kubeconfig lent.config",
        "enthesis survey --cluster surge/cluster/grid --namespace nowcast --kubeconfig lent.config --out seen.jsonl",
    ),
}  # fmt: skip
"""What each picture shows; a command behind `!` is run and not shown."""


def _edited(path: Path, before: str, after: str) -> None:
    text = path.read_text(encoding="utf-8")
    if before not in text:
        raise ValueError(f"{path.name} does not say {before}")
    path.write_text(text.replace(before, after, 1), encoding="utf-8")


def estate(folder: Path, name: str) -> None:
    """The estate that a picture is of."""
    data = resources.files("enthesis").joinpath("data", "nowcast" if name == "survey" else "saltmarsh")
    files = [
        one
        for one in data.iterdir()
        if name == "survey" or one.name in ("estate.yaml", "publishing.yaml", "expected.yaml")
    ]
    for one in files:
        (folder / one.name).write_bytes(one.read_bytes())
    if name == "sweep":
        (folder / "keys.yaml").write_text(KEYS, encoding="utf-8")
    if name == "check":
        _edited(folder / "estate.yaml", "provider: lowland}", "provider: lowlnd}")
        _edited(folder / "publishing.yaml", "to: build/identity/publisher", "to: build/identity/publishr")
    if name == "invariant":
        (folder / "more.yaml").write_text(MORE, encoding="utf-8")
    if name == "risks":
        file, before, after = WIDE
        text = (folder / file).read_text(encoding="utf-8")
        (folder / file).write_text(text.replace(before, after), encoding="utf-8")


def said(words: Sequence[str], folder: Path) -> str:
    """What a command writes to a terminal."""
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(folder)
        os.environ.update(TERM="xterm-256color", PATH=f"{Path(sys.executable).parent}:{os.environ['PATH']}")
        os.environ.pop("NO_COLOR", None)
        os.execvp(words[0], list(words))  # noqa: S606
    fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 60, COLUMNS, 0, 0))
    out = b""
    while True:
        try:
            more = os.read(terminal, 65536)
        except OSError:
            more = b""
        if not more:
            break
        out += more
    os.waitpid(pid, 0)
    return out.decode("utf-8", "replace").replace("\r\n", "\n")


def drawn(text: str, file: Path) -> None:
    """The text as a picture; what does not fit below is left out."""
    image = Image.new("RGB", SIZE, BACKGROUND)
    draw = ImageDraw.Draw(image)
    fonts = {bold: ImageFont.truetype(FONT.format("-Bold" if bold else ""), 15) for bold in (False, True)}
    shown = [line.rsplit("\r", 1)[-1] for line in text.split("\n")]
    lines = [line for line in shown if "━" not in line]  # bars of work that is done by now
    for row, line in enumerate(lines[: (SIZE[1] - MARGIN) // LINE]):
        colour, bold, x, at = PLAIN, False, float(MARGIN), 0
        for match in [*CODE.finditer(line), None]:
            part = line[at : match.start() if match else None]
            draw.text((x, MARGIN + row * LINE), part, fill=colour, font=fonts[bold])
            x += len(part) * 9.03
            if match is None:
                break
            at = match.end()
            for code in (match[1] or "0").split(";") if match[0].endswith("m") else ():
                if code in ("", "0"):
                    colour, bold = PLAIN, False
                elif code == "1":
                    bold = True
                else:
                    colour = COLOURS.get(code, colour)
    image.save(file, optimize=True)


def main() -> None:
    wanted = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    wanted.add_argument("names", nargs="*", choices=[*PICTURES, []], metavar="NAME")
    for name in wanted.parse_args().names or PICTURES:
        around = Path(tempfile.mkdtemp(prefix="enthesis-picture-"))
        folder = around / "saltmarsh"
        folder.mkdir()
        estate(folder, name)
        program = str(Path(sys.executable).parent / "enthesis")
        if name != "check":  # which is of an estate that no lab can be of
            subprocess.run([program, "lab", "start"], cwd=folder, check=True, stdout=subprocess.DEVNULL)
        try:
            text = ""
            for line in PICTURES[name]:
                shown = said(shlex.split(line.lstrip("!")), folder)
                text += "" if line.startswith("!") else f"{chr(10) * bool(text)}$ {line}\n{shown}"
            drawn(text, OUT / f"{name}.png")
            print(OUT / f"{name}.png")
        finally:
            if name != "check":
                subprocess.run([program, "lab", "stop", "--clean"], cwd=folder, check=True, stdout=subprocess.DEVNULL)
            shutil.rmtree(around)


if __name__ == "__main__":
    main()

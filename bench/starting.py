"""What starting the program costs, against a bare program of the same size. Prints ratios of one run.

python bench/starting.py
"""

import os
import subprocess
import sys
import tempfile
import time
from importlib import resources
from pathlib import Path
from statistics import median

ROUNDS = 9
COMMANDS = 17  # as many as `enthesis` lists

BARE = "import typer\napp = typer.Typer()\n{commands}app()\n"
ONE = '@app.command()\ndef c{n}(name: str = "x", flag: bool = False) -> None:\n    "Does {n}."\n'


def seconds(words: list[str], folder: Path) -> float:
    """Wall time of one run. Byte code is kept, as it is for an installed program."""
    environment = {**os.environ, "PYTHONPYCACHEPREFIX": str(folder / "pyc"), "XDG_CACHE_HOME": str(folder / "cache")}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)
    begun = time.perf_counter()
    subprocess.run(words, cwd=folder, env=environment, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - begun


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        bare = folder / "bare.py"
        bare.write_text(BARE.format(commands="".join(ONE.format(n=n) for n in range(COMMANDS))), encoding="utf-8")
        estate = folder / "estate"
        estate.mkdir()
        for file in resources.files("enthesis").joinpath("data", "saltmarsh").iterdir():
            (estate / file.name).write_bytes(file.read_bytes())
        runs = {
            "bare --help": [sys.executable, str(bare), "--help"],
            "bare command": [sys.executable, str(bare), "c1"],
            "enthesis --help": [sys.executable, "-m", "enthesis", "--help"],
            "enthesis check": [sys.executable, "-m", "enthesis", "check", "--estate", str(estate)],
        }
        found: dict[str, list[float]] = {what: [] for what in runs}
        for round_number in range(ROUNDS + 1):
            for what, words in runs.items():
                took = seconds(words, folder)
                if round_number:  # the first one writes byte code
                    found[what].append(took)
    pairs = (("enthesis --help", "bare --help", "1.2"), ("enthesis check", "bare command", "2.5"))
    for ours, theirs, wanted in pairs:
        ratio = median(a / b for a, b in zip(found[ours], found[theirs], strict=True))
        print(f"{ours}: {ratio:.2f} times `{theirs}` (at most {wanted} wanted), {median(found[ours]):.2f} s")


if __name__ == "__main__":
    main()

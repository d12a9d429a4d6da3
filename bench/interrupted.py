"""Kills enactments of 60 steps at random points, at a lab with faults, and says whether all of them were finished.

    python bench/interrupted.py [--kills 300] [--seed 1]
    python bench/interrupted.py --seeds 20     enacts the demo's estate at 30 % failing calls and up to 2 s of lag

After each enactment the live side equals the estate, no object is there twice (the lab would take twins), nothing
foreign is touched and the journal is complete; an assertion fails otherwise. About a second a kill.
"""

import argparse
import os
import sys
import tempfile
import time
from pathlib import Path
from random import Random

sys.path.insert(0, str(Path(__file__).parent.parent))

from enthesis.cli.forking import fork, import_everything
from tests.conftest import PUBLISHING, SALTMARSH, write_estate
from tests.interrupted import Interrupted

AT_ONCE = 6  # kills of one enactment at the most


class Program:
    """Starts the program, with a home of its own and its output thrown away."""

    def __init__(self, home: Path) -> None:
        self.environment = {**os.environ, "HOME": str(home), "XDG_CACHE_HOME": str(home / "cache")}
        self.nowhere = os.open(os.devnull, os.O_RDWR)
        self.said = os.open(home / "said", os.O_RDWR | os.O_CREAT | os.O_APPEND, 0o600)

    def __call__(self, words: tuple[str, ...], folder: Path) -> int:
        return fork(words, str(folder), self.environment, {0: self.nowhere, 1: self.nowhere, 2: self.said})


def kills(program: Program, place: Path, wanted: int, seed: int) -> None:
    """Kills as many enactments as are wanted, and prints what came of it."""
    rng, began = Random(seed), time.monotonic()
    tried = Interrupted(place / "many", program, rng)
    tried.begin()
    number = 0
    try:
        while tried.counted["kills"] < wanted:
            number += 1
            tried.enacted(number, min(rng.randint(1, AT_ONCE), wanted - tried.counted["kills"]))
            if number % 10 == 0:
                print(
                    f"  {tried.counted['kills']} kills, {number} enactments, {time.monotonic() - began:.0f} s",
                    flush=True,
                )
    finally:
        tried.end()
    found, took = tried.counted, time.monotonic() - began
    each = found["steps"] // found["enactments"]
    print(f"{found['kills']} kills over {found['enactments']} enactments of {each} steps, seed {seed}, {took:.0f} s:")
    print(f"all finished, by --resume {found['resumed']} times; faults stopped {found['stopped by faults']} runs;")
    print("live side as described, nothing there twice, nothing foreign touched, journal complete")


def seeds(program: Program, place: Path, wanted: int) -> int:
    """Enacts the demo's estate at a lab that fails and lags, once a seed; how many were not enacted."""
    missed, began = 0, time.monotonic()
    for seed in range(wanted):
        folder = place / f"demo-{seed}"
        write_estate(folder, {name: (SALTMARSH / name).read_text(encoding="utf-8") for name in PUBLISHING})
        tried = Interrupted(folder, program, Random(seed))
        try:
            assert tried.run("lab", "start") == 0
            words = ("--lag", "2s", "--enforcement-lag", "2s", "--fail", "30", "--seed", str(seed))
            assert tried.run("lab", "fault", *words) == 0
            code = tried.run("enact", "--yes", "--quiet")
            assert tried.run("lab", "fault", "--clear") == 0
            time.sleep(2)
            there = tried.run("propose", "--expect-none", "--quiet")
        finally:
            tried.end()
        missed += (code, there) != (0, 0)
        print(
            f"  seed {seed}: enact {code}, propose --expect-none {there}, {time.monotonic() - began:.0f} s", flush=True
        )
    print(f"{wanted - missed} of {wanted} seeds enacted without help at 30 % failing calls and up to 2 s of lag")
    return missed


def main() -> int:
    wanted = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    wanted.add_argument("--kills", type=int, default=300)
    wanted.add_argument("--seed", type=int, default=1)
    wanted.add_argument("--seeds", type=int, default=0)
    given = wanted.parse_args()
    import_everything()
    with tempfile.TemporaryDirectory() as place:
        program = Program(Path(place))
        try:
            if given.seeds:
                return 1 if seeds(program, Path(place), given.seeds) else 0
            kills(program, Path(place), given.kills, given.seed)
        except AssertionError:
            print((Path(place) / "said").read_text(errors="replace")[-3000:])
            raise
    return 0


if __name__ == "__main__":
    sys.exit(main())

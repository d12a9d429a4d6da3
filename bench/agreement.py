"""What is said of everything at once (reach, invariants, differences), held against single verdicts on random worlds.

    python bench/agreement.py [--worlds 3000] [--first 0]

The judge is the naive evaluator of the tests; the properties are those of `tests/agreement.py`. Prints what was looked
at and every breach; exit 1 where there is one. About twenty minutes for 3,000 worlds on two cores.
"""

import argparse
import os
import sys
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.agreement import Breach, check_world

MOST = 20  # breaches that are printed


def looked_at(seed: int) -> tuple[Counter[str], str]:
    """What was looked at in one world, and the breach that was found there ('' for none)."""
    try:
        return check_world(seed), ""
    except Breach as breach:
        return Counter(), str(breach)


def main() -> None:
    wanted = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    wanted.add_argument("--worlds", type=int, default=3000)
    wanted.add_argument("--first", type=int, default=0, help="the seed of the first world")
    given = wanted.parse_args()
    seeds = range(given.first, given.first + given.worlds)
    counted: Counter[str] = Counter()
    breaches: list[str] = []
    begun = time.monotonic()
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        for done, (found, breach) in enumerate(pool.map(looked_at, seeds, chunksize=4), 1):
            counted += found
            breaches += [breach] if breach else []
            sys.stderr.write(f"\r{done} of {given.worlds} worlds, {len(breaches)} breaches ")
    sys.stderr.write("\n")
    for breach in breaches[:MOST]:
        print(breach)
    for what, count in counted.most_common():
        print(f"{count:8}  {what}")
    print(f"{given.worlds} worlds, {len(breaches)} breaches, {(time.monotonic() - begun) / 60:.1f} minutes")
    sys.exit(1 if breaches else 0)


if __name__ == "__main__":
    main()

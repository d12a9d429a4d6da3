"""Random estates and other versions of them: no state on the way of an enactment opens more, or shuts what both allow.

    python bench/ordering.py [--from 0] [--worlds 300]

Every part of every stage that the needs of its steps allow is judged (a sample of large ones), with journeys of the
world's own, before, on the way and after. Prints a line a breach; not part of `.ci/run`.
"""

import argparse
import sys
import time
from collections import Counter
from pathlib import Path
from random import Random

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.test_ordering import breaches, staged, versions


def main() -> int:
    wanted = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    wanted.add_argument("--from", type=int, default=0, dest="first")
    wanted.add_argument("--worlds", type=int, default=300)
    given = wanted.parse_args()
    counted: Counter[str] = Counter()
    began = time.monotonic()
    for seed in range(given.first, given.first + given.worlds):
        made = versions(seed)
        if made is None:
            continue
        live, proposal = staged(*made)
        found, judged = breaches(made[1], live, proposal, Random(seed))
        for name in found:
            print(f"{seed}: {name}")
        counted["worlds"] += 1
        counted["steps"] += len(proposal.steps)
        counted["states judged"] += judged
        counted["in several stages"] += len({step.stage for step in proposal.steps}) > 1
        counted["with an outage that is said"] += bool(proposal.outages)
        counted["breaches"] += len(found)
    print(", ".join(f"{count} {what}" for what, count in counted.items()), f"{time.monotonic() - began:.0f} s")
    return 1 if counted["breaches"] else 0


if __name__ == "__main__":
    sys.exit(main())

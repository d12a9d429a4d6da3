"""Mangles everything that is parsed from outside, for as long as is wanted, and says what escaped.

python bench/fuzz.py [MINUTES]    (30 by default; exit 1 where anything but our own refusals came out)
"""

import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.fuzzing import NAMES, Targets, tried


def main() -> int:
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 30.0
    time.sleep = lambda seconds: None  # nothing here is worth waiting for
    targets, escaped = Targets(), 0
    for name in NAMES:
        ends, seed, found = time.monotonic() + minutes * 60 / len(NAMES), 0, set[str]()
        while time.monotonic() < ends:
            said = tried(targets, name, seed)
            if said:
                found.add(said.split(": ", 1)[1][:80])
                print(said)
            seed += 1
        escaped += len(found)
        print(f"{name.ljust(14)} {seed:8} tried, {len(found)} kinds of fault escaped")
    return 1 if escaped else 0


if __name__ == "__main__":
    sys.exit(main())

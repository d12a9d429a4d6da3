"""Mangles everything that is parsed from outside, for as long as is wanted, and says what escaped.

python bench/fuzz.py [MINUTES]           (30 by default; exit 1 where anything but our own refusals came out)
python bench/fuzz.py --documents COUNT   so many documents of each kind, through the program: exit codes 0 to 5 alone
"""

import os
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.fuzzing import NAMES, Targets, tried
from tests.fuzzing_programs import KINDS, Programs


def documents(count: int) -> int:
    """So many of each kind, and how the program ended."""
    escaped = 0
    with tempfile.TemporaryDirectory() as place:
        programs = Programs(Path(place), {"PATH": os.environ["PATH"], "COLUMNS": "100", "TERM": "dumb"})
        for kind in KINDS:
            codes, faults = Counter[int](), 0
            for seed in range(count):
                code, said = programs.run(kind, seed)
                codes[code] += 1
                faults += bool(said)
                if said:
                    print(said)
            escaped += faults
            told = ", ".join(f"{number} times exit {code}" for code, number in sorted(codes.items()))
            print(f"{kind.ljust(14)} {count:8} tried, {faults} ended as a fault of ours; {told}", flush=True)
    return 1 if escaped else 0


def main() -> int:
    if sys.argv[1:2] == ["--documents"]:
        return documents(int(sys.argv[2]))
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

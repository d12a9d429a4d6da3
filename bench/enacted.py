"""Random estates enacted at labs of their own: what is proposed is made, and journeys prove as `check` says.

    python bench/enacted.py [--from 100] [--worlds 20] [--journeys 25]

Each estate has every kind of statement that the lab's clouds hold, lists of none, one and two, and grants at
organisations. Afterwards nothing is left to propose, and every journey ends live as the engine says, refused at the
same steps. A second set has statements that no provider can hold too: each is named before anything is done, and
nothing fails half-way. A third is changed by hand at its clouds, and a survey of that says what its journeys meet.
Not part of `.ci/run`; it takes some minutes.
"""

import argparse
import sys
import tempfile
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.enacting import changed_by_hand, enacted_and_proved, enacted_whole, program


def main() -> None:
    wanted = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    wanted.add_argument("--from", type=int, default=100, dest="first")
    wanted.add_argument("--worlds", type=int, default=20)
    wanted.add_argument("--journeys", type=int, default=25)
    given = wanted.parse_args()
    counted: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as place:
        enthesis = program(Path(place))
        for number in range(given.worlds):
            folder = Path(place) / f"w{number}"
            counted += enacted_and_proved(enthesis, folder, given.first + number, given.journeys)
            counted += enacted_whole(enthesis, Path(place) / f"v{number}", given.first + number)
            counted += changed_by_hand(enthesis, Path(place) / f"u{number}", given.first + number, given.journeys)
            sys.stderr.write(f"\r{number + 1} of {given.worlds} ")
            sys.stderr.flush()
    print()
    for what, count in sorted(counted.items()):
        print(f"{count:6}  {what}")
    print("no difference")


if __name__ == "__main__":
    main()

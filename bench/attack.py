"""Runs the attacks that the tests hold off, and prints by class how many were tried and how many were held.

python bench/attack.py    (exit 1 where one got through)
"""

import sys
from collections import Counter
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent


class Counting:
    """A plugin of pytest that adds up what tests say of their attacks."""

    def __init__(self) -> None:
        self.tried: Counter[str] = Counter()
        self.held: Counter[str] = Counter()

    def pytest_runtest_logreport(self, report: pytest.TestReport) -> None:
        """The attempts of one test count as held where it passed, and a broken set-up as none."""
        said = dict(report.user_properties)
        name = str(said.get("attack", ""))
        if not name or (report.when != "call" and report.passed):
            return
        count = int(str(said.get("attempts", 1)))
        self.tried[name] += count
        self.held[name] += count if report.passed else 0


def main() -> int:
    counting = Counting()
    code = pytest.main(["-q", "-n", "2", "-m", "attack", "--rootdir", str(ROOT), str(ROOT / "tests")], [counting])
    width = max(map(len, counting.tried), default=5)
    print(f"\n{'class'.ljust(width)}   tried    held")
    for name, tried in sorted(counting.tried.items()):
        print(f"{name.ljust(width)}  {tried:6}  {counting.held[name]:6}")
    every, held = counting.tried.total(), counting.held.total()
    print(f"{f'{len(counting.tried)} classes'.ljust(width)}  {every:6}  {held:6}")
    return 0 if code == 0 and every == held else 1


if __name__ == "__main__":
    sys.exit(main())

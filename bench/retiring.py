"""Two hundred workloads retire their keys, and get them back, while each of them calls all the time: no call may fail.

    python bench/retiring.py [--workloads 200] [--idle 20s]

A workload uses its key until the files say that its keyless way is proved, and its host's metadata service afterwards.
Some minutes; not part of `.ci/run`.
"""

import argparse
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.campaign import Calls, bring_back, fleet, make_keys, retire, stages
from tests.conftest import start_lab, write_estate
from tests.enacting import program


def main() -> None:
    wanted = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    wanted.add_argument("--workloads", type=int, default=200)
    wanted.add_argument("--idle", default="20s")
    given = wanted.parse_args()
    with tempfile.TemporaryDirectory() as place:
        enthesis = program(Path(place))
        folder = write_estate(Path(place) / "fleet", {"estate.yaml": fleet(given.workloads)})
        start_lab(enthesis, folder)
        try:
            began = time.monotonic()
            assert enthesis("enact", "--yes", "--quiet", "--accept", "many-removed", at=folder).code == 0
            keys = make_keys(folder, enthesis, given.workloads)
            print(f"{given.workloads} workloads with a key each, after {time.monotonic() - began:.0f} s", flush=True)
            with Calls(folder, keys) as calls:
                calls.whole_round()
                retire(folder, enthesis, calls, given.idle)
                print(f"  {dict(stages(folder))}, after {time.monotonic() - began:.0f} s", flush=True)
                bring_back(folder, enthesis, calls)
                print(f"  brought back, {dict(stages(folder))}, after {time.monotonic() - began:.0f} s", flush=True)
        finally:
            enthesis("lab", "stop", "--clean", at=folder)
    by_key, without = calls.made["credential"], calls.made["host"]
    print(f"  {by_key} calls with a key, {without} without, {len(calls.failed)} failed")
    for proof in calls.failed[:5]:
        print(f"    {proof.journey}: {proof.evidence[-1].said}")
    if calls.failed or not (by_key and without):
        raise SystemExit(1)


if __name__ == "__main__":
    main()

"""What reading an estate costs, against the C loader of the YAML library on the same bytes. Prints ratios of one run.

python bench/reading.py [STATEMENTS]
"""

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median

import yaml

from enthesis.files.folder import read_folder

ROUNDS = 5


def estate_text(statements: int) -> str:
    """An estate of about this many statements in the shapes that estates have: grants, trusts, identities."""
    third = statements // 3
    head = (
        "estate: generated\norganisations: {works: {units: [one, two]}}\nproviders: {north: {style: two-sided}}\n"
        'accounts:\n  left: {in: "@works/one", provider: north}\n  right: {in: "@works/two", provider: north}\n'
        "issuers: {forge: {kind: oidc}}\nroles:\n  writing: {allows: {object: [write, list]}}\n"
        "resources:\n  right/bucket/pages: {}\n"
    )
    identities = "".join(
        f"  left/identity/runner-{i}: {{kind: service-account, owner: team-{i % 40}, purpose: does part {i}}}\n"
        for i in range(third)
    )
    trusts = "".join(
        f"  - of: left/identity/runner-{i}\n"
        f"    admits: {{token: forge, claims: {{sub: part-{i}/branch/main, aud: north, event: {{not: fork}}}}}}\n"
        "    session: 15m\n"
        for i in range(third)
    )
    grants = "".join(
        f"  - {{to: left/identity/runner-{i}, role: writing, at: right/bucket/pages/object/part-{i}, held_by: right}}\n"
        for i in range(third)
    )
    return f"{head}identities:\n{identities}trusts:\n{trusts}grants:\n{grants}"


def timed(work: Callable[[], object]) -> float:
    """Seconds of one call."""
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def main() -> None:
    statements = int(sys.argv[1]) if len(sys.argv) > 1 else 6000
    text = estate_text(statements)
    with tempfile.TemporaryDirectory() as name:
        folder, cache = Path(name) / "estate", Path(name) / "cache"
        folder.mkdir()
        (folder / "estate.yaml").write_text(text, encoding="utf-8")
        reading = read_folder(folder)
        if reading.estate is None or len(reading.estate.grants) != statements // 3:
            raise SystemExit(f"the generated estate does not read: {reading.errors[:3]}")
        first, again = [], []
        for _ in range(ROUNDS):
            loader = timed(lambda: yaml.load(text, Loader=yaml.CSafeLoader))
            first.append(timed(lambda: read_folder(folder)) / loader)
            read_folder(folder, cache=cache)
            again.append(timed(lambda: read_folder(folder, cache=cache)) / loader)
    print(f"{statements} statements, {len(text) / 1e6:.1f} MB, median of {ROUNDS} ratios to the C loader")
    print(f"  read to the model, all errors looked for: {median(first):.2f} (at most 1.5 wanted)")
    print(f"  read again, unchanged:                      {median(again):.2f}")


if __name__ == "__main__":
    main()

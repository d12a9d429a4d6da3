"""How the work of commands grows with an estate: four times as much described, against four times the work. Prints
ratios; work that looks at everything for each of everything would print 4.

    python bench/growing.py [STATEMENTS]   (500 trusts, grants and journeys by default, and four times as many)
"""

import sys
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from statistics import median

sys.path.insert(0, str(Path(__file__).parent.parent))

from enthesis.access.compiling import compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.files.folder import read_texts
from enthesis.model.estate import Estate
from enthesis.proposals.effects import access_change, as_estate, live_of
from enthesis.proposals.proposing import propose
from enthesis.trusts.risks import risks
from enthesis.verdicts.expectations import judge_journey
from tests.test_changing import carried_out, empty

ROUNDS = 3
NOW = datetime(2026, 11, 27, tzinfo=UTC)
HEAD = """
estate: growing
organisations: {ours: {}}
providers: {north: {style: two-sided}, south: {style: one-sided}}
issuers: {forge: {kind: oidc, url: "https://forge.example", shared: true, owned: {sub: {glob: "ours/**"}}}}
roles: {reader: {allows: {object: [read]}}, writer: {allows: {object: [read, write]}}}
"""


def estate_of(count: int) -> Estate:
    """An estate with so many identities, buckets, trusts, grants and journeys, in twenty accounts at two clouds."""
    accounts = [f"a{number}" for number in range(20)]
    lines = ["accounts:"]
    lines += [f'  {one}: {{in: "@ours", provider: {"north" if n % 2 else "south"}}}' for n, one in enumerate(accounts)]
    homes = [(number, accounts[number % 20]) for number in range(count)]
    lines += ["identities:", *(f"  {home}/identity/i{n}: {{kind: service-account}}" for n, home in homes)]
    lines += ["resources:", *(f"  {home}/bucket/b{n}: {{}}" for n, home in homes), "trusts:"]
    claims = "{sub: ours/r%d/main, aud: x}"
    lines += [f"  - {{of: {home}/identity/i{n}, admits: {{token: forge, claims: {claims % n}}}}}" for n, home in homes]
    lines += ["grants:"]
    lines += [f"  - {{to: {home}/identity/i{n}, role: reader, at: {home}/bucket/b{n}}}" for n, home in homes]
    lines += ["ceilings:"]
    lines += [f'  - {{name: c{n}, over: targets, at: "@ours", bars: {{object: [delete]}}}}' for n in range(count // 50)]
    lines += ["journeys:"]
    lines += [
        f"  j{n}: {{from: {{token: forge, claims: {claims % n}}}, through: [{home}/identity/i{n}], "
        f"attempt: read {home}/bucket/b{n}/object/o, expect: allowed}}"
        for n, home in homes
    ]
    found = read_texts({"estate.yaml": HEAD + "\n".join(lines) + "\n"})
    assert found.estate is not None, found.errors[:3]
    return found.estate


def works(estate: Estate) -> dict[str, Callable[[], object]]:
    """What is timed, by its name."""
    live = carried_out(estate, propose(estate, empty(estate)))
    fewer = [type(one)(one.provider, one.holders, one.objects[:-5], one.accounts, one.resources) for one in live]
    proposal = propose(estate, fewer)
    compiled = compile_estate(estate)
    chains = Chains(Web(compiled, NOW.timestamp()))
    return {
        "compiling": lambda: compile_estate(estate),
        "judging the journeys": lambda: [judge_journey(compiled, one, NOW) for one in estate.journeys.values()],
        "looking for risks": lambda: risks(chains),
        "comparing with the live side": lambda: propose(estate, live),
        "the live side as an estate": lambda: as_estate(estate, live_of(estate, live)),
        "what ten steps do to access": lambda: access_change(estate, proposal, fewer, NOW.timestamp()),
    }


def seconds(work: Callable[[], object]) -> float:
    """The median time of a few runs."""
    times = []
    for _ in range(ROUNDS):
        begun = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun)
    return median(times)


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    few, many = works(estate_of(count)), works(estate_of(4 * count))
    for name in few:
        small, large = seconds(few[name]), seconds(many[name])
        print(f"{name}: {large / small / 4:.2f} times as much for each of {4 * count:,} as of {count:,}, {large:.2f} s")


if __name__ == "__main__":
    main()

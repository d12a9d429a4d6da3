"""What a sweep costs on a large estate, against compiling it. Prints ratios measured in one run.

python bench/sweeping.py [SCALE]   (SCALE 1: 2,000 accounts, 200,000 identities, 1.4 M statements)
"""

import argparse
import resource
from collections import Counter

from estates import lines
from verdicts import NOW, estate_from, timed

from enthesis.access.compiling import compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.cleaning.sweep import sweep


def main() -> None:
    wanted = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    wanted.add_argument("scale", type=float, nargs="?", default=1.0)
    estate = estate_from(lines(wanted.parse_args().scale))
    compiling, compiled = timed(lambda: compile_estate(estate))
    weaving, web = timed(lambda: Web(compiled, NOW.timestamp()))
    sweeping, found = timed(lambda: sweep(Chains(web)))
    count = len(estate.grants) + len(estate.trusts) + len(estate.attachments) + len(estate.ceilings)
    print(f"{count} statements, {len(estate.identities)} identities: {len(found.standing)} findings")
    print(
        "  " + ", ".join(f"{one} {code}" for code, one in Counter(each.code for each in found.standing).most_common())
    )
    print(f"  compiling        {compiling:6.1f} s")
    print(f"  the web of it    {weaving:6.1f} s  {weaving / compiling:.2f} times that")
    both = (weaving + sweeping) / compiling
    print(
        f"  sweeping         {sweeping:6.1f} s  {sweeping / compiling:.2f}; with the web {both:.2f} (at most 3 wanted)"
    )
    print(f"  memory           {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20:6.1f} GiB at most")


if __name__ == "__main__":
    main()

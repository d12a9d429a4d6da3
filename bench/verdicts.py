"""What verdicts, reach, invariants and differences cost on a large estate. Prints ratios measured in one run.

python bench/verdicts.py [SCALE] [--curve FILE.png]   (SCALE 1: 2,000 accounts, 200,000 identities, 1.4 M statements)
"""

import argparse
import gc
import json
import resource
import time
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime
from functools import partial
from itertools import chain
from pathlib import Path
from random import Random
from statistics import median
from typing import Any

import numpy as np
from estates import Generated, lines
from scipy.sparse import csr_array
from scipy.sparse.csgraph import breadth_first_order

from enthesis.access.compiling import Compiled, compile_estate
from enthesis.access.questions import Question
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.chains.differences import web_difference
from enthesis.chains.ends import wanted_permissions
from enthesis.chains.invariants import decide
from enthesis.chains.reach import Coming, coming_to
from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue
from enthesis.model.conditions import Equal
from enthesis.model.estate import Attempt, Claimed, Context, Estate, Invariant, Origin, Start
from enthesis.model.vocabulary import Form
from enthesis.surveys.survey import VERSION, read_survey
from enthesis.verdicts.judge import Judge

NOW = datetime(2026, 11, 24, tzinfo=UTC)
CATALOGUE = packaged_catalogue(TreeCache(None))


def timed(work: Callable[[], Any]) -> tuple[float, Any]:
    """Seconds of one call, and what it gave."""
    gc.collect()
    begun = time.perf_counter()
    result = work()
    return time.perf_counter() - begun, result


HEADER = json.dumps({"enthesis": "survey", "version": VERSION, "taken": NOW.isoformat(), "of": []})
END = json.dumps({"end": True, "complete": True})


def estate_from(texts: Iterable[str]) -> Estate:
    """The estate in the lines of a survey, read as every command reads one."""
    return read_survey(chain([HEADER], texts, [END]), "generated", CATALOGUE).estate


def compiled_lines(texts: Iterable[str]) -> tuple[Compiled, Web]:
    """Lines of a survey to everything that answers questions."""
    compiled = compile_estate(estate_from(texts))
    return compiled, Web(compiled, NOW.timestamp())


def only_parsed(texts: list[str]) -> None:
    """What compiling is compared with: every line parsed and let go."""
    for text in texts:
        json.loads(text)


def questions(made: Generated, count: int) -> list[Question]:
    """Direct attempts, half of them as some grant has it and half by somebody else."""
    rng = Random(3)
    grants = []
    for record in made.records():
        if (
            record["section"] == "grants"
            and record["role"] in ("object-reading", "secret-reading")
            and "/identity/" in record["to"]
        ):
            grants.append(record)
            if len(grants) >= count:
                break
    out = []
    for number, record in enumerate(grants):
        who = record["to"] if number % 2 else rng.choice(made.identities)
        at = record["at"] + ("/object/a" if record["role"] == "object-reading" else "")
        out.append(Question(Origin(Form.IDENTITY, who), (), Attempt("read", at), Context(), NOW))
    return out


def explained(compiled: Compiled, asked: list[Question]) -> float:
    """Seconds of one explained verdict, the median of several rounds."""
    judge = Judge(compiled)
    for question in asked[:50]:
        judge.judge(question)
    rounds = []
    for _ in range(5):
        seconds, allowed = timed(lambda: sum(judge.judge(question).allowed for question in asked))
        rounds.append(seconds / len(asked))
    print(f"    ({allowed} of {len(asked)} allowed, {median(rounds) * 1e6:.0f} µs each)")
    return median(rounds)


def batched(web: Web, asked: list[Question]) -> float:
    """Seconds of one verdict in a batch without explanation; the batch is the same questions many times over."""
    compiled = web.compiled
    who, permission, target = [], [], []
    for question in asked:
        if question.attempt is None:
            continue
        kind = "object" if "/object/" in question.attempt.target else "secret"
        who.append(compiled.find(question.origin.whom))
        permission.append(compiled.permission[kind, "read"])
        target.append(web.targets_at(question.attempt.target)[0])
    times = max(1, 40_000 // len(asked))
    columns = [np.tile(np.array(column, np.int64), times) for column in (who, permission, target)]
    web.states(*columns)
    seconds = [timed(lambda: web.states(*columns))[0] for _ in range(5)]
    return median(seconds) / len(columns[0])


def reach_ratio(web: Web) -> float:
    """The in-memory answer to `reach --to` one place, against one breadth-first order over as many edges."""
    compiled = web.compiled
    edges = len(compiled.tables.trust_of) + len(compiled.tables.grant_to)
    rng = np.random.default_rng(5)
    nodes = web.nodes
    graph = csr_array(
        (np.ones(edges, np.int8), (rng.integers(0, nodes, edges), rng.integers(0, nodes, edges))), (nodes, nodes)
    )
    search = median(timed(lambda: breadth_first_order(graph, 0))[0] for _ in range(5))
    wanted = wanted_permissions(compiled, ["read"], [])
    resources = compiled.resource_places
    ratios, found = [], 0
    _ = web.also_asked  # made before the clock runs
    for place in rng.choice(resources, 40, replace=False).tolist():
        name = compiled.places.names[place]
        target = web.targets_at(name + "/object/a" if "/bucket/" in name else name)[0]
        seconds, answer = timed(partial(asked_of, web, target, wanted))
        ratios.append(seconds / search)
        found += int(answer.possible.reached.sum())
    print(
        f"    (one search {search * 1e3:.1f} ms; {found / 40:.0f} nodes come to a place on average;"
        f" worst {max(ratios):.2f})"
    )
    return median(ratios)


def asked_of(web: Web, target: int, wanted: Any) -> Coming:
    """Who can come to one target."""
    return coming_to(web, web.rows_on(target, wanted))


def twenty_invariants(made: Generated) -> list[Invariant]:
    """Claims of both forms, from narrow places to whole units; some hold and some do not."""
    out = []
    for number in range(10):
        account = made.accounts[number * 7 % len(made.accounts)]
        claim = ("event", Equal("fork")) if number % 2 else ("sub", Equal("somebody/else"))
        never = Claimed(("write", "delete"), account, Start(Form.TOKEN, ("forge",), (claim,)))
        out.append(Invariant(f"never-{number}", "never", never))
        at = f"@works/unit-{number}" if number < 3 else made.resource(account, 1)
        out.append(Invariant(f"only-{number}", "only", Claimed(("read",), at, by=(f"{account}/identity/runner-0",))))
    return out


def changed(records: Iterator[dict[str, Any]], made: Generated) -> Iterator[dict[str, Any]]:
    """The same estate with one in a hundred grants and trusts another."""
    rng = Random(11)
    for record in records:
        if record["section"] in ("grants", "trusts") and rng.random() < 0.01:
            yield made.grant() if record["section"] == "grants" else made.trust(rng.randrange(len(made.identities)))
        else:
            yield record


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("scale", type=float, nargs="?", default=1.0)
    parser.add_argument("--curve", type=Path)
    given = parser.parse_args()
    made = Generated(given.scale)
    texts = list(lines(given.scale))
    print(f"{len(texts)} records, of which {made.shape.grants} grants and {made.shape.trusts} trusts")
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    parsing = min(timed(lambda: only_parsed(texts))[0] for _ in range(2))
    first = timed(lambda: compiled_lines(texts))[0]  # each is the shorter of two, so that other work counts in neither
    compiling, (compiled, web) = timed(lambda: compiled_lines(texts))
    compiling = min(first, compiling)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    ratio = compiling / parsing
    print(f"compiled from a survey's lines, parsing counted in: {ratio:.2f} times json.loads (at most 5 wanted)")
    print(
        f"    ({compiling:.1f} s; peak {peak / 2**20:.2f} GiB, of which {before / 2**20:.2f} GiB the lines themselves)"
    )
    asked = questions(Generated(given.scale), 1000)
    small_compiled, _ = compiled_lines(lines(given.scale / 100))
    few = questions(Generated(given.scale / 100), 1000)
    pairs = [(explained(compiled, asked), explained(small_compiled, few)) for _ in range(3)]
    ratio = median(large / little for large, little in pairs)
    print(f"one explained verdict: {ratio:.2f} times one on an estate a hundredth the size (at most 1.5 wanted)")
    print(f"verdicts in a batch: {pairs[0][0] / batched(web, asked):.0f} times as many a second (at least 10 wanted)")
    print(f"reach --to one place: {reach_ratio(web):.2f} times one breadth-first order (at most 5 wanted)")
    chains = Chains.from_now_on(web)
    seconds, decided = timed(lambda: [decide(chains, invariant) for invariant in twenty_invariants(made)])
    outcomes = {one.outcome: sum(other.outcome == one.outcome for other in decided) for one in decided}
    print(f"20 invariants: {seconds / compiling:.2f} times compiling (at most 3 wanted)  {outcomes}")
    other = changed(map(json.loads, texts), Generated(given.scale, 8))
    estates = [estate_from(texts), estate_from(map(json.dumps, other))]
    mentioned = frozenset(grant.at for estate in estates for grant in estate.grants)
    webs = [Web(compile_estate(estate, mentioned), NOW.timestamp()) for estate in estates]
    seconds, found = timed(lambda: web_difference(webs[0], webs[1], told=40))
    print(f"difference of a 1 % change: {seconds / compiling:.2f} times compiling (at most 1 wanted)")
    print(f"    ({len(found.gains)} gains, {len(found.losses)} losses, {found.undecided} undecided)")
    if given.curve is not None:
        curve(given.curve)


def curve(file: Path) -> None:
    """Compile and reach from 10^5 to 10^6 statements, as a picture, with the slope of each in logarithms."""
    import matplotlib as mpl

    mpl.use("Agg")
    import matplotlib.pyplot as plt

    sizes, compiling, reaching = [], [], []
    for statements in (100_000, 180_000, 320_000, 560_000, 1_000_000):
        scale = statements / 1_400_000
        texts = list(lines(scale))
        seconds, (compiled, web) = min(
            (timed(partial(compiled_lines, texts)) for _ in range(2)), key=lambda pair: pair[0]
        )
        wanted = wanted_permissions(compiled, ["read"], [])
        _ = web.also_asked  # made before the clock runs
        places = np.random.default_rng(5).choice(compiled.resource_places, 200, replace=False).tolist()

        def ask(web: Web = web, places: list[int] = places, wanted: Any = wanted) -> None:
            for place in places:
                coming_to(web, web.rows_on(place, wanted))

        sizes.append(statements)
        compiling.append(seconds)
        reaching.append(min(timed(ask)[0] for _ in range(3)) / len(places))
    slopes = [np.polyfit(np.log(sizes), np.log(times), 1)[0] for times in (compiling, reaching)]
    print(
        f"log-log slopes from 10^5 to 10^6 statements: compile {slopes[0]:.2f}, reach {slopes[1]:.2f}"
        " (at most 1.1 wanted)"
    )
    figure, axes = plt.subplots(figsize=(9, 5.5))
    axes.loglog(sizes, compiling, "o-", color="#20639b", label=f"compile (slope {slopes[0]:.2f})")
    axes.loglog(sizes, reaching, "s-", color="#c1582d", label=f"reach --to one place (slope {slopes[1]:.2f})")
    axes.set_xlabel("statements (grants and trusts)")
    axes.set_ylabel("seconds")
    axes.set_title("What an estate costs as it grows")
    axes.grid(True, which="both", alpha=0.25)
    axes.legend(frameon=False)
    figure.tight_layout()
    figure.savefig(file, dpi=140)


if __name__ == "__main__":
    main()

"""What the algebra of trusts and the checking of tokens cost. Prints ratios measured in one run.

python bench/trusts.py [TRUSTS]   (10,000 by default)
"""

import re
import sys
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from statistics import median

sys.path.insert(0, str(Path(__file__).parent.parent))

import jwt
from joserfc.jwk import ECKey, OKPKey, RSAKey

from enthesis.conditions.callers import Callers, one_of_both, one_of_difference
from enthesis.conditions.overlaps import overlaps
from enthesis.model.conditions import Conditions, Equal, Glob, Not
from enthesis.model.errors import Undecided
from enthesis.tokens.checking import Expected, believed, keys_of
from tests.corpora_read import pairs, patterns_in, rooms


def as_expression(pattern: str) -> str:
    """A pattern as the regular expression that somebody would write for it."""
    parts = {"**": ".*", "*": "[^/:]*", "?": "[^/:]"}
    return "".join(parts.get(part) or re.escape(part) for part in re.split(r"(\*\*|\*|\?)", pattern))


def compiled_seconds(patterns: list[str]) -> float:
    """Seconds to compile the expressions of these patterns, nothing kept from before."""
    expressions = [as_expression(pattern) for pattern in patterns]
    spent = 0.0
    for expression in expressions:
        re.purge()
        begun = time.perf_counter()
        re.compile(expression)
        spent += time.perf_counter() - begun
    return spent


def corpora() -> None:
    """The two corpora: how many are decided, and what a decision costs."""
    ratios, undecided = [], 0
    for _, one, other in pairs("realistic"):
        patterns = patterns_in(one) + patterns_in(other)
        begun = time.perf_counter()
        try:
            one_of_difference(one, other, rooms)
            one_of_both(one, other, rooms)
        except Undecided:
            undecided += 1
        spent = time.perf_counter() - begun
        if patterns:
            ratios.append(spent / compiled_seconds(patterns))
    print(f"realistic pairs, contained and overlapping both asked: {undecided} undecided of 1,000")
    print(f"    median against re.compile of their patterns (wanted: at most 20): {median(ratios):.1f}")
    print(f"    the slowest hundredth: {sorted(ratios)[-len(ratios) // 100]:.1f}")
    right = wrong = undecided = 0
    slowest = 0.0
    for record, one, other in pairs("adversarial"):
        for wanted, ask in (("overlap", one_of_both), ("contains", one_of_difference)):
            begun = time.perf_counter()
            try:
                found = ask(one, other, rooms)
                said = found is not None if wanted == "overlap" else found is None
                right, wrong = right + (said == record[wanted]), wrong + (said != record[wanted])
            except Undecided:
                undecided += 1
            slowest = max(slowest, time.perf_counter() - begun)
    print(f"adversarial questions: {right} right, {wrong} wrong, {undecided} undecided; the slowest {slowest:.1f} s")


def many(count: int) -> Iterator[Conditions]:
    """Trusts of a large organisation: most for one project and branch, some for all branches, few for a whole team."""
    rng = Random(5)
    for number in range(count):
        team, project = f"team-{rng.randrange(400)}", f"project-{number // 2}"
        kind = rng.random()
        branch = rng.choice(["main", "next", "release/*", "v*", "hotfix-??"])
        if kind < 0.005:
            sub: Glob | Equal = Glob(f"project/{team}/**")
        elif kind < 0.12:
            sub = Glob(f"project/{team}/{project}/branch/*")
        elif kind < 0.15:
            sub = Glob(f"project/{team}/*/branch/{branch}")
        else:
            sub = (
                Glob(f"project/{team}/{project}/branch/{branch}")
                if "*" in branch
                else Equal(f"project/{team}/{project}/branch/{branch}")
            )
        event = Not(Equal("fork-merge")) if rng.random() < 0.5 else Equal(rng.choice(["push", "tag"]))
        yield (("sub", sub), ("aud", Equal(rng.choice(["lowland", "highmoor"]))), ("event", event))


def all_overlaps(count: int) -> None:
    """All overlapping pairs among many trusts, against asking every pair of a tenth of them (extrapolated)."""
    sets = [Callers((conditions,)) for conditions in many(count)]
    begun = time.perf_counter()
    found = {(overlap.one, overlap.other) for overlap in overlaps([("forge", callers) for callers in sets], rooms)}
    indexed = time.perf_counter() - begun
    tenth = Random(1).sample(range(count), count // 10)
    asked = agreed = 0
    begun = time.perf_counter()
    for later in tenth:
        for earlier in (number for number in tenth if number < later):
            asked += 1
            agreed += (one_of_both(sets[later], sets[earlier], rooms) is not None) == ((later, earlier) in found)
    every = (time.perf_counter() - begun) / asked * count * (count - 1) / 2
    print(f"overlaps among {count:,} trusts: {len(found):,}; {agreed:,} of {asked:,} pairs asked one by one agree")
    print(f"    times faster than asking every pair (wanted: at least 200): {every / indexed:.0f} ({indexed:.1f} s)")


def tokens() -> None:
    """Admitting one token, its trust asked too, against PyJWT's full decode with the same key."""
    made: dict[str, tuple[RSAKey | ECKey | OKPKey, str]] = {
        "RSA": (RSAKey.generate_key(2048, {"kid": "one"}), "RS256"),
        "P-256": (ECKey.generate_key("P-256", {"kid": "one"}), "ES256"),
        "Ed25519": (OKPKey.generate_key("Ed25519", {"kid": "one"}), "EdDSA"),
    }
    instant = datetime.now(UTC)
    now = int(instant.timestamp())
    claims = {
        "iss": "https://forge.example", "sub": "project/tides/bulletin/branch/main", "aud": "lowland", "event": "push",
        "jti": "one", "iat": now, "nbf": now, "exp": now + 600,
    }  # fmt: skip
    trust = Callers(
        ((("sub", Glob("project/tides/*/branch/main")), ("aud", Equal("lowland")), ("event", Not(Equal("fork")))),)
    )
    expected = Expected("https://forge.example", instant)
    for name, (key, algorithm) in made.items():
        token = jwt.encode(claims, key.private_key, algorithm, headers={"kid": "one"})  # type: ignore[arg-type]
        data, public = token.encode(), key.public_key
        keys = keys_of({"keys": [key.as_dict(private=False)]})
        ours, theirs = [], []
        for _ in range(9):
            begun = time.perf_counter()
            for _ in range(200):
                if not trust.has(believed(data, keys, expected)):
                    raise SystemExit("the good token was refused")
            ours.append(time.perf_counter() - begun)
            begun = time.perf_counter()
            for _ in range(200):
                jwt.decode(
                    token,
                    public,  # type: ignore[arg-type]
                    algorithms=[algorithm],
                    audience="lowland",
                    issuer="https://forge.example",
                )
            theirs.append(time.perf_counter() - begun)
        print(f"admitting a token, {name}, against PyJWT (wanted: at most 1.5): {median(ours) / median(theirs):.2f}")


def main() -> None:
    corpora()
    tokens()
    all_overlaps(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000)


if __name__ == "__main__":
    main()

"""Writes the two corpora of pairs of conditions that tests and benchmarks read. The same seed, the same corpora.

python bench/corpora.py   (into tests/corpora)

A line is one pair: `one` and `other` as an estate writes conditions, and in the adversarial corpus what is right of
them by construction: `overlap`, and whether `other` `contains` `one`.
"""

import json
from collections.abc import Iterator
from pathlib import Path
from random import Random
from typing import Any

HERE = Path(__file__).parent.parent / "tests" / "corpora"
TEAMS = ("tides", "tidewater", "tide", "harbour", "forecast", "field", "public", "shared", "moorings", "pilots")
PROJECTS = ("bulletin", "gauges", "surge-model", "maps", "alerts", "archive", "radar", "buoys", "web", "web-next")
BRANCHES = ("main", "next", "release/*", "release/**", "v?", "v*", "*", "**", "hotfix-??", "try/*", "release/1.*")
EVENTS = ("push", "tag", "schedule", "fork-merge", "manual", "review")
AUDIENCES = ("lowland", "highmoor", "https://lowland.example", "vault")


def subject(rng: Random) -> Any:
    """One subject, plain or as a pattern."""
    team, project, branch = rng.choice(TEAMS), rng.choice(PROJECTS), rng.choice(BRANCHES)
    kind = rng.random()
    if kind < 0.08:
        pattern = f"project/{team}/**"
    elif kind < 0.16:
        pattern = f"project/{team}*/{project}/branch/{branch}"
    elif kind < 0.28:
        pattern = f"project/{team}/*/branch/{branch}"
    elif kind < 0.36:
        pattern = f"team:{team}:job:{branch.replace('/', ':')}"
    elif kind < 0.42:
        pattern = f"project/{team}/{project[:3]}*/environment/?*"
    else:
        pattern = f"project/{team}/{project}/branch/{branch}"
    return {"glob": pattern} if set("*?") & set(pattern) else pattern


def realistic(rng: Random) -> dict[str, Any]:
    """Conditions such as people write them: a subject or several, an audience, and perhaps more."""
    count = rng.choice((1, 1, 1, 1, 2, 2, 3, 4, 6, 9, 14, 20))
    subjects = [subject(rng) for _ in range(count)]
    out: dict[str, Any] = {"sub": subjects[0] if count == 1 else subjects}
    if rng.random() < 0.12:
        out["sub"] = {"glob": f"project/{rng.choice(TEAMS)}/**", "not": subjects}
    out["aud"] = rng.choice(AUDIENCES) if rng.random() < 0.8 else rng.sample(AUDIENCES, 2)
    if rng.random() < 0.4:
        out["event"] = rng.choice([rng.choice(EVENTS), rng.sample(EVENTS, 3), {"not": rng.choice(EVENTS)}])
    if rng.random() < 0.2:
        out["environment"] = rng.choice(["production", {"not": "scratch"}, {"present": True}, {"glob": "prod*"}])
    if rng.random() < 0.1:
        out["address"] = {"within": rng.choice(["10.0.0.0/8", "10.1.0.0/16", "192.0.2.0/24", "2001:db8::/32"])}
    return out


def varied(rng: Random, conditions: dict[str, Any]) -> dict[str, Any]:
    """The same with one thing changed, as between two versions of one trust."""
    out = dict(conditions)
    change = rng.random()
    if change < 0.5:
        out["sub"] = subject(rng) if rng.random() < 0.5 else [subject(rng), subject(rng)]
    elif change < 0.7:
        out.pop("event", None)
    elif change < 0.9:
        out["aud"] = rng.choice(AUDIENCES)
    return out


def realistic_pairs() -> Iterator[dict[str, Any]]:
    """A thousand pairs, half of them two versions of one."""
    rng = Random(20261124)
    for number in range(1000):
        one = realistic(rng)
        yield {"one": one, "other": varied(rng, one) if number % 2 else realistic(rng)}


def _pair(what: str, entry: Any, other: Any, *, overlap: bool, contains: bool) -> dict[str, Any]:
    return {"what": what, "one": {"sub": entry}, "other": {"sub": other}, "overlap": overlap, "contains": contains}


def adversarial_pairs() -> Iterator[dict[str, Any]]:
    """Pairs that make a careless algorithm slow or wrong."""
    for size in (2, 5, 10, 20, 40, 80):
        stars, deep = "*a" * size, "**a" * size
        yield _pair("many stars", {"glob": stars}, {"glob": "*a" * (size - 1) + "*"}, overlap=True, contains=True)
        yield _pair("many stars, one more", {"glob": stars}, {"glob": stars + "*a"}, overlap=True, contains=False)
        yield _pair("stars that cross", {"glob": stars}, {"glob": deep}, overlap=True, contains=True)
        yield _pair("stars that do not", {"glob": deep}, {"glob": stars}, overlap=True, contains=False)
        yield _pair("another end", {"glob": stars}, {"glob": "*b" * size}, overlap=False, contains=False)
        window = "?" * size
        yield _pair(
            "a window from the end", {"glob": f"**a{window}"}, {"glob": f"**b{window}"}, overlap=False, contains=False
        )
        yield _pair("two windows", {"glob": f"**a{window}"}, {"glob": f"**a{window}?"}, overlap=True, contains=False)
        yield _pair("length alone", {"glob": window}, {"glob": window + "?"}, overlap=False, contains=False)
        yield _pair("length or more", {"glob": window + "?"}, {"glob": window + "*"}, overlap=True, contains=True)
        yield _pair(
            "windows that together are everything",
            {"glob": "?" + window},
            [{"glob": "a" + window}, {"not": {"glob": "a" + window}}],
            overlap=True,
            contains=True,
        )
        words = [f"word-{number}" for number in range(size)]
        yield _pair("a long list", words, [*words[::-1], "more"], overlap=True, contains=True)
        yield _pair("a long list less one", words, words[1:], overlap=size > 1, contains=False)
        yield _pair("a list and its pattern", words, {"glob": "word-*"}, overlap=True, contains=True)
        yield _pair(
            "all but a list", {"glob": "word-*"}, {"glob": "word-*", "not": words}, overlap=True, contains=False
        )
        nested: Any = {"glob": "a*"}
        for _ in range(min(size, 20)):
            nested = {"not": {"not": nested}}
        yield _pair("not of not", nested, {"glob": "a*"}, overlap=True, contains=True)
        yield _pair("not of not of not", {"not": nested}, {"glob": "a*"}, overlap=False, contains=False)
        layers = [{"glob": f"{'*/' * number}a/**"} for number in range(size)]
        yield _pair("layers", {"glob": f"{'b/' * (size - 1)}a/x"}, layers, overlap=True, contains=True)
        yield _pair("layers, one too deep", {"glob": f"{'b/' * size}a/x"}, layers, overlap=False, contains=False)
        escaped = "\\*" * size
        yield _pair("stars that are none", "\\*" * size, {"glob": escaped}, overlap=True, contains=True)
        yield _pair("stars that are some", {"glob": "*" + escaped}, {"glob": escaped}, overlap=True, contains=False)
    for one, other in (("ß", "ss"), ("é", "e\u0301"), ("K", "\u212a"), ("a", "а")):
        yield _pair("letters that look alike", one, other, overlap=False, contains=False)
        yield _pair("one character", {"glob": "?"}, {"glob": other}, overlap=len(other) == 1, contains=False)
    yield _pair("a line break", "a\n", "a", overlap=False, contains=False)
    yield _pair("a line break in a run", {"glob": "a*"}, {"glob": "a**"}, overlap=True, contains=True)
    yield _pair("a number and its text", 1, "1", overlap=False, contains=False)
    yield _pair("a number of another type", 1, 1.0, overlap=False, contains=False)
    yield _pair("nothing at all", {"glob": "a", "not": "a"}, {"glob": "b"}, overlap=False, contains=True)


def main() -> None:
    HERE.mkdir(exist_ok=True)
    for name, pairs in (("realistic", realistic_pairs()), ("adversarial", adversarial_pairs())):
        lines = (json.dumps(pair, ensure_ascii=True, separators=(",", ":")) + "\n" for pair in pairs)
        (HERE / f"{name}.jsonl").write_text("".join(lines), encoding="utf-8")


if __name__ == "__main__":
    main()

"""Reads the corpora of pairs of conditions."""

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from enthesis.conditions.callers import Callers
from enthesis.conditions.values import Room
from enthesis.files.field_types import Notes
from enthesis.files.sections import FREE_CLAIMS
from enthesis.files.yaml_tree import parse
from enthesis.model.conditions import AllOf, AnyOf, Conditions, Glob, Not, Test

HERE = Path(__file__).parent / "corpora"


def records(name: str) -> Iterator[dict[str, Any]]:
    """The lines of a corpus."""
    for line in (HERE / f"{name}.jsonl").read_text(encoding="utf-8").splitlines():
        yield json.loads(line)


def conditions_of(written: Any) -> Conditions:
    """Conditions as an estate writes them, read by the estate's own reader."""
    notes = Notes("corpus")
    node, _ = parse(json.dumps(written).encode())
    assert node is not None
    read: Conditions = FREE_CLAIMS.read(node, notes)
    assert not notes.errors, notes.errors
    return read


def pairs(name: str) -> Iterator[tuple[dict[str, Any], Callers, Callers]]:
    """The pairs of a corpus: as written, and both sets."""
    for record in records(name):
        yield record, Callers((conditions_of(record["one"]),)), Callers((conditions_of(record["other"]),))


def rooms(attribute: str) -> Room:
    """What a claim can be: a text, or several audiences; numbers too, where the corpus has some."""
    types = frozenset(["text", "number"]) if attribute == "sub" else frozenset(["text"])
    return Room(types, many=attribute == "aud", absent=attribute != "aud")


def patterns_in(callers: Callers) -> list[str]:
    """The patterns of a set."""

    def of(test: Test) -> Iterator[str]:
        if isinstance(test, AnyOf | AllOf):
            for one in test.tests:
                yield from of(one)
        elif isinstance(test, Not):
            yield from of(test.test)
        elif isinstance(test, Glob):
            yield test.pattern

    return [pattern for conditions in callers.alternatives for _, test in conditions for pattern in of(test)]

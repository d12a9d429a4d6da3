"""Documents of others, mangled, through the program: whatever they are, it ends with an exit code of its own, and never
with a fault of ours. Shared with `bench/fuzz.py`."""

import json
import shutil
from collections.abc import Sequence
from pathlib import Path
from random import Random
from typing import Any

from enthesis.files.writing import estate_digest
from enthesis.proposals.steps import digest_of

from .conftest import Ran, copied, run_here, write_estate
from .fuzzing import (
    ANSWER,
    CONNECTIONS,
    HANDOFF,
    KUBECONFIG,
    PROPOSAL,
    SURVEY,
    USAGE,
    USAGE_HEAD,
    bytes_mangled,
    mangled,
)
from .test_handoff import OURS, THEIRS, estate

ENDINGS = range(6)  # docs/interfaces.md, exit codes; 70 is a fault of ours
KEYED = """\
estate: keyed
organisations: {works: {directory: "https://people.works.example"}}
providers: {north: {style: one-sided}}
accounts: {left: {in: "@works", provider: north}}
resources: {left/cluster/main: {}, left/bucket/b: {}}
identities: {left/identity/a: {kind: service-account}}
credentials: {nightly: {of: left/identity/a, form: access-key}}
journeys:
  by-key: {from: {credential: nightly}, attempt: list left/bucket/b/object/x, expect: refused}
"""


class Programs:
    """One method for each kind of document: writes a mangled one, and says with which words the program reads it."""

    def __init__(self, folder: Path, environment: dict[str, str]) -> None:
        self._ours = write_estate(folder / "ours", {"estate.yaml": OURS})
        self._saltmarsh = copied(folder / "saltmarsh")
        self._theirs = write_estate(folder / "theirs", {"estate.yaml": THEIRS})
        self._keyed = write_estate(folder / "keyed", {"estate.yaml": KEYED})
        self._place = folder / "document"
        self._environment = {**environment, "HOME": str(folder / "home")}
        words = ["request", "out", "@harbour", "--by", "2099-01-01", "--out", str(folder / "given")]
        given = self._ran(words, self._ours)
        assert given.code == 0, given.err  # so that there is something to answer
        self._answer = {**ANSWER, "reference": json.loads((folder / "given").read_text())["reference"]}
        self._proposal = {**PROPOSAL, "estate": "coast", "described_by": estate_digest(estate(OURS))}

    def run(self, name: str, seed: int) -> tuple[int, str]:
        """One attempt: the exit code, and '' where the program ended as it says, else how it ended."""
        words, at = getattr(self, name)(Random(seed))
        ran = self._ran(words, at)
        if ran.code in ENDINGS and "Traceback" not in ran.err:
            return ran.code, ""
        return ran.code, f"{name} {seed}: exit {ran.code}: {ran.err.strip()[-200:]}"

    def _ran(self, words: Sequence[str], at: Path) -> Ran:
        return run_here(words, at, "", self._environment)

    def _written(self, value: Any, rng: Random) -> str:
        data = json.dumps(value).encode()
        self._place.write_bytes(data if rng.random() < 0.8 else bytes_mangled(data, rng))
        return str(self._place)

    def proposal(self, rng: Random) -> tuple[list[str], Path]:
        plan = self._proposal
        plan = mangled({**plan, "signatures": ["a.b.c"]} if rng.random() < 0.3 else plan, rng)
        whole = {**plan, "digest": digest_of(plan)} if isinstance(plan, dict) else plan
        words = rng.choice((["enact", "--yes"], ["propose", "--approve"]))
        return [*words, self._written(whole, rng)], self._ours

    def handoff(self, rng: Random) -> tuple[list[str], Path]:
        more = rng.choice(([], ["--write"], ["--format", "json"], ["done", "--out", f"{self._place}-a"]))
        for path in self._theirs.iterdir():  # what the last one wrote
            shutil.rmtree(path) if path.is_dir() else path.unlink()
        write_estate(self._theirs, {"estate.yaml": THEIRS})
        file = self._written(mangled(HANDOFF, rng), rng)
        return ["request", "answer" if more[:1] == ["done"] else "in", file, *more], self._theirs

    def answer(self, rng: Random) -> tuple[list[str], Path]:
        return ["request", "in", self._written(mangled(self._answer, rng), rng)], self._ours

    def survey(self, rng: Random) -> tuple[list[str], Path]:
        lines = SURVEY.read_text(encoding="utf-8").splitlines()
        records = [json.loads(line) for line in lines]
        del records[-1]["digest"]
        at = rng.randrange(len(records))
        records[at] = mangled(records[at], rng)
        self._place.write_text("\n".join(map(json.dumps, records)))
        if rng.random() < 0.2:
            self._place.write_bytes(bytes_mangled(self._place.read_bytes(), rng))
        words = rng.choice((
            ["check", "--survey"], ["reach", "--to", "gauges/bucket/raw-levels", "--survey"],
            ["survey", "compare", str(SURVEY)], ["admit", "gauges/identity/collector", "--survey"],
        ))  # fmt: skip
        return [*words, str(self._place)], self._saltmarsh

    def usage(self, rng: Random) -> tuple[list[str], Path]:
        rows = [json.dumps(mangled(one, rng)) for one in (USAGE_HEAD, *USAGE)]
        self._place.write_text("\n".join(rows))
        if rng.random() < 0.3:
            self._place.write_bytes(bytes_mangled(self._place.read_bytes(), rng))
        return ["trim", "--usage", str(self._place)], self._saltmarsh

    def connection(self, rng: Random) -> tuple[list[str], Path]:
        name = rng.choice(("key", "client", "directory", "kubeconfig"))
        value = KUBECONFIG if name == "kubeconfig" else CONNECTIONS[name]
        file = self._written(mangled(value, rng), rng)
        words = {
            "key": ["prove", "--credential", f"nightly={file}"],
            "client": ["prove", "--client", f"north={file}"],
            "directory": ["survey", "--directory", f"@works={file}"],
            "kubeconfig": ["survey", "--cluster", "left/cluster/main", "--kubeconfig", file],
        }[name]
        return words, self._keyed


KINDS: tuple[str, ...] = ("proposal", "handoff", "answer", "survey", "usage", "connection")

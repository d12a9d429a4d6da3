"""How fast many objects are enacted, against a bare client that makes the same number of writes, and two large surveys
compared.

    python bench/enacting.py [--objects 5000] [--slow 20ms] [--lines 1000000]

Both make their writes 8 at a time at a lab in a process of its own, which waits before every answer. The rate of an
enactment is that of its steps as its journal has them, written down before and after each; the whole command is shown
beside it. The comparison is of two surveys in JSON Lines of which one line in a hundred differs, against `json.loads`
over the same lines.
"""

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from pathlib import Path
from typing import Any

import httpx

sys.path.insert(0, str(Path(__file__).parent.parent))

from enthesis.surveys.comparing import compare
from enthesis.surveys.survey import VERSION
from tests.conftest import write_estate

AT_ONCE = 8
HEAD = """\
estate: many
organisations: {works: {}}
providers: {north: {style: two-sided}}
accounts: {left: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc}}
"""


class Estate:
    """An estate of so many statements, with a lab of its own."""

    def __init__(self, place: Path, objects: int, slow: str) -> None:
        names = [f"left/identity/n{number}" for number in range(objects // 2)]
        identities = {name: {"kind": "service-account"} for name in names}
        trusts = [{"of": name, "admits": {"token": "forge", "claims": {"sub": name, "aud": "x"}}} for name in names]
        self.names = names
        self.place = write_estate(
            place, {"estate.yaml": HEAD, "more.json": json.dumps({"identities": identities, "trusts": trusts})}
        )
        self.environment = {**os.environ, "HOME": str(place), "XDG_CACHE_HOME": str(place / "cache")}
        self.run("lab", "start")
        self.run("lab", "fault", "--slow", slow)

    def run(self, *words: str) -> str:
        done = subprocess.run(
            [sys.executable, "-m", "enthesis", *words], cwd=self.place, env=self.environment, capture_output=True,
            text=True, check=False,
        )  # fmt: skip
        assert done.returncode == 0, done.stderr
        return done.stdout

    def bare(self) -> float:
        """Seconds that a client takes that only makes the writes."""
        state = self.place / ".enthesis" / "lab"
        services = json.loads((state / "services.json").read_text(encoding="utf-8"))
        url = next(service["url"] for service in services["services"] if service["name"] == "north")
        listed = json.loads((state / "administrators.json").read_text(encoding="utf-8"))
        session = next(one["session"] for one in listed if one.get("holder") == "left")
        headers = {"Authorization": f"Bearer {session}"}
        limits = httpx.Limits(max_connections=AT_ONCE, max_keepalive_connections=AT_ONCE)
        with httpx.Client(verify=services["authority"], headers=headers, limits=limits, trust_env=False) as client:

            def make(collection: str, body: dict[str, Any]) -> str:
                answer = client.post(f"{url}/administration/{collection}", json={**body, "holder": "left"})
                assert answer.status_code == 201, answer.text
                return str(answer.json()["id"])

            def identity(name: str) -> str:
                return make("identities", {"address": name, "kind": "service-account"})

            def trust(of: tuple[str, str]) -> str:
                admits = {"token": "forge", "claims": {"sub": of[0], "aud": "x"}}
                return make("trusts", {"of": of[1], "admits": admits})

            began = time.perf_counter()
            with ThreadPoolExecutor(AT_ONCE) as pool:
                ids = list(pool.map(identity, self.names))
                list(pool.map(trust, zip(self.names, ids, strict=True)))
            return time.perf_counter() - began

    def enacted(self) -> tuple[float, float]:
        """Seconds from the first step to the last, and those of the whole command."""
        began = time.perf_counter()
        self.run("enact", "--yes", "--quiet", "--at-once", str(AT_ONCE))
        whole = time.perf_counter() - began
        shown = json.loads(self.run("history", "show", "1", "--format", "json"))
        assert shown["state"] == "finished"
        times = [datetime.fromisoformat(shown[name]) for name in ("begun", "ended")]
        return (times[1] - times[0]).total_seconds(), whole

    def end(self) -> None:
        self.run("lab", "stop", "--clean")


def rates(objects: int, slow: str) -> None:
    with tempfile.TemporaryDirectory() as place:
        first = Estate(Path(place) / "bare", objects, slow)
        bare = first.bare()
        first.end()
        second = Estate(Path(place) / "enacted", objects, slow)
        steps, whole = second.enacted()
        second.end()
    print(f"{objects} objects, {slow} before every answer, {AT_ONCE} at a time")
    print(f"  bare client        {bare:7.1f} s  {objects / bare:6.0f} a second")
    share = f"{bare / steps:.2f} of the bare rate (wanted 0.7)"
    print(f"  enact, its steps   {steps:7.1f} s  {objects / steps:6.0f} a second  {share}")
    print(f"  the whole command  {whole:7.1f} s")


def survey_lines(count: int, *, changed: bool) -> Iterator[bytes]:
    """A survey of so many statements; of the changed one, one in a hundred is another."""
    header = {"enthesis": "survey", "version": VERSION, "taken": "2026-01-01T00:00:00Z", "of": []}
    yield json.dumps(header).encode() + b"\n"
    for number in range(count):
        version = 2 if changed and number % 100 == 0 else 1
        of = {"to": f"left/identity/n{number}", "role": "left reads", "at": "left/bucket/b", "held_by": "left"}
        of |= {"until": f"203{version}-01-01T00:00:00Z"}
        live = {"id": f"{number:032x}", "version": f"v{version}", "holder": "left", "mark": "many"}
        yield json.dumps({"section": "grants", **of, "live": live}).encode() + b"\n"


def comparison(count: int) -> None:
    with tempfile.TemporaryDirectory() as place:
        files = [Path(place) / name for name in ("before.jsonl", "after.jsonl")]
        for file, changed in zip(files, (False, True), strict=True):
            with file.open("wb") as out:
                out.writelines(survey_lines(count, changed=changed))
        began = time.perf_counter()
        for file in files:
            with file.open("rb") as lines:
                for line in lines:
                    json.loads(line)
        loads = time.perf_counter() - began
        began = time.perf_counter()
        with files[0].open("rb") as before, files[1].open("rb") as after:
            found = compare(before, after, ("before", "after"))
        took = time.perf_counter() - began
        assert len(found.differs) == count // 100, len(found.differs)
    print(f"two surveys of {count} statements, one in a hundred changed")
    print(f"  json.loads of all lines  {loads:6.1f} s")
    print(f"  compared                 {took:6.1f} s  {took / loads:.2f} times that (at most 3 wanted)")


def main() -> None:
    wanted = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    wanted.add_argument("--objects", type=int, default=5000)
    wanted.add_argument("--slow", default="20ms")
    wanted.add_argument("--lines", type=int, default=1_000_000)
    given = wanted.parse_args()
    if given.lines:
        comparison(given.lines)
    if given.objects:
        rates(given.objects, given.slow)


if __name__ == "__main__":
    main()

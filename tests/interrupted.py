"""Enactments that are killed at random points, at a lab with faults; shared with `bench/interrupted.py`."""

import json
import os
import signal
import sqlite3
import time
from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from random import Random
from typing import Any

from enthesis.connectors.cloud import Cloud
from enthesis.connectors.http import Client
from enthesis.files.folder import read_folder
from enthesis.model.secrets import Secret
from enthesis.model.vocabulary import STATEMENTS
from enthesis_lab.running import administrators

from .conftest import write_estate

HEAD = """\
estate: many
organisations: {works: {}}
providers: {north: {style: two-sided}}
accounts: {left: {in: "@works", provider: north}, right: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc}}
resources: {left/bucket/b: {}, right/bucket/b: {}}
"""
EACH = 12  # of each kind of statement, half of them new with every version
FAULTS = ("--lag", "40ms", "--enforcement-lag", "40ms", "--fail", "10", "--page-size", "7", "--shifting")
LONGEST = 60.0  # seconds; a run that takes longer hangs

Start = Callable[[tuple[str, ...], Path], int]
"""Starts the program with these words in a folder; the number of its process, whose end can be waited for."""


def version(number: int) -> dict[str, str]:
    """A version of an estate: half of its statements are of the one before, and changed."""
    first = number * EACH // 2
    names = [f"n{one}" for one in range(first, first + EACH)]
    identities = {f"{account(one)}/identity/{one}": {"kind": "service-account"} for one in names}
    verbs = ["read", "write"] if number % 2 else ["read"]
    roles = {f"r-{one}": {"allows": {"object": verbs}} for one in names}
    trusts = [
        {"of": of, "admits": {"token": "forge", "claims": {"sub": of, "aud": "x"}}, "session": f"{15 + number % 2}m"}
        for of in identities
    ]
    grants = [
        {"to": of, "role": f"r-{of.rsplit('/', 1)[1]}", "at": f"{of.split('/')[0]}/bucket/b"} for of in identities
    ]
    more = {"identities": identities, "roles": roles, "trusts": trusts, "grants": grants}
    return {"estate.yaml": HEAD, "more.yaml": json.dumps(more)}


def account(name: str) -> str:
    return "left" if int(name[1:]) % 2 else "right"


@dataclass
class Interrupted:
    """One lab and the enactments at it. `start` starts the program."""

    folder: Path
    start: Start
    rng: Random
    usual: float = 1.0  # seconds that an enactment takes
    counted: Counter[str] = field(default_factory=Counter)

    def run(self, *words: str, killed_after: float | None = None, at_work: bool = False) -> int:
        """Runs the program to its end, or kills it after so long (`at_work`: after it has begun with the steps); its
        exit code, -9 where it was killed."""
        pid = self.start(words, self.folder)
        ends = time.monotonic() + (LONGEST if killed_after is None or at_work else killed_after)
        while True:
            if at_work and self._begun():
                ends, at_work = time.monotonic() + (killed_after or 0.0), False
            found, status = os.waitpid(pid, os.WNOHANG)
            if found:
                return os.waitstatus_to_exitcode(status)
            if time.monotonic() > ends:
                assert killed_after is not None and not at_work, f"{words} hangs"
                os.kill(pid, signal.SIGKILL)
            time.sleep(0.002)

    def begin(self) -> None:
        """Starts the lab, with the first version enacted, what somebody else made, and faults."""
        write_estate(self.folder, version(0))
        assert self.run("lab", "start", "--allow-twins") == 0
        assert self.run("enact", "--yes", "--quiet") == 0
        client, sessions = self._cloud()
        for holder in ("left", "right"):
            body = {"address": f"{holder}/identity/by-hand", "kind": "service-account", "holder": holder}
            assert client.ask("POST", "/administration/identities", bearer=sessions[holder], body=body).status == 201
        client.close()

    def enacted(self, number: int, kills: int) -> None:
        """Enacts a version, killed so many times on the way, and looks whether all is as it should be."""
        foreign = {one["id"]: one["etag"] for one in self.live() if one["mark"] is None}
        write_estate(self.folder, version(number))
        assert self.run("lab", "fault", *FAULTS, "--seed", str(self.rng.randrange(10**6)), "--quiet") == 0
        began = time.monotonic()
        words: tuple[str, ...] = ("enact", "--yes", "--prune", "--quiet", "--accept", "many-removed")
        for kill in range(kills):
            first = kill == 0  # is killed soon after it has begun, so that there surely is one
            at_work = first or self.rng.random() < 0.6
            longest = self.usual * (0.1 if first else 1.0)
            code = self.run(*words, killed_after=self.rng.uniform(0.0, longest), at_work=at_work)
            self.counted["kills" if code == -9 else "ended before the kill"] += 1
            words = self._next(words)
            if not words:
                break
        while words:
            code = self.run(*words)
            self.counted["resumed"] += "--resume" in words
            assert code in (0, 4), code
            self.counted["stopped by faults"] += code == 4
            words = self._next(words)
        self.usual = 0.7 * self.usual + 0.3 * min(4.0, (time.monotonic() - began) / (kills + 1))
        assert self.run("lab", "fault", "--clear", "--quiet") == 0
        time.sleep(0.1)  # longer than the lag
        self._looked_at(number, foreign)

    def _begun(self) -> bool:
        """Whether an enactment is under way by now."""
        return any(state == "running" for _, state, _ in self.journal())

    def _next(self, words: tuple[str, ...]) -> tuple[str, ...]:
        """What goes on with an enactment: nothing where it is finished, the same again where it did not begin."""
        states = [state for _, state, _ in self.journal()]
        if states[-1] == "running":
            return ("enact", "--resume", "--quiet")
        return () if len(states) > self.counted["enactments seen"] + 1 else words

    def _looked_at(self, number: int, foreign: Mapping[str, str]) -> None:
        """The live side is as described, no object is there twice, nothing foreign touched, the journal complete."""
        enactments = self.journal()
        self.counted["enactments seen"] = len(enactments) - 1
        assert {state for _, state, _ in enactments} == {"finished"}, enactments
        assert all(steps == Counter(done=sum(steps.values())) for _, _, steps in enactments), enactments
        self.counted["steps"] += sum(enactments[-1][2].values())
        live = self.live()
        keys = Counter(json.dumps([one[name] for name in ("collection", "holder", "key")]) for one in live)
        assert max(keys.values()) == 1, keys.most_common(2)
        assert foreign.items() <= {one["id"]: one["etag"] for one in live}.items()
        assert sum(one["mark"] is not None for one in live) == 4 * EACH
        assert self.run("propose", "--prune", "--expect-none", "--quiet") == 0, number
        self.counted["enactments"] += 1

    def journal(self) -> list[tuple[int, str, Counter[str]]]:
        """The enactments with their states and the states of their steps, read from the file itself."""
        with sqlite3.connect(f"file:{self.folder / '.enthesis' / 'history.db'}?mode=ro", uri=True) as store:
            rows = store.execute("SELECT number, state FROM enactments ORDER BY number").fetchall()
            out = []
            for number, state in rows:
                steps = store.execute("SELECT state FROM steps WHERE enactment = ?", (number,)).fetchall()
                out.append((number, state, Counter(one for (one,) in steps)))
        store.close()
        return out

    def live(self) -> list[dict[str, Any]]:
        """Every statement of the live side, with what makes it the same statement."""
        client, sessions = self._cloud()
        try:
            surveyed = Cloud("north", client, sessions).survey(["left", "right"])
        finally:
            client.close()
        return [
            {
                "id": one.id, "etag": one.etag, "mark": one.mark, "collection": one.collection, "holder": one.holder,
                "key": one.key[3],
            }
            for one in surveyed.objects if one.collection in STATEMENTS and one.body.get("kind") != "person"
        ]  # fmt: skip

    def _cloud(self) -> tuple[Client, dict[str, Secret]]:
        state = self.folder / ".enthesis" / "lab"
        services = json.loads((state / "services.json").read_text(encoding="utf-8"))
        url = next(one["url"] for one in services["services"] if one["name"] == "north")
        assert read_folder(self.folder).estate is not None
        sessions = {one["holder"]: Secret(one["session"]) for one in administrators(state) if "holder" in one}
        return Client("north", url, authority=Path(services["authority"])), sessions

    def end(self) -> None:
        self.run("lab", "stop", "--clean", "--quiet")

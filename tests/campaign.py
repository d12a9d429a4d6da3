"""Many workloads with a key each, that call all the while; and their way to keyless, driven through the program."""

import threading
from collections import Counter
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from enthesis.files.folder import read_folder
from enthesis.live.connecting import Given, connect
from enthesis.live.proving import Proof, prove
from enthesis.model.estate import Attempt, Estate, Hop, Journey, Origin
from enthesis.model.vocabulary import RETIRING, Ending, Form
from enthesis.ports import Connected

from .conftest import Program

MOVED = RETIRING[RETIRING.index("proved") :]  # a program is moved once its keyless way is proved
HEAD = """\
estate: fleet
organisations: {works: {}}
providers: {north: {style: two-sided}}
accounts: {yard: {in: "@works", provider: north}}
roles: {writing: {allows: {object: [write]}}}
"""


class Quiet:
    """Told how far work has come, and says nothing."""

    def begin(self, what: str, total: int) -> None: ...
    def step(self, what: str) -> None: ...
    def end(self) -> None: ...


def fleet(count: int) -> str:
    """An estate of so many hosts, each with a key of an identity of its own, to write into a bucket of its own."""
    numbers = range(count)
    resources = "".join(f"  yard/host/h{one}: {{}}\n  yard/bucket/b{one}: {{}}\n" for one in numbers)
    identities = "".join(
        f"  yard/identity/i{one}: {{kind: service-account, owner: web, purpose: stores}}\n" for one in numbers
    )
    grants = "".join(f"  - {{to: yard/identity/i{one}, role: writing, at: yard/bucket/b{one}}}\n" for one in numbers)
    keys = "".join(
        f"  k{one}: {{of: yard/identity/i{one}, form: access-key, held_in: yard/host/h{one}}}\n" for one in numbers
    )
    return f"{HEAD}resources:\n{resources}identities:\n{identities}grants:\n{grants}credentials:\n{keys}"


def make_keys(folder: Path, enthesis: Program, count: int) -> dict[str, Path]:
    """A key for each, as somebody once made them."""
    files = {f"k{one}": folder / f"k{one}.key" for one in range(count)}
    for one, (name, file) in enumerate(files.items()):
        words = ("--of", f"yard/identity/i{one}", "--because", "once", "--for", "20d", "--into", str(file), "--anyway")
        assert enthesis("credential", "create", name, *words, "--quiet", at=folder).code == 0
    return files


@dataclass
class Calls:
    """The workloads: every one calls in turn, with its key until its keyless way is proved, and then without."""

    folder: Path
    keys: dict[str, Path]
    failed: list[Proof] = field(default_factory=list)
    made: Counter[str] = field(default_factory=Counter)
    rounds: int = 0
    _over: threading.Event = field(default_factory=threading.Event)
    _thread: threading.Thread | None = None

    def __enter__(self) -> "Calls":
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()
        return self

    def __exit__(self, *ended: object) -> None:
        self._over.set()
        if self._thread is not None:
            self._thread.join()

    def whole_round(self) -> None:
        """Waits until each has called once more, from begin to end."""
        wanted = self.rounds + 2
        while self.rounds < wanted and not self._over.wait(0.05):
            pass

    def _run(self) -> None:
        connected = connect(_read(self.folder), self.folder, Given(keys=self.keys))
        try:
            self._call(connected)
        finally:
            for one in (*connected.providers.values(), *connected.hosts.values(), *connected.issuers.values()):
                getattr(one, "client").close()  # noqa: B009  each has one

    def _call(self, connected: Connected) -> None:
        while not self._over.is_set():
            estate = _read(self.folder)
            for name in self.keys:
                if self._over.is_set():
                    return
                journey = _journey(estate, name)
                self.made[journey.origin.form] += 1
                self.failed += [one for one in prove(estate, [journey], connected, _now(), Quiet()) if not one.met]
            self.rounds += 1


def _journey(estate: Estate, name: str) -> Journey:
    number = name.removeprefix("k")
    attempt = Attempt("write", f"yard/bucket/b{number}/object/x")
    standing = estate.retiring.get(name)
    if standing is not None and standing.stage in MOVED:
        hop = Hop(f"yard/identity/i{number}")
        return Journey(name, Origin(Form.HOST, f"yard/host/h{number}"), Ending.ALLOWED, (hop,), attempt)
    return Journey(name, Origin(Form.CREDENTIAL, name), Ending.ALLOWED, (), attempt)


def _now() -> datetime:
    return datetime.now(UTC)


def _read(folder: Path) -> Estate:
    estate = read_folder(folder).estate
    assert estate is not None
    return estate


def stages(folder: Path) -> Counter[str]:
    """How many stand at each stage, as the files say."""
    return Counter(one.stage for one in _read(folder).retiring.values())


def retire(folder: Path, enthesis: Program, calls: Calls, idle: str) -> None:
    """Takes all of them from planned to disabled, as somebody does who comes back every few days."""
    assert enthesis("credential", "retire", "--plan", "--yes", "--quiet", at=folder).code == 0
    assert enthesis("credential", "retire", "--next", "--yes", "--quiet", at=folder).code == 0
    assert enthesis("enact", "--yes", "--quiet", at=folder).code == 0
    for _ in range(12):
        calls.whole_round()
        ran = enthesis("credential", "retire", "--next", "--idle", idle, "--keep", "30d", "--yes", "--quiet", at=folder)
        assert ran.code in (0, 4), ran.err
        if set(stages(folder)) == {"disabled"}:
            return
    raise AssertionError(stages(folder))


def bring_back(folder: Path, enthesis: Program, calls: Calls) -> None:
    """Takes all of them back to before they were proved, so that the workloads go on with their keys."""
    for wanted in ("idle", "proved", "keyless"):
        assert enthesis("credential", "retire", "--back", "--yes", "--quiet", at=folder).code == 0
        assert set(stages(folder)) == {wanted}
    calls.whole_round()

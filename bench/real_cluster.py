"""Surveys, changes and uses a real Kubernetes API server, and compares 2,000 answers with its own review.

KUBE_APISERVER=/path/to/kube-apiserver python bench/real_cluster.py [QUESTIONS]

The server is built once from Debian's source package by `bench/api_server/build.sh DIR` (as root; up to half an hour);
`etcd-server`, `openssl` and `curl` are needed too. Exit 1 where an answer differs or a step fails.
"""

import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from random import Random

sys.path.insert(0, str(Path(__file__).parent.parent))

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.connectors.cluster.resources import verb_of
from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue
from enthesis.model.estate import Attempt, Context, Origin
from enthesis.model.vocabulary import Form
from enthesis.surveys.survey import read_survey
from enthesis.verdicts.judge import Judge
from tests.clusters import GRID, NAMESPACES, SECRETS, Api, callers, set_up, wanted
from tests.test_cluster import place_of
from tests.test_cluster_use import ESTATE, JOURNEYS

ROOT = Path(__file__).parent.parent
PROVED = ("cleans-its-own", "not-the-next", "one-secret", "not-the-other")
CLEANER = f"{GRID}/namespace/nowcast/identity/cleaner"
LIVES_WITH = (
    "accepted: [{unread: highmoor, at: surge, because: only the cluster is there, until: 2999-01-01T00:00:00Z}]\n"
)
failed: list[str] = []


@contextmanager
def served(folder: Path) -> Iterator[Path]:
    """A server that runs for as long as this does; its administrator's kubeconfig."""
    ports = []
    for _ in range(3):
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            ports.append(str(free.getsockname()[1]))
    command = ["sh", str(ROOT / "bench" / "api_server" / "run.sh"), str(folder), *ports]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True, start_new_session=True) as server:
        try:
            assert server.stdout is not None
            place = server.stdout.readline().strip()
            if not place:
                sys.exit("the server did not start")
            yield Path(place)
        finally:
            server.send_signal(signal.SIGTERM)


def enthesis(at: Path, *words: str, code: Sequence[int] = (0,)) -> "subprocess.CompletedProcess[str]":
    """Runs the program and notes where it does not end as it should."""
    began = time.monotonic()
    ran = subprocess.run(
        [sys.executable, "-m", "enthesis", *words], cwd=at, capture_output=True, text=True, check=False
    )
    if ran.returncode not in code:
        failed.append(f"enthesis {' '.join(words)}: exit {ran.returncode}: {ran.stderr[-400:]}{ran.stdout[-400:]}")
    print(f"  {time.monotonic() - began:5.1f} s  enthesis {' '.join(words)[:90]}: exit {ran.returncode}")
    return ran


def furnished(api: Api) -> None:
    """Namespaces and secrets, and random policies."""
    for namespace in NAMESPACES:
        api.made("/api/v1/namespaces", {"metadata": {"name": namespace}})
        api.account(namespace, "default")
        for secret in SECRETS:
            api.made(f"/api/v1/namespaces/{namespace}/secrets", {"metadata": {"name": secret}})
    set_up(api, Random(11))


def compared(api: Api, survey: Path, questions: int) -> None:
    """Answers of the survey beside the server's own."""
    with survey.open(encoding="utf-8") as lines:
        estate = read_survey(lines, survey.name, packaged_catalogue(TreeCache(None))).estate
    judge, rng, counts, asked = Judge(compile_estate(estate)), Random(5), Counter[str](), 0
    everybody = [one for one in callers() if one.address in estate.identities]
    requests, now = wanted(rng), datetime.now(UTC)
    while asked < questions:
        one, caller = next(requests), rng.choice(everybody)
        why = api.may(caller, one)
        if not why and rng.random() < 0.75:
            continue
        asked += 1
        form = Form.PERSON if caller.address.startswith("@") else Form.IDENTITY
        question = Question(
            Origin(form, caller.address), (), Attempt(verb_of(one["verb"]), place_of(one)), Context(), now
        )
        verdict = judge.judge(question)
        counts[f"server {'yes' if why else 'no'}, survey {'yes' if verdict.allowed else 'no'}"] += 1
        if verdict.allowed != bool(why):
            failed.append(
                f"{caller.user} {one}: the server says {why or 'no'}, the survey {verdict.refused_at or 'yes'}"
            )
    absent = sum(one.absent for one in estate.identities.values())
    print(f"  {asked} questions: {dict(counts)}; {absent} accounts are named and not there")


def main() -> int:
    questions = int(sys.argv[1]) if len(sys.argv) > 1 else 2000
    place = Path(tempfile.mkdtemp(prefix="real-cluster-"))
    try:
        with served(place / "server") as config:
            said = json.loads(config.read_text())
            cluster, token = said["clusters"][0]["cluster"], said["users"][0]["user"]["token"]
            api = Api(cluster["server"], cluster["certificate-authority"], token)
            with api.http:
                furnished(api)
                way = ("--kubeconfig", str(config))
                print("surveyed")
                enthesis(place, "survey", "--cluster", GRID, *way, "--out", "live.jsonl")
                compared(api, place / "live.jsonl", questions)
                used(api, place, way)
    finally:
        shutil.rmtree(place, ignore_errors=True)
    for one in failed[:20]:
        print(one)
    print(f"{len(failed)} wrong")
    return 1 if failed else 0


def used(api: Api, place: Path, way: tuple[str, str]) -> None:
    """An estate of its own: enacted, proved with near-misses, lent, watched on, and withdrawn."""
    print("used")
    estate = place / "estate"
    estate.mkdir()
    second = f"  {GRID}/namespace/nowcast/workload/job-2: {{runs_as: {CLEANER}}}\n  surge/bucket/forecasts: {{}}\n"
    (estate / "estate.yaml").write_text(ESTATE.replace("  surge/bucket/forecasts: {}\n", second))
    (estate / "expected.yaml").write_text(JOURNEYS + LIVES_WITH)
    for name, account in (("job-1", "default"), ("job-2", "cleaner")):
        spec = {"serviceAccountName": account, "containers": [{"name": "c", "image": "none.example/none"}]}
        api.made("/api/v1/namespaces/nowcast/pods", {"metadata": {"name": name}, "spec": spec})
    enthesis(estate, "enact", "--yes", *way, "--accept", "power-gained", "--accept", "outside-gains")
    enthesis(estate, "propose", "--expect-none", *way, code=(0, 1))  # random policies may open more
    enthesis(estate, "prove", *PROVED, *way)
    enthesis(
        estate,
        "prove",
        "--near-misses",
        f"{GRID}/namespace/nowcast/identity/default",
        *way,
    )
    enthesis(estate, "lend", CLEANER, *way, "--write-kubeconfig", "lent")
    lent = {**os.environ, "KUBECONFIG": str(estate / "lent")}
    ran = subprocess.run(
        [sys.executable, "-m", "enthesis", "survey", "--cluster", GRID, "--namespace", "nowcast", "--out", "by-lent"],
        cwd=estate, env=lent, capture_output=True, text=True, check=False,
    )  # fmt: skip
    told = ran.stderr.splitlines()[:1]
    print(f"  with what was lent: exit {ran.returncode}: {told}")
    if "resource" not in "".join(told):  # it may list what runs there, and little else
        failed.append(f"a survey with what was lent: {ran.stderr[-300:]}")
    api.account("tiles", "newcomer")
    enthesis(place, "survey", "--cluster", GRID, *way, "--since", "live.jsonl", "--out", "later.jsonl")
    if "identity/newcomer" not in (place / "later.jsonl").read_text():
        failed.append("what came since is not in the survey that was read on")


if __name__ == "__main__":
    sys.exit(main())

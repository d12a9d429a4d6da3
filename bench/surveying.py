"""What a survey of a large cluster costs, against reading the same pages with the bare HTTP library. Prints ratios.

python bench/surveying.py [OBJECTS]   (50,000 by default)
"""

import json
import multiprocessing
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from random import Random
from statistics import median
from typing import Any
from urllib.parse import parse_qs, urlsplit

PAGE = 500
RBAC = "rbac.authorization.k8s.io"
SHARES = {
    "/api/v1/namespaces": 0.01,
    "/api/v1/serviceaccounts": 0.1,
    "/api/v1/secrets": 0.2,
    "/api/v1/pods": 0.5,
    f"/apis/{RBAC}/v1/clusterroles": 0.002,
    f"/apis/{RBAC}/v1/roles": 0.04,
    f"/apis/{RBAC}/v1/clusterrolebindings": 0.008,
    f"/apis/{RBAC}/v1/rolebindings": 0.14,
}
CHANGED = {"/api/v1/pods": 30, "/api/v1/secrets": 10, f"/apis/{RBAC}/v1/rolebindings": 10}
NAMES_ONLY = ("/api/v1/namespaces", "/api/v1/serviceaccounts", "/api/v1/secrets")


def objects(path: str, count: int, namespaces: int, rng: Random) -> Iterator[dict[str, Any]]:
    """Objects of a resource, about as large as real ones."""
    for number in range(count):
        space = f"space-{number % namespaces}"
        labels = {"app": f"app-{number % 97}", "team": f"team-{number % 13}"}
        meta: dict[str, Any] = {
            "name": f"thing-{number}", "uid": f"{number:08x}-0000-4000-8000-000000000000", "labels": labels,
            "resourceVersion": str(number), "creationTimestamp": "2026-01-01T00:00:00Z",
        }  # fmt: skip
        if path == "/api/v1/namespaces":
            yield {"metadata": {**meta, "name": f"space-{number}"}}
        elif path.endswith("/pods"):
            container = {
                "name": "main",
                "image": f"registry.example/app-{number % 97}:1",
                "env": [{"name": "A", "value": "b"}],
            }
            spec = {"serviceAccountName": f"thing-{number % 50}", "containers": [container], "nodeName": "node-1"}
            status = {"phase": "Running", "podIP": "10.0.0.1", "startTime": "2026-01-01T00:00:00Z"}
            yield {"metadata": {**meta, "namespace": space}, "spec": spec, "status": status}
        elif path.endswith("roles"):
            rule = {"apiGroups": [""], "resources": rng.sample(["pods", "secrets", "configmaps"], 2), "verbs": ["get"]}
            home = {} if "cluster" in path else {"namespace": space}
            yield {"metadata": {**meta, **home, "name": f"role-{number}"}, "rules": [rule]}
        elif path.endswith("bindings"):
            wide = "cluster" in path
            reference = {"kind": "ClusterRole", "name": f"role-{number % 50}"}
            subject = {"kind": "ServiceAccount", "namespace": space, "name": f"thing-{number % 50}"}
            yield {
                "metadata": {**meta, **({} if wide else {"namespace": space})},
                "roleRef": reference,
                "subjects": [subject],
            }
        else:
            yield {"metadata": {**meta, "namespace": space}}


def pages(count: int) -> dict[str, list[bytes]]:
    """Every page of every list, ready to be sent."""
    rng, out = Random(1), {}
    namespaces = max(1, int(count * SHARES["/api/v1/namespaces"]))
    for path, share in SHARES.items():
        found = list(objects(path, max(1, int(count * share)), namespaces, rng))
        cut = [found[start : start + PAGE] for start in range(0, len(found), PAGE)]
        out[path] = [
            json.dumps(
                {
                    "metadata": {"resourceVersion": "1", **({"continue": str(n + 1)} if n + 1 < len(cut) else {})},
                    "items": items,
                }
            ).encode()
            for n, items in enumerate(cut)
        ]
    listed = [
        {"name": "pods", "namespaced": True, "verbs": ["get"]},
        {"name": "secrets", "namespaced": True, "verbs": ["get"]},
    ]
    out["/api/v1"] = [json.dumps({"resources": listed}).encode()]
    out["/apis"] = [json.dumps({"groups": []}).encode()]
    return out


def changed(path: str, count: int) -> bytes:
    """So many events of a watch."""
    found = objects(path, count, 50, Random(2))
    events = (json.dumps({"type": "MODIFIED", "object": entry}) for entry in found)
    return "\n".join(events).encode()


def serve(count: int, port: Any, sent: Any) -> None:
    """Serves the pages on loopback until it is ended, and adds up the bytes that it `sent`."""
    made = pages(count)
    changes = {path: changed(path, each) for path, each in CHANGED.items()}

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:
            parts = urlsplit(self.path)
            found = made.get(parts.path)
            if "watch" in parse_qs(parts.query):
                self.watched(parts.path)
                return
            number = int(parse_qs(parts.query).get("continue", ["0"])[0])
            body = found[number] if found else b"{}"
            self.send_response(200 if found else 404)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)
            with sent.get_lock():
                sent.value += len(body)

        def watched(self, path: str) -> None:
            """Some things that changed, and the end of the watch after the second that was asked for."""
            body = changes.get(path, b"")
            time.sleep(1)
            self.send_response(200)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)
            with sent.get_lock():
                sent.value += len(body)

        def log_message(self, format: str, *args: Any) -> None:  # noqa: A002  the name it has there
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    port.put(server.server_address[1])
    server.serve_forever()


BARE = """
import httpx, sys
with httpx.Client(base_url=sys.argv[1], trust_env=False) as client:
    for path in sys.argv[2:]:
        following = ""
        while True:
            body = client.get(path, params={"limit": 500, **({"continue": following} if following else {})}).json()
            following = (body.get("metadata") or {}).get("continue") or ""
            if not following:
                break
"""
PEAK = "import resource; print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"


def timed(command: list[str], folder: Path) -> tuple[float, int]:
    """Seconds and peak memory (KiB) of a command in a process of its own."""
    wrapped = f"import subprocess, sys; subprocess.run(sys.argv[1:], check=True, cwd={str(folder)!r}); {PEAK}"
    begun = time.perf_counter()
    done = subprocess.run([sys.executable, "-c", wrapped, *command], capture_output=True, text=True, check=True)
    return time.perf_counter() - begun, int(done.stdout.strip().splitlines()[-1])


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 50_000
    port: Any = multiprocessing.Queue()
    sent = multiprocessing.Value("q", 0)
    server = multiprocessing.Process(target=serve, args=(count, port, sent), daemon=True)
    server.start()
    url = f"http://127.0.0.1:{port.get(timeout=120)}"
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        config = {
            "current-context": "c", "contexts": [{"name": "c", "context": {"cluster": "c", "user": "c"}}],
            "clusters": [{"name": "c", "cluster": {"server": url}}],
            "users": [{"name": "c", "user": {"token": "made-up-for-this-bench"}}],
        }  # fmt: skip
        (folder / "config").write_text(json.dumps(config))
        ours = [sys.executable, "-m", "enthesis", "survey", "--cluster", "a/cluster/c", "--kubeconfig", "config",
                "--out", "live.jsonl", "-q"]  # fmt: skip
        bare = [sys.executable, "-c", BARE, url, "/api/v1", "/apis", *SHARES]
        rounds = [(timed(ours, folder), timed(bare, folder)) for _ in range(5)]
        ratio = median(one[0] for one, _ in rounds) / median(one[0] for _, one in rounds)
        memory = max(one[1] for one, _ in rounds) / 1024
        lines = sum(1 for _ in (folder / "live.jsonl").open())
        again = [*ours, "--since", "live.jsonl"]
        whole = median(one[0] for one, _ in rounds)
        bytes_of_pages, before = sent.value / len(rounds) / 2, sent.value
        refreshed = median(timed(again, folder)[0] for _ in range(3))
        share = (sent.value - before) / 3 / bytes_of_pages
    server.terminate()
    print(
        f"survey of {count:,} objects ({lines:,} lines), against reading the pages (wanted: at most 1.5): {ratio:.2f}"
    )
    print(f"    {sum(CHANGED.values())} changes read on from it, roles' bindings among them: {refreshed:.2f} s "
          f"against {whole:.2f} s, of which the watch is open for 1 s")  # fmt: skip
    print(f"    read from the cluster for them, against the survey (wanted: at most 0.05): {share:.4f}")
    print(f"    peak memory (wanted: under 120 MiB): {memory:.0f} MiB")


if __name__ == "__main__":
    main()

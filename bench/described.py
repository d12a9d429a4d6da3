"""Whether a cloud of the lab answers as its OpenAPI document says, to whatever is sent (about two minutes).

    .venv/bin/pip install schemathesis && .venv/bin/python bench/described.py [SECONDS]

Generated requests by schemathesis, by everybody and by an administrator; prints what it found, and exits with 1 for a
server fault, an answer that the document does not describe, or a body that is not as it is described.
"""

import json
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

ESTATE = """
estate: works
organisations: {works: {}}
providers: {north: {style: two-sided}}
accounts: {yard: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc}}
resources: {yard/host/one: {}, yard/bucket/b: {}}
identities:
  "@works/identity/ada": {kind: person, owner: works}
  yard/identity/runner: {kind: service-account, owner: web, purpose: runs}
"""
CHECKS = "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance"


def main(seconds: int = 100) -> int:
    tool = shutil.which("schemathesis", path=f"{Path(sys.executable).parent}:{os.environ['PATH']}")
    if tool is None:
        print("schemathesis is not installed: pip install schemathesis")
        return 2
    enthesis = [sys.executable, "-m", "enthesis"]
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "estate.yaml").write_text(ESTATE)
        starting = [*enthesis, "lab", "start", "--format", "json"]
        started = subprocess.run(starting, cwd=folder, capture_output=True, check=True)
        try:
            said = json.loads(started.stdout)
            url = next(service["url"] for service in said["services"] if service["name"] == "north")
            listed = json.loads((Path(folder) / ".enthesis" / "lab" / "administrators.json").read_text())
            session = next(one["session"] for one in listed if one.get("holder") == "yard")
            worst = 0
            for who, header in (("an administrator", [f"Authorization: Bearer {session}"]), ("everybody", [])):
                print(f"Asked by {who}:", flush=True)
                words = [tool, "run", f"{url}/openapi.json", "--checks", CHECKS, "--phases", "coverage,fuzzing"]
                words += ["--tls-verify", said["authority"], "--max-time", str(seconds // 2), "--seed", "7"]
                words += [part for name in header for part in ("-H", name)]
                worst = max(worst, subprocess.run(words, check=False).returncode)
            return worst
        finally:
            subprocess.run([*enthesis, "lab", "stop", "--clean"], cwd=folder, capture_output=True, check=False)


if __name__ == "__main__":
    sys.exit(main(*map(int, sys.argv[1:2])))

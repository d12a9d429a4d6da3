"""Recorded use: collected from live systems, read alike from two forms; what says nothing leads to nothing."""

import json
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from enthesis.cleaning.usage import Summing
from enthesis.files.folder import read_texts
from enthesis.text.times import time_text

from .conftest import Lab, Program, start_lab, write_estate

NOW = datetime.now(UTC).replace(microsecond=0)
TEXT = """\
estate: yard
organisations: {works: {}}
providers: {north: {style: one-sided}}
accounts: {left: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc}}
resources: {left/bucket/a: {}, left/bucket/b: {}}
identities:
  left/identity/busy: {kind: service-account, owner: web, purpose: serves}
  left/identity/idle: {kind: service-account, owner: web, purpose: served}
roles: {everything: {allows: {object: ["*"]}}}
trusts:
  - {of: left/identity/busy, admits: {token: forge, claims: {sub: a, aud: north}}}
  - {of: left/identity/idle, admits: {token: forge, claims: {sub: b, aud: north}}}
grants:
  - {to: left/identity/busy, role: everything, at: left}
"""


def row(days: float, **more: Any) -> dict[str, Any]:
    plain = {
        "time": time_text(NOW - timedelta(days=days)), "caller": "a", "identity": "left/identity/busy", "verb": "read",
        "target": "left/bucket/a/object/x", "outcome": "allowed",
    }  # fmt: skip
    return {**plain, **more}


ROWS = [row(200), row(1), row(1), row(2, verb="write"), row(3, outcome="refused", target="left/bucket/b/object/x")]
ODD = [
    row(1, identity="other/identity/x"), row(1, verb="frobnicate"), row(-30), row(1, outcome="perhaps"),
    row(1, identity=None), row(1, target=None),
]  # fmt: skip


def test_a_log_is_summed_up_and_what_says_nothing_is_counted() -> None:
    estate = read_texts({"estate.yaml": TEXT}).estate
    assert estate is not None
    summing = Summing(estate, NOW)
    summing.add_rows([*ROWS, *ODD, "no object", {"time": "soon"}])
    usage = summing.usage
    assert {deed.triple[1:]: used.count for deed, used in usage.used.items()} == {
        ("read", "left/bucket/a/object/x"): 3, ("write", "left/bucket/a/object/x"): 1,
    }  # fmt: skip
    assert usage.refused == 1 and usage.bearers == 1 and usage.rows == len(ROWS) + len(ODD) + 2
    assert sum(usage.ignored.values()) == len(ODD) - 1 + 2 and usage.span == timedelta(days=199)


def test_both_forms_say_the_same_and_a_sweep_heeds_them(enthesis: Program, tmp_path: Path) -> None:
    import pyarrow
    from pyarrow import parquet

    folder = write_estate(tmp_path / "yard", {"estate.yaml": TEXT})
    rows = [*ROWS, *ODD]
    place = tmp_path / "log.jsonl"
    place.write_text("".join(json.dumps(one) + "\n" for one in rows) + "no JSON\n\n")
    columns = {name: [one[name] for one in rows] for name in rows[0]}
    texts, times = tmp_path / "texts.parquet", tmp_path / "times.parquet"
    parquet.write_table(pyarrow.table(columns), texts)
    stamps = [datetime.fromisoformat(one["time"]) for one in rows]
    parquet.write_table(
        pyarrow.table({**columns, "time": pyarrow.array(stamps, pyarrow.timestamp("us", "UTC"))}), times
    )
    found = {
        file.name: enthesis("sweep", "--usage", str(file), "--format", "json", at=folder).json["findings"]
        for file in (place, texts, times)
    }
    assert found["log.jsonl"] == found["texts.parquet"] == found["times.parquet"]
    codes = {one["code"]: one for one in found["log.jsonl"]}
    assert codes["identity-unused"]["about"] == ["left/identity/idle"]
    assert "all recorded use is in left/bucket/a" in codes["wider-than-used"]["message"]
    write = codes["wider-than-used"]["fixes"][0]["write"]
    assert enthesis("sweep", "--usage", str(place), "--write", str(write), at=folder).code == 1
    assert "role: everything, at: left/bucket/a}" in (folder / "estate.yaml").read_text()
    for wrong in ("none.jsonl", "none.parquet"):
        assert enthesis("sweep", "--usage", str(tmp_path / wrong), at=folder).code == 2
    (tmp_path / "bad.parquet").write_bytes(b"PAR1 nothing")
    assert enthesis("sweep", "--usage", str(tmp_path / "bad.parquet"), at=folder).code == 2
    (tmp_path / "empty.jsonl").write_text("")
    empty = enthesis("sweep", "--usage", str(tmp_path / "empty.jsonl"), "--format", "json", at=folder)
    assert not [one for one in empty.json["findings"] if one["code"] == "identity-unused"]


def test_what_the_lab_recorded_is_collected(enthesis: Program, fresh_lab: Lab) -> None:
    assert enthesis(
        "enact", "--yes", "--accept", "power-gained", "--accept", "outside-gains", at=fresh_lab.folder
    ).code in (0, 2)
    enthesis("prove", at=fresh_lab.folder)
    assert enthesis("survey", "usage", "u.jsonl", at=fresh_lab.folder).code == 0
    lines = [json.loads(one) for one in (fresh_lab.folder / "u.jsonl").read_text().splitlines()]
    assert lines[0]["enthesis"] == "usage" and len(lines) >= 5
    assert {one["outcome"] for one in lines[1:]} <= {"allowed", "refused"}
    assert all({"time", "caller", "verb", "target", "outcome"} <= one.keys() for one in lines[1:])
    assert enthesis("survey", "usage", "u.parquet", at=fresh_lab.folder).code == 0
    sums = [
        enthesis("sweep", "--usage", name, "--format", "json", at=fresh_lab.folder).json["findings"]
        for name in ("u.jsonl", "u.parquet")
    ]
    assert sums[0] == sums[1]


CLUSTERED = """
estate: works
organisations: {works: {}}
providers: {north: {style: one-sided}}
accounts: {yard: {in: "@works", provider: north}}
roles: {seeing: {allows: {secret: [read], workload: [list]}}}
resources:
  yard/cluster/grid: {}
  yard/cluster/grid/namespace/tiles: {}
  yard/cluster/grid/namespace/tiles/secret/db: {}
identities:
  "@works/identity/ada": {kind: person, owner: works}
  yard/cluster/grid/namespace/tiles/identity/reader: {kind: cluster-service-account, owner: web, purpose: reads}
  yard/cluster/grid/namespace/tiles/identity/idle: {kind: cluster-service-account, owner: web, purpose: idles}
grants:
  - {to: yard/cluster/grid/namespace/tiles/identity/reader, role: seeing, at: yard/cluster/grid/namespace/tiles}
  - {to: yard/cluster/grid/namespace/tiles/identity/idle, role: seeing, at: yard/cluster/grid/namespace/tiles}
journeys:
  reads: {from: {identity: yard/cluster/grid/namespace/tiles/identity/reader},
    attempt: read yard/cluster/grid/namespace/tiles/secret/db, expect: allowed}
  comes-in: {from: {person: "@works/identity/ada", mfa: true}, attempt: describe yard, expect: refused}
"""
AUDITED: list[dict[str, Any]] = [
    {"stage": "RequestReceived", "verb": "get"},
    {"verb": "get", "objectRef": {"resource": "secrets", "namespace": "tiles", "name": "db"}},
    {"verb": "create", "objectRef": {"resource": "pods", "subresource": "exec", "namespace": "tiles", "name": "p"}},
    {"verb": "list", "objectRef": {"resource": "deployments", "apiGroup": "apps", "namespace": "tiles"}},
    {"verb": "get", "requestURI": "/healthz/etcd?verbose"},
    {"verb": "get", "objectRef": {"resource": "namespaces", "namespace": "tiles", "name": "tiles"},
     "user": {"username": "https://i#a"}, "impersonatedUser": {"username": "system:serviceaccount:tiles:idle"}},
    {"verb": "delete", "objectRef": {"resource": "nodes", "name": "n"}, "user": {"username": "system:node:n"},
     "annotations": {"authorization.k8s.io/decision": "forbid"}},
    {"verb": "get", "annotations": {}},
]  # fmt: skip


def test_clusters_and_directories_record_use_and_audit_logs_are_read(enthesis: Program, tmp_path: Path) -> None:
    place = write_estate(tmp_path / "works", {"estate.yaml": CLUSTERED})
    try:
        start_lab(enthesis, place)
        assert enthesis("enact", "--yes", at=place).code == 0
        enthesis("prove", at=place)
        assert enthesis("survey", "usage", "u.jsonl", at=place).code == 0
        rows = [json.loads(one) for one in (place / "u.jsonl").read_text().splitlines()[1:]]
        told = {(one["identity"].rsplit("/")[-1], one["verb"], one["target"], one["outcome"]) for one in rows}
        assert ("reader", "read", "yard/cluster/grid/namespace/tiles/secret/db", "allowed") in told
        assert [one["identity"] for one in rows if one["verb"] == "enter"] == ["@works/identity/ada"]
    finally:
        enthesis("lab", "stop", "--clean", at=place)
    usual = {
        "stage": "ResponseComplete", "requestReceivedTimestamp": "2026-11-25T10:00:00.123456Z",
        "user": {"username": "system:serviceaccount:tiles:reader"}, "sourceIPs": ["192.0.2.7"],
        "annotations": {"authorization.k8s.io/decision": "allow", "authorization.k8s.io/reason": "RBAC: x"},
    }  # fmt: skip
    lines = [json.dumps({**usual, **one}) for one in AUDITED]
    (place / "audit.log").write_text("\n".join([*lines, "nonsense", "3", "{}"]))
    log = "yard/cluster/grid=audit.log"
    assert enthesis("survey", "usage", "a.jsonl", "--audit-log", log, at=place).code == 0
    rows = [json.loads(one) for one in (place / "a.jsonl").read_text().splitlines()[1:]]
    stem = "yard/cluster/grid/namespace/tiles"
    assert [(one["verb"], one["target"]) for one in rows] == [
        ("read", f"{stem}/secret/db"), ("login", f"{stem}/workload/p"), ("list", f"{stem}/deployments.apps/any"),
        ("fetch", "yard/cluster/grid/api-path/healthz/etcd="), ("fetch", stem), ("delete", "yard/cluster/grid/nodes/n"),
    ]  # fmt: skip
    assert rows[0]["time"] == "2026-11-25T10:00:00Z" and rows[0]["network"] == "192.0.2.7"
    assert rows[4]["caller"] == "@works/identity/https:%2F%2Fi#a" and rows[4]["identity"].endswith("identity/idle")
    assert rows[5]["identity"] == "yard/identity/system:node:n" and rows[5]["outcome"] == "refused"
    for wrong in ("yard/bucket/b=audit.log", "yard/cluster/grid=none.log", "nothing"):
        assert enthesis("survey", "usage", "b.jsonl", "--audit-log", wrong, at=place).code == 2

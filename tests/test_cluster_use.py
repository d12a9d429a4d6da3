"""Clusters changed, proved, lent and trusted: with the program, and with the official client beside it."""

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import yaml
from kubernetes import client as official
from kubernetes import config as official_config

from .clusters import GRID, RBAC, Api, cluster_lab, group, service_account
from .conftest import Program, write_estate
from .test_cluster import kubeconfig

NOWCAST, TILES = f"{GRID}/namespace/nowcast", f"{GRID}/namespace/tiles"
CLEANER = f"{NOWCAST}/identity/cleaner"
ESTATE = """
estate: grid
organisations: {saltmarsh: {}}
providers: {highmoor: {style: one-sided}}
accounts: {surge: {in: "@saltmarsh", provider: highmoor}}
issuers: {grid: {kind: oidc, cluster: surge/cluster/grid}}
resources:
  surge/cluster/grid: {}
  surge/cluster/grid/namespace/nowcast: {}
  surge/cluster/grid/namespace/tiles: {}
  surge/cluster/grid/namespace/nowcast/secret/db: {}
  surge/cluster/grid/namespace/nowcast/secret/feed: {}
  surge/cluster/grid/namespace/nowcast/workload/job-1: {runs_as: surge/cluster/grid/namespace/nowcast/identity/default}
  surge/bucket/forecasts: {}
identities:
  surge/cluster/grid/namespace/nowcast/identity/default: {kind: cluster-service-account}
  surge/cluster/grid/namespace/nowcast/identity/cleaner:
    {kind: cluster-service-account, purpose: "a \\"quoted\\": {word}\\n- and a line", labels: {app: nowcast}}
  surge/identity/uploader: {kind: service-account}
trusts:
  - {of: surge/cluster/grid/namespace/nowcast/identity/default, admits: {attached: true}}
  - of: surge/identity/uploader
    admits: {token: grid, claims: {sub: "system:serviceaccount:nowcast:cleaner", aud: highmoor}}
    session: 15m
roles:
  cleaning: {allows: {workload: [list, delete]}}
  secret-reading: {allows: {secret: [read]}}
  forecasting: {allows: {object: [write]}}
grants:
  - to: surge/cluster/grid/namespace/nowcast/identity/cleaner
    role: cleaning
    at: surge/cluster/grid/namespace/nowcast
  - to: surge/cluster/grid/namespace/nowcast/identity/cleaner
    role: secret-reading
    at: surge/cluster/grid/namespace/nowcast/secret/db
  - {to: surge/identity/uploader, role: forecasting, at: surge/bucket/forecasts}
"""
CLEANS = """\
  - to: surge/cluster/grid/namespace/nowcast/identity/cleaner
    role: cleaning
    at: surge/cluster/grid/namespace/nowcast
"""
JOURNEYS = """
journeys:
  cleans-its-own:
    from: {identity: surge/cluster/grid/namespace/nowcast/identity/cleaner}
    attempt: delete surge/cluster/grid/namespace/nowcast/workload/job-1
    expect: allowed
  not-the-next:
    from: {identity: surge/cluster/grid/namespace/nowcast/identity/cleaner}
    attempt: list surge/cluster/grid/namespace/tiles/workload/any
    expect: refused
    refused_at: target-side
  one-secret: {from: {identity: surge/cluster/grid/namespace/nowcast/identity/cleaner},
    attempt: read surge/cluster/grid/namespace/nowcast/secret/db, expect: allowed}
  not-the-other: {from: {identity: surge/cluster/grid/namespace/nowcast/identity/cleaner},
    attempt: read surge/cluster/grid/namespace/nowcast/secret/feed, expect: refused, refused_at: target-side}
  what-runs: {from: {workload: surge/cluster/grid/namespace/nowcast/workload/job-1},
    through: [surge/cluster/grid/namespace/nowcast/identity/default],
    attempt: list surge/cluster/grid/namespace/nowcast/workload/job-1,
    expect: refused, refused_at: target-side, keyless: true}
  runs-as-another: {from: {workload: surge/cluster/grid/namespace/nowcast/workload/job-1},
    through: [surge/cluster/grid/namespace/nowcast/identity/cleaner], expect: refused, refused_at: target-side}
  uploads: {from: {token: grid, claims: {sub: "system:serviceaccount:nowcast:cleaner", aud: highmoor}},
    through: [surge/identity/uploader], attempt: write surge/bucket/forecasts/object/a, expect: allowed, keyless: true}
  not-from-another: {from: {token: grid, claims: {sub: "system:serviceaccount:nowcast:default", aud: highmoor}},
    through: [surge/identity/uploader], expect: refused, refused_at: target-side}
  not-for-another: {from: {token: grid, claims: {sub: "system:serviceaccount:nowcast:cleaner", aud: elsewhere}},
    through: [surge/identity/uploader], expect: refused, refused_at: target-side}
"""


@pytest.fixture
def grid(enthesis: Program, tmp_path: Path) -> Iterator[tuple[Path, Api]]:
    """A lab with a cluster and a cloud, nothing enacted."""
    folder = write_estate(tmp_path / "grid", {"estate.yaml": ESTATE, "expected.yaml": JOURNEYS})
    with cluster_lab(enthesis, folder) as api:
        yield folder, api


def edited(folder: Path, old: str, new: str) -> None:
    text = (folder / "estate.yaml").read_text()
    assert old in text
    (folder / "estate.yaml").write_text(text.replace(old, new))


def test_from_nothing_to_proved_and_withdrawn(enthesis: Program, grid: tuple[Path, Api]) -> None:
    folder, api = grid
    assert enthesis("check", at=folder).code == 0
    ran = enthesis("enact", "--yes", at=folder)
    assert ran.code == 0, ran.err
    assert enthesis("propose", "--expect-none", at=folder).code == 0
    ran = enthesis("prove", at=folder)
    assert ran.code == 0, ran.out
    for option in ("--near-misses", "--replay"):
        ran = enthesis("prove", option, "--allow-untried", at=folder)  # nobody else is near its only workload
        assert ran.code == 0, ran.out
    # a role is defined once and bound in one namespace only; a grant at one secret is bound to that name alone
    roles = api.http.get(f"/apis/{RBAC}/v1/clusterroles").json()["items"]
    ours = [one for one in roles if one["metadata"].get("labels", {}).get("app.kubernetes.io/managed-by") == "enthesis"]
    assert {one["metadata"]["name"] for one in ours} == {"grid:cleaning", "grid:secret-reading"}
    bindings = api.http.get(f"/apis/{RBAC}/v1/rolebindings").json()["items"]
    assert {one["metadata"]["namespace"] for one in bindings} == {"nowcast"}
    (named,) = api.http.get(f"/apis/{RBAC}/v1/roles").json()["items"]
    assert named["rules"] == [{"apiGroups": [""], "resources": ["secrets"], "verbs": ["get"], "resourceNames": ["db"]}]
    # what has ended opens nothing; what is withdrawn is refused
    assert enthesis("prove", "--expiry", "--allow-untried", at=folder).code == 0
    assert enthesis("lab", "start", at=folder).code == 0
    edited(folder, CLEANS, "")
    ran = enthesis("enact", "--yes", "--prune", at=folder)
    assert ran.code == 0, ran.err
    ran = enthesis("prove", "cleans-its-own", "one-secret", at=folder)
    assert ran.code == 1
    assert "cleans-its-own  failed       refused at target-side" in ran.out
    assert "one-secret      as expected  allowed" in ran.out


def test_only_what_we_made_is_altered(enthesis: Program, grid: tuple[Path, Api]) -> None:
    folder, api = grid
    api.account("nowcast", "by-hand")
    api.role("by-hand", [{"apiGroups": [""], "resources": ["pods"], "verbs": ["get"]}])
    api.binding("by-hand", "by-hand", [service_account("nowcast", "by-hand")], "nowcast")
    before = [api.http.get(f"/apis/{RBAC}/v1/{one}").json()["items"] for one in ("clusterroles", "rolebindings")]
    assert enthesis("enact", "--yes", at=folder).code == 0
    edited(folder, "cleaning: {allows: {workload: [list, delete]}}", "cleaning: {allows: {workload: [list]}}")
    ran = enthesis("propose", at=folder)
    assert (
        "grid: 1 statement different." in ran.out
        and "allows from {workload: [list, delete]} to {workload: list}" in ran.out
    )
    assert "made by others, left alone" in ran.out and f"{NOWCAST}/identity/by-hand" in ran.out
    assert "identity/default" not in ran.out
    assert enthesis("enact", "--yes", "--prune", at=folder).code == 0
    after = [api.http.get(f"/apis/{RBAC}/v1/{one}").json()["items"] for one in ("clusterroles", "rolebindings")]
    for old, new in zip(before, after, strict=True):
        names = {one["metadata"]["name"]: one for one in new}
        assert all(names[one["metadata"]["name"]] == one for one in old)
    # drift by hand is seen and mended; a binding of ours that somebody widened too
    role = api.http.get(f"/apis/{RBAC}/v1/clusterroles/grid:cleaning").json()
    role["rules"][0]["verbs"] = ["list", "delete"]
    assert api.http.put(f"/apis/{RBAC}/v1/clusterroles/grid:cleaning", json=role).status_code == 200
    binding = next(one for one in after[1] if one["metadata"]["name"].startswith("enthesis-"))
    path = f"/apis/{RBAC}/v1/namespaces/nowcast/rolebindings/{binding['metadata']['name']}"
    widened = {**binding, "subjects": [*binding["subjects"], service_account("tiles", "default")]}
    assert api.http.put(path, json=widened).status_code == 200
    ran = enthesis("propose", "--expect-none", at=folder)
    assert ran.code == 1 and "changed by hand" in ran.out and "grid: 2 statements different." in ran.out
    assert enthesis("enact", "--yes", at=folder).code == 0
    assert enthesis("propose", "--expect-none", at=folder).code == 0
    # and one of our names that somebody else has is left alone
    api.http.delete(f"/apis/{RBAC}/v1/clusterroles/grid:cleaning")
    api.role("grid:cleaning", [{"apiGroups": [""], "resources": ["pods"], "verbs": ["list"]}])
    ran = enthesis("enact", "--yes", at=folder)
    assert ran.code == 4 and "that is not ours" in ran.out


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("cleaning: {allows: {workload: [list, delete]}}", "cleaning: {allows: {'*': ['*']}}", "one by one"),
        ("cleaning: {allows: {workload: [list, delete]}}", "cleaning: {allows: {queue: [send]}}", "knows no send on a"),
        ("    role: cleaning\n", "    role: cleaning\n    until: '2999-01-01T00:00:00Z'\n", "no end"),
        (CLEANS, CLEANS.replace("surge/cluster/grid/namespace/nowcast/identity/cleaner", "surge/identity/uploader"),
         "it knows its own service accounts"),
        ("labels: {app: nowcast}", "labels: {app: 'a b'}", "takes no label app: a b"),
        ("admits: {attached: true}", "admits: {identity: surge/identity/uploader}", "holds no trusts"),
    ],
)  # fmt: skip
def test_what_a_cluster_cannot_hold_is_said_before_anything_is_done(
    enthesis: Program, grid: tuple[Path, Api], old: str, new: str, says: str
) -> None:
    folder, api = grid
    (folder / "expected.yaml").unlink()
    edited(folder, old, new)
    ran = enthesis("propose", at=folder)
    assert "not possible" in ran.out and says in ran.out, ran.out + ran.err
    assert api.http.get(f"/apis/{RBAC}/v1/rolebindings").json()["items"] == []


def test_an_administrator_who_lacks_a_right_is_told_and_nothing_is_half_done(
    enthesis: Program, grid: tuple[Path, Api]
) -> None:
    folder, api = grid
    place = folder / ".enthesis" / "lab" / "administrators.json"
    listed = json.loads(place.read_text())
    api.account("tiles", "weak")
    asked = {"spec": {"audiences": [api.url]}}
    weak = api.made("/api/v1/namespaces/tiles/serviceaccounts/weak/token", asked)["status"]["token"]
    changed = [{**one, "session": weak} if "cluster" in one else one for one in listed]
    place.write_text(json.dumps(changed))
    ran = enthesis("enact", "--yes", at=folder)
    assert ran.code == 3
    assert "refused us" in ran.err and "cannot list resource" in ran.err and weak not in ran.err
    assert api.http.get("/api/v1/serviceaccounts").json()["items"][-1]["metadata"]["name"] == "weak"


def test_a_lent_kubeconfig_works_with_the_official_client_unchanged(
    enthesis: Program, grid: tuple[Path, Api], tmp_path: Path
) -> None:
    folder, _ = grid
    assert enthesis("enact", "--yes", at=folder).code == 0
    file = tmp_path / "lent.config"
    ran = enthesis("lend", CLEANER, "--write-kubeconfig", str(file), at=folder)
    assert ran.code == 0, ran.err
    assert file.stat().st_mode & 0o777 == 0o600
    text = file.read_text()
    assert "eyJ" not in text and '"token"' not in text
    loaded: Any = official_config
    with loaded.new_client_from_config(config_file=str(file)) as api_client:
        core: Any = official.CoreV1Api(api_client)
        assert [one.metadata.name for one in core.list_namespaced_pod("nowcast").items] == ["job-1"]
        assert core.read_namespaced_secret("db", "nowcast").metadata.name == "db"
        for refused, words in (
            (core.list_namespaced_pod, ("tiles",)),
            (core.read_namespaced_secret, ("feed", "nowcast")),
        ):
            with pytest.raises(official.ApiException) as caught:
                refused(*words)
            assert caught.value.status == 403
    for version in ("v1beta1", "v1"):
        written = ("lend", CLEANER, "--write-kubeconfig", str(file), "--client-version", version, "--overwrite")
        assert enthesis(*written, at=folder).code == 0
        entry = json.loads(file.read_text())["users"][0]["user"]["exec"]
        assert entry["apiVersion"] == f"client.authentication.k8s.io/{version}"
        for asked in ({}, {"KUBERNETES_EXEC_INFO": json.dumps({"apiVersion": entry["apiVersion"]})}):
            ran = enthesis(*entry["args"][entry["args"].index("lend") :], at=tmp_path, **asked)
            assert ran.json["apiVersion"] == entry["apiVersion"] and ran.json["status"]["token"]
    said = json.dumps({"apiVersion": "client.authentication.k8s.io/v9"})
    ran = enthesis("lend", CLEANER, "--to-client", "v1", at=folder, KUBERNETES_EXEC_INFO=said)
    assert ran.code == 2 and "eyJ" not in ran.out
    assert enthesis("lend", CLEANER, "--write-kubeconfig", "x", "--client-version", "v9", at=folder).code == 2
    for wrong in ("surge/identity/uploader", f"{NOWCAST}/identity/nobody"):
        assert enthesis("lend", wrong, "--write-kubeconfig", str(file), at=folder).code in (2, 3)
    assert enthesis("lend", CLEANER, at=folder).code == 2


def test_a_token_of_a_cluster_is_checked_with_its_published_keys(
    enthesis: Program, grid: tuple[Path, Api], tmp_path: Path
) -> None:
    folder, api = grid
    assert enthesis("enact", "--yes", at=folder).code == 0
    path = "/api/v1/namespaces/nowcast/serviceaccounts/{}/token"
    for name, audience, code in (("cleaner", "highmoor", 0), ("default", "highmoor", 1), ("cleaner", "other", 1)):
        asked = {"spec": {"audiences": [audience]}}
        token = api.made(path.format(name), asked)["status"]["token"]
        ran = enthesis("admit", "surge/identity/uploader", "--token", "-", at=folder, stdin=token)
        assert ran.code == code, ran.out
        assert code or "signed  with a key of grid" in ran.out


def test_an_issuer_that_is_no_cluster_is_an_error(enthesis: Program, tmp_path: Path) -> None:
    for old, new in (("cluster: surge/cluster/grid}", "cluster: surge/cluster/other}"),
                     ("cluster: surge/cluster/grid}", "cluster: surge/bucket/forecasts}"),
                     ("kind: oidc, cluster", "kind: saml, cluster")):  # fmt: skip
        text = ESTATE.replace(old, new)
        assert text != ESTATE
        assert enthesis("check", at=write_estate(tmp_path, {"estate.yaml": text})).code == 2


def test_a_cluster_set_up_by_hand_is_taken_over_without_changing_it(enthesis: Program, grid: tuple[Path, Api]) -> None:
    folder, api = grid
    for name in ("worker", "viewer"):
        api.account("tiles", name)
    core = {"apiGroups": [""]}
    api.role("sweeping", [{**core, "resources": ["pods", "configmaps"], "verbs": ["get", "list", "delete"]}], "tiles")
    api.binding("sweeping", "sweeping", [service_account("tiles", "worker")], "tiles", of_cluster=False)
    api.made("/api/v1/namespaces/tiles/secrets", {"metadata": {"name": "a"}})
    odd = 'odd: "q" {x}'
    api.role(odd, [{**core, "resources": ["pods"], "verbs": ["list"]}])
    api.binding(odd, odd, [service_account("tiles", "viewer")], "tiles")
    api.role("one-of", [{**core, "resources": ["secrets"], "verbs": ["get"], "resourceNames": ["a", "no-such"]}])
    api.binding("one-of", "one-of", [service_account("tiles", "viewer"), {"kind": "User", "name": "ines"}], "tiles")
    api.binding("seeing", "view", [{"kind": "Group", "name": "system:serviceaccounts:tiles"}], "tiles")
    api.binding("on-call", odd, [group("on-call"), group("system:authenticated")], "tiles")
    everything = [f"/apis/{RBAC}/v1/{one}" for one in ("clusterroles", "roles", "rolebindings", "clusterrolebindings")]
    everything += ["/api/v1/serviceaccounts", "/api/v1/namespaces", "/api/v1/secrets"]
    (folder / "estate.yaml").write_text(HAND)
    (folder / "expected.yaml").unlink()
    before = [api.http.get(one).json()["items"] for one in everything]
    ran = enthesis("survey", "adopt", TILES, at=folder)
    assert ran.code == 0, ran.err
    assert "no-such, which does not exist" in ran.err
    assert "surge/group/on-call is granted" in ran.err and "its identity is unknown" in ran.err
    text = (folder / "estate.yaml").read_text()
    assert text.startswith(HAND.split("  surge/cluster/grid: {}\n", 1)[0])
    assert "# by hand, and to stay\n" in text and "sweeping" in text and "nowcast" not in text
    assert enthesis("check", "-q", at=folder).code == 0
    ran = enthesis("propose", "--expect-none", "--format", "json", at=folder)
    opened = [one["sentence"].removesuffix(" (surge)") for one in ran.json["openings"]]  # what could not be described
    assert ran.code == 1 and len(opened) == 2 and all("no-such" in one for one in opened), ran.out
    for name in ("on-call", "system:authenticated"):
        assert any(f"to surge/group/{name} at" in one for one in ran.json["not_ours"])
    entry = "because: 'made by hand, to go with the old viewer', until: '2099-01-01T00:00:00Z'"
    accepted = "".join(f"- {{risk: not-ours, of: '{one}', {entry}}}\n" for one in opened)
    (folder / "accepted.yaml").write_text(f"accepted:\n{accepted}")
    ran = enthesis("propose", "--expect-none", at=folder)
    assert ran.code == 0 and "made by others, and accepted" in ran.out, ran.out
    assert enthesis("enact", "--yes", "--prune", at=folder).code == 0
    assert [api.http.get(one).json()["items"] for one in everything] == before
    ran = enthesis("survey", "adopt", TILES, at=folder)
    assert "nothing that was not described" in ran.err and (folder / "estate.yaml").read_text() == text
    # what was adopted is asked about like anything else, and never altered
    who = f"{TILES}/identity/worker"
    assert enthesis("trace", "delete", f"{TILES}/workload/any", "--from", who, at=folder).code == 0
    assert enthesis("trace", "fetch", f"{TILES}/secret/a", "--from", who, at=folder).code in (1, 2)
    (folder / "estate.yaml").write_text(text.replace("configmaps: [delete, fetch, list]", "configmaps: [list]"))
    ran = enthesis("propose", at=folder)
    assert "Enthesis did not make it for this estate" in ran.out
    for wrong in ("surge/bucket/b", "surge/cluster/other", f"{GRID}/namespace"):
        assert enthesis("survey", "adopt", wrong, at=folder).code == 2


HAND = """\
# an estate that knows of a cluster and of little in it
estate: grid
organisations: {saltmarsh: {}}
providers: {highmoor: {style: one-sided}}
accounts: {surge: {in: "@saltmarsh", provider: highmoor}}   # one account

resources:
  surge/cluster/grid: {}
  # by hand, and to stay
  surge/bucket/forecasts: {}
"""


def test_manifests_are_plain_yaml_that_any_client_applies(
    enthesis: Program, grid: tuple[Path, Api], tmp_path: Path
) -> None:
    folder, api = grid
    out = tmp_path / "manifests"
    ran = enthesis("propose", "--manifests", str(out), at=folder)
    assert ran.code == 0, ran.err
    files = sorted((out / "grid").iterdir())
    objects = [yaml.safe_load(one.read_text()) for one in files]
    assert {one["kind"] for one in objects} == {"ServiceAccount", "ClusterRole", "Role", "RoleBinding"}
    (cleaner,) = [one for one in objects if one["kind"] == "ServiceAccount" and one["metadata"]["name"] == "cleaner"]
    said = json.loads(cleaner["metadata"]["annotations"]["enthesis.example/statement"])
    assert said["purpose"] == 'a "quoted": {word}\n- and a line'  # nothing is injected by what is written in an estate
    before = [one.read_bytes() for one in files]
    assert enthesis("propose", "--manifests", str(out), at=folder).code == 0
    assert [one.read_bytes() for one in files] == before
    for one in sorted(objects, key=lambda one: one["kind"] == "RoleBinding"):
        if one["metadata"]["name"] == "default":
            continue  # which every namespace has
        space = one["metadata"].get("namespace")
        base = "/api/v1" if one["apiVersion"] == "v1" else f"/apis/{one['apiVersion']}"
        api.made(f"{base}{f'/namespaces/{space}' if space else ''}/{one['kind'].lower()}s", one)
    ran = enthesis("propose", at=folder)
    assert "surge at surge/cluster/grid" not in ran.out and "surge at highmoor" in ran.out
    edited(folder, "cleaning: {allows: {workload: [list, delete]}}", "cleaning: {allows: {queue: [send]}}")
    ran = enthesis("propose", "--manifests", str(tmp_path / "none"), at=folder)
    assert ran.code == 2 and "knows no send on a queue" in ran.err and not (tmp_path / "none").exists()


def test_tokens_are_checked_offline_with_keys_that_were_surveyed(
    enthesis: Program, grid: tuple[Path, Api], tmp_path: Path
) -> None:
    folder, api = grid
    assert enthesis("enact", "--yes", at=folder).code == 0
    asked = {"spec": {"audiences": ["highmoor"]}}
    token = api.made("/api/v1/namespaces/nowcast/serviceaccounts/cleaner/token", asked)["status"]["token"]
    keys = tmp_path / "keys.jsonl"
    assert enthesis("survey", "--issuer", "grid", "--out", str(keys), at=folder).code == 0
    words = ("admit", "surge/identity/uploader", "--token", "-", "--offline", "--survey", str(keys))
    ran = enthesis(*words, at=folder, stdin=token)
    assert ran.code == 0, ran.out
    assert "signed  with a key of grid" in ran.out and "as published at 20" in ran.out
    forged = token.rsplit(".", 1)[0] + "." + "A" * 342
    assert "its signature is wrong" in enthesis(*words, at=folder, stdin=forged).out
    ran = enthesis("survey", "--issuer", "nobody", at=folder)
    assert ran.code == 2 and "unknown issuer nobody" in ran.err.lower()
    ran = enthesis("survey", "--issuer", "https://127.0.0.1:1", "--out", "k.jsonl", at=tmp_path)
    assert ran.code == 3 and "cannot be reached" in ran.err


def test_a_cluster_that_is_no_lab_is_changed_and_proved_by_its_kubeconfig(
    enthesis: Program, grid: tuple[Path, Api], tmp_path: Path
) -> None:
    """The cluster of another estate's lab stands for somebody's own: only a kubeconfig leads there."""
    _, api = grid
    mine = write_estate(tmp_path / "mine", {"estate.yaml": ESTATE, "expected.yaml": JOURNEYS})
    (tmp_path / "config").write_text(kubeconfig(api, api.token))
    way = ("--kubeconfig", str(tmp_path / "config"))
    ran = enthesis("propose", *way, "--quiet", at=mine)
    assert ran.code == 3 and ran.out.startswith("Partial survey"), ran.out
    assert "  highmoor: it was not looked at" in ran.out and "surge at highmoor" not in ran.out
    lives_with = "{unread: highmoor, at: surge, because: it has no lab, until: 2999-01-01T00:00:00Z}"
    (mine / "expected.yaml").write_text(f"{JOURNEYS}accepted: [{lives_with}]\n")
    ran = enthesis("propose", *way, "--out", "p.json", at=mine)
    assert ran.code == 0, ran.err
    assert enthesis("enact", "p.json", "--yes", *way, at=mine).code == 0
    there = enthesis("propose", "--expect-none", *way, at=mine)
    assert there.code == 0 and "in place as far as it was looked at" in there.out
    names = ("cleans-its-own", "not-the-next", "one-secret", "not-the-other", "what-runs", "runs-as-another")
    ran = enthesis("prove", *names, *way, at=mine)
    assert ran.code == 0, ran.out
    ran = enthesis("prove", "uploads", *way, at=mine)
    assert ran.code == 1 and "no connection is configured for the provider highmoor" in ran.out
    ran = enthesis("propose", at=mine)
    assert ran.code == 3 and "say how systems are reached" in ran.err
    listed = tmp_path / "connections.yaml"
    listed.write_text(f"{ESTATE.partition('estate: ')[2].split()[0]}: {{{GRID}: {{kubeconfig: config}}}}\n")
    said = {"ENTHESIS_CONNECTIONS": str(listed)}
    assert enthesis("propose", "--expect-none", at=mine, **said).code == 0, "as the file of connections says"
    tried = enthesis("connections", "try", at=mine, **said)
    assert tried.code == 0 and "may be changed as the estate wants" in tried.out, tried.out
    swept = enthesis("sweep", "--ask", "--format", "json", at=mine, **said)
    assert "findings" in swept.json, swept.out + swept.err
    lent = tmp_path / "lent.config"
    words = ("lend", CLEANER, "--kubeconfig", str(tmp_path / "config"), "--write-kubeconfig", str(lent))
    assert enthesis(*words, at=mine).code == 0
    surveying = ("survey", "--cluster", GRID, "--namespace", "nowcast", "--kubeconfig", str(lent), "--out", "s")
    ran = enthesis(*surveying, at=mine)
    assert ran.code == 3 and "3 resources" in ran.err


@pytest.mark.attack("one account on another")
def test_an_aggregated_role_gives_nobody_more_than_they_have(grid: tuple[Path, Api]) -> None:
    """Who may only create roles makes none that takes in the rules of others."""
    _, api = grid
    api.account("tiles", "maker")
    group, path = "rbac.authorization.k8s.io", f"/apis/{RBAC}/v1/clusterroles"
    api.role("making", [{"apiGroups": [group], "resources": ["clusterroles"], "verbs": ["create", "update"]}])
    api.binding("making", "making", [service_account("tiles", "maker")])
    asked = {"spec": {"audiences": [api.url]}}
    token = api.made("/api/v1/namespaces/tiles/serviceaccounts/maker/token", asked)["status"]["token"]
    role = {"apiVersion": f"{group}/v1", "kind": "ClusterRole", "metadata": {"name": "gathered"}, "rules": []}
    gathering = {**role, "aggregationRule": {"clusterRoleSelectors": [{"matchLabels": {}}]}}
    as_maker = {"Authorization": f"Bearer {token}"}
    assert api.http.post(path, json=gathering, headers=as_maker).status_code == 403
    assert api.http.post(path, json=role, headers=as_maker).status_code == 201
    assert api.http.post(path, json={**gathering, "metadata": {"name": "by-the-administrator"}}).status_code == 201

"""Clusters: read through their public interface without loss, asked about as a survey, and reviewed by themselves."""

import json
from collections import Counter
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path
from random import Random
from typing import Any

import pytest
from kubernetes import client as official

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import Question
from enthesis.connectors.cluster.paths import exact_place
from enthesis.connectors.cluster.resources import kind_of, verb_of
from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue
from enthesis.model.estate import Attempt, Context, Origin
from enthesis.model.vocabulary import Form
from enthesis.surveys.survey import Survey, read_survey
from enthesis.verdicts.judge import Judge

from .clusters import (
    GRID,
    RBAC,
    Api,
    callers,
    cluster_lab,
    grid_estate,
    group,
    service_account,
    set_up,
    wanted,
)
from .conftest import LONG, Program
from .rbac import Caller

NOW = datetime(2026, 11, 25, tzinfo=UTC)


NOTHING_GIVEN = {"command": "false", "apiVersion": "client.authentication.k8s.io/v1"}
QUESTIONS = 2000 if LONG else 1200


@pytest.fixture(scope="module")
def folder(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A lab with one cluster, and random policies in it."""
    place = grid_estate(tmp_path_factory.mktemp("grid"))
    with cluster_lab(enthesis, place) as api:
        set_up(api, Random(11))
        yield place


@pytest.fixture
def api(enthesis: Program, folder: Path) -> Iterator[Api]:
    found = Api.of(enthesis, folder)
    with found.http:
        yield found


@pytest.fixture
def own(enthesis: Program, tmp_path: Path) -> Iterator[tuple[Path, Api]]:
    """A cluster of a test's own."""
    place = grid_estate(tmp_path / "own")
    with cluster_lab(enthesis, place) as api:
        yield place, api


def surveyed(enthesis: Program, folder: Path, place: Path, *, code: int = 0) -> Survey:
    """The cluster surveyed by the program, and read again."""
    ran = enthesis("survey", "--cluster", GRID, "--out", str(place), at=folder)
    assert ran.code == code, ran.err
    with place.open(encoding="utf-8") as lines:
        return read_survey(lines, place.name, packaged_catalogue(TreeCache(None)))


def target(asked: dict[str, str]) -> str:
    """The place that a request is for, in the estate's words."""
    kind = kind_of((asked["group"], asked["resource"]))
    if asked["resource"] == "namespaces":
        return f"{GRID}/namespace/{asked['name']}"
    where = f"{GRID}/namespace/{asked['namespace']}" if asked["namespace"] else GRID
    return f"{where}/{kind}/{asked['name']}"


def place_of(asked: Mapping[str, str]) -> str:
    """The place of a request for a path of the interface, or for something."""
    return f"{GRID}{exact_place(asked['path'])}" if "path" in asked else target(dict(asked))


def test_questions_to_the_cluster_to_its_survey_and_to_the_documentation_have_the_same_answers(
    enthesis: Program, folder: Path, api: Api, tmp_path: Path
) -> None:
    survey = surveyed(enthesis, folder, tmp_path / "live.jsonl")
    assert survey.complete
    estate = survey.estate
    judge, documented, rng = Judge(compile_estate(estate)), api.documented(), Random(5)
    everybody = [one for one in callers() if one.address in estate.identities]
    assert len(everybody) > 18
    asked: list[tuple[Caller, dict[str, str]]] = []
    requests = wanted(rng)
    allowed, who_is = Counter[str](), Counter[str]()
    differing: list[object] = []
    while len(asked) < QUESTIONS:
        one, caller = next(requests), rng.choice(everybody)
        why = api.may(caller, one)
        if not why and rng.random() < 0.75:
            continue  # so that enough of those asked about are allowed
        asked.append((caller, one))
        allowed[why.rsplit(" ", 1)[-1] if why else ""] += 1
        who_is[caller.address] += bool(why)
        form = Form.PERSON if caller.address.startswith("@") else Form.IDENTITY
        attempt = Attempt(verb_of(one["verb"]), place_of(one))
        verdict = judge.judge(Question(Origin(form, caller.address), (), attempt, Context(), NOW))
        assert "names" not in verdict.refused_at, (one, verdict.first_refused)
        if not verdict.allowed == bool(why) == documented.allows(caller, one):
            differing.append((caller, one, why, verdict.allowed, documented.allows(caller, one)))
    assert not differing, differing[:5]
    assert allowed[""] < 0.6 * QUESTIONS
    assert len(allowed) > 15  # many bindings decided some
    for kind in ("namespace/tiles", "anybody of ops", "anybody else", "issuer.example", "system:anonymous"):
        assert any(kind in address and count for address, count in who_is.items()), kind
    assert sum("path" in one for _, one in asked) > QUESTIONS / 40


def test_each_feature_of_rules_decides_some(enthesis: Program, own: tuple[Path, Api], tmp_path: Path) -> None:
    folder, api = own
    for name in ("one", "two", "three", "four", "five", "six", "seven"):
        api.account("nowcast", name)
    core = {"apiGroups": [""], "verbs": ["get"]}
    api.role("verbs", [{**core, "resources": ["configmaps"], "verbs": ["*"]}])
    api.role("resources", [{**core, "resources": ["*"]}])
    api.role("named", [{**core, "resources": ["secrets"], "resourceNames": ["db"]}])
    api.role("part", [{**core, "resources": ["pods"], "verbs": ["list"]}], metadata={"labels": {"sum": "yes"}})
    api.role("sum", [], aggregationRule={"clusterRoleSelectors": [{"matchLabels": {"sum": "yes"}}]})
    api.role("of-group", [{**core, "resources": ["nodes"]}])
    for name, role in (("one", "verbs"), ("two", "resources"), ("three", "named"), ("four", "sum")):
        api.binding(f"b-{name}", role, [service_account("nowcast", name)], "nowcast")
    api.binding("b-five", "of-group", [group("system:serviceaccounts")])
    live = tmp_path / "live.jsonl"
    surveyed(enthesis, folder, live)

    def code(name: str, *words: str) -> int:
        who = f"{GRID}/namespace/nowcast/identity/{name}"
        return enthesis("trace", "--survey", str(live), *words, "--from", who, "-q", at=tmp_path).code

    here, elsewhere = f"{GRID}/namespace/nowcast", f"{GRID}/namespace/tiles"
    assert code("one", "clear", f"{here}/configmaps/a") == 0
    assert code("one", "clear", f"{elsewhere}/configmaps/a") == 1
    assert code("two", "fetch", f"{here}/workload/job-1") == 0
    assert code("two", "amend", f"{here}/workload/job-1") == 1
    assert code("three", "fetch", f"{here}/secret/db") == 0
    assert code("three", "fetch", f"{here}/secret/feed") == 1
    assert code("four", "list", f"{here}/workload/job-1") == 0
    assert code("five", "fetch", f"{GRID}/nodes/any") == 0


def test_one_secret_and_who_can_reach_it_without_any_estate(
    enthesis: Program, own: tuple[Path, Api], tmp_path: Path
) -> None:
    """Whoever may start something, run commands, request a token or impersonate has the identity of who may read."""
    folder, api = own
    core = {"apiGroups": [""]}
    ways = {
        "starter": {**core, "resources": ["pods"], "verbs": ["create"]},
        "controller": {"apiGroups": ["apps"], "resources": ["deployments"], "verbs": ["patch"]},
        "entering": {**core, "resources": ["pods/exec"], "verbs": ["create"]},
        "requesting": {
            **core,
            "resources": ["serviceaccounts/token"],
            "verbs": ["create"],
            "resourceNames": ["reader"],
        },
        "posing": {**core, "resources": ["serviceaccounts"], "verbs": ["impersonate"]},
        "listing": {**core, "resources": ["secrets"], "verbs": ["list"]},
        "looking": {**core, "resources": ["pods"], "verbs": ["get", "list", "delete"]},
        "giving": {"apiGroups": [RBAC], "resources": ["rolebindings", "roles"], "verbs": ["create", "bind"]},
    }
    api.account("nowcast", "reader")
    api.role("reading", [{**core, "resources": ["secrets"], "verbs": ["get"], "resourceNames": ["db"]}], "nowcast")
    api.binding("reading", "reading", [service_account("nowcast", "reader")], "nowcast", of_cluster=False)
    for name, one in ways.items():
        api.account("tiles", name)
        api.role(name, [one])
        api.binding(name, name, [service_account("tiles", name)], "nowcast")
    live = tmp_path / "live.jsonl"
    surveyed(enthesis, folder, live)
    secret = f"{GRID}/namespace/nowcast/secret/db"

    def reaching(*more: str) -> set[str]:
        words = ("reach", "--survey", str(live), "--to", secret, "--verb", "read", "--format", "json", *more)
        ran = enthesis(*words, at=tmp_path)
        assert ran.code == 0, ran.err
        return {one["steps"][0]["caller"].rsplit("/", 1)[1] for one in ran.json["found"]}

    without = {"reader", "starter", "controller", "entering", "requesting", "posing", "listing"}
    assert reaching() - {"job-1"} == without | {"anybody of system:masters"}
    assert "giving" in reaching("--by-change") and "looking" not in reaching("--by-change")


def test_stored_tokens_are_found_and_whoever_sees_one_has_its_identity(
    enthesis: Program, own: tuple[Path, Api], tmp_path: Path
) -> None:
    folder, api = own
    api.account("nowcast", "old")
    api.account("tiles", "sees")
    annotations = {"kubernetes.io/service-account.name": "old"}
    body = {
        "metadata": {"name": "old-token", "annotations": annotations},
        "type": "kubernetes.io/service-account-token",
    }
    api.made("/api/v1/namespaces/nowcast/secrets", {**body, "data": {"token": "c2VjcmV0LW9mLW9sZA=="}})
    api.role(
        "seeing", [{"apiGroups": [""], "resources": ["secrets"], "verbs": ["get"], "resourceNames": ["old-token"]}]
    )
    api.binding("seeing", "seeing", [service_account("tiles", "sees")], "nowcast")
    live = tmp_path / "live.jsonl"
    survey = surveyed(enthesis, folder, live)
    assert [one.what for one in survey.findings] == ["stored-token"]
    assert survey.estate.credentials["nowcast/old-token"].of == f"{GRID}/namespace/nowcast/identity/old"
    assert "c2VjcmV0" not in live.read_text() and "secret-of-old" not in live.read_text()
    who = f"{GRID}/namespace/tiles/identity/sees"
    said = enthesis("reach", "--survey", str(live), "--from", who, "--format", "json", at=tmp_path).json
    assert any(one["target"].endswith("identity/old") and one["verb"] == "run-as" for one in said["found"])


def test_what_cannot_be_said_or_read_is_listed_and_never_dropped(
    enthesis: Program, own: tuple[Path, Api], tmp_path: Path
) -> None:
    folder, api = own
    odd = [
        group("system:masters"),
        group("system:unauthenticated"),
        group("tide-team"),
        {"kind": "User", "name": "a/b"},
    ]
    people = [{"kind": "User", "name": "ines"}, {"kind": "User", "name": "system:kube-proxy"}]
    api.binding("odd", "view", [*odd, *people])
    api.binding("gone", "no-such-role", [service_account("nowcast", "default")], "nowcast")
    api.role("paths", [{"nonResourceURLs": ["/healthz", "/live*"], "verbs": ["get"]}])
    api.binding("paths", "paths", [service_account("nowcast", "default")])
    survey = surveyed(enthesis, folder, tmp_path / "live.jsonl")
    said = "\n".join(f"{one.what}: {one.why}" for one in survey.left_out)
    for part in ("no-such-role", "the role grid:paths at /live*"):
        assert part in said, part
    assert {one.what for one in survey.findings} == {"for-anybody"}
    known = {"ines", "a%2Fb", "anybody of tide-team", "anybody of system:masters"}
    assert {f"@saltmarsh/identity/{one}" for one in known} <= set(survey.estate.identities)
    assert {"surge/identity/system:kube-proxy", "surge/identity/system:anonymous"} <= set(survey.estate.identities)
    # an administrator of ours who may not list secrets: the rest is read, and what is missing is said
    api.account("nowcast", "auditor")
    bindings = ["roles", "rolebindings", "clusterroles", "clusterrolebindings"]
    kinds = ["namespaces", "serviceaccounts", "pods", *bindings]
    api.role("auditing", [{"apiGroups": ["", RBAC], "resources": kinds, "verbs": ["list"]}])
    api.binding("auditing", "auditing", [service_account("nowcast", "auditor")])
    asked = {"spec": {"audiences": [api.url]}}
    token = api.made("/api/v1/namespaces/nowcast/serviceaccounts/auditor/token", asked)["status"]["token"]
    config = tmp_path / "config"
    config.write_text(kubeconfig(api, token))
    out = str(tmp_path / "part.jsonl")
    ran = enthesis("survey", "--cluster", GRID, "--kubeconfig", str(config), "--out", out, at=tmp_path)
    assert ran.code == 3
    assert "secrets (names only)" in ran.err and "cannot list resource" in ran.err and token not in ran.err
    ran = enthesis("reach", "--survey", out, "--to", f"{GRID}/namespace/nowcast/workload/job-1", at=tmp_path)
    assert ran.code == 3 and ran.out.startswith("Partial survey: this answer may be incomplete.")
    assert "secrets (names only)" in ran.out.splitlines()[0]
    auditor = f"{GRID}/namespace/nowcast/identity/auditor"
    asking = ("trace", "list", f"{GRID}/namespace/nowcast/secret/db", "--from", auditor)
    for words in (("check",), ("card", GRID), ("sweep",), asking):
        answered = enthesis(*words, "--survey", out, at=tmp_path)
        assert answered.code == 3 and answered.out.startswith("Partial survey"), (words, answered.out, answered.err)
        told = enthesis(*words, "--survey", out, "--format", "json", at=tmp_path)
        assert told.code == 3 and any("secrets" in one for one in told.json["not_read"]), words


def kubeconfig(api: Api, token: str, **more: str) -> str:
    """A kubeconfig for the lab's cluster, as other tools write them."""
    cluster = {"server": api.url, "certificate-authority": api.authority, **more}
    return json.dumps(
        {
            "apiVersion": "v1", "kind": "Config", "current-context": "lab",
            "clusters": [{"name": "lab", "cluster": cluster}],
            "users": [{"name": "me", "user": {"token": token}}],
            "contexts": [{"name": "lab", "context": {"cluster": "lab", "user": "me"}}],
        }
    )  # fmt: skip


@pytest.mark.parametrize(
    ("change", "code", "says"),
    [
        ({"current-context": "other"}, 2, "no context called other"),
        ({"contexts": []}, 2, "no context called lab"),
        ({"clusters": [{"name": "lab", "cluster": {}}]}, 2, "has no server"),
        ({"clusters": [{"name": "lab", "cluster": {"server": "http://127.0.0.1:1"}}]}, 3, "cannot be reached"),
        ({"clusters": [{"name": "lab", "cluster": {"server": "http://elsewhere.example"}}]}, 3, "not https"),
        ({"users": [{"name": "me", "user": {"tokenFile": "none"}}]}, 2, "tokenFile"),
        (
            {
                "users": [
                    {
                        "name": "me",
                        "user": {"exec": NOTHING_GIVEN},
                    }
                ]
            },
            3,
            "gave no credential",
        ),
        ({"users": [{"name": "me", "user": {"token": "wrong"}}]}, 3, "Unauthorized"),
    ],
)
def test_a_kubeconfig_that_does_not_do_says_why(
    enthesis: Program, api: Api, tmp_path: Path, change: dict[str, object], code: int, says: str
) -> None:
    config = {**json.loads(kubeconfig(api, "t")), **change}
    (tmp_path / "config").write_text(json.dumps(config))
    words = ("survey", "--cluster", GRID, "--kubeconfig", "config", "--out", "live.jsonl")
    ran = enthesis(*words, at=tmp_path)
    assert ran.code == code, ran.err
    assert says in ran.err
    insecure = kubeconfig(api, "t", **{"insecure-skip-tls-verify": "true"})
    (tmp_path / "config").write_text(insecure)
    assert enthesis(*words, at=tmp_path).code == 2
    (tmp_path / "config").write_text(kubeconfig(api, "t", **{"certificate-authority": "/dev/null"}))
    assert enthesis(*words, at=tmp_path).code in (2, 3)


def test_an_authority_that_is_not_the_clusters_is_said(enthesis: Program, api: Api, tmp_path: Path) -> None:
    config = json.loads(kubeconfig(api, api.token))
    del config["clusters"][0]["cluster"]["certificate-authority"]
    (tmp_path / "config").write_text(json.dumps(config))
    ran = enthesis("survey", "--cluster", GRID, "--kubeconfig", "config", "--out", "live.jsonl", at=tmp_path)
    assert ran.code == 3 and "certificate" in ran.err.lower() and api.token not in ran.err
    assert not (tmp_path / "live.jsonl").exists()


def test_a_kubeconfig_may_name_a_command_for_its_token(enthesis: Program, api: Api, tmp_path: Path) -> None:
    config = json.loads(kubeconfig(api, ""))
    version = "client.authentication.k8s.io/v1"
    gives = json.dumps({"apiVersion": version, "kind": "ExecCredential", "status": {"token": api.token}})
    (tmp_path / "gives.json").write_text(gives)
    entry = {"apiVersion": version, "command": "cat", "args": [str(tmp_path / "gives.json")]}
    config["users"][0]["user"] = {"exec": entry}
    (tmp_path / "config").write_text(json.dumps(config))
    words = ("survey", "--cluster", "any/cluster/name", "--out", "live.jsonl")
    ran = enthesis(*words, at=tmp_path, KUBECONFIG=str(tmp_path / "config"))
    assert ran.code == 0, ran.err
    assert api.token not in ran.err + (tmp_path / "live.jsonl").read_text()


# -- the stand-in, by the official client ---------------------------------------------------------------------------


def official_client(api: Api, token: str) -> official.ApiClient:
    settings = official.Configuration()
    settings.host, settings.ssl_ca_cert = api.url, api.authority
    settings.api_key = {"authorization": f"Bearer {token}"}
    return official.ApiClient(settings)


def test_the_official_client_does_everything_there(own: tuple[Path, Api]) -> None:
    _, api = own
    with official_client(api, api.token) as whole:
        core: Any = official.CoreV1Api(whole)
        rbac: Any = official.RbacAuthorizationV1Api(whole)
        named = official.V1ObjectMeta(name="cleaner")
        core.create_namespace(official.V1Namespace(metadata=official.V1ObjectMeta(name="fresh")))
        core.create_namespaced_service_account("fresh", official.V1ServiceAccount(metadata=named))
        pod = official.V1Pod(
            metadata=official.V1ObjectMeta(name="p"),
            spec=official.V1PodSpec(containers=[official.V1Container(name="c", image="i")]),
        )
        core.create_namespaced_pod("fresh", pod)
        rules = [official.V1PolicyRule(api_groups=[""], resources=["pods"], verbs=["list", "delete"])]
        rbac.create_namespaced_role("fresh", official.V1Role(metadata=named, rules=rules))
        binding = official.V1RoleBinding(
            metadata=named,
            role_ref=official.V1RoleRef(api_group=RBAC, kind="Role", name="cleaner"),
            subjects=[official.RbacV1Subject(kind="ServiceAccount", name="cleaner", namespace="fresh")],
        )
        rbac.create_namespaced_role_binding("fresh", binding)
        spec = official.V1TokenRequestSpec(audiences=[api.url], expiration_seconds=600)
        wanted_token = official.AuthenticationV1TokenRequest(spec=spec)
        token = core.create_namespaced_service_account_token("cleaner", "fresh", wanted_token).status.token
        other = official.AuthenticationV1TokenRequest(
            spec=official.V1TokenRequestSpec(audiences=["elsewhere"], expiration_seconds=600)
        )
        elsewhere = core.create_namespaced_service_account_token("cleaner", "fresh", other).status.token
        with official_client(api, token) as narrow:
            own_core: Any = official.CoreV1Api(narrow)
            assert [one.metadata.name for one in own_core.list_namespaced_pod("fresh").items] == ["p"]
            own_core.delete_namespaced_pod("p", "fresh")
            for refused in (own_core.list_namespaced_secret, own_core.list_namespaced_service_account):
                with pytest.raises(official.ApiException) as caught:
                    refused("fresh")
                assert caught.value.status == 403
            mine = official.V1SelfSubjectAccessReview(
                spec=official.V1SelfSubjectAccessReviewSpec(
                    resource_attributes=official.V1ResourceAttributes(verb="delete", resource="pods", namespace="fresh")
                )
            )
            reviews: Any = official.AuthorizationV1Api(narrow)
            assert reviews.create_self_subject_access_review(mine).status.allowed
            # nobody gives away what they do not have
            widening = official.V1Role(metadata=official.V1ObjectMeta(name="more"), rules=rules)
            with pytest.raises(official.ApiException):
                official.RbacAuthorizationV1Api(narrow).create_namespaced_role("fresh", widening)
        with official_client(api, elsewhere) as wrong, pytest.raises(official.ApiException) as caught:
            official.CoreV1Api(wrong).list_namespaced_pod("fresh")
        assert caught.value.status == 401
        core.delete_namespaced_service_account("cleaner", "fresh")
        core.create_namespaced_service_account("fresh", official.V1ServiceAccount(metadata=named))
        with official_client(api, token) as reborn, pytest.raises(official.ApiException) as caught:
            official.CoreV1Api(reborn).list_namespaced_pod("fresh")
        assert caught.value.status == 401  # made anew under the same name is another one


# -- survey files ---------------------------------------------------------------------------------------------------


def test_a_survey_stands_beside_an_estate_and_in_place_of_one(
    enthesis: Program, own: tuple[Path, Api], tmp_path: Path
) -> None:
    folder, api = own
    api.account("nowcast", "runner")
    more = f"identities: {{{GRID}/namespace/nowcast/identity/planned: {{kind: cluster-service-account}}}}\n"
    (folder / "planned.yaml").write_text(more)
    out = folder / "live.jsonl"
    surveyed(enthesis, folder, out)
    ran = enthesis("card", f"{GRID}/namespace/nowcast/identity/planned", at=folder)
    assert ran.code == 0
    assert enthesis("card", f"{GRID}/namespace/nowcast/identity/runner", at=folder).code == 2
    live = ("--survey", str(out))
    assert enthesis("card", f"{GRID}/namespace/nowcast/identity/runner", *live, at=folder).code == 0
    assert enthesis("card", f"{GRID}/namespace/nowcast/identity/planned", *live, at=folder).code == 2
    assert enthesis("card", f"{GRID}/namespace/nowcast/identity/runner", *live, at=tmp_path).code == 0


def test_journeys_and_invariants_are_judged_on_what_is_so(
    enthesis: Program, own: tuple[Path, Api], tmp_path: Path
) -> None:
    folder, api = own
    api.account("nowcast", "runner")
    who, secret = f"{GRID}/namespace/nowcast/identity/runner", f"{GRID}/namespace/nowcast/secret/db"
    more = {
        "identities": {who: {"kind": "cluster-service-account"}},
        "journeys": {"no-secret": {"from": {"identity": who}, "attempt": f"read {secret}", "expect": "refused"}},
        "invariants": [{"name": "kept", "never": {"by": who, "can": "read", "at": secret}}],
    }
    (folder / "expected.json").write_text(json.dumps(more))
    out = folder / "live.jsonl"
    surveyed(enthesis, folder, out)
    assert enthesis("check", at=folder).code == enthesis("check", "--survey", str(out), at=folder).code == 0
    api.role("peeking", [{"apiGroups": [""], "resources": ["secrets"], "verbs": ["list"]}])
    api.binding("peeking", "peeking", [service_account("nowcast", "runner")])
    surveyed(enthesis, folder, out)
    assert enthesis("check", at=folder).code == 0
    ran = enthesis("check", "--survey", str(out), at=folder)
    assert ran.code == 1 and "kept is violated" in ran.out and "no-secret" in ran.out
    assert enthesis("check", "--survey", str(out), at=tmp_path).code == 0  # nothing is expected there


def test_clouds_are_surveyed_too(enthesis: Program, enacted_lab: object, tmp_path: Path) -> None:
    folder = enacted_lab.folder  # type: ignore[attr-defined]
    out = tmp_path / "live.jsonl"
    ran = enthesis("survey", "--out", str(out), at=folder)
    assert ran.code == 0, ran.err
    assert "Surveyed lowland, highmoor, forge: " in ran.err
    page = "bulletin/bucket/public-pages/object/today.html"
    words = ("trace", "write", page, "--from", "bulletin/identity/page-writer", "--survey", str(out))
    assert enthesis(*words, at=tmp_path).code == 0
    assert enthesis(*words, at=folder).code == 0
    assert enthesis("trace", "delete", *words[2:], at=tmp_path).code == 1


@pytest.fixture(scope="module")
def beginning(enthesis: Program, folder: Path, tmp_path_factory: pytest.TempPathFactory) -> list[str]:
    """The first lines of a survey, as far as the cluster itself, and its last one."""
    out = tmp_path_factory.mktemp("beginning") / "live.jsonl"
    surveyed(enthesis, folder, out)
    lines = out.read_text().splitlines(keepends=True)
    upto = next(number for number, line in enumerate(lines) if f'"address":"{GRID}"' in line)
    return [*lines[: max(upto, 3) + 1], lines[-1]]


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (lambda lines: ["{}\n"], "not a header"),
        (lambda lines: [], "not a JSON object"),
        (lambda lines: [lines[0].replace('"version":2', '"version":9')], "version 9"),
        (lambda lines: [*lines[:3], "{nonsense\n"], "ine 4 of live.jsonl is not a JSON object"),
        (lambda lines: [*lines[:3], "{}\n"], "ine 4 of live.jsonl says nothing"),
        (lambda lines: [*lines[:3], '{"section":"secrets"}\n'], "no section `secrets`"),
        (lambda lines: [*lines[:3], '{"section":"grants","to":"a"}\n'], "ine 4 of live.jsonl"),
        (lambda lines: [*lines[:3], '{"section":"roles","allows":{}}\n'], "this entry has no name"),
    ],
)  # fmt: skip
def test_a_survey_that_cannot_be_read_says_where(
    enthesis: Program, beginning: list[str], tmp_path: Path, change: object, says: str
) -> None:
    out, lines = tmp_path / "live.jsonl", beginning
    out.write_text("".join(change(lines)))  # type: ignore[operator]
    ran = enthesis("reach", "--survey", "live.jsonl", "--to", GRID, at=tmp_path)
    assert ran.code == 2, ran.out
    assert says in ran.err
    out.write_text("".join(islice(lines, len(lines) - 1)))
    ran = enthesis("reach", "--survey", "live.jsonl", "--to", GRID, at=tmp_path)
    assert ran.code == 3 and ran.out.startswith("Partial survey: this answer may be incomplete. Not read: the end")

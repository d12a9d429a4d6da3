"""The stand-in cluster's interface, asked by the official client for Python, and in plain HTTP where that cannot."""

import json
import threading
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from kubernetes import client as official
from kubernetes import watch as official_watch
from kubernetes.client.exceptions import ApiException

from enthesis_lab.cluster.binary import MESSAGES, NotRead, read_message
from enthesis_lab.cluster.patching import NotApplicable, merged, merged_by_names, operated
from enthesis_lab.cluster.selecting import InvalidSelector, by_fields, by_labels

from .clusters import RBAC, Api, cluster_lab, grid_estate
from .conftest import Program, examples

PODS = "/api/v1/namespaces/tiles/pods"
SPEC = {"containers": [{"name": "main", "image": "lab"}]}


@pytest.fixture(scope="module")
def api(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Api]:
    place = grid_estate(tmp_path_factory.mktemp("api"))
    with cluster_lab(enthesis, place) as found:
        for name, labels in (
            ("one", {"app": "tide", "tier": "a"}),
            ("two", {"app": "tide"}),
            ("three", {"app": "wind"}),
        ):
            spec = {**SPEC, "nodeName": name}
            found.made(PODS, {"metadata": {"name": name, "labels": labels}, "spec": spec})
        yield found


@pytest.fixture
def whole(api: Api) -> Iterator[official.ApiClient]:
    settings = official.Configuration()
    settings.host, settings.ssl_ca_cert = api.url, api.authority
    settings.api_key = {"BearerToken": f"Bearer {api.token}", "authorization": f"Bearer {api.token}"}
    with official.ApiClient(settings) as found:
        yield found


def names(core: Any, **more: Any) -> set[str]:
    return {one.metadata.name for one in core.list_namespaced_pod("tiles", **more).items} - {"job-1"}


@pytest.mark.parametrize(
    ("selector", "chosen"),
    [
        ("app=tide", {"one", "two"}), ("app==tide,tier=a", {"one"}), ("app!=tide", {"three"}),
        ("app in (tide, wind)", {"one", "two", "three"}), ("app notin (tide)", {"three"}), ("tier", {"one"}),
        ("!tier,app", {"two", "three"}), ("tier notin (a),app in (tide)", {"two"}), ("app=", set()),
    ],
)  # fmt: skip
def test_labels_are_selected_by_as_they_are_documented(
    whole: official.ApiClient, selector: str, chosen: set[str]
) -> None:
    assert names(official.CoreV1Api(whole), label_selector=selector) == chosen


@pytest.mark.parametrize(
    ("selector", "chosen"),
    [
        ("metadata.name=two", {"two"}), ("metadata.name!=two", {"one", "three"}), ("spec.nodeName==three", {"three"}),
        ("metadata.namespace=tiles,spec.nodeName=one", {"one"}),
        ("spec.serviceAccountName=default", {"one", "two", "three"}),
    ],
)  # fmt: skip
def test_fields_are_selected_by_as_they_are_documented(
    whole: official.ApiClient, selector: str, chosen: set[str]
) -> None:
    assert names(official.CoreV1Api(whole), field_selector=selector) == chosen


@pytest.mark.parametrize(
    "query",
    ["labelSelector=app in tide", "labelSelector=a=b=c", "labelSelector=,", "labelSelector=app>1",
     "fieldSelector=spec.color=red", "fieldSelector=metadata.name", "limit=many", "continue=here"],
)  # fmt: skip
def test_a_selector_that_is_not_understood_is_refused_and_deletes_nothing(api: Api, query: str) -> None:
    for method in ("GET", "DELETE"):
        answer = api.http.request(method, f"{PODS}?{query}")
        assert (answer.status_code, answer.json()["reason"]) == (400, "BadRequest")
    assert {"one", "two", "three"} <= {one["metadata"]["name"] for one in api.http.get(PODS).json()["items"]}


def test_a_delete_by_selector_deletes_what_is_selected(whole: official.ApiClient) -> None:
    core: Any = official.CoreV1Api(whole)
    core.create_namespace(official.V1Namespace(metadata=official.V1ObjectMeta(name="short")))
    for number in range(4):
        meta = official.V1ObjectMeta(name=f"m{number}", labels={"odd": str(number % 2)})
        core.create_namespaced_config_map("short", official.V1ConfigMap(metadata=meta))
    core.delete_collection_namespaced_config_map(
        "short", label_selector="odd in (1)", field_selector="metadata.name!=m1"
    )
    assert [one.metadata.name for one in core.list_namespaced_config_map("short").items] == ["m0", "m1", "m2"]


def test_a_watch_tells_what_is_there_and_what_changes(whole: official.ApiClient, api: Api) -> None:
    core: Any = official.CoreV1Api(whole)
    begun = core.list_namespaced_config_map("tiles").metadata.resource_version
    seen: list[tuple[str, str]] = []
    make: Any = official_watch.Watch
    watching = make()

    def look() -> None:
        for event in watching.stream(
            core.list_namespaced_config_map, "tiles", resource_version=begun, timeout_seconds=20, label_selector="w=1"
        ):
            seen.append((event["type"], event["object"].metadata.name))
            if event["type"] == "DELETED" and event["object"].metadata.name == "last":
                watching.stop()

    looking = threading.Thread(target=look, daemon=True)
    looking.start()
    path = "/api/v1/namespaces/tiles/configmaps"
    api.made(path, {"metadata": {"name": "a", "labels": {"w": "1"}}})
    api.made(path, {"metadata": {"name": "b", "labels": {"w": "2"}}})
    patch = {"Content-Type": "application/merge-patch+json"}
    for name, labels in (("a", {"w": "2"}), ("b", {"w": "1"}), ("b", {"w": "1", "x": "2"})):
        content = json.dumps({"metadata": {"labels": labels}})
        assert api.http.patch(f"{path}/{name}", content=content, headers=patch).status_code == 200
    api.made(path, {"metadata": {"name": "last", "labels": {"w": "1"}}})
    api.http.delete(f"{path}/last")
    looking.join(20)
    assert not looking.is_alive()
    assert seen == [
        ("ADDED", "a"), ("DELETED", "a"), ("ADDED", "b"), ("MODIFIED", "b"), ("ADDED", "last"), ("DELETED", "last"),
    ]  # fmt: skip
    # from nothing, with what is there first and a bookmark last; and from too long ago
    lines = api.http.get(f"{path}?watch=true&timeoutSeconds=1&allowWatchBookmarks=true").text.splitlines()
    events = [json.loads(one) for one in lines]
    assert {one["type"] for one in events[:-1]} == {"ADDED"} and events[-1]["type"] == "BOOKMARK"
    assert int(events[-1]["object"]["metadata"]["resourceVersion"]) > int(begun)
    assert api.http.get(f"{path}?watch=true&resourceVersion=x").status_code == 400


def test_patches_of_every_kind(whole: official.ApiClient, api: Api) -> None:
    core: Any = official.CoreV1Api(whole)
    path = f"{PODS}/patched"
    api.made(PODS, {"metadata": {"name": "patched", "labels": {"a": "1"}}, "spec": SPEC})
    added = {"spec": {"containers": [{"name": "side", "image": "lab"}]}}
    kinds = {
        "application/strategic-merge-patch+json": (added, ["main", "side"]),
        "application/merge-patch+json": (added, ["side"]),
        "application/json-patch+json": (
            [{"op": "test", "path": "/spec/containers/0/name", "value": "side"},
             {"op": "add", "path": "/spec/containers/-", "value": {"name": "third", "image": "lab"}}],
            ["side", "third"],
        ),
    }  # fmt: skip
    for media, (body, containers) in kinds.items():
        answer = api.http.patch(path, content=json.dumps(body), headers={"Content-Type": media})
        assert answer.status_code == 200, answer.text
        assert [one["name"] for one in answer.json()["spec"]["containers"]] == containers
    core.patch_namespaced_pod("patched", "tiles", {"metadata": {"labels": {"a": None, "b": "2"}}})
    assert core.read_namespaced_pod("patched", "tiles").metadata.labels == {"b": "2"}
    for media, body, code in (
        ("application/json-patch+json", [{"op": "test", "path": "/spec/x", "value": 1}], 422),
        ("application/json-patch+json", {"op": "add"}, 422), ("application/apply-patch+yaml", {}, 400),
        ("text/plain", {}, 415),
        ("application/merge-patch+json", {"metadata": {"name": "other"}}, 400),
        ("application/merge-patch+json", {"spec": {"containers": []}}, 422),
        ("application/strategic-merge-patch+json", {"spec": {"containers": [{"image": "x"}]}}, 422),
    ):  # fmt: skip
        answer = api.http.patch(path, content=json.dumps(body), headers={"Content-Type": media})
        assert answer.status_code == code, (media, body, answer.text)


@pytest.mark.parametrize(
    ("path", "body", "field"),
    [
        (PODS, {"metadata": {"name": "No_Name"}, "spec": SPEC}, "metadata.name"),
        (PODS, {"metadata": {}, "spec": SPEC}, "metadata.name"),
        (PODS, {"metadata": {"name": "x" * 254}, "spec": SPEC}, "metadata.name"),
        (PODS, {"metadata": {"name": "a", "labels": {"a b": "c"}}, "spec": SPEC}, "metadata.labels"),
        (PODS, {"metadata": {"name": "a", "labels": {"a": "-"}}, "spec": SPEC}, "metadata.labels"),
        (PODS, {"metadata": {"name": "a"}}, "spec.containers"),
        (PODS, {"metadata": {"name": "a"}, "spec": {"containers": [{"name": "m"}]}}, "spec.containers[0].image"),
        ("/api/v1/namespaces", {"metadata": {"name": "a.b"}}, "metadata.name"),
        ("/api/v1/namespaces/tiles/secrets", {"metadata": {"name": "a"}, "data": {"k": "no!"}}, "data[k]"),
        ("/apis/rbac.authorization.k8s.io/v1/namespaces/tiles/roles",
         {"metadata": {"name": "a"}, "rules": [{"verbs": ["get"], "nonResourceURLs": ["/x"]}]},
         "rules[0].nonResourceURLs"),
        ("/apis/rbac.authorization.k8s.io/v1/clusterroles",
         {"metadata": {"name": "a/b"}, "rules": []}, "metadata.name"),
        ("/apis/rbac.authorization.k8s.io/v1/clusterroles",
         {"metadata": {"name": "a"}, "rules": [{"verbs": [], "apiGroups": [""], "resources": ["pods"]}]},
         "rules[0].verbs"),
        ("/apis/rbac.authorization.k8s.io/v1/clusterrolebindings",
         {"metadata": {"name": "a"}, "roleRef": {"kind": "Role", "name": "x"}}, "roleRef.kind"),
        ("/apis/rbac.authorization.k8s.io/v1/clusterrolebindings",
         {"metadata": {"name": "a"}, "roleRef": {"kind": "ClusterRole", "name": "x"},
          "subjects": [{"kind": "ServiceAccount", "name": "x"}]}, "subjects[0].namespace"),
    ],
)  # fmt: skip
def test_what_is_not_well_formed_is_refused_by_its_field(api: Api, path: str, body: dict[str, Any], field: str) -> None:
    answer = api.http.post(path, json=body)
    assert answer.status_code == 422, answer.text
    assert field in [cause["field"] for cause in answer.json()["details"]["causes"]]


def test_what_is_shaped_otherwise_is_refused(api: Api) -> None:
    for body, code in (
        ({"kind": "Secret", "metadata": {"name": "a"}}, 400), ({"metadata": []}, 400), ([], 400),
        ({"metadata": {"name": "a", "namespace": "elsewhere"}, "spec": SPEC}, 400),
        ({"metadata": {"name": "a", "labels": 3}, "spec": SPEC}, 422),
    ):  # fmt: skip
        assert api.http.post(PODS, json=body).status_code == code, body
    binary = {"Content-Type": "application/vnd.kubernetes.protobuf"}
    assert api.http.post(PODS, content=b"k8s\x00", headers=binary).status_code == 415
    assert api.http.get(PODS, headers={"Accept": "text/csv"}).status_code == 406
    alone = api.http.get(PODS, headers={"Accept": binary["Content-Type"]})
    assert alone.headers["content-type"] == "application/json", "who asks for the other reads JSON too"
    both = {"Accept": f"{binary['Content-Type']},application/json"}
    assert api.http.get(PODS, headers=both).headers["content-type"] == "application/json"
    unknown = api.http.get(PODS, headers={"Authorization": "Bearer nothing"})
    assert unknown.status_code == 401 and unknown.headers["www-authenticate"] == "Bearer"


def test_reviews_version_readiness_and_short_names(whole: official.ApiClient, api: Api) -> None:
    versions: Any = official.VersionApi(whole)
    assert versions.get_code().minor == "31"
    for path in ("/healthz", "/livez", "/readyz", "/readyz/ping", "/readyz?verbose"):
        assert api.http.get(path).status_code == 200
    core: Any = official.CoreV1Api(whole)
    resources = core.get_api_resources().resources
    assert {one.name: one.short_names for one in resources}["serviceaccounts"] == ["sa"]
    account = {"metadata": {"name": "shown"}}
    api.made("/api/v1/namespaces/tiles/serviceaccounts", account)
    token = api.made("/api/v1/namespaces/tiles/serviceaccounts/shown/token", {"spec": {"audiences": ["here", "there"]}})
    reviews: Any = official.AuthenticationV1Api(whole)

    def review(*audiences: str) -> Any:
        spec = official.V1TokenReviewSpec(token=token["status"]["token"], audiences=list(audiences))
        return reviews.create_token_review(official.V1TokenReview(spec=spec)).status

    assert review("there", "nowhere").audiences == ["there"]
    assert review("here").user.username == "system:serviceaccount:tiles:shown"
    assert not review("nowhere").authenticated
    access: Any = official.AuthorizationV1Api(whole)
    wanted = official.V1ResourceAttributes(namespace="tiles", verb="get", resource="pods")
    spec = official.V1SubjectAccessReviewSpec(user="dora", groups=["system:masters"], resource_attributes=wanted)
    local = official.V1LocalSubjectAccessReview(spec=spec)
    assert access.create_namespaced_local_subject_access_review("tiles", local).status.allowed
    with pytest.raises(ApiException) as refused:
        access.create_namespaced_local_subject_access_review("nowcast", local)
    assert refused.value.status == 400


def test_who_am_i_what_may_i_and_what_runs(api: Api) -> None:
    me = api.made("/apis/authentication.k8s.io/v1/selfsubjectreviews", {})
    assert me["status"]["userInfo"]["groups"] == ["system:masters", "system:authenticated"]
    rules = api.made("/apis/authorization.k8s.io/v1/selfsubjectrulesreviews", {"spec": {"namespace": "tiles"}})
    assert rules["status"]["resourceRules"][0] == {"verbs": ["*"], "apiGroups": ["*"], "resources": ["*"]}
    listed = {
        one["name"]: one.get("categories", [])
        for path in ("/api/v1", "/apis/apps/v1", "/apis/batch/v1")
        for one in api.http.get(path).json()["resources"]
    }
    assert {name for name, of in listed.items() if "all" in of} == {"pods", "deployments", "jobs"}


@pytest.mark.parametrize(
    "spec",
    [
        "x", [1], {"audiences": "a"}, {"audiences": [1]}, {"expirationSeconds": "600"}, {"expirationSeconds": True},
        {"boundObjectRef": "x"}, {"boundObjectRef": {"name": 1}}, {"boundObjectRef": {"kind": "Secret", "name": "db"}},
    ],
)  # fmt: skip
def test_a_malformed_request_for_a_token_is_a_bad_one(api: Api, spec: Any) -> None:
    answer = api.http.post("/api/v1/namespaces/tiles/serviceaccounts/default/token", json={"spec": spec})
    assert answer.status_code == 400, answer.text


@pytest.mark.parametrize(
    ("review", "spec"),
    [
        ("authorization.k8s.io/v1/selfsubjectaccessreviews", {"resourceAttributes": "x"}),
        ("authorization.k8s.io/v1/selfsubjectaccessreviews", {"resourceAttributes": {"verb": ["get"]}}),
        ("authorization.k8s.io/v1/subjectaccessreviews", {"user": "a", "groups": "b", "resourceAttributes": {}}),
        ("authorization.k8s.io/v1/selfsubjectrulesreviews", {"namespace": 3}),
        ("authentication.k8s.io/v1/tokenreviews", {"token": {}, "audiences": []}),
        ("authentication.k8s.io/v1/tokenreviews", "x"),
    ],
)
def test_a_malformed_review_is_a_bad_request(api: Api, review: str, spec: Any) -> None:
    assert api.http.post(f"/apis/{review}", json={"spec": spec}).status_code == 400


# -- applying -------------------------------------------------------------------------------------------------------

MAPS = "/api/v1/namespaces/tiles/configmaps"


def sent(api: Api, name: str, body: Any, manager: str, *, path: str = MAPS, force: bool = False) -> Any:
    query = {"fieldManager": manager, **({"force": "true"} if force else {})}
    headers = {"Content-Type": "application/apply-patch+yaml"}
    return api.http.patch(f"{path}/{name}", params=query, content=json.dumps(body), headers=headers)


def test_what_is_applied_is_managed_and_what_others_manage_is_left(api: Api) -> None:
    def said(**data: str) -> dict[str, Any]:
        return {"apiVersion": "v1", "kind": "ConfigMap", "metadata": {"name": "applied"}, "data": data}

    assert sent(api, "applied", said(a="1", b="1"), "one").status_code == 201
    assert sent(api, "applied", said(a="1", b="1"), "").status_code == 400, "nobody manages nothing"
    assert sent(api, "applied", said(a="1", c="2"), "two").json()["data"] == {"a": "1", "b": "1", "c": "2"}
    refused = sent(api, "applied", said(b="2"), "two")
    assert refused.status_code == 409
    assert refused.json()["details"]["causes"] == [
        {"reason": "FieldManagerConflict", "message": 'conflict with "one"', "field": ".data.b"}
    ]
    assert api.http.get(f"{MAPS}/applied").json()["data"]["b"] == "1"
    # what one applies no more goes, where nobody else manages it
    assert sent(api, "applied", said(b="1"), "one").json()["data"] == {"a": "1", "b": "1", "c": "2"}
    assert sent(api, "applied", said(c="2"), "two").json()["data"] == {"b": "1", "c": "2"}
    assert sent(api, "applied", said(b="2"), "two", force=True).json()["data"] == {"b": "2"}
    assert sent(api, "applied", said(), "one").json()["data"] == {"b": "2"}, "it is the other's by now"
    # who puts another value in place manages it from then on
    merge = {"Content-Type": "application/merge-patch+json", "User-Agent": "by-hand/1"}
    assert api.http.patch(f"{MAPS}/applied", json={"data": {"b": "3"}}, headers=merge).status_code == 200
    assert sent(api, "applied", said(b="2"), "two").status_code == 409
    managed = {
        one["manager"]: one["operation"] for one in api.http.get(f"{MAPS}/applied").json()["metadata"]["managedFields"]
    }
    assert managed["by-hand"] == "Update"


def test_items_of_a_list_are_managed_by_their_names(api: Api) -> None:
    def said(*containers: dict[str, str]) -> dict[str, Any]:
        return {"metadata": {"name": "apod"}, "spec": {"containers": list(containers)}}

    main, more = {"name": "main", "image": "a"}, {"name": "more", "image": "b"}
    assert sent(api, "apod", said(main), "one", path=PODS).status_code == 201
    both = sent(api, "apod", said(more), "two", path=PODS).json()["spec"]["containers"]
    assert [one["name"] for one in both] == ["main", "more"]
    assert sent(api, "apod", said({"name": "main", "image": "c"}), "two", path=PODS).status_code == 409
    left = sent(api, "apod", said(main, more), "one", path=PODS).json()["spec"]["containers"]
    assert [one["name"] for one in left] == ["main", "more"]
    left = sent(api, "apod", said(main), "two", path=PODS).json()["spec"]["containers"]
    assert [one["name"] for one in left] == ["main", "more"], "one manages it too"
    left = sent(api, "apod", said(main), "one", path=PODS).json()["spec"]["containers"]
    assert [one["name"] for one in left] == ["main"]


def test_who_applies_needs_to_patch_and_to_make_what_is_not_there(api: Api) -> None:
    api.account("tiles", "applier")
    api.role("patching", [{"verbs": ["patch"], "apiGroups": [""], "resources": ["configmaps"]}], "tiles")
    binding = {
        "metadata": {"name": "patching"}, "roleRef": {"kind": "Role", "name": "patching", "apiGroup": RBAC},
        "subjects": [{"kind": "ServiceAccount", "name": "applier", "namespace": "tiles"}],
    }  # fmt: skip
    api.made(f"/apis/{RBAC}/v1/namespaces/tiles/rolebindings", binding)
    token = api.made("/api/v1/namespaces/tiles/serviceaccounts/applier/token", {"spec": {}})["status"]["token"]
    headers = {"Content-Type": "application/apply-patch+yaml", "Authorization": f"Bearer {token}"}
    body = json.dumps({"metadata": {"name": "new"}, "data": {"a": "1"}})
    where = f"{MAPS}/new?fieldManager=one"
    assert api.http.patch(where, content=body, headers=headers).status_code == 403
    assert sent(api, "new", json.loads(body), "two").status_code == 201
    assert api.http.patch(where, content=body, headers=headers).status_code == 200


# -- what clients send in the cluster's other form ------------------------------------------------------------------

ASKS = bytes.fromhex(  # as a client sends it: may I get pods in the namespace default?
    "6b38730"
    "00a320a17617574686f72697a6174696f6e2e6b38732e696f2f7631121753656c665375626a65637441636365737352657669"
    "6577123c0a100a0012001a0022002a00320038004200121e0a1c0a0764656661756c7412036765741a0022002a04706f647332003a001a08"
    "080012001a0020001a002200"
)


def test_a_message_is_read_as_json_would_say_it(api: Api) -> None:
    assert read_message(ASKS) == {
        "kind": "SelfSubjectAccessReview", "apiVersion": "authorization.k8s.io/v1",
        "spec": {"resourceAttributes": {"namespace": "default", "verb": "get", "resource": "pods"}},
    }  # fmt: skip
    headers = {"Content-Type": "application/vnd.kubernetes.protobuf", "Accept": "application/vnd.kubernetes.protobuf"}
    answer = api.http.post("/apis/authorization.k8s.io/v1/selfsubjectaccessreviews", content=ASKS, headers=headers)
    assert answer.status_code == 201 and answer.json()["status"]["allowed"]
    assert api.http.post(PODS, content=ASKS[:-9], headers=headers).status_code == 415


def enveloped(kind: str, raw: bytes) -> bytes:
    named = part(1, b"v1") + part(2, kind.encode())
    return b"k8s\x00" + part(1, named) + part(2, raw)


def part(number: int, held: bytes) -> bytes:
    return bytes([number << 3 | 2, len(held)]) + held


def test_values_of_every_type_are_read_and_what_is_not_known_is_refused() -> None:
    meta = part(1, part(1, b"s") + part(11, part(1, b"app") + part(2, b"tide")))
    secret = read_message(
        enveloped("Secret", meta + part(2, part(1, b"k") + part(2, b"\xff\x00")) + part(3, b"Opaque"))
    )
    assert secret["metadata"] == {"name": "s", "labels": {"app": "tide"}}
    assert (secret["data"], secret["type"]) == ({"k": "/wA="}, "Opaque")
    token = read_message(enveloped("TokenRequest", part(2, part(1, b"a") + part(1, b"b") + bytes([4 << 3, 0xD8, 4]))))
    assert token["spec"] == {"audiences": ["a", "b"], "expirationSeconds": 600}
    volumes = part(2, part(1, part(1, b"v")))
    with pytest.raises(NotRead, match="field 1 of PodSpec"):
        read_message(enveloped("Pod", volumes))
    with pytest.raises(NotRead, match="Widget"):
        read_message(enveloped("Widget", b""))


@given(st.sampled_from(sorted(MESSAGES)), st.binary(max_size=60))
@settings(max_examples=examples(400))
def test_any_bytes_are_read_or_refused(kind: str, data: bytes) -> None:
    for message in (data, b"k8s\x00" + data, enveloped(kind, data)):
        with suppress(NotRead):
            assert read_message(message)["kind"] in MESSAGES


# -- the parts, by themselves ---------------------------------------------------------------------------------------

TEXT = st.text(st.characters(codec="ascii", exclude_characters="\x00$"), max_size=12)
JSON = st.recursive(
    st.none() | st.integers(0, 3) | TEXT,
    lambda one: st.lists(one, max_size=3) | st.dictionaries(TEXT, one, max_size=3),
)


@given(st.text(alphabet="ab=!,()in \\./", max_size=14))
def test_a_selector_chooses_or_is_refused(text: str) -> None:
    one = {"metadata": {"name": "a", "labels": {"a": "b"}}}
    for fields in (False, True):
        try:
            chooses = by_fields(text, "pods") if fields else by_labels(text)
        except InvalidSelector:
            continue
        assert chooses(one) in (True, False)


@given(JSON, JSON)
def test_patches_by_names_are_merge_patches_where_no_list_has_names(found: Any, patch: Any) -> None:
    try:
        assert merged_by_names(found, patch) == merged(found, patch)
    except NotApplicable:
        assert "$patch" in json.dumps(patch)


@given(st.dictionaries(st.sampled_from("ab/~"), st.integers(0, 3)), st.sampled_from("ab/~"), st.integers(0, 3))
def test_a_json_patch_does_what_its_operations_say(found: dict[str, int], name: str, value: int) -> None:
    path = "/" + name.replace("~", "~0").replace("/", "~1")
    added = operated(found, [{"op": "add", "path": path, "value": value}])
    assert added == {**found, name: value}
    assert operated(added, [{"op": "remove", "path": path}]) == {one: its for one, its in found.items() if one != name}
    moved = operated(
        added, [{"op": "move", "from": path, "path": "/new"}, {"op": "test", "path": "/new", "value": value}]
    )
    assert name not in moved and moved["new"] == value
    with pytest.raises(NotApplicable):
        operated(added, [{"op": "remove", "path": path}, {"op": "test", "path": path, "value": value}])


def test_a_failed_patch_leaves_the_object_alone(tmp_path: Path) -> None:
    found = {"a": [1]}
    with pytest.raises(NotApplicable):
        operated(found, [{"op": "add", "path": "/a/-", "value": 2}, {"op": "remove", "path": "/b"}])
    assert found == {"a": [1]}

"""Every way a workload gets its identity, live: refused before, allowed, refused after withdrawal and after its end."""

import json
import ssl
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from urllib.parse import quote

import httpx
import pytest

from enthesis.connectors.hosts import Handed, Hosts
from enthesis.connectors.http import Client
from enthesis.ports import HeldCredential

from .conftest import ACCEPTED, LONG, SALTMARSH, Lab, Program, copied, lab_of, start_lab

WITHDRAWN = {
    # journey: file, what is taken out of it, and the step that refuses afterwards
    "a-host-writes-levels": (
        "collectors.yaml",
        "  - {what: gauges/host/collector-1, runs_as: gauges/identity/collector}\n",
        "target-side",
    ),
    "a-member-of-the-pool-writes-levels": (
        "collectors.yaml",
        "  - {what: gauges/pool/collectors, runs_as: gauges/identity/collector}\n",
        "target-side",
    ),
    "the-function-reads-drafts-as-itself": (
        "rendering.yaml",
        "  - {to: bulletin/identity/render, role: draft-reading, at: bulletin/bucket/drafts}\n",
        "target-side",
    ),
    "the-connector-sends": (
        "rendering.yaml",
        "  - {what: bulletin/connector/mail, runs_as: bulletin/identity/sender}\n",
        "target-side",
    ),
    "who-may-use-the-identity-logs-in": (
        "people.yaml",
        '  - {to: "@saltmarsh/identity/maren", role: calibrator-use, at: gauges/identity/calibrator}\n',
        "companions",
    ),
    "the-north-reads-offsets": (
        "groups.yaml",
        "  - {to: gauges/group/northern, role: offset-reading, at: gauges/secret/offsets}\n",
        "target-side",
    ),
    "the-archive-reads-levels": (
        "archive.yaml",
        "  - {to: gauges/identity/archiver, role: level-reading, at: gauges/key/levels}\n",
        "companions",
    ),
}


def whole(folder: Path) -> Path:
    """All of the packaged estate."""
    return copied(folder, *(one.name for one in SALTMARSH.glob("*.yaml")))


def proved(enthesis: Program, folder: Path, *words: str) -> dict[str, dict[str, object]]:
    ran = enthesis("prove", *words, "--format", "json", at=folder)
    assert ran.code in (0, 1), ran.err
    return {one["journey"]: one for one in ran.json["journeys"]}


def test_each_kind_before_after_and_without(enthesis: Program, tmp_path: Path) -> None:
    folder = whole(tmp_path / "estate")
    try:
        start_lab(enthesis, folder)
        assert enthesis("lab", "add", "gauges/pool/collectors/host/c", "--count", "2", at=folder).code == 0
        before = proved(enthesis, folder, *WITHDRAWN)
        assert {one["outcome"] for one in before.values()} == {"refused"}
        assert enthesis("enact", "--yes", *ACCEPTED, at=folder).code == 0
        assert all(one["met"] for one in proved(enthesis, folder).values())
        for journey, (file, taken, step) in WITHDRAWN.items():
            text = (folder / file).read_text()
            assert taken in text
            (folder / file).write_text(text.replace(taken, ""))
            assert enthesis("enact", "--yes", *ACCEPTED, "--prune", at=folder).code == 0
            after = proved(enthesis, folder, journey)[journey]
            assert (after["outcome"], step in after["refused_at"]) == ("refused", True), after  # type: ignore[operator]
            assert "names" not in after["refused_at"]  # type: ignore[operator]
            (folder / file).write_text(text)
        assert enthesis("enact", "--yes", *ACCEPTED, at=folder).code == 0
        assert enthesis("prove", "--expiry", *WITHDRAWN, at=folder).code == 0
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def test_what_a_tied_identity_leaves_and_a_new_one_does_not_inherit(enthesis: Program, tmp_path: Path) -> None:
    folder = copied(tmp_path / "estate", "estate.yaml", "rendering.yaml")
    function, own = "bulletin/function/render", "bulletin/identity/render"
    try:
        start_lab(enthesis, folder)
        assert enthesis("enact", "--yes", *ACCEPTED, at=folder).code == 0
        assert "its own, and gone with it" in enthesis("card", function, at=folder).out
        assert enthesis("lab", "remove", function, at=folder).code == 0
        said = enthesis("propose", "--format", "json", at=folder).json
        assert [one for one in said["dangling"] if own in one and "no longer exists" in one and "--prune" in one]
        survey = folder.parent / "seen.jsonl"
        enthesis("survey", "--out", str(survey), at=folder)
        lines = [json.loads(one) for one in survey.read_text().splitlines()]
        assert function not in [one.get("address") for one in lines]
        found = [one for one in lines if one.get("finding") == "dangling"]
        assert len(found) == 1 and own in found[0]["says"]
        assert enthesis("lab", "add", function, "--tied", own, at=folder).code == 0
        journey = proved(enthesis, folder, "the-function-reads-drafts-as-itself")
        assert journey["the-function-reads-drafts-as-itself"]["outcome"] == "refused"
        assert enthesis("lab", "remove", function, at=folder).code == 0
        assert enthesis("lab", "add", function, at=folder).code == 0
        assert enthesis("enact", "--yes", *ACCEPTED, "--prune", at=folder).code == 0
        assert enthesis("prove", at=folder).code == 0 and enthesis("propose", "--expect-none", at=folder).code == 0
        text = (folder / "rendering.yaml").read_text()
        sender = "  bulletin/identity/sender:                # independent: made alone, attached to several\n"
        assert sender in text
        client = Client(
            "lowland", lab_url(enthesis, folder, "lowland"), authority=folder / ".enthesis/lab/authority.pem"
        )
        with client:
            session = next(one["session"] for one in administrators(folder) if one.get("holder") == "bulletin")
            listed = client.ask("GET", "/administration/identities", headers={"Authorization": f"Bearer {session}"})
            one = next(one for one in listed.json("x")["items"] if one["address"] == "bulletin/identity/sender")
            headers = {"Authorization": f"Bearer {session}", "If-Match": one["etag"]}
            assert client.ask("DELETE", f"/administration/identities/{one['id']}", headers=headers).status == 204
        gone = enthesis("propose", "--format", "json", at=folder).json["dangling"]
        assert [one for one in gone if "the attachment by which bulletin/connector/mail runs as" in one]
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def administrators(folder: Path) -> list[dict[str, str]]:
    listed: list[dict[str, str]] = json.loads((folder / ".enthesis/lab/administrators.json").read_text())
    return [one for one in listed if "session" in one]


def lab_url(enthesis: Program, folder: Path, name: str) -> str:
    services = enthesis("lab", "status", "--format", "json", at=folder).json["services"]
    return str(next(one["url"] for one in services if one["name"] == name))


@pytest.fixture(scope="module")
def collectors(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    folder = copied(tmp_path_factory.mktemp("hosts") / "estate", "estate.yaml", "collectors.yaml")
    with lab_of(enthesis, folder) as lab:
        yield lab


HOSTS = 1000 if LONG else 150


def test_many_hosts_obtain_and_renew_and_no_grant_changes(enthesis: Program, collectors: Lab) -> None:
    folder = collectors.folder
    added = enthesis("lab", "add", "gauges/pool/collectors/host/c", "--count", str(HOSTS), at=folder)
    assert added.code == 0, added.err
    assert enthesis("propose", "--expect-none", at=folder).code == 0
    names = [f"gauges/pool/collectors/host/c-{number}" for number in range(1, HOSTS + 1)]
    url = collectors.hosts("lowland")

    def sessions(some: list[str]) -> list[Handed]:
        with Client("hosts", url) as client:
            got = [Hosts(client).service(host).session() for host in some]
        assert all(isinstance(one, Handed) and one.identity == "gauges/identity/collector" for one in got)
        return [one for one in got if isinstance(one, Handed)]

    def every() -> list[Handed]:
        with ThreadPoolExecutor(8) as pool:
            return [one for some in pool.map(sessions, [names[at::8] for at in range(8)]) for one in some]

    def tokens(handed: list[Handed]) -> set[str]:
        return {one.credential.secret.reveal() for one in handed}

    first = every()
    assert len(tokens(first)) == HOSTS
    assert tokens(every()) == tokens(first)  # more than half of their life is left
    assert enthesis("lab", "clock", "--forward", "16m", at=folder).code == 0
    renewed = every()
    assert len(tokens(renewed)) == HOSTS and not tokens(renewed) & tokens(first)
    assert min(one.credential.life.total_seconds() for one in renewed) > 25 * 60
    assert enthesis("lab", "clock", "--forward", "20m", at=folder).code == 0
    assert len(tokens(every()) - tokens(renewed)) == HOSTS


@pytest.mark.attack("other users of the machine")
def test_a_request_that_is_proxied_or_forged_gets_nothing(collectors: Lab) -> None:
    base = f"{collectors.hosts('lowland')}/{quote('gauges/host/collector-1')}"
    asked = {"Asked-Directly": "yes"}

    def status(headers: dict[str, str], path: str = "session") -> int:
        if path == "session":
            return httpx.post(f"{base}/session", headers=headers, json={}, trust_env=False).status_code
        return httpx.get(f"{base}/{path}", headers=headers, trust_env=False).status_code

    assert status(asked) == 200 and status(asked, "about") == 200
    assert status({}) == 403 and status({"Asked-Directly": "no"}, "about") == 403
    for header in ("Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "Via", "X-Real-IP"):
        assert status({**asked, header: "192.0.2.1"}) == 403
    assert status({**asked, "Host": "metadata.example"}) == 403
    wrong = httpx.get(f"{base.replace('collector-1', 'nobody')}/about", headers=asked, trust_env=False)
    assert wrong.status_code == 404


def test_what_a_host_runs_as_is_swapped_and_detached_while_it_runs(enthesis: Program, tmp_path: Path) -> None:
    folder = copied(tmp_path / "estate", "estate.yaml", "collectors.yaml")
    other = "gauges/identity/other"
    (folder / "more.yaml").write_text(
        f"identities: {{{other}: {{kind: instance-role}}}}\ntrusts: [{{of: {other}, admits: {{attached: true}}}}]\n"
    )
    line = "  - {what: gauges/host/collector-1, runs_as: gauges/identity/collector}\n"
    try:
        lab = start_lab(enthesis, folder)
        text = (folder / "collectors.yaml").read_text()
        with Client("hosts", lab.hosts("lowland")) as client:
            service = Hosts(client).service("gauges/host/collector-1")
            for running, lines in (
                ((), ""),
                (("gauges/identity/collector",), line),
                ((other,), line.replace("gauges/identity/collector", other)),
                (
                    ("gauges/identity/collector", other),
                    line.replace("as: gauges", "as: [gauges").replace("r}", f"r, {other}]}}"),
                ),
                ((), ""),
            ):
                (folder / "collectors.yaml").write_text(text.replace(line, lines))
                assert enthesis("enact", "--yes", *ACCEPTED, "--prune", at=folder).code == 0
                assert service.about().identities == running
                for identity in ("gauges/identity/collector", other):
                    assert isinstance(service.session(identity), Handed) is (identity in running)
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def test_trust_taken_away_ends_new_sessions_at_once_and_old_ones_at_their_end(
    enthesis: Program, tmp_path: Path
) -> None:
    folder = copied(tmp_path / "estate", "estate.yaml", "collectors.yaml")
    trust = "  - {of: gauges/identity/collector, admits: {attached: true}, session: 30m}\n"
    try:
        lab = start_lab(enthesis, folder)
        assert enthesis("enact", "--yes", *ACCEPTED, at=folder).code == 0
        with Client("hosts", lab.hosts("lowland")) as client:
            service = Hosts(client).service("gauges/host/collector-1")
            old = service.session()
            assert isinstance(old, Handed)
            text = (folder / "collectors.yaml").read_text()
            (folder / "collectors.yaml").write_text(text.replace(trust, ""))
            said = enthesis("propose", "--prune", at=folder).out
            assert "sessions as gauges/identity/collector that exist already, for up to 30m more" in said
            enacted = enthesis("enact", "--yes", *ACCEPTED, "--prune", "--format", "json", at=folder)
            assert list(enacted.json["lives_on"]) == ["gauges/identity/collector"]
            assert not isinstance(service.session(), Handed)
        place = f"{lab.services['lowland']}/places/gauges/bucket/raw-levels/object/north/now"

        def write() -> int:
            headers = {"Authorization": f"Bearer {old.credential.secret.reveal()}"}
            with httpx.Client(verify=safely(lab), trust_env=False) as cloud:
                return cloud.put(place, headers=headers, content=b"x").status_code

        assert write() == 201
        assert enthesis("lab", "clock", "--forward", "31m", at=folder).code == 0
        assert write() == 401
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def test_making_and_binding_an_identity_are_two_permissions(enthesis: Program, tmp_path: Path) -> None:
    """At the administration interface itself: a requester makes a service account, and binds nothing."""
    folder = copied(tmp_path / "estate", "estate.yaml", "people.yaml")
    try:
        lab = start_lab(enthesis, folder)
        assert enthesis("enact", "--yes", *ACCEPTED, at=folder).code == 0
        with httpx.Client(verify=safely(lab), base_url=lab.services["lowland"], trust_env=False) as cloud:
            made: dict[str, str] = {}

            def ask(who: str, collection: str, body: Mapping[str, object]) -> int:
                token = signed_in(lab, f"@saltmarsh/identity/{who}")
                answer = cloud.post(
                    f"/administration/{collection}", headers={"Authorization": f"Bearer {token}"}, json=body
                )
                if answer.status_code == 201 and "address" in body:
                    made[str(body["address"])] = answer.json()["id"]
                return answer.status_code

            identity = {"address": "gauges/identity/new", "kind": "service-account", "holder": "gauges"}
            assert ask("jonas", "identities", identity) == 403
            assert ask("maren", "identities", identity) == 201
            admin = {"Authorization": f"Bearer {lab.administrator('gauges')}"}
            role = cloud.get("/administration/roles", headers=admin).json()["items"][0]["id"]
            to = {"identity": made["gauges/identity/new"]}
            grant = {"to": to, "role": role, "at": "gauges/host/bench", "holder": "gauges"}
            assert ask("maren", "grants", grant) == 403
            assert ask("jonas", "grants", grant) == 201
            trust = {"of": made["gauges/identity/new"], "admits": {"account": "gauges"}, "holder": "gauges"}
            assert ask("maren", "trusts", trust) == 403
            assert ask("jonas", "trusts", trust) == 201
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


def safely(lab: Lab) -> ssl.SSLContext:
    return ssl.create_default_context(cafile=lab.authority)


def signed_in(lab: Lab, person: str) -> str:
    from enthesis.connectors.directory import LabDirectory

    name = person.split("/", maxsplit=1)[0]
    with Client(name, lab.services[name], authority=Path(lab.authority)) as client:
        got = LabDirectory(name, client, lab.owner).sign_in_as(person, True)
        assert isinstance(got, HeldCredential)
        return got.secret.reveal()


def test_a_group_by_rule_finds_the_identity_of_a_new_instance_in_the_place(enthesis: Program, tmp_path: Path) -> None:
    folder = copied(tmp_path / "estate", "estate.yaml", "collectors.yaml")
    (folder / "more.yaml").write_text(
        "resources:\n  gauges/secret/offsets: {}\n  gauges/pool/collectors/host/c-1: {}\n  gauges/host/elsewhere: {}\n"
        "identities:\n"
        "  gauges/identity/c-1: {kind: managed-identity, tied_to: gauges/pool/collectors/host/c-1}\n"
        "  gauges/identity/away: {kind: managed-identity, tied_to: gauges/host/elsewhere}\n"
        "groups:\n  gauges/group/pooled: {where: {in: gauges/pool/collectors}}\n  gauges/group/idle: {members: []}\n"
        "roles: {offset-reading: {allows: {secret: [read]}}}\n"
        "grants: [{to: gauges/group/pooled, role: offset-reading, at: gauges/secret/offsets}]\n"
        "trusts:\n  - {of: gauges/identity/c-1, admits: {attached: true}}\n"
        "  - {of: gauges/identity/away, admits: {attached: true}}\n"
        "attachments:\n  - {what: gauges/pool/collectors/host/c-1, runs_as: gauges/identity/c-1}\n"
        "  - {what: gauges/host/elsewhere, runs_as: gauges/identity/away}\n"
        "journeys:\n"
        "  in-the-pool: {from: {host: gauges/pool/collectors/host/c-1}, through: [gauges/identity/c-1],"
        " attempt: read gauges/secret/offsets, expect: allowed}\n"
        "  elsewhere: {from: {host: gauges/host/elsewhere}, through: [gauges/identity/away],"
        " attempt: read gauges/secret/offsets, expect: refused, refused_at: target-side}\n"
        "  the-member-is-a-collector-too: {from: {host: gauges/pool/collectors/host/c-1},"
        " through: [gauges/identity/collector], expect: allowed}\n"
    )
    card = enthesis("card", "gauges/group/pooled", at=folder)
    assert "gauges/identity/c-1: found by the rule in gauges/pool/collectors" in card.out
    assert "in gauges: gauges/identity/away, gauges/identity/collector" in card.out
    assert "nothing: a group alone gives nothing" in enthesis("card", "gauges/group/idle", at=folder).out
    assert enthesis("check", "-q", at=folder).code == 0
    try:
        start_lab(enthesis, folder)
        assert enthesis("enact", "--yes", *ACCEPTED, at=folder).code == 0
        proof = enthesis("prove", at=folder)
        assert proof.code == 0, proof.out
    finally:
        enthesis("lab", "stop", "--clean", at=folder)


@pytest.mark.parametrize(
    ("lines", "code", "says"),
    [
        ("identities: {gauges/identity/x: {kind: robot-account}}", "unknown-word", "robot-account"),
        ("attachments: [{what: gauges/bucket/raw-levels, runs_as: gauges/identity/y}]", "cannot-run", "a bucket"),
        ("resources: {gauges/queue/q: {runs_as: gauges/identity/y}}", "cannot-run", "a queue"),
        ("groups: {gauges/group/all: {where: {}}}", "rule-of-everything", "finds every identity there is"),
        ("groups: {gauges/group/all: {where: {in: gauges}}}", "rule-of-everything", "in gauges"),
        ("groups: {gauges/group/a: {members: [gauges/group/a]}}", "group-cycle", "contains itself"),
        ("organisations: {other: {longest_key: 90d}}", "too-long", "thirty days"),
    ],
)
def test_bad_input_has_a_code_and_says_what(
    enthesis: Program, tmp_path: Path, lines: str, code: str, says: str
) -> None:
    folder = copied(tmp_path / "estate", "estate.yaml")
    (folder / "more.yaml").write_text(f"{lines}\n")
    if "identity/y" in lines:
        (folder / "one.yaml").write_text("identities: {gauges/identity/y: {kind: instance-role}}\n")
    ran = enthesis("check", "--format", "json", at=folder)
    assert ran.code == 2
    found = [one for one in ran.json["errors"] if one["code"] == code]
    assert found and says in found[0]["message"] + found[0]["text"], ran.json["errors"]

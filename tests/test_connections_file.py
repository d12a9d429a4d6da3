"""How live systems are reached: one file of the user's, with no secret in it."""

import json
import shutil
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest

from enthesis.live.connections import Connections, connections
from enthesis.model.errors import InvalidInput

from .conftest import SALTMARSH, Lab, Program, packaged_lab
from .databases import postgresql

LEVELS = "gauges/database/levels"
OWNER = "LEVELS_OWNER"


@pytest.fixture(scope="module")
def levels(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    with packaged_lab(enthesis, tmp_path_factory.mktemp("connections") / "levels", "levels") as lab:
        yield lab


def access(lab: Lab) -> str:
    listed = json.loads((lab.state / "services.json").read_text())["services"]
    return str(next(one["access"] for one in listed if one["name"] == LEVELS))


def written(folder: Path, text: str) -> Path:
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    file = folder / "connections.yaml"
    file.write_text(text)
    return file


def read(folder: Path, text: str, monkeypatch: pytest.MonkeyPatch) -> Connections:
    monkeypatch.setenv("ENTHESIS_CONNECTIONS", str(written(folder, text)))
    return connections()


@pytest.mark.parametrize("source", ["file", "variable", "command"])
def test_a_system_is_reached_by_a_secret_that_is_elsewhere(
    enthesis: Program, levels: Lab, tmp_path: Path, source: str
) -> None:
    """Without any option: survey, propose and the questions of a system, as its administrators."""
    folder = tmp_path / "elsewhere"
    shutil.copytree(SALTMARSH.parent / "levels", folder)
    (tmp_path / "owner").write_text(access(levels))
    said = {"file": "owner", "variable": OWNER, "command": f"[printenv, {OWNER}]"}[source]
    file = written(tmp_path, f"saltmarsh:\n  {LEVELS}: {{administrator: {{{source}: {said}}}}}\n")
    mine = {"ENTHESIS_CONNECTIONS": str(file), OWNER: access(levels)}
    listed = enthesis("connections", "--format", "json", at=folder, **mine)
    assert listed.code == 0 and list(listed.json["connections"]) == [LEVELS]
    ran = enthesis("connections", "try", at=folder, **mine)
    assert ran.code == 0 and "can be read; may be changed as the estate wants" in ran.out, ran.out + ran.err
    proposed = enthesis("propose", "--format", "json", at=folder, **mine)
    assert proposed.code == 3 and any("lowland" in one for one in proposed.json["not_read"]), proposed.err
    surveyed = enthesis("survey", "--out", str(tmp_path / "live.jsonl"), at=folder, **mine)
    assert surveyed.code == 3 and f"whole  {LEVELS}" in surveyed.err, surveyed.err
    for one in (listed, ran, proposed, surveyed):
        assert access(levels) not in one.out + one.err
    away = enthesis("propose", at=folder, ENTHESIS_CONNECTIONS=str(written(tmp_path / "none", "")))
    assert away.code == 3 and "enthesis connections --help" in away.err


def test_what_a_login_lacks_is_said(enthesis: Program, tmp_path: Path) -> None:
    folder = tmp_path / "elsewhere"
    shutil.copytree(SALTMARSH.parent / "levels", folder)
    with postgresql() as url:
        (tmp_path / "owner").write_text(url.replace("postgres@", "reader@"))
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute("create role reader login")
        file = written(tmp_path, f"saltmarsh:\n  {LEVELS}: {{administrator: {{file: owner}}}}\n")
        ran = enthesis("connections", "try", "--format", "json", at=folder, ENTHESIS_CONNECTIONS=str(file))
    assert ran.code == 1, ran.out
    (told,) = ran.json["connections"]
    assert told["works"] is False and told["may"] == ["can be read"] and told["lacks"][0] == "make roles"


def test_a_lab_is_what_its_estate_speaks_to(enthesis: Program, levels: Lab) -> None:
    ran = enthesis("connections", "try", at=levels.folder)
    assert ran.code == 0 and "3 of 3 connections work" in ran.out, ran.out
    assert enthesis("connections", "tried", at=levels.folder).code == 2


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("shop: [1]", "expected names with what they are at shop"),
        ("- shop", "expected names with what they are"),
        ("shop: {a/database/b: {administrator: hunter2}}", "never what it is"),
        ("shop: {a/database/b: {administrator: {file: x, variable: y}}}", "never what it is"),
        ("shop: {a/database/b: {administrator: {command: cat x}}}", "is a list of words"),
        ("shop: {a/database/b: {administrator: {variable: ''}}}", "is a text"),
        ("shop: {a/database/b: {administrators: {file: x}}}", "unknown field administrators"),
        ("shop: {a/cluster/b: {kubeconfig: x, token: {file: y}}}", "is reached by one of"),
        ("shop: {a/database/b: {administrator: {file: x}, context: c}}", "is reached by one of"),
        ("shop: {a/cluster/b: {kubeconfig: [x]}}", "is a text"),
        ("shop: {", "connections.yaml:1: not YAML"),
    ],
)
def test_what_is_wrong_in_the_file_is_said(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, text: str, why: str
) -> None:
    with pytest.raises(InvalidInput) as caught:
        read(tmp_path / "own", text, monkeypatch)
    assert why in str(caught.value) and "hunter2" not in str(caught.value)


def test_paths_are_from_the_folder_of_the_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    text = "shop:\n  a/cluster/b: {kubeconfig: kube/config, context: b}\n  a/host/c: {place: 'ssh://admin@c.example'}\n"
    found = read(tmp_path / "own", text, monkeypatch).for_estate("shop")
    assert [(one.name, one.by) for one in found] == [
        ("a/cluster/b", f"{tmp_path / 'own' / 'kube/config'}, context b"),
        ("a/host/c", "ssh://admin@c.example"),
    ]


def test_a_file_that_others_can_write_runs_no_command(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    text = "shop: {a/database/b: {administrator: {command: [touch, ran]}}}"
    written(tmp_path / "own", text).chmod(0o620)
    monkeypatch.setenv("ENTHESIS_CONNECTIONS", str(tmp_path / "own" / "connections.yaml"))
    with pytest.raises(Exception, match="can be written by others"):
        connections()
    (tmp_path / "own" / "connections.yaml").chmod(0o600)
    (tmp_path / "own").chmod(0o770)
    with pytest.raises(Exception, match="can be written by others"):
        connections()


def test_what_the_estate_has_not_is_no_connection(enthesis: Program, tmp_path: Path) -> None:
    folder = tmp_path / "levels"
    shutil.copytree(SALTMARSH.parent / "levels", folder)
    file = written(tmp_path, f"saltmarsh: {{{LEVELS}s: {{administrator: {{file: x}}}}}}")
    ran = enthesis("propose", at=folder, ENTHESIS_CONNECTIONS=str(file))
    assert ran.code == 2 and LEVELS in ran.err and "has no" in ran.err, ran.err
    file = written(tmp_path, f"saltmarsh: {{{LEVELS}: {{administrator: {{variable: NOT_SET}}}}}}")
    ran = enthesis("propose", at=folder, ENTHESIS_CONNECTIONS=str(file))
    assert ran.code == 2 and "the variable NOT_SET is not set" in ran.err
    gone = enthesis("propose", at=folder, ENTHESIS_CONNECTIONS=str(tmp_path / "gone.yaml"))
    assert gone.code == 2 and "which is not there" in gone.err

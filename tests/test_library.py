"""The library that programs of others use, its page of examples, and the plugin for pytest."""

import re
import shutil
from dataclasses import fields
from importlib.metadata import entry_points
from pathlib import Path

import pytest

import enthesis
from enthesis import library

ROOT = Path(__file__).parent.parent
EXAMPLE = ROOT / "src" / "enthesis" / "data" / "saltmarsh"
pytest_plugins = ["pytester"]


@pytest.fixture
def saltmarsh(tmp_path: Path) -> Path:
    """The first chapter of the worked example."""
    folder = tmp_path / "saltmarsh"
    folder.mkdir()
    for name in ("estate.yaml", "publishing.yaml", "expected.yaml"):
        shutil.copy(EXAMPLE / name, folder)
    return folder


def test_what_stays_as_it_is() -> None:
    assert enthesis.__all__ == library.__all__
    assert all(getattr(enthesis, name) is getattr(library, name) for name in enthesis.__all__)
    assert set(enthesis.__all__) <= set(dir(enthesis))
    told = {name: [one.name for one in fields(getattr(enthesis, name))] for name in ("Answer", "Access", "Comparison")}
    assert told == {
        "Answer": ["allowed", "outcome", "refused_at", "text", "verdict", "estate"],
        "Access": ["caller", "form", "verb", "target", "keyless", "steps", "values"],
        "Comparison": ["gained", "lost", "decided"],
    }
    with pytest.raises(AttributeError):
        enthesis.nothing  # noqa: B018


def test_the_page_of_examples_runs_as_it_stands(saltmarsh: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(saltmarsh.parent)
    blocks = re.findall(r"```python\n(.*?)```", (ROOT / "docs" / "library.md").read_text(encoding="utf-8"), re.DOTALL)
    assert len(blocks) == 4
    exec("\n".join(blocks), {})  # noqa: S102  our own page


def test_answers_and_errors(saltmarsh: Path) -> None:
    estate = enthesis.read_estate(saltmarsh)
    answer = enthesis.ask(estate, "publish-from-main")
    assert answer.allowed and answer.refused_at == () and answer.as_json()["allowed"] is True
    assert "build/identity/publisher" in answer.explained()
    everything = enthesis.reach(estate, start="build/identity/publisher")
    assert any(one.steps[-1][1] == "write" and one.keyless is None for one in everything)
    with pytest.raises(enthesis.InvalidInput) as fault:
        enthesis.ask(estate, "publish-from-mian")
    assert fault.value.code == "journey-unknown" and "publish-from-main" in fault.value.remedy
    for wrong in ({"from": {"token": "forge"}, "through": 3}, {"attempt": "write x"}, {"what": 1}):
        with pytest.raises(enthesis.InvalidInput):
            enthesis.ask(estate, wrong)
    for more in ({}, {"start": "a", "to": "b"}, {"to": "nowhere/at/all"}, {"start": "nobody"}):
        with pytest.raises(enthesis.InvalidInput):
            enthesis.reach(estate, **more)  # type: ignore[arg-type]
    with pytest.raises(enthesis.InvalidEstate) as invalid:
        enthesis.parse_estate("estate: x\naccounts: {a: {in: nowhere, provider: none}}\n")
    assert len(invalid.value.errors) >= 2
    with pytest.raises(enthesis.InvalidInput):
        enthesis.read_survey(saltmarsh / "estate.yaml")
    with pytest.raises(enthesis.InvalidInput):
        enthesis.read_survey(saltmarsh / "none.jsonl")


def test_no_run_of_pytest_loads_the_plugin_unasked() -> None:
    assert not [one for one in entry_points(group="pytest11") if one.value.startswith("enthesis")]


def test_the_plugin_asserts_verdicts_and_prints_the_answer(pytester: pytest.Pytester, saltmarsh: Path) -> None:
    shutil.copytree(saltmarsh, pytester.path / "access")
    pytester.makeini("[pytest]\nenthesis_estate = access\n")
    pytester.makeconftest('pytest_plugins = ["enthesis.testing"]')
    pytester.makepyfile("""
        def test_good(verdict):
            verdict.allowed("publish-from-main")
            verdict.refused("publish-from-a-side-branch", at="target-side")

        def test_allowed(verdict):
            verdict.allowed("publish-from-a-side-branch")

        def test_refused(verdict):
            verdict.refused("publish-from-main")

        def test_elsewhere(verdict):
            verdict.refused("publish-from-a-side-branch", at="session")

        def test_a_name_that_is_wrong(verdict):
            verdict.refused({"from": {"identity": "build/identity/nobody"}, "attempt": "describe build"})

        def test_lab(estate_lab):
            assert (estate_lab / ".enthesis" / "lab").is_dir()
    """)
    ran = pytester.runpytest_subprocess("-p", "no:cacheprovider")
    ran.assert_outcomes(passed=2, failed=4)
    told = ran.stdout.str()
    assert "rewrite" not in told
    assert "expected allowed, got refused" in told and "expected refused at session, got target-side" in told
    assert "take on build/identity/publisher  refused" in told and "proves nothing" in told

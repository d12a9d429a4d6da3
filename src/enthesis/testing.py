"""A plugin for pytest: an estate, verdicts that are asserted, and a lab, as fixtures.

    # conftest.py, beside pytest's settings
    pytest_plugins = ["enthesis.testing"]

    # pytest.ini
    [pytest]
    enthesis_estate = access

    # test_access.py
    def test_the_pipeline_publishes(verdict):
        verdict.allowed("publish-from-main")
        verdict.refused("publish-from-a-side-branch", at="target-side")

A failed assertion prints the whole answer, every request with its steps.
"""

import shutil
import subprocess
import sys
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

if TYPE_CHECKING:
    from enthesis.library import Answer, Estate

SETTING = "enthesis_estate"
Asked = Mapping[str, Any] | str
"""A journey by its name, or as a mapping with the fields of `journeys`."""


def pytest_addoption(parser: pytest.Parser) -> None:
    """The folder of the estate, from the folder of pytest's settings."""
    parser.addini(SETTING, "the folder of the estate that tests are about", default=".")


@dataclass(frozen=True)
class Verdicts:
    """Asserts what an estate allows and refuses."""

    estate: "Estate"

    def allowed(self, journey: Asked, *, time: datetime | None = None) -> "Answer":
        """The answer, which must be yes."""
        __tracebackhide__ = True
        answer = self._answer(journey, time)
        if answer.outcome != "allowed":
            pytest.fail(f"expected allowed, got {answer.outcome}\n\n{answer.explained()}", pytrace=False)
        return answer

    def refused(self, journey: Asked, *, at: str = "", time: datetime | None = None) -> "Answer":
        """The answer, which must be no: at this step, where one is named."""
        __tracebackhide__ = True
        answer = self._answer(journey, time)
        if answer.outcome != "refused":
            pytest.fail(f"expected refused, got {answer.outcome}\n\n{answer.explained()}", pytrace=False)
        if at and at not in answer.refused_at:
            found = ", ".join(answer.refused_at)
            pytest.fail(f"expected refused at {at}, got {found}\n\n{answer.explained()}", pytrace=False)
        if not at and "names" in answer.refused_at:
            pytest.fail(f"a name does not exist, so this proves nothing\n\n{answer.explained()}", pytrace=False)
        return answer

    def _answer(self, journey: Asked, time: datetime | None) -> "Answer":
        from enthesis.library import ask  # noqa: PLC0415  every run of pytest loads this plugin

        return ask(self.estate, journey, time=time)


@pytest.fixture(scope="session")
def estate_folder(pytestconfig: pytest.Config) -> Path:
    """The folder of the estate."""
    return pytestconfig.rootpath / str(pytestconfig.getini(SETTING))


@pytest.fixture(scope="session")
def estate(estate_folder: Path) -> "Estate":
    """The estate."""
    from enthesis.library import read_estate  # noqa: PLC0415  as above

    return read_estate(estate_folder)


@pytest.fixture(scope="session")
def verdict(estate: "Estate") -> Verdicts:
    """Asserts what the estate allows and refuses."""
    return Verdicts(estate)


@pytest.fixture(scope="session")
def estate_lab(estate_folder: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A copy of the estate's folder, with a lab that runs for it and is ended afterwards."""
    folder = tmp_path_factory.mktemp("lab") / "estate"
    shutil.copytree(estate_folder, folder, ignore=shutil.ignore_patterns(".enthesis", ".git"))
    words = [sys.executable, "-m", "enthesis", "lab"]
    subprocess.run([*words, "start"], cwd=folder, check=True, capture_output=True)  # noqa: S603  this program
    try:
        yield folder
    finally:
        subprocess.run([*words, "stop", "--clean"], cwd=folder, check=False, capture_output=True)  # noqa: S603

"""Every cause of an error has a code of its own, which one table explains; what nobody foresaw is a message too."""

import ast
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

import enthesis
from enthesis.access import tables
from enthesis.cli import main
from enthesis.connectors.cluster import writing
from enthesis.files import editing, yaml_tree
from enthesis.model import errors
from enthesis.model.causes import CAUSES, IN_ESTATE
from enthesis.surveys import survey
from enthesis.tokens import checking
from enthesis_lab import commands

from .errors_page import PAGE, page
from .test_file_errors import CORPUS

SOURCES = Path(enthesis.__file__).parent
RAISED = {name for name, one in vars(errors).items() if isinstance(one, type) and issubclass(one, errors.EnthesisError)}
LOCATED = ("wrong", "wrong_at", "FileError")


def calls() -> Iterator[tuple[Path, ast.Call, str]]:
    for path in sorted([*SOURCES.rglob("*.py"), *Path(commands.__file__).parent.glob("*.py")]):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call):
                function = node.func
                name = function.attr if isinstance(function, ast.Attribute) else getattr(function, "id", "")
                yield path, node, name


def test_every_error_that_is_raised_has_a_code_of_the_table_and_each_code_is_used() -> None:
    used = {"fault-of-ours", *(one.inner_code for one in _inner())}
    for path, call, name in calls():
        given = [one.value for one in call.keywords if one.arg == "code"]
        codes = [str(one.value) for one in given if isinstance(one, ast.Constant)]
        if name in RAISED - {"InvalidEstate", "InvalidAddress", "Undecided", "InnerError", "EnthesisError"}:
            assert codes, (path.name, call.lineno)
        used |= set(codes) & set(CAUSES)
        assert set(codes) <= set(CAUSES) | set(IN_ESTATE), (path.name, call.lineno, codes)
    used.add("estate-invalid")
    assert set(CAUSES) == used


def _inner() -> list[type[errors.InnerError]]:
    known = (errors, yaml_tree, editing, survey, tables, writing)
    return [
        one for module in known for one in vars(module).values()
        if isinstance(one, type) and issubclass(one, errors.InnerError) and one is not errors.InnerError
    ]  # fmt: skip


def test_every_code_of_a_error_in_an_estate_is_in_the_table() -> None:
    found = {
        call.args[0].value
        for path, call, name in calls()
        if name in LOCATED and path.parent.name == "files" and call.args and isinstance(call.args[0], ast.Constant)
    }
    assert found | {"claim-not-issued", "claim-not-list"} == set(IN_ESTATE)
    seen = {line.split(" ", 1)[1].split(":")[0] for line in CORPUS.splitlines() if line[:1].isdigit() and ":" in line}
    assert seen <= set(IN_ESTATE)
    assert len(seen) > 25


def test_every_exception_of_ours_is_in_the_tree() -> None:
    tree = {errors.EnthesisError, checking.Refused, *_inner()}
    for path in sorted(SOURCES.rglob("*.py")):
        for node in ast.parse(path.read_text(encoding="utf-8")).body:
            if isinstance(node, ast.ClassDef):
                bases = {base.id for base in node.bases if isinstance(base, ast.Name)}
                alone = bases & {"Exception", "ValueError", "RuntimeError", "LookupError"} and not bases & RAISED
                assert not alone or node.name in ("EnthesisError", "_Failed"), (path.name, node.name)
    assert all(issubclass(one, errors.EnthesisError) for one in tree)


def test_the_page_of_errors_is_the_table() -> None:
    assert PAGE.read_text(encoding="utf-8") == page(), "write it anew: python -m tests.errors_page"


@pytest.mark.parametrize("debug", [False, True])
def test_what_nobody_foresaw_is_one_message_with_a_code(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], debug: bool
) -> None:
    def broken(*words: object) -> None:
        raise KeyError("of-ours")

    monkeypatch.setattr(main, "refuse_old_words", broken)
    monkeypatch.setattr(sys, "argv", ["enthesis", *(["--debug"] if debug else []), "check"])
    with pytest.raises(SystemExit) as ended:
        main.run()
    assert ended.value.code == 70
    said = capsys.readouterr().err
    assert "Error: a fault of Enthesis itself: KeyError" in said
    assert ("Traceback" in said) == debug and ("of-ours" in said) == debug

"""The JSON Schema that `check --schema` prints says what the reader reads."""

from pathlib import Path
from typing import Any

import jsonschema
import pytest
import yaml

from enthesis.files.sections import SECTIONS
from enthesis.proposals.steps import Proposal

from .conftest import SALTMARSH, Program


@pytest.fixture(scope="module")
def schema(enthesis: Program, tmp_path_factory: pytest.TempPathFactory) -> Any:
    ran = enthesis("check", "--schema", at=tmp_path_factory.mktemp("nowhere"))
    assert ran.code == 0
    jsonschema.Draft202012Validator.check_schema(ran.json)
    return ran.json


@pytest.mark.parametrize("file", sorted(SALTMARSH.glob("*.yaml")), ids=lambda path: path.name)
def test_the_packaged_estate_fits(schema: Any, file: Path) -> None:
    jsonschema.validate(yaml.safe_load(file.read_text(encoding="utf-8")), schema)


@pytest.mark.parametrize(
    "wrong",
    [
        {"identitys": {}},
        {"providers": {"north": {}}},
        {"providers": {"north": {"style": "both"}}},
        {"trusts": [{"of": "a/identity/b", "admits": {}}]},
        {"trusts": [{"of": "a/identity/b", "admits": {"token": "f", "identity": "x"}}]},
        {"trusts": [{"of": "a/identity/b", "admits": {"token": "f", "claims": {"sub": {"like": "a"}}}}]},
        {"grants": [{"to": "a", "role": "r"}]},
        {"grants": [{"to": "a*", "role": "r", "at": "b"}]},
        {"ceilings": [{"name": "c", "over": "callers", "at": "@o"}]},
        {"grants": [{"to": "a", "role": "r", "at": "b", "when": {"weather": "fine"}}]},
        {"trusts": [{"of": "a", "admits": {"account": "b"}, "session": "forever"}]},
    ],
)
def test_what_the_reader_refuses_the_schema_refuses(schema: Any, wrong: Any) -> None:
    assert not jsonschema.Draft202012Validator(schema).is_valid(wrong)


def test_a_proposal_beside_the_files_of_an_estate_has_no_field_that_is_called_like_a_section() -> None:
    assert not set(Proposal("x").as_json()) & set(SECTIONS)

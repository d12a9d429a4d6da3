"""Whatever the reader accepts can be written out and read back to the same model."""

import json
from typing import Any

from hypothesis import given, settings

from enthesis.files.folder import read_texts
from enthesis.files.writing import estate_text

from .conftest import SALTMARSH, examples
from .estates import estates


@given(estates())
@settings(max_examples=examples(200))
def test_written_and_read_back(data: dict[str, Any]) -> None:
    first = read_texts({"estate.json": json.dumps(data)})
    assert first.errors == ()
    assert first.estate is not None
    second = read_texts({"estate.yaml": estate_text(first.estate)})
    assert second.errors == ()
    assert second.estate == first.estate


def test_the_packaged_estate_too() -> None:
    texts = {path.name: path.read_text(encoding="utf-8") for path in SALTMARSH.glob("*.yaml")}
    first = read_texts(texts).estate
    assert first is not None
    assert read_texts({"estate.yaml": estate_text(first)}).estate == first

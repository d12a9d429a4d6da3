"""The reference of an estate's files explains every section, field, kind and verb, with examples that are read."""

import pytest

from enthesis.files.folder import read_texts
from enthesis.files.sections import SECTIONS
from enthesis.output.reference import SAYS, rows

from .fields_page import PAGE, page


def test_the_page_is_what_the_description_says() -> None:
    assert PAGE.read_text(encoding="utf-8") == page(), "write it again: python -m tests.fields_page"


def test_every_section_and_field_is_explained() -> None:
    assert set(SAYS) == set(SECTIONS)
    unexplained = [f"{name}.{path}" for name, one in SECTIONS.items() for path, _, text in rows(one.record) if not text]
    assert not unexplained


@pytest.mark.parametrize("section", SECTIONS)
def test_every_example_is_read(section: str) -> None:
    text = page().partition(f"\n## {section}\n")[2].partition("```yaml\n")[2].partition("```")[0]
    found = read_texts({"estate.yaml": f"estate: example\n{text.replace('…', 'a')}"})
    # an example names what others describe; anything else about it is as it must be
    wrong = [one for one in found.errors if one.code not in ("unknown-name", "unknown-place")]
    assert not wrong, wrong

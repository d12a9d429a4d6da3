"""An estate given as records, one a statement, is the same estate; and its files are edited without loss."""

import json
from collections.abc import Iterator
from dataclasses import replace
from random import Random
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.access.compiling import compile_estate
from enthesis.access.questions import question_of
from enthesis.files.editing import Addition, Edit, NotEditable, Replacement, edited
from enthesis.files.folder import read_texts
from enthesis.files.sections import SECTIONS
from enthesis.files.writing import estate_text, plain_estate
from enthesis.model.catalogue import Catalogue
from enthesis.model.estate import Estate
from enthesis.surveys.survey import VERSION, InvalidSurvey, read_survey
from enthesis.verdicts.judge import Judge

from .conftest import examples
from .test_judging import NOW, random_estate


def records_of(estate: Estate) -> Iterator[dict[str, Any]]:
    """The statements of an estate as records."""
    for section, entries in plain_estate(estate).items():
        if section in ("estate", "journeys", "invariants"):
            continue
        key = SECTIONS[section].key
        if key:
            yield from ({"section": section, key: name, **entry} for name, entry in entries.items())
        else:
            yield from ({"section": section, **entry} for entry in entries)


def surveyed(records: list[dict[str, Any]], catalogue: Catalogue) -> Estate:
    """The estate in a survey with these records."""
    header = {"enthesis": "survey", "version": VERSION, "taken": "2026-11-24T00:00:00Z", "of": []}
    return read_survey(map(json.dumps, [header, *records, {"end": True, "complete": True}]), "f", catalogue).estate


@given(st.integers(0, 2**32))
@settings(max_examples=examples(10))
def test_records_in_any_order_are_judged_like_the_estate_itself(seed: int) -> None:
    estate = random_estate(seed, journeys=20)
    records = [json.loads(json.dumps(record)) for record in records_of(estate)]
    head = [record for record in records if record["section"] not in ("trusts", "grants", "identities", "resources")]
    rest = [record for record in records if record not in head]
    Random(seed).shuffle(rest)
    judges = Judge(compile_estate(estate)), Judge(compile_estate(surveyed([*rest, *head], estate.catalogue)))
    for journey in estate.journeys.values():
        one, other = (judge.judge(question_of(journey, NOW)) for judge in judges)
        assert [request.refused_at for request in one.requests] == [request.refused_at for request in other.requests]
        assert [request.life for request in one.requests] == [request.life for request in other.requests]


@pytest.mark.parametrize(
    ("record", "says"),
    [
        ({"section": "grants", "to": "a"}, "`role` is missing"),
        ({"section": "nothing"}, "an estate has no section `nothing`"),
        ({"to": "a"}, "says nothing that is understood"),
        ({"section": "trusts", "of": "a", "admits": {}}, "has none of them"),
        ({"section": "trusts", "of": "a", "admits": {"identity": "b"}, "session": "soon"}, "the text 'soon'"),
        ({"section": "grants", "to": "a", "role": "r", "at": "a", "until": "soon"}, "the text 'soon'"),
        ({"section": "roles", "name": "r"}, "`allows` is missing"),
        (["grants"], "not a JSON object"),
    ],
)
@pytest.mark.attack("mangled files and answers")
def test_a_record_that_is_none_is_told_with_its_line(record: Any, says: str) -> None:
    catalogue = random_estate(1, journeys=0).catalogue
    good = {"section": "organisations", "name": "works"}
    with pytest.raises(InvalidSurvey, match="line 3 of f") as told:
        surveyed([good, record], catalogue)
    assert says in str(told.value)


# -- editing --------------------------------------------------------------------------------------------------------

TEXT = """\
# at the top
estate: x
roles:   # names of what may be done
  reading: {allows: {object: read}}   # only this

  # the next one is for writers
  writing:
    allows:
      object: [write]
grants:
- to: a/identity/i   # not indented
  role: reading
  at: a
  when:
    network:
    - within: 10.0.0.0/8
    - within: 192.0.2.0/24
  until: "2027-01-01T00:00:00Z"

trusts: []
groups: {a/group/g: {members: [a/identity/i]}}
# at the end
"""


def lines_changed(before: str, after: str) -> tuple[set[str], set[str]]:
    one, other = before.splitlines(), after.splitlines()
    return {line for line in one if line not in other}, {line for line in other if line not in one}


def test_additions_touch_no_other_line() -> None:
    for edit, line in (
        (Addition("roles", "more", {"allows": {"key": "decrypt"}}), "  more: {allows: {key: decrypt}}"),
        (Addition("grants", "", {"to": "b", "role": "reading", "at": "a"}), "- {to: b, role: reading, at: a}"),
        (Addition("ceilings", "", {"name": "c"}), "  - {name: c}"),
    ):
        (text,) = edited({"estate.yaml": TEXT}, [edit]).values()
        gone, new = lines_changed(TEXT, text)
        assert not gone and line in new
    (text,) = edited({"estate.yaml": TEXT}, [Addition("trusts", "", {"of": "a"})]).values()
    assert "trusts: [{of: a}]" in text
    (text,) = edited({"estate.yaml": TEXT}, [Addition("groups", "a/group/h", {})]).values()
    assert "groups: {a/group/g: {members: [a/identity/i]}, a/group/h: {}}" in text


def test_replacements_touch_their_value_alone() -> None:
    (text,) = edited({"estate.yaml": TEXT}, [Replacement("estate.yaml", 11, 3, ("role",), "writing")]).values()
    assert lines_changed(TEXT, text) == ({"  role: reading"}, {"  role: writing"})
    (text,) = edited({"estate.yaml": TEXT}, [Replacement("estate.yaml", 11, 3, ("until",), None)]).values()
    assert lines_changed(TEXT, text) == ({'  until: "2027-01-01T00:00:00Z"'}, set())
    change = Replacement("estate.yaml", 11, 3, ("when", "network"), {"within": ["10.0.0.0/8"]})
    (text,) = edited({"estate.yaml": TEXT}, [change]).values()
    assert "    network: {within: [10.0.0.0/8]}\n  until:" in text
    both: list[Edit] = [
        change,
        Replacement("estate.yaml", 4, 12, ("includes",), ["writing"]),
        Addition("roles", "z", {"allows": {}}),
    ]
    (text,) = edited({"estate.yaml": TEXT}, both).values()
    assert "reading: {allows: {object: read}, includes: [writing]}   # only this" in text
    assert "# at the end" in text and "# the next one is for writers" in text


def test_json_stays_json_and_what_cannot_be_kept_is_refused() -> None:
    text = json.dumps({"estate": "x", "roles": {"r": {"allows": {"object": "read"}}}, "grants": []})
    edits: list[Edit] = [Addition("grants", "", {"to": "no", "role": "r"}), Addition("trusts", "", {"of": "a"})]
    (after,) = edited(
        {
            "estate.json": text,
        },
        edits,
    ).values()
    assert json.loads(after) == {**json.loads(text), "grants": [{"to": "no", "role": "r"}], "trusts": [{"of": "a"}]}
    with pytest.raises(NotEditable):
        edited({"estate.yaml": TEXT}, [Replacement("estate.yaml", 2, 40, ("x",), 1)])
    with pytest.raises(NotEditable):
        edited({"estate.yaml": TEXT}, [Replacement("estate.yaml", 11, 3, ("admits", "claims"), 1)])


@given(st.integers(0, 2**32))
@settings(max_examples=examples(15))
def test_any_estate_can_be_added_to(seed: int) -> None:
    estate = random_estate(seed, journeys=2)
    grant = replace(estate.grants[0], name="one more")
    plain = plain_estate(replace(estate, grants=(grant,)))["grants"][0]
    text = estate_text(estate)
    reading = read_texts(edited({"estate.yaml": text}, [Addition("grants", "", plain)]))
    assert reading.estate == replace(estate, grants=(*estate.grants, grant))

"""What changed between two surveys: each way in which an entry can differ, and none that is not what was written."""

import json
from collections.abc import Mapping
from hashlib import sha256
from typing import Any

import pytest

from enthesis.surveys.comparing import CHANGED, GONE, NEW, compare
from enthesis.surveys.survey import MAX_LINE, VERSION, InvalidSurvey

A = {"section": "identities", "address": "left/identity/a", "kind": "service-account",
     "live": {"id": "1", "version": "7", "holder": "left", "mark": "ours"}}  # fmt: skip
GRANT = {"section": "grants", "to": "left/identity/a", "role": "reads", "at": "left",
         "live": {"id": "2", "version": "1", "holder": "left"}}  # fmt: skip
BUCKET = {"section": "resources", "address": "left/bucket/b"}


def survey(
    *records: Mapping[str, Any], taken: str = "2026-11-24T00:00:00Z", end: Mapping[str, Any] | None = None, **head: Any
) -> list[bytes]:
    header = {"enthesis": "survey", "version": VERSION, "taken": taken, "of": [], **head}
    lines = [json.dumps(one).encode() + b"\n" for one in (header, *records)]
    digest = f"sha-256:{sha256(b''.join(lines)).hexdigest()}"
    last = {"end": True, "complete": True, "digest": digest} if end is None else end
    return [*lines, json.dumps(last).encode() + b"\n"] if last else lines


def differing(before: list[bytes], after: list[bytes]) -> list[tuple[str, str, str]]:
    return [(one.state, one.section, one.name) for one in compare(before, after, ("one", "two")).differs]


def test_what_came_went_and_changed_is_told_by_place_and_the_same_is_not() -> None:
    wider = {**GRANT, "at": "left/bucket/b"}
    found = compare(survey(A, GRANT), survey(BUCKET, A, wider, taken="2026-11-25T00:00:00Z"), ("one", "two"))
    assert (found.before, found.after, found.complete) == ("2026-11-24T00:00:00Z", "2026-11-25T00:00:00Z", True)
    assert [(one.state, one.section, one.holder) for one in found.differs] == [
        (NEW, "resources", ""), (CHANGED, "grants", "left"),
    ]  # fmt: skip
    assert found.differs[1].fields == (("at", "left", "left/bucket/b"),)
    assert "left/identity/a" in found.differs[1].sentence and found.differs[0].sentence == "left/bucket/b in resources"
    assert differing(survey(A, GRANT), survey(GRANT, A)) == []
    assert differing(survey(A, GRANT), survey(GRANT)) == [(GONE, "identities", "left/identity/a")]
    assert differing(survey(GRANT), survey(A, GRANT)) == [(NEW, "identities", "left/identity/a")]


def test_a_live_id_makes_it_the_same_and_a_name_does_not() -> None:
    renamed = {**A, "address": "left/identity/b"}
    assert differing(survey(A), survey(renamed)) == [(CHANGED, "identities", "left/identity/b")]
    again = {**A, "live": {**A["live"], "id": "9"}}  # type: ignore[dict-item]
    assert differing(survey(A), survey(again)) == [
        (GONE, "identities", "left/identity/a"), (NEW, "identities", "left/identity/a"),
    ]  # fmt: skip


def test_another_version_alone_is_no_change_and_another_maker_is_one() -> None:
    assert differing(survey(A), survey({**A, "live": {**A["live"], "version": "8"}})) == []  # type: ignore[dict-item]
    theirs = {**A, "live": {"id": "1", "version": "7", "holder": "left"}}
    (one,) = compare(survey(A), survey(theirs), ("one", "two")).differs
    assert one.state == CHANGED and one.fields == (("made by", "ours", None),)


def test_what_was_left_out_and_findings_are_no_entries() -> None:
    assert differing(survey(A, {"left_out": "secrets", "why": "no right"}), survey({"finding": "x"}, A)) == []


def test_it_is_complete_only_where_both_are() -> None:
    whole = survey(A)
    for end in ({}, {"end": True, "complete": True}, {"end": True, "complete": False, "digest": whole and ""}):
        part = survey(A, end=end if "digest" not in end else {**end, "digest": digest_of(survey(A, end={}))})
        for pair in ((whole, part), (part, whole), (part, part)):
            found = compare(*pair, ("one", "two"))
            assert not found.complete and found.differs == (), end


def digest_of(lines: list[bytes]) -> str:
    return f"sha-256:{sha256(b''.join(lines)).hexdigest()}"


@pytest.mark.parametrize(
    ("lines", "says"),
    [
        ([], "a line of two is not a JSON object"),
        ([b"[]\n"], "a line of two is not a JSON object"),
        ([b"x" * (MAX_LINE + 1)], "a line of two is not a JSON object"),
        (survey(A, enthesis="usage"), "two is not a survey"),
        (survey(A, version=VERSION + 1), "two is not a survey"),
        (survey(A, taken="yesterday"), "two is not a survey"),
        ([*survey(A)[:1], *survey(GRANT)[1:2], survey(A)[-1]], "a line was changed"),
        ([*survey(A, GRANT)[:2], survey(A, GRANT)[-1]], "a line was changed"),
    ],
)
def test_what_is_no_survey_or_was_changed_is_refused_by_name(lines: list[bytes], says: str) -> None:
    with pytest.raises(InvalidSurvey, match=says):
        compare(survey(A), lines, ("one", "two"))
    with pytest.raises(InvalidSurvey, match=says.replace("two", "one")):
        compare(lines, survey(A), ("one", "two"))

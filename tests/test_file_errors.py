"""Every error that an estate can hold: what is said of it, where, what was expected, and which name is near."""

from pathlib import Path

import pytest

from enthesis.files.folder import read_texts
from enthesis.model.file_errors import FileError

HEAD = """\
estate: small
organisations: {works: {units: [one]}, theirs: {outside: true}}
providers: {north: {style: two-sided}}
accounts:
  left: {in: "@works/one", provider: north}
  right: {in: "@works", provider: north}
  middle: {in: "@works", provider: north}
  away: {in: "@theirs", provider: north}
issuers:
  forge: {kind: oidc, claims: {sub: text, list: text}}
  open: {kind: oidc}
  kiln: {kind: saml}
resources: {left/bucket/b: {}, right/bucket/b: {}, left/host/h: {}, left/cluster/k: {}, left/cluster/k/namespace/n: {}}
identities:
  left/identity/a: {kind: service-account}
  left/identity/b: {kind: service-account}
  "@works/identity/p": {kind: person}
roles: {reading: {allows: {object: [read]}}}
"""
CORPUS = (Path(__file__).parent / "corpora" / "file-errors.txt").read_text(encoding="utf-8")
CASES = [tuple(one.split(">>>\n")) for one in CORPUS.split("===\n")]
"""Pairs of a second file, and what is said of it, a line an error."""


def line_of(error: FileError) -> str:
    expected = f" (expected {error.expected})" if error.expected else ""
    near = f" did you mean {', '.join(error.nearest)}" if error.nearest else ""
    return f"{error.source.line}:{error.source.column} {error.code}: {error.message}{expected}{near}"


@pytest.mark.parametrize(("text", "said"), CASES, ids=[str(number) for number in range(len(CASES))])
def test_each_error_is_told_where_it_is_with_what_was_expected(text: str, said: str) -> None:
    found = read_texts({"estate.yaml": HEAD, "more.yaml": text}).errors
    assert {one.source.file for one in found} <= {"more.yaml"}
    assert [line_of(one) for one in found] == ([] if said == "nothing\n" else said.splitlines())


def test_the_head_alone_is_sound() -> None:
    assert read_texts({"estate.yaml": HEAD}).errors == ()

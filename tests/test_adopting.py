"""Taking over an account that was set up by hand: described as it is, marked as the estate's, nothing else touched."""

import ssl
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from .conftest import Lab, Program, start_lab, write_estate

SKELETON = """\
estate: shore
organisations: {coast: {}, port: {outside: true}}
providers: {lowland: {style: two-sided}}
accounts:
  dunes: {in: "@coast", provider: lowland}  # by hand, and to stay
  piers: {in: "@coast", provider: lowland}
  quay: {in: "@port", provider: lowland}
issuers: {forge: {kind: oidc}}
resources:
  dunes/bucket/maps: {}
  dunes/bucket/tides: {}
  dunes/host/mast: {}
"""
STATEMENTS = """\
identities:
  dunes/identity/clerk: {kind: service-account, purpose: files maps, owner: "@coast"}
  dunes/identity/mast: {kind: instance-role}
  piers/identity/porter: {kind: service-account}
groups: {dunes/group/staff: {members: [dunes/identity/clerk]}}
roles:
  looks: {allows: {object: [list]}}
  files: {allows: {object: [read, write]}, includes: [looks]}
trusts:
  - {of: dunes/identity/clerk, admits: {token: forge, claims: {sub: [a, b], aud: lowland}}, session: 15m}
  - {of: dunes/identity/clerk, admits: {identity: piers/identity/porter}, when: {network: {within: 203.0.113.0/24}}}
grants:
  - {to: dunes/group/staff, role: files, at: dunes/bucket/maps, until: "2099-01-01T00:00:00Z"}
  - {to: piers/identity/porter, role: looks, at: dunes/bucket/maps, held_by: dunes}
  - {to: piers/identity/porter, role: looks, at: dunes/bucket/maps, held_by: piers}
ceilings: [{name: no-queues, over: targets, at: dunes, bars: {queue: [send]}}]
attachments: [{what: dunes/host/mast, runs_as: dunes/identity/mast}]
"""


class ByHand:
    """The administrators of an account, who work without Enthesis."""

    def __init__(self, lab: Lab) -> None:
        trusted = ssl.create_default_context(cafile=lab.authority)
        self.http = httpx.Client(base_url=lab.services["lowland"], verify=trusted)
        self.lab = lab

    def all(self, holder: str) -> dict[str, list[dict[str, Any]]]:
        """Every statement of an account, by collection."""
        sections = ("identities", "groups", "roles", "trusts", "grants", "ceilings", "attachments")
        return {one: self._ask("GET", one, holder).json()["items"] for one in sections}

    def unmark(self, holder: str, mark: str | None = None) -> int:
        """Takes the marks away, as if all had been made by hand, or puts those of another estate there; how many."""
        done = 0
        for section, items in self.all(holder).items():
            for item in items:
                kept = {"id", "etag", "holder", "mark", "changed_by", "changed_at", "runs_as_gone", "in_force"}
                body = {name: value for name, value in item.items() if name not in kept and value is not None}
                answer = self._ask("PUT", f"{section}/{item['id']}", holder, {**body, "mark": mark}, item["etag"])
                assert answer.status_code == 200, answer.text
                done += 1
        return done

    def made(self, collection: str, holder: str, **body: Any) -> str:
        answer = self._ask("POST", collection, holder, {"holder": holder, **body})
        assert answer.status_code == 201, answer.text
        return str(answer.json()["id"])

    def _ask(self, method: str, path: str, holder: str, body: Any = None, etag: str = "") -> httpx.Response:
        headers = {"authorization": f"Bearer {self.lab.administrator(holder)}", **({"if-match": etag} if etag else {})}
        return self.http.request(method, f"/administration/{path}", headers=headers, json=body)


@pytest.fixture
def shore(enthesis: Program, tmp_path: Path) -> Iterator[tuple[Path, ByHand]]:
    """A lab in which everything was made by hand, and an estate that describes none of it."""
    folder = write_estate(tmp_path / "shore", {"estate.yaml": SKELETON, "statements.yaml": STATEMENTS})
    hand = ByHand(start_lab(enthesis, folder))
    assert enthesis("enact", "--yes", at=folder).code == 0
    (folder / "statements.yaml").unlink()
    yield folder, hand
    hand.http.close()
    enthesis("lab", "stop", "--clean", at=folder)


def test_what_was_made_by_hand_is_described_as_it_is_and_marked(enthesis: Program, shore: tuple[Path, ByHand]) -> None:
    folder, hand = shore
    marked = hand.unmark("dunes")
    hand.unmark("piers")
    before = hand.all("dunes")
    asked = enthesis("survey", "adopt", "piers", at=folder)
    assert asked.code == 2 and "no terminal is attached for the question" in asked.err and hand.all("dunes") == before
    assert (folder / "estate.yaml").read_text() == SKELETON
    for holder in ("piers", "dunes"):  # whom a statement names is described first
        ran = enthesis("survey", "adopt", holder, "--yes", at=folder)
        assert ran.code == 0, ran.err
    assert f"{marked} statements marked as this estate's" in ran.err
    assert "# by hand, and to stay" in (folder / "estate.yaml").read_text()
    ran = enthesis("propose", "--expect-none", at=folder)
    assert ran.code == 0, ran.out
    after = hand.all("dunes")
    assert {item["mark"] for items in after.values() for item in items} == {"shore"}
    for section, items in before.items():
        told_by = {"mark", "etag", "changed_by", "changed_at"}
        plain = [
            [{name: one[name] for name in one if name not in told_by} for one in its] for its in (items, after[section])
        ]
        assert plain[0] == plain[1]
    again = enthesis("survey", "adopt", "dunes", "--yes", at=folder)
    assert again.code == 0 and "Nothing of dunes is to be taken over." in again.err
    text = (folder / "estate.yaml").read_text()  # and from now on it is changed like anything else
    (folder / "estate.yaml").write_text(text.replace("[read, write]", "[read]"))
    assert enthesis("enact", "--yes", at=folder).code == 0
    roles = {one["name"]: one["allows"] for one in hand.all("dunes")["roles"]}
    assert roles["files"]["object"] in ("read", ["read"])


def test_what_cannot_be_taken_over_is_left_out_and_named(enthesis: Program, shore: tuple[Path, ByHand]) -> None:
    folder, hand = shore
    hand.unmark("dunes", "inland")
    hand.unmark("piers")
    made = hand.made("roles", "piers", name="sorts", allows={"queue": ["send"]})
    porter = hand.all("piers")["identities"][0]["id"]
    hand.made("grants", "piers", to={"identity": porter}, role=made, at="piers")
    hand.made("roles", "piers", name="unused", allows={"queue": ["send"]})
    more = 'roles: {sorts: {allows: {queue: [receive]}}}\ngrants: [{to: "@coast/group/x", role: sorts, at: dunes}]\n'
    (folder / "more.yaml").write_text(more + 'groups: {"@coast/group/x": {members: []}}\n')
    ran = enthesis("survey", "adopt", "dunes", "--yes", at=folder)
    assert ran.code == 0 and "the estate inland keeps it" in ran.err and "Nothing of dunes" in ran.err
    ran = enthesis("survey", "adopt", "piers", "--yes", at=folder)
    assert ran.code == 0, ran.err
    for says in ("the estate has another role of this name", "the role sorts is left out", "no grant binds it"):
        assert says in ran.err
    for wrong, code in (("quay", 2), ("nowhere", 2), ("@coast", 0), ("@port", 2)):
        assert enthesis("survey", "adopt", wrong, "--yes", at=folder).code == code

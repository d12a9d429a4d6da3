"""The calendar: everything that ends, the soonest first, with notice as the estate says; and what ends with it."""

import csv
import io
from datetime import UTC, datetime, timedelta
from pathlib import Path

import icalendar

from enthesis.cleaning.expiries import USUAL_NOTICE, calendar, ended
from enthesis.files.folder import read_texts
from enthesis.text.times import time_text

from .conftest import Program, write_estate

NOW = datetime.now(UTC).replace(microsecond=0)


def at(days: float) -> str:
    return time_text(NOW + timedelta(days=days))


TEXT = f"""\
estate: pier
organisations: {{works: {{}}, others: {{outside: true}}}}
providers: {{north: {{style: one-sided}}}}
accounts: {{left: {{in: "@works", provider: north}}, out: {{in: "@others", provider: north}}}}
issuers: {{forge: {{kind: oidc}}}}
resources: {{left/bucket/b: {{}}}}
identities: {{left/identity/a: {{kind: service-account, owner: =web, purpose: serves}}}}
roles: {{reads: {{allows: {{object: [read]}}}}}}
trusts: [{{of: left/identity/a, admits: {{token: forge, claims: {{sub: a, aud: north}}}}, until: "{at(20)}"}}]
grants:
  - {{to: left/identity/a, role: reads, at: left/bucket/b, until: "{at(100)}", because: until the move is over}}
  - {{to: left/identity/a, role: reads, at: left, until: "{at(-3)}"}}
credentials:
  soon: {{of: left/identity/a, form: access-key, expires: "{at(5)}"}}
  cert: {{of: left/identity/a, form: certificate, expires: "{at(40)}"}}
  over: {{of: left/identity/a, form: access-key, expires: "{at(-5)}"}}
  off: {{of: left/identity/a, form: access-key, expires: "{at(5)}", disabled: true}}
accepted:
  - {{risk: endless-key, of: soon, because: looked at in spring, until: "{at(-1)}"}}
  - {{risk: key-old, of: soon, because: replaced soon, until: "{at(15)}"}}
notice: {{grant: {{before: [120d, 1d]}}, trust: {{before: 2d}}}}
"""


def test_what_ends_comes_in_order_with_the_notice_of_its_kind() -> None:
    estate = read_texts({"estate.yaml": TEXT}).estate
    assert estate is not None
    found = calendar(estate, NOW)
    assert [one.kind for one in found.coming] == ["credential", "acceptance", "trust", "certificate", "grant"]
    assert [one.kind for one in found.overdue] == ["acceptance"]
    told = {one.kind: one.told for one in found.coming}
    assert told["credential"] == USUAL_NOTICE and told["trust"] == (timedelta(days=2),)
    due = {one.kind: one.due(NOW) for one in found.coming}
    days = {"credential": 7, "acceptance": 30, "certificate": 90, "grant": 120}
    assert due == {"trust": None, **{kind: timedelta(days=count) for kind, count in days.items()}}
    lost = ended(estate, [one for one in found.coming if one.kind == "grant"], NOW.timestamp())
    assert {(one.verb, one.target) for one in lost.losses} == {("read", "left/bucket/b/object/…")}


def test_the_built_program_tells_tabulates_and_writes_a_calendar(enthesis: Program, tmp_path: Path) -> None:
    folder = write_estate(tmp_path / "pier", {"estate.yaml": TEXT})
    ran = enthesis("calendar", "--ics", "e.ics", "--csv", "e.csv", at=folder)
    assert ran.code == 0 and ran.out.startswith("pier: 1 end overdue, 5 ends, the next in 4 days.")
    events = icalendar.Calendar.from_ical((folder / "e.ics").read_bytes()).walk("VEVENT")
    assert len(events) == 6 and len({str(one["uid"]) for one in events}) == 6
    by_summary = {str(one["summary"]): one for one in events}
    soon = by_summary["Ends: the access-key soon of left/identity/a"]
    assert abs(soon.decoded("dtstart") - (NOW + timedelta(days=5))) < timedelta(seconds=2)
    assert [one.decoded("trigger") for one in soon.walk("VALARM")] == [-one for one in USUAL_NOTICE]
    rows = list(csv.reader(io.StringIO((folder / "e.csv").read_text())))
    assert (
        len(rows) == 7 and "'=web" in rows[2] and not any(cell.startswith(("=", "@")) for row in rows for cell in row)
    )

    assert enthesis("calendar", "--within", "30d", at=folder).code == 1
    found = enthesis("calendar", "--within", "30d", "--format", "json", at=folder).json
    assert [one["kind"] for one in found["coming"]] == ["credential", "acceptance", "trust"]
    notice = enthesis("calendar", "--notice", "--format", "json", at=folder)
    assert notice.code == 1 and len(notice.json["coming"]) == 4 and notice.json["access"]["lost"]
    quiet = write_estate(tmp_path / "quiet", {"estate.yaml": "estate: quiet\n"})
    assert enthesis("calendar", "--within", "9d", at=quiet).code == 0
    assert enthesis("calendar", "--within", "soon", at=quiet).code == 2
    wrong = write_estate(tmp_path / "wrong", {"estate.yaml": "estate: wrong\nnotice: {grants: {before: 9d}}\n"})
    assert "unknown kind of end `grants`" in enthesis("check", at=wrong).out


def test_a_handoff_that_waits_is_in_the_calendar(enthesis: Program, tmp_path: Path) -> None:
    text = TEXT.replace("roles:", "  out/identity/x: {kind: service-account}\nroles:", 1).replace(
        "identities: {left/identity/a: {kind: service-account, owner: =web, purpose: serves}}",
        "identities:\n  left/identity/a: {kind: service-account, owner: =web, purpose: serves}",
    )
    grant = "  - {to: left/identity/a, role: reads, at: out/bucket/theirs, held_by: out}\n"
    text = text.replace("credentials:", f"{grant}credentials:").replace(
        "left/bucket/b: {}", "left/bucket/b: {}, out/bucket/theirs: {}"
    )
    folder = write_estate(tmp_path / "pier", {"estate.yaml": text})
    by = at(12)[:10]
    first = enthesis("request", "out", "@others", "--by", by, "--out", "../h.json", at=folder)
    assert first.code == 0, first.out + first.err
    assert "handoff" in enthesis("calendar", at=folder).out  # the first is kept like every later one
    assert enthesis("request", "out", "@others", "--by", by, "--out", "../h.json", at=folder).code == 0
    found = enthesis("calendar", "--format", "json", at=folder).json["coming"]
    (waiting,) = [one for one in found if one["kind"] == "handoff"]
    assert waiting["ends"][:10] == by and waiting["about"] == ["@others"]


def test_the_end_of_a_stored_key_ends_what_it_is_behind() -> None:
    text = """
estate: small
organisations: {works: {}}
providers: {north: {style: one-sided}}
accounts: {left: {in: "@works", provider: north}}
issuers: {forge: {kind: oidc}}
resources: {left/bucket/b: {}}
identities: {left/identity/robot: {kind: service-account}}
roles: {reads: {allows: {object: [read]}}}
grants: [{to: left/identity/robot, role: reads, at: left/bucket/b}]
credentials: {one: {of: left/identity/robot, form: access-key, expires: 2099-12-20T00:00:00Z, held_in: forge}}
pipeline_access: {up: {at: forge, of: left/identity/robot, admits: {sub: x}, credential: one}}
"""
    estate = read_texts({"estate.yaml": text}).estate
    assert estate is not None
    found = calendar(estate, NOW)
    lost = ended(estate, [one for one in found.coming if one.kind == "credential"], NOW.timestamp())
    assert {one.caller for one in lost.losses} == {"one", "up"}

"""The other party's half: given out as a document, taken in, enacted from a folder of theirs, and proved."""

import base64
import json
import subprocess
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from typing import Any

import pytest

from enthesis.files.folder import read_texts
from enthesis.live.signing import opened, signed
from enthesis.model.errors import InvalidInput
from enthesis.proposals.handoff_life import HandoffAnswer
from enthesis.proposals.handoffs import Handoff, additions, handoff, handoff_from

from .conftest import Program, edited_somewhere, write_estate

NOW = datetime(2026, 12, 1, tzinfo=UTC)

OURS = """\
estate: coast
organisations: {coast: {}, harbour: {outside: true}}
providers: {lowland: {style: two-sided}}
accounts: {surge: {in: "@coast", provider: lowland}, pilotage: {in: "@harbour", provider: lowland}}
issuers: {pipes: {kind: oidc}}
resources: {surge/bucket/forecasts: {}}
identities: {pilotage/identity/reader: {kind: service-account, purpose: reads the forecasts}}
trusts:
  - {of: pilotage/identity/reader, admits: {token: pipes, claims: {sub: harbour/reader, aud: lowland}}, session: 15m}
roles: {reads: {allows: {object: [read, list]}}}
grants:
  - {to: pilotage/identity/reader, role: reads, at: surge/bucket/forecasts, held_by: surge, because: the port wants it}
  - {to: pilotage/identity/reader, role: reads, at: surge/bucket/forecasts, held_by: pilotage}
journeys:
  harbour-reads:
    from: {token: pipes, claims: {sub: harbour/reader, aud: lowland}}
    through: [pilotage/identity/reader]
    attempt: read surge/bucket/forecasts/object/today
    expect: allowed
"""
THEIRS = """\
estate: harbour
organisations: {harbour: {}}
providers: {lowland: {style: two-sided}}
accounts: {pilotage: {in: "@harbour", provider: lowland}}
issuers: {pipes: {kind: oidc}}
"""


def estate(text: str) -> Any:
    reading = read_texts({"estate.yaml": text})
    assert reading.estate is not None, reading.errors
    return reading.estate


def made(text: str = OURS) -> Handoff:
    return handoff(estate(text), "@harbour", NOW)


def test_two_parties_with_a_folder_each_and_nothing_shared_but_the_document(enthesis: Program, tmp_path: Path) -> None:
    ours = write_estate(tmp_path / "ours", {"estate.yaml": OURS})
    theirs = write_estate(tmp_path / "theirs", {"estate.yaml": THEIRS})
    key, document, answer = tmp_path / "key", tmp_path / "for-harbour.jws", tmp_path / "answer.jws"
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(key)], check=True)
    try:
        assert enthesis("lab", "start", at=ours).code == 0
        assert enthesis("enact", "--yes", "--accept", "outside-gains", at=ours).code == 0
        waiting = enthesis("prove", "--format", "json", at=ours)
        assert waiting.code == 1 and "@harbour" in waiting.out + waiting.err
        ran = enthesis(
            "request", "out", "@harbour", "--out", str(document), "--sign", str(key), "--by", "2027-02-01", at=ours
        )
        assert ran.code == 0 and "asks @harbour for 4 statements" in ran.out, ran.out + ran.err
        assert standing(enthesis, ours) == ("asked", None, None)

        assert enthesis("lab", "join", str(ours), at=theirs).code == 0
        shown = enthesis("request", "in", str(document), "--key", f"{key}.pub", at=theirs)
        assert shown.code == 0 and "signature verified" in shown.out, shown.err
        assert "the bearer of a token of pipes may take on pilotage/identity/reader" in shown.out
        assert (theirs / "estate.yaml").read_text(encoding="utf-8") == THEIRS
        says = ("request", "answer", str(document), "--key", f"{key}.pub", "--out", str(answer))
        assert enthesis(*says, "refused", at=theirs).code == 2, "a refusal wants a reason"
        assert enthesis(*says, "refused", "--because", "not yet", "--sign", str(key), at=theirs).code == 0
        assert "@harbour answers refused to handoff-" in taken_back(enthesis, ours, answer, key)
        assert standing(enthesis, ours) == ("refused", "refused", None)
        words = ("request", "in", str(document), "--key", f"{key}.pub", "--write")
        assert enthesis(*words, at=theirs).code == 0
        assert "This estate already contains all of it." in enthesis(*words, at=theirs).out
        enacted = enthesis("enact", "--yes", "--accept", "outside-gains", at=theirs)
        assert enacted.code == 0, enacted.err
        assert enthesis(*says, "done", "--sign", str(key), at=theirs).code == 0
        taken_back(enthesis, ours, answer, key)
        assert standing(enthesis, ours) == ("seen", "done", None)
        missing = standing(enthesis, ours, "--ask")[2] or []
        assert len(missing) == 1 and "trust" in missing[0], missing

        assert enthesis("enact", "--yes", "--accept", "outside-gains", at=ours).code == 0
        there = enthesis("propose", "--expect-none", at=ours)
        assert there.code == 1  # their own trust in their own pipeline is shown to nobody else
        assert there.out.startswith("coast: 1 statement waiting for others."), there.out
        seen = there.out.partition("written by others already")[2]
        assert "the grant of reads to pilotage/identity/reader" in seen and "the role reads" in seen
        lived = (
            "accepted:\n  - risk: drift\n    of: the trust of pilotage/identity/reader in a token of pipes with sub"
            " harbour/reader and aud lowland, for 15m\n    because: proved\n    until: '2999-01-01T00:00:00Z'\n"
        )
        (ours / "estate.yaml").write_text(OURS + lived, encoding="utf-8")
        assert enthesis("propose", "--expect-none", at=ours).code == 0
        proved = enthesis("prove", at=ours)
        assert proved.code == 0, proved.out + proved.err
        assert standing(enthesis, ours)[0] == "proved"
        assert "1 handoff of coast: 1 proved." in enthesis("request", at=ours).out
        assert sorted(path.name for path in theirs.iterdir()) == [".enthesis", "estate.yaml"]
    finally:
        enthesis("lab", "stop", "--clean", at=ours)


def taken_back(enthesis: Program, place: Path, answer: Path, key: Path) -> str:
    """Takes an answer back, and what is said of it; one that was changed on its way is not taken."""
    take = ("request", "in", "--key", f"{key}.pub")
    head, body, signature = answer.read_text().split(".")
    forged = answer.with_name("forged")
    forged.write_text(f"{head}.{body[:-4]}AAAA.{signature}")
    assert enthesis(*take, str(forged), at=place).code == 2
    ran = enthesis(*take, str(answer), at=place)
    assert ran.code == 0, ran.err
    return ran.out + ran.err


def standing(enthesis: Program, place: Path, *more: str) -> tuple[str, str | None, list[str] | None]:
    """Where the one handoff stands, what was answered, and what is missing."""
    ran = enthesis("request", "--format", "json", *more, at=place)
    assert ran.code == 0, ran.err
    (found,) = ran.json["handoffs"]
    return found["state"], (found["answer"] or {}).get("answer"), found["missing"]


def test_what_is_said_beside_what_is_asked_is_no_part_of_the_reference(enthesis: Program, tmp_path: Path) -> None:
    ours = write_estate(tmp_path, {"estate.yaml": OURS})
    plain = enthesis("request", "out", "--format", "json", at=ours).json
    ran = enthesis("request", "out", "--window", "Tuesdays 22:00 to 23:00", "--priority", "urgent",
                   "--by", "2099-02-01", "--format", "json", at=ours)  # fmt: skip
    assert (ran.json["window"], ran.json["priority"]) == ("Tuesdays 22:00 to 23:00", "urgent")
    assert ran.json["reference"] == plain["reference"] and handoff_from(ran.json).window == ran.json["window"]
    page = enthesis(
        "request", "out", "--window", "Tuesdays", "--priority", "urgent", "--format", "markdown", at=ours
    ).out
    assert page.splitlines()[0].startswith("Subject: urgent: coast asks @harbour for 4 statements (handoff"), page
    assert "To be done in this window: Tuesdays." in page


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"answer": "perhaps"}, "done, refused, changed"),
        ({"reference": 1}, "not understood"),
        ({"format": 2}, "not an answer"),
        ({"because": "\ud800"}, "not understood"),
        ({"reference": "handoff-000000000000"}, "nobody was asked"),
        ({"from": "@others"}, "nobody was asked"),
    ],
)
def test_an_answer_that_is_none_or_of_another_is_refused(
    enthesis: Program, tmp_path: Path, change: dict[str, Any], says: str
) -> None:
    ours = write_estate(tmp_path / "ours", {"estate.yaml": OURS})
    assert enthesis("request", at=ours).out.startswith("coast has asked nobody for anything")
    given = enthesis("request", "out", "--out", str(tmp_path / "h.json"), "--by", "2099-01-01", at=ours)
    assert given.code == 0, given.err
    reference = json.loads((tmp_path / "h.json").read_text())["reference"]
    answer = HandoffAnswer(reference, "@harbour", "done", "", "2026-12-01T00:00:00Z").as_json()
    file = tmp_path / "answer.json"
    file.write_text(json.dumps({**answer, **change}))
    ran = enthesis("request", "in", str(file), at=ours)
    assert ran.code == 2 and says in ran.err, ran.err
    file.write_text(json.dumps(answer))
    ran = enthesis("request", "in", str(file), at=ours)
    assert ran.code == 0 and "Not verified" in ran.out + ran.err


def test_what_is_asked_is_all_that_they_must_write_and_no_more() -> None:
    found = made()
    assert [(one.section, one.account) for one in found.asked] == [
        ("identities", "pilotage"), ("roles", "pilotage"), ("trusts", "pilotage"), ("grants", "pilotage"),
    ]  # fmt: skip
    assert found.why == ("the port wants it",)
    assert any("sealed by the store itself" in said for said in found.unneeded) and not found.impossible
    assert handoff_from(json.loads(json.dumps(found.as_json()))).asked == found.asked


def test_a_callers_half_that_nobody_described_is_asked_for() -> None:
    found = made(
        OURS.replace(
            "  - {to: pilotage/identity/reader, role: reads, at: surge/bucket/forecasts, held_by: pilotage}\n", ""
        )
    )
    grants = [one.body for one in found.asked if one.section == "grants"]
    assert [(one["to"], one["at"], one["held_by"]) for one in grants] == [
        ("pilotage/identity/reader", "surge/bucket/forecasts/object/today", "pilotage")
    ]


def test_a_key_of_the_provider_makes_it_impossible() -> None:
    sealed = "resources: {surge/bucket/forecasts: {encrypted_by: surge/key/k}, surge/key/k: {managed_by: provider}}"
    found = made(OURS.replace("resources: {surge/bucket/forecasts: {}}", sealed))
    assert len(found.impossible) == 1 and "surge/key/k is the provider's own key" in found.impossible[0]
    own = made(OURS.replace("resources: {surge/bucket/forecasts: {}}", sealed.replace("provider", "account")))
    assert not own.unneeded and not own.impossible


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (lambda data: data["asked"][0].update(account="surge"), "its reference says"),
        (lambda data: data["asked"][3]["statement"].update(at="surge"), "its reference says"),
        (lambda data: data.update(format=9), "not a handoff"),
        (lambda data: data.update(asked=1), "not understood"),
        (lambda data: data["asked"].pop(), "its reference says"),
    ],
)
def test_a_document_that_was_changed_is_not_taken(change: Any, says: str) -> None:
    data = json.loads(json.dumps(made().as_json()))
    change(data)
    with pytest.raises(ValueError, match=says):
        handoff_from(data)


def carried_out(data: dict[str, Any]) -> list[Any]:
    """What of a handoff is carried out by whom takes it in."""
    return [data["known"], *({**one, "sentence": "", "why": ""} for one in data["asked"])]


@pytest.mark.filterwarnings("ignore:EdDSA is deprecated")
def test_of_two_hundred_forged_documents_none_is_taken(tmp_path: Path) -> None:
    """Of a handoff and of an answer to it something is edited: what is asked no longer has its reference, and the
    whole not its signature, whether it is signed by nobody or by somebody else."""
    for name in ("ours", "other"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(tmp_path / name)], check=True)
    documents: list[dict[str, Any]] = [
        json.loads(json.dumps(made().as_json())),
        HandoffAnswer(made().reference, "@harbour", "done", "all of it", "2026-12-01T00:00:00Z").as_json(),
    ]
    forged = 0
    for seed in range(2_000):
        if forged == 200:
            break
        rng = Random(seed)
        is_handoff = seed % 2 == 0
        data = documents[seed % 2]
        edited = edited_somewhere(data, rng)
        if edited == data:
            continue
        forged += 1
        text = json.dumps(edited).encode()
        if is_handoff and carried_out(edited) != carried_out(data):
            with pytest.raises(ValueError, match=r"its reference says|not understood"):
                handoff_from(edited)
        head, _, signature = signed(json.dumps(data).encode(), tmp_path / "ours").strip().split(b".")
        kept = b".".join((head, base64.urlsafe_b64encode(text).rstrip(b"="), signature))
        for sent in (kept, signed(text, tmp_path / "other"), text):
            with pytest.raises(InvalidInput) as refused:
                opened(sent, tmp_path / "ours.pub", "handoff.jws")
            assert refused.value.code == "signature-invalid"
    assert forged == 200


def test_nobody_is_asked_for_what_is_not_theirs() -> None:
    other = estate(THEIRS.replace("pilotage", "elsewhere"))
    with pytest.raises(ValueError, match="pilotage is not administered here"):
        additions(other, made())


def told(**known: Any) -> Handoff:
    """A document that declares these things of its sender, as if its sender had written it so."""
    return replace(made(), known={**(made().known or {}), **known})


@pytest.mark.parametrize(
    "known",
    [
        {"accounts": {"pilotage": {"in": "@coast", "provider": "lowland"}}},
        {"accounts": {"deep": {"in": "@harbour", "provider": "lowland"}}},
        {"organisations": {"coast": {"outside": False}}},
        {"organisations": {"coast": {}}},
        {"organisations": {"others": {"outside": True}}},
        {"resources": {"pilotage/bucket/new": {}}},
        {"identities": {"@harbour/identity/ann": {"kind": "person"}}},
        {"groups": {"@harbour/group/g": {"members": ["@harbour/identity/ann"]}}},
        {"roles": {"reads": {"allows": {"object": ["read"]}}}},
        {"accounts": {"surge": "text"}},
        {"organisations": {"coast": {"outside": True, "directory": "https://elsewhere.example"}}},
    ],
)
def test_a_sender_declares_only_what_is_theirs_and_outside(known: dict[str, Any]) -> None:
    with pytest.raises(ValueError):
        additions(estate(THEIRS), told(**known))
    data = json.loads(json.dumps(made().as_json()))
    data["known"].update(known)
    with pytest.raises(ValueError, match=r"its reference says|not understood"):
        handoff_from(data)


def test_a_party_that_is_one_of_ours_declares_nothing() -> None:
    both = THEIRS.replace("{harbour: {}}", "{harbour: {}, coast: {}}").replace(
        "accounts: {", 'accounts: {surge: {in: "@coast", provider: lowland}, '
    )
    with pytest.raises(ValueError, match="has to be another party here"):
        additions(estate(both), made())


def test_a_role_of_ours_is_not_taken_for_theirs() -> None:
    ours = "roles: {reads: {allows: {object: [read, list]}}}\ngrants: [{to: a, role: reads, at: b}]\n"
    ours = ours.replace("to: a", "to: pilotage/identity/own").replace("at: b", "at: pilotage/bucket/own")
    more = "resources: {pilotage/bucket/own: {}}\nidentities: {pilotage/identity/own: {kind: service-account}}\n"
    found = additions(estate(THEIRS + more + ours), made())
    assert [one.name for one in found if one.section == "roles"] == ["reads-for-coast"]
    assert {one.entry["role"] for one in found if one.section == "grants"} == {"reads-for-coast"}
    unsaid = replace(made(), asked=tuple(one for one in made().asked if one.section != "roles"))
    with pytest.raises(ValueError, match="what the role allows is not said"):
        additions(estate(THEIRS + more + ours), unsaid)


def test_what_is_shown_is_what_the_statement_says() -> None:
    data = json.loads(json.dumps(made().as_json()))
    honest = [one["sentence"] for one in data["asked"]]
    for one in data["asked"]:
        one["sentence"] = "nothing at all"
    assert [one.sentence for one in handoff_from(data).asked] == honest


def test_wrong_requests(enthesis: Program, tmp_path: Path) -> None:
    ours = write_estate(tmp_path / "ours", {"estate.yaml": OURS})
    (tmp_path / "none").write_text("[]", encoding="utf-8")
    for words, says in (
        (("request", "out", "@harbuor"), "no such organisation or account of others"),
        (("request", "out", "--sign", str(tmp_path / "none")), "--sign signs what --out writes"),
        (("request", "out", "--by", "soon"), "not a date"),
        (("request", "in", str(tmp_path / "none")), "not a handoff"),
        (("request", "in", str(tmp_path / "none"), "--key", str(tmp_path / "none")), "is not signed"),
        (("request", "out", "--out", "../x", "--sign", str(tmp_path / "none")), "not a private Ed25519 key"),
    ):
        ran = enthesis(*words, at=ours)
        assert ran.code == 2 and says in ran.err, (words, ran.err)
    alone = write_estate(tmp_path / "alone", {"estate.yaml": THEIRS})
    assert "knows no other party" in enthesis("request", "out", at=alone).err
    assert enthesis("lab", "join", str(ours), at=alone).code == 3

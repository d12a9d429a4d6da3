"""The whole answers to many questions about two fixed estates, as text, kept in `corpora/answers`.

    python -m tests.answers        writes them anew; read what changed before it is committed

They hold what no property says: which reason is told first, what is near, in what order, where it stands.
"""

import json
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from datetime import UTC, datetime
from functools import cache
from pathlib import Path

import numpy as np

from enthesis.access.compiling import compile_estate
from enthesis.access.future_members import NOBODY
from enthesis.access.questions import Question, question_of
from enthesis.chains.access_graph import Web
from enthesis.chains.cards import card
from enthesis.chains.chains import Chains
from enthesis.chains.changes import decide_by_change, reachable_by_change
from enthesis.chains.differences import difference
from enthesis.chains.invariants import decide
from enthesis.chains.reach import reachable, reaching
from enthesis.chains.sentences import gain_sentences
from enthesis.files.folder import read_texts
from enthesis.model.estate import Context, Estate, Origin
from enthesis.model.vocabulary import BEARERS, Form
from enthesis.output.admitting import told_lines
from enthesis.output.cards import card_lines
from enthesis.output.checks import check_lines, check_sentence, risk_json
from enthesis.output.lines import Line, json_text, line, rendered
from enthesis.output.proposals import proposal_lines
from enthesis.output.reach import chain_words, conditions, start_words
from enthesis.output.verdicts import remedy_lines, verdict_json, verdict_lines
from enthesis.proposals.proposing import propose
from enthesis.proposals.wanted import holders
from enthesis.surveys.statements import Surveyed
from enthesis.trusts.admitting import Admissions, told
from enthesis.trusts.keyless import keyless_ways
from enthesis.trusts.risks import risks
from enthesis.verdicts.expectations import judge_journey
from enthesis.verdicts.judge import Judge
from enthesis.verdicts.remedies import remedies_for
from enthesis.verdicts.takeable import can_take_on

HERE = Path(__file__).parent / "corpora" / "answers"
NOW = datetime(2026, 11, 24, tzinfo=UTC)
ESTATES = ("one", "two")
Answer = Callable[[Estate], Iterator[Line]]


@cache
def estate_of(name: str) -> Estate:
    """One of the fixed estates."""
    reading = read_texts({"estate.yaml": (HERE / f"{name}.json").read_text(encoding="utf-8")})
    assert reading.estate is not None, reading.errors
    return reading.estate


def verdicts(estate: Estate) -> Iterator[Line]:
    """Every journey's ladder, and for some that are refused what would allow them."""
    judge = Judge(compile_estate(estate))
    mended = 0
    for journey in estate.journeys.values():
        verdict = judge.judge(question_of(journey, NOW))
        yield line(f"== {journey.name}")
        yield from verdict_lines(estate, verdict)
        if not verdict.allowed and mended < 6:
            mended += 1
            remedies = remedies_for(estate, verdict)
            yield from remedy_lines(remedies, [()] * len(remedies.found))


def structured(estate: Estate) -> Iterator[Line]:
    """Some of the verdicts for a program."""
    judge = Judge(compile_estate(estate))
    for journey in list(estate.journeys.values())[:10]:
        text = json_text(verdict_json(estate, judge.judge(question_of(journey, NOW))))
        yield from map(line, text.splitlines())


def checks(estate: Estate) -> Iterator[Line]:
    """Journeys held against what is expected, invariants decided, risks found."""
    compiled = compile_estate(estate)
    chains = Chains.from_now_on(Web(compiled, NOW.timestamp()))
    journeys = [judge_journey(compiled, one, NOW) for one in estate.journeys.values()]
    found = risks(chains)
    for deciding, asked in ((decide, estate.invariants), (decide_by_change, estate.invariants[:2])):
        decided = [deciding(chains, one) for one in asked]
        yield line(check_sentence(estate, 1, journeys, decided, found))
        yield from check_lines({}, {}, chains, journeys, decided)
    for risk in found.standing:
        yield line(json.dumps(risk_json(risk), ensure_ascii=False, default=str))


def reached(estate: Estate) -> Iterator[Line]:
    """What every origin reaches, directly, through chains and by changing access; who reaches some places."""
    chains = Chains(Web(compile_estate(estate), NOW.timestamp()), {"time": NOW})
    everything = np.ones(len(chains.compiled.permission_pairs), bool)
    for number, start in enumerate(chains.origins()):
        found = reachable(chains, [start], everything)
        yield line(f"== from {start_words(start)}: {len(found)}")
        for one in found[:25]:
            yield line(f"  {one.verb} {one.target}: {chain_words(one)} {conditions(one.chain)}")
        if number % 4:
            continue
        by_change = reachable_by_change(chains, [start], everything, {(one.target, one.verb) for one in found})
        for one in by_change[:8]:
            yield line(f"  by change {one.verb} {one.target}: {chain_words(one)}")
    for address in ("aa/bucket/b", "cc/secret/s", "bb/identity/i0", "dd/host/x", "@one"):
        coming = reaching(chains, address, everything)
        yield line(f"== to {address}: {len(coming)}")
        for one in coming[:25]:
            yield line(f"  {start_words(one.chain.start)} {one.verb} {one.target}: {chain_words(one)}")


def cards(estate: Estate) -> Iterator[Line]:
    """A card of everything that has one."""
    web = Web(compile_estate(estate), NOW.timestamp(), NOBODY)
    names = (
        *estate.identities,
        *estate.groups,
        *estate.roles,
        *estate.resources,
        *estate.credentials,
        *estate.accounts,
    )
    for name in names:
        found = card(web, name, NOW)
        assert found is not None
        yield from card_lines(found)


def admitted(estate: Estate) -> Iterator[Line]:
    """What every trust on tokens admits; which keyless ways there are; what some origins can take on."""
    admissions = Admissions(compile_estate(estate), NOW)
    for trust in estate.trusts:
        if trust.admits.form in BEARERS:
            yield line(f"== {trust.name or trust.of}")
            yield from told_lines(told(admissions, trust, []))
    for identity in estate.identities:
        for way in keyless_ways(estate, identity, NOW):
            yield line(f"{identity}: {way.says} {way.entries} {way.hint}")
    judge = Judge(admissions.compiled)
    origins = [journey.origin for journey in estate.journeys.values()][:12]
    for origin in origins:
        taken = can_take_on(estate, judge, origin, Context(), NOW)
        yield line(f"{origin.form} {origin.whom}: {[(one.identity, str(one.life)) for one in taken]}")


def without(estate: Estate, section: str, kept: Callable[[int], bool]) -> Estate:
    listed = getattr(estate, section)
    fields: dict[str, object] = {section: tuple(one for number, one in enumerate(listed) if kept(number))}
    return replace(estate, **fields)  # type: ignore[arg-type]


def differences(estate: Estate) -> Iterator[Line]:
    """What is gained and lost where statements are left out, conditions are dropped, somebody goes."""
    versions: Mapping[str, Estate] = {
        "a third of the grants": without(estate, "grants", lambda number: number % 3 != 0),
        "a third of the trusts": without(estate, "trusts", lambda number: number % 3 != 0),
        "the conditions of grants": replace(
            estate, grants=tuple(replace(one, when=(), until=None) for one in estate.grants)
        ),
        "the credentials": replace(estate, credentials={}, pipeline_access={}),
    }
    some = len(estate.grants) > 120  # what is long to compare is compared once less
    for what, other in list(versions.items())[2 * some :]:
        found = difference(other, estate, NOW.timestamp())
        yield line(f"== without {what}: {len(found.gains)} gained, {len(found.losses)} lost, {found.undecided}")
        yield from (line(f"  gained {one}") for one in gain_sentences(found.gains)[:25])
        yield from (line(f"  lost {one}") for one in gain_sentences(found.losses)[:25])


def proposals(estate: Estate) -> Iterator[Line]:
    """What would be done where nothing is, as far as resources and accounts exist."""
    surveys = [
        Surveyed(
            name, tuple(holders(estate, name)), (),
            frozenset(one.name for one in estate.accounts.values() if one.provider == name),
            frozenset(one for one in estate.resources if estate.system_of(one) == name),
            {one: f"id of {one}" for one in estate.identities if one.startswith("@")},
        )
        for name in estate.providers
    ]  # fmt: skip
    yield from proposal_lines(propose(estate, surveys, now=NOW))


def asked_half_way(estate: Estate) -> Iterator[Line]:
    """Each verb of some targets, asked by each identity: the first reason of every refusal."""
    judge = Judge(compile_estate(estate))
    journeys = [one for one in estate.journeys.values() if one.attempt is not None][:12]
    for identity in estate.identities:
        if identity.startswith("@"):
            continue
        for journey in journeys:
            verdict = judge.judge(Question(Origin(Form.IDENTITY, identity), (), journey.attempt, journey.context, NOW))
            request = verdict.first_refused
            why = ", ".join(request.refused_at) if request is not None else "allowed"
            assert journey.attempt is not None
            yield line(f"{identity} {journey.attempt.verb} {journey.attempt.target}: {why}")


ANSWERS: Mapping[str, Answer] = {
    "verdicts": verdicts, "structured": structured, "checks": checks, "reached": reached, "cards": cards,
    "admitted": admitted, "differences": differences, "proposals": proposals, "asked": asked_half_way,
}  # fmt: skip


def text_of(answer: str, name: str) -> str:
    """An answer about one of the estates."""
    return rendered(ANSWERS[answer](estate_of(name)), colour=False)


def path_of(answer: str, name: str) -> Path:
    """Where it is kept."""
    return HERE / f"{name}-{answer}.txt"


if __name__ == "__main__":
    for each in ESTATES:
        for of in ANSWERS:
            path_of(of, each).write_text(text_of(of, each), encoding="utf-8")

"""Each step of a request in its three readings, held together on random worlds: one request, chains, many at a time."""

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import timedelta
from random import Random

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from enthesis.access.answers import Request, StepOutcome
from enthesis.access.asked import Asked, Caller, Target
from enthesis.access.attributes import RequestAttributes
from enthesis.access.caller_side import bulk as caller_side_bulk
from enthesis.access.caller_side import decide as caller_side
from enthesis.access.caller_side import require as caller_side_required
from enthesis.access.ceilings import bulk as ceilings_bulk
from enthesis.access.ceilings import decide as ceilings
from enthesis.access.ceilings import require as ceilings_required
from enthesis.access.companions import decide as companions
from enthesis.access.companions import require as companions_required
from enthesis.access.companions.decide import identity_caller
from enthesis.access.compiling import Compiled, compile_estate
from enthesis.access.many import Many
from enthesis.access.names import bulk as names_bulk
from enthesis.access.names import decide as names
from enthesis.access.names import require as names_required
from enthesis.access.needed import CallerNode, Goal, Needed, goal_at
from enthesis.access.provider import bulk as provider_bulk
from enthesis.access.provider import decide as provider
from enthesis.access.provider import require as provider_required
from enthesis.access.questions import Question
from enthesis.access.requirements import ALWAYS, Knowns, Requirement, Solver, joined
from enthesis.access.states import LOOK, NO, YES, Batch, States
from enthesis.access.target_side import bulk as target_side_bulk
from enthesis.access.target_side import decide as target_side
from enthesis.access.target_side import require as target_side_required
from enthesis.chains.requests import Requests
from enthesis.model.estate import Attempt, Context, Origin
from enthesis.model.vocabulary import Form, Outcome, VerdictStep
from enthesis.verdicts.judge import Judge

from .conftest import examples
from .test_judging import NOW, random_estate
from .test_reaching import AGES, NETWORKS

INSTANT = NOW.timestamp()
PER_WORLD = 150


@dataclass
class Tried:
    """One request as each reading takes it."""

    asked: Asked
    needed: Needed
    batch: Batch
    many: Many

    @property
    def compiled(self) -> Compiled:
        return self.asked.compiled


def _companions_decided(tried: Tried) -> StepOutcome:
    def judged(caller: Caller, verb: str, address: str, beside: str | None) -> Request:
        attempt = Attempt(verb, address)
        return Judge(tried.compiled).judge(replace(tried.asked.question, attempt=attempt)).requests[0]

    return companions.decide(tried.asked, judged)


def _companions_required(tried: Tried) -> Requirement | None:
    requests = Requests(tried.compiled, INSTANT)

    def required(node: CallerNode, permission: int, goal: Goal) -> Requirement | None:
        return requests.request(node, permission, goal)

    entering = companions_required.entering(tried.needed, required)
    return joined((entering, *companions_required.require(tried.needed, required)))


def _companions_bulk(tried: Tried, state: States) -> None:
    tried.many.also_asked.lower(tried.batch, state, tried.many.runs, tried.many.states)


def _caller_side_required(tried: Tried) -> Requirement | None:
    needed = tried.needed
    return caller_side_required.require(needed) if needed.compiled.crosses(needed.node.place, needed.place) else ALWAYS


READINGS: dict[
    VerdictStep,
    tuple[Callable[[Tried], StepOutcome], Callable[[Tried], Requirement | None], Callable[[Tried, States], None]],
] = {
    VerdictStep.NAMES: (
        lambda tried: names.decide(tried.asked),
        lambda tried: names_required.require(tried.needed),
        lambda tried, state: names_bulk.lower(tried.compiled, tried.batch, state),
    ),
    VerdictStep.PROVIDER: (
        lambda tried: provider.decide(tried.asked),
        lambda tried: provider_required.require(tried.needed),
        lambda tried, state: provider_bulk.lower(tried.compiled, tried.batch, state),
    ),
    VerdictStep.CEILINGS: (
        lambda tried: ceilings.decide(tried.asked),
        lambda tried: ceilings_required.require(tried.needed),
        lambda tried, state: ceilings_bulk.lower(tried.compiled, tried.batch, state),
    ),
    VerdictStep.TARGET_SIDE: (
        lambda tried: target_side.decide(tried.asked),
        lambda tried: target_side_required.require(tried.needed),
        lambda tried, state: target_side_bulk.lower(tried.compiled, tried.batch, state, None, INSTANT),
    ),
    VerdictStep.CALLER_SIDE: (
        lambda tried: caller_side.decide(tried.asked, target_side.decide(tried.asked)),
        _caller_side_required,
        lambda tried, state: caller_side_bulk.lower(tried.compiled, tried.batch, state, INSTANT),
    ),
    VerdictStep.COMPANIONS: (_companions_decided, _companions_required, _companions_bulk),
}


def tries(seed: int) -> list[tuple[Tried, Context, str]]:
    """Requests of declared identities in a random world: half of them where something is granted."""
    rng = Random(seed)
    compiled = compile_estate(random_estate(seed, journeys=0))
    many = Many(compiled, INSTANT)
    who_can = sorted(compiled.identity_kind)
    rows = many.rows_of(np.array(who_can, np.int64), np.ones(len(compiled.permission_pairs), bool))
    picked = [
        (int(rows.who[row]), int(rows.permission[row]), int(rows.target[row]))
        for row in rng.sample(range(len(rows)), min(PER_WORLD, len(rows)))
    ]
    by_kind: dict[str, list[int]] = {}
    for number, (kind, _) in enumerate(compiled.permission_pairs):
        by_kind.setdefault(kind, []).append(number)
    for _ in range(PER_WORLD):
        target = rng.randrange(len(many.target_place))
        kind = compiled.kind_names[int(many.target_kind[target])]
        if kind in by_kind:
            picked.append((rng.choice(who_can), rng.choice(by_kind[kind]), target))
    out = []
    for who, permission, target in picked:
        _, verb = compiled.permission_pairs[permission]
        if verb in ("take-on", "attach"):
            continue  # taking on is held together by tests of edges and of admission; attaching asks of two things
        context = Context(
            network=rng.choice(NETWORKS), reference=rng.choice(["r1", None]), session_age=rng.choice(AGES)
        )
        name, address = compiled.places.names[who], many.target_name(target)
        question = Question(Origin(Form.IDENTITY, name), (), Attempt(verb, address), context, NOW)
        age = context.session_age or timedelta(0)
        known = goal_at(compiled, int(many.target_place[target]))
        goal = replace(known, address=address, kind=compiled.kind_names[int(many.target_kind[target])])
        facts = RequestAttributes(compiled, question, name, list(goal.chain), first=True, age=age)
        caller = identity_caller(compiled, name, has_session=True)
        asked = Asked(
            compiled, question, caller, verb, Target(address, goal.kind, goal.chain), permission, facts, True, age,
            INSTANT,
        )  # fmt: skip
        needed = Requests(compiled, INSTANT).needed(CallerNode("identity", who, name), permission, goal)
        columns = (who, permission, goal.chain[0], int(many.target_kind[target]), target)
        batch = Batch(*(np.array([one], np.int64) for one in columns))
        out.append((Tried(asked, needed, batch, many), context, f"{name} {verb} {address}"))
    return out


@pytest.mark.parametrize("step", READINGS)
def test_three_readings_of_a_step_say_the_same(step: VerdictStep) -> None:
    decide, require, lower = READINGS[step]
    counted: Counter[str] = Counter()

    @given(st.integers(0, 2**32))
    @settings(max_examples=examples(20))
    def compare(seed: int) -> None:
        for tried, context, what in tries(seed):
            outcome = decide(tried)
            requirement = require(tried)
            values = {
                "time": NOW, "network": context.network, "reference": context.reference, "mfa": None,
                "session.age": context.session_age or timedelta(0),
                **{f"origin.{name}": None for name in ("kind", "issuer", "organisation", "address")},
            }  # fmt: skip
            met = requirement is not None and Solver().witness(requirement, Knowns(values)) is not None
            assert met == outcome.earned, f"seed {seed}: {what}: {outcome} {requirement}"
            state = np.array([YES], np.int8)
            lower(tried, state)
            if state[0] == YES:
                assert requirement == ALWAYS, f"seed {seed}: {what}: {requirement}"
            elif state[0] == NO:
                assert requirement is None, f"seed {seed}: {what}: {requirement}"
            counted[outcome.outcome] += 1
            counted["looked at"] += state[0] == LOOK

    compare()
    assert counted[Outcome.REFUSED] > examples(3), counted
    assert counted[Outcome.ALLOWED] + counted[Outcome.NOT_NEEDED] > examples(60), counted
    if step in (VerdictStep.CEILINGS, VerdictStep.TARGET_SIDE):
        assert counted["looked at"], counted

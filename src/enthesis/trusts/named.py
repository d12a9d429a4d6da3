"""Whom a trust admits that names callers (identities, groups, accounts, people, or what runs as something), who is
only just refused, and why no caller is admitted."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import UTC, datetime

import numpy as np

from enthesis.access.ceilings.require import require as past_ceilings
from enthesis.access.compiling import NONE, Compiled, compile_estate
from enthesis.access.needed import LAST, NO_POWERS, CallerNode, Needed, goal_at
from enthesis.access.questions import Question
from enthesis.access.requirements import ALWAYS
from enthesis.access.states import LOOK
from enthesis.access.target_side.admission import names_attached
from enthesis.chains.access_graph import STANDS_FOR, Web
from enthesis.chains.chains import Chains
from enthesis.conditions.truth import Value
from enthesis.model.addresses import account_of, is_pool, parse
from enthesis.model.errors import InvalidAddress, Undecided
from enthesis.model.estate import Attempt, Context, Origin, Trust
from enthesis.model.vocabulary import BEARERS, Form, VerdictStep, origin_form
from enthesis.verdicts.judge import Judge

MOST_NEAR = 6  # callers that all but are admitted
MOST_TRIED = 2_000  # callers that are looked at for that


@dataclass(frozen=True, slots=True)
class AdmittedCaller:
    """A caller that a trust admits, with what it takes (a value for each thing that is left open)."""

    name: str
    values: Mapping[str, Value]


@dataclass(frozen=True, slots=True)
class LeftOut:
    """A caller that a trust all but admits, and why it does not."""

    name: str
    why: str


def admitted_by(compiled: Compiled, trust: Trust, instant: datetime) -> list[AdmittedCaller]:
    """Everybody who can take on the identity of a trust by that trust alone, ceilings and the caller's side counted,
    from an instant on. Raises Undecided."""
    chains = Chains.from_now_on(Web(with_that_alone(compiled, trust), instant.timestamp()))
    web = chains.web
    of = web.compiled.find(trust.of)
    edges = web.backward.edges(np.array([of])) if of != NONE else np.zeros(0, np.int64)
    out: dict[str, AdmittedCaller] = {}
    for edge in edges.tolist():
        if web.edge_permission[edge] != web.compiled.take_on or web.edge_sort[edge] == STANDS_FOR:
            continue
        takes = web.requirement(edge) if web.edge_state[edge] == LOOK else ALWAYS
        node = int(web.edge_from[edge])
        name = web.node(node).name
        if takes is None or is_pool(name) or name == trust.of:
            continue
        values = chains.values_for(takes, chains.from_place(node))
        if values is not None:
            out.setdefault(name, AdmittedCaller(name, values))
    return sorted(out.values(), key=lambda one: one.name)


def with_that_alone(compiled: Compiled, trust: Trust) -> Compiled:
    """The estate with that trust as the only one of its identity; the same one where it is that already."""
    estate = compiled.estate
    if [one for one in estate.trusts if one.of == trust.of] == [trust]:
        return compiled
    others = tuple(one for one in estate.trusts if one.of != trust.of)
    return compile_estate(replace(estate, trusts=(*others, trust)))


def near_to(compiled: Compiled, trust: Trust, instant: datetime, admitted: list[AdmittedCaller]) -> list[LeftOut]:
    """Callers of the kind that a trust names that are refused, those that lack least first, each with the reason."""
    judge = Judge(with_that_alone(compiled, trust))
    known = {one.name for one in admitted}
    found: list[tuple[int, bool, str, str]] = []
    for number, origin in enumerate(_candidates(compiled, trust)):
        if number >= MOST_TRIED:
            break
        if origin.whom in known or origin.whom == trust.of:
            continue
        asked = Question(origin, (), Attempt("take-on", trust.of), Context(), instant.astimezone(UTC))
        (request,) = judge.judge(asked).requests
        refusing = [step for step in request.steps if step.name in request.refused_at]
        why = []
        for step in refusing:
            if step.name == VerdictStep.TARGET_SIDE:
                why += [text for miss in step.misses[:1] for text in miss.lacks]
                why += [f"{one.attribute} is not as wanted" for miss in step.misses[:1] for one in miss.unmet]
            elif step.name == VerdictStep.CALLER_SIDE:
                why.append("its account does not let it")
            else:
                why += [ground.text for ground in step.grounds]
        if why:
            elsewhere = account_of(origin.whom) != account_of(trust.of)
            found.append((len(why), elsewhere, origin.whom, " and ".join(dict.fromkeys(why))))
    return [LeftOut(name, why) for _, _, name, why in sorted(found)[:MOST_NEAR]]


def _candidates(compiled: Compiled, trust: Trust) -> Iterator[Origin]:
    """The declared callers of the kind that a trust names."""
    estate = compiled.estate
    if trust.admits.form == Form.ATTACHED:
        for address in estate.resources:
            try:
                kind = parse(address, compiled.catalogue).kind
            except InvalidAddress:
                continue
            if compiled.catalogue.acts(kind) and not is_pool(address):
                yield Origin(origin_form(kind, person=False), address)
        return
    for address, identity in estate.identities.items():
        if identity.is_person == (trust.admits.form == Form.PERSON) or trust.admits.form == Form.GROUP:
            yield Origin(identity.form, address)


def barred_from(compiled: Compiled, trust: Trust, instant: datetime) -> str:
    """Why nobody whom a trust names can ever take on its identity: the ceiling that bars each of them, whatever
    happens; '' if some caller may, or if no caller is known."""
    callers = [CallerNode(form, place, compiled.places.names[place]) for form, place in _named(compiled, trust)]
    of = compiled.find(trust.of)
    if not callers or of == NONE or not compiled.ceilings_at:
        return ""
    for node in callers:
        asked = Needed(
            compiled, instant.timestamp(), NO_POWERS, False, node, compiled.take_on, goal_at(compiled, of), LAST
        )
        try:
            if past_ceilings(asked) is not None:
                return ""
        except Undecided:
            return ""
    place = compiled.places.chain(callers[0].place)
    barring = [
        barred.ceiling.name
        for barred in compiled.ceilings_over(tuple(place), compiled.places.chain(of))
        if barred.bars(compiled.take_on, callers[0].name, inside=barred.place in place)
    ]
    return f"the ceiling {' and '.join(dict.fromkeys(barring))} bars all whom it names from taking on {trust.of}"


def why_nobody(compiled: Compiled, trust: Trust) -> str:
    """Why a trust that names its callers admits none of them, whatever happens: they are not there, or are disabled; ''
    where somebody may come by it, or where it names nobody but what an issuer signs."""
    form, whom, estate = trust.admits.form, trust.admits.whom, compiled.estate
    if form in BEARERS:
        return ""
    callers = [place for _, place in _named(compiled, trust) if place != NONE]
    if form == Form.ATTACHED:
        home = account_of(trust.of)
        running = {place: compiled.places.names[place] for place in callers}
        callers = [
            place for place, name in running.items()
            if (account_of(name) == home if whom is True else names_attached(whom, name))
        ]  # fmt: skip
    if not callers:
        missing = form != Form.ATTACHED and isinstance(whom, str) and compiled.find(whom) == NONE
        nobody = {Form.GROUP: f"{whom} has no members", Form.ACCOUNT: f"{whom} has no identities"}
        return f"{whom} does not exist" if missing else nobody.get(form, f"nothing runs as {trust.of}")
    names = [compiled.places.names[place] for place in callers]
    if all(name in estate.identities and estate.identities[name].disabled for name in names):
        return f"{names[0]} is disabled" if len(names) == 1 else f"everybody of {whom} is disabled"
    return ""


def _named(compiled: Compiled, trust: Trust) -> Iterator[tuple[str, int]]:
    """The callers that a trust names, by form and place, those to come among them."""
    form, whom = trust.admits.form, trust.admits.whom
    if form in (Form.IDENTITY, Form.PERSON):
        yield "identity", compiled.find(str(whom))
    elif form == Form.GROUP:
        yield from (("identity", one) for one in compiled.members.get(compiled.find(str(whom)), ()))
    elif form == Form.ACCOUNT:
        account = compiled.find(str(whom))
        yield from (("identity", one) for one in compiled.identity_places.tolist() if compiled.account[one] == account)
    elif form == Form.ATTACHED:
        of = compiled.find(trust.of)
        yield from (("resource", one) for one, runs in compiled.runs_as.items() if of in runs)

"""Chains as journeys, and journeys found by walking: what is told of everything at once, held against single verdicts.

The naive evaluator is the judge. A chain that is told is taken apart into journeys, with the very values that are told
and the members to come declared; a walk tries hops and attempts at random and keeps those that are allowed.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from ipaddress import ip_network
from random import Random
from typing import Any

from enthesis.access.compiling import NONE
from enthesis.access.future_members import ANY
from enthesis.access.requirements import BEFORE_KEY
from enthesis.chains.access_graph import LEADS_ON, OPENS, STANDS_FOR
from enthesis.chains.chains import Chain, Chains
from enthesis.model.estate import Attempt, Context, Estate, Hop, Identity, Journey, Origin, Resource
from enthesis.model.pointers import nested
from enthesis.model.vocabulary import Ending, Form

from .naive import Naive
from .worlds import CALLED_FROM

NOW = datetime(2026, 11, 24, tzinfo=UTC)
LATER = (NOW, datetime(2027, 1, 1, tzinfo=UTC), datetime(2027, 6, 1, tzinfo=UTC), datetime(2028, 1, 1, tzinfo=UTC))
AGES = tuple(timedelta(minutes=n) for n in (0, 10, 15, 20, 59, 60, 239, 240))


def journeys_of(chains: Chains, chain: Chain) -> tuple[Estate, list[Journey]]:
    """The estate with the members to come that a chain needs, and the journeys that it amounts to, in order.

    A chain goes on as somebody else where code comes to run by another verb than the one of a hop; there one journey
    ends in that attempt, and the next starts with what runs.
    """
    web, compiled = chains.web, chains.compiled
    values: dict[str, Any] = dict(chain.values)
    estate = declared(compiled.estate, values, chain, chains)
    origin = _origin(chain, values)
    if chain.start.form == Form.PIPELINE_ACCESS:
        origin = Origin(Form.CREDENTIAL, str(estate.pipeline_access[chain.start.whom].credential))
    context = _context(values)
    out: list[Journey] = []
    hops: list[Hop] = []
    known = {name: value for name, value in values.items() if name in chain.start.knowns.values}
    keys = [web.keys.credentials[int(web.edge_key[edge])].name for edge in chain.edges if web.edge_key[edge] != NONE]
    before = {key: {**known, **_before(values, key)} for key in keys}
    last_context, context = context, _context(before[keys[0]]) if keys else context
    for edge in chain.edges:
        kind, verb = compiled.permission_pairs[int(web.edge_permission[edge])]
        target = web.target_name(int(web.edge_target[edge]))
        if web.edge_key[edge] != NONE:
            key = web.keys.credentials[int(web.edge_key[edge])].name
            asked = Attempt(verb, target) if web.edge_sort[edge] == OPENS else None
            aged = replace(context, session_age=before[key].get("session.age") or None)
            if asked is not None or hops:
                out.append(Journey("part", origin, Ending.ALLOWED, tuple(hops), asked, aged))
            keys.pop(0)
            origin, hops = Origin(Form.CREDENTIAL, key), []
            context = _context(before[keys[0]]) if keys else last_context
        elif web.edge_sort[edge] == STANDS_FOR:
            member = web.node(int(web.edge_to[edge])).name
            if hops:
                hops[-1] = replace(hops[-1], member=member)
            else:
                origin = replace(origin, whom=member)
        elif web.edge_sort[edge] != LEADS_ON:
            hops.append(Hop(target))
        elif compiled.catalogue.running_verb(kind) == verb:
            hops.append(Hop(on=target))
        else:
            out.append(Journey("part", origin, Ending.ALLOWED, tuple(hops), Attempt(verb, target), context))
            form = Form.IDENTITY if kind == "identity" else Form.WORKLOAD if kind == "workload" else Form.HOST
            origin, hops = Origin(form, target), []
    attempt = None
    if chain.end is not None:
        verb = compiled.permission_pairs[chain.end[1]][1]
        attempt = Attempt(verb, web.target_name(chain.end[2]))
    age = values.get("session.age")
    if hops or attempt is not None:  # else the chain ends with what runs there
        last = replace(context, session_age=age or None)
        out.append(Journey("part", origin, Ending.ALLOWED, tuple(hops), attempt, last))
    return estate, out


def _origin(chain: Chain, values: Mapping[str, Any]) -> Origin:
    """What a chain starts with, showing what is told."""
    shown = {name.removeprefix("claims."): v for name, v in values.items() if name.startswith("claims.")}
    shows, mfa = nested({name: value for name, value in shown.items() if value is not None}), values.get("mfa")
    return Origin(chain.start.form, chain.start.whom, shows, mfa if isinstance(mfa, bool) else None, mfa_said=True)


def _before(values: Mapping[str, Any], key: str) -> dict[str, Any]:
    """What is told of the part of a chain that leads to a stored key."""
    mark = f"{BEFORE_KEY}{key}"
    return {name.removesuffix(mark): value for name, value in values.items() if name.endswith(mark)}


def _context(values: Mapping[str, Any]) -> Context:
    return Context(
        values.get("time") or NOW, values.get("network"), values.get("reference"),
        said=frozenset(("time", "network", "reference")),
    )  # fmt: skip


def declared(estate: Estate, values: Mapping[str, Any], chain: Chain, chains: Chains) -> Estate:
    """The estate with the members to come that a chain starts from or comes by, like what is told of them."""
    web = chains.web
    nodes = {chain.start.node, *(int(web.edge_to[edge]) for edge in chain.edges)}
    if chain.end is not None:
        nodes.add(int(web.target_place[chain.end[2]]))
    identities, resources = dict(estate.identities), dict(estate.resources)
    for node in nodes:
        if node not in chains.compiled.to_come:
            continue
        name = chains.compiled.places.names[node]
        end = f" of {name}"
        labels = {
            one.removeprefix("label ").removesuffix(end): str(value) for one, value in values.items()
            if one.startswith("label ") and one.endswith(end) and value is not None
        }  # fmt: skip
        if "/identity/" in name:
            kind = str(values.get(f"kind of {name}") or chains.compiled.identity_kind[node])
            tied = chains.compiled.tables.tied.get(name)
            identities[name] = Identity(name, kind, labels=labels, tied_to=tied)
        else:
            resources[name] = Resource(name, labels=labels)
    return replace(estate, identities=identities, resources=resources)


def replayed(chains: Chains, chain: Chain) -> bool:
    """Whether the naive evaluator allows every journey that a chain amounts to."""
    estate, journeys = journeys_of(chains, chain)
    naive = Naive(estate, NOW)
    return all(not seen.refused for journey in journeys for seen in naive.judge(journey))


# -- walking ------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Grid:
    """Values that a walk tries for what surrounds it."""

    times: tuple[datetime, ...] = LATER
    ages: tuple[timedelta, ...] = AGES


def walks(estate: Estate, rng: Random, count: int, grid: Grid = Grid()) -> Iterator[Journey]:
    """Journeys that the naive evaluator allows, found by walking at random from every kind of origin."""
    naive = Naive(estate, NOW)
    origins = list(starts(estate, rng))
    onto = [Hop(one.of) for one in estate.trusts]
    onto += [
        Hop(on=one, member=member)
        for one in estate.resources if any(c == "run" for c in verbs_at(naive, one).values())
        for member in members_of(estate, one)
    ]  # fmt: skip
    onto = list(dict.fromkeys(onto))
    targets = [*estate.resources, *estate.identities, "@one", "aa/bucket/b/object/p/q/r", "bb/bucket/b/object/z"]
    targets = [one for one in targets if naive.exists(one)]
    for _ in range(count):
        context = Context(
            rng.choice(grid.times), some_network(rng), rng.choice((None, "r1", "r2", "special-1")),
            said=frozenset(("time", "network", "reference")),
        )  # fmt: skip
        journey = Journey("walk", rng.choice(origins), Ending.ALLOWED, (), None, context)
        for _ in range(rng.choice((0, 1, 1, 2, 3))):
            for hop in rng.sample(onto, min(len(onto), 12)):
                longer = replace(journey, through=(*journey.through, hop))
                if allowed(naive, longer):
                    journey = longer
                    break
        for target in rng.sample(targets, min(len(targets), 8)):
            verbs = [one for one in verbs_at(naive, target) if one != "attach"]
            for verb in rng.sample(verbs, min(len(verbs), 3)):
                aged = replace(context, session_age=rng.choice(grid.ages) or None)
                tried = replace(journey, attempt=Attempt(verb, target), context=aged)
                if allowed(naive, tried):
                    yield tried


def allowed(naive: Naive, journey: Journey) -> bool:
    return not any(seen.refused for seen in naive.judge(journey))


def some_way(estate: Estate, journey: Journey, hops: int = 4) -> bool:
    """Whether what a journey attempts can be had from its origin by any hops, everything else being as it says."""
    naive = Naive(estate, NOW)
    onto = dict.fromkeys(Hop(one.of) for one in estate.trusts)
    onto.update(
        (Hop(on=one, member=member), None)
        for one in estate.resources if "run" in verbs_at(naive, one).values()
        for member in members_of(estate, one)
    )  # fmt: skip
    ways: list[tuple[Hop, ...]] = [()]
    seen: set[object] = set()
    while ways:
        way = ways.pop(0)
        if allowed(naive, replace(journey, through=way)):
            return True
        if len(way) == hops:
            continue
        for hop in onto:
            longer = replace(
                journey, through=(*way, hop), attempt=None, context=replace(journey.context, session_age=None)
            )
            judged = naive.judge(longer)
            lives = min((one.admitting[0].session for one in judged if one.admitting), default=None)
            if not any(one.refused for one in judged) and (hop, lives) not in seen:
                seen.add((hop, lives))
                ways.append((*way, hop))
    return False


def members_of(estate: Estate, place: str) -> list[str]:
    """The declared members of a pool; '' of anything else, which goes on as itself."""
    parts = place.split("/")
    if len(parts) != 3 or parts[1] != "pool":
        return [""]
    return [one for one in estate.resources if one.startswith(f"{place}/host/")]


def verbs_at(naive: Naive, address: str) -> Mapping[str, str]:
    return naive.estate.catalogue.verbs_of(naive.kind_at(address) or "")


def some_network(rng: Random) -> Any:
    text = rng.choice(CALLED_FROM)
    return ip_network(text) if text is not None and "/7" not in text else None


def starts(estate: Estate, rng: Random) -> Iterator[Origin]:
    """Every place where a journey can start; of signed statements several, with claims at random."""
    for journey in estate.journeys.values():
        if (
            journey.origin.form in (Form.TOKEN, Form.ASSERTION, Form.CERTIFICATE)
            and journey.origin.whom in estate.issuers
        ):
            shows = {name: value for name, value in journey.origin.shows.items() if name not in ("exp", "nbf")}
            yield replace(journey.origin, shows=shows)
    for address, identity in estate.identities.items():
        if identity.kind == "person":
            yield Origin(Form.PERSON, address, mfa=rng.choice((True, False, None)), mfa_said=True)
        else:
            yield Origin(Form.IDENTITY, address)
    for address in estate.resources:
        parts = address.split("/")
        if parts[-2] == "host":
            yield Origin(Form.HOST, address)
        elif parts[-2] == "workload":
            yield Origin(Form.WORKLOAD, address)
    yield from (Origin(Form.CREDENTIAL, name) for name in estate.credentials)


# -- other versions -------------------------------------------------------------------------------------------------

SECTIONS = ("trusts", "grants", "grants", "ceilings", "attachments", "groups", "labels", "credentials", "identities")


def altered(estate: Estate, rng: Random) -> Estate:
    """Another version of an estate: a few statements left out, changed, without their conditions or with others."""
    out = estate
    for _ in range(rng.choice((1, 1, 2, 4))):
        out = one_altered(out, rng, rng.choice(SECTIONS))
    return out


def one_altered(estate: Estate, rng: Random, section: str) -> Estate:
    if section == "groups":
        address = rng.choice(list(estate.groups))
        group = estate.groups[address]
        thinner = replace(group, members=group.members[1:]) if group.members else replace(group, where=None)
        return replace(estate, groups={**estate.groups, address: thinner})
    if section == "labels":
        address = rng.choice(list(estate.identities))
        other = replace(estate.identities[address], labels={"tier": rng.choice(("high", "low"))})
        return replace(estate, identities={**estate.identities, address: other})
    if section == "credentials":
        name = rng.choice(list(estate.credentials))
        other_one = replace(estate.credentials[name], disabled=not estate.credentials[name].disabled)
        return replace(estate, credentials={**estate.credentials, name: other_one})
    if section == "identities":
        return without_identity(estate, rng.choice(list(estate.identities)))
    listed = list(getattr(estate, section))
    if not listed:
        return estate
    at = rng.randrange(len(listed))
    if rng.random() < 0.5 and hasattr(listed[at], "when"):
        listed[at] = replace(listed[at], when=() if rng.random() < 0.7 else rng.choice(conditions_of(estate)))
    else:
        del listed[at]
    return with_section(estate, section, listed)


def with_section(estate: Estate, section: str, listed: list[Any]) -> Estate:
    changes: dict[str, Any] = {section: tuple(listed)}
    return replace(estate, **changes)


def without_identity(estate: Estate, gone: str) -> Estate:
    """The estate after an identity or person was taken out of it, with every statement that names it."""

    def free(*names: object) -> bool:
        return gone not in names

    return replace(
        estate,
        identities={name: one for name, one in estate.identities.items() if name != gone},
        groups={n: replace(one, members=tuple(filter(free, one.members))) for n, one in estate.groups.items()},
        trusts=tuple(one for one in estate.trusts if free(one.of, one.admits.whom)),
        grants=tuple(one for one in estate.grants if free(one.to, one.at) and gone not in one.at),
        ceilings=tuple(
            one for one in estate.ceilings if free(one.at, *(getattr(each, "who", each) for each in one.excepts))
        ),
        attachments=tuple(
            kept
            for one in estate.attachments
            if (kept := replace(one, runs_as=tuple(filter(free, one.runs_as)))).runs_as
        ),
        resources={n: replace(one, runs_as=tuple(filter(free, one.runs_as))) for n, one in estate.resources.items()},
        credentials={name: one for name, one in estate.credentials.items() if one.of != gone},
        journeys={},
    )


def conditions_of(estate: Estate) -> list[Any]:
    found = [*(one.when for one in estate.grants if one.when), *(one.when for one in estate.trusts if one.when)]
    return found or [()]


def version_that_refuses(estate: Estate, journey: Journey, rng: Random) -> Estate | None:
    """A version in which one statement that a journey needs is gone, or has a condition, so that it is refused."""
    names = {journey.origin.whom, *(hop.identity or hop.on for hop in journey.through)}
    groups = {group for group in estate.groups if any(Naive(estate, NOW).in_group(name, group) for name in names)}
    needed = [("trusts", n) for n, one in enumerate(estate.trusts) if one.of in names]
    needed += [("grants", n) for n, one in enumerate(estate.grants) if one.to in names | groups]
    rng.shuffle(needed)
    for section, at in needed[:25]:
        listed = list(getattr(estate, section))
        if rng.random() < 0.5:
            del listed[at]
        else:
            listed[at] = replace(listed[at], when=(*listed[at].when, *rng.choice(conditions_of(estate))))
        other = with_section(estate, section, listed)
        if not allowed(Naive(other, NOW), journey):
            return other
    return None


def is_to_come(address: str) -> bool:
    return address.rsplit("/", 1)[-1].endswith(ANY)

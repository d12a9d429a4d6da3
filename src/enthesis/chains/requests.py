"""What a single request takes where the surroundings are free: its requirement, or None where it is never allowed.

The same seven steps as in `judging`, but conditions on what is free are left standing instead of judged. What ends
(`until`, and how long sessions live) is left standing too, as conditions on the time and on the sessions' age.
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta

from enthesis.chains.clauses import (
    ALWAYS,
    KIND_OF,
    LABEL_OF,
    Alternative,
    Literal,
    Requirement,
    any_of,
    escaping,
    holding,
    joined,
)
from enthesis.conditions.truth import Value
from enthesis.conditions.values import Want
from enthesis.model.addresses import account_of
from enthesis.model.conditions import Before, Conditions, LongerThan
from enthesis.model.words import BEARERS
from enthesis.verdicts.admission import Applicant, lacks
from enthesis.verdicts.attributes import audiences_for, caller_fact, provider_at, service_account_subjects, target_label
from enthesis.verdicts.compiling import ENDLESS, NONE, Compiled, companion_places
from enthesis.verdicts.judge import USES_OF_KEYS

JUST_LESS = timedelta(seconds=1)  # ages are told in whole seconds
NOTHING = timedelta(0)


@dataclass(frozen=True, slots=True)
class CallerNode:
    """A caller that can ask: `place` is NONE for the bearer of what an issuer signs.

    `form` is identity, resource, or a bearer's form.
    """

    form: str
    place: int
    name: str

    @property
    def bearer(self) -> bool:
        """Whether the caller shows a token, an assertion or a certificate."""
        return self.form in BEARERS


@dataclass(frozen=True, slots=True)
class Goal:
    """What is asked about: an address with its kind, and the known places at and above it. `beside` is the provider of
    a request that this one goes with."""

    address: str
    kind: str
    chain: tuple[int, ...]
    beside: str | None = None


@dataclass(frozen=True, slots=True)
class Powers:
    """What a chain has made its own by changing access; see `changes`. Empty where nothing may be changed."""

    places: frozenset[int] = frozenset()
    identities: frozenset[int] = frozenset()
    groups: frozenset[int] = frozenset()
    roles: frozenset[int] = frozenset()
    ceilings: frozenset[int] = frozenset()


NO_POWERS = Powers()


@dataclass(frozen=True, slots=True)
class Asking:
    """How a request stands in a chain. A `hop` is asked with sessions just obtained, and its own session must still
    live at the end. `when` are the conditions of the credential that the first request shows; `person` is who is
    behind the chain, and must be let enter another organisation (NONE: nobody)."""

    hop: bool = False
    when: Conditions = ()
    person: int = NONE


LAST = Asking()


class Requests:
    """Requirements of single requests on one compiled estate, at or after one instant.

    `ages` says whether any condition asks how old a session is: where none does, sessions are as good as new.
    """

    def __init__(self, compiled: Compiled, now: float, powers: Powers = NO_POWERS, *, ages: bool = True) -> None:
        self.compiled = compiled
        self.now = now
        self.powers = powers
        self.ages = ages

    def request(self, node: CallerNode, permission: int, goal: Goal, asking: Asking = LAST) -> Requirement | None:
        """What it takes that this node does this there; ALWAYS where it takes nothing, None where it never may."""
        compiled = self.compiled
        held = self._holding(asking.when, node, goal, asking)
        if held is None:
            return None
        _, verb = compiled.permission_pairs[permission]
        if not self._stands(node, goal) or not self._provider(node, verb, goal) or self._foreign(node, verb, goal):
            return None
        ceilings = self._ceilings(node, permission, goal, asking)
        if ceilings is None:
            return None
        if verb == "take-on":
            sides = self._taking_on(node, permission, goal, asking)
        else:
            own = any_of(self._grants("target-side", node, permission, goal, asking))
            sides = own
            if own is not None and self._crossing(node, goal):
                sides = joined((own, self._callers_side(node, permission, goal, asking)))
        if sides is None:
            return None
        tied: Requirement = ((held,),) if held else ALWAYS
        entering = self._entering(node, verb, goal, asking)
        return joined((tied, entering, ceilings, sides, *self._companions(node, permission, goal, asking)))

    def _entering(self, node: CallerNode, verb: str, goal: Goal, asking: Asking) -> Requirement | None:
        """What it takes of the person behind a chain to reach something of another organisation."""
        organisation = self.compiled.places.organisation
        there = organisation[goal.chain[0]]
        if asking.person == NONE or verb == "enter" or there in (NONE, organisation[asking.person]):
            return ALWAYS
        person = CallerNode("identity", asking.person, self.compiled.places.names[asking.person])
        at = provider_at(self.compiled, "" if node.bearer else node.name, goal.chain)
        entered = replace(self.goal(there), beside=at)
        return self.request(person, self.compiled.permission["organisation", "enter"], entered, asking)

    # -- steps ----------------------------------------------------------------------------------------------------

    def _stands(self, node: CallerNode, goal: Goal) -> bool:
        stands = self.compiled.stands
        if node.form in ("identity", "resource") and not stands[node.place]:
            return False
        return goal.kind != "identity" or bool(stands[goal.chain[0]])

    def _provider(self, node: CallerNode, verb: str, goal: Goal) -> bool:
        compiled = self.compiled
        wanted = int(compiled.provider[goal.chain[0]])
        if verb == "take-on" or wanted == NONE:
            return True
        if node.bearer:
            return False
        return bool(compiled.is_person[node.place]) or int(compiled.provider[node.place]) == wanted

    def _foreign(self, node: CallerNode, verb: str, goal: Goal) -> bool:
        """Whether a key that the provider manages is to be used from outside of its account."""
        used = goal.kind == "key" and verb in USES_OF_KEYS and goal.chain[0] in self.compiled.key_by_provider
        return used and account_of("" if node.bearer else node.name) != account_of(goal.address)

    def _free(self, node: CallerNode, goal: Goal, attribute: str, asking: Asking) -> str:
        """The name under which an attribute is free; '' where it is known, or known to be absent."""
        compiled = self.compiled
        family, _, rest = attribute.partition(".")
        if family == "session":
            return "" if asking.hop else attribute
        if attribute == "provider":
            return ""
        if family == "claims":
            return attribute if node.bearer else ""
        if family == "caller":
            if rest == "kind" and node.place in compiled.any_kind:
                return f"{KIND_OF}{node.name}"
            if rest.startswith("labels.") and node.place in compiled.to_come:
                return f"{LABEL_OF}{rest.removeprefix('labels.')} of {node.name}"
            return ""
        if family == "target":
            label = rest.removeprefix("labels.")
            for place in goal.chain if compiled.to_come else ():
                if place in compiled.to_come:
                    return f"{LABEL_OF}{label} of {compiled.places.names[place]}"
                if label in compiled.labels_at(place):
                    return ""
            return ""
        return attribute

    def _get(self, node: CallerNode, goal: Goal, attribute: str) -> Value:
        family, _, rest = attribute.partition(".")
        if family == "session":
            return NOTHING
        if attribute == "provider":
            return provider_at(self.compiled, "" if node.bearer else node.name, goal.chain, goal.beside)
        if family == "target":
            return target_label(self.compiled, goal.chain, rest.partition(".")[2])
        return caller_fact(self.compiled, "" if node.bearer else node.name, rest) if family == "caller" else None

    def _holding(
        self, conditions: Conditions, node: CallerNode, goal: Goal, asking: Asking, prefix: str = ""
    ) -> Alternative | None:
        if not conditions:
            return ()
        return holding(
            conditions,
            lambda name: self._get(node, goal, name),
            lambda name: self._free(node, goal, name, asking),
            prefix,
        )

    def _ceilings(self, node: CallerNode, permission: int, goal: Goal, asking: Asking) -> Requirement | None:
        compiled = self.compiled
        clauses = []
        callers = () if node.bearer else tuple(compiled.places.chain(node.place))
        for over, chain in (("callers", callers), ("targets", goal.chain)):
            for place in chain:
                for barred in compiled.ceilings_at.get(place, ()):
                    if barred.ceiling.over != over or place in self.powers.ceilings:
                        continue
                    if not barred.refuses >> permission & 1:
                        continue
                    if not node.bearer and barred.leaves_alone(node.name, barred.place in callers):
                        continue
                    clause = escaping(
                        barred.ceiling.when,
                        lambda name: self._get(node, goal, name),
                        lambda name: self._free(node, goal, name, asking),
                    )
                    if clause is None:
                        return None
                    if clause:
                        clauses.append(clause)
        return tuple(clauses)

    def principals(self, node: CallerNode) -> tuple[int, ...]:
        """The numbers by which grants can name this node."""
        if node.form != "identity":
            return ()
        return (node.place, *self.compiled.groups_of(node.place), *self.powers.groups)

    def joining(self, member: CallerNode, group: int) -> list[Alternative]:
        """The ways in which a member to come is in a group, as literals on its kind and labels."""
        return self._joining(member, group, self.goal(member.place), LAST)

    def _joining(self, node: CallerNode, group: int, goal: Goal, asking: Asking) -> list[Alternative]:
        """What it takes that a node is in a group that it can be in: nothing, but of a member to come."""
        if node.place not in self.compiled.to_come or group in self.powers.groups:
            return [()]
        found = (self._holding(tests, node, goal, asking) for tests in self.compiled.joining(node.place, group))
        return [alternative for alternative in found if alternative is not None]

    def _grants(
        self, side: str, node: CallerNode, permission: int, goal: Goal, asking: Asking
    ) -> Iterator[Alternative | None]:
        compiled = self.compiled
        own = compiled.places.account[node.place] if node.place != NONE else NONE
        if node.form == "identity" and self._writable(side, own, goal):
            yield ()
        for number in compiled.grants_between(self.principals(node), goal.chain):
            holder = int(compiled.grant_holder[number])
            allows = compiled.role_allows[compiled.grant_role[number], permission]
            if not allows and holder not in self.powers.roles:
                continue
            until = float(compiled.grant_until[number])
            if until <= self.now:
                continue
            if (
                not compiled.inside(holder, goal.chain[0])
                if side == "target-side"
                else not compiled.inside(holder, own)
            ):
                continue
            held = self._holding(compiled.grant_when(number), node, goal, asking)
            if held is None:
                continue
            to = int(compiled.grant_to[number])
            for joins in self._joining(node, to, goal, asking) if to != node.place else [()]:
                yield (*joins, *held, *_before(until))

    def _writable(self, side: str, own: int, goal: Goal) -> bool:
        """Whether the chain can write the grant itself: on the owner's side at the place, on the other its account."""
        places = self.powers.places
        if side == "target-side":
            return any(place in places for place in goal.chain)
        return any(place in places for place in self.compiled.places.chain(own))

    def _crossing(self, node: CallerNode, goal: Goal) -> bool:
        compiled = self.compiled
        if node.form != "identity":
            return False
        own, other = compiled.places.account[node.place], compiled.places.account[goal.chain[0]]
        if NONE in (own, other) or own == other:
            return False
        provider = int(compiled.provider[node.place])
        return provider == int(compiled.provider[goal.chain[0]]) and bool(compiled.two_sided[provider])

    def _callers_side(self, node: CallerNode, permission: int, goal: Goal, asking: Asking) -> Requirement | None:
        if self.compiled.places.account[node.place] in self.compiled.theirs:
            return ALWAYS  # taken to have written their half
        return any_of(self._grants("caller-side", node, permission, goal, asking))

    def _taking_on(self, node: CallerNode, permission: int, goal: Goal, asking: Asking) -> Requirement | None:
        """The owner's and the caller's side of a hop: a trust, and a grant where one is needed."""
        crossing = self._crossing(node, goal)
        alone: list[Alternative | None] = []
        whole: list[Alternative | None] = []
        if goal.chain[0] in self.powers.identities and not node.bearer:
            alone.append(())
        applicant = Applicant(node.form, node.name, node.place, self.principals(node)[1:], node.name)
        for number in self.compiled.trusts_of(goal.chain[0]):
            if not self._admits(number, applicant, goal):
                continue
            account = self.compiled.tables.trust_form[number] == "account"
            (whole if account else alone).extend(self._admitting(number, node, goal, asking))
        side = self._callers_side(node, permission, goal, asking) if crossing or whole else ALWAYS
        if crossing:
            return joined((any_of((*alone, *whole)), side))
        if side is None or not whole:
            return any_of(alone)
        let = [(*trusted, *more) for trusted in whole if trusted is not None for more in (side[0] if side else ((),))]
        return any_of((*alone, *let))

    def _admitting(self, number: int, node: CallerNode, goal: Goal, asking: Asking) -> Iterator[Alternative | None]:
        """What it takes that a trust admits a node, one way or another; a hop's session must live to the end."""
        compiled, tables = self.compiled, self.compiled.tables
        ends = _before(float(compiled.trust_until[number]))
        if asking.hop and self.ages:
            lives = timedelta(seconds=tables.trust_session[number]) - JUST_LESS
            ends = (*ends, ("session.age", LongerThan(lives), Want.FAILS))
        shown, when = compiled.trust_shown(number), compiled.trust_when(number)
        form, whom = tables.trust_form[number], tables.trust_whom[number]
        if form in BEARERS and node.form == "resource":
            for claims in self._service_account_claims((*shown, *when), node):
                yield _all(
                    [self._showing(tests, node, goal, asking, claims) for tests in (_claimed(shown), when)], ends
                )
            return
        joins: list[Alternative] = [()]
        if form == "group":
            joins = self._joining(node, compiled.find(str(whom)), goal, asking)
        for join in joins:
            claimed = self._holding(shown, node, goal, asking, "claims.")
            yield _all((join, claimed, self._holding(when, node, goal, asking)), ends)

    def _service_account_claims(self, conditions: Conditions, node: CallerNode) -> Iterator[dict[str, Value]]:
        """What a workload's tokens of its service accounts can show, for whatever audience it asks."""
        for subject in service_account_subjects(self.compiled, node.name):
            for audience in audiences_for(conditions):
                yield {"claims.sub": subject, "claims.aud": audience}

    def _showing(
        self, conditions: Conditions, node: CallerNode, goal: Goal, asking: Asking, claims: dict[str, Value]
    ) -> Alternative | None:
        def get(name: str) -> Value:
            return claims.get(name) if name.startswith("claims.") else self._get(node, goal, name)

        return holding(conditions, get, lambda name: self._free(node, goal, name, asking))

    def _admits(self, number: int, applicant: Applicant, goal: Goal) -> bool:
        """Whether a trust admits a caller, its conditions left aside."""
        if self.compiled.trust_until[number] <= self.now:
            return False
        return next(lacks(self.compiled, number, applicant, goal.chain[0], goal.address), None) is None

    def _companions(
        self, node: CallerNode, permission: int, goal: Goal, asking: Asking
    ) -> Iterator[Requirement | None]:
        compiled = self.compiled
        for companion in compiled.companions[permission]:
            for place in companion_places(compiled, companion, goal.chain, goal.address):
                there = self.goal(place)
                yield self.request(node, compiled.permission[there.kind, companion.also], there, asking)

    def goal(self, place: int) -> Goal:
        """A known place as what is asked about."""
        compiled = self.compiled
        kind = compiled.kind_names[compiled.places.kind[place]]
        return Goal(compiled.places.names[place], kind, tuple(compiled.places.chain(place)))


def _before(until: float) -> tuple[Literal, ...]:
    """That the time is before an end; nothing where there is none."""
    if until == ENDLESS:
        return ()
    return (("time", Before(datetime.fromtimestamp(until, UTC)), Want.HOLDS),)


def _all(parts: Iterable[Alternative | None], ends: Alternative) -> Alternative | None:
    """All of these together; None where one cannot be."""
    out: list[Literal] = []
    for part in parts:
        if part is None:
            return None
        out += part
    return (*out, *ends)


def _claimed(conditions: Conditions) -> Conditions:
    return tuple((f"claims.{name}", test) for name, test in conditions)

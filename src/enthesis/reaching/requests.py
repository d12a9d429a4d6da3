"""What a single request takes where the surroundings are free: its requirement, or None where it is never allowed.

The same seven steps as in `judging`, but conditions on what is free are left standing instead of judged.
"""

from collections.abc import Iterator
from dataclasses import dataclass

from enthesis.judging.compiling import NONE, Compiled
from enthesis.judging.facts import caller_fact, target_label
from enthesis.judging.questions import BEARERS
from enthesis.model.addresses import account_of
from enthesis.model.conditions import Conditions, Glob
from enthesis.reaching.free import ALWAYS, Alternative, Requirement, any_of, escaping, holding, joined
from enthesis.trusting.patterns import matcher
from enthesis.trusting.truth import Value


@dataclass(frozen=True, slots=True)
class Node:
    """Somebody or something that can ask: `place` is NONE for the bearer of what an issuer signs.

    `form` is identity, resource, anyone (any identity of an account that others administer), or a bearer's form.
    """

    form: str
    place: int
    name: str

    @property
    def bearer(self) -> bool:
        return self.form in BEARERS


@dataclass(frozen=True, slots=True)
class Goal:
    """What is asked about: an address with its kind, and the known places at and above it."""

    address: str
    kind: str
    chain: tuple[int, ...]


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
class Bound:
    """What every request of a chain is bound to, companions too: the conditions of the credential it started with,
    and the person behind it, who must be let enter another organisation. NONE: no person."""

    when: Conditions = ()
    person: int = NONE


UNBOUND = Bound()


class Requests:
    """Requirements of single requests on one compiled estate, at or after one instant."""

    def __init__(self, compiled: Compiled, now: float, powers: Powers = NO_POWERS) -> None:
        self.compiled = compiled
        self.now = now
        self.powers = powers

    def request(self, node: Node, permission: int, goal: Goal, bound: Bound = UNBOUND) -> Requirement | None:
        """What it takes that this node does this there; ALWAYS where it takes nothing, None where it never may."""
        compiled = self.compiled
        held = self._holding(bound.when, node, goal)
        if held is None:
            return None
        _, verb = compiled.permission_pairs[permission]
        if not self._stands(node, goal) or not self._provider(node, verb, goal):
            return None
        ceilings = self._ceilings(node, permission, goal)
        if ceilings is None:
            return None
        if verb == "take-on":
            sides = self._taking_on(node, permission, goal)
        else:
            own = any_of(self._grants("owner", node, permission, goal))
            sides = own
            if own is not None and self._crossing(node, goal):
                sides = joined((own, self._callers_side(node, permission, goal)))
        if sides is None:
            return None
        tied: Requirement = ((held,),) if held else ALWAYS
        entering = self._entering(bound, verb, goal)
        return joined((tied, entering, ceilings, sides, *self._companions(node, permission, goal, bound)))

    def _entering(self, bound: Bound, verb: str, goal: Goal) -> Requirement | None:
        """What it takes of the person behind a chain to come to something of another organisation."""
        organisation = self.compiled.places.organisation
        there = organisation[goal.chain[0]]
        if bound.person == NONE or verb == "enter" or there in (NONE, organisation[bound.person]):
            return ALWAYS
        person = Node("identity", bound.person, self.compiled.places.names[bound.person])
        return self.request(person, self.compiled.permission["organisation", "enter"], self.goal(there))

    # -- steps ----------------------------------------------------------------------------------------------------

    def _stands(self, node: Node, goal: Goal) -> bool:
        stands = self.compiled.stands
        if node.form in ("identity", "resource") and not stands[node.place]:
            return False
        return goal.kind != "identity" or bool(stands[goal.chain[0]])

    def _provider(self, node: Node, verb: str, goal: Goal) -> bool:
        compiled = self.compiled
        wanted = int(compiled.provider[goal.chain[0]])
        if verb == "take-on" or wanted == NONE:
            return True
        if node.bearer:
            return False
        return bool(compiled.is_person[node.place]) or int(compiled.provider[node.place]) == wanted

    def _free(self, node: Node, attribute: str) -> bool:
        family = attribute.partition(".")[0]
        return family not in ("caller", "target") and (family != "claims" or node.bearer)

    def _get(self, node: Node, goal: Goal, attribute: str) -> Value:
        family, _, rest = attribute.partition(".")
        if family == "target":
            return target_label(self.compiled, list(goal.chain), rest.partition(".")[2])
        if family == "caller" and node.form == "anyone":
            known = {"account": node.name, "organisation": caller_fact(self.compiled, node.name, "organisation")}
            return known.get(rest)
        return caller_fact(self.compiled, "" if node.bearer else node.name, rest) if family == "caller" else None

    def _holding(self, conditions: Conditions, node: Node, goal: Goal, prefix: str = "") -> Alternative | None:
        return holding(
            conditions, lambda name: self._get(node, goal, name), lambda name: self._free(node, name), prefix
        )

    def _ceilings(self, node: Node, permission: int, goal: Goal) -> Requirement | None:
        compiled = self.compiled
        clauses = []
        callers = () if node.bearer else tuple(compiled.places.chain(node.place))
        for over, chain in (("callers", callers), ("resources", goal.chain)):
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
                        lambda name: self._free(node, name),
                    )
                    if clause is None:
                        return None
                    if clause:
                        clauses.append(clause)
        return tuple(clauses)

    def principals(self, node: Node) -> tuple[int, ...]:
        """The numbers by which grants can name this node."""
        if node.form != "identity":
            return ()
        return (node.place, *self.compiled.groups_of(node.place), *self.powers.groups)

    def _grants(self, side: str, node: Node, permission: int, goal: Goal) -> Iterator[Alternative | None]:
        compiled = self.compiled
        own = compiled.places.account[node.place] if node.place != NONE else NONE
        if node.form == "identity" and self._writable(side, own, goal):
            yield ()
        for number in compiled.grants_between(self.principals(node), goal.chain):
            holder = int(compiled.grant_holder[number])
            allows = compiled.role_allows[compiled.grant_role[number], permission]
            if not allows and holder not in self.powers.roles:
                continue
            if compiled.grant_until[number] <= self.now:
                continue
            if not compiled.inside(holder, goal.chain[0]) if side == "owner" else not compiled.inside(holder, own):
                continue
            yield self._holding(compiled.grant_when(number), node, goal)

    def _writable(self, side: str, own: int, goal: Goal) -> bool:
        """Whether the chain can write the grant itself: on the owner's side at the place, on the other its account."""
        places = self.powers.places
        if side == "owner":
            return any(place in places for place in goal.chain)
        return any(place in places for place in self.compiled.places.chain(own))

    def _crossing(self, node: Node, goal: Goal) -> bool:
        compiled = self.compiled
        if node.form not in ("identity", "anyone"):
            return False
        own, other = compiled.places.account[node.place], compiled.places.account[goal.chain[0]]
        if NONE in (own, other) or own == other:
            return False
        provider = int(compiled.provider[node.place])
        return provider == int(compiled.provider[goal.chain[0]]) and bool(compiled.two_sided[provider])

    def _callers_side(self, node: Node, permission: int, goal: Goal) -> Requirement | None:
        if self.compiled.places.account[node.place] in self.compiled.theirs:
            return ALWAYS  # taken to have written their half
        return any_of(self._grants("caller", node, permission, goal))

    def _taking_on(self, node: Node, permission: int, goal: Goal) -> Requirement | None:
        """The owner's and the caller's side of a hop: a trust, and a grant where one is needed."""
        crossing = self._crossing(node, goal)
        alone: list[Alternative | None] = []
        whole: list[Alternative | None] = []
        if goal.chain[0] in self.powers.identities and not node.bearer:
            alone.append(())
        for number in self.compiled.trusts_of(goal.chain[0]):
            if not self.admits(number, node, goal):
                continue
            shown = self._holding(self.compiled.trust_shown(number), node, goal, "claims.")
            when = self._holding(self.compiled.trust_when(number), node, goal)
            found = (*shown, *when) if shown is not None and when is not None else None
            (whole if self.compiled.tables.trust_form[number] == "account" else alone).append(found)
        if crossing:
            return joined((any_of((*alone, *whole)), self._callers_side(node, permission, goal)))
        on_their_word = any_of(alone)
        if on_their_word == ALWAYS or not any(one is not None for one in whole):
            return on_their_word
        side = self._callers_side(node, permission, goal)
        if side is None:
            return on_their_word
        let = [(*one, *more) for one in whole if one is not None for more in (side[0] if side else ((),))]
        return any_of((*alone, *let))

    def admits(self, number: int, node: Node, goal: Goal) -> bool:  # noqa: PLR0911  one line a form
        """Whether a trust admits a node, its conditions left aside."""
        compiled, tables = self.compiled, self.compiled.tables
        if compiled.trust_until[number] <= self.now:
            return False
        form, whom = tables.trust_form[number], tables.trust_whom[number]
        if form in BEARERS:
            return (node.form, node.name) == (form, whom)
        if node.bearer:
            return False
        if form == "attached":
            if node.form != "resource" or goal.chain[0] not in compiled.runs(node.name):
                return False
            if whom is True:
                return account_of(node.name) == account_of(goal.address)
            return matcher(whom.pattern)(node.name) if isinstance(whom, Glob) else node.name == whom
        if node.form == "anyone":
            return form == "account" and node.name == whom and self._home(node, goal)
        if node.form != "identity":
            return False
        if form in ("identity", "person"):
            return node.name == whom
        if not self._home(node, goal):
            return False
        if form == "group":
            return compiled.find(str(whom)) in self.principals(node)[1:]
        return account_of(node.name) == whom

    def _home(self, node: Node, goal: Goal) -> bool:
        compiled = self.compiled
        if node.form == "identity" and compiled.is_person[node.place]:
            return True
        return int(compiled.provider[node.place]) == int(compiled.provider[goal.chain[0]])

    def _companions(self, node: Node, permission: int, goal: Goal, bound: Bound) -> Iterator[Requirement | None]:
        compiled = self.compiled
        its_class = compiled.class_of[permission]
        if its_class in ("read", "write"):
            key = next((compiled.key_above[place] for place in goal.chain if place in compiled.key_above), NONE)
            if key != NONE:
                name = compiled.places.names[key]
                if key in compiled.key_by_provider and account_of(node.name) != account_of(name):
                    yield None
                    return
                further = compiled.permission["key", "decrypt" if its_class == "read" else "encrypt"]
                yield self.request(node, further, self.goal(key), bound)
        if its_class == "run":
            for identity in compiled.runs(goal.address):
                yield self.request(node, compiled.permission["identity", "use"], self.goal(identity), bound)

    def goal(self, place: int) -> Goal:
        """A known place as what is asked about."""
        compiled = self.compiled
        kind = compiled.kind_names[compiled.places.kind[place]]
        return Goal(compiled.places.names[place], kind, tuple(compiled.places.chain(place)))

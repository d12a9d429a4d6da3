"""One request of a chain whose surroundings are free: who asks, of what, and what is known of it."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from enthesis.access.attributes import caller_fact, provider_at, target_label
from enthesis.access.compiling import ENDLESS, NONE, Compiled
from enthesis.access.requirements import KIND_OF, LABEL_OF, Alternative, Literal, holding
from enthesis.conditions.truth import Value
from enthesis.conditions.values import Want
from enthesis.model.conditions import Before, Conditions
from enthesis.model.vocabulary import BEARERS

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

    @property
    def address(self) -> str:
        """Its address; '' for a bearer."""
        return "" if self.bearer else self.name


@dataclass(frozen=True, slots=True)
class Goal:
    """What is asked about: an address with its kind, and the known places at and above it. `beside` is the provider of
    a request that this one goes with."""

    address: str
    kind: str
    chain: tuple[int, ...]
    beside: str | None = None


def goal_at(compiled: Compiled, place: int, beside: str | None = None) -> Goal:
    """A known place as what is asked about."""
    kind = compiled.kind_names[compiled.places.kind[place]]
    return Goal(compiled.places.names[place], kind, tuple(compiled.places.chain(place)), beside)


@dataclass(frozen=True, slots=True)
class Powers:
    """What a chain has made its own by changing access; see `chains.changes`. Empty where nothing may be changed."""

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


@dataclass(frozen=True, slots=True)
class Needed:
    """A request that a chain wants, at or after an instant (seconds since 1970). `ages` says whether any condition asks
    how old a session is: where none does, sessions are as good as new."""

    compiled: Compiled
    now: float
    powers: Powers
    ages: bool
    node: CallerNode
    permission: int
    goal: Goal
    asking: Asking

    @property
    def place(self) -> int:
        """The number of the target, or of the place it stands in where only that is known."""
        return self.goal.chain[0]

    @property
    def verb(self) -> str:
        """The verb that is asked for."""
        return self.compiled.permission_pairs[self.permission][1]

    def free(self, attribute: str) -> str:
        """The name under which an attribute is free; '' where it is known, or known to be absent."""
        compiled, node = self.compiled, self.node
        family, _, rest = attribute.partition(".")
        if family == "session":
            return "" if self.asking.hop else attribute
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
            for place in self.goal.chain if compiled.to_come else ():
                if place in compiled.to_come:
                    return f"{LABEL_OF}{label} of {compiled.places.names[place]}"
                if label in compiled.labels_at(place):
                    return ""
            return ""
        return attribute

    def get(self, attribute: str) -> Value:
        """The value of an attribute that is not free; None where it is absent."""
        family, _, rest = attribute.partition(".")
        if family == "session":
            return NOTHING
        if attribute == "provider":
            return provider_at(self.compiled, self.node.address, self.goal.chain, self.goal.beside)
        if family == "target":
            return target_label(self.compiled, self.goal.chain, rest.partition(".")[2])
        return caller_fact(self.compiled, self.node.address, rest) if family == "caller" else None

    def otherwise(self, attribute: str) -> Value:
        """What a free attribute is where nothing is put for its name: of a target's label, that of a place above."""
        if not attribute.startswith("target.labels."):
            return None
        above = [place for place in self.goal.chain if place not in self.compiled.to_come]
        return target_label(self.compiled, above, attribute.removeprefix("target.labels."))

    def holding(self, conditions: Conditions, prefix: str = "") -> list[Alternative]:
        """The ways for conditions to hold, of which one must be; none where they cannot."""
        return holding(conditions, self.get, self.free, self.otherwise, prefix) if conditions else [()]

    def principals(self) -> tuple[int, ...]:
        """The numbers by which grants can name the caller."""
        if self.node.form != "identity":
            return ()
        return (self.node.place, *self.compiled.groups_of(self.node.place), *self.powers.groups)

    def joining(self, group: int) -> list[Alternative]:
        """What it takes that the caller is in a group that it can be in: nothing, but of a member to come."""
        if self.node.place not in self.compiled.to_come or group in self.powers.groups:
            return [()]
        return [way for tests in self.compiled.joining(self.node.place, group) for way in self.holding(tests)]


def before(until: float) -> tuple[Literal, ...]:
    """That the time is before an end; nothing where there is none."""
    if until == ENDLESS:
        return ()
    return (("time", Before(datetime.fromtimestamp(until, UTC)), Want.HOLDS),)


def together(parts: Iterable[Alternative | None], ends: Alternative) -> Alternative | None:
    """All of these together; None where one cannot be."""
    out: list[Literal] = []
    for part in parts:
        if part is None:
            return None
        out += part
    return (*out, *ends)

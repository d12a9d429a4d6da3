"""Whom a trust admits, as the exact set of callers: a caller in it, near-misses derived from it, and comparisons."""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from functools import cache, partial
from itertools import chain as chain_of
from itertools import product
from math import prod

from enthesis.access.attributes import NEVER_SHOWN, claim_room, provider_at, shown_in_journeys, target_label
from enthesis.access.compiling import NONE, Compiled, CompiledCeiling
from enthesis.access.names.standing import why_fallen
from enthesis.conditions.callers import EVERYBODY, NOBODY, Callers, Rooms, Shown, one_of, one_of_difference
from enthesis.conditions.sameness import literal, renamed
from enthesis.conditions.truth import Value, passes
from enthesis.conditions.values import FREE_WORD, ROOMS, TEXT_ROOM, Room, Typical, Want, solve
from enthesis.model.conditions import After, AnyOf, Before, Conditions, Equal, Not, SameAs, Test
from enthesis.model.errors import Undecided
from enthesis.model.estate import Estate, Issuer, Trust
from enthesis.model.pointers import claim_at
from enthesis.model.vocabulary import BEARERS, Form
from enthesis.trusts.named import AdmittedCaller, LeftOut, admitted_by, barred_from, near_to, with_that_alone

LOOK_ALIKES = str.maketrans({"a": "а", "e": "е", "o": "о", "i": "і", "p": "р", "c": "с"})  # Cyrillic on purpose
MAX_ESCAPES = 1_000  # ways past the ceilings over one identity
FREE_BESIDES = ("time", "network", "reference", "session.age")  # of a request, what its caller or the hour decides
BESIDES = "when."  # before the name of what is asked of the request and not of the token


@dataclass(frozen=True, slots=True)
class Near:
    """A caller one step away from a caller that is admitted; `what` says which step."""

    what: str
    shown: Mapping[str, Value]
    admitted: bool


def asked_of(trust: Trust) -> Conditions:
    """All that a trust asks: its claims by their names, what it asks of the request besides as `when.` and the name."""
    claims = tuple((name, renamed(test, _asked_as)) for name, test in trust.admits.conditions)
    return (*claims, *_besides(trust.when))


def _besides(when: Conditions) -> Conditions:
    return tuple((_asked_as(name), renamed(test, _asked_as)) for name, test in when)


def _asked_as(name: str) -> str:
    return name.removeprefix("claims.") if name.startswith("claims.") else BESIDES + name


@dataclass(frozen=True, slots=True)
class Admissions:
    """Whom trusts of one estate admit from an instant on, by the same rules as a single verdict.

    That is what the trust asks, and what else stands between: its end, an identity that nobody can take on any more,
    ceilings. What is known of every caller and of the target (labels, that a bearer is nobody's identity) is put in.
    With `just_now` it is about requests at that very instant, with nothing that is older.
    """

    compiled: Compiled
    instant: datetime
    just_now: bool = False
    _rooms: dict[str, Rooms] = field(default_factory=dict, compare=False, repr=False)  # by issuer

    @property
    def estate(self) -> Estate:
        """The estate whose trusts are asked about."""
        return self.compiled.estate

    def callers_of(self, trust: Trust) -> Callers:
        """The callers that can take on the identity of a trust by it. Raises Undecided."""
        if not trust.in_force(self.instant) or self._fallen(trust):
            return NOBODY
        chain = self.compiled.chain_of(trust.of)
        known = self.known_of(trust)
        asked = _left(asked_of(trust), known)
        if asked is None:
            return NOBODY
        escapes: list[list[Conditions]] = []
        for barred in self._over(chain):
            ways: list[Conditions] = []
            for pair in _besides(barred.ceiling.when):
                left = _left(((pair[0], Not(pair[1])),), known)
                if left is not None:
                    ways.append(left)
            escapes.append(ways)
        if prod(len(ways) for ways in escapes) > MAX_ESCAPES:
            raise Undecided(f"more than {MAX_ESCAPES} ways past the ceilings")
        return Callers(
            tuple(self._in_time(trust, (*asked, *chain_of.from_iterable(chosen))) for chosen in product(*escapes))
        )

    def known_of(self, trust: Trust) -> Callable[[str], tuple[bool, Value]]:
        """What says of an attribute whether it has the same value for every caller of a trust, and that value."""
        return partial(self._known, trust, list(self.compiled.chain_of(trust.of)))

    def nobody_because(self, trust: Trust) -> str:
        """Why nobody can take on the identity of a trust, whatever is shown; '' where that is not so."""
        if not trust.in_force(self.instant):
            return "it has ended"
        fallen = self._fallen(trust)
        if fallen:
            return f"{trust.of} {fallen}"
        anything = replace(trust, admits=replace(trust.admits, conditions=()), when=())
        if not self.callers_of(anything):
            return f"a ceiling bars everybody from taking on {trust.of}"
        return ""

    def _fallen(self, trust: Trust) -> str:
        """Why the identity of a trust does not stand; '' where it does."""
        return why_fallen(self.compiled, trust.of) if self.compiled.find(trust.of) != NONE else "does not exist"

    def _known(self, trust: Trust, chain: list[int], name: str) -> tuple[bool, Value]:
        """Whether an attribute has the same value for every caller of this trust, and that value."""
        said = name.removeprefix(BESIDES)
        if self.just_now and said in ("time", "session.age"):
            return True, self.instant if said == "time" else timedelta(0)
        if said == name or said in FREE_BESIDES:
            return False, None
        if said in ("origin.kind", "origin.issuer"):
            return True, str(trust.admits.form) if said == "origin.kind" else str(trust.admits.whom)
        if said == "provider":
            return True, provider_at(self.compiled, "", chain)
        if said.startswith("target.labels."):
            return True, target_label(self.compiled, chain, said.removeprefix("target.labels."))
        return True, None  # a bearer has no address, no labels, no second factor

    def _over(self, chain: Sequence[int]) -> Iterator[CompiledCeiling]:
        """The ceilings that keep bearers from taking on what stands there, while their conditions are not false."""
        for barred in self.compiled.ceilings_over((), chain):
            if barred.bars(self.compiled.take_on, "", inside=False):
                yield barred

    def _in_time(self, trust: Trust, conditions: Conditions) -> Conditions:
        """The same with bounds of the time, where it is asked for."""
        name = f"{BESIDES}time"
        if all(one != name for one, _ in conditions):
            return conditions
        end: Conditions = ((name, Before(trust.until)),) if trust.until is not None else ()
        return (*conditions, (name, After(self.instant)), *end)

    def rooms(self, trust: Trust) -> Rooms:
        """Which values the claims of a trust's issuer can have; those that journeys show come first."""
        issuer = str(trust.admits.whom)
        if issuer not in self._rooms:
            self._rooms[issuer] = rooms_for(self.estate, self.estate.issuers[issuer])
        return self._rooms[issuer]

    def example(self, trust: Trust) -> Shown | None:
        """A caller that a trust admits, as like a real one as the estate's names allow; None where it admits nobody."""
        return one_of(self.callers_of(trust), self.rooms(trust))

    def beyond(self, trust: Trust, meant: Callers) -> Shown | None:
        """A caller that a trust admits and that was not meant; None where there is none."""
        return one_of_difference(self.callers_of(trust), meant, self.rooms(trust))

    def left_out(self, trust: Trust, meant: Callers) -> Shown | None:
        """A caller that was meant and that a trust does not admit; None where there is none."""
        return one_of_difference(meant, self.callers_of(trust), self.rooms(trust))


def _left(conditions: Conditions, known: Callable[[str], tuple[bool, Value]]) -> Conditions | None:
    """The conditions that are left once what is known is put in; None where one cannot hold."""
    left: list[tuple[str, Test]] = []
    for name, test in conditions:
        one = literal(
            name, test, Want.HOLDS, lambda other: known(other)[1], lambda other: "" if known(other)[0] else other
        )
        if one is False:
            return None
        left += [one[:2]] if one is not True else []
    return tuple(left)


def rooms_for(estate: Estate, issuer: Issuer) -> Rooms:
    """Which values the claims of an issuer can have; those that journeys show come first."""
    shown = shown_in_journeys(estate, issuer.name)
    strangers = (
        [organisation.name for organisation in estate.organisations.values() if organisation.outside]
        if issuer.shared
        else []
    )
    words = (*strangers, FREE_WORD)

    @cache
    def room(name: str) -> Room:
        if name.startswith(BESIDES):
            return ROOMS.get(name.removeprefix(BESIDES)) or TEXT_ROOM
        found = claim_room(issuer, name)
        if found is NEVER_SHOWN:
            return found
        always = name == "sub" and issuer.kind == "oidc"  # a text, by RFC 7519, section 4.1
        return replace(
            found,
            types=frozenset(["text"]) if always else found.types,
            absent=found.absent and not always,
            typical=Typical((*shown.get(name, ()), *found.typical)),
            words=words,
        )

    return room


def is_pinned(test: Test) -> bool:
    """Whether a test leaves only values that are written down."""
    if isinstance(test, AnyOf):
        return all(is_pinned(one) for one in test.tests)
    return isinstance(test, Equal) or (isinstance(test, SameAs) and not test.attribute.startswith("claims."))


def near_misses(admissions: Admissions, trust: Trust, shown: Mapping[str, Value]) -> list[Near]:
    """Callers one step away from one that is admitted, each with whether it is admitted too.

    Derived from the trust alone, and from which subjects of a shared issuer are ours.
    """
    estate = admissions.estate
    issuer = estate.issuers[str(trust.admits.whom)]
    callers, rooms = admissions.callers_of(trust), admissions.rooms(trust)
    # a certificate's subject is a list even where it is one name, and is varied as that name
    shown = {
        name: value[0] if isinstance(value, tuple) and len(value) == 1 and not rooms(name).many else value
        for name, value in shown.items()
    }
    out: list[Near] = []
    known: list[Mapping[str, Value]] = [shown]

    def add(what: str, changes: Mapping[str, Value]) -> None:
        changed = {one: two for one, two in {**shown, **changes}.items() if two is not None}
        if changed not in known:
            known.append(changed)
            out.append(Near(what, changed, callers.has(changed)))

    stranger = stranger_like(estate, issuer, shown)
    if stranger is not None:
        add(f"another organisation of {issuer.name}", stranger)
    for name, test in _left(asked_of(trust), admissions.known_of(trust)) or asked_of(trust):
        if name.startswith(BESIDES):
            steps = _steps_besides(name, test, rooms(name))
        else:
            said = claim_room(issuer, name)  # what an issuer always says cannot be left out
            steps = _steps(name, shown.get(name), many=rooms(name).many, always=not said.absent)
        for what, value in list(steps)[: 2 if isinstance(test, Not) else None]:  # one other says all of what is barred
            add(what, {name: value})
    return out


def stranger_like(estate: Estate, issuer: Issuer, shown: Mapping[str, Value]) -> Shown | None:
    """What a caller that is not ours shows, as like this one as can be, on an issuer that others use too."""
    if not issuer.shared or not issuer.owned:
        return None
    rooms = rooms_for(estate, issuer)
    owned = Callers((issuer.owned,))
    for name, _ in issuer.owned:
        value = shown.get(name)
        if not isinstance(value, str):
            continue
        for cut in re.finditer(r"[^/:]+", value):
            for word in rooms(name).words:
                changed = {**shown, name: f"{value[: cut.start()]}{word}{value[cut.end() :]}"}
                if cut.start() and not owned.has(changed):
                    return {name: changed[name]}
    try:
        return one_of_difference(EVERYBODY, owned, rooms)
    except Undecided:
        return None


def _steps_besides(name: str, test: Test, room: Room) -> Iterator[tuple[str, Value]]:
    """A request in other surroundings, of those that can be chosen: another network, another reference or none."""
    said = name.removeprefix(BESIDES)
    if said not in ("network", "reference"):
        return
    yield f"without a {said}", None
    try:
        found = solve([(test, Want.FAILS)], room)
    except Undecided:
        return
    if found is not None and found.value is not None:
        yield f"another {said}", found.value


def _steps(name: str, value: Value, *, many: bool, always: bool) -> Iterator[tuple[str, Value]]:
    """What one claim can be instead: the errors that patterns and comparisons are known for."""
    if value is None:
        yield f"{name} said after all", FREE_WORD
        return
    if not always:
        yield f"{name} left out", None
    if isinstance(value, tuple):
        yield f"{name} of another", (FREE_WORD,)
        yield f"{name} with another beside it", (*value, FREE_WORD)
        return
    if not isinstance(value, str):
        yield f"{name} of another kind", FREE_WORD
        return
    yield f"another {name}", FREE_WORD
    if many:
        yield f"{name} in a list of two", (value, FREE_WORD)
    if "/" in value:
        head, tail = value.rsplit("/", 1)
        parts = value.split("/")
        yield f"{name} with another end", f"{head}/{FREE_WORD}"
        yield f"{name} with a longer end", f"{value}-{FREE_WORD}"
        yield f"{name} one step further down", f"{value}/{FREE_WORD}"
        yield f"{name} with a step between", f"{head}/{FREE_WORD}/{tail}"
        for at in (number for number in range(1, len(parts) - 1) if parts[number]):
            sibling = [*parts[:at], parts[at] + "-too", *parts[at + 1 :]]
            yield f"{name} of a sibling with the same beginning", "/".join(sibling)
            other = [*parts[:at], FREE_WORD, *parts[at + 1 :]]
            yield f"{name} of another {parts[at - 1] or 'place'}", "/".join(other)
    yield f"{name} in capitals", value.upper() if value != value.upper() else value.lower()
    yield f"{name} with a line break after it", value + "\n"
    yield f"{name} with a space before it", " " + value
    if value != value.translate(LOOK_ALIKES):
        yield f"{name} in look-alike letters", value.translate(LOOK_ALIKES)


Failing = tuple[str, Test, Value, bool | None]
"""A test that is not passed: its name, the test, what is shown, and False or None (unknown)."""


def failing(trust: Trust, shown: Mapping[str, Value]) -> list[Failing]:
    """The tests of claims that a caller does not pass; what a trust asks of the request besides is left aside."""
    out: list[Failing] = []
    for name, test in asked_of(trust):
        found = claim_at(shown, name)
        truth = passes(test, found, lambda other: claim_at(shown, other))
        if truth is not True and not name.startswith(BESIDES):
            out.append((name, test, found, truth))
    return out


@dataclass(frozen=True, slots=True)
class Held:
    """A token held against a trust: why it is not believed, or who signed it, or why that was not checked."""

    trust: Trust
    admitted: bool
    refused: str = ""
    signed_with: str = ""
    unchecked: str = ""
    failing: tuple[Failing, ...] = ()


def held_against(
    trust: Trust, claims: Mapping[str, Value], instant: datetime, refused: str, signed_with: str, unchecked: str,
    form: Form = Form.TOKEN,
) -> Held:  # fmt: skip
    """Whether a token or assertion with these claims is admitted, once it is known whether it is to be believed."""
    if trust.admits.form != form:
        return Held(trust, False, f"this trust admits no {form}")
    if not trust.in_force(instant):
        refused = refused or "the trust has ended"
    faults = tuple(failing(trust, claims))
    return Held(trust, not refused and not faults, refused, signed_with, unchecked, faults)


@dataclass(frozen=True, slots=True)
class TrustComparison:
    """A trust against another set of callers: a caller it admits beyond, and a caller it leaves out."""

    than: str
    more: Shown | None
    less: Shown | None


@dataclass(frozen=True, slots=True)
class Told:
    """All that is told of one trust. `undecided` says what was too much work, `nobody` why no caller is admitted."""

    trust: Trust
    caller: Shown | None = None
    near: tuple[Near, ...] = ()
    compared: tuple[TrustComparison, ...] = ()
    undecided: str = ""
    nobody: str = ""
    callers: tuple[AdmittedCaller, ...] = ()
    left_out: tuple[LeftOut, ...] = ()


def _told_of_named(admissions: Admissions, trust: Trust) -> Told:
    """The callers that a trust admits that names them, and those that it all but admits."""
    compiled, instant = with_that_alone(admissions.compiled, trust), admissions.instant
    try:
        callers = admitted_by(compiled, trust, instant)
    except Undecided as bound:
        return Told(trust, undecided=str(bound))
    near = near_to(compiled, trust, instant, callers)
    nobody = ""
    if not callers:
        ended = "" if trust.in_force(instant) else "it has ended"
        nobody = ended or barred_from(compiled, trust, instant) or "no caller is as it says"
    return Told(trust, nobody=nobody, callers=tuple(callers), left_out=tuple(near))


def told(admissions: Admissions, trust: Trust, versions: Sequence[tuple[str, Callers]]) -> Told:
    """Who is admitted, who is near, and how that compares with other sets."""
    if trust.admits.form not in BEARERS:
        return _told_of_named(admissions, trust)
    try:
        caller = admissions.example(trust)
        near = near_misses(admissions, trust, caller) if caller is not None else []
        compared = [
            TrustComparison(than, admissions.beyond(trust, one), admissions.left_out(trust, one))
            for than, one in versions
        ]
        nobody = "" if caller else admissions.nobody_because(trust) or "no caller can meet all of its conditions"
    except Undecided as bound:
        return Told(trust, undecided=str(bound))
    return Told(trust, caller, tuple(near), tuple(compared), nobody=nobody)

"""What a trust lets in, as the exact set of callers: somebody in it, near-misses derived from it, and comparisons."""

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from enthesis.judging.questions import BEARERS
from enthesis.model.conditions import AnyOf, Conditions, Equal, Glob, Not, Test, literal_pattern
from enthesis.model.estate import Estate, Issuer, Trust
from enthesis.trusting.callers import Callers, Rooms, Shown, one_of, one_of_difference
from enthesis.trusting.truth import Value, passes
from enthesis.trusting.values import Room

LOOK_ALIKES = str.maketrans({"a": "а", "e": "е", "o": "о", "i": "і", "p": "р", "c": "с"})  # Cyrillic on purpose
ELSEWHERE = "elsewhere"


@dataclass(frozen=True, slots=True)
class Near:
    """A caller one step away from somebody that gets in; `what` says which step."""

    what: str
    shown: Mapping[str, Value]
    admitted: bool


def callers_of(trust: Trust) -> Callers:
    """The claims, attributes or subjects that a trust admits; what its `when` asks besides is left aside."""
    return Callers((trust.admits.conditions,))


def rooms_for(estate: Estate, issuer: Issuer) -> Rooms:
    """Which values the claims of an issuer can have; those that journeys show come first."""
    shown: dict[str, list[Value]] = {}
    for journey in estate.journeys.values():
        if journey.origin.form in BEARERS and journey.origin.whom == issuer.name:
            for name, value in journey.origin.shows.items():
                if value not in shown.setdefault(name, []) and not isinstance(value, dict):
                    shown[name].append(value)

    strangers = [one.name for one in estate.organisations.values() if one.outside] if issuer.shared else []
    words = (*strangers, ELSEWHERE)

    def room(name: str) -> Room:
        typical = (*shown.get(name, ()), *(issuer.audiences if name == "aud" else ()))
        if issuer.claims is not None and name not in issuer.claims and name != "aud":
            return Room(frozenset(), absent=True)
        many = name == "aud" or (issuer.claims or {}).get(name) == "list"
        return Room(many=many, absent=name != "aud", typical=typical, words=words)

    return room


def somebody(estate: Estate, trust: Trust) -> Shown | None:
    """A caller that a trust admits, as like a real one as the estate's names allow; None where it admits nobody."""
    issuer = estate.issuers[str(trust.admits.whom)]
    return one_of(callers_of(trust), rooms_for(estate, issuer))


def beyond(estate: Estate, trust: Trust, meant: Callers) -> Shown | None:
    """A caller that a trust admits and that was not meant; None where there is none."""
    return one_of_difference(callers_of(trust), meant, rooms_for(estate, estate.issuers[str(trust.admits.whom)]))


def left_out(estate: Estate, trust: Trust, meant: Callers) -> Shown | None:
    """A caller that was meant and that a trust does not admit; None where there is none."""
    return one_of_difference(meant, callers_of(trust), rooms_for(estate, estate.issuers[str(trust.admits.whom)]))


def is_pinned(test: Test) -> bool:
    """Whether a test leaves only values that are written down."""
    if isinstance(test, AnyOf):
        return all(is_pinned(one) for one in test.tests)
    return isinstance(test, Equal)


def near_misses(trust: Trust, shown: Mapping[str, Value], rooms: Rooms) -> list[Near]:
    """Callers one step away from one that gets in, each with whether it gets in too. Derived from the trust alone."""
    callers = callers_of(trust)
    out: list[Near] = []
    known: list[Mapping[str, Value]] = [shown]
    for name, test in trust.admits.conditions:
        steps = _steps(name, shown.get(name), many=rooms(name).many)
        for what, value in list(steps)[: 2 if isinstance(test, Not) else None]:  # one other says all of what is barred
            changed = {one: two for one, two in {**shown, name: value}.items() if two is not None}
            if changed not in known:
                known.append(changed)
                out.append(Near(what, changed, callers.has(changed)))
    return out


def _steps(name: str, value: Value, *, many: bool) -> Iterator[tuple[str, Value]]:
    """What one claim can be instead: the mistakes that patterns and comparisons are known for."""
    if value is None:
        yield f"{name} said after all", ELSEWHERE
        return
    yield f"{name} left out", None
    if isinstance(value, tuple):
        yield f"{name} of another", (ELSEWHERE,)
        yield f"{name} with another beside it", (*value, ELSEWHERE)
        return
    if not isinstance(value, str):
        yield f"{name} of another kind", ELSEWHERE
        return
    yield f"another {name}", ELSEWHERE
    if many:
        yield f"{name} in a list of two", (value, ELSEWHERE)
    if "/" in value:
        head, tail = value.rsplit("/", 1)
        parts = value.split("/")
        yield f"{name} with another end", f"{head}/{ELSEWHERE}"
        yield f"{name} with a longer end", f"{value}-{ELSEWHERE}"
        yield f"{name} one step further down", f"{value}/{ELSEWHERE}"
        yield f"{name} with a step between", f"{head}/{ELSEWHERE}/{tail}"
        for at in range(1, len(parts) - 1):
            sibling = [*parts[:at], parts[at] + "-too", *parts[at + 1 :]]
            yield f"{name} of a sibling with the same beginning", "/".join(sibling)
            other = [*parts[:at], ELSEWHERE, *parts[at + 1 :]]
            yield f"{name} of another {parts[at - 1]}", "/".join(other)
    yield f"{name} in capitals", value.upper() if value != value.upper() else value.lower()
    yield f"{name} with a line break after it", value + "\n"
    yield f"{name} with a space before it", " " + value
    if value != value.translate(LOOK_ALIKES):
        yield f"{name} in look-alike letters", value.translate(LOOK_ALIKES)


def failing(trust: Trust, shown: Mapping[str, Value]) -> list[tuple[str, Test, Value, bool | None]]:
    """The tests of a trust that a caller does not pass: name, test, what it shows, and False or None (unknown)."""
    out: list[tuple[str, Test, Value, bool | None]] = []
    for name, test in trust.admits.conditions:
        truth = passes(test, shown.get(name))
        if truth is not True:
            out.append((name, test, shown.get(name), truth))
    return out


@dataclass(frozen=True, slots=True)
class Sample:
    """What a sample token of somebody's pipeline tells: the tightest sensible trust, and each claim one notch wider.

    `wider` are (claim, test or None for not looking at it, what that would let in).
    """

    issuer: str
    claims: Mapping[str, Value]
    tightest: Conditions
    wider: tuple[tuple[str, Test | None, str], ...]


FLEETING = (
    "iss",
    "exp",
    "iat",
    "nbf",
    "jti",
    "auth_time",
    "nonce",
)  # differ from token to token, or are checked anyway
NUMBERED = re.compile(r"\d{4,}|[0-9a-f]{16,}")


def sample_of(claims: Mapping[str, Value]) -> Sample:
    """The tightest sensible trust for a token like this one: who it is for, and what names its subject for good."""
    kept: list[tuple[str, Test]] = []
    wider: list[tuple[str, Test | None, str]] = []
    for name, value in claims.items():
        if name in FLEETING:
            continue
        if name == "aud":
            audiences = [one for one in value if isinstance(one, str)] if isinstance(value, tuple) else [value]
            kept += [(name, Equal(one)) for one in audiences[:1] if isinstance(one, str)]
        elif isinstance(value, str) and value and not NUMBERED.fullmatch(value):
            kept.append((name, Equal(value)))
            wider.extend(_one_notch(name, value))
    order = {"sub": 0, "aud": 1}
    kept.sort(key=lambda pair: order.get(pair[0], 2))
    wider.sort(key=lambda one: order.get(one[0], 2))
    return Sample(str(claims.get("iss", "")), claims, tuple(kept), tuple(wider))


def _one_notch(name: str, value: str) -> Iterator[tuple[str, Test | None, str]]:
    """One claim a notch wider: its last step left open, or not looked at."""
    cut = max(value.rfind("/"), value.rfind(":"))
    if cut > 0:
        pattern = literal_pattern(value[: cut + 1]) + "*"
        yield name, Glob(pattern), f"any {name} that is {value[: cut + 1]} and one more step"
    if name != "sub":
        yield name, None, f"any {name} at all, or none"

"""What sample tokens of a pipeline tell: the tightest trust that will continue working, and each claim a notch wider.

What changes from run to run is found by its shape (numbers, hashes, times, random ids) and, where several samples are
given, by comparing them. No list of any service's claim names is used: of a claim that any caller can choose only plain
words tell (a branch, who started a run), and it is said.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from enthesis.conditions.truth import Value
from enthesis.model.conditions import Conditions, Equal, Glob, Test, literal_pattern

CHECKED = ("iss", "exp", "iat", "nbf", "jti", "auth_time", "nonce", "at_hash", "c_hash", "sid")
"""Registered claims (RFC 7519, section 4.1; OpenID Connect Core, section 2) that are checked anyway, or that differ
from token to token."""
SHAPES: tuple[tuple[str, re.Pattern[str]], ...] = (
    ("a number", re.compile(r"[0-9]+")),
    ("a random id", re.compile(r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}", re.IGNORECASE)),
    ("a hash", re.compile(r"(?=[a-f]*[0-9])(?=[0-9]*[a-f])[0-9a-f]{7,}", re.IGNORECASE)),
    ("a time", re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}([T ][0-9:.]+(Z|[+-][0-9:]+)?)?")),
    ("a random id", re.compile(r"(?=.*[0-9])(?=.*[a-z])(?=.*[A-Z])[A-Za-z0-9_-]{16,}={0,2}")),
    ("a random id", re.compile(r"[0-9A-HJKMNP-TV-Z]{26}")),
)
BRANCH_WORDS = frozenset(("branch", "ref", "tag"))
PEOPLE = frozenset(
    f"{who}{what}"
    for who in ("actor", "author", "committer", "creator", "owner", "sender", "triggering_actor", "user")
    for what in ("", "_email", "_id", "_login", "_name")
) - {"owner", "owner_id"} | frozenset(
    ("created_by", "email", "family_name", "given_name", "login", "middle_name", "name", "nickname",
     "preferred_username", "started_by", "triggered_by", "username")
)  # fmt: skip
"""The names of claims about a person: those of OpenID Connect Core, section 5.1, and those about who started a run. A
claim with any other name is pinned, though the name has such a word in it: `event_name` says what run it is."""
FREE_TEXT = frozenset(("title", "message", "description", "comment"))
"""Last words in the names of claims that hold what somebody wrote."""
STEP = re.compile(r"[/:]")


@dataclass(frozen=True, slots=True)
class Sample:
    """What samples tell: `tightest` are the conditions of the trust, `why` says of each claim why it is pinned or not.

    `wider` are (claim, test or None for not looking at it, what that would admit).
    """

    issuer: str
    claims: Mapping[str, Value]
    tightest: Conditions
    why: Mapping[str, str]
    wider: tuple[tuple[str, Test | None, str], ...]
    samples: int = 1


def shape_of(text: str) -> str | None:
    """What of a text looks as if it changed with every run: a number, a hash, a time, a random id; None for nothing."""
    return next((what for what, pattern in SHAPES if pattern.fullmatch(text)), None)


def changes_by_itself(name: str, value: Value) -> bool:
    """Whether a claim differs from token to token, as far as its name and one value show."""
    if name in CHECKED:
        return True
    return isinstance(value, str) and name not in ("sub", "aud") and _changing_part(value) is not None


def _changing_part(value: str) -> str | None:
    whole = shape_of(value)
    if whole is not None:
        return f"it is {whole}"
    for number, step in enumerate(STEP.split(value), 1):
        found = shape_of(step)
        if found is not None:
            return f"segment {number} is {found}"
    return None


def sample_of(samples: Sequence[Mapping[str, Value]]) -> Sample:
    """The tightest trust for tokens like these that will admit the next run too."""
    first, several = samples[0], len(samples) > 1
    kept: list[tuple[str, Test]] = []
    wider: list[tuple[str, Test | None, str]] = []
    why: dict[str, str] = {}
    for name in dict.fromkeys(name for sample in samples for name in sample):
        values = [sample.get(name) for sample in samples]
        test, why[name] = _pinned(name, values, first, several=several)
        if test is not None:
            kept.append((name, test))
        if isinstance(test, Equal) and isinstance(test.value, str) and name != "aud":
            wider.extend(_one_notch(name, test.value))
    order = {"sub": 0, "aud": 1}
    kept.sort(key=lambda pair: order.get(pair[0], 2))
    wider.sort(key=lambda one: order.get(one[0], 2))
    return Sample(str(first.get("iss", "")), first, tuple(kept), why, tuple(wider), len(samples))


def _pinned(  # noqa: PLR0911, PLR0912  one line a reason
    name: str, values: Sequence[Value], claims: Mapping[str, Value], *, several: bool
) -> tuple[Test | None, str]:
    """The test that a claim is pinned by, None where it is not, and why."""
    value = values[0]
    if name in CHECKED:
        return None, "checked anyway" if name in ("iss", "exp", "nbf") else "different in every token"
    if name == "aud":
        return _audience(values)
    if any(entry != value for entry in values):
        pattern = _common(values) if name == "sub" else None
        if pattern is not None:
            return Glob(pattern), "its common part: the rest differs between the samples"
        return None, "it differs between the samples"
    if isinstance(value, bool):
        return Equal(value), "yes or no, as far as the samples show"
    if isinstance(value, int | float):
        if several:
            return Equal(value), f"the same in all {len(values)} samples"
        return None, "it is a number and may change with every run: a second sample would tell"
    if not isinstance(value, str) or not value:
        empty = "it is empty" if value in (None, "") else "it is not a text"
        what = "it is a list" if isinstance(value, tuple) else empty
        return None, f"{what}: it says little about who is asking"
    changing = _changing_part(value)
    if name == "sub":
        last = value.rsplit("/", 1)[-1]
        free = next((one for one, its in claims.items() if its == last and BRANCH_WORDS & set(_words(one))), "")
        said = "it names the subject"
        if free:
            said += f"; it ends in the `{free}`, which every person who can push chooses"
        return Equal(value), f"{said}; {changing}: give a second sample" if changing and not several else said
    if changing is not None and not several:
        return None, f"{changing} and may change with every run: a second sample would tell"
    if "_".join(_words(name)) in PEOPLE:
        return None, "who started the run, or a name they chose: any person can choose it"
    if _words(name)[-1:] and _words(name)[-1] in FREE_TEXT:
        return None, "free text that any person can choose"
    if BRANCH_WORDS & set(_words(name)):
        return Equal(value), "free text that every person who can push chooses, so protect that name at the issuer"
    if several:
        return Equal(value), f"the same in all {len(values)} samples"
    return Equal(value), "a fixed text, as far as one sample shows"


def _audience(values: Sequence[Value]) -> tuple[Test | None, str]:
    sets = [value if isinstance(value, tuple) else (value,) for value in values]
    common = [name for name in sets[0] if isinstance(name, str) and all(name in other for other in sets)]
    if not common:
        return None, "the samples were made for different audiences"
    several = f", one of {len(sets[0])}: name the one that is meant" if len(sets[0]) > 1 else ""
    return Equal(common[0]), f"the audience the token was issued for{several}"


def _common(values: Sequence[Value]) -> str | None:
    """A pattern of the segments in which texts are the same; None where that would pin nothing."""
    if not all(isinstance(value, str) for value in values):
        return None
    rows = [re.split(r"([/:])", str(value)) for value in values]
    if len({len(row) for row in rows}) != 1:
        return None
    same = [len(set(column)) == 1 for column in zip(*rows, strict=True)]
    if not same[0] or not rows[0][0]:
        return None
    return "".join(literal_pattern(text) if alike else "*" for text, alike in zip(rows[0], same, strict=True))


def _words(name: str) -> list[str]:
    """The words of a claim's name, in order."""
    return re.findall(r"[a-z]+", re.sub(r"([a-z])([A-Z])", r"\1 \2", name).lower())


def _one_notch(name: str, value: str) -> Iterator[tuple[str, Test | None, str]]:
    """One claim a notch wider: its last step left open, or not looked at."""
    cut = max(value.rfind("/"), value.rfind(":"))
    if cut > 0:
        pattern = literal_pattern(value[: cut + 1]) + "*"
        yield name, Glob(pattern), f"any {name} that is {value[: cut + 1]} and one more step"
    if name != "sub":
        yield name, None, f"any {name} at all, or none"

"""Who reaches what, as a table, JSON and CSV."""

import csv
import io
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from enthesis.access.requirements import BEFORE_KEY
from enthesis.access.value_words import OneOf, values_words
from enthesis.chains.chains import Chain, ChainStart
from enthesis.chains.reach import Reached
from enthesis.chains.shared_logins import SharedLogin, who_words
from enthesis.conditions.truth import Value
from enthesis.model.estate import boundary_of
from enthesis.model.sentences import verb_words
from enthesis.output.lines import Line, Span, counted, csv_cell, line
from enthesis.output.verdicts import jsonable

AT_IDENTITY = "starts at the identity"
MOST = 60  # rows of the table; JSON and CSV have them all
COLUMNS = ("start", "origin", "keyless", "target", "verb", "chain", "hops", "crossing", "conditions")


def start_words(start: ChainStart) -> str:
    """Where a chain starts, in words."""
    words = {
        "token": "the bearer of a token of ",
        "assertion": "the bearer of an assertion of ",
        "certificate": "the bearer of a certificate of ",
        "credential": "the credential ",
        "pipeline_access": "a run that uses the pipeline access ",
    }
    return words.get(start.form, "") + start.whom + (" (members to come)" if start.to_come else "")


def keyless_words(chain: Chain) -> str:
    """Whether a chain needs no stored key; one that starts at an identity, and goes on by none, is neither."""
    return {True: "keyless", False: "keyed", None: AT_IDENTITY}[chain.keyless]


def chain_words(access: Reached) -> str:
    """The way to the last step, in words; '' where it is direct."""
    hops = access.steps[:-1] if not access.by_change else ()
    return ", ".join([f"{verb_words(verb)} {target}" for _, verb, target in hops] + list(access.by_change))


def conditions(chain: Chain) -> str:
    """What a chain hangs on: values with which it can be walked, and others that would do where they are listed."""
    return values_words({**chain.values, **{name: OneOf(several) for name, several in chain.choices.items()}})


@dataclass(frozen=True, slots=True)
class ReachAsked:
    """What an answer was asked for, which its first line repeats: verbs (all without any), the most hops (0: any
    number), and what was said besides."""

    verbs: Sequence[str] = ()
    hops: int = 0
    cross_account: bool = False
    by_change: bool = False
    said: Mapping[str, object] = field(default_factory=dict)

    def verb_words(self, otherwise: str) -> str:
        """The verbs that were asked for."""
        return " or ".join(verb_words(verb) for verb in self.verbs) or otherwise

    def narrowed(self) -> str:
        """The filters in words, to stand behind what they narrow."""
        words = f" in at most {counted(self.hops, 'hop')}" if self.hops else ""
        words += ", from one account into another" if self.cross_account else ""
        words += ", changes of access first counted" if self.by_change else ""
        said = values_words(self.said)
        return words + (f", with {said}" if said else "")


@dataclass(frozen=True, slots=True)
class _Folded:
    """Things that can be done alike: the targets, what can be done to each, the way, and what it hangs on."""

    verbs: tuple[str, ...]
    way: str
    hangs: str
    targets: tuple[str, ...]

    def place(self, kind_of: Callable[[str], str]) -> str:
        """The target; of many how many of a kind there are in their account."""
        if len(self.targets) == 1:
            return self.targets[0]
        first = self.targets[0]
        kind = kind_of(first)
        return f"{counted(len(self.targets), kind, _plural(kind))} in {boundary_of(first)}"


def _plural(kind: str) -> str:
    return kind.removesuffix("y") + "ies" if kind.endswith("y") and kind != "key" else kind + "s"


def _folded(found: Sequence[Reached], kind_of: Callable[[str], str], *, fold: bool = False) -> list[_Folded]:
    """What can be done, by place; where that is more than fits, what can be done alike to things of a kind in an
    account is told together."""
    groups: dict[tuple[str, str, str], list[str]] = {}
    for reached in found:
        key = (reached.target, chain_words(reached), conditions(reached.chain))
        groups.setdefault(key, []).append(verb_words(reached.verb))
    if len(groups) <= MOST and not fold:
        return [_Folded(tuple(verbs), way, hangs, (target,)) for (target, way, hangs), verbs in groups.items()]
    alike: dict[tuple[str, str, tuple[str, ...], str, str], list[str]] = {}
    for (target, way, hangs), verbs in groups.items():
        key_alike = (boundary_of(target), kind_of(target), tuple(dict.fromkeys(verbs)), way, hangs)
        alike.setdefault(key_alike, []).append(target)
    return [_Folded(verbs, way, hangs, tuple(targets)) for (_, _, verbs, way, hangs), targets in alike.items()]


def from_lines(
    whom: str, found: Sequence[Reached], why: str, asked: ReachAsked, kind_of: Callable[[str], str]
) -> Iterable[Line]:
    """Everything that a caller can reach, by place. `kind_of` gives the kind of a target."""
    places = len({access.target for access in found})
    yield from _perhaps_more(why)
    can = f"{asked.verb_words('')} at" if asked.verbs else "reach"
    said = f"{whom} can {can} {counted(places, 'place') if found else 'no place'}{asked.narrowed()}"
    yield line(Span(said + (":" if found else "."), "strong"))
    yield from _by_place(found, kind_of)
    yield from _more_ways(found)


def _by_place(found: Sequence[Reached], kind_of: Callable[[str], str]) -> Iterable[Line]:
    """What can be reached, by place, each with the way and what it hangs on."""
    groups = _folded(found, kind_of)
    width = min(60, max((len(group.place(kind_of)) for group in groups), default=0))
    for group in groups[:MOST]:
        way = f"  {group.way}" if group.way else ""
        yield line(f"  {group.place(kind_of).ljust(width)}  ", Span(", ".join(group.verbs), "good"), Span(way, "quiet"))
        if group.hangs:
            yield line(" " * (width + 4), Span("with ", "doubt"), group.hangs)
    yield from _rest(len(groups))


def pair_lines(
    whom: str,
    place: str,
    found: Sequence[Reached],
    why: str,
    asked: ReachAsked,
    kind_of: Callable[[str], str],
    ask: str,
) -> Iterable[Line]:
    """Whether one caller can get to one place, and how; `ask` is the command that says why not."""
    yield from _perhaps_more(why)
    can = asked.verb_words("do something" if found else "do anything")
    said = f"{whom} can {can} at {place}" if found else f"{whom} cannot {can} at {place}"
    yield line(Span(f"{said}{asked.narrowed()}{':' if found else '.'}", "strong"))
    yield from _by_place(found, kind_of)
    if not found:
        yield line("  why, and what stands in between: ", Span(ask, "command"))


def to_lines(
    place: str,
    found: Sequence[Reached],
    why: str,
    asked: ReachAsked,
    kind_of: Callable[[str], str],
    shared: Sequence[SharedLogin] = (),
) -> Iterable[Line]:
    """Every caller that can reach a place; where whole chains start first, then the identities themselves, then whoever
    knows the password of a login there. `place` is the place in words, `kind_of` gives the kind of a target."""
    by_start: dict[tuple[str, str], list[Reached]] = {}
    for access in sorted(found, key=lambda access: access.chain.keyless is None):
        start = access.chain.start
        by_start.setdefault((start_words(start), keyless_words(access.chain)), []).append(access)
    half = {start for start, keyless in by_start if keyless == AT_IDENTITY}
    whole = {start for start, keyless in by_start if keyless != AT_IDENTITY}
    parts = [counted(len(whole), "origin")] if whole else []
    parts += [counted(len(half), "identity", "identities")] if half else []
    parts += [who_words(one.address) for one in shared[:1]]
    parts += [f"of {counted(len(shared) - 1, 'other shared login')}"] if shared[1:] else []
    does = asked.verb_words("do something" if parts else "do anything")
    does += "" if asked.verbs and " " not in place else " at"
    yield from _perhaps_more(why)
    said = " and ".join(parts) or "No origin and no identity"
    said = said[:1].upper() + said[1:]
    yield line(Span(f"{said} can {does} {place}{asked.narrowed()}" + (":" if parts else "."), "strong"))
    for one in shared:
        yield line("  ", Span(one.says, "bad"), Span(f"  {one.source}", "quiet"))
    width = min(64, max((len(words) for words, _ in by_start), default=0))
    longest = max((len(keyless) for _, keyless in by_start), default=0)
    one_target = len({reached.target for reached in found}) == 1  # which the first line names
    rows = [
        (words, keyless, group)
        for (words, keyless), mine in by_start.items()
        for group in _folded(mine, kind_of, fold=len(found) > MOST)
    ]
    for words, keyless, group in rows[:MOST]:
        style = {"keyless": "good", "keyed": "bad"}.get(keyless, "quiet")
        does = " and ".join(group.verbs) + ("" if one_target else f" {group.place(kind_of)}")
        tail = f"  {group.way}, then {does}" if group.way else f"  {does}"
        yield line(f"  {words.ljust(width)}  ", Span(keyless.ljust(longest), style), tail)
        if group.hangs:
            yield line(" " * (width + 4), Span("with ", "doubt"), group.hangs)
    yield from _rest(len(rows))
    yield from _more_ways(found)


def _more_ways(found: Sequence[Reached]) -> Iterator[Line]:
    """How many ways there are besides those that are told of single things."""
    counts = {
        (one.chain.start.form, one.chain.start.whom, one.target, one.verb, one.chain.by_key): one.more for one in found
    }
    total = sum(counts.values())
    if total:
        yield line(Span(f"  … and {counted(total, 'more way')} to some of these", "quiet"))


def _perhaps_more(why: str) -> Iterator[Line]:
    """What is said first of an answer that may lack something."""
    if why:
        yield line(Span(f"This answer may be incomplete: some chains are not decided, because of {why}.", "doubt"))


def _rest(count: int) -> Iterator[Line]:
    if count > MOST:
        yield line(Span(f"  … and {count - MOST} more: --format json or csv has them all", "quiet"))


def reached_json(access: Reached) -> dict[str, Any]:
    """One answer for a program."""
    return {
        "start": access.chain.start.whom,
        "origin": access.chain.start.form,
        "keyless": access.chain.keyless,
        "target": access.target,
        "verb": access.verb,
        "steps": [{"caller": caller, "verb": verb, "target": target} for caller, verb, target in access.steps],
        "crossing": access.crossing,
        **conditions_json(access.chain.values),
        **(
            {"alternatives": {name: list(map(jsonable, one)) for name, one in access.chain.choices.items()}}
            if access.chain.choices
            else {}
        ),
        **({"more_ways": access.more} if access.more else {}),
        "by_change": list(access.by_change),
    }


def conditions_json(values: Mapping[str, Value]) -> dict[str, Any]:
    """Values with which a chain can be walked; `before_keys` are those of what led to each stored key, by its name."""
    out: dict[str, Any] = {}
    before: dict[str, dict[str, Any]] = {}
    for name, value in sorted(values.items()):
        attribute, _, key = name.partition(BEFORE_KEY)
        (before.setdefault(key, {}) if key else out)[attribute] = jsonable(value)
    return {"conditions": out, **({"before_keys": before} if before else {})}


def reached_csv(found: Sequence[Reached], shared: Sequence[SharedLogin] = ()) -> str:
    """RFC 4180, a header first; whoever uses a login that people share comes last, a row a verb. A cell that a
    spreadsheet would take for a formula is put in quotes of its own."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(COLUMNS)
    for reached in found:
        start = reached.chain.start
        keyless = keyless_words(reached.chain) if reached.chain.keyless is not None else ""
        cells = (
            start.whom, start.form, keyless, reached.target, reached.verb, chain_words(reached),
            str(max(0, len(reached.steps) - 1)), "yes" if reached.crossing else "no", conditions(reached.chain),
        )  # fmt: skip
        writer.writerow(map(csv_cell, cells))
    for one in shared:
        for verb in one.verbs:
            writer.writerow(map(csv_cell, (one.address, "shared-login", "keyed", one.address, verb, "", "0", "no", "")))
    return out.getvalue()

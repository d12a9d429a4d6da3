"""Who reaches what, as a table, JSON and CSV."""

import csv
import io
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from enthesis.access.coming import ANY
from enthesis.chains.chains import Chain, ChainStart
from enthesis.chains.reach import Reached
from enthesis.model.sentences import verb_words
from enthesis.output.lines import Line, Span, counted, csv_cell, line
from enthesis.output.verdicts import jsonable, values_words

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
    return words.get(start.form, "") + start.whom + (" (members to come)" if start.whom.endswith(ANY) else "")


def keyless_words(start: ChainStart) -> str:
    """Whether a chain starts keyless; one that starts at an identity is neither that nor keyed."""
    return {True: "keyless", False: "keyed", None: AT_IDENTITY}[start.keyless]


def chain_words(access: Reached) -> str:
    """The way to the last step, in words; '' where it is direct."""
    hops = access.steps[:-1] if not access.by_change else ()
    return ", ".join([f"{verb_words(verb)} {target}" for _, verb, target in hops] + list(access.by_change))


def conditions(chain: Chain) -> str:
    """What a chain hangs on: values with which it can be walked."""
    return values_words(chain.values)


def from_lines(whom: str, found: Sequence[Reached], why: str) -> Iterable[Line]:
    """Everything that a caller can reach, by place."""
    places = len({access.target for access in found})
    yield from _perhaps_more(why)
    yield line(
        Span(
            f"{whom} can reach {counted(places, 'place') if found else 'no place'}" + (":" if found else "."), "strong"
        )
    )
    groups: dict[tuple[str, str, str], list[str]] = {}
    for reached in found:
        groups.setdefault((reached.target, chain_words(reached), conditions(reached.chain)), []).append(
            verb_words(reached.verb)
        )
    width = min(60, max((len(target) for target, *_ in groups), default=0))
    for (target, way, hangs), verbs in list(groups.items())[:MOST]:
        yield line(
            f"  {target.ljust(width)}  ", Span(", ".join(verbs), "good"), Span(f"  {way}" if way else "", "quiet")
        )
        if hangs:
            yield line(" " * (width + 4), Span("with ", "doubt"), hangs)
    yield from _rest(len(groups))


def to_lines(verbs: Sequence[str], place: str, found: Sequence[Reached], why: str) -> Iterable[Line]:
    """Every caller that can reach a place; where whole chains start first, then the identities themselves.

    `verbs` are those that were asked for, all without any; `place` is the place in words.
    """
    groups: dict[tuple[str, str, str, str, str], list[str]] = {}
    for access in sorted(found, key=lambda access: access.chain.start.keyless is None):
        start = access.chain.start
        key = (start_words(start), keyless_words(start), chain_words(access), access.target, conditions(access.chain))
        groups.setdefault(key, []).append(verb_words(access.verb))
    half = {key[0] for key in groups if key[1] == AT_IDENTITY}
    whole = {key[0] for key in groups if key[1] != AT_IDENTITY}
    parts = [counted(len(whole), "origin")] if whole else []
    parts += [counted(len(half), "identity", "identities")] if half else []
    does = " or ".join(verbs) if verbs else "do something at" if found else "do anything at"
    yield from _perhaps_more(why)
    said = " and ".join(parts) or "No origin and no identity"
    yield line(Span(f"{said} can {does} {place}" + (":" if found else "."), "strong"))
    width = min(64, max((len(words) for words, *_ in groups), default=0))
    longest = max((len(keyless) for _, keyless, *_ in groups), default=0)
    one_target = len({reached.target for reached in found}) == 1  # which the first line names
    for (words, keyless, way, target, hangs), done in list(groups.items())[:MOST]:
        style = {"keyless": "good", "keyed": "bad"}.get(keyless, "quiet")
        does = " and ".join(done) + ("" if one_target else f" {target}")
        tail = f"  {way}, then {does}" if way else f"  {does}"
        yield line(f"  {words.ljust(width)}  ", Span(keyless.ljust(longest), style), tail)
        if hangs:
            yield line(" " * (width + 4), Span("with ", "doubt"), hangs)
    yield from _rest(len(groups))


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
        "keyless": access.chain.start.keyless,
        "target": access.target,
        "verb": access.verb,
        "steps": [{"caller": caller, "verb": verb, "target": target} for caller, verb, target in access.steps],
        "crossing": access.crossing,
        "conditions": {name: jsonable(value) for name, value in sorted(access.chain.values.items())},
        "by_change": list(access.by_change),
    }


def reached_csv(found: Sequence[Reached]) -> str:
    """RFC 4180, a header first. A cell that a spreadsheet would take for a formula is put in quotes of its own."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(COLUMNS)
    for reached in found:
        start = reached.chain.start
        keyless = keyless_words(start) if start.keyless is not None else ""
        cells = (
            start.whom, start.form, keyless, reached.target, reached.verb, chain_words(reached),
            str(max(0, len(reached.steps) - 1)), "yes" if reached.crossing else "no", conditions(reached.chain),
        )  # fmt: skip
        writer.writerow(map(csv_cell, cells))
    return out.getvalue()

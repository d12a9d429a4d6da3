"""Where keyed credentials stand on their way to keyless, what was done, and what that does to access."""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from enthesis.chains.differences import Difference
from enthesis.cleaning.retiring import DELETED, Standing
from enthesis.files.editing import Addition
from enthesis.model.vocabulary import RETIRING
from enthesis.output.differences import difference_json, difference_lines
from enthesis.output.lines import Line, Span, counted, line
from enthesis.text.times import time_text

MOST = 20  # lines of one kind


def retiring_sentence(name: str, found: Sequence[Standing], others: Sequence[str]) -> str:
    """Where all stand, in a sentence."""
    if not found:
        more = f"; {counted(len(others), 'keyed credential')} could be: --plan" if others else ""
        return f"{name}: no keyed credential is on its way to keyless{more}."
    stages = Counter(standing.stage for standing in found)
    if not any(stages[stage] for stage in RETIRING):
        return f"{name}: {counted(len(found), 'keyed credential')} not on the way to keyless yet."
    said = ", ".join(f"{stages[stage]} {stage}" for stage in RETIRING if stages[stage])
    ready = sum(standing.ready for standing in found)
    waiting = sum(bool(standing.does) and not standing.ready for standing in found)
    parts = [f"{ready} ready for the next step" if ready else "", f"{waiting} waiting" if waiting else ""]
    rest = ", ".join(part for part in parts if part)
    head = f"{name}: {counted(len(found), 'keyed credential')} on the way to keyless ({said})"
    return f"{head}: {rest}." if rest else f"{head}."


def retiring_lines(name: str, found: Sequence[Standing], others: Sequence[str]) -> Iterator[Line]:
    """The answer first, then each credential with its next step, or what that waits for."""
    yield line(Span(retiring_sentence(name, found, others), "strong"))
    for standing in found:
        yield from _standing_lines(standing)
    if found and others:
        names = ", ".join(others[:MOST]) + (f" and {len(others) - MOST} more" if len(others) > MOST else "")
        yield line()
        yield line(f"Not on the way: {names}", Span("  enthesis credential retire --plan", "command"))


def planned_lines(name: str, wanted: Sequence[str], *, written: bool) -> Iterator[Line]:
    """Which credentials are planned to go, or would be."""
    if not wanted:
        yield line(f"{name}: no keyed credential is left to plan.")
        return
    is_now = "on the way to keyless now" if written else "would be on the way to keyless"
    yield line(Span(f"{name}: {counted(len(wanted), 'keyed credential')} {is_now}: ", "strong"), ", ".join(wanted))


def _standing_lines(standing: Standing) -> Iterator[Line]:
    since = f" since {time_text(standing.since)}" if standing.since is not None else ""
    about = f"  {standing.form} of {standing.of}" if standing.of else ""
    stage = Span(f"{standing.stage}{since}", "good" if standing.stage == DELETED else "strong")
    yield line(
        "  ", Span(standing.name, "strong"), Span(about, "quiet"), "  ", stage, Span(f"  {standing.source}", "quiet")
    )
    if standing.waits:
        yield line("    ", Span("waits: ", "doubt"), standing.waits)
    elif standing.does:
        yield line(f"    next: {standing.does}")
    if standing.split and not standing.waits:
        yield line(
            f"    {standing.of} also does other work ({standing.split[0]}), so its holder gets an identity of its own"
        )
    for edit in standing.edits:
        if isinstance(edit, Addition) and edit.section != "retiring":
            yield line(Span(f"      {edit.section}: {edit.line()}", "command"))


def change_lines(change: Difference, fails: Sequence[str]) -> Iterator[Line]:
    """What the next steps do to access, and which journeys are to be rewritten."""
    yield line()
    yield from difference_lines(change)
    if fails:
        yield line(Span("journeys that fail from now on: let them start without the key", "doubt"))
        yield from (line(f"  {fail}") for fail in fails)


def retiring_json(
    name: str, found: Sequence[Standing], others: Sequence[str], change: Difference | None = None,
    outcomes: Mapping[str, str] | None = None, fails: Sequence[str] = (),
) -> dict[str, Any]:  # fmt: skip
    """The same for a program. `outcomes` say of each step that was tried what came of it."""
    out: dict[str, Any] = {
        "estate": name,
        "credentials": [_standing_json(standing, outcomes) for standing in found],
        "not_on_the_way": list(others),
    }
    if change is None:
        return out
    return {**out, "access": difference_json(change), "journeys_that_fail": list(fails)}


def _standing_json(standing: Standing, outcomes: Mapping[str, str] | None) -> dict[str, Any]:
    lines = [{edit.section: edit.line()} for edit in standing.edits if isinstance(edit, Addition)]
    known = {
        "since": time_text(standing.since) if standing.since is not None else None,
        "next": standing.does or None,
        "waits_for": standing.waits or None,
        "takes_on": standing.takes_on if standing.takes_on != standing.of else None,
        "other_work": list(standing.split) or None,
        "lines": lines or None,
        "outcome": outcomes.get(standing.name) if outcomes is not None else None,
    }
    said = {
        "name": standing.name,
        "of": standing.of,
        "form": standing.form,
        "stage": standing.stage,
        "ready": standing.ready,
    }
    return {**said, **{name: value for name, value in known.items() if value is not None}}


def outcome_lines(done: Mapping[str, str], failed: Mapping[str, str]) -> Iterator[Line]:
    """What came of the steps; what failed first."""
    for name, why in failed.items():
        yield line(Span("not done  ", "bad"), f"{name}: {why}")
    by_what: dict[str, list[str]] = {}
    for name, what in done.items():
        by_what.setdefault(what, []).append(name)
    for what, names in by_what.items():
        yield line(Span("done  ", "good"), f"{what}: {', '.join(names)}")

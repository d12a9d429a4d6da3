"""`enthesis check`: reads the estate, judges its journeys and invariants, and compares it with another version."""

from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.commands.barring import barred_gains, put_barred
from enthesis.commands.common import (
    EstateOption,
    LiveOption,
    QuietOption,
    ReviewFormat,
    cache_folder,
    estate_folder,
    put_json,
    put_lines,
    put_text,
    read_live,
    write_file,
)

if TYPE_CHECKING:
    from enthesis.judging.expecting import Judged
    from enthesis.model.estate import Estate
    from enthesis.reaching.chains import Chains
    from enthesis.reaching.dangers import Dangers
    from enthesis.reaching.differing import Difference
    from enthesis.reaching.invariants import Decided
    from enthesis.reading.folder import Reading


WORTH_A_BAR = 20  # journeys and invariants; fewer are judged before a bar is drawn


def check(
    estate: EstateOption = None,
    live: LiveOption = None,
    output: Annotated[ReviewFormat, typer.Option("--format", help="How the answer is put out.")] = ReviewFormat.TEXT,
    quiet: QuietOption = False,
    schema: Annotated[bool, typer.Option("--schema", help="Print the JSON Schema of an estate's files.")] = False,
    compared_with: Annotated[
        str | None,
        typer.Option("--compared-with", metavar="FOLDER|REVISION", help="Who gains and loses what since then."),
    ] = None,
    names: Annotated[
        str | None,
        typer.Option("--names", metavar="OLD=NEW", help="Whether NEW here differs from OLD there in names only."),
    ] = None,
    fail_on_gain: Annotated[
        list[str] | None,
        typer.Option("--fail-on-gain", metavar="'VERBS PLACE'", help="Exit 1 where anybody gains that."),
    ] = None,
    sarif: Annotated[
        Path | None, typer.Option("--sarif", metavar="FILE", help="Also write SARIF 2.1.0, for code review.")
    ] = None,
    by_change: Annotated[
        bool, typer.Option("--by-change", help="Invariants count what chains get by first changing access.")
    ] = False,
) -> None:
    """Read the estate: every mistake with its line, every journey and invariant judged.

    Needs no live system and no rights. Exit 0 where all is well, 1 where a journey is not as expected, an invariant
    does not hold, a danger stands or a gain was barred, 2 where the estate has mistakes.

    With --live, what a survey says is judged, in place of what the estate describes or alone.

    Example: enthesis check --estate ./saltmarsh
    """
    from enthesis.errors import Mistaken

    if schema:
        from enthesis.reading.sections import schema as json_schema

        put_json(json_schema())
        return
    if output is ReviewFormat.MARKDOWN and compared_with is None:
        raise Mistaken("--format markdown goes with --compared-with")
    if (fail_on_gain or names) and compared_with is None:
        raise Mistaken("--fail-on-gain and --names go with --compared-with")
    if names is not None and compared_with is not None:
        _twins(estate_folder(estate), compared_with, names, output)
        return
    from enthesis.reading.finding import find_estate
    from enthesis.reading.folder import Reading, read_folder
    from enthesis.reading.surveys import beside
    from enthesis.showing.mistakes import mistake_json, mistake_lines

    survey = read_live(live) if live is not None else None
    if survey is not None and live is not None and estate is None and find_estate(Path.cwd()) is None:
        folder, reading = live.resolve().parent, Reading(survey.estate, (), ())
    else:
        folder = estate_folder(estate)
        reading = read_folder(folder, cache=cache_folder())
        if survey is not None and reading.estate is not None:
            reading = replace(reading, estate=beside(reading.estate, survey))
    if reading.estate is None:
        if output is ReviewFormat.JSON:
            mistakes = [mistake_json(mistake) for mistake in reading.mistakes]
            read = {"files": list(reading.files), "skipped": dict(reading.skipped)}
            put_json({"usable": False, **read, "mistakes": mistakes})
        else:
            put_lines(mistake_lines(reading.mistakes))
        if sarif is not None:
            from enthesis.showing.sarif import sarif as log

            write_file(sarif, log(reading.mistakes), foreign=True)
        raise typer.Exit(2)
    well = _answer(folder, reading, reading.estate, output, compared_with, fail_on_gain or [], quiet, by_change, sarif)
    if not well:
        raise typer.Exit(1)


def _twins(folder: Path, named: str, names: str, output: ReviewFormat) -> None:
    """Whether a place here differs from another one there in names only; exit 1 where in more."""
    from enthesis.commands.common import read_estate
    from enthesis.commands.versions import other_version
    from enthesis.errors import Mistaken
    from enthesis.reading.renaming import apart_from_names
    from enthesis.showing.lines import Span, line

    old, _, new = names.partition("=")
    if not old or not new:
        raise Mistaken(f"--names {names}: this is no OLD=NEW")
    here, there = read_estate(folder), other_version(folder, named)
    for one, estate in ((old, there), (new, here)):
        if one not in estate.accounts and one not in estate.identities:
            raise Mistaken(f"{one} is no account and no identity there")
    lacking, more = apart_from_names(there, old, here, new)
    if output is ReviewFormat.JSON:
        put_json({"old": old, "new": new, "names_only": not lacking and not more, "lacking": lacking, "more": more})
    elif not lacking and not more:
        put_lines([line(Span(f"{old} and {new} differ in names only.", "good"))])
    else:
        lines = [line(Span(f"{old} and {new} differ in more than names.", "bad"))]
        lines += [line(f"  {new} lacks   {one}") for one in lacking]
        lines += [line(f"  {new} has too {one}") for one in more]
        put_lines(lines)
    if lacking or more:
        raise typer.Exit(1)


@dataclass(frozen=True)
class _Judged:
    """What looking at an estate gave."""

    chains: "Chains"
    journeys: "list[Judged]"
    invariants: "list[Decided]"
    dangers: "Dangers"

    @property
    def well(self) -> bool:
        holding = all(one.outcome == "holds" for one in self.invariants)
        return holding and all(one.met for one in self.journeys) and not self.dangers.standing


def _judge(reading: "Reading", estate: "Estate", instant: datetime, *, quiet: bool, by_change: bool) -> _Judged:
    """Judges the journeys, decides the invariants, looks for dangers."""
    from enthesis.judging.compiling import compile_estate
    from enthesis.judging.expecting import judge_journey
    from enthesis.reaching.changes import decide_by_change
    from enthesis.reaching.dangers import dangers, placed
    from enthesis.reaching.invariants import chains_from_now_on, decide
    from enthesis.reaching.web import Web
    from enthesis.showing.progress import reporter

    count = len(estate.journeys) + len(estate.invariants) + len(estate.trusts)
    progress = reporter(quiet=quiet or count < WORTH_A_BAR)
    compiled = compile_estate(estate)
    progress.begin("judging", count)
    try:
        journeys, decided = [], []
        for journey in estate.journeys.values():
            progress.step(journey.name)
            journeys.append(judge_journey(compiled, journey, instant))
        chains = chains_from_now_on(Web(compiled, instant.timestamp()))
        deciding = decide_by_change if by_change else decide
        for invariant in estate.invariants:
            progress.step(invariant.name)
            decided.append(deciding(chains, invariant))
        return _Judged(chains, journeys, decided, placed(dangers(chains, progress.step), reading.records))
    finally:
        progress.end()


def _answer(
    folder: Path,
    reading: "Reading",
    estate: "Estate",
    output: ReviewFormat,
    compared_with: str | None,
    barred: list[str],
    quiet: bool,
    by_change: bool,
    sarif: Path | None,
) -> bool:
    """Judges, compares and shows; whether all is well."""
    from enthesis.commands.asking import now
    from enthesis.reading.folder import estate_texts
    from enthesis.showing.checks import (
        check_lines,
        check_sentence,
        danger_json,
        danger_lines,
        decided_json,
        judged_json,
    )
    from enthesis.showing.differences import difference_json, difference_lines, difference_markdown
    from enthesis.showing.estates import count_lines, estate_json, skipped_lines
    from enthesis.showing.lines import Span, line
    from enthesis.showing.sarif import sarif as log

    instant = now()
    judged = _judge(reading, estate, instant, quiet=quiet, by_change=by_change)
    chains, journeys, decided, dangers = judged.chains, judged.journeys, judged.invariants, judged.dangers
    found = _difference(folder, estate, compared_with, instant.timestamp())
    gained = barred_gains(estate, found, barred)
    unsure = bool(barred) and found is not None and bool(found.undecided)
    well = judged.well and not gained and not unsure
    if sarif is not None:
        write_file(sarif, log((), journeys, decided, dangers), foreign=True)
    if output is ReviewFormat.MARKDOWN and found is not None:
        put_text("\n".join(difference_markdown(found)) + "\n")
    elif output is ReviewFormat.JSON:
        put_json(
            {
                "usable": True,
                "files": list(reading.files),
                "skipped": dict(reading.skipped),
                **estate_json(estate),
                "mistakes": [],
                "journeys": [judged_json(one) for one in journeys],
                "invariants": [decided_json(chains, one) for one in decided],
                "dangers": [danger_json(one) for one in (*dangers.standing, *dangers.accepted)],
                "undecided": dangers.undecided,
                **({"compared": difference_json(found), "barred_gains": len(gained)} if found is not None else {}),
            }
        )
    else:
        style = "good" if well else "bad"
        put_lines([line(Span(check_sentence(estate, len(reading.files), journeys, decided, dangers), style))])
        if not quiet:
            put_lines([*count_lines(estate), *skipped_lines(reading.skipped)])
        texts = estate_texts(folder) if not well and reading.files else {}
        put_lines(check_lines(texts, reading.named_at, chains, journeys, decided))
        put_lines(danger_lines(texts, dangers))
        if found is not None:
            put_lines([line(), *difference_lines(found)])
    put_barred(gained, to_error=output is not ReviewFormat.TEXT)
    return well


def _difference(folder: Path, estate: "Estate", named: str | None, instant: float) -> "Difference | None":
    if named is None:
        return None
    from enthesis.commands.versions import other_version
    from enthesis.reaching.differing import difference

    return difference(other_version(folder, named), estate, instant)

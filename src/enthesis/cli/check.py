"""`enthesis check`: reads the estate, judges its journeys and invariants, and compares it with another version."""

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import datetime
from hashlib import sha256
from pathlib import Path
from typing import Annotated, Any

import typer

from enthesis.access.compiling import compile_estate
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.chains.changes import decide_by_change
from enthesis.chains.differences import Difference, difference
from enthesis.chains.invariants import Decided, decide
from enthesis.cli.arguments import now
from enthesis.cli.estate_loading import read_estate, read_live
from enthesis.cli.options import EstateOption, QuietOption, ReviewFormatOption, SurveyOption
from enthesis.cli.store_options import journal_if_any
from enthesis.files.finding import (
    HISTORY,
    PLACE_OF_WORK,
    cache_folder,
    estate_folder,
    find_estate,
    within_repository,
)
from enthesis.files.folder import Reading, estate_texts, read_folder
from enthesis.files.renaming import apart_from_names
from enthesis.files.saving import rename_old_words, write_file
from enthesis.files.sections import schema as json_schema
from enthesis.files.versions import other_version
from enthesis.live.possible import impossible, untriable
from enthesis.model.errors import InvalidInput, NotDecided
from enthesis.model.estate import Estate
from enthesis.model.vocabulary import Holding
from enthesis.output.checks import (
    check_lines,
    check_sentence,
    decided_json,
    judged_json,
    risk_json,
    risk_lines,
    untriable_lines,
)
from enthesis.output.differences import barred_lines, difference_json, difference_lines, difference_markdown
from enthesis.output.estates import count_lines, estate_json, skipped_lines
from enthesis.output.file_errors import file_error_json, file_error_lines
from enthesis.output.lines import Line, Span, json_text, line
from enthesis.output.progress import reporter
from enthesis.output.renderers import MARKDOWN, TEXT, CommandAnswer, is_document, put_answer
from enthesis.output.sarif import sarif as log
from enthesis.output.streams import put_lines, put_text, remark
from enthesis.proposals.guards import barred_gains
from enthesis.surveys.survey import beside
from enthesis.trusts.risks import Risks, placed, risks
from enthesis.verdicts.expectations import Judged, judge_journey
from enthesis.verdicts.meanings import CHANGED_ON, changed_meanings

WORTH_A_BAR = 20  # journeys and invariants; fewer are judged before a bar is drawn


def check(
    folder_named: Annotated[
        Path | None, typer.Argument(metavar="DIR", help="The estate's folder, as --estate says it.")
    ] = None,
    estate: EstateOption = None,
    live: SurveyOption = None,
    output: ReviewFormatOption = TEXT,
    quiet: QuietOption = False,
    schema: Annotated[bool, typer.Option("--schema", help="Print the JSON Schema of an estate's files.")] = False,
    compared_with: Annotated[
        str | None,
        typer.Option(
            "--compared-with", metavar="FOLDER|REVISION", help="Show who gains and loses what since this version."
        ),
    ] = None,
    names: Annotated[
        str | None,
        typer.Option("--names", metavar="OLD=NEW", help="Check that NEW here differs from OLD there in names only."),
    ] = None,
    fail_on_gain: Annotated[
        list[str] | None,
        typer.Option("--fail-on-gain", metavar="VERBS PLACE", help="Exit 1 if any caller gains that."),
    ] = None,
    sarif: Annotated[
        Path | None, typer.Option("--sarif", metavar="FILE", help="Also write SARIF 2.1.0, for code review.")
    ] = None,
    fix: Annotated[bool, typer.Option("--fix", help="First rewrite renamed words in the estate's files.")] = False,
    by_change: Annotated[
        bool,
        typer.Option(
            "--by-change",
            help="In invariants, also count access that a caller could give itself by first changing access.",
        ),
    ] = False,
) -> None:
    """Validate the estate: errors with their lines, journeys, invariants and risks.

    Needs no live system and no rights. Exit 0 if everything is as expected; 1 if a journey is not, an invariant is
    violated, a risk is open or a gain was barred; 2 if the estate has errors.

    With --survey, it judges what a survey found instead of what the estate describes.
    """
    estate = _folder(folder_named, estate)
    if schema:
        put_text(json_text(json_schema()) + "\n")
        return
    if output == MARKDOWN and compared_with is None:
        raise InvalidInput("--format markdown needs --compared-with", code="options-conflict")
    if (fail_on_gain or names) and compared_with is None:
        raise InvalidInput("--fail-on-gain and --names need --compared-with", code="options-conflict")
    if names is not None and compared_with is not None:
        _twins(estate_folder(estate), compared_with, names, output)
        return
    if fix:
        _rename(estate_folder(estate), quiet=quiet)
    if live is not None and estate is None and find_estate(Path.cwd()) is None:
        folder, reading = live.resolve().parent, Reading(read_live(live).estate, (), (), live=True)
    else:
        folder = estate_folder(estate)
        reading = read_folder(folder, cache=cache_folder())
        if live is not None:
            survey = read_live(live, reading.estate)
            if reading.estate is not None:
                reading = replace(reading, estate=beside(reading.estate, survey), live=True)
    if reading.estate is None:
        _put_errors(folder, reading, output, sarif)
        raise typer.Exit(2)
    code = _answer(folder, reading, reading.estate, output, compared_with, fail_on_gain or [], quiet, by_change, sarif)
    if code:
        raise typer.Exit(code)


def _folder(named: Path | None, estate: Path | None) -> Path | None:
    """The folder that is named without an option, or by one; InvalidInput where it is both, or no folder."""
    if named is None:
        return estate
    if estate is not None:
        raise InvalidInput(f"{named} and --estate both name a folder", code="options-conflict", remedy="name one")
    if not named.is_dir():
        what = "is a file of one, perhaps" if named.is_file() else "is not there"
        raise InvalidInput(
            f"check takes the folder of an estate, and {named} {what}", code="estate-missing",
            remedy=f"enthesis check {named.parent}" if named.is_file() else "name a folder with an estate.yaml",
        )  # fmt: skip
    return named


def _rename(folder: Path, *, quiet: bool) -> None:
    changed = rename_old_words(folder)
    remark(f"Renamed words in {', '.join(changed)}." if changed else "No renamed words.", quiet=quiet)


def _put_errors(folder: Path, reading: Reading, output: str, sarif: Path | None) -> None:
    errors = [file_error_json(error) for error in reading.errors]
    read = {"files": list(reading.files), "skipped": dict(reading.skipped)}
    facts = {"usable": False, **read, "errors": errors}
    put_answer(output, CommandAnswer(lambda: facts, lambda: file_error_lines(reading.errors)))
    if sarif is not None:
        write_file(sarif, log(reading.errors, inside=within_repository(folder)), foreign=True)


def _twins(folder: Path, named: str, names: str, output: str) -> None:
    """Whether a place here differs from another one there in names only; exit 1 where in more."""
    old, _, new = names.partition("=")
    if not old or not new:
        raise InvalidInput(f"--names {names}: this is not an OLD=NEW", code="option-invalid")
    here, there = read_estate(folder), other_version(folder, named)
    for one, estate in ((old, there), (new, here)):
        if one not in estate.accounts and one not in estate.identities:
            raise InvalidInput(f"{one} is neither an account nor an identity there", code="twin-unknown")
    lacking, more = apart_from_names(there, old, here, new)
    names_only = not lacking and not more
    lines = [line(Span(f"{old} and {new} differ in {'' if names_only else 'more than '}names{' only' * names_only}.",
                       "good" if names_only else "bad"))]  # fmt: skip
    lines += [line(f"  {new} lacks   {one}") for one in lacking]
    lines += [line(f"  {new} has too {one}") for one in more]
    facts = {"old": old, "new": new, "names_only": names_only, "lacking": lacking, "more": more}
    put_answer(output, CommandAnswer(lambda: facts, lambda: lines))
    if lacking or more:
        raise typer.Exit(1)


@dataclass(frozen=True)
class _Judged:
    """What looking at an estate gave."""

    chains: Chains
    journeys: list[Judged]
    invariants: list[Decided]
    risks: Risks

    def exit_code(self, *, gained: bool, unsure: bool) -> int:
        """1 if something is wrong; 5 if nothing is, as far as is known, but something was not decided; else 0."""
        broken = any(invariant.outcome == Holding.BROKEN for invariant in self.invariants)
        if broken or gained or self.risks.standing or not all(journey.met for journey in self.journeys):
            return 1
        open_ones = any(invariant.outcome == Holding.UNDECIDED for invariant in self.invariants)
        return NotDecided.exit_code if open_ones or unsure or self.risks.undecided else 0


def _judge(reading: Reading, estate: Estate, instant: datetime, *, quiet: bool, by_change: bool) -> _Judged:
    """Judges the journeys, decides the invariants, looks for risks."""
    count = len(estate.journeys) + len(estate.invariants) + len(estate.trusts)
    progress = reporter(quiet=quiet or count < WORTH_A_BAR)
    compiled = compile_estate(estate)
    progress.begin("judging", count)
    try:
        journeys, decided = [], []
        for journey in estate.journeys.values():
            progress.step(journey.name)
            journeys.append(judge_journey(compiled, journey, instant))
        chains = Chains.from_now_on(Web(compiled, instant.timestamp()))
        deciding = decide_by_change if by_change else decide
        for invariant in estate.invariants:
            progress.step(invariant.name)
            decided.append(deciding(chains, invariant))
        found = risks(chains, progress.step, further=() if reading.live else impossible(estate))
        return _Judged(chains, journeys, decided, placed(found, reading.records))
    finally:
        progress.end()


def _answer(
    folder: Path,
    reading: Reading,
    estate: Estate,
    output: str,
    compared_with: str | None,
    barred: list[str],
    quiet: bool,
    by_change: bool,
    sarif: Path | None,
) -> int:
    """Judges, compares and shows; the exit code."""
    instant = now()
    judged = _judge(reading, estate, instant, quiet=quiet, by_change=by_change)
    chains, journeys, decided, risks = judged.chains, judged.journeys, judged.invariants, judged.risks
    found = _difference(folder, estate, compared_with, instant.timestamp())
    gained = barred_gains(estate, found, barred)
    unsure = bool(barred) and found is not None and bool(found.undecided)
    code = judged.exit_code(gained=bool(gained), unsure=unsure)
    well = code == 0
    if sarif is not None:
        write_file(sarif, log((), journeys, decided, risks, inside=within_repository(folder)), foreign=True)

    def facts() -> dict[str, Any]:
        return {
            "usable": True,
            "files": list(reading.files),
            "skipped": dict(reading.skipped),
            **estate_json(estate),
            "errors": [],
            "journeys": [judged_json(journey) for journey in journeys],
            "invariants": [decided_json(chains, one) for one in decided],
            "risks": [risk_json(risk) for risk in (*risks.standing, *risks.accepted)],
            "undecided": risks.undecided,
            "not_tried_live": [{"journey": one.name, "why": why} for one, why in untriable(estate)],
            **({"compared": difference_json(found), "barred_gains": len(gained)} if found is not None else {}),
        }

    def text() -> Iterator[Line]:
        said = check_sentence(estate, len(reading.files), journeys, decided, risks)
        wrong, _, right = said.partition(". ") if not well else ("", "", said)
        whole = line(Span(said, "good" if well else "bad"))
        yield line(Span(f"{wrong}. ", "bad"), right) if right and wrong else whole
        if not quiet:
            yield from (*count_lines(estate), *skipped_lines(reading.skipped))
        texts = estate_texts(folder) if not well and reading.files else {}
        yield from check_lines(texts, reading.named_at, chains, journeys, decided)
        yield from risk_lines(texts, risks)
        yield from _changed_lines(folder, judged, quiet=quiet)
        if not quiet:
            yield from untriable_lines(list(untriable(estate)))
        if found is not None:
            yield from (line(), *difference_lines(found))

    review = (lambda: difference_markdown(found)) if found is not None else None
    put_answer(output, CommandAnswer(facts, text, markdown=review))
    put_lines(barred_lines(gained), to_error=is_document(output))
    return code


def _changed_lines(folder: Path, judged: _Judged, *, quiet: bool) -> Iterator[Line]:
    """Says once what of an estate means more than it did, where it was enacted by an earlier version: the first time
    that one with a history is checked."""
    told = cache_folder() / "meanings" / sha256(str(folder.resolve()).encode()).hexdigest()[:32]
    if quiet or _read_text(told) == CHANGED_ON or not (folder / PLACE_OF_WORK / HISTORY).exists():
        return
    estate = judged.chains.compiled.estate
    broken = [one for one in judged.invariants if one.outcome == Holding.BROKEN]
    by_key = [one.invariant.name for one in broken if one.chain is not None and one.chain.by_key]
    said = list(changed_meanings(judged.chains.compiled, by_key))
    if said and _enacted_before(folder, estate.name):
        yield line()
        yield line(Span("means more than in earlier versions (said once):", "doubt"))
        yield from (line(f"  {one}") for one in said)
    with suppress(OSError):
        told.parent.mkdir(parents=True, exist_ok=True)
        told.write_text(CHANGED_ON, encoding="utf-8")


def _read_text(path: Path) -> str:
    with suppress(OSError):
        return path.read_text(encoding="utf-8")
    return ""


def _enacted_before(folder: Path, name: str) -> bool:
    """Whether the history beside an estate has an enactment from before meanings changed."""
    journal = journal_if_any(folder, None)
    if journal is None:
        return False
    try:
        return any(one.begun < CHANGED_ON for one in journal.enactments(name))
    finally:
        journal.close()


def _difference(folder: Path, estate: Estate, named: str | None, instant: float) -> Difference | None:
    if named is None:
        return None
    return difference(other_version(folder, named), estate, instant)

"""Enthesis in a program of your own: read an estate or a survey, and ask about it.

    import enthesis

    estate = enthesis.read_estate("saltmarsh")
    answer = enthesis.ask(estate, {
        "from": {"token": "forge", "claims": {"sub": "project/tides/bulletin/branch/main", "aud": "lowland"}},
        "through": ["build/identity/publisher"],
    })
    print(answer.allowed, answer.text)

No network and no terminal; a time is passed in or is now. Errors are `EnthesisError` and its subclasses, each with a
`code` of docs/errors.md, a `message` and a `remedy`.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from enthesis.access.answers import Verdict
from enthesis.access.compiling import compile_estate
from enthesis.access.questions import question_of
from enthesis.chains.chains import Chains
from enthesis.chains.differences import difference
from enthesis.chains.ends import wanted_permissions
from enthesis.chains.reach import Reached, reachable, reaching
from enthesis.chains.starts import asked_about, must_exist, starts_from
from enthesis.chains.web import Web
from enthesis.conditions.truth import Value
from enthesis.files.cache import TreeCache
from enthesis.files.folder import packaged_catalogue, read_folder, read_texts
from enthesis.files.nodes import tree_of
from enthesis.files.sections import SECTIONS
from enthesis.files.shapes import MISSING, Notes, perhaps
from enthesis.model.errors import EnthesisError, InvalidEstate, InvalidInput, NotDecided, Undecided
from enthesis.model.estate import Estate, Trust
from enthesis.model.words import Ending, Form, VerdictStep
from enthesis.output.lines import rendered
from enthesis.output.verdicts import first_sentence, verdict_json, verdict_lines
from enthesis.surveys.survey import Survey, survey_in
from enthesis.trusts.admitting import Admissions
from enthesis.verdicts.pools import answer_of_pool, ending_of

__all__ = [
    "Access", "Answer", "Comparison", "EnthesisError", "Estate", "InvalidEstate", "InvalidInput", "Survey", "admits",
    "ask", "compare", "parse_estate", "reach", "read_estate", "read_survey",
]  # fmt: skip


@dataclass(frozen=True)
class Answer:
    """Whether a chain of requests is allowed. `outcome` is allowed, refused or not decided; `refused_at` are all the
    steps that refuse, `text` is the answer in a sentence, `verdict` all of it."""

    allowed: bool
    outcome: Ending
    refused_at: tuple[VerdictStep, ...]
    text: str
    verdict: Verdict
    estate: Estate

    def explained(self) -> str:
        """The whole answer as `enthesis trace` prints it: every request with its steps."""
        return rendered(verdict_lines(self.estate, self.verdict), colour=False)

    def as_json(self) -> dict[str, Any]:
        """The same for a program, as `enthesis trace --format json`."""
        return verdict_json(self.estate, self.verdict)


@dataclass(frozen=True)
class Access:
    """A caller can do something on a target: by these steps (caller, verb, target), with these values of what a caller
    or request may choose. `keyless` is None where the chain starts at an identity."""

    caller: str
    form: Form
    verb: str
    target: str
    keyless: bool | None = None
    steps: tuple[tuple[str, str, str], ...] = ()
    values: Mapping[str, Value] | None = None


@dataclass(frozen=True)
class Comparison:
    """Access that one estate gives and the other does not. `decided` is False where a bound on work was reached: then
    there may be more."""

    gained: tuple[Access, ...]
    lost: tuple[Access, ...]
    decided: bool


def read_estate(folder: str | Path) -> Estate:
    """The estate in a folder. Raises InvalidEstate with every error in its files."""
    return _sound(read_folder(Path(folder)))


def parse_estate(texts: Mapping[str, str] | str) -> Estate:
    """The estate that these texts are, by file name; one text is `estate.yaml`. Raises InvalidEstate."""
    return _sound(read_texts({"estate.yaml": texts} if isinstance(texts, str) else texts))


def read_survey(file: str | Path) -> Survey:
    """A survey from its file; `.estate` is what was read, `.complete` whether that is all, `.left_out` what is not.

    Raises InvalidInput where the file is not a survey.
    """
    return survey_in(Path(file), packaged_catalogue(TreeCache(None)))


def ask(estate: Estate, journey: Mapping[str, Any] | str, *, time: datetime | None = None) -> Answer:
    """Judges a chain of requests: a journey of the estate by name, or one as a mapping with the fields of `journeys`
    (`from`, `through`, `attempt`, `context`; `expect` may be left out).

    Raises InvalidInput where it is not a journey, or asks for nothing: no identity to take on and no attempt.
    """
    if isinstance(journey, str):
        found = estate.journeys.get(journey)
        if found is None:
            hint = perhaps(journey, estate.journeys)
            raise InvalidInput(f"unknown journey {journey}", code="journey-unknown", remedy=hint)
    else:
        notes = Notes("journey")
        said = {"expect": "allowed", **journey}
        found = SECTIONS["journeys"].record.read(tree_of(said), notes, name="asked")
        if found is MISSING or notes.errors:
            told = "; ".join(error.message for error in notes.errors) or "fields are missing"
            raise InvalidInput(f"this is not a journey: {told}", code="question-invalid")
    try:
        verdict, members = answer_of_pool(compile_estate(estate), question_of(found, time or _now()))
    except Undecided as bound:
        raise NotDecided(f"not decided: {bound}", code="not-decided") from None
    ending = ending_of(members) if members else verdict.ending
    return Answer(verdict.allowed, ending, verdict.refused_at, first_sentence(estate, verdict), verdict, estate)


def reach(
    estate: Estate,
    *,
    start: str | None = None,
    to: str | None = None,
    verbs: Sequence[str] = (),
    time: datetime | None = None,
) -> list[Access]:
    """What a caller can do anywhere (`start`), or who can do something on a place (`to`), by any chain; all verbs, or
    these. At a place means at it and in it. What is not said, claims and networks say, is free; without `time` that is
    now and every later time.

    Raises InvalidInput for an unknown address, NotDecided where a bound on work was reached.
    """
    if (start is None) == (to is None):
        raise InvalidInput("start or to is needed, and not both", code="argument-missing")
    when = time or _now()
    web = Web(compile_estate(estate, asked_about(estate, to)), when.timestamp())
    chains = Chains(web, {"time": when}) if time is not None else Chains.from_now_on(web)
    wanted = wanted_permissions(chains.compiled, list(verbs) or ["*"], ())
    if start is not None:
        found = reachable(chains, starts_from(chains, estate, start, {}), wanted)
    else:
        must_exist(chains.compiled, str(to))
        found = reaching(chains, str(to), wanted)
    if chains.undecided:
        raise NotDecided(f"not decided, because of {chains.why}", code="not-decided", remedy="ask about less at once")
    return [_access(access) for access in found]


def admits(estate: Estate, trust: Trust, *, time: datetime | None = None) -> Mapping[str, Value] | None:
    """A caller that a trust for tokens admits, as the claims that it shows; None where it admits nobody.

    Raises NotDecided where that is past a bound on work, InvalidInput for a trust that admits by name.
    """
    if str(trust.admits.whom) not in estate.issuers:
        raise InvalidInput("this trust admits by name, so no claims are shown", code="question-invalid")
    try:
        return Admissions(compile_estate(estate), time or _now()).example(trust)
    except Undecided as bound:
        raise NotDecided(f"not decided, because of {bound}", code="not-decided") from None


def compare(before: Estate, after: Estate, *, time: datetime | None = None) -> Comparison:
    """The access that is gained and lost from one estate to another."""
    found = difference(before, after, (time or _now()).timestamp())
    gained, lost = (
        tuple(Access(gain.caller, gain.form, gain.verb, gain.target, None, gain.chain, gain.values) for gain in side)
        for side in (found.gains, found.losses)
    )
    return Comparison(gained, lost, not found.undecided)


def _now() -> datetime:
    return datetime.now(UTC)  # noqa: TID251  a caller that wants another time passes it in


def _sound(reading: Any) -> Estate:
    if reading.estate is None:
        raise InvalidEstate(reading.errors)
    found: Estate = reading.estate
    return found


def _access(access: Reached) -> Access:
    start = access.chain.start
    return Access(
        start.whom,
        start.form,
        access.verb,
        access.target,
        access.chain.keyless,
        tuple(access.steps),
        access.chain.values,
    )

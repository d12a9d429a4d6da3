"""Enthesis in a program of your own: read an estate or a survey, and ask about it.

    import enthesis

    estate = enthesis.read_estate("saltmarsh")
    answer = enthesis.ask(estate, {
        "from": {"token": "forge", "claims": {"sub": "project/tides/bulletin/branch/main", "aud": "lowland"}},
        "through": ["build/identity/publisher"],
    })
    print(answer.allowed, answer.text)

Questions need no network and no terminal; a time is passed in or is now. `propose`, `enact` and `prove` speak to the
live systems of an estate, as the commands do:

    change = enthesis.propose("saltmarsh")
    print(change.proposal.gives, [danger.name for danger in change.proposal.dangers])
    done = enthesis.enact(change, accepted=(), because="the weekly review")

Errors are `EnthesisError` and its subclasses, each with a
`code` of docs/errors.md, a `message` and a `remedy`.
"""

from collections.abc import Collection, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from enthesis.access.answers import Verdict
from enthesis.access.compiling import compile_estate
from enthesis.access.questions import question_of
from enthesis.chains.access_graph import Web
from enthesis.chains.chains import Chains
from enthesis.chains.differences import difference
from enthesis.chains.ends import wanted_permissions
from enthesis.chains.reach import Reached, reachable, reaching
from enthesis.chains.starts import asked_about, must_exist, starts_from
from enthesis.conditions.truth import Value
from enthesis.files.cache import TreeCache
from enthesis.files.field_types import MISSING, Notes
from enthesis.files.folder import packaged_catalogue, read_folder, read_texts
from enthesis.files.sections import SECTIONS
from enthesis.files.yaml_tree import tree_of
from enthesis.model.errors import EnthesisError, InvalidEstate, InvalidInput, NotDecided, Undecided
from enthesis.model.estate import Estate, Trust
from enthesis.model.vocabulary import Ending, Form, VerdictStep
from enthesis.output.lines import rendered
from enthesis.output.progress import Silent
from enthesis.output.verdicts import first_sentence, verdict_json, verdict_lines
from enthesis.surveys.survey import Survey, survey_in
from enthesis.text.nearest import perhaps
from enthesis.trusts.admitting import Admissions
from enthesis.verdicts.pools import answer_of_pool, ending_of

if TYPE_CHECKING:
    from enthesis.change.enacting import Enacted
    from enthesis.change.preparing import Clock, LiveSide, PreparedChange
    from enthesis.live.connecting import Given
    from enthesis.live.proving import Proof

__all__ = [
    "Access", "Answer", "Comparison", "EnthesisError", "Estate", "InvalidEstate", "InvalidInput", "Survey", "admits",
    "ask", "compare", "enact", "parse_estate", "propose", "prove", "reach", "read_estate", "read_survey",
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


def propose(
    folder: str | Path, *, prune: bool = False, store: str | None = None, given: "Given | None" = None
) -> "PreparedChange":
    """What the live side of the estate in a folder lacks, with what making it so does to access, and what is dangerous
    (`proposal.steps`, `.gives`, `.takes`, `.dangers`; `difference`, `unread`). With `prune` what the estate no longer
    describes goes too. `given` says how systems are reached, where no lab runs; `store` is where the history is, where
    that is not the estate's own. Changes nothing.

    Raises InvalidEstate, and LiveFailure where a system cannot be asked.
    """
    from enthesis.change.preparing import prepare  # noqa: PLC0415  loads the connectors
    from enthesis.connectors.http import closing_after  # noqa: PLC0415
    from enthesis.store.journal import journal_of  # noqa: PLC0415

    place = Path(folder)
    estate = read_estate(place)
    clock = _clock_of(estate, place)
    journal = journal_of(place, store)
    with closing(journal), closing_after():
        return prepare(estate, _live_of(estate, place, given, clock, acts=False), journal, clock, prune=prune)


def enact(
    change: "PreparedChange", *, accepted: Collection[str], because: str = "", store: str | None = None,
    given: "Given | None" = None,
) -> "Enacted":  # fmt: skip
    """Carries a proposal out: worked out again first, and refused where it is another one now. `accepted` are the names
    of the dangers that are accepted. Acts as the person who has signed in, with that person's rights.

    Raises InvalidInput where a danger is not accepted, an approval is missing or the live side has moved, RightMissing
    where a right is, Busy where another enactment is under way.
    """
    from enthesis.change.carrying_out import carry_out  # noqa: PLC0415  loads the connectors and the store
    from enthesis.change.proposal_files import AgreedProposal, ready  # noqa: PLC0415
    from enthesis.connectors.http import closing_after  # noqa: PLC0415
    from enthesis.store.journal import journal_of  # noqa: PLC0415

    place = change.live.folder
    estate = read_estate(place)
    clock = _clock_of(estate, place)
    journal = journal_of(place, store)
    with closing(journal), closing_after():
        now = ready(
            estate, lambda: _live_of(estate, place, given, clock, acts=True), journal, clock,
            agreed=AgreedProposal(change.proposal, "this proposal"), prune=bool(change.prune), wait=None,
            new_store=store is None,
        )  # fmt: skip
        return carry_out(now, accepted=accepted, because=because)


def prove(folder: str | Path, names: Sequence[str] = (), *, given: "Given | None" = None) -> "tuple[Proof, ...]":
    """Tries the journeys of an estate on its live systems, all or these: of each its outcome, where it was refused, and
    whether that is as expected (`.met`, `.unmet`). What is tried is put back; sessions are let go of."""
    from enthesis.connectors.http import closing_after  # noqa: PLC0415
    from enthesis.live.proving import prove as tried  # noqa: PLC0415  loads the connectors

    place = Path(folder)
    estate = read_estate(place)
    unknown = next((name for name in names if name not in estate.journeys), None)
    if unknown is not None:
        hint = perhaps(unknown, estate.journeys)
        raise InvalidInput(f"unknown journey {unknown}", code="journey-unknown", remedy=hint)
    journeys = [estate.journeys[name] for name in names or estate.journeys]
    with closing_after():
        clock = _clock_of(estate, place)
        live = _live_of(estate, place, given, clock, acts=False)
        try:
            return tried(estate, journeys, live.connected, clock(), live.reporter)
        finally:
            live.connected.let_go()


def _live_of(estate: Estate, folder: Path, given: "Given | None", clock: "Clock", *, acts: bool) -> "LiveSide":
    from enthesis.change.preparing import live_side  # noqa: PLC0415  loads the connectors
    from enthesis.live.connecting import Given  # noqa: PLC0415

    return live_side(estate, folder, given or Given(), Silent(), clock, acts=acts)


def _clock_of(estate: Estate, folder: Path) -> "Clock":
    """The clock of the live side: a lab's may have been moved."""
    from enthesis.connectors.http import closing_after  # noqa: PLC0415  loads the connectors
    from enthesis.live.clocks import clock_for  # noqa: PLC0415

    def now() -> datetime:
        with closing_after():
            return clock_for(estate, folder).now()

    return now


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

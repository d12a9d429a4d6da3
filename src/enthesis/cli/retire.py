"""`enthesis credential retire`: takes keyed credentials to keyless, step by step, each when it is safe."""

import json
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import Annotated

import typer

from enthesis.chains.differences import difference
from enthesis.change.carrying_out import refuse_unaccepted
from enthesis.change.retiring import after_last_use, deleted, known_of, prove_ways, retiring_dangers, switched
from enthesis.cleaning.cutoff import ending_otherwise
from enthesis.cleaning.retiring import (
    DELETED,
    DISABLED,
    FOLLOWING,
    PLANNED,
    PROVED,
    LiveKeys,
    RetiringBounds,
    Standing,
    acceptances,
    candidates,
    disabled_edits,
    stage_edits,
    standings,
)
from enthesis.cli.arguments import by_clock_of, length_of, now
from enthesis.cli.enacting import AcceptOption, refuse_unknown_dangers
from enthesis.cli.estate_loading import read_estate, say_partial
from enthesis.cli.options import EstateOption, FormatOption, QuietOption
from enthesis.cli.store_options import StoreOption, journal_if_any, signed_in
from enthesis.files.editing import Edit, Removal, edited
from enthesis.files.finding import estate_folder
from enthesis.files.folder import estate_texts, read_folder, read_texts
from enthesis.files.saving import CHANGE_BY_HAND, edit_files, must_read
from enthesis.live.connecting import connect
from enthesis.live.live_survey import survey_now
from enthesis.live.proving import Proof
from enthesis.live.usage_logs import read_usage
from enthesis.model.errors import EnthesisError, InvalidInput, StoppedPartWay, Unreachable
from enthesis.model.escapes import word
from enthesis.model.estate import Estate
from enthesis.output.lines import Line, counted
from enthesis.output.progress import reporter
from enthesis.output.proposals import danger_lines
from enthesis.output.renderers import TEXT, CommandAnswer, is_document, put_answer, put_on_the_way
from enthesis.output.retiring import change_lines, outcome_lines, planned_lines, retiring_json, retiring_lines
from enthesis.output.streams import remark
from enthesis.ports import Connected
from enthesis.proposals.steps import Danger
from enthesis.text.nearest import perhaps
from enthesis.text.times import time_text

DESCRIBED = "the keyless way is described in the files"
STEPS_KEPT = "retiring"  # what the store keeps of the steps that were done
BEFORE = {after: before for before, after in FOLLOWING.items()}


def retire(
    name: Annotated[
        list[str] | None, typer.Argument(metavar="NAME", help="Only these keyed credentials (default: all).")
    ] = None,
    plan: Annotated[
        bool, typer.Option("--plan", help="Mark working keyed credentials as planned for retirement.")
    ] = False,
    following: Annotated[
        bool, typer.Option("--next", help="Show what the next stage does, for all that are ready; --yes does it.")
    ] = False,
    back: Annotated[bool, typer.Option("--back", help="Show what undoing one stage does; --yes undoes it.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do it; without this it is only shown.")] = False,
    accept: AcceptOption = None,
    idle: Annotated[
        str, typer.Option("--idle", metavar="DURATION", help="Disable keys that were not used for this long.")
    ] = "14d",
    keep: Annotated[
        str, typer.Option("--keep", metavar="DURATION", help="Delete keys that were disabled for this long.")
    ] = "30d",
    usage: Annotated[
        list[Path] | None,
        typer.Option("--usage", metavar="FILE", help="A log of recorded use, which says what each key did."),
    ] = None,
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
    store: StoreOption = None,
) -> None:
    """Take keyed credentials to keyless, stage by stage, and show where each one stands.

    The stages are planned, keyless (in place live), proved (tried live), idle (not used since), disabled and deleted;
    they stand in the estate under `retiring`. The keyless way is the narrowest for what holds the key; where its
    identity also does other work, the holder gets an identity of its own. A key that was used since its keyless way was
    proved is never disabled. --back undoes the last step, as long as the key was not deleted.

    Needs the right to read; `issue` on the identity to disable and delete. Exit 1 where a step is shown and not done.
    """
    if sum((plan, following, back)) > 1:
        raise InvalidInput(
            "--plan, --next and --back exclude each other", code="options-conflict", remedy="one of them"
        )
    folder = estate_folder(estate)
    described = read_estate(folder)
    by_clock_of(described, folder)
    _refuse_unknown(described, name or [])
    bounds = RetiringBounds(_length("--idle", idle), _length("--keep", keep))
    refuse_unknown_dangers(accept or ())
    work = _RetireRun(folder, described, output, store, tuple(accept or ()), quiet=quiet)
    with suppress(Unreachable):
        work.connected = connect(described, folder)
    work.look(name or [], bounds, usage or [])
    if plan:
        work.plan(name or [], yes=yes)
    elif following:
        work.next(yes=yes)
    elif back:
        work.back(yes=yes)
    else:
        facts = CommandAnswer(
            lambda: retiring_json(described.name, work.found, work.others),
            lambda: retiring_lines(described.name, work.found, work.others),
        )
        put_answer(output, facts)


def _length(option: str, text: str) -> timedelta:
    """A length of time; `0s` is zero."""
    return timedelta(0) if text == "0s" else length_of(option, text)


ACCEPTED_FOR = timedelta(days=30)


def _refuse_unknown(described: Estate, names: Sequence[str]) -> None:
    for name in names:
        if name not in described.credentials and name not in described.retiring:
            hint = perhaps(name, described.credentials)
            raise InvalidInput(
                f"no such keyed credential: {name}", code="credential-unknown", remedy=hint or "enthesis credential"
            )


@dataclass
class _RetireRun:
    """One run: what was found, and what is done about it."""

    folder: Path
    described: Estate
    output: str
    store: str | None
    accepted: tuple[str, ...]
    quiet: bool = False
    connected: Connected | None = None
    found: list[Standing] = field(default_factory=list)
    others: list[str] = field(default_factory=list)
    known: LiveKeys | None = None
    began: datetime | None = None  # when the proofs of this run began

    def look(self, names: Sequence[str], bounds: RetiringBounds, logs: Sequence[Path]) -> None:
        """Finds where they stand. The live side is surveyed where a keyless way is to be looked for there."""
        described = self.described
        asked = list(names) or list(described.retiring)
        whole = any(described.retiring[name].stage == PLANNED for name in asked if name in described.retiring)
        log = read_usage(logs, described, now(), chains=True) if logs else None
        survey = None
        if whole and self.connected is not None:
            survey = survey_now(described, self.folder, now(), reporter(quiet=self.quiet))
            say_partial(survey, described)
        self.known = known_of(described, now(), bounds, self.connected, log, survey)
        self.found = standings(described, asked, self.known)
        self.others = candidates(described, self.known)

    @property
    def sure(self) -> LiveKeys:
        if self.known is None:
            raise InvalidInput("nothing was looked at", code="argument-missing")
        return self.known

    # -- forward ------------------------------------------------------------------------------------------------

    def plan(self, names: Sequence[str], *, yes: bool) -> None:
        """Writes down that credentials are to go."""
        wanted = [name for name in names or self.others if name not in self.described.retiring]
        edits = [edit for name in wanted for edit in stage_edits(self.described, name, PLANNED, now())]
        if yes and wanted:
            self._write(edits)
            self._keep(dict.fromkeys(wanted, "planned"))
        facts = {"estate": self.described.name, "planned": wanted, "written": yes and bool(wanted)}
        put_answer(
            self.output, CommandAnswer(lambda: facts, lambda: planned_lines(self.described.name, wanted, written=yes))
        )
        if not is_document(self.output):
            self._offer(wanted)
        if wanted and not yes:
            remark("Nothing was written: add --yes to write it.", quiet=self.quiet)
            raise typer.Exit(1)
        remark("Now: enthesis credential retire --next", quiet=self.quiet or not wanted)

    def _offer(self, names: Sequence[str]) -> None:
        """The lines by which invariants that these keys break are lived with until they are gone."""
        lines = acceptances(self.described, names, now(), now() + ACCEPTED_FOR)
        if lines:
            remark("Invariants are broken by way of these keys; to accept that until they are gone:", quiet=self.quiet)
        for one in lines:
            remark(f"  accepted: [{one.line().removeprefix('- ')}]", quiet=self.quiet)

    def next(self, *, yes: bool) -> None:
        """The next step of each that is ready."""
        ready = [standing for standing in self.found if standing.ready]
        edits = [edit for standing in ready for edit in self._edits(standing)]
        found = self._dangers([standing for standing in ready if standing.to in (DISABLED, DELETED)])
        if not self._shown(edits, [standing.name for standing in ready], found, yes=yes):
            return
        refuse_unaccepted(found, self.accepted)
        done: dict[str, str] = {}
        failed: dict[str, str] = {}
        written: list[Edit] = []
        try:
            proofs = self._proofs([standing for standing in ready if standing.to == PROVED])
            tell = reporter(quiet=self.quiet)
            tell.begin("retiring", len(ready))
            try:
                for standing in ready:
                    tell.step(standing.name)
                    why = self._tried(standing, proofs.get(standing.name, []))
                    if why:
                        failed[standing.name] = why
                    else:
                        done[standing.name] = DESCRIBED if standing.edits else f"now {standing.to}"
                        written += self._edits(standing)
            finally:
                tell.end()
        finally:
            self._write(written)
            self._keep(done)
        self._ended(done, failed)

    def _dangers(self, switching: Sequence[Standing]) -> tuple[Danger, ...]:
        """What is dangerous in the steps that change the live side."""
        if not switching:
            return ()
        person = signed_in(self.described, self.folder)
        after = self._after([edit for standing in switching for edit in self._edits(standing)])
        by = person.person if person is not None else ""
        return retiring_dangers(self.described, after, switching, by, now())

    def _edits(self, standing: Standing) -> list[Edit]:
        """What is written into the files when a step is done."""
        at = now()
        if standing.edits:
            return list(standing.edits)
        more = {"proved": time_text(self.began or at)} if standing.to == PROVED else {}
        edits = stage_edits(self.described, standing.name, standing.to, at, **more)
        return edits + (disabled_edits(self.described, standing.name, disabled=True) if standing.to == DISABLED else [])

    def _proofs(self, ones: Sequence[Standing]) -> dict[str, list[Proof]]:
        if not ones or self.connected is None:
            return {}
        self.began = after_last_use(ones, self.sure, now)
        try:
            return prove_ways(self.described, ones, self.connected, now(), reporter(quiet=self.quiet))
        finally:
            self.connected.let_go()

    def _tried(self, standing: Standing, proofs: Sequence[Proof]) -> str:
        """Does what a step does on the live side; why it is not done, '' where it is."""
        if standing.to == PROVED:
            if not proofs:
                return "nothing was tried: no use of it is known that its keyless way could do (give a log of usage)"
            unmet = next((proof for proof in proofs if not proof.met), None)
            if unmet is not None:
                return f"{unmet.journey}: {'; '.join(unmet.unmet) or unmet.outcome} ({unmet.evidence[-1].said})"
        if self.connected is None or standing.to not in (DISABLED, DELETED):
            return ""
        try:
            if standing.to == DISABLED:
                return switched(self.described, standing, self.connected, self.sure, disabled=True)
            deleted(self.described, standing, self.connected)
        except EnthesisError as fault:
            return fault.message
        return ""

    # -- back ---------------------------------------------------------------------------------------------------

    def back(self, *, yes: bool) -> None:
        """One step back for each that was asked about."""
        gone = [standing.name for standing in self.found if standing.stage == DELETED]
        if gone:
            raise InvalidInput(
                f"{', '.join(gone)}: deleted, so there is nothing to go back to",
                code="credential-deleted",
                remedy=f"enthesis credential create {word(gone[0])} --of IDENTITY makes a new one",
            )
        moving = [standing for standing in self.found if standing.stage]
        edits = [edit for standing in moving for edit in self._edits_back(standing)]
        if not self._shown(edits, [standing.name for standing in moving], (), yes=yes):
            return
        done: dict[str, str] = {}
        failed: dict[str, str] = {}
        written: list[Edit] = []
        try:
            for standing in moving:
                try:
                    if standing.stage == DISABLED:
                        if self.connected is None:
                            raise Unreachable("no live system was asked", code="lab-not-running")
                        switched(self.described, standing, self.connected, self.sure, disabled=False)
                    done[standing.name] = (
                        f"back to {BEFORE[standing.stage]}"
                        if standing.stage != PLANNED
                        else "no longer on its way to keyless"
                    )
                    written += self._edits_back(standing)
                except EnthesisError as fault:
                    failed[standing.name] = fault.message
        finally:
            self._write(written)
            self._keep(done)
        self._ended(done, failed)

    def _edits_back(self, standing: Standing) -> list[Edit]:
        if standing.stage == PLANNED:
            at = read_folder(self.folder).named_at["retiring", standing.name]
            return [Removal.at(at)]
        more = {"proved": None} if standing.stage == PROVED else {}
        edits = stage_edits(self.described, standing.name, BEFORE[standing.stage], now(), **more)
        return edits + (
            disabled_edits(self.described, standing.name, disabled=False) if standing.stage == DISABLED else []
        )

    # -- both ---------------------------------------------------------------------------------------------------

    def _shown(self, edits: Sequence[Edit], names: Sequence[str], found: Sequence[Danger], *, yes: bool) -> bool:
        """Shows where all stand and what the steps do to access; whether they are to be done."""
        after = self._after(edits)
        change = difference(self.described, after, now().timestamp())
        fails = [end.journey for end in ending_otherwise(self.described, after, now()) if not end.met]

        def text() -> Iterator[Line]:
            if not (yes and self.quiet):
                yield from retiring_lines(self.described.name, self.found, self.others)
                yield from (*change_lines(change, fails), *danger_lines(found)) if names else ()

        foretold = CommandAnswer(
            lambda: retiring_json(
                self.described.name, self.found, self.others, change, {} if yes else None, fails=() if yes else fails
            ),
            text,
        )
        put_on_the_way(self.output, foretold, last=not yes or not names)
        if not names:
            remark("Nothing to do now.", quiet=self.quiet)
            return False
        if not yes:
            remark(f"Nothing was done: add --yes to do it for {counted(len(names), 'credential')}.", quiet=self.quiet)
            raise typer.Exit(1)
        return True

    def _after(self, edits: Sequence[Edit]) -> Estate:
        """The estate as the files will say it."""
        try:
            after = read_texts(edited(estate_texts(self.folder), edits)).estate
        except ValueError as fault:
            raise InvalidInput(
                f"the files are not edited: {fault}", code="file-not-editable", remedy=CHANGE_BY_HAND
            ) from None
        return after or self.described

    def _write(self, edits: Sequence[Edit]) -> None:
        if edits:
            for file in edit_files(self.folder, edits, must_read, CHANGE_BY_HAND):
                remark(f"Written into {file}.", quiet=self.quiet)

    def _keep(self, done: dict[str, str]) -> None:
        """Into the history, where there is one: who did which step when."""
        journal = journal_if_any(self.folder, self.store) if done else None
        if journal is None:
            return
        person = signed_in(self.described, self.folder)
        said = {"by": person.person if person is not None else "unknown", "at": time_text(now()), "steps": done}
        try:
            journal.keep(STEPS_KEPT, self.described.name, json.dumps(said).encode())
        finally:
            journal.close()

    def _ended(self, done: dict[str, str], failed: dict[str, str]) -> None:
        put_answer(
            self.output,
            CommandAnswer(
                lambda: retiring_json(self.described.name, self.found, self.others, None, {**done, **failed}),
                lambda: outcome_lines(done, failed),
            ),
        )
        if DESCRIBED in done.values():
            remark(
                "Now: enthesis propose, enthesis enact, and then enthesis credential retire --next", quiet=self.quiet
            )
        if failed:
            raise StoppedPartWay(
                f"{counted(len(failed), 'credential')} not taken to the next stage",
                code="stopped-part-way",
                remedy="enthesis credential retire shows where each stands",
            )

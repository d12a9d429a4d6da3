"""Prepares a change of access: the steps to what an estate describes, what they do to access, and what is dangerous."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from enthesis.chains.differences import Difference
from enthesis.chains.sentences import gain_sentences
from enthesis.files.writing import estate_digest
from enthesis.live.connecting import Given, connect
from enthesis.live.surveying import survey
from enthesis.model.estate import Estate
from enthesis.ports import Connected, Reporter, Right, SaysWhoRemoved
from enthesis.proposals.dangers import dangers
from enthesis.proposals.drift import Drift, drift
from enthesis.proposals.effects import access_change, between, closings, in_stages, openings, without_accepted
from enthesis.proposals.proposing import propose
from enthesis.proposals.rules import ChangeRule, loosened, rule_of
from enthesis.proposals.steps import Proposal, Step
from enthesis.surveys.statements import Surveyed
from enthesis.surveys.unread import Unread, systems_not_read

if TYPE_CHECKING:
    from enthesis.live.kept_sign_in import SignIn
    from enthesis.store.journal import Journal

Clock = Callable[[], datetime]


@dataclass(frozen=True)
class LiveSide:
    """The live systems of the estate in a folder, and the person who acts there, where one has signed in."""

    folder: Path
    connected: Connected
    person: "SignIn | None"
    reporter: Reporter

    @property
    def by(self) -> str:
        """The address of that person; '' where nobody has signed in."""
        return self.person.person if self.person is not None else ""

    def surveyed(self, estate: Estate) -> tuple[Surveyed, ...]:
        """What the live systems have now."""
        return survey(estate, self.connected, self.reporter)


def live_side(estate: Estate, folder: Path, given: Given, reporter: Reporter, clock: Clock, *, acts: bool) -> LiveSide:
    """The live systems of an estate, as `given` reaches them, and who has signed in; where that person `acts`, systems
    are changed with that person's rights."""
    from enthesis.live.device_sign_in import signed_in  # noqa: PLC0415  loads the libraries of tokens

    person = signed_in(estate, folder, clock())
    acting = person.secret if person is not None and acts else None
    return LiveSide(folder, connect(estate, folder, replace(given, acting=acting)), person, reporter)


@dataclass(frozen=True)
class PreparedChange:
    """A proposal with what it was made from, what it does to access (`difference`), and what of the live side was not
    looked at. `rule` is how the estate has access changed, `last_rule` how it was when it was last enacted (None where
    that is not known). `prune` is None where it is not the whole difference between an estate and the live side."""

    estate: Estate
    live: LiveSide
    clock: Clock
    proposal: Proposal
    surveys: tuple[Surveyed, ...]
    rule: ChangeRule
    last_rule: ChangeRule | None = None
    difference: Difference = Difference((), ())
    unread: tuple[Unread, ...] = ()
    prune: bool | None = None

    @property
    def loosens(self) -> bool:
        """Whether it makes the rule ask for less than the one that was last enacted: a change to all that the estate
        describes alone does."""
        return self.prune is not None and bool(_loosened(self.last_rule, self.rule))

    def still_safe(self, done: Sequence[Step], coming: Sequence[Step]) -> bool:
        """Whether steps may still be done where others of the proposal were not: nothing is open then that is shut
        both before and after all of it."""
        judged = between(self.estate, self.proposal.steps, self.surveys, self.clock().timestamp())
        found = judged([*done, *coming])
        return not (found.opens or found.undecided)

    def rights(self) -> dict[str, list[Right]]:
        """The rights that the survey needed, and the steps will, by system."""
        out: dict[str, list[Right]] = {}
        for surveyed in self.surveys:
            its = [step for step in self.proposal.steps if step.provider == surveyed.provider]
            system = self.live.connected.administered[surveyed.provider]
            out[surveyed.provider] = list(dict.fromkeys(system.rights(surveyed.holders, its)))
        return out


def prepare(
    estate: Estate, live: LiveSide, journal: "Journal | None", clock: Clock, *, prune: bool = False
) -> PreparedChange:
    """The change to what an estate describes, with what others changed since its journal says that it was enacted;
    with `prune` what it no longer describes goes too."""
    surveys = live.surveyed(estate)
    objections = {name: one.objection for name, one in live.connected.administered.items()}
    proposal = propose(estate, surveys, prune=prune, objections=objections, now=clock())
    unread = tuple(systems_not_read(dict.fromkeys(proposal.aside, ()), ()))
    proposal = without_accepted(estate, proposal, clock())
    found = _drift_since(journal, estate, live, surveys)
    proposal = replace(proposal, changed_since=found.changed, gone_since=found.gone)
    last = journal.last_rule(estate.name) if journal is not None else None
    ways = _loosened(last, rule_of(estate))
    return replace(prepared_steps(estate, live, last, clock, proposal, surveys, ways), unread=unread, prune=prune)


def prepared_steps(
    estate: Estate, live: LiveSide, last_rule: ChangeRule | None, clock: Clock, proposal: Proposal,
    surveys: tuple[Surveyed, ...], ways: Sequence[str] = (),
) -> PreparedChange:  # fmt: skip
    """These steps as a change: in stages, with what they do to access, what others have opened, and the dangers. `ways`
    are those in which the rule for changes asks for less from then on."""
    moment = clock()
    staged = in_stages(estate, proposal, surveys, moment.timestamp())
    change = access_change(estate, staged, surveys, moment.timestamp())
    gives, takes = (tuple(gain_sentences(gains)) for gains in (change.gains, change.losses))
    told = replace(
        staged,
        gives=gives,
        takes=takes,
        openings=openings(estate, staged, surveys, moment),
        closings=closings(estate, staged, surveys, moment),
        dangers=dangers(estate, staged, surveys, change, live.by, ways),
        author=live.by,
        described_by=estate_digest(estate),
    )
    return PreparedChange(estate, live, clock, told, surveys, rule_of(estate), last_rule, change)


def _loosened(last: ChangeRule | None, rule: ChangeRule) -> tuple[str, ...]:
    """In which ways a rule asks for less than the last one; none where that is not known."""
    return tuple(loosened(last, rule)) if last is not None else ()


def _drift_since(journal: "Journal | None", estate: Estate, live: LiveSide, surveys: Sequence[Surveyed]) -> Drift:
    """What others changed since the last enactment; nothing where there was none."""
    if journal is None:
        return Drift()

    def who_removed(step: Step, identifier: str) -> str:
        system = live.connected.providers.get(step.provider)
        if not isinstance(system, SaysWhoRemoved):
            return ""
        return system.removed_by(step.collection, step.holder, identifier)

    return drift(journal.left(estate.name), surveys, who_removed)

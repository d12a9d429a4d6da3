"""What commands that change access share: how dangers are accepted, and how what came of it is told."""

import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Annotated

import typer

from enthesis.change.carrying_out import PermittedChange, Sending, refuse_unaccepted
from enthesis.change.enacting import Enacted
from enthesis.change.preparing import PreparedChange
from enthesis.cli.arguments import now
from enthesis.cli.interrupts import on_interrupt
from enthesis.model.errors import InvalidInput, StoppedPartWay
from enthesis.output.enactments import (
    enacted_json,
    enacted_lines,
    enacted_sentence,
)
from enthesis.output.proposals import danger_lines, proposal_lines
from enthesis.output.renderers import CommandAnswer, put_answer
from enthesis.output.streams import put_lines
from enthesis.proposals.dangers import DANGERS
from enthesis.text.nearest import perhaps
from enthesis.text.times import duration_from, time_text

AcceptOption = Annotated[
    list[str] | None, typer.Option("--accept", metavar="DANGER", help="Accept this danger, which is named when shown.")
]
PatienceOption = Annotated[
    str,
    typer.Option(
        "--patience", metavar="DURATION", help="Wait for slow systems, and retry failures, for up to this long."
    ),
]


@dataclass(frozen=True)
class EnactRequest:
    """How a change is asked for, whatever is carried out."""

    output: str
    quiet: bool
    yes: bool
    accept: tuple[str, ...]
    because: str
    sending: Sending


def refuse_unknown_dangers(accepted: Sequence[str]) -> None:
    """InvalidInput where an accepted name is not the name of a danger."""
    if unknown := set(accepted) - DANGERS.keys():
        name = sorted(unknown)[0]
        raise InvalidInput(
            f"--accept {name}: no such danger",
            code="danger-unknown",
            remedy=perhaps(name, DANGERS, "one of " + ", ".join(DANGERS)),
        )


def accepted_dangers(change: PermittedChange, asked: EnactRequest) -> tuple[str, ...]:
    """Shows what will be done, and continues once that and each danger in it is accepted: by name."""
    if not change.does_something:
        return asked.accept
    put_lines(danger_lines(change.dangers) if asked.yes else proposal_lines(change.prepared.proposal), to_error=True)
    if not sys.stdin.isatty():
        if not asked.yes:
            raise InvalidInput(
                "no terminal is attached for the question", code="nobody-to-ask", remedy="review it, then add --yes"
            )
        refuse_unaccepted(change.dangers, asked.accept)
        return asked.accept
    waiting = [danger.name for danger in change.dangers if danger.name not in asked.accept]
    for name in waiting:
        typer.confirm(f"{DANGERS[name].capitalize()}. Accept {name}?", abort=True, err=True)
    if not asked.yes:
        typer.confirm("Carry this out?", abort=True, err=True)
    return (*asked.accept, *waiting)


def put_enacted(prepared: PreparedChange, asked: EnactRequest, work: Callable[[], Enacted], *, undone: bool) -> None:
    """Carries a change out, and says what came of it. StoppedPartWay where something is left."""
    on_interrupt("steps that were under way have ended; enthesis enact --resume goes on")
    enacted = work()
    if enacted.interrupted:
        raise KeyboardInterrupt
    on_interrupt("")
    proposal, live = prepared.proposal, prepared.live
    after = replace(proposal, steps=enacted.left)
    lives = {name: duration_from(life) for name, life in proposal.lives_on} if enacted.of("done") else {}
    ends = {name: time_text(now() + life) for name, life in lives.items() if life is not None}
    put_answer(
        asked.output,
        CommandAnswer(
            lambda: {"spoke_to": live.connected.spoke_to, **enacted_json(enacted, after, ends)},
            lambda: enacted_lines(enacted, after, ends, undone=undone, quiet=asked.quiet),
        ),
        beside=f"Enacted at {live.connected.spoke_to}{', as ' + live.by if live.by else ''}.",
        quiet=asked.quiet,
    )
    if enacted.steps and not enacted.whole:
        resumable = bool(enacted.late or enacted.of("sent", "waiting"))
        remedy = "enthesis enact --resume" if resumable else "enthesis propose, and read what is different now"
        said = enacted_sentence(enacted, after).rstrip(".")
        raise StoppedPartWay(said[:1].lower() + said[1:], code="stopped-part-way", remedy=remedy)

"""`enthesis enact`: carries a proposal out."""

import json
import sys
from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from enthesis.cli.options import ContextOption, EstateOption, Format, FormatOption, KubeconfigOption, QuietOption
from enthesis.cli.propose import proposed
from enthesis.cli.questions import now
from enthesis.cli.subjects import read_estate
from enthesis.files.finding import estate_folder
from enthesis.files.saving import read_file
from enthesis.files.shapes import duration_from, perhaps, time_text
from enthesis.live.connecting import Given
from enthesis.live.enacting import enact as carry_out
from enthesis.live.enacting import left_to_do, refuse_if_different
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.output.lines import Span, counted, line
from enthesis.output.progress import reporter
from enthesis.output.proposals import danger_lines, proposal_lines
from enthesis.output.streams import put_json, put_lines, remark
from enthesis.proposals.dangers import DANGERS
from enthesis.proposals.steps import REMOVE, Proposal, proposal_from


def enact(
    file: Annotated[
        Path | None, typer.Argument(metavar="[PROPOSAL]", help="A file that `propose --out` wrote.")
    ] = None,
    kubeconfig: KubeconfigOption = None,
    context: ContextOption = None,
    estate: EstateOption = None,
    output: FormatOption = Format.TEXT,
    quiet: QuietOption = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask; dangers need --accept.")] = False,
    prune: Annotated[bool, typer.Option("--prune", help="Also remove what the estate no longer describes.")] = False,
    accept: Annotated[
        list[str] | None, typer.Option("--accept", metavar="DANGER", help="A danger that `propose` names; repeat it.")
    ] = None,
) -> None:
    """Carry out a proposal, or propose, show and ask.

    Needs, for each account that changes, the right to change access in it. A proposal from a file is worked out
    again, and refused where the estate and the live side do not make the same one now. Interrupted, it can be run
    again.

    Example: enthesis enact proposal.json
    """
    folder = estate_folder(estate)
    given = Given(kubeconfig=kubeconfig, context=context)
    if unknown := set(accept or ()) - DANGERS.keys():
        name = sorted(unknown)[0]
        raise InvalidInput(
            f"--accept {name}: no danger is called so",
            code="danger-unknown",
            remedy=perhaps(name, DANGERS, "one of " + ", ".join(DANGERS)),
        )
    read = _read(file, read_estate(folder), prune=prune) if file is not None else None
    goes = prune or (read is not None and any(step.action == REMOVE for step in read.steps))
    proposal, surveys, connected, _ = proposed(folder, given, prune=goes, quiet=quiet)
    if read is not None:
        refuse_if_different(read, proposal, surveys)
        proposal = replace(read, dangers=proposal.dangers, lives_on=proposal.lives_on or read.lives_on)
    if left_to_do(proposal, surveys):
        _ask(proposal, accept or [], yes=yes)
    enacted = carry_out(proposal, surveys, connected, reporter(quiet=quiet))
    if output is Format.JSON:
        done = {"done": list(enacted.done), "found_done": list(enacted.found_done)}
        put_json({"spoke_to": connected.spoke_to, "estate": proposal.estate, **done, "lives_on": _ends(proposal)})
    else:
        lines = [line(Span(_sentence(len(enacted.done), len(enacted.found_done)), "strong"))]
        lines += [line("  ", sentence) for sentence in enacted.done if not quiet]
        if proposal.blocked:
            lines.append(line(f"{counted(len(proposal.blocked), 'statement')} cannot be done yet; propose says why."))
        for name, until in (_ends(proposal) if enacted.done else {}).items():
            lines.append(line(f"Sessions as {name} that are out already live on until {until} at the latest."))
        put_lines(lines)
        remark(f"Enacted at {connected.spoke_to}.", quiet=quiet)


def _read(file: Path, described: Estate, *, prune: bool) -> Proposal:
    """The proposal in a file; InvalidInput where it holds none for this estate."""
    if prune:
        raise InvalidInput(
            "--prune belongs to the proposal",
            code="options-conflict",
            remedy="propose --prune --out FILE, then enact FILE",
        )
    try:
        proposal = proposal_from(json.loads(read_file(file)))
    except (ValueError, RecursionError) as fault:
        raise InvalidInput(f"{file}: {fault}", code="proposal-invalid") from None
    if proposal.estate != described.name:
        raise InvalidInput(
            f"{file} is a proposal for the estate {proposal.estate}, and this one is {described.name}",
            code="proposal-of-another-estate",
        )
    return proposal


def _ask(proposal: Proposal, accepted: list[str], *, yes: bool) -> None:
    """Shows what will be done, and goes on once that and each danger in it is accepted."""
    put_lines(danger_lines(proposal.dangers) if yes else proposal_lines(proposal), to_error=True)
    waiting = [danger.name for danger in proposal.dangers if danger.name not in accepted]
    if not sys.stdin.isatty():
        if not yes:
            raise InvalidInput("nobody is here to ask", code="nobody-to-ask", remedy="look at it, then say --yes")
        if waiting:
            more = " ".join(f"--accept {name}" for name in waiting)
            raise InvalidInput(
                f"this is dangerous, and not accepted: {', '.join(waiting)}", code="danger-not-accepted", remedy=more
            )
    for name in waiting:
        typer.confirm(f"{DANGERS[name].capitalize()}. Accept {name}?", abort=True, err=True)
    if not yes:
        typer.confirm("Carry this out?", abort=True, err=True)


def _ends(proposal: Proposal) -> dict[str, str]:
    """Until when sessions can live on that were got before trust was taken away."""
    lives = {name: duration_from(life) for name, life in proposal.lives_on}
    return {name: time_text(now() + life) for name, life in lives.items() if life is not None}


def _sentence(done: int, before: int) -> str:
    if not done and not before:
        return "Nothing was to be done."
    earlier = f", {before} were done already" if before else ""
    return f"Done: {counted(done, 'statement')}{earlier}."

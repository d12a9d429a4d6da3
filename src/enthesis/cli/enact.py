"""`enthesis enact`: carries a proposal out."""

import json
import sys
from pathlib import Path
from typing import Annotated

import typer

from enthesis.cli.options import ContextOption, EstateOption, Format, FormatOption, KubeconfigOption, QuietOption
from enthesis.cli.propose import proposed
from enthesis.cli.questions import now
from enthesis.cli.subjects import read_estate
from enthesis.files.finding import estate_folder
from enthesis.files.saving import read_file
from enthesis.files.shapes import duration_from, time_text
from enthesis.live.connecting import Given, connect
from enthesis.live.enacting import enact as carry_out
from enthesis.live.surveying import survey
from enthesis.model.errors import InvalidInput
from enthesis.output.lines import Span, counted, line
from enthesis.output.progress import reporter
from enthesis.output.proposals import proposal_lines
from enthesis.output.streams import put_json, put_lines, remark
from enthesis.proposals.steps import Proposal, proposal_from


def enact(
    file: Annotated[
        Path | None, typer.Argument(metavar="[PROPOSAL]", help="A file that `propose --out` wrote.")
    ] = None,
    kubeconfig: KubeconfigOption = None,
    context: ContextOption = None,
    estate: EstateOption = None,
    output: FormatOption = Format.TEXT,
    quiet: QuietOption = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
    prune: Annotated[bool, typer.Option("--prune", help="Also remove what the estate no longer describes.")] = False,
) -> None:
    """Carry out a proposal, or propose, show and ask.

    Needs, for each account that changes, the right to change access in it. Refuses a proposal that the live side
    has moved away from (exit 1). Interrupted, it can be run again.

    Example: enthesis enact proposal.json
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    given = Given(kubeconfig=kubeconfig, context=context)
    proposal: Proposal
    if file is not None:
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
        connected = connect(described, folder, given)
        surveys = survey(described, connected, reporter(quiet=quiet))
    else:
        proposal, surveys, connected, _ = proposed(folder, given, prune=prune, quiet=quiet)
        if proposal.steps and not yes:
            if not sys.stdin.isatty():
                raise InvalidInput(
                    "nobody is here to ask", code="nobody-to-ask", remedy="say --yes, or name a proposal file"
                )
            put_lines(proposal_lines(proposal), to_error=True)
            typer.confirm("Carry this out?", abort=True, err=True)
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


def _ends(proposal: Proposal) -> dict[str, str]:
    """Until when sessions can live on that were got before trust was taken away."""
    lives = {name: duration_from(life) for name, life in proposal.lives_on}
    return {name: time_text(now() + life) for name, life in lives.items() if life is not None}


def _sentence(done: int, before: int) -> str:
    if not done and not before:
        return "Nothing was to be done."
    earlier = f", {before} were done already" if before else ""
    return f"Done: {counted(done, 'statement')}{earlier}."

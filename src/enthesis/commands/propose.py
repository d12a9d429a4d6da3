"""`enthesis propose`: what would change on the live side, in what order, and what that gives and takes."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.commands.common import (
    EstateOption,
    Format,
    FormatOption,
    QuietOption,
    estate_folder,
    put_json,
    put_lines,
    read_estate,
    remark,
    write_file,
)

if TYPE_CHECKING:
    from enthesis.changing.live import Surveyed
    from enthesis.changing.steps import Proposal
    from enthesis.ports import Connected


def propose(
    estate: EstateOption = None,
    output: FormatOption = Format.TEXT,
    quiet: QuietOption = False,
    out: Annotated[Path | None, typer.Option("--out", metavar="FILE", help="Also write the proposal, as JSON.")] = None,
    prune: Annotated[bool, typer.Option("--prune", help="Also remove what the estate no longer describes.")] = False,
    expect_none: Annotated[bool, typer.Option("--expect-none", help="Exit 1 where anything is to be done.")] = False,
) -> None:
    """Compare the live side with the estate, and say what would change.

    Needs, for each of our accounts, the right to read its statements about access. Changes nothing. Only what
    Enthesis made for this estate would ever be altered or removed.

    Example: enthesis propose --out proposal.json
    """
    proposal, _, connected = proposed(estate_folder(estate), prune=prune, quiet=quiet)
    if out is not None:
        from enthesis.showing.lines import json_text

        write_file(out, json_text(proposal.as_json()).encode() + b"\n")
    if output is Format.JSON:
        put_json({"spoke_to": connected.spoke_to, **proposal.as_json()})
    else:
        from enthesis.showing.proposals import proposal_lines

        put_lines(proposal_lines(proposal))
        remark(f"Surveyed at {connected.spoke_to}.", quiet=quiet)
    if expect_none and not (proposal.nothing_to_do and not proposal.left):
        raise typer.Exit(1)


def proposed(folder: Path, *, prune: bool, quiet: bool) -> "tuple[Proposal, tuple[Surveyed, ...], Connected]":
    """The proposal for the estate in a folder, the surveys behind it, and what was spoken to."""
    from enthesis.changing.proposing import propose as compare
    from enthesis.commands.wiring import connect
    from enthesis.showing.progress import reporter
    from enthesis.working.surveying import survey

    described = read_estate(folder)
    connected = connect(described, folder)
    surveys = survey(described, connected, reporter(quiet=quiet))
    return compare(described, surveys, prune=prune), surveys, connected

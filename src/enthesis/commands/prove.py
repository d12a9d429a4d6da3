"""`enthesis prove`: runs journeys with real credentials, the ones that must fail too."""

from pathlib import Path
from typing import Annotated

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


def prove(
    names: Annotated[list[str] | None, typer.Argument(metavar="[JOURNEY]...", help="Only these; default: all.")] = None,
    estate: EstateOption = None,
    output: FormatOption = Format.TEXT,
    quiet: QuietOption = False,
    junit: Annotated[Path | None, typer.Option("--junit", metavar="FILE", help="Also write JUnit XML.")] = None,
) -> None:
    """Try every journey with real credentials, and say whether it ended as expected.

    Needs no right of our own: each journey uses its workload's. What is written is put back. A refusal meets an
    expectation only where access was refused; whatever could not be tried is unmet. Exit 1 where anything is.

    Example: enthesis prove publish-from-main
    """
    from enthesis.commands.wiring import connect
    from enthesis.errors import Mistaken
    from enthesis.reading.shapes import nearest
    from enthesis.showing.progress import reporter
    from enthesis.showing.proofs import first_sentence, junit_xml, proof_lines
    from enthesis.working.proving import prove as run

    folder = estate_folder(estate)
    described = read_estate(folder)
    for name in names or ():
        if name not in described.journeys:
            close = nearest(name, described.journeys)
            raise Mistaken(f"no journey is called {name}", remedy=f"perhaps {' or '.join(close)}" if close else "")
    connected = connect(described, folder)
    chosen = [journey for journey in described.journeys.values() if not names or journey.name in names]
    proofs = run(described, chosen, connected, reporter(quiet=quiet))
    if junit is not None:
        write_file(junit, junit_xml(described.name, proofs))
    if output is Format.JSON:
        results = [proof.as_json() for proof in proofs]
        put_json(
            {
                "estate": described.name,
                "spoke_to": connected.spoke_to,
                "says": first_sentence(proofs),
                "journeys": results,
            }
        )
    else:
        put_lines(proof_lines(proofs))
        remark(f"Tried at {connected.spoke_to}.", quiet=quiet)
    if not all(proof.met for proof in proofs):
        raise typer.Exit(1)

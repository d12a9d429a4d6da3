"""`enthesis check`: reads the estate and says what is wrong with it."""

from typing import Annotated

import typer

from enthesis.commands.common import (
    EstateOption,
    Format,
    FormatOption,
    QuietOption,
    cache_folder,
    estate_folder,
    put_json,
    put_lines,
    remark,
)


def check(
    estate: EstateOption = None,
    output: FormatOption = Format.TEXT,
    quiet: QuietOption = False,
    schema: Annotated[bool, typer.Option("--schema", help="Print the JSON Schema of an estate's files.")] = False,
) -> None:
    """Read the estate: every mistake, with its line.

    Needs no live system and no rights. Exit 0 where the estate can be used, 2 where it has mistakes.

    Example: enthesis check --estate ./saltmarsh
    """
    if schema:
        from enthesis.reading.sections import schema as json_schema

        put_json(json_schema())
        return
    from enthesis.reading.folder import read_folder
    from enthesis.showing.estates import estate_json, estate_lines
    from enthesis.showing.mistakes import mistake_json, mistake_lines

    reading = read_folder(estate_folder(estate), cache=cache_folder())
    if output is Format.JSON:
        mistakes = [mistake_json(mistake) for mistake in reading.mistakes]
        described = estate_json(reading.estate) if reading.estate else {}
        put_json(
            {"usable": reading.estate is not None, "files": list(reading.files), **described, "mistakes": mistakes}
        )
    elif reading.estate is None:
        put_lines(mistake_lines(reading.mistakes))
    else:
        put_lines(estate_lines(reading.estate, reading.files))
        if reading.estate.invariants:
            remark("Invariants are read and not yet decided.", quiet=quiet)
    if reading.estate is None:
        raise typer.Exit(2)

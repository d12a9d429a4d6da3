"""`enthesis whoami`: which origins are at hand here, which is used and why, and what it can take on."""

from datetime import datetime
from pathlib import Path
from typing import Any

import typer

from enthesis.access.compiling import compile_estate
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import EstateOption, FormatOption, QuietOption
from enthesis.files.finding import estate_folder, find_estate
from enthesis.live.clocks import clock_for
from enthesis.live.origins import BECAUSE, AtHand, at_hand
from enthesis.model.estate import Context, Estate
from enthesis.output.lines import Span, line
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.output.streams import remark
from enthesis.text.times import duration_text
from enthesis.verdicts.judge import Judge
from enthesis.verdicts.takeable import Taken, can_take_on

WORDS = {
    "session": "lent session",
    "token": "pipeline token",
    "assertion": "assertion",
    "projected": "projected token",
    "host": "metadata service",
    "certificate": "certificate",
    "person": "sign-in",
}


def whoami(estate: EstateOption = None, output: FormatOption = TEXT, quiet: QuietOption = False) -> None:
    """Show which origins are available here and which identities they can take on.

    Looks into the environment (a run's token, an assertion, the address of a metadata service), at the token file of a
    workload in a cluster, at a workload certificate and at a sign-in. Needs no rights, and obtains nothing. Exit 1 if
    nothing usable is available.
    """
    folder, described = estate_here(estate)
    clock = clock_for(described, folder)
    instant = clock.now()
    if clock.said():
        remark(clock.said(), quiet=quiet)
    every = at_hand(described, folder, instant)
    used = next((origin for origin in every if not origin.fault), None)
    taken = _taken(described, used, instant) if described is not None and used is not None else []
    facts = {
        "used": _plain(used) if used is not None else None,
        "because": BECAUSE[used.form] if used is not None else "",
        "at_hand": [_plain(origin) for origin in every],
        "can_take_on": [
            {
                "identity": one.identity,
                "for_seconds": int(one.life.total_seconds()) if one.life else None,
                "trust": str(one.source) if one.source else None,
            }
            for one in taken
        ],
    }
    unknown = "No estate is here, so what can be taken on is not known." if described is None else ""
    put_answer(
        output, CommandAnswer(lambda: facts, lambda: _lines(every, used, taken, described)), beside=unknown, quiet=quiet
    )
    if used is None:
        raise typer.Exit(1)


def estate_here(estate: Path | None) -> tuple[Path | None, Estate | None]:
    """The estate that is named or near; None where there is none."""
    if estate is None and find_estate(Path.cwd()) is None:
        return None, None
    folder = estate_folder(estate)
    return folder, read_estate(folder)


def _taken(estate: Estate, used: AtHand, instant: datetime) -> list[Taken]:
    if used.origin is None:
        return []
    judge = Judge(compile_estate(estate))
    return list(can_take_on(estate, judge, used.origin, Context(), instant))


def _plain(origin: AtHand) -> dict[str, Any]:
    return {
        "form": origin.form,
        "where": origin.where,
        "who": origin.who,
        "ends": origin.ends.isoformat() if origin.ends else None,
        "usable": not origin.fault,
        "why_not": origin.fault,
    }


def _lines(every: list[AtHand], used: AtHand | None, taken: list[Taken], estate: Estate | None) -> Any:
    if used is None:
        yield line("Nothing that can be used is at hand here.")
    else:
        yield line("Here you are ", Span(used.who, "strong"), f", by {used.where}.")
        yield line(f"  it is used because {BECAUSE[used.form]}")
    for origin in every:
        state = Span("used    ", "good") if origin is used else Span("not used", "doubt")
        until = f", until {origin.ends:%Y-%m-%d %H:%M:%SZ}" if origin.ends else ""
        why = f": {origin.fault}" if origin.fault else ""
        yield line(f"  {WORDS[origin.form].ljust(16)}  ", state, f"  {origin.who or origin.where}{until}{why}")
    if not every:
        yield line("  no token, assertion or certificate in the environment or a file, no metadata service, no sign-in")
    if used is not None and estate is not None:
        yield line("It can take on", ":" if taken else " nothing: no trust admits it.")
        for can in taken:
            life = f" for {duration_text(can.life)}" if can.life else ""
            yield line(f"  {can.identity}{life}", Span(f"  {can.source}" if can.source else "", "quiet"))

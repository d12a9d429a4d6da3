"""`enthesis lab fault`: makes the stand-ins late, slow, limited or failing, as real services are at times."""

import re
import time
from typing import TYPE_CHECKING, Annotated

import typer

from enthesis.cli.options import EstateOption, FormatOption, QuietOption
from enthesis.model.errors import InvalidInput
from enthesis.output.lines import Span, counted, line
from enthesis.output.renderers import TEXT, CommandAnswer, put_answer
from enthesis.text.nearest import perhaps
from enthesis_lab.commands.running import running_lab
from enthesis_lab.running import Running

if TYPE_CHECKING:
    from enthesis_lab.faults import Fault

LENGTH = re.compile(r"(\d{1,6}(?:\.\d{1,6})?)(ms|s|m)")
SECONDS = {"ms": 0.001, "s": 1.0, "m": 60.0}


def fault(
    where: Annotated[
        str | None,
        typer.Argument(metavar="WHERE", help="A service, an account or an @organisation (default: everywhere)."),
    ] = None,
    route: Annotated[
        str,
        typer.Option("--route", metavar="GLOB", help="Only affect these requests, e.g. '/token' or 'POST /admin*'."),
    ] = "*",
    lag: Annotated[
        str | None, typer.Option("--lag", metavar="LENGTH", help="Delay the visibility of changes by up to this long.")
    ] = None,
    enforcement_lag: Annotated[
        str | None,
        typer.Option(
            "--enforcement-lag", metavar="LENGTH", help="Delay the enforcement of changes by up to this long."
        ),
    ] = None,
    slow: Annotated[
        str | None, typer.Option("--slow", metavar="LENGTH", help="Delay every answer by this long, e.g. 20ms.")
    ] = None,
    fail: Annotated[
        int, typer.Option("--fail", metavar="PERCENT", min=0, max=99, help="Let this percentage of requests fail.")
    ] = 0,
    kind: Annotated[
        list[str] | None,
        typer.Option(
            "--kind",
            metavar="KIND",
            help="How requests fail: error, cut or time-out; repeat it. Half of them after they took effect."
            " Default: error and cut.",
        ),
    ] = None,
    limit: Annotated[
        int,
        typer.Option(
            "--limit", metavar="COUNT", min=0, help="Accept this many requests a second, and refuse the rest."
        ),
    ] = 0,
    page_size: Annotated[
        int, typer.Option("--page-size", metavar="COUNT", min=0, help="Show lists in pages of this many.")
    ] = 0,
    shifting: Annotated[
        bool, typer.Option("--shifting", help="Let pages shift while they are read, as happens when others write.")
    ] = False,
    as_started: Annotated[
        bool,
        typer.Option("--as-started", help="Let hosts lack what is attached from now on, as those do that run already."),
    ] = False,
    seed: Annotated[int, typer.Option("--seed", metavar="NUMBER", help="The seed of everything random.")] = 0,
    clear: Annotated[bool, typer.Option("--clear", help="End the faults of WHERE, or all of them.")] = False,
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Make the lab's services late, slow, limited or failing, as real ones are at times; or end that.

    Without an option it shows which faults are set. Setting some for the same WHERE and --route replaces those.
    """
    from enthesis_lab.faults import BY_DEFAULT, KINDS, Fault  # noqa: PLC0415  loads the store of the lab
    from enthesis_lab.tuning import faults  # noqa: PLC0415

    found = running_lab(estate)
    place = _place(found, where)
    for text in kind or ():
        if text not in KINDS:
            hint = perhaps(text, KINDS, "one of " + ", ".join(KINDS))
            raise InvalidInput(f"--kind {text}: no such kind of failure", code="option-invalid", remedy=hint)
    wanted = Fault(
        place, route, _seconds("--lag", lag), _seconds("--enforcement-lag", enforcement_lag), _seconds("--slow", slow),
        fail / 100, tuple(kind or BY_DEFAULT), limit, page_size, shifting, seed,
        time.time() if as_started else 0.0,
    )  # fmt: skip
    asked = wanted != Fault(place, route, kinds=wanted.kinds, seed=seed)

    def change(before: tuple[Fault, ...]) -> list[Fault]:
        if clear:
            return [one for one in before if place and one.where != place]
        return [*(one for one in before if (one.where, one.route) != (place, route)), wanted]

    now = faults(found.state, change if clear or asked else None)
    facts = {"faults": [{name: getattr(one, name) for name in Fault.__dataclass_fields__} for one in now]}
    head = f"{counted(len(now), 'fault')} set at the lab." if now else "No faults are set at the lab."
    lines = [line(Span(head, "strong")), *(line("  ", _sentence(one)) for one in now)] if not quiet else []
    put_answer(output, CommandAnswer(lambda: facts, lambda: lines))


def _place(found: Running, where: str | None) -> str:
    """Where a fault is: a service of the lab, or an account or organisation that it has."""
    if where is None:
        return ""
    from enthesis.live.stand_ins import sessions_of  # noqa: PLC0415  only this needs it

    holders = [entry["holder"] for entry in sessions_of(found) if "holder" in entry]
    known = list(dict.fromkeys([*(service["name"] for service in found.services), *holders]))
    if where not in known:
        hint = perhaps(where, known, "one of " + ", ".join(known))
        raise InvalidInput(
            f"{where}: no such service, account or organisation of the lab", code="address-unknown", remedy=hint
        )
    return where


def _seconds(option: str, text: str | None) -> float:
    if text is None:
        return 0.0
    found = LENGTH.fullmatch(text)
    if found is None:
        raise InvalidInput(
            f"{option} {text}: not a length of time", code="duration-invalid", remedy="write it like 20ms, 2s or 1m"
        )
    return float(found[1]) * SECONDS[found[2]]


def _sentence(one: "Fault") -> str:
    """What a fault does, in words."""
    parts = [
        f"changes show after up to {one.lag:g} s" if one.lag else "",
        f"changes are enforced after up to {one.enforcement_lag:g} s" if one.enforcement_lag else "",
        f"every answer takes {one.slow * 1000:g} ms more" if one.slow else "",
        f"{one.fail:.0%} of requests fail ({', '.join(one.kinds)})" if one.fail else "",
        f"at most {one.limit:g} requests a second" if one.limit else "",
        f"pages of {one.page}" if one.page else "",
        "pages shift" if one.shifting else "",
        "hosts lack what is attached since" if one.as_started else "",
    ]
    route = "" if one.route == "*" else f", requests to {one.route}"
    return f"{one.where or 'everywhere'}{route}: {'; '.join(part for part in parts if part)} (seed {one.seed})"

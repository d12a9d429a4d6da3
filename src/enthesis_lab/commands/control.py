"""`enthesis lab start`, `stop`, `status`, `clock` and `rotate`: the stand-ins as a whole."""

from collections.abc import Mapping
from datetime import timedelta
from pathlib import Path
from typing import Annotated, Any

import typer

from enthesis.cli.estate_loading import read_estate
from enthesis.cli.interrupts import on_interrupt
from enthesis.cli.options import EstateOption, FormatOption, QuietOption
from enthesis.files.finding import estate_folder, place_of_work
from enthesis.files.writing import plain_statement
from enthesis.model.errors import InvalidInput, LiveFailure, Unreachable
from enthesis.model.estate import Estate
from enthesis.output.lines import Span, line
from enthesis.output.renderers import TEXT, CommandAnswer, is_document, put_answer, put_done
from enthesis.output.streams import remark
from enthesis.text.nearest import perhaps
from enthesis.text.times import duration_from, duration_text
from enthesis_lab.commands.running import running_lab
from enthesis_lab.control import LabFailed
from enthesis_lab.control import join as join_lab
from enthesis_lab.control import start as start_lab
from enthesis_lab.control import stop as stop_lab
from enthesis_lab.running import JOINED, PLACE_OF_WORK, Running, own_state, running, state_folder

WITH_KEYS = ("cloud", "pipeline", "cluster", "directory", "registry")  # services whose signing keys can be changed


def start(
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    foreground: Annotated[bool, typer.Option("--foreground", help="Stay in the foreground until interrupted.")] = False,
    allow_twins: Annotated[
        bool,
        typer.Option("--allow-twins", help="Let a holder have two statements with the same key, as some clouds do."),
    ] = False,
    quiet: QuietOption = False,
) -> None:
    """Start the lab of an estate; returns when it is ready.

    It is furnished with what exists already: organisations, accounts, resources and people. Run again, it renews
    the administrators' one-hour sessions, and furnishes anew what has changed.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    state = _own(folder)
    place_of_work(folder)
    try:
        on_interrupt("the lab is stopped" if foreground else "")
        found = start_lab(state, {**inventory(described), "twins_allowed": allow_twins}, foreground=foreground)
    except LabFailed as fault:
        raise LiveFailure(str(fault), code="lab-failed") from None
    if found is not None:
        _put_status(found, output, quiet=quiet)


def stop(
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
    clean: Annotated[bool, typer.Option("--clean", help="Also delete its state.")] = False,
) -> None:
    """Stop the lab of an estate; its state stays unless --clean is given."""
    state = _own(estate_folder(estate))
    try:
        was_running = stop_lab(state, clean=clean)
    except LabFailed as fault:
        raise LiveFailure(str(fault), code="lab-failed") from None
    if clean:
        _remove_place_of_work(state)
    removed = " Its state is removed." if clean else ""
    said = ("The lab is stopped." if was_running else "No lab was running.") + removed
    put_done(said, output=output, quiet=quiet, was_running=was_running, removed=clean)


def join(
    other: Annotated[Path, typer.Argument(metavar="DIR", help="The folder of the estate whose lab is running.")],
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Speak to the lab of another estate, as two parties with a folder each do.

    What exists by this estate is furnished there. Neither reads the other's files. `lab start` of an own lab ends it.
    """
    folder, host = estate_folder(estate), estate_folder(other)
    if folder == host:
        raise InvalidInput("an estate does not join its own lab", code="options-conflict", remedy="enthesis lab start")
    if running(own_state(folder)) is not None:
        raise InvalidInput("a lab of this estate runs already", code="lab-running", remedy="enthesis lab stop")
    described = read_estate(folder)
    place_of_work(folder)
    found = join_lab(own_state(host), folder, inventory(described))
    if found is None:
        raise Unreachable(f"no lab runs in {host}", code="lab-not-running", remedy="enthesis lab start, there")
    (folder / PLACE_OF_WORK / JOINED).write_text(f"{own_state(host)}\n", encoding="utf-8")
    _put_status(found, output, quiet=quiet)


def _own(folder: Path) -> Path:
    """The state folder of the estate's own lab; ends an earlier `lab join`."""
    (folder / PLACE_OF_WORK / JOINED).unlink(missing_ok=True)
    return own_state(folder)


def status(estate: EstateOption = None, output: FormatOption = TEXT, quiet: QuietOption = False) -> None:
    """Say whether a lab runs, and at which addresses; exit 1 if none does."""
    found = running(state_folder(estate_folder(estate)))
    if found is None:
        none = CommandAnswer(lambda: {"running": False, "services": []}, lambda: ())
        put_answer(output, none, beside="No lab runs for this estate.", quiet=quiet)
        raise typer.Exit(1)
    _put_status(found, output, quiet=quiet)


def clock(
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    forward: Annotated[
        str | None, typer.Option("--forward", metavar="DURATION", help="Move the clock forward by this much, e.g. 20m.")
    ] = None,
    quiet: QuietOption = False,
) -> None:
    """Show how far the lab's clock is ahead, or move it forward to try expiry without waiting."""
    seconds = 0.0
    if forward is not None:
        length = duration_from(forward)
        if length is None:
            raise InvalidInput(
                f"{forward} is not a duration", code="duration-invalid", remedy="write it like 15m, 8h or 30d"
            )
        seconds = length.total_seconds()
    from enthesis_lab.tuning import clock as move  # noqa: PLC0415  loads the store of the lab

    ahead = move(running_lab(estate).state, seconds)
    put_answer(
        output,
        CommandAnswer(
            lambda: {"ahead_seconds": ahead},
            lambda: [line(f"The lab's clock is {duration_text(timedelta(seconds=ahead))} ahead.")] if not quiet else (),
        ),
    )


def rotate(
    issuer: Annotated[str, typer.Argument(help="The name of a service in the estate.")],
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Give a service of the lab new signing keys; tokens signed with the old ones stay valid."""
    found = running_lab(estate)
    names = [service["name"] for service in found.services if service["kind"] in WITH_KEYS]
    if issuer not in names:
        hint = perhaps(issuer, names, f"expected one of {', '.join(names)}")
        raise InvalidInput(
            f"the lab has no service called {issuer} whose keys change", code="lab-service-unknown", remedy=hint
        )
    from enthesis_lab.tuning import rotate as new_keys  # noqa: PLC0415  loads the libraries of tokens

    new_keys(found.state, issuer)
    put_done(f"{issuer} signs with new keys.", output=output, quiet=quiet, issuer=issuer)


def _remove_place_of_work(state: Path) -> None:
    place = state.parent
    if place.is_dir() and [entry.name for entry in place.iterdir()] == [".gitignore"]:
        (place / ".gitignore").unlink()
        place.rmdir()


def _put_status(found: Running, output: str, *, quiet: bool) -> None:
    services = [dict(service) for service in found.services]
    absent = [{"name": name, "why": why} for name, why in found.absent.items()]
    facts = {"running": True, "estate": found.estate, "authority": str(found.authority), "services": services}
    facts |= {"not_running": absent} if absent else {}
    for name, why in found.absent.items():
        remark(f"{name} does not run here: {why}.", quiet=is_document(output))
    lines = [line("The lab of ", found.estate, " is ", Span("running", "good"), ".")]
    width = max((len(service["name"]) for service in found.services), default=0)
    for service in found.services:
        lines.append(line(f"  {service['name'].ljust(width)}  {service['kind'].ljust(10)}  {service['url']}"))
    lines.append(line("  their certificates are signed by ", str(found.authority)))
    put_answer(output, CommandAnswer(lambda: facts, lambda: [] if quiet else lines))


def inventory(estate: Estate) -> dict[str, Any]:
    """What exists already, as plain data: everything but the statements about access."""
    from enthesis.access.attributes import service_accounts_of  # noqa: PLC0415  loads a library of numbers
    from enthesis.access.compiling import compile_estate  # noqa: PLC0415

    def section(name: str, entries: Mapping[str, Any]) -> dict[str, Any]:
        return {key: plain_statement(name, value) for key, value in entries.items()}

    kinds = {
        name: {"in": list(kind.within), "leaf": kind.leaf, "verbs": dict(kind.verbs)}
        for name, kind in estate.catalogue.kinds.items()
    }
    organisations = {
        name: {**plain_statement("organisations", one), "units": list(one.units)}
        for name, one in estate.organisations.items()
    }
    resources = section("resources", estate.resources)
    compiled = compile_estate(estate)
    for address, resource in resources.items():
        resource.pop("runs_as", None)
        accounts = service_accounts_of(compiled, address) if "/workload/" in address else []
        if accounts:  # set by whoever deploys the workload, and not by a statement
            resource["service_account"] = accounts[0].rsplit("/", 1)[-1]
    people = {address: one for address, one in estate.identities.items() if one.is_person}
    return {
        "estate": estate.name,
        "catalogue": {"kinds": kinds, "verbs_everywhere": dict(estate.catalogue.everywhere)},
        "organisations": organisations,
        "providers": section("providers", estate.providers),
        "accounts": section("accounts", estate.accounts),
        "issuers": section("issuers", estate.issuers),
        "resources": resources,
        "people": section("identities", people),
    }

"""`enthesis lab`: starts, stops and tunes the stand-ins."""

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from enthesis.commands.common import (
    EstateOption,
    Format,
    FormatOption,
    QuietOption,
    estate_folder,
    lab_state,
    put_json,
    put_lines,
    read_estate,
    remark,
)

if TYPE_CHECKING:
    from enthesis.connectors.http import Client
    from enthesis.lab.control import Running
    from enthesis.model.estate import Estate
    from enthesis.ports import Secret

PATIENCE = 20  # seconds that a sign-in is waited for
app = typer.Typer(help="Start, stop and tune the stand-ins.", no_args_is_help=True)


@app.command()
def start(
    estate: EstateOption = None,
    output: FormatOption = Format.TEXT,
    foreground: Annotated[bool, typer.Option("--foreground", help="Stay, until interrupted.")] = False,
) -> None:
    """Start the lab of an estate; returns when it is ready.

    It is furnished with what exists already: organisations, accounts, resources and people. Run again, it renews
    the administrators' one-hour sessions, and furnishes anew what has changed.

    Example: enthesis lab start
    """
    from enthesis.errors import LiveFailure
    from enthesis.lab.control import LabFailed
    from enthesis.lab.control import start as start_lab

    folder = estate_folder(estate)
    described = read_estate(folder)
    state = lab_state(folder)
    _make_place_of_work(state)
    try:
        found = start_lab(state, furniture(described), foreground=foreground)
    except LabFailed as fault:
        raise LiveFailure(str(fault)) from None
    if found is not None:
        _put_status(found, output)


@app.command()
def stop(
    estate: EstateOption = None,
    quiet: QuietOption = False,
    clean: Annotated[bool, typer.Option("--clean", help="Also remove its state.")] = False,
) -> None:
    """Stop the lab of an estate. Its state stays, unless --clean is said.

    Example: enthesis lab stop --clean
    """
    from enthesis.lab.control import stop as stop_lab

    state = lab_state(estate_folder(estate))
    was_running = stop_lab(state, clean=clean)
    if clean:
        _remove_place_of_work(state)
    removed = " Its state is removed." if clean else ""
    remark(("The lab is stopped." if was_running else "No lab was running.") + removed, quiet=quiet)


@app.command()
def status(estate: EstateOption = None, output: FormatOption = Format.TEXT) -> None:
    """Say whether a lab runs, and at which addresses. Exit 1 where none does.

    Example: enthesis lab status --format json
    """
    from enthesis.lab.control import running

    found = running(lab_state(estate_folder(estate)))
    if found is None:
        if output is Format.JSON:
            put_json({"running": False, "services": []})
        else:
            remark("No lab runs for this estate.")
        raise typer.Exit(1)
    _put_status(found, output)


@app.command()
def clock(
    estate: EstateOption = None,
    output: FormatOption = Format.TEXT,
    forward: Annotated[str | None, typer.Option("--forward", metavar="DURATION", help="How far, e.g. 20m.")] = None,
) -> None:
    """Show how far the lab's clock is ahead, or move it forward, so that expiry can be tried without waiting.

    Example: enthesis lab clock --forward 20m
    """
    from datetime import timedelta

    from enthesis.errors import Mistaken
    from enthesis.lab.control import clock as move
    from enthesis.reading.nodes import Node
    from enthesis.reading.shapes import MISSING, Duration, Notes, duration_text
    from enthesis.showing.lines import line

    seconds = 0.0
    if forward is not None:
        length = Duration().read(Node(forward, 1, 1), Notes(""))
        if length is MISSING:
            raise Mistaken(f"{forward} is no duration", remedy="write it like 15m, 8h or 30d")
        seconds = length.total_seconds()
    ahead = move(_state_of_running(estate), seconds)
    if output is Format.JSON:
        put_json({"ahead_seconds": ahead})
    else:
        put_lines([line(f"The lab's clock is {duration_text(timedelta(seconds=ahead))} ahead.")])


@app.command()
def rotate(
    issuer: Annotated[str, typer.Argument(help="The name of a service in the estate.")],
    estate: EstateOption = None,
    quiet: QuietOption = False,
) -> None:
    """Give a service of the lab new signing keys; tokens signed with the old ones stay good until they end.

    Example: enthesis lab rotate forge
    """
    from enthesis.errors import Mistaken
    from enthesis.lab.control import rotate as new_keys
    from enthesis.lab.control import running
    from enthesis.reading.shapes import nearest

    state = _state_of_running(estate)
    found = running(state)
    names = [service["name"] for service in found.services] if found else []
    if issuer not in names:
        close = nearest(issuer, names) or names
        raise Mistaken(f"the lab has no service called {issuer}", remedy=f"perhaps {' or '.join(close)}")
    new_keys(state, issuer)
    remark(f"{issuer} signs with new keys.", quiet=quiet)


@app.command()
def add(
    addresses: Annotated[list[str], typer.Argument(metavar="ADDRESS...", help="Resources, as members of a pool.")],
    estate: EstateOption = None,
    count: Annotated[
        int | None, typer.Option("--count", metavar="N", help="As many of each, named NAME-1 to NAME-N.")
    ] = None,
    tied: Annotated[
        str | None, typer.Option("--tied", metavar="IDENTITY", help="A managed identity that comes and goes with it.")
    ] = None,
    quiet: QuietOption = False,
) -> None:
    """Let resources come to be at the lab's clouds, as they do outside of Enthesis.

    Example: enthesis lab add gauges/pool/collectors/host/c --count 3
    """
    from enthesis.errors import Mistaken
    from enthesis.showing.lines import counted

    if count is not None and count < 1:
        raise Mistaken("--count is at least 1")
    named = [f"{one}-{n}" for one in addresses for n in range(1, count + 1)] if count else addresses
    if tied is not None and len(named) != 1:
        raise Mistaken("an identity is tied to one resource", remedy="add one at a time")
    clouds = _administrators(estate)
    by_account: dict[str, dict[str, Any]] = {}
    for address in named:
        entry = {"tied": tied} if tied is not None else {}
        by_account.setdefault(address.split("/", maxsplit=1)[0], {})[address] = entry
    for account, wanted in by_account.items():
        client, session = clouds(account)
        with client:
            answer = client.ask("POST", "/administration/resources", bearer=session, body={"resources": wanted})
            client.expect(answer, 201)
    with_it = f", and {tied} with it" if tied else ""
    remark(f"{counted(len(named), 'resource')} {'are' if len(named) > 1 else 'is'} there now{with_it}.", quiet=quiet)


@app.command()
def remove(
    addresses: Annotated[list[str], typer.Argument(metavar="ADDRESS...", help="Resources.")],
    estate: EstateOption = None,
    quiet: QuietOption = False,
) -> None:
    """Let resources go at the lab's clouds; identities that are tied to them go too, and grants stay behind.

    Example: enthesis lab remove gauges/pool/collectors/host/c-1
    """
    from urllib.parse import quote

    from enthesis.showing.lines import counted

    clouds = _administrators(estate)
    for address in addresses:
        client, session = clouds(address.split("/", maxsplit=1)[0])
        with client:
            answer = client.ask("DELETE", f"/administration/resources/{quote(address)}", bearer=session)
            client.expect(answer, 204)
    have = "has" if len(addresses) == 1 else "have"
    remark(f"{counted(len(addresses), 'resource')} {have} gone.", quiet=quiet)


@app.command(context_settings={"ignore_unknown_options": True})
def on(
    host: Annotated[str, typer.Argument(metavar="HOST", help="A host, pool, function or connector.")],
    command: Annotated[list[str], typer.Argument(metavar="-- COMMAND...", help="What runs there.")],
    estate: EstateOption = None,
) -> None:
    """Run a program as if on a host of the lab: it finds that host's metadata service, and no origin of ours.

    Example: enthesis lab on gauges/host/collector-1 -- enthesis whoami
    """
    import os
    from urllib.parse import quote

    from enthesis.commands.origins import METADATA
    from enthesis.errors import Unreachable

    folder = estate_folder(estate)
    account = read_estate(folder).accounts.get(host.split("/", maxsplit=1)[0])
    name = f"{account.provider}/hosts" if account is not None else ""
    url = next((one["url"] for one in _services(estate) if one["name"] == name), None)
    if url is None:
        raise Unreachable(f"the lab has no metadata service for {host}")
    _become(command, {METADATA: f"{url}/{quote(host, safe='/@')}"}, os.environ)


@app.command(context_settings={"ignore_unknown_options": True})
def run(
    issuer: Annotated[str, typer.Argument(metavar="ISSUER", help="A pipeline service of the estate.")],
    command: Annotated[list[str], typer.Argument(metavar="-- COMMAND...", help="What runs there.")],
    claim: Annotated[
        list[str] | None, typer.Option("--claim", metavar="NAME=VALUE", help="A claim of the run's token.")
    ] = None,
    estate: EstateOption = None,
) -> None:
    """Run a program as if in a run of the lab's pipeline service: it finds the run's token in its environment.

    Example: enthesis lab run forge --claim sub=project/tides/x/branch/main --claim aud=lowland -- enthesis whoami
    """
    import os

    from enthesis.commands.asking import claims_from
    from enthesis.commands.origins import TOKEN
    from enthesis.commands.wiring import connect
    from enthesis.errors import Mistaken

    folder = estate_folder(estate)
    described = read_estate(folder)
    _services(estate)
    found = connect(described, folder).issuers.get(issuer)
    if found is None:
        raise Mistaken(f"the lab has no pipeline service called {issuer}")
    token = found.obtain(claims_from(claim)).secret.reveal()
    _become(command, {TOKEN: token}, os.environ)


@app.command()
def agree(
    person: Annotated[str, typer.Option("--as", metavar="PERSON", help="Who agrees.")],
    code: Annotated[
        str | None,
        typer.Argument(
            metavar="[CODE]", help="The code that a sign-in shows; default: the next one that is asked for."
        ),
    ] = None,
    mfa: Annotated[bool, typer.Option("--mfa", help="With a second factor.")] = False,
    refuse: Annotated[bool, typer.Option("--refuse", help="Refuse instead.")] = False,
    estate: EstateOption = None,
    quiet: QuietOption = False,
) -> None:
    """Agree to a sign-in at the lab's directory, as a person does on its page.

    Example: enthesis lab agree BCDF-GHJK --as @saltmarsh/identity/maren --mfa
    """
    from enthesis.connectors.http import Client
    from enthesis.errors import Unreachable
    from enthesis.lab.control import running

    name = person.split("/", maxsplit=1)[0]
    found = running(_state_of_running(estate))
    url = next((one["url"] for one in _services(estate) if one["name"] == name), None)
    if url is None or found is None:
        raise Unreachable(f"the lab has no directory of {name}")
    code = code or _next_sign_in(_state_of_running(estate), name)
    form = {"code": code, "person": person, "mfa": "yes" if mfa else "no", "agreed": "no" if refuse else "yes"}
    with Client(name, url, authority=found.authority) as client:
        client.expect(client.ask("POST", "/agree", form=form), 200)
    remark(f"{person} {'refused' if refuse else 'agreed'}.", quiet=quiet)


def _next_sign_in(state: Path, directory: str) -> str:
    """Waits for somebody to want to sign in."""
    import time

    from enthesis.errors import Unreachable
    from enthesis.lab.control import waiting_sign_in

    for _ in range(PATIENCE * 10):
        found = waiting_sign_in(state, directory)
        if found is not None:
            return found
        time.sleep(0.1)
    raise Unreachable("nobody wants to sign in", remedy="enthesis lend --sign-in")


def _services(estate: Path | None) -> "tuple[Mapping[str, str], ...]":
    from enthesis.lab.control import running

    found = running(_state_of_running(estate))
    return found.services if found is not None else ()


def _become(command: list[str], more: Mapping[str, str], environment: Mapping[str, str]) -> None:
    """Becomes a program that finds no origin but the one that it is given."""
    import os
    import sys

    from enthesis.commands.origins import CERTIFICATE, METADATA, SESSION, TOKEN, TOKEN_FILE
    from enthesis.errors import Mistaken

    ours = (CERTIFICATE, METADATA, SESSION, TOKEN, TOKEN_FILE)
    kept = {name: value for name, value in environment.items() if name not in ours}
    sys.stdout.flush()
    try:
        os.execvpe(command[0], command, {**kept, **more})  # noqa: S606  the user's own program
    except OSError as fault:
        raise Mistaken(f"{command[0]} cannot be run: {fault.strerror}") from None


def _administrators(estate: Path | None) -> "Callable[[str], tuple[Client, Secret]]":
    """Answers for an account the client of its cloud, and a session of its administrators."""
    import json

    from enthesis.connectors.http import Client
    from enthesis.errors import Mistaken
    from enthesis.lab.control import running
    from enthesis.ports import Secret

    state = _state_of_running(estate)
    found = running(state)
    listed = json.loads((state / "administrators.json").read_text(encoding="utf-8"))

    def of(account: str) -> tuple[Client, Secret]:
        one = next((one for one in listed if one.get("holder") == account), None)
        service = next((its for its in (found.services if found else ()) if one and its["name"] == one["cloud"]), None)
        if one is None or service is None or found is None:
            raise Mistaken(f"the lab has no account {account}")
        return Client(one["cloud"], service["url"], authority=found.authority), Secret(one["session"])

    return of


def _state_of_running(estate: Path | None) -> Path:
    from enthesis.errors import Unreachable
    from enthesis.lab.control import running

    state = lab_state(estate_folder(estate))
    if running(state) is None:
        raise Unreachable("no lab runs for this estate", remedy="enthesis lab start")
    return state


def _make_place_of_work(state: Path) -> None:
    """The folder beside the estate's files, which no repository should take in."""
    from enthesis.errors import Mistaken

    try:
        state.parent.mkdir(mode=0o700, exist_ok=True)
        (state.parent / ".gitignore").write_text("*\n", encoding="utf-8")
    except OSError as fault:
        raise Mistaken(f"{state.parent} cannot be written: {fault.strerror}") from None


def _remove_place_of_work(state: Path) -> None:
    place = state.parent
    if place.is_dir() and [entry.name for entry in place.iterdir()] == [".gitignore"]:
        (place / ".gitignore").unlink()
        place.rmdir()


def _put_status(found: "Running", output: Format) -> None:
    from enthesis.showing.lines import Span, line

    if output is Format.JSON:
        services = [dict(service) for service in found.services]
        put_json({"running": True, "estate": found.estate, "authority": str(found.authority), "services": services})
        return
    lines = [line("The lab of ", found.estate, " is ", Span("running", "good"), ".")]
    width = max(len(service["name"]) for service in found.services)
    for service in found.services:
        lines.append(line(f"  {service['name'].ljust(width)}  {service['kind'].ljust(9)}  {service['url']}"))
    lines.append(line("  their certificates are signed by ", str(found.authority)))
    put_lines(lines)


def furniture(estate: "Estate") -> dict[str, Any]:
    """What exists already, as plain data: everything but the statements about access."""
    from enthesis.reading.writing import plain_statement

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
    for resource in resources.values():
        resource.pop("runs_as", None)
    people = {address: one for address, one in estate.identities.items() if one.kind == "person"}
    return {
        "estate": estate.name,
        "catalogue": {"kinds": kinds, "verbs_everywhere": dict(estate.catalogue.everywhere)},
        "organisations": organisations,
        "providers": section("providers", estate.providers),
        "accounts": section("accounts", estate.accounts),
        "issuers": section("issuers", estate.issuers),
        "resources": resources,
        "people": section("identities", people),
        "lodged": {
            name: {**plain_statement("lodged", one), "audience": estate.system_of(one.of)}
            for name, one in estate.lodged.items()
        },
    }

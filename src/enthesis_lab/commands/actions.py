"""Acting in a lab: resources that come and go, programs as if on a host or in a run, people who agree to a sign-in."""

import os
import time
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import quote

import typer

from enthesis.cli.arguments import claims_from
from enthesis.cli.estate_loading import PARTY, read_estate
from enthesis.cli.options import EstateOption, FormatOption, QuietOption
from enthesis.connectors.http import Client
from enthesis.files.finding import estate_folder
from enthesis.live.connecting import connect
from enthesis.live.credential_endpoint import become
from enthesis.live.stand_ins import sessions_of
from enthesis.live.variables import ASSERTION, METADATA, TOKEN, VARIABLES
from enthesis.model.errors import InvalidInput, Unreachable
from enthesis.model.secrets import Secret
from enthesis.output.lines import counted
from enthesis.output.renderers import TEXT, put_done
from enthesis.ports import IssuesAssertions, TakesAssertions
from enthesis.text.nearest import perhaps
from enthesis_lab.commands.running import running_lab
from enthesis_lab.running import OWNER, host_word, owners_word

PATIENCE = 20  # seconds that a sign-in is waited for


def add(
    addresses: Annotated[
        list[str], typer.Argument(metavar="ADDRESS...", help="The resources to create, e.g. members of a pool.")
    ],
    estate: EstateOption = None,
    count: Annotated[
        int | None, typer.Option("--count", metavar="N", help="Create N of each, named NAME-1 to NAME-N.")
    ] = None,
    tied: Annotated[
        str | None,
        typer.Option("--tied", metavar="IDENTITY", help="Also create a managed identity that is tied to it."),
    ] = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Create resources directly at the lab's clouds, bypassing Enthesis."""
    if count is not None and count < 1:
        raise InvalidInput("--count is at least 1", code="option-invalid")
    named = [f"{address}-{n}" for address in addresses for n in range(1, count + 1)] if count else addresses
    if tied is not None and len(named) != 1:
        raise InvalidInput("an identity is tied to one resource", code="option-invalid", remedy="add one at a time")
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
    said = f"{counted(len(named), 'resource')} created{with_it}."
    put_done(said, output=output, quiet=quiet, created=named)


def remove(
    addresses: Annotated[list[str], typer.Argument(metavar="ADDRESS...", help="The resources to delete.")],
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Delete resources at the lab's clouds, with identities tied to them; grants stay behind."""
    clouds = _administrators(estate)
    for address in addresses:
        client, session = clouds(address.split("/", maxsplit=1)[0])
        with client:
            answer = client.ask("DELETE", f"/administration/resources/{quote(address)}", bearer=session)
            client.expect(answer, 204)
    said = f"{counted(len(addresses), 'resource')} deleted."
    put_done(said, output=output, quiet=quiet, deleted=addresses)


def on(
    host: Annotated[str, typer.Argument(metavar="HOST", help="A host, pool, function or connector.")],
    command: Annotated[
        list[str], typer.Argument(metavar="-- COMMAND...", help="The program to run, with its arguments.")
    ],
    estate: EstateOption = None,
    _output: FormatOption = TEXT,
    _quiet: QuietOption = False,
) -> None:
    """Run a program as if on a host of the lab, with that host's metadata service."""
    folder = estate_folder(estate)
    account = read_estate(folder).accounts.get(host.split("/", maxsplit=1)[0])
    name = f"{account.provider}/hosts" if account is not None else ""
    url = running_lab(estate).url_of(name)
    if url is None:
        raise Unreachable(f"the lab has no metadata service for {host}", code="metadata-service-missing")
    word = host_word(owners_word(sessions_of(running_lab(estate))), host)
    _become(command, METADATA, f"{url}/{quote(word)}/{quote(host, safe='/@')}")


def run(
    issuer: Annotated[
        str, typer.Argument(metavar="ISSUER", help="An issuer of the estate: of tokens or of assertions.")
    ],
    command: Annotated[
        list[str], typer.Argument(metavar="-- COMMAND...", help="The program to run, with its arguments.")
    ],
    claim: Annotated[
        list[str] | None,
        typer.Option("--claim", metavar="NAME=VALUE", help="A claim of the token, or an attribute, e.g. event=push."),
    ] = None,
    estate: EstateOption = None,
    _output: FormatOption = TEXT,
    _quiet: QuietOption = False,
) -> None:
    """Run a program as if in a run of the lab's pipeline service, with the run's token or assertion."""
    folder = estate_folder(estate)
    running_lab(estate)
    connected = connect(read_estate(folder), folder)
    found, claims = connected.issuers.get(issuer), claims_from(claim)
    if found is None:
        raise InvalidInput(f"the lab has no pipeline service called {issuer}", code="lab-service-unknown")
    if not isinstance(found, IssuesAssertions):
        _become(command, TOKEN, found.obtain(claims).secret.reveal())
        return
    providers = [one for one in connected.providers.values() if isinstance(one, TakesAssertions)]
    recipient = next((one.recipient for one in providers if claims.get("aud") in (one.name, one.url)), None)
    if recipient is None:
        known = " or ".join(f"--claim aud={name}" for name in connected.providers)
        raise InvalidInput("an assertion is made for one provider", code="option-invalid", remedy=f"add {known}")
    _become(command, ASSERTION, found.obtain_for(claims, recipient).secret.reveal())


def as_party(
    party: Annotated[str, typer.Argument(metavar="ORGANISATION", help="A party of the lab, or an account of one.")],
    command: Annotated[list[str], typer.Argument(metavar="-- COMMAND...", help="The command to run.")],
    estate: EstateOption = None,
    _output: FormatOption = TEXT,
    _quiet: QuietOption = False,
) -> None:
    """Run a command as another party of the lab, with that party's administrators' sessions."""
    described = read_estate(estate_folder(estate))
    running_lab(estate)
    name = party.removeprefix("@")
    known = [*described.organisations, *described.accounts]
    if name not in known:
        raise InvalidInput(
            f"no such organisation or account: {party}", code="party-unknown", remedy=perhaps(name, known)
        )
    become(command, {**os.environ, PARTY: name})


def agree(
    person: Annotated[str, typer.Option("--as", metavar="PERSON", help="The person who agrees.")],
    code: Annotated[
        str | None,
        typer.Argument(metavar="CODE", help="The code that the sign-in shows (default: that of the next sign-in)."),
    ] = None,
    mfa: Annotated[bool, typer.Option("--mfa", help="Use a second factor.")] = False,
    refuse: Annotated[bool, typer.Option("--refuse", help="Refuse the sign-in instead.")] = False,
    estate: EstateOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Agree to a sign-in at the lab's directory, as a person does on its page."""
    name = person.split("/", maxsplit=1)[0]
    found = running_lab(estate)
    url = found.url_of(name)
    if url is None:
        raise Unreachable(f"the lab has no directory of {name}", code="lab-directory-missing")
    code = code or _next_sign_in(found.state, name)
    form = {"code": code, "person": person, "mfa": "yes" if mfa else "no", "agreed": "no" if refuse else "yes"}
    with Client(name, url, authority=found.authority) as client:
        word = Secret(owners_word(sessions_of(found)))
        client.expect(client.ask("POST", "/agree", form=form, headers={OWNER: word.reveal()}), 200)
    said = f"{person} {'refused' if refuse else 'agreed'}."
    put_done(said, output=output, quiet=quiet, person=person, agreed=not refuse)


def _next_sign_in(state: Path, directory: str) -> str:
    """Waits for a person to want to sign in."""
    from enthesis_lab.tuning import waiting_sign_in  # noqa: PLC0415  loads the store of the lab

    for _ in range(PATIENCE * 10):
        found = waiting_sign_in(state, directory)
        if found is not None:
            return found
        time.sleep(0.1)
    raise Unreachable("no sign-in is waiting", code="sign-in-not-waiting", remedy="enthesis sign-in")


def _become(command: list[str], variable: str, value: str) -> None:
    """Becomes a program that finds no origin but the one that it is given."""
    kept = {name: one for name, one in os.environ.items() if name not in VARIABLES}
    become(command, {**kept, variable: value})


def _administrators(estate: Path | None) -> Callable[[str], tuple[Client, Secret]]:
    """Answers for an account the client of its cloud, and a session of its administrators."""
    found = running_lab(estate)
    listed = sessions_of(found)

    def of(account: str) -> tuple[Client, Secret]:
        one = next((one for one in listed if one.get("holder") == account), None)
        url = found.url_of(one["cloud"]) if one is not None else None
        if one is None or url is None:
            raise InvalidInput(f"the lab has no account {account}", code="party-unknown")
        return Client(one["cloud"], url, authority=found.authority), Secret(one["session"])

    return of

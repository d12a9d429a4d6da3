"""`enthesis lend … --authority`: a login at a host of one's own, certified with the authority's key."""

import sys
import tempfile
from datetime import UTC, datetime
from pathlib import Path
from typing import NoReturn

import typer

from enthesis.access.answers import Verdict
from enthesis.access.compiling import compile_estate
from enthesis.cli.arguments import SurroundingOptions, context_from
from enthesis.connectors.openssh import LoginHost
from enthesis.connectors.ssh_keys import fresh_key
from enthesis.live.certifying import OwnAuthority, own_authority
from enthesis.live.credential_endpoint import run_beside
from enthesis.live.origins import at_hand
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate, Origin
from enthesis.model.secrets import Secret
from enthesis.model.vocabulary import Form
from enthesis.output.streams import put_lines, remark
from enthesis.output.verdicts import verdict_lines
from enthesis.verdicts.judge import Judge


def log_in(
    described: Estate, folder: Path, identity: str, command: list[str], host: str, key: Path, network: str | None,
    *, quiet: bool,
) -> NoReturn:  # fmt: skip
    """Runs a client of OpenSSH that logs in at a host, and exits as it does; exit 1 with the reason where the estate
    does not let the caller in."""
    if identity not in described.identities:
        raise InvalidInput(f"the estate has no identity {identity}", code="identity-unknown")
    address = context_from(SurroundingOptions(network=network)).network
    authority = _authority(described, host, key)
    now = datetime.now(UTC)
    private, public = fresh_key()
    got = authority.certified(Judge(compile_estate(described)), _origin(described, folder, identity, now), public, now,
                              address)  # fmt: skip
    if isinstance(got, Verdict):
        put_lines(verdict_lines(described, got), to_error=True)
        raise typer.Exit(1)
    with tempfile.TemporaryDirectory(prefix="enthesis-known-") as place:
        known = Path(place) / "known_hosts"
        known.write_text(f"@cert-authority * {authority.public}\n")
        at = LoginHost(host, authority.url, known)
        with at.files(private, got) as options:
            words = at.command(command, options)
            remark(
                f"{command[0]} logs in at {host} as {identity}, with a certificate for minutes that {key} signed.",
                quiet=quiet,
            )
            code = run_beside(words)
    raise typer.Exit(code)


def _authority(estate: Estate, host: str, key: Path) -> OwnAuthority:
    """The authority by its key; its passphrase is asked for where there is one, and somebody to ask."""
    try:
        return own_authority(estate, host, key)
    except InvalidInput as fault:
        if fault.code != "passphrase-needed" or not sys.stdin.isatty():
            raise
    return own_authority(estate, host, key, Secret(typer.prompt(f"Passphrase of {key}", hide_input=True, err=True)))


def _origin(estate: Estate, folder: Path, identity: str, now: datetime) -> Origin:
    """A caller as far as this machine knows it: a person with what the sign-in shows, where there is one."""
    found = estate.identities[identity]
    for origin in at_hand(estate, folder, now) if found.is_person else ():
        if origin.form == Form.PERSON and origin.who == identity and origin.origin is not None and not origin.fault:
            return origin.origin
    return Origin(found.form, identity)

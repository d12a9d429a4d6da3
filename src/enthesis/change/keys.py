"""Makes keyed credentials, lists them where they are kept, and revokes them."""

import json
import os
from contextlib import suppress
from pathlib import Path
from typing import Any, TextIO

from enthesis.files.yaml_tree import is_readable
from enthesis.live.proving import provider_of
from enthesis.model.errors import EnthesisError, InvalidInput
from enthesis.model.escapes import word
from enthesis.model.estate import Estate, boundary_of
from enthesis.ports import Connected, Credentialed, KeepsKeys, WantedKey
from enthesis.proposals.credentials import matching
from enthesis.proposals.wanted import holders
from enthesis.text.nearest import perhaps


def make_key(
    estate: Estate, connected: Connected, wanted: WantedKey, at: str | None, into: Path | None, descriptor: int | None
) -> Credentialed:
    """Makes a keyed credential and writes its value; the place is opened first, so that none is made in vain."""
    place = _place(into, descriptor)
    try:
        keeper = _keeper(estate, connected, wanted.of, at)
        made, secret = keeper.make_key(boundary_of(wanted.of), wanted)
    except BaseException:
        _put_away(place, into)
        raise
    held = {"id": made.id, "name": made.name, "form": made.form, "of": made.of, "expires": made.expires}
    try:
        place.write(json.dumps({**held, "value": secret.reveal()}) + "\n")
        place.close()
    except BaseException as fault:
        _put_away(place, into)
        _taken_back(keeper, wanted, made, into or f"descriptor {descriptor}", fault)
        raise
    return made


def _put_away(place: TextIO, into: Path | None) -> None:
    """Lets go of where a value was to go; what stands there is no credential."""
    with suppress(OSError, ValueError):
        place.close()
    if into is not None:
        into.unlink(missing_ok=True)


def _taken_back(keeper: KeepsKeys, wanted: WantedKey, made: Credentialed, where: object, fault: BaseException) -> None:
    """Revokes a credential whose value could not be written, since nobody has it; InvalidInput says both."""
    try:
        keeper.revoke_credential(boundary_of(wanted.of), made.id)
    except EnthesisError as why:
        raise InvalidInput(
            f"the value of {made.name} could not be written to {where}, and revoking it failed: {why.message}",
            code="value-not-written",
            remedy=f"enthesis credential revoke {word(made.name)} --of {word(made.of)}",
        ) from None
    if isinstance(fault, OSError):
        raise InvalidInput(
            f"the value of {made.name} could not be written to {where} ({fault.strerror}), so it is revoked again",
            code="value-not-written",
            remedy="create it again, with another file for its value",
        ) from None


def _place(into: Path | None, descriptor: int | None) -> TextIO:
    if into is not None and descriptor is not None:
        raise InvalidInput(
            "--into and --descriptor both name the file for its value", code="options-conflict", remedy="one of them"
        )
    if into is not None and is_readable(into.name):
        raise InvalidInput(
            f"{into.name} could be taken for a file of an estate",
            code="file-in-estate",
            remedy="a name with another ending",
        )
    try:
        if into is not None:
            number = os.open(into, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
        elif descriptor is not None and descriptor > 2:
            number = os.dup(descriptor)
        else:
            raise InvalidInput(
                "a value is shown on no terminal",
                code="value-on-terminal",
                remedy="--descriptor 3 or above, or --into FILE",
            )
        return os.fdopen(number, "w", encoding="utf-8")
    except FileExistsError:
        raise InvalidInput(
            f"{into} is there already",
            code="file-exists",
            remedy="name a new file; existing files are never overwritten",
        ) from None
    except OSError as fault:
        raise InvalidInput(
            f"{into or descriptor} cannot be written: {fault.strerror}", code="file-unwritable"
        ) from None


def revoke_key(estate: Estate, connected: Connected, name: str, of: str | None, at: str | None) -> Credentialed:
    """Revokes a keyed credential, which opens nothing from then on. What the files call otherwise is found by its
    fingerprint. InvalidInput where there is none of this name, or several."""
    every = keys_kept(estate, connected)
    fitting = [
        (one, where)
        for one, where in every
        if (one.name == name or ((described := matching(estate, one)) is not None and described.name == name))
        and of in (None, one.of)
        and at in (None, where)
    ]
    if not fitting:
        hint = perhaps(name, [one.name for one, _ in every])
        raise InvalidInput(
            f"no such keyed credential: {name}",
            code="credential-unknown",
            remedy=hint or "`enthesis credential` lists them",
        )
    if len(fitting) > 1:
        where = ", ".join(f"of {one.of} at {place}" for one, place in fitting)
        raise InvalidInput(
            f"several credentials are called {name}: {where}",
            code="credential-ambiguous",
            remedy="say which with --of and --at",
        )
    ((found, where),) = fitting
    _keeper(estate, connected, found.of, where).revoke_credential(boundary_of(found.of), found.id)
    return found


def _keeper(estate: Estate, connected: Connected, identity: str, at: str | None) -> KeepsKeys:
    """Who makes keyed credentials for an identity; InvalidInput where none does. `at` is for people."""
    if not identity.startswith("@"):
        found: Any = provider_of(estate, identity, connected)
    else:
        there = [name for name in estate.providers_of(boundary_of(identity)) if name in connected.providers]
        if at is None and len(there) != 1:
            known = ", ".join(there) or "no connection is configured for it"
            raise InvalidInput(
                f"{identity} is known at several providers, or at none",
                code="provider-ambiguous",
                remedy=f"--at, one of: {known}",
            )
        found = connected.providers.get(at or there[0])
    if not isinstance(found, KeepsKeys):
        raise InvalidInput(f"{identity} cannot have keyed credentials there", code="credentials-not-made")
    return found


def keys_kept(estate: Estate, connected: Connected) -> list[tuple[Credentialed, str]]:
    """The keyed credentials of identities of ours, each with the provider that keeps it."""
    return [
        (keyed, name)
        for name, provider in connected.providers.items()
        if isinstance(provider, KeepsKeys)
        for keyed in provider.keys(holders(estate, name))
    ]

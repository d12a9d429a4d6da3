"""Signing in by the device grant (RFC 8628), and ending a sign-in at its directory (RFC 7009)."""

from collections.abc import Callable, Mapping
from datetime import datetime, timedelta
from pathlib import Path

from enthesis.connectors.directory import Directory
from enthesis.connectors.http import Client
from enthesis.live.kept_sign_in import SignIn, keep, kept, made_ready
from enthesis.live.stand_ins import running
from enthesis.model.errors import InvalidInput, Unreachable
from enthesis.model.estate import Estate


def sign_in_person(estate: Estate, folder: Path, organisation: str | None, show: Callable[[str, str], None]) -> SignIn:
    """Asks the directory, shows the code and the page, waits until the person has agreed, and keeps the sign-in.

    Raises LiveFailure where the directory refuses or does not answer, InvalidInput where nothing can be kept.
    """
    made_ready()  # so that nobody agrees to what cannot be kept
    name, directory = _directory(estate, folder, organisation)
    signed_in = directory.sign_in(show)
    made = keep(name, directory.client.url, signed_in, directory.client.ahead or timedelta(0))
    directory.client.close()
    return made


def end_sign_in(estate: Estate, folder: Path, ended: SignIn) -> str:
    """Ends a sign-in at its directory, whose name it returns; LiveFailure where that cannot be done."""
    name, directory = _directory(estate, folder, ended.organisation)
    directory.forget(ended.secret)
    directory.client.close()
    return name


def signed_in(estate: Estate, folder: Path, now: datetime) -> SignIn | None:
    """The sign-in, still in time, at the directory of an organisation of ours; None where nobody has signed in."""
    places = directories_of(estate, folder)
    mine = (sign_in for sign_in in kept() if not estate.is_outside(sign_in.organisation) and is_of(sign_in, places))
    return next((sign_in for sign_in in mine if sign_in.ends > now), None)


def is_of(sign_in: SignIn, places: Mapping[str, tuple[str, Path | None]]) -> bool:
    """Whether a sign-in was made at one of these directories: another estate may have an organisation of that name."""
    return places.get(sign_in.organisation, ("", None))[0] == sign_in.directory


def _directory(estate: Estate, folder: Path, organisation: str | None) -> tuple[str, Directory]:
    """The directory of an organisation: the lab's, or the one that the estate names."""
    every = directories_of(estate, folder)
    ours = [name for name in every if not estate.is_outside(name)]
    running_ones = [name for name in ours if every[name][1] is not None]  # at the lab
    if organisation is None and len(ours) > 1 and len(running_ones) == 1:
        ours = running_ones
    name = f"@{organisation.removeprefix('@')}" if organisation else next(iter(ours), "")
    if organisation is None and len(ours) > 1:
        raise InvalidInput(
            f"there are several directories: {', '.join(ours)}",
            code="directory-ambiguous",
            remedy="name one with --organisation",
        )
    if name not in every:
        remedy = "write `directory: URL` at the organisation, or start a lab whose estate has people"
        if ours:
            remedy = f"the one that is known: --organisation {' or '.join(one.removeprefix('@') for one in ours)}"
        raise Unreachable("no directory is known where people sign in", code="directory-unknown", remedy=remedy)
    url, trusted = every[name]
    return name, Directory(name, Client(name, url, authority=trusted))


def directories_of(estate: Estate, folder: Path) -> dict[str, tuple[str, Path | None]]:
    """Where people of each organisation sign in, and the authority to trust there: the lab's place, or the estate's."""
    lab = running(folder)
    places = {
        f"@{organisation.name}": (organisation.directory, None)
        for organisation in estate.organisations.values()
        if organisation.directory
    }
    of_lab = {
        service["name"]: service["url"] for service in (lab.services if lab else ()) if service["kind"] == "directory"
    }
    authority = lab.authority if lab is not None else None
    return {**places, **{name: (url, authority) for name, url in of_lab.items()}}

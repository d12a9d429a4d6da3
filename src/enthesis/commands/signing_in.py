"""Signing in by the device grant, and ending a sign-in, for `enthesis lend`."""

from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from enthesis.commands.common import lab_state, remark

if TYPE_CHECKING:
    from enthesis.connectors.directory import Directory


def sign_in_now(estate: Path | None, organisation: str | None, *, quiet: bool) -> None:
    """Asks the directory, shows the code, waits until somebody has agreed, and keeps the sign-in."""
    from enthesis.commands.sign_in import keep, made_ready

    made_ready()  # so that nobody agrees to what cannot be kept
    name, directory = _directory(estate, organisation)

    def tell(code: str, page: str) -> None:
        remark(f"Agree at {page} if the code there is {code}.")

    signed_in = directory.sign_in(tell)
    made = keep(name, directory.client.url, signed_in, directory.client.ahead or timedelta(0))
    directory.client.close()
    remark(f"Signed in as {made.person} until {made.ends:%H:%M:%SZ}; `enthesis lend --forget` ends it.", quiet=quiet)


def forget_sign_in(estate: Path | None, organisation: str | None, *, quiet: bool) -> None:
    """Ends what sign-ins there are, at their directories and here; what could not be ended there is said."""
    from enthesis.commands.sign_in import kept
    from enthesis.errors import LiveFailure

    found = [one for one in kept() if organisation in (None, one.organisation, one.organisation.removeprefix("@"))]
    if not found:
        remark("Nobody is signed in.", quiet=quiet)
    left: list[str] = []
    for one in found:
        try:
            name, directory = _directory(estate, one.organisation)
            directory.forget(one.secret)
            directory.client.close()
            remark(f"The sign-in of {one.person} at {name} is over.", quiet=quiet)
        except LiveFailure as fault:
            left.append(f"{one.person} at {one.organisation}: {fault.message}")
        finally:
            one.path.unlink(missing_ok=True)
    if left:
        remedy = "a sign-in ends by itself within eight hours"
        raise LiveFailure(f"forgotten here, and not ended there: {'; '.join(left)}", remedy=remedy)


def _directory(estate: Path | None, organisation: str | None) -> "tuple[str, Directory]":
    """The directory of an organisation: the lab's, or the one that the estate names."""
    from enthesis.commands.common import estate_folder, read_estate
    from enthesis.connectors.directory import Directory
    from enthesis.connectors.http import Client
    from enthesis.errors import Mistaken, Unreachable
    from enthesis.lab.control import running

    folder = estate_folder(estate)
    described = read_estate(folder)
    lab = running(lab_state(folder))
    places = {f"@{one.name}": (one.directory, None) for one in described.organisations.values() if one.directory}
    of_lab = {one["name"]: one["url"] for one in (lab.services if lab else ()) if one["kind"] == "directory"}
    authority = lab.authority if lab is not None else None
    every = {**places, **{name: (url, authority) for name, url in of_lab.items()}}
    ours = [name for name in every if not described.is_outside(name)]
    name = f"@{organisation.removeprefix('@')}" if organisation else next(iter(ours), "")
    if organisation is None and len(ours) > 1:
        raise Mistaken(f"there are several directories: {', '.join(ours)}", remedy="name one with --organisation")
    if name not in every:
        remedy = "write `directory: URL` at the organisation, or start a lab whose estate has people"
        raise Unreachable("no directory is known where people sign in", remedy=remedy)
    url, trusted = every[name]
    return name, Directory(name, Client(name, str(url), authority=trusted))

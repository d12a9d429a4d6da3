"""A person's sign-in: one 0600 file in the user's runtime folder, for eight hours at the most."""

import json
import os
import stat
import warnings
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from platformdirs import user_runtime_path

from enthesis.files.atomic_files import fresh_file
from enthesis.model.errors import InvalidInput
from enthesis.model.escapes import word
from enthesis.model.secrets import Secret
from enthesis.ports import HeldCredential
from enthesis.tokens.checking import Refused, parsed

LONGEST = timedelta(hours=8)
MAX_FILE = 65_536  # bytes


@dataclass(frozen=True)
class SignIn:
    """Who signed in, at which directory (its url), until when."""

    organisation: str
    directory: str
    person: str
    ends: datetime
    secret: Secret
    path: Path

    @property
    def mfa(self) -> bool | None:
        """Whether it says that a second factor was shown (RFC 8176); None where it says nothing of factors."""
        try:
            factors = parsed(self.secret.reveal().encode()).unverified_claims.get("amr")
        except Refused:
            return None
        return "mfa" in factors if isinstance(factors, list) else None


def runtime_folder() -> Path:
    """Where sign-ins are kept: the user's own folder for what must not outlive the session. It need not be there."""
    with warnings.catch_warnings():
        warnings.simplefilter(
            "ignore"
        )  # without such a folder one in the temporary folder is made, and looked at below
        return user_runtime_path("enthesis") / "sign-in"


def _ours(place: Path) -> Path:
    """The folder, if it and the ones that lead to it are ours alone; InvalidInput where others could reach in."""
    for folder, others in ((place, 0o077), (place.parent, 0o022)):
        found = folder.lstat()
        if not stat.S_ISDIR(found.st_mode) or found.st_uid != os.getuid() or found.st_mode & others:
            raise InvalidInput(
                f"{folder} is not yours alone, so no sign-in is kept there",
                code="folder-not-private",
                remedy=f"chmod 700 {word(str(folder))}",
            )
    return place


def made_ready() -> Path:
    """The folder, made where it is not there; InvalidInput where it cannot be ours alone."""
    place = runtime_folder()
    try:
        for folder in (place.parent, place):
            folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    except OSError as fault:
        raise InvalidInput(f"{place} cannot be used: {fault.strerror}", code="folder-unusable") from None
    return _ours(place)


def keep(organisation: str, directory: str, credential: HeldCredential, ahead: timedelta = timedelta(0)) -> SignIn:
    """Writes a sign-in in place of the one before it at the same organisation.

    It ends by the directory's clock, which is `ahead` of ours."""
    try:
        person = str(parsed(credential.secret.reveal().encode()).unverified_claims.get("sub", "an unknown person"))
    except Refused:
        person = "an unknown person"
    now = (datetime.now(UTC) + ahead).replace(microsecond=0)
    ends = now + min(credential.life, LONGEST)
    path = made_ready() / f"{organisation.removeprefix('@')}.json"
    described = {
        "organisation": organisation,
        "directory": directory,
        "person": person,
        "ends": ends.isoformat(),
        "token": credential.secret.reveal(),
    }
    with fresh_file(path, mode=0o600) as file:
        file.write(json.dumps(described).encode())
    return SignIn(organisation, directory, person, ends, credential.secret, path)


def kept() -> Iterator[SignIn]:
    """The sign-ins that there are, those that have ended too; a file that is not ours alone is not read."""
    place = runtime_folder()
    if not place.exists():
        return
    for path in sorted(_ours(place).glob("*.json")):
        found = path.lstat()
        if not stat.S_ISREG(found.st_mode) or found.st_mode & 0o077 or found.st_size > MAX_FILE:
            continue
        try:
            read = json.loads(path.read_bytes())
            ends = datetime.fromisoformat(read["ends"])
            texts = [str(read[name]) for name in ("organisation", "directory", "person")]
            yield SignIn(texts[0], texts[1], texts[2], ends, Secret(str(read["token"])), path)
        except (ValueError, KeyError, TypeError, OSError, RecursionError):
            continue

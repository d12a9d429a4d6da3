"""Reads a copy of a host's files into the estate's words: whom its OpenSSH server lets in, by keys that stay, by
certificates, and by passwords.

The copy is of the whole host, or of /etc/ssh alone. What lets in by certificates for the host itself, of the authority
that the estate names, is decided by grants and told there. Everything else that opens the host is told here: keys as
keyed credentials of what the host runs as, and what the estate's words cannot say as left out.
"""

import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath

from enthesis.connectors.host_files import SETTING
from enthesis.connectors.ssh_keys import fingerprint
from enthesis.files.saving import read_file
from enthesis.files.shapes import time_text
from enthesis.model.errors import InvalidInput
from enthesis.ports import Record

PLACE = PurePosixPath("/etc/ssh")
MOST = 4 * 2**20  # bytes of one file
MOST_INCLUDED = 64  # files of settings
USUAL = {
    "passwordauthentication": "yes", "kbdinteractiveauthentication": "yes", "pubkeyauthentication": "yes",
    "authorizedkeysfile": ".ssh/authorized_keys .ssh/authorized_keys2", "authorizedprincipalsfile": "none",
    "trustedusercakeys": "none", "authorizedkeyscommand": "none", "authorizedprincipalscommand": "none",
}  # fmt: skip
"""What a server does where its settings say nothing (OpenSSH, sshd_config(5))."""
KEY = re.compile(r"(?:ssh-|ecdsa-|sk-)\S+ (?P<blob>AAAA\S+)(?: +(?P<comment>.*))?")
ENDS = re.compile(r'expiry-time="(\d{8})(\d{4}(?:\d{2})?)?Z?"')
AUTHORITY = re.compile(r"(^|,)cert-authority(,|\s)")
SIMPLE = re.compile(r"[\w.@-]+")  # a comment that names a key
ONLY_ADDRESS = "grants decide only about certificates for the host's address"
NOBODY = ("nologin", "false", "sync", "shutdown", "halt")  # shells that let nobody in


@dataclass(frozen=True, slots=True)
class LoginKey:
    """A public key that a host lets in: as which user, by which line, its fingerprint, its comment, and its end."""

    user: str
    where: str
    fingerprint: str
    comment: str
    ends: datetime | None


class HostCopy:
    """A copy of the files of one host. `address` is its place in the estate; `runs_as` the identities of what
    runs on it, `authority` the public key of the authority that it should accept, None where that is not known."""

    what = "host"

    def __init__(self, address: str, folder: Path, runs_as: tuple[str, ...] = (), authority: str | None = None) -> None:
        self.name = self.address = address
        self.url = f"a copy of its files in {folder}"
        self.folder = folder
        self.runs_as = runs_as
        self.authority = authority
        whole = (folder / "etc" / "ssh").is_dir()
        self.root = folder if whole else None  # None: the copy is of /etc/ssh alone
        if not (self.at(PLACE / "sshd_config") or Path()).is_file():
            raise InvalidInput(
                f"{folder} has no sshd_config",
                code="file-unreadable",
                remedy="copy the host's /etc/ssh there, or all of it",
            )

    def at(self, path: PurePosixPath) -> Path | None:
        """Where a file of the host is in the copy; None where the copy does not reach."""
        path = PurePosixPath("/") / path
        if self.root is not None:
            found = self.root / path.relative_to("/")
        elif path.is_relative_to(PLACE):
            found = self.folder / path.relative_to(PLACE)
        else:
            return None
        try:
            inside = found.resolve().is_relative_to(self.folder.resolve())  # a link may lead out of the copy
        except (OSError, RuntimeError, ValueError):  # links in a circle
            return None
        return found if inside else None

    def records(self, step: Callable[[str], None]) -> Iterator[Record]:
        """Everything: the host, keys, what was left out, and findings."""
        step(self.address)
        yield {"section": "resources", "address": self.address}
        yield from _Reading(self).records()

    def adoptable(self, step: Callable[[str], None]) -> list[Record]:
        """Everything: none of it is of our making."""
        return list(self.records(step))


@dataclass
class _Reading:
    """One pass over a copy."""

    host: HostCopy
    settings: dict[str, str] = field(default_factory=dict)  # of each the first, which counts
    missing: list[Record] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._settle(PLACE / "sshd_config", [MOST_INCLUDED])

    def text(self, path: PurePosixPath, *, needed: bool = True) -> list[str]:
        """The lines of a file of the host, without comments; what is missing is noted where it is needed."""
        found = self.host.at(path)
        try:
            if found is not None and not needed and not found.exists():
                return []
            if found is None or not found.is_file():  # a pipe would be waited for
                raise InvalidInput("the copy does not have it", code="file-unreadable")
            lines = read_file(found, MOST).decode(errors="replace").splitlines()
        except InvalidInput:
            self.miss(str(path), "it is not in the copy, or cannot be read")
            return []
        return [line.strip() for line in lines]

    def miss(self, what: str, why: str) -> None:
        """Notes what is left out, and makes the answer one that is not whole."""
        self.missing.append({"left_out": f"{what} at {self.host.address}", "why": why, "incomplete": True})

    def _settle(self, path: PurePosixPath, left: list[int]) -> None:
        """Takes note of the settings of a file and of those that it includes, up to what is for some logins only."""
        for line in self.text(path):
            setting = SETTING.match(line) if not line.startswith("#") else None
            if setting is None:
                continue
            name, value = setting[1].lower(), setting[2].strip().strip('"')
            if name == "match":
                self.miss(f"what is set for some logins only ({line})", "only what counts for all is read")
                return
            if name == "include":
                for pattern in value.split():
                    for inner in self._included(PLACE / pattern):
                        left[0] -= 1
                        if left[0] > 0:
                            self._settle(inner, left)
            else:
                self.settings.setdefault(name, value)

    def _included(self, pattern: PurePosixPath) -> list[PurePosixPath]:
        folder = self.host.at(pattern.parent)
        if folder is None:
            self.miss(f"the settings in {pattern}", "they are not in the copy")
            return []
        return [pattern.parent / found.name for found in sorted(folder.glob(pattern.name)) if found.is_file()]

    def set(self, name: str) -> str:
        """A setting, or what the server does without it; 'none' where it is off."""
        value = self.settings.get(name, USUAL[name])
        return "none" if value.lower() == "none" else value

    # -- who gets in -----------------------------------------------------------------------------------------------

    def records(self) -> Iterator[Record]:
        """Everything that lets somebody in."""
        if self.set("pubkeyauthentication").lower() != "no":
            users = self._users()
            yield from self._by_key(list(self._keys(users)))
            yield from self._by_certificate(users)
        for name, what in (("PasswordAuthentication", "password"), ("KbdInteractiveAuthentication", "prompt")):
            if self.set(name.lower()).lower() != "no":
                yield self._finding("password-works", f"logins by {what} are on: set {name} to no")
                self.miss(f"logins by {what}", "the copy does not say who can answer")
        yield from self.missing

    def _users(self) -> dict[str, PurePosixPath]:
        """Who may log in at all, with their homes; nobody where the copy does not say it."""
        if self.host.root is None:
            return {}
        out = {}
        for line in self.text(PurePosixPath("/etc/passwd")):
            parts = line.split(":")
            if len(parts) == 7 and parts[6].rsplit("/", 1)[-1] not in NOBODY:
                out[parts[0]] = PurePosixPath(parts[5])
        return out

    def _keys(self, users: dict[str, PurePosixPath]) -> Iterator[LoginKey]:
        """The keys that are let in."""
        if self.set("authorizedkeyscommand") != "none":
            self.miss("the keys that are let in", f"a program says which: {self.set('authorizedkeyscommand')}")
        for form in () if self.set("authorizedkeysfile") == "none" else self.set("authorizedkeysfile").split():
            for user, path in self._of_each(form, users):
                for number, line in enumerate(self.text(path, needed=False), 1):
                    if not line or line.startswith("#"):
                        continue
                    key = KEY.search(line)
                    print_ = _fingerprint(key)
                    if key is None or not print_:
                        self.miss(f"line {number} of {path}", "this is not a public key in the format of OpenSSH")
                        continue
                    where = f"line {number} of {path}"
                    if AUTHORITY.search(line[: key.start()]):
                        self.miss(
                            f"logins as {user} with certificates of the authority {print_}", f"{where} accepts them"
                        )
                        continue
                    yield LoginKey(user, where, print_, (key["comment"] or "").strip(), _end(line[: key.start()]))

    def _of_each(self, form: str, users: dict[str, PurePosixPath]) -> Iterator[tuple[str, PurePosixPath]]:
        """The files that a setting with `%u` and `%h` names, each with the user that it is for: beneath a home those of
        the users that the copy lists, elsewhere whichever files are there. What the copy cannot have is noted."""
        if "%h" in form or not form.startswith("/"):
            if self.host.root is None:
                self.miss(f"the file {form} of each user", "the copy is of /etc/ssh alone")
            for user, home in users.items():
                yield user, home / form.replace("%u", user).replace("%h", str(home)).replace("%%", "%")
            return
        if "%u" not in form:
            yield "any user", PurePosixPath(form)
            return
        start = PurePosixPath(form.split("%u", maxsplit=1)[0] + "x").parent
        folder = self.host.at(start)
        if folder is None or not folder.is_dir():
            self.miss(f"the files {form}", "they are not in the copy")
            return
        named = re.compile(re.escape(form).replace("%u", "(.+)", 1).replace("%u", r"\1"))
        for found in sorted(folder.glob(form[len(str(start)) :].lstrip("/").replace("%u", "*"))):
            path = start / found.relative_to(folder)
            whose = named.fullmatch(str(path))
            if whose is not None:
                yield whose[1], path

    def _by_key(self, keys: Iterable[LoginKey]) -> Iterator[Record]:
        """A finding for each key; it is a keyed credential of what the host runs as, too."""
        stem, names = self.host.address.replace("/host/", "/"), set[str]()
        for key in keys:
            until = f"until {time_text(key.ends)}" if key.ends is not None else "without an end"
            whose = f" ({key.comment})" if key.comment else ""
            says = f"the key {key.fingerprint}{whose} allows logins as {key.user} {until}: {key.where}"
            yield self._finding("key-logs-in", says)
            self.miss(f"logins with the key {key.fingerprint}{whose}", "the host accepts it without asking for a grant")
            for identity in self.host.runs_as:
                called = key.comment if SIMPLE.fullmatch(key.comment) else key.fingerprint
                name = f"{stem}/{key.user.replace(' ', '-')}/{called}"
                name = f"{name}/{key.fingerprint}" if name in names else name
                names.add(name)
                ends = {"expires": time_text(key.ends)} if key.ends is not None else {}
                yield {
                    "section": "credentials", "name": name, "of": identity, "form": "key-pair", **ends,
                    "fingerprint": key.fingerprint,
                }  # fmt: skip

    def _by_certificate(self, users: dict[str, PurePosixPath]) -> Iterator[Record]:
        """Whom the host lets in by certificates, but for those that are for the host itself."""
        file = self.set("trustedusercakeys")
        if file == "none":
            return
        authorities = []
        for line in self.text(PurePosixPath(file)):
            if line and not line.startswith("#"):
                authorities.append(_fingerprint(KEY.search(line)))
        if not all(authorities):
            self.miss(f"a line of {file}", "this is not a public key in the format of OpenSSH")
        ours = fingerprint(self.host.authority) if self.host.authority else ""
        for other in (one for one in authorities if one and one != ours):
            why = f"the estate names another one for {self.host.address}" if ours else "the estate does not name it"
            says = f"the host accepts certificates of the authority {other}, and {why}: {file}"
            yield self._finding("authority-of-others", says)
            self.miss(f"logins with certificates of the authority {other}", why)
        if self.set("authorizedprincipalscommand") != "none":
            self.miss("the names that are let in", f"a program says which: {self.set('authorizedprincipalscommand')}")
        form = self.set("authorizedprincipalsfile")
        if form == "none":
            self.miss("logins with certificates for the name of a user", ONLY_ADDRESS)
            return
        for user, path in self._of_each(form, users):
            for line in self.text(path, needed=False):
                name = line.rsplit(None, 1)[-1] if line and not line.startswith("#") else ""
                if name and name != self.host.address:
                    says = f"certificates for {name} allow logins as {user}, whatever the grants are: {path}"
                    yield self._finding("login-by-another-name", says)
                    self.miss(f"logins with certificates for {name}", ONLY_ADDRESS)

    def _finding(self, code: str, says: str) -> Record:
        return {"finding": code, "at": self.host.address, "says": says}


def _fingerprint(key: re.Match[str] | None) -> str:
    """The fingerprint of a key in a line; '' where it is none."""
    try:
        return fingerprint(f"key {key['blob']}") if key is not None else ""
    except InvalidInput:
        return ""


def _end(options: str) -> datetime | None:
    """When a key is let in no more, by its options; None: never. A time without a zone is taken as UTC."""
    found = ENDS.search(options)
    if found is None:
        return None
    text = found[1] + (found[2] or "0000")
    try:
        return datetime.strptime(text.ljust(14, "0"), "%Y%m%d%H%M%S").replace(tzinfo=UTC)
    except ValueError:
        return None

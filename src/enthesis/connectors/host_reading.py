"""Reads a copy of a host's files into the estate's words: whom its OpenSSH server lets in, by keys that stay, by
certificates, and by passwords.

The copy is of the whole host, or of /etc/ssh alone. What lets in by certificates for the host itself, of the authority
that the estate names, is decided by grants and told there. Everything else that opens the host is told here: keys as
keyed credentials of what the host runs as, and what the estate's words cannot say as left out.
"""

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path, PurePosixPath

from enthesis.connectors.host_settings import (
    SOMEBODY,
    HostAccount,
    HostSettings,
    LoginSettings,
    accounts_in,
    comes_from,
    fits,
    judging,
)
from enthesis.connectors.ssh_keys import fingerprint
from enthesis.files.saving import read_file
from enthesis.model.errors import InvalidInput
from enthesis.ports import Record
from enthesis.surveys.unread import Unread
from enthesis.text.times import time_text

PLACE = PurePosixPath("/etc/ssh")
MOST = 4 * 2**20  # bytes of one file
KEY = re.compile(r"(?:ssh-|ecdsa-|sk-)\S+ (?P<blob>AAAA\S+)(?: +(?P<comment>.*))?")
ENDS = re.compile(r'expiry-time="(\d{8})(\d{4}(?:\d{2})?)?Z?"')
COMMAND = re.compile(r'(^|,)command="')
FROM = re.compile(r'(^|,)from="([^"]*)"')
PLACES = "\0"  # stands for from where a way is open
AUTHORITY = re.compile(r"(^|,)cert-authority(,|\s)")
SIMPLE = re.compile(r"[\w.@-]+")  # a comment that names a key
ONLY_ADDRESS = "grants decide only about certificates for the host's address"
NOBODY = ("nologin", "false", "sync", "shutdown", "halt")  # shells that run nothing for anybody
KEYS_ALONE = ("no", "prohibit-password", "without-password", "forced-commands-only")  # for the superuser
EVERY_METHOD = frozenset(("publickey", "password", "keyboard-interactive", "gssapi-with-mic", "hostbased"))
ZONES = timedelta(hours=14)  # a time without a zone is of the host's own, which is not known


@dataclass(frozen=True, slots=True)
class LoginKey:
    """A public key that a host lets in: as which user, by which line, its fingerprint, its comment, and its end."""

    user: str
    where: str
    fingerprint: str
    comment: str
    ends: datetime | None
    limits: str = ""


class HostCopy:
    """A copy of the files of one host. `address` is its place in the estate; `runs_as` the identities of what
    runs on it, `authority` the public key of the authority that it should accept, None where that is not known."""

    what = "host"

    def __init__(
        self, address: str, folder: Path, runs_as: tuple[str, ...] = (), authority: str | None = None, url: str = "",
        unseen: str = "",
    ) -> None:  # fmt: skip
        """`url` is where the files were fetched from, if they were; `unseen` what of them could not be."""
        self.name = self.address = address
        self.url = url or f"a copy of its files in {folder}"
        self.unseen = unseen
        self.folder = folder
        self.runs_as = runs_as
        self.authority = authority
        self.now = datetime.now(UTC)
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
    keys: dict[str, Record] = field(default_factory=dict)  # keyed credentials, by name
    open: dict[str, tuple[Record, set[str]]] = field(default_factory=dict)  # each way in, and from where
    named: dict[str, str] = field(default_factory=dict)  # names of credentials, with the key that has it
    judged_by: str = ""
    apart: frozenset[str] = frozenset()  # users for whom something of their own is set
    missing: dict[str, Record] = field(default_factory=dict)  # each thing once

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
        at = self.host.address
        self.missing.setdefault(f"{what}: {why}", Unread(f"{what} at {at}", why, at).record)

    def _included(self, pattern: PurePosixPath) -> list[PurePosixPath]:
        folder = self.host.at(pattern.parent)
        if folder is None:
            self.miss(f"the settings in {pattern}", "they are not in the copy")
            return []
        return [pattern.parent / found.name for found in sorted(folder.glob(pattern.name)) if found.is_file()]

    # -- who gets in -----------------------------------------------------------------------------------------------

    def records(self) -> Iterator[Record]:
        """Everything that lets somebody in."""
        settings = HostSettings(PLACE / "sshd_config", self.text, self._included, self.miss)
        accounts = self._accounts(settings)
        groups_known = self.host.at(PurePosixPath("/etc/group")) is not None
        with judging(settings, accounts, groups_known=groups_known) as judge:
            self.judged_by = judge.version if judge is not None else ""
            places = judge.places if judge is not None else [""]
            self.apart = frozenset(account.name for account in accounts) if self.host.root is None else frozenset()
            for account in accounts if accounts and self.host.root is not None else [HostAccount(""), *accounts]:
                all_of = judge.of(account.name or SOMEBODY) if judge is not None else [settings.for_all()]
                for one in all_of:
                    self._of(account, one)
        if settings.matches and self.judged_by:
            version = f"{self.judged_by}, which is installed here"
            yield {"left_out": f"whether the server of {self.host.address} means the same by its settings",
                   "why": f"they were judged by {version}", "at": self.host.address}  # fmt: skip
        if self.host.unseen:
            self.miss("files that only some may see", self.host.unseen)
        yield from self._told(places)
        yield from self.keys.values()
        yield from self.missing.values()

    def _of(self, account: HostAccount, settings: LoginSettings) -> None:
        """Notes each way in for an account by the settings that count for it."""
        if not _may_log_in(account, settings):
            return
        methods = _methods(settings)
        if settings.on("pubkeyauthentication") and "publickey" in methods:
            self._by_key(self._keys(account, settings), settings)
            self._by_certificate(account, settings)
        self._by_word(account, settings, methods)
        self._by_others(account, settings, methods)

    def _accounts(self, settings: HostSettings) -> list[HostAccount]:
        """Who may log in, as far as the copy says; those whom its settings name where it does not have users."""
        if self.host.root is None:
            return [HostAccount(name) for name in settings.named_users()]
        shadow, group = (self.text(PurePosixPath(f"/etc/{name}"), needed=False) for name in ("shadow", "group"))
        return accounts_in(self.text(PurePosixPath("/etc/passwd")), group, shadow)

    def _keys(self, account: HostAccount, settings: LoginSettings) -> Iterator[LoginKey]:
        """The keys that are let in."""
        if settings.one("authorizedkeyscommand") != "none":
            self.miss("the keys that are let in", f"a program says which: {settings.one('authorizedkeyscommand')}")
        for form in settings.words("authorizedkeysfile"):
            for user, path in self._of_each(form, account):
                for number, line in enumerate(self.text(path, needed=False), 1):
                    if not line or line.startswith("#"):
                        continue
                    key = KEY.search(line)
                    print_ = _fingerprint(key)
                    where = f"line {number} of {path}"
                    if key is None or not print_:
                        self.miss(where, "this is not a public key in the format of OpenSSH")
                        continue
                    options = line[: key.start()]
                    if AUTHORITY.search(options):
                        self.miss(
                            f"logins as {user} with certificates of the authority {print_}", f"{where} accepts them"
                        )
                        continue
                    ends = _end(options)
                    commanded = account.uid != "0" or settings.one("permitrootlogin").lower() != "forced-commands-only"
                    if not (commanded or COMMAND.search(options)):
                        continue
                    if (ends is None or ends + ZONES > self.host.now) and not self._revoked(key["blob"], settings):
                        comment, limits = (key["comment"] or "").strip(), _limits(options, account)
                        yield LoginKey(user, where, print_, comment, ends, limits)

    def _revoked(self, blob: str, settings: LoginSettings) -> bool:
        """Whether a key is in the file of those that are not taken any more."""
        file = settings.one("revokedkeys")
        if file == "none":
            return False
        found = self.host.at(PurePosixPath(file))
        if found is not None and found.is_file() and read_file(found, MOST).startswith(b"SSHKRL\n"):
            self.miss(f"the keys that are revoked in {file}", "it is a binary list")
            return False
        return any(blob in line.split() for line in self.text(PurePosixPath(file)))

    def _of_each(self, form: str, account: HostAccount) -> Iterator[tuple[str, PurePosixPath]]:
        """The files that a setting with `%u` and `%h` names, each with the user that it is for: of an account that the
        copy lists its own, else whichever files are there. What the copy cannot have is noted."""
        if self.host.root is not None and account.name:
            yield account.name, account.file(form)
            return
        if "%h" in form or not form.startswith("/"):
            self.miss(f"the file {form} of {account.name or 'each user'}", "the copy is of /etc/ssh alone")
            return
        if "%u" not in form:
            yield account.name or "any user", PurePosixPath(form)
            return
        start = PurePosixPath(form.split("%u", maxsplit=1)[0] + "x").parent
        folder = self.host.at(start)
        if folder is None or not folder.is_dir():
            self.miss(f"the files {form}", "they are not in the copy")
            return
        named_so = re.compile(re.escape(form).replace("%u", "(.+)", 1).replace("%u", r"\1"))
        for found in sorted(folder.glob(form[len(str(start)) :].lstrip("/").replace("%u", "*"))):
            path = start / found.relative_to(folder)
            whose = named_so.fullmatch(str(path))
            if whose is not None and (whose[1] == account.name or (not account.name and whose[1] not in self.apart)):
                yield whose[1], path

    def _by_key(self, keys: Iterable[LoginKey], settings: LoginSettings) -> None:
        """A finding for each key; it is a keyed credential of what the host runs as, too."""
        stem = self.host.address.replace("/host/", "/")
        for key in keys:
            until = f"until {time_text(key.ends)}" if key.ends is not None else "without an end"
            whose = f" ({key.comment})" if key.comment else ""
            says = f"the key {key.fingerprint}{whose} allows {key.limits or 'logins'} as {key.user} {until}"
            besides = _besides("publickey", settings)
            self._finding("key-logs-in", f"{says}{besides}{PLACES}: {key.where}", settings)
            self.miss(f"logins with the key {key.fingerprint}{whose}", "the host accepts it without asking for a grant")
            for identity in self.host.runs_as:
                called = key.comment if SIMPLE.fullmatch(key.comment) else key.fingerprint
                name = f"{stem}/{key.user.replace(' ', '-')}/{called}"
                known = self.named.setdefault(name, key.fingerprint)
                name = f"{name}/{key.fingerprint}" if known != key.fingerprint else name
                ends = {"expires": time_text(key.ends)} if key.ends is not None else {}
                entry = {"section": "credentials", "name": name, "of": identity, "form": "key-pair", **ends}
                self.keys.setdefault(name, {**entry, "fingerprint": key.fingerprint})

    def _by_certificate(self, account: HostAccount, settings: LoginSettings) -> None:
        """Whom the host lets in by certificates, but for those that are for the host itself."""
        file = settings.one("trustedusercakeys")
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
            self._finding("authority-of-others", says, settings)
            self.miss(f"logins with certificates of the authority {other}", why)
        if settings.one("authorizedprincipalscommand") != "none":
            program = settings.one("authorizedprincipalscommand")
            self.miss("the names that are let in", f"a program says which: {program}")
        form = settings.one("authorizedprincipalsfile")
        if form == "none":
            self.miss("logins with certificates for the name of a user", ONLY_ADDRESS)
            return
        for user, path in self._of_each(form, account):
            for line in self.text(path, needed=False):
                name = line.rsplit(None, 1)[-1] if line and not line.startswith("#") else ""
                if name and name != self.host.address:
                    says = f"certificates for {name} allow logins as {user}, whatever the grants are: {path}"
                    self._finding("login-by-another-name", says, settings)
                    self.miss(f"logins with certificates for {name}", ONLY_ADDRESS)

    def _by_word(self, account: HostAccount, settings: LoginSettings, methods: frozenset[str]) -> None:
        """Logins by a password, or by none."""
        root = account.uid == "0" and settings.one("permitrootlogin").lower() in KEYS_ALONE
        if root or ((account.password or "").startswith("*") and not settings.on("usepam")):
            return
        called = f" as {account.name}" if account.name else ""
        if settings.on("passwordauthentication") and "password" in methods:
            besides = _besides("password", settings)
            if account.password == "" and settings.on("permitemptypasswords"):
                says = f"the empty password of {account.name} allows logins without any proof{besides}{PLACES}"
                self._finding("login-without-proof", says, settings)
            elif account.password != "":
                self._finding("password-works", "logins by password are on: set PasswordAuthentication no", settings)
                why = f"the copy does not say who can answer{PLACES}"
                self._way(
                    {"left_out": f"logins by password{called}{besides}", "why": why, "incomplete": True}, settings
                )
        prompts = settings.on("kbdinteractiveauthentication") and "keyboard-interactive" in methods
        if prompts and settings.on("usepam"):
            says = "logins by prompt are on: set KbdInteractiveAuthentication no"
            self._finding("password-works", says, settings)
            self.miss(f"logins by prompt{called}", "the copy does not say who can answer")

    def _by_others(self, account: HostAccount, settings: LoginSettings, methods: frozenset[str]) -> None:
        """Ways in that others than this host's files decide."""
        called = f" as {account.name}" if account.name else ""
        keytab = self.host.at(PurePosixPath("/etc/krb5.keytab"))
        if settings.on("gssapiauthentication") and "gssapi-with-mic" in methods and (keytab is None or keytab.exists()):
            self.miss(f"logins{called} by Kerberos (GSSAPIAuthentication)", "its realm says who that is")
        if settings.on("kerberosauthentication") and "password" in methods:
            self.miss(f"logins{called} by a password of Kerberos", "its realm says whose password works")
        if settings.on("hostbasedauthentication") and "hostbased" in methods:
            lists = [PLACE / "shosts.equiv", PurePosixPath("/etc/hosts.equiv")]
            if settings.one("ignorerhosts").lower() != "yes":
                lists += [account.home / ".shosts", account.home / ".rhosts"]
            for path in lists:
                found = self.host.at(path)
                if found is None or found.exists():
                    self.miss(
                        f"logins{called} from the hosts in {path}", "anybody with the key of such a host can log in"
                    )

    def _finding(self, code: str, says: str, settings: LoginSettings) -> None:
        self._way({"finding": code, "says": says}, settings)

    def _way(self, record: Record, settings: LoginSettings) -> None:
        """Notes a way in, open by these settings: each once, with all the places from where it is."""
        _, open_from = self.open.setdefault(repr(sorted(record.items())), (record, set()))
        open_from.add(settings.origin)

    def _told(self, places: Sequence[str]) -> Iterator[Record]:
        """The ways in, with from where they are open."""
        for record, open_from in self.open.values():
            where = _from_where(places, open_from)
            found = {
                name: text.replace(PLACES, where) if isinstance(text, str) else text for name, text in record.items()
            }
            if "left_out" in found:
                found["left_out"] = f"{found['left_out']} at {self.host.address}"
            yield {**found, "at": self.host.address}


def _from_where(places: Sequence[str], open_from: set[str]) -> str:
    """From where a way is open, of these places ('' is anywhere else); '' where it is from all of them."""
    shut = [place for place in places if place not in open_from]
    if not shut:
        return ""
    if "" in open_from:
        return f", but not from {' and '.join(shut)}"
    return f", from {' and '.join(place for place in places if place in open_from)} alone"


def _may_log_in(account: HostAccount, settings: LoginSettings) -> bool:
    """Whether the lists of users and groups let an account in at all (sshd_config(5), AllowUsers)."""
    if not account.name:
        return True
    if account.uid == "0" and settings.one("permitrootlogin").lower() == "no":
        return False
    if (account.password or "").startswith("!") and not settings.on("usepam"):
        return False  # a locked account

    def names(listed: str) -> list[str]:
        """The patterns of users of a list, but for those who are named for other hosts."""
        found = [one.partition("@") for one in settings.words(listed)]
        return [name for name, _, hosts in found if not hosts or comes_from([hosts], settings)]

    groups = sorted(account.groups)
    if fits(names("denyusers"), [account.name]):
        return False
    if settings.words("allowusers") and not fits(names("allowusers"), [account.name]):
        return False
    if fits(settings.words("denygroups"), groups):
        return False
    groups_allowed = settings.words("allowgroups")
    return not groups_allowed or fits(groups_allowed, groups)


def _methods(settings: LoginSettings) -> frozenset[str]:
    """The methods that a login can begin or end with (sshd_config(5), AuthenticationMethods)."""
    said = settings.words("authenticationmethods")
    if not said or said == ("any",):
        return EVERY_METHOD
    return frozenset(one.split(":", 1)[0] for listed in said for one in listed.split(","))


def _besides(method: str, settings: LoginSettings) -> str:
    """What a login by a method needs besides; '' where one of the lists asks for it alone."""
    said = [listed.split(",") for listed in settings.words("authenticationmethods")]
    mine = [[one for one in listed if one != method] for listed in said if method in listed]
    return "" if not mine or [] in mine else f", with {' and '.join(mine[0])} besides"


def _limits(options: str, account: HostAccount) -> str:
    """What a key is good for where that is less than a login; '' where it is not less."""
    found = FROM.search(options)
    where = f"from {found[2]} alone" if found is not None else ""
    if account.shell.rsplit("/", 1)[-1] in NOBODY:
        return " ".join(["tunnels", *filter(None, [where]), "(the shell runs nothing)"])
    return f"logins {where}" if where else ""


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

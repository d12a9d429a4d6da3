"""What the settings in a copy of a host mean for one login: as OpenSSH's own server says, where one is installed here.

`sshd -T -C user=…,host=…,addr=…` prints the settings that count for a login. It is run on a rewritten copy, in which
files are included from the copy, groups are those of the copy, and nothing names a file of this machine.
"""

import fnmatch
import re
import shlex
import shutil
import subprocess
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from functools import cached_property
from ipaddress import ip_address, ip_network
from pathlib import Path, PurePosixPath

from enthesis.connectors.host_files import SETTING

PLACES = ("/usr/sbin/sshd", "/usr/local/sbin/sshd", "/opt/sbin/sshd")
MOST_INCLUDED = 64  # files of settings
MOST_ASKED = 400  # logins of one host that the server is asked about
SECONDS = 20
OF_THIS_MACHINE = ("hostkey", "hostcertificate", "hostkeyagent", "securitykeyprovider", "pidfile", "modulifile")
PARTS = 7  # of a line of /etc/passwd
NEVER = "\x01"  # a name that no user has
SOMEBODY = "somebody-unnamed"
FROM_ANYWHERE = ("198.51.100.7", "elsewhere.invalid")  # of documentation (RFC 5737, RFC 6761)
BAD = re.compile(r"(\S+)(?:: | )line (\d+): (Bad configuration option|Unsupported option|Deprecated option)[: ]+(\S+)")
USUAL: Mapping[str, str] = {
    "passwordauthentication": "yes", "kbdinteractiveauthentication": "yes", "pubkeyauthentication": "yes",
    "authorizedkeysfile": ".ssh/authorized_keys .ssh/authorized_keys2", "authorizedprincipalsfile": "none",
    "trustedusercakeys": "none", "authorizedkeyscommand": "none", "authorizedprincipalscommand": "none",
    "permitrootlogin": "prohibit-password", "permitemptypasswords": "no", "usepam": "no", "revokedkeys": "none",
    "gssapiauthentication": "no", "kerberosauthentication": "no", "hostbasedauthentication": "no",
    "ignorerhosts": "yes", "authenticationmethods": "any",
}  # fmt: skip
"""What a server does where its settings say nothing (OpenSSH, sshd_config(5))."""
SPELT = {"challengeresponseauthentication": "kbdinteractiveauthentication", "dsaauthentication": "pubkeyauthentication",
         "skeyauthentication": "kbdinteractiveauthentication"}  # fmt: skip
KNOWN_LISTS = ("allowusers", "denyusers", "allowgroups", "denygroups")
Miss = Callable[[str, str], None]


@dataclass(frozen=True, slots=True)
class ConfigLine:
    """A line of settings: where it stands, the setting in small letters, and its words."""

    file: PurePosixPath
    number: int
    name: str
    words: tuple[str, ...]


@dataclass(frozen=True)
class HostAccount:
    """Somebody who may log in at a host: as the copy's files have it."""

    name: str
    uid: str = ""
    home: PurePosixPath = PurePosixPath("/")
    shell: str = ""
    groups: frozenset[str] = frozenset()
    password: str | None = None  # the field of /etc/shadow; None where it is not known

    def file(self, form: str) -> PurePosixPath:
        """The file that a setting names for this account (sshd_config(5), TOKENS)."""
        named = form.replace("%u", self.name).replace("%h", str(self.home)).replace("%U", self.uid)
        return self.home / named.replace("%%", "%")


def accounts_in(passwd: Iterable[str], group: Iterable[str] = (), shadow: Iterable[str] = ()) -> list[HostAccount]:
    """The accounts of a host by the lines of its files (passwd(5), group(5), shadow(5))."""
    passwords: dict[str, str | None] = {}
    for line in shadow:
        name, *fields = line.split(":")
        passwords[name] = fields[0] if fields else None
    groups: dict[str, set[str]] = {}
    by_number: dict[str, str] = {}
    for line in group:
        name, _, number, members = (*line.split(":"), "", "", "")[:4]
        by_number[number] = name
        for member in filter(None, members.split(",")):
            groups.setdefault(member, set()).add(name)
    out = []
    for line in passwd:
        parts = line.split(":")
        if len(parts) == PARTS and parts[0]:
            of_it = groups.get(parts[0], set()) | ({by_number[parts[3]]} if parts[3] in by_number else set())
            home = PurePosixPath(parts[5] or "/")
            out.append(HostAccount(parts[0], parts[2], home, parts[6], frozenset(of_it), passwords.get(parts[0])))
    return out


@dataclass(frozen=True)
class LoginSettings:
    """The settings that count for a login that comes from an address and host; `origin` says in words which, '' where
    nothing is set for it alone."""

    values: Mapping[str, tuple[str, ...]]
    origin: str = ""
    address: str = FROM_ANYWHERE[0]
    host: str = FROM_ANYWHERE[1]

    def one(self, name: str) -> str:
        """A setting, or what the server does without it; 'none' where it is off."""
        said = self.values.get(name, (USUAL.get(name, ""),))
        value = " ".join(said)
        return "none" if value.lower() == "none" else value

    def words(self, name: str) -> tuple[str, ...]:
        """The words of a setting; nothing where it is off."""
        said = self.values.get(name)
        found = tuple(USUAL.get(name, "").split()) if said is None else said
        return () if [one.lower() for one in found] in ([], ["none"]) else found

    def on(self, name: str) -> bool:
        """Whether a setting is not `no`."""
        return self.one(name).lower() not in ("no", "none", "")


@dataclass
class HostSettings:
    """The settings of a copy. `text` reads the lines of one of its files, `matching` the files of a pattern, `miss`
    takes note of what is left out."""

    main: PurePosixPath
    text: Callable[[PurePosixPath], list[str]]
    matching: Callable[[PurePosixPath], list[PurePosixPath]]
    miss: Miss
    files: dict[PurePosixPath, list[ConfigLine]] = field(default_factory=dict)
    included: dict[tuple[PurePosixPath, int], list[PurePosixPath]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._read(self.main)

    def _read(self, path: PurePosixPath) -> None:
        if path in self.files or len(self.files) >= MOST_INCLUDED:
            return
        self.files[path] = found = []
        for number, line in enumerate(self.text(path), 1):
            setting = SETTING.match(line) if not line.startswith("#") else None
            if setting is None:
                continue
            name = setting[1].lower()
            found.append(ConfigLine(path, number, SPELT.get(name, name), _words(setting[2])))
            if name == "include":
                inner = [one for word in found[-1].words for one in self.matching(self.main.parent / word)]
                self.included[path, number] = inner
                for one in inner:
                    self._read(one)

    def lines(self, path: PurePosixPath | None = None, above: tuple[PurePosixPath, ...] = ()) -> Iterator[ConfigLine]:
        """All lines in the order in which they are read, those of included files in their place."""
        path = path or self.main
        for line in self.files.get(path, ()):
            yield line
            for inner in self.included.get((path, line.number), ()) if line.name == "include" else ():
                if inner not in (*above, path):
                    yield from self.lines(inner, (*above, path))

    @property
    def matches(self) -> list[ConfigLine]:
        """The lines that begin what counts for some logins only."""
        return [line for line in self.lines() if line.name == "match"]

    def named_users(self) -> list[str]:
        """The users whom `Match` lines name without a pattern."""
        found = [one for line in self.matches for one in _of(line, "user")]
        return [one for one in dict.fromkeys(found) if not set("*?!,=") & set(one)]

    def for_all(self) -> LoginSettings:
        """What counts for every login: of each setting the first, up to what is for some logins only."""
        values: dict[str, tuple[str, ...]] = {}
        for line in self.lines():
            if line.name == "match":
                self.miss(f"what is set for some logins only (Match {' '.join(line.words)})",
                          "no OpenSSH server is installed here that could say it")  # fmt: skip
                break
            if line.name in KNOWN_LISTS:
                values[line.name] = (*values.get(line.name, ()), *line.words)
            elif line.name != "include":
                values.setdefault(line.name, line.words)
        return LoginSettings(values)


def _words(text: str) -> tuple[str, ...]:
    """The words of a setting as the server takes them apart: quotes keep blanks, `#` begins a comment."""
    try:
        lexed = shlex.shlex(text, posix=True)
        lexed.whitespace_split, lexed.commenters, lexed.quotes = True, "#", "\"'"
        return tuple(lexed)
    except ValueError:
        return tuple(text.split())


def _of(line: ConfigLine, criterion: str) -> list[str]:
    """The patterns of a criterion of a `Match` line."""
    return [one for name, value in _pairs(line) if name == criterion for one in value.split(",")]


def _pairs(line: ConfigLine) -> Iterator[tuple[str, str]]:
    """The criteria of a `Match` line, in small letters, with their patterns."""
    words = [part for word in line.words for part in (word.split("=", 1) if "=" in word else [word])]
    return ((name.lower(), value) for name, value in zip(words[::2], words[1::2], strict=False))


def fits(patterns: Sequence[str], names: Sequence[str]) -> bool:
    """Whether a list of patterns takes any of these names: one that begins with `!` and fits keeps all of it off."""
    held = False
    for pattern in patterns:
        plain = re.sub(r"([\[\]])", r"[\1]", pattern.removeprefix("!"))
        if any(fnmatch.fnmatchcase(name, plain) for name in names):
            if pattern.startswith("!"):
                return False
            held = True
    return held


def comes_from(patterns: Sequence[str], settings: LoginSettings) -> bool:
    """Whether a list of patterns of hosts and addresses, or of networks, takes where a login comes from."""
    for pattern in patterns:
        if "/" in pattern:
            with suppress(ValueError):
                if ip_address(settings.address) in ip_network(pattern.removeprefix("!"), strict=False):
                    return not pattern.startswith("!")
    return fits([one for one in patterns if "/" not in one], [settings.host, settings.address])


@dataclass
class SettingsJudge:
    """An OpenSSH server that says which settings of a copy count for a login."""

    program: str
    settings: HostSettings
    accounts: Sequence[HostAccount]
    groups_known: bool
    folder: Path
    origins: list[tuple[str, str, dict[str, str]]] = field(default_factory=list)
    skipped: set[tuple[PurePosixPath, int]] = field(default_factory=set)
    asked: int = 0

    @cached_property
    def version(self) -> str:
        """Which server judges."""
        said = subprocess.run([self.program, "-V"], capture_output=True, text=True, check=False, timeout=SECONDS)  # noqa: S603
        found = re.search(r"OpenSSH_\w+(?:\.\w+)*", said.stderr + said.stdout)
        return found[0] if found is not None else "OpenSSH"

    def prepare(self) -> bool:
        """Writes the copy that is judged; whether the server takes it. What it does not know is left out and named."""
        self.origins = [(*FROM_ANYWHERE, {}), *self._special()]
        for _ in range(MOST_INCLUDED):
            self._write()
            ran = self._run(SOMEBODY, self.origins[0])
            bad = [found for found in BAD.finditer(ran.stderr) if found[3].startswith(("Bad", "Unsupported"))]
            new = {(self._file_of(found[1]), int(found[2])): found for found in bad} if bad else {}
            new = {place: found for place, found in new.items() if place not in self.skipped}
            for (path, number), found in new.items():
                self.settings.miss(
                    f"the setting {found[4]} (line {number} of {path})", f"{self.version} does not know it"
                )
            self.skipped |= set(new)
            if not new:
                return ran.returncode == 0
        return False

    def _special(self) -> Iterator[tuple[str, str, dict[str, str]]]:
        """Where logins come from for which something else is set."""
        seen = set()
        for line in self.settings.matches:
            more: dict[str, str] = {}
            for criterion, name in (("localaddress", "laddr"), ("localport", "lport"), ("rdomain", "rdomain")):
                of_it = _of(line, criterion)
                more |= {name: _example(of_it[0])} if of_it else {}
            for address in [*map(_example, _of(line, "address")), ""] if _of(line, "address") else [""]:
                for host in [*map(_example, _of(line, "host")), ""] if _of(line, "host") else [""]:
                    found = (address or FROM_ANYWHERE[0], host or FROM_ANYWHERE[1], tuple(sorted(more.items())))
                    if found not in seen and (address or host or more):
                        seen.add(found)
                        yield found[0], found[1], more
        for line in self.settings.lines():
            for word in line.words if line.name in ("allowusers", "denyusers") else ():
                place = _example(word.partition("@")[2])
                numeric = set(place) <= set("0123456789abcdefABCDEF.:")
                found = (place if numeric else FROM_ANYWHERE[0], FROM_ANYWHERE[1] if numeric else place, ())
                if place and found not in seen:
                    seen.add(found)
                    yield found[0], found[1], {}

    @cached_property
    def _places(self) -> dict[PurePosixPath, Path]:
        """Where each file of settings is written: under a number."""
        return {path: self.folder / str(number) for number, path in enumerate(self.settings.files)}

    def _file_of(self, name: str) -> PurePosixPath:
        written = Path(name.rstrip(":"))
        return next((path for path, place in self._places.items() if place.name == written.name), self.settings.main)

    def _at(self, path: PurePosixPath) -> Path:
        return self._places[path]

    def _write(self) -> None:
        """The files of settings, each under a number; a line stays on its line."""
        for path, lines in self.settings.files.items():
            out: dict[int, str] = {}
            for line in lines:
                if (path, line.number) in self.skipped or line.name in OF_THIS_MACHINE:
                    continue
                words = line.words
                if line.name == "include":
                    inner = self.settings.included[path, line.number]
                    words = tuple(str(self._at(one)) for one in inner if self._may_include(path, one))
                    if not words:
                        continue
                elif line.name == "match":
                    words = self._with_users(line)
                out[line.number] = f"{line.name} {' '.join(map(_quoted, words))}"
            last = max(out, default=0)
            text = "\n".join(out.get(number, "") for number in range(1, last + 1)) + "\n"
            self._at(path).write_text(text, encoding="utf-8", errors="replace")

    def _may_include(self, path: PurePosixPath, other: PurePosixPath) -> bool:
        """Whether a file can include another one, which does not lead back to it."""
        waiting, seen = [other], set[PurePosixPath]()
        while waiting:
            one = waiting.pop()
            if one == path:
                return False
            if one not in seen:
                seen.add(one)
                waiting += [inner for (at, _), found in self.settings.included.items() if at == one for inner in found]
        return other in self.settings.files

    def _with_users(self, line: ConfigLine) -> tuple[str, ...]:
        """A `Match` line with the members of groups as the copy has them: this machine has others."""
        patterns = _of(line, "group")
        if not patterns:
            return line.words
        if not self.groups_known:
            self.settings.miss(f"who is in the groups {', '.join(patterns)}", "the copy does not say it")
        members = [one.name for one in self.accounts if fits(patterns, sorted(one.groups))]
        users = _of(line, "user")
        both = [one for one in members if fits(users, [one])] if users else members
        kept = [word for name, value in _pairs(line) if name not in ("group", "user") for word in (name, value)]
        return ("user", ",".join(both) or NEVER, *kept)

    def _run(self, user: str, origin: tuple[str, str, Mapping[str, str]]) -> "subprocess.CompletedProcess[str]":
        address, host, more = origin
        login = {"user": user, "host": host, "addr": address, "laddr": "192.0.2.1", "lport": "22", **more}
        asked = ",".join(f"{name}={value}" for name, value in login.items())
        main, key = self._at(self.settings.main), self.folder / "key"
        words = [self.program, "-T", "-f", str(main), "-h", str(key), "-C", asked]
        self.asked += 1
        return subprocess.run(words, capture_output=True, text=True, errors="replace", check=False, timeout=SECONDS)  # noqa: S603

    @property
    def places(self) -> list[str]:
        """Where logins come from, in words, for which something else may be set; '' is anywhere else."""
        return ["", *(_said(origin) for origin in self.origins[1:])]

    def of(self, user: str) -> list[LoginSettings]:
        """What counts for a user's logins, from anywhere first, then from each place for which something is set."""
        out: list[LoginSettings] = []
        for origin in self.origins:
            if "," in user or self.asked > MOST_ASKED:
                self.settings.miss(f"the settings for {user}", "too much is set for some logins only")
                break
            ran = self._run(user, origin)
            if ran.returncode != 0:
                self.settings.miss(f"the settings for {user}", f"{self.version} does not take them")
                break
            said = "" if origin is self.origins[0] else _said(origin)
            out.append(LoginSettings(self._values(ran.stdout), said, *origin[:2]))
        return out

    @cached_property
    def _with_blanks(self) -> dict[str, tuple[str, ...]]:
        """The words of settings whose names of files may have blanks in them, by how the server prints them."""
        return {" ".join(line.words): line.words for line in self.settings.lines() if line.name in WITH_BLANKS}

    def _values(self, said: str) -> dict[str, tuple[str, ...]]:
        values: dict[str, tuple[str, ...]] = {}
        for text in said.splitlines():
            name, _, value = text.partition(" ")
            words = self._with_blanks.get(value, tuple(value.split()))
            values[name] = (*values.get(name, ()), *words) if name in KNOWN_LISTS else words
        return values


WITH_BLANKS = ("authorizedkeysfile", "authorizedprincipalsfile", "trustedusercakeys", "revokedkeys")


def _said(origin: tuple[str, str, Mapping[str, str]]) -> str:
    address, host, more = origin
    parts = [address] if address != FROM_ANYWHERE[0] else []
    parts += [host] if host != FROM_ANYWHERE[1] else []
    return " and ".join([*parts, *(f"{name} {value}" for name, value in more.items())])


def _example(pattern: str) -> str:
    """A name or address that a pattern fits."""
    plain = pattern.removeprefix("!").split("/", 1)[0]
    return plain.replace("*", "1").replace("?", "1")


def _quoted(word: str) -> str:
    return f'"{word}"' if not word or any(char.isspace() or char in "#'" for char in word) else word


@contextmanager
def judging(
    settings: HostSettings, accounts: Sequence[HostAccount], *, groups_known: bool
) -> Iterator[SettingsJudge | None]:
    """The server of this machine as a judge of a copy; None where none is installed, or it does not take the copy."""
    program = next((place for place in PLACES if Path(place).exists()), None) or shutil.which("sshd")
    keygen = shutil.which("ssh-keygen")
    if program is None or keygen is None:
        yield None
        return
    with tempfile.TemporaryDirectory(prefix="enthesis-settings-") as place:
        words = [keygen, "-q", "-t", "ed25519", "-N", "", "-f", f"{place}/key"]
        subprocess.run(words, check=False, capture_output=True, timeout=SECONDS)  # noqa: S603  so that it starts
        judge = SettingsJudge(program, settings, accounts, groups_known, Path(place))
        try:
            ready = judge.prepare()
        except (OSError, subprocess.TimeoutExpired):
            ready = False
        if not ready:
            settings.miss("what the settings mean", f"{judge.version}, which is installed here, does not take them")
        yield judge if ready else None

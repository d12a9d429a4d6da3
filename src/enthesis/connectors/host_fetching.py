"""Fetches the files of a running host that say whom it lets in, over OpenSSH's client: nothing is written there, no
private key and no password is fetched."""

import io
import re
import subprocess
import tarfile
from pathlib import Path, PurePosixPath
from urllib.parse import unquote, urlsplit

from enthesis.connectors.host_settings import HostSettings, accounts_in
from enthesis.model.errors import InvalidInput, RightMissing, UnexpectedAnswer, Unreachable

SCHEME = "ssh"
SECONDS = 60  # for each of three questions
MOST = 64 * 2**20  # bytes of all files
MOST_FILES = 20_000
CLIENT_FAILED = 255
FIRST = """
cd / || exit 1
set -- etc/ssh
for one in etc/passwd etc/group etc/hosts.equiv; do [ -e "$one" ] && set -- "$@" "$one"; done
tar -chf - --exclude='ssh_host_*_key' "$@" 2>/dev/null
exit 0
"""
THEN = """
cd / || exit 1
while IFS= read -r one; do [ -e "$one" ] && printf '%s\\n' "$one"; done <<'PATHS' | tar -chf - -T - 2>/dev/null
{paths}
PATHS
exit 0
"""
SAYS = """
id -u
[ -e /etc/krb5.keytab ] && echo keytab || echo none
cut -d: -f1,2 /etc/shadow 2>/dev/null | sed -e 's/:\\([!*]\\).*/:\\1/' -e 's/:[^!*].*/:set/'
"""
"""Who we are there, whether it has a key for Kerberos, and of each password only whether there is one."""
NAMED = ("authorizedkeysfile", "authorizedprincipalsfile", "trustedusercakeys", "revokedkeys", "include")
USUAL_KEYS = (".ssh/authorized_keys", ".ssh/authorized_keys2", ".shosts", ".rhosts")


def is_live(place: str) -> bool:
    """Whether a place is a running host, and no folder."""
    return urlsplit(place).scheme == SCHEME


def fetched(url: str, into: Path) -> str:
    """Fetches the files of a host into an empty folder; what it could not see, in words, or ''.

    Raises:
        InvalidInput: The url does not name a host, or no client is installed here.
        Unreachable: Nobody answers there, or we are not let in.
        UnexpectedAnswer: What came is not an archive, or too long.
    """
    host = _Host(url)
    _unpacked(host.asked(FIRST), into)
    _unpacked(host.asked(THEN.format(paths="\n".join(other_paths(into)))), into)
    said = host.asked(SAYS).decode(errors="replace").splitlines()
    if len(said) < 2:
        raise UnexpectedAnswer(f"{host.named} did not say who we are there", code="answer-incomplete")
    if said[1] == "keytab":
        (into / "etc" / "krb5.keytab").touch()
    passwords = [line for line in said[2:] if ":" in line]
    if passwords:
        (into / "etc" / "shadow").write_text("\n".join(passwords) + "\n", encoding="utf-8")
    return "" if said[0] == "0" else f"it was read as a user who may not see all files ({host.named})"


class _Host:
    """How a host is reached: as the client's own settings say, without any prompt."""

    def __init__(self, url: str) -> None:
        parts = urlsplit(url)
        if not parts.hostname or parts.hostname.startswith("-") or parts.password or parts.path.strip("/"):
            raise InvalidInput(
                f"{url} does not name a host", code="url-invalid", remedy="write ssh://USER@HOST or ssh://HOST:PORT"
            )
        self.named = parts.hostname
        port = ["-p", str(parts.port)] if parts.port is not None else []
        user = ["-l", unquote(parts.username)] if parts.username else []
        self.words = [
            "ssh",
            "-o",
            "BatchMode=yes",
            "-o",
            "ConnectTimeout=10",
            *port,
            *user,
            "--",
            parts.hostname,
            "sh -s",
        ]

    def asked(self, script: str) -> bytes:
        """What a script says there."""
        try:
            ran = subprocess.run(self.words, input=script.encode(), capture_output=True, check=False, timeout=SECONDS)  # noqa: S603
        except FileNotFoundError:
            raise InvalidInput(
                "OpenSSH's client is not installed", code="program-not-run", remedy="apt-get install openssh-client"
            ) from None
        except subprocess.TimeoutExpired:
            raise Unreachable(f"{self.named} did not answer in time", code="timeout") from None
        if ran.returncode == CLIENT_FAILED:
            said = ran.stderr.decode(errors="replace").strip().splitlines()
            why = said[-1] if said else "no reason given"
            if "Permission denied" in why:
                raise RightMissing(f"{self.named} did not let us in: {why}", code="right-missing")
            raise Unreachable(f"{self.named} cannot be reached: {why}", code="unreachable")
        if len(ran.stdout) > MOST:
            raise UnexpectedAnswer(f"{self.named} sent more than {MOST} bytes", code="answer-too-large")
        return ran.stdout


def _unpacked(archive: bytes, into: Path) -> None:
    """Writes the plain files of an archive below a folder, and nothing anywhere else."""
    if not archive.strip(b"\0"):
        return
    total = 0
    try:
        with tarfile.open(fileobj=io.BytesIO(archive)) as packed:
            for number, member in enumerate(packed):
                path = PurePosixPath(member.name)
                total += member.size
                if number > MOST_FILES or total > MOST:
                    raise UnexpectedAnswer("the host sent more files than are read", code="answer-too-large")
                content = packed.extractfile(member) if member.isreg() else None
                if content is None or path.is_absolute() or ".." in path.parts:
                    continue
                place = into / path
                place.parent.mkdir(parents=True, exist_ok=True)
                place.write_bytes(content.read())
    except (tarfile.TarError, OSError, ValueError) as fault:
        raise UnexpectedAnswer(f"what the host sent is not an archive: {fault}", code="answer-not-understood") from None


def other_paths(folder: Path) -> list[str]:
    """What else of a host is to be fetched, by what was fetched first: the files that its settings name, and those of
    each home. As paths below the root."""

    def lines(path: PurePosixPath) -> list[str]:
        try:
            text = (folder / path.relative_to("/")).read_text(encoding="utf-8", errors="replace")
        except (OSError, ValueError):
            return []
        return [line.strip() for line in text.splitlines()]

    def matching(pattern: PurePosixPath) -> list[PurePosixPath]:
        try:
            found = sorted((folder / pattern.parent.relative_to("/")).glob(pattern.name))
        except (ValueError, OSError):
            return []
        return [pattern.parent / one.name for one in found if one.is_file()]

    settings = HostSettings(PurePosixPath("/etc/ssh/sshd_config"), lines, matching, lambda what, why: None)
    words = (word for line in settings.lines() if line.name in NAMED for word in line.words)
    forms = [word for word in words if word.lower() != "none"]
    found = [_folder_of(form) for form in forms if form.startswith("/")]
    for account in accounts_in(lines(PurePosixPath("/etc/passwd"))):
        if account.home.is_absolute():
            found += [str(account.file(form)) for form in (*USUAL_KEYS, *forms)]
    kept = (one.strip("/") for one in dict.fromkeys(found) if one.isprintable())
    wanted = [one for one in kept if one and PurePosixPath(one).parts[0] not in ("proc", "sys", "dev")]
    return [f"./{one}" for one in wanted]  # so that none is taken for an option, or for the end of the list


def _folder_of(form: str) -> str:
    """A file that a setting names; of one with a pattern in it the folder above that."""
    plain = re.split(r"[%*?]", form, maxsplit=1)[0]
    return form if plain == form else str(PurePosixPath(f"{plain}x").parent)

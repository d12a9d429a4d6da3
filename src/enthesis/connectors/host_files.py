"""The files with which a host's OpenSSH server takes the certificates of an authority, and those alone.

authority.pub        the authority's public key
principals/USER      whom a certificate must be for: the host itself, by its address in the estate
sshd_config          the settings that the server needs; others may stand beside them
"""

import re
from urllib.parse import unquote, urlsplit

SETTING = re.compile(r"\s*(\w+)(?:\s*=\s*|\s+)(.*)")
SETTINGS, PRINCIPALS = "sshd_config", "principals"
WANTED = {
    "TrustedUserCAKeys": "/etc/ssh/authority.pub",
    "AuthorizedPrincipalsFile": "/etc/ssh/principals/%u",
    "AuthorizedKeysFile": "none",
    "PasswordAuthentication": "no",
    "KbdInteractiveAuthentication": "no",
    "RevokedKeys": "/etc/ssh/revoked",
    "HostCertificate": "/etc/ssh/host-cert.pub",
    "ChannelTimeout": "*=15m",
}


def host_files(address: str, url: str, key: str | None) -> dict[str, str]:
    """The files of one host, by name; without the authority's key where that is not known."""
    user = unquote(urlsplit(url).path.lstrip("/"))
    out = {f"{PRINCIPALS}/{user}": f"{address}\n", SETTINGS: "".join(f"{one} {text}\n" for one, text in WANTED.items())}
    return {**out, "authority.pub": f"{key}\n"} if key is not None else out


def first_settings(text: str) -> dict[str, str]:
    """The settings in a server's configuration: of each the first, which counts, up to the first that is for some
    connections only. Names are written as in WANTED, whatever their case."""
    names = {name.lower(): name for name in WANTED}
    found: dict[str, str] = {}
    for line in text.splitlines():
        setting = SETTING.match(line)
        if setting is not None and setting[1].lower() == "match":
            break
        if setting is not None and setting[1].lower() in names:
            found.setdefault(names[setting[1].lower()], setting[2].strip())
    return found

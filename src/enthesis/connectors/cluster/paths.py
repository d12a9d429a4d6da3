"""Names and paths of a cluster as parts of an address, both reversible.

A path of the interface itself, `/healthz/etcd`, is `api-path/healthz/etcd=`: the sign at its end keeps it apart from
what begins with it, so that a rule for `/healthz/*` is for the place `api-path/healthz` and not for `/healthz`.
"""

import re
from urllib.parse import unquote

PATH = "api-path"
END = "="
NO_NAME = "%"
PLAIN = re.compile(r"[A-Za-z0-9:_-][A-Za-z0-9:._-]*")
UNSAFE = frozenset("/%*?\\=@")  # characters of a name that would mean something in an address


def word_of(name: str) -> str:
    """A name as one segment of an address, percent-encoded (RFC 3986, section 2.1); a lone `%` is an empty name."""
    if PLAIN.fullmatch(name):  # as nearly every name is
        return name
    if name in ("", ".", ".."):
        return "".join(map(_percent, name)) or NO_NAME
    return "".join(
        _percent(text) if text in UNSAFE or text.isspace() or not text.isprintable() else text for text in name
    )


def name_of(word: str) -> str:
    """The name that a segment stands for: the inverse of `word_of`."""
    return "" if word == NO_NAME else unquote(word, errors="surrogatepass")


def path_places(url: str) -> list[str]:
    """Where a rule for a path of the interface gives something, behind the address of the cluster; the whole cluster
    for every path."""
    if url in ("*", "/*"):
        return [""]
    if url.endswith("/*"):
        return [_place(url[:-2])]
    if url.endswith("*"):
        return [exact_place(url[:-1]), _place(url[:-1])]
    return [exact_place(url)]


def exact_place(path: str) -> str:
    """The place of a path itself, behind the address of the cluster."""
    above, _, last = path.removeprefix("/").rpartition("/")
    return f"{_place(above) if above else f'/{PATH}'}/{word_of(last) if last else ''}{END}"


def inexact(url: str) -> bool:
    """Whether a rule is for paths that no place holds alone: those that begin with a part of a word."""
    return url.endswith("*") and url not in ("*", "/*") and not url.endswith("/*")


def _place(path: str) -> str:
    return "/".join(["", PATH, *map(word_of, path.removeprefix("/").split("/"))])


def _percent(char: str) -> str:
    return "".join(f"%{byte:02X}" for byte in char.encode(errors="surrogatepass"))

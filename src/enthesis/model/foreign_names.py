"""Names of live systems as one segment of an address, whatever characters they hold, and back."""

import re
from urllib.parse import unquote

NO_NAME = "%"
MADE_BY, OURS = "app.kubernetes.io/managed-by", "enthesis"  # the label of what is made for a cluster
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


def one_spelling(address: str) -> str:
    """An address with the escapes of its segments as `word_of` writes them: others stand for the same names."""
    if "%" not in address:
        return address
    return "/".join(word_of(name_of(word)) if "%" in word else word for word in address.split("/"))


def _percent(char: str) -> str:
    return "".join(f"%{byte:02X}" for byte in char.encode(errors="surrogatepass"))

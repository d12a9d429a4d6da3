"""Characters that a terminal acts on or that change what is read: kept out of whatever is put out."""

import re
import shlex

_UNSEEN = "\x7f-\x9f\u00ad\u061c\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ud800-\udfff"
_IN_JSON = re.compile(f"[{_UNSEEN}]")
_IN_BYTES = re.compile(
    rb"\x7f|\xc2[\x80-\x9f\xad]|\xd8\x9c|\xe2\x80[\x8b-\x8f\xa8-\xae]|\xe2\x81[\xa0-\xaf]|\xef\xbb\xbf"
)


def word(text: str) -> str:
    """A text as one word of a command that a person copies: whatever is in it does nothing in a shell."""
    return shlex.quote(text)


def json_escaped(text: str) -> str:
    """JSON with nothing in it that a terminal acts on: such characters are written as JSON can write them."""
    return _IN_JSON.sub(lambda match: f"\\u{ord(match[0]):04x}", text)


def json_line(data: bytes) -> bytes:
    """The same for a line of JSON in UTF-8; looks at the bytes first, since few lines hold any such character."""
    if data.isascii():
        return data.replace(b"\x7f", b"\\u007f")
    return json_escaped(data.decode()).encode() if _IN_BYTES.search(data) else data

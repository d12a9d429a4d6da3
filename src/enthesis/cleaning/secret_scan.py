"""Copies of known keyed credentials, by fingerprint: what could be a value is hashed and compared, and never shown."""

import base64
import binascii
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from hashlib import sha256

SHORTEST, LONGEST = 8, 4096  # bytes of what could be a value
SHORTEST_PRINT = 16  # hexadecimal digits of a fingerprint that can be trusted
CUTS = (
    re.compile(rb"[^\s\"'`<>(){}\[\],;\\]+"),  # a word, up to what usually encloses one
    re.compile(rb"[^\s\"'`<>(){}\[\],;:=&?\\|]+"),  # the same, and cut at what usually stands before a value
    re.compile(rb"[A-Za-z0-9_-]+"),
    re.compile(rb"[A-Za-z0-9_.~+/-]+=*"),
)
TO_STANDARD = bytes.maketrans(b"-_", b"+/")
BASE64 = re.compile(rb"[A-Za-z0-9+/_-]+={0,2}")


@dataclass(frozen=True, slots=True)
class Copy:
    """A copy of a credential: in which line (0: the content as a whole), and which credentials have this value."""

    line: int
    names: tuple[str, ...]


class Fingerprints:
    """The fingerprints of known credentials: the first hexadecimal digits of the SHA-256 of their values."""

    def __init__(self, known: Mapping[str, str]) -> None:
        """`known` are fingerprints by the credentials' names; `unusable` are those that are written in another way."""
        self.unusable: list[str] = []
        self._names: dict[str, list[str]] = {}
        for name, text in known.items():
            digits = re.fullmatch(r"(?:sha-?256:)?([0-9a-f]{16,64})", text.strip().lower())
            if digits is None:
                self.unusable.append(name)
            else:
                self._names.setdefault(digits[1], []).append(name)
        self._lengths = sorted({len(name) for name in self._names})

    def __bool__(self) -> bool:
        return bool(self._names)

    def of(self, value: bytes) -> tuple[str, ...]:
        """The credentials whose value this is."""
        digest = sha256(value).hexdigest()
        return tuple(name for length in self._lengths for name in self._names.get(digest[:length], ()))

    def copies(self, content: bytes) -> Iterator[Copy]:
        """The copies in a content, each credential once a line."""
        whole = self.of(content.strip())
        if whole:
            yield Copy(1, whole)
            return
        seen: dict[bytes, tuple[str, ...]] = {}
        for number, text in enumerate(content.splitlines(), 1):
            found: dict[str, None] = {}
            for value in _candidates(text):
                if value not in seen:
                    seen[value] = self.of(value)
                found.update(dict.fromkeys(seen[value]))
            if found:
                yield Copy(number, tuple(found))


def _candidates(text: bytes) -> Iterator[bytes]:
    """What in a line could be a value, as it stands or behind base64."""
    given: set[bytes] = set()
    pieces = [text.strip(), *(found for cut in CUTS for found in cut.findall(text))]
    for piece in pieces:
        if not SHORTEST <= len(piece) <= LONGEST or piece in given:
            continue
        given.add(piece)
        yield piece
        if BASE64.fullmatch(piece):
            try:
                decoded = base64.b64decode(piece.translate(TO_STANDARD) + b"=" * (-len(piece) % 4))
            except (binascii.Error, ValueError):
                continue
            for inner in (decoded, decoded.strip()):
                if len(inner) >= SHORTEST:
                    yield inner

"""Secrets in hand: a value masks itself, and no text that leaves the program shows one, whatever repeats it."""

import json
from urllib.parse import quote

SHORTEST = 8  # characters; a shorter value would be found in ordinary words
MASK = "<secret>"


class Secret:
    """A value that must not be seen: it masks itself wherever it is shown, and `redacted` masks it in any text."""

    __slots__ = ("_value",)

    def __init__(self, value: str) -> None:
        self._value = value
        _remember(value)

    def __repr__(self) -> str:
        return MASK

    __str__ = __repr__

    def reveal(self) -> str:
        """The value itself, for putting it into a request and for nothing else."""
        return self._value


class CallerPlace(Secret):
    """A place that stands where a credential is otherwise shown. It may be seen, so no text is searched for it."""

    __slots__ = ()

    def __init__(self, address: str) -> None:
        self._value = address


_in_hand: set[str] = set()
_in_hand_bytes: set[bytes] = set()


def _remember(value: str) -> None:
    """The value, its lines and its words, and each as JSON, an address and a Python literal would write it."""
    for part in {value, value.strip(), *value.split()}:
        if len(part) >= SHORTEST:
            forms = (part, json.dumps(part)[1:-1], quote(part, safe=""), repr(part)[1:-1])
            _in_hand.update(forms)
            _in_hand_bytes.update(form.encode() for form in forms)


def holds_secret(data: bytes) -> bool:
    """Whether a secret in hand is in these bytes, for callers to whom decoding each text would cost too much."""
    return any(value in data for value in _in_hand_bytes)


def redacted(text: str) -> str:
    """The text with every secret in hand masked. Called for each text that is shown: costs one search per secret."""
    for value in sorted((name for name in _in_hand if name in text), key=len, reverse=True):
        text = text.replace(value, MASK)
    return text

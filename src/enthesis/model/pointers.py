"""Claims within claims, by JSON Pointers (RFC 6901) of two segments or more: `/kubernetes.io/serviceaccount/name`."""

from collections.abc import Iterator, Mapping
from typing import Any


def is_pointer(name: str) -> bool:
    """Whether the name of a claim points into another one."""
    return name.startswith("/") and name.count("/") > 1


def claim_at(claims: Mapping[str, Any], name: str) -> Any:
    """The value of a claim by its name, or by a pointer; None where it leads nowhere. Digits index lists."""
    if name in claims or not is_pointer(name):
        return claims.get(name)
    found: Any = claims
    for part in _segments(name):
        if isinstance(found, Mapping):
            found = found.get(part)
        elif isinstance(found, list | tuple) and part.isdecimal() and str(int(part)) == part and int(part) < len(found):
            found = found[int(part)]
        else:
            return None
    return found


def as_pointers(claims: Mapping[str, Any]) -> dict[str, Any]:
    """The same claims with what stands in others named by pointers; lists stay whole."""
    return dict(_leaves("", claims))


def nested(claims: Mapping[str, Any]) -> dict[str, Any]:
    """The same claims with what pointers name in its place. One that leads into a value of another form is left out."""
    out: dict[str, Any] = {name: value for name, value in claims.items() if not is_pointer(name)}
    for name, value in claims.items():
        if not is_pointer(name):
            continue
        *outer, last = _segments(name)
        here: Any = out
        for part in outer:
            inner = here.get(part, {})
            here[part] = dict(inner) if isinstance(inner, Mapping) else {}
            here = here[part]
        here[last] = value
    return out


def _segments(pointer: str) -> list[str]:
    return [part.replace("~1", "/").replace("~0", "~") for part in pointer[1:].split("/")]


def _leaves(stem: str, claims: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
    for name, value in claims.items():
        pointer = f"{stem}/{name.replace('~', '~0').replace('/', '~1')}"
        if isinstance(value, Mapping):
            yield from _leaves(pointer, value)
        else:
            yield (pointer if stem else name), value

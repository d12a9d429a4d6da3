"""Addresses: the path of a place, how it is taken apart, and what contains what.

gauges                                     an account
gauges/bucket/raw-levels/object/2026/a     kinds and names in turn; a leaf's name may hold '/'
@saltmarsh/field                           an organisation, and the units below it
@saltmarsh/identity/ines                   a person or a group of an organisation
"""

from collections.abc import Iterator
from dataclasses import dataclass

from enthesis.model.catalogue import Catalogue
from enthesis.model.errors import InvalidAddress

ESCAPABLE = "*?\\"


@dataclass(frozen=True, slots=True)
class Place:
    """An address taken apart: its kind, its own name, the address of what it stands in ('' at the top)."""

    address: str
    kind: str
    name: str
    parent: str


def unescaped(text: str) -> str:
    """A plain string as written, its escaped `*`, `?` and `\\` made literal.

    InvalidAddress where a `*` or `?` stands unescaped, which would look like a pattern and not be one.
    """
    if "*" not in text and "?" not in text and "\\" not in text:
        return text
    out: list[str] = []
    i = 0
    while i < len(text):
        char = text[i]
        if char == "\\" and i + 1 < len(text) and text[i + 1] in ESCAPABLE:
            out.append(text[i + 1])
            i += 2
            continue
        if char in "*?":
            raise InvalidAddress(
                f"'{char}' in a plain string: write {{glob: …}} for a pattern, or \\{char} for the character"
            )
        out.append(char)
        i += 1
    return "".join(out)


def escaped(text: str) -> str:
    """The plain string that reads back as `text`: the inverse of `unescaped`."""
    return "".join("\\" + char if char in ESCAPABLE else char for char in text)


def segments(address: str) -> list[str]:
    """The segments of an address; InvalidAddress where one is empty, '.' or '..'."""
    parts = address.split("/")
    for part in parts:
        if part in ("", ".", ".."):
            shown = f"'{part}'" if part else "empty"
            raise InvalidAddress(f"an address has no {shown} segment")
    return parts


def parse(address: str, catalogue: Catalogue) -> Place:
    """Takes an address apart; InvalidAddress says which part does not fit the catalogue."""
    parts = segments(address)
    if parts[0].startswith("@"):
        return _parse_in_organisation(address, parts, catalogue)
    if len(parts) == 1:
        return Place(address, "account", parts[0], "")
    kind, parent, position = "account", parts[0], 1
    while position < len(parts):
        outer, word = kind, parts[position]
        found = catalogue.kinds.get(word)
        if found is None:
            raise InvalidAddress(f"'{word}' is not a kind")
        if outer not in found.within:
            stands = " or ".join(found.within) or "nothing"
            raise InvalidAddress(f"a {word} stands in {stands}, not in {article(outer)}")
        if position + 1 == len(parts):
            raise InvalidAddress(f"'{word}' is a kind; its name is missing after it")
        end = len(parts) if found.leaf else position + 2
        place = Place("/".join(parts[:end]), word, "/".join(parts[position + 1 : end]), parent)
        kind, parent, position = word, place.address, end
    return place


def _parse_in_organisation(address: str, parts: list[str], catalogue: Catalogue) -> Place:
    if parts[0] == "@":
        raise InvalidAddress("'@' without the name of an organisation")
    if any(part.startswith("@") for part in parts[1:]):
        raise InvalidAddress("'@' stands only at the start of an address")
    if len(parts) == 1:
        return Place(address, "organisation", parts[0][1:], "")
    for position in range(1, len(parts)):
        found = catalogue.kinds.get(parts[position])
        if found is None or "organisation" not in found.within:
            continue
        if position != 1:
            raise InvalidAddress(f"a {found.name} stands in an organisation, not in a unit")
        if len(parts) != 3:
            raise InvalidAddress(f"after '{found.name}' comes one name")
        return Place(address, found.name, parts[2], parts[0])
    return Place(address, "unit", parts[-1], "/".join(parts[:-1]))


def contains(outer: str, inner: str) -> bool:
    """Whether one path is a prefix of the other, whole segments counted. It knows no organisation tree."""
    return inner == outer or inner.startswith(outer + "/")


def is_named_elsewhere(address: str) -> bool:
    """Whether what an address names has a name of its own at a live system, from which the address is made: people and
    groups at a directory, what is in a cluster or in a database. Clouds know addresses as they are."""
    return address.startswith("@") or "/cluster/" in address or "/database/" in address


def account_of(address: str) -> str:
    """The account an address lies in; '' for organisations, units, people and groups of an organisation."""
    return "" if address.startswith("@") else address.split("/", 1)[0]


def pool_of(address: str) -> str:
    """The pool that a host is a member of; '' for one of its own, and for anything else."""
    parts = address.split("/")
    return "/".join(parts[:3]) if len(parts) == 5 and (parts[1], parts[3]) == ("pool", "host") else ""


def is_pool(address: str) -> bool:
    """Whether an address is that of a pool of hosts. A pool itself is never a caller: its members are."""
    parts = address.split("/")
    return len(parts) == 3 and parts[1] == "pool"


def with_its_pool(address: str) -> tuple[str, ...]:
    """The addresses by which a statement can mean what runs at one: itself, and of a member its pool."""
    pool = pool_of(address)
    return (address, pool) if pool else (address,)


def service_account_subject(address: str) -> str:
    """The subject of the tokens that a cluster signs for one of its service accounts."""
    parts = address.split("/")
    return f"system:serviceaccount:{parts[4]}:{parts[6]}"


def organisation_named(address: str) -> str:
    """The organisation that an '@' address names (without the '@'); '' for any other address."""
    return address[1:].split("/", 1)[0] if address.startswith("@") else ""


def is_organisation(address: str) -> bool:
    """Whether an address is that of a whole organisation; as a grantee, everybody of it."""
    return address.startswith("@") and "/" not in address


def is_simple_name(name: str) -> bool:
    """Whether a text can be the name of an account, organisation, provider or issuer: one part of an address."""
    return bool(name) and "/" not in name and not name.startswith("@") and name not in (".", "..")


def is_well_formed(address: str, catalogue: Catalogue) -> bool:
    """Whether a text is an address of something that could be."""
    try:
        parse(address, catalogue)
    except InvalidAddress:
        return False
    return True


def standing_in(address: str, catalogue: Catalogue) -> Iterator[str]:
    """The address and every address it stands in by its own path, nearest first, prefixes of a leaf included."""
    place = parse(address, catalogue)
    leaf = catalogue.kinds[place.kind].leaf if place.kind in catalogue.kinds else False
    yield place.address
    if leaf:
        stem, name = place.address[: -len(place.name)], place.name
        while "/" in name:
            name = name.rsplit("/", 1)[0]
            yield stem + name
    if place.parent:
        yield from standing_in(place.parent, catalogue)


def article(word: str) -> str:
    """The word with `a` or `an` before it."""
    return ("an " if word[0] in "aeio" else "a ") + word  # a unit; no kind begins with another sound of `u`

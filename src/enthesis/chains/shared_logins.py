"""Logins that people share: whoever knows the password of one does what it lets them, whatever is granted to whom."""

from collections.abc import Iterator
from typing import NamedTuple

from enthesis.access.arrays import Bools
from enthesis.access.compiling import Compiled
from enthesis.model.catalogue import Catalogue
from enthesis.model.file_errors import Source
from enthesis.model.sentences import verb_words
from enthesis.model.words import VerbClass

ON = "on"
LETS = (VerbClass.LOOK, VerbClass.READ, VerbClass.WRITE, VerbClass.RUN)  # the classes of verbs that such a login is for


class SharedLogin(NamedTuple):
    """One that is on: where, what can be done with it there, and where an estate says that it is on."""

    address: str
    verbs: tuple[str, ...]
    source: Source

    @property
    def says(self) -> str:
        """Who can do what with it, in a sentence without its end."""
        return f"{who_words(self.address)} can {listed_verbs(self.verbs)} there"


def who_words(address: str) -> str:
    """Whoever can use the shared login of something, in words."""
    return f"whoever has the password that people share at {address}"


def listed_verbs(verbs: tuple[str, ...]) -> str:
    """Verbs in words, as one list."""
    words = [verb_words(verb) for verb in verbs]
    return " and ".join([", ".join(words[:-1]), words[-1]]) if len(words) > 1 else "".join(words)


def verbs_of(catalogue: Catalogue, kind: str) -> Iterator[tuple[str, str]]:
    """What a login at a thing of a kind is for, as kinds with verbs: looking, reading, writing and running in it."""
    inside = [kind]
    for name in inside:
        inside.extend(one.name for one in catalogue.kinds.values() if name in one.within and one.name not in inside)
        yield from ((name, verb) for verb, verb_class in catalogue.verbs_of(name).items() if verb_class in LETS)


def opened_there(catalogue: Catalogue, address: str) -> tuple[str, ...]:
    """The verbs that the shared login of something is for."""
    return tuple(dict.fromkeys(verb for _, verb in verbs_of(catalogue, kind_of(address))))


def shared_logins_at(compiled: Compiled, at: str, wanted: Bools) -> list[SharedLogin]:
    """Those that are on, by which something wanted (by permission) can be done at a place or in it."""
    estate = compiled.estate
    asked = {pair for pair, is_wanted in zip(compiled.permission_pairs, wanted, strict=True) if is_wanted}
    found = []
    for address, resource in estate.resources.items():
        if resource.shared_login != ON or not (estate.is_at(at, address) or estate.is_at(address, at)):
            continue
        verbs = (verb for kind, verb in verbs_of(estate.catalogue, kind_of(address)) if (kind, verb) in asked)
        told = tuple(dict.fromkeys(verbs))
        if told:
            found.append(SharedLogin(address, told, resource.source))
    return found


def kind_of(address: str) -> str:
    """The kind of what stands at an address that is well-formed."""
    return address.split("/")[-2]

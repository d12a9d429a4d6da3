"""Logins that people share: who knows the password can use what the login opens, whatever is granted."""

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from enthesis.access.arrays import Bools
from enthesis.access.compiling import Compiled
from enthesis.model.addresses import parse
from enthesis.model.catalogue import Catalogue
from enthesis.model.errors import InvalidAddress
from enthesis.model.file_errors import Source
from enthesis.model.sentences import verb_words
from enthesis.model.vocabulary import VerbClass

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
        return f"{who_words(self.address)} can {_listed(self.verbs)} there"


def who_words(address: str) -> str:
    """The users of the shared login of something, in words."""
    return f"whoever has the password that people share at {address}"


def _listed(verbs: tuple[str, ...]) -> str:
    """Verbs in words, as one list."""
    words = [verb_words(verb) for verb in verbs]
    return " and ".join([", ".join(words[:-1]), words[-1]]) if len(words) > 1 else "".join(words)


def distinct_verbs(pairs: Iterable[tuple[str, str]]) -> tuple[str, ...]:
    """The verbs of kinds with verbs, each once."""
    return tuple(dict.fromkeys(verb for _, verb in pairs))


def _verbs_of(catalogue: Catalogue, kind: str) -> Iterator[tuple[str, str]]:
    """What a login at a thing of a kind is for, as kinds with verbs: looking, reading, writing and running in it."""
    inside = [kind]
    for name in inside:
        inside.extend(one.name for one in catalogue.kinds.values() if name in one.within and one.name not in inside)
        yield from ((name, verb) for verb, verb_class in catalogue.verbs_of(name).items() if verb_class in LETS)


def opened_there(catalogue: Catalogue, address: str) -> list[tuple[str, str]]:
    """What the shared login of something is for, as kinds with verbs; nothing where the address is none."""
    try:
        return list(_verbs_of(catalogue, parse(address, catalogue).kind))
    except InvalidAddress:
        return []


def shared_logins_at(compiled: Compiled, at: str, wanted: Bools) -> list[SharedLogin]:
    """Those that are on, by which something wanted (by permission) can be done at a place or in it."""
    estate = compiled.estate
    asked = {pair for pair, is_wanted in zip(compiled.permission_pairs, wanted, strict=True) if is_wanted}
    found = []
    for address, resource in estate.resources.items():
        if resource.shared_login != ON or not (estate.is_at(at, address) or estate.is_at(address, at)):
            continue
        opened = [pair for pair in opened_there(estate.catalogue, address) if pair in asked]
        if opened:
            found.append(SharedLogin(address, distinct_verbs(opened), resource.source))
    return found

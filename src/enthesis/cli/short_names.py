"""Names as people say them: the last part of an address, where only one address ends so."""

from collections.abc import Iterable

from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.output.streams import remark

MOST = 6  # names that are listed


def meant(word: str, known: Iterable[str], *, quiet: bool = False) -> str:
    """The known name that a word is, or that alone ends with it, which is said; the word itself where there is none.
    InvalidInput, which lists them, where several end so."""
    names = list(dict.fromkeys(known))
    if word in names or not word:
        return word
    ending = [name for name in names if name.endswith(f"/{word}")]
    if len(ending) > 1:
        listed = ", ".join(ending[:MOST]) + (", …" if len(ending) > MOST else "")
        raise InvalidInput(
            f"several are called {word}: {listed}", code="name-ambiguous", remedy="name one with its account"
        )
    if not ending:
        return word
    remark(f"{word} is taken for {ending[0]}.", quiet=quiet)
    return ending[0]


def places(estate: Estate) -> list[str]:
    """Everything that has an address."""
    return [*estate.accounts, *estate.resources, *estate.identities, *estate.groups]


def callers(estate: Estate) -> list[str]:
    """Everything that can ask: what has an address, issuers and keyed credentials."""
    return [*places(estate), *estate.issuers, *estate.credentials]

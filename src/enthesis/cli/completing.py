"""What a shell offers while a command is typed: the names of the estate at hand. Anything wrong offers nothing."""

from collections.abc import Callable, Iterable
from pathlib import Path

from enthesis.cli.estate_loading import read_estate
from enthesis.files.finding import find_estate
from enthesis.model.errors import EnthesisError
from enthesis.model.estate import Estate

MOST = 500  # names that are offered
Names = Callable[[Estate], Iterable[str]]


def _offering(names: Names) -> Callable[[str], list[str]]:
    """Offers the names of an estate that begin as what was typed."""

    def offered(incomplete: str) -> list[str]:
        try:
            found = find_estate(Path.cwd())
            estate = read_estate(found) if found is not None else None
        except (EnthesisError, OSError):
            return []
        beginning = [name for name in names(estate) if name.startswith(incomplete)] if estate is not None else []
        return sorted(dict.fromkeys(beginning))[:MOST]

    return offered


def _places(estate: Estate) -> Iterable[str]:
    yield from estate.accounts
    yield from estate.resources
    yield from estate.identities
    yield from estate.groups


def _callers(estate: Estate) -> Iterable[str]:
    yield from _places(estate)
    yield from estate.issuers
    yield from estate.credentials


def trusts_of(estate: Estate) -> Iterable[str]:
    """Trusts by their names, or whose they are."""
    for trust in estate.trusts:
        yield trust.name or trust.of


places = _offering(_places)
callers = _offering(_callers)
identities = _offering(lambda estate: estate.identities)
journeys = _offering(lambda estate: estate.journeys)
trusts = _offering(trusts_of)

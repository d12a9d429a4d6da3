"""Whom a trust can admit, its conditions left aside: one rule for single verdicts and for chains.

The web of chains has the same rule for all callers at once (`chains.web`); a test holds the two against each other.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum, auto

from enthesis.access.attributes import service_account_subjects
from enthesis.access.compiling import Compiled
from enthesis.conditions.patterns import matcher
from enthesis.model.addresses import account_of, is_pool, with_its_pool
from enthesis.model.conditions import Glob
from enthesis.model.vocabulary import BEARERS


class Lack(Enum):
    """Why a trust does not admit a caller, whatever its conditions say."""

    SHOWS_NOTHING = auto()  # it admits bearers, and the caller is not one
    OTHER_ISSUER = auto()  # what the bearer shows was signed by another issuer, or is of another form
    NOT_NAMED = auto()  # it names others
    POOL = auto()  # a pool itself is never a caller: its members are
    NO_RESOURCE = auto()  # it admits what runs as the identity, and the caller is not a resource
    DOES_NOT_RUN_AS_IT = auto()
    OTHER_ACCOUNT_RUNS = auto()  # it admits what runs as the identity in its own account
    NO_MATCH = auto()  # it admits what an address or a pattern names
    OTHER_PROVIDER = auto()  # another provider vouches for single identities only
    NOT_IN_GROUP = auto()
    NOT_IN_ACCOUNT = auto()


@dataclass(frozen=True, slots=True)
class Applicant:
    """Who asks to take an identity on. `form` is identity, resource, or a bearer's form (token, assertion,
    certificate); then `issuer` signed what it shows. `groups` are the numbers of the groups that an identity is in."""

    form: str
    address: str
    number: int
    groups: tuple[int, ...] = ()
    issuer: str = ""


def lacks(  # noqa: PLR0912  one branch for each form
    compiled: Compiled, trust: int, caller: Applicant, of: int, of_address: str
) -> Iterator[Lack]:
    """Why a trust, by its number, does not admit a caller to an identity; nothing where it does.

    `of` is the number of the identity (of its place, where only that is declared), `of_address` its address.
    """
    form, whom = compiled.tables.trust_form[trust], compiled.tables.trust_whom[trust]
    if form in BEARERS:
        if caller.form == "resource":
            if form != "token" or not _shows_service_account(compiled, whom, caller.address):
                yield Lack.SHOWS_NOTHING
        elif caller.form not in BEARERS:
            yield Lack.SHOWS_NOTHING
        elif (caller.form, caller.issuer) != (form, whom):
            yield Lack.OTHER_ISSUER
    elif form == "attached":
        yield from _lacks_running(compiled, whom, caller, of, of_address)
    elif caller.form != "identity":
        yield Lack.NOT_NAMED
    elif form in ("identity", "person"):
        if caller.address != whom:
            yield Lack.NOT_NAMED
    elif not compiled.is_person[caller.number] and compiled.provider[caller.number] != compiled.provider[of]:
        yield Lack.OTHER_PROVIDER
    elif form == "group":
        if compiled.find(str(whom)) not in caller.groups:
            yield Lack.NOT_IN_GROUP
    elif account_of(caller.address) != whom:
        yield Lack.NOT_IN_ACCOUNT


def _shows_service_account(compiled: Compiled, issuer: object, address: str) -> bool:
    """Whether a resource is a workload that can show a token of this issuer, its cluster's."""
    return compiled.estate.issuer_of_workload(address) == issuer and any(service_account_subjects(compiled, address))


def _lacks_running(
    compiled: Compiled, whom: str | Glob | bool, caller: Applicant, of: int, of_address: str
) -> Iterator[Lack]:
    if caller.form != "resource":
        yield Lack.NO_RESOURCE
        return
    if is_pool(caller.address):
        yield Lack.POOL
        return
    if of not in compiled.runs(caller.address):
        yield Lack.DOES_NOT_RUN_AS_IT
    if whom is True:
        if account_of(caller.address) != account_of(of_address):
            yield Lack.OTHER_ACCOUNT_RUNS
    elif not names_attached(whom, caller.address):
        yield Lack.NO_MATCH


def names_attached(whom: str | Glob | bool, address: str) -> bool:
    """Whether an address or a pattern means what runs at an address: that itself, or the pool that has it."""
    names = with_its_pool(address)
    return any(map(matcher(whom.pattern), names)) if isinstance(whom, Glob) else whom in names

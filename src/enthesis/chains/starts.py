"""Where the chains of a question start, by the name that is asked about; and that a place exists."""

from collections.abc import Mapping

from enthesis.access.compiling import Compiled
from enthesis.chains.chains import Chains, ChainStart
from enthesis.conditions.truth import Value
from enthesis.model.addresses import is_pool, parse
from enthesis.model.errors import InvalidAddress, InvalidInput
from enthesis.model.estate import Estate
from enthesis.text.nearest import perhaps
from enthesis.verdicts.pipeline_access import runs_admitted


def starts_from(chains: Chains, estate: Estate, who: str, claims: Mapping[str, Value]) -> list[ChainStart]:
    """The starts that a name stands for: an issuer with these claims, a credential, every member of a group, every
    identity of an account, or a place. InvalidInput with the nearest names for an unknown one."""
    compiled = chains.compiled
    if who in estate.issuers:
        return [chains.from_issuer(who, claims=claims)]
    if claims:
        raise InvalidInput(f"{who} is not an issuer, so it shows no claims", code="claims-without-issuer")
    if who in estate.credentials:
        found = chains.from_credential(who)
        return [found] if found is not None else []
    if who in estate.pipeline_access:
        access, start = estate.pipeline_access[who], chains.from_pipeline_access(who)
        if access.credential is None and access.admits:  # the runs that may use it show a token of their own
            start = chains.narrowed(chains.from_issuer(access.at), runs_admitted(estate, access))
        return [start] if start is not None else []
    if estate.is_of_many(who) and compiled.find(who) in compiled.members:
        members = compiled.members[compiled.find(who)]
        return [chains.from_place(number) for number in members.tolist()]
    if who in estate.accounts:
        account = compiled.find(who)
        inside = [number for number in compiled.identity_places.tolist() if compiled.account[number] == account]
        return [chains.from_place(number) for number in inside]
    if who in estate.resources and is_pool(who):
        return [chains.from_place(number) for number in chains.web.members_of(compiled.find(who))]
    if who in estate.identities or who in estate.resources:
        return [chains.from_place(compiled.find(who))]
    known = [
        *estate.issuers,
        *estate.credentials,
        *estate.pipeline_access,
        *estate.groups,
        *estate.identities,
        *estate.resources,
    ]
    raise InvalidInput(f"unknown address {who}", code="address-unknown", remedy=perhaps(who, known))


def asked_about(estate: Estate, address: str | None) -> list[str]:
    """An address to be told apart besides those of an estate: any but a leaf, one of which is like any other that
    nobody declared."""
    if address is None:
        return []
    try:
        kind = estate.catalogue.kinds.get(parse(address, estate.catalogue).kind)
    except InvalidAddress:
        return []
    return [] if kind is not None and kind.leaf else [address]


def must_exist(compiled: Compiled, address: str) -> None:
    """InvalidInput with the nearest names where a place does not exist."""
    if not compiled.exists(address):
        hint = perhaps(address, compiled.places.names)
        raise InvalidInput(f"unknown address {address}", code="address-unknown", remedy=hint)

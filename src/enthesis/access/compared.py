"""What one attribute is tested for in an estate, its comparisons with other attributes written out: as the values that
those can have."""

from collections.abc import Iterator

from enthesis.access.tables import Tables
from enthesis.conditions.sameness import names_in
from enthesis.model.conditions import Conditions, Equal, Test


def conditions_in(tables: Tables) -> Iterator[Conditions]:
    """The conditions of all trusts, grants, ceilings and credentials; of what trusts ask of claims those besides."""
    yield from tables.trust_when.values()
    yield from tables.grant_when.values()
    yield from (ceiling.when for ceiling in tables.estate.ceilings)
    yield from (credential.when for credential in tables.estate.credentials.values())


def tests_of(tables: Tables, attribute: str) -> list[Test]:
    """Every test that an estate makes of an attribute, each once."""
    found: dict[Test, None] = {}
    for when in conditions_in(tables):
        for name, test in when:
            others = names_in(test)
            if name == attribute:
                found[test] = None
                found |= {Equal(value): None for other in others for value in values_of(tables, other)}
            elif attribute in others:
                found |= {Equal(value): None for value in values_of(tables, name)}
    return list(found)


def values_of(tables: Tables, attribute: str) -> list[str]:
    """The texts that an attribute can have, as far as declared things decide it; of claims and references none."""
    estate = tables.estate
    family, _, rest = attribute.partition(".")
    if rest.startswith("labels."):
        label = rest.removeprefix("labels.")
        labelled = [*tables.labels.values(), *(one.labels for one in estate.accounts.values())]
        labelled += [one.labels for one in estate.organisations.values()]
        return list(dict.fromkeys(labels[label] for labels in labelled if label in labels))
    if family in ("caller", "origin"):
        return {
            "address": [*tables.identities, *tables.resources],
            "account": list(estate.accounts),
            "organisation": list(estate.organisations),
            "issuer": [*estate.issuers, *estate.providers],
            "kind": list(dict.fromkeys((*estate.catalogue.kinds, *tables.kinds))),
        }.get(rest, [])
    return list(estate.providers) if attribute == "provider" else []

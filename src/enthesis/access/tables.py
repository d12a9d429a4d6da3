"""What grows with an estate, as columns."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

from enthesis.model.conditions import Conditions, Glob
from enthesis.model.estate import Estate, boundary_of
from enthesis.model.vocabulary import Form


@dataclass(slots=True)
class Tables:
    """Columns of one estate; position n of every column of a section belongs together. Times in seconds since 1970.

    `estate` is what they are of. `labels`, `disabled`, `tied` and what resources have of their own are kept
    only for the places that have any.
    """

    estate: Estate
    identities: list[str] = field(default_factory=list)
    kinds: list[str] = field(default_factory=list)
    resources: list[str] = field(default_factory=list)
    labels: dict[str, Mapping[str, str]] = field(default_factory=dict)
    disabled: set[str] = field(default_factory=set)
    tied: dict[str, str] = field(default_factory=dict)
    encrypted_by: dict[str, str] = field(default_factory=dict)
    by_provider: set[str] = field(default_factory=set)
    runs_as: dict[str, tuple[str, ...]] = field(default_factory=dict)
    trust_of: list[str] = field(default_factory=list)
    trust_form: list[Form] = field(default_factory=list)
    trust_whom: list[str | Glob | bool] = field(default_factory=list)
    trust_shown: dict[int, Conditions] = field(default_factory=dict)
    trust_when: dict[int, Conditions] = field(default_factory=dict)
    trust_session: list[float] = field(default_factory=list)
    trust_until: dict[int, float] = field(default_factory=dict)
    grant_to: list[str] = field(default_factory=list)
    grant_role: list[str] = field(default_factory=list)
    grant_at: list[str] = field(default_factory=list)
    grant_holder: list[str] = field(default_factory=list)
    grant_when: dict[int, Conditions] = field(default_factory=dict)
    grant_until: dict[int, float] = field(default_factory=dict)

    def with_more(self, identities: Mapping[str, str], tied: Mapping[str, str], resources: Iterable[str]) -> "Tables":
        """The same with further identities (address to kind), what they are tied to, and further resources."""
        return replace(
            self,
            identities=[*self.identities, *identities],
            kinds=[*self.kinds, *identities.values()],
            resources=[*self.resources, *resources],
            tied={**self.tied, **tied},
        )


def tables_of(estate: Estate) -> Tables:
    """The columns of an estate."""
    tables = Tables(estate)
    for address, identity in estate.identities.items():
        tables.identities.append(address)
        tables.kinds.append(identity.kind)
        if identity.labels:
            tables.labels[address] = identity.labels
        if identity.disabled:
            tables.disabled.add(address)
        if identity.tied_to is not None:
            tables.tied[address] = identity.tied_to
    for address, resource in estate.resources.items():
        tables.resources.append(address)
        if resource.labels:
            tables.labels[address] = resource.labels
        if resource.encrypted_by is not None:
            tables.encrypted_by[address] = resource.encrypted_by
        if resource.by_provider:
            tables.by_provider.add(address)
        if resource.runs_as:
            tables.runs_as[address] = resource.runs_as
    _statements(tables, estate)
    return tables


def _statements(tables: Tables, estate: Estate) -> None:
    """The columns of trusts and grants, each in one go: estates have a million of them."""
    trusts, grants = estate.trusts, estate.grants
    tables.trust_of += [trust.of for trust in trusts]
    tables.trust_form += [trust.admits.form for trust in trusts]
    tables.trust_whom += [trust.admits.whom for trust in trusts]
    tables.trust_session += [trust.session.total_seconds() for trust in trusts]
    tables.trust_shown |= {
        number: trust.admits.conditions for number, trust in enumerate(trusts) if trust.admits.conditions
    }
    tables.trust_when |= {number: trust.when for number, trust in enumerate(trusts) if trust.when}
    tables.trust_until |= {
        number: trust.until.timestamp() for number, trust in enumerate(trusts) if trust.until is not None
    }
    tables.grant_to += [grant.to for grant in grants]
    tables.grant_role += [grant.role for grant in grants]
    tables.grant_at += [grant.at for grant in grants]
    tables.grant_holder += [grant.held_by or boundary_of(grant.at) for grant in grants]
    tables.grant_when |= {number: grant.when for number, grant in enumerate(grants) if grant.when}
    tables.grant_until |= {
        number: grant.until.timestamp() for number, grant in enumerate(grants) if grant.until is not None
    }

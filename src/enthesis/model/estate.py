"""The statements of an estate, as frozen records. One class per section; equality leaves out where they stand."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta

from enthesis.model.addresses import account_of, contains, is_organisation, organisation_named
from enthesis.model.catalogue import Catalogue, Kind
from enthesis.model.conditions import Conditions, Glob, Network
from enthesis.model.file_errors import Source
from enthesis.model.vocabulary import Ending, Form, VerdictStep, origin_form

Labels = Mapping[str, str]
KindVerbs = Mapping[str, tuple[str, ...]]
ClaimValue = str | int | float | bool | None | tuple["ClaimValue", ...] | Mapping[str, "ClaimValue"]
Claims = Mapping[str, ClaimValue]

NOWHERE = Source("", 0, 0)
DEFAULT_SESSION = timedelta(hours=1)
LONGEST_KEY = timedelta(days=30)
WORKLOAD_KINDS = ("service-account", "instance-role", "managed-identity", "cluster-service-account")
PERSON = "person"
IDENTITY_KINDS = (*WORKLOAD_KINDS, PERSON)
OWN_SYSTEMS = ("cluster", "database")
"""Kinds that can keep the statements about what is in them themselves, beside the account's provider."""


def _source() -> Source:
    return field(default=NOWHERE, compare=False, kw_only=True)


@dataclass(frozen=True, slots=True)
class Organisation:
    """`units` holds paths below the organisation: `field`, `field/north`.

    `directory` is the url where its people sign in, `people` the base url of the SCIM service where they and the groups
    are kept in step; `longest_key` how long a keyed credential may live at the most.
    """

    name: str
    units: tuple[str, ...] = ()
    outside: bool = False
    labels: Labels = field(default_factory=dict)
    directory: str | None = None
    people: str | None = None
    longest_key: timedelta | None = None
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Exchange:
    """How a token service that others run wants to be asked.

    `names_in` is the parameter that names what is wanted: at a provider the identity, at an issuer the audience.
    `named` says how an identity is called there, with {address}, {account}, {name} and {url} put in; `names` those that
    are called otherwise. `client` is how a client shows itself; `shown_as` and `wanted` are token types (RFC 8693,
    section 3), `wanted` may be none; `more` are further parameters.
    """

    names_in: str = "resource"
    named: str | None = None
    names: Mapping[str, str] = field(default_factory=dict)
    client: str | None = None
    shown_as: str | None = None
    wanted: str | None = None
    more: Mapping[str, str] = field(default_factory=dict)
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Provider:
    """A cloud; `style` is two-sided or one-sided. `exchange`: how its token service wants to be asked."""

    name: str
    style: str
    url: str | None = None
    exchange: Exchange | None = None
    source: Source = _source()

    @property
    def two_sided(self) -> bool:
        """Whether the caller's account must let it out in a crossing."""
        return self.style == "two-sided"


@dataclass(frozen=True, slots=True)
class Account:
    """`within` is the address of an organisation or unit; `administered_by` is us, others or None (unsaid)."""

    name: str
    within: str
    provider: str
    labels: Labels = field(default_factory=dict)
    administered_by: str | None = None
    longest_key: timedelta | None = None
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Issuer:
    """Something that signs statements about callers; `claims` maps a name to `text` or `list`.

    `cluster` is the place of the cluster whose service accounts it signs for, where it is one's issuer. `outside_runs`
    are words in the claims of runs that changes from outside can start, besides those that are known for that.
    `exchange`: how it wants to be asked for a token of a registered client. `key` is the public key of an ssh
    authority, as OpenSSH writes it.
    """

    name: str
    kind: str
    url: str | None = None
    shared: bool = False
    owned: Conditions = ()
    claims: Mapping[str, str] | None = None
    audiences: tuple[str, ...] = ()
    cluster: str | None = None
    outside_runs: tuple[str, ...] = ()
    exchange: Exchange | None = None
    key: str | None = None
    source: Source = _source()

    @property
    def always_issues(self) -> tuple[str, ...]:
        """The claims that are issued whatever is listed: `aud`, and by an OIDC issuer `sub` (OIDC Core, section 2)."""
        return ("aud", "sub") if self.kind == "oidc" else ("aud",)


@dataclass(frozen=True, slots=True)
class Resource:
    """What exists already. `shared_login`: whether a registry or database still has a login that people share (on, off
    or None, unsaid). `url` is where a server of its own is reached that keeps its own access, and `certificates` the
    issuer whose certificates that server takes."""

    address: str
    labels: Labels = field(default_factory=dict)
    encrypted_by: str | None = None
    managed_by: str | None = None
    runs_as: tuple[str, ...] = ()
    protected: bool = False
    shared_login: str | None = None
    url: str | None = None
    certificates: str | None = None
    source: Source = _source()

    @property
    def by_provider(self) -> bool:
        """Whether its provider manages it: a key that no other account can use."""
        return self.managed_by == "provider"


@dataclass(frozen=True, slots=True)
class Identity:
    """What a workload is known as, or a person of an organisation."""

    address: str
    kind: str
    owner: str | None = None
    purpose: str | None = None
    labels: Labels = field(default_factory=dict)
    tied_to: str | None = None
    disabled: bool = False
    absent: bool = False  # named by a statement of a survey, and not there
    environment: str | None = None
    source: Source = _source()

    @property
    def form(self) -> Form:
        """What a journey says that starts at it."""
        return origin_form("identity", person=self.is_person)

    @property
    def is_person(self) -> bool:
        """Whether it is a person's."""
        return self.kind == PERSON


@dataclass(frozen=True, slots=True)
class GroupRule:
    """Finds members by kind, place and labels; all that is said must hold."""

    kind: str | None = None
    within: str | None = None
    labels: Labels = field(default_factory=dict)
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Group:
    """A named set of identities: listed, and found by a rule."""

    address: str
    members: tuple[str, ...] = ()
    where: GroupRule | None = None
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Role:
    """A named set of permissions, without a scope."""

    name: str
    allows: KindVerbs = field(default_factory=dict)
    includes: tuple[str, ...] = ()
    description: str | None = None
    source: Source = _source()


def in_force(until: datetime | None, at: datetime) -> bool:
    """Whether something that ends at `until` (None: never) is in force at an instant: at that of its end it is not."""
    return until is None or at < until


@dataclass(frozen=True, slots=True)
class Admission:
    """Whom a trust admits. `form` is the word used; `whom` the name, address, pattern or True.

    `conditions` are the claims (token), attributes (assertion) or subject tests (certificate).
    """

    form: Form
    whom: str | Glob | bool
    conditions: Conditions = ()
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Trust:
    """On an identity: who is admitted to take it on, on which conditions, for how long; `because` says why."""

    of: str
    admits: Admission
    name: str | None = None
    when: Conditions = ()
    session: timedelta = DEFAULT_SESSION
    until: datetime | None = None
    because: str | None = None
    source: Source = _source()

    def in_force(self, at: datetime) -> bool:
        """Whether it has not ended."""
        return in_force(self.until, at)


@dataclass(frozen=True, slots=True)
class Grant:
    """Binds a role to an identity or group at a place."""

    to: str
    role: str
    at: str
    name: str | None = None
    held_by: str | None = None
    when: Conditions = ()
    until: datetime | None = None
    because: str | None = None
    source: Source = _source()

    def in_force(self, at: datetime) -> bool:
        """Whether it has not ended."""
        return in_force(self.until, at)


@dataclass(frozen=True, slots=True)
class CeilingException:
    """Whom a ceiling leaves alone for a while: for these verbs (all without any), at a place or anywhere ('')."""

    who: str | Glob
    until: datetime
    because: str
    can: tuple[str, ...] = ()
    at: str = ""
    source: Source = _source()

    def in_force(self, at: datetime) -> bool:
        """Whether it has not ended."""
        return in_force(self.until, at)


@dataclass(frozen=True, slots=True)
class Ceiling:
    """What callers beneath a boundary may at most do, or what may at most be done to things beneath it."""

    name: str
    over: str
    at: str
    bars: KindVerbs | None = None
    only: KindVerbs | None = None
    excepts: tuple[str | Glob | CeilingException, ...] = ()
    when: Conditions = ()
    source: Source = _source()

    @property
    def for_a_while(self) -> tuple[CeilingException, ...]:
        """The exceptions that end."""
        return tuple(one for one in self.excepts if isinstance(one, CeilingException))


@dataclass(frozen=True, slots=True)
class Attachment:
    """Lets what is there run as further identities."""

    what: str | Glob
    runs_as: tuple[str, ...]
    because: str | None = None
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """A place that no address names, in words."""

    words: str

    def __str__(self) -> str:
        return self.words


@dataclass(frozen=True, slots=True)
class Credential:
    """A keyed credential that is known of; never its value. `held_in` are the places where copies are: addresses, or
    issuers whose runs have one, or others in words."""

    name: str
    of: str
    form: str
    created: datetime | None = None
    expires: datetime | None = None
    last_used: datetime | None = None
    disabled: bool = False
    when: Conditions = ()
    held_in: tuple[str | Elsewhere, ...] = ()
    fingerprint: str | None = None
    source: Source = _source()

    def in_force(self, at: datetime) -> bool:
        """Whether it has not lapsed."""
        return in_force(self.expires, at)

    @property
    def held_at(self) -> tuple[str, ...]:
        """The places where copies are that have a name."""
        return tuple(place for place in self.held_in if isinstance(place, str))

    def opens(self, at: datetime) -> bool:
        """Whether it opens anything by itself: neither disabled nor lapsed."""
        return not self.disabled and self.in_force(at)


@dataclass(frozen=True, slots=True)
class PipelineAccess:
    """A way into an identity that a pipeline service keeps for its projects."""

    name: str
    at: str
    of: str
    admits: Conditions = ()
    credential: str | None = None
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Origin:
    """Where a journey starts. `form` is the word used; `shows` the claims, attributes or subject."""

    form: Form
    whom: str
    shows: Claims = field(default_factory=dict)
    mfa: bool | None = None
    mfa_said: bool = False
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Hop:
    """Taking on an identity, perhaps narrowed to some permissions; or running code `on` a resource, which continues as
    what it runs as (`identity` is '' then). Of a pool it continues as a `member`, which no file names: a journey is
    about each."""

    identity: str = ""
    narrowed: KindVerbs | None = None
    on: str = ""
    member: str = ""
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Attempt:
    """A verb on a target; for `attach`, the target is the identity and `onto` the resource."""

    verb: str
    target: str
    onto: str | None = None
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Context:
    """What surrounds a request. A name in `said` was written, if only as null: absent on purpose."""

    time: datetime | None = None
    network: Network | None = None
    reference: str | None = None
    session_age: timedelta | None = None
    said: frozenset[str] = frozenset()
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Journey:
    """A written expectation: from this origin, through these hops, this attempt is allowed or refused."""

    name: str
    origin: Origin
    expect: Ending
    through: tuple[Hop, ...] = ()
    attempt: Attempt | None = None
    context: Context = Context()
    refused_at: tuple[VerdictStep, ...] = ()
    keyless: bool = False
    within: timedelta | None = None
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Start:
    """The callers an invariant refers to: an origin with claims left free, or addresses and patterns."""

    form: Form
    whom: tuple[str | Glob, ...] = ()
    conditions: Conditions = ()
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Claimed:
    """What an invariant claims: nobody that starts so or passes so ends so; or nobody but these does."""

    can: tuple[str, ...]
    at: str
    start: Start | None = None
    by: tuple[str | Glob, ...] = ()
    on: tuple[str, ...] = ()
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Invariant:
    """A written claim about all chains at once; `form` is never or only."""

    name: str
    form: str
    claimed: Claimed
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Approval:
    """What changes at a place wants the agreement of so many people of a group, never of its author."""

    at: str
    by: int
    of: str
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Notice:
    """How long before an end of a kind, its name, a person is told of it."""

    name: str
    before: tuple[timedelta, ...]
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Approver:
    """A person who can approve, by an Ed25519 public key in OpenSSH or PEM form."""

    address: str
    key: str
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Accepted:
    """A risk, that a caller breaks an invariant, or that something is not read of a live system, lived with on purpose
    until a time. `of` is the name or address that the risk is about, `by` the caller's, `at` where that is."""

    because: str
    until: datetime
    risk: str = ""
    of: str = ""
    invariant: str = ""
    by: str = ""
    unread: str = ""
    at: str = ""
    source: Source = _source()

    @property
    def what(self) -> str:
        """What is accepted of whom, in words."""
        if self.unread:
            return f"not reading {self.unread}"
        return f"{self.risk} of {self.of}" if self.risk else f"{self.by} breaking the invariant {self.invariant}"

    @property
    def about(self) -> str:
        """The name or address that it is about."""
        return self.of or self.by or self.at

    def in_force(self, at: datetime) -> bool:
        """Whether it has not ended."""
        return in_force(self.until, at)


@dataclass(frozen=True, slots=True)
class Retiring:
    """Where a keyed credential, its name, stands on its way to keyless, and since when. `proved` is when its keyless
    way was proved, `identity` the one that its holder takes on instead, where that is another."""

    name: str
    stage: str
    since: datetime | None = None
    proved: datetime | None = None
    identity: str | None = None
    source: Source = _source()


@dataclass(frozen=True, slots=True)
class Estate:
    """Everything described. Mappings keep the order in which the files name things."""

    name: str
    catalogue: Catalogue = field(compare=False)
    organisations: Mapping[str, Organisation] = field(default_factory=dict)
    providers: Mapping[str, Provider] = field(default_factory=dict)
    accounts: Mapping[str, Account] = field(default_factory=dict)
    issuers: Mapping[str, Issuer] = field(default_factory=dict)
    resources: Mapping[str, Resource] = field(default_factory=dict)
    identities: Mapping[str, Identity] = field(default_factory=dict)
    groups: Mapping[str, Group] = field(default_factory=dict)
    roles: Mapping[str, Role] = field(default_factory=dict)
    trusts: tuple[Trust, ...] = ()
    grants: tuple[Grant, ...] = ()
    ceilings: tuple[Ceiling, ...] = ()
    attachments: tuple[Attachment, ...] = ()
    credentials: Mapping[str, Credential] = field(default_factory=dict)
    pipeline_access: Mapping[str, PipelineAccess] = field(default_factory=dict)
    journeys: Mapping[str, Journey] = field(default_factory=dict)
    invariants: tuple[Invariant, ...] = ()
    accepted: tuple[Accepted, ...] = ()
    approvals: tuple[Approval, ...] = ()
    approvers: Mapping[str, Approver] = field(default_factory=dict)
    notice: Mapping[str, Notice] = field(default_factory=dict)
    retiring: Mapping[str, Retiring] = field(default_factory=dict)
    ignore: tuple[str, ...] = ()
    kinds: Mapping[str, Kind] = field(default_factory=dict)

    def issuer_of_workload(self, workload: str) -> str | None:
        """The issuer of the cluster that a workload runs in, if it has one."""
        return next(
            (issuer.name for issuer in self.issuers.values() if issuer.cluster and contains(issuer.cluster, workload)),
            None,
        )

    def boundary_above(self, account: str) -> tuple[str, ...]:
        """The units and the organisation above an account, nearest first; empty for an unknown account."""
        found = self.accounts.get(account)
        if found is None:
            return ()
        parts = found.within.split("/")
        return tuple("/".join(parts[:count]) for count in range(len(parts), 0, -1))

    def is_at(self, place: str, address: str) -> bool:
        """Whether an address is at a place: it, in it, or in an account beneath that organisation or unit."""
        return contains(place, address) or place in self.boundary_above(account_of(address))

    def is_of_many(self, principal: str) -> bool:
        """Whether a grantee stands for others: a group, or an organisation for everybody of it."""
        return principal in self.groups or is_organisation(principal)

    def system_of(self, address: str) -> str:
        """What keeps the statements about a place in an account: the cluster that it is in, or the database with a
        server of its own, or else the provider."""
        parts = address.split("/", 3)
        found = self.resources.get("/".join(parts[:3])) if len(parts) > 2 and parts[1] in OWN_SYSTEMS else None
        if found is not None and (parts[1] == "cluster" or found.url is not None):
            return found.address
        account = self.accounts.get(account_of(address))
        return account.provider if account is not None else ""

    def login_authority(self, host: str) -> str | None:
        """The public key of the authority whose certificates a host takes; None where it is not described."""
        found = self.resources.get(host)
        issuer = self.issuers.get(found.certificates or "") if found is not None else None
        return issuer.key if issuer is not None else None

    def organisation_of(self, address: str) -> str:
        """The name of the organisation an address belongs to; '' where none is known."""
        named = organisation_named(address)
        if named:
            return named
        above = self.boundary_above(account_of(address))
        return organisation_named(above[-1]) if above else ""

    def is_outside(self, address: str) -> bool:
        """Whether an address belongs to another party: one that Enthesis never changes anything of."""
        found = self.organisations.get(self.organisation_of(address))
        return found is not None and found.outside

    def keeps_people(self, organisation: str) -> bool:
        """Whether the directory of an organisation of ours (with its '@') is kept in step."""
        found = self.organisations.get(organisation.removeprefix("@")) if organisation.startswith("@") else None
        return found is not None and found.people is not None and not self.administered_by_others(organisation)

    def administered_by_others(self, holder: str) -> bool:
        """Whether the administrators of this account (or '@' boundary) are others than us."""
        if self.is_outside(holder):
            return True
        account = self.accounts.get(account_of(holder))
        return account is not None and account.administered_by == "others"

    def crosses(self, caller: str, target: str) -> bool:
        """Whether a request from one account, by its name, into another is one that the caller's must let out."""
        own, other = self.accounts.get(caller), self.accounts.get(target)
        if own is None or other is None or own is other or own.provider != other.provider:
            return False
        return self.providers[own.provider].two_sided

    def with_credentials(self, credentials: Mapping[str, "Credential"]) -> "Estate":
        """The estate with just these keyed credentials; pipeline access by one that it has no more leads nowhere."""
        access = {
            name: one if one.credential in credentials else replace(one, credential=None)
            for name, one in self.pipeline_access.items()
        }
        return replace(self, credentials=credentials, pipeline_access=access)

    def seen_by(self, party: str) -> "Estate":
        """The estate as another party of it sees it: what is theirs (an organisation, or one account) is `us`."""
        organisations = {
            name: replace(one, outside=name != party) if party in self.organisations else one
            for name, one in self.organisations.items()
        }
        accounts = {
            name: replace(one, administered_by=None if self.organisation_of(name) == party else one.administered_by)
            if party in self.organisations
            else replace(one, administered_by="us" if name == party else "others")
            for name, one in self.accounts.items()
        }
        if party in self.accounts:
            home = self.organisation_of(party)
            organisations = {name: replace(one, outside=name != home) for name, one in organisations.items()}
        return replace(self, organisations=organisations, accounts=accounts)

    def holder_of(self, grant: Grant) -> str:
        """The account, unit or organisation whose administrators wrote a grant."""
        return grant.held_by or boundary_of(grant.at)

    def providers_of(self, holder: str) -> tuple[str, ...]:
        """The providers at which a holder's statements live: an account's one, all those below a boundary."""
        account = self.accounts.get(account_of(holder))
        if account is not None:
            return (account.provider,)
        below = {a.provider: None for a in self.accounts.values() if contains(holder, a.within)}
        return tuple(below)

    def longest_key(self, identity: str) -> timedelta:
        """How long a keyed credential of an identity may live: thirty days, or less where its account or organisation
        says so."""
        account = self.accounts.get(account_of(identity))
        organisation = self.organisations.get(self.organisation_of(identity))
        said = (one.longest_key for one in (account, organisation) if one is not None)
        return min([LONGEST_KEY, *(one for one in said if one is not None)])

    def permissions_of(self, role: str) -> frozenset[tuple[str, str]]:
        """Everything a role allows, with what it includes; a cycle of inclusions ends where it closes."""
        seen: set[str] = set()
        found: set[tuple[str, str]] = set()
        waiting = [role]
        while waiting:
            name = waiting.pop()
            if name in seen or name not in self.roles:
                continue
            seen.add(name)
            found |= self.catalogue.permissions(self.roles[name].allows, power_included=False)
            waiting.extend(self.roles[name].includes)
        return frozenset(found)


def boundary_of(address: str) -> str:
    """The account an address lies in, or else the organisation or unit it is or stands in."""
    account = account_of(address)
    if account:
        return account
    for word in ("/identity/", "/group/"):
        if word in address:
            return address.split(word, 1)[0]
    return address

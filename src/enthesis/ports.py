"""What the work needs from outside, as Protocols. Connectors stand behind them; the pure parts never see one."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any, Protocol, runtime_checkable

from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Attempt, Claims, Estate, KindVerbs
from enthesis.model.secrets import Secret
from enthesis.model.vocabulary import VerdictStep
from enthesis.proposals.credentials import Credentialed, OpenSession
from enthesis.proposals.steps import Step
from enthesis.surveys.statements import LiveObject, Surveyed

__all__ = [
    "Administered",
    "Attempts",
    "CertifiesLogins",
    "Changed",
    "Connected",
    "Credentialed",
    "Done",
    "HeldCredential",
    "HeldKey",
    "Issues",
    "IssuesAssertions",
    "IssuesCertificates",
    "KeepsImages",
    "KeepsKeys",
    "KeepsPipelineAccess",
    "LetsGo",
    "LiveClusterPorts",
    "LiveDatabase",
    "LiveObject",
    "LogsIn",
    "MovableClock",
    "OpenLogin",
    "OpenSession",
    "Record",
    "Refusal",
    "Reporter",
    "Right",
    "RunsHosts",
    "Secret",
    "SignsIn",
    "StartsSessions",
    "StatesWhoCalls",
    "Step",
    "Surroundings",
    "Surveyed",
    "Surveys",
    "TakesAssertions",
    "TakesCertificates",
    "TakesKeys",
    "TakesOn",
    "WantedKey",
]


@dataclass(frozen=True, slots=True)
class HeldCredential:
    """Something that opens doors, what it is, and how long it lives."""

    secret: Secret
    form: str  # token, person, session; or workload or host: a place, before anything is taken on
    life: timedelta
    home: str = ""  # the url of who issued a session, where the session does not say that itself


@dataclass(frozen=True, slots=True)
class Refusal:
    """Access was refused, as access. `steps` are those that refuse, where the live system says."""

    steps: tuple[VerdictStep, ...]
    said: str

    @classmethod
    def told(cls, steps: object, said: str) -> "Refusal | None":
        """The refusal that a system tells by a list of steps; None where that names no step that is known."""
        named = tuple(step for step in VerdictStep if step in steps) if isinstance(steps, list) else ()
        return cls(named, said) if named else None


@dataclass(frozen=True, slots=True)
class Done:
    """An attempt that was allowed; `said` tells what was seen of its effect."""

    said: str


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What surrounds a request, as far as the caller supplies it."""

    network: str | None = None
    reference: str | None = None


@dataclass(frozen=True, slots=True)
class Changed:
    """What a live system made of a step: the statement's id and version (None where it no longer exists), and
    whether the change shows and is enforced already."""

    id: str | None
    etag: str | None
    in_force: bool = True


@dataclass(frozen=True, slots=True)
class Right:
    """A right that we need ourselves: what to be allowed to do, where, and for which command."""

    may: str
    at: str
    to: str  # survey or enact


@runtime_checkable
class Administered(Protocol):
    """The survey and change ports: one live provider, seen by its administrators."""

    name: str

    def survey(self, holders: Sequence[str], others: Sequence[str] = ()) -> Surveyed:
        """Everything about access that these holders have, in the estate's words; with the ids of identities and groups
        of `others`, as far as they exist."""
        ...

    def change(self, step: Step, ids: dict[str, str], key: str = "") -> Changed:
        """Carries one step out. `ids` maps addresses to live ids, across providers, and is kept up to date. Sent again
        with the same `key` it does nothing more, and answers the same."""
        ...

    def learn(self, step: Step, made: Changed, ids: dict[str, str]) -> None:
        """Takes note of what an earlier run made by a step."""
        ...

    def in_force(self, step: Step, made: Changed) -> bool:
        """Whether what a step wrote shows and is enforced by now."""
        ...

    def rights(self, holders: Sequence[str], steps: Sequence[Step]) -> list[Right]:
        """The least rights of our own that a survey of these holders needs, and these steps."""
        ...

    def lacking(self, steps: Sequence[Step]) -> list[str]:
        """Which of the rights that these steps need we have not, as far as the system says; asked before the first."""
        ...

    def objection(self, collection: str, body: Mapping[str, Any], allows: Mapping[str, Any]) -> str:
        """Why it cannot hold a statement; '' where it can. `allows` is what the role of a grant allows."""
        ...


Record = Mapping[str, Any]
"""One line of a survey: an entry of a section in the estate's words, what was left out and why, or a finding."""


class Surveys(Protocol):
    """The survey port of anything that can be asked for everything at once.

    `name` is its place in the estate, `what` a word for what it is: cluster, provider, issuer.
    """

    what: str
    name: str
    url: str

    def records(self, step: Callable[[str], None]) -> Iterator[Record]:
        """The lines of a survey, as they are read; `step` is told what is read next."""
        ...


@dataclass(frozen=True, slots=True)
class HeldKey:
    """A keyed credential at hand."""

    id: str
    form: str
    secret: Secret
    ends: datetime | None = None


@dataclass(frozen=True, slots=True)
class WantedKey:
    """A keyed credential that a person asked for by name, with why and until when."""

    name: str
    of: str
    form: str
    expires: datetime
    reason: str


@runtime_checkable
class SaysWhoRemoved(Protocol):
    """The survey port of a system that says who removed a statement."""

    def removed_by(self, collection: str, holder: str, identifier: str) -> str:
        """Who removed a statement, as the system names them; '' where it does not say."""
        ...


@runtime_checkable
class KeepsKeys(Protocol):
    """The change port of a provider whose identities can have keyed credentials."""

    def make_key(self, holder: str, wanted: WantedKey) -> tuple[Credentialed, Secret]:
        """Makes a keyed credential. Returns what is known of it, and its value, which is shown once."""
        ...

    def keys(self, holders: Sequence[str]) -> list[Credentialed]:
        """The keyed credentials of identities of these holders, without their values."""
        ...

    def revoke_credential(self, holder: str, identifier: str) -> None:
        """Deletes a keyed credential for good."""
        ...

    def switch_credential(self, holder: str, identifier: str, *, disabled: bool) -> Credentialed:
        """Switches a keyed credential off, or on again."""
        ...


@runtime_checkable
class KeepsSessions(Protocol):
    """The survey port of a provider that tells which sessions are open. A step that removes one ends it."""

    def open_sessions(self, holders: Sequence[str]) -> list[OpenSession]:
        """The sessions of identities of these holders that have not ended."""
        ...


@runtime_checkable
class RecordsUse(Protocol):
    """The usage port of a provider: the requests that it decided, in the words of a usage log, the oldest first."""

    def usage(self, holders: Sequence[str]) -> Iterator[Record]:
        """The requests at resources of these holders, the oldest first."""
        ...


class TakesOn(Protocol):
    """The obtain port of a provider: a credential for a session as an identity."""

    def take_on(
        self, shown: HeldCredential, identity: str, narrowed: KindVerbs | None, asked: Surroundings
    ) -> HeldCredential | Refusal:
        """A session as an identity, narrowed to these permissions (None: not narrowed), or the refusal."""
        ...


@runtime_checkable
class StartsSessions(Protocol):
    """The obtain port of a provider whose administrators can have a session as an identity of theirs."""

    def session_as(self, identity: str) -> HeldCredential:
        """A session as an identity, by the right of its administrators."""
        ...


@runtime_checkable
class StatesWhoCalls(Protocol):
    """The obtain port of a provider that vouches for its sessions at others: a short statement for one audience."""

    def statement(self, session: HeldCredential, audience: str) -> HeldCredential | Refusal:
        """A short statement of who calls, for one audience, or the refusal."""
        ...


@runtime_checkable
class Attempts(Protocol):
    """The attempt port: does a thing for real, sees that it was done, and puts it back."""

    def attempt(self, session: HeldCredential, attempt: Attempt, asked: Surroundings) -> Done | Refusal:
        """Tries it with a session. Returns what was seen, or the refusal."""
        ...


@runtime_checkable
class RunsCode(Protocol):
    """The obtain port of a provider for code that is run on a resource: what the resource shows from then on."""

    def run_on(
        self, session: HeldCredential, resource: str, verb: str, asked: Surroundings
    ) -> HeldCredential | Refusal:
        """What a resource shows after code was run on it, or the refusal."""
        ...


@dataclass(frozen=True, slots=True)
class Passing:
    """A request of a program, or its answer, on its way through us. `path` has the query."""

    headers: Mapping[str, str]
    content: bytes
    method: str = ""
    path: str = ""
    status: int = 0


@runtime_checkable
class PassesOn(Protocol):
    """The port of a provider that programs speak to by themselves: what they ask of it, in words of the estate."""

    name: str

    @property
    def url(self) -> str:
        """Where programs speak to it."""
        ...

    def asked(self, request: Passing) -> Attempt | str | None:
        """What a request attempts, or the identity that it takes on; None where it is neither."""
        ...

    def is_for_everybody(self, request: Passing) -> bool:
        """Whether a request asks for what everybody is told, whoever asks, such as public keys."""
        ...

    def passed_on(self, request: Passing, shown: Secret | None) -> Passing:
        """The answer to a request that shows this. Any status is an answer; Unreachable where there is none."""
        ...


class RunsHosts(TakesOn, Protocol):
    """The obtain port of a provider's hosts: each has a service of its own that hands out its sessions."""

    def seat(self, host: str) -> HeldCredential:
        """What a host shows to its own service."""
        ...


class SignsIn(Protocol):
    """The obtain port of a directory whose people do as a journey says."""

    def sign_in_as(self, person: str, mfa: bool | None) -> HeldCredential | Refusal:
        """Signs a person in, with a second factor or without (None: as the directory asks); or the refusal, as of
        somebody whom the directory has inactive."""
        ...


@runtime_checkable
class LetsGo(Protocol):
    """What a system can have that hands out sessions: their end, once they are needed no more."""

    def let_go(self) -> None:
        """Ends all that were obtained through this connection."""
        ...


class Issues(Protocol):
    """The obtain port of an issuer: a token that shows these claims."""

    name: str

    def obtain(self, claims: Claims) -> HeldCredential:
        """A token that shows these claims."""
        ...


@runtime_checkable
class IssuesAssertions(Protocol):
    """The obtain port of an issuer whose assertions are made for one recipient each."""

    def obtain_for(self, claims: Claims, recipient: str) -> HeldCredential:
        """An assertion for the url of a recipient that shows these attributes."""
        ...


@runtime_checkable
class TakesAssertions(Protocol):
    """The obtain port of a provider that takes assertions."""

    name: str
    url: str

    @property
    def recipient(self) -> str:
        """The url that an assertion must be made for, to be taken here."""
        ...


@runtime_checkable
class KeepsPipelineAccess(Protocol):
    """The attempt port of a pipeline service for what it keeps for its projects."""

    def use_pipeline_access(self, name: str, claims: Claims) -> Done | Refusal:
        """Uses a kept way in from a run with these claims. Returns what was seen, or the refusal."""
        ...


class MovableClock(Protocol):
    """Moves the time of live systems that let it be moved, as only a lab does."""

    def forward(self, by: timedelta) -> None:
        """Moves the time on."""
        ...


@runtime_checkable
class TakesKeys(Protocol):
    """The obtain port of a provider for keyed credentials."""

    def by_key(self, key: HeldKey) -> HeldCredential | Refusal:
        """A session for a keyed credential, or the refusal."""
        ...


@runtime_checkable
class TakesCertificates(Protocol):
    """The attempt port of a system that takes certificates alone; `issuer` is the authority in the estate."""

    issuer: str


@runtime_checkable
class IssuesCertificates(Protocol):
    """The obtain port of an authority that issues a certificate to whom a token is about that was made for it."""

    url: str

    def for_token(self, token: HeldCredential) -> HeldCredential | Refusal:
        """A certificate for whom a token is about, or the refusal."""
        ...


@runtime_checkable
class CertifiesLogins(Protocol):
    """The obtain port of a provider that certifies the key of a caller for a login at one host."""

    def login_certificate(self, session: HeldCredential, host: str, public: str, asked: Surroundings) -> str | Refusal:
        """A certificate for a public key, as OpenSSH writes both, or the refusal."""
        ...


class KeepsImages(Attempts, Protocol):
    """The attempt port of a registry that images are pulled from and pushed to for real. `tells_shared_login` where the
    password of the login that people share is at hand."""

    tells_shared_login: bool

    def shared_login(self) -> Done | Refusal:
        """Tries the login that people share, where its password is at hand."""
        ...


class OpenLogin(Protocol):
    """A login that was made and stays open; `ended_by` says in words what ends it."""

    ended_by: str

    def goes_on(self) -> bool:
        """Whether something can still be done in it."""
        ...

    def close(self) -> None:
        """Ends it."""
        ...


class LogsIn(Protocol):
    """The attempt port of a host that is logged in at for real."""

    def opened(self, provider: CertifiesLogins, session: HeldCredential, asked: Surroundings) -> OpenLogin | Refusal:
        """A login that stays open, with a certificate that the session is given, or the refusal."""
        ...

    def log_in(self, provider: CertifiesLogins, session: HeldCredential, asked: Surroundings) -> Done | Refusal:
        """Logs in with a certificate that the session is given, and out again."""
        ...


class LiveDatabase(Administered, Attempts, TakesCertificates, Protocol):
    """A database with a server of its own: changed by its administrators, and where logins open things."""

    def opened(self, session: HeldCredential) -> OpenLogin | Refusal:
        """A login with a certificate that stays open, or the refusal."""
        ...


@runtime_checkable
class ListsResources(Protocol):
    """A provider that tells its administrators what there is in an account."""

    def resources_in(self, account: str) -> list[str]:
        """The addresses of everything that is there now."""
        ...


class LiveClusterPorts(Administered, TakesOn, Attempts, Issues, Protocol):
    """A cluster: changed by its administrators, issuer of its service accounts' tokens, and where they open things."""

    def seat(self, workload: str) -> HeldCredential:
        """What a workload of the cluster shows."""
        ...

    def token_of(self, workload: str, identity: str, audience: str) -> HeldCredential | Refusal:
        """The token of a service account that a workload can show to an audience, or why it has none."""
        ...

    def token_for(self, identity: str, life: timedelta) -> tuple[HeldCredential, str]:
        """A token of a service account for at most this life. Returns it with the id it was made under."""
        ...


def attempting(system: object, name: str) -> Attempts:
    """A system, where its connector can attempt something; InvalidInput where it cannot."""
    if isinstance(system, Attempts):
        return system
    raise InvalidInput(
        f"{name} cannot be tried for what is asked of it: what it is reached by does not do that", code="port-missing",
        remedy="`enthesis connections` says how it is reached",
    )  # fmt: skip


class Reporter(Protocol):
    """Told how far long work has come; the work itself never prints. A total of 0 is one that is not known."""

    def begin(self, what: str, total: int) -> None:
        """A piece of work begins, of `total` steps."""
        ...

    def step(self, what: str) -> None:
        """The next step begins."""
        ...

    def end(self) -> None:
        """The piece of work is over."""
        ...


@dataclass(frozen=True)
class ServiceHere:
    """A service that stands in for a live system of an estate, as the connector of its kind is given it.

    Where it is and who certifies it, how long it is waited for (seconds), how its owner is known (a header), whom
    changes are made as, and the sessions of its administrators, also made anew.
    """

    name: str
    kind: str
    url: str
    authority: Path
    patience: float
    estate: Estate
    owner: Mapping[str, str]
    sessions: Callable[[], Sequence[Mapping[str, str]]]
    renewed: Callable[[], Sequence[Mapping[str, str]]]
    acting: Secret | None = None
    access: str = ""


Joined = Mapping[str, Mapping[str, object]]
"""What speaks to a service, by a field of `Connected` and the name that it has there; nothing where the estate has no
use for the service. A connector registers what makes it of a `ServiceHere` in the group `enthesis.connectors`, under
the kind of its services, with `.WORD` behind it where another one has that kind too."""


@dataclass(frozen=True)
class Connected:
    """The live systems of an estate by name; `spoke_to` says in words what they are (a lab, say).

    `clock` is None where their time cannot be moved. `clusters` and `databases` are by address: what lies in one is not
    its provider's.
    `people` are directories that keep people and groups, by organisation (with its '@'); `pipelines` are issuers that
    keep access for their runs.
    `hosts` are by provider, `directories` by organisation (with its '@'), `keys` are keyed credentials at hand by name.
    """

    providers: Mapping[str, TakesOn]
    issuers: Mapping[str, Issues]
    spoke_to: str
    clock: MovableClock | None = None
    clusters: Mapping[str, LiveClusterPorts] = field(default_factory=dict)
    databases: Mapping[str, LiveDatabase] = field(default_factory=dict)
    logins: Mapping[str, LogsIn] = field(default_factory=dict)  # by host
    registries: Mapping[str, KeepsImages] = field(default_factory=dict)  # by address
    hosts: Mapping[str, RunsHosts] = field(default_factory=dict)
    directories: Mapping[str, SignsIn] = field(default_factory=dict)
    keys: Mapping[str, HeldKey] = field(default_factory=dict)
    people: Mapping[str, Administered] = field(default_factory=dict)
    pipelines: Mapping[str, Administered] = field(default_factory=dict)
    absent: Mapping[str, str] = field(default_factory=dict)  # servers that did not start, by address: why

    @property
    def administered(self) -> Mapping[str, Administered]:
        """Everything that keeps statements and can be read and changed, by the name that they have it under."""
        providers = {name: one for name, one in self.providers.items() if isinstance(one, Administered)}
        return {**providers, **self.clusters, **self.databases, **self.people, **self.pipelines}

    def let_go(self) -> None:
        """Ends the sessions and sign-ins that were obtained: what tries something leaves none behind."""
        for system in (*self.providers.values(), *self.directories.values()):
            if isinstance(system, LetsGo):
                system.let_go()

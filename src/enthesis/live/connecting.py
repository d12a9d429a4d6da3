"""Wires connectors to ports: which live systems an estate speaks to."""

import json
import os
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from enthesis.connectors.cluster.changing import AdministeredCluster, cluster_here
from enthesis.connectors.cluster.kubeconfig import from_inside, from_kubeconfigs
from enthesis.connectors.cluster.surveying import Cluster
from enthesis.connectors.http import MAX_SECONDS, Client
from enthesis.connectors.registry import ImageRegistry
from enthesis.connectors.scim import KeptDirectory
from enthesis.live.connections import ListedConnection, Place, connections, held_in
from enthesis.live.stand_ins import StandIn, running, sessions_of, shown_by_owner
from enthesis.model.errors import InvalidInput, Unreachable
from enthesis.model.estate import Estate, Exchange
from enthesis.model.extras import extra
from enthesis.model.secrets import Secret
from enthesis.ports import (
    Administered,
    Connected,
    HeldKey,
    Issues,
    Joined,
    KeepsImages,
    LiveClusterPorts,
    LiveDatabase,
    ServiceHere,
    TakesOn,
)
from enthesis.text.nearest import perhaps
from enthesis.text.times import time_from

if TYPE_CHECKING:
    from enthesis.connectors.host_reading import HostCopy
    from enthesis.connectors.postgresql.surveying import Database

LAB = "the lab of this estate"
GROUP = "enthesis.connectors"  # entry points by the kind of what they speak to
MAX_GIVEN = 65_536  # bytes of a file with a token or a client
BEARER = re.compile(r"[A-Za-z0-9._~+/-]+=*")  # RFC 6750, section 2.1


def connect(estate: Estate, folder: Path, given: "Given | None" = None) -> Connected:
    """The live systems of an estate. While a lab runs for it, the lab's addresses stand in for its urls.

    Without a lab, what is `given` (tokens and clients for issuers) can be shown to the providers that have urls.
    """
    lab = running(folder)
    if lab is None:
        given = with_connections(estate, given or Given())
        if given.says_anything:
            return without_lab(estate, given)
        remedy = "enthesis lab start; or say how systems are reached: enthesis connections --help"
        raise Unreachable(
            "no lab is running for this estate, and no other connection is configured",
            code="lab-not-running",
            remedy=remedy,
        )
    ports: dict[str, dict[str, Any]] = {}
    as_service = _services_here(lab, estate, given)
    for service in lab.services:
        here = as_service(service)
        for joined in connectors_of(service["kind"]):
            for port, named in joined(here).items():
                ports.setdefault(port, {}).update(named)
    keys = {name: key_at(path) for name, path in given.keys.items()} if given is not None else {}
    both = {"providers": {}, "issuers": {}, **ports}
    return Connected(**both, spoke_to=LAB, clock=lab, keys=keys, absent=lab.absent)


def _services_here(lab: StandIn, estate: Estate, given: "Given | None") -> Callable[[Mapping[str, str]], ServiceHere]:
    """Gives services that stand in as their connectors are given them; who administers them is read once."""
    listed, owner = sessions_of(lab), shown_by_owner(lab)
    patience = given.patience if given is not None and given.patience else MAX_SECONDS
    acting = given.acting if given is not None else None

    def renewed() -> Sequence[Mapping[str, str]]:
        lab.renew_sessions()
        return sessions_of(lab)

    def here(service: Mapping[str, str]) -> ServiceHere:
        name, kind, url, access = service["name"], service["kind"], service["url"], service.get("access", "")
        return ServiceHere(
            name, kind, url, lab.authority, patience, estate, owner, lambda: listed, renewed, acting, access
        )

    return here


@cache
def connectors_of(kind: str) -> tuple[Callable[[ServiceHere], Joined], ...]:
    """What is registered for services of a kind, imported now."""
    from importlib.metadata import entry_points  # noqa: PLC0415  only what is at work asks

    found = [point for point in entry_points(group=GROUP) if point.name.partition(".")[0] == kind]
    if kind == "database" and found:
        with extra("postgresql", "PostgreSQL"):  # it is installed on demand
            return tuple(point.load() for point in found)
    return tuple(point.load() for point in found)


@dataclass(frozen=True)
class Given:
    """What a person has at hand: for issuers and providers, files of tokens and of registered clients by their name;
    for clusters, a kubeconfig; for databases, files of connection strings by address; for directories, files of tokens
    by organisation; keyed credentials by name.

    An estate of several clusters wants a context of each cluster's own name in it.
    """

    tokens: Mapping[str, Place] = field(default_factory=dict)
    clients: Mapping[str, Place] = field(default_factory=dict)
    kubeconfig: Path | None = None
    context: str | None = None
    keys: Mapping[str, Place] = field(default_factory=dict)
    databases: Mapping[str, Place] = field(default_factory=dict)
    directories: Mapping[str, Place] = field(default_factory=dict)
    at_hand: bool = False  # whether something else is shown, that need not be obtained
    patience: float = 0.0  # seconds for one answer, with all repetitions; 0 is the usual bound
    acting: Secret | None = None  # the sign-in of the person as whom providers are changed
    clusters: Mapping[str, ListedConnection] = field(default_factory=dict)  # by address, each with its kubeconfig
    hosts: Mapping[str, str] = field(default_factory=dict)  # by address, each with the place of its files

    @property
    def says_anything(self) -> bool:
        """Whether some system can be reached with it."""
        named = (self.tokens, self.clients, self.kubeconfig, self.databases, self.directories, self.clusters)
        return self.at_hand or any(named)


def with_connections(estate: Estate, given: Given) -> Given:
    """The same with what the user's file says of how systems of an estate are reached; what is given counts first.
    InvalidInput where the file names what the estate has not."""
    known = connections()
    return given_by(estate, known.for_estate(estate.name), known.file, given)


def given_by(estate: Estate, listed: Iterable[ListedConnection], file: Path, given: Given) -> Given:
    """The same with these connections of a file."""
    by_way: dict[str, dict[str, ListedConnection]] = {}
    for one in listed:
        by_way.setdefault(_way_of(estate, one, file), {})[one.name] = one

    def places(way: str, over: Mapping[str, Place]) -> dict[str, Place]:
        found = {name: one.secret for name, one in by_way.get(way, {}).items() if one.secret is not None}
        return {**found, **over}

    return replace(
        given, tokens=places("token", given.tokens), clients=places("client", given.clients),
        databases=places("database", given.databases), directories=places("directory", given.directories),
        clusters=by_way.get("kubeconfig", {}), hosts={name: one.place for name, one in by_way.get("place", {}).items()},
    )  # fmt: skip


def _way_of(estate: Estate, one: ListedConnection, file: Path) -> str:
    """For what a connection is given; InvalidInput where the estate has no such system."""
    known = {
        "administrator": [*(name for name in estate.resources if "/database/" in name),
                          *(f"@{name}" for name in estate.organisations)],
        "client": [*estate.providers, *estate.issuers],
        "token": [*estate.issuers],
        "kubeconfig": [name for name in estate.resources if "/cluster/" in name],
        "place": [name for name in estate.resources if "/host/" in name],
    }[one.way]  # fmt: skip
    if one.name not in known:
        raise InvalidInput(
            f"{file}: {estate.name} has no {one.name} that is reached by {one.way}",
            code="connections-invalid",
            remedy=perhaps(one.name, known) or "name it as the estate does",
        )
    if one.way != "administrator":
        return one.way
    return "directory" if one.name.startswith("@") else "database"


def key_at(path: Place) -> HeldKey:
    """A keyed credential from the file that it was written to when it was made; InvalidInput where there is none."""
    try:
        read = json.loads(held_in(path, MAX_GIVEN))
    except (ValueError, RecursionError):
        read = None
    if not isinstance(read, dict) or not all(isinstance(read.get(name), str) for name in ("id", "form", "value")):
        raise InvalidInput(
            f"{path}: not a keyed credential (expected a JSON object with id, form and value)",
            code="credential-file-invalid",
            remedy='write {"id": ID, "form": "access-key", "value": VALUE} there, as `enthesis credential create` does',
        )
    return HeldKey(read["id"], read["form"], Secret(read["value"]), time_from(read.get("expires")))


def without_lab(estate: Estate, given: Given) -> Connected:
    """Servers as their urls say, contacted by open standards alone."""
    from enthesis.connectors.oauth import (  # noqa: PLC0415  loads the libraries of tokens
        GivenAssertion,
        GivenToken,
        OAuthClient,
        OAuthProvider,
        Server,
        client_entry,
    )

    issuers: dict[str, Issues] = {}
    for name, path in (*given.tokens.items(), *given.clients.items()):
        if name not in estate.issuers:
            if name in given.clients and name in estate.providers:
                continue  # who asks that provider
            raise InvalidInput(f"unknown issuer {name}", code="issuer-unknown")
        url = estate.issuers[name].url
        if name in given.tokens:
            given_one = GivenAssertion if estate.issuers[name].kind == "saml" else GivenToken
            issuers[name] = given_one(name, Secret(held_in(path, MAX_GIVEN).decode(errors="replace").strip()))
        elif url is not None:
            entry = client_entry(held_in(path, MAX_GIVEN), name)
            issuers[name] = OAuthClient(name, Server(name, Client(name, url)), entry, estate.issuers[name].exchange)
        else:
            raise InvalidInput(
                f"the issuer {name} has no url",
                code="issuer-without-url",
                remedy=f"add one at {estate.issuers[name].source}",
            )
    providers: dict[str, TakesOn] = {}
    for name, one in estate.providers.items():
        if one.url is not None:
            file = given.clients.get(name)
            asks = client_entry(held_in(file, MAX_GIVEN), name) if file is not None else None
            server = Server(name, Client(name, one.url))
            providers[name] = OAuthProvider(name, server, one.exchange or Exchange(), asks)
    registries: dict[str, KeepsImages] = {}
    for address, resource in estate.resources.items():
        if "/registry/" in address and resource.url is not None and not estate.administered_by_others(address):
            gives = providers.get(estate.system_of(address))
            client = gives.server.client if isinstance(gives, OAuthProvider) else None
            registries[address] = ImageRegistry(address, Client(address, resource.url), provider=client)
    clusters = _by_kubeconfig(estate, given)
    of_clusters = {name: clusters[one.cluster] for name, one in estate.issuers.items() if one.cluster in clusters}
    accesses = {name: database_access(path) for name, path in given.databases.items()}
    databases = _databases(estate, accesses, {}, "")
    every = {**of_clusters, **issuers}
    people: dict[str, Administered] = {}
    for name, path in given.directories.items():
        if not estate.keeps_people(name):
            raise InvalidInput(
                f"the estate does not keep the people of {name}",
                code="people-not-kept",
                remedy=f"name it with its @: @{name}"
                if name in estate.organisations
                else f"add where they are to `organisations`: {name.removeprefix('@')}: {{people: https://…}}",
            )
        people[name] = directory_at(name, path, estate.organisations[name[1:]].people)
    return Connected(
        providers,
        every,
        "the servers of this estate",
        clusters=clusters,
        databases=databases,
        people=people,
        registries=registries,
    )


def directory_at(organisation: str, file: Place, url: str | None = None) -> KeptDirectory:
    """A directory by the file of a token, or of an object with url and token; InvalidInput where neither is there."""
    if not organisation.startswith("@") or "/" in organisation:
        raise InvalidInput(
            f"{organisation} is no organisation", code="people-not-kept", remedy="name it as in @saltmarsh=FILE"
        )
    text = held_in(file, MAX_GIVEN).decode(errors="replace").strip()
    try:
        said = json.loads(text) if text.startswith("{") else {"token": text}
    except (ValueError, RecursionError):
        said = {}
    token, place = said.get("token"), said.get("url", url)
    if not isinstance(token, str) or not BEARER.fullmatch(token) or not isinstance(place, str):
        raise InvalidInput(
            f"{file}: not what a directory is reached by",
            code="directory-file-invalid",
            remedy='write a bearer token there, or {"url": "https://…/scim/v2", "token": "…"}',
        )
    return KeptDirectory(organisation, Client(organisation, place), Secret(token))


def database_access(file: Place) -> Secret:
    """The connection string in a file; InvalidInput where it holds none."""
    with extra("postgresql", "PostgreSQL"):
        from enthesis.connectors.postgresql.asking import must_be_conninfo  # noqa: PLC0415  a library installed on demand
    text = held_in(file, MAX_GIVEN).decode(errors="replace").strip()
    must_be_conninfo(text, str(file))
    return Secret(text)


def _databases(
    estate: Estate, accesses: Mapping[str, Secret], urls: Mapping[str, str], trusts: str
) -> dict[str, LiveDatabase]:
    """The databases of ours with servers of their own that something says how to reach, by address."""
    if not accesses:
        return {}
    with extra("postgresql", "PostgreSQL"):  # it is installed on demand
        from enthesis.connectors.postgresql.changing import AdministeredDatabase  # noqa: PLC0415
        from enthesis.connectors.postgresql.surveying import Database  # noqa: PLC0415
    out: dict[str, LiveDatabase] = {}
    for address, access in accesses.items():
        url, certificates = own_database(estate, address)
        if not estate.administered_by_others(address):
            database = Database(address, urls.get(address, url), access)
            out[address] = AdministeredDatabase(
                database, certificates, estate.name, estate.organisation_of(address), trusts
            )
    return out


def _by_kubeconfig(estate: Estate, given: Given) -> dict[str, LiveClusterPorts]:
    """The clusters of ours, as a kubeconfig reaches them."""
    if given.kubeconfig is None:
        return {
            address: AdministeredCluster(
                cluster_of(address, estate.organisation_of(address), None, one.kubeconfig, one.context, {})
            )
            for address, one in given.clusters.items()
            if not estate.administered_by_others(address)
        }
    parts = {address: address.split("/") for address in estate.resources}
    ours = [
        one
        for one, words in parts.items()
        if len(words) == 3 and words[1] == "cluster" and not estate.administered_by_others(one)
    ]
    out: dict[str, LiveClusterPorts] = {}
    for address in ours:
        context = given.context or (address.rsplit("/", 1)[1] if len(ours) > 1 else None)
        found = cluster_of(address, estate.organisation_of(address), None, given.kubeconfig, context, {})
        out[address] = AdministeredCluster(found)
    return out


def clusters_reached(estate: Estate, folder: Path) -> list[str]:
    """The clusters of ours that a lab of the estate runs, or without a lab those of the user's connections."""
    lab = running(folder)
    if lab is None:
        listed = list(with_connections(estate, Given()).clusters)
    else:
        listed = [service["name"] for service in lab.services if service["kind"] == "cluster"]
    return [name for name in listed if not estate.administered_by_others(name)]


def databases_reached(estate: Estate, folder: Path) -> "list[Database]":
    """The databases of ours that a lab of the estate runs, or without a lab those of the user's connections, as surveys
    read them."""
    lab = running(folder)
    if lab is None:
        places = with_connections(estate, Given()).databases
        return [database_at(name, place) for name, place in places.items() if not estate.administered_by_others(name)]
    services = [service for service in lab.services if service["kind"] == "database"]
    ours = [service for service in services if not estate.administered_by_others(service["name"])]
    if not ours:
        return []
    with extra("postgresql", "PostgreSQL"):
        from enthesis.connectors.postgresql.surveying import Database  # noqa: PLC0415  a library installed on demand
    return [Database(one["name"], one["url"], Secret(one["access"])) for one in ours]


def hosts_reached(estate: Estate, folder: Path) -> dict[str, str]:
    """The hosts of ours whose files the user's connections say how to read, each with its place; none while a lab runs,
    whose own they are."""
    if running(folder) is not None:
        return {}
    listed = with_connections(estate, Given()).hosts
    return {name: place for name, place in listed.items() if not estate.administered_by_others(name)}


def database_at(address: str, file: Place) -> "Database":
    """A database that is reached by the connection string in a file."""
    access = database_access(file)
    with extra("postgresql", "PostgreSQL"):
        from enthesis.connectors.postgresql.surveying import Database  # noqa: PLC0415  a library installed on demand
    return Database(address, f"postgresql://{address}", access)


def host_copy(estate: Estate | None, address: str, place: str, fetched_into: Path | None = None) -> "HostCopy":
    """A host by a copy of its files, or by its url (`ssh://…`), from where they are fetched into a folder; with what
    the estate says of it, if anything does."""
    # loads cryptography, which only this needs
    from enthesis.connectors.host_fetching import fetched, is_live  # noqa: PLC0415
    from enthesis.connectors.host_reading import HostCopy  # noqa: PLC0415

    folder, url, unseen = Path(place), "", ""
    if is_live(place) and fetched_into is not None:
        folder, url, unseen = fetched_into, place, fetched(place, fetched_into)
    if estate is None or address not in estate.resources:
        return HostCopy(address, folder, url=url, unseen=unseen)
    from enthesis.access.compiling import compile_estate  # noqa: PLC0415  only this needs it

    compiled = compile_estate(estate)
    running = tuple(compiled.places.names[number] for number in compiled.runs(address))
    return HostCopy(address, folder, running, estate.login_authority(address), url, unseen)


def own_database(estate: Estate, address: str) -> tuple[str, str]:
    """Where the server of a database is, and whose certificates it takes; InvalidInput where the estate has no such."""
    found = estate.resources.get(address)
    if found is None or found.url is None or found.certificates is None:
        raise InvalidInput(
            f"the estate has no database {address} with a url",
            code="database-unknown",
            remedy=f"add it to `resources`: {address}: {{url: postgresql://HOST/NAME, certificates: ISSUER}}",
        )
    return found.url, found.certificates


def cluster_of(
    address: str,
    organisation: str,
    folder: Path | None,
    kubeconfig: Path | None,
    context: str | None,
    environment: Mapping[str, str],
) -> Cluster:
    """A cluster: by a kubeconfig that is named, else the lab's of this address, else as kubeconfigs are found."""
    named = kubeconfig is not None or context is not None
    of_lab = _cluster_of_lab(address, organisation, folder) if folder is not None and not named else None
    if of_lab is not None:
        return of_lab
    listed = connections().cluster(address) if not named else None
    if listed is not None:
        kubeconfig, context, named = listed.kubeconfig, listed.context, True
    said = [Path(name) for name in environment.get("KUBECONFIG", "").split(os.pathsep) if name]
    places = [kubeconfig] if kubeconfig is not None else said or [Path.home() / ".kube" / "config"]
    there = [place for place in places if place.exists()]
    access = from_inside(environment) if not named and not there else None
    if access is None:
        if not there:
            raise Unreachable(
                f"nothing says how {address} is reached",
                code="cluster-access-unknown",
                remedy="name a kubeconfig with --kubeconfig, or in the file of connections",
            )
        access = from_kubeconfigs(there, context)
    client = Client(address, access.url, way=replace(access.way, after_faults=True))
    return Cluster(address, organisation, client, access.token, access.authority)


def _cluster_of_lab(address: str, organisation: str, folder: Path) -> Cluster | None:
    lab = running(folder)
    if lab is None:
        return None
    service = next((one for one in lab.services if one["kind"] == "cluster" and one["name"] == address), None)
    if service is None:
        return None
    return cluster_here(service["name"], organisation, service["url"], lab.authority, sessions_of(lab))

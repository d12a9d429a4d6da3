"""Which live systems a survey reads: the options that name them, and how each is reached."""

import atexit
import os
import tempfile
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from hashlib import sha256
from importlib.metadata import entry_points
from pathlib import Path
from typing import Annotated

import typer
from msgspec.json import decode

from enthesis.cli.arguments import by_clock_of, now
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import named_files, named_places, there
from enthesis.connectors.cluster.refreshing import Refreshed
from enthesis.connectors.cluster.surveying import Cluster
from enthesis.files.finding import estate_folder, find_estate
from enthesis.live.connecting import (
    cluster_of,
    clusters_reached,
    database_at,
    databases_reached,
    directory_at,
    host_copy,
    hosts_reached,
)
from enthesis.live.live_survey import as_it_is, surveyed_clouds
from enthesis.live.surveying import Writing, head_of
from enthesis.model.errors import InvalidInput
from enthesis.model.estate import Estate
from enthesis.output.progress import reporter
from enthesis.output.streams import remark
from enthesis.ports import Record, Surveys
from enthesis.proposals.wanted import kept_where
from enthesis.surveys.unread import Unread, not_lived_with, systems_not_read

GROUP = "enthesis.surveys"  # entry points of further connectors
DIGEST = "sha-256:"

ClustersOption = Annotated[
    list[str] | None,
    typer.Option("--cluster", metavar="ADDRESS", help="Survey this cluster, e.g. surge/cluster/grid."),
]
FurtherOption = Annotated[
    list[str] | None,
    typer.Option("--with", metavar="NAME=ADDRESS", help="Survey this place with an installed connector."),
]
NamespacesOption = Annotated[
    list[str] | None,
    typer.Option("--namespace", metavar="NAME", help="Only read this namespace of a cluster; this needs fewer rights."),
]
IssuersOption = Annotated[
    list[str] | None,
    typer.Option("--issuer", metavar="NAME|URL", help="Also read the published keys of this issuer."),
]
SurveyKubeconfigOption = Annotated[
    Path | None,
    typer.Option(
        "--kubeconfig",
        metavar="FILE",
        callback=there,
        help="The kubeconfig to use (default: KUBECONFIG, or ~/.kube/config).",
    ),
]
SurveyContextOption = Annotated[
    str | None,
    typer.Option(
        "--context", metavar="NAME", help="Use this context of the kubeconfig (default: its current context)."
    ),
]


@dataclass(frozen=True)
class SystemsAsked:
    """The systems that options name, and how they are reached; without any, those of the estate are meant."""

    clusters: Sequence[str] | None = None
    further: Sequence[str] | None = None
    namespaces: Sequence[str] | None = None
    issuers: Sequence[str] | None = None
    databases: list[str] | None = None
    directories: list[str] | None = None
    hosts: list[str] | None = None
    kubeconfig: Path | None = None
    context: str | None = None


@dataclass(frozen=True)
class SurveyPlan:
    """A survey that is ready to be written, with what stands at its head, and the estate it is of, if there is one."""

    described: Estate | None
    folder: Path | None
    writing: Writing
    head: tuple[Record, ...]

    def lines(self, *, quiet: bool) -> Iterator[bytes]:
        """The lines of the survey, as its systems are read."""
        yield from self.writing.lines(list(self.head), reporter(quiet=quiet))


def survey_plan(asked: SystemsAsked, estate: Path | None, since: Path | None = None, *, quiet: bool) -> SurveyPlan:
    """What is to be surveyed; InvalidInput where something that is named is none, or cannot be reached."""
    files = named_files(asked.databases, "--database")
    copies = named_places(asked.hosts, "--host", "ADDRESS=DIR")
    people = named_files(asked.directories, "--directory")
    named = bool(asked.clusters or asked.issuers or asked.further or files or people or copies)
    by_name = any("://" not in name for name in asked.issuers or ())
    described, folder = _estate(estate, needed=by_name or not named)
    copies = copies if named or described is None or folder is None else hosts_reached(described, folder)
    systems: list[Surveys] = [_issuer(name, described, folder) for name in asked.issuers or ()]
    systems += [_installed(name) for name in asked.further or ()]
    head: list[Record] = list(head_of(described)) if described is not None else []
    for address in files:
        head += _head_of_account(address, "database", described)
    systems += [database_at(address, file) for address, file in files.items()]
    for address in copies:
        head += _head_of_account(address, "host", described)
    systems += [host_copy(described, address, place, fetching()) for address, place in copies.items()]
    for name, file in people.items():
        known = described.organisations.get(name.removeprefix("@")) if described is not None else None
        systems.append(directory_at(name, file, known.people if known is not None else None))
        head += [] if known is not None else [{"section": "organisations", "name": name.removeprefix("@"), "units": []}]
    if asked.clusters or not named:
        found, more = _systems(described, folder, asked, quiet=quiet)
        systems, head = [*systems, *found], [*as_it_is(head, found), *more]
    if since is not None:
        systems = [_read_on(system, since) for system in systems]
    missing = [] if named or described is None else _missing(described, systems)
    writing = Writing(described.name if described else None, now(), systems, missing)
    return SurveyPlan(described, folder, writing, tuple(head))


def fetching() -> Path:
    """A folder for what is fetched of a host, which is gone when the command ends."""
    place = tempfile.TemporaryDirectory(prefix="enthesis-host-")
    atexit.register(place.cleanup)
    return Path(place.name)


def lines_of(path: Path) -> Iterator[bytes]:
    """The lines of a file, one after another; InvalidInput where there is none."""
    if not path.is_file():
        raise InvalidInput(f"{path} cannot be read: no such file", code="file-unreadable")

    def read() -> Iterator[bytes]:
        with path.open("rb") as lines:
            yield from lines

    return read()


def _missing(described: Estate, systems: Sequence[Surveys]) -> list[Unread]:
    """What an estate has statements for and is not surveyed, but for what it lives with."""
    found = systems_not_read(kept_where(described), {system.name for system in systems})
    return list(not_lived_with(found, described.accepted, now()))


def _read_on(system: Surveys, since: Path) -> Surveys:
    """A cluster that is read on from an earlier survey of it alone; anything else is read from the beginning."""
    if not isinstance(system, Cluster):
        remark(f"{system.name} is read from the beginning: only clusters tell what changed.")
        return system
    lines = list(lines_of(since))
    try:
        header, ends, end = (decode(line) for line in (lines[0], lines[-2], lines[-1]))
        of, head = header["of"], int(header.get("head", 0))
        same = len(of) == 1 and of[0]["name"] == system.name and tuple(of[0].get("namespaces", ())) == system.only
        if header.get("enthesis") != "survey" or not end.get("end") or not isinstance(ends, dict):
            raise ValueError(since)
    except (ValueError, TypeError, KeyError, IndexError, AttributeError, RecursionError):
        raise InvalidInput(f"{since} is not a survey", code="survey-invalid") from None
    if not same:
        remark(f"{system.name} is read from the beginning: {since} is a survey of other systems, or of more of them.")
        return system
    return Refreshed(system, ends, _parsed(since, lines, end, head), remark)


def _parsed(since: Path, lines: Sequence[bytes], end: Record, head: int) -> Iterator[Record]:
    """What an earlier survey says of the systems, but for its last record; InvalidInput where it was changed since."""
    if end.get("digest") != DIGEST + sha256(b"".join(lines[:-1])).hexdigest():
        message = f"the lines of {since} are not those that were written"
        raise InvalidInput(message, code="survey-invalid", remedy="survey without --since")
    yield from map(decode, lines[1 + head : -2])


def _estate(given: Path | None, *, needed: bool) -> tuple[Estate | None, Path | None]:
    """The estate, if there is one; a survey of a cluster needs none."""
    if given is None and not needed and find_estate(Path.cwd()) is None:
        return None, None
    try:
        folder = estate_folder(given)
    except InvalidInput as fault:
        remedy = "a cluster can be surveyed without one: --cluster ACCOUNT/cluster/NAME"
        raise InvalidInput(fault.message, code="estate-needed", remedy=remedy) from None
    described = read_estate(folder)
    by_clock_of(described, folder)
    return described, folder


def _systems(
    estate: Estate | None, folder: Path | None, asked: SystemsAsked, *, quiet: bool
) -> tuple[list[Surveys], list[Record]]:
    """What is surveyed, and what is known of it from elsewhere."""
    head: list[Record] = []
    systems: list[Surveys] = []
    clusters = list(asked.clusters or ())
    if not clusters and estate is not None and folder is not None:
        systems += surveyed_clouds(estate, folder, reporter(quiet=quiet))
        clusters = clusters_reached(estate, folder)
        systems += databases_reached(estate, folder)
    for address in clusters:
        head += _head_of_account(address, "cluster", estate)
        account = address.split("/", 1)[0]
        organisation = estate.organisation_of(account) if estate is not None and account in estate.accounts else "here"
        found = cluster_of(address, organisation, folder, asked.kubeconfig, asked.context, dict(os.environ))
        found.only = tuple(asked.namespaces or ())
        systems.append(found)
    return systems, head


def _installed(pair: str) -> Surveys:
    """A connector of another package, found by the name of its entry point."""
    name, equals, address = pair.partition("=")
    found = {point.name: point for point in entry_points(group=GROUP)}
    if not equals or name not in found:
        known = ", ".join(sorted(found)) or "none"
        raise InvalidInput(
            f"no connector is installed for {name}",
            code="connector-unknown",
            remedy=f"expected NAME=ADDRESS; installed: {known}",
        )
    made: Surveys = found[name].load()(address)
    return made


def _issuer(named: str, estate: Estate | None, folder: Path | None) -> Surveys:
    """An issuer that is asked for its keys: by its url, or one of the estate by name, whose url may be a lab's."""
    # only issuers need the libraries that these load
    from enthesis.connectors.keys import IssuerKeys  # noqa: PLC0415
    from enthesis.live.shown_tokens import addresses_of  # noqa: PLC0415

    if "://" in named:
        return IssuerKeys(named, named, time.monotonic)
    if estate is None or folder is None or named not in estate.issuers:
        raise InvalidInput(
            f"unknown issuer {named}", code="issuer-unknown", remedy="name one of the estate, or its https url"
        )
    addresses = addresses_of(estate, folder, named)
    if not addresses:
        raise InvalidInput(
            f"the issuer {named} has no url",
            code="issuer-without-url",
            remedy=f"add one at {estate.issuers[named].source}",
        )
    url = list(addresses)[-1]  # while a lab runs, the lab's stands in
    return IssuerKeys(named, url, time.monotonic, authority=addresses[url])


def _head_of_account(address: str, kind: str, estate: Estate | None) -> list[Record]:
    """What stands above a system that no estate describes; InvalidInput where the address is not one of that kind."""
    parts = address.split("/")
    if len(parts) != 3 or parts[1] != kind or not all(parts) or address.startswith("@"):
        message, remedy = f"{address} is not a {kind}", f"name its place: ACCOUNT/{kind}/NAME"
        if kind == "cluster":
            raise InvalidInput(message, code="cluster-unknown", remedy=remedy)
        if kind == "host":
            raise InvalidInput(message, code="host-unknown", remedy=remedy)
        raise InvalidInput(message, code="database-unknown", remedy=remedy)
    return _invented(parts[0]) if estate is None or parts[0] not in estate.accounts else []


def _invented(account: str) -> list[Record]:
    """The least that a cluster's account stands in, where no estate says more."""
    return [
        {"section": "organisations", "name": "here"},
        {"section": "providers", "name": "here", "style": "one-sided"},
        {"section": "accounts", "name": account, "in": "@here", "provider": "here"},
    ]

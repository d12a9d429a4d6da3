"""`enthesis survey adopt`: what a live system has, written into the estate's files."""

import os
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Annotated, NamedTuple

import typer

from enthesis.cli.arguments import agreed
from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import DatabaseOption, EstateOption, HostOption, QuietOption, named_files, named_places
from enthesis.cli.store_options import signed_in
from enthesis.cli.surveyed_systems import SurveyContextOption, SurveyKubeconfigOption, fetching
from enthesis.files.finding import estate_folder
from enthesis.live.adopting import SystemToAdopt, place_to_adopt
from enthesis.live.adopting import adopt as take_over
from enthesis.live.adopting_accounts import found_at, mark, write
from enthesis.live.connecting import (
    Given,
    cluster_of,
    connect,
    database_at,
    databases_reached,
    host_copy,
    own_database,
)
from enthesis.live.surveying import survey
from enthesis.model.errors import InvalidInput, StoppedPartWay
from enthesis.model.escapes import word
from enthesis.model.estate import Estate
from enthesis.output.estates import counts_text
from enthesis.output.lines import counted
from enthesis.output.progress import reporter
from enthesis.output.streams import put_lines, remark
from enthesis.output.surveys import adoption_lines


class AdoptedCluster(NamedTuple):
    """How a cluster is reached, as far as options say."""

    kubeconfig: Path | None
    context: str | None


def adopt(
    address: Annotated[
        str, typer.Argument(metavar="ADDRESS", help="A cluster, database, host, account or organisation.")
    ],
    database: DatabaseOption = None,
    host: HostOption = None,
    kubeconfig: SurveyKubeconfigOption = None,
    context: SurveyContextOption = None,
    yes: Annotated[bool, typer.Option("--yes", help="Of an account or organisation: do not ask.")] = False,
    estate: EstateOption = None,
    quiet: QuietOption = False,
) -> None:
    """Write what a cluster, database, host or account has into the estate's files.

    What the estate does not describe is added to its files; no live system is changed by that. What an account or
    organisation has at a provider is also marked there as this estate's, which needs the right to change it. Exit 3
    where something is left out.
    """
    folder = estate_folder(estate)
    described = read_estate(folder)
    if "/" not in address.removeprefix("@"):
        _adopt_account(described, folder, address, yes=yes, quiet=quiet)
        return
    given = {name: str(file) for name, file in named_files(database, "--database").items()}
    given |= named_places(host, "--host", "ADDRESS=DIR")
    system = _to_adopt(described, folder, address, AdoptedCluster(kubeconfig, context), given)
    adopted, whole = take_over(described, folder, address, system, remark)
    how, counts = "Adopted" if whole else "Adopted in part", counts_text(adopted)
    remark(f"{how} from {address}: {counts or 'nothing that was not described'}.", quiet=quiet)
    if not whole:
        raise typer.Exit(3)


def _to_adopt(
    described: Estate, folder: Path, address: str, reached: AdoptedCluster, given: Mapping[str, str]
) -> SystemToAdopt:
    """The cluster, database or host that is taken over. `given` says by address how a database is reached, and where
    the copy of a host is."""
    system = place_to_adopt(described, address)
    if "/host/" in system:
        if system not in given:
            raise InvalidInput(
                f"nothing says what {system} has",
                code="system-not-connected",
                remedy=f"name a copy of its files: --host {word(system)}=DIR",
            )
        return host_copy(described, system, given[system], fetching())
    if "/cluster/" in system:
        organisation = described.organisation_of(system)
        return cluster_of(system, organisation, folder, reached.kubeconfig, reached.context, dict(os.environ))
    own_database(described, system)
    if system in given:
        return database_at(system, Path(given[system]))
    of_lab = {one.name: one for one in databases_reached(described, folder)}
    if system not in of_lab:
        raise InvalidInput(
            f"nothing says how {system} is reached",
            code="system-not-connected",
            remedy=f"name a file with its connection string: --database {word(system)}=FILE",
        )
    return of_lab[system]


def _adopt_account(described: Estate, folder: Path, holder: str, *, yes: bool, quiet: bool) -> None:
    """Takes over what an account or organisation has at its provider, once that is agreed to."""
    person = signed_in(described, folder)
    connected = connect(described, folder, Given(acting=person.secret if person is not None else None))
    surveys = survey(described, replace(connected, clusters={}, databases={}), reporter(quiet=quiet))
    found = found_at(described, surveys, holder)
    put_lines(adoption_lines(found), to_error=True)
    if not found.candidates:
        return
    agreed("Write this into the files, and mark it as this estate's?", yes=yes)
    adopted = write(folder, found)
    marked, failed = mark(folder, found, surveys, connected, remark)
    counts = counts_text(adopted) or "nothing that was not described"
    remark(f"Adopted from {holder}: {counts}; {counted(marked, 'statement')} marked as this estate's.", quiet=quiet)
    if failed:
        raise StoppedPartWay(
            f"{counted(failed, 'statement')} could not be marked",
            code="stopped-part-way",
            remedy="run the same again: it marks what is left",
        )
